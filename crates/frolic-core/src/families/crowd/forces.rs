//! The plain way to make way: pushes. Helbing and Molnár, "Social Force Model for Pedestrian Dynamics", 1995, with circles for ellipses.

use super::avoid::{Nearest, Own, Row};
use crate::foundations::simd::kernel;
use crate::neighbours::blocks::{BLOCK, Lanes};

/// Push where two touch, in m/s².
const STRENGTH: f32 = 12.0;

/// Distance after which a third of a push is left, over that from middle to middle where two touch.
const FADE: f32 = 0.16;

/// Time in which a unit takes up its wish, in seconds.
const RELAX: f32 = 0.5;

/// Share of a push that comes from behind.
const BEHIND: f32 = 0.3;

kernel! {
    /// The next velocities of a block that is pushed by the nearest others and by walls, in a step of `dt` seconds. `gaps` and `out` are distances from
    /// walls, in metres, and the ways out.
    pub(super) fn push(_simd, own: &Own, rows: &[Row], nearest: &Nearest, wish: &[Lanes; 2], gaps: &Lanes, out: &[Lanes; 2], dt: f32, into: &mut [Lanes; 2]) {
        for lane in 0..BLOCK {
            let [vx, vz] = [own.velocity[0][lane], own.velocity[1][lane]];
            let (wx, wz) = (wish[0][lane], wish[1][lane]);
            let wished = (wx * wx + wz * wz).sqrt().max(1e-6);
            let (mut ax, mut az) = ((wx - vx) / RELAX, (wz - vz) / RELAX);
            let radius = own.radius[lane];
            for nth in 0..nearest.len {
                let square = nearest.square[nth][lane];
                let Some(other) = rows.get(nearest.row[nth][lane] as usize) else { break };
                if square == f32::INFINITY {
                    break;
                }
                let (x, z) = (own.at[0][lane] - other[0], own.at[1][lane] - other[1]);
                let distance = square.sqrt().max(1e-6);
                let gap = (radius + other[4] - distance) / (FADE * (radius + other[4]).max(1e-6));
                // More from ahead than from behind.
                let ahead = -(x * wx + z * wz) / (distance * wished);
                let seen = BEHIND + (1.0 - BEHIND) * (1.0 + ahead) * 0.5;
                let strength = STRENGTH * libm::expf(gap.min(1.5)) * seen / distance;
                ax += x * strength;
                az += z * strength;
            }
            if gaps[lane] < radius * 3.0 {
                let strength = STRENGTH * libm::expf(((radius - gaps[lane]) / (FADE * 2.0 * radius).max(1e-6)).min(1.5));
                ax += out[0][lane] * strength;
                az += out[1][lane] * strength;
            }
            into[0][lane] = vx + ax * dt;
            into[1][lane] = vz + az * dt;
        }
    }
}
