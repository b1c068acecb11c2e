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
use lastmile_core::image::Sha256;

/// Octets that all readers together keep in memory, about. A few readers have much each, so that the hand-over to a
/// blocking thread does not count; a hall that boots at once has little each, so that the service stays small.
const BUDGET: usize = 12 * 1024 * 1024;
/// Octets that one reader keeps at least and at most.
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
}

impl Content {
    /// Octets in all.
    pub(crate) fn size(&self) -> u64 {
        match self {
            Self::Made(bytes) => bytes.len() as u64,
            Self::Kept { size, .. } => *size,
        }
    }

    /// The digest of all of it.
    pub(crate) fn sha256(&self) -> Sha256 {
        match self {
            Self::Made(bytes) => Sha256::of(bytes),
            Self::Kept { sha256, .. } => *sha256,
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

    /// The same, for a thread that may wait for the disk.
    pub(crate) fn open_blocking(&self) -> io::Result<BlockingReader> {
        match self {
            Self::Made(bytes) => Ok(BlockingReader::Made(bytes.clone())),
            Self::Kept { path, size, .. } => {
                let file = File::open(path)?;
                let found = file.metadata()?.len();
                if found != *size {
                    let path = path.display();
                    let changed = format!("{path} has {found} octets, not {size}: it was changed");
                    return Err(io::Error::other(changed));
                }
                Ok(BlockingReader::Kept(Arc::new(file)))
            }
        }
    }
}

/// Reads content where waiting for the disk hurts nobody else.
#[derive(Debug, Clone)]
pub(crate) enum BlockingReader {
    Made(Bytes),
    Kept(Arc<File>),
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

    /// At most `length` octets from `offset`: fewer only at the end of what was read ahead or of the content.
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
            kept @ BlockingReader::Kept(_) => {
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
        let kept = Content::Kept { path, size: bytes.len() as u64, sha256: Sha256::of(&bytes) };
        for content in [kept, Content::Made(bytes.clone().into())] {
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
        assert!(error.contains("has 5 octets, not 9"), "{error}");
    }
}
