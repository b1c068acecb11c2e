//! Invented hardware, as a kernel shows it: a tree of files in which the survey's agent measures as on a real machine.

use std::{
    fs, io,
    os::unix::fs::symlink,
    path::{Path, PathBuf},
};

use lastmile_agent::collect::{self, Tree};
use lastmile_formats::{lldp::Neighbour, mac::Mac};
use lastmile_survey::facts::Facts;
use uuid::Uuid;

use crate::devices::Invented;

/// A machine's hardware.
#[derive(Debug, Clone)]
pub struct Hardware {
    /// Who built it.
    pub vendor: String,
    /// What it is sold as.
    pub product: String,
    /// Its serial number.
    pub serial: String,
    /// Its identity.
    pub uuid: Uuid,
    /// What its processor is sold as.
    pub cpu: String,
    /// Cores of the processor.
    pub cores: u32,
    /// MiB of each memory module.
    pub memory: Vec<u16>,
    /// Its disks.
    pub disks: Vec<HardDisk>,
    /// Its network cards.
    pub nics: Vec<Card>,
}

/// A disk.
#[derive(Debug, Clone)]
pub struct HardDisk {
    /// What it is sold as.
    pub model: String,
    /// Its serial number.
    pub serial: String,
    /// Bytes.
    pub size: u64,
}

/// A network card.
#[derive(Debug, Clone)]
pub struct Card {
    /// Its MAC address.
    pub mac: Mac,
    /// What is on the other end of its cable.
    pub neighbour: Option<Neighbour>,
}

/// Bytes of a sector, as the kernel counts.
const SECTOR: u64 = 512;
/// The number of a vendor that builds nothing (PCI).
const VENDOR: &str = "0x1a99";

impl Hardware {
    /// What the survey's agent measures of it.
    ///
    /// # Errors
    /// That the tree cannot be written.
    pub fn facts(&self) -> io::Result<Facts> {
        let folder = Folder::new()?;
        self.write(&folder.0)?;
        let mut facts = collect::facts(&Tree::at(&folder.0));
        collect::ask(&mut facts, &Invented(self));
        for nic in &mut facts.nics {
            let card = self.nics.iter().find(|card| card.mac == nic.mac);
            nic.neighbour = card.and_then(|card| card.neighbour.clone());
        }
        Ok(facts)
    }

    /// Writes the tree below a folder that stands for `/`.
    fn write(&self, root: &Path) -> io::Result<()> {
        let put = |path: &str, content: &[u8]| {
            let path = root.join(path);
            path.parent().map_or(Ok(()), fs::create_dir_all)?;
            fs::write(path, content)
        };
        let link = |path: &str, target: &str| {
            let (path, target) = (root.join(path), root.join(target));
            path.parent().map_or(Ok(()), fs::create_dir_all)?;
            fs::create_dir_all(&target)?;
            symlink(target, path)
        };
        put("sys/firmware/dmi/tables/DMI", &self.table())?;
        put("sys/firmware/efi/fw_platform_size", b"64\n")?;
        let about = format!("model name\t: {}\nflags\t\t: lm nx aes avx avx2 vmx\n", self.cpu);
        put("proc/cpuinfo", about.as_bytes())?;
        for core in 0..self.cores {
            let folder = format!("sys/devices/system/cpu/cpu{core}/topology");
            put(&format!("{folder}/core_id"), core.to_string().as_bytes())?;
            put(&format!("{folder}/physical_package_id"), b"0\n")?;
        }
        for (number, disk) in self.disks.iter().enumerate() {
            let controller = format!("sys/devices/pci0000:00/0000:01:{number:02x}.0/nvme/nvme{number}");
            let block = format!("{controller}/nvme{number}n1");
            put(&format!("{controller}/model"), disk.model.as_bytes())?;
            put(&format!("{controller}/serial"), disk.serial.as_bytes())?;
            put(&format!("{block}/size"), (disk.size / SECTOR).to_string().as_bytes())?;
            put(&format!("{block}/queue/rotational"), b"0\n")?;
            put(&format!("{block}/queue/logical_block_size"), b"512\n")?;
            link(&format!("{block}/device"), &controller)?;
            link(&format!("sys/block/nvme{number}n1"), &block)?;
        }
        for (number, card) in self.nics.iter().enumerate() {
            let address = format!("0000:02:{number:02x}.0");
            let device = format!("sys/devices/pci0000:00/{address}");
            put(&format!("{device}/class"), b"0x020000\n")?;
            put(&format!("{device}/vendor"), VENDOR.as_bytes())?;
            put(&format!("{device}/device"), b"0x2400\n")?;
            link(&format!("{device}/driver"), "sys/bus/pci/drivers/dune")?;
            link(&format!("sys/bus/pci/devices/{address}"), &device)?;
            let nic = format!("{device}/net/eth{number}");
            put(&format!("{nic}/address"), card.mac.to_string().as_bytes())?;
            put(&format!("{nic}/carrier"), if number == 0 { b"1\n" } else { b"0\n" })?;
            put(&format!("{nic}/speed"), b"10000\n")?;
            link(&format!("{nic}/device"), &device)?;
            link(&format!("sys/class/net/eth{number}"), &nic)?;
        }
        Ok(())
    }

    /// The firmware's table (SMBIOS, DSP0134 3.x: sections 7.2, 7.5, 7.18, 7.45).
    fn table(&self) -> Vec<u8> {
        let system = [&[1, 2, 0, 3][..], &self.uuid.to_bytes_le(), &[6, 0, 0]].concat();
        let mut table = structure(1, 1, &system, &[&self.vendor, &self.product, &self.serial]);
        // A central processor that is populated and enabled (offset 0x18), in a socket that has a name.
        let mut processor = vec![0; 0x30 - 4];
        (processor[0], processor[1], processor[0x18 - 4]) = (1, 3, 0x41);
        table.extend(structure(4, 4, &processor, &["CPU 1"]));
        for (number, mib) in (0_u16..).zip(&self.memory) {
            let mut device = vec![0; 0x28 - 4];
            device[0x0c - 4..0x0e - 4].copy_from_slice(&mib.to_le_bytes());
            // Where it is, DDR4, who built it, its serial number.
            (device[0x10 - 4], device[0x12 - 4], device[0x17 - 4], device[0x18 - 4]) = (1, 0x1a, 2, 3);
            let names = [format!("DIMM {number}"), self.vendor.clone(), format!("{}-M{number}", self.serial)];
            table.extend(structure(17, 0x20 + number, &device, &names.each_ref().map(String::as_str)));
        }
        table.extend(structure(127, 0x7f, &[], &[]));
        table
    }
}

/// One structure: its head, its fields, its texts.
fn structure(kind: u8, handle: u16, fields: &[u8], texts: &[&str]) -> Vec<u8> {
    let length = u8::try_from(fields.len() + 4).unwrap_or(u8::MAX);
    let mut bytes = vec![kind, length];
    bytes.extend(handle.to_le_bytes());
    bytes.extend(fields);
    for text in texts {
        bytes.extend(text.as_bytes());
        bytes.push(0);
    }
    if texts.is_empty() {
        bytes.push(0);
    }
    bytes.push(0);
    bytes
}

/// A folder that goes with the value.
struct Folder(PathBuf);

impl Folder {
    fn new() -> io::Result<Self> {
        let folder = std::env::temp_dir().join(format!("lastmile-hardware-{}", Uuid::now_v7()));
        fs::create_dir_all(&folder)?;
        Ok(Self(folder))
    }
}

impl Drop for Folder {
    fn drop(&mut self) {
        // What is left of it is in the folder for what may be lost.
        let _ = fs::remove_dir_all(&self.0);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_agent_measures_what_was_invented() {
        let hardware = Hardware {
            vendor: "Marram Systems".into(),
            product: "MS-20".into(),
            serial: "MS20-0001".into(),
            uuid: Uuid::from_u128(7),
            cpu: "Marram Dune 8".into(),
            cores: 8,
            memory: vec![16_384, 16_384],
            disks: ["TL-1", "TL-2-WORN"]
                .map(|serial| HardDisk {
                    model: "Tideline 480".into(),
                    serial: serial.into(),
                    size: 480_000_000_000,
                })
                .into(),
            nics: vec![Card { mac: Mac::documentation(9), neighbour: None }],
        };
        let facts = hardware.facts().unwrap();
        assert_eq!(facts.hardware().as_deref(), Some("Marram Systems MS-20, serial MS20-0001"));
        assert_eq!((facts.memory.mib, facts.memory.slots.len()), (32_768, 2));
        assert_eq!((facts.cpu.sockets, facts.cpu.cores), (1, 8));
        assert_eq!(facts.disks[0].serial.as_deref(), Some("TL-1"));
        assert_eq!(facts.disks[0].size, 480_000_000_000);
        assert_eq!((facts.nics[0].mac, facts.nics[0].link_speed), (Mac::documentation(9), Some(10_000)));
        assert_eq!(facts.nics[0].names, ["enp2s0"]);
        // What the devices say of themselves.
        let [well, worn] = [0, 1].map(|disk: usize| facts.disks[disk].health.clone().unwrap());
        assert_eq!(well.summary(), "well, 2 % used, 410 h, 36 °C");
        assert_eq!(worn.summary(), "expects to fail, 104 % used, 14 not corrected, 41300 h, 36 °C");
        assert_eq!((facts.failing_disks().count(), facts.disks[0].layout.partitions.len()), (1, 0));
        assert_eq!(facts.bmc.unwrap().summary(), "IPMI 2.0, firmware 3.12, 02:00:5e:00:53:09");
        assert_eq!(facts.nics[0].firmware.as_deref(), Some("4.20"));
    }
}
