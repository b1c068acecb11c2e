//! The answer file of installers that read kickstart (its commands as the Kickstart syntax reference documents them).

use std::fmt::Write;

use lastmile_formats::quote;

use super::{AnswerFile, Parts, Target, heading, steps};
use crate::{
    base::Fault,
    decide::answers::{Account, Addressing, Link, LinkKind, Resolution, Resolved, Source},
    model::{
        answers::{AtEnd, Firewall, Sudo},
        install::ReportStage,
    },
};

mod disks;

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
    // The variant stands apart from its layout here: `ch (fr)`.
    let keyboard = settings.keyboard.to_string().replace('(', " (");
    let _ = writeln!(file, "keyboard --xlayouts={}", quote::shell(&keyboard));
    time(&mut file, settings, target.version);
    network(&mut file, settings);
    source(&mut file, settings);
    accounts(&mut file, settings, target);
    security(&mut file, settings);
    disks::disks(&mut file, settings, target);
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

/// Installers up to version 8, and those of the line that counts its versions faster up to 32, know no `timesource`.
fn has_timesource(version: Option<&str>) -> bool {
    let major = version.and_then(|version| version.split('.').next()?.parse::<u32>().ok());
    major.is_none_or(|major| matches!(major, 9..=20 | 33..))
}

fn time(file: &mut String, settings: &Resolved, version: Option<&str>) {
    let _ = write!(file, "timezone {} --utc", settings.time_zone);
    if !settings.ntp.is_empty() && !has_timesource(version) {
        let _ = write!(file, " --ntpservers={}", settings.ntp.join(","));
    }
    file.push('\n');
    for server in settings.ntp.iter().filter(|_| has_timesource(version)) {
        let _ = writeln!(file, "timesource --ntp-server={server}");
    }
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
        let fix = "Use a documented kickstart command; scripts go to pre and post, whole sections to end.";
        return Err(parts.fault("commands", index + 1, 1, &format!("there is no command '{command}'"), fix));
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
    for (name, repository) in &settings.software.repositories {
        // The installed system keeps it, too.
        let url = quote::kickstart(&repository.url);
        let _ = writeln!(file, "repo --name={name} --baseurl={url}{proxy} --install");
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

fn packages(file: &mut String, settings: &Resolved, parts: &Parts) {
    file.push_str("\n%packages\n");
    if let Some(edition) = &settings.software.edition {
        let _ = writeln!(file, "@^{edition}");
    }
    for set in settings.software.sets() {
        let _ = writeln!(file, "@{set}");
    }
    for package in settings.software.packages() {
        let _ = writeln!(file, "{package}");
    }
    file.push_str(parts.at("packages"));
    file.push_str("%end\n");
}

fn scripts(file: &mut String, settings: &Resolved, target: &Target<'_>, parts: &Parts) {
    let _ = writeln!(file, "\n%pre\n{}", steps::curl(target, ReportStage::Started));
    let _ = writeln!(file, "{}", steps::send_log_by_curl(target, "/tmp/anaconda.log"));
    file.push_str(parts.at("pre"));
    file.push_str("%end\n");
    disks::choose_disks(file, settings, target);
    let mut post = String::from("set -e\n");
    for user in &settings.users {
        steps::sudoers(&mut post, user);
    }
    if let Some(proxy) = &settings.proxy {
        let _ = writeln!(post, "echo {} >>/etc/dnf/dnf.conf", quote::shell(&format!("proxy={proxy}")));
    }
    for key in settings.software.repositories.values().filter_map(|repository| repository.key.as_ref()) {
        let _ = writeln!(post, "rpm --import {}", quote::shell(key));
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
