//! Smooth noise over a plane, for ground and waves: values on a lattice that repeats, tabulated once in a program.
//!
//! Value noise (Perlin, "Improving Noise", 2002, for its curve), on a square of [`SIDE`] cells. Each entry holds all that a cell needs in
//! four bytes, so that a point costs one load. Rounding its corners is not seen: they are random, and what is between them is smooth.

use std::sync::OnceLock;

use fearless_simd::prelude::*;
use fearless_simd::{f32x8, i32x8, u32x8};
use frolic_core::random::hash3;
use frolic_simd::Simd;

/// Cells along each side, after which the noise repeats. A power of two.
const SIDE: usize = 128;

/// Cells of the square.
const CELLS: usize = SIDE * SIDE;

/// Steps of a corner on either side of 0: differences of four corners fit a byte.
const STEPS: i32 = 31;

/// From these steps to -1..1.
const UNIT: f32 = 1.0 / STEPS as f32;

/// Adding this rounds a float of magnitude below 2^22 to a whole number, held in its low bits.
pub(super) const ROUND: f32 = 12_582_912.0;

/// As far out as floats tell places within a cell apart.
const FAR: f32 = 4_000_000.0;

/// Two noises over a plane.
#[derive(Debug)]
pub(super) struct Lattice {
    /// For each cell, row by row, either noise as bytes from the lowest on: the cell's own corner, the slope to the right, the slope down, and the product's.
    cells: Box<[[u32; 2]; CELLS]>,
}

impl Lattice {
    /// The noise of this program.
    pub(super) fn shared() -> &'static Self {
        static SHARED: OnceLock<Lattice> = OnceLock::new();
        SHARED.get_or_init(|| {
            let corner = |x: usize, z: usize| {
                let bits = hash3((x % SIDE) as u32, 3, (z % SIDE) as u32);
                [bits[0], bits[2]]
                    .map(|bits| ((i64::from(bits) * i64::from(2 * STEPS + 1)) >> 32) as i32 - STEPS)
            };
            let mut cells = Box::new([[0; 2]; CELLS]);
            for (nth, cell) in cells.iter_mut().enumerate() {
                let (x, z) = (nth % SIDE, nth / SIDE);
                let corners = [corner(x, z), corner(x + 1, z), corner(x, z + 1), corner(x + 1, z + 1)];
                for (noise, into) in cell.iter_mut().enumerate() {
                    let [a, b, c, d] = corners.map(|corner| corner[noise]);
                    *into = u32::from_le_bytes([a, b - a, c - a, a - b - c + d].map(|it| it as i8 as u8));
                }
            }
            Self { cells }
        })
    }

    /// Both noises at a point, -1 to 1.
    pub(super) fn at(&self, x: f32, z: f32) -> [f32; 2] {
        let ((ix, fx), (iz, fz)) = (cell(x), cell(z));
        self.cells[(iz as usize % SIDE) * SIDE + ix as usize % SIDE].map(|corners| {
            let [a, b, c, d] = corners.to_le_bytes().map(|byte| f32::from(byte as i8));
            // Rounding may go a little beyond.
            ((a + b * fx + (c + d * fx) * fz) * UNIT).clamp(-1.0, 1.0)
        })
    }

    /// [`Lattice::at`] of lanes, to the bit.
    #[inline(always)]
    pub(super) fn lanes<S: Simd>(&self, simd: S, x: f32x8<S>, z: f32x8<S>) -> [f32x8<S>; 2] {
        let ((ix, fx), (iz, fz)) = (cell_of_lanes(simd, x), cell_of_lanes(simd, z));
        let [first, second] = self.corners(simd, ix, iz);
        [mix(simd, first, fx, fz), mix(simd, second, fx, fz)]
    }

    /// The first of [`Lattice::lanes`].
    #[inline(always)]
    pub(super) fn first_of_lanes<S: Simd>(&self, simd: S, x: f32x8<S>, z: f32x8<S>) -> f32x8<S> {
        let ((ix, fx), (iz, fz)) = (cell_of_lanes(simd, x), cell_of_lanes(simd, z));
        mix(simd, self.corners(simd, ix, iz)[0], fx, fz)
    }

    #[inline(always)]
    fn corners<S: Simd>(&self, simd: S, ix: u32x8<S>, iz: u32x8<S>) -> [u32x8<S>; 2] {
        let mask = SIDE as u32 - 1;
        let at = ((iz & mask) * SIDE as u32 + (ix & mask)).to_array();
        let (mut first, mut second) = ([0; 8], [0; 8]);
        for lane in 0..8 {
            [first[lane], second[lane]] = self.cells[at[lane] as usize % CELLS];
        }
        [u32x8::load_array(simd, first), u32x8::load_array(simd, second)]
    }
}

/// The noise within cells.
#[inline(always)]
fn mix<S: Simd>(simd: S, corners: u32x8<S>, fx: f32x8<S>, fz: f32x8<S>) -> f32x8<S> {
    let corners: i32x8<S> = corners.bitcast();
    let (a, b) =
        (((corners << 24) >> 24).to_float::<f32x8<S>>(), ((corners << 16) >> 24).to_float::<f32x8<S>>());
    let (c, d) = (((corners << 8) >> 24).to_float::<f32x8<S>>(), (corners >> 24).to_float::<f32x8<S>>());
    let one = f32x8::splat(simd, 1.0);
    ((a + b * fx + (c + d * fx) * fz) * UNIT).min(one).max(one * -1.0)
}

/// The cell of a place along an axis, and how far it is through the cell, eased.
fn cell(x: f32) -> (u32, f32) {
    let x = x.clamp(-FAR, FAR);
    let shifted = (x - 0.5) + ROUND;
    let f = x - (shifted - ROUND);
    (shifted.to_bits().wrapping_sub(ROUND.to_bits()), f * f * f * (f * (f * 6.0 - 15.0) + 10.0))
}

#[inline(always)]
pub(super) fn cell_of_lanes<S: Simd>(simd: S, x: f32x8<S>) -> (u32x8<S>, f32x8<S>) {
    let far = f32x8::splat(simd, FAR);
    let x = x.min(far).max(far * -1.0);
    let shifted = (x - 0.5) + ROUND;
    let f = x - (shifted - ROUND);
    (whole(simd, shifted), f * f * f * (f * (f * 6.0 - 15.0) + 10.0))
}

/// The whole number in a float that [`ROUND`] was added to.
#[inline(always)]
pub(super) fn whole<S: Simd>(simd: S, shifted: f32x8<S>) -> u32x8<S> {
    shifted.bitcast::<u32x8<S>>() - u32x8::splat(simd, ROUND.to_bits())
}

/// One octave of the mottling of ground.
#[derive(Debug, Clone, Copy)]
pub(super) struct Octave {
    /// Cells in a metre.
    pub(super) scale: f32,
    pub(super) weight: f32,
}

/// Octaves of the ground's mottling: patches, tufts, and blades, coarse ones first. Every one is turned against the one before, so that their lattices do
/// not show.
pub(super) const MOTTLING: [Octave; 5] = [
    Octave { scale: 0.6, weight: 0.46 },
    Octave { scale: 1.4, weight: 0.26 },
    Octave { scale: 4.7, weight: 0.38 },
    Octave { scale: 12.3, weight: 0.24 },
    Octave { scale: 41.0, weight: 0.46 },
];

/// Roughness of the shore, as a share of its radius.
pub(super) const SHORE_ROUGH: f32 = 0.015;

/// Octaves of the shore's roughness, up to about 1.
pub(super) const SHORE: [Octave; 3] = [
    Octave { scale: 0.35, weight: 0.5 },
    Octave { scale: 0.71, weight: 0.25 },
    Octave { scale: 1.442, weight: 0.125 },
];

/// Octaves of the waves' slopes, of which crests are half as far apart along z as along x.
pub(super) const RIPPLES: [Octave; 3] = [
    Octave { scale: 0.13, weight: 1.0 },
    Octave { scale: 0.6, weight: 0.7 },
    Octave { scale: 2.1, weight: 0.5 },
];

impl Octave {
    /// Where a point lies on the lattice of the octave with this number.
    #[inline(always)]
    fn place<N>(&self, nth: usize, x: N, z: N) -> (N, N)
    where
        N: Copy
            + std::ops::Mul<f32, Output = N>
            + std::ops::Add<f32, Output = N>
            + std::ops::Add<N, Output = N>,
    {
        let (away, [cos, sin]) = (17.1 * nth as f32, TURNS[nth % TURNS.len()]);
        let (cos, sin) = (cos * self.scale, sin * self.scale);
        (x * cos + (z * -sin + away), x * sin + (z * cos + away))
    }
}

/// Cosine and sine of the angle that the lattice of each octave is turned by: 23, 62, 101, 140 and 179 degrees, so that no two are alike.
const TURNS: [[f32; 2]; 5] = [
    [0.920_505, 0.390_731],
    [0.469_472, 0.882_948],
    [-0.190_809, 0.981_627],
    [-0.766_044, 0.642_788],
    [-0.999_848, 0.017_452],
];

/// Sum of octaves at a point, each as far as its cells are larger than `size`.
pub(super) fn sum(octaves: &[Octave], x: f32, z: f32, size: f32) -> f32 {
    let mut sum = 0.0;
    for (nth, octave) in octaves.iter().enumerate() {
        let (u, v) = octave.place(nth, x, z);
        let fade = (1.0 - size * octave.scale).max(0.0) * octave.weight;
        sum += Lattice::shared().at(u, v)[0] * fade;
    }
    sum
}

/// [`sum`] of lanes, from the octave numbered `first` up to `last`.
#[inline(always)]
pub(super) fn sum_of_lanes<S: Simd>(
    simd: S,
    lattice: &Lattice,
    (octaves, first, last): (&[Octave], usize, usize),
    x: f32x8<S>,
    z: f32x8<S>,
    size: f32x8<S>,
) -> f32x8<S> {
    let finest = size.reduce_min();
    let one = f32x8::splat(simd, 1.0);
    let mut sum = f32x8::splat(simd, 0.0);
    for nth in first..last {
        let octave = octaves[nth];
        if finest * octave.scale >= 1.0 {
            break;
        }
        let (u, v) = octave.place(nth, x, z);
        let fade = (one - size * octave.scale).max(one * 0.0) * octave.weight;
        sum += lattice.first_of_lanes(simd, u, v) * fade;
    }
    sum
}

/// How many of these octaves, coarse ones first, are as good as straight over a step of this length.
#[inline(always)]
pub(super) fn straight(octaves: &[Octave], step: f32) -> usize {
    octaves.iter().take_while(|octave| octave.scale * step <= STRAIGHT).count()
}

/// Share of a cell over which noise is as good as straight.
const STRAIGHT: f32 = 0.2;

#[cfg(test)]
mod tests {
    use frolic_simd::kernel;
    use proptest::prelude::*;

    use super::*;

    kernel! {
        fn both(simd, x: &[f32; 8], z: &[f32; 8], into: &mut [[f32; 8]; 2]) {
            let found = Lattice::shared().lanes(simd, f32x8::load_array(simd, *x), f32x8::load_array(simd, *z));
            *into = [found[0].to_array(), found[1].to_array()];
        }
    }

    proptest! {
        /// Lanes are single points, to the bit, on every instruction set; far away and beyond too.
        #[test]
        fn lanes_are_points(
            x in prop::array::uniform8(-300f32..300.0), z in prop::array::uniform8(-300f32..300.0), far in prop::sample::select(&[1.0, 1e3, 1e9][..]),
        ) {
            let x = x.map(|x| x * far);
            for level in frolic_simd::levels() {
                let mut found = [[0.0; 8]; 2];
                both(level, &x, &z, &mut found);
                for lane in 0..8 {
                    let expected = Lattice::shared().at(x[lane], z[lane]);
                    prop_assert_eq!([found[0][lane], found[1][lane]], expected);
                    prop_assert!(expected.iter().all(|value| value.abs() <= 1.0));
                }
            }
        }

        /// It has no steps, not even where it repeats, and repeats nowhere else.
        #[test]
        fn noise_is_smooth(x in -200f32..200.0, z in -200f32..200.0) {
            let lattice = Lattice::shared();
            let [here, beside] = [lattice.at(x, z), lattice.at(x + 1e-3, z - 1e-3)];
            for noise in 0..2 {
                prop_assert!((here[noise] - beside[noise]).abs() < 0.01);
            }
            let again = lattice.at(x + SIDE as f32, z);
            prop_assert!((here[0] - again[0]).abs() < 0.01);
        }
    }

    /// Both noises are centred, spread and unlike each other.
    #[test]
    fn noises_are_even() {
        let values: Vec<[f32; 2]> =
            (0..CELLS).map(|nth| Lattice::shared().at((nth % SIDE) as f32, (nth / SIDE) as f32)).collect();
        let mean = |of: &dyn Fn(&[f32; 2]) -> f32| values.iter().map(of).sum::<f32>() / CELLS as f32;
        for noise in 0..2 {
            assert!(mean(&|it| it[noise]).abs() < 0.02);
            assert!((mean(&|it| it[noise] * it[noise]) - 1.0 / 3.0).abs() < 0.02);
        }
        assert!(mean(&|it| it[0] * it[1]).abs() < 0.02);
        let half = SIDE / 2;
        let shifted = |nth: usize| values[(nth + half) % CELLS][0];
        assert!(
            (0..CELLS).map(|nth| values[nth][0] * shifted(nth)).sum::<f32>().abs() / (CELLS as f32) < 0.02
        );
    }
}
