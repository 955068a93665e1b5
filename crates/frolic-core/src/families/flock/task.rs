//! Steering on all cores: a task takes some elements in the order of cells, block by block.

use super::gauges::{Sums, add_block};
use super::hunt::Hunters;
use super::rules::{Desk, Others, Own, Ranges, Row, Seen, look};
use super::steer::{State, Steering, Wishes, steer};
use super::targets::{Avoiding, Targets};
use super::{FlockColumns, FlockSpec, SHAKE};
use crate::foundations::random::hash3;
use crate::foundations::simd::Level;
use crate::neighbours::blocks::{BLOCK, Candidates, Lanes, Runs, SPAN};
use crate::neighbours::{NeighbourTechnique, Neighbours};
use crate::world::bodies::BodyColumns;

/// Elements of a task.
pub(super) const TASK: usize = 1024;

/// What a task needs of a step.
pub(super) struct Task<'a> {
    pub(super) level: Level,
    pub(super) ranges: Ranges,
    pub(super) steering: Steering,
    pub(super) spec: &'a FlockSpec,
    pub(super) near: &'a Neighbours,
    pub(super) others: Others<'a>,
    pub(super) bodies: &'a BodyColumns,
    pub(super) own: &'a FlockColumns,
    pub(super) targets: &'a Targets,
    pub(super) hunters: Option<&'a Hunters>,
    pub(super) avoiding: Avoiding<'a>,
    pub(super) steps: u32,
    pub(super) middle: [f32; 3],
}

/// Columns that a task writes.
pub(super) struct Next<'a> {
    pub(super) velocity: [&'a mut [f32]; 3],
    pub(super) alarm: &'a mut [f32],
    pub(super) bank: &'a mut [f32],
    pub(super) way: &'a mut [f32],
    pub(super) around: &'a mut [f32],
    pub(super) nearest: &'a mut [f32],
    pub(super) rule: &'a mut [f32],
}

/// Memory of a task.
#[derive(Debug, Default)]
pub(super) struct TaskRoom {
    candidates: Candidates,
    desk: Desk,
    /// Evenly spaced candidates of a crowd, copied side by side; the runs that they stand for, and their places.
    of: Runs,
    at: [Vec<f32>; 3],
    rows: Vec<Row>,
    places: Vec<u32>,
}

impl Task<'_> {
    /// Steers the elements from a place on.
    pub(super) fn run(&self, first: usize, mut next: Next<'_>, room: &mut TaskRoom) -> Sums {
        let end = first + next.alarm.len();
        let mut sums = Sums::default();
        room.of.clear();
        let avoids = !self.avoiding.is_nothing();
        let mut from = first;
        while from < end {
            let to = self.near.block_end(0, from, end, SPAN);
            let count = to - from;
            let (own, mut state, key) = self.take(from, to);
            let bounds = self.near.bounds(0, from..to);
            let places = self.places(from, to, &own);
            let mut wishes = Wishes::default();
            if !self.targets.is_empty() {
                self.targets.pull(self.level, &own, &places, bounds, &mut room.candidates, &mut wishes);
            }
            if avoids {
                self.avoiding.turn(count, &places, &state.velocity, &mut wishes);
            }
            if let Some(hunters) = self.hunters {
                hunters.pull(from, count, &mut wishes);
            }
            let seen = self.look(from, count, &own, &state, bounds, room, &mut sums);
            steer(self.level, &self.steering, &key, &seen, &wishes, &mut state);
            self.give(from - first, count, &seen, &state, &mut next);
            add_block(self.level, &mut sums, count, &self.middle, &own, &state, &seen);
            from = to;
        }
        sums
    }

    /// Looks at the candidates of a block, or at some for all in a crowd.
    #[expect(clippy::too_many_arguments, reason = "parts of one loop")]
    fn look(
        &self,
        from: usize,
        count: usize,
        own: &Own,
        state: &State,
        bounds: [[f32; 3]; 2],
        room: &mut TaskRoom,
        sums: &mut Sums,
    ) -> Seen {
        // With what positions are shaken by.
        let reach = self.near.spec().reach * (1.0 + 2.0 * SHAKE);
        let TaskRoom { candidates, desk, .. } = room;
        self.near.around(0, bounds, reach, candidates);
        let mut seen = Seen::default();
        let is_grid = self.spec.neighbours == NeighbourTechnique::Grid;
        if !is_grid || candidates.count <= self.spec.most {
            look(self.level, &self.ranges, own, &bounds, &self.others, &candidates.runs, desk, &mut seen);
            sums.tested += u64::from(candidates.count.saturating_sub(1)) * count as u64;
            (0..count).for_each(|nth| seen.forget_own(nth, state));
            return seen;
        }
        let each = candidates.count.div_ceil(self.spec.most);
        room.sample(&self.others, each, self.steps);
        let TaskRoom { desk, at, rows, places, .. } = room;
        let others = Others { at: at.each_ref().map(|column| &column[..]), rows };
        look(self.level, &self.ranges, own, &bounds, &others, &[[0, rows.len() as u32]], desk, &mut seen);
        sums.tested += rows.len() as u64 * count as u64;
        sums.crowded += count as u64;
        for nth in 0..count {
            if places.binary_search(&((from + nth) as u32)).is_ok() {
                seen.forget_own(nth, state);
            }
        }
        seen.stands_for(each as f32);
        seen
    }

    /// Reads the elements of a block. Lanes without one repeat the first.
    fn take(&self, from: usize, to: usize) -> (Own, State, [u32; BLOCK]) {
        let (mut own, mut state, mut key) = (Own::default(), State::default(), [0; BLOCK]);
        let velocity = self.bodies.velocity();
        for i in 0..BLOCK {
            let nth = if from + i < to { from + i } else { from };
            for axis in 0..3 {
                own.at[axis][i] = self.others.rows[nth][axis];
                state.velocity[axis][i] = velocity[axis][nth];
            }
            let [x, y, z] = [0, 1, 2].map(|axis| state.velocity[axis][i]);
            let speed = (x * x + y * y + z * z).sqrt();
            let per = if speed > 1e-12 { 1.0 / speed } else { 0.0 };
            [own.heading[0][i], own.heading[1][i], own.heading[2][i]] = [x * per, y * per, z * per];
            state.alarm[i] = self.own.alarm[nth];
            state.bank[i] = self.own.bank[nth];
            state.way[i] = self.own.way[nth];
            key[i] = self.bodies.key[nth];
        }
        (own, state, key)
    }

    /// Where the elements of a block are. What neighbours see of them has no height, or no depth, if they keep to a plane.
    fn places(&self, from: usize, to: usize, own: &Own) -> [Lanes; 3] {
        let mut places = own.at;
        for (axis, free) in self.steering.free.iter().enumerate() {
            if *free == 0.0 {
                let column = &self.bodies.position()[axis][from..to];
                places[axis][..column.len()].copy_from_slice(column);
            }
        }
        places
    }

    fn give(&self, at: usize, count: usize, seen: &Seen, state: &State, next: &mut Next<'_>) {
        for i in 0..count {
            for axis in 0..3 {
                next.velocity[axis][at + i] = state.velocity[axis][i];
            }
            next.alarm[at + i] = state.alarm[i];
            next.bank[at + i] = state.bank[i];
            next.way[at + i] = state.way[i];
            next.around[at + i] = seen.gathered[i];
            next.nearest[at + i] = seen.nearest[i].sqrt();
            next.rule[at + i] = state.rule[i];
        }
    }
}

impl TaskRoom {
    /// Copies every `each`th candidate, another share in each step. Blocks of one crowd share them.
    fn sample(&mut self, others: &Others<'_>, each: u32, turn: u32) {
        let Self { candidates, of, at, rows, places, .. } = self;
        if of[..] == candidates.runs[..] {
            return;
        }
        of.clone_from(&candidates.runs);
        places.clear();
        let mut over = of.first().map_or(0, |run| hash3(turn, run[0], 0x6372)[0] % each);
        for run in of.iter() {
            let mut place = run[0] + over;
            while place < run[1] {
                places.push(place);
                place += each;
            }
            over = place - run[1];
        }
        rows.clear();
        rows.extend(places.iter().map(|place| others.rows[*place as usize]));
        for (column, from) in at.iter_mut().zip(others.at) {
            column.clear();
            column.extend(places.iter().map(|place| from[*place as usize]));
            column.resize(places.len() + BLOCK, 0.0);
        }
    }
}
