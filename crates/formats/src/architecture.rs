//! Firmware architectures (IANA "Processor Architecture Types", from RFC 4578, section 2.1; RFC 5970, section 3.3).

use std::{fmt, str::FromStr};

use serde::{Deserialize, Deserializer, Serialize, Serializer, de};

use crate::cpu::Cpu;

/// The platform that asks to boot.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Architecture {
    /// x86 BIOS.
    Bios,
    /// 32-bit x86 UEFI.
    UefiX86,
    /// 64-bit x86 UEFI.
    UefiX64,
    /// 32-bit ARM UEFI.
    UefiArm32,
    /// 64-bit ARM UEFI.
    UefiArm64,
    /// Any other, by the code with which it boots by TFTP.
    Other(u16),
}

/// How firmware fetches its boot file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Fetches {
    /// By TFTP: the Preboot Execution Environment (PXE 2.1).
    Tftp,
    /// By HTTP (UEFI 2.10, section 24.7).
    Http,
}

/// A platform and how it fetches: what one code of option 93 says.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Firmware {
    /// The platform.
    pub architecture: Architecture,
    /// How it fetches.
    pub fetches: Fetches,
}

/// One row of the registry: the platform, its name, its code for TFTP, its code for HTTP.
type Row = (Architecture, &'static str, u16, Option<u16>);

/// IANA's registry. Codes 9 and 17 (EFI byte code) stand below as x64: RFC 4578 and its erratum 4625 swap 7 and 9,
/// and firmware sends both.
const REGISTRY: [Row; 28] = [
    (Architecture::Bios, "bios", 0, Some(20)),
    (Architecture::UefiX86, "uefi-x86", 6, Some(15)),
    (Architecture::UefiX64, "uefi-x64", 7, Some(16)),
    (Architecture::UefiArm32, "uefi-arm32", 10, Some(18)),
    (Architecture::UefiArm64, "uefi-arm64", 11, Some(19)),
    (Architecture::Other(1), "nec-pc98", 1, None),
    (Architecture::Other(2), "itanium", 2, None),
    (Architecture::Other(3), "alpha", 3, None),
    (Architecture::Other(4), "arc-x86", 4, None),
    (Architecture::Other(5), "lean-client", 5, None),
    (Architecture::Other(8), "uefi-xscale", 8, None),
    (Architecture::Other(12), "powerpc-open-firmware", 12, None),
    (Architecture::Other(13), "powerpc-epapr", 13, None),
    (Architecture::Other(14), "power-opal", 14, None),
    (Architecture::Other(21), "u-boot-arm32", 21, Some(23)),
    (Architecture::Other(22), "u-boot-arm64", 22, Some(24)),
    (Architecture::Other(25), "uefi-riscv32", 25, Some(26)),
    (Architecture::Other(27), "uefi-riscv64", 27, Some(28)),
    (Architecture::Other(29), "uefi-riscv128", 29, Some(30)),
    (Architecture::Other(31), "s390-basic", 31, None),
    (Architecture::Other(32), "s390-extended", 32, None),
    (Architecture::Other(33), "uefi-mips32", 33, None),
    (Architecture::Other(34), "uefi-mips64", 34, None),
    (Architecture::Other(35), "uefi-sunway32", 35, None),
    (Architecture::Other(36), "uefi-sunway64", 36, None),
    (Architecture::Other(37), "uefi-loongarch32", 37, Some(38)),
    (Architecture::Other(39), "uefi-loongarch64", 39, Some(40)),
    (Architecture::Other(41), "arm-rpiboot", 41, None),
];

impl Firmware {
    /// From a code of option 93.
    #[must_use]
    pub fn from_code(code: u16) -> Self {
        let code = match code {
            9 => 7,
            17 => 16,
            code => code,
        };
        let row = REGISTRY.iter().find(|(_, _, tftp, http)| *tftp == code || *http == Some(code));
        match row {
            Some((architecture, _, _, http)) if *http == Some(code) => {
                Self { architecture: *architecture, fetches: Fetches::Http }
            }
            Some((architecture, ..)) => Self { architecture: *architecture, fetches: Fetches::Tftp },
            None => Self { architecture: Architecture::Other(code), fetches: Fetches::Tftp },
        }
    }

    /// The code for option 93; that for TFTP where none is registered for HTTP.
    #[must_use]
    pub fn code(self) -> u16 {
        let http = self.architecture.row().and_then(|(_, _, _, http)| *http);
        match self.fetches {
            Fetches::Http => http.unwrap_or_else(|| self.architecture.code()),
            Fetches::Tftp => self.architecture.code(),
        }
    }

    /// The vendor class that it sends (option 60), up to its code.
    #[must_use]
    pub fn class(self) -> String {
        let kind = match self.fetches {
            Fetches::Tftp => "PXEClient",
            Fetches::Http => "HTTPClient",
        };
        format!("{kind}:Arch:{:05}", self.code())
    }
}

impl fmt::Display for Firmware {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(&self.architecture, f)?;
        match self.fetches {
            Fetches::Tftp => Ok(()),
            Fetches::Http => f.write_str(" by HTTP"),
        }
    }
}

impl Architecture {
    /// Those that loaders are commonly there for.
    pub const COMMON: [Self; 5] =
        [Self::Bios, Self::UefiX86, Self::UefiX64, Self::UefiArm32, Self::UefiArm64];

    fn row(self) -> Option<&'static Row> {
        REGISTRY.iter().find(|(known, ..)| *known == self)
    }

    /// The code for option 93, booting by TFTP.
    #[must_use]
    pub fn code(self) -> u16 {
        if let Self::Other(code) = self {
            return code;
        }
        self.row().map_or(u16::MAX, |(_, _, code, _)| *code)
    }

    /// Whether IANA's registry has it.
    #[must_use]
    pub fn is_registered(self) -> bool {
        self.row().is_some()
    }

    /// The code for option 93, booting by HTTP, if one is registered.
    #[must_use]
    pub fn http_code(self) -> Option<u16> {
        self.row().and_then(|(_, _, _, http)| *http)
    }

    /// The processor behind it, where images are made for it.
    #[must_use]
    pub fn cpu(self) -> Option<Cpu> {
        match self {
            // What starts on BIOS may be of either width: nearly all that is left are 64 bits wide.
            Self::Bios | Self::UefiX64 => Some(Cpu::X64),
            Self::UefiX86 => Some(Cpu::X86),
            Self::UefiArm32 => Some(Cpu::Arm32),
            Self::UefiArm64 => Some(Cpu::Arm64),
            Self::Other(27) => Some(Cpu::RiscV64),
            Self::Other(_) => None,
        }
    }

    /// Whether it is UEFI of any width.
    #[must_use]
    pub fn is_uefi(self) -> bool {
        self.row().is_some_and(|(_, name, ..)| name.starts_with("uefi-"))
    }
}

impl fmt::Display for Architecture {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.row() {
            Some((_, name, ..)) => f.write_str(name),
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
        if let Some((architecture, ..)) = REGISTRY.iter().find(|(_, name, ..)| *name == text) {
            return Ok(*architecture);
        }
        let code = text.strip_prefix("code-").and_then(|code| code.parse().ok());
        code.map(|code| Firmware::from_code(code).architecture)
            .ok_or_else(|| UnknownArchitecture(text.into()))
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
        for code in 0..60 {
            let firmware = Firmware::from_code(code);
            assert_eq!(firmware.architecture.to_string().parse(), Ok(firmware.architecture), "{code}");
            assert!(firmware.code() == code || matches!(code, 9 | 17), "{code}");
            assert_eq!(firmware.architecture.is_registered(), code <= 41, "{code}");
        }
        let x64 = |code, fetches| {
            assert_eq!(Firmware::from_code(code), Firmware { architecture: Architecture::UefiX64, fetches });
        };
        x64(7, Fetches::Tftp);
        x64(9, Fetches::Tftp);
        x64(16, Fetches::Http);
        assert_eq!(Firmware::from_code(16).class(), "HTTPClient:Arch:00016");
        assert_eq!(Firmware::from_code(0).class(), "PXEClient:Arch:00000");
        assert!(Firmware::from_code(39).architecture.is_uefi() && !Architecture::Bios.is_uefi());
        assert!("amiga".parse::<Architecture>().is_err());
    }
}
