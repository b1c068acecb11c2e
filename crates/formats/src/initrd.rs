//! What lies in an initrd: cpio archives in the "new" format, one after another, the last perhaps compressed (Linux
//! `Documentation/driver-api/early-userspace/buffer-format.rst`).

use std::{
    collections::BTreeSet,
    io,
    io::{BufRead, BufReader, Read},
};

use crate::{
    compressed::{Compression, Reading},
    read_at::ReadAt,
};

/// Bytes that are unpacked to look for what an initrd is.
const MOST: u64 = 768 * 1024 * 1024;
/// Bytes of a small file that are kept.
const MOST_KEPT: u64 = 16 * 1024;
/// Longest name (Linux: PATH_MAX).
const MOST_NAME: u64 = 4096;
/// Files whose content says what the initrd is of.
const KEPT: [&str; 7] = [
    "etc/lsb-release",
    "etc/os-release",
    "usr/lib/os-release",
    "etc/initrd-release",
    "usr/lib/initrd-release",
    ".buildstamp",
    "etc/debian_version",
];

/// What was found in an initrd.
#[derive(Debug, Default)]
pub struct Initrd {
    /// Versions of the kernels that it has modules for.
    pub modules: BTreeSet<String>,
    /// Names that tell what it is.
    names: BTreeSet<String>,
    kept: Vec<(String, String)>,
}

/// Names that tell what an initrd does.
const MARKS: [&str; 6] = [
    "usr/bin/debconf",
    "scripts/casper",
    "scripts/live",
    "usr/lib/live/boot",
    "usr/sbin/anaconda-hookup",
    "usr/lib/anaconda-lib.sh",
];

impl Initrd {
    /// Whether a name is in it.
    pub fn has(&self, name: &str) -> bool {
        self.names.contains(name)
    }

    /// A value of `KEY=value` in one of the release files, with the file.
    pub fn release(&self, key: &str) -> Option<(String, &str)> {
        self.kept.iter().find_map(|(name, text)| {
            let value = text.lines().find_map(|line| line.strip_prefix(key)?.strip_prefix('='))?;
            Some((value.trim().trim_matches('"').to_owned(), name.as_str()))
        })
    }
}

/// Reads an initrd; an error if it is none.
pub fn read(source: &impl ReadAt) -> io::Result<Initrd> {
    let mut found = Initrd::default();
    archives(BufReader::new(Reading::new(source, 0).take(MOST)), &mut found, true)?;
    Ok(found)
}

fn archives(mut reader: impl BufRead, found: &mut Initrd, outermost: bool) -> io::Result<()> {
    let mut any = false;
    loop {
        // Archives are filled up with zeros.
        let zeros = loop {
            let ahead = reader.fill_buf()?;
            let zeros = ahead.iter().take_while(|byte| **byte == 0).count();
            let all = zeros == ahead.len() && zeros > 0;
            reader.consume(zeros);
            if !all {
                break reader.fill_buf()?;
            }
        };
        if zeros.is_empty() {
            return if any { Ok(()) } else { Err(io::ErrorKind::UnexpectedEof.into()) };
        }
        if let Some(compression) = Compression::of(zeros).filter(|_| outermost) {
            let inner = compression.unpack(reader)?;
            return archives(BufReader::new(inner.take(MOST)), found, false);
        }
        archive(&mut reader, found)?;
        any = true;
    }
}

/// One archive up to its trailer.
fn archive(reader: &mut impl BufRead, found: &mut Initrd) -> io::Result<()> {
    loop {
        let mut head = [0; 110];
        reader.read_exact(&mut head)?;
        if !head.starts_with(b"070701") && !head.starts_with(b"070702") {
            return Err(io::Error::other("no cpio archive of the new format"));
        }
        // Thirteen numbers of eight hexadecimal digits; the seventh is the size, the twelfth the name's length.
        let number = |index: usize| {
            let digits = std::str::from_utf8(&head[6 + index * 8..14 + index * 8]).ok();
            digits.and_then(|digits| u64::from_str_radix(digits, 16).ok()).ok_or(io::ErrorKind::InvalidData)
        };
        let (size, name_length) = (number(6)?, number(11)?);
        if name_length > MOST_NAME {
            return Err(io::ErrorKind::InvalidData.into());
        }
        let mut name = Vec::new();
        reader.by_ref().take(name_length).read_to_end(&mut name)?;
        skip(reader, (4 - (110 + name_length) % 4) % 4)?;
        let name = String::from_utf8_lossy(&name).trim_end_matches('\0').trim_start_matches("./").to_owned();
        if name == "TRAILER!!!" {
            return Ok(());
        }
        let wanted = KEPT.contains(&name.as_str()) && size <= MOST_KEPT;
        let mut content = Vec::new();
        if wanted {
            reader.by_ref().take(size).read_to_end(&mut content)?;
        } else {
            skip(reader, size)?;
        }
        skip(reader, (4 - size % 4) % 4)?;
        note(found, &name, wanted.then(|| String::from_utf8_lossy(&content).into_owned()));
    }
}

fn note(found: &mut Initrd, name: &str, content: Option<String>) {
    if let Some(content) = content {
        found.kept.push((name.into(), content));
    }
    if MARKS.contains(&name) {
        found.names.insert(name.into());
    }
    let below = name.strip_prefix("usr/").unwrap_or(name).strip_prefix("lib/modules/");
    if let Some(version) =
        below.and_then(|below| below.split('/').next()).filter(|version| !version.is_empty())
    {
        found.modules.insert(version.into());
    }
}

fn skip(reader: &mut impl BufRead, mut bytes: u64) -> io::Result<()> {
    while bytes > 0 {
        let ahead = reader.fill_buf()?.len();
        if ahead == 0 {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        let step = usize::try_from(bytes).map_or(ahead, |bytes| bytes.min(ahead));
        reader.consume(step);
        bytes -= step as u64;
    }
    Ok(())
}
