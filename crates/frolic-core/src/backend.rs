//! What a population that lives elsewhere, as on a device, needs to be stepped by the same numbers.

use glam::Vec3;

pub use crate::families::particles::{
    Births, Due, EmitterAxes, Emitters, MOST_BURSTS, TrailClock, event_seed,
};
pub use crate::world::bodies::Motion;
pub use crate::world::fields::Attractor;
pub use crate::world::{GUST_SEED, Gusts, ON_EDGE};

use crate::assets::{Assets, DistanceGrid, Plane};
use crate::families::particles::{EmitterSpec, ParticleSpec};
use crate::foundations::error::SpecError;
use crate::placement::{AimSpec, ShapeSpec};
use crate::world::curl::WAVES;
use crate::world::endless::EndlessSpec;
use crate::world::events::EventSpec;
use crate::world::fields::{Acting, Fade, Falloff, FieldKind};
use crate::world::obstacles::{Body, Mask, MaskLie, Obstacle, Posts, Touch};
use crate::world::{World, new_stamp};

/// Most events of such a population.
pub const MOST_EVENTS: usize = 8;

/// Most elements of one that has events, or whose elements events start.
pub const MOST_LINKED: u32 = 8_000_000;

/// Most places that its trails keep, three more an element among them.
pub const MOST_KEPT: u64 = 10_000_000;

/// Most obstacles, and most collectors, that such a population can meet.
pub const MOST_SOLID: usize = 16;

/// An obstacle, as plain numbers.
#[derive(Debug, Clone, Copy, PartialEq)]
#[non_exhaustive]
pub struct Hindrance {
    /// 0 a plane: `place` is its normal and its offset along that. 1 a sphere: middle and radius. 2 an upright post: a point of its axis and
    /// radius. 3 a capsule: one end and radius; `more` is the way to the other. 4 a box: its middle and the sine of its turn; `more` is
    /// half its size and the cosine. 5 a ground: its corner and the height of the value 1; `more` is its size, the cosine of its steepest
    /// slope and its cell. 6 a distance grid: its first point and its cell. 7 a mask: its corner, its cell and whether it lies (0, 1).
    /// 8 the posts of an endless world: the side of their cells, and the least cell along x and z.
    pub kind: u32,
    /// m.
    pub place: [f32; 4],
    /// m.
    pub more: [f32; 4],
    /// Which of the [`grids`] it is read from, of kinds 5 to 8.
    pub grid: Option<usize>,
    /// Share of the speed towards it that is sent back.
    pub bounce: f32,
    /// Share of the speed along it that is lost at each touch.
    pub friction: f32,
    /// What becomes of who touches it: 0 it is sent back, 1 it stays, 2 its life ends, 3 nothing.
    pub touch: u32,
}

/// A grid that obstacles or fields are read from, as words: of a ground its heights, of a distance grid its distances, of posts x, z and
/// radius, m, three a cell, all as the bits of 32-bit floats; of a mask what each cell knows (distance in thousandths of a cell as 16 bits;
/// the direction in 8 bits each).
#[derive(Debug, Clone, Copy)]
pub struct Grid<'a> {
    of: GridOf<'a>,
    /// What it is a part of: never changes, or is another.
    origin: u64,
}

#[derive(Debug, Clone, Copy)]
enum GridOf<'a> {
    Heights(&'a Plane),
    Distance(&'a DistanceGrid),
    Mask(&'a Mask),
    Posts(&'a Posts),
}

impl Grid<'_> {
    /// Points or cells along each axis.
    pub fn points(&self) -> [usize; 3] {
        match self.of {
            GridOf::Heights(plane) => [plane.width(), plane.height(), 1],
            GridOf::Distance(grid) => grid.points(),
            GridOf::Mask(mask) => [mask.width(), mask.height(), 1],
            GridOf::Posts(posts) => {
                let [x, z] = posts.wide();
                [3, x, z]
            }
        }
    }

    /// Words in all.
    pub fn len(&self) -> usize {
        self.points().iter().product()
    }

    /// Whether it holds nothing; no grid does.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The `nth` word, along x, then y, then z.
    pub fn word(&self, nth: usize) -> u32 {
        match self.of {
            GridOf::Heights(plane) => plane.values()[nth].to_bits(),
            GridOf::Distance(grid) => grid.values()[nth].to_bits(),
            GridOf::Mask(mask) => mask.word(nth),
            GridOf::Posts(posts) => posts.post(nth / 3)[nth % 3].to_bits(),
        }
    }

    /// Another number whenever its words are others.
    pub fn stamp(&self) -> u64 {
        match self.of {
            GridOf::Mask(mask) => mask.stamp(),
            GridOf::Posts(posts) => posts.stamp(),
            _ => self.origin,
        }
    }

    /// The words that may have changed since its stamp was this.
    pub fn changed_since(&self, stamp: u64) -> std::ops::Range<usize> {
        match self.of {
            GridOf::Mask(mask) => {
                let rows = mask.changed_since(stamp).map_or(0..0, |[_, low, _, high]| low..high);
                rows.start * mask.width()..rows.end * mask.width()
            }
            _ if stamp == self.stamp() => 0..0,
            _ => 0..self.len(),
        }
    }
}

/// Words of grids that a population can read: rows of this many, each grid starting one of its own; and how many rows.
pub const GRID_ROW: usize = 2048;
/// See [`GRID_ROW`].
pub const GRID_ROWS: usize = 8192;

/// Most elements of a population whose emitters are not all [simple](is_simple).
pub const MOST_WRITTEN: u32 = 2_500_000;

/// The grids of a world's obstacles and fields and of a population's own fields, in this order.
pub fn grids<'a>(world: &'a World, own: &'a OwnFields) -> impl Iterator<Item = Grid<'a>> {
    let solid = world.solid().obstacles.iter().filter_map(|obstacle| match &obstacle.body {
        Body::Heights(heights) => Some(GridOf::Heights(heights.plane())),
        Body::Distance(grid) => Some(GridOf::Distance(grid)),
        Body::Mask(mask) => Some(GridOf::Mask(mask)),
        _ => None,
    });
    let shapes = |fields: &'a [Acting]| {
        fields.iter().filter_map(Acting::shape).map(|(_, grid)| GridOf::Distance(grid))
    };
    let posts = world.solid().posts.iter().map(GridOf::Posts);
    let of_world =
        solid.chain(posts).chain(shapes(world.fields())).map(|of| Grid { of, origin: world.origin() });
    of_world.chain(shapes(&own.fields).map(|of| Grid { of, origin: own.stamp }))
}

/// A collector within a step: its middle at the end and radius, m; how far it has come, m.
pub type Ball = [[f32; 4]; 2];

/// Most fields that such a population can feel, those of pulling collectors among them; and most of curl noise.
pub const MOST_FIELDS: usize = 16;
/// See [`MOST_FIELDS`].
pub const MOST_CURLS: usize = 2;
/// Most waves of curl noise.
pub const MOST_WAVES: usize = MOST_CURLS * WAVES;

/// A field as it is in one step, as plain numbers.
#[derive(Debug, Clone, Copy, PartialEq)]
#[non_exhaustive]
pub struct Felt {
    /// 0 pushes by `a`, m/s². 1 moves the air by `a`, m/s. 2 attracts: strength, radius and falloff (0 with the square, 1 linear, 2 none, 3
    /// as a spring). 3 turns: axis and 1 / radius² in `a`; round, inward and along, 1/s, in `b`. 4 is curl noise: its first wave and how many. 5
    /// draws to a shape: pull, damping, 1/s, and the furthest distance, m, in `a`; in `b` its place among [`Hindrances::all`] and whether it
    /// holds (0, 1).
    pub kind: u32,
    /// Middle, m, and 1 / reach², 0 where it reaches everywhere.
    pub middle: [f32; 4],
    /// By kind.
    pub a: [f32; 4],
    /// By kind.
    pub b: [f32; 3],
}

/// A wave of curl noise: turns a metre and turns at the origin; velocity, of which a wave has a sixteenth at its crest.
pub type Wave = [[f32; 4]; 2];

/// Fields of a population's own, ready to be felt beside the world's.
#[derive(Debug, Clone)]
pub struct OwnFields {
    fields: Vec<Acting>,
    stamp: u64,
}

impl OwnFields {
    /// Those of a spec.
    ///
    /// # Errors
    /// An asset that is missing or is no distance grid.
    pub fn new(spec: &ParticleSpec, assets: &Assets) -> Result<Self, SpecError> {
        Ok(Self { fields: Acting::all(&spec.fields, assets)?, stamp: new_stamp() })
    }

    /// Whether the population needs them one by one: the plain form, in which everything is the same everywhere but for gusts and one
    /// attractor, does not do.
    pub fn are_needed(&self, spec: &ParticleSpec, world: &World) -> bool {
        !(spec.motion.is_plain() && world.is_plain() && self.fields.is_empty())
    }

    /// All that act in the step from `time` on, s, in the order in which they are felt; and the waves of curl noise.
    pub fn felt(&self, world: &World, time: f64, fields: &mut Vec<Felt>, waves: &mut Vec<Wave>) {
        fields.clear();
        waves.clear();
        let mut shape = obstacles(world);
        for field in world.fields().iter().chain(&self.fields) {
            if field.acts(time) {
                fields.extend(felt(field, shape, world.spec().wind, time, waves));
            }
            shape += usize::from(field.shape().is_some());
        }
        for pull in world.pulls_at(time) {
            fields.extend(felt(&pull, shape, world.spec().wind, time, waves));
        }
    }
}

/// `shape`: the place of its shape, if it has one.
fn felt(field: &Acting, shape: usize, wind: [f32; 3], time: f64, waves: &mut Vec<Wave>) -> Option<Felt> {
    let spec = &field.spec;
    let Fade { middle: [x, y, z], per_square } = Fade::new(spec);
    let middle = [x, y, z, per_square];
    let with = |kind, a, b| Some(Felt { kind, middle, a, b });
    let long = |[x, y, z]: [f32; 3]| [x, y, z, 0.0];
    match &spec.kind {
        FieldKind::Push { acceleration } => with(0, long(*acceleration), [0.0; 3]),
        FieldKind::Wind { velocity } => with(1, long(*velocity), [0.0; 3]),
        FieldKind::Attractor(spec) => {
            let falloff = match spec.falloff {
                Falloff::Square => 0.0,
                Falloff::Linear => 1.0,
                Falloff::None => 2.0,
                Falloff::Spring => 3.0,
            };
            with(2, [spec.strength, spec.radius, falloff, 0.0], [0.0; 3])
        }
        FieldKind::Vortex(spec) => {
            let [x, y, z] = Vec3::from(spec.axis).normalize_or(Vec3::Y).to_array();
            let [round, inward] = spec.rates();
            with(3, [x, y, z, 1.0 / (spec.radius * spec.radius)], [round, inward, spec.along])
        }
        FieldKind::Curl(_) => {
            let curl = field.curl_at(wind, time)?;
            let first = waves.len() as f32;
            for ((turns, phase), push) in curl.turns.iter().zip(curl.phase).zip(curl.push) {
                waves.push([[turns[0], turns[1], turns[2], phase], long(push)]);
            }
            with(4, [first, WAVES as f32, 0.0, 0.0], [0.0; 3])
        }
        FieldKind::Shape(spec) => {
            let holds = f32::from(u8::from(spec.hold));
            with(5, [spec.pull, spec.damp, spec.most, 0.0], [shape as f32, holds, 0.0])
        }
    }
}

/// Why a population has to stay with the processor, if it has to: what it does, or what there is in the world, is not known elsewhere.
/// `assets`: those that its fields name.
pub fn stays_at_home(spec: &ParticleSpec, world: &World, assets: &Assets) -> Option<String> {
    let told = |what: &str| Some(what.to_owned());
    if spec.events.len() > MOST_EVENTS {
        return told("it has over 8 events");
    }
    if let Some(why) = spec.events.iter().find_map(event_stays) {
        return Some(format!("its events {why}"));
    }
    if !spec.events.is_empty() && spec.count > MOST_LINKED {
        return told("it has events and over 8 000 000 elements");
    }
    if spec.trail.is_some_and(|trail| u64::from(spec.count) * u64::from(trail.places + 3) > MOST_KEPT) {
        return told("its trail keeps over 10 million places");
    }
    if has_own_fields(world) {
        return told("it feels fields of the caller's own");
    }
    let fields = || world.spec().field.iter().chain(&spec.fields);
    if fields().count() + world.pulls_at(0.0).count() > MOST_FIELDS {
        return told("it feels over 16 fields and pulls");
    }
    if fields().filter(|field| matches!(field.kind, FieldKind::Curl(_))).count() > MOST_CURLS {
        return told("it feels over 2 fields of curl noise");
    }
    let shapes = || fields().filter(|field| matches!(field.kind, FieldKind::Shape(_))).count();
    if obstacles(world) + shapes() > MOST_SOLID {
        return told("there are over 16 obstacles and shapes");
    }
    if world.collectors().len() > MOST_SOLID {
        return told("the world has over 16 collectors");
    }
    if spec.count > MOST_WRITTEN && !spec.emitters.iter().all(is_simple) {
        return told("its emitters start from assets, or aim evenly, and it has over 2 500 000 elements");
    }
    // What is missing is told where the population is made.
    let own = OwnFields::new(spec, assets).ok()?;
    if grids(world, &own).map(|grid| grid.len().div_ceil(GRID_ROW)).sum::<usize>() > GRID_ROWS {
        return told("its grids hold over 16 million points");
    }
    None
}

/// Whether the world has fields that the program wrote itself, which no device can run.
pub fn has_own_fields(world: &World) -> bool {
    !world.own_fields().is_empty()
}

/// The same for populations by name, whose events may start elements of one another: those that events join live in one place.
pub fn all_that_stay(
    populations: &[(&str, &ParticleSpec)],
    world: &World,
    assets: &Assets,
) -> Vec<Option<String>> {
    let mut why: Vec<Option<(usize, String)>> = populations
        .iter()
        .enumerate()
        .map(|(nth, (_, spec))| stays_at_home(spec, world, assets).map(|reason| (nth, reason)))
        .collect();
    let mut joined = Vec::new();
    for (from, (name, spec)) in populations.iter().enumerate() {
        let starts = |event: &EventSpec| {
            populations.iter().position(|(other, _)| event.start.as_deref() == Some(*other))
        };
        for to in spec.events.iter().filter_map(starts) {
            let started = populations[to].1;
            joined.push([from, to]);
            if started.count > MOST_LINKED {
                let reason = format!("events of '{name}' start its elements, and it has over 8 000 000");
                why[to].get_or_insert((to, reason));
            }
            // Their draws go by their numbers, which depend on what has been started.
            if !started.emitters.iter().all(is_simple) {
                let reason = format!(
                    "events of '{name}' start its elements, and its emitters start from assets, or aim evenly"
                );
                why[to].get_or_insert((to, reason));
            }
        }
    }
    // As many rounds as there are populations reach everyone.
    for _ in populations {
        for &[a, b] in &joined {
            let both = why[a].clone().or_else(|| why[b].clone());
            for end in [a, b] {
                if why[end].is_none() {
                    why[end].clone_from(&both);
                }
            }
        }
    }
    let told = |(nth, why): (usize, Option<(usize, String)>)| {
        why.map(|(whose, reason)| {
            let name = populations[whose].0;
            if whose == nth { reason } else { format!("events join it to '{name}', and of that {reason}") }
        })
    };
    why.into_iter().enumerate().map(told).collect()
}

/// Whether newborn of an emitter can be drawn elsewhere, from its [`EmitterAxes`] and random numbers alone. Others are to be written down
/// here: [`Births::rows`].
pub fn is_simple(emitter: &EmitterSpec) -> bool {
    is_plain(&emitter.shape, &emitter.aim) && emitter.scatter.is_none()
}

/// What events like this one do that only the processor can follow, if anything.
pub fn event_stays(event: &EventSpec) -> Option<&'static str> {
    if event.keep_look {
        return Some("hand down looks");
    }
    (!is_plain(&event.shape, &event.aim)).then_some("start elements from assets, evenly or from the surface")
}

/// Whether places of a shape and directions of an aim can be drawn elsewhere.
fn is_plain(shape: &ShapeSpec, aim: &AimSpec) -> bool {
    let known = matches!(
        shape,
        ShapeSpec::Point
            | ShapeSpec::Disc { .. }
            | ShapeSpec::Sphere { .. }
            | ShapeSpec::SphereSurface { .. }
            | ShapeSpec::Box { .. }
            | ShapeSpec::Line { .. }
            | ShapeSpec::Ring { .. }
    );
    known && !aim.even && !aim.from_surface
}

/// The point that pulls everywhere and always, where that is the world's only field.
pub fn attractor(world: &World) -> Option<Attractor> {
    world.lone_attractor()
}

/// What a population meets and which shapes draw it.
#[derive(Debug, Clone, PartialEq)]
#[non_exhaustive]
pub struct Hindrances {
    /// Obstacles, then shapes as distance grids.
    pub all: Vec<Hindrance>,
    /// How many are obstacles.
    pub obstacles: usize,
    /// Ways up to this length, m, lead through none of them.
    pub short_way: f32,
    /// 1 where all obstacles are masks that stand, 2 where all are masks that lie: only what leads along their plane counts as a way. Else 0.
    pub flat: u32,
}

/// How many obstacles there are; the posts of an endless world are one.
fn obstacles(world: &World) -> usize {
    world.solid().obstacles.len() + usize::from(world.solid().posts.is_some())
}

/// The obstacles of a world, and the shapes of its fields and of a population's own.
pub fn hindrances(world: &World, own: &OwnFields) -> Hindrances {
    let solid = world.solid();
    let mut all: Vec<Hindrance> = solid
        .obstacles
        .iter()
        .map(|Obstacle { body, touch, bounce, friction }| hindrance(body, *touch, *bounce, *friction))
        .collect();
    all.extend(solid.posts.iter().map(|posts| {
        let (EndlessSpec { cells, bounce, friction, .. }, [x, z]) = (posts.spec(), posts.low());
        let place = [cells.side, x as f32, z as f32, 0.0];
        numbers(8, place, [0.0; 4], Touch::Bounce, *bounce, *friction)
    }));
    let shapes = world.fields().iter().chain(&own.fields).filter_map(Acting::shape);
    all.extend(shapes.map(|(_, grid)| numbers(6, place_of(grid), [0.0; 4], Touch::Pass, 0.0, 0.0)));
    // In the order of `grids`.
    for (nth, read) in all.iter_mut().filter(|it| it.kind >= 5).enumerate() {
        read.grid = Some(nth);
    }
    let flat = solid.lie().map_or(0, |lie| if lie == MaskLie::Flat { 2 } else { 1 });
    Hindrances { all, obstacles: obstacles(world), short_way: solid.short_way(), flat }
}

fn hindrance(body: &Body, touch: Touch, bounce: f32, friction: f32) -> Hindrance {
    let with = |at: Vec3, w: f32| at.extend(w).to_array();
    let (kind, place, more) = match body {
        Body::Plane { normal, offset } => (0, with(*normal, *offset), [0.0; 4]),
        Body::Sphere { middle, radius } => (1, with(*middle, *radius), [0.0; 4]),
        Body::Post(post) => (2, [post.x, 0.0, post.z, post.radius], [0.0; 4]),
        Body::Capsule { from, way, radius } => (3, with(*from, *radius), with(*way, 0.0)),
        Body::Box { middle, half, turn: [sin, cos] } => (4, with(*middle, *sin), with(*half, *cos)),
        Body::Heights(heights) => {
            let [place, more] = heights.numbers();
            (5, place, more)
        }
        Body::Distance(grid) => (6, place_of(grid), [0.0; 4]),
        Body::Mask(mask) => {
            let lies = f32::from(u8::from(mask.lie() == MaskLie::Flat));
            (7, [mask.corner().x, mask.corner().y, mask.cell(), lies], [0.0; 4])
        }
    };
    numbers(kind, place, more, touch, bounce, friction)
}

/// Where a distance grid is: its first point and its cell.
fn place_of(grid: &DistanceGrid) -> [f32; 4] {
    let [x, y, z] = grid.origin();
    [x, y, z, grid.cell()]
}

fn numbers(
    kind: u32,
    place: [f32; 4],
    more: [f32; 4],
    touch: Touch,
    bounce: f32,
    friction: f32,
) -> Hindrance {
    let (bounce, touch) = match touch {
        Touch::Bounce => (bounce, 0),
        Touch::Slide => (0.0, 0),
        Touch::Stick => (0.0, 1),
        Touch::Die => (0.0, 2),
        Touch::Pass => (0.0, 3),
    };
    Hindrance { kind, place, more, grid: None, bounce, friction, touch }
}

/// The collectors of a world in the step from `time`, s, of `dt` seconds.
pub fn balls(world: &World, time: f64, dt: f32) -> impl Iterator<Item = Ball> {
    world.collectors().iter().map(move |collector| {
        let (from, to) = (collector.at(time), collector.at(time + f64::from(dt)));
        [to.extend(collector.radius).to_array(), (to - from).extend(0.0).to_array()]
    })
}
