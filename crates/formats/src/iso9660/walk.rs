//! The tree of a volume, folder by folder.

use std::{
    collections::{BTreeMap, BTreeSet, VecDeque},
    io,
};

use super::{
    Defect, Iso, IsoFile, Names,
    record::{Record, records},
    rock_ridge,
    rock_ridge::{Continuation, Posix},
    volume::{SECTOR, Volume, ucs2},
};
use crate::read_at::{Extent, ReadAt};

/// Bytes of one folder's records that are read: some 300,000 names.
const MOST_FOLDER: u64 = 32 * 1024 * 1024;
/// Files and folders of one volume that are read.
const MOST_ENTRIES: usize = 1_000_000;

/// Defects that are told one by one.
const MOST_DEFECTS: usize = 100;

/// Walks the tree that has the best names.
pub(super) fn walk(source: &impl ReadAt, primary: &Volume, joliet: Option<&Volume>) -> Iso {
    let own = own_system_use(source, primary);
    if let Some(skip) = own.as_deref().and_then(rock_ridge::skipped) {
        return Walk::new(source, primary, Names::RockRidge, skip).run();
    }
    match joliet {
        Some(joliet) => Walk::new(source, joliet, Names::Joliet, 0).run(),
        None => Walk::new(source, primary, Names::Plain, 0).run(),
    }
}

/// The system use field of the root's first record, which says whether extensions are there.
fn own_system_use(source: &impl ReadAt, volume: &Volume) -> Option<Vec<u8>> {
    let start = u64::from(volume.root.block) * volume.block;
    let bytes = source.read_up_to(start, SECTOR as usize).ok()?;
    let (records, _) = records(&bytes, SECTOR as usize);
    records.into_iter().next().filter(Record::is_own).map(|own| own.system_use)
}

struct Walk<'a, S> {
    source: &'a S,
    volume: &'a Volume,
    skip: usize,
    iso: Iso,
    seen: BTreeSet<u32>,
    waiting: VecDeque<(String, u32, u32)>,
    entries: usize,
    unnamed_defects: usize,
}

impl<'a, S: ReadAt> Walk<'a, S> {
    fn new(source: &'a S, volume: &'a Volume, names: Names, skip: usize) -> Self {
        let iso = Iso {
            label: String::new(),
            names,
            files: Vec::new(),
            links: BTreeMap::new(),
            boot_images: Vec::new(),
            defects: Vec::new(),
            notes: Vec::new(),
        };
        Self {
            source,
            volume,
            skip,
            iso,
            seen: BTreeSet::new(),
            waiting: VecDeque::from([(String::new(), volume.root.block, volume.root.length)]),
            entries: 0,
            unnamed_defects: 0,
        }
    }

    fn run(mut self) -> Iso {
        while let Some((path, block, length)) = self.waiting.pop_front() {
            self.folder(&path, block, length);
        }
        self.iso.files.sort_by(|a, b| a.path.cmp(&b.path));
        self.iso.files.dedup_by(|a, b| a.path == b.path);
        if self.unnamed_defects > 0 {
            let what = format!("{} more places are wrong", self.unnamed_defects);
            self.iso.defects.push(Defect { place: "iso".into(), what, fix: DAMAGED.into() });
        }
        self.iso
    }

    fn fault(&mut self, path: &str, what: impl Into<String>, fix: &str) {
        if self.iso.defects.len() >= MOST_DEFECTS {
            self.unnamed_defects += 1;
            return;
        }
        let place = if path.is_empty() { "iso".into() } else { path.to_owned() };
        self.iso.defects.push(Defect { place, what: what.into(), fix: fix.into() });
    }

    fn folder(&mut self, path: &str, block: u32, length: u32) {
        if !self.seen.insert(block) {
            self.fault(path, "the folder leads back to one that holds it", DAMAGED);
            return;
        }
        let records = match self.read_folder(block, length) {
            Ok((records, true)) => records,
            Ok((records, false)) => {
                self.fault(path, "the folder holds a record that is none", DAMAGED);
                records
            }
            Err(error) => {
                self.fault(path, format!("the folder cannot be read: {error}"), DAMAGED);
                return;
            }
        };
        let mut records = records.into_iter().filter(|record| !record.is_dot() && !record.is_associated());
        while let Some(record) = records.next() {
            self.entries += 1;
            if self.entries > MOST_ENTRIES {
                self.fault("", format!("it has more than {MOST_ENTRIES} files"), "Give the folder instead.");
                self.waiting.clear();
                return;
            }
            // A file over 4 GiB has a record for each part (ECMA-119, section 6.5.1).
            let mut parts = vec![record];
            while parts.last().is_some_and(Record::goes_on) {
                match records.next() {
                    Some(next) => parts.push(next),
                    None => {
                        self.fault(path, "a file in it goes on in a record that is not there", DAMAGED);
                        break;
                    }
                }
            }
            self.entry(path, &parts);
        }
    }

    fn read_folder(&self, block: u32, length: u32) -> io::Result<(Vec<Record>, bool)> {
        let length = u64::from(length);
        if length > MOST_FOLDER {
            return Err(io::Error::other(format!("it says that it has {length} bytes of names")));
        }
        let mut data = vec![0; usize::try_from(length).map_err(io::Error::other)?];
        self.source.read_at(u64::from(block) * self.volume.block, &mut data)?;
        Ok(records(&data, SECTOR as usize))
    }

    fn entry(&mut self, folder: &str, parts: &[Record]) {
        let [first, ..] = parts else { return };
        let posix = match self.iso.names {
            Names::RockRidge => self.posix(first),
            Names::Joliet | Names::Plain => Posix::default(),
        };
        let name = posix.name.clone().unwrap_or_else(|| self.name(first));
        if name.is_empty() || name == "." || name == ".." || name.contains(['/', '\0']) {
            self.fault(folder, format!("the name {name:?} cannot be one"), DAMAGED);
            return;
        }
        let path = if folder.is_empty() { name } else { format!("{folder}/{name}") };
        if let Some(target) = &posix.link {
            if let Some(target) = resolve(folder, target) {
                self.iso.links.insert(path, target);
            }
        } else if let Some(block) = posix.moved_to {
            // Its length stands in its own first record.
            match self.own_length(block) {
                Some(length) => self.waiting.push_back((path, block, length)),
                None => self.fault(&path, "the folder was moved to where none is", DAMAGED),
            }
        } else if first.is_folder() {
            if !posix.moved_here {
                self.waiting.push_back((path, first.block, first.length));
            }
        } else if posix.compressed {
            self.fault(&path, "the file is compressed within the volume (zisofs)", UNPACKED);
        } else if parts.iter().any(|part| part.interleaved) {
            self.fault(&path, "the file is interleaved with another", UNPACKED);
        } else if !posix.special {
            self.file(path, parts);
        }
    }

    fn file(&mut self, path: String, parts: &[Record]) {
        let extents: Vec<Extent> = parts
            .iter()
            .map(|part| Extent {
                offset: u64::from(part.block) * self.volume.block,
                length: u64::from(part.length),
            })
            .collect();
        let end = extents
            .iter()
            .filter(|extent| extent.length > 0)
            .map(|extent| extent.offset + extent.length)
            .max();
        if end.is_some_and(|end| end > self.source.size()) {
            self.fault(&path, "the file lies beyond the end of the volume", DAMAGED);
            return;
        }
        self.iso.files.push(IsoFile { path, extents });
    }

    fn own_length(&self, block: u32) -> Option<u32> {
        let bytes = self.source.read_up_to(u64::from(block) * self.volume.block, SECTOR as usize).ok()?;
        let (records, _) = records(&bytes, SECTOR as usize);
        records.first().filter(|own| own.is_own()).map(|own| own.length)
    }

    fn posix(&self, record: &Record) -> Posix {
        let entries = record.system_use.get(self.skip..).unwrap_or_default();
        rock_ridge::read(entries, |at: Continuation| {
            let start = u64::from(at.block) * self.volume.block + u64::from(at.offset);
            // An area lies within one block (SUSP, section 5.1).
            self.source.read_up_to(start, (at.length as usize).min(SECTOR as usize)).ok()
        })
    }

    /// The volume's own name of a file, without its version and the dot of an extension that is not there
    /// (ECMA-119, section 7.5.1).
    fn name(&self, record: &Record) -> String {
        let name = match self.iso.names {
            Names::Joliet => ucs2(&record.identifier),
            Names::RockRidge | Names::Plain => String::from_utf8_lossy(&record.identifier).into_owned(),
        };
        let version =
            name.rsplit_once(';').filter(|(_, version)| version.bytes().all(|b| b.is_ascii_digit()));
        let name = version.map_or(name.as_str(), |(name, _)| name);
        if record.is_folder() { name.into() } else { name.trim_end_matches('.').into() }
    }
}

const DAMAGED: &str =
    "The volume is damaged. Fetch it again, and compare its SHA-256 with the one its publisher gives.";

const UNPACKED: &str = "Give the folder of its files instead.";

/// Where a link in `folder` leads, from the root; `None` if it leads out of the volume.
fn resolve(folder: &str, target: &str) -> Option<String> {
    let mut parts: Vec<&str> = if target.starts_with('/') {
        Vec::new()
    } else {
        folder.split('/').filter(|part| !part.is_empty()).collect()
    };
    for part in target.split('/') {
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
