//! Recognising what was imported: Debian's real network boot files and loaders, and trees made as each family has them.
#![allow(clippy::unwrap_used, clippy::expect_used, reason = "a test that cannot go on fails")]

use std::{collections::BTreeMap, fs, io, path::Path, process::Command};

use lastmile_core::{
    decide::{
        image::{FileSet, Said, recognise},
        loader::identify,
    },
    model::{
        image::{Family, ImageKind},
        loader::{HttpReach, Language},
    },
};
use lastmile_formats::{architecture::Architecture, cpu::Cpu, read_at::ReadAt};

/// Files in memory.
struct Files {
    files: Vec<(String, u64)>,
    content: BTreeMap<String, Vec<u8>>,
}

impl Files {
    fn new<P: Into<String>, C: Into<Vec<u8>>>(files: impl IntoIterator<Item = (P, C)>) -> Self {
        let content: BTreeMap<String, Vec<u8>> =
            files.into_iter().map(|(path, content)| (path.into(), content.into())).collect();
        Self {
            files: content.iter().map(|(path, content)| (path.clone(), content.len() as u64)).collect(),
            content,
        }
    }
}

impl FileSet for Files {
    fn files(&self) -> &[(String, u64)] {
        &self.files
    }

    fn open(&self, path: &str) -> io::Result<Box<dyn ReadAt + '_>> {
        let content = self.content.get(path).ok_or(io::ErrorKind::NotFound)?;
        Ok(Box::new(content.as_slice()))
    }
}

fn need(path: &str, package: &str) -> Vec<u8> {
    fs::read(path).unwrap_or_else(|_| panic!("{path} is needed: install the package {package}"))
}

const NETBOOT: &str = "/usr/lib/debian-installer/images/12/amd64/text/debian-installer/amd64";

/// A kernel's head as the x86 boot protocol has it, 64 bits wide.
fn kernel(version: &str) -> Vec<u8> {
    let mut bytes = vec![0; 40_000];
    bytes[0x1fe..0x200].copy_from_slice(&[0x55, 0xaa]);
    bytes[0x202..0x206].copy_from_slice(b"HdrS");
    bytes[0x206..0x208].copy_from_slice(&0x020f_u16.to_le_bytes());
    bytes[0x20e..0x210].copy_from_slice(&0x1000_u16.to_le_bytes());
    bytes[0x236] = 1;
    let text = format!("{version} (builder@quay.example) #1 SMP\0");
    bytes[0x1200..0x1200 + text.len()].copy_from_slice(text.as_bytes());
    bytes
}

/// An initrd made by `cpio`, compressed by `packer`.
fn initrd(files: &[(&str, &str)], packer: &str) -> Vec<u8> {
    let folder = tempfile::tempdir().unwrap();
    for (path, content) in files {
        let at = folder.path().join(path);
        fs::create_dir_all(at.parent().unwrap()).unwrap();
        fs::write(at, content).unwrap();
    }
    let script = format!("find . | cpio -o -H newc 2>/dev/null | {packer}");
    let made = Command::new("sh").args(["-ec", &script]).current_dir(folder.path()).output().unwrap();
    assert!(
        made.status.success() && made.stdout.len() > 20,
        "cpio, xz and zstd are needed: install the packages"
    );
    made.stdout
}

#[test]
fn debians_network_boot_files_say_what_they_are() {
    let at = |name: &str| need(&format!("{NETBOOT}/{name}"), "debian-installer-12-netboot-amd64");
    let files = Files::new([("linux", at("linux")), ("initrd.gz", at("initrd.gz"))]);
    let found = recognise(&files, Said::default());
    assert_eq!(found.faults, []);
    let family = found.family.as_ref().unwrap();
    assert_eq!((family.value, family.from.as_str()), (Family::Preseed, "initrd.gz holds usr/bin/debconf"));
    assert_eq!(found.kind.as_ref().unwrap().value, ImageKind::Installer);
    assert_eq!(found.version.as_ref().unwrap().value, "12");
    assert_eq!(found.cpu.as_ref().unwrap().value, Cpu::X64);
    // The witness: the file's own magic, as `file` reads it.
    let version = &found.kernel_version.as_ref().unwrap().value;
    let witness = Command::new("file").arg("-bL").arg(Path::new(NETBOOT).join("linux")).output().unwrap();
    let witness = String::from_utf8_lossy(&witness.stdout).into_owned();
    assert!(witness.contains(&format!("version {version} ")), "{version}: {witness}");
    assert_eq!(found.initrds[0].value, "initrd.gz");
    assert!(found.signers[0].value.starts_with("Debian Secure Boot Signer"), "{:?}", found.signers);
    assert_eq!(
        (found.proposed_name().as_str(), found.proposed_title().unwrap().as_str()),
        ("debian-12", "Debian 12")
    );
}

#[test]
fn an_initrd_of_another_kernel_is_told() {
    let installer = |modules: &str, packer: &str| {
        let modules = format!("lib/modules/{modules}/modules.dep");
        initrd(
            &[
                ("usr/bin/debconf", "#!"),
                ("etc/lsb-release", "DISTRIB_ID=Tidewrack\nDISTRIB_RELEASE=\"12.5 (skerry)\"\n"),
                (&modules, ""),
            ],
            packer,
        )
    };
    for packer in ["cat", "gzip", "xz --check=crc32", "zstd -q"] {
        let files = Files::new([
            ("boot/vmlinuz", kernel("6.1.0-18")),
            ("boot/initrd.img", installer("6.1.0-17", packer)),
        ]);
        let found = recognise(&files, Said::default());
        assert_eq!(found.faults.len(), 1, "{packer}: {:?}", found.faults);
        assert_eq!(
            found.faults[0].what,
            "its modules are for kernel 6.1.0-17, but the kernel is 6.1.0-18 (boot/vmlinuz, kernel_version of the boot header)"
        );
        assert_eq!(found.proposed_name(), "tidewrack-12.5");
        let right = Files::new([
            ("boot/vmlinuz", kernel("6.1.0-18")),
            ("boot/initrd.img", installer("6.1.0-18", packer)),
        ]);
        assert_eq!(recognise(&right, Said::default()).faults, []);
    }
    // A microcode archive goes before the real one, uncompressed.
    let mut both = initrd(&[("kernel/x86/microcode/AuthenticAMD.bin", "x")], "cat");
    both.extend(installer("6.1.0-17", "gzip"));
    let found = recognise(&Files::new([("linux", kernel("6.1.0-18")), ("initrd", both)]), Said::default());
    assert!(found.faults[0].what.contains("6.1.0-17"), "{:?}", found.faults);
}

#[test]
fn trees_of_each_family_are_told_apart() {
    let small = || initrd(&[("init", "#!")], "gzip");
    let treeinfo = "[general]\nfamily = Bollard\nversion = 9.4\narch = x86_64\n\n[release]\nname = Bollard Linux\nversion = 9.4\n\n\
        [images-x86_64]\nkernel = images/pxeboot/vmlinuz\ninitrd = images/pxeboot/initrd.img\n\n[variant-Quayside]\nid = Quayside\nname = Quayside\n";
    let bollard = Files::new([
        (".treeinfo", treeinfo.into()),
        ("images/pxeboot/vmlinuz", kernel("5.14.0-427")),
        ("images/pxeboot/initrd.img", small()),
        ("images/install.img", b"hsqs".to_vec()),
    ]);
    let found = recognise(&bollard, Said::default());
    assert_eq!(found.faults, []);
    assert_eq!(found.family.as_ref().unwrap().value, Family::Kickstart);
    assert_eq!(found.version.as_ref().unwrap().from, ".treeinfo, [release] version");
    assert_eq!(
        (found.editions[0].id.as_str(), found.parameters[0].value.as_str()),
        ("Quayside", "inst.repo={{ image.url }}")
    );
    assert_eq!(found.kernel_version.as_ref().unwrap().value, "5.14.0-427");

    let mut cut = bollard.content.clone();
    cut.remove("images/install.img");
    cut.remove("images/pxeboot/vmlinuz");
    let faults: Vec<String> =
        recognise(&Files::new(cut), Said::default()).faults.into_iter().map(|f| f.place).collect();
    assert_eq!(faults, ["images/install.img", "images/pxeboot/vmlinuz", "files"]);

    let sources = "- default: true\n  id: halyard-server\n  name:\n    en: Halyard Server\n  type: fsimage\n- id: halyard-minimal\n";
    let halyard = Files::new([
        (".disk/info", b"Halyard-Server 24.04 LTS \"Noble Auk\" - Release amd64 (20240423)".to_vec()),
        ("casper/vmlinuz", kernel("6.8.0-31-generic")),
        ("casper/initrd", small()),
        ("casper/install-sources.yaml", sources.into()),
        ("casper/halyard-server.squashfs", b"hsqs".to_vec()),
    ]);
    let found = recognise(&halyard, Said::default());
    assert_eq!(found.family.as_ref().unwrap().value, Family::Autoinstall);
    assert_eq!(
        found.editions.iter().map(|e| e.id.as_str()).collect::<Vec<_>>(),
        ["halyard-server", "halyard-minimal"]
    );
    assert_eq!(found.editions[0].title, "Halyard Server");
    assert_eq!(found.proposed_name(), "halyard-server-24.04");

    let lantern = Files::new([
        ("live/vmlinuz-6.1.0-18", kernel("6.1.0-18")),
        ("live/initrd.img-6.1.0-18", small()),
        ("live/initrd.img-5.10", small()),
        ("live/filesystem.squashfs", b"hsqs".to_vec()),
    ]);
    let found = recognise(&lantern, Said::default());
    assert_eq!(found.kind.as_ref().unwrap().value, ImageKind::Live);
    assert_eq!(found.initrds[0].value, "live/initrd.img-6.1.0-18");
    assert_eq!(found.parameters[1].value, "fetch={{ image.url }}/live/filesystem.squashfs");
}

#[test]
fn single_files_are_what_they_are() {
    let one = |name: &str, content: Vec<u8>| recognise(&Files::new([(name, content)]), Said::default());
    let app = one("tool.efi", need("/usr/lib/ipxe/ipxe.efi", "ipxe"));
    assert_eq!(app.kind.as_ref().unwrap().value, ImageKind::FirmwareApp);
    assert_eq!((app.program.unwrap().value.as_str(), app.cpu.unwrap().value), ("tool.efi", Cpu::X64));
    assert!(app.signers.is_empty());

    let mut disk = vec![0; 4096];
    disk[446 + 4] = 0x83;
    disk[510..512].copy_from_slice(&[0x55, 0xaa]);
    let mut packed = Vec::new();
    io::Read::read_to_end(
        &mut flate2::read::GzEncoder::new(disk.as_slice(), flate2::Compression::fast()),
        &mut packed,
    )
    .unwrap();
    for (name, content) in [("disk.img", disk), ("disk.img.gz", packed)] {
        let found = one(name, content);
        assert_eq!(found.kind.as_ref().unwrap().value, ImageKind::Disk, "{name}");
        assert!(found.disk.unwrap().from.contains("MBR"));
    }
    let mut test = kernel("");
    test[0x3000..0x300f].copy_from_slice(b"Memtest86+ v7.0");
    let found = one("mt86.bin", test);
    assert_eq!((found.kind.unwrap().value, found.faults.len()), (ImageKind::Tool, 0));
    let alone = one("vmlinuz", kernel("7.1.0"));
    assert_eq!(
        (alone.kernel.unwrap().value.as_str(), alone.initrds.len()),
        ("vmlinuz", 0),
        "{:?}",
        alone.faults
    );
    let nothing = one("notes.txt", b"nothing to start".to_vec());
    assert!(nothing.faults[0].what.contains("nothing that could be started"), "{:?}", nothing.faults);
}

#[test]
fn packaged_loaders_say_what_they_are() {
    let shim = need("/usr/lib/shim/shimx64.efi.signed", "shim-signed");
    let grub = need("/usr/lib/grub/x86_64-efi-signed/grubnetx64.efi.signed", "grub-efi-amd64-signed");
    let module = need("/usr/lib/grub/x86_64-efi/http.mod", "grub-efi-amd64-bin");
    let signed = Files::new([("shimx64.efi", shim), ("grubx64.efi", grub), ("x86_64-efi/http.mod", module)]);
    let facts = identify(&signed, "shimx64.efi");
    let program = facts.program.unwrap();
    assert!(
        program.value.starts_with("shim 1") && program.value.contains(", then grub 2.06-13+deb12u"),
        "{program:?}"
    );
    assert_eq!(facts.architecture.unwrap().value, Architecture::UefiX64);
    assert_eq!(facts.language.unwrap().value, Language::Grub);
    assert_eq!(facts.http.unwrap().value, HttpReach::Port80);
    assert!(facts.signers.iter().any(|signer| signer.contains("Microsoft")), "{:?}", facts.signers);

    let bios = |path: &str, package: &str| identify(&Files::new([("boot", need(path, package))]), "boot");
    let plain = bios("/usr/lib/PXELINUX/pxelinux.0", "pxelinux");
    assert_eq!(
        (plain.architecture.unwrap().value, plain.language.unwrap().value),
        (Architecture::Bios, Language::Pxelinux)
    );
    assert_eq!(
        (plain.program.unwrap().value.as_str(), plain.http.unwrap().value),
        ("PXELINUX 6.04", HttpReach::None)
    );
    assert_eq!(bios("/usr/lib/PXELINUX/lpxelinux.0", "pxelinux").http.unwrap().value, HttpReach::AnyPort);
    let script = bios("/usr/lib/ipxe/undionly.kpxe", "ipxe");
    assert_eq!(
        (script.architecture.unwrap().value, script.language.unwrap().value),
        (Architecture::Bios, Language::Script)
    );
}
