//! What was measured of a machine by a survey: never typed, and never changed by anybody.
//!
//! A fact that is missing was not found: vendors' placeholders ("To be filled by O.E.M.") are none, see [`is_placeholder`].

use std::net::Ipv4Addr;

pub use lastmile_formats::volume::{Layout, Partition, Volume};
use lastmile_formats::{
    lldp::Neighbour,
    mac::Mac,
    smbios::{Board, Chassis, Firmware, MemorySlot, Smbios, System},
};
use serde::{Deserialize, Serialize};

/// Everything that one survey measured.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(default)]
pub struct Facts {
    /// The computer, as its firmware names it.
    pub system: System,
    /// Its main board.
    pub board: Board,
    /// What it is built into.
    pub chassis: Chassis,
    /// Its firmware.
    pub firmware: Firmware,
    /// How it was started.
    pub start: Start,
    /// Its processors.
    pub cpu: Cpu,
    /// Its memory.
    pub memory: Memory,
    /// Its disks, by the kernel's names.
    pub disks: Vec<Disk>,
    /// Its network cards, by the kernel's names.
    pub nics: Vec<Nic>,
    /// Other devices on its PCI bus that are of interest, by their addresses.
    pub devices: Vec<PciDevice>,
    /// Its TPM.
    pub tpm: Option<Tpm>,
    /// Whether it has a management controller that speaks IPMI.
    pub has_bmc: bool,
    /// What that controller says of itself, where it answers.
    pub bmc: Option<Bmc>,
}

/// By what kind of firmware a machine was started.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Serialize,
    Deserialize,
    strum::AsRefStr,
    strum::Display,
    strum::EnumString,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[cfg_attr(feature = "schema", schema(as = FactsBootMode))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum BootMode {
    /// By UEFI.
    Uefi,
    /// By a BIOS.
    Bios,
}

/// How a machine was started.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[cfg_attr(feature = "schema", schema(as = FactsStart))]
#[serde(default)]
pub struct Start {
    /// By what kind of firmware.
    pub mode: Option<BootMode>,
    /// Whether it starts signed programs only; nothing where that cannot be said.
    pub secure_boot: Option<bool>,
}

/// A machine's processors, which are alike.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[cfg_attr(feature = "schema", schema(as = FactsCpu))]
#[serde(default)]
pub struct Cpu {
    /// What they are sold as.
    pub model: Option<String>,
    /// How many there are.
    pub sockets: u32,
    /// Cores of all of them.
    pub cores: u32,
    /// Threads of all of them.
    pub threads: u32,
    /// Those of their abilities that decide what can run: see [`FLAGS`].
    pub flags: Vec<String>,
}

/// Abilities of processors that are kept, in the kernel's words: virtualization, vectors, encryption, 64 bits.
pub const FLAGS: [&str; 14] = [
    "aes",
    "avx",
    "avx2",
    "avx512f",
    "lm",
    "nx",
    "sev",
    "sgx",
    "sha_ni",
    "sme",
    "sve",
    "svm",
    "tdx_guest",
    "vmx",
];

/// A machine's memory.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[cfg_attr(feature = "schema", schema(as = FactsMemory))]
#[serde(default)]
pub struct Memory {
    /// MiB of all modules; of what the kernel can use where the firmware names none.
    pub mib: u64,
    /// Its slots, also the empty ones.
    pub slots: Vec<MemorySlot>,
}

/// A disk. Of what is on it only how it is divided is measured, never content.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[cfg_attr(feature = "schema", schema(as = FactsDisk))]
#[serde(default)]
pub struct Disk {
    /// The kernel's name, as in `nvme0n1`: another one may have it at the next start.
    pub name: String,
    /// Bytes.
    pub size: u64,
    /// What it is sold as.
    pub model: Option<String>,
    /// Its serial number.
    pub serial: Option<String>,
    /// Its worldwide name (NAA, EUI-64 or NGUID).
    pub wwn: Option<String>,
    /// Whether it turns.
    pub rotational: bool,
    /// What it hangs on, as in `nvme`, `sata`, `sas`, `usb`, `virtio`.
    pub transport: Option<String>,
    /// Bytes of a block as it is addressed.
    pub logical_block: u32,
    /// Bytes of a block as it is written.
    pub physical_block: u32,
    /// How it is, by its own word.
    pub health: Option<DiskHealth>,
    /// How it is divided.
    pub layout: Layout,
}

/// How a disk is, by its own word: from its NVMe log, or by SMART. What it does not say is left out.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(default)]
pub struct DiskHealth {
    /// Whether it says that it works as it should: `false` if it expects to fail.
    pub is_well: Option<bool>,
    /// Percent of its life that are used, by its vendor's estimate; may be over 100.
    pub used_percent: Option<u8>,
    /// Percent of its spare space that are left.
    pub spare_percent: Option<u8>,
    /// Errors of its memory that it could not correct.
    pub media_errors: Option<u64>,
    /// Sectors that were replaced by spare ones.
    pub reallocated: Option<u64>,
    /// Sectors that cannot be read.
    pub unreadable: Option<u64>,
    /// Hours that it was switched on.
    pub power_on_hours: Option<u64>,
    /// Bytes that were written to it.
    pub written: Option<u64>,
    /// Degrees Celsius.
    pub temperature: Option<i32>,
}

impl DiskHealth {
    /// In a few words: what is wrong, or that nothing is, with what it counts.
    #[must_use]
    pub fn summary(&self) -> String {
        let verdict = match self.is_well {
            Some(true) => "well",
            Some(false) => "expects to fail",
            None => "does not say",
        };
        let count = |count: Option<u64>, what: &str| {
            count.filter(|count| *count > 0).map(|count| format!("{count} {what}"))
        };
        let parts = [
            Some(verdict.to_owned()),
            self.used_percent.map(|used| format!("{used} % used")),
            count(self.reallocated, "sectors replaced"),
            count(self.unreadable, "unreadable"),
            count(self.media_errors, "not corrected"),
            self.power_on_hours.map(|hours| format!("{hours} h")),
            self.temperature.map(|degrees| format!("{degrees} °C")),
        ];
        parts.into_iter().flatten().collect::<Vec<_>>().join(", ")
    }

    /// Nothing of what changes by itself from one look to the next: how hot it is, how long it ran, how much was written.
    #[must_use]
    pub fn lasting(&self) -> Self {
        Self { power_on_hours: None, written: None, temperature: None, ..self.clone() }
    }
}

/// A management controller, as it says of itself inside the machine (IPMI v2.0, sections 20.1 and 23.2).
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[cfg_attr(feature = "schema", schema(as = FactsBmc))]
#[serde(default)]
pub struct Bmc {
    /// The version of its firmware.
    pub firmware: Option<String>,
    /// The version of IPMI that it speaks.
    pub ipmi: Option<String>,
    /// Its IPv4 address.
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, format = Ipv4))]
    pub address: Option<Ipv4Addr>,
    /// The mask of its subnet.
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, format = Ipv4))]
    pub mask: Option<Ipv4Addr>,
    /// Its router.
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, format = Ipv4))]
    pub router: Option<Ipv4Addr>,
    /// Whom the address is from: `static`, `dhcp`, `firmware` or `other`.
    pub source: Option<String>,
    /// Its MAC address.
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>))]
    pub mac: Option<Mac>,
    /// The VLAN that its frames are tagged with.
    pub vlan: Option<u16>,
}

/// A network card's port.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[cfg_attr(feature = "schema", schema(as = FactsNic))]
pub struct Nic {
    /// The survey's name of it, as in `eth0`.
    pub name: String,
    /// Its MAC address.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub mac: Mac,
    /// The MAC address that its builder gave it, whatever it uses now.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>))]
    pub permanent_mac: Option<Mac>,
    /// The kernel's driver for it.
    #[serde(default)]
    pub driver: Option<String>,
    /// The version of its firmware.
    #[serde(default)]
    pub firmware: Option<String>,
    /// Mbit/s of its link.
    #[serde(default)]
    pub link_speed: Option<u32>,
    /// Whether there is a link.
    #[serde(default)]
    pub link: bool,
    /// Where it is on the PCI bus, as in `0000:03:00.0`.
    #[serde(default)]
    pub pci: Option<String>,
    /// The names that an installed system gives it, the one that it takes first.
    #[serde(default)]
    pub names: Vec<String>,
    /// What hangs on the other end of its cable.
    #[serde(default)]
    pub neighbour: Option<Neighbour>,
}

/// A device on the PCI bus.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(default)]
pub struct PciDevice {
    /// Where it is, as in `0000:03:00.0`.
    pub address: String,
    /// What kind of device, by class and subclass, as in `0x0300`.
    pub class: u16,
    /// Who built it, by number.
    pub vendor: u16,
    /// Which of its devices it is, by number.
    pub device: u16,
    /// The kernel's driver for it.
    pub driver: Option<String>,
    /// Who built it and what it is, by the registry of such numbers; the service adds it to what is reported.
    pub name: Option<String>,
    /// What kind of device it is, in the words of that registry: the service adds it, too.
    pub kind: Option<String>,
}

/// A trusted platform module.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(default)]
pub struct Tpm {
    /// Its major version: 1 or 2.
    pub version: Option<u8>,
}

/// What vendors leave in fields that they should have filled, in small letters.
const PLACEHOLDERS: [&str; 24] = [
    "0",
    "0123456789",
    "123456789",
    "1234567890",
    "asset tag",
    "base board serial number",
    "chassis asset tag",
    "chassis serial number",
    "default string",
    "empty",
    "invalid",
    "n/a",
    "na",
    "no asset tag",
    "none",
    "not applicable",
    "not available",
    "not specified",
    "o.e.m.",
    "oem",
    "system product name",
    "system serial number",
    "unknown",
    "xxxxxxxx",
];

impl Bmc {
    /// In a few words: `IPMI 2.0, firmware 2.14, 192.0.2.9 by dhcp, 02:00:5e:00:53:09`.
    #[must_use]
    pub fn summary(&self) -> String {
        let by = self.source.as_ref().map(|source| format!(" by {source}")).unwrap_or_default();
        let parts = [
            self.ipmi.as_ref().map(|version| format!("IPMI {version}")),
            self.firmware.as_ref().map(|version| format!("firmware {version}")),
            self.address.map(|address| format!("{address}{by}")),
            self.mac.map(|mac| mac.to_string()),
            self.vlan.map(|vlan| format!("VLAN {vlan}")),
        ];
        parts.into_iter().flatten().collect::<Vec<_>>().join(", ")
    }
}

impl Facts {
    /// Disks that say that they expect to fail.
    pub fn failing_disks(&self) -> impl Iterator<Item = &Disk> {
        let fails = |disk: &&Disk| disk.health.as_ref().is_some_and(|health| health.is_well == Some(false));
        self.disks.iter().filter(fails)
    }

    /// What a firmware's table says, as facts; the rest is still to be measured.
    #[must_use]
    pub fn of(said: Smbios) -> Self {
        let mib = said.memory.iter().map(|slot| slot.mib).sum();
        let populated = said.processors.iter().filter(|one| one.is_populated).count();
        let model = said.processors.iter().find_map(|one| one.model.clone().filter(|_| one.is_populated));
        let mut facts = Self {
            system: said.system,
            board: said.board,
            chassis: said.chassis,
            firmware: said.firmware,
            cpu: Cpu { model, sockets: u32::try_from(populated).unwrap_or_default(), ..Cpu::default() },
            memory: Memory { mib, slots: said.memory },
            has_bmc: said.has_ipmi,
            ..Self::default()
        };
        facts.settle();
        facts
    }

    /// Vendor, product and serial number, as far as the firmware says them.
    #[must_use]
    pub fn hardware(&self) -> Option<String> {
        let system = &self.system;
        let name: Vec<&str> =
            [&system.vendor, &system.product].into_iter().filter_map(Option::as_deref).collect();
        let serial = system.serial.as_ref().map(|serial| format!("serial {serial}"));
        let words = [Some(name.join(" ")).filter(|name| !name.is_empty()), serial];
        Some(words.into_iter().flatten().collect::<Vec<_>>().join(", ")).filter(|words| !words.is_empty())
    }

    /// The same without what changes by itself from one look to the next.
    #[must_use]
    pub fn lasting(&self) -> Self {
        let mut facts = self.clone();
        for disk in &mut facts.disks {
            disk.health = disk.health.as_ref().map(DiskHealth::lasting);
        }
        facts
    }

    /// Takes away what says nothing.
    fn settle(&mut self) {
        let Self { system, board, chassis, firmware, cpu, memory, .. } = self;
        let of_machine = [
            &mut system.vendor,
            &mut system.product,
            &mut system.version,
            &mut system.serial,
            &mut system.sku,
            &mut system.family,
            &mut board.vendor,
            &mut board.product,
            &mut board.version,
            &mut board.serial,
            &mut board.asset_tag,
            &mut chassis.vendor,
            &mut chassis.serial,
            &mut chassis.asset_tag,
            &mut firmware.vendor,
            &mut firmware.version,
            &mut firmware.date,
            &mut cpu.model,
        ];
        let of_slots =
            memory.slots.iter_mut().flat_map(|slot| [&mut slot.vendor, &mut slot.serial, &mut slot.part]);
        for text in of_machine.into_iter().chain(of_slots) {
            if text.as_deref().is_some_and(is_placeholder) {
                *text = None;
            }
        }
    }
}

/// Whether a text is what a vendor leaves in a field that it should have filled.
#[must_use]
pub fn is_placeholder(text: &str) -> bool {
    let text = text.trim().to_ascii_lowercase();
    // Dots and the like, or nothing but zeros or crosses between them.
    let mut said = text.chars().filter(|one| one.is_alphanumeric()).peekable();
    let first = said.peek().copied();
    let is_blank = first.is_none_or(|first| matches!(first, '0' | 'x') && said.all(|one| one == first));
    PLACEHOLDERS.contains(&text.as_str())
        || text.starts_with("to be filled")
        || text.starts_with("fill by")
        || is_blank
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_vendors_left_blank_is_missing() {
        for text in
            ["To Be Filled By O.E.M.", "  Default string", "0", "00000000", "N/A", "xxxx-xxxx", ".........."]
        {
            assert!(is_placeholder(text), "{text}");
        }
        for text in ["MS-0042", "Marram Systems", "10", "X0", "A"] {
            assert!(!is_placeholder(text), "{text}");
        }
        let said = Smbios {
            system: System { serial: Some("System Serial Number".into()), ..System::default() },
            ..Smbios::default()
        };
        assert_eq!(Facts::of(said).system.serial, None);
    }
}
