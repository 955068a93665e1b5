//! The hot loops: eight bodies against one candidate at a time.

use fearless_simd::prelude::*;
use fearless_simd::{f32x8, i32x8};

use crate::foundations::simd::{Simd, kernel};
use crate::neighbours::blocks::{BLOCK, Lanes, kept};

/// What others see of a body: position, radius, velocity, share that it gives way (1 over its mass).
pub(super) type Row = [f32; 8];

/// Bodies of a block.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Own {
    pub(super) at: [Lanes; 3],
    pub(super) velocity: [Lanes; 3],
    pub(super) radius: Lanes,
    pub(super) gives: Lanes,
}

/// What a block meets.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Met {
    /// Sums of the ways out of all overlaps, in metres.
    pub(super) way: [Lanes; 3],
    /// Sums of the changes of velocity, in m/s.
    pub(super) change: [Lanes; 3],
    /// How many touch.
    pub(super) touching: Lanes,
    /// How many overlap.
    pub(super) overlapping: Lanes,
    /// Greatest pace of any that touches, in m/s.
    pub(super) liveliest: Lanes,
}

kernel! {
    /// Ways out of overlaps.
    pub(super) fn part(simd, own: &Own, rows: &[Row], runs: &[[u32; 2]], met: &mut Met) {
        part_at(simd, own, rows, runs, met);
    }

    /// How many touch each, within a share beyond their radii.
    pub(super) fn count_near(simd, own: &Own, rows: &[Row], runs: &[[u32; 2]], skin: f32) -> Lanes {
        count_at(simd, own, rows, runs, skin)
    }

    /// How many touch each, and how fast the liveliest of them went in the last step.
    pub(super) fn stir(simd, own: &Own, rows: &[Row], paces: &[f32], runs: &[[u32; 2]], skin: f32, met: &mut Met) {
        stir_at(simd, own, rows, paces, runs, skin, met);
    }

    /// Changes of velocity where bodies touch. `counts` says how many touch each of all bodies, `own_counts` of the block; the more there are at either of two,
    /// the less they change each other, so that all together gain no energy.
    pub(super) fn meet(simd, own: &Own, rows: &[Row], counts: &[f32], own_counts: &[f32], runs: &[[u32; 2]], skin: f32, friction: f32, met: &mut Met) {
        meet_at(simd, own, rows, counts, own_counts, runs, skin, friction, met);
    }
}

#[inline(always)]
fn part_at<S: Simd>(simd: S, own: &Own, rows: &[Row], runs: &[[u32; 2]], met: &mut Met) {
    let lanes = |values: &Lanes| f32x8::from_slice(simd, values);
    let [ox, oy, oz] = [lanes(&own.at[0]), lanes(&own.at[1]), lanes(&own.at[2])];
    let (radius, gives) = (lanes(&own.radius), lanes(&own.gives));
    let zero = f32x8::splat(simd, 0.0);
    let tiny = f32x8::splat(simd, 1e-12);
    let (mut wx, mut wy, mut wz) = (zero, zero, zero);
    let mut count = i32x8::splat(simd, 0);
    for run in runs {
        for row in &rows[run[0] as usize..run[1] as usize] {
            let [px, py, pz, theirs, _, _, _, give] = *row;
            let (x, y, z) = (ox - px, oy - py, oz - pz);
            let square = x * x + y * y + z * z;
            let reach = radius + theirs;
            let near = square.simd_lt(reach * reach);
            if near.to_bitmask() == 0 {
                continue;
            }
            // Neither itself nor one on its very spot: positions are shaken.
            let overlaps = near.to_vector() & square.simd_gt(zero).to_vector();
            let distance = square.sqrt().max(tiny);
            let depth = reach - distance;
            let share = kept(overlaps, depth * gives / ((gives + give).max(tiny) * distance));
            wx += x * share;
            wy += y * share;
            wz += z * share;
            count -= overlaps;
        }
    }
    met.way = [wx.to_array(), wy.to_array(), wz.to_array()];
    met.overlapping = count.to_array().map(|count| count as f32);
}

#[inline(always)]
fn count_at<S: Simd>(simd: S, own: &Own, rows: &[Row], runs: &[[u32; 2]], skin: f32) -> Lanes {
    let lanes = |values: &Lanes| f32x8::from_slice(simd, values);
    let [ox, oy, oz] = [lanes(&own.at[0]), lanes(&own.at[1]), lanes(&own.at[2])];
    let (radius, zero) = (lanes(&own.radius), f32x8::splat(simd, 0.0));
    let mut count = i32x8::splat(simd, 0);
    for run in runs {
        for row in &rows[run[0] as usize..run[1] as usize] {
            let (x, y, z) = (ox - row[0], oy - row[1], oz - row[2]);
            let square = x * x + y * y + z * z;
            let reach = (radius + row[3]) * skin;
            count -= square.simd_le(reach * reach).to_vector() & square.simd_gt(zero).to_vector();
        }
    }
    count.to_array().map(|count| count as f32)
}

#[inline(always)]
fn stir_at<S: Simd>(
    simd: S,
    own: &Own,
    rows: &[Row],
    paces: &[f32],
    runs: &[[u32; 2]],
    skin: f32,
    met: &mut Met,
) {
    let lanes = |values: &Lanes| f32x8::from_slice(simd, values);
    let [ox, oy, oz] = [lanes(&own.at[0]), lanes(&own.at[1]), lanes(&own.at[2])];
    let (radius, zero) = (lanes(&own.radius), f32x8::splat(simd, 0.0));
    let (mut count, mut liveliest) = (i32x8::splat(simd, 0), zero);
    for run in runs {
        for place in run[0] as usize..run[1] as usize {
            let row = &rows[place];
            let (x, y, z) = (ox - row[0], oy - row[1], oz - row[2]);
            let square = x * x + y * y + z * z;
            let reach = (radius + row[3]) * skin;
            let touches = square.simd_le(reach * reach).to_vector() & square.simd_gt(zero).to_vector();
            liveliest = liveliest.max(kept(touches, f32x8::splat(simd, paces[place])));
            count -= touches;
        }
    }
    met.touching = count.to_array().map(|count| count as f32);
    met.liveliest = liveliest.to_array();
}

#[expect(
    clippy::too_many_arguments,
    reason = "plain slices, so that the compiler knows that they do not overlap"
)]
#[inline(always)]
fn meet_at<S: Simd>(
    simd: S,
    own: &Own,
    rows: &[Row],
    counts: &[f32],
    own_counts: &[f32],
    runs: &[[u32; 2]],
    skin: f32,
    friction: f32,
    met: &mut Met,
) {
    let lanes = |values: &Lanes| f32x8::from_slice(simd, values);
    let [ox, oy, oz] = [lanes(&own.at[0]), lanes(&own.at[1]), lanes(&own.at[2])];
    let [vx, vy, vz] = [lanes(&own.velocity[0]), lanes(&own.velocity[1]), lanes(&own.velocity[2])];
    let (radius, gives) = (lanes(&own.radius), lanes(&own.gives));
    let zero = f32x8::splat(simd, 0.0);
    let tiny = f32x8::splat(simd, 1e-12);
    let (mut cx, mut cy, mut cz) = (zero, zero, zero);
    let mut lane_counts = [0.0; BLOCK];
    lane_counts[..own_counts.len()].copy_from_slice(own_counts);
    let own_counts = lanes(&lane_counts);
    let mut count = i32x8::splat(simd, 0);
    for run in runs {
        for place in run[0] as usize..run[1] as usize {
            let [px, py, pz, theirs, ux, uy, uz, give] = rows[place];
            let crowd = own_counts.max(f32x8::splat(simd, counts[place]));
            let (x, y, z) = (ox - px, oy - py, oz - pz);
            let square = x * x + y * y + z * z;
            let reach = (radius + theirs) * skin;
            let near = square.simd_le(reach * reach);
            if near.to_bitmask() == 0 {
                continue;
            }
            let touches = near.to_vector() & square.simd_gt(zero).to_vector();
            let per = f32x8::splat(simd, 1.0) / square.sqrt().max(tiny);
            let (nx, ny, nz) = (x * per, y * per, z * per);
            let (rx, ry, rz) = (vx - ux, vy - uy, vz - uz);
            let apart = rx * nx + ry * ny + rz * nz;
            // Only the speed with which they near each other goes, and some of that along each other.
            let nearing = apart.min(zero);
            let pressing = kept(nearing.simd_lt(zero).to_vector(), f32x8::splat(simd, friction));
            let share = kept(touches, gives / ((gives + give).max(tiny) * crowd.max(tiny)));
            cx -= (nx * nearing + (rx - nx * apart) * pressing) * share;
            cy -= (ny * nearing + (ry - ny * apart) * pressing) * share;
            cz -= (nz * nearing + (rz - nz * apart) * pressing) * share;
            count -= touches;
        }
    }
    met.change = [cx.to_array(), cy.to_array(), cz.to_array()];
    met.touching = count.to_array().map(|count| count as f32);
}
