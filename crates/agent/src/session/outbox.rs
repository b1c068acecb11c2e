//! What is to be said to the service, kept until it is on record there.

use std::{
    collections::VecDeque,
    sync::{Mutex, PoisonError},
    time::Duration,
};

use lastmile_survey::messages::{FromAgent, News, Said};
use tokio::{sync::Notify, time::sleep};

/// Passing messages that wait for a connection: the last ones count.
const MOST_PASSING: usize = 64;

/// Messages with lines of jobs that wait for a connection: of a job that writes on without one, the last count.
const MOST_LINES: usize = 1000;

/// Between two looks whether everything is on record.
const LOOK: Duration = Duration::from_millis(100);

/// Messages on their way out.
#[derive(Debug, Default)]
pub struct Outbox {
    kept: Mutex<Kept>,
    changed: Notify,
}

#[derive(Debug, Default)]
struct Kept {
    last: u64,
    /// What has to be recorded, oldest first.
    lasting: VecDeque<FromAgent>,
    /// What matters only now.
    passing: VecDeque<FromAgent>,
    /// The last that was sent on this connection.
    sent: u64,
    /// The job that is done.
    job: Option<i64>,
}

impl Outbox {
    /// Something that has to be recorded: said again on each new connection until it is.
    pub fn put(&self, said: Said) {
        self.change(|kept| {
            // A later survey of the same boot takes the place of an earlier one.
            if matches!(said, Said::Survey(_)) {
                kept.lasting.retain(|other| !matches!(other.said, Said::Survey(_)));
            }
            if is_lines(&said) {
                let waiting = kept.lasting.iter().filter(|other| is_lines(&other.said)).count();
                let oldest = kept.lasting.iter().position(|other| is_lines(&other.said));
                if let Some(oldest) = oldest.filter(|_| waiting >= MOST_LINES) {
                    kept.lasting.remove(oldest);
                }
            }
            if matches!(said, Said::Job { news: News::Ended(_), .. }) {
                // How far it was is past.
                kept.passing.retain(|other| !is_progress(&other.said));
            }
            kept.last += 1;
            kept.lasting.push_back(FromAgent { sequence: Some(kept.last), said });
        });
        self.changed.notify_one();
    }

    /// Something that matters only now. Of how far a job is, only the last word counts.
    pub fn tell(&self, said: Said) {
        self.change(|kept| {
            if is_progress(&said) {
                kept.passing.retain(|other| !is_progress(&other.said));
            }
            kept.passing.push_back(FromAgent { sequence: None, said });
            let old = kept.passing.len().saturating_sub(MOST_PASSING);
            kept.passing.drain(..old);
        });
        self.changed.notify_one();
    }

    /// The job that is done now; the service is told of it on each new connection.
    pub fn set_job(&self, job: Option<i64>) {
        self.change(|kept| kept.job = job);
    }

    pub(super) fn job(&self) -> Option<i64> {
        self.change(|kept| kept.job)
    }

    /// Everything up to this number is on record.
    pub fn recorded(&self, sequence: u64) {
        self.change(|kept| kept.lasting.retain(|message| message.sequence > Some(sequence)));
    }

    /// Whether everything is on record.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.change(|kept| kept.lasting.is_empty())
    }

    /// Waits until everything is on record.
    pub async fn delivered(&self) {
        while !self.is_empty() {
            sleep(LOOK).await;
        }
    }

    /// A new connection: whatever is not on record is to be said again.
    pub(super) fn begin_again(&self) {
        self.change(|kept| kept.sent = 0);
        self.changed.notify_one();
    }

    /// Waits for the next message that was not sent on this connection.
    pub(crate) async fn next(&self) -> FromAgent {
        loop {
            let found = self.change(|kept| {
                let sent = kept.sent;
                let lasting = kept.lasting.iter().find(|message| message.sequence > Some(sent)).cloned();
                match lasting {
                    Some(message) => {
                        kept.sent = message.sequence.unwrap_or(sent);
                        Some(message)
                    }
                    None => kept.passing.pop_front(),
                }
            });
            match found {
                Some(message) => return message,
                None => self.changed.notified().await,
            }
        }
    }

    fn change<T>(&self, change: impl FnOnce(&mut Kept) -> T) -> T {
        change(&mut self.kept.lock().unwrap_or_else(PoisonError::into_inner))
    }
}

fn is_lines(said: &Said) -> bool {
    matches!(said, Said::Job { news: News::Log { .. }, .. })
}

fn is_progress(said: &Said) -> bool {
    matches!(said, Said::Job { news: News::Progress(_), .. })
}

#[cfg(test)]
mod tests {
    use futures_util::FutureExt;
    use lastmile_survey::{job::JobProgress, messages::Survey};

    use super::*;

    fn doing(text: &str) -> Said {
        Said::Doing { text: text.into() }
    }

    #[test]
    fn what_is_not_on_record_is_said_again_on_the_next_connection() {
        let outbox = Outbox::default();
        outbox.put(doing("one"));
        outbox.put(doing("two"));
        outbox.tell(doing("passing"));
        let next = || outbox.next().now_or_never().map(|message| (message.sequence, message.said));
        assert_eq!(next(), Some((Some(1), doing("one"))));
        assert_eq!(next(), Some((Some(2), doing("two"))));
        assert_eq!(next(), Some((None, doing("passing"))));
        assert_eq!(next(), None);
        outbox.recorded(1);
        outbox.begin_again();
        outbox.put(doing("three"));
        assert_eq!(next(), Some((Some(2), doing("two"))));
        assert_eq!(next(), Some((Some(3), doing("three"))));
        assert_eq!(next(), None);
        outbox.recorded(3);
        assert!(outbox.is_empty());
    }

    #[test]
    fn an_hour_without_network_keeps_every_result_and_the_last_lines() {
        let outbox = Outbox::default();
        let job = |news: News| Said::Job { number: 7, news };
        outbox.put(job(News::Began));
        for first in 1..=2000 {
            outbox.put(job(News::Log { first, lines: vec!["line".into()] }));
            let progress = JobProgress { share: Some(0.5), text: first.to_string(), left_secs: None };
            outbox.tell(job(News::Progress(progress)));
        }
        outbox.put(job(News::Ended(Box::default())));
        outbox.begin_again();
        let mut said = Vec::new();
        while let Some(message) = outbox.next().now_or_never() {
            said.push(message.said);
        }
        assert_eq!(said.len(), 1 + MOST_LINES + 1, "how far it was is told no more");
        assert_eq!(said[0], job(News::Began));
        assert_eq!(said[1], job(News::Log { first: 1001, lines: vec!["line".into()] }));
        assert_eq!(said[MOST_LINES + 1], job(News::Ended(Box::default())));
    }

    #[test]
    fn of_surveys_only_the_last_is_kept() {
        let outbox = Outbox::default();
        outbox.put(Said::Survey(Box::default()));
        let mut found = Survey::default();
        found.facts.memory.mib = 512;
        outbox.put(Said::Survey(Box::new(found.clone())));
        let message = outbox.next().now_or_never().unwrap();
        assert_eq!((message.sequence, message.said), (Some(2), Said::Survey(Box::new(found))));
        assert!(outbox.next().now_or_never().is_none());
    }
}
