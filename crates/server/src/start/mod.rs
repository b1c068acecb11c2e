//! Starting: opens the records, binds every port, and says which it lacks and how to get it.

mod bind;
mod people;
mod supervise;

use std::{
    fmt, io,
    net::{Ipv4Addr, SocketAddr, SocketAddrV4},
    path::PathBuf,
    sync::Arc,
    time::Duration,
};

use bind::{Bound, bind_all};
use lastmile_core::{
    model::{image::Revision, service::Service},
    report::trace::TraceBook,
};
use lastmile_store::{AddressNote, Change, Store, StoreError};
use people::People;
use supervise::Supervisor;
use thiserror::Error;
use tokio::{net::TcpListener, sync::mpsc};
use tokio_util::{sync::DropGuard, task::TaskTracker};

use crate::{
    admin,
    app::App,
    boot,
    config::{Config, ConfigError},
    dhcp, installs, intake, jobs,
    library::{Library, Uploads},
    link::{FrameListener, Interface},
    records::{self, Records, answers::seal_key},
    survey, tftp, webhook,
    wire::{
        Kept, Services, Wire,
        identity::{self, Known},
        trace_journal::Journal,
    },
    work::WorkBook,
};

/// Longest wait for requests under way when the service is told to end.
const GRACE: Duration = Duration::from_secs(3);

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
    /// The key of sealed secrets cannot be used.
    #[error("{reason}")]
    Key {
        /// Why.
        reason: String,
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
    /// The certificate for HTTPS cannot be used.
    #[error(
        "cannot use the certificate for HTTPS: {reason}. Give [boot] `certificate` and `private_key` in PEM, or neither"
    )]
    Certificate {
        /// Why.
        reason: String,
    },
    /// A port cannot be had.
    #[error("cannot listen on {what} {address}: {source}. {fix}")]
    Bind {
        /// For what.
        what: &'static str,
        /// Where.
        address: SocketAddr,
        /// Why.
        source: io::Error,
        /// What to do.
        fix: String,
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
    /// The interfaces whose wires are answered on, with the address there.
    pub dhcp: Vec<(String, SocketAddrV4)>,
    /// Where relays are answered beside.
    pub relays: Option<SocketAddr>,
    /// Where PXE boot servers are asked.
    pub boot_server: Vec<SocketAddr>,
    /// TFTP.
    pub tftp: Vec<SocketAddr>,
    /// The boot listener.
    pub http: Vec<SocketAddr>,
    /// The boot listener by HTTPS.
    pub https: Vec<SocketAddr>,
    /// The API and the console.
    pub admin: SocketAddr,
}

impl Listening {
    /// One line a listener.
    #[must_use]
    pub fn lines(&self) -> Vec<String> {
        let mut lines: Vec<String> = self
            .dhcp
            .iter()
            .map(|(interface, address)| format!("DHCP on {interface}, as {address}"))
            .collect();
        if let Some(relays) = &self.relays {
            lines.push(format!("DHCP from relays on {relays}"));
        }
        let each = |what: &str, all: &[SocketAddr]| {
            all.iter().map(|address| format!("{what} on {address}")).collect::<Vec<_>>()
        };
        lines.extend(each("PXE boot server", &self.boot_server));
        lines.extend(each("TFTP", &self.tftp));
        lines.extend(each("boot HTTP", &self.http));
        lines.extend(each("boot HTTPS", &self.https));
        lines.push(format!("API and console on http://{}", self.admin));
        lines
    }
}

/// A running service. Dropped, it ends at once; [`Running::stop`] gives what is under way some seconds.
pub struct Running {
    listening: Listening,
    stop: DropGuard,
    tasks: TaskTracker,
    failures: mpsc::UnboundedReceiver<String>,
    store: Store,
    /// Kept until all tasks have ended: some of them run on its threads.
    _people: People,
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

    /// Waits until a part of it has failed without which it does not do its work; gives which. It is then to be ended, and
    /// started anew.
    pub async fn failed(&mut self) -> String {
        match self.failures.recv().await {
            Some(what) => what,
            // Every part has ended as it was told to.
            None => std::future::pending().await,
        }
    }

    /// Whether the records answer within `limit`. What they answer does not matter: a full disk is no reason to start anew.
    pub async fn answers_within(&self, limit: Duration) -> bool {
        tokio::time::timeout(limit, self.store.ping()).await.is_ok()
    }

    /// Ends it: no new requests, those under way get some seconds to end.
    pub async fn stop(self) {
        self.stop.disarm().cancel();
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
    let uploads = Uploads::open(&config.data_dir, library.clone()).map_err(data_dir)?;
    let places = places(config)?;
    let bound = bind_all(config, &places).await?;
    let tls = match config.boot.https_port {
        Some(_) => {
            let addresses: Vec<Ipv4Addr> = places.iter().map(|place| place.address).collect();
            let made = boot::tls(config, &addresses);
            Some(made.map_err(|reason| StartError::Certificate { reason })?)
        }
        None => None,
    };
    let store = Store::open(&config.data_dir.join("lastmile.sqlite"))?;
    let loaded = store.load()?;
    let (mut traces, site) = (TraceBook::default(), store.site());
    let is_known = |mac| site.machine_by_mac(mac).is_some();
    let (journal, to_journal) = Journal::open(&config.data_dir, &mut traces, is_known).map_err(data_dir)?;
    let (known, notes) = Known::new(loaded.address_notes);
    mark_damage(&library, &store).await?;
    let listening = bound.listening(config);
    let seal_key = seal_key(&config.data_dir).map_err(|reason| StartError::Key { reason })?;
    let wire = Arc::new(Wire::new(Kept {
        services: services(config, &places, &listening),
        leases: loaded.leases,
        trace_journal: to_journal,
        known,
        traces,
    }));
    let records = Arc::new(Records::new(store, seal_key, &loaded.tokens, wire.clone()));
    let work = Arc::new(WorkBook::new(records.events.clone()));
    records::observe(&records);
    let watched = Arc::downgrade(&wire);
    let app = App { records, wire, library, uploads, work };
    std::thread::Builder::new()
        .name("traces".into())
        .spawn(move || journal.keep(&watched))
        .map_err(data_dir)?;
    let people = People::start().map_err(data_dir)?;
    Ok(run(app, listening, bound, tls, notes, people))
}

/// Where machines reach the service: an interface with the address there, or an address alone.
struct Place {
    interface: Option<Interface>,
    address: Ipv4Addr,
}

fn places(config: &Config) -> Result<Vec<Place>, StartError> {
    let names = &config.boot.interfaces;
    if names.is_empty() {
        let address = config.boot.address.ok_or(ConfigError::NoAddress)?;
        return Ok(vec![Place { interface: None, address }]);
    }
    let mut places = Vec::new();
    for name in names {
        let missing = || StartError::NoInterface { name: name.clone(), there: Interface::names() };
        let interface = Interface::find(name).ok().flatten().ok_or_else(missing)?;
        let told = config.boot.address.filter(|_| names.len() == 1);
        let address = told.or_else(|| interface.address());
        let address = address.ok_or_else(|| StartError::NoAddress { name: name.clone() })?;
        places.push(Place { interface: Some(interface), address });
    }
    Ok(places)
}

fn services(config: &Config, places: &[Place], listening: &Listening) -> Services {
    let port = |all: &[SocketAddr]| all.first().map(SocketAddr::port);
    let service = |address| Service {
        address,
        http_port: port(&listening.http).unwrap_or(config.boot.http_port),
        https_port: port(&listening.https),
    };
    let first = places.first().map_or(Ipv4Addr::LOCALHOST, |place| place.address);
    let named = places
        .iter()
        .filter_map(|place| Some((place.interface.as_ref()?.name.clone(), service(place.address))));
    Services { default: service(config.boot.address.unwrap_or(first)), by_interface: named.collect() }
}

fn run(
    app: App,
    listening: Listening,
    bound: Bound,
    tls: Option<boot::Tls>,
    notes: mpsc::Receiver<AddressNote>,
    people: People,
) -> Running {
    let (supervisor, failures) = Supervisor::new();
    let (stop, tasks) = (supervisor.stop.clone(), supervisor.tasks.clone());
    let store = app.records.store.clone();
    supervisor.run("writing to the database", {
        let store = store.clone();
        async move { store.ended().await }
    });
    for wiring in &bound.wirings {
        if let Some(interface) = wiring.interface.as_ref().filter(|_| !wiring.boot_server) {
            hear(&app, interface, &supervisor);
        }
    }
    supervisor.run("hearing ICMP", app.wire.prober.clone().hear_icmp(stop.clone()));
    for wiring in bound.wirings {
        let what = format!("answering DHCP on {}", wiring.local);
        supervisor.run(what, dhcp::serve(app.dhcp(), wiring, tasks.clone(), stop.clone()));
    }
    for socket in bound.tftp {
        supervisor.run("serving TFTP", tftp::serve(app.boot(), socket, tasks.clone(), stop.clone()));
    }
    for listener in bound.http {
        let router = boot::router(app.boot(), false).merge(survey::router(app.survey(&tasks, &stop)));
        let serve = boot::serve(listener, router, None, tasks.clone(), stop.clone());
        supervisor.run("serving boot HTTP", serve);
    }
    for listener in bound.https {
        let router = boot::router(app.boot(), true);
        let serve = boot::serve(listener, router, tls.clone(), tasks.clone(), stop.clone());
        supervisor.run("serving boot HTTPS", serve);
    }
    supervisor.run("keeping addresses", identity::keep_notes(store.clone(), notes, stop.clone()));
    supervisor.run("verifying images", intake::verify_on_schedule(app.intake(), stop.clone()));
    supervisor.run("sweeping the library", intake::sweep_when_told(app.intake(), stop.clone()));
    supervisor
        .run("looking after installs", installs::keep(app.records.clone(), app.wire.clone(), stop.clone()));
    supervisor.run("looking after jobs", jobs::keep(app.records.clone(), stop.clone()));
    supervisor.run("delivering", webhook::deliver(app.records.clone(), tasks.clone(), stop.clone()));
    let (work, ending) = (app.work.clone(), stop.clone().cancelled_owned());
    tasks.spawn(async move {
        ending.await;
        work.end_all();
    });
    let router = admin::router(app, listening.clone(), stop.clone());
    let stopped = stop.clone().cancelled_owned();
    let admin = bound.admin;
    let serve = people.run(async move {
        let ended = match TcpListener::from_std(admin) {
            Ok(admin) => axum::serve(admin, router).with_graceful_shutdown(stopped).await,
            Err(error) => Err(error),
        };
        if let Err(error) = ended {
            tracing::error!("the admin listener ended: {error}");
        }
    });
    supervisor.run("serving the API", serve);
    Running { listening, stop: stop.drop_guard(), tasks, failures, store, _people: people }
}

/// Hears what else is said on a wire. Without it the service works, and knows less.
fn hear(app: &App, interface: &Interface, supervisor: &Supervisor) {
    let stop = &supervisor.stop;
    match FrameListener::arp(interface) {
        Ok(listener) => {
            supervisor.run("hearing ARP", app.wire.prober.clone().hear_arp(listener, stop.clone()));
        }
        Err(error) => tracing::warn!(interface = interface.name, "ARP is not heard: {error}"),
    }
    match FrameListener::to_clients(interface) {
        Ok(listener) => {
            let name = interface.name.clone();
            let hear = dhcp::foreign::hear(app.dhcp(), name, listener, stop.clone());
            supervisor.run("hearing other DHCP servers", hear);
        }
        Err(error) => {
            tracing::warn!(interface = interface.name, "other DHCP servers are not heard: {error}");
        }
    }
}

/// Notes which images miss content, so that they are not served. What was found changed when it was read stays so until
/// it is read again.
async fn mark_damage(library: &Library, store: &Store) -> Result<(), StoreError> {
    let mut damaged = Vec::new();
    for revision in store.site().revisions() {
        let missing = library.missing(revision);
        if missing.iter().all(|path| revision.damaged.contains(path)) {
            continue;
        }
        let (name, number) = (&revision.image_name, revision.number);
        tracing::warn!(image = %name, revision = number, ?missing, "files are missing or changed: not served");
        damaged.push(Revision { damaged: missing, verified: None, ..(**revision).clone() });
    }
    let note = move |change: &mut Change<'_>| {
        damaged.into_iter().try_for_each(|revision| change.note_revision(revision))
    };
    store.change(note).await
}
