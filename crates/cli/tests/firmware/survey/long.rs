//! The same on other firmware. Run by `make test-survey`.

use std::time::{Duration, Instant};

use serde_json::Value;

use super::{MAC, hardware, list, surveyed, surveying};
use crate::support::{
    computer::{Computer, add_bios_grub, add_signed_loader, uefi, wire},
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
fn a_bios_machine_is_measured_and_shows_the_name_that_it_is_given() {
    let namespace = wire("survey-bios");
    let service = surveying(&namespace);
    add_bios_grub(&service);
    let folder = service.folder.path();
    let whole = hardware(folder);
    let powered_on = Instant::now();
    let _computer = Computer::power_on_with(&namespace, folder, "q35", 512, "", &whole);
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
}
