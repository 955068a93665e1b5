//! Curl noise: a divergence-free current of air.
//!
//! The velocity is the curl of a potential (Bridson et al., "Curl-Noise for Procedural Fluid Flow", 2007) that is a sum of a few plane
//! waves of random direction and phase (Kraichnan, "Diffusion by a Random Velocity Field", 1970). The velocity of each wave is perpendicular to its
//! direction, so that the divergence is zero by construction, whatever the form of the wave. A wave is two parabolas a turn: as smooth to the eye as a
//! sine, at half the cost. The loop has no lattice, no hash and no branch.

use glam::Vec3;
use serde::{Deserialize, Serialize};

use crate::foundations::noise::ROUND;
use crate::foundations::random::{hash3, unit};
use crate::world::carried::Carried;
use crate::world::fields::spec::CurlSpec;

/// Number of waves of a field.
pub(crate) const WAVES: usize = 8;

/// Factor on [`wave`] for a crest of 1.
const PER_CREST: f32 = 16.0;

/// Mean square of a wave with a crest of 1.
const MEAN_SQUARE: f32 = 8.0 / 15.0;

/// Phases that a changed field goes on from, so that it does not jump.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub(crate) struct CurlPhases {
    /// Time of the change, in seconds: its drift counts from there.
    since: f64,
    /// Turns of each wave besides those of the spec.
    added: [f64; WAVES],
}

/// Curl noise at one moment.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Curl {
    /// Turns for each metre along x, y and z.
    pub turns: [[f32; 3]; WAVES],
    /// Phase at the origin, in turns, 0 to 1.
    pub phase: [f32; WAVES],
    /// Velocity at the crest of a wave, in m/s, times [`PER_CREST`]; perpendicular to `turns`.
    pub push: [[f32; 3]; WAVES],
}

impl Curl {
    /// The field of a spec at a moment of the wind.
    pub(crate) fn new(spec: &CurlSpec, wind: &Carried, phases: Option<&CurlPhases>, seed: u32) -> Self {
        let mut turned = Self::turned(spec, wind, phases, seed);
        turned.0.phase = turned.1.map(|phase| (phase - phase.floor()) as f32);
        turned.0
    }

    /// The phases of a changed spec that go on from those of the spec before.
    pub(crate) fn going_on(
        before: (&CurlSpec, Option<&CurlPhases>),
        spec: &CurlSpec,
        wind: &Carried,
        seed: u32,
    ) -> CurlPhases {
        let (_, were) = Self::turned(before.0, wind, before.1, seed);
        let start = CurlPhases { since: wind.time, added: [0.0; WAVES] };
        let (_, are) = Self::turned(spec, wind, Some(&start), seed);
        CurlPhases { added: std::array::from_fn(|nth| were[nth] - are[nth]), ..start }
    }

    /// The field without its phases, and these, in turns since the start.
    fn turned(
        spec: &CurlSpec,
        wind: &Carried,
        phases: Option<&CurlPhases>,
        seed: u32,
    ) -> (Self, [f64; WAVES]) {
        let CurlSpec { strength, size, drift } = *spec;
        let mut all = [0.0; WAVES];
        let mut curl = Self { turns: [[0.0; 3]; WAVES], phase: [0.0; WAVES], push: [[0.0; 3]; WAVES] };
        let mut square = 0.0;
        for nth in 0..WAVES {
            let [a, b, c] = hash3(seed, nth as u32, 0).map(unit);
            let [d, e, _] = hash3(seed, nth as u32, 1).map(unit);
            // Directions uniform over the sphere: one in each strip of equal height (Archimedes), at a random turn.
            let height = (nth as f32 + a) / WAVES as f32 * 2.0 - 1.0;
            let (sin, cos) = libm::sincosf(std::f32::consts::TAU * b);
            let flat = (1.0 - height * height).max(0.0).sqrt();
            let way = Vec3::new(flat * cos, height, flat * sin);
            // From the size down to a third of it, shorter waves weaker, as in turbulence.
            let finer = 1.0 + 2.0 * ((nth * 5 % WAVES) as f32 + c) / WAVES as f32;
            let side = way.any_orthonormal_vector();
            let (sin, cos) = libm::sincosf(std::f32::consts::TAU * d);
            let weight = 1.0 / (finer * libm::sqrtf(finer));
            let push = (side * cos + way.cross(side) * sin) * weight;
            square += weight * weight * MEAN_SQUARE;
            let turns = way * (finer / (size * 2.0));
            let drifted = f64::from(drift) * f64::from(turns.length());
            let along = |way: [f64; 3]| (0..3).map(|axis| way[axis] * f64::from(turns[axis])).sum::<f64>();
            all[nth] = f64::from(e)
                + match (phases, wind.is_steady()) {
                    (None, true) => (drifted - along(wind.wind.map(f64::from))) * wind.time,
                    _ => {
                        let (since, added) = phases.map_or((0.0, 0.0), |it| (it.since, it.added[nth]));
                        added + drifted * (wind.time - since) - along(wind.metres())
                    }
                };
            curl.turns[nth] = turns.to_array();
            curl.push[nth] = push.to_array();
        }
        let scale = PER_CREST * strength / square.sqrt();
        curl.push.iter_mut().flatten().for_each(|value| *value *= scale);
        (curl, all)
    }

    /// Upper bound of the speed, in m/s.
    pub(crate) fn most(&self) -> f32 {
        self.push.iter().map(|push| Vec3::from(*push).length()).sum::<f32>() / PER_CREST
    }

    /// Velocity at a point, in m/s.
    #[inline(always)]
    pub(crate) fn at(&self, x: f32, y: f32, z: f32) -> [f32; 3] {
        let (mut vx, mut vy, mut vz) = (0.0, 0.0, 0.0);
        for nth in 0..WAVES {
            let [kx, ky, kz] = self.turns[nth];
            let [cx, cy, cz] = self.push[nth];
            let wave = wave(x * kx + y * ky + z * kz + self.phase[nth]);
            vx += cx * wave;
            vy += cy * wave;
            vz += cz * wave;
        }
        [vx, vy, vz]
    }
}

/// A wave at a phase in turns, as a sixteenth of its crest: a parabola up, then a parabola down, with a continuous slope.
#[inline(always)]
fn wave(turns: f32) -> f32 {
    let t = turns - ((turns + ROUND) - ROUND);
    t * (0.5 - t.abs())
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn a_wave_has_its_mean_square_and_no_edge() {
        let at = |nth: i32| PER_CREST * wave(nth as f32 / 4096.0);
        let square: f32 = (0..4096).map(|nth| at(nth) * at(nth)).sum::<f32>() / 4096.0;
        assert!((square - MEAN_SQUARE).abs() < 1e-3, "{square}");
        assert!((at(1024) - 1.0).abs() < 1e-6 && (at(3072) + 1.0).abs() < 1e-6);
        // The slope changes no more from one place to the next than the parabola bends.
        for nth in -8000..8000 {
            let bend = at(nth + 1) - 2.0 * at(nth) + at(nth - 1);
            assert!(bend.abs() < 2.1 * PER_CREST / (4096.0 * 4096.0) + 4e-6, "{bend} at {nth}");
        }
    }

    proptest! {
        /// Each wave pushes square to the way it runs.
        #[test]
        fn waves_are_square(seed in any::<u32>(), size in 0.01f32..100.0) {
            let spec = CurlSpec { strength: 1.0, size, drift: 0.3 };
            let curl = Curl::new(&spec, &Carried::steady([1.0, 0.0, 2.0], 7.0), None, seed);
            for (turns, push) in curl.turns.iter().zip(curl.push) {
                let (turns, push) = (Vec3::from(*turns), Vec3::from(push));
                prop_assert!(turns.dot(push).abs() < 1e-5 * turns.length() * push.length().max(1e-6));
            }
        }
    }
}
