//! How a machine is: what changes while it runs.

use lastmile_survey::job::Temperature;

use super::Tree;

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
