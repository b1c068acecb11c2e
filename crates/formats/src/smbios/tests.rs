use std::process::Command;

use proptest::prelude::*;

use super::*;

/// A structure with these bytes after its head, and these strings.
fn structure(kind: u8, handle: u16, formatted: &[u8], strings: &[&str]) -> Vec<u8> {
    let length = u8::try_from(formatted.len() + 4).unwrap();
    let mut bytes = vec![kind, length];
    bytes.extend(handle.to_le_bytes());
    bytes.extend(formatted);
    for string in strings {
        bytes.extend(string.as_bytes());
        bytes.push(0);
    }
    if strings.is_empty() {
        bytes.push(0);
    }
    bytes.push(0);
    bytes
}

/// Bytes at their offsets in a structure of this length; the head is put before them.
fn formatted(length: usize, parts: &[(usize, &[u8])]) -> Vec<u8> {
    let mut bytes = vec![0; length];
    for (offset, part) in parts {
        bytes[*offset..offset + part.len()].copy_from_slice(part);
    }
    bytes.split_off(4)
}

const SYSTEM_UUID: [u8; 16] = [0x44, 0x33, 0x22, 0x11, 0x66, 0x55, 0x88, 0x77, 9, 10, 11, 12, 13, 14, 15, 16];

/// The table of an invented server: two sockets, one of them empty; four slots, two of them empty.
fn table() -> Vec<u8> {
    let mut all = structure(
        0,
        0,
        &formatted(0x18, &[(4, &[1, 2]), (8, &[3])]),
        &["Fathom Firmware", "4.2.1", "03/14/2025"],
    );
    let mut system = formatted(0x1B, &[(4, &[1, 2, 3, 4]), (0x19, &[5, 6])]);
    system[4..20].copy_from_slice(&SYSTEM_UUID);
    all.extend(structure(1, 1, &system, &["Marram Systems", "Dune 2400", "B", "MS-0042", "D24-X", "Dune"]));
    all.extend(structure(
        2,
        2,
        &formatted(0x0F, &[(4, &[1, 2, 3, 4, 5])]),
        &["Marram Systems", "DB-24", "1.1", "BRD-7", "  "],
    ));
    all.extend(structure(
        3,
        3,
        &formatted(0x15, &[(4, &[1, 0x97, 0, 2, 3])]),
        &["Marram Systems", "CH-9", "GANNET-17"],
    ));
    for (handle, name, status) in [(4, "CPU 1", 0x41), (5, "CPU 2", 0)] {
        let bytes = formatted(
            0x30,
            &[
                (4, &[1, 3]),
                (7, &[2]),
                (0x10, &[3]),
                (0x14, &3600_u16.to_le_bytes()),
                (0x18, &[status]),
                (0x23, &[0xFF, 0xFF, 0xFF]),
                (0x2A, &288_u16.to_le_bytes()),
                (0x2C, &288_u16.to_le_bytes()),
                (0x2E, &576_u16.to_le_bytes()),
            ],
        );
        all.extend(structure(4, handle, &bytes, &[name, "Eider Silicon", "Eider E9 7288"]));
    }
    let modules: [(&str, u16, u32); 4] =
        [("A1", 0x7FFF, 65_536), ("A2", 0, 0), ("B1", 16_384, 0), ("B2", 0, 0)];
    for (number, (slot, size, extended)) in modules.into_iter().enumerate() {
        let bytes = formatted(
            0x5C,
            &[
                (0x0C, &size.to_le_bytes()),
                (0x0E, &[9]),
                (0x10, &[1, 2, 0x22]),
                (0x15, &5600_u16.to_le_bytes()),
                (0x17, &[3, 4, 0, 5]),
                (0x1C, &extended.to_le_bytes()),
            ],
        );
        let handle = 0x20 + u16::try_from(number).unwrap();
        let strings = [slot, "BANK 0", "Tideline Memory", "0A1B2C3D", "TM5-64"];
        all.extend(structure(17, handle, &bytes, &strings));
    }
    all.extend(structure(38, 0x30, &formatted(0x12, &[(4, &[1, 0x20, 0x20])]), &[]));
    all.extend(structure(127, 0x7F, &[], &[]));
    all
}

#[test]
fn a_server_says_what_it_is() {
    let said = Smbios::parse(&table());
    assert_eq!(said.firmware.version.as_deref(), Some("4.2.1"));
    assert_eq!(said.firmware.date.as_deref(), Some("03/14/2025"));
    let System { vendor, product, serial, uuid, sku, family, .. } = said.system;
    assert_eq!(vendor.as_deref(), Some("Marram Systems"));
    assert_eq!((product.as_deref(), serial.as_deref()), (Some("Dune 2400"), Some("MS-0042")));
    assert_eq!((sku.as_deref(), family.as_deref()), (Some("D24-X"), Some("Dune")));
    assert_eq!(uuid.unwrap().to_string(), "11223344-5566-7788-090a-0b0c0d0e0f10");
    // A string of blanks says nothing.
    assert_eq!((said.board.serial.as_deref(), said.board.asset_tag), (Some("BRD-7"), None));
    assert_eq!(said.chassis.kind.as_deref(), Some("rack mount"));
    assert_eq!(said.chassis.asset_tag.as_deref(), Some("GANNET-17"));
    let sockets: Vec<_> =
        said.processors.iter().map(|one| (one.is_populated, one.cores, one.threads)).collect();
    assert_eq!(sockets, [(true, Some(288), Some(576)), (false, Some(288), Some(576))]);
    let slots: Vec<_> = said.memory.iter().map(|one| (one.slot.as_deref().unwrap(), one.mib)).collect();
    assert_eq!(slots, [("A1", 65_536), ("A2", 0), ("B1", 16_384), ("B2", 0)]);
    assert_eq!(said.memory[0].kind.as_deref(), Some("DDR5"));
    assert_eq!((said.memory[0].speed, said.memory[1].speed), (Some(5600), None));
    assert_eq!((said.memory[0].part.as_deref(), said.memory[1].part.as_deref()), (Some("TM5-64"), None));
    assert!(said.has_ipmi);
}

#[test]
fn an_identity_of_zeros_or_ones_is_none() {
    for byte in [0, 0xFF] {
        let bytes = structure(1, 1, &formatted(0x1B, &[(8, &[byte; 16])]), &[]);
        assert_eq!(Smbios::parse(&bytes).system.uuid, None);
    }
}

#[test]
fn another_reader_says_the_same() {
    // As `dmidecode --dump-bin` writes it: an entry point (section 5.2.2), and the table at the address that this names.
    let table = table();
    let mut dump = b"_SM3_".to_vec();
    dump.extend([0, 24, 3, 7, 0, 1, 0]);
    dump.extend(u32::try_from(table.len()).unwrap().to_le_bytes());
    dump.extend(32_u64.to_le_bytes());
    let sum = dump.iter().fold(0_u8, |sum, byte| sum.wrapping_add(*byte));
    dump[5] = 0_u8.wrapping_sub(sum);
    dump.resize(32, 0);
    dump.extend(&table);
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("dump");
    std::fs::write(&file, dump).unwrap();
    let output = Command::new("/usr/sbin/dmidecode").arg("--no-sysfs").arg("--from-dump").arg(&file).output();
    let output = output.expect("dmidecode: `make packages-test` installs it");
    let text = String::from_utf8(output.stdout).unwrap();
    let said = Smbios::parse(&table);
    let lines = |name: &str| {
        let prefix = format!("\t{name}: ");
        text.lines().filter_map(|line| line.strip_prefix(&prefix)).map(str::to_owned).collect::<Vec<_>>()
    };
    assert_eq!(lines("UUID"), [said.system.uuid.unwrap().to_string()], "{text}");
    assert_eq!(lines("Product Name")[0], said.system.product.unwrap());
    assert_eq!(lines("SKU Number"), [said.system.sku.unwrap()]);
    assert_eq!(lines("Release Date"), [said.firmware.date.unwrap()]);
    assert_eq!(lines("Asset Tag")[1], said.chassis.asset_tag.unwrap());
    assert_eq!(lines("Core Count"), ["288", "288"]);
    assert_eq!(lines("Thread Count"), ["576", "576"]);
    assert_eq!(lines("Locator"), ["A1", "A2", "B1", "B2"]);
    assert_eq!(lines("Size"), ["64 GB", "No Module Installed", "16 GB", "No Module Installed"]);
    // After those of the two processors.
    assert_eq!(lines("Part Number")[2], said.memory[0].part.clone().unwrap());
    // Under "Chassis Information": ours is in small letters.
    assert!(lines("Type").iter().any(|kind| kind == "Rack Mount Chassis" || kind == "Rack Mount"), "{text}");
}

proptest! {
    #[test]
    fn whatever_a_table_holds_it_is_read(bytes in prop::collection::vec(any::<u8>(), 0..600)) {
        let _ = Smbios::parse(&bytes);
    }

    #[test]
    fn a_table_that_is_cut_off_says_less_and_nothing_else(at in 0_usize..900) {
        let whole = table();
        let cut = Smbios::parse(&whole[..at.min(whole.len())]);
        let said = Smbios::parse(&whole);
        prop_assert!(cut.memory.len() <= said.memory.len());
        prop_assert!(said.memory.starts_with(&cut.memory));
        prop_assert!(cut.system == System::default() || cut.system == said.system);
    }
}
