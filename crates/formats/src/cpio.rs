//! Writes cpio archives in the "new" format, of which an initramfs is made (Linux
//! `Documentation/driver-api/early-userspace/buffer-format.rst`). The same content makes the same bytes: no times, no owners but
//! root.

use std::io::{self, Write};

/// What a member is, in its mode (inode(7)).
mod kind {
    pub(super) const DIRECTORY: u32 = 0o040_000;
    pub(super) const FILE: u32 = 0o100_000;
    pub(super) const LINK: u32 = 0o120_000;
    pub(super) const CHARACTER: u32 = 0o020_000;
}

/// The name of the member that ends an archive.
const TRAILER: &str = "TRAILER!!!";

/// An archive that is being written.
#[derive(Debug)]
pub struct Archive<W: Write> {
    to: W,
    written: u64,
    /// Members so far: each has an inode of its own.
    members: u32,
}

impl<W: Write> Archive<W> {
    /// Begins an archive.
    pub const fn new(to: W) -> Self {
        Self { to, written: 0, members: 0 }
    }

    /// A folder. The kernel makes none by itself: those above come first.
    ///
    /// # Errors
    /// What the writer said.
    pub fn folder(&mut self, path: &str) -> io::Result<()> {
        self.member(path, kind::DIRECTORY | 0o755, (0, 0), &[])
    }

    /// A file with its permissions, as in `0o755`.
    ///
    /// # Errors
    /// What the writer said, or that the file is larger than the format has (4 GiB).
    pub fn file(&mut self, path: &str, permissions: u32, content: &[u8]) -> io::Result<()> {
        self.member(path, kind::FILE | permissions & 0o7777, (0, 0), content)
    }

    /// A symbolic link.
    ///
    /// # Errors
    /// What the writer said.
    pub fn link(&mut self, path: &str, to: &str) -> io::Result<()> {
        self.member(path, kind::LINK | 0o777, (0, 0), to.as_bytes())
    }

    /// A character device, by its numbers.
    ///
    /// # Errors
    /// What the writer said.
    pub fn device(&mut self, path: &str, permissions: u32, major: u32, minor: u32) -> io::Result<()> {
        self.member(path, kind::CHARACTER | permissions & 0o7777, (major, minor), &[])
    }

    /// Ends the archive; gives what it was written to.
    ///
    /// # Errors
    /// What the writer said.
    pub fn finish(mut self) -> io::Result<W> {
        self.member(TRAILER, 0, (0, 0), &[])?;
        self.to.flush()?;
        Ok(self.to)
    }

    fn member(&mut self, path: &str, mode: u32, device: (u32, u32), content: &[u8]) -> io::Result<()> {
        let path = path.trim_start_matches('/');
        let size = u32::try_from(content.len())
            .map_err(|_| io::Error::other(format!("{path} is larger than an initramfs can hold (4 GiB)")))?;
        self.members += 1;
        let links = if mode & kind::DIRECTORY == kind::DIRECTORY { 2 } else { 1 };
        let (inode, length) = (self.members, path.len() + 1);
        let fields = [inode, mode, 0, 0, links, 0, size, 0, 0, device.0, device.1];
        let head: String = fields.iter().map(|field| format!("{field:08X}")).collect();
        self.put(format!("070701{head}{length:08X}{:08X}{path}\0", 0).as_bytes())?;
        self.align()?;
        self.put(content)?;
        self.align()
    }

    fn put(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.to.write_all(bytes)?;
        self.written += bytes.len() as u64;
        Ok(())
    }

    /// Heads and contents begin at a multiple of four.
    fn align(&mut self) -> io::Result<()> {
        let missing = (4 - self.written % 4) % 4;
        self.put(&[0; 3][..usize::try_from(missing).unwrap_or_default()])
    }
}

#[cfg(test)]
mod tests {
    use std::{
        io::Write as _,
        process::{Command, Stdio},
    };

    use super::*;

    fn archive() -> Vec<u8> {
        let mut archive = Archive::new(Vec::new());
        archive.folder("dev").unwrap();
        archive.device("dev/console", 0o600, 5, 1).unwrap();
        archive.file("init", 0o755, b"#!/bin/sh\n").unwrap();
        archive.folder("lib").unwrap();
        archive.file("/lib/empty", 0o644, b"").unwrap();
        archive.link("lib/more", "../init").unwrap();
        archive.finish().unwrap()
    }

    #[test]
    fn another_reader_finds_the_same() {
        let mut child = Command::new("cpio")
            .args(["--list", "--verbose", "--numeric-uid-gid", "--quiet"])
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .expect("cpio: `make packages-test` installs it");
        child.stdin.take().unwrap().write_all(&archive()).unwrap();
        let output = child.wait_with_output().unwrap();
        assert!(output.status.success());
        let listed = String::from_utf8(output.stdout).unwrap();
        let expected = [
            ("drwxr-xr-x", "dev"),
            ("crw-------", "dev/console"),
            ("-rwxr-xr-x", "init"),
            ("drwxr-xr-x", "lib"),
            ("-rw-r--r--", "lib/empty"),
            ("lrwxrwxrwx", "lib/more -> ../init"),
        ];
        assert_eq!(listed.lines().count(), expected.len(), "{listed}");
        for (line, (mode, name)) in listed.lines().zip(expected) {
            assert!(line.starts_with(mode) && line.ends_with(&format!(" {name}")), "{listed}");
        }
        assert!(listed.contains("5,   1"), "{listed}");
    }

    #[test]
    fn the_same_content_makes_the_same_bytes_each_at_a_multiple_of_four() {
        let bytes = archive();
        assert_eq!(bytes, archive());
        assert_eq!(bytes.len() % 4, 0);
        let heads = bytes.windows(6).enumerate().filter(|(_, six)| *six == b"070701");
        assert!(heads.map(|(at, _)| at % 4).all(|rest| rest == 0));
    }
}
