//! Counter-based random numbers: a hash of (seed, element id, draw number).
//!
//! Numbers have no state: they are the same on any thread, in any order and on any backend. The hash uses 32-bit integer arithmetic only,
//! which every shading language has.

/// Three well-mixed 32-bit numbers from three: `pcg3d` of Jarzynski and Olano, "Hash Functions for GPU Rendering"
/// (2020). Six multiplications.
///
/// ```
/// use frolic_core::random::hash3;
/// assert_eq!(hash3(1, 2, 3), hash3(1, 2, 3));
/// assert_ne!(hash3(1, 2, 3), hash3(1, 3, 2));
/// ```
#[inline(always)]
pub fn hash3(x: u32, y: u32, z: u32) -> [u32; 3] {
    // Written out, because a closure that is not inlined prevents vectorising.
    let mut x = x.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
    let mut y = y.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
    let mut z = z.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
    x = x.wrapping_add(y.wrapping_mul(z));
    y = y.wrapping_add(z.wrapping_mul(x));
    z = z.wrapping_add(x.wrapping_mul(y));
    x ^= x >> 16;
    y ^= y >> 16;
    z ^= z >> 16;
    x = x.wrapping_add(y.wrapping_mul(z));
    y = y.wrapping_add(z.wrapping_mul(x));
    z = z.wrapping_add(x.wrapping_mul(y));
    [x, y, z]
}

/// A float in `0.0..1.0` from the 24 upper bits.
#[inline(always)]
pub fn unit(bits: u32) -> f32 {
    // Through i32: that conversion is one vector instruction; the unsigned one is not.
    (bits >> 8) as i32 as f32 * (1.0 / 16_777_216.0)
}

/// The random numbers of one element: draw number `n` always gives the same three.
#[derive(Debug, Clone, Copy)]
pub struct Draws {
    /// Seed of the population.
    pub seed: u32,
    /// Number of the element.
    pub id: u32,
}

impl Draws {
    /// Three floats in `0.0..1.0`.
    #[inline(always)]
    pub fn draw(self, n: u32) -> [f32; 3] {
        hash3(self.seed, self.id, n).map(unit)
    }
}

/// Two random numbers, 0..1, of an element: by the first it is left out where fewer are drawn; the second is its tint.
#[inline(always)]
pub fn pair(id: u32) -> [f32; 2] {
    let [a, b, _] = hash3(id, 0x51ab_77d3, 0x0bad_5eed);
    [unit(a), unit(b)]
}

/// Share of the range of the first number over which an element fades out where fewer are drawn, so that none pops.
pub const FADE: f32 = 0.15;

#[cfg(test)]
mod tests {
    use super::*;

    /// Chi-square over 64 bins of 64 000 draws stays within five standard deviations of its mean, for each output
    /// and along each of the three inputs.
    #[test]
    fn draws_are_even_along_every_input() {
        let along: [fn(u32) -> [u32; 3]; 3] = [|i| hash3(i, 7, 9), |i| hash3(7, i, 9), |i| hash3(7, 9, i)];
        for hash in along {
            for output in 0..3 {
                let mut bins = [0u32; 64];
                (0..64_000).for_each(|i| bins[(unit(hash(i)[output]) * 64.0) as usize] += 1);
                let chi: f64 = bins.iter().map(|&n| (f64::from(n) - 1000.0).powi(2) / 1000.0).sum();
                assert!((chi - 63.0).abs() < 5.0 * (2.0f64 * 63.0).sqrt(), "chi-square {chi}");
            }
        }
    }

    #[test]
    fn unit_stays_below_one() {
        assert_eq!(unit(0), 0.0);
        assert!(unit(u32::MAX) < 1.0);
    }
}
