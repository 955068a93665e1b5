//! Which squares are stepped, and how: hidden squares are not, groups share a state, the others swing, lean or are pressed.

use super::groups::BladeLayouts;
use super::squares::Chunk;
use super::step::{Air, Changing, Fixed, Rows};
use crate::foundations::meter::Stage;
use crate::foundations::trace::part;
use crate::poses::Group;
use crate::world::pushers::Pushing;

/// Maximum number of pushers of a square that are filtered.
const FEW: usize = 8;

/// Time for which blades that stop swinging settle, in seconds, and its rate, in 1/s.
const SETTLE: f32 = 1.5;
const SETTLE_RATE: f32 = 4.0;

/// Work of a step.
#[derive(Debug, Default, Clone, Copy)]
pub(super) struct Work {
    pub(super) swung: u64,
    pub(super) leant: u64,
    pub(super) pressed: u64,
    pub(super) asleep: u64,
    pub(super) grouped: u64,
}

impl Work {
    pub(super) fn add(&mut self, other: Self) {
        self.swung += other.swung;
        self.leant += other.leant;
        self.pressed += other.pressed;
        self.asleep += other.asleep;
        self.grouped += other.grouped;
    }

    /// Bytes read and written: position, length, rest, stiffness, slope and lean; rates of swinging blades, press of pressed blades.
    pub(super) fn bytes(self) -> u64 {
        (self.leant * 13 + self.swung * 17 + self.pressed * 21) * size_of::<f32>() as u64
    }
}

/// One step of all squares.
pub(super) struct Schedule<'a> {
    pub(super) air: &'a Air<'a>,
    pub(super) fixed: Fixed<'a>,
    pub(super) pushing: &'a [Pushing],
    /// Distance within which squares swing, in metres.
    pub(super) near: f32,
    /// Whether it is the last step before a picture.
    pub(super) last: bool,
    /// Layouts of groups.
    pub(super) layouts: Option<&'a BladeLayouts>,
}

impl Schedule<'_> {
    /// Steps squares whose blades start at `base`, in parallel halves, without a list of pieces.
    pub(super) fn step(&self, chunks: &mut [Chunk], own: Changing<'_>, base: usize) -> Work {
        if chunks.len() > 1 {
            let (left, right) = chunks.split_at_mut(chunks.len() / 2);
            let middle = right[0].first as usize;
            let (before, after) = own.split(middle - base);
            let (mut work, more) =
                rayon::join(|| self.step(left, before, base), || self.step(right, after, middle));
            work.add(more);
            return work;
        }
        match chunks {
            [chunk] => self.chunk(chunk, own),
            _ => Work::default(),
        }
    }

    /// Group of a square that nothing presses, if it can be one.
    fn group(&self, chunk: &Chunk) -> Option<Group> {
        let (layouts, layout) = (self.layouts?, chunk.layout?);
        if chunk.apart || chunk.distance < layouts.beyond() {
            return None;
        }
        let middle = |axis: usize| (chunk.low[axis] + chunk.high[axis]) * 0.5;
        let [mut x, mut y, mut z] = [[0.0]; 3];
        let at = [middle(0), chunk.low[1], middle(2)];
        self.air.world.air(self.air.time, [&at[..1], &at[1..2], &at[2..]], [&mut x, &mut y, &mut z]);
        let state = layouts.state(chunk.cell, [x[0], z[0]])?;
        Some(Group { layout, state })
    }

    fn chunk(&self, chunk: &mut Chunk, mut own: Changing<'_>) -> Work {
        let mut work = Work::default();
        let many = chunk.len as usize;
        if many == 0 {
            return work;
        }
        // Pushers that reach this square; all of them if there are many.
        let mut near = [None; FEW];
        let mut pushers = 0;
        for pushing in self.pushing.iter().filter(|pushing| chunk.is_reached_by(pushing)) {
            if let Some(slot) = near.get_mut(pushers) {
                *slot = Some(*pushing);
            }
            pushers += 1;
        }
        let few = || near.iter().flatten();
        let is_pushed = pushers > 0;
        if !(chunk.visible || chunk.pressed || is_pushed) {
            (chunk.stale, work.asleep) = (true, 1);
            return work;
        }
        if self.last {
            chunk.group = if is_pushed || chunk.pressed { None } else { self.group(chunk) };
        }
        if chunk.group.is_some() {
            (chunk.stale, work.grouped) = (true, 1);
            return work;
        }
        let _part = part(Stage::Integrate);
        let from = chunk.first as usize;
        let mut rows = Rows { fixed: self.fixed.range(from..from + many), own: own.range(0..many) };
        let swings = chunk.distance < self.near;
        if chunk.stale {
            // Starts at the lean of the wind, at rest.
            rows.lean(self.air, 0.0);
            rows.own.rate.iter_mut().for_each(|rate| rate.fill(0.0));
            (chunk.stale, chunk.settle) = (false, 0.0);
        }
        if is_pushed || chunk.pressed {
            chunk.pressed = if pushers > FEW {
                rows.press(self.air, || self.pushing.iter())
            } else {
                rows.press(self.air, few)
            };
            (chunk.settle, work.pressed) = (SETTLE, many as u64);
        } else if swings {
            rows.swing(self.air);
            (chunk.settle, work.swung) = (SETTLE, many as u64);
        } else if self.last || chunk.settle > 0.0 {
            let left = if chunk.settle > 0.0 { libm::expf(-SETTLE_RATE * self.air.dt) } else { 0.0 };
            rows.lean(self.air, left);
            if chunk.settle > 0.0 {
                chunk.settle -= self.air.dt;
                rows.own.rate.iter_mut().for_each(|rate| rate.fill(0.0));
            }
            work.leant = many as u64;
        }
        work
    }
}
