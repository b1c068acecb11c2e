//! What a disk with ATA commands says of its own health (ATA/ATAPI Command Set ACS-3, section 7.48), asked through SCSI
//! (SAT-4, section 12.2.3), as Linux has every disk that is not NVMe.

/// A command that only reads.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Read {
    /// SMART READ DATA: the attributes.
    Attributes,
    /// SMART RETURN STATUS: whether it is about to fail.
    Health,
}

/// What a disk answered.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Answer {
    /// What it sent.
    pub data: Vec<u8>,
    /// What SCSI says of the command (SPC-4, section 4.5): the registers, if they were asked for.
    pub sense: Vec<u8>,
}

/// The command SMART, with the mark that it needs (section 7.48.1).
const SMART: u8 = 0xb0;
const MARK: [u8; 2] = [0x4f, 0xc2];
/// The mark of a disk that is about to fail (section 7.48.8).
const FAILING: [u8; 2] = [0xf4, 0x2c];
/// Bytes of the attributes, and of one of them.
const PAGE: usize = 512;
const ATTRIBUTE: usize = 12;
const MOST_ATTRIBUTES: usize = 30;

impl Read {
    /// Bytes that it gives.
    #[must_use]
    pub const fn length(self) -> usize {
        match self {
            Self::Attributes => PAGE,
            Self::Health => 0,
        }
    }

    /// As ATA PASS-THROUGH (16).
    #[must_use]
    pub const fn through_scsi(self) -> [u8; 16] {
        // PIO data-in, of one block; or no data, and the registers afterwards.
        let (protocol, flags, feature, count) = match self {
            Self::Attributes => (4 << 1, 0x0e, 0xd0, 1),
            Self::Health => (3 << 1, 0x20, 0xda, 0),
        };
        [0x85, protocol, flags, 0, feature, 0, count, 0, 0, 0, MARK[0], 0, MARK[1], 0, SMART, 0]
    }
}

/// Whether a disk says that it works as it should; nothing if its answer does not say it.
#[must_use]
pub fn is_well(answer: &Answer) -> Option<bool> {
    let sense = &answer.sense;
    let registers = match sense.first()? & 0x7f {
        // Descriptors: that of an ATA status (SAT-4, section 12.2.7).
        0x72 | 0x73 => {
            let mut rest = sense.get(8..)?;
            loop {
                let (head, more) = rest.split_first_chunk::<2>()?;
                let length = usize::from(head[1]);
                if *head == [0x09, 0x0c] {
                    let said = more.get(..length)?;
                    break [said[7], said[9]];
                }
                rest = more.get(length..)?;
            }
        }
        // The same in the fixed form (section 12.2.7.3).
        0x70 | 0x71 => [*sense.get(10)?, *sense.get(11)?],
        _ => return None,
    };
    match registers {
        MARK => Some(true),
        FAILING => Some(false),
        _ => None,
    }
}

/// Attributes that vendors count alike.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Attributes {
    /// Sectors that were replaced by spare ones.
    pub reallocated: Option<u64>,
    /// Sectors that could not be read, and are replaced when they are written next.
    pub pending: Option<u64>,
    /// Sectors that could be neither read nor replaced.
    pub uncorrectable: Option<u64>,
    /// Hours that it was switched on.
    pub power_on_hours: Option<u64>,
    /// Degrees Celsius.
    pub temperature: Option<i32>,
}

impl Attributes {
    /// Reads what SMART READ DATA gave; nothing if it is cut short, or its sum is wrong.
    #[must_use]
    pub fn parse(page: &[u8]) -> Option<Self> {
        let page = page.get(..PAGE)?;
        // All bytes together are zero (section 7.48.6.2); a page of nothing is none.
        let sum = page.iter().fold(0_u8, |sum, byte| sum.wrapping_add(*byte));
        if sum != 0 || page.iter().all(|byte| *byte == 0) {
            return None;
        }
        let mut all = Self::default();
        for attribute in page[2..].chunks_exact(ATTRIBUTE).take(MOST_ATTRIBUTES) {
            let raw = attribute[5..11].iter().rev().fold(0, |raw, byte| raw << 8 | u64::from(*byte));
            match attribute[0] {
                5 => all.reallocated = Some(raw),
                // Some vendors count more in the upper bytes.
                9 => all.power_on_hours = Some(raw & 0xffff_ffff),
                190 | 194 => all.temperature = Some(i32::from(attribute[5])),
                197 => all.pending = Some(raw & 0xffff_ffff),
                198 => all.uncorrectable = Some(raw & 0xffff_ffff),
                _ => {}
            }
        }
        Some(all)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn page(attributes: &[(u8, u64)]) -> Vec<u8> {
        let mut page = vec![0; PAGE];
        page[0] = 0x10;
        for (place, (id, raw)) in attributes.iter().enumerate() {
            let at = 2 + place * ATTRIBUTE;
            page[at] = *id;
            page[at + 5..at + 11].copy_from_slice(&raw.to_le_bytes()[..6]);
        }
        let sum = page.iter().fold(0_u8, |sum, byte| sum.wrapping_add(*byte));
        page[PAGE - 1] = 0_u8.wrapping_sub(sum);
        page
    }

    #[test]
    fn attributes_are_known_by_their_numbers() {
        let mut page = page(&[(5, 8), (9, 0x12_0000_2000), (194, 0x0020_0015_0026), (197, 2), (199, 7)]);
        let read = Attributes::parse(&page).unwrap();
        let expected = Attributes {
            reallocated: Some(8),
            pending: Some(2),
            uncorrectable: None,
            power_on_hours: Some(0x2000),
            temperature: Some(38),
        };
        assert_eq!(read, expected);
        page[7] ^= 1;
        assert_eq!(Attributes::parse(&page), None, "its sum is wrong");
        assert_eq!(Attributes::parse(&[0; PAGE]), None);
        assert_eq!(Attributes::parse(&page[1..]), None);
    }

    #[test]
    fn registers_say_whether_it_is_about_to_fail_in_either_form() {
        let described = |mid, high| {
            let mut sense = vec![0x72, 0x01, 0x00, 0x1d, 0, 0, 0, 0x10, 0x01, 0x00];
            sense.extend([0x09, 0x0c, 0, 0, 0, 0, 0, 0, 0, mid, 0, high, 0, 0x50]);
            is_well(&Answer { data: Vec::new(), sense })
        };
        let fixed = |mid, high| {
            let mut sense = vec![0; 18];
            (sense[0], sense[10], sense[11]) = (0x70, mid, high);
            is_well(&Answer { data: Vec::new(), sense })
        };
        assert_eq!(
            (described(0x4f, 0xc2), described(0xf4, 0x2c), described(0, 0)),
            (Some(true), Some(false), None)
        );
        assert_eq!((fixed(0x4f, 0xc2), fixed(0xf4, 0x2c), fixed(0, 0)), (Some(true), Some(false), None));
        assert_eq!(is_well(&Answer::default()), None);
        assert_eq!(
            is_well(&Answer { data: Vec::new(), sense: vec![0x72, 0, 0, 0, 0, 0, 0, 9, 9, 12] }),
            None
        );
    }
}
