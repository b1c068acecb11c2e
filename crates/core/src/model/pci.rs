//! What devices on a PCI bus are called, by the registry of their numbers (<https://pci-ids.ucw.cz>).

use lastmile_survey::facts::{Facts, PciDevice};
use pci_ids::{Device, FromId, Subclass, Vendor};

/// Gives every device its name and kind, as far as the registry has them.
pub(super) fn name_devices(facts: &mut Facts) {
    for device in &mut facts.devices {
        device.name = name(device);
        device.kind = kind(device);
    }
}

fn name(device: &PciDevice) -> Option<String> {
    if let Some(known) = Device::from_vid_pid(device.vendor, device.device) {
        return Some(format!("{} {}", known.vendor().name(), known.name()));
    }
    let vendor = Vendor::from_id(device.vendor)?;
    Some(format!("{}, device {:04x}", vendor.name(), device.device))
}

fn kind(device: &PciDevice) -> Option<String> {
    let [class, subclass] = device.class.to_be_bytes();
    Subclass::from_cid_sid(class, subclass).map(|kind| kind.name().to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn named(class: u16, vendor: u16, device: u16) -> PciDevice {
        let device = PciDevice { class, vendor, device, ..PciDevice::default() };
        let mut facts = Facts { devices: vec![device], ..Facts::default() };
        name_devices(&mut facts);
        facts.devices.remove(0)
    }

    #[test]
    fn devices_have_the_names_of_the_registry() {
        // A virtual network card and a display adapter of an emulator, as everybody can look them up.
        let card = named(0x0200, 0x1af4, 0x1000);
        assert!(card.name.as_deref().unwrap().contains("Virtio network device"), "{card:?}");
        assert_eq!(card.kind.as_deref(), Some("Ethernet controller"));
        assert_eq!(named(0x0300, 0x1234, 0x1111).kind.as_deref(), Some("VGA compatible controller"));
        let unknown = named(0x0200, 0x1af4, 0xfffe);
        assert!(unknown.name.as_deref().unwrap().ends_with(", device fffe"), "{unknown:?}");
        assert_eq!(named(0xfefe, 0x7ffe, 1).name, None);
    }
}
