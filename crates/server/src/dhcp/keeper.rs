//! Puts leases on disk before their replies leave: all that came while the last ones were written, at once.

use std::sync::Arc;

use lastmile_core::trace::Silence;
use tokio::sync::mpsc;
use tokio_util::task::TaskTracker;

use super::{Wiring, reply::Reply};
use crate::state::App;

/// Replies that may wait for the disk.
const QUEUE: usize = 4096;
/// Leases that are written together at most, so that the first of them does not wait too long.
const BATCH: usize = 512;

/// Starts the task that keeps the leases of one socket; it ends when its queue is closed and empty.
pub(super) fn start(app: &Arc<App>, wiring: &Arc<Wiring>, tasks: &TaskTracker) -> mpsc::Sender<Reply> {
    let (queue, replies) = mpsc::channel(QUEUE);
    tasks.spawn(keep(app.clone(), wiring.clone(), tasks.clone(), replies));
    queue
}

async fn keep(app: Arc<App>, wiring: Arc<Wiring>, tasks: TaskTracker, mut replies: mpsc::Receiver<Reply>) {
    let mut batch: Vec<Reply> = Vec::with_capacity(BATCH);
    while replies.recv_many(&mut batch, BATCH).await > 0 {
        let records = batch.iter_mut().filter_map(|reply| reply.take_record(&app)).collect();
        let failure = app.store.put_leases(records).await.err();
        if let Some(error) = &failure {
            tracing::error!("leases were not kept, so they are not granted: {error}");
        }
        for mut reply in batch.drain(..) {
            if let Some(error) = &failure {
                reply.withhold(Silence::NotKept(error.to_string()));
            }
            if reply.records_more() {
                // Not waited for: the others' replies leave now.
                let (app, wiring) = (app.clone(), wiring.clone());
                tasks.spawn(async move { reply.send(&app, &wiring).await });
            } else {
                reply.send(&app, &wiring).await;
            }
        }
    }
}
