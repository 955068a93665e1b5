//! Curl noise: air that swirls and nowhere gathers or thins out.
//!
//! The velocity is the curl of a potential (Bridson et al., "Curl-Noise for Procedural Fluid Flow", 2007) that is a sum of a few plane
//! waves of random direction and phase (Kraichnan, "Diffusion by a Random Velocity Field", 1970). Each wave pushes square to the way it
//! runs, so that the divergence is zero by construction and not only up to a grid. No lattice, no hash and no branch in the loop.

use glam::Vec3;

use crate::noise::ROUND;
use crate::random::{hash3, unit};

/// Waves of a field.
pub(crate) const WAVES: usize = 8;

/// Curl noise at one moment.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Curl {
    /// Turns a metre along x, y and z.
    pub turns: [[f32; 3]; WAVES],
    /// Turns at the origin, 0 to 1.
    pub phase: [f32; WAVES],
    /// Velocity at a wave's crest, m/s; square to `turns`.
    pub crest: [[f32; 3]; WAVES],
}

impl Curl {
    /// The field at a time, s: root mean square of the velocity, m/s; distance over which it differs, m; how fast it changes where the
    /// air stands still, m/s; steady wind that carries it, m/s.
    pub(crate) fn new(strength: f32, size: f32, drift: f32, wind: [f32; 3], time: f64, seed: u32) -> Self {
        let mut curl = Self { turns: [[0.0; 3]; WAVES], phase: [0.0; WAVES], crest: [[0.0; 3]; WAVES] };
        let mut square = 0.0;
        for nth in 0..WAVES {
            let [a, b, c] = hash3(seed, nth as u32, 0).map(unit);
            let [d, e, _] = hash3(seed, nth as u32, 1).map(unit);
            // Directions even over the sphere: one in each of so many strips of equal height (Archimedes), turned at random.
            let height = (nth as f32 + a) / WAVES as f32 * 2.0 - 1.0;
            let (sin, cos) = libm::sincosf(std::f32::consts::TAU * b);
            let flat = (1.0 - height * height).max(0.0).sqrt();
            let way = Vec3::new(flat * cos, height, flat * sin);
            // From the size itself down to a third of it, the shorter the weaker, as in turbulence.
            let finer = 1.0 + 2.0 * ((nth * 5 % WAVES) as f32 + c) / WAVES as f32;
            let side = way.any_orthonormal_vector();
            let (sin, cos) = libm::sincosf(std::f32::consts::TAU * d);
            let weight = 1.0 / (finer * libm::sqrtf(finer));
            let push = (side * cos + way.cross(side) * sin) * weight;
            square += weight * weight * 0.5;
            let turns = way * (finer / (size * 2.0));
            let drifted = f64::from(drift) * f64::from(turns.length());
            let carried: f64 = (0..3).map(|axis| f64::from(wind[axis]) * f64::from(turns[axis])).sum();
            let phase = f64::from(e) + (drifted - carried) * time;
            curl.turns[nth] = turns.to_array();
            curl.phase[nth] = (phase - phase.floor()) as f32;
            curl.crest[nth] = push.to_array();
        }
        let scale = strength / square.sqrt();
        curl.crest.iter_mut().flatten().for_each(|value| *value *= scale);
        curl
    }

    /// Velocity at a point, m/s.
    #[inline(always)]
    pub(crate) fn at(&self, x: f32, y: f32, z: f32) -> [f32; 3] {
        let (mut vx, mut vy, mut vz) = (0.0, 0.0, 0.0);
        for nth in 0..WAVES {
            let [kx, ky, kz] = self.turns[nth];
            let [cx, cy, cz] = self.crest[nth];
            let wave = sine(x * kx + y * ky + z * kz + self.phase[nth]);
            vx += cx * wave;
            vy += cy * wave;
            vz += cz * wave;
        }
        [vx, vy, vz]
    }
}

/// Sine of so many turns, to within 0.002; smooth. Two parabolas, then one correction.
#[inline(always)]
fn sine(turns: f32) -> f32 {
    let t = turns - ((turns + ROUND) - ROUND);
    let parabola = t * (8.0 - 16.0 * t.abs());
    parabola * (0.775 + 0.225 * parabola.abs())
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn the_short_sine_is_a_sine(turns in -1000f32..1000.0) {
            let want = libm::sin(f64::from(turns) * std::f64::consts::TAU) as f32;
            prop_assert!((sine(turns) - want).abs() < 2.5e-3, "{} for {}", sine(turns), want);
        }

        /// Each wave pushes square to the way it runs.
        #[test]
        fn waves_are_square(seed in any::<u32>(), size in 0.01f32..100.0) {
            let curl = Curl::new(1.0, size, 0.3, [1.0, 0.0, 2.0], 7.0, seed);
            for (turns, crest) in curl.turns.iter().zip(curl.crest) {
                let (turns, crest) = (Vec3::from(*turns), Vec3::from(crest));
                prop_assert!(turns.dot(crest).abs() < 1e-5 * turns.length() * crest.length().max(1e-6));
            }
        }
    }
}
