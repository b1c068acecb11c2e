//! Looking after what runs as long as the service does: if any of it ends by itself, the service ends and is started anew.

use std::panic::AssertUnwindSafe;

use futures_util::FutureExt;
use tokio::sync::mpsc;
use tokio_util::{sync::CancellationToken, task::TaskTracker};

/// Starts tasks, and tells when one of them ended though nobody told it to.
#[derive(Debug, Clone)]
pub(super) struct Supervisor {
    pub(super) tasks: TaskTracker,
    pub(super) stop: CancellationToken,
    failed: mpsc::UnboundedSender<String>,
}

impl Supervisor {
    /// With the end on which failures are told.
    pub(super) fn new() -> (Self, mpsc::UnboundedReceiver<String>) {
        let (failed, failures) = mpsc::unbounded_channel();
        (Self { tasks: TaskTracker::new(), stop: CancellationToken::new(), failed }, failures)
    }

    /// Runs `task`, which is called `what` and ends only when it is told to.
    pub(super) fn run(&self, what: impl Into<String>, task: impl Future<Output = ()> + Send + 'static) {
        let (what, stop, failed) = (what.into(), self.stop.clone(), self.failed.clone());
        self.tasks.spawn(async move {
            let ended = AssertUnwindSafe(task).catch_unwind().await;
            if !stop.is_cancelled() {
                let how = if ended.is_ok() { "ended" } else { "panicked" };
                // Nobody may be waiting for it any more.
                let _ = failed.send(format!("{what} {how}"));
            }
        });
    }
}
