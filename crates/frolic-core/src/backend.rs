//! Plain numbers for stepping a population elsewhere, such as on a graphics device: colliders, fields, births, and the limits of each.

use glam::Vec3;

pub use crate::families::particles::{
    Births, Due, EmitterAxes, Emitters, MOST_BURSTS, TrailClock, event_seed,
};
pub use crate::world::bodies::Motion;
pub use crate::world::fields::Attractor;
pub use crate::world::obstacles::{HELD, MOST_TOUCHES, SKIN};
pub use crate::world::{GUST_SEED, Gusts, ON_EDGE};

use crate::assets::{Assets, DistanceGrid, Plane};
use crate::families::particles::{EmitterSpec, ParticleSpec};
use crate::foundations::error::SpecError;
use crate::placement::{AimSpec, ShapeSpec};
use crate::world::curl::WAVES;
use crate::world::endless::EndlessSpec;
use crate::world::events::EventSpec;
use crate::world::fields::{Acting, Fade, FieldKind};
use crate::world::obstacles::{Body, Mask, MaskOrientation, Obstacle, Posts, Touch};
use crate::world::{World, new_stamp};

/// Most events of a device-resident population.
pub const MOST_EVENTS: usize = 8;

/// Most elements of one with events, or started by events.
pub const MOST_LINKED: u32 = 8_000_000;

/// Most positions that its trails keep, with three more for each element.
pub const MOST_KEPT: u64 = 10_000_000;

/// Most obstacles and field shapes together, and most collectors.
pub const MOST_SOLID: usize = 16;

/// Kind of a [`DeviceCollider`], and what its numbers mean.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd)]
#[repr(u32)]
pub enum ColliderKind {
    /// `place` is the normal, and the offset along the normal.
    Plane,
    /// `place` is the centre and the radius.
    Sphere,
    /// An upright cylinder: `place` is a point of the axis and the radius.
    Post,
    /// `place` is one end and the radius; `more` is the vector to the other end.
    Capsule,
    /// `place` is the centre and the sine of the turn; `more` is half the size and the cosine of the turn.
    Box,
    /// A height map: `place` is the corner and the height of the value 1; `more` is the size in x and z, the cosine of the steepest slope, and
    /// the cell size. Reads a grid, as do all kinds below.
    Ground,
    /// A distance grid: `place` is the first point and the cell size.
    Distances,
    /// `place` is the corner, the cell size, and 1 for a mask that lies on the ground.
    Mask,
    /// The posts of an endless world: `place` is the cell size, and the lowest cell along x and z.
    Posts,
}

/// What happens to an element that touches a [`DeviceCollider`].
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u32)]
pub enum Contact {
    /// It bounces or slides.
    Bounces,
    /// It stays where it is.
    Sticks,
    /// Its life ends.
    Dies,
    /// Nothing.
    Passes,
}

/// An obstacle, or the shape of a field, as plain numbers. Lengths are in metres.
#[derive(Debug, Clone, Copy, PartialEq)]
#[non_exhaustive]
pub struct DeviceCollider {
    /// Says what `place` and `more` mean.
    pub kind: ColliderKind,
    /// See [`ColliderKind`].
    pub place: [f32; 4],
    /// See [`ColliderKind`].
    pub more: [f32; 4],
    /// Index into [`grids`], for kinds from [`ColliderKind::Ground`] on.
    pub grid: Option<usize>,
    /// Share of the speed along the normal that is sent back.
    pub bounce: f32,
    /// Share of the speed along the surface that is lost at each contact.
    pub friction: f32,
    /// What a contact does.
    pub contact: Contact,
}

/// A grid of a collider or field, as words. Heights, distances, and the x, z and radius of posts (three words a cell) are the bits of 32-bit
/// floats, in metres. A cell of a mask is a distance in thousandths of a cell (16 bits) and a direction (8 bits an axis).
#[derive(Debug, Clone, Copy)]
pub struct Grid<'a> {
    of: GridOf<'a>,
    /// Identifies the world or population it belongs to.
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

    /// Returns whether it has no words; no grid is empty.
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

    /// Changes whenever a word changes.
    pub fn stamp(&self) -> u64 {
        match self.of {
            GridOf::Mask(mask) => mask.stamp(),
            GridOf::Posts(posts) => posts.stamp(),
            _ => self.origin,
        }
    }

    /// Range of words that may have changed since the stamp had this value.
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

/// Words in a row of all grids of a population. Each grid starts a new row.
pub const GRID_ROW: usize = 2048;
/// Most rows of the grids of a population.
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

/// A collector during one step: its centre at the end of the step and its radius; the way it has moved. In metres.
pub type DeviceCollector = [[f32; 4]; 2];

/// Most fields that act on a device-resident population, with those of pulling collectors.
pub const MOST_FIELDS: usize = 16;
/// Most fields of curl noise.
pub const MOST_CURLS: usize = 2;
/// Most waves of curl noise.
pub const MOST_WAVES: usize = MOST_CURLS * WAVES;

/// Kind of a [`DeviceField`], and what its numbers mean.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u32)]
pub enum DeviceFieldKind {
    /// `a` is an acceleration, in m/s².
    Push,
    /// `a` is a velocity of the air, in m/s.
    Wind,
    /// `a` is the strength, the radius, and the [`Falloff`](crate::Falloff) as a number.
    Attract,
    /// `a` is the axis and 1 / radius²; `b` is the air's rate around the axis and towards it, in 1/s, and its velocity along it, in m/s.
    Vortex,
    /// Curl noise: `a` is the index of the first wave, and the number of waves.
    Curl,
    /// `a` is the pull, the damping in 1/s, and the furthest distance in metres; `b` is the index of the shape among
    /// [`DeviceColliders::all`], and 1 for a shape that holds elements on its surface.
    Shape,
}

/// A field during one step, as plain numbers.
#[derive(Debug, Clone, Copy, PartialEq)]
#[non_exhaustive]
pub struct DeviceField {
    /// Says what `a` and `b` mean.
    pub kind: DeviceFieldKind,
    /// Centre, in metres, and 1 / reach²; 0 for a field without bounds.
    pub middle: [f32; 4],
    /// See [`DeviceFieldKind`].
    pub a: [f32; 4],
    /// See [`DeviceFieldKind`].
    pub b: [f32; 3],
}

/// A wave of curl noise: turns a metre along each axis and turns at the origin; velocity, of which the crest has a sixteenth.
pub type Wave = [[f32; 4]; 2];

/// Fields of one population, which act beside the world's.
#[derive(Debug, Clone)]
pub struct OwnFields {
    fields: Vec<Acting>,
    stamp: u64,
}

impl OwnFields {
    /// Builds the fields of a spec.
    ///
    /// # Errors
    /// An asset that is missing or is no distance grid.
    pub fn new(spec: &ParticleSpec, assets: &Assets) -> Result<Self, SpecError> {
        Ok(Self { fields: Acting::all(&spec.field, assets)?, stamp: new_stamp() })
    }

    /// Returns whether fields have to be evaluated one by one for each element. Gusts and a single attractor do not need it.
    pub fn are_needed(&self, spec: &ParticleSpec, world: &World) -> bool {
        !(spec.motion.is_plain() && world.is_plain() && self.fields.is_empty())
    }

    /// Collects the fields that act in the step from `time`, in seconds, in the order in which they are added; and the waves of curl noise.
    pub fn device_fields(
        &self,
        world: &World,
        time: f64,
        fields: &mut Vec<DeviceField>,
        waves: &mut Vec<Wave>,
    ) {
        fields.clear();
        waves.clear();
        let mut shape = obstacles(world);
        for field in world.fields().iter().chain(&self.fields) {
            if field.acts(time) {
                fields.extend(device_field(field, shape, world.spec().wind, time, waves));
            }
            shape += usize::from(field.shape().is_some());
        }
        for pull in world.pulls_at(time) {
            fields.extend(device_field(&pull, shape, world.spec().wind, time, waves));
        }
    }
}

/// Strength of a field at a position, 0 to 1: `middle` as in [`DeviceField::middle`].
pub fn fade(middle: [f32; 4], [x, y, z]: [f32; 3]) -> f32 {
    let [a, b, c, per_square] = middle;
    Fade { middle: [a, b, c], per_square }.at(x, y, z)
}

/// `shape` is the index of the field's shape, for a field that has one.
fn device_field(
    field: &Acting,
    shape: usize,
    wind: [f32; 3],
    time: f64,
    waves: &mut Vec<Wave>,
) -> Option<DeviceField> {
    let spec = &field.spec;
    let Fade { middle: [x, y, z], per_square } = Fade::new(spec);
    let middle = [x, y, z, per_square];
    let with = |kind, a, b| Some(DeviceField { kind, middle, a, b });
    let long = |[x, y, z]: [f32; 3]| [x, y, z, 0.0];
    match &spec.kind {
        FieldKind::Push { acceleration } => with(DeviceFieldKind::Push, long(*acceleration), [0.0; 3]),
        FieldKind::Wind { velocity } => with(DeviceFieldKind::Wind, long(*velocity), [0.0; 3]),
        FieldKind::Attractor(spec) => {
            let falloff = spec.falloff as u32 as f32;
            with(DeviceFieldKind::Attract, [spec.strength, spec.radius, falloff, 0.0], [0.0; 3])
        }
        FieldKind::Vortex(spec) => {
            let [x, y, z] = Vec3::from(spec.axis).normalize_or(Vec3::Y).to_array();
            let [round, inward] = spec.rates();
            with(
                DeviceFieldKind::Vortex,
                [x, y, z, 1.0 / (spec.radius * spec.radius)],
                [round, inward, spec.along],
            )
        }
        FieldKind::Curl(_) => {
            let curl = field.curl_at(wind, time)?;
            let first = waves.len() as f32;
            for ((turns, phase), push) in curl.turns.iter().zip(curl.phase).zip(curl.push) {
                waves.push([[turns[0], turns[1], turns[2], phase], long(push)]);
            }
            with(DeviceFieldKind::Curl, [first, WAVES as f32, 0.0, 0.0], [0.0; 3])
        }
        FieldKind::Shape(spec) => {
            let holds = f32::from(u8::from(spec.hold));
            with(DeviceFieldKind::Shape, [spec.pull, spec.damp, spec.most, 0.0], [shape as f32, holds, 0.0])
        }
    }
}

/// Returns why this population cannot run on the device, if it cannot. `assets` are those that its fields name.
pub fn why_not_on_device(spec: &ParticleSpec, world: &World, assets: &Assets) -> Option<String> {
    let why = |what: &str| Some(what.to_owned());
    if spec.event.len() > MOST_EVENTS {
        return why("it has over 8 events");
    }
    if let Some(reason) = spec.event.iter().find_map(why_event_not_on_device) {
        return Some(format!("its events {reason}"));
    }
    if !spec.event.is_empty() && spec.count > MOST_LINKED {
        return why("it has events and over 8 000 000 elements");
    }
    if spec.trail.is_some_and(|trail| u64::from(spec.count) * u64::from(trail.places + 3) > MOST_KEPT) {
        return why("its trail keeps over 10 million places");
    }
    if has_own_fields(world) {
        return why("it feels fields of the caller's own");
    }
    let fields = || world.spec().field.iter().chain(&spec.field);
    if fields().count() + world.pulls_at(0.0).count() > MOST_FIELDS {
        return why("it feels over 16 fields and pulls");
    }
    if fields().filter(|field| matches!(field.kind, FieldKind::Curl(_))).count() > MOST_CURLS {
        return why("it feels over 2 fields of curl noise");
    }
    let shapes = || fields().filter(|field| matches!(field.kind, FieldKind::Shape(_))).count();
    if obstacles(world) + shapes() > MOST_SOLID {
        return why("there are over 16 obstacles and shapes");
    }
    if world.collectors().len() > MOST_SOLID {
        return why("the world has over 16 collectors");
    }
    if spec.count > MOST_WRITTEN && !spec.emitter.iter().all(is_simple) {
        return why("its emitters start from assets, or aim evenly, and it has over 2 500 000 elements");
    }
    // Building the population reports a missing asset.
    let own = OwnFields::new(spec, assets).ok()?;
    if grids(world, &own).map(|grid| grid.len().div_ceil(GRID_ROW)).sum::<usize>() > GRID_ROWS {
        return why("its grids hold over 16 million points");
    }
    None
}

/// Returns whether the world has fields written by the program, which no device can run.
pub fn has_own_fields(world: &World) -> bool {
    !world.own_fields().is_empty()
}

/// Returns the same for named populations whose events may start elements of each other: populations joined by events run in one place.
pub fn why_not_on_device_all(
    populations: &[(&str, &ParticleSpec)],
    world: &World,
    assets: &Assets,
) -> Vec<Option<String>> {
    let mut why: Vec<Option<(usize, String)>> = populations
        .iter()
        .enumerate()
        .map(|(nth, (_, spec))| why_not_on_device(spec, world, assets).map(|reason| (nth, reason)))
        .collect();
    let mut joined = Vec::new();
    for (from, (name, spec)) in populations.iter().enumerate() {
        let starts = |event: &EventSpec| {
            populations.iter().position(|(other, _)| event.start.as_deref() == Some(*other))
        };
        for to in spec.event.iter().filter_map(starts) {
            let started = populations[to].1;
            joined.push([from, to]);
            if started.count > MOST_LINKED {
                let reason = format!("events of '{name}' start its elements, and it has over 8 000 000");
                why[to].get_or_insert((to, reason));
            }
            // Their draws go by their numbers, which depend on what has been started.
            if !started.emitter.iter().all(is_simple) {
                let reason = format!(
                    "events of '{name}' start its elements, and its emitters start from assets, or aim evenly"
                );
                why[to].get_or_insert((to, reason));
            }
        }
    }
    // One round for each population reaches all that are joined.
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
    let text = |(nth, why): (usize, Option<(usize, String)>)| {
        why.map(|(of, reason)| {
            let name = populations[of].0;
            if of == nth { reason } else { format!("events join it to '{name}', and of that {reason}") }
        })
    };
    why.into_iter().enumerate().map(text).collect()
}

/// Returns whether the device can start the newborns of an emitter from its [`EmitterAxes`] and random numbers alone. [`Births::rows`] starts
/// all others.
pub fn is_simple(emitter: &EmitterSpec) -> bool {
    is_plain(&emitter.shape, &emitter.aim) && emitter.scatter.is_none()
}

/// Returns why the device cannot run events like this one, if it cannot.
pub fn why_event_not_on_device(event: &EventSpec) -> Option<&'static str> {
    if event.keep_look {
        return Some("hand down looks");
    }
    (!is_plain(&event.shape, &event.aim)).then_some("start elements from assets, evenly or from the surface")
}

/// Returns whether the device can draw positions of a shape and directions of an aim.
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

/// Returns the attractor that acts everywhere and always, if it is the world's only field.
pub fn attractor(world: &World) -> Option<Attractor> {
    world.lone_attractor()
}

/// Colliders of a population, and the shapes of its fields.
#[derive(Debug, Clone, PartialEq)]
#[non_exhaustive]
pub struct DeviceColliders {
    /// Obstacles, then shapes as distance grids.
    pub all: Vec<DeviceCollider>,
    /// How many are obstacles.
    pub obstacles: usize,
    /// A path up to this length, in metres, cannot cross any of them.
    pub short_way: f32,
    /// 1 if all obstacles are upright masks, 2 if all are masks on the ground: the length of a path is then measured in their plane. Otherwise 0.
    pub flat: u32,
}

/// Number of obstacles; the posts of an endless world count as one.
fn obstacles(world: &World) -> usize {
    world.solid().obstacles.len() + usize::from(world.solid().posts.is_some())
}

/// The obstacles of a world, and the shapes of its fields and of a population's own.
pub fn device_colliders(world: &World, own: &OwnFields) -> DeviceColliders {
    let solid = world.solid();
    let mut all: Vec<DeviceCollider> = solid
        .obstacles
        .iter()
        .map(|Obstacle { body, touch, bounce, friction }| collider(body, *touch, *bounce, *friction))
        .collect();
    all.extend(solid.posts.iter().map(|posts| {
        let (EndlessSpec { cells, bounce, friction, .. }, [x, z]) = (posts.spec(), posts.low());
        let place = [cells.side, x as f32, z as f32, 0.0];
        numbers(ColliderKind::Posts, place, [0.0; 4], Touch::Bounce, *bounce, *friction)
    }));
    let shapes = world.fields().iter().chain(&own.fields).filter_map(Acting::shape);
    all.extend(
        shapes.map(|(_, grid)| {
            numbers(ColliderKind::Distances, place_of(grid), [0.0; 4], Touch::Pass, 0.0, 0.0)
        }),
    );
    // In the order of `grids`.
    for (nth, read) in all.iter_mut().filter(|it| it.kind >= ColliderKind::Ground).enumerate() {
        read.grid = Some(nth);
    }
    let flat =
        solid.orientation().map_or(0, |orientation| if orientation == MaskOrientation::Flat { 2 } else { 1 });
    DeviceColliders { all, obstacles: obstacles(world), short_way: solid.short_way(), flat }
}

fn collider(body: &Body, touch: Touch, bounce: f32, friction: f32) -> DeviceCollider {
    let with = |at: Vec3, w: f32| at.extend(w).to_array();
    let (kind, place, more) = match body {
        Body::Plane { normal, offset } => (ColliderKind::Plane, with(*normal, *offset), [0.0; 4]),
        Body::Sphere { middle, radius } => (ColliderKind::Sphere, with(*middle, *radius), [0.0; 4]),
        Body::Post(post) => (ColliderKind::Post, [post.x, 0.0, post.z, post.radius], [0.0; 4]),
        Body::Capsule { from, way, radius } => (ColliderKind::Capsule, with(*from, *radius), with(*way, 0.0)),
        Body::Box { middle, half, turn: [sin, cos] } => {
            (ColliderKind::Box, with(*middle, *sin), with(*half, *cos))
        }
        Body::Heights(heights) => {
            let [place, more] = heights.numbers();
            (ColliderKind::Ground, place, more)
        }
        Body::Distance(grid) => (ColliderKind::Distances, place_of(grid), [0.0; 4]),
        Body::Mask(mask) => {
            let lies = f32::from(u8::from(mask.orientation() == MaskOrientation::Flat));
            (ColliderKind::Mask, [mask.corner().x, mask.corner().y, mask.cell(), lies], [0.0; 4])
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
    kind: ColliderKind,
    place: [f32; 4],
    more: [f32; 4],
    touch: Touch,
    bounce: f32,
    friction: f32,
) -> DeviceCollider {
    let (bounce, contact) = match touch {
        Touch::Bounce => (bounce, Contact::Bounces),
        Touch::Slide => (0.0, Contact::Bounces),
        Touch::Stick => (0.0, Contact::Sticks),
        Touch::Die => (0.0, Contact::Dies),
        Touch::Pass => (0.0, Contact::Passes),
    };
    DeviceCollider { kind, place, more, grid: None, bounce, friction, contact }
}

/// The collectors of a world during the step of `dt` seconds that starts at `time`, in seconds.
pub fn device_collectors(world: &World, time: f64, dt: f32) -> impl Iterator<Item = DeviceCollector> {
    world.collectors().iter().map(move |collector| {
        let (from, to) = (collector.at(time), collector.at(time + f64::from(dt)));
        [to.extend(collector.radius).to_array(), (to - from).extend(0.0).to_array()]
    })
}
