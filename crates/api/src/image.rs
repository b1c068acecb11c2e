//! Images and their revisions as they are read, and how files come in.

use jiff::Timestamp;
use lastmile_core::{
    base::Fault,
    decide::image::RevisionDraft,
    model::image::{Edition, Family, FileEntry, Image, ImageKind, Recognition, Revision, Start, VolumePlace},
};
use lastmile_formats::cpu::Cpu;
use serde::{Deserialize, Serialize};

/// An image in a list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct ImageRow {
    /// Its name.
    pub name: String,
    /// What the person at the machine reads.
    pub title: String,
    /// What it is for.
    pub kind: ImageKind,
    /// How many revisions there are.
    pub revisions: usize,
    /// The current revision.
    pub current: RevisionRow,
    /// How many machines hold it, at whatever revision.
    pub machines: usize,
    /// What in its name or title disagrees with what is in it.
    pub disagreements: Vec<String>,
}

/// A revision in a list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct RevisionRow {
    /// 1, 2, 3 …
    pub number: u32,
    /// When it was imported.
    #[schema(value_type = String, format = DateTime)]
    pub created: Timestamp,
    /// Which answer file it reads.
    pub family: Family,
    /// The processor it is for.
    pub cpu: Option<Cpu>,
    /// The system's version, as it was read.
    pub version: Option<String>,
    /// The kernel's version, as it stands in the kernel.
    pub kernel_version: Option<String>,
    /// Bytes in all.
    pub size: u64,
    /// How many files.
    pub file_count: usize,
    /// Why it cannot be served; empty if it can.
    pub lacking: Vec<String>,
    /// When every file was last found to be as its digest says.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub verified: Option<Timestamp>,
    /// When it was taken out of use.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub retired: Option<Timestamp>,
    /// How many machines hold it.
    pub machines: usize,
}

/// An image, whole.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct ImageDetail {
    /// What the list shows.
    #[serde(flatten)]
    pub image: ImageRow,
    /// Every revision, the newest first.
    pub all: Vec<RevisionRow>,
    /// The current revision, whole.
    pub revision: RevisionDetail,
    /// Menus that start it.
    pub menus: Vec<String>,
}

/// A revision, whole.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct RevisionDetail {
    /// What the list shows.
    #[serde(flatten)]
    pub row: RevisionRow,
    /// What is started.
    pub start: Start,
    /// Kernel parameters it always needs.
    pub parameters: Vec<String>,
    /// Keys of the installer family's kernel parameters that it does without.
    pub without_parameters: Vec<String>,
    /// SHA-256 over all files, once every one of them was read.
    pub manifest_hash: Option<String>,
    /// Where its ISO lies, if its files are served from inside one.
    pub volume: Option<VolumePlace>,
    /// What was recognised: what, value, where it was read.
    pub recognised: Vec<[String; 3]>,
    /// Editions, environments and package sets that it offers.
    pub editions: Vec<Edition>,
    /// What is good to know about it.
    pub notes: Vec<String>,
    /// Its files.
    pub files: Vec<FileEntry>,
}

impl RevisionRow {
    /// From the record, with the number of machines that hold it.
    #[must_use]
    pub fn new(revision: &Revision, machines: usize) -> Self {
        let read = &revision.recognised;
        Self {
            number: revision.number,
            created: revision.created,
            family: revision.family,
            cpu: revision.cpu,
            version: read.version.as_ref().map(|found| found.value.clone()),
            kernel_version: read.kernel_version.as_ref().map(|found| found.value.clone()),
            size: revision.manifest.size(),
            file_count: revision.manifest.files().len(),
            lacking: revision.lacking(),
            verified: revision.verified,
            retired: revision.retired,
            machines,
        }
    }
}

impl RevisionDetail {
    /// From the record, with the number of machines that hold it.
    #[must_use]
    pub fn new(revision: &Revision, machines: usize) -> Self {
        Self {
            row: RevisionRow::new(revision, machines),
            start: revision.start.clone(),
            parameters: revision.parameters.clone(),
            without_parameters: revision.without_parameters.clone(),
            manifest_hash: revision.manifest_hash().map(|hash| hash.to_string()),
            volume: revision.volume.as_deref().map(|volume| volume.place().clone()),
            recognised: revision.recognised.rows(),
            editions: revision.recognised.editions.clone(),
            notes: revision.recognised.notes.clone(),
            files: revision.manifest.files().to_vec(),
        }
    }
}

impl ImageRow {
    /// From the record, with the number of its revisions and of the machines that hold the image and its current revision.
    #[must_use]
    pub fn new(image: &Image, revisions: usize, machines: usize, of_current: usize) -> Self {
        Self {
            name: image.name.clone(),
            title: image.title.clone(),
            kind: image.kind,
            revisions,
            current: RevisionRow::new(&image.current, of_current),
            machines,
            disagreements: image.current.disagreements(&image.title),
        }
    }
}

/// What files are, before anything is saved.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Inspection {
    /// The draft, filled with what was recognised: what saving it would make.
    pub draft: RevisionDraft,
    /// What was recognised: what, value, where it was read.
    pub recognised: Vec<[String; 3]>,
    /// What would keep it from being served.
    pub faults: Vec<Fault>,
    /// What would keep it from being saved.
    pub refused: Vec<Fault>,
    /// What is good to know about it.
    pub notes: Vec<String>,
    /// The number that the revision would get; 1 for a new image.
    pub number: u32,
    /// How many files.
    pub files: usize,
    /// Bytes in all.
    pub size: u64,
}

impl Inspection {
    /// From what was recognised.
    #[must_use]
    pub fn new(
        draft: RevisionDraft,
        read: &Recognition,
        refused: Vec<Fault>,
        number: u32,
        files: &[FileEntry],
    ) -> Self {
        Self {
            draft,
            recognised: read.rows(),
            faults: read.faults.clone(),
            refused,
            notes: read.notes.clone(),
            number,
            files: files.len(),
            size: files.iter().map(|file| file.size).sum(),
        }
    }
}

/// What the person at the machine is to read of an image.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ImageTitle {
    /// One line of text.
    pub title: String,
}

/// Which revision is to be current.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CurrentRevision {
    /// Its number.
    pub number: u32,
}

/// A file that is to come in pieces.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(deny_unknown_fields)]
pub struct UploadRequest {
    /// The path it is to have.
    pub name: String,
    /// Bytes in all.
    pub size: u64,
    /// When the file was last modified, as whoever sends it knows it: with name and size it says whether an upload
    /// that broke off is of the same file.
    #[serde(default)]
    pub modified: Option<String>,
}

/// A file on its way in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Upload {
    /// What it is called in further calls.
    pub id: String,
    /// The path it is to have.
    pub name: String,
    /// Bytes in all.
    pub size: u64,
    /// Bytes that are there: the next piece begins here.
    pub offset: u64,
    /// The file, once all of it is there.
    pub file: Option<FileEntry>,
}

/// Something that takes the service longer than a moment.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Work {
    /// Counts up since the start of the service.
    pub id: u64,
    /// What is done: `verify tidewrack-12 r3`.
    pub what: String,
    /// Bytes that are done.
    pub done: u64,
    /// Bytes in all.
    pub total: u64,
    /// When it began.
    #[schema(value_type = String, format = DateTime)]
    pub began: Timestamp,
    /// Bytes a second, lately.
    pub rate: f64,
    /// Seconds that are left, at that rate.
    pub left_secs: Option<f64>,
    /// How it ended, if it did: empty for well.
    pub ended: Option<String>,
}
