//! Keeps the events of all machines within bounds.

use std::{collections::VecDeque, sync::Arc};

use jiff::{SignedDuration, Timestamp};
use lastmile_formats::mac::Mac;
use lru::LruCache;

use super::{Seen, TraceEvent};

/// What is kept at most.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Bounds {
    /// Bytes of all registered machines together.
    pub known: usize,
    /// Bytes of all newcomers together: whoever makes up addresses pushes out only others of that kind.
    pub newcomers: usize,
    /// Bytes of one machine.
    pub machine: usize,
    /// How old an event may become.
    pub age: SignedDuration,
}

impl Default for Bounds {
    fn default() -> Self {
        Self {
            known: 48 << 20,
            newcomers: 8 << 20,
            machine: 256 << 10,
            age: SignedDuration::from_hours(14 * 24),
        }
    }
}

/// The events of one machine, oldest first.
#[derive(Debug, Default)]
struct Story {
    events: VecDeque<Arc<TraceEvent>>,
    weight: usize,
}

/// The stories of one kind of machines; the one silent for longest goes first.
#[derive(Debug)]
struct Shelf {
    stories: LruCache<Mac, Story>,
    weight: usize,
    room: usize,
}

/// Traces of all machines. A flood from one machine pushes out only its own events, one from made-up machines only
/// those of other newcomers.
#[derive(Debug)]
pub struct TraceBook {
    known: Shelf,
    newcomers: Shelf,
    bounds: Bounds,
    last: u64,
}

impl Default for TraceBook {
    fn default() -> Self {
        Self::new(Bounds::default())
    }
}

impl TraceBook {
    /// An empty book.
    #[must_use]
    pub fn new(bounds: Bounds) -> Self {
        Self { known: Shelf::new(bounds.known), newcomers: Shelf::new(bounds.newcomers), bounds, last: 0 }
    }

    /// Adds an event of the machine with that address; gives the event. `known` says whether the machine is
    /// registered.
    pub fn add(&mut self, mac: Mac, known: bool, at: Timestamp, seen: Seen) -> Arc<TraceEvent> {
        self.last += 1;
        let (shelf, other) = match known {
            true => (&mut self.known, &mut self.newcomers),
            false => (&mut self.newcomers, &mut self.known),
        };
        // Registered since it was last seen, or removed: its story goes with it.
        if let Some(story) = other.take(mac) {
            shelf.put(mac, story);
        }
        let event = Arc::new(TraceEvent { number: self.last, at, seen });
        shelf.add(
            mac,
            event.clone(),
            at.saturating_sub(self.bounds.age).unwrap_or(Timestamp::MIN),
            self.bounds.machine,
        );
        event
    }

    /// The events of some addresses, the one that began first first.
    #[must_use]
    pub fn of(&self, macs: &[Mac]) -> Vec<Arc<TraceEvent>> {
        let mut events: Vec<Arc<TraceEvent>> =
            macs.iter().flat_map(|mac| self.events(*mac)).cloned().collect();
        // A message that was answered late is noted late, and stands where it came.
        events.sort_by_key(|event| (event.at, event.number));
        events
    }

    /// When a machine with one of these addresses was last seen.
    #[must_use]
    pub fn last_seen(&self, macs: &[Mac]) -> Option<Timestamp> {
        macs.iter().filter_map(|mac| self.events(*mac).next_back()).map(|event| event.at).max()
    }

    /// The addresses of newcomers that left a trace, the one seen last first. Those that were registered since then, by
    /// `is_known`, are none any more.
    pub fn newcomers(&self, is_known: impl Fn(Mac) -> bool) -> impl Iterator<Item = Mac> {
        self.newcomers.stories.iter().map(|(mac, _)| *mac).filter(move |mac| !is_known(*mac))
    }

    /// Every address that left a trace, the one silent for longest first, so that adding their events again in this order makes
    /// the same book.
    #[must_use]
    pub fn all(&self) -> Vec<Mac> {
        let addresses = |shelf: &Shelf| shelf.stories.iter().map(|(mac, _)| *mac).collect::<Vec<_>>();
        [addresses(&self.known), addresses(&self.newcomers)].concat().into_iter().rev().collect()
    }

    /// Bytes that all events occupy, about.
    #[must_use]
    pub fn weight(&self) -> usize {
        self.known.weight + self.newcomers.weight
    }

    fn events(&self, mac: Mac) -> impl DoubleEndedIterator<Item = &Arc<TraceEvent>> {
        let story = self.known.stories.peek(&mac).or_else(|| self.newcomers.stories.peek(&mac));
        story.into_iter().flat_map(|story| &story.events)
    }
}

impl Shelf {
    fn new(room: usize) -> Self {
        Self { stories: LruCache::unbounded(), weight: 0, room }
    }

    fn take(&mut self, mac: Mac) -> Option<Story> {
        let story = self.stories.pop(&mac)?;
        self.weight -= story.weight;
        Some(story)
    }

    fn put(&mut self, mac: Mac, story: Story) {
        self.weight += story.weight;
        self.stories.put(mac, story);
    }

    fn add(&mut self, mac: Mac, event: Arc<TraceEvent>, oldest: Timestamp, machine_room: usize) {
        let story = self.stories.get_or_insert_mut(mac, Story::default);
        let weight = event.weight();
        story.events.push_back(event);
        story.weight += weight;
        self.weight += weight;
        while story.events.len() > 1
            && (story.weight > machine_room || story.events.front().is_some_and(|first| first.at < oldest))
        {
            let Some(first) = story.events.pop_front() else { break };
            story.weight -= first.weight();
            self.weight -= first.weight();
        }
        while self.weight > self.room && self.stories.len() > 1 {
            if let Some((_, story)) = self.stories.pop_lru() {
                self.weight -= story.weight;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{model::install::ReportStage, report::trace::Report};

    fn seen(text: &str) -> Seen {
        Seen::Report(Box::new(Report {
            from: "192.0.2.50:1024".parse().unwrap(),
            to: "192.0.2.2:80".parse().unwrap(),
            stage: ReportStage::Started,
            text: Some(text.into()),
            install: 1,
        }))
    }

    fn at(second: i64) -> Timestamp {
        Timestamp::from_second(second).unwrap()
    }

    fn mac(number: u16) -> Mac {
        Mac::new([2, 1, 0, 0, (number >> 8) as u8, number as u8]).unwrap()
    }

    #[test]
    fn a_flood_pushes_out_only_its_own() {
        let bounds =
            Bounds { known: 200_000, newcomers: 50_000, machine: 20_000, age: SignedDuration::from_hours(1) };
        let mut book = TraceBook::new(bounds);
        let (quiet, loud) = (mac(1), mac(2));
        book.add(quiet, true, at(1), seen("here"));
        for second in 0..5000 {
            book.add(loud, true, at(second % 1000), seen("again"));
        }
        assert_eq!(book.of(&[quiet]).len(), 1);
        let kept = book.of(&[loud]);
        assert!(kept.len() > 10 && kept.iter().map(|event| event.weight()).sum::<usize>() <= bounds.machine);
        // Made-up machines push out one another, not those that are registered.
        for number in 10..5000 {
            book.add(mac(number), false, at(2000), seen("who am I"));
        }
        assert!(book.of(&[mac(10)]).is_empty(), "the one silent for longest went first");
        assert_eq!(book.of(&[mac(4999)]).len(), 1);
        assert_eq!(book.of(&[quiet]).len(), 1);
        assert!(book.weight() <= bounds.known + bounds.newcomers, "{}", book.weight());
        assert_eq!(book.newcomers(|_| false).next(), Some(mac(4999)));
    }

    #[test]
    fn what_is_old_goes_and_who_is_registered_keeps_its_story() {
        let mut book = TraceBook::new(Bounds { age: SignedDuration::from_secs(60), ..Bounds::default() });
        book.add(mac(1), false, at(0), seen("old"));
        book.add(mac(1), false, at(50), seen("young"));
        book.add(mac(1), true, at(100), seen("registered by now"));
        let texts: Vec<String> = book.of(&[mac(1)]).iter().map(|event| event.got()).collect();
        assert_eq!(texts.len(), 2, "{texts:?}");
        assert_eq!(book.last_seen(&[mac(1), mac(2)]), Some(at(100)));
        assert_eq!(book.newcomers(|_| false).count(), 0);
    }
}
