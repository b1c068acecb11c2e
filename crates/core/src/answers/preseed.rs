//! The answer file of installers that read a debconf preseed (Debian installation guide, appendix B).

use std::fmt::Write;

use super::{AnswersVersion, AtEnd, CryptHash, Layout, Settings, Target};
use crate::install::ReportStage;

/// Writes the file. Every value was checked to be one line when the answers were saved.
pub(super) fn render(answers: &AnswersVersion, target: &Target<'_>) -> String {
    let mut file = File::default();
    let settings = &answers.settings;
    file.comment(&format!("Answers {} v{} for {}", answers.name, answers.number, target.host_name));
    if let Some(install) = target.install {
        file.comment(&format!("Install {} of {} r{}", install.number, install.image, install.image_revision));
    }
    locale(&mut file, settings);
    network(&mut file, settings, target);
    mirror(&mut file, settings);
    accounts(&mut file, settings);
    clock(&mut file, settings);
    disk(&mut file, settings);
    packages(&mut file, settings);
    end(&mut file, settings, target);
    file.text
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

fn locale(file: &mut File, settings: &Settings<CryptHash>) {
    file.section("Language and keyboard");
    file.set("debian-installer/locale", "string", &settings.locale);
    file.set("keyboard-configuration/xkb-keymap", "select", &settings.keyboard);
}

fn network(file: &mut File, settings: &Settings<CryptHash>, target: &Target<'_>) {
    file.section("Network");
    file.set("netcfg/choose_interface", "select", "auto");
    file.set("netcfg/get_hostname", "string", target.host_name);
    // What DHCP says must not win over the name the record knows.
    file.set("netcfg/hostname", "string", target.host_name);
    let domain = settings.domain.as_deref().or(target.domain).unwrap_or_default();
    file.set("netcfg/get_domain", "string", domain);
    file.no("hw-detect/load_firmware");
}

fn mirror(file: &mut File, settings: &Settings<CryptHash>) {
    let Some(mirror) = &settings.mirror else { return };
    file.section("Package mirror");
    file.set("mirror/country", "string", "manual");
    file.set("mirror/protocol", "select", "http");
    file.set("mirror/http/hostname", "string", &mirror.host);
    file.set("mirror/http/directory", "string", &mirror.directory);
    file.set("mirror/http/proxy", "string", mirror.proxy.as_deref().unwrap_or_default());
}

fn accounts(file: &mut File, settings: &Settings<CryptHash>) {
    file.section("Accounts");
    match &settings.root_password {
        Some(hash) => {
            file.yes("passwd/root-login");
            file.set("passwd/root-password-crypted", "password", hash.as_str());
        }
        None => file.no("passwd/root-login"),
    }
    let user = &settings.user;
    file.yes("passwd/make-user");
    let full_name = if user.full_name.is_empty() { &user.name } else { &user.full_name };
    file.set("passwd/user-fullname", "string", full_name);
    file.set("passwd/username", "string", &user.name);
    file.set("passwd/user-password-crypted", "password", user.password.as_str());
}

fn clock(file: &mut File, settings: &Settings<CryptHash>) {
    file.section("Clock");
    file.yes("clock-setup/utc");
    file.set("time/zone", "string", &settings.time_zone);
    file.yes("clock-setup/ntp");
    if let Some(server) = &settings.ntp {
        file.set("clock-setup/ntp-server", "string", server);
    }
}

fn disk(file: &mut File, settings: &Settings<CryptHash>) {
    file.section("Disk: all of it is taken");
    if let Some(device) = &settings.disk.device {
        file.set("partman-auto/disk", "string", device);
    }
    let lvm = settings.disk.layout == Layout::Lvm;
    file.set("partman-auto/method", "string", if lvm { "lvm" } else { "regular" });
    if lvm {
        file.set("partman-auto-lvm/guided_size", "string", "max");
    }
    file.yes("partman-lvm/device_remove_lvm");
    file.yes("partman-md/device_remove_md");
    file.yes("partman-lvm/confirm");
    file.yes("partman-lvm/confirm_nooverwrite");
    file.set("partman-auto/choose_recipe", "select", "atomic");
    file.set("partman/default_filesystem", "string", settings.disk.file_system.as_str());
    file.yes("partman-partitioning/confirm_write_new_label");
    file.set("partman/choose_partition", "select", "finish");
    file.yes("partman/confirm");
    file.yes("partman/confirm_nooverwrite");
    file.yes("grub-installer/only_debian");
    // `default` is the disk that the system was put on.
    file.set("grub-installer/bootdev", "string", settings.disk.device.as_deref().unwrap_or("default"));
}

fn packages(file: &mut File, settings: &Settings<CryptHash>) {
    file.section("Packages");
    file.owned("tasksel", "tasksel/first", "multiselect", "standard");
    file.set("pkgsel/include", "string", &settings.packages.join(" "));
    file.set("pkgsel/upgrade", "select", "none");
    file.owned("popularity-contest", "popularity-contest/participate", "boolean", "false");
}

fn end(file: &mut File, settings: &Settings<CryptHash>, target: &Target<'_>) {
    file.section("Reports and end");
    let report = |stage| format!("wget -q -O /dev/null '{}' || true", target.report_url(stage));
    file.set("preseed/early_command", "string", &report(ReportStage::Started));
    file.set("preseed/late_command", "string", &report(ReportStage::Done));
    file.set("finish-install/reboot_in_progress", "note", "");
    if settings.at_end == AtEnd::PowerOff {
        file.yes("debian-installer/exit/poweroff");
    }
}

#[cfg(test)]
mod tests {
    use std::net::Ipv4Addr;

    use super::*;
    use crate::{answers::tests::quay_server, boot::Service};

    #[test]
    fn the_file_says_what_the_answers_say() {
        let mut answers = quay_server();
        answers.settings.disk.device = Some("/dev/sda".into());
        let target = Target {
            host_name: "auklet-gate",
            domain: Some("gannet.example"),
            install: None,
            service: Service { address: Ipv4Addr::new(192, 0, 2, 2), http_port: 80, https_port: None },
        };
        let text = render(&answers, &target);
        for line in [
            "d-i debian-installer/locale string en_GB.UTF-8",
            "d-i keyboard-configuration/xkb-keymap select gb",
            "d-i netcfg/get_hostname string auklet-gate",
            "d-i netcfg/get_domain string gannet.example",
            "d-i time/zone string Europe/London",
            "d-i clock-setup/ntp-server string time.gannet.example",
            "d-i passwd/username string purser",
            "d-i passwd/user-fullname string Ship's Purser",
            "d-i partman-auto/disk string /dev/sda",
            "d-i partman-auto/method string lvm",
            "d-i pkgsel/include string openssh-server chrony",
            "d-i preseed/late_command string wget -q -O /dev/null 'http://192.0.2.2/report/(made when armed)/done' || true",
        ] {
            assert!(text.lines().any(|found| found == line), "no line {line:?} in\n{text}");
        }
        assert!(text.contains("passwd/root-password-crypted password $6$") && !text.contains("dawn"));
        assert!(!text.contains("exit/poweroff"));
    }

    #[test]
    fn without_a_password_root_is_locked() {
        let mut answers = quay_server();
        answers.settings.root_password = None;
        answers.settings.at_end = AtEnd::PowerOff;
        let target = Target {
            host_name: "fulmar-chart",
            domain: None,
            install: None,
            service: Service { address: Ipv4Addr::new(192, 0, 2, 2), http_port: 8080, https_port: None },
        };
        let text = render(&answers, &target);
        assert!(text.contains("passwd/root-login boolean false") && !text.contains("root-password"));
        assert!(text.contains("exit/poweroff boolean true") && text.contains("http://192.0.2.2:8080/report"));
    }
}
