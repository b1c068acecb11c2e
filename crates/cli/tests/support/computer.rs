//! Emulated computers with real firmware, on a wire of the test's own.

use std::{
    io::{Read, Write},
    os::unix::net::UnixStream,
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    time::Duration,
};

use super::{need, netns::Netns, service::Service, site::MAC, wait_for};

/// Where Debian's package puts the installer for the network.
pub const INSTALLER: &str = "/usr/lib/debian-installer/images/12/amd64/text/debian-installer/amd64";

/// An emulated computer, switched off with the value.
pub struct Computer {
    child: Child,
    monitor: PathBuf,
}

impl Computer {
    /// Switches on a computer on `tap0` in the namespace; its serial console is written to a file.
    ///
    /// `rom` is what follows the NIC: UEFI brings its own network boot program, so its NIC has no option ROM;
    /// under BIOS the network boot program is that ROM.
    pub fn power_on(namespace: &Netns, folder: &Path, rom: &str, firmware: &[String]) -> Self {
        Self::power_on_as(namespace, folder, "q35", rom, firmware)
    }

    pub fn power_on_as(
        namespace: &Netns,
        folder: &Path,
        machine: &str,
        rom: &str,
        firmware: &[String],
    ) -> Self {
        Self::power_on_with(namespace, folder, machine, 1024, rom, firmware)
    }

    /// The same with so many MiB of memory.
    pub fn power_on_with(
        namespace: &Netns,
        folder: &Path,
        machine: &str,
        memory: u32,
        rom: &str,
        firmware: &[String],
    ) -> Self {
        let qemu = need("/usr/bin/qemu-system-x86_64", "qemu-system-x86");
        Self::start(namespace, folder, &qemu, &[machine, "max"], memory, rom, firmware)
    }

    /// A computer with an arm64 processor, and UEFI.
    pub fn power_on_arm64(namespace: &Netns, folder: &Path, memory: u32, hardware: &[String]) -> Self {
        let qemu = need("/usr/bin/qemu-system-aarch64", "qemu-system-arm");
        let mut words = drives(
            folder,
            &need("/usr/share/AAVMF/AAVMF_CODE.fd", "qemu-efi-aarch64"),
            &need("/usr/share/AAVMF/AAVMF_VARS.fd", "qemu-efi-aarch64"),
        );
        words.extend_from_slice(hardware);
        Self::start(namespace, folder, &qemu, &["virt", "cortex-a72"], memory, ",romfile=", &words)
    }

    /// `[machine, processor]` as the emulator names them.
    fn start(
        namespace: &Netns,
        folder: &Path,
        qemu: &str,
        [machine, processor]: &[&str; 2],
        memory: u32,
        rom: &str,
        words: &[String],
    ) -> Self {
        let serial = folder.join("serial");
        let monitor = folder.join("monitor");
        let mut command = namespace.command(qemu);
        command
            .args(["-machine", machine, "-cpu", processor, "-m", &memory.to_string(), "-display", "none"])
            .arg("-no-reboot")
            .args(["-monitor", &format!("unix:{},server=on,wait=off", monitor.display())])
            .args(["-serial", &format!("file:{}", serial.display())])
            .args(["-netdev", "tap,id=wire,ifname=tap0,script=no,downscript=no"])
            .args(["-device", &format!("virtio-net-pci,netdev=wire,mac={MAC},bootindex=1{rom}")])
            .args(words)
            .stdin(Stdio::null())
            .stdout(Stdio::null());
        Self { child: command.spawn().unwrap(), monitor }
    }
}

impl Computer {
    /// Presses keys of the computer's keyboard, by their names in the emulator.
    pub fn press(&self, keys: &[&str]) {
        for key in keys {
            self.monitor(&format!("sendkey {key}"));
            // Firmware reads its keyboard only now and then.
            std::thread::sleep(Duration::from_millis(300));
        }
    }

    /// Types a text: lower-case letters, digits, blanks, hyphens.
    pub fn type_text(&self, text: &str) {
        for character in text.chars() {
            let key = match character {
                ' ' => "spc".to_owned(),
                '-' => "minus".to_owned(),
                '.' => "dot".to_owned(),
                other => other.to_string(),
            };
            self.press(&[&key]);
        }
    }

    /// Takes a picture of the computer's screen.
    pub fn picture(&self, path: &Path) {
        self.monitor(&format!("screendump {} -f png", path.display()));
        std::thread::sleep(Duration::from_millis(500));
    }

    /// Waits until its screen stands still: a loader that has drawn its menu reads the keyboard. How long that takes depends on
    /// what else this host does.
    pub fn wait_until_still(&self, limit: Duration) {
        let (mut before, mut same) = (self.screen(), 0);
        wait_for("that the screen stands still", limit, || {
            std::thread::sleep(Duration::from_secs(1));
            let now = self.screen();
            same = if is_alike(&before, &now) { same + 1 } else { 0 };
            before = now;
            (same >= 2).then_some(())
        });
    }

    /// The pixels of its screen (PPM, three bytes each behind a short head).
    fn screen(&self) -> Vec<u8> {
        let path = self.monitor.with_file_name("screen.ppm");
        self.monitor(&format!("screendump {}", path.display()));
        std::fs::read(path).unwrap()
    }

    fn monitor(&self, command: &str) {
        let mut socket = UnixStream::connect(&self.monitor).unwrap();
        socket.set_read_timeout(Some(Duration::from_secs(2))).unwrap();
        until_prompt(&mut socket);
        socket.write_all(format!("{command}\n").as_bytes()).unwrap();
        until_prompt(&mut socket);
    }
}

/// Whether two pictures differ by no more than a cursor that blinks or a digit that counts down.
fn is_alike(one: &[u8], other: &[u8]) -> bool {
    let differ = one.iter().zip(other).filter(|(one, other)| one != other).count();
    one.len() == other.len() && differ * 1000 <= one.len()
}

/// The monitor has done what it was told when its prompt is back.
fn until_prompt(socket: &mut UnixStream) {
    let (mut said, mut piece) = (Vec::new(), [0; 4096]);
    while !said.ends_with(b"(qemu) ") {
        match socket.read(&mut piece) {
            Ok(0) | Err(_) => break,
            Ok(length) => said.extend_from_slice(&piece[..length]),
        }
    }
}

impl Drop for Computer {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A namespace with the wire that the computer hangs on, and others may.
pub fn wire(what: &str) -> Netns {
    wire_of(what, "quay0")
}

/// The same with another name of the service's interface.
pub fn wire_of(what: &str, interface: &str) -> Netns {
    let namespace = Netns::new(what);
    namespace.bridge(interface, "192.0.2.2/24");
    namespace.run("ip tuntap add tap0 mode tap");
    namespace.run(&format!("ip link set tap0 master {interface}"));
    namespace.run("ip link set tap0 up");
    namespace
}

/// The drives of UEFI firmware: its code, and a copy of its variables.
pub fn uefi(service: &Service<'_>, code: &str, variables: &str) -> Vec<String> {
    drives(
        service.folder.path(),
        &need(&format!("/usr/share/OVMF/{code}"), "ovmf"),
        &need(&format!("/usr/share/OVMF/{variables}"), "ovmf"),
    )
}

fn drives(folder: &Path, code: &str, variables: &str) -> Vec<String> {
    let own = folder.join("vars.fd");
    std::fs::copy(variables, &own).unwrap();
    vec![
        "-drive".into(),
        format!("if=pflash,format=raw,unit=0,readonly=on,file={code}"),
        "-drive".into(),
        format!("if=pflash,format=raw,unit=1,file={}", own.display()),
    ]
}

/// Debian's own signed loaders.
pub fn add_signed_loader(service: &Service<'_>, http: &str) {
    service.run(&[
        "loader",
        "add",
        "signed-x64",
        "--architecture",
        "uefi-x64",
        "--boot-file",
        &format!("shimx64.efi={}", need("/usr/lib/shim/shimx64.efi.signed", "shim-signed")),
        "--file",
        &format!(
            "grubx64.efi={}",
            need("/usr/lib/grub/x86_64-efi-signed/grubnetx64.efi.signed", "grub-efi-amd64-signed")
        ),
        "--file",
        &format!("x86_64-efi/http.mod={}", need("/usr/lib/grub/x86_64-efi/http.mod", "grub-efi-amd64-bin")),
        "--http",
        http,
    ]);
}

/// GRUB for BIOS, made of Debian's modules.
pub fn add_bios_grub(service: &Service<'_>) {
    let mkimage = need("/usr/bin/grub-mkimage", "grub-common");
    need("/usr/lib/grub/i386-pc/pxe.mod", "grub-pc-bin");
    let core = service.folder.path().join("core.0");
    let modules = "pxe tftp net normal configfile linux echo sleep test reboot halt chain biosdisk";
    let made = Command::new(mkimage)
        .args(["-O", "i386-pc-pxe", "--prefix=(pxe)/grub", "-o", core.to_str().unwrap()])
        .args(modules.split(' '))
        .status()
        .unwrap();
    assert!(made.success());
    service.run(&[
        "loader",
        "add",
        "bios-core",
        "--architecture",
        "bios",
        // The emulated NIC's option ROM reads scripts, and would get one.
        "--user-class",
        "iPXE",
        "--boot-file",
        core.to_str().unwrap(),
        "--file",
        &format!("i386-pc/http.mod={}", need("/usr/lib/grub/i386-pc/http.mod", "grub-pc-bin")),
    ]);
}

/// Debian's PXELINUX, with what it needs for a menu.
pub fn add_pxelinux(service: &Service<'_>) {
    let module = |name: &str| need(&format!("/usr/lib/syslinux/modules/bios/{name}"), "syslinux-common");
    service.run(&[
        "loader",
        "add",
        "bios",
        // The emulated NIC's option ROM reads scripts, and would get one.
        "--user-class",
        "iPXE",
        "--boot-file",
        &need("/usr/lib/PXELINUX/lpxelinux.0", "pxelinux"),
        "--file",
        &module("ldlinux.c32"),
        "--file",
        &module("menu.c32"),
        "--file",
        &module("libutil.c32"),
    ]);
}
