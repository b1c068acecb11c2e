//! What the collectors make of what devices answer: of each kind, of faulty ones, and of those that say nothing.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::{io, time::Duration};

use lastmile_agent::{
    collect::{ask, ask_again},
    devices::Devices,
};
use lastmile_formats::{
    ata,
    ipmi::{LanParameter, Request},
    nvme,
};
use lastmile_survey::facts::{Disk, DiskHealth, Facts};

/// Devices of a server: an NVMe disk, a SATA disk and a SAS disk, of which one each is named so, and a controller on channel 2.
struct Server {
    is_silent: bool,
}

impl Server {
    fn answer<T>(&self, answer: Option<T>) -> io::Result<T> {
        answer.filter(|_| !self.is_silent).ok_or_else(|| io::ErrorKind::Unsupported.into())
    }
}

/// A page of SMART attributes, with the sum that it needs.
fn attributes(said: &[(u8, u8)]) -> Vec<u8> {
    let mut page = vec![0; 512];
    for (place, (id, raw)) in said.iter().enumerate() {
        (page[2 + place * 12], page[7 + place * 12]) = (*id, *raw);
    }
    page[511] = page.iter().fold(0_u8, |sum, byte| sum.wrapping_sub(*byte));
    page
}

impl Devices for Server {
    fn nic_firmware(&self, _: &str) -> io::Result<String> {
        // What a driver says that does not know.
        self.answer(Some("N/A".into()))
    }

    fn blink_nic(&self, _: &str, _: Duration) -> io::Result<()> {
        self.answer(None)
    }

    fn read(&self, name: &str, offset: u64, length: usize) -> io::Result<Vec<u8>> {
        // The SAS disk holds swap, and no table.
        let mut bytes = vec![0; length];
        if name == "sdb" && offset == 0 && length > 4096 {
            bytes[4086..4096].copy_from_slice(b"SWAPSPACE2");
        }
        self.answer(Some(bytes))
    }

    fn nvme_health(&self, name: &str) -> io::Result<Vec<u8>> {
        assert_eq!(name, "nvme0n1");
        let mut page = vec![0; nvme::HEALTH_BYTES];
        page[..6].copy_from_slice(&[0, 0x2e, 0x01, 100, 10, 1]);
        self.answer(Some(page))
    }

    fn ata(&self, name: &str, command: ata::Read) -> io::Result<ata::Answer> {
        let answer = match command {
            ata::Read::Attributes => {
                ata::Answer { data: attributes(&[(5, 3), (9, 200), (194, 40), (197, 1)]), sense: Vec::new() }
            }
            ata::Read::Health => {
                let mut sense = vec![0; 18];
                (sense[0], sense[10], sense[11]) = (0x70, 0xf4, 0x2c);
                ata::Answer { data: Vec::new(), sense }
            }
        };
        self.answer((name == "sda").then_some(answer))
    }

    fn scsi_log(&self, name: &str, page: u8) -> io::Result<Vec<u8>> {
        self.answer((name == "sdb").then(|| vec![page, 0, 0, 8, 0, 0, 3, 4, 0, 0, 29, 0]))
    }

    fn ipmi(&self, request: &Request) -> io::Result<Vec<u8>> {
        let lan = |parameter, answer: &[u8]| (Request::lan(2, parameter), [&[0, 0x11], answer].concat());
        let known = [
            (Request::device_id(), vec![0, 0x20, 1, 2, 0x50, 0x02, 0xbf, 0, 0, 0, 1, 0]),
            (Request::channel(1), vec![0, 1, 0x01]),
            (Request::channel(2), vec![0, 2, 0x04]),
            lan(LanParameter::Address, &[192, 0, 2, 77]),
            lan(LanParameter::Mask, &[255, 255, 255, 0]),
            lan(LanParameter::Router, &[0, 0, 0, 0]),
            lan(LanParameter::Source, &[1]),
            lan(LanParameter::Mac, &[0x02, 0, 0x5e, 0, 0x53, 0x77]),
            lan(LanParameter::Vlan, &[0x28, 0x80]),
        ];
        let answer = known.into_iter().find(|(known, _)| known == request).map(|(_, answer)| answer);
        self.answer(Some(answer.unwrap_or_else(|| vec![0xcc])))
    }
}

fn machine() -> Facts {
    let disk = |name: &str| Disk { name: name.into(), size: 1 << 30, logical_block: 512, ..Disk::default() };
    Facts { disks: ["nvme0n1", "sda", "sdb", "vda"].map(disk).into(), ..Facts::default() }
}

#[test]
fn each_kind_of_disk_says_how_it_is_in_its_own_way() {
    let mut facts = machine();
    ask(&mut facts, &Server { is_silent: false });
    let said: Vec<Option<String>> =
        facts.disks.iter().map(|disk| disk.health.as_ref().map(DiskHealth::summary)).collect();
    let expected = [
        Some("well, 1 % used, 0 h, 29 °C"),
        Some("expects to fail, 3 sectors replaced, 1 unreadable, 200 h, 40 °C"),
        Some("well, 29 °C"),
        None,
    ];
    assert_eq!(said, expected.map(|text| text.map(str::to_owned)));
    assert_eq!(facts.failing_disks().count(), 1);
    let volume = facts.disks[2].layout.volume.as_ref().unwrap();
    assert_eq!((volume.kind.as_str(), facts.disks[0].layout.volume.as_ref()), ("swap", None));
}

#[test]
fn the_controllers_network_card_is_on_the_channel_that_is_one() {
    let mut facts = machine();
    ask(&mut facts, &Server { is_silent: false });
    let bmc = facts.bmc.unwrap();
    assert_eq!(bmc.summary(), "IPMI 2.0, firmware 2.50, 192.0.2.77 by static, 02:00:5e:00:53:77, VLAN 40");
    assert_eq!((bmc.mask.unwrap().to_string().as_str(), bmc.router), ("255.255.255.0", None));
    assert!(facts.has_bmc, "also where the firmware's table does not name one");
}

#[test]
fn of_devices_that_do_not_answer_nothing_is_said() {
    let mut facts = machine();
    ask(&mut facts, &Server { is_silent: true });
    assert_eq!(facts, machine());
}

#[test]
fn what_they_said_is_good_for_the_same_disks_only() {
    let mut before = machine();
    ask(&mut before, &Server { is_silent: false });
    let mut later = machine();
    assert!(ask_again(&mut later, &before));
    assert_eq!(later, before);
    let mut replaced = machine();
    replaced.disks[1].serial = Some("TL-9".into());
    assert!(!ask_again(&mut replaced, &before), "it has to be asked");
    assert_eq!(replaced.disks[1].health, None, "what another disk said is not its own");
    assert_eq!(
        (&replaced.disks[2], &replaced.bmc),
        (&before.disks[2], &before.bmc),
        "the others are the same"
    );
}
