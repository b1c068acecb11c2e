//! Tables that people bring from spreadsheets (RFC 4180).

use csv::{Reader, ReaderBuilder, StringRecord, Trim};

/// Without the mark of its encoding that some spreadsheets put first.
pub(super) fn without_mark(text: &str) -> &str {
    text.strip_prefix('\u{feff}').unwrap_or(text)
}

/// Reads rows below a head, whatever columns are parted by: spreadsheets of some countries take semicolons.
pub(super) fn reader(text: &str) -> Reader<&[u8]> {
    let head = text.lines().next().unwrap_or_default();
    let delimiter = if head.contains(';') && !head.contains(',') { b';' } else { b',' };
    ReaderBuilder::new().delimiter(delimiter).trim(Trim::All).flexible(true).from_reader(text.as_bytes())
}

/// Counts lines from record to record. The reader itself takes the empty lines before a record for the record's own.
pub(super) struct Lines<'a> {
    text: &'a str,
    at: usize,
    line: u64,
}

impl<'a> Lines<'a> {
    /// From the head on.
    pub(super) const fn of_text(text: &'a str) -> Self {
        Self { text, at: 0, line: 1 }
    }

    /// The line that a record begins on.
    pub(super) fn of(&mut self, record: &StringRecord) -> u64 {
        let begin = record.position().map_or(self.at, |at| usize::try_from(at.byte()).unwrap_or(self.at));
        let bytes = self.text.as_bytes();
        let blank =
            bytes.get(begin..).unwrap_or_default().iter().take_while(|byte| matches!(byte, b'\r' | b'\n'));
        let begin = begin + blank.count();
        let passed = bytes.get(self.at..begin).unwrap_or_default();
        self.line += passed.iter().filter(|byte| **byte == b'\n').count() as u64;
        self.at = begin;
        self.line
    }
}
