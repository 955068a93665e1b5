//! Gusts: noise that the wind carries.

use crate::foundations::noise::{PLACES, gust_noise, gust_noises};
use crate::foundations::simd::{Simd, kernel};
use glam::Vec3;

/// Gusts at one moment.
#[derive(Debug, Clone, Copy)]
#[non_exhaustive]
pub struct Gusts {
    /// Offset of the noise, in its cells.
    pub origin: [f32; 3],
    /// Cells a metre.
    pub per_metre: f32,
    /// Strength, in m/s.
    pub strength: f32,
    /// Velocity added for each unit of the second value of the noise, in m/s.
    pub along: [f32; 3],
    /// Velocity added everywhere, in m/s.
    pub base: [f32; 3],
}

/// Rotates a point so that the diagonal of the cells of the noise is vertical: on level ground no squares show.
#[inline(always)]
fn on_edge([x, y, z]: [f32; 3]) -> [f32; 3] {
    let (level, up) = (x + z, y * ON_EDGE[1]);
    let aside = level * ON_EDGE[0] + up;
    [x + aside, up - level * ON_EDGE[1], z + aside]
}

/// 1/√12 - 1/2, and 1/√3.
pub const ON_EDGE: [f32; 2] = [-0.211_324_87, 0.577_350_3];

/// Separates the noise of gusts from all other uses of the hash.
pub const GUST_SEED: u32 = 0x5715_7a11;

kernel! {
    /// Adds gusts to the air at positions. Fastest if neighbours in space are neighbours in the columns.
    pub(crate) fn add_gusts(simd, gusts: &Gusts, position: [&[f32]; 3], air: [&mut [f32]; 3]) {
        gusts.add(simd, position, air);
    }
}

impl Gusts {
    /// Upper bound of the added speed, in m/s.
    pub(crate) fn most(&self) -> f32 {
        self.strength * 2.0 + Vec3::from(self.along).length() + Vec3::from(self.base).length()
    }

    #[inline(always)]
    fn add<S: Simd>(&self, simd: S, position: [&[f32]; 3], air: [&mut [f32]; 3]) {
        let gusts = *self;
        let n = position[0].len();
        let [ax, ay, az] = air;
        let mut places = [[0.0; PLACES]; 3];
        let mut noise = [[0.0; 4]; PLACES];
        for from in (0..n).step_by(PLACES) {
            let to = n.min(from + PLACES);
            let count = to - from;
            let [px, py, pz] = position;
            let (px, py, pz) = (&px[from..to], &py[from..to], &pz[from..to]);
            let [x, y, z] = &mut places;
            let (x, y, z) = (&mut x[..count], &mut y[..count], &mut z[..count]);
            for i in 0..count {
                [x[i], y[i], z[i]] = gusts.place([px[i], py[i], pz[i]]);
            }
            gust_noises(simd, &mut places, count, GUST_SEED, &mut noise);
            let (ax, ay, az) = (&mut ax[from..to], &mut ay[from..to], &mut az[from..to]);
            let noise = &noise[..count];
            for i in 0..count {
                let [a, b, c, _] = noise[i];
                let [a, b, c] = gusts.speed([a, b, c]);
                ax[i] += a;
                ay[i] += b;
                az[i] += c;
            }
        }
    }

    /// Velocity added to the steady wind at a point, in m/s.
    #[inline(always)]
    pub(crate) fn at(&self, point: [f32; 3]) -> [f32; 3] {
        self.speed(gust_noise(self.place(point), GUST_SEED))
    }

    /// Position of a point in the noise.
    #[inline(always)]
    fn place(&self, [x, y, z]: [f32; 3]) -> [f32; 3] {
        let [ox, oy, oz] = self.origin;
        on_edge([x * self.per_metre - ox, y * self.per_metre - oy, z * self.per_metre - oz])
    }

    /// Velocity for the values of the noise, in m/s.
    #[inline(always)]
    fn speed(&self, [a, b, c]: [f32; 3]) -> [f32; 3] {
        let ([u, v, w], [p, q, r]) = (self.along, self.base);
        [a * self.strength + b * u + p, b * self.strength + b * v + q, c * self.strength + b * w + r]
    }
}
