//! Shells on record: what their screens showed, and who was at them.

use lastmile_core::model::job::Job;
use lastmile_store::{Change, OnScreen, ScreenEvent, StoreError};

use super::change_job;
use crate::{clock, records::Records};

/// Bytes of what a shell's screen showed that are recorded; one that shows more is ended.
const MOST_RECORDED: u64 = 16 << 20;

impl Records {
    /// Records what a shell's screen showed. Says whether it did: a shell that cannot be recorded is not carried on.
    pub(crate) async fn record_screen(&self, job: i64, what: OnScreen) -> bool {
        let event = ScreenEvent { at: clock::now(), what };
        let keep = move |change: &mut Change<'_>| {
            let is_full = change.add_screen_event(job, &event)? > MOST_RECORDED;
            if is_full {
                let mib = MOST_RECORDED >> 20;
                let why = format!("its screen showed more than the {mib} MiB that are recorded");
                change_job(change, job, |job, now| job.cancel_because(&why, now))?;
            }
            Ok::<_, StoreError>(!is_full)
        };
        match self.store.change_for_machine(keep).await {
            Ok(is_kept) => is_kept,
            Err(error) => {
                tracing::error!(job, "what a shell's screen showed was not recorded: {error}");
                false
            }
        }
    }

    /// Records that somebody came to a shell, or left it.
    ///
    /// # Errors
    /// What the store refused; then nothing has changed.
    pub(crate) async fn note_at_shell(&self, job: i64, text: String) -> Result<(), StoreError> {
        self.move_job(job, move |job: &Job, _| job.state.is_open().then(|| (job.clone(), text.clone())))
            .await
            .map(drop)
    }
}
