//! Measures a machine: what the kernel says below `/sys` and `/proc`, and the firmware's tables there.
//!
//! Whatever is not there, or cannot be read, is left out of the facts: a survey of half a machine is better than none.

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
use lastmile_survey::facts::{Facts, Tpm};
pub use tree::Tree;

/// Everything that can be measured by reading.
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

/// MiB that the kernel can use (proc(5), `/proc/meminfo`).
fn kernel_mib(tree: &Tree) -> Option<u64> {
    let text = tree.text("proc/meminfo")?;
    let total = text.lines().find_map(|line| line.strip_prefix("MemTotal:"))?;
    total.split_whitespace().next()?.parse::<u64>().ok().map(|kib| kib / 1024)
}
