use std::{
    collections::BTreeSet, fs, io::Write, os::unix::fs::symlink, path::Path, process::Command, sync::Arc,
};

use lastmile_api::{KernelSource, SurveyBuild};
use lastmile_core::model::image::{FileEntry, Sha256};
use lastmile_formats::cpu::Cpu;
use object::{
    Architecture, BinaryFormat, Endianness, SectionKind,
    write::{Object, StandardSegment},
};
use tokio::sync::broadcast;

use super::{
    build::{BuildError, build, build_of},
    programs,
    source::Source,
};
use crate::{
    library::{Content, Library},
    work::WorkBook,
};

const RELEASE: &str = "6.1.0-57-quay";

fn module(texts: &str) -> Vec<u8> {
    let mut object = Object::new(BinaryFormat::Elf, Architecture::X86_64, Endianness::Little);
    let segment = object.segment_name(StandardSegment::Data).to_vec();
    let section = object.add_section(segment, b".modinfo".to_vec(), SectionKind::ReadOnlyData);
    object.append_section_data(section, texts.as_bytes(), 1);
    object.write().unwrap()
}

/// A kernel's head as the x86 boot protocol has it, with its version.
fn kernel(release: &str) -> Vec<u8> {
    let mut bytes = vec![0; 0x2000];
    bytes[0x1fe..0x200].copy_from_slice(&[0x55, 0xaa]);
    bytes[0x202..0x206].copy_from_slice(b"HdrS");
    bytes[0x206..0x208].copy_from_slice(&0x020f_u16.to_le_bytes());
    bytes[0x20e..0x210].copy_from_slice(&0x1000_u16.to_le_bytes());
    bytes[0x236] = 1;
    bytes[0x1200..0x1200 + release.len()].copy_from_slice(release.as_bytes());
    bytes
}

/// A host with a kernel, a network card's driver that wants firmware and another module, and one that no rack needs.
fn host(root: &Path) {
    let put = |path: &str, content: &[u8]| {
        let path = root.join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, content).unwrap();
    };
    let modules = format!("lib/modules/{RELEASE}/kernel");
    put(&format!("boot/vmlinuz-{RELEASE}"), &kernel(RELEASE));
    let dune = "depends=dca\0firmware=marram/dune.bin\0firmware=marram/none.bin\0alias=pci:v00001A99d*\0";
    put(&format!("{modules}/drivers/net/ethernet/marram/dune.ko"), &module(dune));
    put(&format!("{modules}/drivers/dca/dca.ko"), &module("depends=\0"));
    put(&format!("{modules}/drivers/media/tuner.ko"), &module("depends=\0"));
    put("lib/firmware/marram/dune-7.bin", b"firmware");
    put("lib/firmware/marram/other.bin", b"of no driver");
    symlink("dune-7.bin", root.join("lib/firmware/marram/dune.bin")).unwrap();
    // As distributions compress them: one of the drivers, and the firmware.
    for (program, path) in [
        ("xz", format!("{modules}/drivers/net/ethernet/marram/dune.ko")),
        ("zstd", "lib/firmware/marram/dune-7.bin".into()),
    ] {
        let packed = Command::new(program).args(["-q", "-k"]).arg(root.join(&path)).status();
        assert!(packed.expect("`make packages-test` installs xz-utils and zstd").success());
        fs::remove_file(root.join(path)).unwrap();
    }
    fs::remove_file(root.join("lib/firmware/marram/dune.bin")).unwrap();
    symlink("dune-7.bin.zst", root.join("lib/firmware/marram/dune.bin.zst")).unwrap();
}

struct Made {
    _data: tempfile::TempDir,
    library: Library,
    work: Arc<WorkBook>,
}

fn library() -> Made {
    let data = tempfile::tempdir().unwrap();
    let library = Library::open(data.path()).unwrap();
    Made { _data: data, library, work: Arc::new(WorkBook::new(broadcast::channel(8).0)) }
}

/// What is in an archive, by another reader of both formats: modes and names.
fn listed(made: &Made, archive: &FileEntry) -> String {
    let Some(Content::Kept { path, .. }) = made.library.content(archive) else {
        panic!("it is not in the library")
    };
    let command = "zstd -dc \"$1\" | cpio --list --verbose --numeric-uid-gid --quiet";
    let output = Command::new("sh").args(["-c", command, "sh"]).arg(path).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

fn names(listed: &str) -> BTreeSet<String> {
    listed.lines().map(|line| line.rsplit(' ').next().unwrap().to_owned()).collect()
}

#[test]
fn a_hosts_kernel_with_what_its_drivers_need_is_put_together() {
    let (root, made) = (tempfile::tempdir().unwrap(), library());
    host(root.path());
    let source = Source::Host { root: root.path().into(), release: RELEASE.into() };
    let built = build_of(&source, &made.library, &made.work, None).unwrap();
    assert_eq!(built.release, RELEASE);
    let listed = listed(&made, &built.files[1]);
    let names = names(&listed);
    let folder = format!("lib/modules/{RELEASE}");
    for there in [
        "init",
        "dev/console",
        &format!("{folder}/modules.dep"),
        &format!("{folder}/kernel/drivers/net/ethernet/marram/dune.ko"),
        &format!("{folder}/kernel/drivers/dca/dca.ko"),
        "lib/firmware/marram/dune.bin",
    ] {
        assert!(names.contains(there), "{there} is not in\n{listed}");
    }
    let needless = ["tuner.ko", "other.bin", ".xz", ".zst"];
    assert!(names.iter().all(|name| !needless.iter().any(|end| name.ends_with(end))), "{listed}");
    assert!(built.notes[0].contains("2 drivers, 1 file of firmware and 0 added files"), "{:?}", built.notes);
    assert!(built.notes[1].contains("ask for 1 file of firmware"), "{:?}", built.notes);
    // The same again makes the same bytes.
    let again = build_of(&source, &made.library, &made.work, None).unwrap();
    assert_eq!(again.files, built.files);
}

/// An archive of files that the site adds, in the library.
fn added(made: &Made, path: &str) -> FileEntry {
    let mut archive = tar::Builder::new(Vec::new());
    let mut header = tar::Header::new_gnu();
    header.set_size(3);
    header.set_mode(0o755);
    // The builder refuses what leads out; others write it.
    header.as_gnu_mut().unwrap().name[..path.len()].copy_from_slice(path.as_bytes());
    header.set_cksum();
    archive.append(&header, &b"abc"[..]).unwrap();
    let bytes = archive.into_inner().unwrap();
    made.library.take_content("added.tar", &bytes.as_slice()).unwrap()
}

#[test]
fn what_a_site_adds_stays_within_and_keeps_its_rights() {
    let (root, made) = (tempfile::tempdir().unwrap(), library());
    host(root.path());
    let source = Source::Host { root: root.path().into(), release: RELEASE.into() };
    let program = added(&made, "lastmile/before-report/raid");
    let built = build_of(&source, &made.library, &made.work, Some(&program)).unwrap();
    let listed = listed(&made, &built.files[1]);
    let line = listed.lines().find(|line| line.ends_with("lastmile/before-report/raid")).unwrap();
    assert!(line.starts_with("-rwxr-xr-x"), "{line}");
    for outside in ["../etc/passwd", "a/../../b"] {
        let refused = build_of(&source, &made.library, &made.work, Some(&added(&made, outside)));
        assert!(matches!(refused, Err(BuildError::Outside { .. })), "{outside}: {refused:?}");
    }
    // What was begun and refused leaves nothing.
    let left = fs::read_dir(made.library.folder().parent().unwrap().join("staging")).unwrap().count();
    assert_eq!(left, 0);
}

/// A folder as a Debian package, in the library.
fn package(made: &Made, root: &Path, name: &str) -> FileEntry {
    fs::create_dir_all(root.join("DEBIAN")).unwrap();
    let control = format!(
        "Package: {name}\nVersion: 1\nArchitecture: all\nMaintainer: purser@gannet.example\nDescription: d\n"
    );
    fs::write(root.join("DEBIAN/control"), control).unwrap();
    let file = made.library.folder().parent().unwrap().join(format!("{name}.deb"));
    let built =
        Command::new("dpkg-deb").args(["--root-owner-group", "-Zxz", "-b"]).arg(root).arg(&file).output();
    let built = built.unwrap();
    assert!(built.status.success(), "{}", String::from_utf8_lossy(&built.stderr));
    made.library.take_content(&format!("{name}.deb"), &fs::read(file).unwrap().as_slice()).unwrap()
}

#[test]
fn the_shell_of_a_package_is_taken_if_it_is_for_the_kernels_processor() {
    let (root, made) = (tempfile::tempdir().unwrap(), library());
    host(root.path());
    let kernel = package(&made, root.path(), "kernel");
    // The agent stands for it: as that, it needs no libraries.
    let agent = programs::agent(Cpu::X64).unwrap();
    let shell = |name: &str, content: &[u8]| {
        let root = tempfile::tempdir().unwrap();
        fs::create_dir_all(root.path().join("usr/bin")).unwrap();
        fs::write(root.path().join("usr/bin/busybox"), content).unwrap();
        package(&made, root.path(), name)
    };
    let (fitting, foreign) = (shell("fitting", &agent), shell("foreign", b"of another processor"));
    let within = |file: FileEntry| {
        let files = vec![kernel.clone(), file];
        let asked = SurveyBuild { name: None, kernel: KernelSource::Packages { files }, add: None };
        let built = build(&made.library, &made.work, &asked).unwrap();
        let Some(Content::Kept { path, .. }) = made.library.content(&built.files[1]) else {
            panic!("it is not in the library")
        };
        let command = "zstd -dc \"$1\" | cpio --extract --to-stdout --quiet bin/busybox";
        Command::new("sh").args(["-c", command, "sh"]).arg(path).output().unwrap().stdout
    };
    assert!(within(fitting) == *agent, "it is another");
    // Without one, that of the host is taken, if it has one.
    assert_ne!(within(foreign), b"of another processor");
}

#[test]
fn what_is_lacking_is_said() {
    let (root, made) = (tempfile::tempdir().unwrap(), library());
    host(root.path());
    let source = |release: &str| Source::Host { root: root.path().into(), release: release.into() };
    let refused = build_of(&source("6.1.0-9-quay"), &made.library, &made.work, None);
    assert!(matches!(refused, Err(BuildError::NotOnHost { .. })), "{refused:?}");
    // A kernel beside modules of another.
    let mut file = fs::File::create(root.path().join(format!("boot/vmlinuz-{RELEASE}"))).unwrap();
    file.write_all(&kernel("6.9.1")).unwrap();
    let refused = build_of(&source(RELEASE), &made.library, &made.work, None);
    assert!(matches!(&refused, Err(BuildError::LacksModules { kernel }) if kernel == "6.9.1"), "{refused:?}");
    let nowhere = FileEntry::new("kernel.deb", 3, Sha256::of(b"abc"));
    let asked =
        SurveyBuild { name: None, kernel: KernelSource::Packages { files: vec![nowhere] }, add: None };
    let refused = build(&made.library, &made.work, &asked);
    assert!(matches!(refused, Err(BuildError::Missing { .. })), "{refused:?}");
}
