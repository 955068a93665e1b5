//! Collectors: balls, at rest or moving, that pick up every element that enters them.
//!
//! Each element goes to one collector, once: the first of the list that it enters. Both move during a step: the closest approach of the two straight
//! ways decides. A few collectors are compared one by one over columns; for many, a grid finds those nearby.

use derive_setters::Setters;
use glam::Vec3;
use serde::{Deserialize, Serialize};

use crate::foundations::error::{SpecError, each, vector_within, within};
use crate::foundations::paths::{Path, PathSpec};
use crate::foundations::simd::{Simd, kernel};

/// Maximum number of collectors of a world.
const MOST_COLLECTORS: usize = 65_536;

/// Number of collectors up to which they are compared one by one.
const FEW: usize = 16;

/// A ball that picks up every element that enters it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct CollectorSpec {
    /// Centre, in metres; on a path, the origin of the path.
    #[serde(default)]
    pub position: [f32; 3],
    /// Radius, in metres, 0.001 to 1e6.
    pub radius: f32,
    /// Path of the centre, from `position` on. Default: none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub path: Option<PathSpec>,
    /// Pull before the catch, in m/s², 0 to 1e5. Default: 0.
    #[serde(default)]
    pub pull: f32,
    /// Distance at which the pull fades to nothing, in metres, 0.001 to 1e6. Default: 1.
    #[serde(default = "one")]
    pub reach: f32,
}

fn one() -> f32 {
    1.0
}

impl CollectorSpec {
    /// A ball around a point, with a radius, in metres.
    pub fn new(position: [f32; 3], radius: f32) -> Self {
        Self { position, radius, path: None, pull: 0.0, reach: 1.0 }
    }

    /// Sets a pull, in m/s², within a reach, in metres.
    pub fn pulling(mut self, pull: f32, reach: f32) -> Self {
        (self.pull, self.reach) = (pull, reach);
        self
    }

    fn check(&self) -> Result<(), SpecError> {
        vector_within("position", self.position, 1e6, "m")?;
        within("radius", self.radius, 0.001, 1e6, "m")?;
        within("pull", self.pull, 0.0, 1e5, "m/s²")?;
        within("reach", self.reach, 0.001, 1e6, "m")?;
        self.path.as_ref().map_or(Ok(()), |path| path.check().map_err(|error| error.under("path")))
    }
}

/// A checked collector.
#[derive(Debug, Clone)]
pub(crate) struct Collector {
    pub(crate) position: Vec3,
    pub(crate) radius: f32,
    pub(crate) pull: f32,
    pub(crate) reach: f32,
    path: Option<Path>,
}

/// Checks every collector of a list.
pub(crate) fn check(specs: &[CollectorSpec]) -> Result<(), SpecError> {
    each("collector", specs, MOST_COLLECTORS, CollectorSpec::check)
}

impl Collector {
    /// Prepares a checked collector.
    pub(crate) fn new(spec: &CollectorSpec) -> Self {
        let CollectorSpec { position, radius, pull, reach, .. } = *spec;
        Self { position: position.into(), radius, pull, reach, path: spec.path.as_ref().map(Path::new) }
    }

    /// Moves it to a position, where it stays.
    pub(crate) fn put(&mut self, place: Vec3) {
        (self.position, self.path) = (place, None);
    }

    /// Where it was moved to, if it was.
    pub(crate) fn moved_from(&self, spec: &CollectorSpec) -> Option<[f32; 3]> {
        let place = self.position.to_array();
        (place != spec.position || self.path.is_none() != spec.path.is_none()).then_some(place)
    }

    /// Centre at a time, in seconds.
    pub(crate) fn at(&self, time: f64) -> Vec3 {
        self.position + self.path.as_ref().map_or(Vec3::ZERO, |path| path.at(time).0)
    }
}

/// Index of an element that no collector has caught.
pub(crate) const FREE: u32 = u32::MAX;

/// The collectors of one step.
#[derive(Debug, Clone, Default)]
pub(crate) struct Catching {
    balls: Vec<Ball>,
    /// Whether no collector has moved since the last step.
    still: bool,
    dt: f32,
    /// For many collectors: a grid whose cells list the balls that reach into them.
    low: Vec3,
    per_metre: f32,
    cells: [usize; 3],
    firsts: Vec<u32>,
    members: Vec<u32>,
}

#[derive(Debug, Clone, Copy, PartialEq)]
struct Ball {
    /// Centre at the end of the step, and its way in the step, in metres.
    to: Vec3,
    moved: Vec3,
    radius: f32,
}

/// Maximum number of cells along one axis.
const MOST_CELLS: usize = 64;

kernel! {
    /// Finds the elements of a block that are caught, and their collectors; `caught` has one entry for each. A filter over columns finds the
    /// few elements close to any collector.
    pub(crate) fn find_caught(
        simd, catching: &Catching, px: &[f32], py: &[f32], pz: &[f32], vx: &[f32], vy: &[f32], vz: &[f32], caught: &mut [u32],
    ) {
        catching.block(simd, px, py, pz, vx, vy, vz, caught);
    }
}

impl Catching {
    /// Prepares the step from `time`, of `dt` seconds. Allocates only while the number of collectors grows.
    pub(crate) fn prepare(&mut self, collectors: &[Collector], time: f64, dt: f32) {
        self.dt = dt;
        self.still = self.balls.len() == collectors.len();
        self.balls.resize(collectors.len(), Ball { to: Vec3::ZERO, moved: Vec3::ZERO, radius: 0.0 });
        for (ball, collector) in self.balls.iter_mut().zip(collectors) {
            let (from, to) = (collector.at(time), collector.at(time + f64::from(dt)));
            let now = Ball { to, moved: to - from, radius: collector.radius };
            self.still &= *ball == now && now.moved == Vec3::ZERO;
            *ball = now;
        }
        if self.balls.len() > FEW {
            self.sort();
        }
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.balls.is_empty()
    }

    /// Whether no collector has moved since the last step: elements at rest that were not caught then are not caught now.
    pub(crate) fn is_still(&self) -> bool {
        self.still
    }

    /// Number of collectors.
    pub(crate) fn len(&self) -> usize {
        self.balls.len()
    }

    fn sort(&mut self) {
        let span = |ball: &Ball| {
            let from = ball.to - ball.moved;
            let radius = Vec3::splat(ball.radius);
            (ball.to.min(from) - radius, ball.to.max(from) + radius)
        };
        let (low, high) = self
            .balls
            .iter()
            .map(span)
            .fold((Vec3::INFINITY, Vec3::NEG_INFINITY), |(low, high), (a, b)| (low.min(a), high.max(b)));
        let extent = (high - low).max_element().max(1e-6);
        let widest = self.balls.iter().map(|ball| ball.radius * 2.0).fold(0.0, f32::max);
        let cell = widest.max(extent / MOST_CELLS as f32);
        (self.low, self.per_metre) = (low, 1.0 / cell);
        self.cells = ((high - low) / cell).to_array().map(|side| (side.ceil() as usize).clamp(1, MOST_CELLS));
        let count = self.cells.iter().product::<usize>();
        self.firsts.clear();
        self.firsts.resize(count + 1, 0);
        self.members.clear();
        // Count, sum, fill; from the last to the first, so that the list of each cell rises.
        for fill in [false, true] {
            if fill {
                let mut sum = 0;
                for first in &mut self.firsts {
                    sum += *first;
                    *first = sum;
                }
                self.members.resize(sum as usize, 0);
            }
            for nth in (0..self.balls.len()).rev() {
                let (low, high) = span(&self.balls[nth]);
                for at in self.cells_between(low, high) {
                    if fill {
                        self.firsts[at] -= 1;
                        self.members[self.firsts[at] as usize] = nth as u32;
                    } else {
                        self.firsts[at] += 1;
                    }
                }
            }
        }
    }

    /// Indices of the cells that a box overlaps.
    fn cells_between(&self, low: Vec3, high: Vec3) -> impl Iterator<Item = usize> + use<> {
        let (a, b, [nx, ny, _]) = (self.cell(low), self.cell(high), self.cells);
        let rows = (a[2]..=b[2]).flat_map(move |z| (a[1]..=b[1]).map(move |y| (z * ny + y) * nx));
        rows.flat_map(move |row| row + a[0]..=row + b[0])
    }

    fn cell(&self, place: Vec3) -> [usize; 3] {
        let at = ((place - self.low) * self.per_metre).to_array();
        std::array::from_fn(|axis| (at[axis].max(0.0) as usize).min(self.cells[axis] - 1))
    }

    #[expect(
        clippy::too_many_arguments,
        reason = "plain slices, so that the compiler knows that they do not overlap"
    )]
    #[inline(always)]
    fn block<S: Simd>(
        &self,
        simd: S,
        px: &[f32],
        py: &[f32],
        pz: &[f32],
        vx: &[f32],
        vy: &[f32],
        vz: &[f32],
        caught: &mut [u32],
    ) {
        let n = caught.len();
        if self.balls.len() > FEW {
            for i in 0..n {
                caught[i] = self.by(Vec3::new(px[i], py[i], pz[i]), Vec3::new(vx[i], vy[i], vz[i]));
            }
            return;
        }
        let fastest = fastest(simd, vx, vy, vz) * self.dt;
        caught.fill(0);
        for ball in &self.balls {
            // Relative to the ball an element comes from no further than both ways together.
            let reach = (ball.radius + fastest + ball.moved.length()) * 1.001;
            look(simd, ball.to, reach, px, py, pz, caught);
        }
        for i in 0..n {
            caught[i] = match caught[i] {
                0 => FREE,
                _ => self.by(Vec3::new(px[i], py[i], pz[i]), Vec3::new(vx[i], vy[i], vz[i])),
            };
        }
    }

    /// Index of the collector that catches an element which moved to `place` with a velocity.
    pub(crate) fn by(&self, place: Vec3, velocity: Vec3) -> u32 {
        let way = velocity * self.dt;
        let inside = |ball: &Ball| {
            let (end, way) = (place - ball.to, way - ball.moved);
            let share = (end.dot(way) / (way.length_squared() + 1e-30)).clamp(0.0, 1.0);
            (end - way * share).length_squared() < ball.radius * ball.radius
        };
        if self.balls.len() <= FEW {
            return self.balls.iter().position(inside).map_or(FREE, |nth| nth as u32);
        }
        let from = place - way;
        if !(from.is_finite() && place.is_finite()) {
            return FREE;
        }
        let outside = Vec3::from(self.cells.map(|side| side as f32)) / self.per_metre + self.low;
        if place.max(from).cmplt(self.low).any() || place.min(from).cmpgt(outside).any() {
            return FREE;
        }
        let mut first = FREE;
        for at in self.cells_between(place.min(from), place.max(from)) {
            for &nth in &self.members[self.firsts[at] as usize..self.firsts[at + 1] as usize] {
                if nth < first && inside(&self.balls[nth as usize]) {
                    first = nth;
                }
            }
        }
        first
    }
}

/// Maximum speed of a block, in m/s.
#[inline(always)]
fn fastest<S: Simd>(_simd: S, vx: &[f32], vy: &[f32], vz: &[f32]) -> f32 {
    const LANES: usize = 16;
    let n = vx.len();
    let (vy, vz) = (&vy[..n], &vz[..n]);
    let mut most = [0.0f32; LANES];
    let square = |i: usize| vx[i] * vx[i] + vy[i] * vy[i] + vz[i] * vz[i];
    for first in (0..n / LANES).map(|nth| nth * LANES) {
        for (lane, most) in most.iter_mut().enumerate() {
            *most = most.max(square(first + lane));
        }
    }
    let rest = (n - n % LANES..n).map(square);
    most.into_iter().chain(rest).fold(0.0, f32::max).sqrt()
}

/// Marks the elements of a block within a distance of a position, in metres. Positions that are NaN are not marked.
#[inline(always)]
fn look<S: Simd>(_simd: S, place: Vec3, reach: f32, px: &[f32], py: &[f32], pz: &[f32], marks: &mut [u32]) {
    let n = marks.len();
    let (px, py, pz) = (&px[..n], &py[..n], &pz[..n]);
    let [cx, cy, cz] = place.to_array();
    let square = reach * reach;
    for i in 0..n {
        let (x, y, z) = (px[i] - cx, py[i] - cy, pz[i] - cz);
        marks[i] |= u32::from(x * x + y * y + z * z <= square);
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]

        /// The grid of many finds what a search through all does.
        #[test]
        fn the_grid_equals_a_search(
            balls in prop::collection::vec((prop::array::uniform3(-5f32..5.0), 0.01f32..1.0), 17..60),
            elements in prop::collection::vec((prop::array::uniform3(-7f32..7.0), prop::array::uniform3(-60f32..60.0)), 1..80),
            shift in prop::array::uniform3(-1f32..1.0),
        ) {
            let path = PathSpec::new([[0.0; 3], shift], 0.1);
            let specs: Vec<CollectorSpec> =
                balls.iter().map(|&(at, radius)| CollectorSpec::new(at, radius).path(path.clone())).collect();
            let collectors: Vec<Collector> = specs.iter().map(Collector::new).collect();
            let mut all = Catching::default();
            all.prepare(&collectors, 0.0, 0.05);
            let mut each = Catching::default();
            for (at, velocity) in elements {
                let want = (0..collectors.len()).find(|&nth| {
                    each.prepare(&collectors[nth..=nth], 0.0, 0.05);
                    each.by(at.into(), velocity.into()) == 0
                });
                prop_assert_eq!(all.by(at.into(), velocity.into()), want.map_or(FREE, |nth| nth as u32));
            }
        }
    }
}
