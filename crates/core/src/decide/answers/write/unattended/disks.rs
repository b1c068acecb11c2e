//! How set-up divides disks.

use super::document::Document;
use crate::{
    decide::answers::{Disks, Mount, resolved::EFI_MIB},
    model::answers::{BootMode, Size},
};

/// Divides the disks; gives disk and partition of the system.
pub(super) fn disk_configuration(document: &mut Document, disks: &Disks) -> (u8, usize) {
    let mut system = (0, 1);
    document.group("DiskConfiguration", |d| {
        for (index, (_, disk)) in disks.taken.iter().enumerate() {
            let number: u8 = disk.device.as_ref().and_then(|device| device.parse().ok()).unwrap_or_default();
            d.item("Disk", |d| {
                let partitions = partitions(disks, index);
                if let Some(at) = partitions.iter().position(|partition| partition.letter == Some('C')) {
                    system = (number, at + 1);
                }
                d.group("CreatePartitions", |d| {
                    for (order, partition) in partitions.iter().enumerate() {
                        d.item("CreatePartition", |d| {
                            d.leaf("Order", &(order + 1).to_string());
                            match partition.size {
                                Size::Mib(mib) => d.leaf("Size", &mib.to_string()),
                                Size::Rest => d.leaf("Extend", "true"),
                            }
                            d.leaf("Type", partition.kind);
                        });
                    }
                });
                d.group("ModifyPartitions", |d| {
                    for (order, partition) in partitions.iter().enumerate() {
                        d.item("ModifyPartition", |d| {
                            if partition.is_active {
                                d.leaf("Active", "true");
                            }
                            if let Some(format) = partition.format {
                                d.leaf("Format", format);
                            }
                            if let Some(letter) = partition.letter {
                                d.leaf("Letter", &letter.to_string());
                            }
                            d.leaf("Order", &(order + 1).to_string());
                            d.leaf("PartitionID", &(order + 1).to_string());
                        });
                    }
                });
                d.leaf("DiskID", &number.to_string());
                d.leaf("WillWipeDisk", "true");
            });
        }
        d.leaf("WillShowUI", "OnError");
    });
    system
}

struct Partition {
    kind: &'static str,
    size: Size,
    format: Option<&'static str>,
    letter: Option<char>,
    is_active: bool,
}

/// Size of the partition that the system's boot manager reserves for itself on GPT disks, in MiB.
const RESERVED_MIB: u64 = 16;

fn partitions(disks: &Disks, index: usize) -> Vec<Partition> {
    let mut partitions = Vec::new();
    let fixed = |kind, mib, format, is_active| Partition {
        kind,
        size: Size::Mib(mib),
        format,
        letter: None,
        is_active,
    };
    let places: Vec<_> = disks.places().into_iter().filter(|place| place.disk == index).collect();
    let has_system = disks.volumes.is_none() || places.iter().any(|place| place.mount.is_system());
    match disks.boot_mode {
        BootMode::Uefi => {
            if has_system {
                partitions.push(fixed("EFI", EFI_MIB, Some("FAT32"), false));
            }
            partitions.push(fixed("MSR", RESERVED_MIB, None, false));
        }
        BootMode::Bios if has_system => partitions.push(fixed("Primary", EFI_MIB, Some("NTFS"), true)),
        BootMode::Bios => {}
    }
    let data = |letter, size| Partition {
        kind: "Primary",
        size,
        format: Some("NTFS"),
        letter: Some(letter),
        is_active: false,
    };
    if disks.volumes.is_none() {
        partitions.push(data('C', Size::Rest));
    }
    for place in places {
        let letter = match place.mount {
            Mount::Letter(letter) => letter,
            Mount::Path(_) | Mount::Swap => 'C',
        };
        partitions.push(data(letter, place.size));
    }
    partitions
}
