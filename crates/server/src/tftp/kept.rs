//! The first and last packets of a transfer, for its trace.

use std::{net::SocketAddrV4, time::Instant};

use jiff::{SignedDuration, Timestamp};
use lastmile_core::report::trace::{Datagram, FIRST_PACKETS, LAST_PACKETS, PACKET_KEPT};

use crate::clock;

/// A packet's beginning. Of fixed size: in lock-step one is kept for every block, and nothing may be allocated.
#[derive(Clone, Copy)]
struct Beginning {
    at: Instant,
    from_client: bool,
    bytes: [u8; PACKET_KEPT],
    length: usize,
}

/// Keeps the first packets, and always the last ones.
pub(super) struct Kept {
    packets: Vec<Datagram>,
    ends: (SocketAddrV4, SocketAddrV4),
    began: (Instant, Timestamp),
    last: [Option<Beginning>; LAST_PACKETS],
    count: usize,
}

impl Kept {
    /// Of a transfer between `ends`, this service's and the client's, that `request` began.
    pub(super) fn new(request: Datagram, ends: (SocketAddrV4, SocketAddrV4)) -> Self {
        let began = (Instant::now(), clock::now());
        Self { packets: vec![request], ends, began, last: [None; LAST_PACKETS], count: 0 }
    }

    /// This service said something of `length` bytes.
    pub(super) fn said(&mut self, packet: &[u8], length: usize) {
        self.keep(packet, length, false);
    }

    /// The client said something.
    pub(super) fn heard(&mut self, packet: &[u8]) {
        self.keep(packet, packet.len(), true);
    }

    fn keep(&mut self, packet: &[u8], length: usize, from_client: bool) {
        let mut bytes = [0; PACKET_KEPT];
        let end = packet.len().min(PACKET_KEPT);
        bytes[..end].copy_from_slice(&packet[..end]);
        let beginning = Beginning { at: Instant::now(), from_client, bytes, length };
        if self.packets.len() < FIRST_PACKETS {
            self.packets.push(self.datagram(&beginning));
            return;
        }
        self.last[self.count % LAST_PACKETS] = Some(beginning);
        self.count += 1;
    }

    fn datagram(&self, packet: &Beginning) -> Datagram {
        let since = SignedDuration::try_from(packet.at.duration_since(self.began.0)).unwrap_or_default();
        let (service, client) = self.ends;
        let (from, to) = if packet.from_client { (client, service) } else { (service, client) };
        Datagram {
            at: self.began.1 + since,
            from,
            to,
            payload: packet.bytes[..packet.length.min(PACKET_KEPT)].into(),
            length: packet.length,
        }
    }

    /// The packets in order, and how many between the first and the last ones were not kept.
    pub(super) fn into_packets(mut self) -> (Vec<Datagram>, u64) {
        let kept = self.count.min(LAST_PACKETS);
        for place in self.count - kept..self.count {
            if let Some(packet) = self.last[place % LAST_PACKETS] {
                self.packets.push(self.datagram(&packet));
            }
        }
        (self.packets, (self.count - kept) as u64)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_first_and_the_last_stay() {
        let ends = ("192.0.2.2:40000".parse().unwrap(), "192.0.2.50:1024".parse().unwrap());
        let request = Datagram { at: clock::now(), from: ends.1, to: ends.0, payload: [0].into(), length: 1 };
        let mut kept = Kept::new(request, ends);
        for number in 0..100_u8 {
            kept.said(&[number; 200], 1472);
            kept.heard(&[number, 99]);
        }
        let (packets, left_out) = kept.into_packets();
        assert_eq!((packets.len(), left_out), (FIRST_PACKETS + LAST_PACKETS, 200 + 1 - 10));
        let last: Vec<_> =
            packets.iter().rev().take(2).map(|packet| (packet.payload[0], packet.length)).collect();
        assert_eq!(last, [(99, 2), (99, 1472)]);
        assert_eq!(packets[9].from, ends.1);
        assert!(packets.iter().all(|packet| packet.payload.len() <= PACKET_KEPT));
    }
}
