//! The answer file of set-ups that read an XML file for unattended installation (its passes and components as their
//! reference documents them).

use std::net::Ipv4Addr;

use document::Document;
use ipnet::Ipv4Net;
use lastmile_formats::cpu::Cpu;
use quick_xml::events::Event;

use super::{AnswerFile, Parts, Target, heading};
use crate::{
    base::Fault,
    decide::answers::{Addressing, Link, LinkKind, Resolution, Resolved},
    model::{
        answers::{Firewall, Size, Sudo},
        image::Family,
    },
};

mod disks;
mod document;
mod names;
mod setup;

/// What this format cannot say for reasons of its own: names that it has no word for.
pub(super) fn faults(settings: &Resolved) -> Vec<Fault> {
    let mut faults = Vec::new();
    let mut add = |place: &str, what: String, fix: &str| {
        faults.push(Fault { place: place.into(), what, fix: fix.into() });
    };
    if names::language(&settings.locale).is_none() {
        add(
            "locale",
            format!("set-up has no language for {}", settings.locale),
            "Give a language with its region, as in en_GB.UTF-8.",
        );
    }
    if names::keyboard(&settings.keyboard.to_string()).is_none() {
        add(
            "keyboard",
            format!("no identifier is known here for the keyboard {}", settings.keyboard),
            "Choose another, as in us or gb.",
        );
    }
    if names::time_zone(&settings.time_zone).is_none() {
        add(
            "time_zone",
            format!("no name is known here that set-up has for {}", settings.time_zone),
            "Choose another zone of the same time, as in Europe/London.",
        );
    }
    if settings.software.edition.is_none() && settings.software.product_key.is_none() {
        add(
            "software.edition",
            "set-up asks which edition is to be installed".into(),
            "Name one that `lastmile image show` lists, or give a product key.",
        );
    }
    if settings.users.is_empty() && settings.root_password.is_none() {
        add("users", "set-up asks for a user".into(), "Give one with a password saved as `sealed`.");
    }
    for (index, place) in settings.disks.places().iter().enumerate() {
        if place.size == Size::Rest
            && settings.disks.places().iter().skip(index + 1).any(|later| later.disk == place.disk)
        {
            add(
                &format!("storage.volumes[{index}]"),
                "set-up can give the rest of a disk to its last volume only".into(),
                "Put it last.",
            );
        }
    }
    faults
}

/// Writes the file, and the script that it fetches in the pass that makes the system its own.
pub(super) fn write(
    resolution: &Resolution,
    target: &Target<'_>,
    parts: &Parts,
) -> Result<Vec<AnswerFile>, Fault> {
    for name in crate::model::answers::places(Family::UnattendedXml) {
        check_xml(parts, name)?;
    }
    let settings = &resolution.settings;
    let mut document = Document::new(target.cpu.unwrap_or(Cpu::X64));
    for line in heading(resolution, target) {
        document.comment(&line);
    }
    document.open("unattend", &[("xmlns", "urn:schemas-microsoft-com:unattend")]);
    document.pass("windowsPE", parts.at("windows_pe"), |d| windows_pe(d, settings));
    document.pass("offlineServicing", parts.at("offline_servicing"), |_| ());
    document.pass("specialize", parts.at("specialize"), |d| specialize(d, settings, target));
    document.pass("oobeSystem", parts.at("oobe_system"), |d| oobe_system(d, settings, target));
    document.close("unattend");
    Ok(vec![
        AnswerFile { name: "autounattend.xml", text: document.finish() },
        AnswerFile { name: "setup.ps1", text: setup::setup_script(settings, target) },
    ])
}

/// A fragment is whole elements.
fn check_xml(parts: &Parts, name: &str) -> Result<(), Fault> {
    let text = format!("<x xmlns:wcm=\"x\">{}</x>", parts.at(name));
    let mut reader = quick_xml::Reader::from_str(&text);
    loop {
        match reader.read_event() {
            Ok(Event::Eof) => return Ok(()),
            Ok(_) => {}
            Err(error) => {
                let offset = usize::try_from(reader.error_position()).unwrap_or_default();
                let head = "<x xmlns:wcm=\"x\">".len();
                let (line, column) =
                    crate::model::answers::position(parts.at(name), offset.saturating_sub(head));
                let fix = "Write whole <component> elements, with every one closed.";
                return Err(parts.fault(name, line, column, &error.to_string(), fix));
            }
        }
    }
}

fn windows_pe(document: &mut Document, settings: &Resolved) {
    document.component("Microsoft-Windows-International-Core-WinPE", |d| d.languages(settings, true));
    document.component("Microsoft-Windows-Setup", |d| {
        let system = disks::disk_configuration(d, &settings.disks);
        d.group("ImageInstall", |d| {
            d.group("OSImage", |d| {
                if let Some(edition) = &settings.software.edition {
                    d.group("InstallFrom", |d| {
                        d.item("MetaData", |d| {
                            d.leaf("Key", "/IMAGE/NAME");
                            d.leaf("Value", edition);
                        });
                    });
                }
                d.group("InstallTo", |d| {
                    d.leaf("DiskID", &system.0.to_string());
                    d.leaf("PartitionID", &system.1.to_string());
                });
            });
        });
        d.group("UserData", |d| {
            d.group("ProductKey", |d| {
                if let Some(key) = &settings.software.product_key {
                    d.leaf("Key", key);
                }
                d.leaf("WillShowUI", "OnError");
            });
            d.leaf("AcceptEula", "true");
        });
    });
}

fn specialize(document: &mut Document, settings: &Resolved, target: &Target<'_>) {
    if let Some(firewall) = settings.security.firewall {
        document.component("Networking-MPSSVC-Svc", |d| set_firewall(d, firewall));
    }
    document.component("Microsoft-Windows-Deployment", |d| run_last_steps(d, target));
    document.component("Microsoft-Windows-Shell-Setup", |d| {
        d.leaf("ComputerName", &settings.host_name);
        if let Some(key) = &settings.software.product_key {
            d.leaf("ProductKey", key);
        }
        d.leaf("TimeZone", names::time_zone(&settings.time_zone).unwrap_or_default());
    });
    let set: Vec<_> = settings.links.iter().filter_map(InterfaceAddresses::of).collect();
    if !set.is_empty() {
        document.component("Microsoft-Windows-TCPIP", |d| {
            d.group("Interfaces", |d| set.iter().for_each(|interface| interface.write(d)));
        });
    }
    set_name_servers(document, settings);
}

fn set_firewall(document: &mut Document, firewall: Firewall) {
    let on = if firewall == Firewall::On { "true" } else { "false" };
    for profile in ["Domain", "Private", "Public"] {
        document.leaf(&format!("{profile}Profile_EnableFirewall"), on);
    }
}

/// Has the script fetched and run that makes the system its own.
fn run_last_steps(document: &mut Document, target: &Target<'_>) {
    let url = target.file_url("setup.ps1");
    document.group("RunSynchronous", |d| {
        d.item("RunSynchronousCommand", |d| {
            d.leaf("Order", "1");
            d.leaf("Description", "Last steps");
            let run =
                format!("powershell.exe -NoProfile -ExecutionPolicy Bypass -Command \"irm {url} | iex\"");
            d.leaf("Path", &run);
        });
    });
}

/// What is set of an interface that is known by its MAC address: fixed addresses, or DHCP where none are given.
struct InterfaceAddresses<'a> {
    mac: String,
    fixed: &'a [Ipv4Net],
    router: Option<Ipv4Addr>,
}

impl<'a> InterfaceAddresses<'a> {
    /// `None` where set-up is left to what it does by itself.
    fn of(link: &'a Link) -> Option<Self> {
        let LinkKind::Mac(mac) = &link.kind else { return None };
        let (fixed, router) = match &link.addressing {
            Addressing::Fixed(nets) => (nets.as_slice(), link.router),
            Addressing::Dhcp if !link.boots => ([].as_slice(), None),
            Addressing::Dhcp | Addressing::None => return None,
        };
        Some(Self { mac: mac.dashed().to_uppercase(), fixed, router })
    }

    fn write(&self, document: &mut Document) {
        document.item("Interface", |d| {
            let by_dhcp = if self.fixed.is_empty() { "true" } else { "false" };
            d.group("Ipv4Settings", |d| d.leaf("DhcpEnabled", by_dhcp));
            d.leaf("Identifier", &self.mac);
            if self.fixed.is_empty() {
                return;
            }
            d.group("UnicastIpAddresses", |d| d.addresses(self.fixed));
            if let Some(router) = self.router {
                d.group("Routes", |d| {
                    d.item("Route", |d| {
                        d.leaf("Identifier", "0");
                        d.leaf("NextHopAddress", &router.to_string());
                        d.leaf("Prefix", "0.0.0.0/0");
                    });
                });
            }
        });
    }
}

/// The domain, and the name servers of each interface that is known by its MAC address.
fn set_name_servers(document: &mut Document, settings: &Resolved) {
    let named = |link: &Link| match &link.kind {
        LinkKind::Mac(mac) if link.addressing != Addressing::None => Some(mac.dashed().to_uppercase()),
        _ => None,
    };
    let named: Vec<String> = settings.links.iter().filter_map(named).collect();
    let domain = settings.domain.as_ref().filter(|domain| !domain.is_empty());
    let has_servers = !settings.dns.is_empty() && !named.is_empty();
    if domain.is_none() && !has_servers {
        return;
    }
    document.component("Microsoft-Windows-DNS-Client", |d| {
        if let Some(domain) = domain {
            d.leaf("DNSDomain", domain);
        }
        if !has_servers {
            return;
        }
        d.group("Interfaces", |d| {
            for mac in &named {
                d.item("Interface", |d| {
                    d.group("DNSServerSearchOrder", |d| d.addresses(&settings.dns));
                    d.leaf("Identifier", mac);
                });
            }
        });
    });
}

fn oobe_system(document: &mut Document, settings: &Resolved, target: &Target<'_>) {
    document.component("Microsoft-Windows-International-Core", |d| d.languages(settings, false));
    document.component("Microsoft-Windows-Shell-Setup", |d| {
        d.group("OOBE", |d| {
            d.leaf("HideEULAPage", "true");
            d.leaf("HideOnlineAccountScreens", "true");
            d.leaf("HideWirelessSetupInOOBE", "true");
            d.leaf("ProtectYourPC", "3");
        });
        d.group("UserAccounts", |d| {
            if let Some(password) = &settings.root_password {
                d.group("AdministratorPassword", |d| {
                    d.leaf("Value", &obscured(&target.plain(password), "AdministratorPassword"));
                    d.leaf("PlainText", "false");
                });
            }
            if !settings.users.is_empty() {
                d.group("LocalAccounts", |d| {
                    for user in &settings.users {
                        d.item("LocalAccount", |d| {
                            if let Some(password) = &user.password {
                                d.group("Password", |d| {
                                    d.leaf("Value", &obscured(&target.plain(password), "Password"));
                                    d.leaf("PlainText", "false");
                                });
                            }
                            if !user.full_name.is_empty() {
                                d.leaf("DisplayName", &user.full_name);
                            }
                            let mut groups = user.groups.clone();
                            groups.push(if user.sudo == Sudo::No {
                                "Users".into()
                            } else {
                                "Administrators".into()
                            });
                            d.leaf("Group", &groups.join(";"));
                            d.leaf("Name", &user.login);
                        });
                    }
                });
            }
        });
        d.leaf("TimeZone", names::time_zone(&settings.time_zone).unwrap_or_default());
    });
}

/// As set-up wants it where it is not to stand in clear: base64 of the password with the element's name behind it, in
/// UTF-16LE. Whoever reads the file can undo it.
fn obscured(password: &str, element: &str) -> String {
    use base64::Engine;
    if password == super::HIDDEN {
        return password.into();
    }
    let bytes: Vec<u8> = format!("{password}{element}").encode_utf16().flat_map(u16::to_le_bytes).collect();
    base64::engine::general_purpose::STANDARD.encode(bytes)
}
