//! What all parts of the service share.

use std::{
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
    boot::{Architecture, Service},
    dhcp::{ClientKey, LeaseBook, LeaseState},
    machine::{Machine, Standing, StandingDraft},
    net::Mac,
    site::Site,
    tftp::Limits,
    trace::{TraceBook, TraceEvent, Wire},
};
use lastmile_store::Store;
use lru::LruCache;
use tokio::sync::broadcast;

use crate::library::Library;

/// Events a slow reader may fall behind before it is told to read everything again.
const EVENT_BACKLOG: usize = 4096;
/// Machines whose installs are moved on at the same time. Two of one stripe wait for each other.
const STRIPES: usize = 256;

/// Machines of which it is known what firmware they booted with.
const FIRMWARE_KNOWN: NonZeroUsize = NonZeroUsize::new(65_536).unwrap();

/// What all parts of the service share.
pub(crate) struct App {
    pub(crate) store: Store,
    pub(crate) library: Library,
    pub(crate) service: Service,
    pub(crate) tftp_limits: Limits,
    pub(crate) since: Timestamp,
    pub(crate) counts: Counts,
    pub(crate) events: broadcast::Sender<Event>,
    /// Held by whoever changes the site through the admin API: store first, then the snapshot.
    pub(crate) admin_write: tokio::sync::Mutex<()>,
    pub(crate) stripes: Vec<tokio::sync::Mutex<()>>,
    pub(crate) last_install: AtomicI64,
    site: ArcSwap<Site>,
    book: Mutex<LeaseBook>,
    traces: Mutex<TraceBook>,
    firmware: Mutex<LruCache<Mac, Architecture>>,
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
        service: Service,
        tftp_limits: Limits,
        loaded: lastmile_store::Loaded,
    ) -> Self {
        Self {
            store,
            library,
            service,
            tftp_limits,
            since: Timestamp::now(),
            counts: Counts::default(),
            events: broadcast::channel(EVENT_BACKLOG).0,
            admin_write: tokio::sync::Mutex::default(),
            stripes: (0..STRIPES).map(|_| tokio::sync::Mutex::default()).collect(),
            last_install: AtomicI64::new(loaded.last_install),
            site: ArcSwap::from_pointee(loaded.site),
            book: Mutex::new(LeaseBook::new(loaded.leases)),
            traces: Mutex::default(),
            firmware: Mutex::new(LruCache::new(FIRMWARE_KNOWN)),
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
        // A panic while it was held cannot leave a record half written: each is put whole.
        self.book.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn traces(&self) -> MutexGuard<'_, TraceBook> {
        self.traces.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Notes what firmware a machine booted with.
    pub(crate) fn note_firmware(&self, mac: Mac, architecture: Architecture) {
        self.firmware.lock().unwrap_or_else(PoisonError::into_inner).put(mac, architecture);
    }

    /// What firmware a machine booted with last, since the service started.
    pub(crate) fn firmware_of(&self, mac: Mac) -> Option<Architecture> {
        self.firmware.lock().unwrap_or_else(PoisonError::into_inner).peek(&mac).copied()
    }

    /// Adds to the trace of the machine with that address, and tells whoever watches.
    pub(crate) fn trace(&self, mac: Mac, wire: Wire, asked: impl Into<String>, got: impl Into<String>) {
        let event = TraceEvent { at: Timestamp::now(), wire, asked: asked.into(), got: got.into() };
        tracing::debug!(%mac, ?wire, asked = event.asked, got = event.got);
        self.traces().add(mac, event);
        if self.events.receiver_count() > 0
            && let Some(machine) = self.site().machine_by_mac(mac)
        {
            self.tell_machine(machine);
        }
    }

    /// Tells whoever watches how a machine is now.
    pub(crate) fn tell_machine(&self, machine: &Machine) {
        if self.events.receiver_count() > 0 {
            let machine = Box::new(self.machine_row(&self.site(), machine));
            // Nobody may be watching any more.
            let _ = self.events.send(Event::Machine { machine });
        }
    }

    /// The MAC address that holds `address` by a lease.
    pub(crate) fn mac_of(&self, address: Ipv4Addr) -> Option<Mac> {
        self.book().holder(address, Timestamp::now())?.mac()
    }

    /// The address lent to a machine.
    fn address_of(&self, site: &Site, machine: &Machine) -> Option<Ipv4Addr> {
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
            last_seen: seen.max(latest.filter(|i| i.last_step.is_some()).map(|install| install.last_step_at)),
        }
    }
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
