//! Raw disk images, compressed or not: what a disk of theirs would hold.

use std::io::Read;

use crate::{
    compressed::{Compression, unpacked},
    read_at::ReadAt,
};

/// What the head of a disk says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Disk {
    /// How it is compressed, if it is.
    pub compression: Option<Compression>,
    /// How its partitions are described.
    pub table: &'static str,
}

/// Reads the head of a file that may be a disk with partitions.
pub fn read(source: &impl ReadAt) -> Option<Disk> {
    let (compression, mut plain) = unpacked(source).ok()?;
    let mut head = [0; 1024];
    plain.read_exact(&mut head).ok()?;
    if head[510..512] != [0x55, 0xaa] {
        return None;
    }
    // UEFI 2.10, section 5.3.2; the partition table of BIOS begins at byte 446, four entries of sixteen bytes, and each
    // begins with a mark of 0x80 or 0.
    let entries = || (0..4).map(|entry| &head[446 + entry * 16..462 + entry * 16]);
    let table = if &head[512..520] == b"EFI PART" {
        "GPT"
    } else if entries().all(|entry| matches!(entry[0], 0 | 0x80)) && entries().any(|entry| entry[4] != 0) {
        "MBR"
    } else {
        return None;
    };
    Some(Disk { compression, table })
}
