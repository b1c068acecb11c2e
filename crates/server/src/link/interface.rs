//! Interfaces as the kernel shows them.

use std::{
    io,
    net::{Ipv4Addr, SocketAddr, SocketAddrV4},
};

use ipnet::Ipv4Net;
use nix::{ifaddrs::getifaddrs, net::if_::if_nametoindex};

/// An interface as the kernel shows it.
#[derive(Debug, Clone)]
pub(crate) struct Interface {
    pub(crate) name: String,
    pub(crate) index: u32,
    pub(crate) mac: [u8; 6],
    /// Its addresses, each with the prefix of its network.
    pub(crate) addresses: Vec<Ipv4Net>,
}

impl Interface {
    /// Looks `name` up; `None` if there is no such interface.
    pub(crate) fn find(name: &str) -> io::Result<Option<Self>> {
        let Ok(index) = if_nametoindex(name) else { return Ok(None) };
        let mut found = Self { name: name.into(), index, mac: [0; 6], addresses: Vec::new() };
        for entry in getifaddrs()?.filter(|entry| entry.interface_name == name) {
            let Some(address) = entry.address else { continue };
            if let Some(address) = address.as_sockaddr_in() {
                let mask = entry.netmask.as_ref().and_then(|mask| Some(mask.as_sockaddr_in()?.ip()));
                let prefix = mask.map_or(32, |mask| mask.to_bits().leading_ones());
                let network = Ipv4Net::new(address.ip(), u8::try_from(prefix).unwrap_or(32));
                found.addresses.extend(network);
            }
            if let Some(mac) = address.as_link_addr().and_then(nix::sys::socket::LinkAddr::addr) {
                found.mac = mac;
            }
        }
        Ok(Some(found))
    }

    /// Its first address.
    pub(crate) fn address(&self) -> Option<Ipv4Addr> {
        self.addresses.first().map(Ipv4Net::addr)
    }

    /// The names of all interfaces, for an error that teaches.
    pub(crate) fn names() -> Vec<String> {
        let mut names: Vec<String> = getifaddrs()
            .map(|entries| entries.map(|entry| entry.interface_name).collect())
            .unwrap_or_default();
        names.sort();
        names.dedup();
        names
    }

    /// Whether a cable is in it and the other end speaks; `None` where the kernel does not say.
    pub(crate) fn has_carrier(&self) -> Option<bool> {
        let text = std::fs::read_to_string(format!("/sys/class/net/{}/carrier", self.name)).ok()?;
        Some(text.trim() == "1")
    }

    /// The VLAN, where the interface is one (`/proc/net/vlan/config` of the kernel's 802.1Q driver).
    pub(crate) fn vlan(&self) -> Option<u16> {
        let text = std::fs::read_to_string("/proc/net/vlan/config").ok()?;
        let line =
            text.lines().find(|line| line.split('|').next().is_some_and(|name| name.trim() == self.name))?;
        line.split('|').nth(1)?.trim().parse().ok()
    }
}

/// An end of a connection as IPv4: no listener for machines has another.
pub(crate) fn v4(address: SocketAddr) -> SocketAddrV4 {
    match address {
        SocketAddr::V4(address) => address,
        SocketAddr::V6(address) => SocketAddrV4::new(Ipv4Addr::UNSPECIFIED, address.port()),
    }
}

/// Every IPv4 address of this host that is not on the loopback.
pub(crate) fn own_addresses() -> Vec<Ipv4Addr> {
    let entries = getifaddrs().into_iter().flatten();
    let addresses = entries.filter_map(|entry| Some(entry.address?.as_sockaddr_in()?.ip()));
    addresses.filter(|address| !address.is_loopback()).collect()
}
