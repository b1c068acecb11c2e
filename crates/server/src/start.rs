//! Starting: opens the records, binds every port, and says which it lacks and how to get it.

use std::{
    fmt, io,
    net::{IpAddr, Ipv4Addr, SocketAddr, SocketAddrV4},
    path::PathBuf,
    sync::Arc,
    time::Duration,
};

use lastmile_core::{boot::Service, image::Revision, site::Site, tftp::Limits};
use lastmile_store::{Store, StoreError};
use socket2::{Domain, Protocol, Socket, Type};
use thiserror::Error;
use tokio::net::{TcpListener, UdpSocket};
use tokio_util::{sync::CancellationToken, task::TaskTracker};

use crate::{
    admin, boot,
    config::{Config, ConfigError},
    dhcp::{self, Wiring},
    library::Library,
    link::{FrameSender, Interface},
    state::App,
    tftp,
};

/// Longest wait for requests under way when the service is told to end.
const GRACE: Duration = Duration::from_secs(3);
/// Octets the kernel may hold for a UDP socket: a hall that powers on at once sends thousands of datagrams
/// before the first is read.
const UDP_BUFFER: usize = 4 * 1024 * 1024;
/// MTU assumed where machines are reached through relays.
const ETHERNET_MTU: u16 = 1500;

/// Why the service cannot start.
#[derive(Debug, Error)]
pub enum StartError {
    /// The configuration is wrong.
    #[error(transparent)]
    Config(#[from] ConfigError),
    /// The data folder cannot be used.
    #[error("cannot use the data folder {}: {source}. Make it writable for the user that runs the service", path.display())]
    DataDir {
        /// The folder.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
    /// The records cannot be opened.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The interface is not there.
    #[error("there is no interface '{name}'. There are: {}", there.join(", "))]
    NoInterface {
        /// The name asked for.
        name: String,
        /// The names there are.
        there: Vec<String>,
    },
    /// The interface has no IPv4 address.
    #[error(
        "interface '{name}' has no IPv4 address. Give it a fixed one: machines are told to fetch from it"
    )]
    NoAddress {
        /// The interface.
        name: String,
    },
    /// A port cannot be had.
    #[error("cannot listen on {what} {address}: {source}. {mend}")]
    Bind {
        /// For what.
        what: &'static str,
        /// Where.
        address: SocketAddr,
        /// Why.
        source: io::Error,
        /// What to do.
        mend: String,
    },
    /// Frames cannot be sent.
    #[error(
        "cannot open a packet socket on '{name}': {source}. It answers clients that have no address yet: \
         give the service the capability CAP_NET_RAW"
    )]
    Frames {
        /// The interface.
        name: String,
        /// Why.
        source: io::Error,
    },
}

/// What a running service listens on.
#[derive(Debug, Clone)]
pub struct Listening {
    /// The interface whose wire is answered on, with its address.
    pub dhcp: Option<(String, SocketAddrV4)>,
    /// Where relays are answered.
    pub relays: Option<SocketAddr>,
    /// TFTP.
    pub tftp: SocketAddr,
    /// The boot listener.
    pub http: SocketAddr,
    /// The API and the console.
    pub admin: SocketAddr,
}

impl Listening {
    /// One line a listener.
    #[must_use]
    pub fn lines(&self) -> Vec<String> {
        let mut lines = Vec::new();
        if let Some((interface, address)) = &self.dhcp {
            lines.push(format!("DHCP on {interface}, as {address}"));
        }
        if let Some(relays) = &self.relays {
            lines.push(format!("DHCP from relays on {relays}"));
        }
        lines.push(format!("TFTP on {}", self.tftp));
        lines.push(format!("boot HTTP on {}", self.http));
        lines.push(format!("API and console on http://{}", self.admin));
        lines
    }
}

/// A running service. Dropping it does not end it: call [`Running::stop`].
pub struct Running {
    listening: Listening,
    stop: CancellationToken,
    tasks: TaskTracker,
}

impl fmt::Debug for Running {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Running").field("listening", &self.listening).finish_non_exhaustive()
    }
}

impl Running {
    /// What it listens on.
    #[must_use]
    pub const fn listening(&self) -> &Listening {
        &self.listening
    }

    /// Ends it: no new requests, those under way get some seconds to end.
    pub async fn stop(self) {
        self.stop.cancel();
        self.tasks.close();
        if tokio::time::timeout(GRACE, self.tasks.wait()).await.is_err() {
            tracing::warn!("requests still under way after {GRACE:?} were cut off");
        }
    }
}

/// Starts the service.
///
/// # Errors
/// What is lacking, and how to get it. Nothing listens then.
pub async fn start(config: &Config) -> Result<Running, StartError> {
    config.check()?;
    let data_dir = |source| StartError::DataDir { path: config.data_dir.clone(), source };
    std::fs::create_dir_all(&config.data_dir).map_err(data_dir)?;
    let library = Library::open(&config.data_dir).map_err(data_dir)?;
    let interface = config.boot.interface.as_deref().map(find_interface).transpose()?;
    let address = machine_address(config, interface.as_ref())?;

    let mut wirings = Vec::new();
    if let Some(interface) = &interface {
        wirings.push(Arc::new(wire(interface, address, config.boot.dhcp_port)?));
    }
    if let Some(listen) = config.boot.relay_listen {
        wirings.push(Arc::new(relay(listen)?));
    }
    let tftp = udp("TFTP", SocketAddr::from((address, config.boot.tftp_port)), None)?;
    let http = tcp("boot HTTP", SocketAddr::from((address, config.boot.http_port))).await?;
    let admin = tcp("the API", config.admin.listen).await?;

    let store = Store::open(&config.data_dir.join("lastmile.sqlite"))?;
    let mut loaded = store.load()?;
    loaded.site = mark_damage(&library, &loaded.site);
    let listening = Listening {
        dhcp: interface
            .as_ref()
            .map(|interface| (interface.name.clone(), SocketAddrV4::new(address, config.boot.dhcp_port))),
        relays: wirings.last().filter(|w| w.interface.is_none()).and_then(|w| w.socket.local_addr().ok()),
        tftp: local(tftp.local_addr(), config.boot.tftp_port, address),
        http: local(http.local_addr(), config.boot.http_port, address),
        admin: admin.local_addr().unwrap_or(config.admin.listen),
    };
    let service = Service { address, http_port: listening.http.port() };
    let limits = Limits::for_mtu(interface.as_ref().map_or(ETHERNET_MTU, |interface| interface.mtu));
    let app = Arc::new(App::new(store, library, service, limits, loaded));
    Ok(run(app, listening, wirings, tftp, http, admin))
}

fn run(
    app: Arc<App>,
    listening: Listening,
    wirings: Vec<Arc<Wiring>>,
    tftp_socket: UdpSocket,
    http: TcpListener,
    admin_listener: TcpListener,
) -> Running {
    let (stop, tasks) = (CancellationToken::new(), TaskTracker::new());
    for wiring in wirings {
        tasks.spawn(dhcp::serve(app.clone(), wiring, tasks.clone(), stop.clone()));
    }
    tasks.spawn(tftp::serve(app.clone(), tftp_socket, tasks.clone(), stop.clone()));
    tasks.spawn(boot::serve(http, boot::router(app.clone()), tasks.clone(), stop.clone()));
    let router = admin::router(app, listening.clone(), stop.clone());
    let stopped = stop.clone().cancelled_owned();
    tasks.spawn(async move {
        if let Err(error) = axum::serve(admin_listener, router).with_graceful_shutdown(stopped).await {
            tracing::error!("the admin listener ended: {error}");
        }
    });
    Running { listening, stop, tasks }
}

/// Notes which images miss content, so that they are not served.
fn mark_damage(library: &Library, site: &Site) -> Site {
    let mut marked = site.clone();
    for revision in site.revisions() {
        let missing = revision.manifest.files().iter().filter(|file| !library.has(&file.sha256, file.size));
        let damaged: Vec<String> = missing.map(|file| file.path.clone()).collect();
        if damaged.is_empty() {
            continue;
        }
        let name = &revision.image_name;
        tracing::warn!(image = %name, revision = revision.number, ?damaged, "files are missing or changed: not served");
        let revision = Revision { damaged, ..(**revision).clone() };
        marked = match site.image(name).filter(|image| image.current.id == revision.id) {
            Some(image) => {
                let mut image = (**image).clone();
                image.current = Arc::new(revision);
                marked.with_image(image)
            }
            None => marked.with_former_revision(revision),
        };
    }
    marked
}

fn find_interface(name: &str) -> Result<Interface, StartError> {
    let missing = || StartError::NoInterface { name: name.into(), there: Interface::names() };
    Interface::find(name).ok().flatten().ok_or_else(missing)
}

fn machine_address(config: &Config, interface: Option<&Interface>) -> Result<Ipv4Addr, StartError> {
    if let Some(address) = config.boot.address {
        return Ok(address);
    }
    let Some(interface) = interface else { return Err(ConfigError::NoAddress.into()) };
    let first = interface.addresses.first().copied();
    first.ok_or_else(|| StartError::NoAddress { name: interface.name.clone() })
}

/// The socket on an interface's wire.
fn wire(interface: &Interface, local: Ipv4Addr, port: u16) -> Result<Wiring, StartError> {
    let any = SocketAddr::from((Ipv4Addr::UNSPECIFIED, port));
    let socket = udp("DHCP", any, Some(interface))?;
    let frames = FrameSender::open(interface)
        .map_err(|source| StartError::Frames { name: interface.name.clone(), source })?;
    Ok(Wiring { socket, local, port, interface: Some(interface.clone()), frames: Some(frames) })
}

/// The socket that serves relays only.
fn relay(listen: SocketAddrV4) -> Result<Wiring, StartError> {
    let socket = udp("DHCP from relays", listen.into(), None)?;
    Ok(Wiring { socket, local: *listen.ip(), port: listen.port(), interface: None, frames: None })
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
    let mend = match source.kind() {
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
    StartError::Bind { what, address, source, mend }
}

fn local(bound: io::Result<SocketAddr>, port: u16, address: Ipv4Addr) -> SocketAddr {
    bound.unwrap_or_else(|_| SocketAddr::new(IpAddr::V4(address), port))
}
