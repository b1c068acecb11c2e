//! The answer file of installers that read a debconf preseed (Debian installation guide, appendix B).

use std::fmt::Write;

use super::{
    AnswerFile, Parts, Target,
    choose::{self, volume_name},
    heading, quote, steps,
};
use crate::{
    Fault,
    answers::{
        AtEnd, BootMode, FileSystem, Layout, Resolution, Size, Sudo,
        resolved::{Addressing, Disks, EFI_MIB, Link, LinkKind, Mount, Place, Resolved, Source},
    },
    install::ReportStage,
};

/// Writes the file. Every value was checked to be one line.
pub(super) fn write(
    resolution: &Resolution,
    target: &Target<'_>,
    parts: &Parts,
) -> Result<Vec<AnswerFile>, Fault> {
    check_parts(parts)?;
    let settings = &resolution.settings;
    let mut file = File::default();
    for line in heading(resolution, target) {
        file.comment(&line);
    }
    file.text.push_str(parts.at("top"));
    locale(&mut file, settings);
    network(&mut file, settings);
    source(&mut file, settings);
    accounts(&mut file, settings, target);
    clock(&mut file, settings);
    disks(&mut file, settings, target);
    file.text.push_str(parts.at("disks"));
    packages(&mut file, settings);
    end(&mut file, settings, target);
    file.text.push_str(parts.at("end"));
    Ok(vec![AnswerFile { name: "preseed.cfg", text: file.text }])
}

/// Every line of a fragment is a comment or has an owner, a question and a type; a line may go on in the next.
fn check_parts(parts: &Parts) -> Result<(), Fault> {
    for name in parts.texts.keys() {
        let mut goes_on = false;
        for (index, line) in parts.at(name).lines().enumerate() {
            let is_first = !std::mem::replace(&mut goes_on, line.ends_with('\\'));
            let words = line.split_whitespace().count();
            if is_first && words > 0 && !line.starts_with('#') && words < 3 {
                let mend = "Write owner, question, type and value: d-i time/zone string Europe/London.";
                return Err(parts.fault(name, index + 1, 1, &format!("'{line}' sets nothing"), mend));
            }
        }
    }
    Ok(())
}

/// The lines of one preseed file: owner, question, type, value.
#[derive(Default)]
struct File {
    text: String,
}

impl File {
    fn comment(&mut self, text: &str) {
        let _ = writeln!(self.text, "# {text}");
    }

    fn section(&mut self, title: &str) {
        let _ = writeln!(self.text, "\n# {title}");
    }

    fn set(&mut self, question: &str, kind: &str, value: &str) {
        self.owned("d-i", question, kind, value);
    }

    fn owned(&mut self, owner: &str, question: &str, kind: &str, value: &str) {
        let line = format!("{owner} {question} {kind} {value}");
        let _ = writeln!(self.text, "{}", line.trim_end());
    }

    fn yes(&mut self, question: &str) {
        self.set(question, "boolean", "true");
    }

    fn no(&mut self, question: &str) {
        self.set(question, "boolean", "false");
    }
}

fn locale(file: &mut File, settings: &Resolved) {
    file.section("Language and keyboard");
    file.set("debian-installer/locale", "string", &settings.locale);
    file.set("keyboard-configuration/xkb-keymap", "select", &settings.keyboard);
}

/// The installer itself always works by DHCP, as this file comes by the network; the installed system's network is set
/// up at the end.
fn network(file: &mut File, settings: &Resolved) {
    file.section("Network");
    file.set("netcfg/choose_interface", "select", "auto");
    file.set("netcfg/get_hostname", "string", &settings.host_name);
    // What DHCP says must not win over the name the record knows.
    file.set("netcfg/hostname", "string", &settings.host_name);
    file.set("netcfg/get_domain", "string", settings.domain.as_deref().unwrap_or_default());
    file.no("hw-detect/load_firmware");
}

fn source(file: &mut File, settings: &Resolved) {
    if let Source::Mirror(url) = &settings.source {
        file.section("Package mirror");
        let rest = url.strip_prefix("http://").unwrap_or(url);
        let (host, directory) = rest.find('/').map_or((rest, "/"), |slash| rest.split_at(slash));
        file.set("mirror/country", "string", "manual");
        file.set("mirror/protocol", "select", "http");
        file.set("mirror/http/hostname", "string", host);
        file.set("mirror/http/directory", "string", directory);
    }
    if matches!(settings.source, Source::Mirror(_)) || settings.proxy.is_some() {
        file.set("mirror/http/proxy", "string", settings.proxy.as_deref().unwrap_or_default());
    }
    for (index, (name, repository)) in settings.repositories.iter().enumerate() {
        let suite = repository.suite.as_deref().unwrap_or_default();
        let components = repository.components.clone().unwrap_or_else(|| vec!["main".into()]).join(" ");
        let at = |key: &str| format!("apt-setup/local{index}/{key}");
        file.set(&at("repository"), "string", &format!("{} {suite} {components}", repository.url));
        file.set(&at("comment"), "string", name);
        if let Some(key) = &repository.key {
            file.set(&at("key"), "string", key);
        }
    }
}

fn accounts(file: &mut File, settings: &Resolved, target: &Target<'_>) {
    file.section("Accounts");
    match &settings.root_password {
        Some(password) => {
            file.yes("passwd/root-login");
            file.set("passwd/root-password-crypted", "password", &target.hash(password));
        }
        None => file.no("passwd/root-login"),
    }
    // The installer makes one user; others are made at its end.
    let Some(user) = settings.users.first() else {
        file.no("passwd/make-user");
        return;
    };
    file.yes("passwd/make-user");
    let full_name = if user.full_name.is_empty() { &user.login } else { &user.full_name };
    file.set("passwd/user-fullname", "string", full_name);
    file.set("passwd/username", "string", &user.login);
    let hash = user.password.as_ref().map_or_else(|| "!".into(), |password| target.hash(password));
    file.set("passwd/user-password-crypted", "password", &hash);
    file.set("passwd/user-default-groups", "string", &groups(user).join(" "));
}

fn groups(user: &crate::answers::resolved::Account) -> Vec<String> {
    let mut groups = user.groups.clone();
    if user.sudo == Sudo::Password {
        groups.push("sudo".into());
    }
    groups
}

fn clock(file: &mut File, settings: &Resolved) {
    file.section("Clock");
    file.yes("clock-setup/utc");
    file.set("time/zone", "string", &settings.time_zone);
    file.yes("clock-setup/ntp");
    if let Some(server) = settings.ntp.first() {
        file.set("clock-setup/ntp-server", "string", server);
    }
}

fn disks(file: &mut File, settings: &Resolved, target: &Target<'_>) {
    let disks = &settings.disks;
    file.section("Disks: all of what is named here is taken, and nothing else");
    let paths: Option<Vec<&str>> = disks.taken.iter().map(|(_, disk)| disk.device.as_deref()).collect();
    match paths {
        Some(paths) if disks.never.is_empty() => {
            file.set("partman-auto/disk", "string", &paths.join(" "));
            file.set("grub-installer/bootdev", "string", &paths.join(" "));
        }
        _ if disks.never.is_empty()
            && disks.taken.iter().all(|(_, disk)| disk.is_any())
            && disks.taken.len() == 1 =>
        {
            // `default` is the disk that the system was put on.
            file.set("grub-installer/bootdev", "string", "default");
        }
        _ => {
            let script = quote::one_line(&choosing(disks, target));
            let run = "printf '%b' ".to_owned() + &script + " >/tmp/lastmile-disks; sh /tmp/lastmile-disks";
            file.set("partman/early_command", "string", &run);
        }
    }
    let lvm = disks.layout == Layout::Lvm;
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
        if disks.layout == Layout::Lvm {
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
        "# Prints device, MiB, and the disk's model and serial number with '|' between.\n\
         all() { for d in $(list-devices disk); do b=${d##*/}; \
         m=$(cat /sys/block/$b/device/model 2>/dev/null | sed 's/ *$//'); \
         s=$(udevadm info -q property -n $d | sed -n 's/^ID_SERIAL_SHORT=//p'); \
         echo \"$(($(cat /sys/block/$b/size) / 2048))|$d|$m|$s\"; done; }\n",
    );
    script.push_str(&choose::matching(disks));
    let failed = target.report_url(ReportStage::Failed);
    let _ = write!(
        script,
        "if [ -z \"$bad\" ]; then\n  debconf-set partman-auto/disk \"$taken\"\n  debconf-set grub-installer/bootdev \"$taken\"\n\
         else\n  wget -q -O /dev/null {}\n  sleep 86400\nfi\n",
        quote::shell(&format!("{failed}?text=no+disk+fits"))
    );
    script
}

fn packages(file: &mut File, settings: &Resolved) {
    file.section("Packages");
    let sets = if settings.sets.is_empty() { "standard".into() } else { settings.sets.join(", ") };
    file.owned("tasksel", "tasksel/first", "multiselect", &sets);
    let mut packages = settings.packages.clone();
    let mut also = |is_needed: bool, package: &str| {
        if is_needed && !packages.iter().any(|known| known == package) {
            packages.push(package.into());
        }
    };
    also(settings.users.iter().any(|user| user.sudo != Sudo::No), "sudo");
    let has_keys = !settings.root_keys.is_empty() || settings.users.iter().any(|user| !user.keys.is_empty());
    also(has_keys, "openssh-server");
    let is_any = |test: fn(&LinkKind) -> bool| settings.links.iter().any(|link| test(&link.kind));
    also(is_any(|kind| matches!(kind, LinkKind::Bond(..))), "ifenslave");
    also(is_any(|kind| matches!(kind, LinkKind::Bridge(_))), "bridge-utils");
    also(is_any(|kind| matches!(kind, LinkKind::Vlan(..))), "vlan");
    file.set("pkgsel/include", "string", &packages.join(" "));
    file.set("pkgsel/upgrade", "select", "none");
    file.owned("popularity-contest", "popularity-contest/participate", "boolean", "false");
}

fn end(file: &mut File, settings: &Resolved, target: &Target<'_>) {
    file.section("Reports and end");
    file.set("preseed/early_command", "string", &steps::wget(target, ReportStage::Started));
    let script = quote::one_line(&in_target(settings, target));
    // The installer copies its own interfaces file into the system after this.
    let late = format!(
        "printf '%b' {script} >/target/root/lastmile-setup; \
         if in-target sh /root/lastmile-setup; then {}; else {}; fi; rm -f /target/root/lastmile-setup{}",
        steps::wget(target, ReportStage::Done),
        steps::wget(target, ReportStage::Failed).replace("/failed'", "/failed?text=a+last+step+failed'"),
        if settings.links.is_empty() {
            ""
        } else {
            "; cp /target/etc/network/interfaces /etc/network/interfaces"
        },
    );
    file.set("preseed/late_command", "string", &late);
    file.set("finish-install/reboot_in_progress", "note", "");
    if settings.at_end == AtEnd::PowerOff {
        file.yes("debian-installer/exit/poweroff");
    }
}

/// What is done within the new system.
fn in_target(settings: &Resolved, target: &Target<'_>) -> String {
    let mut script = String::from("set -e\n");
    for user in settings.users.iter().skip(1) {
        let hash = user.password.as_ref().map_or_else(|| "!".into(), |password| target.hash(password));
        let _ = writeln!(
            script,
            "useradd -m -s /bin/bash -c {} -p {} {}",
            quote::shell(&user.full_name),
            quote::shell(&hash),
            user.login
        );
        for group in groups(user) {
            let _ = writeln!(script, "usermod -aG {group} {}", user.login);
        }
    }
    for user in &settings.users {
        steps::keys(&mut script, &user.login, &user.keys);
        steps::sudoers(&mut script, user);
    }
    steps::keys(&mut script, "root", &settings.root_keys);
    if !settings.ntp.is_empty() {
        let _ = writeln!(script, "mkdir -p /etc/systemd/timesyncd.conf.d");
        let text = format!("[Time]\nNTP={}\n", settings.ntp.join(" "));
        script.push_str(&quote::here_document(&text, "/etc/systemd/timesyncd.conf.d/lastmile.conf"));
    }
    interfaces(&mut script, settings);
    steps::first_boot(&mut script, settings, target);
    steps::last_steps(&mut script, settings);
    script
}

/// The network of the installed system (interfaces(5)). The name of a NIC is found by its address, on the machine.
fn interfaces(script: &mut String, settings: &Resolved) {
    if settings.links.is_empty() {
        return;
    }
    script.push_str(
        "nic() { for n in /sys/class/net/*; do [ \"$(cat $n/address)\" = \"$1\" ] && echo ${n##*/}; done | head -n 1; }\n",
    );
    let by_default = "nic=$(ip -o route show default | sed -n 's/.* dev \\([^ ]*\\).*/\\1/p' | head -n 1)";
    let variable = |name: &str| format!("if_{}", name.replace(['-', '.'], "_"));
    for link in &settings.links {
        let name = variable(&link.name);
        let _ = match &link.kind {
            LinkKind::Mac(mac) => writeln!(script, "{name}=$(nic {mac})"),
            LinkKind::Booting => writeln!(script, "{by_default}; {name}=$nic"),
            LinkKind::Device(device) => writeln!(script, "{name}={device}"),
            LinkKind::Bond(..) | LinkKind::Bridge(_) | LinkKind::Vlan(..) => {
                writeln!(script, "{name}={}", link.name)
            }
        };
    }
    script.push_str("{\necho 'auto lo'\necho 'iface lo inet loopback'\n");
    for link in &settings.links {
        stanza(script, link, settings, &variable);
    }
    script.push_str("} >/etc/network/interfaces\n");
    if !settings.dns.is_empty() {
        let lines: Vec<String> = settings.dns.iter().map(|server| format!("nameserver {server}")).collect();
        script.push_str(&quote::here_document(&lines.join("\n"), "/etc/resolv.conf"));
    }
}

fn stanza(script: &mut String, link: &Link, settings: &Resolved, variable: &impl Fn(&str) -> String) {
    let name = variable(&link.name);
    let (method, nets) = match &link.addressing {
        Addressing::None => ("manual", &[][..]),
        Addressing::Dhcp => ("dhcp", &[][..]),
        Addressing::Fixed(nets) => ("static", nets.as_slice()),
    };
    let _ = writeln!(script, "echo \"auto ${name}\"\necho \"iface ${name} inet {method}\"");
    let mut say = |text: String| {
        let _ = writeln!(script, "echo \"  {text}\"");
    };
    if let Some(net) = nets.first() {
        say(format!("address {net}"));
    }
    if let Some(router) = link.router {
        say(format!("gateway {router}"));
    }
    if let Some(mtu) = link.mtu {
        say(format!("mtu {mtu}"));
    }
    for net in nets.iter().skip(1) {
        say(format!("up ip address add {net} dev ${name}"));
    }
    if !settings.dns.is_empty() && link.addressing != Addressing::None {
        let servers: Vec<String> = settings.dns.iter().map(ToString::to_string).collect();
        say(format!("dns-nameservers {}", servers.join(" ")));
    }
    let names = |parts: &[String]| {
        parts.iter().map(|part| format!("${}", variable(part))).collect::<Vec<_>>().join(" ")
    };
    match &link.kind {
        LinkKind::Bond(of, mode) => {
            say(format!("bond-slaves {}", names(of)));
            say(format!("bond-mode {}", mode.as_str()));
            say("bond-miimon 100".into());
        }
        LinkKind::Bridge(of) => say(format!("bridge_ports {}", names(of))),
        LinkKind::Vlan(tag, on) => {
            say(format!("vlan-raw-device ${}", variable(on)));
            say(format!("vlan-id {tag}"));
        }
        LinkKind::Mac(_) | LinkKind::Booting | LinkKind::Device(_) => {}
    }
}
