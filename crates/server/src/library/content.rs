//! One type answers "bytes a..b of this file", for TFTP and HTTP alike.

use std::{
    fs::File,
    io,
    os::unix::fs::FileExt,
    path::PathBuf,
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    },
};

use bytes::Bytes;
use lastmile_core::model::image::Sha256;
use lastmile_formats::read_at::{Extent, read_pieces};

/// Bytes that all readers together keep in memory, about. A few readers have much each, so that the hand-over to a
/// blocking thread does not count; a hall that boots at once has little each, so that the service stays small.
const BUDGET: usize = 12 * 1024 * 1024;
/// Bytes that one reader keeps at least and at most.
const LEAST_AHEAD: usize = 8 * 1024;
const MOST_AHEAD: usize = 512 * 1024;
/// Readers that are open.
static READERS: AtomicUsize = AtomicUsize::new(0);

/// Something that can be served.
#[derive(Debug, Clone)]
pub(crate) enum Content {
    /// Made for the one who asked.
    Made(Bytes),
    /// A file of the library.
    Kept {
        /// Where.
        path: PathBuf,
        /// Its size when it was taken in.
        size: u64,
        /// Its digest when it was taken in.
        sha256: Sha256,
    },
    /// A file inside an ISO.
    Inside {
        /// The ISO.
        volume: OnDisk,
        /// Where in it, in order.
        extents: Arc<[Extent]>,
        /// Bytes of the file.
        size: u64,
        /// Its digest, once it was read.
        sha256: Option<Sha256>,
        /// What names this content until then.
        tag: String,
    },
}

/// A file on the disk as it was when it was looked into.
#[derive(Debug, Clone)]
pub(crate) struct OnDisk {
    pub(crate) path: PathBuf,
    pub(crate) size: u64,
    /// When it was modified, in nanoseconds since 1970, where somebody else may modify it.
    pub(crate) modified_ns: Option<i64>,
}

impl OnDisk {
    /// Opens it, unless it is another by now.
    pub(crate) fn open(&self) -> io::Result<File> {
        let file = File::open(&self.path)?;
        let found = file.metadata()?;
        let path = self.path.display();
        if found.len() != self.size {
            let (now, then) = (found.len(), self.size);
            return Err(io::Error::other(format!("{path} has {now} bytes, not {then}: it was changed")));
        }
        if self.modified_ns.is_some_and(|then| then != modified_ns(&found)) {
            return Err(io::Error::other(format!(
                "{path} was modified since it was looked into: it was changed"
            )));
        }
        Ok(file)
    }
}

/// When a file was last modified, in nanoseconds since 1970.
pub(crate) fn modified_ns(metadata: &std::fs::Metadata) -> i64 {
    use std::os::unix::fs::MetadataExt;
    metadata.mtime().saturating_mul(1_000_000_000).saturating_add(metadata.mtime_nsec())
}

impl Content {
    /// Bytes in all.
    pub(crate) fn size(&self) -> u64 {
        match self {
            Self::Made(bytes) => bytes.len() as u64,
            Self::Kept { size, .. } | Self::Inside { size, .. } => *size,
        }
    }

    /// The digest of all of it, if that is known.
    pub(crate) fn sha256(&self) -> Option<Sha256> {
        match self {
            Self::Made(bytes) => Some(Sha256::of(bytes)),
            Self::Kept { sha256, .. } => Some(*sha256),
            Self::Inside { sha256, .. } => *sha256,
        }
    }

    /// What tells this content from any other (RFC 9110, section 8.8.3).
    pub(crate) fn tag(&self) -> String {
        match (self, self.sha256()) {
            (_, Some(sha256)) => sha256.to_string(),
            (Self::Inside { tag, .. }, None) => tag.clone(),
            (_, None) => String::new(),
        }
    }

    /// Opens it for reading. A file that is no longer as it was taken in is not opened.
    pub(crate) async fn open(&self) -> io::Result<ContentReader> {
        let content = self.clone();
        let opened = tokio::task::spawn_blocking(move || content.open_blocking()).await;
        let reader = opened.map_err(io::Error::other)??;
        READERS.fetch_add(1, Ordering::Relaxed);
        Ok(ContentReader { reader, size: self.size(), ahead: Bytes::new(), ahead_at: 0 })
    }

    /// Opens it to be sent from its file, if it lies in one.
    pub(crate) async fn open_file(&self) -> io::Result<Option<BlockingReader>> {
        if matches!(self, Self::Made(_)) {
            return Ok(None);
        }
        let content = self.clone();
        let opened = tokio::task::spawn_blocking(move || content.open_blocking()).await;
        opened.map_err(io::Error::other)?.map(Some)
    }

    /// The same, for a thread that may wait for the disk.
    pub(crate) fn open_blocking(&self) -> io::Result<BlockingReader> {
        match self {
            Self::Made(bytes) => Ok(BlockingReader::Made(bytes.clone())),
            Self::Kept { path, size, .. } => {
                let file = OnDisk { path: path.clone(), size: *size, modified_ns: None }.open()?;
                Ok(BlockingReader::Kept(Arc::new(file)))
            }
            Self::Inside { volume, extents, .. } => {
                Ok(BlockingReader::Inside(Arc::new(volume.open()?), extents.clone()))
            }
        }
    }
}

/// A run of bytes of a file on the disk.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct OnFile {
    pub(crate) offset: u64,
    pub(crate) length: u64,
}

impl BlockingReader {
    /// The file that the content lies in; `None` for content that was made.
    pub(crate) fn file(&self) -> Option<&Arc<File>> {
        match self {
            Self::Made(_) => None,
            Self::Kept(file) | Self::Inside(file, _) => Some(file),
        }
    }

    /// Where in its file the bytes from `offset` to `end` lie, in order.
    pub(crate) fn runs(&self, offset: u64, end: u64) -> Vec<OnFile> {
        let Self::Inside(_, extents) = self else { return vec![OnFile { offset, length: end - offset }] };
        let mut runs = Vec::new();
        let mut begins = 0;
        for extent in extents.iter() {
            let from = offset.max(begins);
            let to = end.min(begins + extent.length);
            if from < to {
                runs.push(OnFile { offset: extent.offset + from - begins, length: to - from });
            }
            begins += extent.length;
        }
        runs
    }
}

/// Reads content where waiting for the disk hurts nobody else.
#[derive(Debug, Clone)]
pub(crate) enum BlockingReader {
    Made(Bytes),
    Kept(Arc<File>),
    Inside(Arc<File>, Arc<[Extent]>),
}

impl BlockingReader {
    /// Fills `buffer` from `offset`; an error if the content ends before.
    pub(crate) fn read_exact_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<()> {
        match self {
            Self::Made(bytes) => {
                let start = to_usize(offset);
                let part = bytes.get(start..start + buffer.len()).ok_or(io::ErrorKind::UnexpectedEof)?;
                buffer.copy_from_slice(part);
                Ok(())
            }
            Self::Kept(file) => file.read_exact_at(buffer, offset),
            Self::Inside(file, extents) => {
                read_pieces(extents, offset, buffer, |at, part| file.read_exact_at(part, at))
            }
        }
    }
}

/// Reads content, keeping what comes next in memory.
#[derive(Debug)]
pub(crate) struct ContentReader {
    reader: BlockingReader,
    size: u64,
    ahead: Bytes,
    ahead_at: u64,
}

impl Drop for ContentReader {
    fn drop(&mut self) {
        READERS.fetch_sub(1, Ordering::Relaxed);
    }
}

/// What a reader may keep now.
fn read_ahead() -> u64 {
    let readers = READERS.load(Ordering::Relaxed).max(1);
    (BUDGET / readers).clamp(LEAST_AHEAD, MOST_AHEAD) as u64
}

impl ContentReader {
    /// What comes next from `offset`, as much as is read at once, up to `end`.
    pub(crate) async fn read_on(&mut self, offset: u64, end: u64) -> io::Result<Bytes> {
        let length = (end - offset).min(read_ahead());
        self.read(offset, to_usize(length)).await
    }

    /// At most `length` bytes from `offset`: fewer only at the end of what was read ahead or of the content.
    async fn read(&mut self, offset: u64, length: usize) -> io::Result<Bytes> {
        let length = (length as u64).min(self.size.saturating_sub(offset));
        if length == 0 {
            return Ok(Bytes::new());
        }
        let within = offset.checked_sub(self.ahead_at).filter(|at| at + length <= self.ahead.len() as u64);
        let start = match within {
            Some(start) => start,
            None => {
                self.fill(offset, length.max(read_ahead())).await?;
                0
            }
        };
        let end = (start + length).min(self.ahead.len() as u64);
        Ok(self.ahead.slice(to_usize(start)..to_usize(end)))
    }

    async fn fill(&mut self, offset: u64, length: u64) -> io::Result<()> {
        let length = length.min(self.size - offset);
        self.ahead = match &self.reader {
            BlockingReader::Made(bytes) => bytes.slice(to_usize(offset)..to_usize(offset + length)),
            kept @ (BlockingReader::Kept(_) | BlockingReader::Inside(..)) => {
                let kept = kept.clone();
                let read = move || {
                    let mut buffer = vec![0; to_usize(length)];
                    kept.read_exact_at(&mut buffer, offset)?;
                    Ok::<_, io::Error>(Bytes::from(buffer))
                };
                tokio::task::spawn_blocking(read).await.map_err(io::Error::other)??
            }
        };
        self.ahead_at = offset;
        Ok(())
    }
}

/// Lengths within one read are far below the address space of any machine this runs on.
fn to_usize(length: u64) -> usize {
    usize::try_from(length).unwrap_or(usize::MAX)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn any_range_of_either_kind_is_the_same() {
        let bytes: Vec<u8> = (0..1_300_000_u32).flat_map(|n| n.to_le_bytes()).take(1_300_007).collect();
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("content");
        std::fs::write(&path, &bytes).unwrap();
        let kept = Content::Kept { path: path.clone(), size: bytes.len() as u64, sha256: Sha256::of(&bytes) };
        // The same file in two pieces that lie the other way round in another.
        let turned = [&bytes[700_000..], &bytes[..700_000]].concat();
        let around = folder.path().join("around");
        std::fs::write(&around, &turned).unwrap();
        let size = bytes.len() as u64;
        let extents = [
            Extent { offset: size - 700_000, length: 700_000 },
            Extent { offset: 0, length: size - 700_000 },
        ];
        let volume = OnDisk { path: around, size, modified_ns: None };
        let inside = Content::Inside { volume, extents: extents.into(), size, sha256: None, tag: "x".into() };
        for content in [kept, inside, Content::Made(bytes.clone().into())] {
            let mut reader = content.open().await.unwrap();
            for (offset, length) in
                [(0, 10), (524_280, 100), (3, 1468), (1_299_999, 50), (1_300_007, 9), (9_999_999, 1)]
            {
                let got = reader.read(offset as u64, length).await.unwrap();
                let from = offset.min(bytes.len());
                assert_eq!(got, bytes[from..bytes.len().min(from + length)], "{offset}+{length}");
            }
        }
    }

    #[tokio::test]
    async fn a_file_that_changed_is_not_served() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("content");
        std::fs::write(&path, "short").unwrap();
        let content = Content::Kept { path, size: 9, sha256: Sha256::of(b"short") };
        let error = content.open().await.unwrap_err().to_string();
        assert!(error.contains("has 5 bytes, not 9"), "{error}");
    }
}
