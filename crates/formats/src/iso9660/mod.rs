//! Reading ISO 9660 volumes in place: nothing is mounted, nothing unpacked.
//!
//! [`Iso::read`] walks the tree once and gives every file with the extents its octets lie in. Names are taken from Rock
//! Ridge where it is there, else from Joliet, else as the volume has them. What cannot be served is named in
//! [`Iso::faults`]; what is only good to know is in [`Iso::notes`].

mod record;
mod rock_ridge;
mod volume;
mod walk;

use std::{collections::BTreeMap, fmt, io};

use thiserror::Error;
use volume::{Volumes, is_hybrid};

use super::{Extent, ReadAt};
use crate::Fault;

/// Links that are followed to find one file: a ring of them ends here.
const MOST_LINKS: usize = 32;

/// Why a source cannot be read as an ISO.
#[derive(Debug, Error)]
pub enum IsoError {
    /// There is no primary volume descriptor.
    #[error("this is no ISO 9660 volume: nothing at octet 32768 says CD001")]
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
    /// Where its octets lie in the volume, in order.
    pub extents: Vec<Extent>,
}

impl IsoFile {
    /// Octets in all.
    #[must_use]
    pub fn size(&self) -> u64 {
        self.extents.iter().map(|extent| extent.length).sum()
    }
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
    /// What is wrong with it. A volume with faults is not whole.
    pub faults: Vec<Fault>,
    /// What is good to know about it.
    pub notes: Vec<String>,
}

impl Iso {
    /// Reads the descriptors and the whole tree of a volume.
    ///
    /// # Errors
    /// [`IsoError`] if there is no tree to read. What is wrong within the tree is in [`Iso::faults`].
    pub fn read(source: &impl ReadAt) -> Result<Self, IsoError> {
        let volumes = Volumes::read(source)?;
        let missing = if volumes.udf { IsoError::Udf } else { IsoError::NotIso };
        let primary = volumes.primary.as_ref().ok_or(missing)?;
        let mut notes = Vec::new();
        let boots = volumes.boots_on(source);
        if !boots.is_empty() {
            notes.push(format!("as a disc it boots on {} (El Torito)", boots.join(" and ")));
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
            let cut = iso.faults.len();
            iso.faults.insert(
                0,
                Fault {
                    place: "iso".into(),
                    what: format!(
                        "it is cut off: it has {} of the {} octets that it says, and {cut} of its files are not whole",
                        source.size(),
                        primary.size
                    ),
                    mend: "Fetch it again, and compare its SHA-256 with the one its publisher gives.".into(),
                },
            );
        }
        iso.notes.splice(0..0, notes);
        Ok(iso)
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
