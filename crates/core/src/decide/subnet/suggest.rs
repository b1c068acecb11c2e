//! A subnet proposed from what an interface shows: a person confirms it, or changes it.

use std::net::Ipv4Addr;

use ipnet::Ipv4Net;
use serde::{Deserialize, Serialize};

use super::SubnetDraft;
use crate::{
    base::range::AddressRange,
    model::subnet::{Mode, first_host, last_host},
};

/// Most addresses that a proposed pool lends.
const LARGEST_POOL: u32 = 4096;
/// Runs shorter than this are not worth a pool of their own.
const SHORTEST_RUN: u64 = 4;
/// Runs that are proposed at most, so that a person can read them.
const MOST_RUNS: usize = 6;

/// What the host shows about an interface.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Surroundings {
    /// The interface.
    pub interface: String,
    /// The host's own address there, with the prefix.
    pub own: Ipv4Net,
    /// Whether the address is a fixed one.
    pub own_is_fixed: bool,
    /// The router of the default route through the interface.
    pub router: Option<Ipv4Addr>,
    /// The host's own name servers.
    pub dns: Vec<Ipv4Addr>,
    /// The host's own domain.
    pub domain: Option<String>,
    /// The VLAN, where the interface is one.
    pub vlan: Option<u16>,
    /// Neighbours that were heard on the wire.
    pub neighbours: Vec<Ipv4Addr>,
    /// Other DHCP servers that answered on the wire.
    pub other_servers: Vec<Ipv4Addr>,
}

/// Why a field of the proposal is as it is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Reason {
    /// The field.
    pub place: String,
    /// Why.
    pub why: String,
}

/// A subnet that is proposed, with its reasons. Nothing is saved.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Proposal {
    /// The subnet as it would be entered.
    pub draft: SubnetDraft,
    /// Why each field is as it is, in the order of the fields.
    pub reasons: Vec<Reason>,
}

/// Proposes a subnet.
#[must_use]
pub fn suggest(name: &str, seen: &Surroundings) -> Proposal {
    let network = seen.own.trunc();
    let mut draft = SubnetDraft::new(name, network.to_string());
    let mut reasons = Vec::new();
    let mut because = |place: &str, why: String| reasons.push(Reason { place: place.into(), why });

    because("network", format!("{} has {} on it", seen.interface, seen.own));
    match seen.other_servers.as_slice() {
        [] => because("mode", "no other DHCP server answered on the wire".into()),
        others => {
            draft.mode = Mode::Proxy;
            let list = others.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
            because(
                "mode",
                format!(
                    "DHCP server {list} answers there: it keeps the addresses, this service adds the boot"
                ),
            );
        }
    }
    match seen.router {
        Some(router) if network.contains(&router) => {
            draft.router = Some(router.to_string());
            because("router", format!("the host's default route goes by {router}"));
        }
        _ => because("router", "none: the host has no default route through this interface".into()),
    }
    if seen.dns.is_empty() {
        because("dns", "none: the host itself names no name server that machines could reach".into());
    } else {
        draft.dns = seen.dns.iter().map(ToString::to_string).collect();
        because("dns", "the host's own name servers".into());
    }
    if let Some(domain) = &seen.domain {
        draft.domain = Some(domain.clone());
        because("domain", "the host's own domain".into());
    }
    if draft.mode == Mode::Lease {
        let (pools, why) = pools(network, seen);
        draft.pools = pools.iter().map(ToString::to_string).collect();
        because("pools", why);
    }
    draft.interface = Some(seen.interface.clone());
    let fixed = if seen.own_is_fixed {
        "its address is fixed"
    } else {
        "its address came by DHCP: give it a fixed one, machines are told to fetch from it"
    };
    because("interface", fixed.into());
    if let Some(vlan) = seen.vlan {
        draft.vlan = Some(vlan);
        because("vlan", format!("{} is the interface of VLAN {vlan}", seen.interface));
    }
    Proposal { draft, reasons }
}

/// The upper half of the network, less what is known to be somebody's: people give fixed addresses from below.
fn pools(network: Ipv4Net, seen: &Surroundings) -> (Vec<AddressRange>, String) {
    let (first, last) = (first_host(network).to_bits(), last_host(network).to_bits());
    let middle = first + (last - first).div_ceil(2);
    let begin = middle.max(last.saturating_sub(LARGEST_POOL - 1));
    let Ok(half) = AddressRange::new(Ipv4Addr::from_bits(begin), Ipv4Addr::from_bits(last)) else {
        return (Vec::new(), "none: the network is too small".into());
    };
    let known = seen.neighbours.iter().chain(&seen.router).chain(&seen.dns).copied().chain([seen.own.addr()]);
    let mut taken: Vec<Ipv4Addr> = known.filter(|address| half.contains(*address)).collect();
    taken.sort_unstable();
    taken.dedup();
    let out: Vec<_> = taken.iter().filter_map(|address| AddressRange::new(*address, *address).ok()).collect();
    let mut runs = AddressRange::without(&[half], &out);
    runs.retain(|run| run.size() >= SHORTEST_RUN);
    // The longest are kept, in order of address.
    runs.sort_by_key(|run| std::cmp::Reverse(run.size()));
    runs.truncate(MOST_RUNS);
    runs.sort_by_key(|run| run.first());
    let lower =
        format!("the upper half; {} and below stays for fixed addresses", Ipv4Addr::from_bits(begin - 1));
    let why = if taken.is_empty() {
        lower
    } else {
        let list = taken.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
        format!("{lower}; {list} left out: heard there, or known to be somebody's")
    };
    (runs, why)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{base::Id, site::Site};

    fn surroundings() -> Surroundings {
        let address = |last: u8| Ipv4Addr::new(192, 0, 2, last);
        Surroundings {
            interface: "eno1.20".into(),
            own: "192.0.2.200/24".parse().unwrap(),
            own_is_fixed: true,
            router: Some(address(1)),
            dns: vec![address(53)],
            domain: Some("gannet.example".into()),
            vlan: Some(20),
            neighbours: vec![address(1), address(140), address(222)],
            other_servers: vec![],
        }
    }

    #[test]
    fn what_is_proposed_is_a_good_subnet_that_leaves_others_alone() {
        let seen = surroundings();
        let Proposal { draft, reasons } = suggest("holm-quay", &seen);
        assert_eq!(
            draft.pools,
            [
                "192.0.2.128-192.0.2.139",
                "192.0.2.141-192.0.2.199",
                "192.0.2.201-192.0.2.221",
                "192.0.2.223-192.0.2.254"
            ]
        );
        assert!(reasons.iter().any(|reason| reason.place == "pools" && reason.why.contains("192.0.2.140")));
        let subnet = draft.check(Id::generate(), &Site::default(), &[seen.own.addr()]).unwrap();
        assert_eq!((subnet.mode, subnet.vlan), (Mode::Lease, Some(20)));
    }

    #[test]
    fn beside_another_server_only_the_boot_is_added() {
        let seen = Surroundings { other_servers: vec![Ipv4Addr::new(192, 0, 2, 3)], ..surroundings() };
        let Proposal { draft, reasons } = suggest("holm-quay", &seen);
        assert_eq!(draft.mode, Mode::Proxy);
        assert!(draft.pools.is_empty());
        assert!(reasons[1].why.contains("192.0.2.3"), "{reasons:?}");
        draft.check(Id::generate(), &Site::default(), &[]).unwrap();
    }

    #[test]
    fn small_and_large_networks_have_their_pools() {
        for (own, size) in [("192.0.2.1/30", 0), ("192.0.2.1/28", 7), ("10.0.0.1/8", 4096)] {
            let seen = Surroundings {
                own: own.parse().unwrap(),
                router: None,
                dns: vec![],
                neighbours: vec![],
                ..surroundings()
            };
            let pools = suggest("x", &seen).draft.pools;
            let held: u64 = pools.iter().map(|pool| pool.parse::<AddressRange>().unwrap().size()).sum();
            assert_eq!(held, size, "{own}: {pools:?}");
        }
    }
}
