//! What agents say of their jobs.

use std::sync::Arc;

use lastmile_core::{
    model::{
        agent::News,
        job::{Job, JobProgress, JobResult, JobState},
    },
    site::Site,
};
use lastmile_formats::mac::Mac;
use lastmile_store::{Change, LogLine, StoreError};
use uuid::Uuid;

use super::change_job;
use crate::{
    clock,
    records::Records,
    rules::{Ran, Running},
};

/// Lines of one message that are taken, and characters of one.
const MOST_LINES: usize = 1000;
const MOST_LINE: usize = 2000;
/// The last place that a line may have: an agent that counts further is not ours.
const LAST_PLACE: u64 = 1 << 40;
/// Faults that are kept of a result, and characters of one.
const MOST_FAULTS: usize = 100;
const MOST_FAULT: usize = 500;
/// Characters of what a job is at.
const MOST_PROGRESS: usize = 200;

/// What an agent's word about a job was.
pub(crate) enum Told {
    /// Nothing that a person would look for in a trace.
    Quiet,
    /// Something for the trace.
    Noted(String),
    /// The job is not the machine's, or is not to be done any more.
    NotIts,
}

impl Records {
    /// Takes what the agent of a boot says of a job.
    ///
    /// # Errors
    /// What the store refused; then nothing has changed.
    pub(crate) async fn take_news(
        self: &Arc<Self>,
        mac: Mac,
        boot: Uuid,
        number: i64,
        news: News,
    ) -> Result<Told, StoreError> {
        match news {
            News::Progress(progress) => {
                let site = self.site();
                let Some(job) = site.open_jobs(mac).into_iter().find(|job| job.number == number) else {
                    return Ok(Told::NotIts);
                };
                let share = progress.share.map(|share| share.clamp(0.0, 1.0));
                let text = plain(&progress.text, MOST_PROGRESS);
                self.note_progress(number, Some(JobProgress { share, text, ..progress }));
                self.tell_job(&site, job);
                Ok(Told::Quiet)
            }
            News::Began => {
                let begin = move |change: &mut Change<'_>| {
                    if !is_its(change, mac, number)? {
                        return Ok(Told::NotIts);
                    }
                    let begun = change_job(change, number, |job, now| job.begin(boot, now))?;
                    Ok(begun.map_or(Told::Quiet, |job| Told::Noted(format!("{} has begun", job.title()))))
                };
                self.store.change_for_machine(begin).await
            }
            News::Log { first, lines } => {
                let at = clock::now();
                let Some(first) = i64::try_from(first.min(LAST_PLACE)).ok().filter(|first| *first > 0) else {
                    return Ok(Told::NotIts);
                };
                let lines = lines.into_iter().take(MOST_LINES);
                let lines = lines.map(|line| LogLine { at, line: plain(&line, MOST_LINE) }).collect();
                let keep = move |change: &mut Change<'_>| {
                    if !is_its(change, mac, number)? {
                        return Ok(Told::NotIts);
                    }
                    change.add_job_log(number, first, lines)?;
                    Ok(Told::Quiet)
                };
                self.store.change_for_machine(keep).await
            }
            News::Ended(result) => self.take_result(mac, boot, number, *result).await,
        }
    }

    async fn take_result(
        self: &Arc<Self>,
        mac: Mac,
        boot: Uuid,
        number: i64,
        mut result: JobResult,
    ) -> Result<Told, StoreError> {
        result.faults.truncate(MOST_FAULTS);
        result.faults.iter_mut().for_each(|fault| *fault = plain(fault, MOST_FAULT));
        let ruling = self.clone();
        let end = move |change: &mut Change<'_>| {
            if !is_its(change, mac, number)? {
                return Ok((Told::NotIts, Ran::default()));
            }
            let ended = change_job(change, number, |job, now| job.end(boot, &result, now))?;
            // A rule may have waited for it. Said again, as what a rule arms is armed after this, and may have been cut off.
            let ran = ruling.run_rules(change, mac, &Running::default())?;
            let Some(job) = ended else { return Ok((Told::Quiet, ran)) };
            let said = format!("{}: {}, {}", job.title(), job.state, result.summary());
            let said = [said].into_iter().chain(ran.summary()).collect::<Vec<_>>().join("; ");
            Ok((Told::Noted(said), ran))
        };
        let (told, mut ran) = self.store.change_for_machine::<_, StoreError>(end).await?;
        self.note_progress(number, None);
        self.arm_by_rule(&mut ran).await;
        Ok(told)
    }

    /// The machine runs the survey in a boot: what another boot of it was at is lost.
    ///
    /// # Errors
    /// What the store refused; then nothing has changed.
    pub(crate) async fn interrupt_jobs(self: &Arc<Self>, mac: Mac, boot: Uuid) -> Result<(), StoreError> {
        let is_lost = |site: &Site| -> Vec<i64> {
            let lost = site.open_jobs(mac).into_iter();
            let lost = lost.filter(|job| job.state == JobState::Running && job.boot != Some(boot));
            lost.map(|job| job.number).collect()
        };
        for number in is_lost(&self.site()) {
            self.move_job(number, move |job: &Job, now| job.interrupt(boot, now)).await?;
            self.note_progress(number, None);
        }
        Ok(())
    }
}

/// A text of an agent's as it is kept and shown: without what terminals act on.
fn plain(text: &str, most: usize) -> String {
    text.chars().filter(|c| !c.is_control() || *c == '\t').take(most).collect()
}

/// Whether a job is one of whoever has an address, also one that has ended.
fn is_its(change: &mut Change<'_>, mac: Mac, number: i64) -> Result<bool, StoreError> {
    let owner = change.site().machine_by_mac(mac).map(|machine| (machine.id, machine.macs.clone()));
    let Some((job, _)) = change.tx().job(number)? else { return Ok(false) };
    Ok(match (owner, job.machine) {
        (Some((id, _)), Some(machine)) => id == machine,
        (Some((_, macs)), None) => macs.contains(&job.mac),
        (None, None) => job.mac == mac,
        (None, Some(_)) => false,
    })
}
