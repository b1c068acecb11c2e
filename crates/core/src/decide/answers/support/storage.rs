//! What settings ask for on disks.

use Family::{Autoinstall, CloudConfig, Kickstart, Preseed, UnattendedXml};

use super::feature::{Feature, at};
use crate::{
    decide::answers::{Mount, Place, Resolved},
    model::{
        answers::{DiskMatch, FileSystem},
        image::Family,
    },
};

const LIVE: (Family, &str) = (CloudConfig, "A live host puts nothing on a disk: leave storage out.");
const PARTITIONS: (Family, &str) = (UnattendedXml, "Set-up divides disks into partitions only.");
const BY_NUMBER: (Family, &str) =
    (UnattendedXml, "Set-up knows disks by their number only: say device = \"0\".");
const NTFS_ONLY: (Family, &str) = (UnattendedXml, "The system installs to NTFS only.");
const NO_NUMBER: &str = "Name the disk by its path, or say what it is like.";
const NO_LETTERS: &str = "This system mounts file systems at paths and has no NTFS of its own.";

/// Every disk that asks for something.
fn disks(settings: &Resolved, asks: impl Fn(&DiskMatch) -> bool) -> Vec<String> {
    let asking = settings.disks.taken.iter().filter(|(_, disk)| asks(disk));
    asking.map(|(name, _)| format!("storage.disks.{name}")).collect()
}

/// Every volume that asks for something.
fn volumes(settings: &Resolved, asks: impl Fn(&Place) -> bool) -> Vec<String> {
    let all = settings.disks.volumes.iter().flatten().enumerate();
    all.filter(|(_, place)| asks(place)).map(|(index, _)| format!("storage.volumes[{index}]")).collect()
}

/// The file system of every volume that has one of these.
fn file_systems(settings: &Resolved, those: &[FileSystem]) -> Vec<String> {
    let has = |place: &Place| place.file_system.is_some_and(|of| those.contains(&of));
    volumes(settings, has).into_iter().map(|at| at + ".file_system").collect()
}

fn is_number(disk: &DiskMatch) -> bool {
    disk.device.as_ref().is_some_and(|device| !device.starts_with('/'))
}

fn is_encrypted(settings: &Resolved, also: bool) -> Vec<String> {
    at("storage.encrypt", settings.disks.passphrase.is_some() && also)
}

pub(super) const FEATURES: &[Feature] = &[
    Feature {
        name: "a disk by its path",
        asked: |settings| disks(settings, |disk| disk.device.is_some() && !is_number(disk)),
        lacks: &[LIVE, BY_NUMBER],
    },
    Feature {
        name: "a disk by its number",
        asked: |settings| disks(settings, is_number),
        lacks: &[(Preseed, NO_NUMBER), (Kickstart, NO_NUMBER), (Autoinstall, NO_NUMBER), LIVE],
    },
    Feature {
        name: "a disk by model, serial number or size",
        asked: |settings| disks(settings, |disk| disk.device.is_none() && !disk.is_any()),
        lacks: &[LIVE, BY_NUMBER],
    },
    Feature {
        name: "a disk of at least or at most a size",
        asked: |settings| disks(settings, |disk| disk.at_least.is_some() || disk.at_most.is_some()),
        lacks: &[
            (
                Autoinstall,
                "The installer's matches know the smallest and the largest only: use prefer, a model or a serial number.",
            ),
            LIVE,
            BY_NUMBER,
        ],
    },
    Feature {
        name: "disks that are never touched",
        asked: |settings| at("storage.never", !settings.disks.never.is_empty()),
        lacks: &[
            (Autoinstall, "The installer's matches cannot exclude: describe exactly the disks to take."),
            LIVE,
            BY_NUMBER,
        ],
    },
    Feature {
        name: "volumes on several disks",
        asked: |settings| at("storage.disks", settings.disks.taken.len() > 1 && !settings.disks.mirror),
        lacks: &[
            (Preseed, "The installer divides one disk, or two as a mirror; add the others in a last step."),
            LIVE,
        ],
    },
    Feature {
        name: "logical volumes",
        asked: |settings| at("storage.logical_volumes", settings.disks.logical_volumes),
        lacks: &[LIVE, PARTITIONS],
    },
    Feature {
        name: "RAID 1",
        asked: |settings| at("storage.mirror", settings.disks.mirror),
        lacks: &[LIVE, PARTITIONS],
    },
    Feature {
        name: "encryption on RAID 1",
        asked: |settings| is_encrypted(settings, settings.disks.mirror),
        lacks: &[
            (Preseed, "The installer's recipes do not encrypt a mirror: leave one of them out."),
            LIVE,
            PARTITIONS,
        ],
    },
    Feature {
        name: "encryption",
        asked: |settings| is_encrypted(settings, true),
        lacks: &[LIVE, PARTITIONS],
    },
    Feature {
        name: "encryption without logical volumes",
        asked: |settings| is_encrypted(settings, !settings.disks.logical_volumes),
        lacks: &[(Preseed, ENCRYPTED_LVM), LIVE, PARTITIONS],
    },
    Feature {
        name: "encryption in the installer's own arrangement of partitions",
        asked: |settings| {
            let is_guided = !settings.disks.logical_volumes && settings.disks.volumes.is_none();
            is_encrypted(settings, is_guided)
        },
        lacks: &[
            (Preseed, ENCRYPTED_LVM),
            (
                Autoinstall,
                "The installer's own arrangement encrypts logical volumes only: set logical_volumes = true, or describe the volumes.",
            ),
            LIVE,
            PARTITIONS,
        ],
    },
    Feature {
        name: "volumes of one's own arrangement",
        asked: |settings| at("storage.volumes", settings.disks.volumes.is_some()),
        lacks: &[LIVE],
    },
    Feature {
        name: "swap space",
        asked: |settings| volumes(settings, |place| place.mount == Mount::Swap),
        lacks: &[LIVE, (UnattendedXml, "The system makes its own page file: leave swap out.")],
    },
    Feature {
        name: "file systems at paths other than /",
        asked: |settings| volumes(settings, |place| place.mount.path().is_some_and(|path| path != "/")),
        lacks: &[LIVE, (UnattendedXml, "Drives have letters there, as in D:.")],
    },
    Feature {
        name: "drives by letter",
        asked: |settings| volumes(settings, |place| matches!(place.mount, Mount::Letter(_))),
        lacks: &[(Preseed, NO_LETTERS), (Kickstart, NO_LETTERS), (Autoinstall, NO_LETTERS), LIVE],
    },
    Feature {
        name: "ext4, XFS or FAT",
        asked: |settings| file_systems(settings, &[FileSystem::Ext4, FileSystem::Xfs, FileSystem::Vfat]),
        lacks: &[LIVE, NTFS_ONLY],
    },
    Feature {
        name: "Btrfs",
        asked: |settings| file_systems(settings, &[FileSystem::Btrfs]),
        lacks: &[
            (
                Kickstart,
                "Btrfs needs its own volumes, which are not written here: use ext4 or XFS, or a fragment.",
            ),
            LIVE,
            NTFS_ONLY,
        ],
    },
    Feature {
        name: "NTFS",
        asked: |settings| file_systems(settings, &[FileSystem::Ntfs]),
        lacks: &[(Preseed, NO_LETTERS), (Kickstart, NO_LETTERS), (Autoinstall, NO_LETTERS), LIVE],
    },
];

const ENCRYPTED_LVM: &str = "The installer encrypts logical volumes: set logical_volumes = true.";
