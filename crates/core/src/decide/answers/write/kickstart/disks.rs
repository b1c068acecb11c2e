//! How the installer divides disks.

use std::fmt::Write;

use lastmile_formats::quote;

use super::super::{
    Target, choose,
    choose::{matching, volume_name},
};
use crate::{
    decide::answers::{Disks, Mount, Place, Resolved, resolved::EFI_MIB},
    model::{
        answers::{BootMode, FileSystem, Size},
        install::ReportStage,
    },
};

pub(super) fn disks(file: &mut String, settings: &Resolved, target: &Target<'_>) {
    let disks = &settings.disks;
    file.push_str("\n# Disks: all of what is named here is taken, and nothing else\n");
    match choose::devices(disks) {
        Some(devices) => {
            let names: Vec<&str> = devices.into_iter().map(short).collect();
            file.push_str(&commands(settings, target, &names));
        }
        None => file.push_str("%include /tmp/lastmile-disks\n"),
    }
}

/// A disk as kickstart names it: without `/dev/`.
fn short(device: &str) -> &str {
    device.strip_prefix("/dev/").unwrap_or(device)
}

/// The commands for these disks, by kickstart's names of them.
fn commands(settings: &Resolved, target: &Target<'_>, names: &[&str]) -> String {
    let disks = &settings.disks;
    let mut text = String::from("zerombr\n");
    let only = names.join(",");
    let _ = writeln!(text, "ignoredisk --only-use={only}");
    let _ = writeln!(text, "clearpart --all --initlabel --disklabel=gpt --drives={only}");
    let mut loader = String::from("bootloader");
    let boot_disks = disks.boot_disks();
    if let Some(first) = names.get(boot_disks[0]) {
        let _ = write!(loader, " --boot-drive={first}");
    }
    if !settings.kernel_parameters.is_empty() {
        let _ = write!(loader, " --append={}", quote::shell(&settings.kernel_parameters.join(" ")));
    }
    let _ = writeln!(text, "{loader}");
    let secret = disks.passphrase.as_ref().map(|passphrase| {
        format!(" --encrypted --luks-version=luks2 --passphrase={}", quote::shell(&target.plain(passphrase)))
    });
    let secret = secret.unwrap_or_default();
    if disks.volumes.is_none() {
        let kind = if disks.logical_volumes { "lvm" } else { "plain" };
        let _ = writeln!(text, "autopart --type={kind}{secret}");
        return text;
    }
    for (order, name) in boot_disks.iter().filter_map(|index| names.get(*index)).enumerate() {
        let _ = match disks.boot_mode {
            BootMode::Uefi if order == 0 => {
                writeln!(text, "part /boot/efi --fstype=efi --size={EFI_MIB} --ondisk={name}")
            }
            BootMode::Uefi => Ok(()),
            BootMode::Bios => writeln!(text, "part biosboot --fstype=biosboot --size=1 --ondisk={name}"),
        };
    }
    volumes(&mut text, disks, names, &secret);
    text
}

fn volumes(text: &mut String, disks: &Disks, names: &[&str], secret: &str) {
    let places = disks.places();
    let lvm = disks.logical_volumes;
    let size = |size: Size| match size {
        Size::Mib(mib) => format!("--size={mib}"),
        Size::Rest => "--size=1024 --grow".into(),
    };
    // Logical volumes lie in one group over all disks that were named.
    let holder = |text: &mut String, id: &str, options: &str| {
        if disks.mirror {
            for (index, name) in names.iter().enumerate() {
                let _ = writeln!(text, "part raid.{id}{} --size=1024 --grow --ondisk={name}", index + 1);
            }
            let _ = writeln!(text, "raid pv.01 --level=RAID1 --device={id}{options} raid.{id}1 raid.{id}2");
        } else {
            for (index, name) in names.iter().enumerate() {
                let _ =
                    writeln!(text, "part pv.{:02} --size=1024 --grow --ondisk={name}{options}", index + 1);
            }
        }
    };
    for (index, place) in places.iter().enumerate().filter(|(_, place)| !(lvm && disks.is_inside(place))) {
        let mount = mount(&place.mount);
        let kind = file_system(place);
        let hidden = if place.mount.path() == Some("/boot") { "" } else { secret };
        if disks.mirror {
            for (side, name) in names.iter().enumerate() {
                let _ = writeln!(
                    text,
                    "part raid.{}{} {} --ondisk={name}",
                    index + 1,
                    side + 1,
                    size(place.size)
                );
            }
            let _ = writeln!(
                text,
                "raid {mount} --level=RAID1 --device={}{kind}{hidden} raid.{n}1 raid.{n}2",
                volume_name(&place.mount),
                n = index + 1
            );
        } else {
            let _ = writeln!(
                text,
                "part {mount}{kind} {} --ondisk={}{hidden}",
                size(place.size),
                names[place.disk]
            );
        }
    }
    if lvm {
        holder(text, "pv", secret);
        let volumes: Vec<String> = if disks.mirror {
            vec!["pv.01".into()]
        } else {
            (1..=names.len()).map(|index| format!("pv.{index:02}")).collect()
        };
        let _ = writeln!(text, "volgroup {} {}", disks.group, volumes.join(" "));
        for place in places.iter().filter(|place| disks.is_inside(place)) {
            let _ = writeln!(
                text,
                "logvol {}{} --vgname={} --name={} {}",
                mount(&place.mount),
                file_system(place),
                disks.group,
                volume_name(&place.mount),
                size(place.size)
            );
        }
    }
}

fn mount(mount: &Mount) -> &str {
    match mount {
        Mount::Path(path) => path,
        Mount::Swap | Mount::Letter(_) => "swap",
    }
}

fn file_system(place: &Place) -> String {
    match (&place.mount, place.file_system) {
        (Mount::Swap, _) => String::new(),
        (_, Some(system)) => format!(" --fstype={}", system.as_str()),
        (_, None) => format!(" --fstype={}", FileSystem::Xfs.as_str()),
    }
}

/// A section that finds the disks before the installer begins, and writes the commands for them. Where it finds none,
/// nothing is installed.
pub(super) fn choose_disks(file: &mut String, settings: &Resolved, target: &Target<'_>) {
    let disks = &settings.disks;
    if choose::devices(disks).is_some() {
        return;
    }
    // lsblk(8) pads nothing and quotes nothing in this form; '|' divides.
    file.push_str(
        "\n%pre --erroronfail\n\
         all() { lsblk -dnbP -o NAME,SIZE,MODEL,SERIAL,TYPE | while read -r line; do eval \"$line\"; \
         [ \"$TYPE\" = disk ] && echo \"$((SIZE / 1048576))|/dev/$NAME|$MODEL|$SERIAL\"; done; }\n",
    );
    file.push_str(&matching(disks));
    let failed = target.report_url(ReportStage::Failed);
    let _ = writeln!(
        file,
        "if [ -n \"$bad\" ]; then\n  curl -fsS -o /dev/null {}\"?text=$why\"\n  exit 1\nfi",
        quote::shell(&failed)
    );
    for (name, _) in &disks.taken {
        let _ = writeln!(file, "disk_{name}=${{disk_{name}#/dev/}}");
    }
    // Everything but the names of the disks stands as it is.
    let names: Vec<String> = disks.taken.iter().map(|(name, _)| format!("@disk_{name}@")).collect();
    let names: Vec<&str> = names.iter().map(String::as_str).collect();
    let text = commands(settings, target, &names);
    let replaced: Vec<String> =
        disks.taken.iter().map(|(name, _)| format!("s|@disk_{name}@|'\"$disk_{name}\"'|g")).collect();
    let document = quote::here_document(&text, "/tmp/lastmile-disks");
    file.push_str(&document.replacen("sed 's/^|//'", &format!("sed 's/^|//; {}'", replaced.join("; ")), 1));
    file.push_str("%end\n");
}
