//! What comes to the record of an install that may have ended.

use std::net::IpAddr;

use jiff::Timestamp;
use lastmile_core::{
    Id,
    install::{Install, Step},
    machine::Machine,
};
use lastmile_store::StoreError;

use crate::state::App;

impl App {
    /// Changes one install, whether it goes on or has ended. Gives it as it is then, or `None` if there was nothing to
    /// change.
    ///
    /// # Errors
    /// What the store refused; then nothing has changed.
    pub(crate) async fn move_recorded(
        &self,
        machine: Id<Machine>,
        number: i64,
        step: impl FnOnce(&Install, Timestamp) -> Option<(Install, Step)>,
    ) -> Result<Option<Install>, StoreError> {
        let _one_at_a_time = self.stripe(machine).lock().await;
        let Some((install, _)) = self.store.read(move |tx| tx.install(number)).await? else {
            return Ok(None);
        };
        let Some((install, step)) = step(&install, Timestamp::now()) else { return Ok(None) };
        let site = self.site();
        let is_held = site.last_installed(machine).is_none_or(|held| held.number <= number)
            && site.machine_by_id(machine).is_some();
        if is_held || site.open_install(machine).is_some_and(|open| open.number == number) {
            return self.keep_install(install, step).await.map(Some);
        }
        // The machine holds something newer, or has left: this goes to the record alone.
        self.record(&install, &step).await?;
        self.tell_install(&install, &step);
        Ok(Some(install))
    }

    /// Notes that somebody elsewhere asked with an install's token, and was refused.
    pub(crate) async fn note_refused(&self, install: &Install, from: IpAddr, what: &str) {
        let refuse = |install: &Install, now| install.refuse(from, what, now);
        if let Err(error) = self.move_recorded(install.machine, install.number, refuse).await {
            tracing::error!(install = install.number, "a refusal was not recorded: {error}");
        }
    }
}
