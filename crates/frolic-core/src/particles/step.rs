//! The hot loop: fields, integration and the search for the dead, fused in one pass over a chunk.
//!
//! For each element, with drag k, air velocity w, other accelerations a held over the step dt:
//!
//! ```text
//! keep = exp(-k dt)            reach = (1 - keep) / k, or dt without drag
//! v    = v keep + (a + k w) reach
//! p    = p + v dt
//! age  = age + dt              dead when age >= life
//! ```
//!
//! PERF (`cargo bench -p frolic --bench step`, two cores): with gravity, drag, attractor and age the pass runs at the speed of an
//! in-place multiply over the same bytes, so it is memory-bound; separate passes for fields and integration
//! doubled its time. The dead are looked for sixteen at a time while the chunk is in cache.

use std::sync::atomic::{AtomicU64, Ordering};

use rayon::prelude::*;

use super::ParticleColumns;
use super::spec::MotionSpec;
use crate::obstacles::Solid;
use crate::simd::{Level, Simd, dispatch};
use crate::world::{AttractorSpec, Gusts, World};

/// A step's constants: what every element of the population shares, here or on a device.
#[derive(Debug, Clone, Copy)]
#[non_exhaustive]
pub struct Motion {
    /// Length of the step, s.
    pub dt: f32,
    /// 1/s.
    pub drag: f32,
    /// Share of its velocity that an element keeps, and how long a steady acceleration acts on it, s.
    pub keep: f32,
    /// How long a steady acceleration acts on it, s.
    pub reach: f32,
    /// Accelerations that are the same everywhere: gravity, and drag towards the steady wind, m/s².
    pub push: [f32; 3],
    /// Gusts at the moment of the step.
    pub gusts: Option<Gusts>,
    /// A point that pulls.
    pub attractor: Option<AttractorSpec>,
}

impl Motion {
    /// The constants of the step from `time` on, s, of `dt` seconds.
    pub fn new(spec: &MotionSpec, world: &World, time: f64, dt: f32) -> Self {
        let keep = libm::exp(-f64::from(spec.drag) * f64::from(dt)) as f32;
        let reach =
            if spec.drag * dt > 1e-4 { (1.0 - keep) / spec.drag } else { dt * (1.0 - 0.5 * spec.drag * dt) };
        let axis = |i: usize| spec.weight * world.spec().gravity[i] + spec.drag * world.spec().wind[i];
        Self {
            dt,
            drag: spec.drag,
            keep,
            reach,
            push: [axis(0), axis(1), axis(2)],
            // Gusts act through drag alone.
            gusts: world.gusts_at(time).filter(|_| spec.drag > 0.0),
            attractor: world.spec().attractor,
        }
    }

    /// One element's new position and velocity. The one formula, for columns and objects alike.
    #[inline(always)]
    fn advance<const GUSTS: bool, const ATTRACTOR: bool>(
        &self,
        p: [f32; 3],
        v: [f32; 3],
    ) -> ([f32; 3], [f32; 3]) {
        let mut a = self.push;
        if GUSTS && let Some(gusts) = &self.gusts {
            let air = gusts.at(p);
            a = [a[0] + air[0] * self.drag, a[1] + air[1] * self.drag, a[2] + air[2] * self.drag];
        }
        if ATTRACTOR && let Some(attractor) = &self.attractor {
            let to = attractor.position;
            let d = [to[0] - p[0], to[1] - p[1], to[2] - p[2]];
            let r2 = d[0] * d[0] + d[1] * d[1] + d[2] * d[2] + attractor.radius * attractor.radius;
            let pull = attractor.strength / (r2 * r2.sqrt());
            a = [a[0] + d[0] * pull, a[1] + d[1] * pull, a[2] + d[2] * pull];
        }
        let v = [
            v[0] * self.keep + a[0] * self.reach,
            v[1] * self.keep + a[1] * self.reach,
            v[2] * self.keep + a[2] * self.reach,
        ];
        ([p[0] + v[0] * self.dt, p[1] + v[1] * self.dt, p[2] + v[2] * self.dt], v)
    }

    /// [`Motion::advance`], ageing and what is met of one record, fields chosen at run time.
    #[inline]
    pub(super) fn advance_row(&self, row: &mut super::ParticleRow, solid: &Solid) -> Met {
        let (p, v) = ([row.px, row.py, row.pz], [row.vx, row.vy, row.vz]);
        let (p, v) = match (self.gusts.is_some(), self.attractor.is_some()) {
            (false, false) => self.advance::<false, false>(p, v),
            (false, true) => self.advance::<false, true>(p, v),
            (true, false) => self.advance::<true, false>(p, v),
            (true, true) => self.advance::<true, true>(p, v),
        };
        [row.px, row.py, row.pz] = p;
        [row.vx, row.vy, row.vz] = v;
        row.age += self.dt;
        if solid.is_empty() {
            return Met::default();
        }
        let (mut p, mut v) = ([row.px, row.py, row.pz], [row.vx, row.vy, row.vz]);
        let met = meet(solid, &mut p, &mut v, &mut row.age, row.life);
        [row.px, row.py, row.pz] = p;
        [row.vx, row.vy, row.vz] = v;
        met
    }
}

/// How many elements met an obstacle, and a collector.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct Met {
    pub(super) hits: u64,
    pub(super) picked: u64,
}

/// What one element meets after its move. Whose life ends in this step meets nothing any more; who is picked up has reached the end
/// of its life.
fn meet(solid: &Solid, p: &mut [f32; 3], v: &mut [f32; 3], age: &mut f32, life: f32) -> Met {
    if *age >= life {
        return Met::default();
    }
    let hits = u64::from(solid.bounce(p, v));
    let picked = solid.picks(*p);
    if picked {
        *age = f32::INFINITY;
    }
    Met { hits, picked: u64::from(picked) }
}

/// Steps all chunks on all cores. Afterwards `dead[c * chunk..][..dead_in_chunk[c]]` are the indices of the dead of
/// chunk `c`, rising.
pub(super) fn step_chunks(
    motion: &Motion,
    solid: &Solid,
    level: Level,
    chunk: usize,
    columns: &mut ParticleColumns,
    dead: &mut [u32],
    dead_in_chunk: &mut [u32],
) -> Met {
    let (hits, picked) = (AtomicU64::new(0), AtomicU64::new(0));
    (
        columns.px.par_chunks_mut(chunk),
        columns.py.par_chunks_mut(chunk),
        columns.pz.par_chunks_mut(chunk),
        columns.vx.par_chunks_mut(chunk),
        columns.vy.par_chunks_mut(chunk),
        columns.vz.par_chunks_mut(chunk),
        columns.age.par_chunks_mut(chunk),
        columns.life.par_chunks(chunk),
        dead.par_chunks_mut(chunk),
        dead_in_chunk,
    )
        .into_par_iter()
        .enumerate()
        .for_each(|(nth, (px, py, pz, vx, vy, vz, age, life, dead, dead_count))| {
            let base = (nth * chunk) as u32;
            let mut chunk = Chunk { px, py, pz, vx, vy, vz, age };
            let now = &mut chunk;
            match (motion.gusts.is_some(), motion.attractor.is_some()) {
                (false, false) => {
                    dispatch!(level, simd => step_chunk::<_, false, false>(simd, motion, now));
                }
                (false, true) => dispatch!(level, simd => step_chunk::<_, false, true>(simd, motion, now)),
                (true, false) => dispatch!(level, simd => step_chunk::<_, true, false>(simd, motion, now)),
                (true, true) => dispatch!(level, simd => step_chunk::<_, true, true>(simd, motion, now)),
            }
            if !solid.is_empty() {
                let met = chunk.meet(solid, life);
                hits.fetch_add(met.hits, Ordering::Relaxed);
                picked.fetch_add(met.picked, Ordering::Relaxed);
            }
            *dead_count = dispatch!(level, _simd => list_dead(chunk.age, life, dead, base));
        });
    Met { hits: hits.into_inner(), picked: picked.into_inner() }
}

/// Moves each chunk's dead to the front of the list, in order; returns how many there are.
pub(super) fn join_dead(dead: &mut [u32], dead_in_chunk: &[u32], chunk: usize) -> usize {
    dead_in_chunk.iter().enumerate().fold(0, |to, (nth, &count)| {
        let from = nth * chunk;
        dead.copy_within(from..from + count as usize, to);
        to + count as usize
    })
}

struct Chunk<'a> {
    px: &'a mut [f32],
    py: &'a mut [f32],
    pz: &'a mut [f32],
    vx: &'a mut [f32],
    vy: &'a mut [f32],
    vz: &'a mut [f32],
    age: &'a mut [f32],
}

impl Chunk<'_> {
    /// Obstacles and collectors, while the chunk is in cache.
    fn meet(&mut self, solid: &Solid, life: &[f32]) -> Met {
        let mut met = Met::default();
        for i in 0..self.px.len() {
            let (mut p, mut v) = ([self.px[i], self.py[i], self.pz[i]], [self.vx[i], self.vy[i], self.vz[i]]);
            let Met { hits, picked } = meet(solid, &mut p, &mut v, &mut self.age[i], life[i]);
            met.hits += hits;
            met.picked += picked;
            [self.px[i], self.py[i], self.pz[i]] = p;
            [self.vx[i], self.vy[i], self.vz[i]] = v;
        }
        met
    }
}

/// Moves one chunk.
#[inline(always)]
fn step_chunk<S: Simd, const GUSTS: bool, const ATTRACTOR: bool>(
    _simd: S,
    motion: &Motion,
    chunk: &mut Chunk<'_>,
) {
    // By value: the compiler then knows that no store changes the constants.
    let motion = *motion;
    let Chunk { px, py, pz, vx, vy, vz, age, .. } = chunk;
    let n = px.len();
    let (py, pz, vx, vy, vz) = (&mut py[..n], &mut pz[..n], &mut vx[..n], &mut vy[..n], &mut vz[..n]);
    let age = &mut age[..n];
    for i in 0..n {
        let (p, v) = motion.advance::<GUSTS, ATTRACTOR>([px[i], py[i], pz[i]], [vx[i], vy[i], vz[i]]);
        [px[i], py[i], pz[i]] = p;
        [vx[i], vy[i], vz[i]] = v;
        age[i] += motion.dt;
    }
}

/// Writes `base + index` of every element whose age has reached its life; returns how many.
#[inline(always)]
fn list_dead(age: &[f32], life: &[f32], dead: &mut [u32], base: u32) -> u32 {
    const GROUP: usize = 16;
    let mut found = 0;
    let mut look = |first: usize, age: &[f32], life: &[f32]| {
        for (i, (age, life)) in age.iter().zip(life).enumerate() {
            if age >= life {
                dead[found] = base + (first + i) as u32;
                found += 1;
            }
        }
    };
    let (ages, age_rest) = age.as_chunks::<GROUP>();
    let (lives, life_rest) = life.as_chunks::<GROUP>();
    for (group, (age, life)) in ages.iter().zip(lives).enumerate() {
        let any = age.iter().zip(life).fold(false, |any, (age, life)| any | (age >= life));
        if any {
            look(group * GROUP, age, life);
        }
    }
    look(ages.len() * GROUP, age_rest, life_rest);
    found as u32
}
