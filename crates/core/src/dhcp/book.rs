//! The lease book: which address is held by whom, until when.
//!
//! The book in memory decides; the store keeps it across restarts. Leases are keyed by the
//! client's hardware address, not by its client identifier: firmware, loader and installer of one
//! machine send three different identifiers and must get one address.

use std::{collections::HashMap, fmt, net::Ipv4Addr};

use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use thiserror::Error;

use super::{Message, code};
use crate::{
    Id, hex,
    net::{Mac, Subnet},
};

/// How long an offered address is kept for the client that was offered it. Firmware waits up to
/// 16 s for further offers before it asks for one.
pub const OFFER_HOLD: SignedDuration = SignedDuration::from_secs(60);
/// How long an address that a client found in use is left alone.
const QUARANTINE: SignedDuration = SignedDuration::from_hours(1);
/// Offers that never became leases are swept when there are more than this many, and then not before twice as
/// many as were left: whoever floods with questions cannot have every answer cost a sweep.
const SWEEP_AT: usize = 1024;

/// Who holds a lease.
#[derive(Clone, PartialEq, Eq, Hash)]
pub enum ClientKey {
    /// An Ethernet client.
    Mac(Mac),
    /// Any other: its client identifier (RFC 2132, section 9.14).
    Identifier(Vec<u8>),
}

impl ClientKey {
    /// The key of the client that sent `message`; `None` if it gave nothing to know it by.
    #[must_use]
    pub fn of(message: &Message) -> Option<Self> {
        if let Some(mac) = message.mac() {
            return Some(Self::Mac(mac));
        }
        let identifier = message.options.get(code::CLIENT_IDENTIFIER)?;
        (!identifier.is_empty()).then(|| Self::Identifier(identifier.to_vec()))
    }

    /// The MAC address, if it is known by one.
    #[must_use]
    pub const fn mac(&self) -> Option<Mac> {
        match self {
            Self::Mac(mac) => Some(*mac),
            Self::Identifier(_) => None,
        }
    }

    /// A spread of keys over 64 bits that stays the same across restarts (FNV-1a).
    fn spread(&self) -> u64 {
        let fnv = |bytes: &[u8]| {
            bytes.iter().fold(0xcbf2_9ce4_8422_2325_u64, |hash, octet| {
                (hash ^ u64::from(*octet)).wrapping_mul(0x0100_0000_01b3)
            })
        };
        match self {
            Self::Mac(mac) => fnv(&mac.octets()),
            Self::Identifier(identifier) => fnv(identifier),
        }
    }
}

impl fmt::Display for ClientKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Mac(mac) => fmt::Display::fmt(mac, f),
            Self::Identifier(identifier) => {
                write!(f, "id:{}", hex::encode(identifier))
            }
        }
    }
}

impl fmt::Debug for ClientKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl std::str::FromStr for ClientKey {
    type Err = crate::net::MacError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        match text.strip_prefix("id:") {
            Some(digits) => Ok(Self::Identifier(hex::decode(digits).unwrap_or_default())),
            None => text.parse().map(Self::Mac),
        }
    }
}

/// What holds an address.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum LeaseState {
    /// Offered; nothing is promised, so it is in memory only.
    Offered,
    /// Granted.
    Bound,
    /// Given back: kept so that the client finds its address again.
    Released,
    /// A client found it in use by somebody else.
    Quarantined,
}

impl LeaseState {
    /// The word for it.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Offered => "offered",
            Self::Bound => "bound",
            Self::Released => "released",
            Self::Quarantined => "quarantined",
        }
    }
}

/// One address and what holds it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LeaseRecord {
    /// The address.
    pub address: Ipv4Addr,
    /// The subnet it is of.
    pub subnet: Id<Subnet>,
    /// Who holds it, or held it last.
    pub client: ClientKey,
    /// What holds it.
    pub state: LeaseState,
    /// Since when.
    pub since: Timestamp,
    /// Until when.
    pub until: Timestamp,
}

impl LeaseRecord {
    /// Whether nobody else may have the address at `now`.
    #[must_use]
    pub fn is_held(&self, now: Timestamp) -> bool {
        self.state != LeaseState::Released && self.until > now
    }
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
#[derive(Debug, Clone, PartialEq, Eq, Error)]
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
    by_client: HashMap<(Id<Subnet>, ClientKey), Ipv4Addr>,
    offers: usize,
    /// How many offers there were after the last sweep.
    offers_left: usize,
}

impl LeaseBook {
    /// A book with what the store kept.
    #[must_use]
    pub fn new(records: impl IntoIterator<Item = LeaseRecord>) -> Self {
        let mut book = Self::default();
        for record in records {
            book.put(record);
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

    /// The record of `client` on `subnet`, whatever its state.
    #[must_use]
    pub fn of_client(&self, subnet: Id<Subnet>, client: &ClientKey) -> Option<&LeaseRecord> {
        self.by_address.get(self.by_client.get(&(subnet, client.clone()))?)
    }

    /// Chooses an address to offer and keeps it for [`OFFER_HOLD`].
    ///
    /// In order: the one `reserved` for it, and no other; the address the client has or had; the one it asks for, if
    /// free; one never used; the one free for longest.
    ///
    /// # Errors
    /// Why there is none.
    pub fn offer(
        &mut self,
        subnet: &Subnet,
        client: &ClientKey,
        wish: Option<Ipv4Addr>,
        reserved: Option<Ipv4Addr>,
        now: Timestamp,
    ) -> Result<Offer, NoAddress> {
        let address = match reserved {
            Some(address) => self.check_reserved(address, client, now)?,
            None => self.choose(subnet, client, wish, now)?,
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
            });
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
        };
        self.put(record.clone());
        Some(record)
    }

    /// The client gives `address` back. `None` if it was not theirs.
    pub fn release(&mut self, client: &ClientKey, address: Ipv4Addr, now: Timestamp) -> Option<LeaseRecord> {
        let record = self.by_address.get_mut(&address)?;
        if record.client != *client || record.state != LeaseState::Bound {
            return None;
        }
        record.state = LeaseState::Released;
        record.until = now;
        Some(record.clone())
    }

    /// The client found `address` in use by somebody else. `None` if it was not theirs.
    pub fn decline(&mut self, client: &ClientKey, address: Ipv4Addr, now: Timestamp) -> Option<LeaseRecord> {
        self.by_address.get(&address).filter(|record| record.client == *client)?;
        self.quarantine(address, now)
    }

    /// Leaves `address` alone for an hour: it was found in use. `None` if nothing is recorded of it.
    pub fn quarantine(&mut self, address: Ipv4Addr, now: Timestamp) -> Option<LeaseRecord> {
        let record = self.by_address.get_mut(&address)?;
        self.offers -= usize::from(record.state == LeaseState::Offered);
        record.state = LeaseState::Quarantined;
        record.since = now;
        record.until = now + QUARANTINE;
        self.by_client.remove(&(record.subnet, record.client.clone()));
        Some(record.clone())
    }

    /// Forgets who holds `address`, so that it is free again. `None` if nobody does.
    pub fn forget(&mut self, address: Ipv4Addr) -> Option<LeaseRecord> {
        let record = self.by_address.remove(&address)?;
        self.offers -= usize::from(record.state == LeaseState::Offered);
        let key = (record.subnet, record.client.clone());
        if self.by_client.get(&key) == Some(&address) {
            self.by_client.remove(&key);
        }
        Some(record)
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
        let held = self.by_address.get(&address).filter(|record| record.state != LeaseState::Quarantined);
        Err(NoAddress::ReservedTaken { address, holder: held.map(|record| record.client.clone()) })
    }

    fn choose(
        &self,
        subnet: &Subnet,
        client: &ClientKey,
        wish: Option<Ipv4Addr>,
        now: Timestamp,
    ) -> Result<Ipv4Addr, NoAddress> {
        let usable = |address: &Ipv4Addr| subnet.lends(*address) && self.is_free_for(*address, client, now);
        let former = self.of_client(subnet.id, client).map(|record| record.address);
        if let Some(address) = former.filter(usable).or(wish.filter(usable)) {
            return Ok(address);
        }
        let size = subnet.capacity();
        let mut longest_free: Option<(Timestamp, Ipv4Addr)> = None;
        // Each client begins at a place of its own, so a nearly empty pool is searched in a step or two.
        let start = if size == 0 { 0 } else { client.spread() % size };
        for address in (0..size).filter_map(|step| subnet.nth_lendable((start + step) % size)) {
            match self.by_address.get(&address) {
                None => return Ok(address),
                Some(record) if !record.is_held(now) => {
                    if longest_free.is_none_or(|(until, _)| record.until < until) {
                        longest_free = Some((record.until, address));
                    }
                }
                Some(_) => {}
            }
        }
        longest_free
            .map(|(_, address)| address)
            .ok_or_else(|| NoAddress::PoolsFull { subnet: subnet.name.clone(), size })
    }

    fn is_free_for(&self, address: Ipv4Addr, client: &ClientKey, now: Timestamp) -> bool {
        self.by_address.get(&address).is_none_or(|record| {
            !record.is_held(now) || (record.client == *client && record.state != LeaseState::Quarantined)
        })
    }

    fn put(&mut self, record: LeaseRecord) {
        let key = (record.subnet, record.client.clone());
        // A client holds one address a subnet: what it held before is free again.
        if record.state != LeaseState::Quarantined
            && let Some(former) = self.by_client.insert(key, record.address)
            && former != record.address
            && let Some(old) = self.by_address.get_mut(&former)
            && old.client == record.client
            && old.state != LeaseState::Quarantined
        {
            old.state = LeaseState::Released;
            old.until = old.until.min(record.since);
        }
        self.offers += usize::from(record.state == LeaseState::Offered);
        if let Some(old) = self.by_address.insert(record.address, record.clone()) {
            self.offers -= usize::from(old.state == LeaseState::Offered);
            let old_key = (old.subnet, old.client);
            if old_key.1 != record.client && self.by_client.get(&old_key) == Some(&record.address) {
                self.by_client.remove(&old_key);
            }
        }
    }

    fn sweep_offers(&mut self, now: Timestamp) {
        if self.offers <= SWEEP_AT.max(self.offers_left * 2) {
            return;
        }
        let stale = |record: &LeaseRecord| record.state == LeaseState::Offered && record.until <= now;
        let gone: Vec<LeaseRecord> = self.by_address.values().filter(|r| stale(r)).cloned().collect();
        for record in gone {
            self.by_address.remove(&record.address);
            self.by_client.remove(&(record.subnet, record.client));
            self.offers -= 1;
        }
        self.offers_left = self.offers;
    }
}

#[cfg(test)]
#[path = "book_tests.rs"]
mod tests;
