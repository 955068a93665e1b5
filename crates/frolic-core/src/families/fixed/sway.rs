//! Swinging of what hangs and swaying of what stands, in the moving air.

use rayon::prelude::*;

use super::columns::FixedColumns;
use super::spec::{SwaySpec, SwingSpec};
use crate::foundations::meter::Stage;
use crate::foundations::simd::{Level, Simd, detect, kernel};
use crate::foundations::trace::part;
use crate::world::World;
use crate::world::gusts::Gusts;
use crate::world::obstacles::BLOCK;

/// Number of elements that a worker swings at a time.
const CHUNK: usize = 4096;

/// Displaces all elements by the present wind, as a bent rod: by the square of the height.
pub(super) fn sway(
    sway: SwaySpec,
    world: &World,
    time: f64,
    rest: &[Vec<f32>; 3],
    columns: &mut FixedColumns,
) {
    let air = Air::new(world, time);
    let [rx, ry, rz] = rest;
    let FixedColumns { px, py, pz, .. } = columns;
    let chunks = rx.par_chunks(CHUNK).zip(ry.par_chunks(CHUNK)).zip(rz.par_chunks(CHUNK));
    let moved = px.par_chunks_mut(CHUNK).zip(py.par_chunks_mut(CHUNK)).zip(pz.par_chunks_mut(CHUNK));
    chunks.zip(moved).for_each(|(((rx, ry), rz), ((px, py), pz))| {
        let _part = part(Stage::Integrate);
        if !air.has_currents {
            lean_chunk(air.level, sway, &air, [rx, ry, rz], px, py, pz);
            return;
        }
        for first in (0..px.len()).step_by(BLOCK) {
            let many = first..(first + BLOCK).min(px.len());
            let rest = [rx, ry, rz].map(|axis| &axis[many.clone()]);
            let blown = air.at(rest);
            let (px, py, pz) = (&mut px[many.clone()], &mut py[many.clone()], &mut pz[many]);
            lean_blown(air.level, sway, &blown, rest, px, py, pz);
        }
    });
}

/// Takes a step of `dt` seconds of all pendulums.
pub(super) fn swing(swing: SwingSpec, world: &World, time: f64, dt: f32, columns: &mut FixedColumns) {
    let motion = &Motion { swing, air: Air::new(world, time), dt };
    let FixedColumns { px, py, pz, turn, tilt, rate, .. } = columns;
    let chunks = px
        .par_chunks(CHUNK)
        .zip(py.par_chunks(CHUNK))
        .zip(pz.par_chunks(CHUNK))
        .zip(turn.par_chunks(CHUNK))
        .zip(tilt.par_chunks_mut(CHUNK))
        .zip(rate.par_chunks_mut(CHUNK));
    chunks.for_each(|(((((px, py), pz), turn), tilt), rate)| {
        let _part = part(Stage::Integrate);
        let level = motion.air.level;
        if !motion.air.has_currents {
            swing_chunk(level, motion, [px, py, pz], turn, tilt, rate);
            return;
        }
        for first in (0..px.len()).step_by(BLOCK) {
            let many = first..(first + BLOCK).min(px.len());
            let blown = motion.air.at([px, py, pz].map(|axis| &axis[many.clone()]));
            swing_blown(level, motion, &blown, &turn[many.clone()], &mut tilt[many.clone()], &mut rate[many]);
        }
    });
}

/// Velocity of the air of a block, along x and z, in m/s.
type Blown = [[f32; BLOCK]; 2];

/// The air of a step.
struct Air<'a> {
    world: &'a World,
    level: Level,
    time: f64,
    gusts: Option<Gusts>,
    /// Whether fields move the air.
    has_currents: bool,
}

impl<'a> Air<'a> {
    fn new(world: &'a World, time: f64) -> Self {
        let (gusts, has_currents) = (world.gusts_at(time), world.has_currents());
        Self { world, level: detect(), time, gusts, has_currents }
    }

    /// Velocity of the air of a block, fields of the program's own included.
    fn at(&self, position: [&[f32]; 3]) -> Blown {
        let n = position[0].len();
        let ([mut x, mut y, mut z], gusts) = ([[0.0; BLOCK]; 3], self.gusts.as_ref());
        let air = [&mut x[..n], &mut y[..n], &mut z[..n]];
        self.world.air_of_chunk(self.level, self.time, gusts, position, air);
        [x, z]
    }

    /// Steady wind and gusts at a position, along x and z, in m/s.
    #[inline(always)]
    fn plain(&self, at: [f32; 3]) -> [f32; 2] {
        let [wx, _, wz] = self.world.spec().wind;
        let [gx, _, gz] = self.gusts.as_ref().map_or([0.0; 3], |gusts| gusts.at(at));
        [wx + gx, wz + gz]
    }
}

kernel! {
    /// Displaces swaying elements.
    fn lean_chunk(
        simd, sway: SwaySpec, air: &Air<'_>, rest: [&[f32]; 3], px: &mut [f32], py: &mut [f32], pz: &mut [f32],
    ) {
        let [rx, ry, rz] = rest;
        lean(simd, sway, |i| air.plain([rx[i], ry[i], rz[i]]), rest, px, py, pz);
    }

    /// The same for a block whose air was computed.
    fn lean_blown(
        simd, sway: SwaySpec, air: &Blown, rest: [&[f32]; 3], px: &mut [f32], py: &mut [f32], pz: &mut [f32],
    ) {
        lean(simd, sway, |i| [air[0][i], air[1][i]], rest, px, py, pz);
    }

    /// One step of swinging elements.
    fn swing_chunk(simd, motion: &Motion<'_>, position: [&[f32]; 3], turn: &[f32], tilt: &mut [f32], rate: &mut [f32]) {
        let [x, y, z] = position;
        motion.chunk(simd, |i| motion.air.plain([x[i], y[i], z[i]]), turn, tilt, rate);
    }

    /// The same for a block whose air was computed.
    fn swing_blown(simd, motion: &Motion<'_>, air: &Blown, turn: &[f32], tilt: &mut [f32], rate: &mut [f32]) {
        motion.chunk(simd, |i| [air[0][i], air[1][i]], turn, tilt, rate);
    }
}

#[inline(always)]
fn lean<S: Simd>(
    _simd: S,
    sway: SwaySpec,
    air: impl Fn(usize) -> [f32; 2],
    [rx, ry, rz]: [&[f32]; 3],
    px: &mut [f32],
    py: &mut [f32],
    pz: &mut [f32],
) {
    for i in 0..px.len() {
        let [ax, az] = air(i);
        let share = ((ry[i] - sway.root) / sway.height).max(0.0);
        let give = sway.give * share * share;
        let (dx, dz) = (ax * give, az * give);
        px[i] = rx[i] + dx;
        pz[i] = rz[i] + dz;
        // A leaning element is a little lower.
        py[i] = ry[i] - (dx * dx + dz * dz) * 0.5 / sway.height;
    }
}

struct Motion<'a> {
    swing: SwingSpec,
    air: Air<'a>,
    dt: f32,
}

impl Motion<'_> {
    #[inline(always)]
    fn chunk<S: Simd>(
        &self,
        _simd: S,
        air: impl Fn(usize) -> [f32; 2],
        turn: &[f32],
        tilt: &mut [f32],
        rate: &mut [f32],
    ) {
        let SwingSpec { length, drag, damping } = self.swing;
        let fall = -self.air.world.spec().gravity[1] / length;
        let slow = 1.0 / (1.0 + self.dt * (drag + damping));
        for i in 0..turn.len() {
            let [ax, az] = air(i);
            let (sin_turn, cos_turn) = libm::sincosf(turn[i]);
            // Wind perpendicular to the cloth, which tilts the other way around x.
            let push = ax * sin_turn + az * cos_turn;
            let (sin, cos) = libm::sincosf(tilt[i]);
            let force = -fall * sin - drag * push * cos / length;
            rate[i] = (rate[i] + self.dt * force) * slow;
            // A flag does not pass over the line.
            tilt[i] = (tilt[i] + self.dt * rate[i]).clamp(-2.6, 2.6);
        }
    }
}
