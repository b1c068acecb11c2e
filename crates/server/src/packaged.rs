//! Loaders where the operating system's packages put them.

use std::{
    io,
    path::{Path, PathBuf},
};

use lastmile_api::{FoundFile, FoundLoader};
use lastmile_core::{
    boot::{LoaderFacts, identify},
    image::{ReadAt, recognise::FileSet},
    site::Site,
};

use crate::library::Opened;

/// A loader that packages may bring: the name it gets, the package, the user class it is for, and its files, the boot file
/// first. The files of one candidate lie in several packages.
struct Candidate {
    name: &'static str,
    package: &'static str,
    user_class: Option<&'static str>,
    files: &'static [(&'static str, &'static str)],
    /// Files that it does without.
    further: &'static [(&'static str, &'static str)],
}

const CANDIDATES: [Candidate; 9] = [
    Candidate {
        name: "signed-x64",
        package: "shim-signed, grub-efi-amd64-signed, grub-efi-amd64-bin",
        user_class: None,
        files: &[
            ("shimx64.efi", "/usr/lib/shim/shimx64.efi.signed"),
            ("grubx64.efi", "/usr/lib/grub/x86_64-efi-signed/grubnetx64.efi.signed"),
        ],
        further: &[("x86_64-efi/http.mod", "/usr/lib/grub/x86_64-efi/http.mod")],
    },
    Candidate {
        name: "signed-arm64",
        package: "shim-signed, grub-efi-arm64-signed, grub-efi-arm64-bin",
        user_class: None,
        files: &[
            ("shimaa64.efi", "/usr/lib/shim/shimaa64.efi.signed"),
            ("grubaa64.efi", "/usr/lib/grub/arm64-efi-signed/grubnetaa64.efi.signed"),
        ],
        further: &[("arm64-efi/http.mod", "/usr/lib/grub/arm64-efi/http.mod")],
    },
    Candidate {
        name: "installer-x64",
        package: "debian-installer-12-netboot-amd64",
        user_class: None,
        files: &[
            (
                "bootnetx64.efi",
                "/usr/lib/debian-installer/images/12/amd64/text/debian-installer/amd64/bootnetx64.efi",
            ),
            (
                "grubx64.efi",
                "/usr/lib/debian-installer/images/12/amd64/text/debian-installer/amd64/grubx64.efi",
            ),
        ],
        further: &[("x86_64-efi/http.mod", "/usr/lib/grub/x86_64-efi/http.mod")],
    },
    Candidate {
        name: "bios-http",
        package: "pxelinux, syslinux-common",
        user_class: None,
        files: &[("lpxelinux.0", "/usr/lib/PXELINUX/lpxelinux.0"), ("ldlinux.c32", MODULES[0].1)],
        further: &MODULES,
    },
    Candidate {
        name: "bios",
        package: "pxelinux, syslinux-common",
        user_class: None,
        files: &[("pxelinux.0", "/usr/lib/PXELINUX/pxelinux.0"), ("ldlinux.c32", MODULES[0].1)],
        further: &MODULES,
    },
    Candidate {
        name: "script-bios",
        package: "ipxe",
        user_class: None,
        files: &[("undionly.kpxe", "/usr/lib/ipxe/undionly.kpxe")],
        further: &[],
    },
    Candidate {
        name: "script-x64",
        package: "ipxe",
        user_class: None,
        files: &[("snponly.efi", "/usr/lib/ipxe/snponly.efi")],
        further: &[],
    },
    Candidate {
        name: "script-x64-drivers",
        package: "ipxe",
        user_class: None,
        files: &[("ipxe.efi", "/usr/lib/ipxe/ipxe.efi")],
        further: &[],
    },
    Candidate {
        name: "script-arm64",
        package: "ipxe",
        user_class: None,
        files: &[("ipxe-arm64.efi", "/usr/lib/ipxe/ipxe-arm64.efi")],
        further: &[],
    },
];

/// What PXELINUX loads beside itself: its core, the menu, and what that needs.
const MODULES: [(&str, &str); 6] = [
    ("ldlinux.c32", "/usr/lib/syslinux/modules/bios/ldlinux.c32"),
    ("menu.c32", "/usr/lib/syslinux/modules/bios/menu.c32"),
    ("libutil.c32", "/usr/lib/syslinux/modules/bios/libutil.c32"),
    ("libcom32.c32", "/usr/lib/syslinux/modules/bios/libcom32.c32"),
    ("reboot.c32", "/usr/lib/syslinux/modules/bios/reboot.c32"),
    ("poweroff.c32", "/usr/lib/syslinux/modules/bios/poweroff.c32"),
];

/// The loaders that are on this host, below `root`.
pub(crate) fn find(root: &Path, site: &Site) -> Vec<FoundLoader> {
    CANDIDATES.iter().filter_map(|candidate| look(root, site, candidate)).collect()
}

fn look(root: &Path, site: &Site, candidate: &Candidate) -> Option<FoundLoader> {
    let at = |path: &str| root.join(path.trim_start_matches('/'));
    let there = |(name, path): &(&str, &str)| {
        let path = at(path);
        path.is_file().then(|| FoundFile { name: (*name).into(), path: path.display().to_string() })
    };
    let mut files: Vec<FoundFile> = candidate.files.iter().map(there).collect::<Option<_>>()?;
    for further in candidate.further.iter().filter_map(there) {
        if !files.iter().any(|file| file.name == further.name) {
            files.push(further);
        }
    }
    let boot_file = files.first()?.name.clone();
    let facts = identify(&OnHost::new(&files).ok()?, &boot_file);
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

/// Files on the host, under the names that they would get.
pub(crate) struct OnHost {
    names: Vec<(String, u64)>,
    paths: Vec<PathBuf>,
}

impl OnHost {
    pub(crate) fn new(files: &[FoundFile]) -> io::Result<Self> {
        let size = |file: &FoundFile| Ok((file.name.clone(), std::fs::metadata(&file.path)?.len()));
        Ok(Self {
            names: files.iter().map(size).collect::<io::Result<_>>()?,
            paths: files.iter().map(|file| PathBuf::from(&file.path)).collect(),
        })
    }
}

impl FileSet for OnHost {
    fn files(&self) -> &[(String, u64)] {
        &self.names
    }

    fn open(&self, path: &str) -> io::Result<Box<dyn ReadAt + '_>> {
        let place = self.names.iter().position(|(name, _)| name == path).ok_or(io::ErrorKind::NotFound)?;
        Ok(Box::new(Opened::new(std::fs::File::open(&self.paths[place])?)?))
    }
}
