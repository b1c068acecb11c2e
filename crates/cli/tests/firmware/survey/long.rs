//! The same on other firmware, and what is told when a machine comes back with other hardware. Run by `make test-survey`.

use std::time::{Duration, Instant};

use serde_json::Value;

use super::{MAC, hardware, list, surveyed, surveying};
use crate::support::{
    computer::{Computer, add_bios_grub, add_signed_loader, uefi, wire},
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
    let whole = hardware(folder);
    let powered_on = Instant::now();
    let computer = Computer::power_on_with(&namespace, folder, "q35", 512, "", &whole);
    let facts = surveyed(&service, powered_on, "the first report under BIOS", |_| true);
    assert_eq!(facts["facts"]["start"]["mode"], "bios");
    assert_eq!(serials(&facts), ["GULL-3", "PUFFIN-1", "RAZORBILL-2"]);
    // It is given a name while it waits, and its screen shows that.
    service.run(&["machine", "adopt", MAC, "--name", "tern-kiosk-1"]);
    let screen = || std::fs::read_to_string(folder.join("serial")).unwrap_or_default();
    wait_for("its name on the serial line", Duration::from_secs(60), || {
        screen().contains("machine   tern-kiosk-1").then_some(())
    });
    println!("{}", screen().rsplit("Last Mile survey").next().unwrap());
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
