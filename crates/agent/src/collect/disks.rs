//! The disks.

use std::io;

use lastmile_formats::{read_at::ReadAt, volume::Layout};
use lastmile_survey::facts::{Disk, is_placeholder};

use super::{Tree, health};
use crate::devices::Devices;

/// Bytes of a sector as `/sys/block/*/size` counts, whatever the disk's own are.
const SECTOR: u64 = 512;
/// What is no disk of the machine's: the beginnings of names.
const NOT_DISKS: [&str; 9] = ["loop", "ram", "zram", "dm-", "md", "sr", "fd", "nbd", "mtdblock"];

pub(super) fn all(tree: &Tree) -> Vec<Disk> {
    let names = tree.folder("sys/block").into_iter();
    names
        .filter(|name| !NOT_DISKS.iter().any(|other| name.starts_with(other)))
        .map(|name| one(tree, name))
        .collect()
}

/// A disk's bytes, read where they are.
struct Bytes<'a> {
    devices: &'a dyn Devices,
    name: &'a str,
    size: u64,
}

impl ReadAt for Bytes<'_> {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()> {
        let bytes = self.devices.read(self.name, offset, buffer.len())?;
        buffer.copy_from_slice(bytes.get(..buffer.len()).ok_or(io::ErrorKind::UnexpectedEof)?);
        Ok(())
    }
}

/// Adds what it says itself.
pub(super) fn ask(disk: &mut Disk, devices: &dyn Devices) {
    disk.health = health::disk(devices, &disk.name);
    disk.layout = Layout::read(&Bytes { devices, name: &disk.name, size: disk.size }, disk.logical_block);
}

fn one(tree: &Tree, name: String) -> Disk {
    let folder = format!("sys/block/{name}");
    let at = |path: &str| format!("{folder}/{path}");
    let text = |paths: &[&str]| {
        paths.iter().find_map(|path| tree.text(&at(path))).filter(|text| !is_placeholder(text))
    };
    Disk {
        size: tree.number::<u64>(&at("size")).unwrap_or_default() * SECTOR,
        model: text(&["device/model"]),
        // Of virtio it is the disk's own; SCSI keeps it in a page of vital product data (SPC-4, section 7.8.15).
        serial: text(&["device/serial", "serial"]).or_else(|| vital_serial(tree, &folder)),
        wwn: text(&["wwid", "device/wwid"]),
        rotational: tree.number::<u8>(&at("queue/rotational")) == Some(1),
        transport: transport(tree, &folder, &name),
        logical_block: tree.number(&at("queue/logical_block_size")).unwrap_or_default(),
        physical_block: tree.number(&at("queue/physical_block_size")).unwrap_or_default(),
        health: None,
        layout: Layout::default(),
        name,
    }
}

/// The serial number of page 0x80: a head of four bytes, then the text.
fn vital_serial(tree: &Tree, folder: &str) -> Option<String> {
    let page = tree.bytes(&format!("{folder}/device/vpd_pg80"))?;
    let text = String::from_utf8_lossy(page.get(4..)?).trim_matches(['\0', ' ']).to_owned();
    Some(text).filter(|text| !text.is_empty() && !is_placeholder(text))
}

/// What a disk hangs on: the nearest bus above it that has a name of its own.
fn transport(tree: &Tree, folder: &str, name: &str) -> Option<String> {
    let bus = [("nvme", "nvme"), ("vd", "virtio"), ("mmcblk", "mmc"), ("pmem", "memory"), ("xvd", "xen")];
    if let Some((_, bus)) = bus.iter().find(|(prefix, _)| name.starts_with(prefix)) {
        return Some((*bus).into());
    }
    let place = tree.real(&format!("{folder}/device"))?;
    let above = [
        ("/usb", "usb"),
        ("/ata", "sata"),
        ("/end_device-", "sas"),
        ("/rport-", "fibre channel"),
        ("/session", "iscsi"),
        ("/virtio", "virtio"),
        ("/vmbus", "hyper-v"),
    ];
    above.iter().find(|(part, _)| place.contains(part)).map(|(_, bus)| (*bus).into())
}
