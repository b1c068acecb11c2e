//! The network of the installed system.

use std::{collections::BTreeMap, net::Ipv4Addr};

use ipnet::Ipv4Net;
use lastmile_formats::mac::{MAC_FIX, Mac};
use serde::{Deserialize, Serialize};

use super::{Texts, Verdict, wrong};

/// The network of the installed system.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Network {
    /// Name servers; what DHCP says, or the subnet's, if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = json!(["192.0.2.3"])))]
    pub dns: Option<Vec<String>>,
    /// Its interfaces, by name. The name of a bond, a bridge or a VLAN is what the system calls it; that of a NIC is only
    /// how others here refer to it. None at all: the NIC that boots, by DHCP.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(example = json!({ "lan": {} })))]
    pub interfaces: BTreeMap<String, Interface>,
}

/// One interface. It is a bond, a bridge or a VLAN if it says so, and else a NIC.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Interface {
    /// A NIC by its MAC address. Neither this nor `device`: the NIC that boots.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = "{{ mac }}"))]
    pub mac: Option<String>,
    /// A NIC by the name that the installed system gives it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = "eno1"))]
    pub device: Option<String>,
    /// The interfaces that a bond joins.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = json!(["first", "second"])))]
    pub bond: Option<Vec<String>>,
    /// How a bond shares them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bond_mode: Option<BondMode>,
    /// The interfaces that a bridge joins.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = json!(["lan"])))]
    pub bridge: Option<Vec<String>>,
    /// The tag of a VLAN (IEEE 802.1Q), 1 to 4094.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = "30"))]
    pub vlan: Option<String>,
    /// The interface that a VLAN is on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = "lan"))]
    pub on: Option<String>,
    /// `dhcp`, or addresses with their prefix length: `192.0.2.10/24`. Left out: none, and `dhcp` for the NIC that boots.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = json!(["192.0.2.10/24"])))]
    pub addresses: Option<Vec<String>>,
    /// The default route.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = "192.0.2.1"))]
    pub router: Option<String>,
    /// Largest packet in bytes; 1500 if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(maximum = 65_535))]
    #[cfg_attr(feature = "schema", schema(example = 9000))]
    pub mtu: Option<u16>,
}

/// How a bond shares its interfaces, by the Linux bonding driver's names.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum BondMode {
    /// One works, the others stand by.
    #[default]
    #[serde(rename = "active-backup")]
    ActiveBackup,
    /// Link aggregation with the switch (IEEE 802.1AX, LACP).
    #[serde(rename = "802.3ad")]
    Lacp,
    /// In turns.
    #[serde(rename = "balance-rr")]
    RoundRobin,
    /// By a hash of the addresses.
    #[serde(rename = "balance-xor")]
    Xor,
}

impl BondMode {
    /// Its name as the kernel's driver has it.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::ActiveBackup => "active-backup",
            Self::Lacp => "802.3ad",
            Self::RoundRobin => "balance-rr",
            Self::Xor => "balance-xor",
        }
    }
}

impl Interface {
    /// Whether it is a NIC of the machine.
    #[must_use]
    pub const fn is_nic(&self) -> bool {
        self.bond.is_none() && self.bridge.is_none() && self.vlan.is_none()
    }

    /// The interfaces it is made of.
    pub fn parts(&self) -> impl Iterator<Item = &String> {
        self.bond.iter().flatten().chain(self.bridge.iter().flatten()).chain(&self.on)
    }
}

impl Network {
    pub(super) fn check(&self, texts: &mut Texts<'_>) {
        texts.list("network.dns", self.dns.as_deref(), check_address);
        for (name, interface) in &self.interfaces {
            let place = format!("network.interfaces.{name}");
            if let Err((what, fix)) = check_interface_name(name) {
                texts.faults.add(&place, what, fix);
            }
            let at = |key: &str| format!("{place}.{key}");
            texts.each(&at("mac"), interface.mac.iter(), |text| {
                text.parse::<Mac>().map(drop).map_err(|error| (error.to_string(), MAC_FIX.into()))
            });
            texts.each(&at("device"), interface.device.iter(), check_interface_name);
            texts.each(&at("vlan"), interface.vlan.iter(), |text| match text.parse::<u16>() {
                Ok(1..=4094) => Ok(()),
                _ => wrong(format!("'{text}' is no VLAN's tag"), "Give a number from 1 to 4094."),
            });
            texts.list(&at("addresses"), interface.addresses.as_deref(), |text| {
                if text == "dhcp" {
                    return Ok(());
                }
                match text.parse::<Ipv4Net>() {
                    Ok(net)
                        if net.prefix_len() == 32
                            || (net.addr() != net.network() && net.addr() != net.broadcast()) =>
                    {
                        Ok(())
                    }
                    Ok(net) => wrong(
                        format!("{net} is the address of the network itself or its broadcast address"),
                        "Give the host's own address in it.",
                    ),
                    Err(_) => wrong(
                        format!("'{text}' is no address with its prefix length"),
                        "Write dhcp, or an address as in 192.0.2.10/24.",
                    ),
                }
            });
            texts.each(&at("router"), interface.router.iter(), check_address);
            if interface.mtu.is_some_and(|mtu| mtu < 576) {
                texts.faults.add(
                    at("mtu"),
                    "less than 576 bytes",
                    "Every host takes 576 (RFC 1122, section 3.3.3).",
                );
            }
            self.check_shape(name, interface, texts);
        }
    }

    /// An interface is one thing. A layer need not say all of it.
    fn check_shape(&self, name: &str, interface: &Interface, texts: &mut Texts<'_>) {
        let place = format!("network.interfaces.{name}");
        let kinds = [
            ("bond", interface.bond.is_some()),
            ("bridge", interface.bridge.is_some()),
            ("vlan", interface.vlan.is_some()),
            ("mac", interface.mac.is_some()),
            ("device", interface.device.is_some()),
        ];
        let said: Vec<_> = kinds.iter().filter(|(_, is_said)| *is_said).map(|(key, _)| *key).collect();
        if said.len() > 1 {
            texts.faults.add(
                &place,
                format!("it has {} at once", said.join(" and ")),
                "Say one of them: what it is.",
            );
        }
    }

    /// What is wrong between the interfaces, all layers taken together.
    pub(crate) fn check_whole(&self, faults: &mut crate::base::Faults) {
        for (name, interface) in &self.interfaces {
            let place = format!("network.interfaces.{name}");
            for part in interface.parts() {
                match self.interfaces.get(part) {
                    None => faults.add(
                        &place,
                        format!("no interface is named '{part}'"),
                        "Add it under network.interfaces, or name one that is there.",
                    ),
                    Some(_) if part == name => {
                        faults.add(&place, "it is made of itself", "Name other interfaces.");
                    }
                    Some(inner)
                        if interface.on.is_none()
                            && inner.addresses.as_ref().is_some_and(|all| !all.is_empty()) =>
                    {
                        faults.add(
                            &place,
                            format!("'{part}' has addresses and is part of '{name}'"),
                            format!("Give the addresses to '{name}'."),
                        );
                    }
                    Some(_) => {}
                }
            }
            if interface.vlan.is_some() != interface.on.is_some() {
                faults.add(
                    &place,
                    "a VLAN needs `vlan` and `on`",
                    "Give both: the tag, and the interface it is on.",
                );
            }
            if interface.bond_mode.is_some() && interface.bond.is_none() {
                faults.add(
                    format!("{place}.bond_mode"),
                    "it is no bond",
                    "Give `bond`, the interfaces it joins.",
                );
            }
            let is_dhcp = |text: &String| text == "dhcp";
            let addresses = interface.addresses.as_deref().unwrap_or_default();
            if addresses.iter().any(is_dhcp) && addresses.len() > 1 {
                faults.add(
                    format!("{place}.addresses"),
                    "dhcp and fixed addresses at once",
                    "Give either `dhcp` or the addresses.",
                );
            }
            let nets: Vec<Ipv4Net> = addresses.iter().filter_map(|text| text.parse().ok()).collect();
            let router: Option<Ipv4Addr> = interface.router.as_ref().and_then(|text| text.parse().ok());
            if let Some(router) = router.filter(|router| !nets.iter().any(|net| net.contains(router))) {
                let fix = if nets.is_empty() {
                    "Leave it out: DHCP says it."
                } else {
                    "Give a router on the same network."
                };
                faults.add(format!("{place}.router"), format!("{router} is in none of its networks"), fix);
            }
        }
        let booting = self
            .interfaces
            .iter()
            .filter(|(_, one)| one.is_nic() && one.mac.is_none() && one.device.is_none());
        let booting: Vec<_> = booting.map(|(name, _)| name.as_str()).collect();
        if booting.len() > 1 {
            faults.add(
                "network.interfaces",
                format!("{} all mean the NIC that boots", booting.join(" and ")),
                "Say `mac` or `device` of all but one.",
            );
        }
    }
}

fn check_address(text: &str) -> Verdict {
    match text.parse::<Ipv4Addr>() {
        Ok(_) => Ok(()),
        Err(_) => wrong(format!("'{text}' is no IPv4 address"), "Write it as in 192.0.2.1."),
    }
}

/// As Linux takes them: at most 15 bytes.
fn check_interface_name(name: &str) -> Verdict {
    let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.');
    if (1..=15).contains(&name.len()) && name.chars().all(plain) {
        return Ok(());
    }
    wrong(format!("'{name}' cannot be an interface's name"), "Use 1 to 15 letters, digits, '-', '_' and '.'.")
}
