//! Firmware architectures (IANA "Processor Architecture Types", from RFC 4578, section 2.1).

use std::{fmt, str::FromStr};

use serde::{Deserialize, Deserializer, Serialize, Serializer, de};

/// The kind of firmware that asks to boot.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Architecture {
    /// x86 BIOS, code 0.
    Bios,
    /// 32-bit x86 UEFI, code 6.
    UefiX86,
    /// 64-bit x86 UEFI, codes 7 and 9 (RFC 4578 and its erratum 4625 swap the two; firmware sends both).
    UefiX64,
    /// 32-bit ARM UEFI, code 10.
    UefiArm32,
    /// 64-bit ARM UEFI, code 11.
    UefiArm64,
    /// Any other, by its code.
    Other(u16),
}

/// The architectures that have a name, with the code this service sends for them.
const NAMED: [(Architecture, &str, u16); 5] = [
    (Architecture::Bios, "bios", 0),
    (Architecture::UefiX86, "uefi-x86", 6),
    (Architecture::UefiX64, "uefi-x64", 7),
    (Architecture::UefiArm32, "uefi-arm32", 10),
    (Architecture::UefiArm64, "uefi-arm64", 11),
];

impl Architecture {
    /// From option 93.
    #[must_use]
    pub fn from_code(code: u16) -> Self {
        if code == 9 {
            return Self::UefiX64;
        }
        let named = NAMED.iter().find(|(_, _, known)| *known == code);
        named.map_or(Self::Other(code), |(architecture, ..)| *architecture)
    }

    /// The code for option 93.
    #[must_use]
    pub fn code(self) -> u16 {
        if let Self::Other(code) = self {
            return code;
        }
        NAMED.iter().find(|(known, ..)| *known == self).map_or(u16::MAX, |(_, _, code)| *code)
    }

    /// Whether it is UEFI of any width.
    #[must_use]
    pub const fn is_uefi(self) -> bool {
        matches!(self, Self::UefiX86 | Self::UefiX64 | Self::UefiArm32 | Self::UefiArm64)
    }
}

impl fmt::Display for Architecture {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match NAMED.iter().find(|(known, ..)| known == self) {
            Some((_, name, _)) => f.write_str(name),
            None => write!(f, "code-{}", self.code()),
        }
    }
}

/// A text that names no architecture.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("'{0}' is no architecture")]
pub struct UnknownArchitecture(String);

impl FromStr for Architecture {
    type Err = UnknownArchitecture;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        if let Some((architecture, ..)) = NAMED.iter().find(|(_, name, _)| *name == text) {
            return Ok(*architecture);
        }
        let code = text.strip_prefix("code-").and_then(|code| code.parse().ok());
        code.map(Self::from_code).ok_or_else(|| UnknownArchitecture(text.into()))
    }
}

impl Serialize for Architecture {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Architecture {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(de::Error::custom)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn codes_and_names_agree() {
        for code in 0..40 {
            let architecture = Architecture::from_code(code);
            assert_eq!(architecture.to_string().parse(), Ok(architecture));
            assert!(architecture.code() == code || code == 9);
        }
        assert_eq!(Architecture::from_code(9), Architecture::UefiX64);
        assert_eq!(Architecture::from_code(0), Architecture::Bios);
        assert!("amiga".parse::<Architecture>().is_err());
    }
}
