//! The subnet: an IPv4 network that machines boot on.

use std::net::Ipv4Addr;

use ipnet::Ipv4Net;
use jiff::SignedDuration;
use serde::{Deserialize, Serialize};

use crate::{
    base::{Id, range::AddressRange},
    model::option::FurtherOption,
};

/// By what a machine of a subnet is known when it asks for a menu, a file or its answers. The MAC address in a path is only a
/// claim.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, strum::IntoStaticStr)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum Identify {
    /// By its address: a lease, a reservation, or what was overheard of another DHCP server.
    Address,
    /// By the first address that claims it, until that boot ends: for subnets whose addresses this service cannot know.
    FirstClaim,
}

impl Identify {
    /// What a subnet of that mode does unless somebody says otherwise: in mode `off` nothing is known of addresses.
    #[must_use]
    pub const fn of_mode(mode: Mode) -> Self {
        match mode {
            Mode::Lease | Mode::Proxy => Self::Address,
            Mode::Off => Self::FirstClaim,
        }
    }

    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        self.into()
    }
}

/// Who hands out the addresses.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, strum::IntoStaticStr)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum Mode {
    /// This service does.
    Lease,
    /// Somebody else does; this service adds the boot information (proxy DHCP; PXE 2.1, section 2.2.4).
    Proxy,
    /// Nobody is answered.
    Off,
}

impl Mode {
    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        self.into()
    }
}

/// What a machine nobody has registered gets.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, strum::IntoStaticStr)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum Newcomers {
    /// No answer at all: only machines that are known are served.
    Unanswered,
    /// An address, but no boot information.
    Nothing,
    /// The site's menu, in which nothing erases a disk.
    Menu,
    /// The survey: their hardware is measured, nothing on them is changed, and they wait.
    Survey,
}

impl Newcomers {
    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        self.into()
    }
}

/// How firmware that boots by HTTP (UEFI 2.10, section 24.7) is told to fetch.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, strum::IntoStaticStr)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum HttpBoot {
    /// By plain HTTP.
    Http,
    /// By HTTPS: the firmware must hold the service's certificate.
    Https,
}

impl HttpBoot {
    /// The URL's scheme.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        self.into()
    }
}

/// An IPv4 network that machines boot on.
#[derive(Debug, Clone, PartialEq, Eq)]
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
    /// Addresses within the pools that are left alone.
    pub exclusions: Vec<AddressRange>,
    /// The pools less the exclusions, in order of address: what may be lent.
    pub lendable: Vec<AddressRange>,
    /// The interface whose wire this subnet is on, if it is attached here.
    pub interface: Option<String>,
    /// The VLAN it is on (IEEE 802.1Q), 1 to 4094, for those who look for it on a switch.
    pub vlan: Option<u16>,
    /// Relays (giaddr) that may forward for this subnet.
    pub relays: Vec<Ipv4Addr>,
    /// What newcomers get.
    pub newcomers: Newcomers,
    /// Whether an address is tried for before it is offered anew (RFC 2131, section 2.2).
    pub probe: bool,
    /// Whether clients that ask for addresses of other networks are refused (DHCPNAK): right where this is the
    /// only server of the wire.
    pub authoritative: bool,
    /// How long a first answer is held back, so that another server may come first.
    pub head_start: SignedDuration,
    /// By what its machines are known when they ask for something.
    pub identify: Identify,
    /// How firmware that boots by HTTP is told to fetch.
    pub http_boot: HttpBoot,
    /// Options beside those that have a field of their own.
    pub options: Vec<FurtherOption>,
    /// The menu of its machines that neither they themselves nor their labels name one, by name.
    pub menu: Option<String>,
}

impl Subnet {
    /// Whether `address` is one of those that may be lent.
    #[must_use]
    pub fn lends(&self, address: Ipv4Addr) -> bool {
        self.lendable.iter().any(|run| run.contains(address))
    }

    /// How many addresses may be lent.
    #[must_use]
    pub fn capacity(&self) -> u64 {
        self.lendable.iter().map(|run| run.size()).sum()
    }

    /// The lendable address `offset` places after the first.
    #[must_use]
    pub fn nth_lendable(&self, mut offset: u64) -> Option<Ipv4Addr> {
        for run in &self.lendable {
            if offset < run.size() {
                return run.nth(offset);
            }
            offset -= run.size();
        }
        None
    }

    /// Whether `address` can be a host's on this network: neither the network's nor the broadcast address.
    #[must_use]
    pub fn is_host(&self, address: Ipv4Addr) -> bool {
        is_host(self.network, address)
    }
}

pub(crate) fn is_host(network: Ipv4Net, address: Ipv4Addr) -> bool {
    network.contains(&address) && address != network.network() && address != network.broadcast()
}

pub(crate) fn first_host(network: Ipv4Net) -> Ipv4Addr {
    Ipv4Addr::from_bits(network.network().to_bits() + 1)
}

pub(crate) fn last_host(network: Ipv4Net) -> Ipv4Addr {
    Ipv4Addr::from_bits(network.broadcast().to_bits() - 1)
}
