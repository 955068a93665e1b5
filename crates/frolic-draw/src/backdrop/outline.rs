//! Outlines of the far coast and of the shore, by direction. They depend on nothing else, so they are tabulated once in a program.

use std::sync::OnceLock;

use glam::Vec3;

use super::painter::fractal;

/// Directions of a table.
const COUNT: usize = 8192;

/// Outlines by direction.
#[derive(Debug)]
pub(super) struct Outlines {
    /// Height of the coast, in heights of the coast.
    coast: Vec<f32>,
    /// Distance of the shore, as a share of the radius beyond 1.
    shore: Vec<f32>,
}

impl Outlines {
    /// The outlines of this program.
    pub(super) fn shared() -> &'static Self {
        static SHARED: OnceLock<Outlines> = OnceLock::new();
        SHARED.get_or_init(|| {
            let all = |value: &dyn Fn(Vec3) -> f32| {
                // One more than there are, for the interval that closes the circle.
                (0..=COUNT).map(|nth| value(direction(nth as f32 * 4.0 / COUNT as f32))).collect()
            };
            Self {
                coast: all(&|way| (0.55 + fractal(way * 3.0, 6) * 1.5).max(0.0)),
                shore: all(&|way| fractal(way * 4.0, 5) * 0.22),
            }
        })
    }

    /// Height of the coast in a direction along the horizon, of any length.
    #[inline(always)]
    pub(super) fn coast(&self, x: f32, z: f32) -> f32 {
        at(&self.coast, x, z)
    }

    /// Distance of the shore in a direction.
    #[inline(always)]
    pub(super) fn shore(&self, x: f32, z: f32) -> f32 {
        at(&self.shore, x, z)
    }
}

#[inline(always)]
fn at(table: &[f32], x: f32, z: f32) -> f32 {
    let place = turn(x, z) * (COUNT as f32 / 4.0);
    let nth = (place as usize).min(COUNT - 1);
    let share = place - nth as f32;
    table[nth] + (table[nth + 1] - table[nth]) * share
}

/// Angle of a direction from x towards z, on the perimeter of a square that stands on a corner: 0 to 4. Of no direction it is 0.
#[inline(always)]
fn turn(x: f32, z: f32) -> f32 {
    let sum = x.abs() + z.abs();
    let share = z / if sum > 0.0 { sum } else { 1.0 };
    if x < 0.0 {
        2.0 - share
    } else if z < 0.0 {
        4.0 + share
    } else {
        share
    }
}

/// The direction of an angle of [`turn`], unit length.
fn direction(turn: f32) -> Vec3 {
    let (quarter, share) = ((turn as usize).min(3), turn - (turn as usize).min(3) as f32);
    let [x, z] = match quarter {
        0 => [1.0 - share, share],
        1 => [-share, 1.0 - share],
        2 => [share - 1.0, -share],
        _ => [share, share - 1.0],
    };
    Vec3::new(x, 0.0, z).normalize()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// An angle's direction has that angle, and tables are as near to the noise as a tenth of a pixel of most pictures.
        #[test]
        fn directions_are_found_again(angle in 0f32..4.0, long in 0.01f32..1e4) {
            let way = direction(angle) * long;
            prop_assert!((turn(way.x, way.z) - angle).abs() < 1e-5);
            let outlines = Outlines::shared();
            let exact = (0.55 + fractal(direction(angle) * 3.0, 6) * 1.5).max(0.0);
            prop_assert!((outlines.coast(way.x, way.z) - exact).abs() < 0.01);
            let exact = fractal(direction(angle) * 4.0, 5) * 0.22;
            prop_assert!((outlines.shore(way.x, way.z) - exact).abs() < 1e-3);
        }
    }

    #[test]
    fn no_direction_has_an_outline_too() {
        assert_eq!(turn(0.0, 0.0), 0.0);
        assert!(Outlines::shared().shore(0.0, 0.0).is_finite());
    }
}
