//! Processors that programs are made for.

use std::{fmt, str::FromStr};

use serde::{Deserialize, Serialize};

/// A processor.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, strum::IntoStaticStr,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum Cpu {
    /// 32-bit x86.
    X86,
    /// 64-bit x86.
    X64,
    /// 32-bit ARM.
    Arm32,
    /// 64-bit ARM.
    Arm64,
    /// 64-bit RISC-V.
    RiscV64,
}

impl Cpu {
    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        self.into()
    }

    /// By any of the names that systems have for it.
    #[must_use]
    pub fn by_name(name: &str) -> Option<Self> {
        match name.to_ascii_lowercase().as_str() {
            "x86" | "i386" | "i486" | "i586" | "i686" => Some(Self::X86),
            "x64" | "amd64" | "x86_64" => Some(Self::X64),
            "arm32" | "armhf" | "armv7l" => Some(Self::Arm32),
            "arm64" | "aarch64" => Some(Self::Arm64),
            "riscv64" => Some(Self::RiscV64),
            _ => None,
        }
    }
}

impl fmt::Display for Cpu {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}

impl FromStr for Cpu {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        Self::by_name(text).ok_or_else(|| format!("'{text}' is no processor known here"))
    }
}
