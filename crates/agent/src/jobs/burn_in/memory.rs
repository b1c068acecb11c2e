//! Patterns in memory: written to all of it, read again.

use std::{
    hint::black_box,
    sync::{
        Mutex, PoisonError,
        atomic::{AtomicU64, Ordering::Relaxed},
    },
};

use super::Until;

/// Words of one piece: what is looked at between two looks whether it is to stop.
const PIECE: usize = (16 << 20) / 8;

/// How far it is, and what was found.
#[derive(Debug, Default)]
pub(super) struct Memory {
    /// Bytes that each pass tests.
    pub(super) bytes: AtomicU64,
    /// Words that were written and read so far.
    pub(super) words: AtomicU64,
    /// Passes that are whole, of each thread; the least counts.
    passes: Mutex<Vec<u64>>,
    pub(super) errors: AtomicU64,
    first_error: Mutex<Option<String>>,
}

/// What is written: all zeros, all ones, every other bit, the place itself, and what looks random.
const PATTERNS: [fn(u64, u64) -> u64; 6] = [
    |_, _| 0,
    |_, _| u64::MAX,
    |_, _| 0x5555_5555_5555_5555,
    |_, _| 0xaaaa_aaaa_aaaa_aaaa,
    |place, _| place,
    // SplitMix64 (Steele, Lea, Flood: Fast splittable pseudorandom number generators, 2014).
    |place, pass| {
        let mut mixed = (place ^ pass.rotate_left(32)).wrapping_mul(0x9e37_79b9_7f4a_7c15);
        mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        mixed ^ (mixed >> 31)
    },
];

impl Memory {
    /// Tests this thread's share until it is time, but at least once.
    pub(super) fn test(&self, thread: usize, bytes: u64, until: &Until) {
        let mut pieces = take(bytes);
        let words: usize = pieces.iter().map(Vec::len).sum();
        self.bytes.fetch_add(words as u64 * 8, Relaxed);
        let mut pass = 0;
        if words == 0 {
            return;
        }
        while !until.is_cut_off() && (pass == 0 || !until.is_over()) {
            for pattern in PATTERNS {
                for (number, piece) in pieces.iter_mut().enumerate() {
                    let at = (thread as u64) << 40 | (number * PIECE) as u64;
                    (at..).zip(piece.iter_mut()).for_each(|(place, word)| *word = pattern(place, pass));
                    // Written for the memory, not for whoever optimises this.
                    black_box(piece.as_mut_slice());
                    if until.is_cut_off() {
                        return;
                    }
                }
                for (number, piece) in pieces.iter().enumerate() {
                    let at = (thread as u64) << 40 | (number * PIECE) as u64;
                    self.compare(black_box(piece.as_slice()), |index| pattern(at + index, pass));
                    self.words.fetch_add(piece.len() as u64, Relaxed);
                    if until.is_cut_off() {
                        return;
                    }
                }
            }
            pass += 1;
            until.pause();
            let mut passes = self.passes.lock().unwrap_or_else(PoisonError::into_inner);
            if passes.len() <= thread {
                passes.resize(thread + 1, 0);
            }
            passes[thread] = pass;
        }
    }

    /// Counts the words that are not what was written.
    fn compare(&self, piece: &[u64], written: impl Fn(u64) -> u64) {
        for (index, word) in (0..).zip(piece) {
            let expected = written(index);
            if *word != expected {
                self.errors.fetch_add(1, Relaxed);
                let mut first = self.first_error.lock().unwrap_or_else(PoisonError::into_inner);
                first.get_or_insert_with(|| format!("{expected:016x} was written, {word:016x} was read"));
            }
        }
    }

    /// How often every pattern was written to all of it and read again.
    pub(super) fn passes(&self, threads: usize) -> u64 {
        let passes = self.passes.lock().unwrap_or_else(PoisonError::into_inner);
        if passes.len() < threads { 0 } else { passes.iter().min().copied().unwrap_or_default() }
    }

    pub(super) fn first_error(&self) -> Option<String> {
        self.first_error.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

/// As much memory as there is, up to so many bytes.
fn take(bytes: u64) -> Vec<Vec<u64>> {
    let mut left = usize::try_from(bytes / 8).unwrap_or(usize::MAX);
    let mut pieces = Vec::new();
    while left > 0 {
        let mut piece = Vec::new();
        let words = left.min(PIECE);
        if piece.try_reserve_exact(words).is_err() {
            break;
        }
        piece.resize(words, 0_u64);
        pieces.push(piece);
        left -= words;
    }
    pieces
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_that_are_read_otherwise_are_counted_and_the_first_is_said() {
        let memory = Memory::default();
        let piece: Vec<u64> = (0..1000).map(|place| PATTERNS[5](place, 3)).collect();
        memory.compare(&piece, |place| PATTERNS[5](place, 3));
        assert_eq!(memory.errors.load(Relaxed), 0);
        let mut flipped = piece.clone();
        flipped[17] ^= 1 << 40;
        flipped[900] = 0;
        memory.compare(&flipped, |place| PATTERNS[5](place, 3));
        assert_eq!(memory.errors.load(Relaxed), 2);
        let said = memory.first_error().unwrap();
        assert!(said.starts_with(&format!("{:016x} was written", piece[17])), "{said}");
    }

    #[test]
    fn every_bit_is_tested_as_one_and_as_zero() {
        let (mut ones, mut zeros) = (0, 0);
        for pattern in &PATTERNS[..4] {
            ones |= pattern(5, 0);
            zeros |= !pattern(5, 0);
        }
        assert_eq!((ones, zeros), (u64::MAX, u64::MAX));
        assert_ne!(PATTERNS[5](1, 0), PATTERNS[5](1, 1), "each pass writes something else");
    }
}
