//! Clumps: neighbouring elements share attributes.
//!
//! Each cell of a square lattice has one seed at a random place. An element gets the mean of ALL seeds within twice the side of the lattice,
//! with weights that fall smoothly to 0 at that distance. So values never jump, neither between clumps nor where a seed comes
//! into reach. A kernel-weighted mean: Shepard, "A Two-dimensional Interpolation Function for Irregularly-spaced Data" (1968),
//! with weights of compact support. 25 seeds an element.

use derive_setters::Setters;
use std::f32::consts::TAU;

use glam::Vec2;
use serde::{Deserialize, Serialize};

use crate::foundations::error::{SpecError, within};
use crate::foundations::random::{hash3, unit};
use crate::foundations::span::Span;

/// Attributes that the elements of a clump share.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct ClumpSpec {
    /// Distance from clump to clump, in metres, 0.001 to 1e5. Default: 0.5.
    pub side: f32,
    /// Width of the transition from one clump to the next, 0 to 1. Default: 0.3.
    pub blend: f32,
    /// Share of an element's facing that comes from its clump, 0 to 1. Default: 0.6.
    pub facing: f32,
    /// Share of the clump's facing that points away from its seed; the rest is a direction of the clump's own. 0 to 1. Default: 0.5.
    pub outwards: f32,
    /// Factor on the size. Default: 0.7 to 1.2.
    #[setters(into)]
    pub size: Span,
    /// Added to the lean at rest, in degrees. Default: 0.
    #[setters(into)]
    pub bend_degrees: Span,
    /// Factor on the stiffness. Default: 1.
    #[setters(into)]
    pub stiffness: Span,
    /// Share of an element's tint that comes from its clump, 0 to 1. Default: 0.6.
    pub tint: f32,
    /// Share of elements that are missing halfway between clumps, 0 to 1. Default: 0.
    pub thin: f32,
    /// Seed of the clumps. Default: 1.
    pub seed: u32,
}

impl Default for ClumpSpec {
    fn default() -> Self {
        Self {
            side: 0.5,
            blend: 0.3,
            facing: 0.6,
            outwards: 0.5,
            size: Span::new(0.7, 1.2),
            bend_degrees: Span::from(0.0),
            stiffness: Span::from(1.0),
            tint: 0.6,
            thin: 0.0,
            seed: 1,
        }
    }
}

impl ClumpSpec {
    /// Clumps with a distance from one to the next, in metres.
    pub fn new(side: f32) -> Self {
        Self { side, ..Self::default() }
    }

    /// Checks that every value is in range.
    ///
    /// # Errors
    /// Names the first key that cannot be used.
    pub fn check(&self) -> Result<(), SpecError> {
        within("side", self.side, 0.001, 1e5, "m")?;
        for (key, share) in [
            ("blend", self.blend),
            ("facing", self.facing),
            ("outwards", self.outwards),
            ("tint", self.tint),
            ("thin", self.thin),
        ] {
            within(key, share, 0.0, 1.0, "")?;
        }
        self.size.check("size", 0.0, 100.0, "")?;
        self.bend_degrees.check("bend_degrees", -180.0, 180.0, "degrees")?;
        self.stiffness.check("stiffness", 0.01, 100.0, "")
    }

    /// Attributes of an element at x and z, in metres, from the clumps around it.
    ///
    /// ```
    /// use frolic_core::ClumpSpec;
    /// let clumps = ClumpSpec::new(0.8);
    /// let (here, beside) = (clumps.at(3.0, 1.0), clumps.at(3.001, 1.0));
    /// assert!((here.size - beside.size).abs() < 0.01);
    /// ```
    pub fn at(&self, x: f32, z: f32) -> Clump {
        let at = Vec2::new(x, z) / self.side;
        let cell = at.floor();
        // A high power lets the nearest seed dominate; the mean is smooth at any power.
        let power = 3.0 + (1.0 - self.blend) * 21.0;
        let mut sum = 0.0;
        let mut near = 0.0f32;
        let mut mean =
            Clump { facing: Vec2::ZERO, size: 0.0, bend: 0.0, stiffness: 0.0, tint: 0.0, near: 0.0 };
        for i in -2..=2 {
            for j in -2..=2 {
                let corner = cell + Vec2::new(i as f32, j as f32);
                let key = (corner.x as i32 as u32, corner.y as i32 as u32);
                let [u, v, turn] = hash3(key.0, key.1, self.seed ^ CLUMP_SEED).map(unit);
                let seed = corner + Vec2::new(u, v);
                let way = at - seed;
                let left = 1.0 - way.length_squared() * (1.0 / (REACH * REACH));
                if left <= 0.0 {
                    continue;
                }
                let weight = libm::expf(power * libm::logf(left));
                let [size, bend, stiffness] = hash3(key.0, key.1, self.seed ^ CLUMP_SEED ^ 0x55).map(unit);
                let [tint, ..] = hash3(key.0, key.1, self.seed ^ CLUMP_SEED ^ 0xaa).map(unit);
                let (sin, cos) = libm::sincosf(turn * TAU);
                // Away from the seed. At the seed itself there is no such direction: it grows over a tenth of a side.
                let out = way / (way.length() + 0.1);
                let own = Vec2::new(sin, cos);
                mean.facing += (own + (out - own) * self.outwards) * weight;
                mean.size += self.size.at(size) * weight;
                mean.bend += self.bend_degrees.at(bend) * weight;
                mean.stiffness += self.stiffness.at(stiffness) * weight;
                mean.tint += tint * weight;
                sum += weight;
                let close = (1.0 - way.length_squared() * (1.0 / (NEAR * NEAR))).max(0.0);
                near = near.max(close * close);
            }
        }
        // The seed of the element's own cell is always within reach, so the sum is above 0.
        let per = 1.0 / sum.max(f32::MIN_POSITIVE);
        Clump {
            facing: mean.facing * per,
            size: mean.size * per,
            bend: (mean.bend * per).to_radians(),
            stiffness: mean.stiffness * per,
            tint: mean.tint * per,
            near,
        }
    }
}

/// Reach of a seed, in sides: the distance that a search of two cells to each side covers.
const REACH: f32 = 2.0;

/// Distance from a seed, in sides, within which elements remain if they are missing between clumps.
const NEAR: f32 = 0.62;

/// Separates the draws of clumps from all others.
const CLUMP_SEED: u32 = 0x6c1a_59d7;

/// Attributes of an element from the clumps around it.
#[derive(Debug, Clone, Copy, PartialEq)]
#[non_exhaustive]
pub struct Clump {
    /// Direction along x and z; shorter between clumps that differ.
    pub facing: Vec2,
    /// Factor on the size.
    pub size: f32,
    /// Added to the lean at rest, in radians.
    pub bend: f32,
    /// Factor on the stiffness.
    pub stiffness: f32,
    /// Tint, 0 to 1.
    pub tint: f32,
    /// 1 at a seed, falling to 0 halfway to the next.
    pub near: f32,
}

impl Clump {
    /// Share of elements that remain here if `thin` of them are missing between clumps.
    pub(crate) fn share(&self, thin: f32) -> f32 {
        1.0 - thin * (1.0 - self.near)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Largest change of any attribute over a thousandth of a side, along many straight lines: a jump would stay as large at
    /// any step.
    #[test]
    fn nothing_jumps_where_clumps_meet() {
        for blend in [0.0, 0.3, 1.0] {
            let clumps = ClumpSpec {
                blend,
                bend_degrees: Span::new(0.0, 40.0),
                stiffness: Span::new(0.5, 2.0),
                ..ClumpSpec::new(0.5)
            };
            let most = |step: f32| {
                let mut most = 0.0f32;
                for line in 0..40 {
                    let z = line as f32 * 0.173 - 3.0;
                    let mut before = clumps.at(-3.0, z);
                    for k in 1..=(2.0 / step) as i32 {
                        let now = clumps.at(-3.0 + k as f32 * step, z);
                        let change = (now.facing - before.facing)
                            .length()
                            .max((now.size - before.size).abs())
                            .max((now.bend - before.bend).abs())
                            .max((now.stiffness - before.stiffness).abs())
                            .max((now.tint - before.tint).abs())
                            .max((now.near - before.near).abs());
                        most = most.max(change);
                        before = now;
                    }
                }
                most
            };
            let (coarse, fine) = (most(0.002), most(0.0005));
            assert!(fine < coarse * 0.35 && fine < 0.03, "blend {blend}: {coarse} then {fine}");
        }
    }

    /// Elements of one clump agree; distant elements do not.
    #[test]
    fn near_elements_share_far_ones_do_not() {
        let clumps = ClumpSpec { blend: 0.0, ..ClumpSpec::new(1.0) };
        let differ = |off: f32| {
            (0..400)
                .map(|k| {
                    let (x, z) = (k as f32 * 1.37, k as f32 * 0.71);
                    (clumps.at(x, z).size - clumps.at(x + off, z).size).abs()
                })
                .sum::<f32>()
                / 400.0
        };
        assert!(differ(0.1) * 3.0 < differ(10.0), "{} {}", differ(0.1), differ(10.0));
        // Coordinates of either sign, and far from the origin.
        assert!(clumps.at(-1e5, 1e5).size.is_finite());
    }
}
