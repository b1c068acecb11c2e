//! Where the cable of a switch's port ends: hall, row, rack and unit.

use std::{fmt, str::FromStr};

use serde::{Deserialize, Serialize};
use thiserror::Error;

/// What is on the other end of one port.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Location {
    /// The switch: its name or chassis, as LLDP says it.
    pub switch: String,
    /// Its port.
    pub port: String,
    /// The hall or room; empty if nothing is said.
    pub hall: String,
    /// The row in the hall.
    pub row: String,
    /// The rack.
    pub rack: String,
    /// The unit in the rack, as in `12` or `12-13`.
    pub unit: String,
}

/// What a location says, by the names of the details that it gives a machine.
pub const PARTS: [&str; 4] = ["hall", "row", "rack", "unit"];

impl Location {
    /// What it is kept under: case makes no difference in what switches and people write.
    #[must_use]
    pub fn key(switch: &str, port: &str) -> (String, String) {
        (switch.trim().to_lowercase(), port.trim().to_lowercase())
    }

    /// Its parts by their names, without those of which nothing is said.
    pub fn parts(&self) -> impl Iterator<Item = (&'static str, &str)> {
        let values = [&self.hall, &self.row, &self.rack, &self.unit];
        PARTS
            .into_iter()
            .zip(values)
            .map(|(name, value)| (name, value.as_str()))
            .filter(|(_, v)| !v.is_empty())
    }
}

/// Units of a rack that one machine takes: the lowest is 1.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Units {
    /// The lowest.
    pub from: u16,
    /// The highest.
    pub to: u16,
}

/// Highest unit of a rack.
pub const MOST_UNITS: u16 = 100;

/// A text that names no units.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("'{0}' is no unit of a rack: write a number of 1 to {MOST_UNITS}, or two, as in 12-13")]
pub struct NoUnits(String);

impl FromStr for Units {
    type Err = NoUnits;

    fn from_str(text: &str) -> Result<Self, NoUnits> {
        let number = |text: &str| text.trim().parse::<u16>().map_err(|_| ());
        let read = || {
            let (from, to) = text.split_once('-').unwrap_or((text, text));
            let (from, to) = (number(from)?, number(to)?);
            if from >= 1 && from <= to && to <= MOST_UNITS { Ok(Self { from, to }) } else { Err(()) }
        };
        read().map_err(|()| NoUnits(text.into()))
    }
}

impl fmt::Display for Units {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.from == self.to { self.from.fmt(f) } else { write!(f, "{}-{}", self.from, self.to) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn units_are_one_or_a_run_of_them() {
        for (text, written) in [("12", "12"), ("12-13", "12-13"), (" 4 - 4 ", "4")] {
            assert_eq!(text.parse::<Units>().unwrap().to_string(), written);
        }
        for wrong in ["", "0", "13-12", "101", "a", "1-", "1-2-3"] {
            assert!(wrong.parse::<Units>().is_err(), "{wrong}");
        }
    }
}
