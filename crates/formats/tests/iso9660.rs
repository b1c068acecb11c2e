//! ISOs made by `xorriso`, read back byte for byte against what went in.
#![allow(clippy::unwrap_used, clippy::expect_used, reason = "a test that cannot go on fails")]

use std::{
    collections::BTreeMap,
    fs,
    io::{self, Read},
    os::unix::fs::symlink,
    path::{Path, PathBuf},
    process::{Command, Stdio},
};

use lastmile_formats::{
    iso9660::{Iso, IsoError, Names},
    read_at::{Pieces, ReadAt},
};
use proptest::prelude::*;

/// Names of every trouble: deep, long, mixed case, spaces, beyond ASCII.
const FILES: [(&str, usize); 9] = [
    ("install.amd/vmlinuz", 300_001),
    ("install.amd/initrd.gz", 2048),
    ("README.txt", 1),
    ("empty", 0),
    ("Mixed Case/with spaces.Txt", 5_000),
    ("one/two/three/four/five/six/seven/eight/nine/ten/eleven/deep.txt", 77),
    ("pool/a-rather-long-file-name-as-packages-have-them_1.2.3-4+deb12u1_amd64.udeb", 4_097),
    ("no.extension.at.all.", 9),
    ("isle/Möwe.txt", 2047),
];

fn xorriso(folder: &Path, iso: &str, options: &[&str]) {
    let made = Command::new("xorriso")
        .args(["-as", "mkisofs", "-quiet", "-o", iso])
        .args(options)
        .arg(folder)
        .output();
    let made = made.expect("xorriso is needed: install the package xorriso");
    assert!(made.status.success(), "{}: {}", made.status, String::from_utf8_lossy(&made.stderr));
}

struct Sample {
    folder: tempfile::TempDir,
    content: BTreeMap<String, Vec<u8>>,
}

impl Sample {
    fn new(files: &[(&str, usize)]) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let mut content = BTreeMap::new();
        for (index, (path, size)) in files.iter().enumerate() {
            let bytes: Vec<u8> = (0..*size).map(|n| ((n * 31 + index * 7 + n / 251) % 256) as u8).collect();
            let at = folder.path().join("tree").join(path);
            fs::create_dir_all(at.parent().unwrap()).unwrap();
            fs::write(at, &bytes).unwrap();
            content.insert((*path).to_owned(), bytes);
        }
        Self { folder, content }
    }

    fn tree(&self) -> PathBuf {
        self.folder.path().join("tree")
    }

    fn make(&self, options: &[&str]) -> Vec<u8> {
        let iso = self.folder.path().join("made.iso");
        xorriso(&self.tree(), iso.to_str().unwrap(), options);
        fs::read(iso).unwrap()
    }

    /// Every file is there, under the name that `rename` makes of it, and holds what went in; nothing else is.
    fn compare(&self, image: &[u8], iso: &Iso, rename: impl Fn(&str) -> String) {
        assert_eq!(iso.defects, [], "{:?}", iso.notes);
        let expected: Vec<String> = self.content.keys().map(|path| rename(path)).collect();
        let mut found: Vec<_> = iso.files.iter().map(|file| file.path.clone()).collect();
        found.sort();
        let mut sorted = expected.clone();
        sorted.sort();
        assert_eq!(found, sorted);
        for (path, bytes) in self.content.keys().zip(self.content.values()) {
            let file = iso.get(&rename(path)).unwrap();
            let mut got = vec![0xa5; bytes.len()];
            Pieces::new(image, &file.extents).read_at(0, &mut got).unwrap();
            assert!(got == *bytes, "{path} differs");
            assert_eq!(file.size(), bytes.len() as u64);
        }
    }
}

fn same(path: &str) -> String {
    path.to_owned()
}

#[test]
fn rock_ridge_gives_names_links_and_deep_folders() {
    let sample = Sample::new(&FILES);
    symlink("install.amd/vmlinuz", sample.tree().join("kernel")).unwrap();
    symlink(".", sample.tree().join("debian")).unwrap();
    symlink("../install.amd", sample.tree().join("one/boot")).unwrap();
    symlink("/etc/passwd", sample.tree().join("outside")).unwrap();
    symlink("../../../etc/passwd", sample.tree().join("far-outside")).unwrap();
    symlink("ring-b", sample.tree().join("ring-a")).unwrap();
    symlink("ring-a", sample.tree().join("ring-b")).unwrap();
    let flavours: [&[&str]; 3] = [&[], &["-J", "-joliet-long"], &["-hide-rr-moved"]];
    for options in flavours.map(|more| [&["-R", "-V", "TIDEWRACK_12"], more].concat()) {
        let image = sample.make(&options);
        let iso = Iso::read(&image).unwrap();
        assert_eq!((iso.names, iso.label.as_str()), (Names::RockRidge, "TIDEWRACK_12"));
        sample.compare(&image, &iso, same);
        let kernel = iso.get("install.amd/vmlinuz").unwrap();
        for way in ["kernel", "debian/kernel", "debian/debian/install.amd/vmlinuz", "one/boot/vmlinuz"] {
            assert_eq!(iso.get(way), Some(kernel), "{way}");
        }
        for nowhere in ["ring-a", "ring-b/x", "outside", "far-outside", "kernel/x", "install.amd"] {
            assert_eq!(iso.get(nowhere), None, "{nowhere}");
        }
    }
}

#[test]
fn joliet_and_plain_names_are_read_where_nothing_better_is() {
    let sample = Sample::new(&FILES);
    let image = sample.make(&["--norock", "-J", "-joliet-long", "-V", "Bollard 9"]);
    let iso = Iso::read(&image).unwrap();
    assert_eq!((iso.names, iso.label.as_str()), (Names::Joliet, "Bollard 9"));
    sample.compare(&image, &iso, |path| path.trim_end_matches('.').into());

    let plain = Sample::new(&[("INSTALL/LINUX.BIN", 9_999), ("INSTALL/NODOT", 3), ("A.TXT", 2_048)]);
    let image = plain.make(&["--norock", "-iso-level", "1", "-V", "PLAIN"]);
    let iso = Iso::read(&image).unwrap();
    assert_eq!(iso.names, Names::Plain);
    plain.compare(&image, &iso, same);
}

#[test]
fn hybrid_volumes_and_boot_catalogues_are_told() {
    let sample = Sample::new(&FILES);
    fs::write(sample.tree().join("boot.img"), [0; 4096]).unwrap();
    fs::write(sample.tree().join("efi.img"), [0; 8192]).unwrap();
    let boot =
        ["-R", "-b", "boot.img", "-no-emul-boot", "-eltorito-alt-boot", "-e", "efi.img", "-no-emul-boot"];
    let iso = Iso::read(&sample.make(&boot)).unwrap();
    assert_eq!(iso.notes, ["as a disc it boots on BIOS and UEFI (El Torito)"]);
    let hybrid = [&boot[..], &["-isohybrid-gpt-basdat", "-partition_offset", "16"]].concat();
    let iso = Iso::read(&sample.make(&hybrid)).unwrap();
    assert!(iso.notes[1].starts_with("hybrid: "), "{:?}", iso.notes);
    assert_eq!(iso.defects, []);
}

#[test]
fn what_is_cut_off_or_damaged_is_named() {
    let sample = Sample::new(&FILES);
    let image = sample.make(&["-R"]);
    let whole = Iso::read(&image).unwrap();
    let last =
        whole.files.iter().filter(|file| file.size() > 0).max_by_key(|file| file.extents[0].offset).unwrap();
    let cut = image[..last.extents[0].offset as usize].to_vec();
    let iso = Iso::read(&cut).unwrap();
    assert!(iso.defects[0].what.starts_with("it is cut off: it has "), "{:?}", iso.defects);
    assert!(
        iso.defects.iter().any(|fault| fault.place == last.path && fault.what.contains("beyond the end"))
    );
    assert_eq!(iso.get(&last.path), None, "half a file is never shown");

    assert!(matches!(Iso::read(&vec![7; 100_000]), Err(IsoError::NotIso)));
    assert!(matches!(Iso::read(&image[..33_000].to_vec()), Err(IsoError::NotIso)));

    // A folder that holds itself: the root's record for `one` is bent to the root.
    let mut bent = image.clone();
    let root = u32::from_le_bytes(bent[32_768 + 158..32_768 + 162].try_into().unwrap()) as usize * 2048;
    let mut at = root;
    while &bent[at + 33..at + 36] != b"ONE" {
        at += usize::from(bent[at]);
    }
    let own: [u8; 16] = bent[root + 2..root + 18].try_into().unwrap();
    bent[at + 2..at + 18].copy_from_slice(&own);
    let iso = Iso::read(&bent).unwrap();
    assert!(
        iso.defects.iter().any(|fault| fault.place == "one" && fault.what.contains("leads back")),
        "{:?}",
        iso.defects
    );
}

/// What a program writes, kept without its empty stretches: a volume of more than 4 GiB in little memory.
struct Sparse {
    blocks: BTreeMap<u64, Vec<u8>>,
    size: u64,
}

const BLOCK: usize = 64 * 1024;

impl Sparse {
    fn take(mut from: impl Read) -> Self {
        let zeros = vec![0; BLOCK];
        let (mut blocks, mut size) = (BTreeMap::new(), 0);
        loop {
            let mut block = Vec::with_capacity(BLOCK);
            from.by_ref().take(BLOCK as u64).read_to_end(&mut block).unwrap();
            if block.is_empty() {
                return Self { blocks, size };
            }
            let length = block.len();
            if block != zeros[..length] {
                blocks.insert(size / BLOCK as u64, block);
            }
            size += length as u64;
        }
    }
}

impl ReadAt for Sparse {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()> {
        if offset + buffer.len() as u64 > self.size {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        for (at, byte) in (offset..).zip(buffer) {
            let block = self.blocks.get(&(at / BLOCK as u64));
            *byte = block.map_or(0, |block| block[(at % BLOCK as u64) as usize]);
        }
        Ok(())
    }
}

#[test]
fn a_file_over_4_gib_is_one_file() {
    let folder = tempfile::tempdir().unwrap();
    let large = (4 << 30) + 1_234_567_u64;
    let file = fs::File::create(folder.path().join("filesystem.squashfs")).unwrap();
    file.set_len(large).unwrap();
    let marks =
        [(0, b"begin"), ((4 << 30) - 2049, b"seam-"), ((4_u64 << 30) + 5, b"after"), (large - 5, b"end--")];
    for (at, mark) in marks {
        std::os::unix::fs::FileExt::write_all_at(&file, mark, at).unwrap();
    }
    fs::write(folder.path().join("zz-next"), "the one behind it").unwrap();
    let mut made = Command::new("xorriso")
        .args(["-as", "mkisofs", "-quiet", "-R", "-iso-level", "3", "-o", "-"])
        .arg(folder.path())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .expect("xorriso is needed: install the package xorriso");
    let image = Sparse::take(made.stdout.take().unwrap());
    let ended = made.wait_with_output().unwrap();
    assert!(ended.status.success(), "{}: {}", ended.status, String::from_utf8_lossy(&ended.stderr));
    let iso = Iso::read(&image).unwrap();
    assert_eq!(iso.defects, []);
    let file = iso.get("filesystem.squashfs").unwrap();
    assert_eq!(file.size(), large);
    assert!(file.extents.len() >= 2, "{:?}", file.extents);
    let read = |path: &str, at: u64, length: usize| {
        Pieces::new(&image, &iso.get(path).unwrap().extents).read_up_to(at, length).unwrap()
    };
    for (at, mark) in marks {
        assert_eq!(read("filesystem.squashfs", at, 5), mark, "at {at}");
    }
    assert_eq!(read("zz-next", 0, 99), b"the one behind it");
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, ..ProptestConfig::default() })]

    /// Whatever is changed in a volume, reading it ends, and gives nothing from outside of it.
    #[test]
    fn any_damage_is_survived(damage in proptest::collection::vec((0_usize..120_000, any::<u8>()), 1..40)) {
        static IMAGE: std::sync::OnceLock<Vec<u8>> = std::sync::OnceLock::new();
        let image = IMAGE.get_or_init(|| Sample::new(&FILES[1..]).make(&["-R", "-J"]));
        let mut image = image.clone();
        let length = image.len();
        // Most of the damage goes where the structure is: from the descriptors on.
        for (at, byte) in damage {
            image[(32_768 + at) % length] = byte;
        }
        if let Ok(iso) = Iso::read(&image) {
            for file in &iso.files {
                let size = file.size();
                prop_assert!(size <= 1 << 32);
                if size > 0 {
                    prop_assert!(Pieces::new(&image, &file.extents).read_up_to(size - 1, 1).is_ok());
                }
            }
        }
    }
}
