//! FAT12, FAT16 and FAT32 volumes, read in place (Microsoft's FAT specification, version 1.03; UEFI 2.10, section 13.3): which
//! files there are, and where their bytes lie.

use std::io;

use crate::read_at::{Extent, ReadAt};

/// Folders deeper than this are not read: firmware starts `EFI/BOOT/BOOTX64.EFI`.
const MOST_DEPTH: usize = 8;
/// Files and folders of a volume that are read.
const MOST_ENTRIES: usize = 100_000;
/// Bytes of one folder's entry.
const ENTRY: usize = 32;
/// Attributes of an entry (section 6).
const VOLUME: u8 = 0x08;
const FOLDER: u8 = 0x10;
const LONG_NAME: u8 = 0x0f;

/// One file of a volume.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FatFile {
    /// Path from the root, parts joined by `/`, in the case it was written in.
    pub path: String,
    /// Where its bytes lie in the volume, in order.
    pub extents: Vec<Extent>,
}

/// Which of the three it is: the number of clusters decides (section 3.5).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Width {
    Fat12,
    Fat16,
    Fat32,
}

/// What the boot sector says (section 3.1).
struct Volume<'a, S> {
    source: &'a S,
    width: Width,
    cluster: u64,
    clusters: u64,
    table: u64,
    data: u64,
    entries: usize,
}

/// Every file of a volume; `None` if `source` is none.
///
/// # Errors
/// It cannot be read, or contradicts itself.
pub fn files(source: &impl ReadAt) -> io::Result<Option<Vec<FatFile>>> {
    let boot = source.read_up_to(0, 512)?;
    if boot.len() < 512 || boot[510..512] != [0x55, 0xaa] {
        return Ok(None);
    }
    let word = |at: usize| u64::from(u16::from_le_bytes([boot[at], boot[at + 1]]));
    let double =
        |at: usize| u64::from(u32::from_le_bytes([boot[at], boot[at + 1], boot[at + 2], boot[at + 3]]));
    let (sector, per_cluster, tables) = (word(11), u64::from(boot[13]), u64::from(boot[16]));
    let is_volume = matches!(sector, 512 | 1024 | 2048 | 4096)
        && per_cluster.is_power_of_two()
        && matches!(tables, 1 | 2)
        && word(14) > 0;
    if !is_volume {
        return Ok(None);
    }
    let root_entries = word(17);
    let table_sectors = if word(22) == 0 { double(36) } else { word(22) };
    let sectors = if word(19) == 0 { double(32) } else { word(19) };
    let root = (word(14) + tables * table_sectors) * sector;
    let root_length = root_entries * ENTRY as u64;
    let data = root + root_length.next_multiple_of(sector);
    let cluster = sector * per_cluster;
    let clusters = (sectors * sector).saturating_sub(data) / cluster;
    let width = match clusters {
        0..4085 => Width::Fat12,
        4085..65_525 => Width::Fat16,
        _ => Width::Fat32,
    };
    let mut volume = Volume { source, width, cluster, clusters, table: word(14) * sector, data, entries: 0 };
    let root = if width == Width::Fat32 {
        volume.chain(double(44))?
    } else {
        vec![Extent { offset: root, length: root_length }]
    };
    let mut files = Vec::new();
    volume.folder("", &root, 0, &mut files)?;
    files.sort_by(|a: &FatFile, b| a.path.cmp(&b.path));
    Ok(Some(files))
}

impl<S: ReadAt> Volume<'_, S> {
    /// The cluster after `number`; `None` at the end of the chain (section 4).
    fn next(&self, number: u64) -> io::Result<Option<u64>> {
        let read = |offset: u64, length: usize| {
            let mut bytes = [0; 4];
            self.source.read_at(self.table + offset, &mut bytes[..length])?;
            Ok::<_, io::Error>(u64::from(u32::from_le_bytes(bytes)))
        };
        let (next, end) = match self.width {
            Width::Fat12 => {
                let pair = read(number + number / 2, 2)?;
                (if number.is_multiple_of(2) { pair & 0xfff } else { pair >> 4 }, 0xff8)
            }
            Width::Fat16 => (read(number * 2, 2)?, 0xfff8),
            Width::Fat32 => (read(number * 4, 4)? & 0x0fff_ffff, 0x0fff_fff8),
        };
        Ok((next < end).then_some(next))
    }

    /// Where the chain of clusters from `first` lies, neighbours joined.
    fn chain(&self, first: u64) -> io::Result<Vec<Extent>> {
        let mut extents: Vec<Extent> = Vec::new();
        let (mut at, mut seen) = (Some(first), 0);
        while let Some(number) = at {
            seen += 1;
            // A cluster that is none, or a chain that runs in a ring.
            if number < 2 || number >= self.clusters + 2 || seen > self.clusters {
                return Err(io::ErrorKind::InvalidData.into());
            }
            let offset = self.data + (number - 2) * self.cluster;
            match extents.last_mut() {
                Some(last) if last.offset + last.length == offset => last.length += self.cluster,
                _ => extents.push(Extent { offset, length: self.cluster }),
            }
            at = self.next(number)?;
        }
        Ok(extents)
    }

    fn folder(
        &mut self,
        path: &str,
        extents: &[Extent],
        depth: usize,
        files: &mut Vec<FatFile>,
    ) -> io::Result<()> {
        let mut bytes = Vec::new();
        for extent in extents {
            bytes.extend(self.source.read_up_to(extent.offset, usize::try_from(extent.length).unwrap_or(0))?);
        }
        let mut long = Vec::new();
        for entry in bytes.chunks_exact(ENTRY) {
            match entry[0] {
                0 => break,
                0xe5 => {
                    long.clear();
                    continue;
                }
                _ => {}
            }
            if entry[11] & 0x3f == LONG_NAME {
                // Parts of a long name lie before the entry, the last first (section 7).
                long.splice(0..0, long_part(entry));
                continue;
            }
            let name = if long.is_empty() { short_name(entry) } else { String::from_utf16_lossy(&long) };
            long.clear();
            if entry[11] & VOLUME != 0 || name == "." || name == ".." {
                continue;
            }
            self.entries += 1;
            if self.entries > MOST_ENTRIES {
                return Err(io::ErrorKind::InvalidData.into());
            }
            let path = if path.is_empty() { name } else { format!("{path}/{name}") };
            let word = |at: usize| u64::from(u16::from_le_bytes([entry[at], entry[at + 1]]));
            let high = if self.width == Width::Fat32 { word(20) << 16 } else { 0 };
            let (first, size) = (high | word(26), word(28) | word(30) << 16);
            if entry[11] & FOLDER != 0 {
                if depth < MOST_DEPTH {
                    let extents = self.chain(first)?;
                    self.folder(&path, &extents, depth + 1, files)?;
                }
                continue;
            }
            let mut extents = if size == 0 { Vec::new() } else { self.chain(first)? };
            cut(&mut extents, size)?;
            files.push(FatFile { path, extents });
        }
        Ok(())
    }
}

/// Cuts what a file's clusters have beyond its end.
fn cut(extents: &mut Vec<Extent>, size: u64) -> io::Result<()> {
    let mut left = size;
    extents.retain_mut(|extent| {
        extent.length = extent.length.min(left);
        left -= extent.length;
        extent.length > 0
    });
    if left == 0 { Ok(()) } else { Err(io::ErrorKind::UnexpectedEof.into()) }
}

/// The 13 characters of one part of a long name, as far as it goes.
fn long_part(entry: &[u8]) -> Vec<u16> {
    let units = [&entry[1..11], &entry[14..26], &entry[28..32]].concat();
    let units = units.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]]));
    units.take_while(|unit| *unit != 0).filter(|unit| *unit != 0xffff).collect()
}

/// A name of eight and three characters; bits say which of both parts is in lower case.
fn short_name(entry: &[u8]) -> String {
    let part = |bytes: &[u8], lower: bool| {
        let text = String::from_utf8_lossy(bytes).trim_end().to_owned();
        if lower { text.to_lowercase() } else { text }
    };
    let (stem, ending) = (part(&entry[..8], entry[12] & 8 != 0), part(&entry[8..11], entry[12] & 16 != 0));
    if ending.is_empty() { stem } else { format!("{stem}.{ending}") }
}
