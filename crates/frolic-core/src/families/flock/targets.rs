//! What elements seek and flee, and the walls and obstacles they turn away from.

use std::sync::Arc;

use fearless_simd::f32x8;
use fearless_simd::prelude::*;
use glam::Vec3;

use super::rules::Own;
use super::spec::{FlockSpec, Space, Target, TargetSpec};
use super::steer::Wishes;
use crate::assets::{Assets, DistanceGrid};
use crate::foundations::error::SpecError;
use crate::foundations::meter::Meter;
use crate::foundations::paths::Path;
use crate::foundations::simd::{Level, Simd, kernel};
use crate::neighbours::blocks::Lanes;
use crate::neighbours::blocks::{BLOCK, Candidates};
use crate::neighbours::{NeighbourSpec, Neighbours};
use crate::world::World;
use crate::world::bodies::KeepTo;

/// Elements of another population, as a flock sees them.
#[derive(Debug, Clone, Copy, Default)]
#[non_exhaustive]
pub struct OtherElements<'a> {
    /// Name of their population.
    pub name: &'a str,
    /// Position: x, y, z, in metres.
    pub position: [&'a [f32]; 3],
    /// Velocity: x, y, z, in m/s. Empty if they have none.
    pub velocity: [&'a [f32]; 3],
    /// Numbers of the elements. Empty if they have none: hunters then choose anew in each step.
    pub id: &'a [u32],
    /// How many others are around each. Empty if that is not known.
    pub around: &'a [f32],
}

impl<'a> OtherElements<'a> {
    /// Elements of a population by its name, at these positions, in metres.
    pub fn at(name: &'a str, position: [&'a [f32]; 3]) -> Self {
        Self { name, position, ..Self::default() }
    }
}

/// A prepared target.
#[derive(Debug, Clone)]
struct Prepared {
    spec: TargetSpec,
    /// -1 for what is fled.
    sign: f32,
    kind: Kind,
}

#[derive(Debug, Clone)]
enum Kind {
    /// A place, unless it is gone: a pusher that is not there.
    Place(Option<Vec3>),
    Surface(Arc<DistanceGrid>),
    Elements(Box<Elements>),
}

/// Elements of another population, sorted if there are many.
#[derive(Debug, Clone)]
struct Elements {
    near: Neighbours,
    /// All of them, if there are few.
    few: [Vec<f32>; 3],
    is_few: bool,
}

/// Up to so many are looked at one by one: sorting them would cost more.
const FEW: usize = 32;

/// A target at a time.
#[derive(Debug, Clone, Copy)]
pub struct TargetAt<'a> {
    /// What is written of it.
    pub spec: &'a TargetSpec,
    /// -1 for what is fled, else 1.
    pub sign: f32,
    /// Where it is, in metres, if it is one place and is there.
    pub at: Option<[f32; 3]>,
}

/// All targets of a flock.
#[derive(Debug, Clone, Default)]
pub struct Targets {
    all: Vec<Prepared>,
    paths: Vec<Option<Path>>,
    /// 1 for each axis along which elements may move, else 0: distances to targets are those in their plane.
    free: [f32; 3],
}

impl Targets {
    /// Those of a spec.
    ///
    /// # Errors
    /// An asset is missing.
    pub fn new(spec: &FlockSpec, assets: &Assets) -> Result<Self, SpecError> {
        let mut targets = Self { free: KeepTo::free(spec.keep_to), ..Self::default() };
        for (key, sign, list) in [("seek", 1.0, &spec.seek), ("flee", -1.0, &spec.flee)] {
            for (nth, target) in list.iter().enumerate() {
                let mut path = None;
                let kind = match &target.target {
                    Target::Point(at) => Kind::Place(Some(Vec3::from(*at))),
                    Target::Path(spec) => {
                        path = Some(Path::new(spec));
                        Kind::Place(None)
                    }
                    Target::Pusher(_) => Kind::Place(None),
                    Target::Surface(name) => {
                        let grid = assets.distance("target.surface", name);
                        let grid = grid.map_err(|error| error.under(&format!("{key}.{nth}")))?;
                        Kind::Surface(Arc::clone(grid))
                    }
                    Target::Population(_) => Kind::Elements(Box::new(Elements {
                        near: Neighbours::new(&KeepTo::neighbours(
                            spec.keep_to,
                            NeighbourSpec::new(target.radius),
                        ))?,
                        few: Default::default(),
                        is_few: true,
                    })),
                };
                targets.all.push(Prepared { spec: target.clone(), sign, kind });
                targets.paths.push(path);
            }
        }
        Ok(targets)
    }

    pub(super) fn is_empty(&self) -> bool {
        self.all.is_empty()
    }

    /// All of them at a time, in seconds. Populations and surfaces are no places.
    pub fn at(&mut self, time: f64, world: &World) -> impl Iterator<Item = TargetAt<'_>> {
        self.move_places(time, world);
        self.all.iter().map(|target| {
            let at = match &target.kind {
                Kind::Place(at) => at.map(|at| at.to_array()),
                _ => None,
            };
            TargetAt { spec: &target.spec, sign: target.sign, at }
        })
    }

    fn move_places(&mut self, time: f64, world: &World) {
        for (target, path) in self.all.iter_mut().zip(&self.paths) {
            match (&mut target.kind, &target.spec.target) {
                (Kind::Place(at), Target::Path(_)) => *at = path.as_ref().map(|path| path.at(time).0),
                (Kind::Place(at), Target::Pusher(name)) => {
                    let nth = world.pusher_named(name);
                    *at = nth.and_then(|nth| world.pusher_at(nth, time)).map(|pushing| pushing.at);
                }
                _ => {}
            }
        }
    }

    /// Brings targets to where they are at a time, in seconds.
    pub(super) fn move_to(
        &mut self,
        time: f64,
        world: &World,
        others: &[OtherElements<'_>],
        meter: &mut Meter,
    ) -> Result<(), SpecError> {
        self.move_places(time, world);
        for target in &mut self.all {
            if let (Kind::Elements(elements), Target::Population(name)) =
                (&mut target.kind, &target.spec.target)
            {
                let there = others.iter().find(|other| other.name == name);
                elements.sort(there.map_or([&[]; 3], |other| other.position), self.free, meter)?;
            }
        }
        Ok(())
    }

    /// Adds the directions of all targets to the wishes of a block that lies within bounds. `places` are where its elements are, in their plane too.
    pub(super) fn pull(
        &self,
        level: Level,
        own: &Own,
        places: &[Lanes; 3],
        bounds: [[f32; 3]; 2],
        candidates: &mut Candidates,
        wishes: &mut Wishes,
    ) {
        for target in &self.all {
            let mut ways = Ways::default();
            match &target.kind {
                Kind::Place(None) => continue,
                Kind::Place(Some(at)) => {
                    for axis in 0..3 {
                        for i in 0..BLOCK {
                            ways.way[axis][i] = at[axis] * self.free[axis] - own.at[axis][i];
                        }
                    }
                    ways.there = [1.0; BLOCK];
                }
                Kind::Surface(grid) => {
                    for i in 0..BLOCK {
                        let place = Vec3::new(places[0][i], places[1][i], places[2][i]);
                        let (distance, gradient) = grid.sample(place);
                        let way = gradient.normalize_or_zero() * -distance;
                        for axis in 0..3 {
                            ways.way[axis][i] = way[axis];
                        }
                        ways.there[i] = 1.0;
                    }
                }
                Kind::Elements(elements) => {
                    elements.nearest(level, own, bounds, target.spec.radius, candidates, &mut ways);
                }
            }
            add(level, &target.spec, target.sign, &ways, wishes);
        }
    }
}

impl Elements {
    fn sort(&mut self, position: [&[f32]; 3], free: [f32; 3], meter: &mut Meter) -> Result<(), SpecError> {
        self.is_few = position[0].len() <= FEW;
        if !self.is_few {
            return self.near.find(&[position], meter);
        }
        for ((few, column), free) in self.few.iter_mut().zip(position).zip(free) {
            few.clear();
            few.extend(column.iter().map(|at| at * free));
        }
        Ok(())
    }

    /// Ways from each element of a block to the nearest.
    fn nearest(
        &self,
        level: Level,
        own: &Own,
        bounds: [[f32; 3]; 2],
        radius: f32,
        candidates: &mut Candidates,
        ways: &mut Ways,
    ) {
        if self.is_few {
            let all = [[0, self.few[0].len() as u32]];
            nearest(level, own, self.few.each_ref().map(|column| &column[..]), &all, radius, ways);
        } else {
            self.near.around(0, bounds, radius, candidates);
            nearest(level, own, self.near.sorted_positions(0), &candidates.runs, radius, ways);
        }
    }
}

/// Ways from the elements of a block to a target, in metres, and 1 where there is one.
#[derive(Debug, Clone, Copy, Default)]
struct Ways {
    way: [Lanes; 3],
    there: Lanes,
}

kernel! {
    /// Ways to the nearest of some candidates within a radius.
    fn nearest(simd, own: &Own, columns: [&[f32]; 3], runs: &[[u32; 2]], radius: f32, into: &mut Ways) {
        nearest_at(simd, own, columns, runs, radius, into);
    }

    /// Adds the direction to a target.
    fn add(_simd, spec: &TargetSpec, sign: f32, ways: &Ways, wishes: &mut Wishes) {
        let (weight, orbit, keep, alarm) = (spec.weight * sign, spec.orbit, spec.keep, spec.alarm);
        let per_radius = 1.0 / spec.radius;
        for i in 0..BLOCK {
            let [x, y, z] = [ways.way[0][i], ways.way[1][i], ways.way[2][i]];
            let distance = (x * x + y * y + z * z).sqrt();
            let per = if distance > 1e-9 { 1.0 / distance } else { 0.0 };
            // Fades over the outer half of its radius.
            let fade = ((1.0 - distance * per_radius) * 2.0).clamp(0.0, 1.0) * ways.there[i];
            // Within `keep` it lets go.
            let pull = if keep > 0.0 { ((distance / keep - 1.0) * 4.0).clamp(-0.5, 1.0) } else { 1.0 };
            let towards = weight * pull * fade * per;
            let flat = (x * x + z * z).sqrt();
            let around = if flat > 1e-9 { orbit * fade / flat } else { 0.0 };
            wishes.way[0][i] += x * towards - z * around;
            wishes.way[1][i] += y * towards;
            wishes.way[2][i] += z * towards + x * around;
            wishes.alarm[i] = wishes.alarm[i].max(alarm * fade);
        }
    }
}

#[inline(always)]
fn nearest_at<S: Simd>(
    simd: S,
    own: &Own,
    columns: [&[f32]; 3],
    runs: &[[u32; 2]],
    radius: f32,
    into: &mut Ways,
) {
    let lanes = |values: &Lanes| f32x8::from_slice(simd, values);
    let [ox, oy, oz] = [lanes(&own.at[0]), lanes(&own.at[1]), lanes(&own.at[2])];
    let zero = f32x8::splat(simd, 0.0);
    let mut best = f32x8::splat(simd, radius * radius);
    let (mut bx, mut by, mut bz, mut there) = (zero, zero, zero, zero);
    for run in runs {
        let run = run[0] as usize..run[1] as usize;
        let n = run.len();
        let (px, py, pz) =
            (&columns[0][run.clone()][..n], &columns[1][run.clone()][..n], &columns[2][run][..n]);
        for i in 0..n {
            let x = f32x8::splat(simd, px[i]) - ox;
            let y = f32x8::splat(simd, py[i]) - oy;
            let z = f32x8::splat(simd, pz[i]) - oz;
            let square = x * x + y * y + z * z;
            let nearer = square.simd_lt(best);
            best = nearer.select(square, best);
            bx = nearer.select(x, bx);
            by = nearer.select(y, by);
            bz = nearer.select(z, bz);
            there = nearer.select(f32x8::splat(simd, 1.0), there);
        }
    }
    into.way = [bx.to_array(), by.to_array(), bz.to_array()];
    into.there = there.to_array();
}

/// A prepared space that elements stay in.
#[derive(Debug, Clone)]
pub(super) enum Walls {
    Box { low: Vec3, high: Vec3 },
    Ball { middle: Vec3, radius: f32 },
    Grid(Arc<DistanceGrid>),
    Wrapping { low: Vec3, length: Vec3 },
}

impl Walls {
    pub(super) fn new(space: &Space, assets: &Assets) -> Result<Self, SpecError> {
        let [low, high] = space.corners().unwrap_or_default().map(Vec3::from);
        Ok(match space {
            Space::Box { .. } => Self::Box { low, high },
            Space::Ball { position, radius } => Self::Ball { middle: Vec3::from(*position), radius: *radius },
            Space::Distance { asset } => {
                Self::Grid(Arc::clone(assets.distance("within.distance.asset", asset)?))
            }
            Space::Wrapping { size, .. } => Self::Wrapping { low, length: Vec3::from(*size) },
        })
    }

    /// Depth behind the wall of a place, at least `-margin`, and the direction inwards times the share of the margin that is used up.
    fn turn_back(&self, ahead: Vec3, margin: f32) -> Vec3 {
        let share = |depth: f32| ((depth + margin) / margin).clamp(0.0, 2.0);
        match self {
            Self::Box { low, high } => {
                let (under, over) = (*low - ahead, ahead - *high);
                Vec3::from_array([0, 1, 2].map(|axis| share(under[axis]) - share(over[axis])))
            }
            Self::Ball { middle, radius } => {
                let off = ahead - *middle;
                let distance = off.length();
                off * (-share(distance - radius) / distance.max(1e-9))
            }
            Self::Grid(grid) => {
                let (distance, gradient) = grid.sample(ahead);
                gradient.normalize_or_zero() * -share(distance)
            }
            Self::Wrapping { .. } => Vec3::ZERO,
        }
    }

    /// Puts an element back inside; what it had of speed towards the wall is lost.
    pub(super) fn hold(&self, place: &mut Vec3, velocity: &mut Vec3) {
        match self {
            Self::Box { low, high } => {
                for axis in 0..3 {
                    let held = place[axis].clamp(low[axis], high[axis]);
                    if held != place[axis] {
                        place[axis] = held;
                        velocity[axis] = 0.0;
                    }
                }
            }
            Self::Ball { middle, radius } => {
                let off = *place - *middle;
                let distance = off.length();
                if distance > *radius {
                    let normal = off / distance;
                    // A hair inside, so that rounding does not leave it outside.
                    *place = *middle + normal * (radius * (1.0 - 1e-6));
                    *velocity -= normal * velocity.dot(normal).max(0.0);
                }
            }
            Self::Grid(grid) => {
                for _ in 0..4 {
                    let (distance, gradient) = grid.sample(*place);
                    if distance <= 0.0 {
                        return;
                    }
                    let normal = gradient.normalize_or_zero();
                    *place -= normal * (distance + 1e-4);
                    *velocity -= normal * velocity.dot(normal).max(0.0);
                }
            }
            Self::Wrapping { low, length } => {
                for axis in 0..3 {
                    let turns = ((place[axis] - low[axis]) / length[axis]).floor();
                    if turns != 0.0 {
                        let end = low[axis] + length[axis];
                        let folded = place[axis] - turns * length[axis];
                        place[axis] = if folded >= end { low[axis] } else { folded.max(low[axis]) };
                    }
                }
            }
        }
    }
}

/// How elements turn away from walls and obstacles.
#[derive(Debug, Clone, Copy)]
pub(super) struct Avoiding<'a> {
    pub(super) walls: Option<&'a Walls>,
    pub(super) world: &'a World,
    pub(super) seconds: f32,
    pub(super) weight: f32,
}

impl Avoiding<'_> {
    pub(super) fn is_nothing(&self) -> bool {
        let walls = self.walls.is_some_and(|walls| !matches!(walls, Walls::Wrapping { .. }));
        (!walls && self.world.solid().is_empty()) || self.weight == 0.0 || self.seconds == 0.0
    }

    /// Adds what turns the elements of a block away.
    pub(super) fn turn(&self, count: usize, places: &[Lanes; 3], velocity: &[Lanes; 3], wishes: &mut Wishes) {
        for i in 0..count {
            let place = Vec3::new(places[0][i], places[1][i], places[2][i]);
            let way = Vec3::new(velocity[0][i], velocity[1][i], velocity[2][i]) * self.seconds;
            let far = way.length().max(1e-6);
            let mut wish = self.walls.map_or(Vec3::ZERO, |walls| walls.turn_back(place + way, far * 0.5));
            wish += self.around(place, way, far);
            for axis in 0..3 {
                wishes.way[axis][i] += wish[axis] * self.weight;
            }
        }
    }

    /// Around obstacles of the world: along the surface, and away from it.
    fn around(&self, place: Vec3, way: Vec3, far: f32) -> Vec3 {
        if self.world.solid().is_empty() {
            return Vec3::ZERO;
        }
        let (here, _) = self.world.surface(place);
        // Nothing can be met on the way.
        if here > far * 1.5 {
            return Vec3::ZERO;
        }
        let (mut near, mut out) = (f32::INFINITY, Vec3::ZERO);
        for share in [0.35, 0.7, 1.0] {
            let (distance, normal) = self.world.surface(place + way * share);
            if distance < near {
                (near, out) = (distance, normal);
            }
        }
        let margin = far * 0.5;
        let share = ((margin - near) / margin).clamp(0.0, 2.0);
        // Straight at it, the way out is back: past it is better.
        let heading = way / far;
        let aside = out - heading * out.dot(heading);
        let past = aside.normalize_or(heading.any_orthonormal_vector());
        (out + past) * (share * 0.7)
    }
}
