//! Trails: the last places of every element, kept at even times.
//!
//! A ring of columns: each time all places are written to the oldest of them, so that nothing is shifted.

use derive_setters::Setters;
use serde::{Deserialize, Serialize};

use crate::foundations::columns::{remove_sorted, swap_and_truncate};
use crate::foundations::error::{SpecError, within};
use crate::foundations::state::{SavedState, unfit};
use crate::world::bodies::BodyRow;

/// How a trail is kept.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct TrailSpec {
    /// Places behind each element, 1 to 32: 12 bytes each. Default: 8.
    pub places: u32,
    /// Time from one to the next, in seconds, 0.001 to 100; at least a step. Default: 0.05.
    pub every: f32,
}

impl Default for TrailSpec {
    fn default() -> Self {
        Self { places: 8, every: 0.05 }
    }
}

impl TrailSpec {
    /// So many places, so many seconds apart.
    pub fn new(places: u32, every: f32) -> Self {
        Self { places, every }
    }

    pub(crate) fn check(&self) -> Result<(), SpecError> {
        within("places", self.places as f32, 1.0, 32.0, "places")?;
        within("every", self.every, 0.001, 100.0, "s")
    }
}

/// When places of a trail are kept, and in which of a ring of columns.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct TrailClock {
    places: usize,
    newest: usize,
    every: f64,
    since: f64,
}

impl TrailClock {
    /// At first all places are where an element is born.
    pub fn new(spec: &TrailSpec) -> Self {
        Self { places: spec.places as usize, newest: 0, every: f64::from(spec.every), since: 0.0 }
    }

    /// How many places there are behind each element.
    pub fn places(&self) -> usize {
        self.places
    }

    /// Which column of the ring is the newest.
    pub fn newest(&self) -> usize {
        self.newest
    }

    /// Time since the newest place was kept, as a share of the time between two.
    pub fn share(&self) -> f32 {
        (self.since / self.every).min(1.0) as f32
    }

    /// After a step of `dt` seconds: whether a place is due, which then is to be kept in the newest column.
    pub fn advance(&mut self, dt: f32) -> bool {
        self.since += f64::from(dt);
        // A step's rounding must not delay it by a whole step.
        if self.since < self.every - f64::from(dt) * 1e-3 {
            return false;
        }
        self.since = (self.since - self.every).clamp(0.0, self.every);
        self.newest = (self.newest + 1) % self.places.max(1);
        true
    }
}

/// Keys of saved columns, before the number of the place.
const AXES: [&str; 3] = ["x", "y", "z"];

/// The last places of every element of a population.
#[derive(Debug, Clone, Default)]
pub struct Trail {
    /// x, y, z columns, one set a place; in a ring.
    ring: Vec<[Vec<f32>; 3]>,
    clock: TrailClock,
}

impl Trail {
    pub(crate) fn new(spec: &TrailSpec) -> Self {
        let ring = (0..spec.places).map(|_| Default::default()).collect();
        Self { ring, clock: TrailClock::new(spec) }
    }

    /// Bytes an element.
    pub(crate) fn bytes(spec: &TrailSpec) -> u64 {
        u64::from(spec.places) * 12
    }

    pub(crate) fn reserve(&mut self, count: usize) -> Result<(), std::collections::TryReserveError> {
        let reserve = |column: &mut Vec<f32>| column.try_reserve_exact(count.saturating_sub(column.len()));
        self.ring.iter_mut().flatten().try_for_each(reserve)
    }

    /// How many places there are behind each element.
    pub fn places(&self) -> usize {
        self.ring.len()
    }

    /// The `nth` places behind, counted from the newest: x, y, z columns as long as the population's. `None` past the oldest.
    pub fn place(&self, nth: usize) -> Option<[&[f32]; 3]> {
        let count = self.ring.len();
        let at = (nth < count).then(|| (self.clock.newest + count - nth) % count)?;
        let [x, y, z] = &self.ring[at];
        Some([x, y, z])
    }

    /// Fills a new trail from an older one, position by position behind the element. Positions beyond it repeat its last.
    pub(crate) fn start(&mut self, before: &Self) {
        let count = self.ring.len();
        self.clock.since = before.clock.since.min(self.clock.every);
        for nth in 0..count {
            let at = (self.clock.newest + count - nth) % count;
            let Some(columns) = before.place(nth.min(before.places() - 1)) else { continue };
            for (to, from) in self.ring[at].iter_mut().zip(columns) {
                to.extend_from_slice(from);
            }
        }
    }

    /// Time since the newest place was kept, as a share of the time between two.
    pub fn share(&self) -> f32 {
        self.clock.share()
    }

    /// Its places, from the first column of the ring on, and its clock.
    pub(crate) fn save(&self) -> SavedState {
        let mut state = SavedState::default();
        for (nth, place) in self.ring.iter().enumerate() {
            for (axis, column) in AXES.iter().zip(place) {
                state.put_floats(&format!("{axis}{nth}"), column);
            }
        }
        state.put("newest", &self.clock.newest);
        state.put("since", &self.clock.since);
        state
    }

    /// Takes over the saved trail of `len` elements.
    pub(crate) fn restore(&mut self, state: &SavedState, len: usize) -> Result<(), SpecError> {
        let (newest, since) = (state.value::<usize>("newest")?, state.value::<f64>("since")?);
        if newest >= self.ring.len() || !since.is_finite() {
            return Err(unfit("newest", "is none of its places"));
        }
        for (nth, place) in self.ring.iter_mut().enumerate() {
            for (axis, column) in AXES.iter().zip(place) {
                let key = format!("{axis}{nth}");
                let saved = state.floats(&key)?;
                if saved.len() != len {
                    return Err(unfit(&key, &format!("has {} values for {len} elements", saved.len())));
                }
                *column = saved.to_vec();
            }
        }
        (self.clock.newest, self.clock.since) = (newest, since);
        Ok(())
    }

    pub(crate) fn remove(&mut self, dead: &[u32]) {
        self.ring.iter_mut().flatten().for_each(|column| remove_sorted(column, dead));
    }

    pub(crate) fn swap_and_truncate(&mut self, swaps: &[[u32; 2]], left: usize) {
        self.ring.iter_mut().flatten().for_each(|column| swap_and_truncate(column, swaps, left));
    }

    /// All places of a newborn are where it is born.
    pub(crate) fn push(&mut self, row: &BodyRow) {
        for [x, y, z] in &mut self.ring {
            x.push(row.px);
            y.push(row.py);
            z.push(row.pz);
        }
    }

    /// Moves the trails of elements that were moved, by as much.
    pub(crate) fn follow_moves(&mut self, from: [&[f32]; 3], to: [&[f32]; 3]) {
        for place in &mut self.ring {
            for ((column, from), to) in place.iter_mut().zip(from).zip(to) {
                for ((at, from), to) in
                    column.iter_mut().zip(from).zip(to).filter(|((_, from), to)| from != to)
                {
                    *at += to - from;
                }
            }
        }
    }

    /// After a step: whether a place is due.
    pub(crate) fn is_due(&mut self, dt: f32) -> bool {
        self.clock.advance(dt)
    }

    /// Changes every column of the ring, for example its order.
    pub(crate) fn try_each<E>(
        &mut self,
        change: impl FnMut(&mut Vec<f32>) -> Result<(), E>,
    ) -> Result<(), E> {
        self.ring.iter_mut().flatten().try_for_each(change)
    }

    /// Keeps where the elements are, by index.
    pub(crate) fn keep(&mut self, places: impl Iterator<Item = [f32; 3]>) {
        let Some([x, y, z]) = self.ring.get_mut(self.clock.newest) else { return };
        for (nth, [px, py, pz]) in places.enumerate().take(x.len()) {
            (x[nth], y[nth], z[nth]) = (px, py, pz);
        }
    }
}
