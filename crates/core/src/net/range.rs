//! A run of consecutive IPv4 addresses.

use std::{fmt, net::Ipv4Addr, str::FromStr};

use serde::{Deserialize, Deserializer, Serialize, Serializer, de};
use thiserror::Error;

/// A run of IPv4 addresses, both ends included. Written `192.0.2.50-192.0.2.99`.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub struct AddressRange {
    first: Ipv4Addr,
    last: Ipv4Addr,
}

/// Why a text is no address range.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum RangeError {
    /// No hyphen between two addresses.
    #[error("'{0}' is not two addresses joined by '-'")]
    Form(String),
    /// One end is no IPv4 address.
    #[error("'{0}' is no IPv4 address")]
    Address(String),
    /// The ends stand the wrong way round.
    #[error("{first} comes after {last}")]
    Order {
        /// The first end as given.
        first: Ipv4Addr,
        /// The last end as given.
        last: Ipv4Addr,
    },
}

impl AddressRange {
    /// A range of both ends included.
    ///
    /// # Errors
    /// [`RangeError::Order`] if `first` comes after `last`.
    pub fn new(first: Ipv4Addr, last: Ipv4Addr) -> Result<Self, RangeError> {
        if first > last {
            return Err(RangeError::Order { first, last });
        }
        Ok(Self { first, last })
    }

    /// The lowest address.
    #[must_use]
    pub const fn first(self) -> Ipv4Addr {
        self.first
    }

    /// The highest address.
    #[must_use]
    pub const fn last(self) -> Ipv4Addr {
        self.last
    }

    /// Whether `address` is in the range.
    #[must_use]
    pub fn contains(self, address: Ipv4Addr) -> bool {
        (self.first..=self.last).contains(&address)
    }

    /// How many addresses it holds (1 to 2³²).
    #[must_use]
    pub fn size(self) -> u64 {
        u64::from(self.last.to_bits()) - u64::from(self.first.to_bits()) + 1
    }

    /// The address `offset` places after the first, if the range reaches so far.
    #[must_use]
    pub fn nth(self, offset: u64) -> Option<Ipv4Addr> {
        let bits = u32::try_from(u64::from(self.first.to_bits()) + offset).ok()?;
        let address = Ipv4Addr::from_bits(bits);
        self.contains(address).then_some(address)
    }

    /// Whether both have an address in common.
    #[must_use]
    pub fn overlaps(self, other: Self) -> bool {
        self.first <= other.last && other.first <= self.last
    }
}

impl fmt::Display for AddressRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}-{}", self.first, self.last)
    }
}

impl fmt::Debug for AddressRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl FromStr for AddressRange {
    type Err = RangeError;

    fn from_str(text: &str) -> Result<Self, RangeError> {
        let (first, last) = text.split_once('-').ok_or_else(|| RangeError::Form(text.into()))?;
        let address =
            |part: &str| part.trim().parse::<Ipv4Addr>().map_err(|_| RangeError::Address(part.trim().into()));
        Self::new(address(first)?, address(last)?)
    }
}

impl Serialize for AddressRange {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for AddressRange {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(de::Error::custom)
    }
}
