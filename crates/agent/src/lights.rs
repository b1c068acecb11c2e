//! The lights that show people a machine, or one of its disks.

use std::{io, time::Duration};

use lastmile_formats::ipmi::{self, Request};

use crate::{
    collect::Tree,
    devices::{Devices, Own},
    jobs::{Light, Whose},
};

/// How much longer a controller's light shines than it is asked to: it is asked again before.
const LONGER: Duration = Duration::from_secs(5);
/// The last parts of the names that drivers give lights which show where a machine is.
const NAMES: [&str; 4] = ["identify", "ident", "locate", "uid"];

/// Those that the kernel knows.
pub(crate) fn all(tree: &Tree, whose: &Whose) -> Vec<Box<dyn Light>> {
    match whose {
        Whose::Machine => of_machine(tree),
        Whose::Disk(disk) => of_disk(tree, disk).into_iter().map(|file| Box::new(file) as _).collect(),
    }
}

fn of_machine(tree: &Tree) -> Vec<Box<dyn Light>> {
    let mut lights: Vec<Box<dyn Light>> = vec![Box::new(Chassis)];
    for name in tree.folder("sys/class/leds") {
        let last = name.rsplit([':', '-', '_']).next().unwrap_or_default();
        if NAMES.contains(&last) {
            let path = format!("sys/class/leds/{name}/brightness");
            lights.push(Box::new(LightFile { tree: tree.clone(), path, name: format!("light {name}") }));
        }
    }
    let cards = tree.folder("sys/class/net").into_iter();
    let cards = cards.filter(|name| tree.has(&format!("sys/class/net/{name}/device")));
    lights.extend(cards.map(|name| Box::new(Card(name)) as Box<dyn Light>));
    lights
}

/// The light of a disk's bay, which its enclosure has, or of its slot.
fn of_disk(tree: &Tree, disk: &str) -> Option<LightFile> {
    let device = format!("sys/block/{disk}/device");
    let bay = tree.folder(&device).into_iter().find(|name| name.starts_with("enclosure_device:"));
    if let Some(bay) = bay {
        let name = format!("bay {}", bay.trim_start_matches("enclosure_device:"));
        return Some(LightFile { tree: tree.clone(), path: format!("{device}/{bay}/locate"), name });
    }
    // PCI Express hot-plug: the slot whose address is that of the disk, less its function.
    let place = tree.real(&device)?;
    tree.folder("sys/bus/pci/slots").into_iter().find_map(|slot| {
        let address = tree.text(&format!("sys/bus/pci/slots/{slot}/address"))?;
        let path = format!("sys/bus/pci/slots/{slot}/attention");
        let is_it = place.split('/').any(|part| part.starts_with(&format!("{address}.")));
        (is_it && tree.has(&path)).then(|| LightFile {
            tree: tree.clone(),
            path,
            name: format!("slot {slot}"),
        })
    })
}

/// One that a file of the kernel's switches.
struct LightFile {
    tree: Tree,
    path: String,
    name: String,
}

impl Light for LightFile {
    fn name(&self) -> String {
        self.name.clone()
    }

    fn shine(&self, _: Duration) -> io::Result<()> {
        self.tree.write(&self.path, "1")
    }

    fn end(&self) {
        // Who cannot be switched off was not switched on.
        let _ = self.tree.write(&self.path, "0");
    }
}

/// The lights of a network card's port.
struct Card(String);

impl Light for Card {
    fn name(&self) -> String {
        format!("network card {}", self.0)
    }

    fn shine(&self, time: Duration) -> io::Result<()> {
        Own.blink_nic(&self.0, time)
    }

    fn end(&self) {}
}

/// The light of the chassis, which the management controller switches.
struct Chassis;

impl Light for Chassis {
    fn name(&self) -> String {
        "chassis".into()
    }

    fn shine(&self, time: Duration) -> io::Result<()> {
        let secs = u8::try_from((time + LONGER).as_secs()).unwrap_or(u8::MAX);
        let answer = Own.ipmi(&Request::identify(secs))?;
        ipmi::done(&answer)
            .map(drop)
            .ok_or_else(|| io::Error::other(format!("the management controller answers {answer:02x?}")))
    }

    fn end(&self) {
        let _ = Own.ipmi(&Request::identify(0));
    }
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::*;

    #[test]
    fn a_disk_has_the_light_of_its_bay_or_of_its_slot() {
        let folder = tempfile::tempdir().unwrap();
        let put = |path: &str, text: &str| {
            let path = folder.path().join(path);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, text).unwrap();
        };
        put("sys/block/sda/device/enclosure_device:Slot 04/locate", "0");
        put("sys/devices/pci0000:00/0000:00:1d.0/0000:3b:00.0/nvme/nvme0/x", "");
        put("sys/bus/pci/slots/12/address", "0000:3b:00\n");
        put("sys/bus/pci/slots/12/attention", "0");
        put("sys/bus/pci/slots/13/address", "0000:3c:00\n");
        put("sys/class/leds/shelf:blue:locate/brightness", "0");
        put("sys/class/leds/input0::capslock/brightness", "0");
        fs::create_dir_all(folder.path().join("sys/block/nvme0n1")).unwrap();
        std::os::unix::fs::symlink(
            "../../devices/pci0000:00/0000:00:1d.0/0000:3b:00.0/nvme/nvme0",
            folder.path().join("sys/block/nvme0n1/device"),
        )
        .unwrap();
        let tree = Tree::at(folder.path());
        let read = |path: &str| fs::read_to_string(folder.path().join(path)).unwrap();
        for (disk, name, file) in [
            ("sda", "bay Slot 04", "sys/block/sda/device/enclosure_device:Slot 04/locate"),
            ("nvme0n1", "slot 12", "sys/bus/pci/slots/12/attention"),
        ] {
            let lights = all(&tree, &Whose::Disk(disk.into()));
            assert_eq!(lights.len(), 1);
            assert_eq!(lights[0].name(), name);
            lights[0].shine(Duration::from_secs(1)).unwrap();
            assert_eq!(read(file), "1");
            lights[0].end();
            assert_eq!(read(file), "0");
        }
        assert!(all(&tree, &Whose::Disk("sdb".into())).is_empty());
        let of_machine: Vec<String> = all(&tree, &Whose::Machine).iter().map(|light| light.name()).collect();
        assert_eq!(of_machine, ["chassis", "light shelf:blue:locate"]);
    }
}
