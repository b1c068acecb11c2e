//! A run of consecutive IPv4 addresses.

use std::{fmt, net::Ipv4Addr, str::FromStr};

use serde::{Deserialize, Deserializer, Serialize, Serializer, de};
use thiserror::Error;

/// A run of IPv4 addresses, both ends included. Written `192.0.2.50-192.0.2.99`; a single address stands for
/// itself.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub struct AddressRange {
    first: Ipv4Addr,
    last: Ipv4Addr,
}

/// How to fix any [`RangeError`].
pub const RANGE_FIX: &str = "Write first and last address, as in 192.0.2.50-192.0.2.99, or a single address.";

/// Why a text is no address range.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum RangeError {
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

    /// What is left of `ranges` without the addresses of `out`, in order of address.
    #[must_use]
    pub fn without(ranges: &[Self], out: &[Self]) -> Vec<Self> {
        let mut left = ranges.to_vec();
        for gap in out {
            left = left.into_iter().flat_map(|range| range.minus(*gap)).collect();
        }
        left.sort_by_key(|range| range.first);
        left
    }

    /// The parts of this range before and after `gap`.
    fn minus(self, gap: Self) -> impl Iterator<Item = Self> {
        if !self.overlaps(gap) {
            return [Some(self), None].into_iter().flatten();
        }
        let before = (self.first < gap.first)
            .then(|| Self { first: self.first, last: Ipv4Addr::from_bits(gap.first.to_bits() - 1) });
        let after = (gap.last < self.last)
            .then(|| Self { first: Ipv4Addr::from_bits(gap.last.to_bits() + 1), last: self.last });
        [before, after].into_iter().flatten()
    }

    /// Whether both have an address in common.
    #[must_use]
    pub fn overlaps(self, other: Self) -> bool {
        self.first <= other.last && other.first <= self.last
    }
}

impl fmt::Display for AddressRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.first == self.last {
            return fmt::Display::fmt(&self.first, f);
        }
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
        let address =
            |part: &str| part.trim().parse::<Ipv4Addr>().map_err(|_| RangeError::Address(part.trim().into()));
        match text.split_once('-') {
            Some((first, last)) => Self::new(address(first)?, address(last)?),
            None => address(text).and_then(|only| Self::new(only, only)),
        }
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

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn range(text: &str) -> AddressRange {
        text.parse().unwrap()
    }

    #[test]
    fn a_gap_leaves_both_sides() {
        let left = AddressRange::without(
            &[range("192.0.2.50-192.0.2.99")],
            &[range("192.0.2.50"), range("192.0.2.60-192.0.2.69"), range("192.0.2.95-192.0.2.120")],
        );
        let texts: Vec<_> = left.iter().map(ToString::to_string).collect();
        assert_eq!(texts, ["192.0.2.51-192.0.2.59", "192.0.2.70-192.0.2.94"]);
    }

    proptest! {
        #[test]
        fn what_is_left_is_what_neither_gap_holds(
            ranges in proptest::collection::vec((0_u8..250, 0_u8..20), 1..4),
            gaps in proptest::collection::vec((0_u8..250, 0_u8..20), 0..4),
        ) {
            let make = |(first, length): &(u8, u8)| {
                let at = |last: u8| Ipv4Addr::new(192, 0, 2, last);
                AddressRange::new(at(*first), at(first.saturating_add(*length))).unwrap()
            };
            let (ranges, gaps): (Vec<_>, Vec<_>) =
                (ranges.iter().map(make).collect(), gaps.iter().map(make).collect());
            let left = AddressRange::without(&ranges, &gaps);
            for last in 0..=255 {
                let address = Ipv4Addr::new(192, 0, 2, last);
                let wanted = ranges.iter().any(|r| r.contains(address)) && !gaps.iter().any(|g| g.contains(address));
                prop_assert_eq!(left.iter().any(|run| run.contains(address)), wanted, "{}", address);
            }
        }
    }
}
