//! Growth of the elements of a cluster, in whole units.

use crate::foundations::random::hash3;
use crate::foundations::simd::{Simd, kernel};

pub(super) const START_SEED: u32 = 0x57a2_7000;

const SPEED_SEED: u32 = 0x5bee_d000;

/// Units of a step of the slowest element, and the difference to the fastest.
#[derive(Debug, Clone, Copy)]
pub(super) struct Units {
    pub(super) slow: u32,
    pub(super) more: u32,
}

impl Units {
    /// Units of an element: a whole number that never changes.
    #[inline(always)]
    pub(super) fn of(self, key: u32, nth: u32) -> u32 {
        let [speed, ..] = hash3(key, nth, SPEED_SEED);
        // A share of 16 bits, so that no rounding can differ.
        self.slow + ((u64::from(self.more) * u64::from(speed >> 16)) >> 16) as u32
    }
}

/// Growth of one element after its missed steps.
#[inline(always)]
pub(super) fn advance_one(growth: &mut u32, key: u32, nth: u32, units: Units, owed: u64) {
    let more = (u64::from(units.of(key, nth)) * owed).min(u64::from(u32::MAX)) as u32;
    let grown = growth.saturating_add(more);
    *growth = if *growth == 0 { 0 } else { grown };
}

kernel! {
    /// Takes the missed steps of a cluster. Returns whether its growth has ended.
    pub(super) fn grow(simd, growth: &mut [u32], key: u32, units: Units, owed: u64) -> bool {
        advance(simd, growth, key, units, owed)
    }
}

/// The same of a cluster; returns whether nothing of it will grow any more.
#[inline(always)]
fn advance<S: Simd>(_simd: S, growth: &mut [u32], key: u32, units: Units, owed: u64) -> bool {
    // More units than a full size have no effect; the limit keeps products within 64 bits.
    let owed = owed.min(u64::from(u32::MAX));
    let mut left = 0u32;
    for (nth, growth) in growth.iter_mut().enumerate() {
        advance_one(growth, key, nth as u32, units, owed);
        left |= u32::from(growth.wrapping_add(1) > 1);
    }
    left == 0
}
