//! Files on their way into the library.

use std::path::Path;

use lastmile_api::{ContentView, FileEntry, Sha256};
use reqwest::{Body, Method, StatusCode};
use sha2::Digest;
use tokio::{fs::File, io::AsyncReadExt};
use tokio_util::io::ReaderStream;

use crate::{Client, ClientError};

/// Octets read from a file at once.
const PIECE: usize = 256 * 1024;

/// What is told while a file is read and sent.
pub trait UploadProgress: Send + Sync {
    /// So many more octets of the present step are done.
    fn advance(&self, octets: u64);
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
        let (size, sha256) = digest_file(path, &()).await?;
        let entry = FileEntry { path: name.into(), size, sha256 };
        if self.has_content(&sha256).await? {
            progress.advance(size);
            return Ok(entry);
        }
        let unreadable = |source| ClientError::File { path: path.display().to_string(), source };
        let file = File::open(path).await.map_err(unreadable)?;
        let pieces =
            futures_util::StreamExt::inspect(ReaderStream::with_capacity(file, PIECE), move |piece| {
                progress.advance(piece.as_ref().map_or(0, |piece| piece.len() as u64));
            });
        self.put_content(&sha256, Body::wrap_stream(pieces)).await?;
        Ok(entry)
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
        let entry = FileEntry { path: name.into(), size: bytes.len() as u64, sha256 };
        self.put_content(&sha256, bytes.into()).await?;
        Ok(entry)
    }

    async fn has_content(&self, sha256: &Sha256) -> Result<bool, ClientError> {
        match self.get::<ContentView>(&format!("/content/{sha256}")).await {
            Ok(_) => Ok(true),
            Err(ClientError::Problem(problem)) if problem.status == StatusCode::NOT_FOUND => Ok(false),
            Err(error) => Err(error),
        }
    }

    async fn put_content(&self, sha256: &Sha256, body: Body) -> Result<ContentView, ClientError> {
        self.read(self.request(Method::PUT, &format!("/content/{sha256}")).body(body)).await
    }
}
