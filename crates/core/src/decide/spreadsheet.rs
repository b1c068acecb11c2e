//! Tables that people bring from spreadsheets (RFC 4180).

use csv::{Reader, ReaderBuilder, Trim};

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
