//! A host that runs from memory, from end to end: a small Debian root made of packages, imported as a live image, booted
//! by real firmware, given its name, user and key by our answers, and logged in to.

use std::{
    path::Path,
    process::Command,
    time::{Duration, Instant},
};

use serde_json::{Value, json};

use crate::support::{
    computer::{Computer, add_signed_loader, uefi, wire},
    need,
    service::Service,
    site::MACHINE,
    wait_for,
};

/// From power-on to the host's report, under software emulation beside other work.
const LIMIT: Duration = Duration::from_secs(900);
/// MiB: the root is held there twice over while it starts.
const MEMORY: u32 = 2048;

/// What the root is made of.
const PACKAGES: &str = "live-boot,live-boot-initramfs-tools,systemd-sysv,linux-image-cloud-amd64,cloud-init,iproute2,\
                        openssh-server,sudo,dbus,wget";

/// What makes a root of packages a stateless host: its network by DHCP, its answers from where the kernel's parameters
/// say.
const NETWORK: &str = "[Match]\nName=e*\n[Network]\nDHCP=ipv4\n[DHCPv4]\nClientIdentifier=mac\n";
const CLOUD: &str = "datasource_list: [NoCloud]\nnetwork: {config: disabled}\n";

const ANSWERS: &str = r#"
locale = "C.UTF-8"
time_zone = "Europe/Oslo"
host_name = "{{ name }}-m"

[users.purser]
full_name = "Ship's \"Purser\" & Mate"
password = { plain = "tern bay at dusk" }
ssh_keys = ["KEY"]
sudo = "no-password"

[last_steps]
tell = "echo \"last step ran\" >/run/last-step"

[first_boot]
tell = "hostname >/run/first-boot"
"#;

fn run(program: &str, package: &str, words: &[&str], folder: &Path) {
    let output = Command::new(need(program, package)).args(words).current_dir(folder).output().unwrap();
    assert!(output.status.success(), "{program}: {}", String::from_utf8_lossy(&output.stderr));
}

/// Makes the root; gives how long it took. The folder then has `vmlinuz`, `initrd.img` and `root.squashfs`.
fn make_root(folder: &Path) {
    std::fs::write(folder.join("network"), NETWORK).unwrap();
    std::fs::write(folder.join("cloud"), CLOUD).unwrap();
    let include = format!("--include={PACKAGES}");
    let place = |file: &str, place: &str| format!("--customize-hook=upload {file} {place}");
    let network = place("network", "/etc/systemd/network/10-wire.network");
    let cloud = place("cloud", "/etc/cloud/cloud.cfg.d/90-lastmile.cfg");
    let words = [
        "--quiet",
        "--variant=minbase",
        "--aptopt=Acquire::Retries \"3\"",
        &include,
        &network,
        &cloud,
        "--customize-hook=systemctl --root=\"$1\" enable systemd-networkd",
        // What cloud-init and the service are to set is not there before.
        "--customize-hook=rm -f \"$1\"/etc/hostname \"$1\"/etc/ssh/ssh_host_*",
        "--customize-hook=cp \"$1\"/boot/vmlinuz-* vmlinuz; cp \"$1\"/boot/initrd.img-* initrd.img",
        "--customize-hook=rm -f \"$1\"/boot/*",
        "bookworm",
        "root.tar",
    ];
    run("/usr/bin/mmdebstrap", "mmdebstrap", &words, folder);
    std::fs::create_dir(folder.join("root")).unwrap();
    run("/usr/bin/tar", "tar", &["-xf", "root.tar", "-C", "root", "--exclude=./dev/*"], folder);
    let words = ["root", "root.squashfs", "-comp", "zstd", "-Xcompression-level", "3", "-noappend", "-quiet"];
    run("/usr/bin/mksquashfs", "squashfs-tools", &words, folder);
}

/// A stanza a line, as it comes, with the seconds since power-on.
fn wait_for_end(service: &Service<'_>, number: usize, powered_on: Instant) -> Value {
    let mut known = 0;
    wait_for("the host's report", LIMIT, || {
        std::thread::sleep(Duration::from_millis(500));
        let shown = service.try_run(&["--json", "install", "show", &number.to_string()]);
        let install: Value = serde_json::from_slice(&shown.stdout).ok()?;
        let steps = install["steps"].as_array()?.clone();
        for step in steps.iter().skip(known) {
            let (kind, detail) = (step["kind"].as_str()?, step["detail"].as_str()?);
            println!("{:6.1} s  {kind:8} {detail}", powered_on.elapsed().as_secs_f64());
        }
        known = steps.len();
        install["outcome"].is_object().then_some(install)
    })
}

#[test]
#[ignore = "minutes: make test-install"]
fn a_host_without_a_disk_starts_from_memory_with_its_own_name_user_and_key() {
    let made = tempfile::tempdir().unwrap();
    let began = Instant::now();
    make_root(made.path());
    println!("the root was made in {:.0} s", began.elapsed().as_secs_f64());
    run(
        "/usr/bin/ssh-keygen",
        "openssh-client",
        &["-q", "-t", "ed25519", "-N", "", "-f", "key"],
        made.path(),
    );
    let key = std::fs::read_to_string(made.path().join("key.pub")).unwrap();

    let namespace = wire("stateless");
    let service = Service::start(Some(&namespace), "interfaces = ['quay0']", 4080);
    service.add_wire_subnet(&["--domain", "gannet.example"]);
    add_signed_loader(&service, "any-port");
    let file = |name: &str| made.path().join(name).to_str().unwrap().to_owned();
    let began = Instant::now();
    let added = service.run(&[
        "image",
        "add",
        &file("vmlinuz"),
        &file("initrd.img"),
        &file("root.squashfs"),
        "--name",
        "lantern-12",
        "--title",
        "Lantern 12",
        "--kind",
        "live",
        "--family",
        "cloud-config",
        "--kernel",
        "vmlinuz",
        "--initrd",
        "initrd.img",
        "--parameter",
        "boot=live",
        "--parameter",
        "fetch={{ image.url }}/root.squashfs",
        "--parameter",
        "console=ttyS0",
    ]);
    println!("imported in {:.1} s\n{added}", began.elapsed().as_secs_f64());
    let answers = service.write("live.toml", ANSWERS.replace("KEY", key.trim()));
    service.put("answers", "deck-display", &answers);
    service.add_machine();
    service.run(&[
        "machine",
        "change",
        MACHINE,
        "--set",
        "default_boot=live:lantern-12",
        "--set",
        "live_answers=deck-display",
    ]);
    assert_eq!(service.json(&["install", "list"]).as_array().unwrap().len(), 0);

    for start in 1..=2 {
        let folder = tempfile::tempdir().unwrap();
        let firmware = uefi(&service, "OVMF_CODE_4M.fd", "OVMF_VARS_4M.fd");
        let powered_on = Instant::now();
        let computer =
            Computer::power_on_with(&namespace, folder.path(), "q35", MEMORY, ",romfile=", &firmware);
        let install = wait_for_end(&service, start, powered_on);
        println!("{}", service.run(&["install", "show", &start.to_string()]));
        assert_eq!((&install["state"], &install["is_stateless"]), (&json!("installed"), &json!(true)));
        assert_eq!(install["differences"], json!([]), "{install}");
        let actual = &install["outcome"]["actual"];
        assert_eq!(actual["host_name"], "auklet-chart-m");
        assert!(actual["os"].as_str().unwrap().contains("Debian GNU/Linux 12"), "{actual}");
        assert!(actual["kernel"].as_str().unwrap().contains("cloud-amd64"), "{actual}");
        let address = actual["address"].as_str().unwrap();
        let leases = service.json(&["subnet", "leases", "quay-lab"]);
        assert_eq!(leases[0]["address"], address, "one lease for firmware, initrd and host");
        assert!(!install["log"].as_array().unwrap().is_empty(), "cloud-init tells its steps");

        // Somebody with the key gets in, as the user that the answers made, and becomes root.
        let words = "hostname; id -un; getent passwd purser | cut -d: -f5; sudo -n cat /run/first-boot /run/last-step; \
                     findmnt -n -o FSTYPE /; date +%Z";
        let output = namespace
            .command(&need("/usr/bin/ssh", "openssh-client"))
            .args([
                "-i",
                &file("key"),
                "-o",
                "StrictHostKeyChecking=no",
                "-o",
                "UserKnownHostsFile=/dev/null",
            ])
            .args(["-o", "BatchMode=yes", "-o", "ConnectTimeout=20", &format!("purser@{address}"), words])
            .output()
            .unwrap();
        let said = String::from_utf8_lossy(&output.stdout).into_owned();
        assert!(output.status.success(), "{said}{}", String::from_utf8_lossy(&output.stderr));
        let expected =
            "auklet-chart-m\npurser\nShip's \"Purser\" & Mate\nauklet-chart-m\nlast step ran\noverlay\nCET\n";
        assert_eq!(said, expected);
        drop(computer);
    }
    // The second start is a record of its own, and the machine has what it has since then.
    let hosts = service.json(&["history", "hosts"]);
    assert_eq!(
        (&hosts["hosts"][0]["install"], &hosts["hosts"][0]["is_stateless"]),
        (&json!(2), &json!(true))
    );
    assert!(hosts["hosts"][0]["armed_by"] == "default boot", "{hosts}");
}
