//! Files that come in pieces: an upload that broke off goes on where it stopped, also after a restart.

use std::{
    collections::HashMap,
    io::{self, Read},
    path::{Path, PathBuf},
    sync::{Arc, Mutex},
    time::{Duration, SystemTime},
};

use futures_util::{Stream, StreamExt};
use lastmile_api::{Upload, UploadRequest};
use lastmile_core::{
    base::Id,
    model::image::{FileEntry, Sha256},
};
use serde::{Deserialize, Serialize};
use sha2::Digest;
use thiserror::Error;
use tokio::io::AsyncWriteExt;

use super::Library;
use crate::sync::lock;

/// How long an upload may rest before it is cleared.
const RESTS: Duration = Duration::from_secs(7 * 24 * 3600);
/// Bytes read at once where an upload is read again after a restart.
const PIECE: usize = 256 * 1024;

/// What is known of an upload, beside its bytes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct Known {
    id: String,
    request: UploadRequest,
}

/// An upload that goes on: its digest so far.
#[derive(Debug)]
struct Going {
    digest: sha2::Sha256,
    offset: u64,
}

/// Held while a piece is taken; empty until the first piece after a start.
type Slot = Arc<tokio::sync::Mutex<Option<Going>>>;

/// The folder of uploads.
#[derive(Debug, Clone)]
pub(crate) struct Uploads {
    folder: Arc<Path>,
    library: Library,
    going: Arc<Mutex<HashMap<String, Slot>>>,
}

/// Why a piece was not taken.
#[derive(Debug, Error)]
pub(crate) enum UploadError {
    #[error("no upload is called '{0}'")]
    Unknown(String),
    #[error("the next piece begins at byte {expected}, not at {given}")]
    Offset { expected: u64, given: u64 },
    #[error("the upload has {size} bytes, and more came")]
    TooLong { size: u64 },
    #[error("the upload broke off: {0}")]
    Broken(String),
    #[error("the upload cannot be kept: {0}")]
    Disk(#[from] io::Error),
}

impl Uploads {
    pub(crate) fn open(data_dir: &Path, library: Library) -> io::Result<Self> {
        let folder: Arc<Path> = data_dir.join("uploads").into();
        std::fs::create_dir_all(&folder)?;
        let uploads = Self { folder, library, going: Arc::default() };
        for entry in std::fs::read_dir(&uploads.folder)? {
            let entry = entry?;
            let age = entry.metadata()?.modified()?;
            if SystemTime::now().duration_since(age).is_ok_and(|age| age > RESTS) {
                std::fs::remove_file(entry.path())?;
            }
        }
        Ok(uploads)
    }

    fn octets(&self, id: &str) -> PathBuf {
        self.folder.join(format!("{id}.part"))
    }

    fn card(&self, id: &str) -> PathBuf {
        self.folder.join(format!("{id}.json"))
    }

    fn known(&self, id: &str) -> Result<Known, UploadError> {
        let unknown = || UploadError::Unknown(id.into());
        // What is no identity is no file's name either.
        id.parse::<Id<Self>>().map_err(|_| unknown())?;
        let card = std::fs::read(self.card(id)).map_err(|_| unknown())?;
        serde_json::from_slice(&card).map_err(|_| unknown())
    }

    /// Begins an upload, or finds the one of the same file that broke off.
    pub(crate) fn begin(&self, request: UploadRequest) -> Result<Upload, UploadError> {
        for entry in std::fs::read_dir(&self.folder)? {
            let path = entry?.path();
            let card = path.extension().is_some_and(|kind| kind == "json").then(|| std::fs::read(&path));
            let known = card.and_then(|card| serde_json::from_slice::<Known>(&card.ok()?).ok());
            // Without a time nothing says that it is the same file.
            if let Some(known) = known.filter(|known| known.request == request && request.modified.is_some())
            {
                match self.read(&known.id) {
                    Ok(upload) => return Ok(upload),
                    // All of it was taken in, and the service ended before its card was removed.
                    Err(_) => std::fs::remove_file(&path)?,
                }
            }
        }
        let known = Known { id: Id::<Self>::generate().to_string(), request };
        std::fs::write(self.octets(&known.id), [])?;
        std::fs::write(self.card(&known.id), serde_json::to_vec(&known).map_err(io::Error::other)?)?;
        self.read(&known.id)
    }

    /// How far an upload is.
    pub(crate) fn read(&self, id: &str) -> Result<Upload, UploadError> {
        let known = self.known(id)?;
        let offset = std::fs::metadata(self.octets(id))?.len();
        Ok(Upload { id: known.id, name: known.request.name, size: known.request.size, offset, file: None })
    }

    /// Calls an upload off.
    pub(crate) fn remove(&self, id: &str) -> Result<(), UploadError> {
        self.known(id)?;
        lock(&self.going).remove(id);
        std::fs::remove_file(self.octets(id))?;
        std::fs::remove_file(self.card(id))?;
        Ok(())
    }

    /// Takes the piece that begins at `offset`. What came before a break stays. With the last byte the file is in the
    /// library.
    pub(crate) async fn append<B: AsRef<[u8]>, E: std::fmt::Display>(
        &self,
        id: &str,
        offset: u64,
        mut body: impl Stream<Item = Result<B, E>> + Unpin,
    ) -> Result<Upload, UploadError> {
        let known = self.known(id)?;
        let slot = lock(&self.going).entry(id.to_owned()).or_default().clone();
        // Two pieces of one upload at the same time wait for each other; the second then begins at the wrong place.
        let mut slot = slot.lock().await;
        if slot.is_none() {
            let path = self.octets(id);
            let read =
                tokio::task::spawn_blocking(move || read_again(&path)).await.map_err(io::Error::other)?;
            *slot = Some(read?);
        }
        let Some(going) = slot.as_mut() else { return Err(UploadError::Unknown(id.into())) };
        if offset != going.offset {
            return Err(UploadError::Offset { expected: going.offset, given: offset });
        }
        let mut file = tokio::fs::OpenOptions::new().append(true).open(self.octets(id)).await?;
        let mut broken = None;
        while let Some(piece) = body.next().await {
            let piece = match piece {
                Ok(piece) => piece,
                Err(error) => {
                    broken = Some(UploadError::Broken(error.to_string()));
                    break;
                }
            };
            let piece = piece.as_ref();
            if going.offset + piece.len() as u64 > known.request.size {
                broken = Some(UploadError::TooLong { size: known.request.size });
                break;
            }
            if let Err(error) = file.write_all(piece).await {
                // How much of it was written is not known: it is read again from the disk.
                *slot = None;
                return Err(error.into());
            }
            going.digest.update(piece);
            going.offset += piece.len() as u64;
        }
        file.flush().await?;
        if let Some(broken) = broken {
            return Err(broken);
        }
        let mut upload = self.read(id)?;
        if going.offset == known.request.size {
            let sha256 = Sha256::new(going.digest.clone().finalize().into());
            let (library, bytes) = (self.library.clone(), self.octets(id));
            let finished = tokio::task::spawn_blocking(move || library.put_in_place(&bytes, &sha256));
            finished.await.map_err(io::Error::other)??;
            // A card without bytes is cleared at some later start.
            let _ = std::fs::remove_file(self.card(id));
            lock(&self.going).remove(id);
            upload.offset = known.request.size;
            upload.file = Some(FileEntry::new(known.request.name, known.request.size, sha256));
        }
        Ok(upload)
    }
}

fn read_again(path: &std::path::Path) -> io::Result<Going> {
    let mut file = std::fs::File::open(path)?;
    let mut going = Going { digest: sha2::Sha256::new(), offset: 0 };
    let mut buffer = vec![0; PIECE];
    loop {
        let read = file.read(&mut buffer)?;
        if read == 0 {
            return Ok(going);
        }
        going.digest.update(&buffer[..read]);
        going.offset += read as u64;
    }
}

#[cfg(test)]
mod tests {
    use futures_util::stream;

    use super::*;

    #[tokio::test]
    async fn what_broke_off_goes_on_also_after_a_restart() {
        let folder = tempfile::tempdir().unwrap();
        let library = Library::open(folder.path()).unwrap();
        let uploads = Uploads::open(folder.path(), library.clone()).unwrap();
        let request = UploadRequest { name: "tidewrack.iso".into(), size: 9, modified: Some("then".into()) };
        let begun = uploads.begin(request.clone()).unwrap();
        let pieces =
            |pieces: &'static [Result<&'static [u8], &'static str>]| stream::iter(pieces.iter().cloned());
        let broken = uploads.append(&begun.id, 0, pieces(&[Ok(b"abc"), Err("gone")])).await;
        assert!(matches!(broken, Err(UploadError::Broken(_))), "{broken:?}");
        let wrong = uploads.append(&begun.id, 0, pieces(&[Ok(b"abc")])).await;
        assert!(matches!(wrong, Err(UploadError::Offset { expected: 3, given: 0 })), "{wrong:?}");
        drop(uploads);
        let uploads = Uploads::open(folder.path(), library.clone()).unwrap();
        let again = uploads.begin(request).unwrap();
        assert_eq!((again.id.as_str(), again.offset), (begun.id.as_str(), 3));
        let done = uploads.append(&begun.id, 3, pieces(&[Ok(b"def"), Ok(b"ghi")])).await.unwrap();
        let file = done.file.unwrap();
        assert_eq!(file.sha256, Some(Sha256::of(b"abcdefghi")));
        assert!(library.has(&Sha256::of(b"abcdefghi"), 9));
        assert!(matches!(uploads.read(&begun.id), Err(UploadError::Unknown(_))));
        assert!(matches!(uploads.read("../../etc/passwd"), Err(UploadError::Unknown(_))));
        // The service ended between taking the last piece in and forgetting the upload.
        let request = UploadRequest { name: "y".into(), size: 3, modified: Some("then".into()) };
        let left = uploads.begin(request.clone()).unwrap();
        std::fs::remove_file(uploads.octets(&left.id)).unwrap();
        let fresh = uploads.begin(request).unwrap();
        assert!(fresh.id != left.id && fresh.offset == 0);
        let other = UploadRequest { name: "x".into(), size: 2, modified: None };
        let other = uploads.begin(other).unwrap();
        let long = uploads.append(&other.id, 0, pieces(&[Ok(b"abc")])).await;
        assert!(matches!(long, Err(UploadError::TooLong { size: 2 })), "{long:?}");
    }
}
