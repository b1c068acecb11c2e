//! What all parts of the service share.

use std::{
    collections::{BTreeMap, HashMap},
    net::Ipv4Addr,
    num::NonZeroUsize,
    sync::{
        Arc, Mutex, MutexGuard, PoisonError,
        atomic::{AtomicI64, AtomicU64, Ordering},
    },
};

use arc_swap::ArcSwap;
use jiff::Timestamp;
use lastmile_api::{Counters, Event, Installed, MachineRow, Stage};
use lastmile_core::{
    Id,
    answers::SealKey,
    boot::{Architecture, Loader, Service},
    dhcp::{ClientKey, LeaseBook, LeaseState},
    image::Revision,
    machine::{Machine, Standing, StandingDraft},
    net::{Mac, Subnet},
    site::Site,
    trace::{Seen, TraceBook, TraceEvent},
};
use lastmile_store::{Handover, Store};
use lru::LruCache;
use tokio::sync::broadcast;

use crate::{
    dhcp::{Prober, foreign::ForeignServer, trial::Trial},
    installs::Paces,
    intake::{Uploads, WorkBook},
    library::Library,
};

/// Events a slow reader may fall behind before it is told to read everything again.
const EVENT_BACKLOG: usize = 4096;
/// Machines whose installs are moved on at the same time. Two of one stripe wait for each other.
const STRIPES: usize = 256;

/// Machines of which it is known what loader they were given, and addresses heard beside another server.
const MACHINES_KNOWN: NonZeroUsize = NonZeroUsize::new(65_536).unwrap();
/// Other DHCP servers that are remembered.
const FOREIGN_KNOWN: NonZeroUsize = NonZeroUsize::new(256).unwrap();
/// Architectures without a loader that are remembered: whoever makes them up pushes out only others.
const MISSING_KNOWN: NonZeroUsize = NonZeroUsize::new(64).unwrap();

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

/// What all parts of the service share.
pub(crate) struct App {
    pub(crate) store: Store,
    pub(crate) library: Library,
    /// What secrets are sealed with.
    pub(crate) seal_key: SealKey,
    pub(crate) services: Services,
    pub(crate) prober: Arc<Prober>,
    pub(crate) trial: Trial,
    pub(crate) since: Timestamp,
    pub(crate) counts: Counts,
    pub(crate) events: broadcast::Sender<Event>,
    /// Every event of every trace, with the address it is of.
    pub(crate) trace_events: broadcast::Sender<(Mac, Arc<TraceEvent>)>,
    /// Held by whoever changes the site through the admin API: store first, then the snapshot.
    pub(crate) admin_write: tokio::sync::Mutex<()>,
    pub(crate) stripes: Vec<tokio::sync::Mutex<()>>,
    /// What takes longer than a moment.
    pub(crate) work: Arc<WorkBook>,
    pub(crate) uploads: Uploads,
    /// Held while a revision is read again.
    pub(crate) verifying: tokio::sync::Mutex<()>,
    /// That a revision came which was never read.
    pub(crate) verify_soon: tokio::sync::Notify,
    pub(crate) last_install: AtomicI64,
    /// How installs of each image usually go.
    pub(crate) paces: Paces,
    /// When an open install was last heard of by something that is no step, by its number.
    pub(crate) signs: Mutex<HashMap<i64, Timestamp>>,
    /// Where ends of installs are told, by name.
    pub(crate) handovers: ArcSwap<BTreeMap<String, Handover>>,
    /// That something is to be told.
    pub(crate) deliver_soon: tokio::sync::Notify,
    site: ArcSwap<Site>,
    book: Mutex<LeaseBook>,
    traces: Mutex<TraceBook>,
    loaders_given: Mutex<LruCache<Mac, Id<Loader>>>,
    /// The firmware that a machine said it has.
    firmware: Mutex<LruCache<Mac, Architecture>>,
    /// The revision whose UEFI application a machine was handed over to last.
    programs_given: Mutex<LruCache<Mac, Id<Revision>>>,
    missing_loaders: Mutex<LruCache<Architecture, Timestamp>>,
    heard: Mutex<LruCache<Ipv4Addr, Mac>>,
    foreign: Mutex<Foreign>,
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

impl App {
    pub(crate) fn new(
        store: Store,
        library: Library,
        seal_key: SealKey,
        uploads: Uploads,
        services: Services,
        loaded: lastmile_store::Loaded,
    ) -> Self {
        let events = broadcast::channel(EVENT_BACKLOG).0;
        Self {
            store,
            library,
            seal_key,
            services,
            prober: Arc::new(Prober::new()),
            trial: Trial::default(),
            since: Timestamp::now(),
            counts: Counts::default(),
            work: Arc::new(WorkBook::new(events.clone())),
            uploads,
            verifying: tokio::sync::Mutex::default(),
            verify_soon: tokio::sync::Notify::new(),
            events,
            trace_events: broadcast::channel(EVENT_BACKLOG).0,
            admin_write: tokio::sync::Mutex::default(),
            stripes: (0..STRIPES).map(|_| tokio::sync::Mutex::default()).collect(),
            last_install: AtomicI64::new(loaded.last_install),
            paces: Paces::default(),
            signs: Mutex::default(),
            handovers: ArcSwap::from_pointee(
                loaded.handovers.into_iter().map(|handover| (handover.name.clone(), handover)).collect(),
            ),
            deliver_soon: tokio::sync::Notify::new(),
            site: ArcSwap::from_pointee(loaded.site),
            book: Mutex::new(LeaseBook::new(loaded.leases)),
            traces: Mutex::default(),
            loaders_given: Mutex::new(LruCache::new(MACHINES_KNOWN)),
            firmware: Mutex::new(LruCache::new(MACHINES_KNOWN)),
            programs_given: Mutex::new(LruCache::new(MACHINES_KNOWN)),
            missing_loaders: Mutex::new(LruCache::new(MISSING_KNOWN)),
            heard: Mutex::new(LruCache::new(MACHINES_KNOWN)),
            foreign: Mutex::new(Foreign(LruCache::new(FOREIGN_KNOWN))),
        }
    }

    /// The snapshot as it is now.
    pub(crate) fn site(&self) -> Arc<Site> {
        self.site.load_full()
    }

    /// Puts a changed snapshot in the place of the present one. `change` may run again if another change
    /// came between, so it must do nothing but make the new value.
    pub(crate) fn change_site(&self, change: impl Fn(&Site) -> Site) {
        self.site.rcu(|site| change(site));
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

    /// Notes which application a machine was handed over to.
    pub(crate) fn note_program(&self, mac: Mac, revision: Id<Revision>) {
        lock(&self.programs_given).put(mac, revision);
    }

    /// The revision whose application a machine was handed over to last.
    pub(crate) fn program_of(&self, mac: Mac) -> Option<Id<Revision>> {
        lock(&self.programs_given).peek(&mac).copied()
    }

    /// Notes that firmware asked for which no loader is there.
    pub(crate) fn note_missing_loader(&self, architecture: Architecture) {
        lock(&self.missing_loaders).put(architecture, Timestamp::now());
    }

    /// The architectures that asked and for which no loader was there, with when.
    pub(crate) fn missing_loaders(&self) -> Vec<(Architecture, Timestamp)> {
        lock(&self.missing_loaders).iter().map(|(architecture, at)| (*architecture, *at)).collect()
    }

    /// Notes who has an address that another server hands out.
    pub(crate) fn hear_address(&self, address: Ipv4Addr, mac: Mac) {
        lock(&self.heard).put(address, mac);
    }

    /// Other DHCP servers that were heard.
    pub(crate) fn foreign_servers(&self) -> MutexGuard<'_, Foreign> {
        lock(&self.foreign)
    }

    /// Adds to the trace of the machine with that address, and tells whoever watches.
    pub(crate) fn trace(&self, mac: Mac, at: Timestamp, seen: Seen) {
        if self.trial.leaves_no_record(mac) {
            return;
        }
        let site = self.site();
        let machine = site.machine_by_mac(mac);
        let watched = (self.trace_events.receiver_count() > 0).then(|| seen.clone());
        let number = self.traces().add(mac, machine.is_some(), at, seen);
        if let Some(seen) = watched {
            let event = TraceEvent { number, at, seen };
            tracing::debug!(%mac, asked = event.asked(), got = event.got());
            // Nobody may be watching any more.
            let _ = self.trace_events.send((mac, Arc::new(event)));
        }
        match machine {
            Some(machine) => self.tell_machine(machine),
            // Nobody may be watching.
            None => drop(self.events.send(Event::Newcomer { mac: mac.to_string() })),
        }
    }

    /// Tells whoever watches that an image changed, came or went.
    pub(crate) fn tell_image(&self, name: &str) {
        // Nobody may be watching.
        let _ = self.events.send(Event::Image { name: name.into() });
    }

    /// Looks again whether a revision's files are there and as they were, as somebody could not read one of them.
    pub(crate) async fn doubt(&self, id: Id<Revision>) {
        let _alone = self.admin_write.lock().await;
        let Some(revision) = self.site().revision(id).cloned() else { return };
        let (library, looked) = (self.library.clone(), revision.clone());
        let Ok(missing) = tokio::task::spawn_blocking(move || library.missing(&looked)).await else { return };
        if missing.is_empty() || missing.iter().all(|path| revision.damaged.contains(path)) {
            return;
        }
        let (image, number) = (&revision.image_name, revision.number);
        tracing::error!(image, revision = number, ?missing, "it is not served from now on");
        let changed = Revision { damaged: missing, verified: None, ..(*revision).clone() };
        let kept = changed.clone();
        if let Err(error) = self.store.write(move |tx| tx.put_revision(&kept)).await {
            tracing::error!("that an image is damaged was not recorded: {error}");
        }
        self.change_site(|site| site.with_revision(changed.clone()));
        self.tell_image(&changed.image_name);
    }

    /// Tells whoever watches how a machine is now.
    pub(crate) fn tell_machine(&self, machine: &Machine) {
        if self.events.receiver_count() > 0 {
            let machine = Box::new(self.machine_row(&self.site(), machine));
            // Nobody may be watching any more.
            let _ = self.events.send(Event::Machine { machine });
        }
    }

    /// The MAC address that has `address`: by a lease of ours, or, beside another server, by what was heard.
    pub(crate) fn mac_of(&self, address: Ipv4Addr) -> Option<Mac> {
        let by_lease = self.book().holder(address, Timestamp::now()).and_then(ClientKey::mac);
        by_lease.or_else(|| lock(&self.heard).peek(&address).copied())
    }

    /// The address lent to a machine.
    pub(crate) fn address_of(&self, site: &Site, machine: &Machine) -> Option<Ipv4Addr> {
        let book = self.book();
        let now = Timestamp::now();
        let keys = machine.macs.iter().map(|mac| ClientKey::Mac(*mac));
        let mut records = keys.flat_map(|key| {
            site.subnets().filter_map(|subnet| book.of_client(subnet.id, &key)).collect::<Vec<_>>()
        });
        records
            .find(|record| record.state == LeaseState::Bound && record.until > now)
            .map(|record| record.address)
    }

    /// A machine as lists show it.
    pub(crate) fn machine_row(&self, site: &Site, machine: &Machine) -> MachineRow {
        let latest = site.latest_install(machine.id);
        let last_installed = site.last_installed(machine.id);
        let installed = last_installed.map(|install| Installed {
            image: install.image.clone(),
            revision: install.image_revision,
            install: install.number,
            at: install.ended_at.unwrap_or(install.armed_at),
            behind: site
                .image(&install.image)
                .is_some_and(|image| image.current.number > install.image_revision),
            differs: install.outcome.as_ref().map(|outcome| outcome.differences().len()),
        });
        let seen = self.traces().last_seen(&machine.macs);
        MachineRow {
            name: machine.name.clone(),
            macs: machine.macs.iter().map(ToString::to_string).collect(),
            stage: Stage::of(latest.map(|install| install.state), last_installed.is_some()),
            last_step: latest.and_then(|install| install.last_step),
            install: latest.map(|install| install.number),
            target: latest.map(|install| install.image.clone()),
            installed,
            address: self.address_of(site, machine),
            standing: standing(site, machine),
            labels: machine.labels.clone(),
            last_seen: seen.max(latest.filter(|i| i.last_step.is_some()).map(|install| install.last_step_at)),
        }
    }
}

/// A panic while one of these was held cannot leave it half written: each entry is put whole.
pub(crate) fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A machine's standing as people write it.
pub(crate) fn standing(site: &Site, machine: &Machine) -> StandingDraft {
    match &machine.standing {
        Standing::LocalDisk => StandingDraft::LocalDisk,
        Standing::Menu => StandingDraft::Menu,
        Standing::Ignored => StandingDraft::Ignored,
        Standing::Live(id) => {
            let name = site.image_by_id(*id).map(|image| image.name.clone());
            StandingDraft::Live(name.unwrap_or_else(|| id.to_string()))
        }
    }
}
