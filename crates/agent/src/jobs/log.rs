//! What a job writes, on its way to the service.

use std::{
    mem,
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};

use lastmile_survey::messages::{News, Said};
use tokio::time::Instant;

use crate::session::Outbox;

/// Lines that are sent together, and how long one waits for others.
const TOGETHER: usize = 100;
const PAUSE: Duration = Duration::from_millis(250);
/// Characters of a line.
const MOST_LINE: usize = 2000;

/// Lines that a job writes.
#[derive(Debug)]
pub(super) struct Log {
    job: i64,
    outbox: Arc<Outbox>,
    waiting: Mutex<Waiting>,
}

#[derive(Debug)]
struct Waiting {
    /// The number of the first line that waits.
    first: u64,
    lines: Vec<String>,
    since: Instant,
}

impl Log {
    pub(super) fn new(job: i64, outbox: Arc<Outbox>) -> Self {
        let waiting = Waiting { first: 1, lines: Vec::new(), since: Instant::now() };
        Self { job, outbox, waiting: Mutex::new(waiting) }
    }

    /// Adds a line, and sends what waits if that is enough.
    pub(super) fn line(&self, line: &str) {
        let line: String = line.trim_end().chars().take(MOST_LINE).collect();
        let is_enough = {
            let mut waiting = self.waiting.lock().unwrap_or_else(PoisonError::into_inner);
            if waiting.lines.is_empty() {
                waiting.since = Instant::now();
            }
            waiting.lines.push(line);
            waiting.lines.len() >= TOGETHER
        };
        if is_enough {
            self.flush();
        }
    }

    /// When what waits is to be sent, if anything does.
    pub(super) fn due(&self) -> Option<Instant> {
        let waiting = self.waiting.lock().unwrap_or_else(PoisonError::into_inner);
        (!waiting.lines.is_empty()).then(|| waiting.since + PAUSE)
    }

    /// Sends what waits.
    pub(super) fn flush(&self) {
        let mut waiting = self.waiting.lock().unwrap_or_else(PoisonError::into_inner);
        if waiting.lines.is_empty() {
            return;
        }
        let (first, lines) = (waiting.first, mem::take(&mut waiting.lines));
        waiting.first += lines.len() as u64;
        self.outbox.put(Said::Job { number: self.job, news: News::Log { first, lines } });
    }
}
