//! Interfaces, and frames sent past the kernel's own tables.
//!
//! The one module with `unsafe`: the standard library and the packages used have no safe way to write the
//! address of a packet socket (`struct sockaddr_ll`, packet(7)).

use std::{
    io,
    net::{Ipv4Addr, SocketAddrV4},
};

use etherparse::PacketBuilder;
use lastmile_core::net::Mac;
use nix::{ifaddrs::getifaddrs, net::if_::if_nametoindex};
use socket2::{Domain, Protocol, SockAddr, Socket, Type};

/// Hops a frame on the local wire may live: it never passes a router.
const TTL: u8 = 64;

/// An interface as the kernel shows it.
#[derive(Debug, Clone)]
pub(crate) struct Interface {
    pub(crate) name: String,
    pub(crate) index: u32,
    pub(crate) mac: [u8; 6],
    pub(crate) addresses: Vec<Ipv4Addr>,
    pub(crate) mtu: u16,
}

impl Interface {
    /// Looks `name` up; `None` if there is no such interface.
    pub(crate) fn find(name: &str) -> io::Result<Option<Self>> {
        let Ok(index) = if_nametoindex(name) else { return Ok(None) };
        let mut found = Self { name: name.into(), index, mac: [0; 6], addresses: Vec::new(), mtu: mtu(name) };
        for entry in getifaddrs()?.filter(|entry| entry.interface_name == name) {
            let Some(address) = entry.address else { continue };
            if let Some(address) = address.as_sockaddr_in() {
                found.addresses.push(address.ip());
            }
            if let Some(mac) = address.as_link_addr().and_then(nix::sys::socket::LinkAddr::addr) {
                found.mac = mac;
            }
        }
        Ok(Some(found))
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
}

/// Every IPv4 address of this host that is not on the loopback.
pub(crate) fn own_addresses() -> Vec<Ipv4Addr> {
    let entries = getifaddrs().into_iter().flatten();
    let addresses = entries.filter_map(|entry| Some(entry.address?.as_sockaddr_in()?.ip()));
    addresses.filter(|address| !address.is_loopback()).collect()
}

/// What the interface carries at once, in octets; Ethernet's where the kernel does not say.
fn mtu(name: &str) -> u16 {
    let text = std::fs::read_to_string(format!("/sys/class/net/{name}/mtu"));
    text.ok().and_then(|text| text.trim().parse().ok()).unwrap_or(1500)
}

/// A socket that sends whole frames on one interface: a client that has no address yet answers no ARP
/// request, so the kernel could not find its MAC address (RFC 2131, section 4.1).
#[derive(Debug)]
pub(crate) struct FrameSender {
    socket: Socket,
    interface: Interface,
}

impl FrameSender {
    /// Opens the socket; needs the right CAP_NET_RAW.
    pub(crate) fn open(interface: &Interface) -> io::Result<Self> {
        // Protocol 0: the socket receives nothing.
        let socket = Socket::new(Domain::PACKET, Type::RAW, Some(Protocol::from(0)))?;
        socket.set_nonblocking(true)?;
        Ok(Self { socket, interface: interface.clone() })
    }

    /// Sends `payload` as UDP from `from` to `to` in a frame to `mac`.
    pub(crate) fn send(
        &self,
        from: SocketAddrV4,
        mac: Mac,
        to: SocketAddrV4,
        payload: &[u8],
    ) -> io::Result<()> {
        let packet = PacketBuilder::ethernet2(self.interface.mac, mac.octets())
            .ipv4(from.ip().octets(), to.ip().octets(), TTL)
            .udp(from.port(), to.port());
        let mut frame = Vec::with_capacity(packet.size(payload.len()));
        packet.write(&mut frame, payload).map_err(io::Error::other)?;
        self.socket.send_to(&frame, &link_address(self.interface.index, mac)?)?;
        Ok(())
    }
}

/// The packet-socket address of `mac` on interface `index`.
#[allow(unsafe_code)]
fn link_address(index: u32, mac: Mac) -> io::Result<SockAddr> {
    let index = i32::try_from(index).map_err(io::Error::other)?;
    // SAFETY: `try_init` hands out a zeroed `sockaddr_storage`, which is at least as large and as strictly
    // aligned as `sockaddr_ll` (both hold for every address family by POSIX), and all-zero is a valid
    // `sockaddr_ll`. The length set is that of the structure written.
    let made = unsafe {
        SockAddr::try_init(|storage, length| {
            let address = &mut *storage.cast::<libc::sockaddr_ll>();
            address.sll_family = libc::AF_PACKET as libc::sa_family_t;
            address.sll_protocol = (libc::ETH_P_IP as u16).to_be();
            address.sll_ifindex = index;
            address.sll_halen = 6;
            address.sll_addr[..6].copy_from_slice(&mac.octets());
            *length = size_of::<libc::sockaddr_ll>() as libc::socklen_t;
            Ok(())
        })
    };
    made.map(|((), address)| address)
}
