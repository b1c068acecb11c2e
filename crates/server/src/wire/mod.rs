//! What is known of the wire: leases, traces, what was overheard, what machines were told. In memory, with journals beside the
//! database; nothing here is entered by people.

mod agents;
pub(crate) mod identity;
mod probe;
mod shells;
pub(crate) mod trace_journal;
mod trial;

use std::{
    collections::HashMap,
    net::Ipv4Addr,
    num::NonZeroUsize,
    sync::{
        Arc, Mutex, MutexGuard,
        atomic::{AtomicU64, Ordering},
    },
};

pub(crate) use agents::{Agent, Agents};
use identity::Known;
use jiff::Timestamp;
use lastmile_api::Counters;
use lastmile_core::{
    base::Id,
    decide::dhcp::LeaseBook,
    model::{
        image::Revision,
        lease::{ClientKey, LeaseRecord},
        loader::Loader,
        machine::Machine,
        service::Service,
        subnet::Subnet,
    },
    report::trace::{Seen, TraceBook, TraceEvent},
    site::Site,
};
use lastmile_formats::{architecture::Architecture, dhcp::Kind, mac::Mac};
use lru::LruCache;
pub(crate) use probe::{Prober, Tried};
pub(crate) use shells::{Shell, Shells, Typed};
use tokio::sync::broadcast;
pub(crate) use trial::Trial;

use crate::{
    clock,
    limits::{Budgets, at_most},
    sync::lock,
};

/// Events of traces that a slow reader may fall behind before it is told to read everything again.
const EVENT_BACKLOG: usize = 4096;
/// Machines of which it is known what loader they were given, and addresses heard beside another server.
const MACHINES_KNOWN: NonZeroUsize = at_most(65_536);
/// DHCP messages that a client may send at once, and in each second after that: a boot takes a dozen.
const CLIENT_BURST: u32 = 40;
const CLIENT_RATE: u32 = 4;
/// The same of a relay: a hall of thousands may be behind it, and power on at once.
const RELAY_BURST: u32 = 20_000;
const RELAY_RATE: u32 = 2_000;
const RELAYS_KNOWN: NonZeroUsize = at_most(4096);
/// Other DHCP servers that are remembered.
const FOREIGN_KNOWN: NonZeroUsize = at_most(256);
/// Architectures without a loader that are remembered: whoever makes them up pushes out only others.
const MISSING_KNOWN: NonZeroUsize = at_most(64);

/// Where machines reach the service: one address a wire.
#[derive(Debug, Clone)]
pub(crate) struct Services {
    /// For machines behind relays, and where nothing closer is known.
    pub(crate) default: Service,
    /// By the name of the interface.
    pub(crate) by_interface: HashMap<String, Service>,
}

impl Services {
    /// Every address at which machines reach the service.
    pub(crate) fn addresses(&self) -> impl Iterator<Item = Ipv4Addr> {
        self.by_interface.values().chain([&self.default]).map(|service| service.address)
    }
}

/// What the wire begins with.
pub(crate) struct Kept {
    pub(crate) services: Services,
    /// What the lease book begins with.
    pub(crate) leases: Vec<LeaseRecord>,
    /// What is known of addresses beside leases.
    pub(crate) known: Known,
    /// Traces that were kept, and where new ones go.
    pub(crate) traces: TraceBook,
    pub(crate) trace_journal: trace_journal::Sender,
}

/// What is known of the wire.
pub(crate) struct Wire {
    pub(crate) services: Services,
    pub(crate) prober: Arc<Prober>,
    pub(crate) trial: Trial,
    pub(crate) counts: Counts,
    /// The survey's agents that are connected.
    pub(crate) agents: Agents,
    /// The shells that are open on machines.
    pub(crate) shells: Shells,
    /// Every event of every trace, with the address it is of.
    pub(crate) trace_events: broadcast::Sender<(Mac, Arc<TraceEvent>)>,
    book: Mutex<LeaseBook>,
    traces: Mutex<TraceBook>,
    /// Where events go to be kept over a restart.
    trace_journal: trace_journal::Sender,
    loaders_given: Mutex<LruCache<Mac, Id<Loader>>>,
    /// The firmware that a machine said it has.
    firmware: Mutex<LruCache<Mac, Architecture>>,
    /// The revision whose UEFI application a machine was given last.
    programs_given: Mutex<LruCache<Mac, Id<Revision>>>,
    missing_loaders: Mutex<LruCache<Architecture, Timestamp>>,
    known: Mutex<Known>,
    /// How many DHCP messages each client may send, and each relay forward.
    pub(crate) clients: Budgets<ClientKey>,
    pub(crate) relays: Budgets<Ipv4Addr>,
    foreign: Mutex<Foreign>,
}

/// A DHCP server of somebody else, as it was last heard.
#[derive(Debug, Clone)]
pub(crate) struct ForeignServer {
    /// The interface it was heard on.
    pub(crate) interface: String,
    /// When.
    pub(crate) at: Timestamp,
    /// What it answered.
    pub(crate) kind: Kind,
    /// The address it gave.
    pub(crate) gave: Ipv4Addr,
}

/// Other DHCP servers by their address.
#[derive(Debug)]
pub(crate) struct Foreign(LruCache<Ipv4Addr, ForeignServer>);

impl Foreign {
    /// Notes a server; gives whether it is worth a line in the log: it was not known, and so many are not known yet
    /// that somebody must be making them up.
    pub(crate) fn insert(&mut self, server: Ipv4Addr, seen: ForeignServer) -> bool {
        let room = self.0.len() < FOREIGN_KNOWN.get();
        self.0.put(server, seen).is_none() && room
    }

    pub(crate) fn iter(&self) -> impl Iterator<Item = (&Ipv4Addr, &ForeignServer)> {
        self.0.iter()
    }
}

/// What is counted since the start.
#[derive(Debug, Default)]
pub(crate) struct Counts {
    pub(crate) dhcp_answered: AtomicU64,
    pub(crate) dhcp_ignored: AtomicU64,
    pub(crate) dhcp_malformed: AtomicU64,
    pub(crate) tftp_done: AtomicU64,
    pub(crate) tftp_refused: AtomicU64,
    pub(crate) tftp_failed: AtomicU64,
    pub(crate) tftp_malformed: AtomicU64,
    pub(crate) http_served: AtomicU64,
    pub(crate) http_refused: AtomicU64,
}

impl Counts {
    pub(crate) fn read(&self) -> Counters {
        let read = |count: &AtomicU64| count.load(Ordering::Relaxed);
        Counters {
            dhcp_answered: read(&self.dhcp_answered),
            dhcp_ignored: read(&self.dhcp_ignored),
            dhcp_malformed: read(&self.dhcp_malformed),
            tftp_done: read(&self.tftp_done),
            tftp_refused: read(&self.tftp_refused),
            tftp_failed: read(&self.tftp_failed),
            tftp_malformed: read(&self.tftp_malformed),
            http_served: read(&self.http_served),
            http_refused: read(&self.http_refused),
        }
    }
}

/// Counts one more.
pub(crate) fn count(counter: &AtomicU64) {
    counter.fetch_add(1, Ordering::Relaxed);
}

impl Wire {
    pub(crate) fn new(kept: Kept) -> Self {
        Self {
            services: kept.services,
            prober: Arc::new(Prober::new()),
            trial: Trial::default(),
            counts: Counts::default(),
            agents: Agents::default(),
            shells: Shells::default(),
            trace_events: broadcast::channel(EVENT_BACKLOG).0,
            book: Mutex::new(LeaseBook::new(kept.leases)),
            traces: Mutex::new(kept.traces),
            trace_journal: kept.trace_journal,
            loaders_given: Mutex::new(LruCache::new(MACHINES_KNOWN)),
            firmware: Mutex::new(LruCache::new(MACHINES_KNOWN)),
            programs_given: Mutex::new(LruCache::new(MACHINES_KNOWN)),
            missing_loaders: Mutex::new(LruCache::new(MISSING_KNOWN)),
            known: Mutex::new(kept.known),
            clients: Budgets::new(CLIENT_BURST, CLIENT_RATE, MACHINES_KNOWN),
            relays: Budgets::new(RELAY_BURST, RELAY_RATE, RELAYS_KNOWN),
            foreign: Mutex::new(Foreign(LruCache::new(FOREIGN_KNOWN))),
        }
    }

    /// Adds to the trace of a machine that is registered or not, and tells whoever watches traces.
    pub(crate) fn note(&self, mac: Mac, is_registered: bool, at: Timestamp, seen: Seen) {
        let event = self.traces().add(mac, is_registered, at, seen);
        // A full queue: the event is in memory only.
        let _ = self.trace_journal.try_send((mac, event.clone()));
        if self.trace_events.receiver_count() > 0 {
            tracing::debug!(%mac, asked = event.asked(), got = event.got());
            // Nobody may be watching any more.
            let _ = self.trace_events.send((mac, event));
        }
    }

    /// The lease book. Never held across an await.
    pub(crate) fn book(&self) -> MutexGuard<'_, LeaseBook> {
        lock(&self.book)
    }

    pub(crate) fn traces(&self) -> MutexGuard<'_, TraceBook> {
        lock(&self.traces)
    }

    /// Where the machines of a subnet reach the service.
    pub(crate) fn service_for(&self, subnet: Option<&Subnet>) -> Service {
        let interface = subnet.and_then(|subnet| subnet.interface.as_ref());
        let own = interface.and_then(|interface| self.services.by_interface.get(interface));
        own.copied().unwrap_or(self.services.default)
    }

    /// Notes which loader a machine was told to fetch.
    pub(crate) fn note_loader(&self, mac: Mac, loader: &Loader) {
        lock(&self.loaders_given).put(mac, loader.id);
    }

    /// The loader that a machine was told last, since the service started.
    pub(crate) fn loader_of<'a>(&self, site: &'a Site, mac: Mac) -> Option<&'a Arc<Loader>> {
        let given = lock(&self.loaders_given).peek(&mac).copied()?;
        site.loaders().find(|loader| loader.id == given)
    }

    /// Notes which firmware a machine said it has.
    pub(crate) fn note_firmware(&self, mac: Mac, architecture: Architecture) {
        lock(&self.firmware).put(mac, architecture);
    }

    /// The firmware that a machine has: what it said, else what its loader is for.
    pub(crate) fn architecture_of(&self, site: &Site, mac: Mac) -> Option<Architecture> {
        let said = lock(&self.firmware).peek(&mac).copied();
        said.or_else(|| self.loader_of(site, mac).map(|loader| loader.architecture))
    }

    /// Notes which application a machine was given.
    pub(crate) fn note_program(&self, mac: Mac, revision: Id<Revision>) {
        lock(&self.programs_given).put(mac, revision);
    }

    /// The revision whose application a machine was given last.
    pub(crate) fn program_of(&self, mac: Mac) -> Option<Id<Revision>> {
        lock(&self.programs_given).peek(&mac).copied()
    }

    /// Notes that firmware asked for which no loader is there.
    pub(crate) fn note_missing_loader(&self, architecture: Architecture) {
        lock(&self.missing_loaders).put(architecture, clock::now());
    }

    /// The architectures that asked and for which no loader was there, with when.
    pub(crate) fn missing_loaders(&self) -> Vec<(Architecture, Timestamp)> {
        lock(&self.missing_loaders).iter().map(|(architecture, at)| (*architecture, *at)).collect()
    }

    /// Other DHCP servers that were heard.
    pub(crate) fn foreign_servers(&self) -> MutexGuard<'_, Foreign> {
        lock(&self.foreign)
    }

    /// The address that a machine has now.
    pub(crate) fn address_of(&self, site: &Site, machine: &Machine) -> Option<Ipv4Addr> {
        self.address_of_macs(site, &machine.macs)
    }
}
