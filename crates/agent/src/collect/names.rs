//! The names that an installed system will give network cards (systemd.net-naming-scheme(7), as of v247): answers name cards by
//! them, and here each is known before anything is installed.

use super::Tree;

/// The innermost PCI address in the place of a device: that of a virtio device is its parent's.
pub(super) fn pci_address(place: &str) -> Option<String> {
    place.split('/').rev().find(|part| parts(part).is_some()).map(str::to_owned)
}

/// Domain, bus, slot, function of `0000:03:00.0`.
fn parts(address: &str) -> Option<(u32, u32, u32, u32)> {
    let (place, function) = address.split_once('.')?;
    let mut place = place.split(':').map(|part| u32::from_str_radix(part, 16));
    let (Some(Ok(domain)), Some(Ok(bus)), Some(Ok(slot)), None) =
        (place.next(), place.next(), place.next(), place.next())
    else {
        return None;
    };
    Some((domain, bus, slot, u32::from_str_radix(function, 16).ok()?))
}

/// The card's names, the one that is taken first.
pub(super) fn of(tree: &Tree, pci: &str, port: &str) -> Vec<String> {
    let Some((domain, bus, slot, function)) = parts(pci) else { return Vec::new() };
    let device = format!("sys/bus/pci/devices/{pci}");
    let mut names = Vec::new();
    let port =
        tree.number::<u32>(port).filter(|port| *port > 0).map(|port| format!("d{port}")).unwrap_or_default();
    // By the firmware's number: ACPI's, else SMBIOS's; larger ones are made up.
    let onboard =
        ["acpi_index", "index"].iter().find_map(|index| tree.number::<u32>(&format!("{device}/{index}")));
    if let Some(index) = onboard.filter(|index| (1..=16_383).contains(index)) {
        names.push(format!("eno{index}{port}"));
    }
    // The highest bit of the header's type (PCI Local Bus 3.0, section 6.2.1): there are several functions.
    let is_shared = tree
        .bytes(&format!("{device}/config"))
        .is_some_and(|config| config.get(14).is_some_and(|kind| kind & 0x80 != 0));
    let function = if function > 0 || is_shared { format!("f{function}") } else { String::new() };
    let domain = if domain > 0 { format!("P{domain}") } else { String::new() };
    if let Some(hotplug) = hotplug_slot(tree, pci) {
        names.push(format!("en{domain}s{hotplug}{function}{port}"));
    }
    names.push(format!("en{domain}p{bus}s{slot}{function}{port}"));
    names
}

/// The number of the slot that a card, or a bridge above it, is in.
fn hotplug_slot(tree: &Tree, pci: &str) -> Option<u32> {
    let place = tree.real(&format!("sys/bus/pci/devices/{pci}"))?;
    let above: Vec<&str> = place.split('/').rev().filter(|part| parts(part).is_some()).collect();
    let slots: Vec<(u32, String)> = tree
        .folder("sys/bus/pci/slots")
        .into_iter()
        .filter_map(|slot| {
            Some((slot.parse::<u32>().ok()?, tree.text(&format!("sys/bus/pci/slots/{slot}/address"))?))
        })
        .collect();
    // Addresses of slots have no function.
    above.iter().find_map(|address| {
        let (of_slot, _) = address.split_once('.')?;
        slots.iter().find(|(number, slot)| *number > 0 && slot == of_slot).map(|(number, _)| *number)
    })
}
