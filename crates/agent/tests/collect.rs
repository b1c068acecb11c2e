//! Trees of files as kernels of invented machines show them.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::{fs, os::unix::fs::symlink, path::Path};

use lastmile_agent::collect::{Tree, facts};
use lastmile_survey::facts::{BootMode, Facts};
use tempfile::TempDir;

struct Machine(TempDir);

impl Machine {
    fn new() -> Self {
        Self(tempfile::tempdir().unwrap())
    }

    fn put(&self, path: &str, content: impl AsRef<[u8]>) -> &Self {
        let path = self.0.path().join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, content).unwrap();
        self
    }

    /// A link with a target below the same root.
    fn link(&self, path: &str, target: &str) -> &Self {
        let path = self.0.path().join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        let target = self.0.path().join(target);
        fs::create_dir_all(&target).unwrap();
        symlink(target, path).unwrap();
        self
    }

    fn pci(&self, place: &str, class: &str, vendor: &str, device: &str, driver: &str) -> &Self {
        let folder = format!("sys/devices/{place}");
        let address = Path::new(place).file_name().unwrap().to_str().unwrap();
        self.put(&format!("{folder}/class"), class)
            .put(&format!("{folder}/vendor"), vendor)
            .put(&format!("{folder}/device"), device)
            .link(&format!("{folder}/driver"), &format!("sys/bus/pci/drivers/{driver}"))
            .link(&format!("sys/bus/pci/devices/{address}"), &folder)
    }

    fn nic(&self, name: &str, place: &str, mac: &str, carrier: &str) -> &Self {
        let folder = format!("sys/devices/{place}/net/{name}");
        self.put(&format!("{folder}/address"), mac)
            .put(&format!("{folder}/carrier"), carrier)
            .put(&format!("{folder}/dev_port"), "0\n")
            .link(&format!("{folder}/device"), &format!("sys/devices/{place}"))
            .link(&format!("sys/class/net/{name}"), &folder)
    }

    fn facts(&self) -> Facts {
        facts(&Tree::at(self.0.path()))
    }
}

/// A server with a card in slot 3, one on the board, and one of several functions.
#[test]
fn network_cards_have_the_names_that_an_installed_system_gives_them() {
    let machine = Machine::new();
    let on_board = "pci0000:00/0000:00:1f.6";
    let in_slot = "pci0000:00/0000:00:01.0/0000:03:00.0";
    let second = "pci0000:00/0000:00:02.0/0000:05:00.1";
    let virtio = "pci0000:00/0000:00:03.0";
    machine
        .pci("pci0000:00/0000:00:01.0", "0x060400", "0x1a99", "0x0001", "pcieport")
        .pci(on_board, "0x020000", "0x1a99", "0x2400", "dune")
        .put(&format!("sys/devices/{on_board}/acpi_index"), "1\n")
        .pci(in_slot, "0x020000", "0x1a99", "0x2500", "dune")
        .put("sys/bus/pci/slots/3/address", "0000:03:00\n")
        .pci(second, "0x020000", "0x1a99", "0x2600", "dune")
        .pci(virtio, "0x020000", "0x1af4", "0x1041", "virtio-pci")
        .nic("eth0", on_board, "02:00:5e:00:53:01\n", "1\n")
        .put(&format!("sys/devices/{on_board}/net/eth0/speed"), "10000\n")
        .nic("eth1", in_slot, "02:00:5e:00:53:02\n", "0\n")
        .put(&format!("sys/devices/{in_slot}/net/eth1/speed"), "-1\n")
        .nic("eth2", second, "02:00:5e:00:53:03\n", "1\n")
        .nic("eth3", &format!("{virtio}/virtio0"), "02:00:5e:00:53:04\n", "1\n")
        // No device: no card.
        .put("sys/class/net/lo/address", "00:00:00:00:00:00\n");
    let facts = machine.facts();
    let names: Vec<_> = facts.nics.iter().map(|nic| nic.names.join(" ")).collect();
    assert_eq!(names, ["eno1 enp0s31f6", "ens3 enp3s0", "enp5s0f1", "enp0s3"]);
    let links: Vec<_> = facts.nics.iter().map(|nic| (nic.link, nic.link_speed)).collect();
    assert_eq!(links, [(true, Some(10_000)), (false, None), (true, None), (true, None)]);
    assert_eq!(facts.nics[0].driver.as_deref(), Some("dune"));
    assert_eq!(facts.nics[3].pci.as_deref(), Some("0000:00:03.0"));
    // Bridges are left out.
    let devices: Vec<_> = facts.devices.iter().map(|one| one.address.as_str()).collect();
    assert_eq!(devices, ["0000:00:03.0", "0000:00:1f.6", "0000:03:00.0", "0000:05:00.1"]);
}

#[test]
fn disks_are_told_apart_by_what_stays_theirs() {
    let machine = Machine::new();
    let nvme = "sys/devices/pci0000:00/0000:00:05.0/nvme/nvme0";
    let sata = "sys/devices/pci0000:00/0000:00:1f.2/ata1/host0/target0:0:0/0:0:0:0";
    machine
        .put(&format!("{nvme}/model"), "Tideline Fast 960\n")
        .put(&format!("{nvme}/serial"), "NV-0001\n")
        .put(&format!("{nvme}/nvme0n1/size"), "1875385008\n")
        .put(&format!("{nvme}/nvme0n1/wwid"), "eui.0025388b01000001\n")
        .put(&format!("{nvme}/nvme0n1/queue/rotational"), "0\n")
        .put(&format!("{nvme}/nvme0n1/queue/logical_block_size"), "4096\n")
        .link(&format!("{nvme}/nvme0n1/device"), nvme)
        .link("sys/block/nvme0n1", &format!("{nvme}/nvme0n1"))
        .put(&format!("{sata}/model"), "TIDELINE HDD\n")
        .put(&format!("{sata}/vpd_pg80"), b"\x00\x80\x00\x08  SA-42 \0")
        .put(&format!("{sata}/block/sda/size"), "7814037168\n")
        .put(&format!("{sata}/block/sda/queue/rotational"), "1\n")
        .link(&format!("{sata}/block/sda/device"), sata)
        .link("sys/block/sda", &format!("{sata}/block/sda"))
        .put("sys/block/vda/size", "2048\n")
        .put("sys/block/vda/serial", "VD-7\n")
        .put("sys/block/loop0/size", "8\n");
    let facts = machine.facts();
    let said: Vec<_> = facts
        .disks
        .iter()
        .map(|disk| (disk.name.as_str(), disk.size, disk.serial.as_deref(), disk.transport.as_deref()))
        .collect();
    assert_eq!(
        said,
        [
            ("nvme0n1", 960_197_124_096, Some("NV-0001"), Some("nvme")),
            ("sda", 4_000_787_030_016, Some("SA-42"), Some("sata")),
            ("vda", 1_048_576, Some("VD-7"), Some("virtio")),
        ]
    );
    assert_eq!((facts.disks[0].logical_block, facts.disks[0].rotational), (4096, false));
    assert_eq!(facts.disks[0].wwn.as_deref(), Some("eui.0025388b01000001"));
    assert!(facts.disks[1].rotational);
}

#[test]
fn processors_memory_and_the_way_it_started() {
    let machine = Machine::new();
    machine
        .put(
            "proc/cpuinfo",
            "processor : 0\nmodel name\t: Eider E9 7288\nflags\t\t: fpu vmx aes lm foo avx2\n",
        )
        .put("proc/meminfo", "MemTotal:       65536000 kB\nMemFree: 1 kB\n")
        .put("sys/firmware/efi/fw_platform_size", "64\n")
        .put("sys/firmware/efi/efivars/SecureBoot-8be4df61-93ca-11d2-aa0d-00e098032b8c", [6, 0, 0, 0, 1])
        .put("sys/class/tpm/tpm0/tpm_version_major", "2\n");
    for (number, socket, core) in [(0, 0, 0), (1, 0, 0), (2, 1, 0), (3, 1, 0)] {
        let folder = format!("sys/devices/system/cpu/cpu{number}/topology");
        machine
            .put(&format!("{folder}/core_id"), format!("{core}\n"))
            .put(&format!("{folder}/physical_package_id"), format!("{socket}\n"));
    }
    // One that is switched off, and what is no processor.
    machine.put("sys/devices/system/cpu/cpu4/online", "0\n").put("sys/devices/system/cpu/cpufreq/x", "");
    let facts = machine.facts();
    assert_eq!((facts.cpu.sockets, facts.cpu.cores, facts.cpu.threads), (2, 2, 4));
    assert_eq!(facts.cpu.model.as_deref(), Some("Eider E9 7288"));
    assert_eq!(facts.cpu.flags, ["aes", "avx2", "lm", "vmx"]);
    assert_eq!(facts.memory.mib, 64_000);
    assert_eq!((facts.start.mode, facts.start.secure_boot), (Some(BootMode::Uefi), Some(true)));
    assert_eq!(facts.tpm.unwrap().version, Some(2));
}

#[test]
fn of_a_machine_that_says_nothing_nothing_is_said() {
    let facts = Machine::new().facts();
    let nothing = Facts::default();
    assert_eq!((facts.disks, facts.nics, facts.devices), (nothing.disks, nothing.nics, nothing.devices));
    assert_eq!((facts.start.mode, facts.start.secure_boot), (Some(BootMode::Bios), Some(false)));
}

#[test]
fn this_machine_is_measured() {
    let facts = facts(&Tree::machine());
    assert!(facts.memory.mib > 0 && facts.cpu.threads > 0, "{facts:?}");
}
