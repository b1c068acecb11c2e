//! The network of the installed system, set up from within it.

use std::fmt::Write;

use lastmile_formats::quote;

use crate::decide::answers::{Addressing, Link, LinkKind, Resolved};

/// The network of the installed system (interfaces(5)). The name of a NIC is found by its address, on the machine.
pub(super) fn interfaces(script: &mut String, settings: &Resolved) {
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
    // The DHCP client would write its server's over them.
    if !settings.dns.is_empty() && settings.links.iter().any(|link| link.addressing == Addressing::Dhcp) {
        let servers: Vec<String> = settings.dns.iter().map(ToString::to_string).collect();
        let _ = writeln!(
            script,
            "echo 'supersede domain-name-servers {};' >>/etc/dhcp/dhclient.conf",
            servers.join(", ")
        );
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
