//! Follows jobs to their ends.

use std::{collections::BTreeMap, process::ExitCode, time::Duration};

use futures_util::StreamExt;
use jiff::SignedDuration;
use lastmile_api::{Event, JobRow, JobState, LogLine};
use lastmile_client::{Client, ClientError};
use tokio::time::{Instant, sleep, timeout_at};

use super::progress;
use crate::output::{Bar, Failure, Output, time};

/// How long nothing may be heard before everything is read again: a connection can die without a word.
const REREAD: Duration = Duration::from_secs(30);
/// Before all is read again: a service that is away, or that loses events for their number, is not pressed.
const RETRY: Duration = Duration::from_secs(1);

/// Jobs that are watched.
pub(crate) struct Watch {
    open: BTreeMap<i64, JobRow>,
    ended: Vec<JobState>,
    /// Whether what they write is shown.
    with_lines: bool,
    /// The place of the line of each that is shown next.
    next: BTreeMap<i64, i64>,
}

impl Watch {
    pub(crate) fn new(jobs: &[JobRow], with_lines: bool) -> Self {
        let open = jobs.iter().map(|job| (job.number, job.clone())).collect();
        Self { open, ended: Vec::new(), with_lines, next: BTreeMap::new() }
    }

    /// Exits with success once all are done, and with failure once all have ended and one of them otherwise, or when time is up. A
    /// service that is away for a while is waited for.
    pub(crate) async fn until_ended(
        mut self,
        limit: Option<SignedDuration>,
        client: &Client,
        out: &Output,
    ) -> Result<ExitCode, Failure> {
        let end = limit.map(|span| Instant::now() + span.unsigned_abs());
        let bar = (!self.with_lines).then(|| out.count("jobs", self.open.len()));
        let mut is_away = false;
        while !self.open.is_empty() && end.is_none_or(|end| Instant::now() < end) {
            match self.listen(client, end, out, bar.as_ref()).await {
                Ok(()) => is_away = false,
                Err(ClientError::Unreachable { .. }) => {
                    if !std::mem::replace(&mut is_away, true) {
                        out.warn("the service does not answer; waiting for it to come back");
                    }
                }
                Err(error) => return Err(error.into()),
            }
            if !self.open.is_empty() {
                sleep(RETRY).await;
            }
        }
        if let Some(bar) = &bar {
            bar.done();
        }
        if !self.open.is_empty() {
            let named =
                self.open.values().take(10).map(|job| format!("job {} of {}", job.number, job.machine));
            return Err(Failure::TimedOut {
                what: format!("{} have not ended in time", named.collect::<Vec<_>>().join(", ")),
                fix: "They go on. Wait longer, or cancel them: `lastmile job cancel`.",
            });
        }
        let done = self.ended.iter().filter(|state| **state == JobState::Done).count();
        if bar.is_some() {
            out.say(&format!("{done} of {} done", self.ended.len()));
        }
        Ok(if done == self.ended.len() { ExitCode::SUCCESS } else { ExitCode::FAILURE })
    }

    /// Reads how all are, and follows the events for a while.
    async fn listen(
        &mut self,
        client: &Client,
        end: Option<Instant>,
        out: &Output,
        bar: Option<&Bar>,
    ) -> Result<(), ClientError> {
        // Listened to before what is was read, so that nothing falls between.
        let mut events = Box::pin(client.events_stream().await?);
        for number in self.open.keys().copied().collect::<Vec<_>>() {
            let detail = client.jobs_read(number).await?;
            if self.with_lines {
                let first = detail.log_next - detail.log.len() as i64;
                self.lines(number, first, &detail.log, out);
            }
            self.take(detail.job, out, bar);
        }
        while !self.open.is_empty() {
            let until = Instant::now() + REREAD;
            let until = end.map_or(until, |end| end.min(until));
            match timeout_at(until, events.next()).await {
                Ok(Some(Event::Job { job })) if self.open.contains_key(&job.number) => {
                    if !job.state.is_open() && self.with_lines {
                        // What it wrote at its end is read whole.
                        return Ok(());
                    }
                    self.take(*job, out, bar);
                }
                Ok(Some(Event::JobLog { job, first, lines }))
                    if self.with_lines && self.open.contains_key(&job) =>
                {
                    self.lines(job, first, &lines, out);
                }
                Ok(Some(Event::Lagged) | None) | Err(_) => return Ok(()),
                Ok(Some(_)) => {}
            }
        }
        Ok(())
    }

    /// Shows what a job wrote and was not shown yet; `first` is the place of the first of the lines.
    fn lines(&mut self, number: i64, first: i64, lines: &[LogLine], out: &Output) {
        let next = self.next.get(&number).copied().unwrap_or(1);
        let machine = self.open.get(&number).map(|job| job.machine.as_str()).unwrap_or_default();
        self.next.insert(number, next.max(first + lines.len() as i64));
        for (_, line) in (first..).zip(lines).filter(|(place, _)| *place >= next) {
            if out.is_json() {
                out.json_line(&serde_json::json!({
                    "job": number, "machine": machine, "at": line.at, "line": line.line
                }));
            } else if self.open.len() + self.ended.len() > 1 {
                out.line(&format!("{machine}: {}", line.line));
            } else {
                out.line(&line.line);
            }
        }
    }

    /// Tells of a job that passed to another state, or that has ended.
    fn take(&mut self, now: JobRow, out: &Output, bar: Option<&Bar>) {
        let has_ended = !now.state.is_open();
        let before = self.open.insert(now.number, now.clone());
        if has_ended {
            self.open.remove(&now.number);
            self.ended.push(now.state);
            if let Some(bar) = bar {
                bar.step();
            }
        }
        let is_new = has_ended || before.is_none_or(|before| before.state != now.state);
        if out.is_json() {
            if has_ended {
                out.json_line(&now);
            }
            return;
        }
        match bar {
            Some(bar) if is_new => bar.beside(|| out.line(&line(&now))),
            Some(bar) if self.open.len() == 1 => bar.name(&progress(&now).unwrap_or_default()),
            None if has_ended && now.state != JobState::Done => {
                out.warn(&format!("job {} of {}: {}", now.number, now.machine, outcome(&now)));
            }
            _ => {}
        }
    }
}

fn outcome(job: &JobRow) -> String {
    let outcome = job.outcome.as_ref().map(|outcome| format!(": {outcome}")).unwrap_or_default();
    format!("{}{outcome}", job.state)
}

fn line(job: &JobRow) -> String {
    let at = job.ended_at.or(job.began_at).unwrap_or(job.armed_at);
    format!("{}  job {:<4} {:<24} {:<22} {}", time(at), job.number, job.machine, job.summary, outcome(job))
}
