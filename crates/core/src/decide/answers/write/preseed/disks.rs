//! How the installer divides disks (partman-auto's recipes).

use std::fmt::Write;

use lastmile_formats::quote;

use super::{
    super::{Target, choose, choose::volume_name},
    File,
};
use crate::{
    decide::answers::{Disks, Mount, Place, Resolved, resolved::EFI_MIB},
    model::{
        answers::{BootMode, FileSystem, Size},
        install::ReportStage,
    },
};

pub(super) fn disks(file: &mut File, settings: &Resolved, target: &Target<'_>) {
    let disks = &settings.disks;
    file.section("Disks: all of what is named here is taken, and nothing else");
    match choose::devices(disks) {
        // A name below /dev/disk/ is looked up on the machine: the installer knows disks by their own names only.
        Some(devices) if !devices.iter().any(|device| device.starts_with("/dev/disk/")) => {
            file.set("partman-auto/disk", "string", &devices.join(" "));
            file.set("grub-installer/bootdev", "string", &devices.join(" "));
        }
        _ => {
            let script = quote::one_line(&choosing(disks, target));
            let run = "printf '%b' ".to_owned() + &script + " >/tmp/lastmile-disks; sh /tmp/lastmile-disks";
            file.set("partman/early_command", "string", &run);
        }
    }
    let lvm = disks.logical_volumes;
    let method = match (disks.mirror, disks.passphrase.is_some(), lvm) {
        (true, ..) => "raid",
        (false, true, _) => "crypto",
        (false, false, true) => "lvm",
        (false, false, false) => "regular",
    };
    file.set("partman-auto/method", "string", method);
    if lvm {
        file.set("partman-auto-lvm/guided_size", "string", "max");
        file.set("partman-auto-lvm/new_vg_name", "string", &disks.group);
    }
    if let Some(passphrase) = &disks.passphrase {
        let passphrase = target.plain(passphrase);
        file.set("partman-crypto/passphrase", "password", &passphrase);
        file.set("partman-crypto/passphrase-again", "password", &passphrase);
        file.no("partman-auto-crypto/erase_disks");
    }
    file.yes("partman-lvm/device_remove_lvm");
    file.yes("partman-md/device_remove_md");
    file.yes("partman-lvm/confirm");
    file.yes("partman-lvm/confirm_nooverwrite");
    match &disks.volumes {
        None => file.set("partman-auto/choose_recipe", "select", "atomic"),
        Some(_) => recipe(file, disks),
    }
    file.set("partman/default_filesystem", "string", "ext4");
    file.yes("partman-partitioning/confirm_write_new_label");
    file.set("partman/choose_partition", "select", "finish");
    file.yes("partman-md/confirm");
    file.yes("partman-md/confirm_nooverwrite");
    file.yes("partman/confirm");
    file.yes("partman/confirm_nooverwrite");
    if disks.boot_mode == BootMode::Uefi {
        file.set("partman-efi/non_efi_system", "boolean", "true");
    }
    file.yes("grub-installer/only_debian");
    if !settings.kernel_parameters.is_empty() {
        file.set("debian-installer/add-kernel-opts", "string", &settings.kernel_parameters.join(" "));
    }
}

/// The partitions by name (partman-auto's recipes): least size, priority and greatest size in MB, then what they are.
fn recipe(file: &mut File, disks: &Disks) {
    let mut lines: Vec<String> = Vec::new();
    match disks.boot_mode {
        BootMode::Uefi => {
            let size = megabytes(EFI_MIB);
            lines.push(format!("{size} {size} {size} fat32 $primary{{ }} method{{ efi }} format{{ }} ."));
        }
        BootMode::Bios => lines.push("1 1 1 free $primary{ } method{ biosgrub } .".into()),
    }
    let places = disks.places();
    let mut mirrors: Vec<String> = Vec::new();
    if disks.mirror {
        // Each array lies on a pair of partitions of its own, known by a number.
        let outside: Vec<&Place> = places.iter().filter(|place| !disks.is_inside(place)).collect();
        for (index, place) in outside.iter().enumerate() {
            let id = index + 1;
            let range = range(place.size);
            lines.push(format!(
                "{range} raid $lvmignore{{ }} $primary{{ }} method{{ raid }} raidid{{ {id} }} ."
            ));
            let (kind, mount) = match &place.mount {
                Mount::Swap => ("swap".to_owned(), "-"),
                mount => (file_system(place).to_owned(), mount.path().unwrap_or("-")),
            };
            mirrors.push(format!("1 2 0 {kind} {mount} raidid={id} ."));
        }
        if disks.logical_volumes {
            let id = outside.len() + 1;
            lines.push(format!(
                "1024 100000 -1 raid $lvmignore{{ }} $primary{{ }} method{{ raid }} raidid{{ {id} }} ."
            ));
            mirrors.push(format!("1 2 0 lvm - raidid={id} ."));
        }
    }
    for place in &places {
        let inside = disks.is_inside(place);
        if disks.mirror && !inside {
            continue;
        }
        let range = range(place.size);
        let volume = if inside {
            format!("$lvmok{{ }} lv_name{{ {} }} in_vg{{ {} }} ", volume_name(&place.mount), disks.group)
        } else if disks.needs_boot() {
            "$primary{ } $bootable{ } ".into()
        } else {
            String::new()
        };
        lines.push(match &place.mount {
            Mount::Swap => format!("{range} linux-swap {volume}method{{ swap }} format{{ }} ."),
            mount => {
                let system = file_system(place);
                let path = mount.path().unwrap_or("/");
                format!(
                    "{range} {system} {volume}method{{ format }} format{{ }} use_filesystem{{ }} \
                     filesystem{{ {system} }} mountpoint{{ {path} }} ."
                )
            }
        });
    }
    let joined = |lines: &[String]| lines.join(" \\\n  ");
    file.set("partman-auto/expert_recipe", "string", &format!("lastmile :: \\\n  {}", joined(&lines)));
    file.set("partman-auto/choose_recipe", "select", "lastmile");
    if !mirrors.is_empty() {
        file.set("partman-auto-raid/recipe", "string", &format!("\\\n  {}", joined(&mirrors)));
    }
    // A swap-less system is what was asked for.
    if !places.iter().any(|place| place.mount == Mount::Swap) {
        file.no("partman-basicfilesystems/no_swap");
    }
}

fn file_system(place: &Place) -> &'static str {
    place.file_system.map_or("ext4", FileSystem::as_str)
}

/// MiB as partman's megabytes, rounded up.
const fn megabytes(mib: u64) -> u64 {
    (mib * 1_048_576).div_ceil(1_000_000)
}

/// Least size, priority and greatest size. What lies between the first two is a partition's share of the rest.
fn range(size: Size) -> String {
    match size {
        Size::Mib(mib) => {
            let size = megabytes(mib);
            format!("{size} {size} {size}")
        }
        Size::Rest => "1024 100000 -1".into(),
    }
}

/// A script that finds the disks that were described and tells the installer; it refuses to take any other.
fn choosing(disks: &Disks, target: &Target<'_>) -> String {
    let mut script = String::from(
        "# Prints MiB, device, and the disk's model and serial number with '|' between.\n\
         all() { for d in $(list-devices disk); do b=$(echo \"${d#/dev/}\" | tr / '!'); \
         n=$(cat /sys/block/$b/size 2>/dev/null); \
         m=$(cat /sys/block/$b/device/model 2>/dev/null | sed 's/ *$//'); \
         s=$(udevadm info -q property -n $d | sed -n 's/^ID_SERIAL_SHORT=//p'); \
         echo \"$((${n:-0} / 2048))|$d|$m|$s\"; done; }\n",
    );
    script.push_str(&choose::matching(disks));
    let failed = target.report_url(ReportStage::Failed);
    let _ = write!(
        script,
        "if [ -z \"$bad\" ]; then\n  debconf-set partman-auto/disk \"$taken\"\n  debconf-set grub-installer/bootdev \"$taken\"\n\
         else\n  wget -q -O /dev/null {}\"?text=$why\"\n  sleep 86400\nfi\n",
        quote::shell(&failed)
    );
    script
}
