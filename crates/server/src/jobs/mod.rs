//! Jobs: armed by people, done by the survey's agents, kept on record like installs.

mod keeper;
mod news;
mod shell;

use std::sync::Arc;

use jiff::Timestamp;
pub(crate) use keeper::keep;
use lastmile_core::{
    base::Fault,
    decide::job::{ArmJobs, JobDraft, check_task},
    model::{
        job::{Job, Task},
        machine::Machine,
    },
};
use lastmile_formats::mac::Mac;
use lastmile_store::{Change, StoreError};
pub(crate) use news::Told;

use crate::{
    clock,
    records::{Records, put_jobs},
};

/// Why a job is not armed.
#[derive(Debug)]
pub(crate) enum JobError {
    /// What stands in its way.
    Faults(Vec<Fault>),
    /// It could not be recorded.
    Store(StoreError),
}

impl std::fmt::Display for JobError {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Faults(faults) => {
                f.write_str(&faults.iter().map(ToString::to_string).collect::<Vec<_>>().join(" "))
            }
            Self::Store(error) => error.fmt(f),
        }
    }
}

impl From<StoreError> for JobError {
    fn from(error: StoreError) -> Self {
        Self::Store(error)
    }
}

impl Records {
    /// Arms a job on each machine that is meant, or on none.
    ///
    /// # Errors
    /// What stands in the way of any of them; then nothing has changed.
    pub(crate) async fn arm_jobs(&self, asked: ArmJobs, who: &str) -> Result<Vec<Job>, JobError> {
        let who = who.to_owned();
        let arm = move |change: &mut Change<'_>| {
            let drafts = asked.check(change.site()).map_err(JobError::Faults)?;
            put_jobs(change, drafts, &who, clock::now()).map_err(JobError::Store)
        };
        self.change(arm).await
    }

    /// Arms a job on whoever has an address, as it was picked at its menu; the one that waits already, if it is the same.
    ///
    /// # Errors
    /// What stands in its way; then nothing has changed.
    pub(crate) async fn arm_picked(&self, mac: Mac, task: Task) -> Result<Job, JobError> {
        let arm = move |change: &mut Change<'_>| {
            let site = change.site();
            if let Some(waiting) = site.open_jobs(mac).into_iter().find(|job| job.task == task) {
                return Ok((**waiting).clone());
            }
            let faults = check_task(&task, site);
            if !faults.is_empty() {
                return Err(JobError::Faults(faults));
            }
            let draft = JobDraft { machine: site.machine_by_mac(mac).cloned(), mac, task, then: None };
            let armed = put_jobs(change, vec![draft], "somebody at the machine", clock::now())?;
            // One draft makes one job.
            armed.into_iter().next().ok_or_else(|| JobError::Faults(Vec::new()))
        };
        self.store.change(arm).await
    }

    /// Cancels jobs in one change. Each is given as it is then, or `None` if there was nothing to cancel.
    ///
    /// # Errors
    /// What the store refused; then nothing has changed.
    pub(crate) async fn cancel_jobs(
        &self,
        numbers: Vec<i64>,
        who: String,
    ) -> Result<Vec<Option<Job>>, StoreError> {
        let cancel = move |change: &mut Change<'_>| {
            let one = |number: i64| change_job(change, number, |job, now| job.cancel(&who, now));
            numbers.into_iter().map(one).collect()
        };
        self.change(cancel).await
    }

    /// The survey's kernel was fetched for a job.
    pub(crate) async fn fetched_for_job(&self, number: i64) {
        self.move_job_or_log(number, |job, _| job.fetched()).await;
    }

    /// Stops a job that the survey was started for too often.
    pub(crate) async fn stall_job(&self, number: i64) {
        self.move_job_or_log(number, Job::stall).await;
    }

    /// Changes a job. Gives it as it is then, or `None` if there was nothing to change.
    ///
    /// # Errors
    /// What the store refused; then nothing has changed.
    async fn move_job(
        &self,
        number: i64,
        step: impl Fn(&Job, Timestamp) -> Option<(Job, String)> + Send + 'static,
    ) -> Result<Option<Job>, StoreError> {
        let take_step = move |change: &mut Change<'_>| change_job(change, number, &step);
        self.store.change_for_machine(take_step).await
    }

    /// The same, for those who have nobody to tell of an error.
    async fn move_job_or_log(
        &self,
        number: i64,
        step: impl Fn(&Job, Timestamp) -> Option<(Job, String)> + Send + 'static,
    ) {
        if let Err(error) = self.move_job(number, step).await {
            tracing::error!(job = number, "what happened to a job was not recorded: {error}");
        }
    }
}

/// Changes a job within a change.
fn change_job(
    change: &mut Change<'_>,
    number: i64,
    step: impl Fn(&Job, Timestamp) -> Option<(Job, String)>,
) -> Result<Option<Job>, StoreError> {
    let Some((job, _)) = change.tx().job(number)? else { return Ok(None) };
    let now = clock::now();
    let Some((job, text)) = step(&job, now) else { return Ok(None) };
    change.put_job(job.clone(), text, now)?;
    Ok(Some(job))
}

/// Cancels what is open of a machine that is removed.
///
/// # Errors
/// What the store refused.
pub(crate) fn cancel_of_removed(change: &mut Change<'_>, machine: &Machine) -> Result<(), StoreError> {
    cancel_all(change, "the machine was removed", |job| job.machine == Some(machine.id))
}

/// Cancels every command that has not ended: the site does not allow them any more.
///
/// # Errors
/// What the store refused.
pub(crate) fn cancel_commands(change: &mut Change<'_>) -> Result<(), StoreError> {
    let why = "this site does not allow commands and shells on machines any more";
    cancel_all(change, why, |job| job.task.is_command())
}

fn cancel_all(change: &mut Change<'_>, why: &str, is_meant: impl Fn(&Job) -> bool) -> Result<(), StoreError> {
    let open: Vec<Arc<Job>> = change.site().all_open_jobs().filter(|job| is_meant(job)).cloned().collect();
    let now = clock::now();
    open.iter()
        .filter_map(|job| job.cancel_because(why, now))
        .try_for_each(|(job, text)| change.put_job(job, text, now))
}
