//! Directory records (ECMA-119, section 9.1).

use super::volume::both_32;

/// Bytes of a record before its identifier.
const FIXED: usize = 33;

/// One directory record.
#[derive(Debug, Clone)]
pub(super) struct Record {
    /// First logical block of the data.
    pub(super) block: u32,
    /// Bytes of data.
    pub(super) length: u32,
    flags: u8,
    /// Written in turns with another file's blocks (ECMA-119, section 6.4.3).
    pub(super) interleaved: bool,
    /// The identifier as it stands there.
    pub(super) identifier: Vec<u8>,
    /// The system use field, where extensions write (SUSP, section 3).
    pub(super) system_use: Vec<u8>,
}

impl Record {
    /// Reads a record that fills `bytes`.
    pub(super) fn read(bytes: &[u8]) -> Option<Self> {
        let identifier_length = usize::from(*bytes.get(32)?);
        let identifier = bytes.get(FIXED..FIXED + identifier_length)?.to_vec();
        // The identifier is filled up so that the next field begins at an even place.
        let system_use = FIXED + identifier_length + usize::from(identifier_length.is_multiple_of(2));
        let attributes = u32::from(*bytes.get(1)?);
        Some(Self {
            block: both_32(bytes, 2)?.checked_add(attributes)?,
            length: both_32(bytes, 10)?,
            flags: *bytes.get(25)?,
            interleaved: *bytes.get(26)? != 0 || *bytes.get(27)? != 0,
            identifier,
            system_use: bytes.get(system_use..).unwrap_or_default().to_vec(),
        })
    }

    pub(super) const fn is_folder(&self) -> bool {
        self.flags & 0x02 != 0
    }

    /// Whether the file goes on in the next record.
    pub(super) const fn goes_on(&self) -> bool {
        self.flags & 0x80 != 0
    }

    /// Whether it is kept for something other than a file (an associated file; ECMA-119, section 6.5.4).
    pub(super) const fn is_associated(&self) -> bool {
        self.flags & 0x04 != 0
    }

    /// Whether it is the folder itself or the folder above it.
    pub(super) fn is_dot(&self) -> bool {
        matches!(self.identifier.as_slice(), [0 | 1])
    }

    /// Whether it is the folder itself.
    pub(super) fn is_own(&self) -> bool {
        self.identifier == [0]
    }
}

/// The records of a folder's data. A record never crosses the end of a sector: the rest of it is zeros.
pub(super) fn records(data: &[u8], sector: usize) -> (Vec<Record>, bool) {
    let mut found = Vec::new();
    let mut whole = true;
    for sector in data.chunks(sector) {
        let mut at = 0;
        while let Some(length) = sector.get(at).copied().map(usize::from).filter(|length| *length > 0) {
            match sector.get(at..at + length).and_then(Record::read) {
                Some(record) => found.push(record),
                None => {
                    whole = false;
                    break;
                }
            }
            at += length;
        }
    }
    (found, whole)
}
