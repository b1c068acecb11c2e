//! FAT volumes that other programs made, read back.

#![allow(clippy::unwrap_used, clippy::expect_used, reason = "a test that cannot go on fails")]

use std::{
    collections::BTreeMap,
    path::{Path, PathBuf},
    process::Command,
};

use lastmile_formats::{
    fat::{FatFile, files},
    read_at::{Pieces, ReadAt},
};
use proptest::prelude::*;

fn run(program: &str, package: &str, arguments: &[&str]) {
    let output = Command::new(program).args(arguments).env("MTOOLS_SKIP_CHECK", "1").output();
    let output = output.unwrap_or_else(|_| panic!("{program} is needed: install the package {package}"));
    assert!(output.status.success(), "{program}: {}", String::from_utf8_lossy(&output.stderr));
}

/// A volume of `kib` KiB, with files of every kind of name, one of them in pieces.
fn made(folder: &Path, width: &str, kib: u32) -> (Vec<u8>, BTreeMap<String, Vec<u8>>) {
    let image = folder.join(format!("fat{width}.img"));
    let image = image.to_str().unwrap();
    run("/usr/sbin/mkfs.fat", "dosfstools", &["-F", width, "-s", "1", "-C", image, &kib.to_string()]);
    let content =
        |size: usize, seed: usize| (0..size).map(|n| ((n * 31 + seed) % 251) as u8).collect::<Vec<u8>>();
    let mut expected = BTreeMap::new();
    let mut copy = |path: &str, bytes: Vec<u8>| {
        let from: PathBuf = folder.join("content");
        std::fs::write(&from, &bytes).unwrap();
        run("/usr/bin/mcopy", "mtools", &["-i", image, from.to_str().unwrap(), &format!("::{path}")]);
        expected.insert(path.to_owned(), bytes);
    };
    for made in ["EFI", "EFI/BOOT", "a folder with blanks"] {
        run("/usr/bin/mmd", "mtools", &["-i", image, &format!("::{made}")]);
    }
    copy("gap", content(3000, 1));
    copy("EFI/BOOT/BOOTX64.EFI", content(70_001, 2));
    copy("after", content(10_000, 3));
    copy("a folder with blanks/A rather long name, ünd beyond ASCII.txt", content(5, 4));
    copy("EFI/BOOT/empty", Vec::new());
    copy("lower.cfg", content(512, 5));
    // What is written over a gap lies in pieces.
    run("/usr/bin/mdel", "mtools", &["-i", image, "::gap"]);
    copy("pieces", content(60_000, 6));
    expected.remove("gap");
    (std::fs::read(image).unwrap(), expected)
}

fn content(image: &[u8], file: &FatFile) -> Vec<u8> {
    let pieces = Pieces::new(image, &file.extents);
    let mut bytes = vec![0; usize::try_from(pieces.size()).unwrap()];
    pieces.read_at(0, &mut bytes).unwrap();
    bytes
}

#[test]
fn volumes_of_each_width_are_read_as_they_were_written() {
    let folder = tempfile::tempdir().unwrap();
    for (width, kib) in [("12", 1440), ("16", 16_384), ("32", 40_960)] {
        let (image, expected) = made(folder.path(), width, kib);
        let read = files(&image).unwrap().unwrap();
        let found: BTreeMap<String, Vec<u8>> =
            read.iter().map(|file| (file.path.clone(), content(&image, file))).collect();
        assert_eq!(found.keys().collect::<Vec<_>>(), expected.keys().collect::<Vec<_>>(), "FAT{width}");
        assert!(found == expected, "FAT{width}: the content differs");
        // On FAT32 room is taken behind what was taken last, and no gap is filled.
        let in_pieces = read.iter().any(|file| file.extents.len() > 1);
        assert!(in_pieces || width == "32", "FAT{width}: nothing lay in pieces");
    }
}

#[test]
fn what_is_no_volume_or_cut_off_is_told_apart() {
    let folder = tempfile::tempdir().unwrap();
    let (image, _) = made(folder.path(), "12", 1440);
    assert_eq!(files(&vec![0; 4096]).unwrap(), None);
    assert_eq!(files(&b"short".to_vec()).unwrap(), None);
    // All that is there may lie in front of the cut; nothing beyond it is ever said to be there.
    for length in (512..200_000).step_by(1009) {
        let cut = image[..length].to_vec();
        for file in files(&cut).ok().flatten().into_iter().flatten() {
            assert!(file.extents.iter().all(|extent| extent.offset + extent.length <= 1440 * 1024));
        }
    }
}

proptest! {
    #[test]
    fn any_bytes_end(mut image in proptest::collection::vec(any::<u8>(), 512..8192)) {
        image[510..512].copy_from_slice(&[0x55, 0xaa]);
        image[11..17].copy_from_slice(&[0, 2, 1, 1, 0, 1]);
        let _ = files(&image);
    }
}
