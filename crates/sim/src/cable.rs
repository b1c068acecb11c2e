//! A cable in user space, between two Ethernet interfaces that it makes: it loses, doubles, swaps and cuts frames, and
//! tags them as a switch's port would.

use std::{
    collections::VecDeque,
    io,
    sync::atomic::{AtomicBool, AtomicU64, Ordering},
    time::{Duration, Instant},
};

use tun_rs::{DeviceBuilder, Layer, SyncDevice};

/// Largest frame: Ethernet with a tag.
const FRAME: usize = 1600;
/// How long a frame that is swapped waits for the next one.
const SWAP_WAIT: Duration = Duration::from_millis(3);
/// Pause when nothing is to be carried.
const IDLE: Duration = Duration::from_micros(100);
/// Where the tag stands in a frame, and what says that one follows (IEEE 802.1Q).
const TAG_AT: usize = 12;
const TAG_TYPE: [u8; 2] = [0x81, 0x00];
/// The bits of a tag that are the VLAN's number.
const NUMBER: u16 = 0x0fff;

/// What the cable does to frames, each in parts of a hundred.
#[derive(Debug, Clone, Copy, Default)]
pub struct Faults {
    /// Lost.
    pub lost: u64,
    /// Delivered twice.
    pub doubled: u64,
    /// Delivered after the next one.
    pub swapped: u64,
    /// Cut in half.
    pub cut: u64,
    /// Put into this VLAN on the way to the far end, and taken out of it on the way back: what comes without its tag goes
    /// nowhere. 0 is a tag that only says a priority, and need not be there.
    pub vlan: Option<u16>,
}

/// One end: an interface in whatever network namespace the thread is in that makes it.
pub struct End(SyncDevice);

impl std::fmt::Debug for End {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("End").finish_non_exhaustive()
    }
}

impl End {
    /// Makes an interface of that name.
    ///
    /// # Errors
    /// That the kernel has no TAP devices, or this process not the right.
    pub fn make(name: &str) -> io::Result<Self> {
        let device = DeviceBuilder::new().name(name).layer(Layer::L2).build_sync()?;
        device.set_nonblocking(true)?;
        Ok(Self(device))
    }
}

/// What was done to frames so far.
#[derive(Debug, Default)]
pub struct Tally {
    /// Frames carried.
    pub carried: AtomicU64,
    /// Frames that something was done to.
    pub harmed: AtomicU64,
}

/// A cable between two ends.
#[derive(Debug)]
pub struct Cable {
    near: End,
    far: End,
    faults: Faults,
    chance: Chance,
    held: [VecDeque<(Instant, Vec<u8>)>; 2],
}

impl Cable {
    /// Joins two ends. The same `seed` does the same to the same frames.
    #[must_use]
    pub const fn new(near: End, far: End, faults: Faults, seed: u64) -> Self {
        Self { near, far, faults, chance: Chance(seed), held: [VecDeque::new(), VecDeque::new()] }
    }

    /// Carries frames until `stop` is set.
    ///
    /// # Errors
    /// That an end failed.
    pub fn run(mut self, stop: &AtomicBool, tally: &Tally) -> io::Result<()> {
        let mut buffer = vec![0; FRAME];
        while !stop.load(Ordering::Relaxed) {
            let mut idle = true;
            for to_far in [true, false] {
                let from = if to_far { &self.near.0 } else { &self.far.0 };
                match from.recv(&mut buffer) {
                    Ok(length) => {
                        idle = false;
                        let frame = buffer[..length].to_vec();
                        self.carry(frame, to_far, tally)?;
                    }
                    Err(error) if error.kind() == io::ErrorKind::WouldBlock => {}
                    Err(error) => return Err(error),
                }
                self.release(to_far, Instant::now())?;
            }
            if idle {
                std::thread::sleep(IDLE);
            }
        }
        Ok(())
    }

    fn carry(&mut self, mut frame: Vec<u8>, to_far: bool, tally: &Tally) -> io::Result<()> {
        tally.carried.fetch_add(1, Ordering::Relaxed);
        let faults = self.faults;
        let harm = || tally.harmed.fetch_add(1, Ordering::Relaxed);
        if self.chance.percent(faults.lost) {
            harm();
            return Ok(());
        }
        if self.chance.percent(faults.cut) {
            harm();
            frame.truncate(frame.len() / 2);
        }
        if self.chance.percent(faults.swapped) {
            harm();
            self.held[usize::from(to_far)].push_back((Instant::now() + SWAP_WAIT, frame));
            return Ok(());
        }
        self.deliver(&frame, to_far)?;
        if self.chance.percent(faults.doubled) {
            harm();
            self.deliver(&frame, to_far)?;
        }
        // Whatever waited for this one comes after it.
        while let Some((_, swapped)) = self.held[usize::from(to_far)].pop_front() {
            self.deliver(&swapped, to_far)?;
        }
        Ok(())
    }

    /// What waited long enough for a next frame that never came.
    fn release(&mut self, to_far: bool, now: Instant) -> io::Result<()> {
        let due = |held: &VecDeque<(Instant, Vec<u8>)>| held.front().is_some_and(|(at, _)| *at <= now);
        while due(&self.held[usize::from(to_far)]) {
            if let Some((_, frame)) = self.held[usize::from(to_far)].pop_front() {
                self.deliver(&frame, to_far)?;
            }
        }
        Ok(())
    }

    fn deliver(&self, frame: &[u8], to_far: bool) -> io::Result<()> {
        let changed = match (self.faults.vlan, to_far) {
            (Some(vlan), true) => tagged(frame, vlan),
            (Some(vlan), false) => untagged(frame, vlan),
            (None, _) => None,
        };
        let is_refused = !to_far && changed.is_none() && self.faults.vlan.is_some_and(|vlan| vlan != 0);
        if is_refused {
            return Ok(());
        }
        let frame = changed.as_deref().unwrap_or(frame);
        let end = if to_far { &self.far.0 } else { &self.near.0 };
        match end.send(frame) {
            Ok(_) => Ok(()),
            // An interface that is down, or a frame too short for one: lost, as on a real cable.
            Err(error) if error.raw_os_error().is_some() => Ok(()),
            Err(error) => Err(error),
        }
    }
}

fn tagged(frame: &[u8], vlan: u16) -> Option<Vec<u8>> {
    let (addresses, rest) = frame.split_at_checked(TAG_AT)?;
    Some([addresses, &TAG_TYPE, &vlan.to_be_bytes(), rest].concat())
}

/// The frame without its tag, if it has that one; beside the number a tag may say a priority.
fn untagged(frame: &[u8], vlan: u16) -> Option<Vec<u8>> {
    let (addresses, rest) = frame.split_at_checked(TAG_AT)?;
    let (tag, rest) = rest.strip_prefix(&TAG_TYPE)?.split_first_chunk()?;
    (u16::from_be_bytes(*tag) & NUMBER == vlan).then(|| [addresses, rest].concat())
}

/// SplitMix64: the same seed gives the same run.
#[derive(Debug)]
struct Chance(u64);

impl Chance {
    fn percent(&mut self, share: u64) -> bool {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mixed = (self.0 ^ (self.0 >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        let mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        (mixed ^ (mixed >> 31)) % 100 < share
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_tag_goes_in_and_out() {
        let frame: Vec<u8> = (0..60).collect();
        let inside = tagged(&frame, 20).unwrap();
        assert_eq!(&inside[12..16], &[0x81, 0, 0, 20]);
        assert_eq!(untagged(&inside, 20).unwrap(), frame);
        assert_eq!(untagged(&inside, 21), None);
        assert_eq!(untagged(&frame, 20), None);
    }
}
