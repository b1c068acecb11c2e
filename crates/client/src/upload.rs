//! Files on their way into the library.

use std::{
    io::SeekFrom,
    path::Path,
    time::{Duration, UNIX_EPOCH},
};

use lastmile_api::{ContentView, FileEntry, Sha256, Upload, UploadRequest};
use reqwest::{Body, Method, StatusCode};
use sha2::Digest;
use tokio::{
    fs::File,
    io::{AsyncReadExt, AsyncSeekExt},
};
use tokio_util::io::ReaderStream;

use crate::{Client, ClientError, part};

/// Bytes from which on a file is sent in pieces, and of one piece.
const LARGE: u64 = 32 * 1024 * 1024;
/// How often in a row a piece is tried again, and after how long the first time.
const MOST_TRIES: u32 = 5;
const AGAIN_AFTER: Duration = Duration::from_millis(500);
/// Bytes read from a file at once.
const PIECE: usize = 256 * 1024;

/// What is told while a file is read and sent.
pub trait UploadProgress: Send + Sync {
    /// So many more bytes of the present step are done.
    fn advance(&self, bytes: u64);
}

impl UploadProgress for () {
    fn advance(&self, _: u64) {}
}

/// The size and digest of a file.
///
/// # Errors
/// [`ClientError::File`].
pub async fn digest_file(path: &Path, progress: &impl UploadProgress) -> Result<(u64, Sha256), ClientError> {
    let unreadable = |source| ClientError::File { path: path.display().to_string(), source };
    let mut file = File::open(path).await.map_err(unreadable)?;
    let mut digest = sha2::Sha256::new();
    let mut buffer = vec![0; PIECE];
    let mut size = 0;
    loop {
        let read = file.read(&mut buffer).await.map_err(unreadable)?;
        if read == 0 {
            return Ok((size, Sha256::new(digest.finalize().into())));
        }
        digest.update(&buffer[..read]);
        size += read as u64;
        progress.advance(read as u64);
    }
}

impl Client {
    /// Sees to it that a file's content is in the library, sending it only if it is not there. `name` is the
    /// path it has within its image or loader.
    ///
    /// # Errors
    /// That the file cannot be read, or what the service said.
    pub async fn upload(
        &self,
        name: &str,
        path: &Path,
        progress: impl UploadProgress + 'static,
    ) -> Result<FileEntry, ClientError> {
        let unreadable = |source| ClientError::File { path: path.display().to_string(), source };
        let metadata = tokio::fs::metadata(path).await.map_err(unreadable)?;
        if metadata.len() > LARGE {
            return self.upload_in_pieces(name, path, &metadata, &progress).await;
        }
        let (size, sha256) = digest_file(path, &()).await?;
        let entry = FileEntry::new(name, size, sha256);
        if self.has_content(&sha256).await? {
            progress.advance(size);
            return Ok(entry);
        }
        let file = File::open(path).await.map_err(unreadable)?;
        let pieces =
            futures_util::StreamExt::inspect(ReaderStream::with_capacity(file, PIECE), move |piece| {
                progress.advance(piece.as_ref().map_or(0, |piece| piece.len() as u64));
            });
        self.put_content(&sha256, Body::wrap_stream(pieces)).await?;
        Ok(entry)
    }

    /// Sends a large file piece by piece: read once, and after a break gone on with where it stopped.
    async fn upload_in_pieces(
        &self,
        name: &str,
        path: &Path,
        metadata: &std::fs::Metadata,
        progress: &impl UploadProgress,
    ) -> Result<FileEntry, ClientError> {
        let unreadable = |source| ClientError::File { path: path.display().to_string(), source };
        let modified = metadata.modified().ok().and_then(|at| at.duration_since(UNIX_EPOCH).ok());
        let request = UploadRequest {
            name: name.into(),
            size: metadata.len(),
            modified: modified.map(|at| format!("{}.{:09}", at.as_secs(), at.subsec_nanos())),
        };
        let mut upload = self.uploads_begin(&request).await?;
        let mut file = File::open(path).await.map_err(unreadable)?;
        progress.advance(upload.offset);
        let mut tries = 0;
        loop {
            if let Some(entry) = upload.file {
                return Ok(entry);
            }
            file.seek(SeekFrom::Start(upload.offset)).await.map_err(unreadable)?;
            let mut piece = Vec::with_capacity(LARGE as usize);
            (&mut file).take(LARGE).read_to_end(&mut piece).await.map_err(unreadable)?;
            let length = piece.len() as u64;
            let address = format!("/uploads/{}", part(&upload.id));
            let request =
                self.request(Method::PATCH, &address).header("upload-offset", upload.offset).body(piece);
            match self.read::<Upload>(request).await {
                Ok(after) => {
                    progress.advance(length);
                    (upload, tries) = (after, 0);
                }
                // The connection broke: what came through is there, and the service says how much that is.
                Err(ClientError::Unreachable { .. }) if tries < MOST_TRIES => {
                    tries += 1;
                    tokio::time::sleep(AGAIN_AFTER * tries).await;
                    if let Ok(known) = self.uploads_read(&upload.id).await {
                        upload = known;
                    }
                }
                Err(error) => return Err(error),
            }
        }
    }

    /// Puts content from memory into the library.
    ///
    /// # Errors
    /// What the service said.
    pub async fn upload_bytes(
        &self,
        name: &str,
        bytes: impl Into<bytes::Bytes>,
    ) -> Result<FileEntry, ClientError> {
        let bytes = bytes.into();
        let sha256 = Sha256::of(&bytes);
        let entry = FileEntry::new(name, bytes.len() as u64, sha256);
        self.put_content(&sha256, bytes.into()).await?;
        Ok(entry)
    }

    async fn has_content(&self, sha256: &Sha256) -> Result<bool, ClientError> {
        match self.content_find(&sha256.to_string()).await {
            Ok(_) => Ok(true),
            Err(ClientError::Problem(problem)) if problem.status == StatusCode::NOT_FOUND => Ok(false),
            Err(error) => Err(error),
        }
    }

    async fn put_content(&self, sha256: &Sha256, body: Body) -> Result<ContentView, ClientError> {
        self.read(self.request(Method::PUT, &format!("/content/{sha256}")).body(body)).await
    }
}
