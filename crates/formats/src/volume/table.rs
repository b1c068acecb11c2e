//! Tables of partitions: GPT (UEFI 2.10, section 5.3) and the one of BIOS (section 5.2).

use uuid::Uuid;

use super::{MOST_PARTITIONS, Partition};
use crate::read_at::ReadAt;

/// Bytes of a sector as the table of BIOS counts.
const SECTOR: u64 = 512;
/// Kinds in it (section 5.2.1): what protects a GPT, and what holds further partitions.
const PROTECTIVE: u8 = 0xee;
const EXTENDED: [u8; 3] = [0x05, 0x0f, 0x85];
/// Largest entry of a GPT that is read, in bytes: usually it is 128.
const MOST_ENTRY: u32 = 4096;

/// What partitions of a GPT are for.
const GPT_KINDS: [(&str, &str); 15] = [
    ("c12a7328-f81f-11d2-ba4b-00a0c93ec93b", "EFI system"),
    ("21686148-6449-6e6f-744e-656564454649", "BIOS boot"),
    ("ebd0a0a2-b9e5-4433-87c0-68b6b72699c7", "Windows data"),
    ("e3c9e316-0b5c-4db8-817d-f92df00215ae", "Windows reserved"),
    ("de94bba4-06d1-4d40-a16a-bfd50179d6ac", "Windows recovery"),
    ("0fc63daf-8483-4772-8e79-3d69d8477de4", "Linux"),
    ("0657fd6d-a4ab-43c4-84e5-0933c84b4f4f", "Linux swap"),
    ("e6d6d379-f507-44c2-a23c-238f2a3df928", "Linux LVM"),
    ("a19d880f-05fc-4d3b-a006-743f0f84911e", "Linux RAID"),
    ("4f68bce3-e8cd-4db1-96e7-fbcaf984b709", "Linux root x86-64"),
    ("b921b045-1df0-41c3-af44-4c6f280d3fae", "Linux root arm64"),
    ("933ac7e1-2eb4-4f13-b844-0e14e2aef915", "Linux home"),
    ("bc13c2ff-59e6-4262-a352-b275fd6f7172", "Linux boot"),
    ("ca7d7ccb-63ed-4c53-861c-1742536059cc", "LUKS"),
    ("8da63339-0007-60c0-c436-083ac8230908", "Linux reserved"),
];

/// The same of the table of BIOS.
const MBR_KINDS: [(u8, &str); 13] = [
    (0x01, "FAT12"),
    (0x04, "FAT16"),
    (0x06, "FAT16"),
    (0x07, "Windows data"),
    (0x0b, "FAT32"),
    (0x0c, "FAT32"),
    (0x0e, "FAT16"),
    (0x27, "Windows recovery"),
    (0x82, "Linux swap"),
    (0x83, "Linux"),
    (0x8e, "Linux LVM"),
    (0xef, "EFI system"),
    (0xfd, "Linux RAID"),
];

/// The kind of a disk's table, and its partitions.
pub(super) fn read(disk: &impl ReadAt, block: u32) -> Option<(&'static str, Vec<Partition>)> {
    let head = disk.read_up_to(0, 512).ok()?;
    if head.get(510..512)? != [0x55, 0xaa] {
        return None;
    }
    let entries = mbr_entries(&head);
    if entries.iter().any(|entry| entry.kind == PROTECTIVE) {
        return gpt(disk, u64::from(block)).map(|partitions| ("gpt", partitions));
    }
    // A file system begins with the same mark, and has its own code where entries would be.
    let is_table = head[446..510].chunks_exact(16).all(|entry| matches!(entry[0], 0 | 0x80));
    let are_there = entries.iter().all(|entry| entry.start > 0 && entry.start * SECTOR < disk.size());
    (is_table && !entries.is_empty() && are_there).then(|| ("mbr", mbr(disk, entries)))
}

fn gpt(disk: &impl ReadAt, block: u64) -> Option<Vec<Partition>> {
    let head = disk.read_up_to(block, 92).ok()?;
    let long = |bytes: &[u8], at: usize| {
        bytes.get(at..at + 8).and_then(|some| some.try_into().ok()).map_or(0, u64::from_le_bytes)
    };
    let short =
        |at: usize| head.get(at..at + 4).and_then(|some| some.try_into().ok()).map_or(0, u32::from_le_bytes);
    if head.get(..8)? != b"EFI PART" {
        return None;
    }
    let (place, count, size) = (long(&head, 72), short(80), short(84));
    if !(128..=MOST_ENTRY).contains(&size) {
        return None;
    }
    let count = usize::try_from(count).ok()?.min(MOST_PARTITIONS);
    let size = usize::try_from(size).ok()?;
    let bytes = disk.read_up_to(place.checked_mul(block)?, count * size).ok()?;
    let mut partitions = Vec::new();
    for (number, entry) in (1..).zip(bytes.chunks_exact(size)) {
        let kind = Uuid::from_bytes_le(*entry.first_chunk()?);
        let (first, last) = (long(entry, 32), long(entry, 40));
        if kind.is_nil() || last < first {
            continue;
        }
        let text = kind.to_string();
        let known = GPT_KINDS.iter().find(|(id, _)| *id == text).map(|(_, word)| (*word).to_owned());
        let name: Vec<u16> = entry[56..128]
            .chunks_exact(2)
            .map(|two| u16::from_le_bytes([two[0], two[1]]))
            .take_while(|unit| *unit != 0)
            .collect();
        let Some((start, size)) = first.checked_mul(block).zip((last - first + 1).checked_mul(block)) else {
            continue;
        };
        partitions.push(Partition {
            number,
            start,
            size,
            kind: known.unwrap_or(text),
            name: plain(&String::from_utf16_lossy(&name)),
            volume: None,
        });
    }
    Some(partitions)
}

/// An entry of the table of BIOS.
struct Entry {
    number: u32,
    kind: u8,
    /// In sectors.
    start: u64,
    size: u64,
}

fn mbr_entries(sector: &[u8]) -> Vec<Entry> {
    let word = |entry: &[u8], at: usize| {
        entry.get(at..at + 4).and_then(|some| some.try_into().ok()).map_or(0, u32::from_le_bytes)
    };
    let entries = sector.get(446..510).unwrap_or_default().chunks_exact(16);
    (1..)
        .zip(entries)
        .map(|(number, entry)| Entry {
            number,
            kind: entry[4],
            start: word(entry, 8).into(),
            size: word(entry, 12).into(),
        })
        .filter(|entry| entry.kind != 0 && entry.size > 0)
        .collect()
}

fn mbr(disk: &impl ReadAt, entries: Vec<Entry>) -> Vec<Partition> {
    let mut partitions = Vec::new();
    for entry in entries {
        if EXTENDED.contains(&entry.kind) {
            logical(disk, entry.start, &mut partitions);
        } else {
            partitions.push(partition(&entry, 0));
        }
    }
    partitions.sort_by_key(|partition: &Partition| partition.number);
    partitions
}

/// The partitions within an extended one: a chain of tables, each with one partition and the place of the next.
fn logical(disk: &impl ReadAt, extended: u64, partitions: &mut Vec<Partition>) {
    let (mut place, mut number) = (extended, 5);
    while number < 5 + MOST_PARTITIONS as u32 {
        let Ok(sector) = disk.read_up_to(place * SECTOR, 512) else { return };
        if sector.get(510..512) != Some(&[0x55, 0xaa]) {
            return;
        }
        let mut next = None;
        for mut entry in mbr_entries(&sector).into_iter().take(2) {
            if EXTENDED.contains(&entry.kind) {
                next = Some(extended + entry.start);
            } else {
                entry.number = number;
                partitions.push(partition(&entry, place));
            }
        }
        // A chain that leads back would have no end.
        let Some(next) = next.filter(|next| *next > place) else { return };
        (place, number) = (next, number + 1);
    }
}

fn partition(entry: &Entry, base: u64) -> Partition {
    let known = MBR_KINDS.iter().find(|(kind, _)| *kind == entry.kind).map(|(_, word)| (*word).to_owned());
    Partition {
        number: entry.number,
        start: (base + entry.start) * SECTOR,
        size: entry.size * SECTOR,
        kind: known.unwrap_or_else(|| format!("{:#04x}", entry.kind)),
        name: None,
        volume: None,
    }
}

/// A name that can be shown; nothing for an empty one.
pub(super) fn plain(text: &str) -> Option<String> {
    let plain: String = text.chars().filter(|c| !c.is_control()).collect();
    Some(plain.trim().to_owned()).filter(|plain| !plain.is_empty())
}
