//! Measures a machine: what the kernel says below `/sys` and `/proc`, the firmware's tables there, and what its devices say when they are
//! asked.
//!
//! Whatever is not there, or cannot be read, is left out of the facts: a survey of half a machine is better than none.

mod bmc;
mod cpu;
mod disks;
mod firmware;
mod health;
mod names;
mod nics;
mod pci;
mod tree;

pub(crate) use health::{free_memory, memory_errors, temperatures};
use lastmile_formats::smbios::Smbios;
use lastmile_survey::facts::{Disk, Facts, Tpm, is_placeholder};
pub use tree::Tree;

use crate::devices::Devices;

/// Everything that can be measured by reading what the kernel shows.
#[must_use]
pub fn facts(tree: &Tree) -> Facts {
    let said = Smbios::parse(&tree.bytes("sys/firmware/dmi/tables/DMI").unwrap_or_default());
    let mut facts = Facts::of(said);
    facts.start = firmware::start(tree);
    cpu::add(tree, &mut facts.cpu);
    if facts.memory.mib == 0 {
        facts.memory.mib = kernel_mib(tree).unwrap_or_default();
    }
    facts.disks = disks::all(tree);
    facts.nics = nics::all(tree);
    facts.devices = pci::all(tree);
    facts.tpm = tree
        .folder("sys/class/tpm")
        .first()
        .map(|name| Tpm { version: tree.number(&format!("sys/class/tpm/{name}/tpm_version_major")) });
    facts
}

/// Adds what only the devices themselves say: how disks are and how they are divided, the firmware of network cards, the management
/// controller.
pub fn ask(facts: &mut Facts, devices: &dyn Devices) {
    for disk in &mut facts.disks {
        disks::ask(disk, devices);
    }
    for nic in &mut facts.nics {
        nic.firmware = devices.nic_firmware(&nic.name).ok().filter(|text| !is_placeholder(text));
    }
    facts.bmc = bmc::read(devices);
    facts.has_bmc |= facts.bmc.is_some();
}

/// Adds the same from facts for which they were asked before, as far as the same disks and cards are there. Says whether all of them are:
/// what another disk said is not a new one's.
pub fn ask_again(facts: &mut Facts, before: &Facts) -> bool {
    let is_there = |disk: &Disk| {
        let is_it =
            |other: &&Disk| (&other.name, &other.serial, other.size) == (&disk.name, &disk.serial, disk.size);
        before.disks.iter().find(is_it)
    };
    let mut are_all_there = true;
    for disk in &mut facts.disks {
        match is_there(disk) {
            Some(same) => (disk.health, disk.layout) = (same.health.clone(), same.layout.clone()),
            None => are_all_there = false,
        }
    }
    for nic in &mut facts.nics {
        match before.nics.iter().find(|other| other.mac == nic.mac) {
            Some(same) => nic.firmware.clone_from(&same.firmware),
            None => are_all_there = false,
        }
    }
    facts.bmc.clone_from(&before.bmc);
    facts.has_bmc |= facts.bmc.is_some();
    are_all_there
}

/// MiB that the kernel can use (proc(5), `/proc/meminfo`).
fn kernel_mib(tree: &Tree) -> Option<u64> {
    let text = tree.text("proc/meminfo")?;
    let total = text.lines().find_map(|line| line.strip_prefix("MemTotal:"))?;
    total.split_whitespace().next()?.parse::<u64>().ok().map(|kib| kib / 1024)
}
