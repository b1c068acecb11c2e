//! What a set of files is: recognised from what is *in* them, each with the place where it was read.
//!
//! [`recognise`] looks at an ISO's files, a folder's, an archive's, or a single file's, and gives a [`Recognition`]: what a
//! person sees before saving, and what the draft of a revision is filled with. What it does not find is left to be said
//! by hand.

use std::io;

use lastmile_formats::{disk, initrd, kernel, pe::Program, read_at::ReadAt};

use super::families;
use crate::{
    base::Fault,
    model::image::{Family, Found, ImageKind, Recognition},
};

/// Largest file that is looked at as a UEFI application.
const MOST_PROGRAM: u64 = 64 * 1024 * 1024;
/// Files that are looked at to find kernels and initrds.
const MOST_LOOKED: usize = 64;

/// Files that can be looked into.
pub trait FileSet {
    /// Every file: its path and its size in bytes.
    fn files(&self) -> &[(String, u64)];

    /// Opens a file.
    ///
    /// # Errors
    /// It cannot be read.
    fn open(&self, path: &str) -> io::Result<Box<dyn ReadAt + '_>>;
}

/// What a person says of a set of files: it goes before what is recognised.
#[derive(Debug, Clone, Copy, Default)]
pub struct Said<'a> {
    /// Path of the kernel.
    pub kernel: Option<&'a str>,
    /// Paths of the initrds.
    pub initrds: Option<&'a [String]>,
    /// Path of the UEFI application.
    pub program: Option<&'a str>,
    /// Path of the disk.
    pub disk: Option<&'a str>,
}

const BY_HAND: &str = "said by hand";

/// Says what a set of files is.
#[must_use]
pub fn recognise(files: &impl FileSet, said: Said<'_>) -> Recognition {
    let mut found = Recognition::default();
    families::recognise(files, &mut found);
    let by_hand = |path: &str| Found::new(path.to_owned(), BY_HAND.to_owned());
    if said.kernel.is_some() || said.program.is_some() || said.disk.is_some() {
        found.kernel = said.kernel.map(by_hand);
        found.program = said.program.map(by_hand);
        found.disk = said.disk.map(by_hand);
    }
    if let Some(initrds) = said.initrds {
        found.initrds = initrds.iter().map(|path| by_hand(path)).collect();
    }
    if found.disk.is_none() {
        kernels(files, &mut found);
        initrds(files, said.initrds.is_some(), &mut found);
    }
    single(files, &mut found);
    signers(files, &mut found);
    found.judge(files, said.initrds.is_some());
    found
}

/// Finds the kernel, where the family did not name it, and reads what it says of itself.
fn kernels(files: &impl FileSet, found: &mut Recognition) {
    let open = |path: &str| Some((path.to_owned(), kernel::read(&files.open(path).ok()?)?));
    let named = found.kernel.take().and_then(|named| {
        let read = open(&named.value);
        if read.is_none() && named.from == BY_HAND {
            found.notes.push(format!(
                "{} is no kernel that is known here: it is started as it was said",
                named.value
            ));
            found.kernel = Some(named);
            return None;
        }
        if read.is_none() {
            found.faults.push(missing(&named.value, &format!("the kernel that {} names", named.from)));
        }
        read.map(|(path, kernel)| (path, kernel, named.from))
    });
    let best = || {
        let looked = likely(files, &["vmlinu", "linux", "bzimage", "kernel", "memtest", "mt86", "image"]);
        // A file that came alone may be called anything.
        let alone = match files.files() {
            [(only, _)] => Some(only.clone()),
            _ => None,
        };
        let kernels = looked.into_iter().chain(alone).filter_map(|path| open(&path));
        // A kernel may be a UEFI application as well, and be called as one.
        let applications = || applications(files).into_iter().filter_map(|path| open(&path)).next();
        let (path, kernel) = kernels.min_by_key(|(path, _)| plainness(path)).or_else(applications)?;
        Some((path, kernel, "its content".to_owned()))
    };
    let given = found.program.is_some() || found.kernel.is_some();
    let named = if given { named } else { named.or_else(best) };
    let Some((path, kernel, from)) = named else { return };
    if let Some((version, place)) = kernel.version {
        found.kernel_version = Some(Found::new(version, format!("{path}, {place}")));
    }
    if let Some(test) = kernel.memory_test {
        found.kind = Some(Found::new(ImageKind::Tool, format!("{path} says that it is {test}")));
        found.system.get_or_insert_with(|| Found::new(test, path.clone()));
    }
    found.cpu = Some(Found::new(kernel.cpu, format!("{path}, its header")));
    found.kernel = Some(Found::new(path, from));
}

/// Finds the initrd beside the kernel, and reads what it is of.
fn initrds(files: &impl FileSet, said: bool, found: &mut Recognition) {
    let Some(kernel) = found.kernel.clone() else { return };
    if found.kind.as_ref().is_some_and(|kind| kind.value == ImageKind::Tool) {
        return;
    }
    let folder = |path: &str| path.rsplit_once('/').map_or(String::new(), |(folder, _)| folder.to_owned());
    if found.initrds.is_empty() && !said {
        let home = folder(&kernel.value);
        let mut beside = likely(files, &["initrd", "initramfs"]);
        beside.retain(|path| folder(path) == home && *path != kernel.value);
        // Of several, the one named as the kernel is: `vmlinuz-6.1` goes with `initrd.img-6.1`.
        let suffix =
            kernel.value.rsplit('/').next().and_then(|name| name.split_once('-')).map(|(_, suffix)| suffix);
        beside.sort_by_key(|path| (suffix.is_some_and(|suffix| !path.ends_with(suffix)), plainness(path)));
        found.initrds = beside
            .into_iter()
            .take(1)
            .map(|path| Found::new(path, "it lies beside the kernel".into()))
            .collect();
    }
    for path in found.initrds.iter().map(|found| found.value.clone()).collect::<Vec<_>>() {
        let read = files.open(&path).and_then(|source| initrd::read(&source));
        match read {
            Ok(inner) => from_initrd(found, &path, &inner),
            Err(_) if said => {
                found.notes.push(format!(
                    "{path} is no initrd that is known here: it is given to the kernel as it was said"
                ));
            }
            Err(error) => found.faults.push(Fault {
                place: path.clone(),
                what: format!("this is no initrd that a kernel could unpack: {error}"),
                fix: "Give the initrd that belongs to the kernel.".into(),
            }),
        }
    }
}

fn from_initrd(found: &mut Recognition, path: &str, inner: &initrd::Initrd) {
    let is_installer = inner.has("usr/bin/debconf");
    if is_installer && found.family.is_none() {
        let from = format!("{path} holds usr/bin/debconf");
        found.family = Some(Found::new(Family::Preseed, from.clone()));
        found.kind = Some(Found::new(ImageKind::Installer, from));
    }
    if is_installer {
        if let Some((name, file)) = inner.release("DISTRIB_ID") {
            found.system.get_or_insert(Found::new(name, format!("{path}, {file}, DISTRIB_ID")));
        }
        if let Some((version, file)) = inner.release("DISTRIB_RELEASE") {
            let version = version.split_whitespace().next().unwrap_or_default().to_owned();
            found.version.get_or_insert(Found::new(version, format!("{path}, {file}, DISTRIB_RELEASE")));
        }
    } else {
        if let Some((name, file)) = inner.release("NAME") {
            found.system.get_or_insert(Found::new(name, format!("{path}, {file}, NAME")));
        }
        if let Some((version, file)) = inner.release("VERSION_ID") {
            found.version.get_or_insert(Found::new(version, format!("{path}, {file}, VERSION_ID")));
        }
    }
    let live =
        ["scripts/casper", "scripts/live", "usr/lib/live/boot"].into_iter().find(|name| inner.has(name));
    if let Some(name) = live {
        found.kind.get_or_insert_with(|| Found::new(ImageKind::Live, format!("{path} holds {name}")));
    }
    if let Some(kernel) = &found.kernel_version
        && !inner.modules.is_empty()
        && !inner.modules.contains(&kernel.value)
    {
        let modules: Vec<&str> = inner.modules.iter().map(String::as_str).collect();
        found.faults.push(Fault {
            place: path.into(),
            what: format!(
                "its modules are for kernel {}, but the kernel is {} ({})",
                modules.join(" and "),
                kernel.value,
                kernel.from
            ),
            fix: "Give kernel and initrd of the same build.".into(),
        });
    }
}

/// A single file that is not started by a kernel's loader: a UEFI application, a disk.
fn single(files: &impl FileSet, found: &mut Recognition) {
    if found.kernel.is_some() || found.program.is_some() || found.disk.is_some() {
        return;
    }
    let mut programs = applications(files);
    if let [(path, _)] = files.files() {
        programs.push(path.clone());
    }
    for path in programs {
        if let Some(program) = program_at(files, &path) {
            found.cpu = Some(Found::new(program.cpu, format!("{path}, its header")));
            let from = format!("{path} is a UEFI application");
            found.kind.get_or_insert(Found::new(ImageKind::FirmwareApp, from.clone()));
            found.program = Some(Found::new(path, from));
            return;
        }
    }
    if let [(path, _)] = files.files()
        && let Some(disk) = files.open(path).ok().and_then(|source| disk::read(&source))
    {
        let packed = disk
            .compression
            .map_or(String::new(), |compression| format!(", compressed with {}", compression.as_str()));
        let from = format!("{path} is a disk with a {} partition table{packed}", disk.table);
        found.kind = Some(Found::new(ImageKind::Disk, from.clone()));
        found.disk = Some(Found::new(path.clone(), from));
    }
}

/// Files that are called as UEFI applications are, the plainest paths first.
fn applications(files: &impl FileSet) -> Vec<String> {
    let programs = files.files().iter().filter(|(path, _)| path.to_ascii_lowercase().ends_with(".efi"));
    let mut programs: Vec<String> = programs.map(|(path, _)| path.clone()).collect();
    programs.sort_by_key(|path| plainness(path));
    programs.truncate(MOST_LOOKED);
    programs
}

/// Reads who signed the kernel or the application.
fn signers(files: &impl FileSet, found: &mut Recognition) {
    let started = found.kernel.as_ref().or(found.program.as_ref()).map(|found| found.value.clone());
    if let Some(path) = started
        && let Some(program) = program_at(files, &path)
    {
        found.signers = program.signers.into_iter().map(|signer| Found::new(signer, path.clone())).collect();
    }
}

fn program_at(files: &impl FileSet, path: &str) -> Option<Program> {
    let source = files.open(path).ok()?;
    let size = source.size();
    let bytes = source.read_up_to(0, usize::try_from(size).ok().filter(|_| size <= MOST_PROGRAM)?).ok()?;
    Program::read(&bytes)
}

/// Files whose name holds one of `parts`, the plainest paths first.
fn likely(files: &impl FileSet, parts: &[&str]) -> Vec<String> {
    let is_likely = |path: &str| {
        let name = path.rsplit('/').next().unwrap_or(path).to_ascii_lowercase();
        parts.iter().any(|part| name.contains(part))
            && !name.ends_with(".efi")
            && !name.ends_with(".squashfs")
    };
    let named = files.files().iter().filter(|(path, size)| *size > 0 && is_likely(path));
    let mut paths: Vec<String> = named.map(|(path, _)| path.clone()).collect();
    paths.sort_by_key(|path| plainness(path));
    paths.truncate(MOST_LOOKED);
    paths
}

/// How far a path is from the one a person would pick: variants lie deeper, or in folders that say so.
fn plainness(path: &str) -> (bool, usize, usize) {
    let variant = ["gtk", "xen", "debug", "hwe", "graph", "fallback"].iter().any(|word| path.contains(word));
    (variant, path.matches('/').count(), path.len())
}

fn missing(path: &str, what: &str) -> Fault {
    Fault {
        place: path.into(),
        what: format!("{what} is missing"),
        fix: "Fetch the image again, or give all of its files.".into(),
    }
}

impl Recognition {
    /// Adds a fault if none of `any` is among the files.
    pub(super) fn needs(&mut self, files: &dyn FileSet, path: &str, what: &str, any: &[&str]) {
        let there = |(name, _): &(String, u64)| any.iter().any(|wanted| name.eq_ignore_ascii_case(wanted));
        if !files.files().iter().any(there) {
            self.faults.push(missing(path, what));
        }
    }

    /// Says what a revision of it would lack.
    fn judge(&mut self, files: &impl FileSet, initrds_said: bool) {
        if self.kernel.is_none() && self.program.is_none() && self.disk.is_none() {
            self.faults.push(Fault {
                place: "files".into(),
                what: format!("nothing that could be started was found among {} files", files.files().len()),
                fix: "Say by hand which file is the kernel, the UEFI application or the disk.".into(),
            });
        }
        let is_kind = |kind| self.kind.as_ref().is_some_and(|found| found.value == kind);
        if self.kernel.is_some()
            && self.initrds.is_empty()
            && !initrds_said
            && (is_kind(ImageKind::Installer) || is_kind(ImageKind::Live))
        {
            self.faults.push(missing("initrd", "the initrd"));
        }
    }
}
