//! From what an element sees to its next velocity.

use super::FlockSpec;
use super::rules::Seen;
use crate::foundations::random::{hash3, unit};
use crate::foundations::simd::kernel;
use crate::neighbours::blocks::BLOCK;
use crate::neighbours::blocks::Lanes;

/// Greatest push of one neighbour by `Seen::away`, in radii of separation: at a third of the radius.
const MOST_PUSH: f32 = 0.208_09;

/// Numbers of a step, shared by all elements.
#[derive(Debug, Clone, Copy)]
pub struct Steering {
    /// Length of the step, in seconds.
    pub dt: f32,
    /// What brings the direction of separation to unit length.
    pub separation: f32,
    /// Weight of separation.
    pub separation_weight: f32,
    /// Weight of alignment.
    pub alignment_weight: f32,
    /// 1 over the radius of cohesion, in 1/m.
    pub cohesion: f32,
    /// Weight of cohesion.
    pub cohesion_weight: f32,
    /// 1 over the mean cruising speed, in s/m.
    pub per_cruise: f32,
    /// Least and greatest cruising speed, in m/s.
    pub cruise: [f32; 2],
    /// Least and greatest speed, in m/s.
    pub limits: [f32; 2],
    /// Greatest acceleration, in m/s².
    pub acceleration: f32,
    /// Cosine and sine of the greatest turn of a step.
    pub turn: [f32; 2],
    /// Greatest part of a random turn in this step.
    pub wander: f32,
    /// Rate at which they turn level.
    pub level: f32,
    /// Bank for an acceleration aside, in radians a m/s².
    pub bank: f32,
    /// Share by which the bank follows in a step.
    pub bank_share: f32,
    /// Share of alarm that is taken over in a step.
    pub spread: f32,
    /// Share of alarm that is kept in a step.
    pub calm: f32,
    /// 1 for each axis along which elements may move, else 0.
    pub free: [f32; 3],
    /// Seed of the flock.
    pub seed: u32,
    /// Number of the step.
    pub step: u32,
}

impl Steering {
    /// Those of a step of `dt` seconds. `free` is 1 for each axis along which elements may move, else 0.
    pub fn new(spec: &FlockSpec, free: [f32; 3], dt: f32, seed: u32, step: u32) -> Self {
        let turn = (spec.turn_degrees.to_radians() * dt).min(std::f32::consts::PI);
        let (sin, cos) = libm::sincosf(turn);
        Self {
            dt,
            separation: 1.0 / (MOST_PUSH * spec.separation.radius),
            separation_weight: spec.separation.weight,
            alignment_weight: spec.alignment.weight,
            cohesion: 1.0 / spec.cohesion.radius,
            cohesion_weight: spec.cohesion.weight,
            per_cruise: 1.0 / spec.cruise.mean().max(1e-6),
            cruise: [spec.cruise.min, spec.cruise.max],
            limits: spec.speed_limits,
            acceleration: spec.acceleration,
            turn: [cos, sin],
            // A uniform number in -1..1 has a variance of a third.
            wander: spec.wander_degrees.to_radians() * (3.0 * dt).sqrt(),
            level: spec.level,
            bank: spec.bank / 9.81,
            bank_share: 1.0 - libm::expf(-6.0 * dt),
            spread: 1.0 - libm::expf(-spec.alarm.spread * dt),
            calm: libm::expf(-dt / spec.alarm.seconds),
            free,
            seed,
            step,
        }
    }
}

/// What acts on the elements of a block beside those around.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Wishes {
    /// Sum of directions times weights.
    pub(super) way: [Lanes; 3],
    /// Alarm raised, 0 to 1.
    pub(super) alarm: Lanes,
}

/// State of the elements of a block.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct State {
    pub(super) velocity: [Lanes; 3],
    pub(super) alarm: Lanes,
    pub(super) bank: Lanes,
    pub(super) way: Lanes,
    /// The strongest rule: separation 0, alignment 0.5, cohesion 1.
    pub(super) rule: Lanes,
}

kernel! {
    /// Steps the state of a block.
    pub(super) fn steer(_simd, with: &Steering, key: &[u32; BLOCK], seen: &Seen, wishes: &Wishes, state: &mut State) {
        let with = *with;
        // Plain arithmetic, element by element: the compiler makes lanes of it.
        for i in 0..BLOCK {
            let [vx, vy, vz] = [state.velocity[0][i], state.velocity[1][i], state.velocity[2][i]];
            let speed = (vx * vx + vy * vy + vz * vz).sqrt();
            // An element at rest has no heading; it takes the first one that a rule gives.
            let per_speed = if speed > 1e-12 { 1.0 / speed } else { 0.0 };
            let [hx, hy, hz] = [vx * per_speed, vy * per_speed, vz * per_speed];
            let alarm = state.alarm[i];
            let [ax, ay, az] = limited(
                [
                    seen.away[0][i] * with.separation,
                    seen.away[1][i] * with.separation,
                    seen.away[2][i] * with.separation,
                ],
                1.0,
            );
            let per = if seen.aligned[i] > 0.0 { 1.0 / seen.aligned[i] } else { 0.0 };
            let there = if seen.aligned[i] > 0.0 { with.per_cruise } else { 0.0 };
            let [bx, by, bz] = limited(
                [
                    (seen.velocity[0][i] * per - vx) * there,
                    (seen.velocity[1][i] * per - vy) * there,
                    (seen.velocity[2][i] * per - vz) * there,
                ],
                1.0,
            );
            let gather = if seen.gathered[i] > 0.0 { with.cohesion / seen.gathered[i] } else { 0.0 };
            let [cx, cy, cz] =
                [seen.middle[0][i] * gather, seen.middle[1][i] * gather, seen.middle[2][i] * gather];
            // In alarm they close up.
            let cohesion = with.cohesion_weight * (1.0 + alarm);
            let (separation, alignment) = (with.separation_weight, with.alignment_weight);
            let strength = |x: f32, y: f32, z: f32, weight: f32| (x * x + y * y + z * z) * weight * weight;
            let [sa, sb, sc] = [
                strength(ax, ay, az, separation),
                strength(bx, by, bz, alignment),
                strength(cx, cy, cz, cohesion),
            ];
            state.rule[i] = if sa >= sb && sa >= sc { 0.0 } else if sb >= sc { 0.5 } else { 1.0 };
            // Towards its own speed, or the greatest in alarm.
            let own = with.cruise[0] + (with.cruise[1] - with.cruise[0]) * pace(key[i], with.seed);
            let wanted = own + (with.limits[1] - own) * alarm;
            let faster = ((wanted - speed) * with.per_cruise).clamp(-1.0, 1.0);
            let rules = [
                ax * separation + bx * alignment + cx * cohesion + hx * faster + wishes.way[0][i],
                ay * separation + by * alignment + cy * cohesion + hy * faster + wishes.way[1][i]
                    - hy * with.level,
                az * separation + bz * alignment + cz * cohesion + hz * faster + wishes.way[2][i],
            ];
            let [px, py, pz] = limited(rules, 1.0);
            let push = with.acceleration * with.dt;
            let wish = [
                (vx + px * push) * with.free[0],
                (vy + py * push) * with.free[1],
                (vz + pz * push) * with.free[2],
            ];
            let [mut wx, mut wy, mut wz] = wish;
            let length = (wx * wx + wy * wy + wz * wz).sqrt();
            let per_length = if length > 1e-12 { 1.0 / length } else { 0.0 };
            let [dx, dy, dz] = [wx * per_length, wy * per_length, wz * per_length];
            // The greatest turn: from the heading, in the plane of both directions.
            let cos = hx * dx + hy * dy + hz * dz;
            let [ex, ey, ez] = [dx - hx * cos, dy - hy * cos, dz - hz * cos];
            let side = (ex * ex + ey * ey + ez * ez).sqrt();
            let turns = cos < with.turn[0] && side > 1e-6 && speed > 1e-12;
            let across = if side > 1e-6 { with.turn[1] / side } else { 0.0 };
            let [tx, ty, tz] = [
                hx * with.turn[0] + ex * across,
                hy * with.turn[0] + ey * across,
                hz * with.turn[0] + ez * across,
            ];
            let goes = length.max(with.limits[0]).min(with.limits[1]);
            wx = if turns { tx } else { dx };
            wy = if turns { ty } else { dy };
            wz = if turns { tz } else { dz };
            // Noise turns it to any side.
            let [r0, r1, r2] = hash3(key[i], with.step, with.seed);
            let [mut nx, mut ny, mut nz] = [
                (unit(r0) * 2.0 - 1.0) * with.free[0],
                (unit(r1) * 2.0 - 1.0) * with.free[1],
                (unit(r2) * 2.0 - 1.0) * with.free[2],
            ];
            let along = nx * wx + ny * wy + nz * wz;
            nx -= wx * along;
            ny -= wy * along;
            nz -= wz * along;
            wx += nx * with.wander;
            wy += ny * with.wander;
            wz += nz * with.wander;
            let length = (wx * wx + wy * wy + wz * wz).sqrt();
            let scale = if length > 1e-12 { goes / length } else { 0.0 };
            let [mut ux, mut uy, mut uz] = [wx * scale, wy * scale, wz * scale];
            if speed <= 1e-12 && length <= 1e-12 {
                [ux, uy, uz] = [vx, vy, vz];
            }
            state.velocity[0][i] = ux;
            state.velocity[1][i] = uy;
            state.velocity[2][i] = uz;
            // Bank by the part of the acceleration that points aside.
            let flat = (hx * hx + hz * hz).sqrt();
            let per_flat = if flat > 1e-6 { 1.0 / flat } else { 0.0 };
            let aside = ((ux - vx) * hz - (uz - vz) * hx) * per_flat / with.dt;
            let lean = (-aside * with.bank).clamp(-1.3, 1.3);
            state.bank[i] += (lean - state.bank[i]) * with.bank_share;
            state.way[i] += goes * with.dt;
            let around = seen.alarm[i] * per;
            let passed = alarm + (around - alarm).max(0.0) * with.spread;
            state.alarm[i] = (passed * with.calm).max(wishes.alarm[i]).min(1.0);
        }
    }
}

/// Where an element is in the range of cruising speeds, 0 to 1.
#[inline(always)]
pub(super) fn pace(key: u32, seed: u32) -> f32 {
    let [_, _, draw] = hash3(key, seed, 0x5eed);
    unit(draw)
}

/// A vector with at most this length.
#[inline(always)]
pub(super) fn limited([x, y, z]: [f32; 3], most: f32) -> [f32; 3] {
    let square = x * x + y * y + z * z;
    let scale = if square > most * most { most / square.sqrt() } else { 1.0 };
    [x * scale, y * scale, z * scale]
}
