//! Any bytes for what a computer and its devices say of themselves, what is on a disk, what a switch says of a cable, tables of modules, modules themselves, an agent's
//! token, and a condition on facts.
#![no_main]

use lastmile_core::{
    decide::rule::import_locations,
    model::{
        agent::{AgentToken, TokenKey},
        condition::{FactCondition, Known},
        location::Units,
    },
    site::Site,
};
use lastmile_formats::{
    asciicast::Recording,
    ata,
    ipmi::{self, DeviceId},
    lldp::Neighbour,
    modules::{ModuleInfo, Modules},
    nvme, scsi,
    smbios::Smbios,
    volume::Layout,
};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let said = Smbios::parse(bytes);
    assert!(said.memory.len() <= bytes.len() / 4);
    if let Ok(neighbour) = Neighbour::parse(bytes) {
        let again = Neighbour::parse(&neighbour.emit()).expect("what is written is read");
        assert_eq!(again.lifetime, neighbour.lifetime);
    }
    let _ = (nvme::Health::parse(bytes), ata::Attributes::parse(bytes), scsi::Exceptions::parse(bytes));
    let _ = ata::is_well(&ata::Answer { data: Vec::new(), sense: bytes.to_vec() });
    let _ = (DeviceId::parse(bytes), ipmi::is_lan(bytes), ipmi::parameter(bytes).map(ipmi::address));
    let layout = Layout::read(&bytes, 512);
    assert!(layout.volumes().count() <= layout.partitions.len() + 1);
    let mut recording = Recording::begin(80, 24, 0, "any");
    bytes.chunks(7).for_each(|piece| recording.write(1, piece));
    assert!(recording.finish().lines().count() <= bytes.len() / 7 + 2);
    let text = String::from_utf8_lossy(bytes);
    let (tables, device) = text.split_once('\0').unwrap_or((&text, "pci:v0"));
    let modules = Modules::read(tables, tables, tables);
    let names = modules.for_device(device);
    assert!(modules.in_order(names).len() <= modules.iter().count());
    if let Some(info) = ModuleInfo::read(bytes) {
        let made = Modules::of([("a.ko", &info), ("b.ko", &info)]).tables();
        let _ = Modules::read(&made["modules.dep"], &made["modules.alias"], &made["modules.softdep"]);
    }
    assert!(AgentToken::read(&text, &TokenKey::new([7; 32]), jiff::Timestamp::UNIX_EPOCH).is_err());
    if let Ok(condition) = FactCondition::new(&text) {
        let _ = condition.failing(&Known::default());
    }
    let _ = text.parse::<Units>();
    if let Ok(rows) = import_locations(&text, &Site::default(), true) {
        assert!(rows.iter().all(|row| !row.location.switch.is_empty() && !row.location.port.is_empty()));
    }
});
