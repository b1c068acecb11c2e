//! What becomes of the disks.

use std::{collections::BTreeMap, fmt};

use serde::{Deserialize, Serialize};

use super::{Texts, Verdict, none, wrong};

/// What becomes of the disks. All of each disk that is chosen is taken; no other is touched.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Storage<P> {
    /// Which firmware the system is to boot by; that by which the machine booted if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub boot_mode: Option<BootMode>,
    /// The disks that are taken, by a name of your choice. None at all: the machine's only disk, or its first.
    #[serde(default = "BTreeMap::new", skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(example = json!({ "system": {} })))]
    pub disks: BTreeMap<String, DiskMatch>,
    /// Disks that are never touched, whatever else would choose them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = json!([{ "serial": "ARCHIVE*" }])))]
    pub never: Option<Vec<DiskMatch>>,
    /// Whether the file systems lie on logical volumes (LVM) instead of partitions.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = true))]
    pub logical_volumes: Option<bool>,
    /// Whether all is kept twice, on two disks (RAID 1).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = true))]
    pub mirror: Option<bool>,
    /// The passphrase by which all but `/boot` is encrypted (LUKS).
    #[serde(default = "none", skip_serializing_if = "Option::is_none")]
    pub encrypt: Option<P>,
    /// Name of the volume group; `system` if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = "system"))]
    pub volume_group: Option<String>,
    /// The file systems, in the order in which they lie on the disk. None at all: the installer's own arrangement.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub volumes: Option<Vec<Volume>>,
}

/// Which firmware a system boots by.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum BootMode {
    /// UEFI: an EFI system partition.
    Uefi,
    /// BIOS: a partition for the boot loader.
    Bios,
}

/// Which disk is meant: one that all of these fit.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct DiskMatch {
    /// Its device: `/dev/sda`, a name under `/dev/disk/by-id/`; for unattended set-up its number: `0`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = "/dev/sda"))]
    pub device: Option<String>,
    /// Its model; `*` stands for anything.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = "Puffin 480*"))]
    pub model: Option<String>,
    /// Its serial number; `*` stands for anything.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = "P-1*"))]
    pub serial: Option<String>,
    /// Which one is taken of several that fit; the first that the system lists if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub prefer: Option<Prefer>,
    /// It has at least so much: `200G`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = "200G"))]
    pub at_least: Option<String>,
    /// It has at most so much: `2T`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = "2T"))]
    pub at_most: Option<String>,
}

/// Which one of several disks is taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Prefer {
    /// The one with the least space.
    Small,
    /// The one with the most space.
    Large,
}

/// One file system, or swap space.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Volume {
    /// Where it is mounted: `/`, `/srv`, `swap`; a drive letter for systems that have them: `D:`.
    #[cfg_attr(feature = "schema", schema(example = "/"))]
    pub mount: String,
    /// `20G`, `512M`, or `rest`.
    #[cfg_attr(feature = "schema", schema(example = "rest"))]
    pub size: String,
    /// Its file system; the installer's default if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub file_system: Option<FileSystem>,
    /// Which of the disks it lies on, where there are several.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = "system"))]
    pub disk: Option<String>,
}

/// A file system.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, strum::IntoStaticStr)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum FileSystem {
    /// ext4.
    Ext4,
    /// XFS.
    Xfs,
    /// Btrfs.
    Btrfs,
    /// FAT, for what firmware reads.
    Vfat,
    /// NTFS.
    Ntfs,
}

impl FileSystem {
    /// Its name as mkfs and installers write it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        self.into()
    }
}

/// The size of a volume.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Size {
    /// So many MiB.
    Mib(u64),
    /// What the others leave.
    Rest,
}

impl Size {
    /// Reads `512M`, `20G`, `2T` or `rest`. Units are powers of 1024.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        if text == "rest" {
            return Some(Self::Rest);
        }
        let unit = text.chars().last()?;
        let number: u64 = text[..text.len() - unit.len_utf8()].parse().ok()?;
        let mib = match unit {
            'M' => number,
            'G' => number.checked_mul(1024)?,
            'T' => number.checked_mul(1024 * 1024)?,
            _ => return None,
        };
        (mib > 0).then_some(Self::Mib(mib))
    }
}

impl fmt::Display for Size {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Mib(mib) if mib % 1024 == 0 => write!(f, "{}G", mib / 1024),
            Self::Mib(mib) => write!(f, "{mib}M"),
            Self::Rest => f.write_str("rest"),
        }
    }
}

impl<P> Default for Storage<P> {
    fn default() -> Self {
        Self {
            boot_mode: None,
            disks: BTreeMap::new(),
            never: None,
            logical_volumes: None,
            mirror: None,
            encrypt: None,
            volume_group: None,
            volumes: None,
        }
    }
}

impl DiskMatch {
    /// Whether it names one device and asks nothing of it.
    #[must_use]
    pub const fn is_device(&self) -> bool {
        self.device.is_some()
    }

    /// Whether it asks nothing.
    #[must_use]
    pub fn is_any(&self) -> bool {
        *self == Self::default()
    }

    fn check(&self, place: &str, texts: &mut Texts<'_>) {
        let at = |key: &str| format!("{place}.{key}");
        texts.each(&at("device"), self.device.iter(), |device| {
            let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '/' | '-' | '_' | '.' | ':' | '+');
            let is_path = device.starts_with("/dev/") && device.len() > 5 && device.chars().all(plain);
            if is_path || device.parse::<u8>().is_ok() {
                return Ok(());
            }
            wrong(
                format!("'{device}' is no disk device"),
                "Write /dev/sda, /dev/nvme0n1 or a name under /dev/disk/by-id/; a number for unattended set-up.",
            )
        });
        texts.each(&at("model"), self.model.iter(), check_pattern);
        texts.each(&at("serial"), self.serial.iter(), check_pattern);
        for (key, text) in [("at_least", &self.at_least), ("at_most", &self.at_most)] {
            texts.each(&at(key), text.iter(), |text| match Size::parse(text) {
                Some(Size::Mib(_)) => Ok(()),
                _ => wrong(format!("'{text}' is no size"), "Write it as in 512M, 200G or 2T."),
            });
        }
        if self.device.is_some() && *self != (Self { device: self.device.clone(), ..Self::default() }) {
            texts.faults.add(
                place,
                "it names a device and describes one",
                "Give the device, or what it is to be like.",
            );
        }
    }
}

impl<P> Storage<P> {
    pub(crate) fn with_passphrase<Q>(&self, encrypt: Option<Q>) -> Storage<Q> {
        Storage {
            boot_mode: self.boot_mode,
            disks: self.disks.clone(),
            never: self.never.clone(),
            logical_volumes: self.logical_volumes,
            mirror: self.mirror,
            encrypt,
            volume_group: self.volume_group.clone(),
            volumes: self.volumes.clone(),
        }
    }

    pub(super) fn check(&self, texts: &mut Texts<'_>) {
        for (name, disk) in &self.disks {
            let place = format!("storage.disks.{name}");
            if name.is_empty() || !name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_') {
                texts.faults.add(
                    &place,
                    format!("'{name}' is no name for a disk"),
                    "Use letters, digits and '_'.",
                );
            }
            disk.check(&place, texts);
        }
        for (index, disk) in self.never.iter().flatten().enumerate() {
            let place = format!("storage.never[{index}]");
            if disk.is_any() {
                texts.faults.add(
                    &place,
                    "it means every disk",
                    "Say a device, a model, a serial number or a size.",
                );
            }
            if disk.prefer.is_some() {
                texts.faults.add(
                    &place,
                    "'prefer' chooses among disks and excludes none",
                    "Use at_least and at_most.",
                );
            }
            disk.check(&place, texts);
        }
        texts.each("storage.volume_group", self.volume_group.iter(), |text| {
            let plain = |c: char| c.is_ascii_alphanumeric() || c == '_';
            if !text.is_empty() && text.len() <= 32 && text.chars().all(plain) {
                return Ok(());
            }
            wrong(format!("'{text}' is no volume group's name"), "Use at most 32 letters, digits and '_'.")
        });
        for (index, volume) in self.volumes.iter().flatten().enumerate() {
            let place = format!("storage.volumes[{index}]");
            texts.one(format!("{place}.mount"), &volume.mount, check_mount);
            texts.one(format!("{place}.size"), &volume.size, |text| match Size::parse(text) {
                Some(_) => Ok(()),
                None => wrong(format!("'{text}' is no size"), "Write it as in 512M, 20G, 2T or rest."),
            });
            if volume.mount == "swap" && volume.file_system.is_some() {
                texts.faults.add(format!("{place}.file_system"), "swap space has none", "Leave it out.");
            }
        }
    }
}

fn check_pattern(text: &str) -> Verdict {
    let plain = |c: char| c.is_alphanumeric() || matches!(c, ' ' | '-' | '_' | '.' | ':' | '/' | '+' | '*');
    if !text.trim_matches(['*', ' ']).is_empty() && text.chars().all(plain) {
        return Ok(());
    }
    wrong(
        format!("'{text}' fits no disk"),
        "Use letters, digits, ' ', '-', '_', '.', ':', '/', '+', and '*' for anything.",
    )
}

fn check_mount(text: &str) -> Verdict {
    let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '/' | '-' | '_' | '.');
    let is_path = text.starts_with('/')
        && text.chars().all(plain)
        && (text == "/" || text.split('/').skip(1).all(|part| !matches!(part, "" | "." | "..")));
    let is_letter = matches!(text.as_bytes(), [b'C'..=b'Z', b':']);
    if is_path || is_letter || text == "swap" {
        return Ok(());
    }
    wrong(
        format!("'{text}' is nowhere to mount"),
        "Write a path as in /srv, or swap, or a drive letter as in D:.",
    )
}
