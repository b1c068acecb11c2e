//! An ISO whose files are served from inside it.

use std::collections::BTreeMap;

use lastmile_formats::{
    iso9660::{Iso, follow},
    read_at::Extent,
};
use serde::{Deserialize, Serialize};

use super::{FileEntry, Recognition, Sha256};

/// Where a volume lies.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum VolumePlace {
    /// In the library, under its digest.
    Kept {
        /// The digest.
        #[cfg_attr(feature = "schema", schema(value_type = String))]
        sha256: Sha256,
    },
    /// Where somebody put it on the service's host.
    InPlace {
        /// Absolute path.
        path: String,
        /// When it was last modified, in nanoseconds since 1970-01-01T00:00Z. Another time is another file.
        modified_ns: i64,
    },
}

/// An ISO, with where each of its files lies.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Volume {
    place: VolumePlace,
    /// Bytes in all.
    pub size: u64,
    /// Its digest, as its publisher gives it or as it was found.
    pub sha256: Option<Sha256>,
    extents: BTreeMap<String, Vec<Extent>>,
    links: BTreeMap<String, String>,
}

impl Volume {
    /// A volume that was read.
    #[must_use]
    pub fn new(place: VolumePlace, size: u64, sha256: Option<Sha256>, iso: Iso) -> Self {
        let extents = iso.files.into_iter().map(|file| (file.path, file.extents)).collect();
        Self { place, size, sha256, extents, links: iso.links }
    }

    /// Where it lies.
    #[must_use]
    pub const fn place(&self) -> &VolumePlace {
        &self.place
    }

    /// The same volume, found as it was in a file that was modified at another time.
    #[must_use]
    pub fn found_at(&self, time_ns: i64) -> Self {
        let place = match &self.place {
            VolumePlace::InPlace { path, .. } => {
                VolumePlace::InPlace { path: path.clone(), modified_ns: time_ns }
            }
            kept @ VolumePlace::Kept { .. } => kept.clone(),
        };
        Self { place, ..self.clone() }
    }

    /// Its files without their digests, which take reading all of it.
    #[must_use]
    pub fn files(&self) -> Vec<FileEntry> {
        let size = |extents: &[Extent]| extents.iter().map(|extent| extent.length).sum();
        let entry = |(path, extents): (&String, &Vec<Extent>)| FileEntry {
            path: path.clone(),
            size: size(extents),
            sha256: None,
        };
        self.extents.iter().map(entry).collect()
    }

    /// Where the file at exactly `path` lies in the volume.
    #[must_use]
    pub fn extents(&self, path: &str) -> Option<&[Extent]> {
        self.extents.get(path).map(Vec::as_slice)
    }

    /// The path that `path` leads to, symbolic links followed.
    #[must_use]
    pub fn follow(&self, path: &str) -> Option<String> {
        follow(&self.links, path)
    }
}

/// What a revision would hold: its files, and what was recognised in them.
#[derive(Debug, Clone, Default)]
pub struct Holding {
    /// The files.
    pub files: Vec<FileEntry>,
    /// The volume they lie in.
    pub volume: Option<Volume>,
    /// What was recognised.
    pub recognised: Recognition,
}

impl Holding {
    /// Files of which nothing was recognised.
    #[must_use]
    pub fn of(files: &[FileEntry]) -> Self {
        Self { files: files.to_vec(), ..Self::default() }
    }

    /// What to do about a path that is not there: the nearest name, or all of them if they are few.
    pub(crate) fn fix(&self, path: &str) -> String {
        const FEW: usize = 12;
        if self.files.len() <= FEW {
            let names: Vec<&str> = self.files.iter().map(|file| file.path.as_str()).collect();
            return format!("Name one of: {}.", names.join(", "));
        }
        match crate::model::image::Manifest::new(self.files.clone()).nearest(path) {
            Some(near) => format!("Did you mean {near}?"),
            None => format!("Name one of its {} files.", self.files.len()),
        }
    }
}
