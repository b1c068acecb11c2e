//! What machines did on the wire, kept in bounded memory.

use std::{collections::VecDeque, num::NonZeroUsize};

use jiff::Timestamp;
use lru::LruCache;
use serde::{Deserialize, Serialize};

use crate::net::Mac;

/// Which part of the service saw it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Wire {
    /// DHCP.
    Dhcp,
    /// TFTP.
    Tftp,
    /// The boot listener.
    Http,
}

/// One thing that happened between a machine and the service.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TraceEvent {
    /// When.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub at: Timestamp,
    /// On which wire.
    pub wire: Wire,
    /// What the machine asked.
    pub asked: String,
    /// What it got, or why it got nothing.
    pub got: String,
}

/// Events kept a machine.
const EVENTS_A_MACHINE: usize = 256;
/// Machines of which events are kept; the one silent for longest goes first.
const MACHINES: NonZeroUsize = NonZeroUsize::new(4096).unwrap();

/// Traces of all machines. A flood from one machine pushes out only its own events.
#[derive(Debug)]
pub struct TraceBook {
    machines: LruCache<Mac, VecDeque<TraceEvent>>,
}

impl Default for TraceBook {
    fn default() -> Self {
        Self { machines: LruCache::new(MACHINES) }
    }
}

impl TraceBook {
    /// Adds an event of the machine with that address.
    pub fn add(&mut self, mac: Mac, event: TraceEvent) {
        let events = self.machines.get_or_insert_mut(mac, VecDeque::new);
        if events.len() == EVENTS_A_MACHINE {
            events.pop_front();
        }
        events.push_back(event);
    }

    /// The events of some addresses, oldest first.
    #[must_use]
    pub fn of(&self, macs: &[Mac]) -> Vec<TraceEvent> {
        let mut events: Vec<TraceEvent> =
            macs.iter().filter_map(|mac| self.machines.peek(mac)).flatten().cloned().collect();
        events.sort_by_key(|event| event.at);
        events
    }

    /// When a machine with one of these addresses was last seen.
    #[must_use]
    pub fn last_seen(&self, macs: &[Mac]) -> Option<Timestamp> {
        macs.iter().filter_map(|mac| self.machines.peek(mac)?.back()).map(|event| event.at).max()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn event(second: i64) -> TraceEvent {
        let at = Timestamp::from_second(second).unwrap();
        TraceEvent { at, wire: Wire::Dhcp, asked: "DHCPDISCOVER".into(), got: "192.0.2.50".into() }
    }

    #[test]
    fn a_flood_pushes_out_only_its_own() {
        let quiet: Mac = "02:00:5e:00:53:01".parse().unwrap();
        let loud: Mac = "02:00:5e:00:53:02".parse().unwrap();
        let mut book = TraceBook::default();
        book.add(quiet, event(1));
        for second in 0..5000 {
            book.add(loud, event(second));
        }
        assert_eq!(book.of(&[quiet]).len(), 1);
        assert_eq!(book.of(&[loud]).len(), EVENTS_A_MACHINE);
        let mac = |number: u16| Mac::new([2, 1, 0, 0, (number >> 8) as u8, number as u8]).unwrap();
        (0..5000).for_each(|number| book.add(mac(number), event(i64::from(number))));
        assert!(book.of(&[mac(0)]).is_empty(), "the one silent for longest went first");
        assert_eq!(book.of(&[mac(4999)]).len(), 1);
        book.add(quiet, event(1));
        (0..5000).for_each(|second| book.add(loud, event(second)));
        assert_eq!(book.last_seen(&[quiet, loud]), Some(Timestamp::from_second(4999).unwrap()));
    }
}
