//! Reading ISO 9660 volumes in place: nothing is mounted, nothing unpacked.
//!
//! [`Iso::read`] walks the tree once and gives every file with the extents its bytes lie in. Names are taken from Rock
//! Ridge where it is there, else from Joliet, else as the volume has them. What cannot be served is named in
//! [`Iso::defects`]; what is only good to know is in [`Iso::notes`].

use std::{collections::BTreeMap, fmt, io};

use thiserror::Error;
pub use volume::{BootImage, BootPlatform};
use volume::{Volumes, is_hybrid};

use crate::{
    fat::{self, FatFile},
    read_at::{Extent, Pieces, ReadAt},
};

mod record;
mod rock_ridge;
mod volume;
mod walk;

/// The folder in which the files of its boot images are, which the volume's own tree does not have.
pub const BOOT_FILES: &str = "el-torito";

/// Links that are followed to find one file: a ring of them ends here.
const MOST_LINKS: usize = 32;

/// Why a source cannot be read as an ISO.
#[derive(Debug, Error)]
pub enum IsoError {
    /// There is no primary volume descriptor.
    #[error("this is no ISO 9660 volume: nothing at byte 32768 says CD001")]
    NotIso,
    /// The volume's files are in UDF only.
    #[error("the volume's files are in UDF, which is not read: give the folder of its files instead")]
    Udf,
    /// It cannot be read.
    #[error("it cannot be read: {0}")]
    Read(#[from] io::Error),
}

/// Where the names come from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Names {
    /// The Rock Ridge extension.
    RockRidge,
    /// The Joliet extension.
    Joliet,
    /// The volume's own: upper case, short.
    Plain,
}

impl fmt::Display for BootPlatform {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Bios => "BIOS",
            Self::Uefi => "UEFI",
        })
    }
}

impl fmt::Display for Names {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::RockRidge => "Rock Ridge",
            Self::Joliet => "Joliet",
            Self::Plain => "ISO 9660",
        })
    }
}

/// One file of a volume.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct IsoFile {
    /// Path from the root, parts joined by `/`.
    pub path: String,
    /// Where its bytes lie in the volume, in order.
    pub extents: Vec<Extent>,
}

impl IsoFile {
    /// Bytes in all.
    #[must_use]
    pub fn size(&self) -> u64 {
        self.extents.iter().map(|extent| extent.length).sum()
    }
}

/// Something that is wrong within a volume.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Defect {
    /// Where: a path within it, or `iso` for the whole.
    pub place: String,
    /// What is wrong.
    pub what: String,
    /// What to do about it.
    pub fix: String,
}

/// A volume, its tree read.
#[derive(Debug, Clone)]
pub struct Iso {
    /// The volume's label.
    pub label: String,
    /// Where the names come from.
    pub names: Names,
    /// Every file that can be served, ordered by path.
    pub files: Vec<IsoFile>,
    /// Symbolic links: path → the path they lead to, from the root.
    pub links: BTreeMap<String, String>,
    /// What firmware starts when it boots the volume as a disc.
    pub boot_images: Vec<BootImage>,
    /// What is wrong with it. A volume with defects is not whole.
    pub defects: Vec<Defect>,
    /// What is good to know about it.
    pub notes: Vec<String>,
}

impl Iso {
    /// Reads the descriptors and the whole tree of a volume.
    ///
    /// # Errors
    /// [`IsoError`] if there is no tree to read. What is wrong within the tree is in [`Iso::defects`].
    pub fn read(source: &impl ReadAt) -> Result<Self, IsoError> {
        let volumes = Volumes::read(source)?;
        let missing = if volumes.udf { IsoError::Udf } else { IsoError::NotIso };
        let primary = volumes.primary.as_ref().ok_or(missing)?;
        let mut notes = Vec::new();
        let boot_images = volumes.boot_images(source);
        let mut platforms: Vec<_> = boot_images.iter().map(|image| image.platform).collect();
        platforms.sort_unstable();
        platforms.dedup();
        if !platforms.is_empty() {
            let platforms: Vec<_> = platforms.iter().map(ToString::to_string).collect();
            notes.push(format!("as a disc it boots on {} (El Torito)", platforms.join(" and ")));
        }
        if is_hybrid(source) {
            notes.push("hybrid: it is a disk with partitions at the same time, for USB sticks".into());
        }
        let mut iso = walk::walk(source, primary, volumes.joliet.as_ref());
        iso.label = volumes
            .joliet
            .as_ref()
            .map_or(&primary.label, |joliet| longer(&primary.label, &joliet.label))
            .clone();
        if volumes.udf {
            iso.notes.push("it has a UDF file system, too, which is not read".into());
            if iso.files.len() <= 1 {
                return Err(IsoError::Udf);
            }
        }
        if source.size() < primary.size {
            let cut = iso.defects.len();
            iso.defects.insert(
                0,
                Defect {
                    place: "iso".into(),
                    what: format!(
                        "it is cut off: it has {} of the {} bytes that it says, and {cut} of its files are not whole",
                        source.size(),
                        primary.size
                    ),
                    fix: "Fetch it again, and compare its SHA-256 with the one its publisher gives.".into(),
                },
            );
        }
        iso.add_boot_files(source, &boot_images);
        iso.boot_images = boot_images;
        iso.notes.splice(0..0, notes);
        Ok(iso)
    }

    /// Adds what lies in the boot images that are FAT volumes, below [`BOOT_FILES`].
    fn add_boot_files(&mut self, source: &impl ReadAt, images: &[BootImage]) {
        if self.files.iter().any(|file| file.path.starts_with(BOOT_FILES)) {
            return;
        }
        for image in images {
            let start = image.extent.offset;
            // How much is loaded at first is often said wrongly; how large the volume is, it says itself.
            let whole = [Extent { offset: start, length: source.size().saturating_sub(start) }];
            let Ok(Some(files)) = fat::files(&Pieces::new(source, &whole)) else { continue };
            for FatFile { path, mut extents } in files {
                extents.iter_mut().for_each(|extent| extent.offset += start);
                let path = format!("{BOOT_FILES}/{path}");
                let is_within = extents.iter().all(|extent| extent.offset + extent.length <= source.size());
                if is_within {
                    self.files.push(IsoFile { path, extents });
                }
            }
        }
        self.files.sort_by(|a, b| a.path.cmp(&b.path));
        self.files.dedup_by(|a, b| a.path == b.path);
    }

    /// The file at exactly `path`, links followed.
    #[must_use]
    pub fn get(&self, path: &str) -> Option<&IsoFile> {
        let path = follow(&self.links, path)?;
        let place = self.files.binary_search_by(|file| file.path.as_str().cmp(&path)).ok()?;
        self.files.get(place)
    }
}

/// The path that `path` leads to when every symbolic link in it is followed; `None` for a ring of links.
#[must_use]
pub fn follow(links: &BTreeMap<String, String>, path: &str) -> Option<String> {
    let mut path = path.to_owned();
    if links.is_empty() {
        return Some(path);
    }
    for _ in 0..MOST_LINKS {
        let ends = path.match_indices('/').map(|(at, _)| at).chain([path.len()]);
        let step = ends.filter_map(|end| Some((end, links.get(path.get(..end)?)?))).next();
        let Some((end, target)) = step else { return Some(path) };
        let rest = path[end..].trim_start_matches('/');
        path = match (target.is_empty(), rest.is_empty()) {
            (true, _) => rest.into(),
            (false, true) => target.clone(),
            (false, false) => format!("{target}/{rest}"),
        };
    }
    None
}

/// Joliet's label is cut at 16 characters where the volume's own has 32, but keeps lower case.
fn longer<'a>(plain: &'a String, joliet: &'a String) -> &'a String {
    if joliet.chars().count() >= plain.chars().count() { joliet } else { plain }
}
