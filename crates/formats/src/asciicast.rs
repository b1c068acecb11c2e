//! Recordings of terminals: asciicast, version 2. A head and then events, each a line of JSON.

use serde_json::{Value, json};

/// One that is written.
#[derive(Debug, Clone)]
pub struct Recording {
    lines: Vec<Value>,
    /// The beginning of a character (UTF-8) whose end was not written yet.
    begun: Vec<u8>,
}

impl Recording {
    /// Begins one: the size of the screen, when it began in seconds since 1970, and what it is called.
    #[must_use]
    pub fn begin(columns: u16, rows: u16, since: i64, title: &str) -> Self {
        let head =
            json!({ "version": 2, "width": columns, "height": rows, "timestamp": since, "title": title });
        Self { lines: vec![head], begun: Vec::new() }
    }

    /// Bytes were written on the screen, so many milliseconds after the beginning. What is no UTF-8 is shown as a replacement
    /// character (U+FFFD), as terminals do; a character that is cut in two by two events is part of the second.
    pub fn write(&mut self, after_ms: u64, bytes: &[u8]) {
        self.begun.extend(bytes);
        let all = std::mem::take(&mut self.begun);
        let mut text = String::new();
        let mut chunks = all.utf8_chunks().peekable();
        while let Some(chunk) = chunks.next() {
            text.push_str(chunk.valid());
            let rest = chunk.invalid();
            if rest.is_empty() {
                continue;
            }
            if chunks.peek().is_none() && is_begun(rest) {
                self.begun = rest.to_vec();
            } else {
                text.push(char::REPLACEMENT_CHARACTER);
            }
        }
        if !text.is_empty() {
            self.event(after_ms, "o", &text);
        }
    }

    /// The screen has another size, so many milliseconds after the beginning.
    pub fn resize(&mut self, after_ms: u64, columns: u16, rows: u16) {
        self.event(after_ms, "r", &format!("{columns}x{rows}"));
    }

    /// The whole file.
    #[must_use]
    pub fn finish(self) -> String {
        self.lines.into_iter().map(|line| line.to_string() + "\n").collect()
    }

    fn event(&mut self, after_ms: u64, code: &str, data: &str) {
        #[allow(clippy::cast_precision_loss, reason = "a session of 285,000 years would lose a millisecond")]
        let secs = after_ms as f64 / 1000.0;
        self.lines.push(json!([secs, code, data]));
    }
}

/// Whether bytes that end a text may be the beginning of a character (The Unicode Standard, table 3-7).
fn is_begun(bytes: &[u8]) -> bool {
    let whole = match bytes.first() {
        Some(0xc2..=0xdf) => 2,
        Some(0xe0..=0xef) => 3,
        Some(0xf0..=0xf4) => 4,
        _ => return false,
    };
    bytes.len() < whole
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_cut_in_two_is_put_together_and_what_is_no_text_is_marked() {
        let mut recording = Recording::begin(80, 24, 1_764_600_000, "shell on holm-kiosk-01");
        recording.resize(0, 132, 50);
        recording.write(250, "quai \u{e9}".as_bytes().split_at(6).0);
        recording.write(1500, &["\u{e9}".as_bytes()[1], 0xff, b'\r', b'\n', 0xf0, 0x9f]);
        recording.write(1600, b"#");
        let lines: Vec<Value> =
            recording.finish().lines().map(|line| serde_json::from_str(line).unwrap()).collect();
        assert_eq!(
            lines,
            [
                json!({ "version": 2, "width": 80, "height": 24, "timestamp": 1_764_600_000, "title": "shell on holm-kiosk-01" }),
                json!([0.0, "r", "132x50"]),
                json!([0.25, "o", "quai "]),
                json!([1.5, "o", "\u{e9}\u{fffd}\r\n"]),
                json!([1.6, "o", "\u{fffd}#"]),
            ]
        );
    }
}
