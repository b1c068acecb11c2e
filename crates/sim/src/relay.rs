//! A relay agent (RFC 1542, section 4; RFC 3046) between a wire and a server elsewhere.

use std::{
    io,
    net::{Ipv4Addr, SocketAddr, SocketAddrV4, UdpSocket},
    sync::atomic::{AtomicBool, Ordering},
    time::Duration,
};

use lastmile_formats::dhcp::{Message, Op, RelayInfo, code};
use socket2::{Domain, Protocol, Socket, Type};

/// The port of servers and relays.
const SERVER_PORT: u16 = 67;
/// The port of clients.
const CLIENT_PORT: u16 = 68;
/// How long one look for a datagram takes: as long as the end may have to wait.
const TURN: Duration = Duration::from_millis(50);
/// Hops after which a message is dropped (RFC 1542, section 4.1.1).
const MAX_HOPS: u8 = 16;

/// A relay agent on the wire of one interface.
#[derive(Debug)]
pub struct Relay {
    clients: UdpSocket,
    servers: UdpSocket,
    giaddr: Ipv4Addr,
    server: SocketAddrV4,
    circuit_id: Vec<u8>,
}

impl Relay {
    /// A relay between the wire of `interface`, on which it has the address `giaddr`, and `server`. It is made in
    /// the network namespace that the calling thread is in, and stays there.
    ///
    /// # Errors
    /// That a port cannot be had; it needs root.
    pub fn open(interface: &str, giaddr: Ipv4Addr, server: Ipv4Addr, circuit_id: &str) -> io::Result<Self> {
        let clients = socket(Ipv4Addr::UNSPECIFIED, SERVER_PORT, Some(interface))?;
        let servers = socket(giaddr, SERVER_PORT, None)?;
        let server = SocketAddrV4::new(server, SERVER_PORT);
        Ok(Self { clients, servers, giaddr, server, circuit_id: circuit_id.into() })
    }

    /// Relays until `stop` is set.
    ///
    /// # Errors
    /// That a socket failed.
    pub fn run(&self, stop: &AtomicBool) -> io::Result<()> {
        let mut buffer = [0; 2048];
        while !stop.load(Ordering::Relaxed) {
            if let Some(length) = receive(&self.clients, &mut buffer)? {
                self.forward(&buffer[..length])?;
            }
            if let Some(length) = receive(&self.servers, &mut buffer)? {
                self.give_back(&buffer[..length])?;
            }
        }
        Ok(())
    }

    fn forward(&self, bytes: &[u8]) -> io::Result<()> {
        let Ok(mut message) = Message::parse(bytes) else { return Ok(()) };
        if message.op != Op::Request || message.hops >= MAX_HOPS || !message.giaddr.is_unspecified() {
            return Ok(());
        }
        message.hops += 1;
        message.giaddr = self.giaddr;
        let info = RelayInfo { circuit_id: Some(self.circuit_id.clone()), ..RelayInfo::default() };
        message.options.set(code::RELAY_AGENT_INFORMATION, info.emit());
        self.servers.send_to(&message.emit(), self.server)?;
        Ok(())
    }

    fn give_back(&self, bytes: &[u8]) -> io::Result<()> {
        let Ok(mut message) = Message::parse(bytes) else { return Ok(()) };
        if message.op != Op::Reply || message.giaddr != self.giaddr {
            return Ok(());
        }
        // What it added, it takes out again (RFC 3046, section 2.1).
        message.options.remove(code::RELAY_AGENT_INFORMATION);
        self.clients.send_to(&message.emit(), (Ipv4Addr::BROADCAST, CLIENT_PORT))?;
        Ok(())
    }
}

/// A socket on a port of servers or clients, beside others that have it on other interfaces.
pub(crate) fn socket(address: Ipv4Addr, port: u16, interface: Option<&str>) -> io::Result<UdpSocket> {
    let socket = Socket::new(Domain::IPV4, Type::DGRAM, Some(Protocol::UDP))?;
    socket.set_reuse_address(true)?;
    socket.set_broadcast(true)?;
    if let Some(interface) = interface {
        socket.bind_device(Some(interface.as_bytes()))?;
    }
    socket.bind(&SocketAddr::from((address, port)).into())?;
    let socket: UdpSocket = socket.into();
    socket.set_read_timeout(Some(TURN))?;
    Ok(socket)
}

/// The next datagram, if one comes within a turn.
pub(crate) fn receive(socket: &UdpSocket, buffer: &mut [u8]) -> io::Result<Option<usize>> {
    match socket.recv(buffer) {
        Ok(length) => Ok(Some(length)),
        Err(error) if matches!(error.kind(), io::ErrorKind::WouldBlock | io::ErrorKind::TimedOut) => Ok(None),
        // Somebody's port is closed: no business of a relay's.
        Err(error) if error.kind() == io::ErrorKind::ConnectionRefused => Ok(None),
        Err(error) => Err(error),
    }
}
