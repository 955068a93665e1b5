//! From birth to the end of the step: newborn feel fields, meet what is in their way and are caught, as all else.
//!
//! Emitted elements are born within a step and move for the rest of it. Elements that events start, and those taken on from elsewhere, are
//! born at its end and move from the next step on. The formulas are in `motion.rs`.

use glam::Vec3;

use super::motion::Motion;
use super::step::{Acts, Chunk, Notes, Room, remember};
use super::{Held, ParticleColumns, ParticleRow, note_birth};
use crate::events::Happening;
use crate::obstacles::BLOCK;
use crate::simd::{Simd, kernel};

/// A block of newborn, and what is noted of them.
#[derive(Debug, Default)]
pub(super) struct Newcomers {
    block: ParticleColumns,
    notes: Notes,
    dead: Vec<u32>,
    /// How many were added at the end of the population since the last step moved it.
    pub(super) still: usize,
}

/// What became of a step's newborn.
#[derive(Debug, Default)]
pub(super) struct Fate {
    pub(super) hits: u64,
    pub(super) caught: u64,
    /// Those whose life an obstacle or a collector ended.
    pub(super) ended: u64,
}

impl Newcomers {
    pub(super) fn reserve(&mut self) -> Result<(), std::collections::TryReserveError> {
        self.block.reserve(BLOCK)?;
        self.dead.try_reserve_exact(BLOCK)
    }

    /// Adds an emitted element at its moment of birth. Returns whether the block is full, and to be handed on by [`Newcomers::deliver`].
    pub(super) fn push(&mut self, row: &ParticleRow) -> bool {
        self.block.push(row);
        self.block.len() == BLOCK
    }

    /// Moves the block's elements for as long as they are old, and adds those that live to the population.
    pub(super) fn deliver(
        &mut self,
        acts: &Acts<'_>,
        held: &mut Held,
        happened: &mut Vec<Happening>,
        caught: &mut [u64],
        fate: &mut Fate,
    ) {
        if self.block.is_empty() {
            return;
        }
        let Self { block, notes, dead, still } = self;
        notes.clear();
        let mut chunk = whole(block);
        let mut room = Room::new();
        chunk.grow_up(acts, &mut room, notes);
        notes.sort();
        if !acts.events.is_empty() {
            for (nth, row) in (0..block.len()).filter_map(|nth| Some((nth, block.row(nth)?))) {
                note_birth(acts.events, &row, happened);
                let noted = notes.happenings.iter().skip_while(|(at, _)| *at < nth as u32);
                happened.extend(noted.take_while(|(at, _)| *at == nth as u32).map(|(_, happening)| *happening));
            }
        }
        let has_ended = |nth: usize| block.age[nth] == f32::INFINITY;
        dead.clear();
        dead.extend((0..block.len()).filter(|&nth| has_ended(nth)).map(|nth| nth as u32));
        fate.ended += dead.len() as u64;
        block.remove_sorted(dead);
        held.append(block);
        *still += block.len();
        for &collector in &notes.caught {
            caught[collector as usize] += 1;
        }
        fate.caught += notes.caught.len() as u64;
        fate.hits += notes.hits;
        block.clear();
    }

    /// Before a step: elements that were born at the end of the last get the velocity that the leapfrog starts from.
    pub(super) fn start(&mut self, acts: &Acts<'_>, held: &mut Held) {
        let (len, still) = (held.len(), std::mem::take(&mut self.still));
        let mut room = Room::new();
        for first in (len - still.min(len)..len).step_by(BLOCK) {
            let range = first..(first + BLOCK).min(len);
            if !range.clone().any(|nth| held.age(nth) == 0.0) {
                continue;
            }
            self.block.clear();
            for nth in range {
                self.block.push(&held.row(nth));
            }
            let chunk = whole(&mut self.block);
            chunk.sum_fields(acts, &mut room);
            for i in (0..chunk.px.len()).filter(|&i| chunk.age[i] == 0.0) {
                let [air, push] = acting(&room, i);
                let velocity = chunk.velocity(i).to_array();
                held.set_velocity(first + i, acts.motion.before_birth::<true>(velocity, air, push));
            }
        }
        self.block.clear();
    }
}

kernel! {
    fn grow_up(simd, motion: &Motion, chunk: &mut Chunk<'_>, sums: &mut [[f32; BLOCK]; 6]) {
        chunk.since_birth::<_, false>(simd, motion, sums);
    }

    fn grow_up_within_limits(simd, motion: &Motion, chunk: &mut Chunk<'_>, sums: &mut [[f32; BLOCK]; 6]) {
        chunk.since_birth::<_, true>(simd, motion, sums);
    }
}

impl Chunk<'_> {
    /// Moves newborn from where they were born, for as long as they are old.
    fn grow_up(&mut self, acts: &Acts<'_>, room: &mut Room, notes: &mut Notes) {
        remember(acts.level, self, room);
        self.sum_fields(acts, room);
        if acts.motion.speed_limits.is_some() {
            grow_up_within_limits(acts.level, acts.motion, self, &mut room.sums);
        } else {
            grow_up(acts.level, acts.motion, self, &mut room.sums);
        }
        self.hold_on_shapes(acts);
        if acts.is_solid() {
            self.meet(acts, true, room, notes);
        }
        // What was turned about on its way goes on as it was turned.
        for i in 0..self.px.len() {
            let [way, after] = acting(room, i);
            if self.velocity(i) == Vec3::from(way) {
                self.put(i, self.place(i), after.into());
            }
        }
    }

    /// Moves a block of newborn; afterwards its sums are the velocities of their ways and those that they go on with.
    #[inline(always)]
    fn since_birth<S: Simd, const LIMITS: bool>(
        &mut self,
        _simd: S,
        motion: &Motion,
        sums: &mut [[f32; BLOCK]; 6],
    ) {
        let motion = *motion;
        let n = self.px.len().min(BLOCK);
        let (px, py, pz) = (&mut self.px[..n], &mut self.py[..n], &mut self.pz[..n]);
        let (vx, vy, vz) = (&mut self.vx[..n], &mut self.vy[..n], &mut self.vz[..n]);
        let age = &self.age[..n];
        let [ax, ay, az, bx, by, bz] = sums;
        let (ax, ay, az) = (&mut ax[..n], &mut ay[..n], &mut az[..n]);
        let (bx, by, bz) = (&mut bx[..n], &mut by[..n], &mut bz[..n]);
        for i in 0..n {
            let (air, push) = ([ax[i], ay[i], az[i]], [bx[i], by[i], bz[i]]);
            let v = [vx[i], vy[i], vz[i]];
            let (way, end) = motion.since_birth::<LIMITS>(v, air, push, age[i]);
            let after = motion.before_birth::<LIMITS>(end, air, push);
            [px[i], py[i], pz[i]] = [px[i] + way[0] * age[i], py[i] + way[1] * age[i], pz[i] + way[2] * age[i]];
            [ax[i], ay[i], az[i]] = way;
            // One of no age moves from the next step on.
            let still = age[i] == 0.0;
            let choose = |k: usize| if still { v[k] } else { after[k] };
            [bx[i], by[i], bz[i]] = [choose(0), choose(1), choose(2)];
            [vx[i], vy[i], vz[i]] = way;
        }
    }

    fn put(&mut self, i: usize, place: Vec3, velocity: Vec3) {
        [self.px[i], self.py[i], self.pz[i]] = place.to_array();
        [self.vx[i], self.vy[i], self.vz[i]] = velocity.to_array();
    }
}

/// Both sums of one element: the air's velocity and all accelerations.
fn acting(room: &Room, i: usize) -> [[f32; 3]; 2] {
    let sum = |axis: usize| room.sums[axis][i];
    [[sum(0), sum(1), sum(2)], [sum(3), sum(4), sum(5)]]
}

/// All elements of a block.
fn whole(block: &mut ParticleColumns) -> Chunk<'_> {
    Chunk {
        first: 0,
        px: &mut block.px,
        py: &mut block.py,
        pz: &mut block.pz,
        vx: &mut block.vx,
        vy: &mut block.vy,
        vz: &mut block.vz,
        age: &mut block.age,
        life: &block.life,
        size: &block.size,
        id: &block.id,
        key: &block.key,
    }
}
