//! Names, kinds and links as POSIX systems have them (System Use Sharing Protocol 1.12, Rock Ridge 1.12).

use super::volume::both_32;

/// Continuation areas that one record may have: a chain that leads back ends here.
const MOST_CONTINUATIONS: usize = 32;
/// The kinds of files in a POSIX mode.
const KIND: u32 = 0o170_000;
const KIND_LINK: u32 = 0o120_000;
const KIND_FOLDER: u32 = 0o040_000;
const KIND_FILE: u32 = 0o100_000;

/// What the extension says of one record.
#[derive(Debug, Default)]
pub(super) struct Posix {
    /// Its name.
    pub(super) name: Option<String>,
    /// Where a symbolic link leads.
    pub(super) link: Option<String>,
    /// First block of the folder that was moved elsewhere to keep the tree shallow.
    pub(super) moved_to: Option<u32>,
    /// This folder was moved here, and belongs elsewhere.
    pub(super) moved_here: bool,
    /// It is neither file, folder nor link.
    pub(super) special: bool,
    /// Its data are compressed (`ZF`).
    pub(super) compressed: bool,
}

/// Where a system use field goes on.
#[derive(Debug, Clone, Copy)]
pub(super) struct Continuation {
    pub(super) block: u32,
    pub(super) offset: u32,
    pub(super) length: u32,
}

/// How many bytes stand before the entries in every record of the volume, if the extension is there at all
/// (SUSP, section 5.3: `SP` in the first record of the root).
pub(super) fn skipped(root_own_system_use: &[u8]) -> Option<usize> {
    // CD-ROM XA volumes have 14 bytes of their own in front.
    [0, 14].into_iter().find_map(|at| {
        let entry = root_own_system_use.get(at..at + 7)?;
        (entry.starts_with(b"SP") && entry[4..6] == [0xbe, 0xef]).then_some(usize::from(entry[6]))
    })
}

/// Reads the entries of one record; `fetch` reads where they go on elsewhere.
pub(super) fn read(system_use: &[u8], mut fetch: impl FnMut(Continuation) -> Option<Vec<u8>>) -> Posix {
    let mut posix = Posix::default();
    let mut link = Link::default();
    let mut name = Vec::new();
    let mut area = system_use.to_vec();
    for _ in 0..MOST_CONTINUATIONS {
        let next = entries(&area, |signature, data| match signature {
            b"NM" => {
                if let Some((flags, part)) = data.split_first()
                    && flags & 0x06 == 0
                {
                    name.extend_from_slice(part);
                }
            }
            b"SL" => link.add(data),
            b"PX" => {
                let kind = both_32(data, 0).map(|mode| mode & KIND);
                posix.special = kind.is_some_and(|kind| !matches!(kind, KIND_FILE | KIND_FOLDER | KIND_LINK));
            }
            b"CL" => posix.moved_to = both_32(data, 0),
            b"RE" => posix.moved_here = true,
            b"ZF" => posix.compressed = true,
            _ => {}
        });
        match next.and_then(&mut fetch) {
            Some(more) => area = more,
            None => break,
        }
    }
    posix.name = (!name.is_empty()).then(|| String::from_utf8_lossy(&name).into_owned());
    posix.link = link.text();
    posix
}

/// Calls `take` with the signature and the data of each entry; gives where they go on.
fn entries(mut area: &[u8], mut take: impl FnMut(&[u8], &[u8])) -> Option<Continuation> {
    let mut next = None;
    // Signature, length of the whole entry, version, data (SUSP, section 4.1).
    while let [a, b, length, _version, ..] = *area {
        let Some(data) = area.get(4..usize::from(length)) else { break };
        match &[a, b] {
            b"ST" => break,
            b"CE" => {
                next = continuation(data);
            }
            signature => take(signature.as_slice(), data),
        }
        area = area.get(usize::from(length)..).unwrap_or_default();
    }
    next
}

/// Where an area goes on (SUSP, section 5.1).
fn continuation(data: &[u8]) -> Option<Continuation> {
    let (block, offset) = (both_32(data, 0)?, both_32(data, 8)?);
    Some(Continuation { block, offset, length: both_32(data, 16)? })
}

/// A symbolic link as its components come (RRIP, section 4.1.3.1).
#[derive(Debug, Default)]
struct Link {
    text: String,
    /// The last component goes on in the next entry.
    open: bool,
    any: bool,
}

impl Link {
    fn add(&mut self, data: &[u8]) {
        let Some((_, mut rest)) = data.split_first() else { return };
        while let [flags, length, ..] = *rest {
            let Some(part) = rest.get(2..2 + usize::from(length)) else { break };
            if self.any && !self.open && !self.text.ends_with('/') {
                self.text.push('/');
            }
            match flags & 0x0e {
                0x02 => self.text.push('.'),
                0x04 => self.text.push_str(".."),
                0x08 => self.text = "/".into(),
                _ => self.text.push_str(&String::from_utf8_lossy(part)),
            }
            self.any = true;
            self.open = flags & 0x01 != 0;
            rest = &rest[2 + usize::from(length)..];
        }
    }

    fn text(self) -> Option<String> {
        self.any.then_some(self.text)
    }
}
