//! The answer file of installers that read kickstart (its commands as the Kickstart syntax reference documents them).

use std::fmt::Write;

use super::{
    AnswerFile, Parts, Target,
    choose::{matching, volume_name},
    heading, quote, steps,
};
use crate::{
    Fault,
    answers::{
        AtEnd, BootMode, FileSystem, Firewall, Layout, Resolution, Size, Sudo,
        resolved::{Account, Addressing, Disks, EFI_MIB, Link, LinkKind, Mount, Place, Resolved, Source},
    },
    install::ReportStage,
};

/// The documented commands, for fragments: an installer stops at one that it does not know.
const COMMANDS: [&str; 79] = [
    "auth",
    "authconfig",
    "authselect",
    "autopart",
    "autostep",
    "bootloader",
    "btrfs",
    "cdrom",
    "clearpart",
    "cmdline",
    "dasd",
    "device",
    "deviceprobe",
    "dmraid",
    "driverdisk",
    "eula",
    "fcoe",
    "firewall",
    "firstboot",
    "graphical",
    "group",
    "halt",
    "harddrive",
    "hmc",
    "ignoredisk",
    "install",
    "interactive",
    "iscsi",
    "iscsiname",
    "key",
    "keyboard",
    "lang",
    "langsupport",
    "liveimg",
    "logging",
    "logvol",
    "mediacheck",
    "method",
    "module",
    "mount",
    "mouse",
    "multipath",
    "network",
    "nfs",
    "nvdimm",
    "ostreesetup",
    "ostreecontainer",
    "bootc",
    "part",
    "partition",
    "poweroff",
    "raid",
    "realm",
    "reboot",
    "repo",
    "reqpart",
    "rescue",
    "rhsm",
    "rootpw",
    "selinux",
    "services",
    "shutdown",
    "skipx",
    "snapshot",
    "sshkey",
    "sshpw",
    "syspurpose",
    "text",
    "timesource",
    "timezone",
    "unsupported_hardware",
    "updates",
    "upgrade",
    "url",
    "user",
    "vnc",
    "volgroup",
    "xconfig",
    "zerombr",
];

/// Writes the file.
pub(super) fn write(
    resolution: &Resolution,
    target: &Target<'_>,
    parts: &Parts,
) -> Result<Vec<AnswerFile>, Fault> {
    check_parts(parts)?;
    let settings = &resolution.settings;
    let mut file = String::new();
    for line in heading(resolution, target) {
        let _ = writeln!(file, "# {line}");
    }
    file.push_str("text\n\n# Language, keyboard and clock\n");
    let _ = writeln!(file, "lang {}", settings.locale);
    let _ = writeln!(file, "keyboard --xlayouts={}", quote::shell(&settings.keyboard));
    let _ = writeln!(file, "timezone {} --utc", settings.time_zone);
    for server in &settings.ntp {
        let _ = writeln!(file, "timesource --ntp-server={server}");
    }
    network(&mut file, settings);
    source(&mut file, settings);
    accounts(&mut file, settings, target);
    security(&mut file, settings);
    disks(&mut file, settings, target);
    section(&mut file, "Further commands", parts.at("commands"));
    let _ = writeln!(
        file,
        "\n{}",
        if settings.at_end == AtEnd::PowerOff { "poweroff" } else { "reboot --eject" }
    );
    packages(&mut file, settings, parts);
    scripts(&mut file, settings, target, parts);
    section(&mut file, "Further sections", parts.at("end"));
    Ok(vec![AnswerFile { name: "ks.cfg", text: file }])
}

fn section(file: &mut String, title: &str, text: &str) {
    if !text.is_empty() {
        let _ = write!(file, "\n# {title}\n{text}");
    }
}

/// Commands of fragments are known ones, and no text of a section ends it.
fn check_parts(parts: &Parts) -> Result<(), Fault> {
    for (index, line) in parts.at("commands").lines().enumerate() {
        let command = line.split_whitespace().next().unwrap_or_default();
        if command.is_empty()
            || command.starts_with('#')
            || command == "%include"
            || COMMANDS.contains(&command)
        {
            continue;
        }
        let mend = "Use a documented kickstart command; scripts go to pre and post, whole sections to end.";
        return Err(parts.fault("commands", index + 1, 1, &format!("there is no command '{command}'"), mend));
    }
    for name in ["packages", "pre", "post"] {
        let ends = parts.at(name).lines().position(|line| line.trim_start().starts_with("%end"));
        if let Some(index) = ends {
            return Err(parts.fault(
                name,
                index + 1,
                1,
                "%end closes the section that this stands in",
                "Leave it out.",
            ));
        }
    }
    Ok(())
}

fn network(file: &mut String, settings: &Resolved) {
    file.push_str("\n# Network\n");
    let full_name = match &settings.domain {
        Some(domain) if !domain.is_empty() => format!("{}.{domain}", settings.host_name),
        _ => settings.host_name.clone(),
    };
    if settings.links.is_empty() {
        file.push_str("network --device=link --bootproto=dhcp --onboot=on --activate\n");
    }
    for link in &settings.links {
        // What is part of a bond or bridge is named by it.
        let is_part = settings.links.iter().any(|other| match &other.kind {
            LinkKind::Bond(of, _) | LinkKind::Bridge(of) => of.contains(&link.name),
            _ => false,
        });
        if !is_part {
            network_command(file, link, settings);
        }
    }
    let _ = writeln!(file, "network --hostname={full_name}");
}

/// The device that a command means by an interface's name.
fn device<'a>(settings: &'a Resolved, name: &'a str) -> std::borrow::Cow<'a, str> {
    match settings.links.iter().find(|link| link.name == name).map(|link| &link.kind) {
        Some(LinkKind::Mac(mac)) => mac.to_string().into(),
        Some(LinkKind::Device(device)) => device.into(),
        Some(LinkKind::Booting) => "link".into(),
        _ => name.into(),
    }
}

fn network_command(file: &mut String, link: &Link, settings: &Resolved) {
    let mut line = String::from("network");
    let mut say = |text: String| {
        line.push(' ');
        line.push_str(&text);
    };
    let names = |of: &[String]| of.iter().map(|name| device(settings, name)).collect::<Vec<_>>().join(",");
    match &link.kind {
        LinkKind::Vlan(tag, on) => {
            say(format!("--device={}", device(settings, on)));
            say(format!("--vlanid={tag} --interfacename={}", link.name));
        }
        LinkKind::Bond(of, mode) => {
            say(format!("--device={} --bondslaves={}", link.name, names(of)));
            say(format!("--bondopts=mode={},miimon=100", mode.as_str()));
        }
        LinkKind::Bridge(of) => say(format!("--device={} --bridgeslaves={}", link.name, names(of))),
        LinkKind::Mac(_) | LinkKind::Booting | LinkKind::Device(_) => {
            say(format!("--device={}", device(settings, &link.name)));
        }
    }
    match &link.addressing {
        Addressing::None => say("--noipv4 --noipv6".into()),
        Addressing::Dhcp => say("--bootproto=dhcp".into()),
        Addressing::Fixed(nets) => {
            if let Some(net) = nets.first() {
                say(format!("--bootproto=static --ip={} --netmask={}", net.addr(), net.netmask()));
            }
            if let Some(router) = link.router {
                say(format!("--gateway={router}"));
            }
        }
    }
    if !settings.dns.is_empty() && link.addressing != Addressing::None {
        let servers: Vec<String> = settings.dns.iter().map(ToString::to_string).collect();
        say(format!("--nameserver={}", servers.join(",")));
    }
    if let Some(mtu) = link.mtu {
        say(format!("--mtu={mtu}"));
    }
    say("--onboot=on --activate".into());
    let _ = writeln!(file, "{line}");
}

fn source(file: &mut String, settings: &Resolved) {
    let proxy = settings
        .proxy
        .as_ref()
        .map_or_else(String::new, |proxy| format!(" --proxy={}", quote::kickstart(proxy)));
    match &settings.source {
        // What the installer was started from, or finds by itself.
        Source::Default => {}
        Source::Image(url) | Source::Mirror(url) => {
            let _ = writeln!(file, "\n# Source\nurl --url={}{proxy}", quote::kickstart(url));
        }
    }
    for (name, repository) in &settings.repositories {
        let _ = writeln!(file, "repo --name={name} --baseurl={}{proxy}", quote::kickstart(&repository.url));
    }
}

fn accounts(file: &mut String, settings: &Resolved, target: &Target<'_>) {
    file.push_str("\n# Accounts\n");
    let _ = match &settings.root_password {
        Some(password) => writeln!(file, "rootpw --iscrypted {}", quote::kickstart(&target.hash(password))),
        None => writeln!(file, "rootpw --lock"),
    };
    for user in &settings.users {
        user_command(file, user, target);
    }
    let root = settings.root_keys.iter().map(|key| ("root", key));
    let keys = settings.users.iter().flat_map(|user| user.keys.iter().map(|key| (user.login.as_str(), key)));
    for (login, key) in root.chain(keys) {
        let _ = writeln!(file, "sshkey --username={login} {}", quote::shell(key));
    }
}

fn user_command(file: &mut String, user: &Account, target: &Target<'_>) {
    let mut groups = user.groups.clone();
    if user.sudo == Sudo::Password {
        groups.push("wheel".into());
    }
    let mut line = format!("user --name={}", user.login);
    if !user.full_name.is_empty() {
        let _ = write!(line, " --gecos={}", quote::kickstart(&user.full_name));
    }
    if !groups.is_empty() {
        let _ = write!(line, " --groups={}", groups.join(","));
    }
    let _ = match &user.password {
        Some(password) => {
            write!(line, " --iscrypted --password={}", quote::kickstart(&target.hash(password)))
        }
        None => write!(line, " --lock"),
    };
    let _ = writeln!(file, "{line}");
}

fn security(file: &mut String, settings: &Resolved) {
    if let Some(access) = settings.security.mandatory_access {
        let _ = writeln!(file, "\nselinux --{}", access.as_str());
    }
    match settings.security.firewall {
        Some(Firewall::On) => file.push_str("firewall --enabled --ssh\n"),
        Some(Firewall::Off) => file.push_str("firewall --disabled\n"),
        None => {}
    }
}

fn disks(file: &mut String, settings: &Resolved, target: &Target<'_>) {
    let disks = &settings.disks;
    file.push_str("\n# Disks: all of what is named here is taken, and nothing else\n");
    let is_any = disks.taken.len() == 1 && disks.taken[0].1.is_any() && disks.never.is_empty();
    let paths: Option<Vec<String>> =
        disks.taken.iter().map(|(_, disk)| disk.device.as_deref().map(short)).collect();
    match paths {
        Some(paths) if disks.never.is_empty() => {
            let names: Vec<&str> = paths.iter().map(String::as_str).collect();
            file.push_str(&commands(settings, target, Some(&names)));
        }
        _ if is_any && disks.volumes.is_none() => file.push_str(&commands(settings, target, None)),
        _ => file.push_str("%include /tmp/lastmile-disks\n"),
    }
}

/// Whether the disks are found by a script before the installer begins.
fn is_chosen_by_script(disks: &Disks) -> bool {
    let all_named = disks.taken.iter().all(|(_, disk)| disk.device.is_some()) && disks.never.is_empty();
    let is_any = disks.taken.len() == 1 && disks.taken[0].1.is_any() && disks.never.is_empty();
    !(all_named || is_any && disks.volumes.is_none())
}

/// A disk as kickstart names it: without `/dev/`.
fn short(device: &str) -> String {
    device.strip_prefix("/dev/").unwrap_or(device).into()
}

/// The commands for these disks, by kickstart's names of them; `None` for whatever disk there is.
fn commands(settings: &Resolved, target: &Target<'_>, names: Option<&[&str]>) -> String {
    let disks = &settings.disks;
    let mut text = String::from("zerombr\n");
    let only = names.map_or_else(String::new, |names| names.join(","));
    if names.is_some() {
        let _ = writeln!(text, "ignoredisk --only-use={only}");
    }
    let drives = if names.is_some() { format!(" --drives={only}") } else { String::new() };
    let _ = writeln!(text, "clearpart --all --initlabel --disklabel=gpt{drives}");
    let mut loader = String::from("bootloader");
    let boot_disks = disks.boot_disks();
    if let Some(first) = names.and_then(|names| names.get(boot_disks[0])) {
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
    let Some(names) = names.filter(|_| disks.volumes.is_some()) else {
        let kind = if disks.layout == Layout::Lvm { "lvm" } else { "plain" };
        let _ = writeln!(text, "autopart --type={kind}{secret}");
        return text;
    };
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
    let lvm = disks.layout == Layout::Lvm;
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

fn packages(file: &mut String, settings: &Resolved, parts: &Parts) {
    file.push_str("\n%packages\n");
    if let Some(edition) = &settings.edition {
        let _ = writeln!(file, "@^{edition}");
    }
    for set in &settings.sets {
        let _ = writeln!(file, "@{set}");
    }
    for package in &settings.packages {
        let _ = writeln!(file, "{package}");
    }
    file.push_str(parts.at("packages"));
    file.push_str("%end\n");
}

fn scripts(file: &mut String, settings: &Resolved, target: &Target<'_>, parts: &Parts) {
    let disks = &settings.disks;
    let _ = writeln!(file, "\n%pre\n{}", steps::curl(target, ReportStage::Started));
    if is_chosen_by_script(disks) {
        // lsblk(8) pads nothing and quotes nothing in this form; '|' divides.
        file.push_str(
            "all() { lsblk -dnbP -o NAME,SIZE,MODEL,SERIAL,TYPE | while read -r line; do eval \"$line\"; \
             [ \"$TYPE\" = disk ] && echo \"$((SIZE / 1048576))|/dev/$NAME|$MODEL|$SERIAL\"; done; }\n",
        );
        file.push_str(&matching(disks));
        let failed = target.report_url(ReportStage::Failed);
        let _ = writeln!(
            file,
            "if [ -n \"$bad\" ]; then\n  curl -fsS -o /dev/null {}\n  exit 1\nfi",
            quote::shell(&format!("{failed}?text=no+disk+fits"))
        );
        for (name, _) in &disks.taken {
            let _ = writeln!(file, "disk_{name}=${{disk_{name}#/dev/}}");
        }
        // Everything but the names of the disks stands as it is.
        let names: Vec<String> = disks.taken.iter().map(|(name, _)| format!("@disk_{name}@")).collect();
        let names: Vec<&str> = names.iter().map(String::as_str).collect();
        let text = commands(settings, target, Some(&names));
        let replaced: Vec<String> =
            disks.taken.iter().map(|(name, _)| format!("s|@disk_{name}@|'\"$disk_{name}\"'|g")).collect();
        let document = quote::here_document(&text, "/tmp/lastmile-disks");
        file.push_str(&document.replacen(
            "sed 's/^|//'",
            &format!("sed 's/^|//; {}'", replaced.join("; ")),
            1,
        ));
    }
    file.push_str(parts.at("pre"));
    file.push_str("%end\n");
    let mut post = String::from("set -e\n");
    for user in &settings.users {
        steps::sudoers(&mut post, user);
    }
    steps::first_boot(&mut post, settings, target);
    steps::last_steps(&mut post, settings);
    post.push_str(parts.at("post"));
    let failed = steps::curl(target, ReportStage::Failed);
    let _ = write!(
        file,
        "\n%post --erroronfail\n{post}%end\n\n%post --nochroot\n{}\n%end\n",
        steps::curl(target, ReportStage::Done)
    );
    let _ = write!(file, "\n%onerror\n{failed}\n%end\n");
}
