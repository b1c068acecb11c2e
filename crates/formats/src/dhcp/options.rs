//! The options of one message: kept as they came, read as typed values.

use std::net::Ipv4Addr;

use crate::{dhcp::code, reader::Reader};

/// Options in order of first appearance. A code that appeared several times is one value (RFC 3396).
///
/// All values stand in one buffer: a message has twenty of them, and thousands of messages a second are read.
#[derive(Debug, Clone, Default)]
pub struct Options {
    entries: Vec<Entry>,
    values: Vec<u8>,
}

/// Where the value of an option stands in the buffer.
#[derive(Debug, Clone, Copy)]
struct Entry {
    code: u8,
    start: usize,
    end: usize,
}

impl PartialEq for Options {
    fn eq(&self, other: &Self) -> bool {
        self.iter().eq(other.iter())
    }
}

impl Eq for Options {}

/// An option area ended in the middle of an option.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Truncated {
    pub(super) code: u8,
}

impl Options {
    /// No options.
    #[must_use]
    pub fn new() -> Self {
        // As many as a message commonly has: room is made once.
        Self { entries: Vec::with_capacity(16), values: Vec::with_capacity(256) }
    }

    /// Reads one option area and appends to what is there, long options being joined (RFC 3396, section 7).
    pub(super) fn read_area(&mut self, area: &[u8]) -> Result<(), Truncated> {
        let mut reader = Reader::new(area);
        while let Some(code) = reader.u8() {
            match code {
                code::PAD => continue,
                code::END => break,
                _ => {}
            }
            let length = reader.u8().ok_or(Truncated { code })?;
            let value = reader.take(usize::from(length)).ok_or(Truncated { code })?;
            self.append(code, value);
        }
        Ok(())
    }

    /// Writes the options and the end mark; a value over 255 bytes is split (RFC 3396, section 5).
    ///
    /// Message type and overload belong to the message as a whole and are left to it.
    pub(super) fn write(&self, out: &mut Vec<u8>) {
        let of_the_message = |code: u8| matches!(code, code::MESSAGE_TYPE | code::OVERLOAD);
        for (code, value) in self.iter().filter(|(code, _)| !of_the_message(*code)) {
            if value.is_empty() {
                out.extend([code, 0]);
            }
            for piece in value.chunks(255) {
                out.push(code);
                out.push(u8::try_from(piece.len()).unwrap_or(u8::MAX));
                out.extend_from_slice(piece);
            }
        }
        out.push(code::END);
    }

    /// The value of `code` as it came.
    #[must_use]
    pub fn get(&self, code: u8) -> Option<&[u8]> {
        let entry = self.entries.iter().find(|entry| entry.code == code)?;
        self.values.get(entry.start..entry.end)
    }

    /// Sets the value of `code`, in the place it has already or at the end.
    pub fn set(&mut self, code: u8, value: impl AsRef<[u8]>) {
        let start = self.values.len();
        self.values.extend_from_slice(value.as_ref());
        self.place(Entry { code, start, end: self.values.len() });
    }

    /// Takes `code` out.
    pub fn remove(&mut self, code: u8) {
        self.entries.retain(|entry| entry.code != code);
    }

    /// Sets a list of addresses, if there are any.
    pub fn set_addresses(&mut self, code: u8, addresses: &[Ipv4Addr]) {
        if addresses.is_empty() {
            return;
        }
        let start = self.values.len();
        addresses.iter().for_each(|address| self.values.extend(address.octets()));
        self.place(Entry { code, start, end: self.values.len() });
    }

    /// Every option in order.
    pub fn iter(&self) -> impl Iterator<Item = (u8, &[u8])> {
        self.entries.iter().map(|entry| (entry.code, &self.values[entry.start..entry.end]))
    }

    /// Puts a value that stands at the end of the buffer behind what `code` has already.
    fn append(&mut self, code: u8, value: &[u8]) {
        let known = self.entries.iter().find(|entry| entry.code == code).copied();
        let start = self.values.len();
        if let Some(known) = known {
            self.values.extend_from_within(known.start..known.end);
        }
        self.values.extend_from_slice(value);
        self.place(Entry { code, start, end: self.values.len() });
    }

    /// Has an entry stand for its code.
    fn place(&mut self, entry: Entry) {
        match self.entries.iter_mut().find(|known| known.code == entry.code) {
            Some(known) => *known = entry,
            None => self.entries.push(entry),
        }
    }

    /// A single address; `None` if absent or not exactly four bytes.
    #[must_use]
    pub fn address(&self, code: u8) -> Option<Ipv4Addr> {
        <[u8; 4]>::try_from(self.get(code)?).ok().map(Ipv4Addr::from)
    }

    /// A 32-bit number; `None` if absent or not exactly four bytes.
    #[must_use]
    pub fn u32(&self, code: u8) -> Option<u32> {
        <[u8; 4]>::try_from(self.get(code)?).ok().map(u32::from_be_bytes)
    }

    /// A text. Trailing NULs, which some firmware sends, are cut; bytes outside UTF-8 are replaced.
    #[must_use]
    pub fn text(&self, code: u8) -> Option<String> {
        let value = self.get(code)?;
        let end = value.iter().rposition(|byte| *byte != 0).map_or(0, |last| last + 1);
        Some(String::from_utf8_lossy(&value[..end]).into_owned())
    }
}
