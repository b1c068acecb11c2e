//! Debian packages (deb(5), version 2.0): an `ar` archive with an archive of control files and one of the package's files.

use std::io::{self, Read};

use thiserror::Error;

use crate::{
    compressed::unpacked,
    read_at::{Extent, Pieces, ReadAt},
};

/// What an `ar` archive begins with (ar(5)).
const MAGIC: &[u8] = b"!<arch>\n";
/// Bytes of a member's head.
const HEAD: u64 = 60;
/// Members of a package that are looked at: there are three.
const MOST_MEMBERS: usize = 16;
/// Largest file of a package that is read, and most of all of them together: a loader is far smaller.
const MOST_FILE: u64 = 64 * 1024 * 1024;
const MOST_FILES: u64 = 256 * 1024 * 1024;
/// Largest control file that is read.
const MOST_CONTROL: u64 = 1024 * 1024;

/// Why a file is no package.
#[derive(Debug, Error)]
pub enum DebError {
    /// It does not begin as one.
    #[error("this is no Debian package: it does not begin with !<arch>")]
    NotDeb,
    /// One of its archives is missing.
    #[error("the package has no {0}")]
    Lacks(&'static str),
    /// It cannot be read.
    #[error("the package cannot be read: {0}")]
    Read(#[from] io::Error),
}

/// One file of a package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DebFile {
    /// Its absolute path, without the leading `/`.
    pub path: String,
    /// Its content; for a link, that of what it leads to within the package.
    pub content: Vec<u8>,
}

/// A package that was read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Deb {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: String,
    /// The files that were wanted.
    pub files: Vec<DebFile>,
}

impl Deb {
    /// Reads a package, and of its files those that `wanted` says by their paths (without the leading `/`).
    ///
    /// # Errors
    /// [`DebError`], if it is none or is cut off.
    pub fn read(source: &impl ReadAt, wanted: impl Fn(&str) -> bool) -> Result<Self, DebError> {
        let (mut files, mut all) = (Vec::new(), 0);
        let take = |path: &str, size: u64, content: &mut dyn Read| {
            if !wanted(path) {
                return Ok(());
            }
            all += size;
            if size > MOST_FILE || all > MOST_FILES {
                return Err(io::Error::other(format!("{path} is larger than any loader")));
            }
            let mut bytes = Vec::new();
            content.read_to_end(&mut bytes)?;
            files.push(DebFile { path: path.into(), content: bytes });
            Ok(())
        };
        let (name, version) = Self::visit(source, take)?;
        Ok(Self { name, version, files })
    }

    /// Shows each regular file of a package to `visitor`: its path (without the leading `/`), its size, and its content, of which
    /// the visitor reads what it likes. Gives the package's name and version.
    ///
    /// # Errors
    /// [`DebError`], if it is none or is cut off, and what the visitor said.
    pub fn visit(
        source: &impl ReadAt,
        mut visitor: impl FnMut(&str, u64, &mut dyn Read) -> io::Result<()>,
    ) -> Result<(String, String), DebError> {
        let members = members(source)?;
        let member = |prefix: &'static str| {
            let found = members.iter().find(|(name, _)| name.starts_with(prefix));
            found.map(|(_, extent)| *extent).ok_or(DebError::Lacks(prefix))
        };
        let extents = [member("control.tar")?];
        let control = control(&Pieces::new(source, &extents))?;
        let field = |name: &str| {
            let lines = control.lines().filter_map(|line| line.strip_prefix(name));
            lines.map(|value| value.trim().to_owned()).next().unwrap_or_default()
        };
        let extents = [member("data.tar")?];
        let data = Pieces::new(source, &extents);
        let mut archive = tar::Archive::new(unpacked(&data)?.1);
        for entry in archive.entries()? {
            let mut entry = entry?;
            if entry.header().entry_type().is_file() {
                let (path, size) = (path_of(&entry)?, entry.size());
                visitor(&path, size, &mut entry)?;
            }
        }
        Ok((field("Package:"), field("Version:")))
    }
}

/// The members of an `ar` archive, each with where its content lies.
fn members(source: &impl ReadAt) -> Result<Vec<(String, Extent)>, DebError> {
    if source.read_up_to(0, MAGIC.len())? != MAGIC {
        return Err(DebError::NotDeb);
    }
    let (mut members, mut at) = (Vec::new(), MAGIC.len() as u64);
    while at + HEAD <= source.size() && members.len() < MOST_MEMBERS {
        let head = source.read_up_to(at, HEAD as usize)?;
        let text = |from: usize, to: usize| String::from_utf8_lossy(&head[from..to]).trim().to_owned();
        let length: u64 = text(48, 58).parse().map_err(|_| io::Error::from(io::ErrorKind::InvalidData))?;
        let offset = at + HEAD;
        if offset.checked_add(length).is_none_or(|end| end > source.size()) {
            return Err(io::Error::from(io::ErrorKind::UnexpectedEof).into());
        }
        members.push((text(0, 16).trim_end_matches('/').to_owned(), Extent { offset, length }));
        // Members begin at even places.
        at = (offset + length).next_multiple_of(2);
    }
    Ok(members)
}

/// The text of the control file.
fn control(archive: &impl ReadAt) -> Result<String, DebError> {
    let mut archive = tar::Archive::new(unpacked(archive)?.1);
    for entry in archive.entries()? {
        let entry = entry?;
        if path_of(&entry)? == "control" {
            let mut text = String::new();
            entry.take(MOST_CONTROL).read_to_string(&mut text)?;
            return Ok(text);
        }
    }
    Err(DebError::Lacks("control file"))
}

fn path_of(entry: &tar::Entry<'_, impl Read>) -> io::Result<String> {
    let path = entry.path()?;
    let path = path.to_str().ok_or(io::ErrorKind::InvalidData)?;
    Ok(path.trim_start_matches("./").trim_end_matches('/').to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tar_of(files: &[(&str, &[u8])]) -> Vec<u8> {
        let mut archive = tar::Builder::new(Vec::new());
        for (path, content) in files {
            let mut header = tar::Header::new_ustar();
            header.set_size(content.len() as u64);
            header.set_mode(0o644);
            archive.append_data(&mut header, path, *content).unwrap();
        }
        archive.into_inner().unwrap()
    }

    fn member(name: &str, content: &[u8]) -> Vec<u8> {
        let mut member =
            format!("{name:<16}{:<12}{:<6}{:<6}{:<8}{:<10}`\n", 0, 0, 0, 100_644, content.len()).into_bytes();
        member.extend_from_slice(content);
        member.resize(member.len().next_multiple_of(2), b'\n');
        member
    }

    fn package() -> Vec<u8> {
        let control = tar_of(&[("./control", b"Package: quay-loader\nVersion: 2.1-1\n")]);
        let data = tar_of(&[("./usr/lib/quay/boot.efi", b"boot"), ("./usr/share/doc/quay", b"text!")]);
        let members =
            [member("debian-binary", b"2.0\n"), member("control.tar", &control), member("data.tar", &data)];
        [MAGIC.to_vec(), members.concat()].concat()
    }

    #[test]
    fn a_package_gives_its_name_and_the_files_that_are_wanted() {
        let read = Deb::read(&package(), |path| path.starts_with("usr/lib/")).unwrap();
        assert_eq!((read.name.as_str(), read.version.as_str()), ("quay-loader", "2.1-1"));
        assert_eq!(read.files, [DebFile { path: "usr/lib/quay/boot.efi".into(), content: b"boot".into() }]);
    }

    #[test]
    fn what_is_none_or_cut_off_is_refused() {
        let whole = package();
        assert!(matches!(Deb::read(&b"PK\x03\x04".to_vec(), |_| true), Err(DebError::NotDeb)));
        // The last bytes of an archive are its end, and nothing is lost with them.
        for length in 0..whole.len() - 1024 {
            assert!(Deb::read(&whole[..length].to_vec(), |_| true).is_err(), "{length}");
        }
    }
}
