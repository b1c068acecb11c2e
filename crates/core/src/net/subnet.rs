//! The subnet: an IPv4 network that machines boot on, and what is checked when one is entered.

use std::net::Ipv4Addr;

use ipnet::Ipv4Net;
use jiff::SignedDuration;
use serde::{Deserialize, Serialize};

use super::AddressRange;
use crate::{Fault, Faults, Id, name};

/// Who hands out the addresses.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Mode {
    /// This service does.
    Lease,
    /// Nobody is answered.
    Off,
}

/// What a machine nobody has registered gets.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Newcomers {
    /// An address, but no boot information.
    Nothing,
    /// The site's menu, in which nothing erases a disk.
    Menu,
}

/// An IPv4 network that machines boot on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Subnet {
    /// Identity.
    pub id: Id<Subnet>,
    /// What people call it.
    pub name: String,
    /// Network address and prefix length; host bits are zero.
    pub network: Ipv4Net,
    /// Who hands out addresses.
    pub mode: Mode,
    /// Default router (option 3, RFC 2132, section 3.5).
    pub router: Option<Ipv4Addr>,
    /// Name servers in order of preference (option 6).
    pub dns: Vec<Ipv4Addr>,
    /// Domain name (option 15).
    pub domain: Option<String>,
    /// Time servers (option 42).
    pub ntp: Vec<Ipv4Addr>,
    /// How long an address is lent.
    pub lease: SignedDuration,
    /// Runs of addresses that may be lent, none overlapping another.
    pub pools: Vec<AddressRange>,
    /// The interface whose wire this subnet is on, if it is attached here.
    pub interface: Option<String>,
    /// Relays (giaddr) that may forward for this subnet.
    pub relays: Vec<Ipv4Addr>,
    /// What newcomers get.
    pub newcomers: Newcomers,
}

/// Shortest lease: below it, clients spend their time renewing.
const MIN_LEASE_SECS: i64 = 60;
/// Longest lease: RFC 2131 keeps 2³²−1 for "for ever", which this service never promises.
const MAX_LEASE_SECS: i64 = 366 * 24 * 3600;

/// A subnet as a person enters it, not checked yet.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct SubnetDraft {
    /// What people call it.
    pub name: String,
    /// Network and prefix length: `192.0.2.0/24`.
    pub network: String,
    /// Who hands out addresses.
    #[serde(default = "SubnetDraft::default_mode")]
    pub mode: Mode,
    /// Default router.
    #[serde(default)]
    pub router: Option<String>,
    /// Name servers in order of preference.
    #[serde(default)]
    pub dns: Vec<String>,
    /// Domain name given to machines.
    #[serde(default)]
    pub domain: Option<String>,
    /// Time servers.
    #[serde(default)]
    pub ntp: Vec<String>,
    /// How long an address is lent, in seconds.
    #[serde(default = "SubnetDraft::default_lease_secs")]
    pub lease_secs: i64,
    /// Runs of addresses to lend: `192.0.2.50-192.0.2.99`.
    #[serde(default)]
    pub pools: Vec<String>,
    /// The interface whose wire it is on.
    #[serde(default)]
    pub interface: Option<String>,
    /// Addresses of the relays that may forward for it.
    #[serde(default)]
    pub relays: Vec<String>,
    /// What newcomers get.
    #[serde(default = "SubnetDraft::default_newcomers")]
    pub newcomers: Newcomers,
}

impl SubnetDraft {
    const fn default_mode() -> Mode {
        Mode::Lease
    }
    const fn default_lease_secs() -> i64 {
        8 * 3600
    }
    const fn default_newcomers() -> Newcomers {
        Newcomers::Nothing
    }

    /// A draft with the defaults of every field but these.
    #[must_use]
    pub fn new(name: impl Into<String>, network: impl Into<String>) -> Self {
        Self {
            name: name.into(),
            network: network.into(),
            mode: Self::default_mode(),
            router: None,
            dns: Vec::new(),
            domain: None,
            ntp: Vec::new(),
            lease_secs: Self::default_lease_secs(),
            pools: Vec::new(),
            interface: None,
            relays: Vec::new(),
            newcomers: Self::default_newcomers(),
        }
    }

    /// Checks the draft against itself, the other subnets and the service's own addresses.
    ///
    /// `others` must not hold the subnet that is being replaced.
    ///
    /// # Errors
    /// Everything that is wrong, in the order of the fields.
    pub fn check(
        &self,
        id: Id<Subnet>,
        others: &[impl AsRef<Subnet>],
        own: &[Ipv4Addr],
    ) -> Result<Subnet, Vec<Fault>> {
        let mut faults = Faults::new();
        faults.keep("name", name::check_thing_name(&self.name), name::THING_NAME_MEND);
        if others.iter().any(|other| other.as_ref().name == self.name) {
            faults.add(
                "name",
                format!("a subnet named '{}' exists already", self.name),
                "Choose another name, or change the existing one.",
            );
        }
        let network = self.check_network(&mut faults, others);
        let router = self.router.as_ref().and_then(|text| {
            let router = parse_address(&mut faults, "router", text)?;
            if network.is_some_and(|network| !is_host(network, router)) {
                faults.add(
                    "router",
                    format!("{router} is no host address of {}", self.network),
                    "Give the router's address on this subnet, or leave it out.",
                );
            }
            Some(router)
        });
        let dns = parse_addresses(&mut faults, "dns", &self.dns);
        if let Some(domain) = &self.domain {
            faults.keep("domain", name::check_domain(domain), name::DOMAIN_MEND);
        }
        let ntp = parse_addresses(&mut faults, "ntp", &self.ntp);
        if !(MIN_LEASE_SECS..=MAX_LEASE_SECS).contains(&self.lease_secs) {
            faults.add(
                "lease_secs",
                format!("a lease of {} s", self.lease_secs),
                format!("Give between {MIN_LEASE_SECS} s and {MAX_LEASE_SECS} s (366 days)."),
            );
        }
        let pools = self.check_pools(&mut faults, network, router, own);
        if let Some(interface) = &self.interface
            && !is_interface_name(interface)
        {
            faults.add(
                "interface",
                format!("'{interface}' is no interface name"),
                "Give the name that `ip link` shows, 1 to 15 characters without '/' or space.",
            );
        }
        let relays = parse_addresses(&mut faults, "relays", &self.relays);
        if self.mode != Mode::Off && self.interface.is_none() && self.relays.is_empty() {
            faults.add(
                "interface",
                "neither an interface nor a relay is named, so no machine can reach this subnet",
                "Name the interface it is attached to, or the relays that forward for it.",
            );
        }
        faults.into_result(|| {
            Some(Subnet {
                id,
                name: self.name.clone(),
                network: network?,
                mode: self.mode,
                router,
                dns,
                domain: self.domain.clone(),
                ntp,
                lease: SignedDuration::from_secs(self.lease_secs),
                pools,
                interface: self.interface.clone(),
                relays,
                newcomers: self.newcomers,
            })
        })
    }

    fn check_network(&self, faults: &mut Faults, others: &[impl AsRef<Subnet>]) -> Option<Ipv4Net> {
        let Ok(network) = self.network.trim().parse::<Ipv4Net>() else {
            faults.add(
                "network",
                format!("'{}' is no IPv4 network", self.network),
                "Write address and prefix length, as in 192.0.2.0/24.",
            );
            return None;
        };
        if network.trunc() != network {
            faults.add(
                "network",
                format!("{network} has host bits set"),
                format!("Write {} if that is the network meant.", network.trunc()),
            );
            return None;
        }
        if !(8..=30).contains(&network.prefix_len()) {
            faults.add(
                "network",
                format!("{network} has a prefix of {} bits", network.prefix_len()),
                "Machines boot on networks from /8 to /30.",
            );
            return None;
        }
        for other in others.iter().map(AsRef::as_ref) {
            if other.network.contains(&network.network()) || network.contains(&other.network.network()) {
                faults.add(
                    "network",
                    format!("{network} overlaps subnet '{}' ({})", other.name, other.network),
                    "Give each subnet addresses of its own.",
                );
            }
        }
        Some(network)
    }

    fn check_pools(
        &self,
        faults: &mut Faults,
        network: Option<Ipv4Net>,
        router: Option<Ipv4Addr>,
        own: &[Ipv4Addr],
    ) -> Vec<AddressRange> {
        if self.mode == Mode::Lease && self.pools.is_empty() {
            faults.add(
                "pools",
                "a subnet in mode 'lease' has no pool, so no address can be lent",
                "Add a run of free addresses, as in 192.0.2.50-192.0.2.99, or set the mode to 'off'.",
            );
        }
        let mut pools: Vec<AddressRange> = Vec::new();
        for (index, text) in self.pools.iter().enumerate() {
            let place = format!("pools[{index}]");
            let mend = "Write first and last address, as in 192.0.2.50-192.0.2.99.";
            let Some(pool) = faults.keep(&place, text.parse::<AddressRange>(), mend) else {
                continue;
            };
            if let Some(network) = network {
                if !network.contains(&pool.first()) || !network.contains(&pool.last()) {
                    faults.add(
                        &place,
                        format!("{pool} reaches outside {network}"),
                        format!(
                            "Stay within {} to {}, or widen the mask.",
                            first_host(network),
                            last_host(network)
                        ),
                    );
                } else {
                    let mut holds = |address: Ipv4Addr, whose: &str, mend: &str| {
                        if pool.contains(address) {
                            faults.add(&place, format!("{pool} holds {address}, {whose}"), mend);
                        }
                    };
                    let leave_out = "Leave that address out: two pools can stand on its two sides.";
                    holds(network.network(), "the network address", "Begin one address higher.");
                    holds(network.broadcast(), "the broadcast address", "End one address lower.");
                    if let Some(router) = router {
                        holds(router, "the router's address", leave_out);
                    }
                    for address in own {
                        holds(*address, "this service's own address", leave_out);
                    }
                }
            }
            if let Some(other) = pools.iter().find(|other| other.overlaps(pool)) {
                faults.add(&place, format!("{pool} overlaps {other}"), "Give each address to one pool only.");
            }
            pools.push(pool);
        }
        pools
    }
}

fn parse_address(faults: &mut Faults, place: &str, text: &str) -> Option<Ipv4Addr> {
    let address = text.trim().parse::<Ipv4Addr>();
    let wrong = address.map_err(|_| format!("'{text}' is no IPv4 address"));
    faults.keep(place, wrong, "Write four numbers from 0 to 255 joined by dots; a name will not do.")
}

fn parse_addresses(faults: &mut Faults, place: &str, texts: &[String]) -> Vec<Ipv4Addr> {
    let numbered = texts.iter().enumerate();
    numbered.filter_map(|(i, text)| parse_address(faults, &format!("{place}[{i}]"), text)).collect()
}

fn is_host(network: Ipv4Net, address: Ipv4Addr) -> bool {
    network.contains(&address) && address != network.network() && address != network.broadcast()
}

fn first_host(network: Ipv4Net) -> Ipv4Addr {
    Ipv4Addr::from_bits(network.network().to_bits() + 1)
}

fn last_host(network: Ipv4Net) -> Ipv4Addr {
    Ipv4Addr::from_bits(network.broadcast().to_bits() - 1)
}

/// The kernel's own rule: 1 to 15 octets, neither `/` nor white space, not `.` or `..`.
fn is_interface_name(name: &str) -> bool {
    (1..=15).contains(&name.len())
        && !name.contains('/')
        && !name.contains(char::is_whitespace)
        && name != "."
        && name != ".."
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;

    const NONE: [Arc<Subnet>; 0] = [];

    fn draft() -> SubnetDraft {
        SubnetDraft {
            router: Some("192.0.2.1".into()),
            pools: vec!["192.0.2.50-192.0.2.99".into()],
            interface: Some("eno1".into()),
            ..SubnetDraft::new("holm-quay", "192.0.2.0/24")
        }
    }

    fn places(draft: &SubnetDraft, own: &[Ipv4Addr]) -> Vec<String> {
        let faults = draft.check(Id::generate(), &NONE, own).unwrap_err();
        faults.into_iter().map(|fault| format!("{} {}", fault.place, fault.what)).collect()
    }

    #[test]
    fn a_good_draft_becomes_a_subnet() {
        let subnet = draft().check(Id::generate(), &NONE, &[]).unwrap();
        assert_eq!(subnet.pools[0].size(), 50);
        assert_eq!(subnet.lease, SignedDuration::from_hours(8));
    }

    #[test]
    fn all_faults_come_at_once() {
        let bad = SubnetDraft {
            name: "holm quay".into(),
            router: Some("quay-router".into()),
            dns: vec!["192.0.2.53".into(), "192.0.2.300".into()],
            domain: Some("gannet..example".into()),
            lease_secs: 5,
            pools: vec!["192.0.2.0-192.0.2.9".into(), "192.0.2.5-192.0.3.9".into()],
            interface: None,
            ..draft()
        };
        assert_eq!(
            places(&bad, &["192.0.2.2".parse().unwrap()]),
            [
                "name 'holm quay' holds ' '",
                "router 'quay-router' is no IPv4 address",
                "dns[1] '192.0.2.300' is no IPv4 address",
                "domain 'gannet..example' has an empty part",
                "lease_secs a lease of 5 s",
                "pools[0] 192.0.2.0-192.0.2.9 holds 192.0.2.0, the network address",
                "pools[0] 192.0.2.0-192.0.2.9 holds 192.0.2.2, this service's own address",
                "pools[1] 192.0.2.5-192.0.3.9 reaches outside 192.0.2.0/24",
                "pools[1] 192.0.2.5-192.0.3.9 overlaps 192.0.2.0-192.0.2.9",
                "interface neither an interface nor a relay is named, so no machine can reach this subnet",
            ]
        );
    }

    #[test]
    fn a_mask_that_does_not_fit_names_the_network_meant() {
        let bad = SubnetDraft { network: "192.0.2.7/24".into(), ..draft() };
        let faults = bad.check(Id::generate(), &NONE, &[]).unwrap_err();
        assert_eq!(faults[0].mend, "Write 192.0.2.0/24 if that is the network meant.");
    }

    #[test]
    fn overlapping_subnets_are_refused() {
        let first = Arc::new(draft().check(Id::generate(), &NONE, &[]).unwrap());
        let second = SubnetDraft { name: "tern-bay".into(), network: "192.0.2.0/25".into(), ..draft() };
        let faults = second.check(Id::generate(), &[first], &[]).unwrap_err();
        assert!(faults[0].what.contains("overlaps subnet 'holm-quay'"), "{faults:?}");
    }
}
