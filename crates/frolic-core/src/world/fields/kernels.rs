//! Kernels of fields, a chunk of elements at a time.

use crate::assets::DistanceGrid;
use crate::foundations::simd::{Simd, kernel};
use crate::world::curl::Curl;
use glam::Vec3;

use super::FieldChunk;
use super::spec::{AttractorSpec, Falloff, FieldSpec, ShapeFieldSpec, VortexSpec};

/// Factor of a field over the distance from its centre: 1 there, 0 at its reach, with no slope at either.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Fade {
    pub(crate) middle: [f32; 3],
    /// 0 if it reaches everywhere.
    pub(crate) per_square: f32,
}

impl Fade {
    pub(crate) fn new(spec: &FieldSpec) -> Self {
        Self { middle: spec.position, per_square: spec.reach.map_or(0.0, |reach| 1.0 / (reach * reach)) }
    }

    #[inline(always)]
    pub(crate) fn at(self, x: f32, y: f32, z: f32) -> f32 {
        let (dx, dy, dz) = (x - self.middle[0], y - self.middle[1], z - self.middle[2]);
        let left = (1.0 - (dx * dx + dy * dy + dz * dz) * self.per_square).max(0.0);
        left * left
    }
}

kernel! {
    /// Adds a steady push or wind at places.
    pub(super) fn add_steady(
        simd, fade: Fade, what: [f32; 3], px: &[f32], py: &[f32], pz: &[f32], x: &mut [f32], y: &mut [f32], z: &mut [f32],
    ) {
        steady(simd, fade, what, px, py, pz, x, y, z);
    }

    /// Adds the pull of an attractor at places.
    pub(super) fn add_attractor(
        simd, fade: Fade, spec: &AttractorSpec, px: &[f32], py: &[f32], pz: &[f32], x: &mut [f32], y: &mut [f32], z: &mut [f32],
    ) {
        attract(simd, fade, spec, px, py, pz, x, y, z);
    }

    /// Adds the air of a vortex at places.
    pub(super) fn add_vortex(
        simd, fade: Fade, spec: &VortexSpec, px: &[f32], py: &[f32], pz: &[f32], x: &mut [f32], y: &mut [f32], z: &mut [f32],
    ) {
        turn(simd, fade, spec, px, py, pz, x, y, z);
    }

    /// Adds curl noise that is as strong everywhere.
    pub(super) fn add_curl(
        simd, fade: Fade, curl: &Curl, px: &[f32], py: &[f32], pz: &[f32], x: &mut [f32], y: &mut [f32], z: &mut [f32],
    ) {
        swirl::<_, false>(simd, fade, curl, px, py, pz, x, y, z);
    }

    /// Adds curl noise that fades with distance.
    pub(super) fn add_fading_curl(
        simd, fade: Fade, curl: &Curl, px: &[f32], py: &[f32], pz: &[f32], x: &mut [f32], y: &mut [f32], z: &mut [f32],
    ) {
        swirl::<_, true>(simd, fade, curl, px, py, pz, x, y, z);
    }
}

#[expect(
    clippy::too_many_arguments,
    reason = "plain slices, so that the compiler knows that they do not overlap"
)]
#[inline(always)]
fn steady<S: Simd>(
    _simd: S,
    fade: Fade,
    what: [f32; 3],
    px: &[f32],
    py: &[f32],
    pz: &[f32],
    x: &mut [f32],
    y: &mut [f32],
    z: &mut [f32],
) {
    let n = px.len();
    let (py, pz, x, y, z) = (&py[..n], &pz[..n], &mut x[..n], &mut y[..n], &mut z[..n]);
    for i in 0..n {
        let share = fade.at(px[i], py[i], pz[i]);
        x[i] += what[0] * share;
        y[i] += what[1] * share;
        z[i] += what[2] * share;
    }
}

#[expect(
    clippy::too_many_arguments,
    reason = "plain slices, so that the compiler knows that they do not overlap"
)]
#[inline(always)]
fn attract<S: Simd>(
    _simd: S,
    fade: Fade,
    spec: &AttractorSpec,
    px: &[f32],
    py: &[f32],
    pz: &[f32],
    x: &mut [f32],
    y: &mut [f32],
    z: &mut [f32],
) {
    let n = px.len();
    let (py, pz, x, y, z) = (&py[..n], &pz[..n], &mut x[..n], &mut y[..n], &mut z[..n]);
    let AttractorSpec { strength, radius, falloff } = *spec;
    let [mx, my, mz] = fade.middle;
    for i in 0..n {
        let (dx, dy, dz) = (mx - px[i], my - py[i], mz - pz[i]);
        let r2 = dx * dx + dy * dy + dz * dz + radius * radius;
        let pull = match falloff {
            Falloff::Square => strength / (r2 * r2.sqrt()),
            Falloff::Linear => strength / r2,
            Falloff::None => strength / r2.sqrt(),
            Falloff::Spring => strength,
        };
        let pull = pull * fade.at(px[i], py[i], pz[i]);
        x[i] += dx * pull;
        y[i] += dy * pull;
        z[i] += dz * pull;
    }
}

#[expect(
    clippy::too_many_arguments,
    reason = "plain slices, so that the compiler knows that they do not overlap"
)]
#[inline(always)]
fn turn<S: Simd>(
    _simd: S,
    fade: Fade,
    spec: &VortexSpec,
    px: &[f32],
    py: &[f32],
    pz: &[f32],
    x: &mut [f32],
    y: &mut [f32],
    z: &mut [f32],
) {
    let n = px.len();
    let (py, pz, x, y, z) = (&py[..n], &pz[..n], &mut x[..n], &mut y[..n], &mut z[..n]);
    let [ax, ay, az] = Vec3::from(spec.axis).normalize_or(Vec3::Y).to_array();
    let [mx, my, mz] = fade.middle;
    let per_square = 1.0 / (spec.radius * spec.radius);
    let [round, inward] = spec.rates();
    for i in 0..n {
        let (dx, dy, dz) = (px[i] - mx, py[i] - my, pz[i] - mz);
        let along = dx * ax + dy * ay + dz * az;
        let (ox, oy, oz) = (dx - ax * along, dy - ay * along, dz - az * along);
        let share = fade.at(px[i], py[i], pz[i]);
        let near = share / (1.0 + (ox * ox + oy * oy + oz * oz) * per_square);
        let (swirl, draw, lift) = (round * near, inward * near, spec.along * near);
        x[i] += (ay * oz - az * oy) * swirl - ox * draw + ax * lift;
        y[i] += (az * ox - ax * oz) * swirl - oy * draw + ay * lift;
        z[i] += (ax * oy - ay * ox) * swirl - oz * draw + az * lift;
    }
}

#[expect(
    clippy::too_many_arguments,
    reason = "plain slices, so that the compiler knows that they do not overlap"
)]
#[inline(always)]
fn swirl<S: Simd, const FADES: bool>(
    _simd: S,
    fade: Fade,
    curl: &Curl,
    px: &[f32],
    py: &[f32],
    pz: &[f32],
    x: &mut [f32],
    y: &mut [f32],
    z: &mut [f32],
) {
    // By value: the compiler then knows that no store changes the constants.
    let curl = *curl;
    let n = px.len();
    let (py, pz, x, y, z) = (&py[..n], &pz[..n], &mut x[..n], &mut y[..n], &mut z[..n]);
    for i in 0..n {
        let share = if FADES { fade.at(px[i], py[i], pz[i]) } else { 1.0 };
        let [a, b, c] = curl.at(px[i], py[i], pz[i]);
        x[i] += a * share;
        y[i] += b * share;
        z[i] += c * share;
    }
}

/// Reads of a grid do not vectorise, so this loop is plain.
pub(super) fn draw_to(fade: Fade, spec: &ShapeFieldSpec, grid: &DistanceGrid, chunk: &mut FieldChunk<'_>) {
    // Damping is implicit, so that it is stable at any step.
    let damp = spec.damp / (1.0 + spec.damp * chunk.dt);
    for i in 0..chunk.len() {
        let place = Vec3::new(chunk.position[0][i], chunk.position[1][i], chunk.position[2][i]);
        let velocity = Vec3::new(chunk.velocity[0][i], chunk.velocity[1][i], chunk.velocity[2][i]);
        let (distance, gradient) = grid.sample(place);
        let normal = gradient.normalize_or_zero();
        let share = fade.at(place.x, place.y, place.z);
        let off = distance.clamp(-spec.most, spec.most);
        let push = -normal * ((spec.pull * off + damp * velocity.dot(normal)) * share);
        chunk.push[0][i] += push.x;
        chunk.push[1][i] += push.y;
        chunk.push[2][i] += push.z;
    }
}
