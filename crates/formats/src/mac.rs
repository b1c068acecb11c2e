//! The 48-bit hardware address (IEEE 802, EUI-48).

use std::{fmt, str::FromStr};

use serde::{Deserialize, Deserializer, Serialize, Serializer, de};
use thiserror::Error;

/// A unicast MAC address.
///
/// Read in every form in common use (`02:00:5e:00:53:01`, `02-00-5E-00-53-01`, `0200.5e00.5301`,
/// `02005e005301`), always written in lower case with colons.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Mac([u8; 6]);

/// How to fix any [`MacError`].
pub const MAC_FIX: &str = "Write six pairs of hexadecimal digits, as in 02:00:5e:00:53:01.";

/// Why a text is no machine's MAC address.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum MacError {
    /// Not twelve hexadecimal digits once the separators are gone.
    #[error("'{text}' has {digits} hexadecimal digits where a MAC address has 12")]
    Length {
        /// The text as given.
        text: String,
        /// How many digits it has.
        digits: usize,
    },
    /// A character that is neither a hexadecimal digit nor a separator.
    #[error("'{text}' holds '{character}', which is no hexadecimal digit")]
    Character {
        /// The text as given.
        text: String,
        /// The first character that does not belong.
        character: char,
    },
    /// The group bit is set, so no NIC has it as its own.
    #[error("'{0}' is a group (multicast or broadcast) address, which no NIC has as its own")]
    Group(Mac),
    /// All zero.
    #[error("00:00:00:00:00:00 is no NIC's address")]
    Zero,
}

impl Mac {
    /// An address that no NIC has, for examples (RFC 7042, section 2.1.2: 00-00-5E-00-53-00 and on).
    #[must_use]
    pub const fn documentation(last: u8) -> Self {
        Self([0x00, 0x00, 0x5e, 0x00, 0x53, last])
    }

    /// Wraps six bytes as they stood on the wire.
    ///
    /// # Errors
    /// [`MacError::Zero`] and [`MacError::Group`].
    pub fn new(bytes: [u8; 6]) -> Result<Self, MacError> {
        let mac = Self(bytes);
        if bytes == [0; 6] {
            return Err(MacError::Zero);
        }
        if bytes[0] & 1 == 1 {
            return Err(MacError::Group(mac));
        }
        Ok(mac)
    }

    /// The six bytes.
    #[must_use]
    pub const fn octets(self) -> [u8; 6] {
        self.0
    }

    /// The form used in paths: `02-00-5e-00-53-01`.
    #[must_use]
    pub fn dashed(self) -> String {
        self.to_string().replace(':', "-")
    }
}

impl fmt::Display for Mac {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let [a, b, c, d, e, g] = self.0;
        write!(f, "{a:02x}:{b:02x}:{c:02x}:{d:02x}:{e:02x}:{g:02x}")
    }
}

impl fmt::Debug for Mac {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl FromStr for Mac {
    type Err = MacError;

    fn from_str(text: &str) -> Result<Self, MacError> {
        let mut bytes = [0_u8; 6];
        let mut digits = 0;
        for character in text.trim().chars() {
            if matches!(character, ':' | '-' | '.') {
                continue;
            }
            let Some(value) = character.to_digit(16).and_then(|value| u8::try_from(value).ok()) else {
                return Err(MacError::Character { text: text.into(), character });
            };
            if let Some(byte) = bytes.get_mut(digits / 2) {
                *byte = *byte << 4 | value;
            }
            digits += 1;
        }
        if digits != 12 {
            return Err(MacError::Length { text: text.into(), digits });
        }
        Self::new(bytes)
    }
}

impl Serialize for Mac {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Mac {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(de::Error::custom)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_common_form_is_the_same_address() {
        let forms = [
            "02:00:5e:00:53:01",
            "02-00-5E-00-53-01",
            "0200.5e00.5301",
            "02005E005301",
            " 02:00:5e:00:53:01 ",
        ];
        for form in forms {
            assert_eq!(form.parse::<Mac>().unwrap().to_string(), "02:00:5e:00:53:01", "{form}");
        }
    }

    #[test]
    fn what_is_wrong_is_said() {
        let error = |text: &str| text.parse::<Mac>().unwrap_err();
        assert!(matches!(error("02:00:5e:00:53"), MacError::Length { digits: 10, .. }));
        assert!(matches!(error("02:00:5e:00:53:0g"), MacError::Character { character: 'g', .. }));
        assert!(matches!(error("01:00:5e:00:53:01"), MacError::Group(_)));
        assert!(matches!(error("ff:ff:ff:ff:ff:ff"), MacError::Group(_)));
        assert_eq!(error("00:00:00:00:00:00"), MacError::Zero);
    }
}
