//! What is put into the survey's system: which of a kernel's modules, where everything is, and what the kernel is told.

use std::collections::BTreeSet;

use lastmile_formats::{
    cpu::Cpu,
    modules::{ModuleFile, Modules},
};
use lastmile_survey::messages::VERSION;

/// The image's name where nothing else is asked for.
#[must_use]
pub const fn default_name(cpu: Cpu) -> &'static str {
    match cpu {
        Cpu::Arm64 => "survey-arm64",
        _ => "survey",
    }
}

/// The kernel's file in the image.
pub const KERNEL: &str = "vmlinuz";
/// The archive's file in the image.
pub const INITRD: &str = "survey.cpio.zst";
/// Most bytes that the archive should have: machines with 512 MiB unpack it beside their work.
pub const MOST_ARCHIVE: u64 = 60 << 20;

/// Below the folder of a kernel's modules: what a machine may need to be measured, and its disks to be worked on. Folders end
/// with a slash.
const SELECTED: [&str; 62] = [
    // Network cards, what they are built of, and what virtual machines have.
    "drivers/net/ethernet/",
    "drivers/net/phy/",
    "drivers/net/mdio/",
    "drivers/net/pcs/",
    "drivers/net/usb/",
    "drivers/net/hyperv/",
    "drivers/net/vmxnet3/",
    "drivers/net/xen-netfront.ko",
    "drivers/net/virtio_net.ko",
    "drivers/net/mii.ko",
    "drivers/net/bonding/",
    "net/8021q/",
    // Disks and their controllers.
    "drivers/nvme/host/",
    "drivers/ata/",
    "drivers/scsi/",
    "drivers/message/fusion/",
    "drivers/block/virtio_blk.ko",
    "drivers/block/xen-blkfront.ko",
    "drivers/block/loop.ko",
    "drivers/block/nbd.ko",
    "drivers/block/rnbd/",
    "drivers/block/mtip32xx/",
    "drivers/md/",
    "drivers/mmc/",
    "drivers/nvdimm/",
    "drivers/usb/host/",
    "drivers/usb/storage/",
    "drivers/usb/dwc3/",
    "drivers/cdrom/",
    "drivers/misc/enclosure.ko",
    // Keyboards.
    "drivers/hid/usbhid/",
    "drivers/hid/hid.ko",
    "drivers/hid/hid-generic.ko",
    "drivers/input/serio/",
    "drivers/input/keyboard/",
    // Virtual machines.
    "drivers/virtio/",
    "drivers/hv/",
    "drivers/xen/",
    "drivers/pci/",
    "drivers/char/virtio_console.ko",
    // What measures, and what watches.
    "drivers/char/ipmi/",
    "drivers/char/tpm/",
    "drivers/char/hw_random/",
    "drivers/hwmon/coretemp.ko",
    "drivers/hwmon/k10temp.ko",
    "drivers/hwmon/drivetemp.ko",
    "drivers/i2c/busses/i2c-i801.ko",
    "drivers/firmware/",
    // File systems.
    "fs/ext4/",
    "fs/jbd2/",
    "fs/mbcache.ko",
    "fs/xfs/",
    "fs/btrfs/",
    "fs/fat/",
    "fs/nls/",
    "fs/exfat/",
    "fs/ntfs3/",
    "fs/isofs/",
    "fs/udf/",
    "fs/squashfs/",
    "fs/overlayfs/",
    "fs/efivarfs/",
];

/// What is below a selected folder, and no machine in a rack needs.
const LEFT_OUT: [&str; 9] = [
    "drivers/scsi/pcmcia/",
    "drivers/ata/pata_",
    "drivers/scsi/qla4xxx/",
    "drivers/scsi/bfa/",
    "drivers/net/ethernet/8390/",
    "drivers/net/ethernet/mellanox/mlxsw/",
    "drivers/net/ethernet/netronome/",
    "drivers/net/ethernet/chelsio/inline_crypto/",
    "drivers/scsi/cxgbi/",
];

/// What other modules ask for by a name of their kind, which no table says.
const ASKED_FOR: [&str; 8] = [
    "crc32c_generic",
    "crc32c_intel",
    "crc32_pclmul",
    "xxhash_generic",
    "blake2b_generic",
    "sha256_generic",
    "dm_mod",
    "af_packet",
];

/// Whether a module is selected for itself, by its file below the folder of modules.
fn is_selected(path: &str) -> bool {
    let path = path.strip_prefix("kernel/").unwrap_or(path);
    // However they are compressed, their names end alike.
    let plain = path.split_inclusive(".ko").next().unwrap_or(path);
    let is_in = |places: &[&str]| {
        places
            .iter()
            .any(|place| if place.ends_with(".ko") { plain == *place } else { plain.starts_with(place) })
    };
    is_in(&SELECTED) && !is_in(&LEFT_OUT)
}

/// The modules that are put in: those that are selected, and all that they need.
#[must_use]
pub fn select(modules: &Modules) -> Vec<&ModuleFile> {
    let selected =
        modules.iter().filter(|module| is_selected(&module.path)).map(|module| module.name.as_str());
    let names: BTreeSet<&str> = selected.chain(ASKED_FOR).collect();
    modules.in_order(names)
}

/// The parameter by which a system says which [`VERSION`] of the messages its agent speaks.
const MESSAGES: &str = "lastmile.messages=";

/// Which version of the messages the agent in a system speaks, by the parameters of its image; nothing if they do not say.
#[must_use]
pub fn messages_version(parameters: &[String]) -> Option<u32> {
    parameters.iter().find_map(|word| word.strip_prefix(MESSAGES)?.parse().ok())
}

/// What a kernel is told at each start, before what a label or a machine adds: to speak on the screen and on the first serial line; and
/// what the system is.
#[must_use]
pub fn parameters(cpu: Cpu) -> Vec<String> {
    let serial = match cpu {
        Cpu::Arm64 => "console=ttyAMA0,115200n8",
        _ => "console=ttyS0,115200n8",
    };
    let messages = format!("{MESSAGES}{VERSION}");
    ["quiet", "loglevel=3", "panic=60", serial, "console=tty0", &messages].map(str::to_owned).to_vec()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_system_says_which_messages_its_agent_speaks() {
        assert_eq!(messages_version(&parameters(Cpu::Arm64)), Some(VERSION));
        assert_eq!(messages_version(&["quiet".into()]), None);
    }

    #[test]
    fn what_a_machine_needs_is_selected_with_what_that_needs() {
        let modules = Modules::read(
            "kernel/drivers/net/ethernet/intel/igb/igb.ko: kernel/drivers/dca/dca.ko\n\
             kernel/drivers/dca/dca.ko:\n\
             kernel/drivers/net/wireless/marram/dune.ko:\n\
             kernel/drivers/nvme/host/nvme.ko.xz: kernel/drivers/nvme/host/nvme-core.ko.xz\n\
             kernel/drivers/nvme/host/nvme-core.ko.xz:\n\
             kernel/drivers/block/loop.ko.zst:\n\
             kernel/drivers/block/drbd/drbd.ko:\n\
             kernel/fs/nfs/nfs.ko:\n\
             kernel/fs/ext4/ext4.ko: kernel/fs/mbcache.ko\n\
             kernel/fs/mbcache.ko:\n\
             kernel/crypto/crc32c_generic.ko:\n",
            "",
            "",
        );
        let names: BTreeSet<&str> = select(&modules).into_iter().map(|module| module.name.as_str()).collect();
        let expected =
            ["crc32c_generic", "dca", "ext4", "igb", "loop", "mbcache", "nvme", "nvme_core"].into();
        assert_eq!(names, expected);
    }
}
