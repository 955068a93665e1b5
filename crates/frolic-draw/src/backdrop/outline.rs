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
    /// Least and greatest height in each [`BLOCK`] directions.
    coast_ranges: Vec<[f32; 2]>,
    /// Distance of the shore, as a share of the radius beyond 1.
    shore: Vec<f32>,
    shore_ranges: Vec<[f32; 2]>,
}

/// Most that the coast is high, in heights of the coast.
pub(super) const COAST_MOST: f32 = 2.1;

/// Most that the shore lies nearer or farther than its radius, as a share of it.
pub(super) const SHORE_MOST: f32 = 0.22;

/// Directions that a range covers.
const BLOCK: usize = 64;

impl Outlines {
    /// The outlines of this program.
    pub(super) fn shared() -> &'static Self {
        static SHARED: OnceLock<Outlines> = OnceLock::new();
        SHARED.get_or_init(|| {
            let all = |value: &dyn Fn(Vec3) -> f32| {
                // One more than there are, for the interval that closes the circle.
                (0..=COUNT).map(|nth| value(direction(nth as f32 * 4.0 / COUNT as f32))).collect()
            };
            let coast: Vec<f32> = all(&|way| (0.55 + fractal(way * 3.0, 6) * 1.5).max(0.0));
            let shore: Vec<f32> = all(&|way| fractal(way * 4.0, 5) * SHORE_MOST);
            Self { coast_ranges: block_ranges(&coast), coast, shore_ranges: block_ranges(&shore), shore }
        })
    }

    /// Height of the coast in a direction along the horizon, of any length.
    #[inline(always)]
    pub(super) fn coast(&self, x: f32, z: f32) -> f32 {
        at(&self.coast, x, z)
    }

    /// Least and greatest height of the coast, or less and more, in all directions between these, which lie within half a turn.
    pub(super) fn coast_range(&self, ways: &[[f32; 3]]) -> [f32; 2] {
        range_between(&self.coast_ranges, ways)
    }

    /// The same of the distance of the shore.
    pub(super) fn shore_range(&self, ways: &[[f32; 3]]) -> [f32; 2] {
        range_between(&self.shore_ranges, ways)
    }

    /// Distance of the shore in a direction.
    #[inline(always)]
    pub(super) fn shore(&self, x: f32, z: f32) -> f32 {
        at(&self.shore, x, z)
    }
}

/// Least and greatest value of each block of a table.
fn block_ranges(table: &[f32]) -> Vec<[f32; 2]> {
    // With the first of the next, as values between two are between both.
    let block = |from: usize| range_of(table[from..=from + BLOCK].iter().map(|it| [*it, *it]));
    (0..COUNT).step_by(BLOCK).map(block).collect()
}

/// The range of all blocks from one of these directions to another.
fn range_between(ranges: &[[f32; 2]], ways: &[[f32; 3]]) -> [f32; 2] {
    let first = ways.first().map_or(0.0, |[x, _, z]| turn(*x, *z));
    let (mut from, mut to) = (0.0f32, 0.0f32);
    for [x, _, z] in ways {
        // Whichever way round is shorter.
        let off = turn(*x, *z) - first;
        let off = if off > 2.0 {
            off - 4.0
        } else if off < -2.0 {
            off + 4.0
        } else {
            off
        };
        (from, to) = (from.min(off), to.max(off));
    }
    let blocks = (COUNT / BLOCK) as i32;
    let block = |off: f32| ((first + off) * (blocks as f32 / 4.0)).floor() as i32;
    // One more on either side, for what rounding loses.
    let (from, to) = (block(from) - 1, block(to) + 1);
    range_of((from..=to).map(|nth| ranges[nth.rem_euclid(blocks) as usize]))
}

/// The range that holds all of these.
fn range_of(ranges: impl Iterator<Item = [f32; 2]>) -> [f32; 2] {
    ranges.fold([f32::INFINITY, f32::NEG_INFINITY], |[low, high], [a, b]| [low.min(a), high.max(b)])
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

    proptest! {
        /// All heights between two directions lie within their range, across the end of the table too.
        #[test]
        fn ranges_hold_all_between(from in 0f32..4.0, wide in 0f32..1.9, share in 0f32..1.0, long in 0.1f32..50.0) {
            let way = |turn: f32| direction(turn.rem_euclid(4.0)).to_array();
            let outlines = Outlines::shared();
            let [low, high] = outlines.coast_range(&[way(from + wide).map(|it| it * long), way(from)]);
            let [x, _, z] = way(from + wide * share);
            let height = outlines.coast(x, z);
            prop_assert!(low <= height && height <= high);
            let [near, far] = outlines.shore_range(&[way(from), way(from + wide)]);
            let shore = outlines.shore(x, z);
            prop_assert!(near <= shore && shore <= far && far <= SHORE_MOST);
            prop_assert!((wide > 0.1 || high - low < 1.6) && high <= COAST_MOST);
        }
    }

    #[test]
    fn no_direction_has_an_outline_too() {
        assert_eq!(turn(0.0, 0.0), 0.0);
        assert!(Outlines::shared().shore(0.0, 0.0).is_finite());
    }
}
