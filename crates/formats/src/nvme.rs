//! What an NVMe disk says of its own health: the log page "SMART / Health Information" (NVM Express base specification 1.4,
//! section 5.14.1.2).

use crate::reader::Reader;

/// The admin command that reads a log page (section 5.14).
pub const GET_LOG_PAGE: u8 = 0x02;
/// The page of the whole disk, not of a part of it.
pub const EVERY_NAMESPACE: u32 = 0xffff_ffff;
/// Bytes of the page.
pub const HEALTH_BYTES: usize = 512;
/// Which page, and how many words of it less one (figure 190).
pub const HEALTH_DWORD_10: u32 = 0x02 | (HEALTH_BYTES as u32 / 4 - 1) << 16;

/// How a disk is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Health {
    /// Bits of what is wrong: spare space, temperature, reliability, read-only, backup of volatile memory. Zero if nothing is.
    pub critical_warning: u8,
    /// Degrees Celsius.
    pub temperature: i32,
    /// Percent of the spare space that is left.
    pub spare: u8,
    /// Percent below which it is too little.
    pub spare_threshold: u8,
    /// Percent of its life that are used, by its vendor's estimate; may be over 100.
    pub used: u8,
    /// Bytes that were written by the computer.
    pub written: u128,
    /// Hours that it was switched on.
    pub power_on_hours: u128,
    /// Errors of its memory that it could not correct.
    pub media_errors: u128,
}

impl Health {
    /// Reads a page; nothing if it is cut short.
    #[must_use]
    pub fn parse(page: &[u8]) -> Option<Self> {
        let page: &[u8; HEALTH_BYTES] = page.get(..HEALTH_BYTES)?.try_into().ok()?;
        let long = |at: usize| page[at..].first_chunk().map_or(0, |bytes| u128::from_le_bytes(*bytes));
        let mut head = Reader::new(page);
        let critical_warning = head.array::<1>()?[0];
        let kelvin = u16::from_le_bytes(head.array()?);
        let [spare, spare_threshold, used] = head.array()?;
        Some(Self {
            critical_warning,
            temperature: i32::from(kelvin) - 273,
            spare,
            spare_threshold,
            used,
            // Counted in thousands of 512 bytes.
            written: long(48).saturating_mul(512_000),
            power_on_hours: long(128),
            media_errors: long(160),
        })
    }

    /// Whether it says that it works as it should.
    #[must_use]
    pub const fn is_well(&self) -> bool {
        self.critical_warning == 0
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_page_is_read_where_the_specification_has_its_fields() {
        let mut page = vec![0; HEALTH_BYTES];
        page[..6].copy_from_slice(&[0x04, 0x3f, 0x01, 97, 10, 3]);
        page[48..50].copy_from_slice(&2000_u16.to_le_bytes());
        page[128..130].copy_from_slice(&8760_u16.to_le_bytes());
        page[160] = 5;
        let health = Health::parse(&page).unwrap();
        assert_eq!((health.temperature, health.spare, health.spare_threshold, health.used), (46, 97, 10, 3));
        assert_eq!((health.written, health.power_on_hours, health.media_errors), (1_024_000_000, 8760, 5));
        assert!(!health.is_well());
        assert_eq!(Health::parse(&page[..511]), None);
        assert_eq!(HEALTH_DWORD_10, 0x007f_0002);
    }
}
