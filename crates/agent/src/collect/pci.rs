//! The devices on the PCI bus.

use lastmile_survey::facts::PciDevice;

use super::Tree;

const DEVICES: &str = "sys/bus/pci/devices";
/// Base classes that are of no interest by themselves (PCI Code and ID Assignment 1.16): bridges, memory controllers, base
/// system peripherals.
const LEFT_OUT: [u32; 3] = [0x05, 0x06, 0x08];

pub(super) fn all(tree: &Tree) -> Vec<PciDevice> {
    tree.folder(DEVICES).into_iter().filter_map(|address| one(tree, address)).collect()
}

fn one(tree: &Tree, address: String) -> Option<PciDevice> {
    let number = |what: &str| tree.hexadecimal(&format!("{DEVICES}/{address}/{what}"));
    // Base class, subclass, programming interface: a byte each.
    let class = number("class")?;
    if LEFT_OUT.contains(&(class >> 16)) {
        return None;
    }
    let short = |number: u32| u16::try_from(number).unwrap_or_default();
    Some(PciDevice {
        class: short(class >> 8),
        vendor: short(number("vendor")?),
        device: short(number("device")?),
        driver: tree.link(&format!("{DEVICES}/{address}/driver")),
        name: None,
        kind: None,
        address,
    })
}
