//! Answers DHCP: one task a socket; a reply that grants a lease leaves once the lease is on disk.

mod decide;
pub(crate) mod foreign;
mod keeper;
mod probe;
mod reply;
pub(crate) mod trial;

use std::{net::SocketAddr, sync::Arc};

pub(crate) use probe::Prober;
pub(crate) use reply::Wiring;
use tokio::sync::Semaphore;
use tokio_util::{sync::CancellationToken, task::TaskTracker};

use crate::state::{App, count};

/// Largest datagram read; DHCP messages on Ethernet stay below 1,500 octets.
const BUFFER: usize = 4096;
/// Replies that may wait for somebody's answer or for their time; beyond it messages are dropped, and clients ask again.
const IN_FLIGHT: usize = 4096;

/// Answers on one socket until told to stop.
pub(crate) async fn serve(app: Arc<App>, wiring: Arc<Wiring>, tasks: TaskTracker, stop: CancellationToken) {
    let in_flight = Arc::new(Semaphore::new(IN_FLIGHT));
    let keeper = keeper::start(&app, &wiring, &tasks);
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
        let Some(reply) = decide::decide(&app, &wiring, &buffer[..length], from) else { continue };
        if reply.is_immediate() {
            reply.send(&app, &wiring).await;
            continue;
        }
        if reply.waits_for_the_disk_only() {
            // A full queue drops the message: the client asks again.
            if keeper.try_send(reply).is_err() {
                count(&app.counts.dhcp_ignored);
            }
            continue;
        }
        let Ok(permit) = in_flight.clone().try_acquire_owned() else {
            count(&app.counts.dhcp_ignored);
            continue;
        };
        let (app, wiring) = (app.clone(), wiring.clone());
        tasks.spawn(async move {
            reply.carry_out(&app, &wiring).await;
            drop(permit);
        });
    }
}
