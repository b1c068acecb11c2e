//! Any bytes for what a computer says of itself, what a switch says of a cable, tables of modules, modules themselves, an agent's
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
    lldp::Neighbour,
    modules::{ModuleInfo, Modules},
    smbios::Smbios,
};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let said = Smbios::parse(bytes);
    assert!(said.memory.len() <= bytes.len() / 4);
    if let Ok(neighbour) = Neighbour::parse(bytes) {
        let again = Neighbour::parse(&neighbour.emit()).expect("what is written is read");
        assert_eq!(again.lifetime, neighbour.lifetime);
    }
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
