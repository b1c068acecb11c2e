//! What the service does that takes longer than a moment, and how far it is.

use std::{
    collections::{BTreeMap, VecDeque},
    io,
    sync::{
        Arc, Mutex,
        atomic::{AtomicBool, AtomicU64, Ordering},
    },
    time::{Duration, Instant},
};

use lastmile_api::{Event, Work};
use tokio::sync::broadcast;

use crate::{clock, sync::lock};

/// How often progress is told.
const TOLD_EVERY: Duration = Duration::from_millis(250);
/// Over what time the rate is taken.
const LATELY: Duration = Duration::from_secs(5);
/// Ended pieces of work that are remembered.
const REMEMBERED: usize = 32;

/// All of it.
#[derive(Debug)]
pub(crate) struct WorkBook {
    next: AtomicU64,
    all: Mutex<BTreeMap<u64, Work>>,
    /// The service ends: so does what it is at.
    ending: AtomicBool,
    events: broadcast::Sender<Event>,
    /// Held while a revision is read again: two at once would only make the disk seek.
    pub(crate) verifying: tokio::sync::Mutex<()>,
    /// Held while the survey's system is made: it takes all of a processor and much of the memory.
    pub(crate) building: Arc<tokio::sync::Mutex<()>>,
}

impl WorkBook {
    pub(crate) fn new(events: broadcast::Sender<Event>) -> Self {
        Self {
            next: AtomicU64::new(1),
            all: Mutex::default(),
            ending: AtomicBool::new(false),
            events,
            verifying: tokio::sync::Mutex::default(),
            building: Arc::default(),
        }
    }

    /// What goes on and what ended lately, in the order of beginning.
    pub(crate) fn all(&self) -> Vec<Work> {
        lock(&self.all).values().cloned().collect()
    }

    /// Has everything that goes on break off: the service ends.
    pub(crate) fn end_all(&self) {
        self.ending.store(true, Ordering::Relaxed);
    }

    /// Begins something of so many bytes.
    pub(crate) fn begin(self: &Arc<Self>, what: impl Into<String>, total: u64) -> WorkHandle {
        let work = Work {
            id: self.next.fetch_add(1, Ordering::Relaxed),
            what: what.into(),
            done: 0,
            total,
            began: clock::now(),
            rate: 0.0,
            left_secs: None,
            ended: None,
        };
        let handle = WorkHandle {
            book: self.clone(),
            lately: VecDeque::from([(Instant::now(), 0)]),
            told: Instant::now(),
            work,
        };
        handle.tell();
        handle
    }

    fn put(&self, work: &Work) {
        let mut all = lock(&self.all);
        all.insert(work.id, work.clone());
        let ended: Vec<u64> = all.values().filter(|work| work.ended.is_some()).map(|work| work.id).collect();
        for id in ended.iter().rev().skip(REMEMBERED) {
            all.remove(id);
        }
        drop(all);
        // Nobody may be watching.
        let _ = self.events.send(Event::Work { work: work.clone() });
    }
}

/// One piece of work that goes on. Dropped without an end, it was broken off.
#[derive(Debug)]
pub(crate) struct WorkHandle {
    book: Arc<WorkBook>,
    work: Work,
    lately: VecDeque<(Instant, u64)>,
    told: Instant,
}

impl WorkHandle {
    /// So many more bytes are done.
    ///
    /// # Errors
    /// [`io::ErrorKind::Interrupted`] when the service ends: then this is to end, too.
    pub(crate) fn advance(&mut self, bytes: u64) -> io::Result<()> {
        if self.book.ending.load(Ordering::Relaxed) {
            return Err(io::Error::new(io::ErrorKind::Interrupted, "the service ends"));
        }
        self.work.done += bytes;
        let now = Instant::now();
        if now.duration_since(self.told) < TOLD_EVERY {
            return Ok(());
        }
        self.told = now;
        self.lately.push_back((now, self.work.done));
        while self.lately.len() > 2 && now.duration_since(self.lately[0].0) > LATELY {
            self.lately.pop_front();
        }
        let (since, from) = self.lately[0];
        self.work.rate = (self.work.done - from) as f64 / now.duration_since(since).as_secs_f64().max(0.001);
        let left = self.work.total.saturating_sub(self.work.done) as f64;
        self.work.left_secs = (self.work.rate > 0.0).then(|| left / self.work.rate);
        self.tell();
        Ok(())
    }

    /// It ended; `trouble` is empty if it went well.
    pub(crate) fn end(mut self, trouble: impl Into<String>) {
        self.work.ended = Some(trouble.into());
        self.work.left_secs = None;
    }

    fn tell(&self) {
        self.book.put(&self.work);
    }
}

impl Drop for WorkHandle {
    fn drop(&mut self) {
        self.work.ended.get_or_insert_with(|| "broken off".into());
        self.tell();
    }
}
