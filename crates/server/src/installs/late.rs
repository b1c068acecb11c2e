//! What comes to the record of an install that may have ended.

use std::{net::IpAddr, sync::Arc};

use jiff::Timestamp;
use lastmile_core::model::install::{Install, Step};
use lastmile_store::{Change, StoreError};

use crate::{clock, records::Records};

impl Records {
    /// Changes one install, whether it goes on or has ended. Gives it as it is then, or `None` if there was nothing to
    /// change.
    ///
    /// # Errors
    /// What the store refused; then nothing has changed.
    pub(crate) async fn move_recorded(
        self: &Arc<Self>,
        number: i64,
        step: impl FnOnce(&Install, Timestamp) -> Option<(Install, Step)> + Send + 'static,
    ) -> Result<Option<Install>, StoreError> {
        let records = self.clone();
        let take_step = move |change: &mut Change<'_>| {
            let Some((install, _)) = change.tx().install(number)? else { return Ok(None) };
            let Some((install, step)) = step(&install, clock::now()) else { return Ok(None) };
            records.keep_install(change, install, step).map(Some)
        };
        self.store.change_for_machine(take_step).await
    }

    /// Notes that somebody elsewhere asked with an install's token, and was refused.
    pub(crate) async fn note_refused(self: &Arc<Self>, install: &Install, from: IpAddr, what: &'static str) {
        let (number, refuse) =
            (install.number, move |install: &Install, now| install.refuse(from, what, now));
        if let Err(error) = self.move_recorded(number, refuse).await {
            tracing::error!(install = number, "a refusal was not recorded: {error}");
        }
    }
}
