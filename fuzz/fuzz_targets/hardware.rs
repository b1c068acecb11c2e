//! Any bytes for what a computer says of itself, what a switch says of a cable, and tables of modules.
#![no_main]

use lastmile_formats::{lldp::Neighbour, modules::Modules, smbios::Smbios};
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
});
