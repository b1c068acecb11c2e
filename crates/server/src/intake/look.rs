//! Looking into what came: an ISO, an archive, or files as they are.

use std::{io, path::Path};

use lastmile_api::RevisionDraft;
use lastmile_core::{
    base::Fault,
    decide::image::{FileSet, Said, recognise},
    model::image::{FileEntry, Found, Holding, Recognition, Sha256, Volume, VolumePlace},
};
use lastmile_formats::{
    iso9660::{BootImage, BootPlatform, Iso, IsoError},
    read_at::{Pieces, ReadAt},
};
use thiserror::Error;

use super::archive;
use crate::{
    library::{Library, Opened, Shelf, modified_ns},
    work::WorkBook,
};

/// Why nothing could be looked into.
#[derive(Debug, Error)]
pub(crate) enum LookError {
    #[error("neither files nor an ISO in place are given")]
    Nothing,
    #[error("files and an ISO in place are given; one of them is meant")]
    Both,
    #[error("'{0}' is no absolute path")]
    Relative(String),
    #[error("{path}: {source}")]
    Unreadable { path: String, source: io::Error },
    #[error("{path}: {source}")]
    Iso { path: String, source: IsoError },
    #[error("the content of {path} is not in the library")]
    Missing { path: String },
    #[error("{path} has digest {found}, not {expected} as its publisher gives it")]
    Digest { path: String, expected: Sha256, found: Sha256 },
    #[error("a digest is given, but it is of one file, and several are given")]
    DigestOfSeveral,
}

/// Looks into what a draft holds. Archives are unpacked into the library, which `work` tells of. For a thread that may
/// wait for the disk.
pub(crate) fn look(
    library: &Library,
    work: &std::sync::Arc<WorkBook>,
    draft: &RevisionDraft,
) -> Result<Holding, LookError> {
    match (&draft.in_place, draft.files.as_slice()) {
        (Some(_), [_, ..]) => Err(LookError::Both),
        (None, []) => Err(LookError::Nothing),
        (Some(path), []) => in_place(path, draft),
        (None, [only]) => single(library, work, only, draft),
        (None, _) if draft.sha256.is_some() => Err(LookError::DigestOfSeveral),
        (None, files) => Ok(plain(library, files.to_vec(), draft)),
    }
}

fn said(draft: &RevisionDraft) -> Said<'_> {
    Said {
        kernel: draft.kernel.as_deref(),
        initrds: draft.initrds.as_deref(),
        program: draft.program.as_deref(),
        disk: draft.disk.as_deref(),
    }
}

fn plain(library: &Library, files: Vec<FileEntry>, draft: &RevisionDraft) -> Holding {
    let recognised = recognise(&Shelf::new(library, &files), said(draft));
    Holding { files, volume: None, recognised }
}

fn in_place(path: &str, draft: &RevisionDraft) -> Result<Holding, LookError> {
    if !Path::new(path).is_absolute() {
        return Err(LookError::Relative(path.into()));
    }
    let unreadable = |source| LookError::Unreadable { path: path.into(), source };
    let file = std::fs::File::open(path).map_err(unreadable)?;
    let metadata = file.metadata().map_err(unreadable)?;
    if !metadata.is_file() {
        return Err(unreadable(io::Error::other("this is no file")));
    }
    let place = VolumePlace::InPlace { path: path.into(), modified_ns: modified_ns(&metadata) };
    let opened = Opened::new(file).map_err(unreadable)?;
    volume(path, &opened, place, draft.sha256, draft)
}

/// A single file may be a whole volume or archive.
fn single(
    library: &Library,
    work: &std::sync::Arc<WorkBook>,
    file: &FileEntry,
    draft: &RevisionDraft,
) -> Result<Holding, LookError> {
    let missing = || LookError::Missing { path: file.path.clone() };
    let sha256 = file.sha256.ok_or_else(missing)?;
    if let Some(expected) = draft.sha256.filter(|expected| *expected != sha256) {
        return Err(LookError::Digest { path: file.path.clone(), expected, found: sha256 });
    }
    let source = library.look_into(&sha256).map_err(|_| missing())?;
    // By hand it may be said that the file itself is what is started or written.
    let said = [&draft.kernel, &draft.program, &draft.disk];
    if said.into_iter().flatten().any(|path| *path == file.path) {
        return Ok(plain(library, vec![file.clone()], draft));
    }
    match volume(&file.path, &source, VolumePlace::Kept { sha256 }, Some(sha256), draft) {
        Err(LookError::Iso { source: IsoError::NotIso, .. }) => {}
        other => return other,
    }
    if archive::is_archive(&source) {
        let mut progress = work.begin(format!("unpack {}", file.path), source.size());
        let unpacked = archive::unpack(library, &source, &mut progress);
        progress.end(unpacked.as_ref().err().map(ToString::to_string).unwrap_or_default());
        let files = unpacked.map_err(|source| LookError::Unreadable { path: file.path.clone(), source })?;
        return Ok(plain(library, files, draft));
    }
    Ok(plain(library, vec![file.clone()], draft))
}

fn volume(
    path: &str,
    source: &Opened,
    place: VolumePlace,
    sha256: Option<Sha256>,
    draft: &RevisionDraft,
) -> Result<Holding, LookError> {
    let iso = Iso::read(source).map_err(|source| LookError::Iso { path: path.into(), source })?;
    let mut recognised = recognise(&Inside::new(source, &iso), said(draft));
    describe(&mut recognised, &iso);
    let volume = Volume::new(place, source.size(), sha256, iso);
    Ok(Holding { files: volume.files(), volume: Some(volume), recognised })
}

/// What the volume itself says.
fn describe(recognised: &mut Recognition, iso: &Iso) {
    if !iso.label.is_empty() {
        recognised.label = Some(Found::new(iso.label.clone(), "volume descriptor".into()));
    }
    recognised.notes.push(format!("{} files, names by {}", iso.files.len(), iso.names));
    let starts = [&recognised.kernel, &recognised.program, &recognised.disk];
    let for_bios = |image: &BootImage| image.platform == BootPlatform::Bios;
    if starts.iter().all(|start| start.is_none())
        && iso.boot_images.iter().all(for_bios)
        && !iso.boot_images.is_empty()
    {
        recognised.notes.push(
            "its only boot program is one that BIOS starts from a disc: no loader can start it over the network".into(),
        );
    }
    recognised.notes.extend(iso.notes.iter().cloned());
    recognised.faults.splice(0..0, iso.defects.iter().cloned().map(Fault::from));
}

/// The files of a volume.
struct Inside<'a> {
    source: &'a Opened,
    iso: &'a Iso,
    names: Vec<(String, u64)>,
}

impl<'a> Inside<'a> {
    fn new(source: &'a Opened, iso: &'a Iso) -> Self {
        Self { source, iso, names: iso.files.iter().map(|file| (file.path.clone(), file.size())).collect() }
    }
}

impl FileSet for Inside<'_> {
    fn files(&self) -> &[(String, u64)] {
        &self.names
    }

    fn open(&self, path: &str) -> io::Result<Box<dyn ReadAt + '_>> {
        let file = self.iso.get(path).ok_or(io::ErrorKind::NotFound)?;
        Ok(Box::new(Pieces::new(self.source, &file.extents)))
    }
}
