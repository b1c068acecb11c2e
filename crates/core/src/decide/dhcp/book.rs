//! The lease book: which address is held by whom, until when.
//!
//! The book in memory decides; the store keeps it across restarts. Leases are keyed by the
//! client's hardware address, not by its client identifier: firmware, loader and installer of one
//! machine send three different identifiers and must get one address.

use std::{
    collections::{BTreeSet, HashMap},
    net::Ipv4Addr,
};

use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::{
    base::Id,
    model::{
        lease::{ClientKey, LeaseRecord, LeaseState},
        subnet::Subnet,
    },
};

/// How long an offered address is kept for the client that was offered it. Firmware waits up to
/// 16 s for further offers before it asks for one.
pub const OFFER_HOLD: SignedDuration = SignedDuration::from_secs(60);
/// How long an address that a client found in use is left alone.
const QUARANTINE: SignedDuration = SignedDuration::from_hours(1);
/// Offers that never became leases are swept when there are more than this many, and then not before twice as
/// many as were left: whoever floods with questions cannot have every answer cost a sweep.
const SWEEP_AT: usize = 1024;

/// A client that wants an address.
#[derive(Debug, Clone, Copy)]
pub struct Wanting<'a> {
    /// What it is known by.
    pub client: &'a ClientKey,
    /// Its machine is registered. Anybody can make up clients that are not, as many as a pool has addresses.
    pub registered: bool,
    /// The address it asks for (option 50).
    pub wish: Option<Ipv4Addr>,
    /// The address reserved for it.
    pub reserved: Option<Ipv4Addr>,
}

/// An address chosen for a client.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Offer {
    /// The address.
    pub address: Ipv4Addr,
    /// The client holds no lease of it just now: somebody else may have taken it by hand, so it is worth trying for
    /// (RFC 2131, section 2.2).
    pub fresh: bool,
}

/// Why no address can be given.
#[derive(Debug, Clone, PartialEq, Eq, Error, Serialize, Deserialize)]
pub enum NoAddress {
    /// The address reserved for the client is held by another, or was found in use.
    #[error("{address} is reserved for this client, but {}", match holder {
        Some(holder) => format!("{holder} holds it until its lease ends"),
        None => "it was found in use by somebody else".to_owned(),
    })]
    ReservedTaken {
        /// The address.
        address: Ipv4Addr,
        /// Who holds it by a lease.
        holder: Option<ClientKey>,
    },
    /// Every address of every pool is held.
    #[error("every address of subnet '{subnet}' is held: {size} in its pools")]
    PoolsFull {
        /// The subnet.
        subnet: String,
        /// Addresses in its pools.
        size: u64,
    },
}

/// All leases of all subnets.
#[derive(Debug, Default)]
pub struct LeaseBook {
    by_address: HashMap<Ipv4Addr, LeaseRecord>,
    /// What each client holds, or held last.
    by_client: HashMap<(Id<Subnet>, ClientKey), Ipv4Addr>,
    /// What each client was offered.
    offered: HashMap<(Id<Subnet>, ClientKey), Ipv4Addr>,
    pools: HashMap<Id<Subnet>, PoolUse>,
    last_version: u64,
    offers: usize,
    /// How many offers there were after the last sweep.
    offers_left: usize,
}

/// What is recorded on one subnet, so that a full pool is known to be full without a look at each address.
#[derive(Debug, Default)]
struct PoolUse {
    /// Its addresses by when each is free.
    by_until: BTreeSet<(Timestamp, Ipv4Addr)>,
    /// Those that are only offered, to newcomers.
    offered_to_newcomers: BTreeSet<(Timestamp, Ipv4Addr)>,
    /// The subnet for whose pools `lendable` was counted.
    counted_for: Option<Subnet>,
    /// How many of its addresses may be lent.
    lendable: u64,
}

impl PoolUse {
    fn is_lendable(&self, address: Ipv4Addr) -> bool {
        self.counted_for.as_ref().is_some_and(|subnet| subnet.lends(address))
    }

    /// How many addresses of the subnet's pools are recorded.
    fn used(&mut self, subnet: &Subnet) -> u64 {
        if self.counted_for.as_ref() != Some(subnet) {
            self.lendable = self.by_until.iter().filter(|(_, address)| subnet.lends(*address)).count() as u64;
            self.counted_for = Some(subnet.clone());
        }
        self.lendable
    }
}

impl LeaseBook {
    /// A book with what the store kept, in whatever order.
    #[must_use]
    pub fn new(records: impl IntoIterator<Item = LeaseRecord>) -> Self {
        let mut records: Vec<LeaseRecord> = records.into_iter().collect();
        records.sort_by_key(|record| (record.version, record.since, record.address));
        let mut book = Self::default();
        for record in records {
            book.last_version = book.last_version.max(record.version);
            book.insert(record);
        }
        book
    }

    /// Every record, in no order.
    pub fn iter(&self) -> impl Iterator<Item = &LeaseRecord> {
        self.by_address.values()
    }

    /// The record of `address`.
    #[must_use]
    pub fn at(&self, address: Ipv4Addr) -> Option<&LeaseRecord> {
        self.by_address.get(&address)
    }

    /// Who holds `address` at `now` by a granted lease.
    #[must_use]
    pub fn holder(&self, address: Ipv4Addr, now: Timestamp) -> Option<&ClientKey> {
        let record = self.by_address.get(&address)?;
        (record.state == LeaseState::Bound && record.until > now).then_some(&record.client)
    }

    /// The record of `client` on `subnet`: what it holds or held last, else what it was offered.
    #[must_use]
    pub fn of_client(&self, subnet: Id<Subnet>, client: &ClientKey) -> Option<&LeaseRecord> {
        let key = (subnet, client.clone());
        self.by_address.get(self.by_client.get(&key).or_else(|| self.offered.get(&key))?)
    }

    /// Chooses an address to offer and keeps it for [`OFFER_HOLD`].
    ///
    /// In order: the one `reserved` for it, and no other; the address the client has or had; the one it asks for, if
    /// free; one never used; the one free for longest; for a registered machine, the one that was offered to a newcomer
    /// first. An offer promises nothing (RFC 2131, section 3.1): the newcomer's request will be refused, and it asks
    /// again.
    ///
    /// # Errors
    /// Why there is none.
    pub fn offer(
        &mut self,
        subnet: &Subnet,
        wanting: Wanting<'_>,
        now: Timestamp,
    ) -> Result<Offer, NoAddress> {
        let client = wanting.client;
        let address = match wanting.reserved {
            Some(address) => self.check_reserved(address, client, now)?,
            None => self.choose(subnet, wanting, now)?,
        };
        let fresh = !self.by_address.get(&address).is_some_and(|record| {
            record.client == *client && record.state == LeaseState::Bound && record.until > now
        });
        if fresh {
            self.sweep_offers(now);
            self.put(LeaseRecord {
                address,
                subnet: subnet.id,
                client: client.clone(),
                state: LeaseState::Offered,
                since: now,
                until: now + OFFER_HOLD,
                version: 0,
            });
            if !wanting.registered
                && let Some(usage) = self.pools.get_mut(&subnet.id)
            {
                usage.offered_to_newcomers.insert((now + OFFER_HOLD, address));
            }
        }
        Ok(Offer { address, fresh })
    }

    /// Grants `address` to `client`, if it is theirs to have: reserved for them, or else lendable, and held by nobody
    /// else.
    ///
    /// The record returned must be on disk before the client is told.
    pub fn bind(
        &mut self,
        subnet: &Subnet,
        client: &ClientKey,
        address: Ipv4Addr,
        reserved: Option<Ipv4Addr>,
        now: Timestamp,
    ) -> Option<LeaseRecord> {
        let theirs = match reserved {
            Some(reserved) => reserved == address,
            None => subnet.lends(address),
        };
        if !theirs || !self.is_free_for(address, client, now) {
            return None;
        }
        let renewed = self
            .by_address
            .get(&address)
            .filter(|old| old.client == *client && old.state == LeaseState::Bound && old.until > now);
        let record = LeaseRecord {
            address,
            subnet: subnet.id,
            client: client.clone(),
            state: LeaseState::Bound,
            since: renewed.map_or(now, |old| old.since),
            until: now + subnet.lease,
            version: 0,
        };
        Some(self.put(record))
    }

    /// The client gives `address` back. `None` if it was not theirs.
    pub fn release(&mut self, client: &ClientKey, address: Ipv4Addr, now: Timestamp) -> Option<LeaseRecord> {
        let record = self.by_address.get(&address)?;
        if record.client != *client || record.state != LeaseState::Bound {
            return None;
        }
        let released = LeaseRecord { state: LeaseState::Released, until: now, ..record.clone() };
        Some(self.put(released))
    }

    /// The client found `address` in use by somebody else. `None` if it was not theirs.
    pub fn decline(&mut self, client: &ClientKey, address: Ipv4Addr, now: Timestamp) -> Option<LeaseRecord> {
        self.by_address.get(&address).filter(|record| record.client == *client)?;
        self.quarantine(address, now)
    }

    /// Leaves `address` alone for an hour: it was found in use. `None` if nothing is recorded of it.
    pub fn quarantine(&mut self, address: Ipv4Addr, now: Timestamp) -> Option<LeaseRecord> {
        let record = self.by_address.get(&address)?.clone();
        let until = now + QUARANTINE;
        Some(self.put(LeaseRecord { state: LeaseState::Quarantined, since: now, until, ..record }))
    }

    /// Makes `address` free again, whoever holds it. `None` if nothing is recorded of it.
    pub fn free(&mut self, address: Ipv4Addr, now: Timestamp) -> Option<LeaseRecord> {
        let record = self.by_address.get(&address)?.clone();
        Some(self.put(LeaseRecord { state: LeaseState::Released, until: now, ..record }))
    }

    /// Takes back an offer of `address`. `None` if there is none.
    pub fn withdraw(&mut self, address: Ipv4Addr) -> Option<LeaseRecord> {
        self.by_address.get(&address).filter(|record| record.state == LeaseState::Offered)?;
        self.remove(address)
    }

    fn check_reserved(
        &self,
        address: Ipv4Addr,
        client: &ClientKey,
        now: Timestamp,
    ) -> Result<Ipv4Addr, NoAddress> {
        if self.is_free_for(address, client, now) {
            return Ok(address);
        }
        match self.by_address.get(&address) {
            // Made before the address was reserved.
            Some(record) if record.state == LeaseState::Offered => Ok(address),
            Some(record) if record.state == LeaseState::Bound => {
                Err(NoAddress::ReservedTaken { address, holder: Some(record.client.clone()) })
            }
            _ => Err(NoAddress::ReservedTaken { address, holder: None }),
        }
    }

    fn choose(
        &mut self,
        subnet: &Subnet,
        wanting: Wanting<'_>,
        now: Timestamp,
    ) -> Result<Ipv4Addr, NoAddress> {
        let Wanting { client, wish, registered, .. } = wanting;
        let usable = |address: &Ipv4Addr| subnet.lends(*address) && self.is_free_for(*address, client, now);
        let key = (subnet.id, client.clone());
        let (former, offered) = (self.by_client.get(&key).copied(), self.offered.get(&key).copied());
        if let Some(address) = former.filter(usable).or(offered.filter(usable)).or(wish.filter(usable)) {
            return Ok(address);
        }
        let size = subnet.capacity();
        let usage = self.pools.entry(subnet.id).or_default();
        if usage.used(subnet) < size {
            // Each client begins at a place of its own, so a nearly empty pool is searched in a step or two.
            let start = client.spread() % size;
            let mut lendable = (0..size).filter_map(|step| subnet.nth_lendable((start + step) % size));
            if let Some(address) = lendable.find(|address| !self.by_address.contains_key(address)) {
                return Ok(address);
            }
        }
        // All were used before: the one that is free for longest, unless none is.
        let usage = self.pools.get(&subnet.id);
        let free = |(until, address): &&(Timestamp, Ipv4Addr)| {
            *until <= now || !self.by_address.get(address).is_some_and(|record| record.is_held(now))
        };
        let free_for_longest = usage.into_iter().flat_map(|usage| &usage.by_until).take_while(free);
        let may_give_way = usage.filter(|_| registered);
        let offered_to_newcomers = may_give_way.into_iter().flat_map(|usage| &usage.offered_to_newcomers);
        free_for_longest
            .chain(offered_to_newcomers)
            .map(|(_, address)| *address)
            .find(|address| subnet.lends(*address))
            .ok_or_else(|| NoAddress::PoolsFull { subnet: subnet.name.clone(), size })
    }

    fn is_free_for(&self, address: Ipv4Addr, client: &ClientKey, now: Timestamp) -> bool {
        self.by_address.get(&address).is_none_or(|record| {
            !record.is_held(now) || (record.client == *client && record.state != LeaseState::Quarantined)
        })
    }

    /// Puts what holds an address now, as the next change of the book.
    fn put(&mut self, record: LeaseRecord) -> LeaseRecord {
        self.last_version += 1;
        let record = LeaseRecord { version: self.last_version, ..record };
        self.insert(record.clone());
        record
    }

    fn insert(&mut self, record: LeaseRecord) {
        let key = (record.subnet, record.client.clone());
        let address = record.address;
        self.remove(address);
        match record.state {
            // Nothing is promised: what the client holds stays its own.
            LeaseState::Offered => drop(self.offered.insert(key, address)),
            LeaseState::Bound => {
                self.offered.remove(&key);
                // A client holds one address a subnet: what it held before is free again.
                let former = self.by_client.insert(key, address);
                if let Some(old) = former.and_then(|former| self.by_address.get(&former)).cloned() {
                    let until = old.until.min(record.since);
                    self.keep(LeaseRecord { state: LeaseState::Released, until, ..old });
                }
            }
            // It finds its address again, unless it has another.
            LeaseState::Released => drop(self.by_client.entry(key).or_insert(address)),
            // Its client is to find another.
            LeaseState::Quarantined => {}
        }
        self.keep(record);
    }

    /// Keeps the record of an address beside the indexes.
    fn keep(&mut self, record: LeaseRecord) {
        self.let_go(record.address);
        let usage = self.pools.entry(record.subnet).or_default();
        usage.by_until.insert((record.until, record.address));
        usage.lendable += u64::from(usage.is_lendable(record.address));
        self.offers += usize::from(record.state == LeaseState::Offered);
        self.by_address.insert(record.address, record);
    }

    fn let_go(&mut self, address: Ipv4Addr) -> Option<LeaseRecord> {
        let old = self.by_address.remove(&address)?;
        self.offers -= usize::from(old.state == LeaseState::Offered);
        if let Some(usage) = self.pools.get_mut(&old.subnet) {
            usage.by_until.remove(&(old.until, address));
            usage.offered_to_newcomers.remove(&(old.until, address));
            usage.lendable -= u64::from(usage.is_lendable(address));
        }
        Some(old)
    }

    fn remove(&mut self, address: Ipv4Addr) -> Option<LeaseRecord> {
        let old = self.let_go(address)?;
        let key = (old.subnet, old.client.clone());
        for index in [&mut self.by_client, &mut self.offered] {
            if index.get(&key) == Some(&address) {
                index.remove(&key);
            }
        }
        Some(old)
    }

    fn sweep_offers(&mut self, now: Timestamp) {
        if self.offers <= SWEEP_AT.max(self.offers_left * 2) {
            return;
        }
        let stale = |record: &&LeaseRecord| record.state == LeaseState::Offered && record.until <= now;
        let gone: Vec<Ipv4Addr> = self.by_address.values().filter(stale).map(|r| r.address).collect();
        for address in gone {
            self.remove(address);
        }
        self.offers_left = self.offers;
    }
}

#[cfg(test)]
#[path = "book_tests.rs"]
mod tests;
