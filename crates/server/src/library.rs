//! Content kept by its digest: the same content is stored once, and a half of it is never shown.

use std::{
    collections::HashSet,
    io,
    path::{Path, PathBuf},
    time::Duration,
};

use futures_util::{Stream, StreamExt};
use lastmile_core::{
    Id,
    image::{FileEntry, Sha256},
};
use sha2::Digest;
use thiserror::Error;
use tokio::{fs, io::AsyncWriteExt};

use crate::content::Content;

/// How long uploaded content may wait to be named by an image or a loader.
const UNNAMED: Duration = Duration::from_secs(3600);

/// The folder of content, and of what is on its way in.
#[derive(Debug, Clone)]
pub(crate) struct Library {
    content: PathBuf,
    staging: PathBuf,
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
        let library = Self { content: data_dir.join("content"), staging: data_dir.join("staging") };
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

    /// The size of content, if it is there.
    pub(crate) fn size(&self, sha256: &Sha256) -> Option<u64> {
        std::fs::metadata(self.path(sha256)).ok().map(|found| found.len())
    }

    /// What is served for a file of a set.
    pub(crate) fn content(&self, file: &FileEntry) -> Content {
        Content::Kept { path: self.path(&file.sha256), size: file.size, sha256: file.sha256 }
    }

    /// Takes content in. It is shown only once all of it is on the disk and its digest is right.
    pub(crate) async fn take<B: AsRef<[u8]>, E: std::fmt::Display>(
        &self,
        expected: Sha256,
        mut body: impl Stream<Item = Result<B, E>> + Unpin,
    ) -> Result<u64, TakeError> {
        let staged = self.staging.join(Id::<Self>::generate().to_string());
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
            file.sync_all().await?;
            let path = self.path(&expected);
            if let Some(folder) = path.parent() {
                fs::create_dir_all(folder).await?;
                fs::rename(&staged, &path).await?;
                // The new name itself must survive a power cut.
                fs::File::open(folder).await?.sync_all().await?;
            }
            Ok(size)
        };
        let taken = taking().await;
        if taken.is_err() {
            // It may not have come as far as a file.
            let _ = fs::remove_file(&staged).await;
        }
        taken
    }

    /// Removes all content but `named`. What was uploaded within the last hour may yet be named, and stays.
    pub(crate) async fn sweep(&self, named: &HashSet<Sha256>) -> io::Result<()> {
        let mut folders = fs::read_dir(&self.content).await?;
        while let Some(folder) = folders.next_entry().await? {
            let mut files = fs::read_dir(folder.path()).await?;
            while let Some(file) = files.next_entry().await? {
                let digest = file.file_name().to_str().and_then(|name| name.parse::<Sha256>().ok());
                let young = file.metadata().await?.modified()?.elapsed().is_ok_and(|age| age < UNNAMED);
                if digest.is_some_and(|digest| !named.contains(&digest)) && !young {
                    fs::remove_file(file.path()).await?;
                }
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use futures_util::stream;

    use super::*;

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
        library.sweep(&HashSet::new()).await.unwrap();
        assert!(library.has(&right, 6), "what came just now may yet be named");
        let long_ago = std::time::SystemTime::now() - 2 * UNNAMED;
        let file = std::fs::File::open(library.path(&right)).unwrap();
        file.set_modified(long_ago).unwrap();
        library.sweep(&HashSet::from([right])).await.unwrap();
        assert!(library.has(&right, 6));
        library.sweep(&HashSet::new()).await.unwrap();
        assert_eq!(library.size(&right), None);
    }
}
