//! Neighbours of eight units: the nearest of them, and half-planes of velocities that collide with none.

use fearless_simd::prelude::*;
use fearless_simd::{f32x8, u32x8};

use super::planes::Planes;
use super::spec::MOST_HEEDED;
use crate::foundations::simd::{Simd, kernel};
use crate::neighbours::blocks::{BLOCK, Lanes};

/// What is seen of a unit: place, and velocity that others reckon with, along x and z; radius, priority; and its velocity. One row is half a cache line.
pub(super) type Row = [f32; 8];

/// The units of a block.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Own {
    pub(super) at: [Lanes; 2],
    pub(super) velocity: [Lanes; 2],
    pub(super) radius: Lanes,
    pub(super) priority: Lanes,
    /// Their rows, so that none sees itself.
    pub(super) row: [u32; BLOCK],
}

/// The nearest others of each unit, nearest first.
#[derive(Debug, Clone, Copy)]
pub(super) struct Nearest {
    /// Squares of their distances, in m²; infinite where there are no more.
    pub(super) square: [Lanes; MOST_HEEDED],
    pub(super) row: [[u32; BLOCK]; MOST_HEEDED],
    pub(super) len: usize,
}

impl Nearest {
    pub(super) fn new(len: usize) -> Self {
        let (square, row) = ([[f32::INFINITY; BLOCK]; MOST_HEEDED], [[0; BLOCK]; MOST_HEEDED]);
        Self { square, row, len: len.min(MOST_HEEDED) }
    }
}

kernel! {
    /// Adds the candidates of some runs, every `step`th from a first on, that are within a distance to the nearest. Of two as near, the first stays first.
    pub(super) fn see(simd, own: &Own, rows: &[Row], runs: &[[u32; 2]], every: [u32; 2], reach: f32, nearest: &mut Nearest) {
        see_of(simd, own, rows, runs, every, reach, nearest);
    }

    /// Adds soft half-planes of velocities without a collision with the nearest units for some seconds, if both units turn aside by their share. For units that
    /// overlap, these velocities end the overlap within a step of `dt` seconds. Units that could collide in this step at the greatest speed, `most`, also get hard
    /// half-planes: each unit keeps to its half of the gap, so that a step starts no overlap (Zhou, Wang, Bandyopadhyay and Schwager, "Fast, On-line Collision Avoidance for
    /// Dynamic Vehicles Using Buffered Voronoi Cells", 2017).
    pub(super) fn keep_clear(simd, own: &Own, rows: &[Row], nearest: &Nearest, seconds: f32, dt: f32, most: f32, planes: &mut Planes) {
        keep_clear_of(simd, own, rows, nearest, [seconds, dt, most], planes);
    }
}

#[inline(always)]
fn see_of<S: Simd>(
    simd: S,
    own: &Own,
    rows: &[Row],
    runs: &[[u32; 2]],
    [first, step]: [u32; 2],
    reach: f32,
    nearest: &mut Nearest,
) {
    let [ox, oz] = [f32x8::load_array(simd, own.at[0]), f32x8::load_array(simd, own.at[1])];
    let own_row = u32x8::load_array(simd, own.row);
    let (reach, far) = (f32x8::splat(simd, reach * reach), f32x8::splat(simd, f32::INFINITY));
    let last = nearest.len - 1;
    let mut over = first;
    for [from, to] in runs {
        let mut place = from + over;
        while place < *to {
            let Some([px, pz, ..]) = rows.get(place as usize) else { break };
            let (x, z) = (ox - *px, oz - *pz);
            let row = u32x8::splat(simd, place);
            let square = x * x + z * z;
            let mut square = (square.simd_gt(reach) | row.simd_eq(own_row)).select(far, square);
            let mut row = row;
            if square.simd_lt(f32x8::load_array(simd, nearest.square[last])).any_true() {
                for nth in 0..=last {
                    let (was, its) = (
                        f32x8::load_array(simd, nearest.square[nth]),
                        u32x8::load_array(simd, nearest.row[nth]),
                    );
                    let nearer = square.simd_lt(was);
                    nearest.square[nth] = nearer.select(square, was).to_array();
                    nearest.row[nth] = nearer.select(row, its).to_array();
                    square = nearer.select(was, square);
                    row = nearer.select(its, row);
                }
            }
            place += step;
        }
        over = place - to.max(from);
    }
}

#[inline(always)]
fn keep_clear_of<S: Simd>(
    simd: S,
    own: &Own,
    rows: &[Row],
    nearest: &Nearest,
    [seconds, dt, most]: [f32; 3],
    planes: &mut Planes,
) {
    let (zero, one) = (f32x8::splat(simd, 0.0), f32x8::splat(simd, 1.0));
    let tiny = f32x8::splat(simd, 1e-12);
    let [ox, oz] = [f32x8::load_array(simd, own.at[0]), f32x8::load_array(simd, own.at[1])];
    let [vx, vz] = [f32x8::load_array(simd, own.velocity[0]), f32x8::load_array(simd, own.velocity[1])];
    let (radius, priority) = (f32x8::load_array(simd, own.radius), f32x8::load_array(simd, own.priority));
    for nth in 0..nearest.len {
        let square = f32x8::load_array(simd, nearest.square[nth]);
        let distance = square.sqrt();
        let [px, pz, _, _, other, _] = gather(simd, rows, &nearest.row[nth]);
        let room = ((distance - radius - other) * (0.5 / dt)).max(zero);
        let close = room.simd_lt(f32x8::splat(simd, most)) & distance.simd_gt(tiny);
        if !close.any_true() {
            continue;
        }
        let per = one / distance;
        let slot = planes.hard;
        planes.x[slot] = close.select((ox - px) * per, zero).to_array();
        planes.z[slot] = close.select((oz - pz) * per, zero).to_array();
        planes.least[slot] = close.select(zero - room, zero - f32::INFINITY).to_array();
        planes.hard = slot + 1;
    }
    planes.len = planes.hard;
    for nth in 0..nearest.len {
        let there = f32x8::load_array(simd, nearest.square[nth]).simd_lt(f32x8::splat(simd, f32::INFINITY));
        if !there.any_true() {
            break;
        }
        let [px, pz, ux, uz, other, others] = gather(simd, rows, &nearest.row[nth]);
        // The way to the other, and the velocity as seen from it.
        let (x, z) = (px - ox, pz - oz);
        let (rx, rz) = (vx - ux, vz - uz);
        let reach = radius + other;
        let square = x * x + z * z;
        let apart = square.simd_gt(reach * reach);
        let per = apart.select(f32x8::splat(simd, 1.0 / seconds), f32x8::splat(simd, 1.0 / dt));
        // From the middle of the disc of velocities that collide at the end of that time.
        let (cx, cz) = (rx - x * per, rz - z * per);
        let off = (cx * cx + cz * cz).max(tiny);
        let along = cx * x + cz * z;
        let round = !apart | (along.simd_lt(zero) & (along * along).simd_gt(reach * reach * off));
        let per_off = one / off.sqrt();
        let (ax, az) = (cx * per_off, cz * per_off);
        // Or from the nearer side of the cone that leads there: the way out is square to it.
        let leg = (square - reach * reach).max(zero).sqrt();
        let side = (x * cz - z * cx).simd_gt(zero).select(one, zero - one);
        let per_square = one / square.max(tiny);
        let bx = (zero - (x * reach + side * z * leg)) * per_square;
        let bz = (side * x * leg - z * reach) * per_square;
        let (nx, nz) = (round.select(ax, bx), round.select(az, bz));
        // How far along the way out it has to be.
        let edge = round.select((reach + nx * x + nz * z) * per, zero);
        let share = others / (priority + others).max(tiny);
        let least = nx * vx + nz * vz + (edge - (nx * rx + nz * rz)) * share;
        // Two on one spot have no way out.
        let there = there & (nx * nx + nz * nz).simd_gt(f32x8::splat(simd, 0.5));
        let slot = planes.len;
        planes.x[slot] = there.select(nx, zero).to_array();
        planes.z[slot] = there.select(nz, zero).to_array();
        planes.least[slot] = there.select(least, zero - f32::INFINITY).to_array();
        planes.len = slot + 1;
    }
}

/// The first six columns of eight rows: place, velocity, radius and priority.
#[inline(always)]
fn gather<S: Simd>(simd: S, rows: &[Row], places: &[u32; BLOCK]) -> [f32x8<S>; 6] {
    let mut of = [[0.0; BLOCK]; 6];
    for lane in 0..BLOCK {
        let Some(row) = rows.get(places[lane] as usize) else { continue };
        for k in 0..6 {
            of[k][lane] = row[k];
        }
    }
    let mut columns = [f32x8::splat(simd, 0.0); 6];
    for k in 0..6 {
        columns[k] = f32x8::load_array(simd, of[k]);
    }
    columns
}
