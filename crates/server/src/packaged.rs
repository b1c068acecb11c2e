//! Loaders in the operating system's packages: installed on this host, or as package files.

use std::{
    collections::BTreeMap,
    io,
    path::{Path, PathBuf},
};

use lastmile_api::{FoundFile, FoundLoader};
use lastmile_core::{
    decide::{
        image::FileSet,
        loader::{CANDIDATES, Candidate, identify, is_packaged},
    },
    model::loader::LoaderFacts,
    site::Site,
};
use lastmile_formats::{
    deb::{Deb, DebError},
    read_at::ReadAt,
};

use crate::library::Opened;

/// Where packages' files are.
pub(crate) enum Packages {
    /// On this host, below a folder.
    Installed(PathBuf),
    /// In package files: content by its absolute path.
    Files(BTreeMap<String, Vec<u8>>),
}

impl Packages {
    /// With what loaders are made of in package files.
    ///
    /// # Errors
    /// The number of the one that is no package, and why.
    pub(crate) fn read(files: &[Opened]) -> Result<Self, (usize, DebError)> {
        let mut all = BTreeMap::new();
        for (number, file) in files.iter().enumerate() {
            let package = Deb::read(file, |path| is_packaged(&format!("/{path}")));
            let package = package.map_err(|error| (number, error))?;
            all.extend(package.files.into_iter().map(|file| (format!("/{}", file.path), file.content)));
        }
        Ok(Self::Files(all))
    }

    /// Those that are installed on this host.
    pub(crate) fn installed() -> Self {
        Self::Installed("/".into())
    }

    fn on_host(root: &Path, path: &str) -> PathBuf {
        root.join(path.trim_start_matches('/'))
    }

    fn has(&self, path: &str) -> bool {
        match self {
            Self::Installed(root) => Self::on_host(root, path).is_file(),
            Self::Files(all) => all.contains_key(path),
        }
    }

    /// Opens a file by the path that it was found at.
    ///
    /// # Errors
    /// It cannot be read.
    pub(crate) fn open(&self, path: &str) -> io::Result<Box<dyn ReadAt + '_>> {
        match self {
            Self::Installed(root) => {
                Ok(Box::new(Opened::new(std::fs::File::open(Self::on_host(root, path))?)?))
            }
            Self::Files(all) => Ok(Box::new(all.get(path).ok_or(io::ErrorKind::NotFound)?.as_slice())),
        }
    }

    /// The loaders that are in them.
    pub(crate) fn loaders(&self, site: &Site) -> Vec<FoundLoader> {
        CANDIDATES.iter().filter_map(|candidate| self.look(site, candidate)).collect()
    }

    fn look(&self, site: &Site, candidate: &Candidate) -> Option<FoundLoader> {
        let files = candidate.files(|path| self.has(path))?;
        let file = |(name, path): &(&str, &str)| FoundFile { name: (*name).into(), path: (*path).into() };
        let files: Vec<FoundFile> = files.iter().map(file).collect();
        let boot_file = files.first()?.name.clone();
        let facts = identify(&PackagedFiles::new(self, &files).ok()?, &boot_file);
        Some(FoundLoader {
            name: candidate.name.into(),
            package: candidate.package.into(),
            in_the_way: in_the_way(site, candidate, &facts),
            user_class: candidate.user_class.map(str::to_owned),
            boot_file,
            facts,
            files,
        })
    }
}

fn in_the_way(site: &Site, candidate: &Candidate, facts: &LoaderFacts) -> Option<String> {
    if site.loader(candidate.name).is_some() {
        return Some(format!("a loader named '{}' exists already", candidate.name));
    }
    let architecture = facts.architecture.as_ref()?.value;
    let other = site.loaders().find(|loader| {
        loader.architecture == architecture
            && loader.class.is_none()
            && loader.user_class.as_deref() == candidate.user_class
    })?;
    Some(format!("{architecture} has loader '{}' already", other.name))
}

/// Files of packages, under the names that they would get.
struct PackagedFiles<'a> {
    packages: &'a Packages,
    names: Vec<(String, u64)>,
    files: &'a [FoundFile],
}

impl<'a> PackagedFiles<'a> {
    fn new(packages: &'a Packages, files: &'a [FoundFile]) -> io::Result<Self> {
        let size = |file: &FoundFile| Ok((file.name.clone(), packages.open(&file.path)?.size()));
        Ok(Self { packages, names: files.iter().map(size).collect::<io::Result<_>>()?, files })
    }
}

impl FileSet for PackagedFiles<'_> {
    fn files(&self) -> &[(String, u64)] {
        &self.names
    }

    fn open(&self, path: &str) -> io::Result<Box<dyn ReadAt + '_>> {
        let file = self.files.iter().find(|file| file.name == path).ok_or(io::ErrorKind::NotFound)?;
        self.packages.open(&file.path)
    }
}
