//! Tar archives, compressed or not: every file of them comes into the library.

use std::io::{self, Read, Write};

use lastmile_core::model::image::{FileEntry, Sha256};
use lastmile_formats::{compressed::unpacked, read_at::ReadAt, tftp::ServedPath};
use sha2::Digest;

use crate::{library::Library, work::WorkHandle};

/// Bytes copied at once.
const PIECE: usize = 256 * 1024;
/// Files of one archive.
const MOST_FILES: usize = 1_000_000;

/// Whether a file is a tar archive, compressed or not (POSIX.1-2017, pax, "ustar Interchange Format").
pub(super) fn is_archive(source: &impl ReadAt) -> bool {
    let mut head = [0; 512];
    let read = unpacked(source).and_then(|(_, mut plain)| plain.read_exact(&mut head));
    read.is_ok() && &head[257..262] == b"ustar"
}

/// Takes every regular file of an archive into the library. Links to files of the archive become copies, which cost
/// nothing there. What is neither is passed over.
pub(super) fn unpack(
    library: &Library,
    source: &impl ReadAt,
    work: &mut WorkHandle,
) -> io::Result<Vec<FileEntry>> {
    let counted = Counted { source, work: std::cell::RefCell::new(work), furthest: std::cell::Cell::new(0) };
    let (_, plain) = unpacked(&counted)?;
    let mut archive = tar::Archive::new(plain);
    let mut files: Vec<FileEntry> = Vec::new();
    let mut links: Vec<(String, String)> = Vec::new();
    for entry in archive.entries()? {
        let mut entry = entry?;
        let name = entry
            .path()?
            .to_str()
            .ok_or_else(|| io::Error::other("a name in the archive is not UTF-8"))?
            .to_owned();
        let kind = entry.header().entry_type();
        if kind.is_dir() {
            continue;
        }
        let path = ServedPath::parse(name.trim_start_matches("./"))
            .map_err(|error| io::Error::other(format!("'{name}' in the archive: {error}")))?;
        if kind.is_symlink() || kind.is_hard_link() {
            let target =
                entry.link_name()?.and_then(|target| target.to_str().map(str::to_owned)).unwrap_or_default();
            let folder = path.as_str().rsplit_once('/').map_or("", |(folder, _)| folder);
            let from = if kind.is_symlink() { folder } else { "" };
            links.extend(within(from, &target).map(|target| (path.as_str().to_owned(), target)));
        } else if kind.is_file() || kind.is_contiguous() {
            files.push(take(library, path.as_str(), &mut entry)?);
        }
        if files.len() > MOST_FILES {
            return Err(io::Error::other(format!("the archive has more than {MOST_FILES} files")));
        }
    }
    // A link may stand before what it leads to, and lead to another link.
    for _ in 0..links.len().min(32) {
        let there = |path: &str| files.iter().find(|file| file.path == path).cloned();
        let found: Vec<FileEntry> = links
            .iter()
            .filter(|(path, _)| there(path).is_none())
            .filter_map(|(path, target)| there(target).map(|file| FileEntry { path: path.clone(), ..file }))
            .collect();
        if found.is_empty() {
            break;
        }
        files.extend(found);
    }
    Ok(files)
}

/// Where a link in `folder` leads, from the root.
fn within(folder: &str, target: &str) -> Option<String> {
    let mut parts: Vec<&str> = folder.split('/').filter(|part| !part.is_empty()).collect();
    for part in target.trim_start_matches("./").split('/') {
        match part {
            "" | "." => {}
            ".." => {
                parts.pop()?;
            }
            name => parts.push(name),
        }
    }
    Some(parts.join("/"))
}

fn take(library: &Library, path: &str, from: &mut impl Read) -> io::Result<FileEntry> {
    let staged = library.staged();
    let mut taking = || {
        let mut file = std::fs::File::create(&staged)?;
        let mut digest = sha2::Sha256::new();
        let mut buffer = vec![0; PIECE];
        let mut size = 0;
        loop {
            let read = from.read(&mut buffer)?;
            if read == 0 {
                break;
            }
            digest.update(&buffer[..read]);
            file.write_all(&buffer[..read])?;
            size += read as u64;
        }
        let sha256 = Sha256::new(digest.finalize().into());
        library.put_in_place(&staged, &sha256)?;
        Ok(FileEntry::new(path, size, sha256))
    };
    let taken = taking();
    if taken.is_err() {
        // It may not have come as far as a file.
        let _ = std::fs::remove_file(&staged);
    }
    taken
}

/// Tells how far an archive was read.
struct Counted<'a, S> {
    source: &'a S,
    work: std::cell::RefCell<&'a mut WorkHandle>,
    furthest: std::cell::Cell<u64>,
}

impl<S: ReadAt> ReadAt for Counted<'_, S> {
    fn size(&self) -> u64 {
        self.source.size()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()> {
        self.source.read_at(offset, buffer)?;
        let end = offset + buffer.len() as u64;
        let more = end.saturating_sub(self.furthest.get());
        self.furthest.set(self.furthest.get().max(end));
        self.work.borrow_mut().advance(more)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn links_stay_within_the_archive() {
        assert_eq!(within("a/b", "../c/d").as_deref(), Some("a/c/d"));
        assert_eq!(within("", "./linux").as_deref(), Some("linux"));
        assert_eq!(within("a", "../../etc/passwd"), None);
    }
}
