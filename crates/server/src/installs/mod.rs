//! Turns what was seen into the record: store first, then the snapshot, then whoever watches.

mod keeper;
mod late;
mod log;
mod pace;
mod stateless;

use std::sync::atomic::Ordering;

use base64::{Engine, engine::general_purpose::URL_SAFE_NO_PAD};
use jiff::Timestamp;
use lastmile_api::{Event, InstallRow};
use lastmile_core::{
    Fault, Id,
    image::{Revision, Sha256},
    install::{ArmRequest, ArmSeveral, Evidence, Install, Outlook, Step, StepKind, Token},
    machine::Machine,
    site::Site,
};
use lastmile_store::{StoreError, Tx};

pub(crate) use keeper::keep;
pub(crate) use pace::Paces;

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

    /// What arming would do to each machine; it changes nothing.
    ///
    /// # Errors
    /// That no machine is meant.
    pub(crate) fn outlook(&self, several: &ArmSeveral) -> Result<Vec<Outlook>, Vec<Fault>> {
        let site = self.site();
        let subjects = |machine: &Machine, revision: &Revision| self.subject(&site, machine, Some(revision));
        Ok(several.requests(&site)?.iter().map(|request| request.outlook(&site, &subjects)).collect())
    }

    /// Records evidence about a machine's open install, if it has one and the evidence says something new.
    ///
    /// # Errors
    /// What the store refused; then nothing has changed.
    pub(crate) async fn see(&self, machine: Id<Machine>, evidence: Evidence) -> Result<(), StoreError> {
        let see = |install: &Install, now| {
            let (mut next, step) = install.see(&evidence, now)?;
            if next.subnet.is_none() {
                next.subnet = self.booted_on(machine, &evidence);
            }
            Some((next, step))
        };
        self.move_install(machine, see).await.map(drop)
    }

    /// The same, for those who have nobody to tell of an error.
    pub(crate) async fn see_or_log(&self, machine: Id<Machine>, evidence: Evidence) {
        if let Err(error) = self.see(machine, evidence).await {
            tracing::error!(%machine, "a step of an install was not recorded: {error}");
        }
    }

    /// Held while an install of a machine is changed.
    fn stripe(&self, machine: Id<Machine>) -> &tokio::sync::Mutex<()> {
        let stripe = machine.uuid().as_u128() % self.stripes.len() as u128;
        &self.stripes[usize::try_from(stripe).unwrap_or(0)]
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
        let _one_at_a_time = self.stripe(machine).lock().await;
        let site = self.site();
        let Some(open) = site.open_install(machine) else { return Ok(None) };
        let Some((install, step)) = step(open, Timestamp::now()) else { return Ok(None) };
        self.keep_install(install, step).await.map(Some)
    }

    /// The name of the subnet that a machine boots on.
    fn booted_on(&self, machine: Id<Machine>, evidence: &Evidence) -> Option<String> {
        let site = self.site();
        if let Evidence::Lease { address, .. } = evidence {
            let subnet = site.subnets().find(|subnet| subnet.network.contains(address))?;
            return Some(subnet.name.clone());
        }
        let machine = site.machine_by_id(machine)?;
        Some(self.subnet_of(&site, machine)?.name.clone())
    }

    /// Arms what ended installs were to do once more: each image's current revision, with the same answers; all of them,
    /// or none.
    ///
    /// # Errors
    /// What stands in their way; then nothing has changed.
    pub(crate) async fn retry_all(&self, installs: &[Install], who: &str) -> Result<Vec<Install>, ArmError> {
        let request = |site: &Site, install: &Install| ArmRequest {
            machine: site
                .machine_by_id(install.machine)
                .map_or_else(|| install.machine_name.clone(), |machine| machine.name.clone()),
            image: install.image.clone(),
            answers: install.answers_name.clone(),
            asked: install.asked.clone(),
        };
        let requests = |site: &Site| Ok(installs.iter().map(|install| request(site, install)).collect());
        self.arm_all(requests, who).await
    }

    /// Keeps an install as it is now. The caller sees to it that nobody else changes it meanwhile.
    ///
    /// # Errors
    /// What the store refused; then nothing has changed.
    pub(crate) async fn keep_install(&self, install: Install, step: Step) -> Result<Install, StoreError> {
        self.record(&install, &step).await?;
        self.change_site(|site| site.with_install(install.clone()));
        self.tell_install(&install, &step);
        Ok(install)
    }

    /// Puts an install and the step that brought it there on disk, and with them what is to be handed over: one is
    /// never there without the other.
    async fn record(&self, install: &Install, step: &Step) -> Result<(), StoreError> {
        let deliveries = self.deliveries_of(install, step);
        let (kept, seen, is_told) = (install.clone(), step.clone(), !deliveries.is_empty());
        let put = move |tx: &mut Tx<'_>| {
            tx.put_install(&kept, &seen)?;
            tx.add_deliveries(&deliveries)
        };
        self.store.write(put).await?;
        if is_told {
            self.deliver_soon.notify_one();
        }
        if !install.state.is_open() {
            self.paces.ended(install);
        }
        Ok(())
    }

    /// An install as lists show it.
    pub(crate) fn install_row(&self, install: &Install) -> InstallRow {
        InstallRow::new(install, self.paces.progress(install, Timestamp::now()))
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
        let _ = self.events.send(Event::Install { install: Box::new(self.install_row(install)) });
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
        let _one_at_a_time = self.stripe(machine).lock().await;
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
