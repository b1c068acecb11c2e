//! The heads of file systems, and of what else is on partitions. Each is known by its mark, where its own documents have it.

use uuid::Uuid;

use super::{Volume, table::plain};
use crate::read_at::ReadAt;

/// Bytes from the beginning that have all marks but one: the last is that of squashfs, XFS and others at 0, ext at 1 KiB, swap at the end
/// of the first page, RAID at 4 KiB, ISO 9660 at 32 KiB.
const HEAD: usize = 36 << 10;
/// Where btrfs has its head.
const BTRFS: u64 = 64 << 10;

impl Volume {
    /// What is on a part of a disk; nothing if no mark is known.
    pub(super) fn read(disk: &impl ReadAt, start: u64, size: u64) -> Option<Self> {
        let length = usize::try_from(size).map_or(HEAD, |size| size.min(HEAD));
        let head = disk.read_up_to(start, length).ok()?;
        let head = Head(&head);
        // What encrypts or joins goes first: behind it may be the remains of a file system.
        luks(&head)
            .or_else(|| lvm(&head))
            .or_else(|| raid(&head))
            .or_else(|| swap(&head))
            .or_else(|| xfs(&head))
            .or_else(|| ext(&head))
            .or_else(|| dos(&head))
            .or_else(|| squashfs(&head))
            .or_else(|| iso(&head))
            .or_else(|| {
                let place = start.checked_add(BTRFS)?;
                let within = size.checked_sub(BTRFS).filter(|left| *left >= 4096).and(Some(()));
                within.and_then(|()| disk.read_up_to(place, 4096).ok()).and_then(|bytes| btrfs(&Head(&bytes)))
            })
    }

    fn of(kind: &str, label: Option<String>, uuid: Option<String>) -> Self {
        Self { kind: kind.into(), label, uuid }
    }
}

/// The first bytes.
struct Head<'a>(&'a [u8]);

impl Head<'_> {
    fn has(&self, at: usize, mark: &[u8]) -> bool {
        self.0.get(at..at + mark.len()) == Some(mark)
    }

    fn word(&self, at: usize) -> u32 {
        self.0.get(at..at + 4).and_then(|some| some.try_into().ok()).map_or(0, u32::from_le_bytes)
    }

    /// A text that ends with zero, or with its field.
    fn text(&self, at: usize, length: usize) -> Option<String> {
        let field = self.0.get(at..at + length)?;
        plain(&String::from_utf8_lossy(field.split(|byte| *byte == 0).next()?))
    }

    fn uuid(&self, at: usize) -> Option<String> {
        let bytes = *self.0.get(at..)?.first_chunk()?;
        Some(Uuid::from_bytes(bytes)).filter(|uuid| !uuid.is_nil()).map(|uuid| uuid.to_string())
    }
}

/// The ext4 data structures (kernel documentation, `filesystems/ext4/super.rst`).
fn ext(head: &Head<'_>) -> Option<Volume> {
    const SUPER: usize = 1024;
    if !head.has(SUPER + 0x38, &[0x53, 0xef]) {
        return None;
    }
    let (compatible, incompatible) = (head.word(SUPER + 0x5c), head.word(SUPER + 0x60));
    // Extents, 64 bits, flexible groups and what came after them.
    let kind = if incompatible & !0x1f != 0 {
        "ext4"
    } else if compatible & 0x4 != 0 {
        "ext3"
    } else {
        "ext2"
    };
    Some(Volume::of(kind, head.text(SUPER + 0x78, 16), head.uuid(SUPER + 0x68)))
}

/// XFS algorithms and data structures, chapter "Superblocks".
fn xfs(head: &Head<'_>) -> Option<Volume> {
    head.has(0, b"XFSB").then(|| Volume::of("xfs", head.text(108, 12), head.uuid(32)))
}

/// Btrfs on-disk format, "Superblock".
fn btrfs(head: &Head<'_>) -> Option<Volume> {
    head.has(0x40, b"_BHRfS_M").then(|| Volume::of("btrfs", head.text(0x12b, 256), head.uuid(0x20)))
}

/// FAT, exFAT and NTFS, which begin alike (Microsoft's FAT specification 1.03, section 3.1; exFAT specification 1.00, section 3.1).
fn dos(head: &Head<'_>) -> Option<Volume> {
    if !head.has(510, &[0x55, 0xaa]) {
        return None;
    }
    let serial = |at: usize| {
        let number = head.word(at);
        Some(format!("{:04X}-{:04X}", number >> 16, number & 0xffff))
    };
    // What tools write who were given no label.
    let label = |at| head.text(at, 11).filter(|label| label != "NO NAME");
    if head.has(3, b"NTFS    ") {
        let number = u64::from(head.word(72)) | u64::from(head.word(76)) << 32;
        return Some(Volume::of("ntfs", None, Some(format!("{number:016X}"))));
    }
    if head.has(3, b"EXFAT   ") {
        return Some(Volume::of("exfat", None, serial(100)));
    }
    if head.has(82, b"FAT32   ") {
        return Some(Volume::of("fat32", label(71), serial(67)));
    }
    [("fat16", b"FAT16   "), ("fat12", b"FAT12   ")]
        .into_iter()
        .find(|(_, mark)| head.has(54, *mark))
        .map(|(kind, _)| Volume::of(kind, label(43), serial(39)))
}

/// The kernel's `include/linux/swap.h`: the mark ends the first page, whose size the machine decided that wrote it.
fn swap(head: &Head<'_>) -> Option<Volume> {
    let is_swap = [4096, 8192, 16_384].into_iter().any(|page| head.has(page - 10, b"SWAPSPACE2"));
    is_swap.then(|| Volume::of("swap", head.text(1052, 16), head.uuid(1036)))
}

/// LUKS on-disk format, versions 1 (1.2.3) and 2 (1.1.4).
fn luks(head: &Head<'_>) -> Option<Volume> {
    let label = if head.has(6, &[0, 2]) { head.text(24, 48) } else { None };
    head.has(0, b"LUKS\xba\xbe").then(|| Volume::of("luks", label, head.text(168, 40)))
}

/// A physical volume of LVM2: its label is in one of the first four sectors.
fn lvm(head: &Head<'_>) -> Option<Volume> {
    let is_it =
        |sector: &usize| head.has(sector * 512, b"LABELONE") && head.has(sector * 512 + 24, b"LVM2 001");
    (0..4).find(is_it).map(|_| Volume::of("lvm", None, None))
}

/// A member of a RAID of Linux (`include/uapi/linux/raid/md_p.h`), version 1.1 at the beginning or 1.2 behind the first page.
fn raid(head: &Head<'_>) -> Option<Volume> {
    let place = [0, 4096].into_iter().find(|at| head.word(*at) == 0xa92b_4efc && head.word(at + 4) == 1)?;
    Some(Volume::of("raid", head.text(place + 32, 32), head.uuid(place + 16)))
}

/// Squashfs 4.0, "Superblock".
fn squashfs(head: &Head<'_>) -> Option<Volume> {
    (head.has(0, b"hsqs") && head.has(28, &[4, 0])).then(|| Volume::of("squashfs", None, None))
}

/// ECMA-119, section 8.4.
fn iso(head: &Head<'_>) -> Option<Volume> {
    head.has(32_769, b"CD001").then(|| Volume::of("iso9660", head.text(32_808, 32), None))
}
