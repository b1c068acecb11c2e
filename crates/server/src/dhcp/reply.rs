//! Carries out what was decided: tries for the address, keeps the lease, sends the reply, records it all.

use std::{
    io,
    net::{Ipv4Addr, SocketAddrV4},
    time::Duration,
};

use lastmile_core::{
    base::Id,
    decide::{dhcp::Destination, install::Evidence},
    model::{
        lease::{LeaseRecord, LeaseState},
        machine::Machine,
    },
    report::trace::{Datagram, DhcpExchange, Seen, Silence},
};
use lastmile_formats::{dhcp::Message, mac::Mac};
use tokio::{net::UdpSocket, sync::mpsc};

use super::decide::{decide, empty_exchange};
use crate::{
    clock,
    dhcp::Parts,
    link::{FrameSender, Interface},
    wire::{Tried, count},
};

/// Addresses that are tried for one after another before a machine goes without.
const TRIES: u32 = 5;

/// One DHCP socket and what belongs to it.
#[derive(Debug)]
pub(crate) struct Wiring {
    pub(crate) socket: UdpSocket,
    /// This service's address there: the server identifier.
    pub(crate) local: Ipv4Addr,
    /// Port it is bound to: what replies come from.
    pub(crate) port: u16,
    /// The interface it is bound to; none for the socket that serves relays only.
    pub(crate) interface: Option<Interface>,
    /// For replies to clients without an address; none for the socket that serves relays only.
    pub(crate) frames: Option<FrameSender>,
    /// Whether it is a boot server's (port 4011).
    pub(crate) boot_server: bool,
}

impl Wiring {
    /// Whether it hands out no addresses: the port of boot servers.
    pub(super) const fn answers_boot_server_only(&self) -> bool {
        self.boot_server
    }

    async fn send(&self, bytes: &[u8], to: Destination) -> io::Result<SocketAddrV4> {
        let broadcast = |port| SocketAddrV4::new(Ipv4Addr::BROADCAST, port);
        let to = match to {
            Destination::Unicast(to) => to,
            Destination::Broadcast { port } => broadcast(port),
            Destination::Frame { mac, address, port } => match &self.frames {
                Some(frames) => {
                    let to = SocketAddrV4::new(address, port);
                    frames.send(SocketAddrV4::new(self.local, self.port), mac, to, bytes)?;
                    return Ok(to);
                }
                None => broadcast(port),
            },
        };
        self.socket.send_to(bytes, to).await?;
        Ok(to)
    }
}

/// What one message leads to.
#[derive(Debug)]
pub(super) struct Reply {
    pub(super) mac: Option<Mac>,
    pub(super) exchange: DhcpExchange,
    pub(super) message: Option<(Message, Destination)>,
    pub(super) record: Option<LeaseRecord>,
    /// The address is tried for before the reply leaves.
    pub(super) try_first: Option<Ipv4Addr>,
    /// The reply is held back so long.
    pub(super) delay: Duration,
    pub(super) evidence: Option<(Id<Machine>, Evidence)>,
    pub(super) stalled: Option<Id<Machine>>,
    /// Asked by the service itself: nothing is recorded.
    pub(super) own_trial: bool,
}

impl Reply {
    pub(super) fn new(mac: Option<Mac>, request: Datagram) -> Self {
        Self {
            mac,
            exchange: empty_exchange(request),
            message: None,
            record: None,
            try_first: None,
            delay: Duration::ZERO,
            evidence: None,
            stalled: None,
            own_trial: false,
        }
    }

    /// Whether it can leave at once.
    pub(super) fn is_immediate(&self) -> bool {
        self.record.is_none() && self.try_first.is_none() && self.delay.is_zero()
    }

    /// Whether it waits for nothing but its lease to be on disk.
    pub(super) fn waits_for_the_disk_only(&self) -> bool {
        self.record.is_some() && self.try_first.is_none() && self.delay.is_zero()
    }

    /// Whether sending it takes more than sending: something is recorded beside.
    pub(super) const fn records_more(&self) -> bool {
        self.evidence.is_some() || self.stalled.is_some()
    }

    /// The record that must be on disk before it leaves.
    pub(super) fn take_record(&mut self, parts: &Parts) -> Option<LeaseRecord> {
        let record = self.record.take()?;
        if record.state == LeaseState::Quarantined {
            parts.wire.prober.forget(record.address);
        }
        Some(record)
    }

    /// Nothing is sent, and nothing of it is evidence.
    pub(super) fn withhold(&mut self, why: Silence) {
        self.message = None;
        self.evidence = None;
        self.exchange.silence = Some(why);
    }

    /// The service asked itself: the address goes back at once, and nothing is tried for or kept.
    pub(super) fn undo_trial(&mut self, parts: &Parts) {
        self.try_first = None;
        self.delay = Duration::ZERO;
        if let Some((message, _)) = &self.message {
            parts.wire.book().withdraw(message.yiaddr);
        }
    }

    /// Does all that takes time, then sends.
    pub(super) async fn carry_out(mut self, parts: &Parts, wiring: &Wiring, keeper: &mpsc::Sender<Self>) {
        let mut tries = 0;
        while let Some(address) = self.try_first.take() {
            // Through a relay the address is on another wire than the one that the question came by.
            let relayed = self.message.as_ref().is_some_and(|(message, _)| !message.giaddr.is_unspecified());
            let frames = wiring.frames.as_ref().filter(|_| !relayed);
            let taken = match parts.wire.prober.try_for(address, self.mac, frames).await {
                Tried::Silent => break,
                // The machine repeated its question: it gets one answer.
                Tried::UnderWay => return,
                Tried::Taken(by) => by,
            };
            tries += 1;
            self.put_aside(parts, address, taken).await;
            if tries == TRIES {
                self.message = None;
                self.exchange.silence = Some(Silence::AllInUse(tries));
                count(&parts.wire.counts.dhcp_ignored);
                break;
            }
            let remark = self.exchange.remark.take();
            let (bytes, from) = (self.exchange.request.payload.clone(), self.exchange.request.from);
            let Some(next) = decide(parts, wiring, &bytes, from) else { return };
            self = next;
            self.exchange.remark = join(remark, self.exchange.remark.take());
        }
        if !self.delay.is_zero() {
            tokio::time::sleep(self.delay).await;
        }
        if self.record.is_none() {
            return self.send(parts, wiring).await;
        }
        // Only the keeper grants: an address that was promised is never forgotten. Where it is gone, the service ends.
        let _ = keeper.send(self).await;
    }

    /// Leaves an address alone that somebody has without a lease.
    async fn put_aside(&mut self, parts: &Parts, address: Ipv4Addr, by: Option<[u8; 6]>) {
        parts.wire.prober.forget(address);
        let who = by.map(|mac| mac.map(|byte| format!("{byte:02x}")).join(":"));
        let who = who.as_deref().unwrap_or("somebody");
        tracing::warn!(%address, who, "an address of a pool is in use without a lease; it is left alone for an hour");
        let remark = format!("{address} is in use by {who}, and left alone");
        self.exchange.remark = join(self.exchange.remark.take(), Some(remark));
        let record = parts.wire.book().quarantine(address, clock::now());
        if let Some(record) = record
            && let Err(error) = parts.records.store.put_lease(record).await
        {
            tracing::error!(%address, "that it is in use was not kept: {error}");
        }
    }

    pub(super) async fn send(mut self, parts: &Parts, wiring: &Wiring) {
        // On record before the machine can act on it: what it does next stands after it.
        if let Some((machine, evidence)) = self.evidence.take() {
            parts.records.see_or_log(machine, evidence).await;
        }
        if let Some((message, to)) = self.message.take() {
            let bytes = message.emit();
            match wiring.send(&bytes, to).await {
                Ok(to) => {
                    count(&parts.wire.counts.dhcp_answered);
                    let from = SocketAddrV4::new(wiring.local, wiring.port);
                    let length = bytes.len();
                    let payload = bytes.into_boxed_slice();
                    self.exchange.reply = Some(Datagram { at: clock::now(), from, to, payload, length });
                }
                Err(error) => tracing::warn!(?to, "a DHCP reply could not be sent: {error}"),
            }
        }
        if self.own_trial {
            return;
        }
        if let Some(machine) = self.stalled {
            parts.records.stall(machine).await;
        }
        if let Some(mac) = self.mac {
            let at = self.exchange.request.at;
            parts.records.trace(mac, at, Seen::Dhcp(Box::new(self.exchange)));
        }
    }
}

fn join(one: Option<String>, other: Option<String>) -> Option<String> {
    match (one, other) {
        (Some(one), Some(other)) => Some(format!("{one}; {other}")),
        (one, other) => one.or(other),
    }
}
