//! Turns what was seen into the record: store first, then the snapshot, then whoever watches.

use std::sync::atomic::Ordering;

use base64::{Engine, engine::general_purpose::URL_SAFE_NO_PAD};
use jiff::Timestamp;
use lastmile_api::Event;
use lastmile_core::{
    Fault, Id,
    image::{Revision, Sha256},
    install::{ArmRequest, Evidence, Install, Outcome, Step, StepKind, Token},
    machine::Machine,
    site::Site,
};
use lastmile_store::{StoreError, Tx};

use crate::{random::random, state::App};

/// Octets of randomness in a token.
const TOKEN_BYTES: usize = 32;

/// Why an install is not armed.
#[derive(Debug)]
pub(crate) enum ArmError {
    /// What stands in its way.
    Faults(Vec<Fault>),
    /// It could not be recorded.
    Store(StoreError),
}

impl App {
    /// Arms an install: the machine gets it at its next network boot, once.
    ///
    /// # Errors
    /// What stands in its way; then nothing has changed.
    pub(crate) async fn arm(&self, request: &ArmRequest, who: &str) -> Result<Install, ArmError> {
        let armed = self.arm_all(|_| Ok(vec![request.clone()]), who).await?;
        // One request makes one install, or an error.
        armed.into_iter().next().ok_or_else(|| ArmError::Faults(vec![]))
    }

    /// Arms all that `requests` asks for, or none of it.
    ///
    /// # Errors
    /// What stands in the way of any of them; then nothing has changed.
    pub(crate) async fn arm_all(
        &self,
        requests: impl FnOnce(&Site) -> Result<Vec<ArmRequest>, Vec<Fault>>,
        who: &str,
    ) -> Result<Vec<Install>, ArmError> {
        let _alone = self.admin_write.lock().await;
        let (site, now) = (self.site(), Timestamp::now());
        let first = self.last_install.load(Ordering::Relaxed) + 1;
        let token = || Token::new(URL_SAFE_NO_PAD.encode(random::<TOKEN_BYTES>()));
        let requests = requests(&site).map_err(ArmError::Faults)?;
        let subjects = |machine: &Machine, revision: &Revision| self.subject(&site, machine, Some(revision));
        let installs = ArmRequest::check_all(&requests, &site, &subjects, first, token, who, now)
            .map_err(ArmError::Faults)?;
        let step = Step { at: now, kind: StepKind::Armed, detail: format!("by {who}") };
        let (kept, seen) = (installs.clone(), step.clone());
        let put = move |tx: &mut Tx<'_>| kept.iter().try_for_each(|install| tx.put_install(install, &seen));
        self.store.write(put).await.map_err(ArmError::Store)?;
        self.last_install.store(first + installs.len() as i64 - 1, Ordering::Relaxed);
        self.change_site(|site| {
            installs.iter().fold(site.clone(), |site, install| site.with_install(install.clone()))
        });
        for install in &installs {
            self.tell_install(install, &step);
        }
        Ok(installs)
    }

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

    /// Records what a host said at its first start, of the install that is going on or of one that has ended.
    ///
    /// # Errors
    /// What the store refused; then nothing has changed.
    pub(crate) async fn see_booted(
        &self,
        machine: Id<Machine>,
        number: i64,
        outcome: Outcome,
    ) -> Result<(), StoreError> {
        let stripe = machine.uuid().as_u128() % self.stripes.len() as u128;
        let _one_at_a_time = self.stripes[usize::try_from(stripe).unwrap_or(0)].lock().await;
        let Some((install, _)) = self.store.read(move |tx| tx.install(number)).await? else { return Ok(()) };
        let Some((install, step)) = install.booted(outcome) else { return Ok(()) };
        let site = self.site();
        let holds = site.last_installed(machine).is_none_or(|held| held.number <= number);
        if holds || site.open_install(machine).is_some_and(|open| open.number == number) {
            return self.keep_install(install, step).await.map(drop);
        }
        // The machine holds something newer: this goes to the record alone.
        self.store.write(move |tx| tx.put_install(&install, &step)).await
    }

    /// Arms what an ended install was to do once more: the image's current revision, with the same answers.
    ///
    /// # Errors
    /// What stands in its way; then nothing has changed.
    pub(crate) async fn retry(&self, install: &Install, who: &str) -> Result<Install, ArmError> {
        let machine = self.site().machine_by_id(install.machine).map(|machine| machine.name.clone());
        let request = ArmRequest {
            machine: machine.unwrap_or_else(|| install.machine_name.clone()),
            image: install.image.clone(),
            answers: install.answers_name.clone(),
            asked: install.asked.clone(),
        };
        self.arm(&request, who).await
    }

    /// Keeps an install as it is now. The caller sees to it that nobody else changes it meanwhile.
    ///
    /// # Errors
    /// What the store refused; then nothing has changed.
    pub(crate) async fn keep_install(&self, install: Install, step: Step) -> Result<Install, StoreError> {
        let (kept, seen) = (install.clone(), step.clone());
        self.store.write(move |tx| tx.put_install(&kept, &seen)).await?;
        self.change_site(|site| site.with_install(install.clone()));
        self.tell_install(&install, &step);
        Ok(install)
    }

    /// Tells the log and whoever watches that an install moved on.
    fn tell_install(&self, install: &Install, step: &Step) {
        tracing::info!(
            install = install.number,
            machine = install.machine_name,
            state = install.state.as_str(),
            step = step.kind.as_str(),
            detail = step.detail
        );
        // Nobody may be watching.
        let _ = self.events.send(Event::Install { install: Box::new(install.into()) });
        if let Some(machine) = self.site().machine_by_id(install.machine) {
            self.tell_machine(machine);
        }
    }

    /// Notes the digest over all files of what a machine is being installed with, which was not known when it was armed.
    ///
    /// # Errors
    /// What the store refused; then nothing has changed.
    pub(crate) async fn set_manifest_hash(
        &self,
        machine: Id<Machine>,
        hash: Sha256,
    ) -> Result<(), StoreError> {
        let stripe = machine.uuid().as_u128() % self.stripes.len() as u128;
        let _one_at_a_time = self.stripes[usize::try_from(stripe).unwrap_or(0)].lock().await;
        let Some(open) = self.site().open_install(machine).cloned() else { return Ok(()) };
        let number = open.number;
        self.store.write(move |tx| tx.set_manifest_hash(number, hash)).await?;
        let install = Install { manifest_hash: Some(hash), ..(*open).clone() };
        self.change_site(|site| site.with_install(install.clone()));
        Ok(())
    }

    /// Stops an install that has begun too often.
    pub(crate) async fn stall(&self, machine: Id<Machine>) {
        let stall = |install: &Install, now| install.is_looping().then(|| install.stall(now)).flatten();
        if let Err(error) = self.move_install(machine, stall).await {
            tracing::error!(%machine, "an install that loops was not stopped: {error}");
        }
    }
}
