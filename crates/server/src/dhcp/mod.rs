//! Answers DHCP: one task a socket; a reply that grants a lease leaves once the lease is on disk.

mod decide;
pub(crate) mod foreign;
mod keeper;
mod reply;

use std::{net::SocketAddr, sync::Arc};

pub(crate) use reply::Wiring;
use tokio::sync::{Semaphore, mpsc::error::TrySendError};
use tokio_util::{sync::CancellationToken, task::TaskTracker};

use crate::{
    records::Records,
    wire::{Wire, count},
};

/// Largest datagram read; DHCP messages on Ethernet stay below 1,500 bytes.
const BUFFER: usize = 4096;
/// Replies that may wait for somebody's answer or for their time; beyond it messages are dropped, and clients ask again.
const IN_FLIGHT: usize = 4096;

/// What answering DHCP uses of the service.
#[derive(Clone)]
pub(crate) struct Parts {
    pub(crate) records: Arc<Records>,
    pub(crate) wire: Arc<Wire>,
}

/// Answers on one socket until told to stop.
pub(crate) async fn serve(parts: Parts, wiring: Arc<Wiring>, tasks: TaskTracker, stop: CancellationToken) {
    let in_flight = Arc::new(Semaphore::new(IN_FLIGHT));
    let keeper = keeper::start(&parts, &wiring, &tasks);
    let mut buffer = vec![0; BUFFER];
    loop {
        let received = tokio::select! {
            () = stop.cancelled() => return,
            received = wiring.socket.recv_from(&mut buffer) => received,
        };
        let (length, SocketAddr::V4(from)) = (match received {
            Ok(received) => received,
            Err(error) => {
                // An ICMP error of an earlier reply; the socket itself is well.
                tracing::debug!("DHCP socket: {error}");
                continue;
            }
        }) else {
            continue;
        };
        let Some(reply) = decide::decide(&parts, &wiring, &buffer[..length], from) else { continue };
        if reply.is_immediate() && !reply.records_more() {
            reply.send(&parts, &wiring).await;
            continue;
        }
        if reply.waits_for_the_disk_only() {
            match keeper.try_send(reply) {
                Ok(()) => {}
                // The client asks again.
                Err(TrySendError::Full(_)) => count(&parts.wire.counts.dhcp_ignored),
                // Nobody keeps leases any more, so there is nothing to answer.
                Err(TrySendError::Closed(_)) => return,
            }
            continue;
        }
        let Ok(permit) = in_flight.clone().try_acquire_owned() else {
            count(&parts.wire.counts.dhcp_ignored);
            continue;
        };
        let (parts, wiring, keeper) = (parts.clone(), wiring.clone(), keeper.clone());
        tasks.spawn(async move {
            reply.carry_out(&parts, &wiring, &keeper).await;
            drop(permit);
        });
    }
}
