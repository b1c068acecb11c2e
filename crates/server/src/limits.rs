//! What one source may take: connections and transfers at once, messages in a time, lines of the log.
//!
//! The service's own host is not limited: simulated machines speak from there, and whoever is on it can stop the service anyway.

use std::{
    collections::HashMap,
    hash::Hash,
    net::IpAddr,
    num::NonZeroUsize,
    sync::{
        Arc, Mutex,
        atomic::{AtomicU64, Ordering},
    },
    time::{Duration, Instant},
};

use lru::LruCache;

use crate::sync::lock;

/// The size of something that forgets what is over it.
pub(crate) const fn at_most(entries: usize) -> NonZeroUsize {
    match NonZeroUsize::new(entries) {
        Some(entries) => entries,
        None => NonZeroUsize::MIN,
    }
}

/// How much of something each source has at once.
#[derive(Debug)]
pub(crate) struct PerSource {
    most: usize,
    taken: Mutex<HashMap<IpAddr, usize>>,
}

impl PerSource {
    /// At most so much for each.
    pub(crate) fn new(most: usize) -> Arc<Self> {
        Arc::new(Self { most, taken: Mutex::default() })
    }

    /// Takes one more for a source; given back when the value is dropped. `None` if it has all it may have.
    pub(crate) fn take(self: &Arc<Self>, source: IpAddr) -> Option<Taken> {
        if !source.is_loopback() {
            let mut taken = lock(&self.taken);
            let count = taken.entry(source).or_default();
            if *count >= self.most {
                return None;
            }
            *count += 1;
        }
        Some(Taken { of: self.clone(), source })
    }
}

/// One of what a source may have.
#[derive(Debug)]
pub(crate) struct Taken {
    of: Arc<PerSource>,
    source: IpAddr,
}

impl Drop for Taken {
    fn drop(&mut self) {
        let mut taken = lock(&self.of.taken);
        if let Some(count) = taken.get_mut(&self.source) {
            *count -= 1;
            if *count == 0 {
                taken.remove(&self.source);
            }
        }
    }
}

/// A budget of messages for each of many senders: so many at once, and so many a second after that.
#[derive(Debug)]
pub(crate) struct Budgets<K: Hash + Eq> {
    burst: f64,
    per_second: f64,
    left: Mutex<LruCache<K, (f64, Instant)>>,
}

impl<K: Hash + Eq> Budgets<K> {
    /// Budgets of `burst` messages that grow by `per_second`, for the `known` senders that were heard last.
    pub(crate) fn new(burst: u32, per_second: u32, known: NonZeroUsize) -> Self {
        let left = Mutex::new(LruCache::new(known));
        Self { burst: burst.into(), per_second: per_second.into(), left }
    }

    /// Takes one message from a sender's budget; gives whether there was any left.
    pub(crate) fn take(&self, sender: K, now: Instant) -> bool {
        let mut all = lock(&self.left);
        let (left, at) = all.get_or_insert_mut(sender, || (self.burst, now));
        let grown = *left + now.saturating_duration_since(*at).as_secs_f64() * self.per_second;
        (*left, *at) = (grown.min(self.burst), now);
        if *left < 1.0 {
            return false;
        }
        *left -= 1.0;
        true
    }
}

/// Lines of the log that strangers can cause: some a minute, the rest are counted.
#[derive(Debug)]
pub(crate) struct Lines {
    what: &'static str,
    minute: AtomicU64,
    said: AtomicU64,
}

/// Lines of one kind in a minute.
const LINES_A_MINUTE: u64 = 20;

impl Lines {
    /// Lines that say `what`.
    pub(crate) const fn new(what: &'static str) -> Self {
        Self { what, minute: AtomicU64::new(0), said: AtomicU64::new(0) }
    }

    /// Whether one more may be said now. How many were not is said once their minute is over.
    pub(crate) fn may_say(&self) -> bool {
        let minute = u64::try_from(crate::clock::now().as_second() / 60).unwrap_or(0);
        if self.minute.swap(minute, Ordering::Relaxed) != minute {
            let said = self.said.swap(0, Ordering::Relaxed);
            if let Some(more) = said.checked_sub(LINES_A_MINUTE).filter(|more| *more > 0) {
                tracing::warn!("{}: {more} more were not logged", self.what);
            }
        }
        self.said.fetch_add(1, Ordering::Relaxed) < LINES_A_MINUTE
    }
}

/// How long a whole transfer of so many bytes may take: what is slower only holds on to the service.
pub(crate) fn longest_transfer(bytes: u64) -> Duration {
    const LEAST: Duration = Duration::from_secs(15 * 60);
    const BYTES_A_SECOND: u64 = 16 * 1024;
    LEAST + Duration::from_secs(bytes / BYTES_A_SECOND)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_source_has_its_own_and_gives_it_back() {
        let limit = PerSource::new(2);
        let source = |last| IpAddr::from([192, 0, 2, last]);
        let one = limit.take(source(1)).unwrap();
        let _two = limit.take(source(1)).unwrap();
        assert!(limit.take(source(1)).is_none() && limit.take(source(2)).is_some());
        drop(one);
        assert!(limit.take(source(1)).is_some());
        assert!((0..99).map(|_| limit.take([127, 0, 0, 1].into())).all(|taken| taken.is_some()));
        drop(limit.take(source(3)));
        assert!(!lock(&limit.taken).contains_key(&source(3)), "nothing is kept of who has left");
    }

    #[test]
    fn a_budget_is_spent_and_grows_again() {
        let budgets = Budgets::new(3, 2, NonZeroUsize::new(2).unwrap());
        let start = Instant::now();
        let spent: Vec<bool> = (0..5).map(|_| budgets.take("a", start)).collect();
        assert_eq!(spent, [true, true, true, false, false]);
        assert!(budgets.take("b", start), "others have their own");
        let later = start + Duration::from_secs(1);
        assert!(budgets.take("a", later) && budgets.take("a", later) && !budgets.take("a", later));
    }

    #[test]
    fn lines_of_a_flood_are_counted_and_not_said() {
        let lines = Lines::new("refusals");
        let said = (0..1000).filter(|_| lines.may_say()).count();
        // The minute may have ended in the middle of it.
        assert!((20..=40).contains(&said), "{said}");
    }
}
