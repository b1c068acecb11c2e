//! The devices of invented hardware, as they answer when the survey's agent asks them.

use std::{io, time::Duration};

use lastmile_agent::devices::Devices;
use lastmile_formats::{
    ata,
    ipmi::{LanParameter, Request},
    nvme,
};

use crate::{Hardware, bench::WORN};

/// What the devices of an invented machine say when they are asked: its disks are blank, and its management controller has no address
/// yet.
pub(crate) struct Invented<'a>(pub(crate) &'a Hardware);

/// Hours that a disk ran, and percent of its life that are used: of a worn one, and of others.
const OLD: (u16, u8) = (41_300, 104);
const YOUNG: (u16, u8) = (410, 2);

impl Devices for Invented<'_> {
    fn nic_firmware(&self, _: &str) -> io::Result<String> {
        Ok("4.20".into())
    }

    fn blink_nic(&self, _: &str, _: Duration) -> io::Result<()> {
        Err(io::ErrorKind::Unsupported.into())
    }

    fn read(&self, _: &str, _: u64, length: usize) -> io::Result<Vec<u8>> {
        Ok(vec![0; length])
    }

    fn nvme_health(&self, name: &str) -> io::Result<Vec<u8>> {
        let number = name.trim_start_matches("nvme").split('n').next().and_then(|number| number.parse().ok());
        let disk =
            number.and_then(|number: usize| self.0.disks.get(number)).ok_or(io::ErrorKind::NotFound)?;
        let is_worn = disk.serial.ends_with(WORN);
        let (hours, used) = if is_worn { OLD } else { YOUNG };
        let mut page = vec![0; nvme::HEALTH_BYTES];
        // Its reliability is degraded; 36 °C; spare space, and how little of it is too little.
        page[..6].copy_from_slice(&[
            if is_worn { 0x04 } else { 0 },
            0x35,
            0x01,
            if is_worn { 8 } else { 100 },
            10,
            used,
        ]);
        page[128..130].copy_from_slice(&hours.to_le_bytes());
        page[160] = if is_worn { 14 } else { 0 };
        Ok(page)
    }

    fn ata(&self, _: &str, _: ata::Read) -> io::Result<ata::Answer> {
        Err(io::ErrorKind::Unsupported.into())
    }

    fn scsi_log(&self, _: &str, _: u8) -> io::Result<Vec<u8>> {
        Err(io::ErrorKind::Unsupported.into())
    }

    fn ipmi(&self, request: &Request) -> io::Result<Vec<u8>> {
        let is = |other: Request| *request == other;
        // One that nobody was given, beside the card's.
        let mac = self.0.nics.first().map(|card| {
            let mut octets = card.mac.octets();
            octets[0] = 0x02;
            octets
        });
        Ok(if is(Request::device_id()) {
            vec![0, 0x20, 1, 0x03, 0x12, 0x02, 0x9f, 0, 0, 0, 0x24, 0x00]
        } else if is(Request::channel(1)) {
            vec![0, 1, 4, 1, 0x80, 0, 0, 0, 0, 0]
        } else if is(Request::lan(1, LanParameter::Source)) {
            vec![0, 0x11, 2]
        } else if is(Request::lan(1, LanParameter::Mac)) {
            [&[0, 0x11], &mac.unwrap_or_default()[..]].concat()
        } else {
            // The command is not known (IPMI v2.0, table 5-2).
            vec![0xc1]
        })
    }
}
