//! The disks, as curtin divides them (its reference: storage).

use serde_json::{Map, Value, json};

use super::super::{Target, choose::volume_name};
use crate::{
    decide::answers::{Disks, Mount, Place, resolved::EFI_MIB},
    model::answers::{BootMode, DiskMatch, FileSystem, Prefer, Size},
};

pub(super) fn storage(disks: &Disks, target: &Target<'_>) -> Value {
    if disks.volumes.is_none() {
        return guided(disks, target);
    }
    let mut actions: Vec<Value> = Vec::new();
    for (index, (name, disk)) in disks.taken.iter().enumerate() {
        actions.push(json!({
            "type": "disk", "id": format!("disk-{name}"), "match": disk_match(disk), "ptable": "gpt",
            "wipe": "superblock-recursive", "preserve": false,
            "grub_device": disks.boot_mode == BootMode::Bios && disks.boot_disks().contains(&index),
        }));
    }
    let mut arranged = Arranged { disks, actions };
    arranged.boot_partitions();
    arranged.volumes(target);
    let no_swap = !disks.places().iter().any(|place| place.mount == Mount::Swap);
    let mut storage = json!({ "config": arranged.actions });
    if no_swap && let Value::Object(storage) = &mut storage {
        storage.insert("swap".into(), json!({ "size": 0 }));
    }
    storage
}

/// The installer's own arrangement, on the disk that was described.
fn guided(disks: &Disks, target: &Target<'_>) -> Value {
    let name = if disks.logical_volumes { "lvm" } else { "direct" };
    let mut layout = Map::from_iter([("name".to_owned(), json!(name))]);
    if let Some((_, disk)) = disks.taken.first().filter(|(_, disk)| !disk.is_any()) {
        layout.insert("match".into(), disk_match(disk));
    }
    if let Some(passphrase) = &disks.passphrase {
        layout.insert("password".into(), json!(target.plain(passphrase).as_str()));
    }
    json!({ "layout": layout })
}

fn disk_match(disk: &DiskMatch) -> Value {
    let size = disk.prefer.map(|prefer| match prefer {
        Prefer::Small => "smallest",
        Prefer::Large => "largest",
    });
    let keys = [
        ("path", disk.device.as_deref()),
        ("model", disk.model.as_deref()),
        ("serial", disk.serial.as_deref()),
        ("size", size),
    ];
    let said = keys.into_iter().filter_map(|(key, text)| Some((key.to_owned(), json!(text?))));
    Value::Object(said.collect())
}

/// The actions of curtin's storage version 1, being collected.
struct Arranged<'a> {
    disks: &'a Disks,
    actions: Vec<Value>,
}

impl Arranged<'_> {
    fn boot_partitions(&mut self) {
        for (order, index) in self.disks.boot_disks().into_iter().enumerate() {
            let name = &self.disks.taken[index].0;
            match self.disks.boot_mode {
                BootMode::Bios => self.actions.push(json!({
                    "type": "partition", "id": format!("bios-{name}"), "device": format!("disk-{name}"),
                    "size": "1M", "flag": "bios_grub", "preserve": false,
                })),
                BootMode::Uefi => {
                    self.actions.push(json!({
                        "type": "partition", "id": format!("efi-{name}"), "device": format!("disk-{name}"),
                        "size": format!("{EFI_MIB}M"), "flag": "boot", "grub_device": true, "preserve": false,
                    }));
                    self.actions.push(json!({
                        "type": "format", "id": format!("efi-{name}-fs"), "volume": format!("efi-{name}"),
                        "fstype": "fat32", "preserve": false,
                    }));
                    if order == 0 {
                        self.actions.push(json!({
                            "type": "mount", "id": "efi-mount", "device": format!("efi-{name}-fs"), "path": "/boot/efi",
                        }));
                    }
                }
            }
        }
    }

    fn volumes(&mut self, target: &Target<'_>) {
        let disks = self.disks;
        let lvm = disks.logical_volumes;
        let mut places = disks.places();
        // A partition that takes the rest comes last on its disk.
        places.sort_by_key(|place| place.size == Size::Rest);
        for place in places.iter().filter(|place| !(lvm && disks.is_inside(place))) {
            let id = volume_name(&place.mount);
            let mut device = self.partition(&id, place.disk, place.size);
            if place.mount.path() != Some("/boot") {
                device = self.encrypted(&id, device, target);
            }
            self.file_system(place, &id, &device);
        }
        if lvm {
            let count = if disks.mirror { 1 } else { disks.taken.len() };
            let mut devices = Vec::new();
            for index in 0..count {
                let id = if count > 1 { format!("pv-{}", disks.taken[index].0) } else { "pv".into() };
                let device = self.partition(&id, index, Size::Rest);
                devices.push(self.encrypted(&id, device, target));
            }
            self.actions.push(json!({
                "type": "lvm_volgroup", "id": "group", "name": disks.group, "devices": devices, "preserve": false,
            }));
            for place in places.iter().filter(|place| disks.is_inside(place)) {
                let id = volume_name(&place.mount);
                self.actions.push(json!({
                    "type": "lvm_partition", "id": id, "name": id, "volgroup": "group", "size": size(place.size),
                    "preserve": false,
                }));
                self.file_system(place, &id, &id);
            }
        }
    }

    /// A partition, or a mirror of two; gives what it is known by.
    fn partition(&mut self, id: &str, disk: usize, wanted: Size) -> String {
        let names: Vec<String> = if self.disks.mirror {
            self.disks.taken.iter().map(|(name, _)| name.clone()).collect()
        } else {
            vec![self.disks.taken[disk].0.clone()]
        };
        let parts: Vec<String> = names.iter().map(|name| format!("{id}-{name}")).collect();
        for (part, name) in parts.iter().zip(&names) {
            self.actions.push(json!({
                "type": "partition", "id": part, "device": format!("disk-{name}"), "size": size(wanted), "preserve": false,
            }));
        }
        if !self.disks.mirror {
            return parts.into_iter().next().unwrap_or_default();
        }
        let mirror = format!("{id}-mirror");
        self.actions.push(json!({
            "type": "raid", "id": mirror, "name": format!("md-{id}"), "raidlevel": 1, "devices": parts, "preserve": false,
        }));
        mirror
    }

    fn encrypted(&mut self, id: &str, device: String, target: &Target<'_>) -> String {
        let Some(passphrase) = &self.disks.passphrase else { return device };
        let crypt = format!("{id}-crypt");
        self.actions.push(json!({
            "type": "dm_crypt", "id": crypt, "dm_name": crypt, "volume": device,
            "key": target.plain(passphrase).as_str(), "preserve": false,
        }));
        crypt
    }

    fn file_system(&mut self, place: &Place, id: &str, device: &str) {
        let kind = match (&place.mount, place.file_system) {
            (Mount::Swap, _) => "swap",
            (_, Some(FileSystem::Vfat)) => "fat32",
            (_, Some(system)) => system.as_str(),
            (_, None) => "ext4",
        };
        self.actions.push(json!({
            "type": "format", "id": format!("{id}-fs"), "volume": device, "fstype": kind, "preserve": false,
        }));
        let path = place.mount.path().unwrap_or("");
        self.actions.push(json!({
            "type": "mount", "id": format!("{id}-mount"), "device": format!("{id}-fs"), "path": path,
        }));
    }
}

/// As curtin reads it: `-1` for what is left.
fn size(size: Size) -> Value {
    match size {
        Size::Mib(mib) => json!(format!("{mib}M")),
        Size::Rest => json!(-1),
    }
}
