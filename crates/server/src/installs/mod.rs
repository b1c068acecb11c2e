//! Turns what was seen into the record.

mod keeper;
mod late;
mod log;
mod stateless;

use std::sync::Arc;

use base64::{Engine, engine::general_purpose::URL_SAFE_NO_PAD};
use jiff::Timestamp;
pub(crate) use keeper::keep;
use lastmile_core::{
    base::{Fault, Id},
    decide::install::{ArmPreview, ArmRequest, ArmSeveral, Evidence, already_open, not_ready},
    model::{
        image::{Revision, Sha256},
        install::{Install, Step, StepKind, Token},
        machine::Machine,
    },
    site::Site,
};
use lastmile_store::{Change, StoreError};

use crate::{clock, random::random, records::Records};

/// Bytes of randomness in a token.
const TOKEN_BYTES: usize = 32;

/// Why an install is not armed.
#[derive(Debug)]
pub(crate) enum ArmError {
    /// What stands in its way.
    Faults(Vec<Fault>),
    /// It could not be recorded.
    Store(StoreError),
}

impl From<StoreError> for ArmError {
    fn from(error: StoreError) -> Self {
        Self::Store(error)
    }
}

impl Records {
    /// Arms an install: the machine gets it at its next network boot, once.
    ///
    /// # Errors
    /// What stands in its way; then nothing has changed.
    pub(crate) async fn arm(self: &Arc<Self>, request: ArmRequest, who: &str) -> Result<Install, ArmError> {
        let armed = self.arm_all(move |_| Ok(vec![request.clone()]), who).await?;
        // One request makes one install, or an error.
        armed.into_iter().next().ok_or_else(|| ArmError::Faults(vec![]))
    }

    /// Arms all that `requests` asks for, or none of it. Every answer file is written to see whether it can be: that is done
    /// beside the writer, which then only looks whether it is still true.
    ///
    /// # Errors
    /// What stands in the way of any of them; then nothing has changed.
    pub(crate) async fn arm_all(
        self: &Arc<Self>,
        requests: impl Fn(&Site) -> Result<Vec<ArmRequest>, Vec<Fault>> + Send + Sync + 'static,
        who: &str,
    ) -> Result<Vec<Install>, ArmError> {
        let (records, who) = (self.clone(), who.to_owned());
        self.change_prepared(
            move |site| records.prepare(site, &requests, &who).map_err(ArmError::Faults),
            record,
        )
        .await
    }

    /// What arming would record; the installs have no numbers yet.
    fn prepare(
        &self,
        site: &Site,
        requests: &impl Fn(&Site) -> Result<Vec<ArmRequest>, Vec<Fault>>,
        who: &str,
    ) -> Result<Vec<Install>, Vec<Fault>> {
        let token = || Token::new(URL_SAFE_NO_PAD.encode(random::<TOKEN_BYTES>()));
        let subjects = |machine: &Machine, revision: &Revision| self.subject(site, machine, Some(revision));
        ArmRequest::check_all(&requests(site)?, site, &subjects, 0, token, who, clock::now())
    }

    /// What arming would do to each machine; it changes nothing.
    ///
    /// # Errors
    /// That no machine is meant.
    pub(crate) fn preview(&self, several: &ArmSeveral) -> Result<Vec<ArmPreview>, Vec<Fault>> {
        let site = self.site();
        let subjects = |machine: &Machine, revision: &Revision| self.subject(&site, machine, Some(revision));
        Ok(several.requests(&site)?.iter().map(|request| request.preview(&site, &subjects)).collect())
    }

    /// Records evidence about a machine's open install, if it has one and the evidence says something new.
    ///
    /// # Errors
    /// What the store refused; then nothing has changed.
    pub(crate) async fn see(
        self: &Arc<Self>,
        machine: Id<Machine>,
        evidence: Evidence,
    ) -> Result<(), StoreError> {
        let records = self.clone();
        let see = move |install: &Install, now| {
            let (mut next, step) = install.see(&evidence, now)?;
            if next.subnet.is_none() {
                next.subnet = records.booted_on(machine, &evidence);
            }
            Some((next, step))
        };
        self.move_install(machine, see).await.map(drop)
    }

    /// The same, for those who have nobody to tell of an error.
    pub(crate) async fn see_or_log(self: &Arc<Self>, machine: Id<Machine>, evidence: Evidence) {
        if let Err(error) = self.see(machine, evidence).await {
            tracing::error!(%machine, "a step of an install was not recorded: {error}");
        }
    }

    /// Changes a machine's open install. Gives it as it is then, or `None` if there was nothing to change. `step` is asked
    /// about the snapshot first, so that what changes nothing costs no write, and again where nobody else can change it.
    ///
    /// # Errors
    /// What the store refused; then nothing has changed.
    pub(crate) async fn move_install(
        self: &Arc<Self>,
        machine: Id<Machine>,
        step: impl Fn(&Install, Timestamp) -> Option<(Install, Step)> + Send + 'static,
    ) -> Result<Option<Install>, StoreError> {
        match self.site().open_install(machine) {
            Some(open) if step(open, clock::now()).is_some() => {}
            _ => return Ok(None),
        }
        let records = self.clone();
        let take_step = move |change: &mut Change<'_>| {
            let Some(open) = change.site().open_install(machine).cloned() else { return Ok(None) };
            let Some((install, step)) = step(&open, clock::now()) else { return Ok(None) };
            records.keep_install(change, install, step).map(Some)
        };
        self.store.change_for_machine(take_step).await
    }

    /// The name of the subnet that a machine boots on.
    fn booted_on(&self, machine: Id<Machine>, evidence: &Evidence) -> Option<String> {
        let site = self.site();
        let from = match evidence {
            Evidence::Lease { address, .. } => Some(*address),
            _ => None,
        };
        let machine = site.machine_by_id(machine)?;
        Some(self.subnet_of(&site, &machine.macs, from)?.name.clone())
    }

    /// Arms what ended installs were to do once more: each image's current revision, with the same answers; all of them,
    /// or none. The machine is the one that had the install, whatever it is called now.
    ///
    /// # Errors
    /// What stands in their way; then nothing has changed.
    pub(crate) async fn retry_all(
        self: &Arc<Self>,
        installs: Vec<Install>,
        who: &str,
    ) -> Result<Vec<Install>, ArmError> {
        let request = |site: &Site, install: &Install| {
            let machine = site.machine_by_id(install.machine).ok_or_else(|| Fault {
                place: "machine".into(),
                what: format!("{} of install {} was removed", install.machine_name, install.number),
                fix: "Arm an install of the machine that is meant: one of the same name is another machine."
                    .into(),
            })?;
            Ok(ArmRequest {
                machine: machine.name.clone(),
                image: install.image.clone(),
                answers: install.answers_name.clone(),
                asked: install.asked.clone(),
            })
        };
        let requests = move |site: &Site| {
            let (mut requests, mut gone) = (Vec::new(), Vec::new());
            for install in &installs {
                match request(site, install) {
                    Ok(request) => requests.push(request),
                    Err(fault) => gone.push(fault),
                }
            }
            if gone.is_empty() { Ok(requests) } else { Err(gone) }
        };
        self.arm_all(requests, who).await
    }

    /// Cancels installs in one change. Those that have ended meanwhile stay as they are: each is given as it is then, or `None`
    /// if there was nothing to cancel.
    ///
    /// # Errors
    /// What the store refused; then nothing has changed.
    pub(crate) async fn cancel_all(
        self: &Arc<Self>,
        installs: Vec<Install>,
        who: String,
    ) -> Result<Vec<Option<Install>>, StoreError> {
        let records = self.clone();
        let cancel = move |change: &mut Change<'_>| {
            let cancel = |install: Install| {
                let open =
                    change.site().open_install(install.machine).filter(|open| open.number == install.number);
                let Some((next, step)) = open.and_then(|open| open.cancel(&who, clock::now())) else {
                    return Ok(None);
                };
                records.keep_install(change, next, step).map(Some)
            };
            installs.into_iter().map(cancel).collect::<Result<Vec<_>, StoreError>>()
        };
        self.change(cancel).await
    }

    /// Keeps an install as it is now, and with it its webhook deliveries: one is never there without the other.
    ///
    /// # Errors
    /// What the store refused; then nothing has changed.
    pub(crate) fn keep_install(
        &self,
        change: &mut Change<'_>,
        install: Install,
        step: Step,
    ) -> Result<Install, StoreError> {
        let deliveries = self.deliveries_of(change.site(), &install, &step);
        change.put_install(install.clone(), step)?;
        change.add_deliveries(&deliveries)?;
        Ok(install)
    }

    /// Notes the digest over all files of what is being installed, which was not known when it was armed.
    ///
    /// # Errors
    /// What the store refused; then nothing has changed.
    pub(crate) async fn set_manifest_hash(
        &self,
        revision: Id<Revision>,
        hash: Sha256,
    ) -> Result<(), StoreError> {
        let fill = move |change: &mut Change<'_>| {
            let lacks = |open: &&Arc<Install>| open.revision == revision && open.manifest_hash.is_none();
            let open: Vec<_> = change.site().open_installs().filter(lacks).cloned().collect();
            open.iter().try_for_each(|open| {
                change.put_manifest_hash(Install { manifest_hash: Some(hash), ..(**open).clone() })
            })
        };
        self.store.change(fill).await
    }

    /// Stops an install that has begun too often.
    pub(crate) async fn stall(self: &Arc<Self>, machine: Id<Machine>) {
        let stall = |install: &Install, now| install.is_looping().then(|| install.stall(now)).flatten();
        if let Err(error) = self.move_install(machine, stall).await {
            tracing::error!(%machine, "an install that loops was not stopped: {error}");
        }
    }
}

/// Records installs that were prepared from what people have entered. What machines did meanwhile is looked at again.
fn record(change: &mut Change<'_>, installs: Vec<Install>) -> Result<Vec<Install>, ArmError> {
    let site = change.site();
    let in_the_way = |install: &Install| {
        let mut fault = match (site.open_install(install.machine), site.revision(install.revision)) {
            (Some(open), _) => already_open(&install.machine_name, open),
            (None, Some(revision)) if !revision.is_ready() => not_ready(revision),
            _ => return None,
        };
        if installs.len() > 1 && fault.place == "machine" {
            fault.place.clone_from(&install.machine_name);
        }
        Some(fault)
    };
    let mut faults: Vec<Fault> = installs.iter().filter_map(in_the_way).collect();
    faults.dedup();
    if !faults.is_empty() {
        return Err(ArmError::Faults(faults));
    }
    let first = change.next_install_number()?;
    let mut armed = Vec::with_capacity(installs.len());
    for (number, install) in (first..).zip(installs) {
        let install = Install { number, ..install };
        let detail = format!("by {}", install.armed_by);
        let step = Step { at: install.armed_at, kind: StepKind::Armed, detail };
        change.put_install(install.clone(), step)?;
        armed.push(install);
    }
    Ok(armed)
}
