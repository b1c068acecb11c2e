//! What moves a job on.

use jiff::{SignedDuration, Timestamp};
use lastmile_formats::mac::Mac;
use uuid::Uuid;

use crate::{
    model::{
        agent::{Finish, ToAgent},
        install::MAX_KERNEL_FETCHES,
        job::{Job, JobResult, JobState},
    },
    site::Site,
};

/// How long after its limit a job's result is waited for: a machine without network delivers it once it has one again.
const PATIENCE: SignedDuration = SignedDuration::from_hours(24);

impl Job {
    /// Whether the survey was started for it too often to be started again.
    #[must_use]
    pub const fn is_looping(&self) -> bool {
        self.kernel_fetches >= MAX_KERNEL_FETCHES
    }

    /// The survey's kernel was fetched for it.
    #[must_use]
    pub fn fetched(&self) -> Option<(Self, String)> {
        let next = Self { kernel_fetches: self.kernel_fetches + 1, ..self.clone() };
        self.state.is_open().then(|| (next, "the survey's kernel was fetched".into()))
    }

    /// The agent of a boot has begun. `None` if that is known, or it is not to be done any more.
    #[must_use]
    pub fn begin(&self, boot: Uuid, now: Timestamp) -> Option<(Self, String)> {
        let next = Self {
            state: JobState::Running,
            boot: Some(boot),
            began_at: Some(now),
            kernel_fetches: 0,
            ..self.clone()
        };
        (self.state == JobState::Armed).then(|| (next, "begun by the agent".into()))
    }

    /// The agent says what came of it. What arrives after it was given up still counts; of a cancelled one only the result is kept.
    #[must_use]
    pub fn end(&self, boot: Uuid, result: &JobResult, now: Timestamp) -> Option<(Self, String)> {
        if self.boot.is_some_and(|own| own != boot) || self.result.is_some() {
            return None;
        }
        let mut next = Self { result: Some(result.clone()), boot: Some(boot), ..self.clone() };
        if self.state == JobState::Cancelled {
            return Some((next, format!("ended after it was cancelled: {}", result.summary())));
        }
        let is_late = !self.state.is_open();
        next.state = if result.faults.is_empty() { JobState::Done } else { JobState::Failed };
        next.reason = (!result.faults.is_empty()).then(|| result.faults.join("; "));
        next.ended_at = Some(now);
        let late = if is_late { "late: " } else { "" };
        let text = format!("{late}{}: {}", next.state, result.summary());
        Some((next, text))
    }

    /// The machine runs the survey anew, in a boot that ends with this job: what it was at is lost. `None` if it is not at this job,
    /// or runs that boot.
    #[must_use]
    pub fn interrupt(&self, boot: Uuid, now: Timestamp) -> Option<(Self, String)> {
        let is_lost = self.state == JobState::Running && self.boot.is_some_and(|own| own != boot);
        let lost = Self { boot: Some(boot), ..self.clone() };
        is_lost.then(|| lost.stop(JobState::Failed, "the machine restarted while it was at it", now))
    }

    /// Stops one that the survey was started for too often, once the machine asks what to boot again: until then its last start may
    /// still come to it.
    #[must_use]
    pub fn stall(&self, now: Timestamp) -> Option<(Self, String)> {
        let reason = format!(
            "the survey's kernel was fetched {} times, and its agent did not come to it",
            self.kernel_fetches
        );
        (self.state.is_open() && self.is_looping()).then(|| self.stop(JobState::Stalled, &reason, now))
    }

    /// Gives up one that was not heard of for too long. `None` if it may still end.
    #[must_use]
    pub fn give_up(&self, now: Timestamp) -> Option<(Self, String)> {
        let limit = SignedDuration::from_mins(self.task.limit_minutes().into()) + PATIENCE;
        let began = self.began_at.filter(|_| self.state == JobState::Running)?;
        let hours = PATIENCE.as_hours();
        let reason = format!("no result came within {hours} h after its limit");
        (now.duration_since(began) > limit).then(|| self.stop(JobState::Stalled, &reason, now))
    }

    /// A person cancels it. `None` if it has ended already.
    #[must_use]
    pub fn cancel(&self, by: &str, now: Timestamp) -> Option<(Self, String)> {
        self.cancel_because(&format!("cancelled by {by}"), now)
    }

    /// It is cancelled, for this reason. `None` if it has ended already.
    #[must_use]
    pub fn cancel_because(&self, why: &str, now: Timestamp) -> Option<(Self, String)> {
        self.state.is_open().then(|| self.stop(JobState::Cancelled, why, now))
    }

    fn stop(&self, state: JobState, reason: &str, now: Timestamp) -> (Self, String) {
        let next = Self { state, reason: Some(reason.into()), ended_at: Some(now), ..self.clone() };
        (next, reason.into())
    }

    /// Whether it ended in a boot, which was started at `given`: it was done there, or cancelled before it was begun.
    fn ended_in(&self, boot: Uuid, given: Timestamp) -> bool {
        let was_cancelled = || self.armed_at <= given && self.ended_at.is_some_and(|ended| ended >= given);
        !self.state.is_open() && self.boot.map_or_else(was_cancelled, |own| own == boot)
    }

    /// What the machine does after it, in the boot that it ended in.
    fn afterwards(&self, given: Timestamp) -> Option<Finish> {
        let was_started_for_it = given >= self.armed_at;
        self.then.or_else(|| was_started_for_it.then_some(Finish::Restart))
    }
}

/// What an agent is told of jobs: one to do, or how to end after the last; nothing if it only waits, or is at one.
#[must_use]
pub fn next_for_agent(site: &Site, mac: Mac, boot: Uuid, given: Timestamp) -> Option<ToAgent> {
    if let Some(job) = site.open_jobs(mac).first() {
        let order = ToAgent::Job { number: job.number, task: job.task.clone() };
        return (job.state == JobState::Armed).then_some(order);
    }
    let ended = site.latest_jobs(mac).filter(|job| job.ended_in(boot, given));
    ended.max_by_key(|job| job.number)?.afterwards(given).map(ToAgent::Finish)
}
