//! Makes the survey's system: a kernel, and an archive with the agent, the kernel's drivers and the firmware that those ask for.

use std::{
    collections::{BTreeMap, BTreeSet},
    fs::File,
    io::{self, Read, Write},
    sync::Arc,
};

use lastmile_core::{
    decide::survey::system::{INITRD, KERNEL, MOST_ARCHIVE, select},
    model::image::{FileEntry, Sha256},
};
use lastmile_formats::{
    compressed::Compression,
    cpio::Archive,
    cpu::Cpu,
    deb::DebError,
    kernel,
    modules::{ModuleInfo, Modules},
};
use sha2::Digest;
use thiserror::Error;
use zstd::stream::write::Encoder;

use super::{
    programs,
    source::{Source, firmware_name, module_path},
};
use crate::{
    library::Library,
    work::{WorkBook, WorkHandle},
};

/// zstd's level: the archive is made once and read by every machine; higher ones take minutes for a hundredth less.
const LEVEL: i32 = 12;
/// Largest kernel, module and file of firmware that is read.
const MOST_FILE: u64 = 256 << 20;
/// Where the shell and small tools are in the archive.
const TOOLS: &str = "bin/busybox";
/// Folders that the agent mounts file systems on, or the kernel wants to be there.
const FOLDERS: [&str; 6] = ["dev", "proc", "run", "sys", "tmp", "etc"];

/// Why no system could be made.
#[derive(Debug, Error)]
pub(crate) enum BuildError {
    #[error("the content of {path} is not in the library")]
    Missing { path: String },
    #[error("{path} is no Linux kernel that says its version")]
    NoKernel { path: String },
    #[error("{path}: {source}")]
    NoPackage { path: String, source: DebError },
    #[error(
        "this host runs Linux {release}, of which it has not both /boot/vmlinuz-{release} and /lib/modules/{release}"
    )]
    NotOnHost { release: String },
    #[error("there is no kernel among the files: none is named boot/vmlinuz-…")]
    LacksKernel,
    #[error("there are several kernels: {0}")]
    SeveralKernels(String),
    #[error("the kernel is Linux {kernel}, and there are no modules for it")]
    LacksModules { kernel: String },
    #[error("this service was built without the agent for {0} processors")]
    NoAgent(Cpu),
    #[error("{path} in the archive of added files leads out of it")]
    Outside { path: String },
    #[error("{0}")]
    Io(#[from] io::Error),
}

/// What was made. Its files are in the library.
#[derive(Debug)]
pub(crate) struct Built {
    pub(crate) files: Vec<FileEntry>,
    pub(crate) cpu: Cpu,
    /// The kernel's version, as `uname -r` prints it.
    pub(crate) release: String,
    /// What is good to know about it.
    pub(crate) notes: Vec<String>,
}

/// Makes the system of a source, and of an archive of files that are added. For a thread that may wait.
pub(crate) fn build(
    library: &Library,
    work: &Arc<WorkBook>,
    asked: &lastmile_api::SurveyBuild,
) -> Result<Built, BuildError> {
    build_of(&Source::open(library, &asked.kernel)?, library, work, asked.add.as_ref())
}

/// The same of a source that is open.
pub(super) fn build_of(
    source: &Source,
    library: &Library,
    work: &Arc<WorkBook>,
    add: Option<&FileEntry>,
) -> Result<Built, BuildError> {
    let mut progress = work.begin("build the survey's system", source.size() * 2);
    let built = Found::in_source(source, &mut progress)
        .and_then(|found| found.write(source, library, add, &mut progress));
    progress.end(built.as_ref().err().map(ToString::to_string).unwrap_or_default());
    built
}

/// What is in a source.
struct Found {
    kernel: Vec<u8>,
    cpu: Cpu,
    release: String,
    /// Each module by its path below the folder of modules.
    modules: BTreeMap<String, ModuleInfo>,
    firmware: BTreeSet<String>,
}

impl Found {
    fn in_source(source: &Source, progress: &mut WorkHandle) -> Result<Self, BuildError> {
        let (mut kernels, mut modules, mut firmware) = (BTreeMap::new(), BTreeMap::new(), BTreeSet::new());
        source.visit(&mut |path, content| {
            if path.starts_with("boot/vmlinuz-") || path.starts_with("boot/vmlinux-") {
                kernels.insert(path.to_owned(), read(content, progress)?);
            } else if let Some((release, module)) = module_path(path) {
                let file = unpacked(read(content, progress)?)?;
                if let Some(info) = ModuleInfo::read(&file) {
                    modules.insert((release.to_owned(), module.to_owned()), info);
                }
            } else if let Some(name) = firmware_name(path) {
                firmware.insert(name.to_owned());
            }
            Ok(())
        })?;
        let mut kernels = kernels.into_iter();
        let (path, kernel) = kernels.next().ok_or(BuildError::LacksKernel)?;
        if let Some((other, _)) = kernels.next() {
            return Err(BuildError::SeveralKernels(format!("{path}, {other}")));
        }
        let found = kernel::read(&kernel.as_slice()).ok_or(BuildError::NoKernel { path: path.clone() })?;
        let (release, _) = found.version.ok_or(BuildError::NoKernel { path })?;
        modules.retain(|(of, _), _| *of == release);
        if modules.is_empty() {
            return Err(BuildError::LacksModules { kernel: release });
        }
        let modules = modules.into_iter().map(|((_, path), info)| (path, info)).collect();
        Ok(Self { kernel, cpu: found.cpu, release, modules, firmware })
    }

    /// Writes the archive into the library, with the kernel beside it.
    fn write(
        self,
        source: &Source,
        library: &Library,
        add: Option<&FileEntry>,
        progress: &mut WorkHandle,
    ) -> Result<Built, BuildError> {
        let staged = library.staged();
        let written = self.write_archive(source, File::create(&staged)?, library, add, progress);
        if written.is_err() {
            // It goes at the next start otherwise.
            let _ = std::fs::remove_file(&staged);
        }
        let (size, sha256, notes) = written?;
        library.put_in_place(&staged, &sha256)?;
        let archive = FileEntry::new(INITRD, size, sha256);
        let kernel = library.take_content(KERNEL, &self.kernel.as_slice())?;
        Ok(Built { files: vec![kernel, archive], cpu: self.cpu, release: self.release, notes })
    }

    fn write_archive(
        &self,
        source: &Source,
        to: File,
        library: &Library,
        add: Option<&FileEntry>,
        progress: &mut WorkHandle,
    ) -> Result<(u64, Sha256, Vec<String>), BuildError> {
        let agent = programs::agent(self.cpu).ok_or(BuildError::NoAgent(self.cpu))?;
        let chosen = self.chosen();
        let wanted: BTreeSet<&str> =
            chosen.values().flat_map(|info| &info.firmware).map(String::as_str).collect();
        let mut contents = Contents::new(Encoder::new(Hashing::new(to), LEVEL)?)?;
        contents.file("init", 0o755, &agent)?;
        let folder = format!("lib/modules/{}", self.release);
        let tables = Modules::of(chosen.iter().map(|(path, info)| (plain(path), *info))).tables();
        for (name, text) in tables {
            contents.file(&format!("{folder}/{name}"), 0o644, text.as_bytes())?;
        }
        let (mut firmware, mut tools) = (0, None);
        source.visit(&mut |path, content| {
            if path == TOOLS {
                tools = Some(read(content, progress)?).filter(|tools| programs::is_for(tools, self.cpu));
            } else if let Some((release, module)) = module_path(path) {
                if release == self.release && chosen.contains_key(module) {
                    let file = unpacked(read(content, progress)?)?;
                    contents.file(&format!("{folder}/{}", plain(module)), 0o644, &file)?;
                }
            } else if let Some(name) = firmware_name(path).filter(|name| wanted.contains(name)) {
                let file = unpacked(read(content, progress)?)?;
                contents.file(&format!("lib/firmware/{name}"), 0o644, &file)?;
                firmware += 1;
            }
            Ok(())
        })?;
        let added = match add {
            Some(add) => contents.add(library, add)?,
            None => 0,
        };
        // Unless the site has put in its own.
        let tools = tools.or_else(|| programs::tools(self.cpu)).filter(|_| !contents.has_tools);
        if let Some(tools) = &tools {
            contents.file(TOOLS, 0o755, tools)?;
        }
        let has_shell = contents.has_tools;
        let (size, sha256) = contents.finish()?;
        let missing = wanted.iter().filter(|name| !self.firmware.contains(**name)).count();
        let counts = Counts { drivers: chosen.len(), firmware, missing, added, has_shell };
        Ok((size, sha256, counts.notes(&self.release, self.cpu, size)))
    }

    /// The modules that are put in, by their paths below the folder of modules.
    fn chosen(&self) -> BTreeMap<&str, &ModuleInfo> {
        let all = Modules::of(self.modules.iter().map(|(path, info)| (path.as_str(), info)));
        let chosen = select(&all).into_iter().filter_map(|module| self.modules.get_key_value(&module.path));
        chosen.map(|(path, info)| (path.as_str(), info)).collect()
    }
}

/// How many of what were put in.
struct Counts {
    drivers: usize,
    firmware: usize,
    /// Files of firmware that the drivers ask for, and the source has not.
    missing: usize,
    added: usize,
    /// Whether there is a shell in it.
    has_shell: bool,
}

impl Counts {
    fn notes(&self, release: &str, cpu: Cpu, size: u64) -> Vec<String> {
        let Self { drivers, firmware, missing, added, has_shell } = self;
        let some = |count: usize, one: &str| format!("{count} {one}{}", if count == 1 { "" } else { "s" });
        let mib = |bytes: u64| bytes as f64 / f64::from(1 << 20);
        let mut notes = vec![format!(
            "Linux {release} with {}, {} of firmware and {}: {:.1} MiB",
            some(*drivers, "driver"),
            some(*firmware, "file"),
            some(*added, "added file"),
            mib(size)
        )];
        if !has_shell {
            notes.push(format!(
                "it has no shell, which commands and scripts on machines need: give the package busybox-static for {cpu} beside \
                 the kernel's, or add bin/busybox with --add, and build it anew. A host of that processor needs the package only to be \
                 installed"
            ));
        }
        if *missing > 0 {
            notes.push(format!(
                "some of these drivers ask for {} of firmware that the source has not: most cards do without. \
                 Packages of firmware can be added to the kernel's",
                some(*missing, "file")
            ));
        }
        if size > MOST_ARCHIVE {
            notes.push(format!(
                "the archive is larger than {:.0} MiB: machines with 512 MiB of memory may not start it",
                mib(MOST_ARCHIVE)
            ));
        }
        notes
    }
}

/// A module's path without what says how it is compressed: the archive is compressed as a whole.
fn plain(path: &str) -> &str {
    path.find(".ko.").map_or(path, |at| &path[..at + 3])
}

/// Reads a file, and tells how far the work is.
fn read(content: &mut dyn Read, progress: &mut WorkHandle) -> io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    content.take(MOST_FILE + 1).read_to_end(&mut bytes)?;
    if bytes.len() as u64 > MOST_FILE {
        return Err(io::Error::other("a file is larger than any driver"));
    }
    progress.advance(bytes.len() as u64)?;
    Ok(bytes)
}

fn unpacked(bytes: Vec<u8>) -> io::Result<Vec<u8>> {
    let Some(compression) = Compression::of(&bytes) else { return Ok(bytes) };
    let mut plain = Vec::new();
    compression.unpack(bytes.as_slice())?.take(MOST_FILE).read_to_end(&mut plain)?;
    Ok(plain)
}

/// An archive that is being written, in which every folder is made before what is in it.
struct Contents<W: Write> {
    archive: Archive<W>,
    folders: BTreeSet<String>,
    /// Whether it has the shell and small tools.
    has_tools: bool,
}

impl Contents<Encoder<'_, Hashing>> {
    fn new(to: Encoder<'static, Hashing>) -> io::Result<Self> {
        let mut contents = Self { archive: Archive::new(to), folders: BTreeSet::new(), has_tools: false };
        FOLDERS.iter().try_for_each(|folder| contents.folder(folder))?;
        // The kernel opens it before the agent has mounted the others.
        contents.archive.device("dev/console", 0o600, 5, 1)?;
        Ok(contents)
    }

    fn folder(&mut self, path: &str) -> io::Result<()> {
        for (at, _) in path.match_indices('/').chain([(path.len(), "")]) {
            if self.folders.insert(path[..at].to_owned()) {
                self.archive.folder(&path[..at])?;
            }
        }
        Ok(())
    }

    fn above(&mut self, path: &str) -> io::Result<()> {
        path.rsplit_once('/').map_or(Ok(()), |(folder, _)| self.folder(folder))
    }

    fn file(&mut self, path: &str, permissions: u32, content: &[u8]) -> io::Result<()> {
        self.above(path)?;
        self.has_tools |= path == TOOLS;
        self.archive.file(path, permissions, content)
    }

    /// Adds the site's own files; gives how many they are.
    fn add(&mut self, library: &Library, add: &FileEntry) -> Result<usize, BuildError> {
        let missing = || BuildError::Missing { path: add.path.clone() };
        let source = library.look_into(&add.sha256.ok_or_else(missing)?).map_err(|_| missing())?;
        let mut archive = tar::Archive::new(lastmile_formats::compressed::unpacked(&source)?.1);
        let mut added = 0;
        for entry in archive.entries()? {
            let mut entry = entry?;
            let path =
                entry.path()?.to_string_lossy().trim_start_matches("./").trim_end_matches('/').to_owned();
            if path.split('/').any(|part| part == "..") || path.starts_with('/') {
                return Err(BuildError::Outside { path });
            }
            let kind = entry.header().entry_type();
            if kind.is_dir() && !path.is_empty() && path != "." {
                self.folder(&path)?;
            } else if kind.is_symlink() {
                let target = entry.link_name()?.map(|target| target.to_string_lossy().into_owned());
                self.above(&path)?;
                self.archive.link(&path, &target.unwrap_or_default())?;
            } else if kind.is_file() {
                let mut content = Vec::new();
                entry.by_ref().take(MOST_FILE).read_to_end(&mut content)?;
                self.file(&path, entry.header().mode()?, &content)?;
                added += 1;
            }
        }
        Ok(added)
    }

    fn finish(self) -> io::Result<(u64, Sha256)> {
        Ok(self.archive.finish()?.finish()?.finish())
    }
}

/// A file whose digest is taken as it is written.
struct Hashing {
    file: File,
    digest: sha2::Sha256,
    size: u64,
}

impl Hashing {
    fn new(file: File) -> Self {
        Self { file, digest: sha2::Sha256::new(), size: 0 }
    }

    fn finish(self) -> (u64, Sha256) {
        (self.size, Sha256::new(self.digest.finalize().into()))
    }
}

impl Write for Hashing {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let written = self.file.write(bytes)?;
        self.digest.update(&bytes[..written]);
        self.size += written as u64;
        Ok(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}
