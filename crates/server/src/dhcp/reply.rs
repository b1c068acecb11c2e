//! Carries out what was decided: keeps the lease, sends the reply, records the evidence.

use std::{
    io,
    net::{Ipv4Addr, SocketAddrV4},
};

use lastmile_core::{dhcp::Destination, trace::Wire};
use tokio::net::UdpSocket;

use super::Reply;
use crate::{
    link::{FrameSender, Interface},
    state::{App, count},
};

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
}

impl Wiring {
    async fn send(&self, bytes: &[u8], to: Destination) -> io::Result<()> {
        match to {
            Destination::Unicast(to) => self.socket.send_to(bytes, to).await.map(|_| ()),
            Destination::Broadcast { port } => {
                self.socket.send_to(bytes, (Ipv4Addr::BROADCAST, port)).await.map(|_| ())
            }
            Destination::Frame { mac, address, port } => match &self.frames {
                Some(frames) => {
                    let from = SocketAddrV4::new(self.local, self.port);
                    frames.send(from, mac, SocketAddrV4::new(address, port), bytes)
                }
                None => self.socket.send_to(bytes, (Ipv4Addr::BROADCAST, port)).await.map(|_| ()),
            },
        }
    }
}

impl Reply {
    /// Puts the lease on disk, then sends: an address that was promised is never forgotten.
    pub(super) async fn keep_and_send(mut self, app: &App, wiring: &Wiring) {
        if let Some(record) = self.record.take()
            && let Err(error) = app.store.put_lease(record).await
        {
            tracing::error!("a lease was not kept, so it is not granted: {error}");
            self.message = None;
            self.evidence = None;
            self.got = format!("no answer: the lease could not be kept: {error}");
        }
        self.send(app, wiring).await;
    }

    pub(super) async fn send(self, app: &App, wiring: &Wiring) {
        if let Some((message, to)) = self.message {
            match wiring.send(&message.emit(), to).await {
                Ok(()) => count(&app.counts.dhcp_answered),
                Err(error) => tracing::warn!(?to, "a DHCP reply could not be sent: {error}"),
            }
        }
        if let Some(machine) = self.stalled {
            app.stall(machine).await;
        }
        if let Some(mac) = self.mac {
            app.trace(mac, Wire::Dhcp, self.asked, self.got);
        }
        if let Some((machine, evidence)) = self.evidence {
            app.see_or_log(machine, evidence).await;
        }
    }
}
