//! The same on other firmware, and what is told when a machine comes back with other hardware. Run by `make test-survey`.

use std::{
    sync::{Arc, atomic::Ordering},
    time::{Duration, Instant},
};

use lastmile_sim::cable::{Cable, End, Faults, Tally};
use serde_json::{Value, json};

use super::{LIMIT, MAC, disk, hardware, list, packages, surveyed, surveying};
use crate::support::{
    background::Background,
    bmc::Bmc,
    computer::{Computer, add_bios_grub, add_signed_loader, uefi, wire},
    netns::Netns,
    service::Service,
    wait_for,
};

fn serials(facts: &Value) -> Vec<String> {
    let mut serials: Vec<String> = list(facts, "disks", "serial")
        .into_iter()
        .map(|serial| serial.as_str().unwrap().to_owned())
        .collect();
    serials.sort();
    serials
}

#[test]
#[ignore = "minutes: make test-survey"]
fn with_secure_boot_enforced_a_machine_is_measured_and_says_so() {
    let namespace = wire("survey-secure");
    let service = surveying(&namespace);
    add_signed_loader(&service, "none");
    let folder = service.folder.path();
    let mut firmware = uefi(&service, "OVMF_CODE_4M.ms.fd", "OVMF_VARS_4M.ms.fd");
    firmware.extend(["-global", "driver=cfi.pflash01,property=secure,value=on"].map(str::to_owned));
    firmware.extend(hardware(folder));
    let powered_on = Instant::now();
    let _computer = Computer::power_on_with(&namespace, folder, "q35,smm=on", 512, ",romfile=", &firmware);
    let facts = surveyed(&service, powered_on, "the first report under Secure Boot", |_| true);
    assert_eq!(facts["facts"]["start"]["secure_boot"], true, "{facts:#}");
    assert_eq!(facts["facts"]["start"]["mode"], "uefi");
    // The kernel took every driver: they are signed, and unpacked as they were packaged.
    assert_eq!(facts["faults"], serde_json::json!([]), "{facts:#}");
    assert_eq!(serials(&facts), ["GULL-3", "PUFFIN-1", "RAZORBILL-2"]);
}

#[test]
#[ignore = "minutes: make test-survey"]
fn a_bios_machine_is_measured_named_and_comes_back_with_a_disk_less() {
    let namespace = wire("survey-bios");
    let service = surveying(&namespace);
    add_bios_grub(&service);
    let folder = service.folder.path();
    // With a management controller that another program plays, and that has an address.
    let _bmc = Bmc::start(&namespace, folder);
    let mut whole = hardware(folder);
    let of_bmc = whole.iter_mut().find(|word| word.starts_with("ipmi-bmc-sim")).unwrap();
    *of_bmc = "ipmi-bmc-extern,id=bmc,chardev=bmc".into();
    let at = whole.iter().position(|word| word.starts_with("ipmi-bmc-extern")).unwrap() - 1;
    let socket = format!("socket,id=bmc,host=127.0.0.1,port={},reconnect=1", Bmc::INSIDE);
    whole.splice(at..at, ["-chardev".into(), socket]);
    let powered_on = Instant::now();
    let computer = Computer::power_on_with(&namespace, folder, "q35", 512, "", &whole);
    let facts = surveyed(&service, powered_on, "the first report under BIOS", |_| true);
    assert_eq!(facts["facts"]["start"]["mode"], "bios");
    assert_eq!(serials(&facts), ["GULL-3", "PUFFIN-1", "RAZORBILL-2"]);
    let bmc = &facts["facts"]["bmc"];
    let said =
        ["firmware", "ipmi", "address", "mask", "router", "mac", "source"].map(|key| bmc[key].as_str());
    let expected =
        ["9.08", "2.0", "192.0.2.200", "255.255.255.0", "192.0.2.1", "02:00:5e:00:53:b0", "static"].map(Some);
    assert_eq!(said, expected, "{bmc:#}");
    // It is given a name while it waits, and its screen shows that.
    service.run(&["machine", "adopt", MAC, "--name", "tern-kiosk-1"]);
    let screen = || std::fs::read_to_string(folder.join("serial")).unwrap_or_default();
    wait_for("its name on the serial line", Duration::from_secs(60), || {
        screen().contains("machine   tern-kiosk-1").then_some(())
    });
    let last = screen().rsplit("Last Mile survey").next().unwrap().to_owned();
    println!("{last}");
    assert!(!last.contains("fault"), "{last}");
    drop(computer);

    // At once again, without the NVMe disk; as it is registered now, a menu starts the survey.
    let first = facts["boot"].as_str().unwrap().to_owned();
    let menu = "title = \"Workshop\"\ntimeout_secs = 1\ndefault = \"survey\"\n\
                [[entries]]\nkey = \"survey\"\ntitle = \"Survey\"\naction = { image = { name = \"survey\" } }\n";
    let menu = service.write("menu.toml", menu);
    service.put("menu", "workshop", &menu);
    service.run(&[
        "machine",
        "change",
        "tern-kiosk-1",
        "--set",
        "default_boot=menu",
        "--set",
        "menu=workshop",
    ]);
    let at = whole.iter().position(|word| word.starts_with("nvme,drive=nvme")).unwrap();
    let less: Vec<String> = [&whole[..at - 1], &whole[at + 1..]].concat();
    let powered_on = Instant::now();
    let _computer = Computer::power_on_with(&namespace, folder, "q35", 512, "", &less);
    let facts =
        surveyed(&service, powered_on, "the report of the second boot", |facts| facts["boot"] != first);
    assert_eq!(serials(&facts), ["GULL-3", "RAZORBILL-2"]);
    let gone = |facts: &Value| {
        facts["changes"].as_array().unwrap().iter().any(|change| change["place"] == "disks[PUFFIN-1]")
    };
    assert!(gone(&facts), "{facts:#}");
    told_by_the_check(&service);
}

fn told_by_the_check(service: &Service<'_>) {
    let ended = service.try_run(&["check", "--json"]);
    let report: Value = serde_json::from_slice(&ended.stdout).unwrap();
    let findings = report["findings"].as_array().unwrap();
    let found = findings.iter().find(|found| found["topic"] == "survey" && found["severity"] == "warning");
    let what = found.unwrap()["what"].as_str().unwrap();
    // What people know by name is said first, not what moved on the bus because of it.
    assert!(what.starts_with("its hardware is not as it was: disks[PUFFIN-1]: "), "{what}");
    assert!(what.contains("is gone"), "{what}");
}

#[test]
#[ignore = "minutes: make test-survey"]
fn an_arm64_machine_is_measured_and_does_what_it_is_told() {
    let namespace = wire("survey-arm64");
    let service = Service::start(Some(&namespace), "interfaces = ['quay0']", 8480);
    service.add_wire_subnet(&["--newcomers", "survey", "--domain", "gannet.example"]);
    let of = |words: &[&str], folder: &str, target: &str, more: &[&str]| {
        let packages = packages(folder, target);
        let packages: Vec<&str> = packages.iter().map(String::as_str).collect();
        service.run(&[words, &packages, more].concat())
    };
    of(&["loader", "find"], "arm64", "packages-test", &["--add", "signed-arm64"]);
    // The system for the other processor is there, too: a machine gets its own.
    for (folder, target) in [("kernel", "packages-firmware"), ("kernel-arm64", "packages-survey")] {
        let built = of(&["survey", "build"], folder, target, &[]);
        println!("{}", built.lines().filter(|line| line.starts_with("note:")).collect::<Vec<_>>().join("\n"));
    }
    let folder = service.folder.path();
    let (nvme, virtio) = (disk(folder, "nvme", 96), disk(folder, "virtio", 32));
    let words = [
        "-smbios type=1,manufacturer=Marram,product=MS-64,serial=MS64-0042,uuid=6f9619ff-8b86-d011-b42d-00c04fc964fe",
        &format!("-drive if=none,id=nvme,format=raw,file={nvme}"),
        "-device nvme,drive=nvme,serial=PUFFIN-9",
        &format!("-drive if=none,id=virtio,format=raw,file={virtio}"),
        "-device virtio-blk-pci,drive=virtio,serial=GULL-9",
        "-netdev user,id=second,restrict=on",
        "-device e1000e,netdev=second,mac=00:00:5e:00:53:02,romfile=",
    ];
    let words: Vec<String> = words.iter().flat_map(|words| words.split(' ')).map(str::to_owned).collect();
    let powered_on = Instant::now();
    let _computer = Computer::power_on_arm64(&namespace, folder, 512, &words);
    let report = surveyed(&service, powered_on, "the first report of an arm64 machine", |_| true);
    println!("{}", service.run(&["machine", "facts", MAC]));
    println!("{}", service.run(&["trace", MAC]));
    let facts = &report["facts"];
    let system = ["vendor", "product", "serial", "uuid"].map(|key| facts["system"][key].as_str().unwrap());
    assert_eq!(system, ["Marram", "MS-64", "MS64-0042", "6f9619ff-8b86-d011-b42d-00c04fc964fe"]);
    assert_eq!((&facts["start"]["mode"], &facts["memory"]["mib"]), (&json!("uefi"), &json!(512)));
    assert_eq!(serials(&report), ["GULL-9", "PUFFIN-9"]);
    let mut cards: Vec<&str> =
        list(&report, "nics", "driver").into_iter().map(|driver| driver.as_str().unwrap()).collect();
    cards.sort_unstable();
    assert_eq!(cards, ["e1000e", "virtio_net"]);
    assert_eq!(report["faults"], json!([]), "{report:#}");
    service.run(&["machine", "adopt", MAC, "--name", "tern-kiosk-2"]);
    // The shell is that of the package which was given beside the kernel's.
    service.run(&["settings", "change", "--set", "allow_commands=true"]);
    let said =
        service.run(&["machine", "run", "tern-kiosk-2", "--", "sh", "-c", "uname -m; (sleep 1 &) ; exit 0"]);
    assert!(said.contains("aarch64"), "{said}");
    // What has lost its parent and ended is not kept.
    let count = "sleep 3; grep -l '^State:.Z' /proc/[0-9]*/status | wc -l";
    let said = service.run(&["machine", "run", "tern-kiosk-2", "--", "sh", "-c", count]);
    assert!(said.lines().any(|line| line.trim() == "0"), "{said}");
}

/// Plugs the machine's port into the service's wire: frames carry the VLAN's tag on the machine's side, and only those are taken.
fn plug(namespace: &Netns, vlan: Option<u16>) -> (Background, Arc<Tally>) {
    let [near, far] = namespace.inside(|| ["near0", "far0"].map(|name| End::make(name).unwrap()));
    for (end, bridge) in [("near0", "quay0"), ("far0", "port0")] {
        namespace.run(&format!("ip link set {end} master {bridge}"));
        namespace.run(&format!("ip link set {end} up"));
    }
    let tally = Arc::new(Tally::default());
    let (told, faults) = (Arc::clone(&tally), Faults { vlan, ..Faults::default() });
    let cable = Cable::new(near, far, faults, 20_261_201);
    (Background::run(move |stop| cable.run(stop, &told)), tally)
}

/// The port's own VLAN is the subnet's while firmware and loader speak, and is not any more once the kernel has started: a switch
/// that lets machines in without tags for as long as they boot.
#[test]
#[ignore = "minutes: make test-survey"]
fn a_machine_whose_port_wants_tags_is_measured_through_them() {
    const VLAN: u16 = 30;
    let namespace = wire("survey-vlan");
    namespace.run("ip link add port0 type bridge");
    namespace.run("ip link set port0 up");
    namespace.run("ip link set tap0 master port0");
    let service = surveying(&namespace);
    service.run(&["subnet", "change", "quay-lab", "--set", &format!("vlan={VLAN}")]);
    add_signed_loader(&service, "port-80");
    let (untagged, tally) = plug(&namespace, None);
    let folder = service.folder.path();
    let mut firmware = uefi(&service, "OVMF_CODE_4M.fd", "OVMF_VARS_4M.fd");
    firmware.extend(hardware(folder));
    let powered_on = Instant::now();
    let _computer = Computer::power_on_with(&namespace, folder, "q35", 512, ",romfile=", &firmware);
    wait_for("that its system was fetched", LIMIT, || {
        let trace = service.run(&["trace", MAC, "--all"]);
        trace.contains("→ survey.cpio.zst of survey").then_some(())
    });
    // Sent is not arrived: the last of it is on its way until the machine is silent.
    let carried = || tally.carried.load(Ordering::Relaxed);
    wait_for("that its loader is silent", LIMIT, || {
        let before = carried();
        std::thread::sleep(Duration::from_millis(1500));
        (carried() == before).then_some(())
    });
    drop(untagged);
    let (_tagged, tally) = plug(&namespace, Some(VLAN));
    let report = surveyed(&service, powered_on, "the first report through tags", |_| true);
    println!("{}", service.run(&["trace", MAC]));
    assert_eq!(serials(&report), ["GULL-3", "PUFFIN-1", "RAZORBILL-2"]);
    assert!(report["agent"]["from"].as_str().unwrap().starts_with("192.0.2."), "{report:#}");
    assert!(tally.carried.load(Ordering::Relaxed) > 10);
    let screen = std::fs::read(folder.join("serial")).unwrap();
    let screen = String::from_utf8_lossy(&screen).into_owned();
    assert!(screen.contains(&format!(".{VLAN}")), "its screen says on which VLAN it is: {screen}");
    // It stays there: what it is told, and what it does, goes the same way.
    service.run(&["machine", "adopt", MAC, "--name", "tern-kiosk-3"]);
    service.run(&["job", "arm", "tern-kiosk-3", "--kind", "survey", "--wait"]);
    assert_eq!(service.json(&["job", "show", "1"])["state"], "done");
}
