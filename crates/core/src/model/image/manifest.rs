//! What files a revision or a loader consists of.

use std::collections::{BTreeMap, BTreeSet};

use lastmile_formats::tftp::ServedPath;
use serde::{Deserialize, Serialize};

use super::Sha256;
use crate::base::Faults;

/// One file: its path among the others, its size and its digest.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct FileEntry {
    /// Path relative to the root of the set, parts joined by `/`.
    pub path: String,
    /// Size in bytes.
    pub size: u64,
    /// Digest of the content; not there while a file inside an ISO was not read yet.
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, pattern = "^[0-9A-Fa-f]{64}$"))]
    pub sha256: Option<Sha256>,
}

impl FileEntry {
    /// A file whose content is known.
    #[must_use]
    pub fn new(path: impl Into<String>, size: u64, sha256: Sha256) -> Self {
        Self { path: path.into(), size, sha256: Some(sha256) }
    }
}

/// All files of a set, ordered by path.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Manifest {
    files: Vec<FileEntry>,
}

impl Manifest {
    /// Orders `files` by path.
    #[must_use]
    pub fn new(mut files: Vec<FileEntry>) -> Self {
        files.sort_by(|a, b| a.path.cmp(&b.path));
        Self { files }
    }

    /// The files, ordered by path.
    #[must_use]
    pub fn files(&self) -> &[FileEntry] {
        &self.files
    }

    /// The file at exactly `path`.
    #[must_use]
    pub fn get(&self, path: &str) -> Option<&FileEntry> {
        let place = self.files.binary_search_by(|file| file.path.as_str().cmp(path)).ok()?;
        self.files.get(place)
    }

    /// The file that `path` means: the one at exactly it, or the only one there if upper and lower case do not count.
    /// Firmware and boot managers ask in any case.
    #[must_use]
    pub fn find(&self, path: &str) -> Option<&FileEntry> {
        self.get(path).or_else(|| {
            let mut alike = self.files.iter().filter(|file| file.path.eq_ignore_ascii_case(path));
            alike.next().filter(|_| alike.next().is_none())
        })
    }

    /// The path that is most like `path`, if one is like it at all: for whoever mistyped it.
    #[must_use]
    pub fn nearest(&self, path: &str) -> Option<&str> {
        let likeness =
            |file: &&FileEntry| strsim::jaro_winkler(&file.path.to_lowercase(), &path.to_lowercase());
        let best = self.files.iter().max_by(|a, b| likeness(a).total_cmp(&likeness(b)))?;
        (likeness(&best) > 0.8).then_some(best.path.as_str())
    }

    /// Bytes in all.
    #[must_use]
    pub fn size(&self) -> u64 {
        self.files.iter().map(|file| file.size).sum()
    }

    /// The digest that names the whole set: that of [`Self::listing`]. `None` while a digest is missing.
    #[must_use]
    pub fn hash(&self) -> Option<Sha256> {
        self.files.iter().all(|file| file.sha256.is_some()).then(|| Sha256::of(self.listing().as_bytes()))
    }

    /// One line a file, as `sha256sum --check` reads it, ordered by path. Files without a digest are left out.
    #[must_use]
    pub fn listing(&self) -> String {
        let line = |file: &FileEntry| file.sha256.map(|sha256| format!("{sha256}  {}\n", file.path));
        self.files.iter().filter_map(line).collect()
    }

    /// Whether another set has the same files: by their digests, or by size where one is not known yet.
    #[must_use]
    pub fn same_files(&self, other: &Self) -> bool {
        let same = |(a, b): (&FileEntry, &FileEntry)| {
            let digests = a.sha256.zip(b.sha256).is_none_or(|(a, b)| a == b);
            a.path == b.path && a.size == b.size && digests
        };
        self.files.len() == other.files.len() && self.files.iter().zip(&other.files).all(same)
    }

    /// What lies directly in `folder` (without a closing `/`; empty for the root): names, folders with a closing `/`
    /// and without a size. `None` if there is no such folder.
    #[must_use]
    pub fn folder(&self, folder: &str) -> Option<BTreeMap<String, Option<u64>>> {
        let prefix = if folder.is_empty() { String::new() } else { format!("{folder}/") };
        let from = self.files.partition_point(|file| file.path.as_str() < prefix.as_str());
        let below = self.files[from..].iter().take_while(|file| file.path.starts_with(&prefix));
        let entries: BTreeMap<_, _> = below
            .map(|file| match file.path[prefix.len()..].split_once('/') {
                Some((name, _)) => (format!("{name}/"), None),
                None => (file.path[prefix.len()..].to_owned(), Some(file.size)),
            })
            .collect();
        (!entries.is_empty()).then_some(entries)
    }
}

/// Checks the files of a set: at least one, every path usable and none twice, every content present.
///
/// `has_content` says whether content of that digest and size is in the library.
pub fn check_files(
    faults: &mut Faults,
    files: &[FileEntry],
    has_content: impl Fn(&Sha256, u64) -> bool,
) -> Manifest {
    if files.is_empty() {
        faults.add("files", "no file is given", "Name at least one file.");
    }
    let mut seen = BTreeSet::new();
    for (index, file) in files.iter().enumerate() {
        let place = format!("files[{index}]");
        match ServedPath::parse(&file.path) {
            Ok(path) if path.as_str() == file.path => {}
            Ok(path) => faults.add(
                &place,
                format!("'{}' is not written plainly", file.path),
                format!("Write {path}."),
            ),
            Err(error) => faults.add(
                &place,
                format!("'{}': {error}", file.path),
                "Give a path below the set's own folder.",
            ),
        }
        if !seen.insert(&file.path) {
            faults.add(&place, format!("{} is given twice", file.path), "Give each path once.");
        }
        if !file.sha256.is_some_and(|sha256| has_content(&sha256, file.size)) {
            let digest = file.sha256.map_or_else(|| "without a digest".into(), |sha256| sha256.short());
            faults.add(
                &place,
                format!("the content of {} ({} bytes, {digest}) is not in the library", file.path, file.size),
                "Upload the content first, then name it here.",
            );
        }
    }
    Manifest::new(files.to_vec())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn entry(path: &str) -> FileEntry {
        FileEntry::new(path, 3, Sha256::of(b"abc"))
    }

    #[test]
    fn the_listing_is_what_sha256sum_reads() {
        let manifest = Manifest::new(vec![entry("linux"), entry("initrd.gz")]);
        let digest = "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad";
        assert_eq!(manifest.listing(), format!("{digest}  initrd.gz\n{digest}  linux\n"));
        assert_eq!(manifest.get("linux").unwrap().size, 3);
        assert_eq!(manifest.get("linu"), None);
        // The order of giving does not change what a set is.
        assert_eq!(Manifest::new(vec![entry("initrd.gz"), entry("linux")]).hash(), manifest.hash());
    }

    #[test]
    fn folders_are_listed_one_level_deep() {
        let files = ["dists/main/Release", "dists/Release", "dists-old", "linux"].map(entry).into();
        let manifest = Manifest::new(files);
        let names = |folder: &str| manifest.folder(folder).map(|all| all.into_keys().collect::<Vec<_>>());
        assert_eq!(names("").unwrap(), ["dists-old", "dists/", "linux"]);
        assert_eq!(names("dists").unwrap(), ["Release", "main/"]);
        assert_eq!(names("linux"), None);
        assert_eq!(names("nowhere"), None);
    }

    #[test]
    fn every_bad_file_is_named() {
        let mut faults = Faults::new();
        check_files(&mut faults, &[entry("../x"), entry("/a"), entry("b"), entry("b")], |_, _| true);
        let faults = faults.into_result(|| Some(())).unwrap_err();
        let places: Vec<_> = faults.iter().map(|fault| fault.place.as_str()).collect();
        assert_eq!(places, ["files[0]", "files[1]", "files[3]"]);
    }
}
