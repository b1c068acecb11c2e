//! How a machine is: what changes while it runs.

use lastmile_formats::{ata, nvme, scsi};
use lastmile_survey::{facts::DiskHealth, job::Temperature};

use super::Tree;
use crate::devices::Devices;

/// Bytes that programs can have without taking them from others (proc(5), `MemAvailable`).
pub(crate) fn free_memory(tree: &Tree) -> Option<u64> {
    let text = tree.text("proc/meminfo")?;
    let free = text.lines().find_map(|line| line.strip_prefix("MemAvailable:"))?;
    free.split_whitespace().next()?.parse::<u64>().ok().map(|kib| kib << 10)
}

/// Every sensor of temperature (Linux, `Documentation/hwmon/sysfs-interface.rst`: thousandths of a degree).
pub(crate) fn temperatures(tree: &Tree) -> Vec<Temperature> {
    let mut all = Vec::new();
    for chip in tree.folder("sys/class/hwmon") {
        let folder = format!("sys/class/hwmon/{chip}");
        let name = tree.text(&format!("{folder}/name")).unwrap_or_else(|| chip.clone());
        for file in tree.folder(&folder) {
            let Some(sensor) = file.strip_suffix("_input").filter(|sensor| sensor.starts_with("temp")) else {
                continue;
            };
            let degrees = |what: &str| {
                tree.number::<f64>(&format!("{folder}/{sensor}_{what}"))
                    .map(|thousandths| thousandths / 1000.0)
            };
            let Some(highest) = degrees("input") else { continue };
            let label = tree.text(&format!("{folder}/{sensor}_label")).unwrap_or_else(|| sensor.to_owned());
            // Drivers that know no limit say zero, or less.
            let critical = degrees("crit").filter(|degrees| *degrees > 0.0);
            all.push(Temperature { sensor: format!("{name} {label}"), highest, critical });
        }
    }
    all
}

/// Errors that memory controllers have corrected so far, and those that they could not (Linux,
/// `Documentation/driver-api/edac.rst`).
pub(crate) fn memory_errors(tree: &Tree) -> Option<(u64, u64)> {
    let folder = "sys/devices/system/edac/mc";
    let controllers = tree.folder(folder).into_iter().filter(|name| name.starts_with("mc"));
    let counts: Vec<(u64, u64)> = controllers
        .filter_map(|name| {
            let count = |file: &str| tree.number::<u64>(&format!("{folder}/{name}/{file}"));
            Some((count("ce_count")?, count("ue_count")?))
        })
        .collect();
    let sum = |(a, b): (u64, u64), (c, d): &(u64, u64)| (a + c, b + d);
    (!counts.is_empty()).then(|| counts.iter().fold((0, 0), sum))
}

/// How a disk is, by its own word: NVMe has a log page, disks with ATA commands have SMART, others have SCSI's log pages.
pub(super) fn disk(devices: &dyn Devices, name: &str) -> Option<DiskHealth> {
    if name.starts_with("nvme") {
        return devices.nvme_health(name).ok().and_then(|page| nvme::Health::parse(&page)).map(of_nvme);
    }
    // Neither virtual disks nor cards of memory know such commands.
    if !name.starts_with("sd") {
        return None;
    }
    let attributes = devices.ata(name, ata::Read::Attributes).ok();
    if let Some(attributes) = attributes.and_then(|answer| ata::Attributes::parse(&answer.data)) {
        let is_well = devices.ata(name, ata::Read::Health).ok().and_then(|answer| ata::is_well(&answer));
        return Some(of_ata(attributes, is_well));
    }
    let page = devices.scsi_log(name, scsi::EXCEPTIONS).ok()?;
    let said = scsi::Exceptions::parse(&page)?;
    Some(DiskHealth { is_well: Some(said.is_well), temperature: said.temperature, ..DiskHealth::default() })
}

fn of_nvme(said: nvme::Health) -> DiskHealth {
    let count = |count: u128| Some(u64::try_from(count).unwrap_or(u64::MAX));
    DiskHealth {
        is_well: Some(said.is_well()),
        used_percent: Some(said.used),
        spare_percent: Some(said.spare),
        media_errors: count(said.media_errors),
        power_on_hours: count(said.power_on_hours),
        written: count(said.written),
        temperature: Some(said.temperature),
        ..DiskHealth::default()
    }
}

fn of_ata(said: ata::Attributes, is_well: Option<bool>) -> DiskHealth {
    DiskHealth {
        is_well,
        reallocated: said.reallocated,
        unreadable: said.pending,
        media_errors: said.uncorrectable,
        power_on_hours: said.power_on_hours,
        temperature: said.temperature,
        ..DiskHealth::default()
    }
}
