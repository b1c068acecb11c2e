//! Real firmware, real loaders, a real installer, in a network namespace of the test's own.
//!
//! Run by `make test-firmware`: under software emulation this takes minutes.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]
#![allow(clippy::print_stdout, reason = "the times of the stages are wanted in the log")]

mod support;

use std::{
    path::Path,
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};

use serde_json::Value;
use support::{need, netns::Netns, service::Service, site::MAC, wait_for};

const INSTALLER: &str = "/usr/lib/debian-installer/images/12/amd64/text/debian-installer/amd64";
/// From power-on to the installer's first report. It took about 210 s on an idle machine with two cores.
const LIMIT: Duration = Duration::from_secs(900);

/// An emulated computer, switched off with the value.
struct Computer(Child);

impl Computer {
    /// Switches on a computer on `tap0` in the namespace; its serial console is written to a file.
    ///
    /// `rom` is what follows the NIC: UEFI brings its own network boot program, so its NIC has no option ROM;
    /// under BIOS the network boot program is that ROM.
    fn power_on(namespace: &Netns, folder: &Path, rom: &str, firmware: &[String]) -> Self {
        let qemu = need("/usr/bin/qemu-system-x86_64", "qemu-system-x86");
        let serial = folder.join("serial");
        let mut command = namespace.command(&qemu);
        command
            .args(["-machine", "q35", "-cpu", "max", "-m", "1024", "-display", "none", "-monitor", "none"])
            .args(["-no-reboot", "-boot", "n"])
            .args(["-serial", &format!("file:{}", serial.display())])
            .args(["-netdev", "tap,id=wire,ifname=tap0,script=no,downscript=no"])
            .args(["-device", &format!("virtio-net-pci,netdev=wire,mac={MAC}{rom}")])
            .args(firmware)
            .stdin(Stdio::null())
            .stdout(Stdio::null());
        Self(command.spawn().unwrap())
    }
}

impl Drop for Computer {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// A namespace with the wire that the computer hangs on.
fn wire(what: &str) -> Netns {
    let namespace = Netns::new(what);
    namespace.run("ip tuntap add tap0 mode tap");
    namespace.run("ip address add 192.0.2.2/24 dev tap0");
    namespace.run("ip link set tap0 up");
    namespace
}

fn fill(service: &Service<'_>) {
    service.run(&[
        "subnet",
        "add",
        "quay-lab",
        "192.0.2.0/24",
        "--interface",
        "tap0",
        "--pool",
        "192.0.2.100-192.0.2.150",
        "--domain",
        "gannet.example",
    ]);
    service.run(&[
        "image",
        "add",
        "tidewrack-12",
        "--title",
        "Tidewrack 12",
        "--family",
        "preseed",
        "--kernel",
        &need(&format!("{INSTALLER}/linux"), "debian-installer-12-netboot-amd64"),
        "--initrd",
        &need(&format!("{INSTALLER}/initrd.gz"), "debian-installer-12-netboot-amd64"),
        "--parameter",
        "console=ttyS0",
    ]);
    service.add_answers();
    service.add_machine();
    service.arm();
}

/// Waits until the record holds `step`; prints each step as it comes, with the seconds since power-on.
fn wait_for_step(service: &Service<'_>, step: &str, powered_on: Instant) -> Value {
    let mut known = 0;
    wait_for(&format!("step '{step}'"), LIMIT, || {
        std::thread::sleep(Duration::from_millis(500));
        let install = service.json(&["install", "show", "1"]);
        let all = install["steps"].as_array().unwrap().clone();
        for new in all.iter().skip(known) {
            println!(
                "{:6.1} s  {:8} {}",
                powered_on.elapsed().as_secs_f64(),
                new["kind"].as_str().unwrap(),
                new["detail"].as_str().unwrap()
            );
        }
        known = all.len();
        all.iter().any(|new| new["kind"] == step).then_some(install)
    })
}

#[test]
fn debians_installer_takes_our_answers_under_uefi() {
    let namespace = wire("uefi");
    let service = Service::start(Some(&namespace), "interfaces = ['tap0']", 8480);
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
    ]);
    fill(&service);

    let code = need("/usr/share/OVMF/OVMF_CODE_4M.fd", "ovmf");
    let vars = service.folder.path().join("vars.fd");
    std::fs::copy(need("/usr/share/OVMF/OVMF_VARS_4M.fd", "ovmf"), &vars).unwrap();
    let firmware = [
        "-drive".into(),
        format!("if=pflash,format=raw,readonly=on,file={code}"),
        "-drive".into(),
        format!("if=pflash,format=raw,file={}", vars.display()),
    ];
    let powered_on = Instant::now();
    let computer = Computer::power_on(&namespace, service.folder.path(), ",romfile=", &firmware);
    let install = wait_for_step(&service, "started", powered_on);
    drop(computer);

    assert_eq!(install["state"], "installing");
    let steps = service.steps();
    let expected =
        ["armed", "lease", "loader", "loader", "menu", "kernel", "initrd", "lease", "answers", "started"];
    let mut seen = steps.iter();
    for step in expected {
        assert!(seen.any(|found| found == step), "no '{step}' in its place in {steps:?}");
    }
    // Firmware and installer are two clients with two identifiers, and one address.
    let details: Vec<_> =
        install["steps"].as_array().unwrap().iter().filter(|s| s["kind"] == "lease").collect();
    let address = |lease: &Value| lease["detail"].as_str().unwrap().split(' ').next().unwrap().to_owned();
    assert!(details.iter().all(|lease| address(lease) == address(details[0])), "{details:?}");
    assert!(details[0]["detail"].as_str().unwrap().ends_with("to uefi-x64 firmware"));
    // What was served is what the record says.
    assert_eq!(install["answer_hash"].as_str().unwrap().len(), 64);
    assert_eq!(install["kernel_fetches"], 1);
    let machine = service.json(&["machine", "show", "auklet-chart"]);
    let trace = machine["trace"].as_array().unwrap();
    let got: Vec<String> = trace
        .iter()
        .map(|event| format!("{} → {}", event["asked"].as_str().unwrap(), event["got"].as_str().unwrap()))
        .collect();
    println!("{}", got.join("\n"));
    assert!(got.iter().any(|line| line.contains("only its size was asked")), "the firmware's probe");
    assert!(
        got.iter().any(|line| line.starts_with("GET /boot/") && line.contains("linux")),
        "the kernel by HTTP"
    );
}

#[test]
fn bios_is_told_apart_and_starts_the_kernel() {
    let mkimage = need("/usr/bin/grub-mkimage", "grub-common");
    need("/usr/lib/grub/i386-pc/pxe.mod", "grub-pc-bin");
    let namespace = wire("bios");
    let service = Service::start(Some(&namespace), "interfaces = ['tap0']", 8480);
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
        "--boot-file",
        core.to_str().unwrap(),
        "--file",
        &format!("i386-pc/http.mod={}", need("/usr/lib/grub/i386-pc/http.mod", "grub-pc-bin")),
    ]);
    // A loader for the other firmware is there too: only option 93 tells which one this machine is given.
    service.run(&[
        "loader",
        "add",
        "signed-x64",
        "--architecture",
        "uefi-x64",
        "--boot-file",
        &format!("shimx64.efi={}", need("/usr/lib/shim/shimx64.efi.signed", "shim-signed")),
    ]);
    fill(&service);
    let powered_on = Instant::now();
    let computer = Computer::power_on(&namespace, service.folder.path(), "", &[]);
    let install = wait_for_step(&service, "initrd", powered_on);
    drop(computer);
    let lease = install["steps"].as_array().unwrap().iter().find(|step| step["kind"] == "lease").unwrap();
    assert!(lease["detail"].as_str().unwrap().ends_with("to bios firmware"), "{lease}");
    assert_eq!(install["state"], "booting");
    let loaders: Vec<_> =
        install["steps"].as_array().unwrap().iter().filter(|s| s["kind"] == "loader").collect();
    assert!(!loaders.is_empty() && loaders.iter().all(|step| step["detail"] == "core.0"), "{loaders:?}");
}
