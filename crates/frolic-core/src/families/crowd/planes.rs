//! Half-plane programmes: of all velocities that obey some half-planes, the one nearest to a wish, for eight units at once.
//!
//! One half-plane after the other is added; where the best velocity so far breaks it, the next best lies on its edge (Seidel, "Small-Dimensional
//! Linear Programming and Convex Hulls Made Easy", 1991). Where no velocity obeys all of them, the soft ones give way by the least amount that is the
//! same for all, found by bisection; the hard ones stand, and rest obeys them.

use fearless_simd::prelude::*;
use fearless_simd::{f32x8, mask32x8};

use super::spec::MOST_HEEDED;
use crate::foundations::simd::{Simd, kernel};
use crate::neighbours::blocks::{BLOCK, Lanes};

/// Half-planes of walls; they come first.
pub(super) const WALLS: usize = 2;

/// Most half-planes of a unit: of walls, of those that are close, and of all that it heeds.
pub(super) const MOST_PLANES: usize = WALLS + 2 * MOST_HEEDED;

/// Halvings of the amount by which half-planes give way: to a thousandth of what is needed at most.
const HALVINGS: usize = 10;

/// Breaks smaller than this, in m/s, do not count.
const SLACK: f32 = 1e-5;

/// Half-planes of velocities, eight units side by side: those with `x vx + z vz >= least`, where x and z are of unit length. With 0 and
/// minus infinity a half-plane is not there.
#[derive(Debug, Clone, Copy)]
pub(super) struct Planes {
    pub(super) x: [Lanes; MOST_PLANES],
    pub(super) z: [Lanes; MOST_PLANES],
    pub(super) least: [Lanes; MOST_PLANES],
    /// Number of half-planes that may be there; of those, number of the first, which are hard.
    pub(super) len: usize,
    pub(super) hard: usize,
}

impl Default for Planes {
    fn default() -> Self {
        let none = [[0.0; BLOCK]; MOST_PLANES];
        Self { x: none, z: none, least: [[f32::NEG_INFINITY; BLOCK]; MOST_PLANES], len: WALLS, hard: WALLS }
    }
}

kernel! {
    /// The velocity nearest to the wish that obeys all half-planes and is no faster than `most`, along x and z; and 1 for units whose
    /// soft half-planes had to give way.
    pub(super) fn choose(simd, planes: &Planes, wish: &[Lanes; 2], most: f32) -> ([Lanes; 2], Lanes) {
        choose_of(simd, planes, wish, most)
    }
}

#[inline(always)]
fn choose_of<S: Simd>(simd: S, planes: &Planes, wish: &[Lanes; 2], most: f32) -> ([Lanes; 2], Lanes) {
    let (zero, one) = (f32x8::splat(simd, 0.0), f32x8::splat(simd, 1.0));
    let wish = [f32x8::load_array(simd, wish[0]), f32x8::load_array(simd, wish[1])];
    let most = f32x8::splat(simd, most);
    let ([mut vx, mut vz], fits) = obey(simd, planes, wish, most, zero);
    if fits.all_true() {
        return ([vx.to_array(), vz.to_array()], [0.0; BLOCK]);
    }
    // With this much no soft half-plane cuts anything off.
    let mut high = zero;
    for nth in planes.hard..planes.len {
        high = high.max(f32x8::load_array(simd, planes.least[nth]) + most);
    }
    let mut low = zero;
    // Where the hard ones alone leave nothing, as in a wall, it stands.
    let (loosest, free) = obey(simd, planes, wish, most, high);
    let mut best = [free.select(loosest[0], zero), free.select(loosest[1], zero)];
    for _ in 0..HALVINGS {
        let middle = (low + high) * 0.5;
        let (found, fits) = obey(simd, planes, wish, most, middle);
        best = [fits.select(found[0], best[0]), fits.select(found[1], best[1])];
        high = fits.select(middle, high);
        low = fits.select(low, middle);
    }
    vx = fits.select(vx, best[0]);
    vz = fits.select(vz, best[1]);
    ([vx.to_array(), vz.to_array()], fits.select(zero, one).to_array())
}

/// The nearest velocity where soft half-planes give way by an amount, and whether there is any.
#[inline(always)]
fn obey<S: Simd>(
    simd: S,
    planes: &Planes,
    [wx, wz]: [f32x8<S>; 2],
    most: f32x8<S>,
    gives: f32x8<S>,
) -> ([f32x8<S>; 2], mask32x8<S>) {
    let (zero, one) = (f32x8::splat(simd, 0.0), f32x8::splat(simd, 1.0));
    let flat = f32x8::splat(simd, 1e-6);
    let length = (wx * wx + wz * wz).sqrt();
    let scale = length.simd_gt(most).select(most / length, one);
    let (mut vx, mut vz) = (wx * scale, wz * scale);
    let mut fits = zero.simd_eq(zero);
    for nth in 0..planes.len {
        let (nx, nz) = (f32x8::load_array(simd, planes.x[nth]), f32x8::load_array(simd, planes.z[nth]));
        let mut least = f32x8::load_array(simd, planes.least[nth]);
        if nth >= planes.hard {
            least -= gives;
        }
        let broken = (nx * vx + nz * vz).simd_lt(least - SLACK) & fits;
        if !broken.any_true() {
            continue;
        }
        // Along its edge, from the point nearest to rest.
        let (bx, bz) = (nx * least, nz * least);
        let (tx, tz) = (zero - nz, nx);
        let room = most * most - least * least;
        let reach = room.max(zero).sqrt();
        let (mut from, mut to) = (zero - reach, reach);
        let mut fails = room.simd_lt(zero);
        for before in 0..nth {
            let (ox, oz) =
                (f32x8::load_array(simd, planes.x[before]), f32x8::load_array(simd, planes.z[before]));
            let mut other = f32x8::load_array(simd, planes.least[before]);
            if before >= planes.hard {
                other -= gives;
            }
            let (rise, lack) = (ox * tx + oz * tz, other - (ox * bx + oz * bz));
            let at = lack / rise;
            let (rises, falls) = (rise.simd_gt(flat), rise.simd_lt(zero - flat));
            from = rises.select(from.max(at), from);
            to = falls.select(to.min(at), to);
            fails |= !(rises | falls) & lack.simd_gt(f32x8::splat(simd, SLACK));
        }
        fails |= from.simd_gt(to);
        let along = (wx * tx + wz * tz).max(from).min(to);
        let moves = broken & !fails;
        vx = moves.select(bx + tx * along, vx);
        vz = moves.select(bz + tz * along, vz);
        fits &= !(broken & fails);
    }
    ([vx, vz], fits)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::foundations::simd::levels;

    /// A half-plane of one unit.
    type Plane = ([f64; 2], f64);

    /// How much a velocity breaks half-planes at most: of walls, and of others.
    fn breaks(planes: &[Plane], walls: usize, [x, z]: [f64; 2]) -> [f64; 2] {
        let of = |part: &[Plane]| {
            part.iter().map(|([nx, nz], least)| least - (nx * x + nz * z)).fold(f64::NEG_INFINITY, f64::max)
        };
        [of(&planes[..walls]), of(&planes[walls..])]
    }

    /// All velocities at which the nearest can lie: the wish, its place on each edge and on the circle, and where edges cross each other and the circle.
    fn corners(planes: &[Plane], [wx, wz]: [f64; 2], most: f64) -> Vec<[f64; 2]> {
        let length = wx.hypot(wz);
        let scale = if length > most { most / length } else { 1.0 };
        let mut all = vec![[wx * scale, wz * scale], [0.0; 2]];
        for ([nx, nz], least) in planes {
            let along = wx * -nz + wz * nx;
            all.push([nx * least - nz * along, nz * least + nx * along]);
            let reach = (most * most - least * least).max(0.0).sqrt();
            all.extend([-reach, reach].map(|t| [nx * least - nz * t, nz * least + nx * t]));
            for ([mx, mz], other) in planes {
                let det = nx * mz - nz * mx;
                if det.abs() > 1e-9 {
                    all.push([(least * mz - nz * other) / det, (nx * other - least * mx) / det]);
                }
            }
        }
        all.retain(|[x, z]| x.hypot(*z) <= most + 1e-6);
        all
    }

    fn one_of_many(planes: &[Plane], walls: usize, lane: usize, into: &mut Planes) {
        for (nth, ([nx, nz], least)) in planes.iter().enumerate() {
            let slot = if nth < walls { nth } else { WALLS + nth - walls };
            (into.x[slot][lane], into.z[slot][lane], into.least[slot][lane]) =
                (*nx as f32, *nz as f32, *least as f32);
        }
        into.len = into.len.max(WALLS + planes.len() - walls);
    }

    fn plane() -> impl Strategy<Value = Plane> {
        (0.0..std::f64::consts::TAU, -1.5..1.0)
            .prop_map(|(turn, least): (f64, f64)| ([turn.cos(), turn.sin()], least))
    }

    proptest! {
        /// The velocity is as near to the wish as the nearest of all corners that obey; and where none does, it breaks others by no more than it must.
        #[test]
        fn velocities_are_those_of_trying_every_corner(
            units in prop::collection::vec((prop::collection::vec(plane(), 1..12), 0usize..=WALLS, [-2.0..2.0f64, -2.0..2.0]), BLOCK),
        ) {
            let most = 1.5;
            let (mut planes, mut wish) = (Planes::default(), [[0.0; BLOCK]; 2]);
            for (lane, (own, walls, [wx, wz])) in units.iter().enumerate() {
                one_of_many(own, (*walls).min(own.len()), lane, &mut planes);
                (wish[0][lane], wish[1][lane]) = (*wx as f32, *wz as f32);
            }
            let mut first = None;
            for level in levels() {
                let (velocity, gave) = choose(level, &planes, &wish, most as f32);
                prop_assert_eq!(*first.get_or_insert((velocity, gave)), (velocity, gave));
                for (lane, (own, walls, at)) in units.iter().enumerate() {
                    let walls = (*walls).min(own.len());
                    let chosen = [f64::from(velocity[0][lane]), f64::from(velocity[1][lane])];
                    let all = corners(own, *at, most);
                    let far = |[x, z]: &[f64; 2]| (x - at[0]).hypot(z - at[1]);
                    let obeys = |by: f64| {
                        all.iter().filter(move |it| breaks(own, walls, **it).iter().all(|broken| *broken <= by))
                    };
                    let best = obeys(1e-9).map(far).fold(f64::INFINITY, f64::min);
                    let [wall, other] = breaks(own, walls, chosen);
                    prop_assert!(chosen[0].hypot(chosen[1]) <= most + 1e-4);
                    if gave[lane] == 0.0 {
                        prop_assert!(wall < 1e-3 && other < 1e-3, "{wall} {other}");
                        prop_assert!(far(&chosen) <= best + 2e-3, "{} where {best} is possible", far(&chosen));
                    } else if obeys(-1e-3).next().is_some() {
                        prop_assert!(false, "gave way where nothing had to");
                    } else if all.iter().any(|it| breaks(own, walls, *it)[0] < -1e-3) {
                        // Walls leave room, and stand.
                        prop_assert!(wall < 1e-3, "{wall} into a wall");
                        let least = least_break(own, walls, most);
                        prop_assert!(other <= least + 0.05, "{other} where {least} is needed");
                    }
                }
            }
        }
    }

    /// The least amount by which half-planes of others are broken, by a fine grid of velocities.
    fn least_break(planes: &[Plane], walls: usize, most: f64) -> f64 {
        let mut least = f64::INFINITY;
        for i in -60i32..=60 {
            for j in -60i32..=60 {
                let at = [f64::from(i) / 60.0 * most, f64::from(j) / 60.0 * most];
                let [wall, other] = breaks(planes, walls, at);
                if wall <= 0.0 && at[0].hypot(at[1]) <= most {
                    least = least.min(other);
                }
            }
        }
        least
    }
}
