//! Puts leases on disk before their replies leave: all that came while the last ones were written, at once.

use std::{sync::Arc, time::Duration};

use lastmile_core::report::trace::Silence;
use tokio::{sync::mpsc, time::timeout};
use tokio_util::task::TaskTracker;

use super::{Parts, Wiring, reply::Reply};

/// Replies that may wait for the disk.
const QUEUE: usize = 4096;
/// Leases that are written together at most, so that the first of them does not wait too long.
const BATCH: usize = 512;

/// Starts the task that keeps the leases of one socket; it ends when its queue is closed and empty.
pub(super) fn start(parts: &Parts, wiring: &Arc<Wiring>, tasks: &TaskTracker) -> mpsc::Sender<Reply> {
    let (queue, replies) = mpsc::channel(QUEUE);
    tasks.spawn(keep(parts.clone(), wiring.clone(), tasks.clone(), replies));
    queue
}

/// When nothing came for so long, the store tidies up after the leases.
const QUIET: Duration = Duration::from_secs(2);
/// Leases after which it does so however much comes: it takes a moment, in which the others wait.
const OVERDUE: usize = 400_000;

async fn keep(parts: Parts, wiring: Arc<Wiring>, tasks: TaskTracker, mut replies: mpsc::Receiver<Reply>) {
    let mut batch: Vec<Reply> = Vec::with_capacity(BATCH);
    let mut untidy = 0;
    loop {
        let came = match untidy {
            0 => replies.recv_many(&mut batch, BATCH).await,
            1..OVERDUE => match timeout(QUIET, replies.recv_many(&mut batch, BATCH)).await {
                Ok(came) => came,
                Err(_) => {
                    tidy(&parts, &mut untidy).await;
                    continue;
                }
            },
            _ => {
                tidy(&parts, &mut untidy).await;
                continue;
            }
        };
        if came == 0 {
            return;
        }
        untidy += came;
        let records = batch.iter_mut().filter_map(|reply| reply.take_record(&parts)).collect();
        let failure = parts.records.store.put_leases(records).await.err();
        if let Some(error) = &failure {
            tracing::error!("leases were not kept, so they are not granted: {error}");
        }
        for mut reply in batch.drain(..) {
            if let Some(error) = &failure {
                reply.withhold(Silence::NotKept(error.to_string()));
            }
            if reply.records_more() {
                // Not waited for: the others' replies leave now.
                let (parts, wiring) = (parts.clone(), wiring.clone());
                tasks.spawn(async move { reply.send(&parts, &wiring).await });
            } else {
                reply.send(&parts, &wiring).await;
            }
        }
    }
}

async fn tidy(parts: &Parts, untidy: &mut usize) {
    *untidy = 0;
    if let Err(error) = parts.records.store.fold_leases().await {
        // Nothing is lost: it is read from where it is.
        tracing::warn!("leases were not tidied up: {error}");
    }
}
