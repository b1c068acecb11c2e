//! What a computer's firmware says of its hardware: the structure table of SMBIOS (DMTF DSP0134, version 3.7), as Linux has it
//! at `/sys/firmware/dmi/tables/DMI`.
//!
//! A table is what a vendor wrote into it: lengths may lie, strings may be blank, and whole structures may be missing. What
//! cannot be read is left out; nothing here fails.

mod structures;

use serde::{Deserialize, Serialize};
pub use structures::{Structure, structures};
use uuid::Uuid;

/// What a table says, as far as it is of use.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(default)]
pub struct Smbios {
    /// The firmware (section 7.1).
    pub firmware: Firmware,
    /// The computer (section 7.2).
    pub system: System,
    /// Its main board (section 7.3): the first that is named.
    pub board: Board,
    /// What it is built into (section 7.4).
    pub chassis: Chassis,
    /// A socket each, also the empty ones (section 7.5).
    pub processors: Vec<Processor>,
    /// A slot each, also the empty ones (section 7.18).
    pub memory: Vec<MemorySlot>,
    /// Whether there is a management controller that speaks IPMI (section 7.39).
    pub has_ipmi: bool,
}

/// The firmware (section 7.1).
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(default)]
pub struct Firmware {
    /// Who wrote it.
    pub vendor: Option<String>,
    /// Its version, as its vendor counts.
    pub version: Option<String>,
    /// When it was released, as its vendor writes dates: usually month/day/year.
    pub date: Option<String>,
}

/// The computer (section 7.2).
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(default)]
pub struct System {
    /// Who built it.
    pub vendor: Option<String>,
    /// What it is sold as.
    pub product: Option<String>,
    /// Which version of that.
    pub version: Option<String>,
    /// Its serial number.
    pub serial: Option<String>,
    /// Its identity; nothing if none was set.
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>))]
    pub uuid: Option<Uuid>,
    /// Under which number it is ordered.
    pub sku: Option<String>,
    /// Of which family it is.
    pub family: Option<String>,
}

/// A board (section 7.3).
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(default)]
pub struct Board {
    /// Who built it.
    pub vendor: Option<String>,
    /// What it is sold as.
    pub product: Option<String>,
    /// Which version of that.
    pub version: Option<String>,
    /// Its serial number.
    pub serial: Option<String>,
    /// What its owner calls it.
    pub asset_tag: Option<String>,
}

/// What a computer is built into (section 7.4).
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(default)]
pub struct Chassis {
    /// Who built it.
    pub vendor: Option<String>,
    /// Its kind (section 7.4.1), as in `rack mount`.
    pub kind: Option<String>,
    /// Its serial number.
    pub serial: Option<String>,
    /// What its owner calls it.
    pub asset_tag: Option<String>,
}

/// A socket for a processor (section 7.5).
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(default)]
pub struct Processor {
    /// What is printed beside it.
    pub socket: Option<String>,
    /// Whether a processor is in it.
    pub is_populated: bool,
    /// Who built that.
    pub vendor: Option<String>,
    /// What it is sold as.
    pub model: Option<String>,
    /// Its cores.
    pub cores: Option<u16>,
    /// Its threads.
    pub threads: Option<u16>,
    /// Its highest clock, MHz.
    pub max_mhz: Option<u16>,
}

/// A slot for a memory module (section 7.18).
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(default)]
pub struct MemorySlot {
    /// What is printed beside it.
    pub slot: Option<String>,
    /// Its bank.
    pub bank: Option<String>,
    /// MiB of the module in it; 0 if it is empty.
    pub mib: u64,
    /// What kind of memory (section 7.18.2), as in `DDR4`.
    pub kind: Option<String>,
    /// Transfers, in millions a second, of which it is capable.
    pub speed: Option<u32>,
    /// Who built it.
    pub vendor: Option<String>,
    /// Its serial number.
    pub serial: Option<String>,
    /// Its part number.
    pub part: Option<String>,
}

impl Smbios {
    /// Reads a structure table.
    #[must_use]
    pub fn parse(table: &[u8]) -> Self {
        let mut all = Self::default();
        for structure in structures(table) {
            match structure.kind {
                0 => all.firmware = Firmware::of(&structure),
                1 => all.system = System::of(&structure),
                2 if all.board == Board::default() => all.board = Board::of(&structure),
                3 if all.chassis == Chassis::default() => all.chassis = Chassis::of(&structure),
                4 => all.processors.extend(Processor::of(&structure)),
                17 => all.memory.push(MemorySlot::of(&structure)),
                38 => all.has_ipmi = true,
                _ => {}
            }
        }
        all
    }
}

impl Firmware {
    fn of(structure: &Structure<'_>) -> Self {
        Self { vendor: structure.string(0x04), version: structure.string(0x05), date: structure.string(0x08) }
    }
}

impl System {
    fn of(structure: &Structure<'_>) -> Self {
        Self {
            vendor: structure.string(0x04),
            product: structure.string(0x05),
            version: structure.string(0x06),
            serial: structure.string(0x07),
            // The first three fields are little-endian (section 7.2.1); all ones or all zeros is none.
            uuid: structure
                .array::<16>(0x08)
                .filter(|bytes| *bytes != [0; 16] && *bytes != [0xFF; 16])
                .map(Uuid::from_bytes_le),
            sku: structure.string(0x19),
            family: structure.string(0x1A),
        }
    }
}

impl Board {
    fn of(structure: &Structure<'_>) -> Self {
        Self {
            vendor: structure.string(0x04),
            product: structure.string(0x05),
            version: structure.string(0x06),
            serial: structure.string(0x07),
            asset_tag: structure.string(0x08),
        }
    }
}

impl Chassis {
    fn of(structure: &Structure<'_>) -> Self {
        // The highest bit says that it can be locked.
        let kind = structure.byte(0x05).map(|kind| kind & 0x7F);
        Self {
            vendor: structure.string(0x04),
            kind: kind.and_then(chassis_kind).map(Into::into),
            serial: structure.string(0x07),
            asset_tag: structure.string(0x08),
        }
    }
}

impl Processor {
    /// Nothing for what is no central processor.
    fn of(structure: &Structure<'_>) -> Option<Self> {
        if structure.byte(0x05) != Some(3) {
            return None;
        }
        // A byte that is full is counted in a word further back.
        let counted = |short: usize, long: usize| match structure.byte(short)? {
            0 => None,
            0xFF => structure.word(long).filter(|count| *count != 0),
            count => Some(u16::from(count)),
        };
        Some(Self {
            socket: structure.string(0x04),
            is_populated: structure.byte(0x18).is_some_and(|status| status & 0x40 != 0),
            vendor: structure.string(0x07),
            model: structure.string(0x10),
            cores: counted(0x23, 0x2A),
            threads: counted(0x25, 0x2E),
            max_mhz: structure.word(0x14).filter(|mhz| *mhz != 0),
        })
    }
}

impl MemorySlot {
    fn of(structure: &Structure<'_>) -> Self {
        let speed = match structure.word(0x15) {
            None | Some(0) => None,
            Some(0xFFFF) => {
                structure.dword(0x54).map(|speed| speed & 0x7FFF_FFFF).filter(|speed| *speed != 0)
            }
            Some(speed) => Some(u32::from(speed)),
        };
        let mib = memory_mib(structure);
        // What an empty slot says of its module is made up.
        let of_module = |offset| if mib == 0 { None } else { structure.string(offset) };
        Self {
            slot: structure.string(0x10),
            bank: structure.string(0x11),
            mib,
            kind: structure.byte(0x12).filter(|_| mib != 0).and_then(memory_kind).map(Into::into),
            speed: speed.filter(|_| mib != 0),
            vendor: of_module(0x17),
            serial: of_module(0x18),
            part: of_module(0x1A),
        }
    }
}

/// MiB of a memory device (section 7.18.4 and 7.18.5).
fn memory_mib(structure: &Structure<'_>) -> u64 {
    match structure.word(0x0C) {
        // None, or not known.
        None | Some(0 | 0xFFFF) => 0,
        Some(0x7FFF) => structure.dword(0x1C).map_or(0, |mib| u64::from(mib & 0x7FFF_FFFF)),
        Some(kib) if kib & 0x8000 != 0 => u64::from(kib & 0x7FFF) / 1024,
        Some(mib) => u64::from(mib),
    }
}

/// Kinds of chassis (section 7.4.1, table 17); nothing for "other" and "unknown".
fn chassis_kind(kind: u8) -> Option<&'static str> {
    Some(match kind {
        0x03 => "desktop",
        0x04 => "low-profile desktop",
        0x05 => "pizza box",
        0x06 => "mini tower",
        0x07 => "tower",
        0x08 => "portable",
        0x09 => "laptop",
        0x0A => "notebook",
        0x0B => "hand held",
        0x0C => "docking station",
        0x0D => "all in one",
        0x0E => "sub-notebook",
        0x0F => "space-saving",
        0x10 => "lunch box",
        0x11 => "main server chassis",
        0x12 => "expansion chassis",
        0x13 => "sub-chassis",
        0x14 => "bus expansion chassis",
        0x15 => "peripheral chassis",
        0x16 => "RAID chassis",
        0x17 => "rack mount",
        0x18 => "sealed-case PC",
        0x19 => "multi-system chassis",
        0x1A => "CompactPCI",
        0x1B => "AdvancedTCA",
        0x1C => "blade",
        0x1D => "blade enclosure",
        0x1E => "tablet",
        0x1F => "convertible",
        0x20 => "detachable",
        0x21 => "IoT gateway",
        0x22 => "embedded PC",
        0x23 => "mini PC",
        0x24 => "stick PC",
        _ => return None,
    })
}

/// Kinds of memory (section 7.18.2, table 78) that a computer of this century has; nothing for others.
fn memory_kind(kind: u8) -> Option<&'static str> {
    Some(match kind {
        0x0F => "SDRAM",
        0x12 => "DDR",
        0x13 => "DDR2",
        0x14 => "DDR2 FB-DIMM",
        0x18 => "DDR3",
        0x19 => "FBD2",
        0x1A => "DDR4",
        0x1B => "LPDDR",
        0x1C => "LPDDR2",
        0x1D => "LPDDR3",
        0x1E => "LPDDR4",
        0x1F => "non-volatile",
        0x20 => "HBM",
        0x21 => "HBM2",
        0x22 => "DDR5",
        0x23 => "LPDDR5",
        0x24 => "HBM3",
        _ => return None,
    })
}

#[cfg(test)]
mod tests;
