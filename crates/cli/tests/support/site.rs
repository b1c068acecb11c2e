//! A small site, filled through the client's commands as a person would.

use std::{
    path::{Path, PathBuf},
    process::Command,
};

use super::{need, service::Service};

/// The machine of the site.
pub const MACHINE: &str = "auklet-chart";
/// Its NIC's address.
pub const MAC: &str = "00:00:5e:00:53:01";

impl Service<'_> {
    /// Writes a file into the test's folder; gives its path.
    pub fn write(&self, name: &str, content: impl AsRef<[u8]>) -> String {
        let path = self.folder.path().join(name);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(&path, content).unwrap();
        path.to_str().unwrap().into()
    }

    /// A subnet that a relay on the loopback forwards for.
    pub fn add_subnet(&self) {
        self.run(&[
            "subnet",
            "add",
            "holm-quay",
            "198.51.100.0/24",
            "--relay",
            "127.0.0.1",
            "--pool",
            "198.51.100.100-198.51.100.120",
            "--domain",
            "gannet.example",
        ]);
    }

    /// The subnet of a wire of the test's own, with more words of `subnet add`.
    pub fn add_wire_subnet(&self, more: &[&str]) {
        let wire = ["--interface", "quay0", "--pool", "192.0.2.100-192.0.2.150"];
        self.run(&[&["subnet", "add", "quay-lab", "192.0.2.0/24"], &wire[..], more].concat());
    }

    /// A UEFI loader of made-up content.
    pub fn add_loader(&self) {
        let shim = self.write("shimx64.efi", [1; 3000]);
        let grub = self.write("grubx64.efi", [2; 70_000]);
        self.run(&[
            "loader",
            "add",
            "signed-x64",
            "--architecture",
            "uefi-x64",
            "--boot-file",
            &shim,
            "--file",
            &grub,
            "--http",
            "any-port",
        ]);
    }

    /// An image of made-up content.
    pub fn add_image(&self) {
        let kernel = self.write("linux", vec![3; 1_000_000]);
        let initrd = self.write("initrd.gz", vec![4; 600_001]);
        self.run(&[
            "image",
            "add",
            &kernel,
            &initrd,
            "--name",
            "tidewrack-12",
            "--title",
            "Tidewrack 12",
            "--kind",
            "installer",
            "--family",
            "preseed",
            "--kernel",
            "linux",
            "--initrd",
            "initrd.gz",
        ]);
    }

    /// The example's answers, with a password of their own: nothing is armed with that of the example.
    pub fn answers(&self) -> String {
        self.run(&["answers", "example"]).replace("change me before use", "skerry tide table")
    }

    pub fn add_answers(&self) {
        let answers = self.write("answers.toml", self.answers());
        self.put("answers", "quay-server", &answers);
    }

    pub fn add_machine(&self) {
        self.run(&["machine", "add", MACHINE, "--mac", MAC]);
    }

    pub fn arm(&self) {
        self.run(&[
            "install",
            "arm",
            MACHINE,
            "--image",
            "tidewrack-12",
            "--answers",
            "quay-server",
            "--yes",
        ]);
    }

    /// All of it, with an install armed.
    pub fn fill(&self) {
        self.add_subnet();
        self.add_loader();
        self.add_image();
        self.add_answers();
        self.add_machine();
        self.arm();
    }

    /// The kinds of the steps of install 1, in order.
    pub fn steps(&self) -> Vec<String> {
        let install = self.json(&["install", "show", "1"]);
        let steps = install["steps"].as_array().unwrap();
        steps.iter().map(|step| step["kind"].as_str().unwrap().to_owned()).collect()
    }
}

/// The `[boot]` section of a service on the loopback: relays at `first_port`, then TFTP, then HTTP. The API goes on
/// the port after these.
pub fn loopback(first_port: u16) -> Service<'static> {
    Service::start(None, &loopback_section(first_port), first_port + 3)
}

pub fn loopback_section(first_port: u16) -> String {
    format!(
        "address = '127.0.0.1'\nrelay_listen = '127.0.0.1:{first_port}'\ntftp_port = {}\nhttp_port = {}",
        first_port + 1,
        first_port + 2
    )
}

/// Makes a disc whose one boot program is `program`, a UEFI application, in a FAT image that the tree does not show (El Torito).
pub fn disc(folder: &Path, name: &str, program: &Path) -> PathBuf {
    let run = |program: &str, package: &str, arguments: &[&str]| {
        let output = Command::new(need(program, package)).args(arguments).output().unwrap();
        assert!(output.status.success(), "{program}: {}", String::from_utf8_lossy(&output.stderr));
    };
    let text = |path: &Path| path.to_str().unwrap().to_owned();
    let tree = folder.join(format!("{name}-tree"));
    std::fs::create_dir_all(tree.join("lantern")).unwrap();
    std::fs::write(tree.join("lantern/readme"), "carried by hand\n").unwrap();
    let (image, disc) = (text(&folder.join(format!("{name}.fat"))), folder.join(format!("{name}.iso")));
    run("/usr/sbin/mkfs.fat", "dosfstools", &["-C", &image, "8192"]);
    run("/usr/bin/mmd", "mtools", &["-i", &image, "::EFI", "::EFI/BOOT"]);
    run("/usr/bin/mcopy", "mtools", &["-i", &image, &text(program), "::EFI/BOOT/BOOTX64.EFI"]);
    // Behind the tree, as a partition of its own: no file of the tree is it.
    let options =
        ["-as", "mkisofs", "-quiet", "-R", "-V", "LANTERN_5", "-append_partition", "2", "0xef", &image];
    let boots = ["-e", "--interval:appended_partition_2:all::", "-no-emul-boot", "-o"];
    run("/usr/bin/xorriso", "xorriso", &[&options[..], &boots[..], &[&text(&disc), &text(&tree)]].concat());
    disc
}
