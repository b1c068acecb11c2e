//! Any bytes as a volume, a package, a kernel, an initrd, an archive of another kind, a UEFI application or a loader: read, or
//! said what is wrong, and never more memory than the bytes are worth.
#![no_main]

use std::io;

use lastmile_core::decide::{
    image::{FileSet, Said, recognise},
    loader::identify,
};
use lastmile_formats::{deb::Deb, fat, iso9660::Iso, pe::Program, read_at::ReadAt};
use libfuzzer_sys::fuzz_target;

/// The same bytes under every name that is looked into.
struct Same<'a> {
    files: Vec<(String, u64)>,
    bytes: &'a [u8],
}

impl FileSet for Same<'_> {
    fn files(&self) -> &[(String, u64)] {
        &self.files
    }

    fn open(&self, _: &str) -> io::Result<Box<dyn ReadAt + '_>> {
        Ok(Box::new(self.bytes))
    }
}

const NAMES: [&str; 10] = [
    "install.amd/vmlinuz",
    "install.amd/initrd.gz",
    ".disk/info",
    ".treeinfo",
    "dists/skerry/Release",
    "casper/install-sources.yaml",
    "sources/boot.wim",
    "bootmgr.efi",
    "grubx64.efi",
    "disk.img",
];

fuzz_target!(|bytes: &[u8]| {
    if let Ok(iso) = Iso::read(&bytes) {
        for file in &iso.files {
            assert!(iso.get(&file.path).is_some(), "what is listed is found");
        }
    }
    let _ = Program::read(bytes);
    let _ = Deb::read(&bytes, |_| true);
    if let Ok(Some(files)) = fat::files(&bytes) {
        // Clusters may be said to lie beyond the end, but each file is as long as its entry says.
        assert!(files.iter().all(|file| !file.path.is_empty()));
    }
    let same = |names: &[&str]| Same {
        files: names.iter().map(|name| ((*name).to_owned(), bytes.len() as u64)).collect(),
        bytes,
    };
    let _ = recognise(&same(&NAMES), Said::default()).rows();
    for name in NAMES {
        let _ = recognise(&same(&[name]), Said::default());
    }
    let _ = identify(&same(&["grubx64.efi"]), "grubx64.efi");
});
