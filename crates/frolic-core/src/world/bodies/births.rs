//! Newborns from birth to the end of the step: fields, obstacles and collectors act on them as on all other bodies. The formulas are in `motion.rs`.

use glam::Vec3;

use super::motion::Motion;
use super::step::{Acts, Chunk, Notes, Room, remember};
use crate::foundations::simd::{Simd, kernel};
use crate::world::obstacles::BLOCK;

kernel! {
    fn grow_up(simd, motion: &Motion, chunk: &mut Chunk<'_>, sums: &mut [[f32; BLOCK]; 6]) {
        chunk.since_birth::<_, false>(simd, motion, sums);
    }

    fn grow_up_within_limits(simd, motion: &Motion, chunk: &mut Chunk<'_>, sums: &mut [[f32; BLOCK]; 6]) {
        chunk.since_birth::<_, true>(simd, motion, sums);
    }
}

impl Chunk<'_> {
    /// Replaces the velocity of each body of age 0, which is its velocity now, by the one that the leapfrog starts from.
    pub(crate) fn start_newborn(&mut self, acts: &Acts<'_>, room: &mut Room) {
        let n = self.age.len();
        for first in (0..n).step_by(BLOCK) {
            let mut block = self.part(first..(first + BLOCK).min(n));
            if block.age.contains(&0.0) {
                block.start(acts, room);
            }
        }
    }

    fn start(&mut self, acts: &Acts<'_>, room: &mut Room) {
        self.sum_fields(acts, room);
        for i in 0..self.age.len() {
            if self.age[i] == 0.0 {
                let [air, push] = acting(room, i);
                let velocity = acts.motion.before_birth::<true>(self.velocity(i).into(), air, push);
                [self.vx[i], self.vy[i], self.vz[i]] = velocity;
            }
        }
    }

    /// Moves newborns from their place of birth for a time equal to their age.
    pub(crate) fn grow_up(&mut self, acts: &Acts<'_>, room: &mut Room, notes: &mut Notes) {
        remember(acts.level, self, room);
        self.sum_fields(acts, room);
        if acts.motion.speed_limits.is_some() {
            grow_up_within_limits(acts.level, acts.motion, self, &mut room.sums);
        } else {
            grow_up(acts.level, acts.motion, self, &mut room.sums);
        }
        self.hold_on_shapes(acts);
        if acts.is_solid() {
            self.collide(acts, true, room, notes);
        }
        // A body that changed direction keeps its new velocity. A body of age 0 has not moved.
        for i in 0..self.px.len() {
            let [way, after] = acting(room, i);
            if self.age[i] == 0.0 {
                let [x, y, z] = &room.start;
                self.put(i, Vec3::new(x[i], y[i], z[i]), after.into());
            } else if self.velocity(i) == Vec3::from(way) {
                self.put(i, self.place(i), after.into());
            }
        }
    }

    /// Moves a block of newborns. Afterwards `sums` holds the mean velocity of each, then the velocity that its leapfrog starts from.
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
            [px[i], py[i], pz[i]] =
                [px[i] + way[0] * age[i], py[i] + way[1] * age[i], pz[i] + way[2] * age[i]];
            [ax[i], ay[i], az[i]] = way;
            // A body of age 0 moves from the next step on.
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

/// Both sums of one body: velocity of the air, and acceleration.
fn acting(room: &Room, i: usize) -> [[f32; 3]; 2] {
    let sum = |axis: usize| room.sums[axis][i];
    [[sum(0), sum(1), sum(2)], [sum(3), sum(4), sum(5)]]
}
