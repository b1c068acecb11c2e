//! The picture of a subnet: what every address of it is, in runs.

use std::{collections::BTreeMap, net::Ipv4Addr};

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::model::subnet::Subnet;

/// What an address is. Of several that are true at once, the one that stands last here is shown.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Deserialize,
    strum::IntoStaticStr,
    strum::VariantArray,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum Holding {
    /// In no pool: for addresses that people give.
    Fixed,
    /// In a pool, and left alone.
    Excluded,
    /// In a pool, and free.
    Free,
    /// In a pool, held by nobody now, and remembered for the client that had it last.
    Remembered,
    /// Kept for one client.
    Reserved,
    /// Offered, not taken yet.
    Offered,
    /// Lent.
    Leased,
    /// Found in use by somebody who has no lease for it.
    Quarantined,
    /// A name or time server's.
    Server,
    /// The router's.
    Router,
    /// This service's own.
    Own,
    /// The network address, or the broadcast address.
    Network,
}

impl Holding {
    /// Every kind, in the order above.
    pub const ALL: &'static [Self] = <Self as strum::VariantArray>::VARIANTS;

    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        self.into()
    }
}

/// One address that is somebody's.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Held {
    /// The address.
    pub address: Ipv4Addr,
    /// What it is.
    pub holding: Holding,
    /// Whose: a machine's name, a MAC address.
    pub who: Option<String>,
    /// Until when.
    pub until: Option<Timestamp>,
}

/// A run of addresses that are the same; one alone if it is somebody's.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Span {
    /// The lowest address.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub first: Ipv4Addr,
    /// The highest address.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub last: Ipv4Addr,
    /// What they are.
    pub holding: Holding,
    /// Whose it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub who: Option<String>,
    /// Until when.
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, format = DateTime))]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<Timestamp>,
}

impl Span {
    /// How many addresses it holds.
    #[must_use]
    pub fn size(&self) -> u64 {
        u64::from(self.last.to_bits()) - u64::from(self.first.to_bits()) + 1
    }
}

/// The whole network in order of address, without a gap.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Picture {
    /// The runs.
    pub spans: Vec<Span>,
    /// How many addresses there are of each kind.
    pub counts: BTreeMap<Holding, u64>,
}

impl Picture {
    /// Draws `subnet` with what is somebody's on it. The network's ends, router and servers are known from the
    /// subnet itself; addresses outside the network are passed over.
    #[must_use]
    pub fn of(subnet: &Subnet, held: impl IntoIterator<Item = Held>) -> Self {
        let mut single: BTreeMap<Ipv4Addr, Held> = BTreeMap::new();
        for held in own_words(subnet).into_iter().chain(held) {
            if !subnet.network.contains(&held.address) {
                continue;
            }
            let stronger = single.get(&held.address).is_none_or(|known| known.holding <= held.holding);
            if stronger {
                single.insert(held.address, held);
            }
        }
        let mut spans = Vec::new();
        let end = u64::from(subnet.network.broadcast().to_bits());
        let mut next = u64::from(subnet.network.network().to_bits());
        let edges = edges(subnet);
        while next <= end {
            let first = address(next);
            if let Some(held) = single.remove(&first) {
                spans.push(Span {
                    first,
                    last: first,
                    holding: held.holding,
                    who: held.who,
                    until: held.until,
                });
                next += 1;
                continue;
            }
            // Up to the next address that is somebody's, or where the pools' edges change what it is.
            let held = single.range(first..).next().map_or(end + 1, |(address, _)| bits(*address));
            let edge = edges.iter().copied().find(|edge| *edge > next).unwrap_or(end + 1);
            let stop = held.min(edge).min(end + 1);
            let holding = unheld(subnet, first);
            let last = address(stop - 1);
            match spans.last_mut() {
                Some(span) if span.holding == holding && span.who.is_none() => span.last = last,
                _ => spans.push(Span { first, last, holding, who: None, until: None }),
            }
            next = stop;
        }
        let mut counts = BTreeMap::new();
        for span in &spans {
            *counts.entry(span.holding).or_default() += span.size();
        }
        Self { spans, counts }
    }
}

fn own_words(subnet: &Subnet) -> Vec<Held> {
    let held = |address, holding, who: &str| Held { address, holding, who: Some(who.into()), until: None };
    let mut all = vec![
        held(subnet.network.network(), Holding::Network, "network address"),
        held(subnet.network.broadcast(), Holding::Network, "broadcast address"),
    ];
    all.extend(subnet.router.map(|router| held(router, Holding::Router, "router")));
    all.extend(subnet.dns.iter().map(|dns| held(*dns, Holding::Server, "name server")));
    all.extend(subnet.ntp.iter().map(|ntp| held(*ntp, Holding::Server, "time server")));
    all
}

/// Where runs begin, and the places after they end, in order.
fn edges(subnet: &Subnet) -> Vec<u64> {
    let runs = subnet.pools.iter().chain(&subnet.exclusions);
    let mut edges: Vec<u64> = runs.flat_map(|run| [bits(run.first()), bits(run.last()) + 1]).collect();
    edges.sort_unstable();
    edges
}

fn unheld(subnet: &Subnet, address: Ipv4Addr) -> Holding {
    if subnet.lends(address) {
        Holding::Free
    } else if subnet.pools.iter().any(|pool| pool.contains(address)) {
        Holding::Excluded
    } else {
        Holding::Fixed
    }
}

fn bits(address: Ipv4Addr) -> u64 {
    u64::from(address.to_bits())
}

fn address(bits: u64) -> Ipv4Addr {
    Ipv4Addr::from_bits(u32::try_from(bits).unwrap_or(u32::MAX))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{base::Id, decide::subnet::SubnetDraft, site::Site};

    #[test]
    fn every_address_is_in_one_span() {
        let draft = SubnetDraft {
            router: Some("192.0.2.1".into()),
            dns: vec!["192.0.2.53".into()],
            pools: vec!["192.0.2.100-192.0.2.199".into()],
            exclusions: vec!["192.0.2.150-192.0.2.159".into()],
            interface: Some("eno1".into()),
            ..SubnetDraft::new("holm-quay", "192.0.2.0/24")
        };
        let subnet = draft.check(Id::generate(), &Site::default(), &[]).unwrap();
        let held = |last: u8, holding, who: &str| Held {
            address: Ipv4Addr::new(192, 0, 2, last),
            holding,
            who: Some(who.into()),
            until: None,
        };
        let picture = Picture::of(
            &subnet,
            [
                held(100, Holding::Leased, "auklet-chart"),
                held(20, Holding::Reserved, "skerry-gate-2"),
                held(20, Holding::Leased, "skerry-gate-2"),
                held(101, Holding::Quarantined, "?"),
                Held { address: Ipv4Addr::new(10, 0, 0, 1), ..held(1, Holding::Leased, "elsewhere") },
            ],
        );
        let shown: Vec<String> = picture
            .spans
            .iter()
            .map(|span| {
                format!("{}-{} {}", span.first.octets()[3], span.last.octets()[3], span.holding.as_str())
            })
            .collect();
        assert_eq!(
            shown,
            [
                "0-0 network",
                "1-1 router",
                "2-19 fixed",
                "20-20 leased",
                "21-52 fixed",
                "53-53 server",
                "54-99 fixed",
                "100-100 leased",
                "101-101 quarantined",
                "102-149 free",
                "150-159 excluded",
                "160-199 free",
                "200-254 fixed",
                "255-255 network",
            ]
        );
        assert_eq!(picture.counts.values().sum::<u64>(), 256);
        assert_eq!(picture.counts[&Holding::Free], 88);
    }
}
