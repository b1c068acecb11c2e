//! What a SCSI disk says of its own health: log pages (SPC-4, section 7.3).

/// Page of informational exceptions (section 7.3.9).
pub const EXCEPTIONS: u8 = 0x2f;
/// The additional sense code of a disk that expects to fail (section 4.5.6).
const FAILURE_PREDICTED: u8 = 0x5d;

/// How a disk is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Exceptions {
    /// Whether it works as it should.
    pub is_well: bool,
    /// Degrees Celsius.
    pub temperature: Option<i32>,
}

impl Exceptions {
    /// Reads the page [`EXCEPTIONS`]; nothing if it is cut short, or another one.
    #[must_use]
    pub fn parse(page: &[u8]) -> Option<Self> {
        let (head, parameters) = page.split_first_chunk::<4>()?;
        let length = usize::from(u16::from_be_bytes([head[2], head[3]]));
        let (head, parameter) = parameters.get(..length.min(parameters.len()))?.split_first_chunk::<4>()?;
        if page[0] & 0x3f != EXCEPTIONS || head[..2] != [0, 0] || head[3] < 2 {
            return None;
        }
        let (code, temperature) = (*parameter.first()?, parameter.get(2));
        // 0xff is unknown.
        let temperature = temperature.filter(|degrees| **degrees != 0xff && **degrees != 0);
        Some(Self {
            is_well: code != FAILURE_PREDICTED,
            temperature: temperature.map(|degrees| i32::from(*degrees)),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_page_says_whether_failure_is_expected_and_how_hot_it_is() {
        let page = |code, degrees| [0x2f, 0, 0, 8, 0, 0, 0x03, 4, code, 0x10, degrees, 0];
        assert_eq!(
            Exceptions::parse(&page(0, 31)),
            Some(Exceptions { is_well: true, temperature: Some(31) })
        );
        assert_eq!(
            Exceptions::parse(&page(FAILURE_PREDICTED, 0xff)),
            Some(Exceptions { is_well: false, temperature: None })
        );
        assert_eq!(Exceptions::parse(&[0x0d; 12]), None);
        assert_eq!(Exceptions::parse(&page(0, 31)[..8]), None);
    }
}
