//! The files that are read.

use std::{
    fs,
    io::{self, Read, Write},
    path::{Path, PathBuf},
    str::FromStr,
};

/// Largest file that is read: firmware's tables are some ten thousand bytes.
const MOST_BYTES: u64 = 1 << 20;

/// A folder that stands for `/`. Paths in it are without a leading slash.
#[derive(Debug, Clone)]
pub struct Tree {
    root: PathBuf,
}

impl Tree {
    /// The machine that this runs on.
    #[must_use]
    pub fn machine() -> Self {
        Self::at("/")
    }

    /// Any other folder.
    pub fn at(root: impl Into<PathBuf>) -> Self {
        Self { root: root.into() }
    }

    pub(crate) fn has(&self, path: &str) -> bool {
        self.root.join(path).exists()
    }

    pub(crate) fn bytes(&self, path: &str) -> Option<Vec<u8>> {
        let mut bytes = Vec::new();
        let file = fs::File::open(self.root.join(path)).ok()?;
        file.take(MOST_BYTES + 1).read_to_end(&mut bytes).ok()?;
        Some(bytes).filter(|bytes| bytes.len() as u64 <= MOST_BYTES)
    }

    /// Writes a file of the kernel's, which is there already.
    pub(crate) fn write(&self, path: &str, text: &str) -> io::Result<()> {
        fs::OpenOptions::new().write(true).open(self.root.join(path))?.write_all(text.as_bytes())
    }

    /// A text without blanks around it; nothing if it is empty.
    pub(crate) fn text(&self, path: &str) -> Option<String> {
        let text =
            String::from_utf8_lossy(&self.bytes(path)?).trim_matches(['\0', ' ', '\n', '\t']).to_owned();
        Some(text).filter(|text| !text.is_empty())
    }

    pub(crate) fn number<T: FromStr>(&self, path: &str) -> Option<T> {
        self.text(path)?.parse().ok()
    }

    /// A number as the kernel writes those of buses: `0x8086`.
    pub(crate) fn hexadecimal(&self, path: &str) -> Option<u32> {
        let text = self.text(path)?;
        u32::from_str_radix(text.trim_start_matches("0x"), 16).ok()
    }

    /// Names in a folder, in their order; none if it is not there.
    pub(crate) fn folder(&self, path: &str) -> Vec<String> {
        let entries = fs::read_dir(self.root.join(path)).into_iter().flatten().flatten();
        let mut names: Vec<String> =
            entries.filter_map(|entry| entry.file_name().into_string().ok()).collect();
        names.sort();
        names
    }

    /// The last part of what a link leads to.
    pub(crate) fn link(&self, path: &str) -> Option<String> {
        let target = fs::read_link(self.root.join(path)).ok()?;
        target.file_name()?.to_str().map(str::to_owned)
    }

    /// Where a folder really is, below the root.
    pub(crate) fn real(&self, path: &str) -> Option<String> {
        let (root, real) = (self.root.canonicalize().ok()?, self.root.join(path).canonicalize().ok()?);
        real.strip_prefix(root).ok().and_then(Path::to_str).map(str::to_owned)
    }
}
