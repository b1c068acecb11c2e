//! Volume descriptors (ECMA-119, section 8; El Torito 1.0).

use std::io;

use super::{IsoError, record::Record};
use crate::read_at::{Extent, ReadAt};

/// Descriptors lie in sectors of this size from the sixteenth on (ECMA-119, sections 6.1.2 and 6.2.1).
pub(super) const SECTOR: u64 = 2048;
/// The first descriptor.
const FIRST: u64 = 16;
/// More descriptors than any volume has: a set without its terminator ends here.
const MOST: u64 = 64;
/// Escape sequences of UCS-2 at levels 1 to 3 in a supplementary descriptor (Joliet, section 3.3).
const JOLIET: [&[u8]; 3] = [b"%/@", b"%/C", b"%/E"];
/// What stands in a boot record for El Torito (section 2.0).
const EL_TORITO: &[u8] = b"EL TORITO SPECIFICATION";

/// Bytes of an entry of the boot catalogue, and the first of one that can be booted (El Torito, section 2.2).
const ENTRY: usize = 32;
const BOOTABLE: u8 = 0x88;

/// The firmware that a boot image is for (El Torito, section 2.1; UEFI 2.10, section 13.3.2.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum BootPlatform {
    /// x86 BIOS.
    Bios,
    /// UEFI.
    Uefi,
}

/// What firmware starts when it boots the volume as a disc.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct BootImage {
    /// The firmware it is for.
    pub platform: BootPlatform,
    /// Where it lies in the volume: as much as the catalogue says, which may be less than there is.
    pub extent: Extent,
}

/// A primary or supplementary descriptor.
#[derive(Debug, Clone)]
pub(super) struct Volume {
    pub(super) label: String,
    /// Bytes of one logical block.
    pub(super) block: u64,
    /// Bytes that the volume says it has.
    pub(super) size: u64,
    pub(super) root: Record,
}

/// All that the descriptors say.
#[derive(Debug, Default)]
pub(super) struct Volumes {
    pub(super) primary: Option<Volume>,
    pub(super) joliet: Option<Volume>,
    /// Sector of the El Torito boot catalogue.
    boot_catalogue: Option<u32>,
    /// The files are in UDF (ECMA-167), beside or instead of ISO 9660.
    pub(super) udf: bool,
}

/// Numbers that stand in both orders (ECMA-119, section 7.3.3): the one with the low byte first is read.
pub(super) fn both_32(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_le_bytes(bytes.get(at..at + 4)?.try_into().ok()?))
}

fn both_16(bytes: &[u8], at: usize) -> Option<u16> {
    Some(u16::from_le_bytes(bytes.get(at..at + 2)?.try_into().ok()?))
}

/// Names in UCS-2, the high byte first (Joliet, section 3.1).
pub(super) fn ucs2(bytes: &[u8]) -> String {
    let units = bytes.chunks_exact(2).map(|pair| u16::from_be_bytes([pair[0], pair[1]]));
    char::decode_utf16(units).map(|unit| unit.unwrap_or(char::REPLACEMENT_CHARACTER)).collect()
}

impl Volumes {
    pub(super) fn read(source: &impl ReadAt) -> Result<Self, IsoError> {
        let mut found = Self::default();
        for sector in FIRST..FIRST + MOST {
            let mut bytes = [0; SECTOR as usize];
            match source.read_at(sector * SECTOR, &mut bytes) {
                Ok(()) => {}
                Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => break,
                Err(error) => return Err(error.into()),
            }
            match &bytes[1..6] {
                b"CD001" => {}
                b"NSR02" | b"NSR03" => {
                    found.udf = true;
                    continue;
                }
                b"BEA01" | b"TEA01" | b"BOOT2" => continue,
                _ => break,
            }
            match bytes[0] {
                0 if bytes[7..].starts_with(EL_TORITO) => found.boot_catalogue = both_32(&bytes, 0x47),
                1 => found.primary = found.primary.or(Volume::read(&bytes, false)),
                2 if JOLIET.iter().any(|escape| bytes[88..120].starts_with(escape)) => {
                    found.joliet = Volume::read(&bytes, true);
                }
                _ => {}
            }
        }
        Ok(found)
    }

    /// The images that the boot catalogue has an entry for (El Torito, sections 2.1 to 2.4).
    pub(super) fn boot_images(&self, source: &impl ReadAt) -> Vec<BootImage> {
        let mut catalogue = [0; SECTOR as usize];
        let sector = self.boot_catalogue.map(u64::from).filter(|sector| *sector > FIRST);
        let read = sector.is_some_and(|sector| source.read_at(sector * SECTOR, &mut catalogue).is_ok());
        // The validation entry begins with 1 and ends with a mark.
        if !read || catalogue[0] != 1 || catalogue[30..32] != [0x55, 0xaa] {
            return Vec::new();
        }
        // The default entry is of the validation entry's platform; those after a section header are of that header's.
        let mut platform = catalogue[1];
        let mut images = Vec::new();
        for entry in catalogue.chunks_exact(ENTRY).skip(1) {
            match entry[0] {
                // Section headers are 0x90, and 0x91 for the last.
                0x90 | 0x91 => platform = entry[1],
                BOOTABLE => images.extend(BootImage::read(entry, platform)),
                _ => {}
            }
        }
        images
    }
}

impl BootImage {
    fn read(entry: &[u8], platform: u8) -> Option<Self> {
        let platform = match platform {
            0 => BootPlatform::Bios,
            0xef => BootPlatform::Uefi,
            _ => return None,
        };
        let offset = u64::from(u32::from_le_bytes(entry.get(8..12)?.try_into().ok()?)) * SECTOR;
        // Diskettes are as large as they are (section 2.2); what else is there says how much of it is loaded.
        let length = match entry[1] & 0x0f {
            1 => 1200 * 1024,
            2 => 1440 * 1024,
            3 => 2880 * 1024,
            _ => u64::from(both_16(entry, 6)?) * 512,
        };
        Some(Self { platform, extent: Extent { offset, length } })
    }
}

impl Volume {
    /// Reads ECMA-119, table 4 and table 6.
    fn read(bytes: &[u8], wide: bool) -> Option<Self> {
        let block = u64::from(both_16(bytes, 128)?);
        let label = bytes.get(40..72)?;
        let label = if wide { ucs2(label) } else { String::from_utf8_lossy(label).into_owned() };
        let printable = |character: char| !character.is_control();
        Some(Self {
            label: label.trim_end_matches([' ', '\0']).chars().filter(|c| printable(*c)).collect(),
            block: Some(block).filter(|block| matches!(block, 512 | 1024 | 2048))?,
            size: u64::from(both_32(bytes, 80)?) * block,
            root: Record::read(bytes.get(156..190)?)?,
        })
    }
}

/// Whether the volume is at the same time a disk with partitions: then it boots from a USB stick, too.
pub(super) fn is_hybrid(source: &impl ReadAt) -> bool {
    let mut head = [0; 520];
    // A boot signature with at least one partition in the table, or a GPT header behind it (UEFI 2.10, section 5.3.2).
    source.read_at(0, &mut head).is_ok()
        && head[510..512] == [0x55, 0xaa]
        && ((0..4).any(|entry| head[446 + entry * 16 + 4] != 0) || &head[512..520] == b"EFI PART")
}
