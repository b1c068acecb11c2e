//! Content kept by its digest: the same content is stored once, and a half of it is never shown.

use std::{
    collections::HashSet,
    io,
    path::{Path, PathBuf},
    sync::{Arc, Mutex},
    time::{Duration, SystemTime},
};

use futures_util::{Stream, StreamExt};
use lastmile_core::{
    base::Id,
    decide::image::FileSet,
    model::image::{FileEntry, Revision, Sha256, Volume, VolumePlace},
};
use lastmile_formats::read_at::{Extent, ReadAt};
use sha2::Digest;
use thiserror::Error;
use tokio::{fs, io::AsyncWriteExt};

use super::content::{Content, OnDisk};
use crate::sync::lock;

/// How long uploaded content may wait to be named by an image or a loader.
const UNNAMED: Duration = Duration::from_secs(3600);

/// The folder of content, and of what is on its way in.
#[derive(Debug, Clone)]
pub(crate) struct Library {
    content: Arc<Path>,
    staging: Arc<Path>,
    /// Taken for each file that is promised to somebody, and for each that is removed: never both at once.
    promises: Arc<Mutex<()>>,
}

/// Content that was there, and stays for an hour at least, so that it can be named meanwhile.
#[derive(Debug, Default)]
pub(crate) struct Promised(HashSet<(Sha256, u64)>);

impl Promised {
    /// Whether content of that digest and size is among it.
    pub(crate) fn has(&self, sha256: &Sha256, size: u64) -> bool {
        self.0.contains(&(*sha256, size))
    }
}

/// Why content was not taken in.
#[derive(Debug, Error)]
pub(crate) enum TakeError {
    #[error("the content has digest {found}, not {expected} as its address says")]
    Digest { expected: Sha256, found: Sha256 },
    #[error("the upload broke off: {0}")]
    Broken(String),
    #[error("the content cannot be kept: {0}")]
    Disk(#[from] io::Error),
}

impl Library {
    /// The folder that content is kept in.
    pub(crate) fn folder(&self) -> &Path {
        &self.content
    }

    /// Opens the library below `data_dir` and clears what an earlier run left half done.
    pub(crate) fn open(data_dir: &Path) -> io::Result<Self> {
        let library = Self {
            content: data_dir.join("content").into(),
            staging: data_dir.join("staging").into(),
            promises: Arc::default(),
        };
        std::fs::create_dir_all(&library.content)?;
        if library.staging.exists() {
            std::fs::remove_dir_all(&library.staging)?;
        }
        std::fs::create_dir_all(&library.staging)?;
        Ok(library)
    }

    fn path(&self, sha256: &Sha256) -> PathBuf {
        let name = sha256.to_string();
        self.content.join(&name[..2]).join(name)
    }

    /// Whether content of that digest and size is there.
    pub(crate) fn has(&self, sha256: &Sha256, size: u64) -> bool {
        self.size(sha256) == Some(size)
    }

    /// What of these files is there. It is young again, so that nothing removes it before it is named. For a thread that may
    /// wait.
    pub(crate) fn promise<'a>(&self, files: impl IntoIterator<Item = &'a FileEntry>) -> Promised {
        let renewed = |file: &FileEntry| -> Option<(Sha256, u64)> {
            let sha256 = file.sha256?;
            let _alone = lock(&self.promises);
            let opened = std::fs::File::open(self.path(&sha256)).ok()?;
            let metadata = opened.metadata().ok()?;
            if is_older(&metadata, UNNAMED / 2) {
                opened.set_modified(SystemTime::now()).ok()?;
            }
            Some((sha256, metadata.len()))
        };
        Promised(files.into_iter().filter_map(renewed).collect())
    }

    /// The size of content, if it is there.
    pub(crate) fn size(&self, sha256: &Sha256) -> Option<u64> {
        std::fs::metadata(self.path(sha256)).ok().map(|found| found.len())
    }

    /// What is served for a file of a set; `None` for one without a digest, which the library does not have.
    pub(crate) fn content(&self, file: &FileEntry) -> Option<Content> {
        let sha256 = file.sha256?;
        Some(Content::Kept { path: self.path(&sha256), size: file.size, sha256 })
    }

    /// What is served for a file of a revision.
    pub(crate) fn content_of(&self, revision: &Revision, file: &FileEntry) -> Option<Content> {
        let Some(volume) = &revision.volume else { return self.content(file) };
        Some(Content::Inside {
            volume: self.volume(volume),
            extents: volume.extents(&file.path)?.into(),
            size: file.size,
            sha256: file.sha256,
            // Nothing in a revision changes: its identity and the path say which content it is.
            tag: Sha256::of(format!("{} {}", revision.id, file.path).as_bytes()).to_string(),
        })
    }

    /// The ISO that a revision's files lie in, whole.
    pub(crate) fn whole(&self, revision: &Revision) -> Option<Content> {
        let volume = revision.volume.as_ref()?;
        Some(Content::Inside {
            volume: self.volume(volume),
            extents: [Extent { offset: 0, length: volume.size }].into(),
            size: volume.size,
            sha256: volume.sha256,
            tag: Sha256::of(revision.id.to_string().as_bytes()).to_string(),
        })
    }

    /// Where an ISO lies on the disk.
    pub(crate) fn volume(&self, volume: &Volume) -> OnDisk {
        match volume.place() {
            VolumePlace::Kept { sha256 } => {
                OnDisk { path: self.path(sha256), size: volume.size, modified_ns: None }
            }
            VolumePlace::InPlace { path, modified_ns } => {
                OnDisk { path: path.into(), size: volume.size, modified_ns: Some(*modified_ns) }
            }
        }
    }

    /// Opens content for looking into it.
    pub(crate) fn look_into(&self, sha256: &Sha256) -> io::Result<Opened> {
        Opened::new(std::fs::File::open(self.path(sha256))?)
    }

    /// What of a revision is missing or changed, as far as sizes and times tell: without reading it.
    pub(crate) fn missing(&self, revision: &Revision) -> Vec<String> {
        if let Some(volume) = &revision.volume {
            let opened = self.volume(volume).open();
            return opened.err().map(|error| format!("the ISO ({error})")).into_iter().collect();
        }
        let there = |file: &&FileEntry| file.sha256.is_some_and(|sha256| self.has(&sha256, file.size));
        let files = revision.manifest.files().iter();
        files.filter(|file| !there(file)).map(|file| file.path.clone()).collect()
    }

    /// Where something is written that is not whole yet. What is left of it is cleared at the next start.
    pub(crate) fn staged(&self) -> PathBuf {
        self.staging.join(Id::<Self>::generate().to_string())
    }

    /// Takes in a file that was written to a place in [`Self::staged`] and whose digest is known.
    pub(crate) fn put_in_place(&self, staged: &Path, sha256: &Sha256) -> io::Result<()> {
        std::fs::File::open(staged)?.sync_all()?;
        let path = self.path(sha256);
        let Some(folder) = path.parent() else { return Ok(()) };
        std::fs::create_dir_all(folder)?;
        std::fs::rename(staged, &path)?;
        // The new name itself must survive a power cut.
        std::fs::File::open(folder)?.sync_all()
    }

    /// Copies content, of the size of a loader, into the library under a name that it gets there. For a thread that may wait.
    pub(crate) fn take_content(&self, name: &str, from: &dyn ReadAt) -> io::Result<FileEntry> {
        let mut bytes = vec![0; usize::try_from(from.size()).map_err(io::Error::other)?];
        from.read_at(0, &mut bytes)?;
        let sha256 = Sha256::of(&bytes);
        let staged = self.staged();
        std::fs::write(&staged, &bytes)?;
        self.put_in_place(&staged, &sha256)?;
        Ok(FileEntry::new(name, bytes.len() as u64, sha256))
    }

    /// Takes content in. It is shown only once all of it is on the disk and its digest is right.
    pub(crate) async fn take<B: AsRef<[u8]>, E: std::fmt::Display>(
        &self,
        expected: Sha256,
        mut body: impl Stream<Item = Result<B, E>> + Unpin,
    ) -> Result<u64, TakeError> {
        let staged = self.staged();
        let mut taking = async || -> Result<u64, TakeError> {
            let mut file = fs::File::create(&staged).await?;
            let mut digest = sha2::Sha256::new();
            let mut size = 0;
            while let Some(piece) = body.next().await {
                let piece = piece.map_err(|error| TakeError::Broken(error.to_string()))?;
                digest.update(piece.as_ref());
                size += piece.as_ref().len() as u64;
                file.write_all(piece.as_ref()).await?;
            }
            let found = Sha256::new(digest.finalize().into());
            if found != expected {
                return Err(TakeError::Digest { expected, found });
            }
            file.flush().await?;
            let (library, staged) = (self.clone(), staged.clone());
            let placed = tokio::task::spawn_blocking(move || library.put_in_place(&staged, &expected));
            placed.await.map_err(io::Error::other)??;
            Ok(size)
        };
        let taken = taking().await;
        if taken.is_err() {
            // It may not have come as far as a file.
            let _ = fs::remove_file(&staged).await;
        }
        taken
    }

    /// Removes all content but `named`. What was uploaded or promised within the last hour may yet be named, and stays. For a
    /// thread that may wait.
    pub(crate) fn sweep(&self, named: &HashSet<Sha256>) -> io::Result<()> {
        for folder in std::fs::read_dir(&self.content)? {
            for file in std::fs::read_dir(folder?.path())? {
                let file = file?;
                let digest = file.file_name().to_str().and_then(|name| name.parse::<Sha256>().ok());
                if digest.is_none_or(|digest| named.contains(&digest)) {
                    continue;
                }
                let _alone = lock(&self.promises);
                if is_older(&file.metadata()?, UNNAMED) {
                    std::fs::remove_file(file.path())?;
                }
            }
        }
        Ok(())
    }
}

/// Whether a file was changed longer ago than that. One that is from the future was not.
fn is_older(metadata: &std::fs::Metadata, age: Duration) -> bool {
    metadata.modified().is_ok_and(|modified| modified.elapsed().is_ok_and(|elapsed| elapsed >= age))
}

/// A file that is looked into.
#[derive(Debug)]
pub(crate) struct Opened {
    file: std::fs::File,
    size: u64,
}

impl Opened {
    pub(crate) fn new(file: std::fs::File) -> io::Result<Self> {
        Ok(Self { size: file.metadata()?.len(), file })
    }
}

impl ReadAt for Opened {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()> {
        std::os::unix::fs::FileExt::read_exact_at(&self.file, buffer, offset)
    }
}

/// Files of the library under the paths that a draft gives them.
pub(crate) struct Shelf<'a> {
    library: &'a Library,
    entries: &'a [FileEntry],
    names: Vec<(String, u64)>,
}

impl<'a> Shelf<'a> {
    pub(crate) fn new(library: &'a Library, entries: &'a [FileEntry]) -> Self {
        Self { library, entries, names: entries.iter().map(|file| (file.path.clone(), file.size)).collect() }
    }
}

impl FileSet for Shelf<'_> {
    fn files(&self) -> &[(String, u64)] {
        &self.names
    }

    fn open(&self, path: &str) -> io::Result<Box<dyn ReadAt + '_>> {
        let entry = self.entries.iter().find(|file| file.path == path).ok_or(io::ErrorKind::NotFound)?;
        Ok(Box::new(self.library.look_into(&entry.sha256.ok_or(io::ErrorKind::NotFound)?)?))
    }
}

#[cfg(test)]
mod tests {
    use futures_util::stream;

    use super::*;

    fn wrong_digest() -> Sha256 {
        Sha256::of(b"what is not there")
    }

    type Piece = Result<&'static [u8], String>;

    #[tokio::test]
    async fn only_whole_and_right_content_is_kept() {
        let folder = tempfile::tempdir().unwrap();
        let library = Library::open(folder.path()).unwrap();
        let right = Sha256::of(b"abcdef");
        let pieces = |pieces: Vec<Piece>| stream::iter(pieces);
        let broken = library.take(right, pieces(vec![Ok(b"abc"), Err("gone".into())])).await;
        assert!(matches!(broken, Err(TakeError::Broken(_))));
        let wrong = library.take(right, pieces(vec![Ok(b"abcdeX")])).await;
        assert!(matches!(wrong, Err(TakeError::Digest { .. })));
        assert_eq!(library.size(&right), None);
        assert_eq!(library.take(right, pieces(vec![Ok(b"abc"), Ok(b"def")])).await.unwrap(), 6);
        assert!(library.has(&right, 6) && !library.has(&right, 5));
        assert_eq!(std::fs::read_dir(&library.staging).unwrap().count(), 0);
        library.sweep(&HashSet::new()).unwrap();
        assert!(library.has(&right, 6), "what came just now may yet be named");
        let age = || {
            let file = std::fs::File::open(library.path(&right)).unwrap();
            file.set_modified(SystemTime::now() - 2 * UNNAMED).unwrap();
        };
        age();
        library.sweep(&HashSet::from([right])).unwrap();
        assert!(library.has(&right, 6));
        let [file, other] = [right, wrong_digest()].map(|sha256| FileEntry::new("file", 6, sha256));
        let promised = library.promise([&file, &other]);
        assert!(promised.has(&right, 6) && !promised.has(&right, 5) && !promised.has(&wrong_digest(), 6));
        library.sweep(&HashSet::new()).unwrap();
        assert!(library.has(&right, 6), "somebody is about to name it");
        age();
        library.sweep(&HashSet::new()).unwrap();
        assert_eq!(library.size(&right), None);
    }
}
