//! The answer file of installers that read a debconf preseed (Debian installation guide, appendix B).

use std::fmt::Write;

use lastmile_formats::quote;

use super::{AnswerFile, Parts, Target, heading, steps};
use crate::{
    base::Fault,
    decide::answers::{LinkKind, Resolution, Resolved, Source},
    model::{
        answers::{AtEnd, Sudo},
        install::ReportStage,
    },
};

mod disks;
mod network;

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
    disks::disks(&mut file, settings, target);
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
                let fix = "Write owner, question, type and value: d-i time/zone string Europe/London.";
                return Err(parts.fault(name, index + 1, 1, &format!("'{line}' sets nothing"), fix));
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
    file.set("keyboard-configuration/xkb-keymap", "select", &settings.keyboard.to_string());
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
    for (index, (name, repository)) in settings.software.repositories.iter().enumerate() {
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
    // Groups that are not there would be passed over in silence: they are given at the end, like all others'.
    file.set("passwd/user-default-groups", "string", "");
}

fn groups(user: &crate::decide::answers::Account) -> Vec<String> {
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

fn packages(file: &mut File, settings: &Resolved) {
    file.section("Packages");
    let sets = settings.software.sets();
    let sets = if sets.is_empty() { "standard".into() } else { sets.join(", ") };
    file.owned("tasksel", "tasksel/first", "multiselect", &sets);
    let mut packages = settings.software.packages().to_vec();
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

/// Lines of the installer's log that tell how far it is, and of faults.
const LOG_LINES: &str = "main-menu|base-installer|debootstrap|in-target|apt-install|partman|grub-installer|finish-install|rror|fail";

fn end(file: &mut File, settings: &Resolved, target: &Target<'_>) {
    file.section("Reports and end");
    let send_log = steps::send_log_by_wget(target, "/var/log/syslog", LOG_LINES);
    let early = format!("{}; {send_log}", steps::wget(target, ReportStage::Started));
    file.set("preseed/early_command", "string", &early);
    let script = quote::one_line(&in_target(settings, target));
    // The installer copies its own interfaces file into the system after this.
    let late = format!(
        "printf '%b' {script} >/target/root/lastmile-setup; \
         if in-target sh /root/lastmile-setup; then {}; else {}; fi; rm -f /target/root/lastmile-setup{}",
        steps::wget(target, ReportStage::Done),
        steps::wget_failed(target, "a+last+step+failed"),
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
    }
    for user in &settings.users {
        for group in groups(user) {
            let _ = writeln!(script, "groupadd -f {group}; usermod -aG {group} {}", user.login);
        }
        steps::keys(&mut script, &user.login, &user.keys);
        steps::sudoers(&mut script, user);
    }
    steps::keys(&mut script, "root", &settings.root_keys);
    if !settings.ntp.is_empty() {
        let _ = writeln!(script, "mkdir -p /etc/systemd/timesyncd.conf.d");
        let text = format!("[Time]\nNTP={}\n", settings.ntp.join(" "));
        script.push_str(&quote::here_document(&text, "/etc/systemd/timesyncd.conf.d/lastmile.conf"));
    }
    network::interfaces(&mut script, settings);
    steps::first_boot(&mut script, settings, target);
    steps::last_steps(&mut script, settings);
    script
}
