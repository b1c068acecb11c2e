//! Which subnet a message belongs to, and where its reply goes.

use std::{
    net::{Ipv4Addr, SocketAddrV4},
    sync::Arc,
};

use lastmile_formats::{
    dhcp::{Kind, Message, code},
    mac::Mac,
};
use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::model::subnet::{Mode, Subnet};

/// The port clients listen on (RFC 2131, section 4.1).
const CLIENT_PORT: u16 = 68;
/// The port servers and relays listen on.
const SERVER_PORT: u16 = 67;

/// How a message reached the service.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Arrival<'a> {
    /// The interface the socket is bound to; `None` for the socket that serves relays only.
    pub interface: Option<&'a str>,
    /// Source of the datagram.
    pub from: SocketAddrV4,
    /// This service's address on the way there: the server identifier.
    pub local: Ipv4Addr,
}

/// Where a reply goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Destination {
    /// To a host that has its address: a relay, or a client that renews.
    Unicast(SocketAddrV4),
    /// To 255.255.255.255 on the interface it came from.
    Broadcast {
        /// Destination port.
        port: u16,
    },
    /// To a client that has no address yet and takes unicast: a frame to its MAC, with the address it is given.
    Frame {
        /// Destination of the frame.
        mac: Mac,
        /// Destination of the packet in it.
        address: Ipv4Addr,
        /// Destination port.
        port: u16,
    },
}

/// Why no subnet of ours is asked.
#[derive(Debug, Clone, PartialEq, Eq, Error, Serialize, Deserialize)]
pub enum NoSubnet {
    /// No subnet names this relay.
    #[error("relay {giaddr} is named by no subnet")]
    UnknownRelay {
        /// The relay.
        giaddr: Ipv4Addr,
    },
    /// The relay is named, but not by a subnet that holds the link it forwards for.
    #[error("relay {giaddr} forwards for {link}, which is in no subnet that names it")]
    UnknownLink {
        /// The relay.
        giaddr: Ipv4Addr,
        /// The link it forwards for.
        link: Ipv4Addr,
    },
    /// No subnet is on the interface.
    #[error("no subnet is on interface {interface}")]
    UnknownInterface {
        /// The interface.
        interface: String,
    },
    /// Not relayed, on a socket that serves relays only.
    #[error("not relayed, but this address answers relays only")]
    RelaysOnly,
    /// The subnet is there and switched off.
    #[error("subnet '{name}' is off")]
    Off {
        /// The subnet.
        name: String,
    },
}

/// Finds the subnet a message asks for.
///
/// Relayed: the subnet must name `giaddr` as a relay and hold the link selection (RFC 3527) or, without
/// one, `giaddr` itself. Direct: the subnet must be on the interface the message arrived by.
///
/// # Errors
/// Why it is not for us; such a message is not answered.
pub fn select_subnet<'a>(
    subnets: impl IntoIterator<Item = &'a Arc<Subnet>>,
    message: &Message,
    arrival: &Arrival<'_>,
) -> Result<&'a Arc<Subnet>, NoSubnet> {
    let giaddr = message.giaddr;
    let found = if giaddr.is_unspecified() {
        let interface = arrival.interface.ok_or(NoSubnet::RelaysOnly)?;
        let on_wire = |subnet: &&Arc<Subnet>| subnet.interface.as_deref() == Some(interface);
        let mut candidates = subnets.into_iter().filter(on_wire).peekable();
        let first = candidates.peek().copied();
        // Several subnets on one wire: a client that has or wants an address belongs to the one that holds it.
        let wanted = message.options.address(code::REQUESTED_ADDRESS).unwrap_or(message.ciaddr);
        let has = |subnet: &&Arc<Subnet>| subnet.network.contains(&wanted);
        candidates
            .find(has)
            .or(first)
            .ok_or_else(|| NoSubnet::UnknownInterface { interface: interface.into() })?
    } else {
        let link = message.relay_info().and_then(|info| info.link_selection).unwrap_or(giaddr);
        let mut relay_known = false;
        let holds = |subnet: &&Arc<Subnet>| {
            let named = subnet.relays.contains(&giaddr);
            relay_known |= named;
            named && subnet.network.contains(&link)
        };
        match subnets.into_iter().find(holds) {
            Some(subnet) => subnet,
            None if relay_known => return Err(NoSubnet::UnknownLink { giaddr, link }),
            None => return Err(NoSubnet::UnknownRelay { giaddr }),
        }
    };
    if found.mode == Mode::Off {
        return Err(NoSubnet::Off { name: found.name.clone() });
    }
    Ok(found)
}

impl Destination {
    /// Where `reply` to `request` goes (RFC 2131, section 4.1; RFC 8357, section 5.1 for the relay's port).
    #[must_use]
    pub fn of(request: &Message, reply: &Message, from: SocketAddrV4) -> Self {
        if !request.giaddr.is_unspecified() {
            let own_port = request.relay_info().is_some_and(|info| info.uses_source_port);
            let port = if own_port { from.port() } else { SERVER_PORT };
            return Self::Unicast(SocketAddrV4::new(request.giaddr, port));
        }
        if reply.kind == Kind::Nak {
            return Self::Broadcast { port: CLIENT_PORT };
        }
        if !request.ciaddr.is_unspecified() {
            return Self::Unicast(SocketAddrV4::new(request.ciaddr, CLIENT_PORT));
        }
        match request.mac() {
            Some(mac) if !request.wants_broadcast() && !reply.yiaddr.is_unspecified() => {
                Self::Frame { mac, address: reply.yiaddr, port: CLIENT_PORT }
            }
            _ => Self::Broadcast { port: CLIENT_PORT },
        }
    }
}
