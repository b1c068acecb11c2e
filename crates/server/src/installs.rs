//! Turns what was seen into the record: store first, then the snapshot, then whoever watches.

use std::sync::Arc;

use jiff::Timestamp;
use lastmile_api::Event;
use lastmile_core::{
    Id,
    install::{Evidence, Install, Step},
    machine::Machine,
};
use lastmile_store::StoreError;

use crate::state::App;

impl App {
    /// Records evidence about a machine's open install, if it has one and the evidence says something new.
    ///
    /// # Errors
    /// What the store refused; then nothing has changed.
    pub(crate) async fn see(&self, machine: Id<Machine>, evidence: Evidence) -> Result<(), StoreError> {
        self.move_install(machine, |install, now| install.see(&evidence, now)).await.map(|_| ())
    }

    /// The same, for those who have nobody to tell of an error.
    pub(crate) async fn see_or_log(&self, machine: Id<Machine>, evidence: Evidence) {
        if let Err(error) = self.see(machine, evidence).await {
            tracing::error!(%machine, "a step of an install was not recorded: {error}");
        }
    }

    /// Changes a machine's open install. Gives it as it is then, or `None` if there was nothing to change.
    ///
    /// # Errors
    /// What the store refused; then nothing has changed.
    pub(crate) async fn move_install(
        &self,
        machine: Id<Machine>,
        step: impl FnOnce(&Install, Timestamp) -> Option<(Install, Step)>,
    ) -> Result<Option<Install>, StoreError> {
        // What many machines do moves on side by side and shares commits; what one does keeps its order.
        let stripe = machine.uuid().as_u128() % self.stripes.len() as u128;
        let _one_at_a_time = self.stripes[usize::try_from(stripe).unwrap_or(0)].lock().await;
        let site = self.site();
        let Some(open) = site.open_install(machine) else { return Ok(None) };
        let Some((install, step)) = step(open, Timestamp::now()) else { return Ok(None) };
        self.keep_install(install, step).await.map(Some)
    }

    /// Keeps an install as it is now. The caller sees to it that nobody else changes it meanwhile.
    ///
    /// # Errors
    /// What the store refused; then nothing has changed.
    pub(crate) async fn keep_install(&self, install: Install, step: Step) -> Result<Install, StoreError> {
        let install = Arc::new(install);
        let kept = install.clone();
        let detail = step.detail.clone();
        let kind = step.kind;
        self.store.write(move |tx| tx.put_install(&kept, &step)).await?;
        self.change_site(|site| site.with_install((*install).clone()));
        tracing::info!(
            install = install.number,
            machine = install.machine_name,
            state = install.state.as_str(),
            step = kind.as_str(),
            detail
        );
        let row = Box::new(install.as_ref().into());
        // Nobody may be watching.
        let _ = self.events.send(Event::Install { install: row });
        if let Some(machine) = self.site().machine_by_id(install.machine) {
            self.tell_machine(machine);
        }
        Ok(Arc::unwrap_or_clone(install))
    }

    /// Stops an install that has begun too often.
    pub(crate) async fn stall(&self, machine: Id<Machine>) {
        let stall = |install: &Install, now| install.is_looping().then(|| install.stall(now)).flatten();
        if let Err(error) = self.move_install(machine, stall).await {
            tracing::error!(%machine, "an install that loops was not stopped: {error}");
        }
    }
}
