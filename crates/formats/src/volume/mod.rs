//! How a disk is divided, and what is on its parts: tables of partitions and the heads of file systems. Never content.
//!
//! What cannot be read, or makes no sense, is left out.

mod file_system;
mod table;

use serde::{Deserialize, Serialize};

use crate::read_at::ReadAt;

/// Most partitions that are read of a disk.
const MOST_PARTITIONS: usize = 256;

/// How a disk is divided.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[cfg_attr(feature = "schema", schema(as = DiskLayout))]
#[serde(default)]
pub struct Layout {
    /// By what kind of table: `gpt` or `mbr`; nothing if there is none.
    pub table: Option<String>,
    /// Its partitions, in the order of their numbers.
    pub partitions: Vec<Partition>,
    /// What is on a disk that has no table.
    pub volume: Option<Volume>,
}

/// A part of a disk.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[cfg_attr(feature = "schema", schema(as = DiskPartition))]
#[serde(default)]
pub struct Partition {
    /// Its number in the table: 1, 2, 3 …
    pub number: u32,
    /// Where it begins, in bytes from the beginning of the disk.
    pub start: u64,
    /// Its size, in bytes.
    pub size: u64,
    /// What it is for: in words where they are known, else as the table has it.
    pub kind: String,
    /// What it is called in the table.
    pub name: Option<String>,
    /// What is on it.
    pub volume: Option<Volume>,
}

/// What is on a disk or on a part of it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[cfg_attr(feature = "schema", schema(as = DiskVolume))]
#[serde(default)]
pub struct Volume {
    /// What kind of file system, or what else: `ext4`, `ntfs`, `swap`, `luks`, `lvm`, `raid` …
    pub kind: String,
    /// What it is called.
    pub label: Option<String>,
    /// Its identity, as tools write it.
    pub uuid: Option<String>,
}

impl Layout {
    /// Reads a disk whose blocks have so many bytes.
    #[must_use]
    pub fn read(disk: &impl ReadAt, block: u32) -> Self {
        let Some((table, mut partitions)) = table::read(disk, block.max(512)) else {
            return Self { volume: Volume::read(disk, 0, disk.size()), ..Self::default() };
        };
        for partition in &mut partitions {
            partition.volume = Volume::read(disk, partition.start, partition.size);
        }
        Self { table: Some(table.into()), partitions, volume: None }
    }

    /// Everything that is on it.
    pub fn volumes(&self) -> impl Iterator<Item = &Volume> {
        self.volume.iter().chain(self.partitions.iter().filter_map(|partition| partition.volume.as_ref()))
    }
}
