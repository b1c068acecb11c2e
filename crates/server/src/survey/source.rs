//! Where the survey's kernel and drivers come from.

use std::{
    fs::File,
    io::{self, Read},
    path::{Path, PathBuf},
};

use lastmile_api::KernelSource;
use lastmile_core::model::image::FileEntry;
use lastmile_formats::{
    compressed::unpacked,
    deb::{Deb, DebError},
    kernel,
    read_at::ReadAt,
};
use walkdir::WalkDir;

use super::BuildError;
use crate::library::{Library, Opened};

/// What is shown each file: its path below the root of a system, and its content.
pub(super) type Visitor<'a> = dyn FnMut(&str, &mut dyn Read) -> io::Result<()> + 'a;

/// A kernel with its modules, and firmware, wherever they lie.
pub(super) enum Source {
    /// What a system runs, below a folder that stands for its root.
    Host {
        root: PathBuf,
        release: String,
    },
    Packages(Vec<(String, Opened)>),
    Files {
        kernel: Opened,
        modules: Opened,
        release: String,
    },
}

impl Source {
    /// Opens what was asked for.
    pub(super) fn open(library: &Library, asked: &KernelSource) -> Result<Self, BuildError> {
        let open = |entry: &FileEntry| {
            let missing = || BuildError::Missing { path: entry.path.clone() };
            library.look_into(&entry.sha256.ok_or_else(missing)?).map_err(|_| missing())
        };
        match asked {
            KernelSource::Host => {
                let name = rustix::system::uname();
                Ok(Self::Host { root: "/".into(), release: name.release().to_string_lossy().into_owned() })
            }
            KernelSource::Packages { files } => {
                let all = files.iter().map(|entry| Ok((entry.path.clone(), open(entry)?)));
                Ok(Self::Packages(all.collect::<Result<_, BuildError>>()?))
            }
            KernelSource::Files { kernel, modules } => {
                let opened = open(kernel)?;
                let found = kernel::read(&opened).and_then(|found| found.version);
                let (release, _) = found.ok_or_else(|| BuildError::NoKernel { path: kernel.path.clone() })?;
                Ok(Self::Files { kernel: opened, modules: open(modules)?, release })
            }
        }
    }

    /// Bytes that are read to see all of it, about: for telling how far that is.
    pub(super) fn size(&self) -> u64 {
        match self {
            Self::Host { root, release } => {
                let files = WalkDir::new(root.join("lib/modules").join(release)).into_iter().flatten();
                files.filter_map(|file| file.metadata().ok()).map(|found| found.len()).sum()
            }
            // Unpacked, they are about six times as large.
            Self::Packages(files) => files.iter().map(|(_, file)| file.size()).sum::<u64>() * 6,
            Self::Files { modules, .. } => modules.size(),
        }
    }

    /// Shows every file to `visitor`, always in the same order.
    pub(super) fn visit(&self, visitor: &mut Visitor<'_>) -> Result<(), BuildError> {
        match self {
            Self::Host { root, release } => visit_host(root, release, visitor),
            Self::Packages(files) => files.iter().try_for_each(|(path, file)| {
                let visited = Deb::visit(file, |path, _, content| {
                    visitor(path.strip_prefix("usr/").unwrap_or(path), content)
                });
                visited.map(drop).map_err(|error| match error {
                    DebError::Read(error) => BuildError::Io(error),
                    source => BuildError::NoPackage { path: path.clone(), source },
                })
            }),
            Self::Files { kernel, modules, release } => {
                let whole = kernel.read_up_to(0, usize::try_from(kernel.size()).unwrap_or(usize::MAX))?;
                visitor(&format!("boot/vmlinuz-{release}"), &mut whole.as_slice())?;
                let mut archive = tar::Archive::new(unpacked(modules)?.1);
                for entry in archive.entries()? {
                    let mut entry = entry?;
                    if entry.header().entry_type().is_file() {
                        let path = entry.path()?.to_string_lossy().trim_start_matches("./").to_owned();
                        visitor(&format!("lib/modules/{release}/{path}"), &mut entry)?;
                    }
                }
                Ok(())
            }
        }
    }
}

fn visit_host(root: &Path, release: &str, visitor: &mut Visitor<'_>) -> Result<(), BuildError> {
    let kernel = root.join(format!("boot/vmlinuz-{release}"));
    let modules = root.join("lib/modules").join(release);
    if !kernel.is_file() || !modules.is_dir() {
        return Err(BuildError::NotOnHost { release: release.into() });
    }
    let mut show = |path: &Path| -> io::Result<()> {
        let name = path.strip_prefix(root).unwrap_or(path).to_string_lossy();
        visitor(&name, &mut File::open(path)?)
    };
    show(&kernel)?;
    for folder in [modules, root.join("lib/firmware")] {
        // Firmware is linked from place to place; the links' names are what drivers ask for.
        let files = WalkDir::new(folder).follow_links(true).sort_by_file_name().into_iter().flatten();
        for file in files.filter(|file| file.file_type().is_file()) {
            // A file that is gone by now is one that is not there.
            match show(file.path()) {
                Err(error) if error.kind() == io::ErrorKind::NotFound => {}
                other => other?,
            }
        }
    }
    Ok(())
}

/// The name that drivers ask for a file of firmware by, if a path is one.
pub(super) fn firmware_name(path: &str) -> Option<&str> {
    let name = path.strip_prefix("lib/firmware/")?;
    let plain = name.strip_suffix(".xz").or_else(|| name.strip_suffix(".zst"));
    Some(plain.unwrap_or(name))
}

/// A module's path below the folder of its kernel's modules, and that kernel.
pub(super) fn module_path(path: &str) -> Option<(&str, &str)> {
    let (release, module) = path.strip_prefix("lib/modules/")?.split_once('/')?;
    let is_module = [".ko", ".ko.xz", ".ko.gz", ".ko.zst"].iter().any(|end| module.ends_with(end));
    is_module.then_some((release, module))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_say_what_they_are() {
        let module = "lib/modules/6.1.0-57-amd64/kernel/drivers/net/ethernet/dune.ko.xz";
        assert_eq!(module_path(module), Some(("6.1.0-57-amd64", "kernel/drivers/net/ethernet/dune.ko.xz")));
        assert_eq!(module_path("lib/modules/6.1.0-57-amd64/modules.order"), None);
        assert_eq!(firmware_name("lib/firmware/marram/dune-7.bin.zst"), Some("marram/dune-7.bin"));
    }
}
