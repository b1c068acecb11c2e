//! A subnet as a person enters it, and what is checked then.

use std::{collections::BTreeMap, net::Ipv4Addr};

use ipnet::Ipv4Net;
use jiff::SignedDuration;
use serde::{Deserialize, Serialize};

use super::address::{parse_address, parse_addresses, special};
use crate::{
    base::{
        Fault, Faults, Id, name,
        range::{AddressRange, RANGE_FIX},
    },
    model::{
        option::FurtherOption,
        subnet::{HttpBoot, Identify, Mode, Newcomers, Subnet, first_host, is_host, last_host},
    },
    site::Site,
};

/// Shortest lease: below it, clients spend their time renewing.
const MIN_LEASE_SECS: i64 = 60;
/// Longest lease: RFC 2131 keeps 2³²−1 for "for ever", which this service never promises.
const MAX_LEASE_SECS: i64 = 366 * 24 * 3600;
/// Longest delay of a first answer: firmware gives up its first question after 4 s.
const MAX_DELAY_MS: i64 = 3000;

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
    /// Addresses and runs of addresses within the pools to leave alone.
    #[serde(default)]
    pub exclusions: Vec<String>,
    /// The interface whose wire it is on.
    #[serde(default)]
    pub interface: Option<String>,
    /// The VLAN it is on.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(maximum = 65_535))]
    pub vlan: Option<u16>,
    /// Addresses of the relays that may forward for it.
    #[serde(default)]
    pub relays: Vec<String>,
    /// What newcomers get.
    #[serde(default = "SubnetDraft::default_newcomers")]
    pub newcomers: Newcomers,
    /// Try for an address before it is offered anew.
    #[serde(default = "SubnetDraft::yes")]
    pub probe: bool,
    /// Refuse clients that ask for addresses of other networks.
    #[serde(default = "SubnetDraft::yes")]
    pub authoritative: bool,
    /// How long a first answer is held back, in milliseconds.
    #[serde(default)]
    pub head_start_ms: i64,
    /// By what its machines are known when they ask for a menu, a file or their answers; left out, by their address, and in
    /// mode `off` by the first claim.
    #[serde(default)]
    pub identify: Option<Identify>,
    /// How firmware that boots by HTTP is told to fetch.
    #[serde(default = "SubnetDraft::default_http_boot")]
    pub http_boot: HttpBoot,
    /// Further options: by standard name or number, with the value as text.
    #[serde(default)]
    pub options: BTreeMap<String, String>,
    /// The menu of its machines that neither they themselves nor their labels name one.
    #[serde(default)]
    pub menu: Option<String>,
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
    const fn default_http_boot() -> HttpBoot {
        HttpBoot::Http
    }
    const fn yes() -> bool {
        true
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
            exclusions: Vec::new(),
            interface: None,
            vlan: None,
            relays: Vec::new(),
            newcomers: Self::default_newcomers(),
            probe: true,
            authoritative: true,
            head_start_ms: 0,
            identify: None,
            http_boot: Self::default_http_boot(),
            options: BTreeMap::new(),
            menu: None,
        }
    }

    /// Checks the draft against itself, the site's other subnets, the reservations, and the service's own addresses.
    ///
    /// `id` is the subnet's identity: that of the one it takes the place of, if there is one.
    ///
    /// # Errors
    /// Everything that is wrong, in the order of the fields.
    pub fn check(&self, id: Id<Subnet>, site: &Site, own: &[Ipv4Addr]) -> Result<Subnet, Vec<Fault>> {
        let mut faults = Faults::new();
        self.check_name(&mut faults, id, site);
        let network = self.check_network(&mut faults, id, site);
        let router = self.check_router(&mut faults, network, id, site);
        let dns = parse_addresses(&mut faults, "dns", &self.dns);
        if let Some(domain) = &self.domain {
            faults.keep("domain", name::check_domain(domain), name::DOMAIN_FIX);
        }
        let ntp = parse_addresses(&mut faults, "ntp", &self.ntp);
        self.check_times(&mut faults);
        let pools = self.check_pools(&mut faults, network, router, own);
        let exclusions = self.check_exclusions(&mut faults, &pools);
        let lendable = AddressRange::without(&pools, &exclusions);
        self.check_reservations(&mut faults, network, &lendable, id, site);
        let relays = self.check_reach(&mut faults);
        let options = FurtherOption::read_all(&mut faults, "options", &self.options);
        crate::decide::references::check_menu(&mut faults, self.menu.as_deref(), site);
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
                exclusions,
                lendable,
                interface: self.interface.clone(),
                vlan: self.vlan,
                relays,
                newcomers: self.newcomers,
                probe: self.probe,
                authoritative: self.authoritative,
                head_start: SignedDuration::from_millis(self.head_start_ms),
                identify: self.identify.unwrap_or_else(|| Identify::of_mode(self.mode)),
                http_boot: self.http_boot,
                options,
                menu: self.menu.clone(),
            })
        })
    }

    fn check_name(&self, faults: &mut Faults, id: Id<Subnet>, site: &Site) {
        faults.keep("name", name::check_thing_name(&self.name), name::THING_NAME_FIX);
        if site.subnet(&self.name).is_some_and(|other| other.id != id) {
            faults.add(
                "name",
                format!("a subnet named '{}' exists already", self.name),
                "Choose another name, or change the existing one.",
            );
        }
    }

    fn check_network(&self, faults: &mut Faults, id: Id<Subnet>, site: &Site) -> Option<Ipv4Net> {
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
        if let Some(what) = special(network.network()) {
            faults.add(
                "network",
                format!("{network} is no network of hosts: it is for {what}"),
                "Give the network that the machines are on.",
            );
            return None;
        }
        for other in site.subnets().filter(|other| other.id != id) {
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

    fn check_router(
        &self,
        faults: &mut Faults,
        network: Option<Ipv4Net>,
        id: Id<Subnet>,
        site: &Site,
    ) -> Option<Ipv4Addr> {
        let router = parse_address(faults, "router", self.router.as_ref()?)?;
        if let Some(reserved) = site.reservation_at(router).filter(|reserved| reserved.subnet == id) {
            faults.add(
                "router",
                format!(
                    "{router} is reserved for {}, which would be given the router's address",
                    reserved.client
                ),
                "Give the router's own address, or remove the reservation first.",
            );
        }
        if network.is_some_and(|network| !is_host(network, router)) {
            faults.add(
                "router",
                format!("{router} is no host address of {}", self.network),
                "Give the router's address on this subnet, or leave it out.",
            );
        }
        Some(router)
    }

    fn check_times(&self, faults: &mut Faults) {
        if !(MIN_LEASE_SECS..=MAX_LEASE_SECS).contains(&self.lease_secs) {
            faults.add(
                "lease_secs",
                format!("a lease of {} s", self.lease_secs),
                format!("Give between {MIN_LEASE_SECS} s and {MAX_LEASE_SECS} s (366 days)."),
            );
        }
        if !(0..=MAX_DELAY_MS).contains(&self.head_start_ms) {
            faults.add(
                "head_start_ms",
                format!("a first answer held back for {} ms", self.head_start_ms),
                format!("Give between 0 and {MAX_DELAY_MS} ms: firmware asks again after 4 s."),
            );
        }
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
                "Add a run of free addresses, as in 192.0.2.50-192.0.2.99, or choose mode 'proxy' or 'off'.",
            );
        }
        if self.mode == Mode::Proxy && !self.pools.is_empty() {
            faults.add(
                "pools",
                "a subnet in mode 'proxy' has a pool, but somebody else hands out its addresses",
                "Take the pools out, or choose mode 'lease' if no other DHCP server answers there.",
            );
        }
        let mut pools: Vec<AddressRange> = Vec::new();
        for (index, text) in self.pools.iter().enumerate() {
            let place = format!("pools[{index}]");
            let Some(pool) = faults.keep(&place, text.parse::<AddressRange>(), RANGE_FIX) else { continue };
            if let Some(network) = network {
                check_pool(faults, &place, pool, network, router, own);
            }
            if let Some(other) = pools.iter().find(|other| other.overlaps(pool)) {
                faults.add(&place, format!("{pool} overlaps {other}"), "Give each address to one pool only.");
            }
            pools.push(pool);
        }
        pools
    }

    fn check_exclusions(&self, faults: &mut Faults, pools: &[AddressRange]) -> Vec<AddressRange> {
        let mut exclusions = Vec::new();
        for (index, text) in self.exclusions.iter().enumerate() {
            let place = format!("exclusions[{index}]");
            let Some(range) = faults.keep(&place, text.parse::<AddressRange>(), RANGE_FIX) else { continue };
            if !pools.iter().any(|pool| pool.overlaps(range)) {
                faults.add(
                    &place,
                    format!("{range} is in no pool, so nothing of it would be lent anyway"),
                    "Take it out, or correct the address.",
                );
            }
            exclusions.push(range);
        }
        exclusions
    }

    fn check_reservations(
        &self,
        faults: &mut Faults,
        network: Option<Ipv4Net>,
        lendable: &[AddressRange],
        id: Id<Subnet>,
        site: &Site,
    ) {
        for reservation in site.reservations_of(id) {
            let (address, client) = (reservation.address, &reservation.client);
            if lendable.iter().any(|run| run.contains(address)) {
                faults.add(
                    "pools",
                    format!("the pools hold {address}, which is reserved for {client}"),
                    format!("Leave {address} out of the pools, or add it to the exclusions."),
                );
            }
            if network.is_some_and(|network| !is_host(network, address)) {
                faults.add(
                    "network",
                    format!("{address}, reserved for {client}, is no host address of {}", self.network),
                    "Remove the reservation first, or keep the network.",
                );
            }
        }
    }

    fn check_reach(&self, faults: &mut Faults) -> Vec<Ipv4Addr> {
        if let Some(interface) = &self.interface
            && !is_interface_name(interface)
        {
            faults.add(
                "interface",
                format!("'{interface}' can be no interface's name"),
                "Give a name that `ip link` shows, as in eno1 or eno1.20.",
            );
        }
        if let Some(vlan) = self.vlan
            && !(1..=4094).contains(&vlan)
        {
            faults.add("vlan", format!("VLAN {vlan}"), "Give a number from 1 to 4094 (IEEE 802.1Q).");
        }
        let relays = parse_addresses(faults, "relays", &self.relays);
        if self.mode != Mode::Off && self.interface.is_none() && self.relays.is_empty() {
            faults.add(
                "interface",
                "neither an interface nor a relay is named, so no machine can reach this subnet",
                "Name the interface it is attached to, or the relays that forward for it.",
            );
        }
        relays
    }
}

impl From<&Subnet> for SubnetDraft {
    fn from(subnet: &Subnet) -> Self {
        let addresses = |addresses: &[Ipv4Addr]| addresses.iter().map(ToString::to_string).collect();
        let ranges = |ranges: &[AddressRange]| ranges.iter().map(ToString::to_string).collect();
        Self {
            name: subnet.name.clone(),
            network: subnet.network.to_string(),
            mode: subnet.mode,
            router: subnet.router.map(|router| router.to_string()),
            dns: addresses(&subnet.dns),
            domain: subnet.domain.clone(),
            ntp: addresses(&subnet.ntp),
            lease_secs: subnet.lease.as_secs(),
            pools: ranges(&subnet.pools),
            exclusions: ranges(&subnet.exclusions),
            interface: subnet.interface.clone(),
            vlan: subnet.vlan,
            relays: addresses(&subnet.relays),
            newcomers: subnet.newcomers,
            probe: subnet.probe,
            authoritative: subnet.authoritative,
            head_start_ms: i64::try_from(subnet.head_start.as_millis()).unwrap_or(i64::MAX),
            identify: Some(subnet.identify).filter(|said| *said != Identify::of_mode(subnet.mode)),
            http_boot: subnet.http_boot,
            options: FurtherOption::texts(&subnet.options),
            menu: subnet.menu.clone(),
        }
    }
}

fn check_pool(
    faults: &mut Faults,
    place: &str,
    pool: AddressRange,
    network: Ipv4Net,
    router: Option<Ipv4Addr>,
    own: &[Ipv4Addr],
) {
    if !network.contains(&pool.first()) || !network.contains(&pool.last()) {
        let hosts = format!("{} to {}", first_host(network), last_host(network));
        faults.add(
            place,
            format!("{pool} reaches outside {network}"),
            format!("Stay within {hosts}, or widen the mask."),
        );
        return;
    }
    let mut holds = |address: Ipv4Addr, whose: &str, fix: &str| {
        if pool.contains(address) {
            faults.add(place, format!("{pool} holds {address}, {whose}"), fix);
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

/// The kernel's own rule: 1 to 15 bytes, neither `/` nor white space, not `.` or `..`.
fn is_interface_name(name: &str) -> bool {
    (1..=15).contains(&name.len())
        && !name.contains('/')
        && !name.contains(char::is_whitespace)
        && name != "."
        && name != ".."
}

#[cfg(test)]
#[path = "draft_tests.rs"]
mod tests;
