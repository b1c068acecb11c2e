//! Whose address an address is, and whether a request in the name of a machine is its own.
//!
//! A MAC address in a path is a claim. It counts as evidence, gives a token, stalls an install or arms a pick only if the source
//! address is known to be the machine's: by a lease, by what was overheard of another DHCP server, by a reservation. Where
//! addresses cannot be known, a subnet says `first-claim`: the first address that claims a machine keeps the claim until that boot
//! ends. What is known beside leases is kept on disk in the background, so that a restart loses none of it.

use std::{
    net::{IpAddr, Ipv4Addr},
    num::NonZeroUsize,
    sync::Arc,
    time::Duration,
};

use jiff::{SignedDuration, Timestamp};
use lastmile_core::{
    decide::subnet::{Claim, Identity},
    model::{
        install::{Install, InstallState},
        lease::{ClientKey, LeaseRecord, LeaseState},
        reservation::{Reservation, ReservedFor},
        subnet::{Identify, Mode, Subnet},
    },
    site::Site,
};
use lastmile_formats::mac::Mac;
use lastmile_store::{AddressNote, NoteKind, Store};
use lru::LruCache;
use tokio::sync::mpsc;
use tokio_util::sync::CancellationToken;

use super::Wire;
use crate::{clock, limits::at_most, sync::lock};

/// Machines of which something is known beside leases.
const MACHINES_KNOWN: NonZeroUsize = at_most(65_536);
/// How long a claim is kept of which nothing more is heard, while no install goes on.
const CLAIM_IDLE: SignedDuration = SignedDuration::from_mins(5);
/// How long an overheard address is kept: other servers lend addresses for days.
const HEARD_KEPT: SignedDuration = SignedDuration::from_hours(24 * 8);
/// What is known already is written again at most so often.
const WRITTEN_AGAIN: SignedDuration = SignedDuration::from_mins(10);
/// Notes that may wait for the disk; beyond it they are lost at a restart.
const QUEUE: usize = 4096;
/// How long notes are gathered before they are written.
const GATHERED: Duration = Duration::from_millis(200);

/// What is known of addresses beside leases.
#[derive(Debug)]
pub(crate) struct Known {
    /// Addresses that other servers lent, by address.
    heard: LruCache<Ipv4Addr, (Mac, Timestamp)>,
    /// The address that each machine was last heard with.
    heard_of: LruCache<Mac, Ipv4Addr>,
    claims: LruCache<Mac, Claimed>,
    /// Whom another server told an address where nobody is answered: for traces only, it is evidence of nothing.
    told: LruCache<Ipv4Addr, Mac>,
    notes: mpsc::Sender<AddressNote>,
}

/// The first address that claimed a machine.
#[derive(Debug, Clone, Copy)]
struct Claimed {
    by: Ipv4Addr,
    at: Timestamp,
    /// The install that went on at that time: with its end the claim ends. Not known of a claim that was kept over a restart.
    install: Option<i64>,
    /// When it was written to disk last.
    written: Timestamp,
}

impl Known {
    /// With what was kept, the one seen last last; gives what is to be written as well.
    pub(crate) fn new(kept: Vec<AddressNote>) -> (Self, mpsc::Receiver<AddressNote>) {
        let (notes, waiting) = mpsc::channel(QUEUE);
        let mut known = Self {
            heard: LruCache::new(MACHINES_KNOWN),
            heard_of: LruCache::new(MACHINES_KNOWN),
            claims: LruCache::new(MACHINES_KNOWN),
            told: LruCache::new(MACHINES_KNOWN),
            notes,
        };
        for AddressNote { kind, mac, address, at } in kept {
            match kind {
                NoteKind::Heard => known.put_heard(address, mac, at),
                NoteKind::Claim => {
                    known.claims.put(mac, Claimed { by: address, at, install: None, written: at });
                }
            }
        }
        (known, waiting)
    }

    fn put_heard(&mut self, address: Ipv4Addr, mac: Mac, at: Timestamp) {
        self.heard.put(address, (mac, at));
        if let Some(former) = self.heard_of.put(mac, address).filter(|former| *former != address)
            && self.heard.peek(&former).is_some_and(|(owner, _)| *owner == mac)
        {
            self.heard.pop(&former);
        }
    }

    fn note(&self, kind: NoteKind, mac: Mac, address: Ipv4Addr, at: Timestamp) {
        // A full queue loses no more than what a restart would not know.
        let _ = self.notes.try_send(AddressNote { kind, mac, address, at });
    }

    /// The address that has claimed a machine during this boot.
    fn claim_of(&mut self, open: Option<&Install>, mac: Mac) -> Option<Ipv4Addr> {
        let claimed = self.claims.peek(&mac).copied()?;
        let has_ended = claimed.install.is_some_and(|number| open.map(|open| open.number) != Some(number));
        let goes_on = open.is_some_and(|open| open.state != InstallState::Armed);
        let is_idle = clock::now().duration_since(claimed.at) > CLAIM_IDLE;
        if has_ended || (is_idle && !goes_on) {
            self.claims.pop(&mac);
            return None;
        }
        Some(claimed.by)
    }

    fn put_claim(&mut self, open: Option<&Install>, mac: Mac, by: Ipv4Addr) {
        let now = clock::now();
        let before = self.claims.peek(&mac).copied().filter(|before| before.by == by);
        let written = before.map(|before| before.written);
        let is_due = written.is_none_or(|written| now.duration_since(written) > WRITTEN_AGAIN);
        let written = if is_due { now } else { written.unwrap_or(now) };
        self.claims.put(mac, Claimed { by, at: now, install: open.map(|open| open.number), written });
        if is_due {
            self.note(NoteKind::Claim, mac, by, now);
        }
    }
}

/// Writes what is known of addresses to disk as it comes, until the service stops.
pub(crate) async fn keep_notes(
    store: Store,
    mut waiting: mpsc::Receiver<AddressNote>,
    stop: CancellationToken,
) {
    let mut notes = Vec::new();
    loop {
        tokio::select! {
            () = stop.cancelled() => {}
            _ = waiting.recv_many(&mut notes, QUEUE) => tokio::time::sleep(GATHERED).await,
        }
        while let Ok(note) = waiting.try_recv() {
            notes.push(note);
        }
        let is_last = stop.is_cancelled();
        if !notes.is_empty() {
            let kept = store.put_address_notes(std::mem::take(&mut notes), clock::now() - HEARD_KEPT);
            if let Err(error) = kept.await {
                tracing::warn!("addresses that were overheard are not on disk: {error}");
            }
        }
        if is_last {
            return;
        }
    }
}

impl Wire {
    /// Notes who has an address that another server lent. Not where this service lends them: there a forged reply would
    /// make one machine another. Where nobody is answered, it is known for traces only.
    pub(crate) fn hear_address(&self, subnet: &Subnet, address: Ipv4Addr, mac: Mac) {
        if !subnet.network.contains(&address) {
            return;
        }
        let (mut known, now) = (lock(&self.known), clock::now());
        match subnet.mode {
            Mode::Lease => return,
            Mode::Off => {
                known.told.put(address, mac);
                return;
            }
            Mode::Proxy => {}
        }
        let before = known.heard.peek(&address).copied();
        let is_news = before.is_none_or(|(owner, at)| owner != mac || now.duration_since(at) > WRITTEN_AGAIN);
        if is_news {
            known.put_heard(address, mac, now);
            known.note(NoteKind::Heard, mac, address, now);
        }
    }

    /// The MAC address of the machine whose address that is known to be: by a lease of ours, because it is reserved for it, or
    /// by what was overheard beside another server. What is overheard may be forged, and comes last.
    pub(crate) fn mac_of(&self, site: &Site, address: Ipv4Addr) -> Option<Mac> {
        let leased = self.book().holder(address, clock::now()).and_then(ClientKey::mac);
        let reserved = || match site.reservation_at(address)?.client {
            ReservedFor::Mac(mac) => Some(mac),
            ReservedFor::Uuid(_) | ReservedFor::ClientId(_) => None,
        };
        leased.or_else(reserved).or_else(|| lock(&self.known).heard.peek(&address).map(|(mac, _)| *mac))
    }

    /// In whose trace a request from an address belongs, whether or not that is sure enough to act on.
    pub(crate) fn speaker_at(&self, site: &Site, address: Ipv4Addr) -> Option<Mac> {
        self.mac_of(site, address).or_else(|| lock(&self.known).told.peek(&address).copied())
    }

    /// The leases that these NICs have or had, one a subnet at most.
    fn records_of(&self, site: &Site, macs: &[Mac]) -> Vec<LeaseRecord> {
        let book = self.book();
        let mut records = Vec::new();
        for key in macs.iter().map(|mac| ClientKey::Mac(*mac)) {
            records.extend(site.subnets().filter_map(|subnet| book.of_client(subnet.id, &key)).cloned());
        }
        records
    }

    /// The address that one of these NICs has now: by a lease of ours, or by what was overheard beside another server.
    pub(crate) fn address_of_macs(&self, site: &Site, macs: &[Mac]) -> Option<Ipv4Addr> {
        let now = clock::now();
        let is_held = |record: &LeaseRecord| record.state == LeaseState::Bound && record.until > now;
        let held = self.records_of(site, macs).into_iter().filter(is_held);
        held.max_by_key(|record| record.since).map(|record| record.address).or_else(|| {
            let known = lock(&self.known);
            macs.iter().find_map(|mac| known.heard_of.peek(mac).copied())
        })
    }

    /// The subnet that one of these NICs boots on: the one that holds the address it speaks `from`, or that is reached through
    /// that address; else the one where it has an address, had one last, or has one reserved.
    pub(crate) fn subnet_of(&self, site: &Site, macs: &[Mac], from: Option<Ipv4Addr>) -> Option<Arc<Subnet>> {
        let holds = |address: &Ipv4Addr| site.subnets().find(|subnet| subnet.network.contains(address));
        let reached = |from: Ipv4Addr| {
            holds(&from).or_else(|| site.subnets().find(|subnet| subnet.relays.contains(&from)))
        };
        let leased = || {
            let latest = self.records_of(site, macs).into_iter().max_by_key(|record| record.since)?;
            site.subnet_by_id(latest.subnet)
        };
        let reserved = || {
            let is_own = |reservation: &Reservation| {
                macs.iter().any(|mac| reservation.client == ReservedFor::Mac(*mac))
            };
            site.subnets().find(|subnet| site.reservations_of(subnet.id).any(|one| is_own(one)))
        };
        let from = from.filter(|from| !from.is_loopback() && !from.is_unspecified());
        let now = || self.address_of_macs(site, macs).and_then(|address| holds(&address));
        from.and_then(reached).or_else(now).or_else(leased).or_else(reserved).cloned()
    }

    /// Whether a request in the name of the machine with `mac` that comes from `address` is its own. The service's own host is
    /// let through: simulated machines speak from the loopback, and whoever is on this host can write the database anyway.
    pub(crate) fn identify(&self, site: &Site, mac: Mac, address: IpAddr) -> Identity {
        if address.is_loopback() {
            return Identity::Own;
        }
        let IpAddr::V4(from) = address else { return Identity::Unknown };
        let machine = site.machine_by_mac(mac);
        let macs = machine.map_or_else(|| vec![mac], |machine| machine.macs.clone());
        let owner = self.mac_of(site, from).map(|owner| (owner, macs.contains(&owner)));
        // Of the subnet that the address is on, not of the one where the machine is known: that is what is asked.
        let of_address = self.subnet_of(site, &[], Some(from));
        let identify = of_address.map_or(Identify::Address, |subnet| subnet.identify);
        let open = machine.and_then(|machine| site.open_install(machine.id)).map(AsRef::as_ref);
        let first_counts = identify == Identify::FirstClaim;
        let has = self.address_of_macs(site, &macs);
        // Locked until the claim is put: of two that claim at the same moment one is first.
        let mut known = lock(&self.known);
        let claimed_by = if first_counts { known.claim_of(open, macs[0]) } else { None };
        let identity = Claim { from, owner, has, identify, claimed_by }.decide();
        if identity == Identity::Claims || (identity == Identity::Own && claimed_by == Some(from)) {
            known.put_claim(open, macs[0], from);
        }
        identity
    }
}
