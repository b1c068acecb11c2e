//! Disks that the distribution's own tools divided and formatted, held against what `sfdisk` and `blkid` say of them.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::{
    collections::BTreeMap,
    fs::{self, File},
    io::{Read, Seek, SeekFrom, Write},
    path::{Path, PathBuf},
    process::{Command, Stdio},
};

use lastmile_formats::volume::{Layout, Volume};

/// A tool by its place; a test that cannot have its witness fails and says what to install.
fn tool(path: &str, package: &str) -> Command {
    assert!(
        Path::new(path).exists(),
        "{path} is not there: install the package {package}, or run `make test`"
    );
    Command::new(path)
}

fn run(command: &mut Command) -> String {
    let output = command.output().unwrap();
    assert!(output.status.success(), "{command:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).into_owned()
}

fn blank(path: &Path, mib: u64) {
    File::create(path).unwrap().set_len(mib << 20).unwrap();
}

fn divide(disk: &Path, script: &str) {
    let mut sfdisk = tool("/usr/sbin/sfdisk", "fdisk");
    let mut child = sfdisk.arg("--quiet").arg(disk).stdin(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(script.as_bytes()).unwrap();
    assert!(child.wait().unwrap().success());
}

/// Makes a file system in a file of its own, and puts it where the partition is.
fn put(disk: &Path, start: u64, size: u64, format: &mut Command) {
    let part: PathBuf = disk.with_extension("part");
    File::create(&part).unwrap().set_len(size).unwrap();
    run(format.arg(&part));
    let (mut from, mut to) = (File::open(&part).unwrap(), File::options().write(true).open(disk).unwrap());
    // Most of it is zeros, as the disk is.
    let mut piece = vec![0; 1 << 20];
    let mut at = 0;
    loop {
        let length = from.read(&mut piece).unwrap();
        if length == 0 {
            break;
        }
        if piece[..length].iter().any(|byte| *byte != 0) {
            to.seek(SeekFrom::Start(start + at)).unwrap();
            to.write_all(&piece[..length]).unwrap();
        }
        at += length as u64;
    }
    fs::remove_file(part).unwrap();
}

/// What `blkid` finds there.
fn witness(disk: &Path, start: u64, size: u64) -> BTreeMap<String, String> {
    let mut blkid = tool("/usr/sbin/blkid", "util-linux");
    let said = run(blkid
        .args(["--probe", "--output", "export", "--offset", &start.to_string(), "--size", &size.to_string()])
        .arg(disk));
    said.lines()
        .filter_map(|line| line.split_once('='))
        .map(|(key, value)| (key.to_owned(), value.to_owned()))
        .collect()
}

/// Whether it is as `blkid` says. It calls both forms of FAT by one name, and tells them by another.
fn is_like(volume: &Volume, said: &BTreeMap<String, String>) {
    let text = |key: &str| said.get(key).map(|text| text.replace('\\', ""));
    let kind = match (text("TYPE").as_deref(), text("VERSION")) {
        (Some("vfat"), Some(version)) => version.to_lowercase(),
        (Some("crypto_LUKS"), _) => "luks".into(),
        (kind, _) => kind.unwrap_or("nothing").to_owned(),
    };
    assert_eq!(volume.kind, kind, "{said:?}");
    assert_eq!(volume.label, text("LABEL"), "{said:?}");
    assert_eq!(volume.uuid, text("UUID"), "{said:?}");
}

/// The disk's own tools say where each partition is.
fn partitions(disk: &Path) -> Vec<(u64, u64, Option<String>)> {
    let said = run(tool("/usr/sbin/sfdisk", "fdisk").arg("--json").arg(disk));
    let said: serde_json::Value = serde_json::from_str(&said).unwrap();
    let all = said["partitiontable"]["partitions"].as_array().unwrap();
    let number = |part: &serde_json::Value, key: &str| part[key].as_u64().unwrap() * 512;
    all.iter()
        .map(|part| (number(part, "start"), number(part, "size"), part["name"].as_str().map(str::to_owned)))
        .collect()
}

fn read(disk: &Path) -> Layout {
    struct Disk(File, u64);
    impl lastmile_formats::read_at::ReadAt for Disk {
        fn size(&self) -> u64 {
            self.1
        }
        fn read_at(&self, offset: u64, buffer: &mut [u8]) -> std::io::Result<()> {
            std::os::unix::fs::FileExt::read_exact_at(&self.0, buffer, offset)
        }
    }
    let size = fs::metadata(disk).unwrap().len();
    Layout::read(&Disk(File::open(disk).unwrap(), size), 512)
}

#[test]
fn a_gpt_and_every_kind_of_file_system_are_read_as_other_tools_read_them() {
    let folder = tempfile::tempdir().unwrap();
    let disk = folder.path().join("disk");
    blank(&disk, 1200);
    let system = "C12A7328-F81F-11D2-BA4B-00A0C93EC93B";
    divide(
        &disk,
        &format!(
            "label: gpt\nsize=64M, type={system}, name=\"EFI system\"\nsize=32M, type=linux, name=\"Käse & Brot\"\nsize=64M, type=swap\n\
             size=400M, type=linux\nsize=256M, type=linux\nsize=32M, type=linux\nsize=16M, type=linux\nsize=16M, type=raid\n"
        ),
    );
    let there = partitions(&disk);
    let mut formats = [
        Some(tool("/usr/sbin/mkfs.fat", "dosfstools").args(["-F", "32", "-n", "QUAY"]).to_owned_command()),
        Some(tool("/usr/sbin/mkfs.ext4", "e2fsprogs").args(["-q", "-L", "holm root"]).to_owned_command()),
        Some(tool("/usr/sbin/mkswap", "util-linux").args(["-q", "-L", "ebb"]).to_owned_command()),
        Some(tool("/usr/sbin/mkfs.xfs", "xfsprogs").args(["-q", "-L", "flood"]).to_owned_command()),
        Some(
            tool("/usr/sbin/mkfs.btrfs", "btrfs-progs").args(["-q", "-L", "spring tide"]).to_owned_command(),
        ),
        Some(tool("/usr/sbin/mkfs.ext4", "e2fsprogs").args(["-q", "-t", "ext3"]).to_owned_command()),
        Some(
            tool("/usr/sbin/mkfs.ext4", "e2fsprogs")
                .args(["-q", "-t", "ext2", "-L", "two"])
                .to_owned_command(),
        ),
        None,
    ];
    for ((start, size, _), format) in there.iter().zip(&mut formats) {
        if let Some(format) = format {
            put(&disk, *start, *size, format);
        }
    }
    let layout = read(&disk);
    assert_eq!((layout.table.as_deref(), layout.volume), (Some("gpt"), None));
    let read: Vec<_> =
        layout.partitions.iter().map(|part| (part.start, part.size, part.name.clone())).collect();
    assert_eq!(read, there);
    for (part, format) in layout.partitions.iter().zip(&formats) {
        match (&part.volume, format) {
            (Some(volume), Some(_)) => is_like(volume, &witness(&disk, part.start, part.size)),
            (volume, format) => assert!(volume.is_none() && format.is_none(), "{part:?}"),
        }
    }
    let kinds: Vec<&str> = layout.partitions.iter().map(|part| part.kind.as_str()).collect();
    assert_eq!(
        kinds,
        ["EFI system", "Linux", "Linux swap", "Linux", "Linux", "Linux", "Linux", "Linux RAID"]
    );
    let holds: Vec<&str> = layout
        .partitions
        .iter()
        .filter_map(|part| part.volume.as_ref())
        .map(|volume| volume.kind.as_str())
        .collect();
    assert_eq!(holds, ["fat32", "ext4", "swap", "xfs", "btrfs", "ext3", "ext2"]);
}

#[test]
fn the_table_of_bios_is_read_with_what_is_within_its_extended_partition() {
    let folder = tempfile::tempdir().unwrap();
    let disk = folder.path().join("disk");
    blank(&disk, 200);
    divide(
        &disk,
        &format!(
            "label: dos\nsize=32M, type=c, bootable\nsize=20M, type=83\nsize=100M, type=5\n\
             {0}5 : size=16M, type=82\n{0}6 : size=16M, type=83\n{0}7 : size=8M, type=8e\n",
            disk.display()
        ),
    );
    let layout = read(&disk);
    assert_eq!(layout.table.as_deref(), Some("mbr"));
    // The extended one holds others; it is none itself.
    let mut there: Vec<_> = partitions(&disk).into_iter().map(|(start, size, _)| (start, size)).collect();
    there.remove(2);
    let parts: Vec<_> = layout.partitions.iter().map(|part| (part.start, part.size)).collect();
    assert_eq!(parts, there);
    let kinds: Vec<_> = layout.partitions.iter().map(|part| (part.number, part.kind.as_str())).collect();
    assert_eq!(kinds, [(1, "FAT32"), (2, "Linux"), (5, "Linux swap"), (6, "Linux"), (7, "Linux LVM")]);
}

#[test]
fn a_disk_without_a_table_holds_a_file_system_or_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let disk = folder.path().join("disk");
    blank(&disk, 40);
    assert_eq!(read(&disk), Layout::default());
    run(tool("/usr/sbin/mkfs.fat", "dosfstools").args(["-n", "STICK"]).arg(&disk));
    let layout = read(&disk);
    assert_eq!(layout.table, None, "its boot sector ends as a table does");
    is_like(layout.volume.as_ref().unwrap(), &witness(&disk, 0, 40 << 20));
}

/// A command as a value of its own.
trait Owned {
    fn to_owned_command(&mut self) -> Command;
}

impl Owned for Command {
    fn to_owned_command(&mut self) -> Command {
        let mut command = Command::new(self.get_program());
        command.args(self.get_args());
        command
    }
}

proptest::proptest! {
    /// Whatever is on a disk, and wherever it ends.
    #[test]
    fn any_bytes_have_a_layout(
        head in proptest::collection::vec(proptest::prelude::any::<u8>(), 0..2048),
        mark in proptest::prelude::any::<bool>(),
        block in proptest::prelude::prop_oneof![
            proptest::prelude::Just(0),
            proptest::prelude::Just(512),
            proptest::prelude::Just(4096)
        ],
    ) {
        let mut disk = head;
        if mark && disk.len() >= 600 {
            disk[510..512].copy_from_slice(&[0x55, 0xaa]);
            disk[450] = 0xee;
            disk[512..520].copy_from_slice(b"EFI PART");
        }
        let layout = Layout::read(&disk, block);
        proptest::prop_assert!(layout.partitions.len() <= 300);
    }
}
