//! Binds every port, and says which it lacks and how to get it.

use std::{
    collections::BTreeSet,
    io,
    net::{Ipv4Addr, SocketAddr, SocketAddrV4},
    sync::Arc,
};

use socket2::{Domain, Protocol, Socket, Type};
use tokio::net::{TcpListener, UdpSocket};

use super::{Listening, Place, StartError};
use crate::{
    config::Config,
    dhcp::Wiring,
    link::{FrameSender, Interface},
};

/// Bytes the kernel may hold for a UDP socket: a hall that powers on at once sends thousands of datagrams
/// before the first is read.
const UDP_BUFFER: usize = 4 * 1024 * 1024;

/// Every socket of the service.
pub(super) struct Bound {
    pub(super) wirings: Vec<Arc<Wiring>>,
    pub(super) tftp: Vec<UdpSocket>,
    pub(super) http: Vec<TcpListener>,
    pub(super) https: Vec<TcpListener>,
    /// For the threads that answer people.
    pub(super) admin: std::net::TcpListener,
}

/// Binds everything, or nothing.
pub(super) async fn bind_all(config: &Config, places: &[Place]) -> Result<Bound, StartError> {
    let boot = &config.boot;
    let mut wirings = Vec::new();
    for place in places {
        let Some(interface) = &place.interface else { continue };
        wirings.push(Arc::new(wire(interface, place.address, boot.dhcp_port, false)?));
        wirings.push(Arc::new(wire(interface, place.address, boot.boot_server_port, true)?));
    }
    if let Some(listen) = boot.relay_listen {
        wirings.push(Arc::new(relay(listen)?));
    }
    // An address that two interfaces share is listened on once.
    let addresses: BTreeSet<Ipv4Addr> = places.iter().map(|place| place.address).collect();
    let (mut tftp, mut http, mut https) = (Vec::new(), Vec::new(), Vec::new());
    for address in addresses {
        tftp.push(udp("TFTP", SocketAddr::from((address, boot.tftp_port)), None)?);
        http.push(tcp("boot HTTP", SocketAddr::from((address, boot.http_port))).await?);
        if let Some(port) = boot.https_port {
            https.push(tcp("boot HTTPS", SocketAddr::from((address, port))).await?);
        }
    }
    let admin = tcp("the API", config.admin.listen).await?;
    let admin = admin.into_std().map_err(|source| StartError::Bind {
        what: "the API",
        address: config.admin.listen,
        source,
        fix: String::new(),
    })?;
    Ok(Bound { wirings, tftp, http, https, admin })
}

impl Bound {
    /// What it listens on, with the ports that the kernel chose where none was given.
    pub(super) fn listening(&self, config: &Config) -> Listening {
        let local = |wiring: &Arc<Wiring>| SocketAddr::from((wiring.local, wiring.port));
        let on_wire = |boot_server: bool| {
            self.wirings
                .iter()
                .filter(move |wiring| wiring.boot_server == boot_server && wiring.interface.is_some())
        };
        let name = |wiring: &Arc<Wiring>| wiring.interface.as_ref().map(|interface| interface.name.clone());
        Listening {
            dhcp: on_wire(false)
                .filter_map(|wiring| Some((name(wiring)?, SocketAddrV4::new(wiring.local, wiring.port))))
                .collect(),
            relays: self.wirings.iter().find(|wiring| wiring.interface.is_none()).map(local),
            boot_server: on_wire(true).map(local).collect(),
            tftp: self.tftp.iter().filter_map(|socket| socket.local_addr().ok()).collect(),
            http: self.http.iter().filter_map(|listener| listener.local_addr().ok()).collect(),
            https: self.https.iter().filter_map(|listener| listener.local_addr().ok()).collect(),
            admin: self.admin.local_addr().unwrap_or(config.admin.listen),
        }
    }
}

/// A socket on an interface's wire.
fn wire(interface: &Interface, local: Ipv4Addr, port: u16, boot_server: bool) -> Result<Wiring, StartError> {
    let any = SocketAddr::from((Ipv4Addr::UNSPECIFIED, port));
    let what = if boot_server { "the PXE boot server" } else { "DHCP" };
    let socket = udp(what, any, Some(interface))?;
    let frames = FrameSender::open(interface)
        .map_err(|source| StartError::Frames { name: interface.name.clone(), source })?;
    let port = socket.local_addr().map_or(port, |address| address.port());
    Ok(Wiring { socket, local, port, interface: Some(interface.clone()), frames: Some(frames), boot_server })
}

/// The socket that serves relays only.
fn relay(listen: SocketAddrV4) -> Result<Wiring, StartError> {
    let socket = udp("DHCP from relays", listen.into(), None)?;
    let port = socket.local_addr().map_or(listen.port(), |address| address.port());
    Ok(Wiring { socket, local: *listen.ip(), port, interface: None, frames: None, boot_server: false })
}

fn udp(
    what: &'static str,
    address: SocketAddr,
    interface: Option<&Interface>,
) -> Result<UdpSocket, StartError> {
    let bind = || -> io::Result<UdpSocket> {
        let socket = Socket::new(Domain::IPV4, Type::DGRAM, Some(Protocol::UDP))?;
        socket.set_nonblocking(true)?;
        if let Some(interface) = interface {
            // Before the port: what comes by another interface never reaches this socket.
            socket.bind_device(Some(interface.name.as_bytes()))?;
            socket.set_broadcast(true)?;
        }
        socket.set_recv_buffer_size(UDP_BUFFER)?;
        socket.bind(&address.into())?;
        UdpSocket::from_std(socket.into())
    };
    bind().map_err(|source| bind_error(what, address, source))
}

async fn tcp(what: &'static str, address: SocketAddr) -> Result<TcpListener, StartError> {
    TcpListener::bind(address).await.map_err(|source| bind_error(what, address, source))
}

fn bind_error(what: &'static str, address: SocketAddr, source: io::Error) -> StartError {
    let port = address.port();
    let fix = match source.kind() {
        io::ErrorKind::PermissionDenied => format!(
            "Port {port} and the named interface need the capabilities CAP_NET_BIND_SERVICE and CAP_NET_RAW: \
             start it by the systemd unit, or give the file the right with \
             `setcap cap_net_bind_service,cap_net_raw+ep lastmile`"
        ),
        io::ErrorKind::AddrInUse => format!(
            "Another program has port {port}: `ss -lnp 'sport = :{port}'` shows which; end it, or give this \
             service another address"
        ),
        io::ErrorKind::AddrNotAvailable => {
            format!("{} is no address of this host: see `ip -4 address`", address.ip())
        }
        _ => "See `ip -4 address` and the log of the kernel".into(),
    };
    StartError::Bind { what, address, source, fix }
}
