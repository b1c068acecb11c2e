//! Every core computes what is known.

use std::{
    hint::black_box,
    sync::atomic::{AtomicU64, Ordering::Relaxed},
};

use super::Until;

/// Steps of a chain of whole numbers: what one round computes.
const STEPS: u32 = 100_000;
/// Steps of it whose result the compiler computed, on another machine.
const KNOWN_STEPS: u32 = 2_000;
const KNOWN: u64 = chain(KNOWN_STEPS);
/// Rows and columns of the matrices that are multiplied.
const SIDE: usize = 48;

/// How far it is, and what was found.
#[derive(Debug, Default)]
pub(super) struct Cpu {
    pub(super) rounds: AtomicU64,
    pub(super) errors: AtomicU64,
}

/// Adds, multiplies, shifts and turns whole numbers.
const fn chain(steps: u32) -> u64 {
    let (mut value, mut step) = (0x1234_5678_9abc_def1_u64, 0);
    while step < steps {
        value = value.wrapping_mul(0x2545_f491_4f6c_dd1d) ^ (value >> 29);
        value = value.rotate_left((step % 61) + 1).wrapping_add(step as u64);
        step += 1;
    }
    value
}

impl Cpu {
    /// Computes until it is time.
    pub(super) fn work(&self, until: &Until) {
        let first = chain(black_box(STEPS));
        while !until.is_over() && !until.is_cut_off() {
            let is_right = chain(black_box(KNOWN_STEPS)) == KNOWN
                && chain(black_box(STEPS)) == first
                && product_is_right(black_box(self.rounds.load(Relaxed)));
            if !is_right {
                self.errors.fetch_add(1, Relaxed);
            }
            self.rounds.fetch_add(1, Relaxed);
            until.pause();
        }
    }
}

/// Multiplies two matrices once with floating point and once with whole numbers: all of it is small enough to be exact in both.
#[allow(
    clippy::cast_precision_loss,
    reason = "the numbers are below 2^53, which a double has exactly (IEEE 754)"
)]
fn product_is_right(seed: u64) -> bool {
    let value = |row: usize, column: usize| {
        let mixed = (row as u64 * 31 + column as u64 * 17 + seed).wrapping_mul(0x9e37_79b9_7f4a_7c15) >> 44;
        i64::try_from(mixed).unwrap_or_default()
    };
    let mut left = vec![0_i64; SIDE * SIDE];
    for (index, cell) in left.iter_mut().enumerate() {
        *cell = value(index / SIDE, index % SIDE);
    }
    let exact: Vec<f64> = left.iter().map(|cell| *cell as f64).collect();
    let exact = black_box(exact);
    (0..SIDE).all(|row| {
        (0..SIDE).all(|column| {
            let (mut whole, mut float) = (0_i64, 0_f64);
            for at in 0..SIDE {
                whole += left[row * SIDE + at] * left[at * SIDE + column];
                float += exact[row * SIDE + at] * exact[at * SIDE + column];
            }
            float == whole as f64
        })
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_known_is_computed_here_too() {
        assert_eq!(chain(KNOWN_STEPS), KNOWN);
        assert_ne!(chain(KNOWN_STEPS + 1), KNOWN);
        assert!((0..50).all(product_is_right));
    }
}
