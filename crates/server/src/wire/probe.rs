//! Tries for an address before it is offered anew (RFC 2131, section 2.2): by ARP on a local wire, by ICMP echo
//! through a relay.

use std::{
    collections::HashMap,
    net::Ipv4Addr,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::{Duration, Instant},
};

use lastmile_formats::mac::Mac;
use tokio::sync::oneshot;
use tokio_util::sync::CancellationToken;

use crate::link::{FrameListener, FrameSender, Heard, Icmp, not_heard};

/// How long an answer on the local wire may take. Hosts answer ARP within a millisecond; a host asleep takes longer.
const ARP_PATIENCE: Duration = Duration::from_millis(200);
/// How long an answer through a router may take: it may have to ask for the host first.
const ICMP_PATIENCE: Duration = Duration::from_millis(500);
/// How long a silent address counts as free: firmware asks three or four times before it takes an offer.
const GOOD_FOR: Duration = Duration::from_secs(120);
/// Addresses that are remembered as silent.
const REMEMBERED: usize = 8192;

/// Waits for somebody to answer for an address.
#[derive(Debug, Default)]
pub(crate) struct Prober {
    waiting: Mutex<HashMap<Ipv4Addr, oneshot::Sender<Option<[u8; 6]>>>>,
    silent: Mutex<HashMap<Ipv4Addr, Instant>>,
    icmp: Option<Icmp>,
}

/// What trying for an address came to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Tried {
    /// Nobody answered.
    Silent,
    /// Somebody has it; with the MAC address, where it is heard.
    Taken(Option<[u8; 6]>),
    /// Somebody tries for it just now, for the same client: its answer is the answer.
    UnderWay,
}

impl Prober {
    /// With ICMP where this process may.
    pub(crate) fn new() -> Self {
        let icmp = Icmp::open().inspect_err(|error| {
            tracing::debug!("addresses behind relays are not tried for: no raw socket: {error}");
        });
        Self { icmp: icmp.ok(), ..Self::default() }
    }

    /// Whether addresses behind relays can be tried for.
    pub(crate) const fn reaches_relays(&self) -> bool {
        self.icmp.is_some()
    }

    /// Tries for `address`: on the wire of `frames`, else through the routers. `client` may have it already.
    pub(crate) async fn try_for(
        &self,
        address: Ipv4Addr,
        client: Option<Mac>,
        frames: Option<&FrameSender>,
    ) -> Tried {
        if self.lock_silent().get(&address).is_some_and(|since| since.elapsed() < GOOD_FOR) {
            return Tried::Silent;
        }
        let told = {
            let mut waiting = self.lock_waiting();
            if waiting.contains_key(&address) {
                return Tried::UnderWay;
            }
            let (tell, told) = oneshot::channel();
            waiting.insert(address, tell);
            told
        };
        let (asked, patience) = match (frames, &self.icmp) {
            (Some(frames), _) => (frames.ask_who_has(address), ARP_PATIENCE),
            (None, Some(icmp)) => (icmp.ask(address).await, ICMP_PATIENCE),
            (None, None) => (Ok(()), Duration::ZERO),
        };
        if let Err(error) = asked {
            // No route, no carrier: nobody can be asked, so nobody is in the way.
            tracing::debug!(%address, "cannot be tried for: {error}");
        }
        let answer = tokio::time::timeout(patience, told).await;
        self.lock_waiting().remove(&address);
        match answer {
            Ok(Ok(mac)) if mac.is_none() || mac != client.map(Mac::octets) => Tried::Taken(mac),
            _ => {
                let mut silent = self.lock_silent();
                if silent.len() >= REMEMBERED {
                    silent.retain(|_, since| since.elapsed() < GOOD_FOR);
                }
                if silent.len() < REMEMBERED {
                    silent.insert(address, Instant::now());
                }
                Tried::Silent
            }
        }
    }

    /// Forgets that an address was silent: it was found in use since.
    pub(crate) fn forget(&self, address: Ipv4Addr) {
        self.lock_silent().remove(&address);
    }

    fn heard(&self, address: Ipv4Addr, mac: Option<[u8; 6]>) {
        if let Some(waiting) = self.lock_waiting().remove(&address) {
            // Whoever asked may have stopped waiting.
            let _ = waiting.send(mac);
        }
    }

    /// Hears ARP on one wire until told to stop.
    pub(crate) async fn hear_arp(self: Arc<Self>, listener: FrameListener, stop: CancellationToken) {
        loop {
            let heard = tokio::select! {
                () = stop.cancelled() => return,
                heard = listener.next() => heard,
            };
            match heard {
                Ok(Heard::Has { address, mac }) => self.heard(address, Some(mac)),
                Ok(Heard::ToClient { .. }) => {}
                Err(error) => not_heard("ARP", &error).await,
            }
        }
    }

    /// Hears ICMP until told to stop.
    pub(crate) async fn hear_icmp(self: Arc<Self>, stop: CancellationToken) {
        // Without the right to hear it there is nothing to do, and that is no fault.
        let Some(icmp) = &self.icmp else { return stop.cancelled().await };
        loop {
            let heard = tokio::select! {
                () = stop.cancelled() => return,
                heard = icmp.next() => heard,
            };
            match heard {
                Ok(address) => self.heard(address, None),
                Err(error) => not_heard("ICMP", &error).await,
            }
        }
    }

    fn lock_waiting(&self) -> MutexGuard<'_, HashMap<Ipv4Addr, oneshot::Sender<Option<[u8; 6]>>>> {
        self.waiting.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn lock_silent(&self) -> MutexGuard<'_, HashMap<Ipv4Addr, Instant>> {
        self.silent.lock().unwrap_or_else(PoisonError::into_inner)
    }
}
