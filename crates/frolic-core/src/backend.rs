//! What a population that lives elsewhere, as on a device, needs to be stepped by the same numbers.

use glam::Vec3;

pub use crate::particles::{Attractor, Due, EmitterAxes, Emitters, MOST_BURSTS, Motion};
pub use crate::world::{GUST_SEED, Gusts};

use crate::curl::WAVES;
use crate::error::SpecError;
use crate::fields::{Acting, Fade, Falloff, FieldKind};
use crate::forms::Forms;
use crate::obstacles::{Body, Touch};
use crate::particles::{ParticleSpec, ShapeSpec};
use crate::world::World;

/// Most obstacles, and most collectors, that such a population can meet.
pub const MOST_SOLID: usize = 16;

/// A round or flat obstacle, as plain numbers.
#[derive(Debug, Clone, Copy, PartialEq)]
#[non_exhaustive]
pub struct Convex {
    /// 0 a plane: `place` is its normal and its offset along that. 1 a sphere: middle and radius. 2 an upright post: a point of its axis and
    /// radius. 3 a capsule: one end and radius; `more` is the way to the other. 4 a box: its middle and the sine of its turn; `more` is
    /// half its size and the cosine.
    pub kind: u32,
    /// m.
    pub place: [f32; 4],
    /// m.
    pub more: [f32; 4],
    /// Share of the speed towards it that is sent back.
    pub bounce: f32,
    /// Share of the speed along it that is lost at each touch.
    pub friction: f32,
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
    /// as a spring). 3 turns: axis and 1 / radius² in `a`; round, inward and along, 1/s, in `b`. 4 is curl noise: its first wave.
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
pub struct OwnFields(Vec<Acting>);

impl OwnFields {
    /// Those of a spec, if none of them needs a form.
    ///
    /// # Errors
    /// A form, which is not at hand here.
    pub fn new(spec: &ParticleSpec) -> Result<Self, SpecError> {
        Ok(Self(Acting::all(&spec.fields, &Forms::default())?))
    }

    /// Whether the population needs them one by one: the plain form, in which everything is the same everywhere but for gusts and one
    /// attractor, does not do.
    pub fn are_needed(&self, spec: &ParticleSpec, world: &World) -> bool {
        !(spec.motion.is_plain() && world.is_plain() && self.0.is_empty())
    }

    /// All that act in the step from `time` on, s, in the order in which they are felt; and the waves of curl noise.
    pub fn felt(&self, world: &World, time: f64, fields: &mut Vec<Felt>, waves: &mut Vec<Wave>) {
        fields.clear();
        waves.clear();
        for field in world.fields().iter().chain(&self.0).filter(|field| field.acts(time)) {
            fields.extend(felt(field, world.spec().wind, time, waves));
        }
        for pull in world.pulls_at(time) {
            fields.extend(felt(&pull, world.spec().wind, time, waves));
        }
    }
}

fn felt(field: &Acting, wind: [f32; 3], time: f64, waves: &mut Vec<Wave>) -> Option<Felt> {
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
        FieldKind::Shape(_) => None,
    }
}

/// Why a population has to stay with the processor, if it has to: what it does, or what there is in the world, is not known elsewhere.
pub fn stays_at_home(spec: &ParticleSpec, world: &World) -> Option<String> {
    let told = |what: &str| Some(what.to_owned());
    if !spec.events.is_empty() {
        return told("its events start other elements");
    }
    if spec.trail.is_some() {
        return told("it leaves a trail");
    }
    if !world.own_fields().is_empty() {
        return told("it feels fields of the caller's own");
    }
    let fields = || world.spec().field.iter().chain(&spec.fields);
    if fields().count() + world.pulls_at(0.0).count() > MOST_FIELDS {
        return told("it feels over 16 fields and pulls");
    }
    if fields().any(|field| matches!(field.kind, FieldKind::Shape(_))) {
        return told("a shape draws it or holds it");
    }
    if fields().filter(|field| matches!(field.kind, FieldKind::Curl(_))).count() > MOST_CURLS {
        return told("it feels over 2 fields of curl noise");
    }
    if world.changes() {
        return told("the world changes as it runs");
    }
    if convex(world).is_none() {
        return told("the world has obstacles other than 16 round or flat ones that send back");
    }
    if world.collectors().len() > MOST_SOLID {
        return told("the world has over 16 collectors");
    }
    for emitter in &spec.emitters {
        let known = matches!(
            emitter.shape,
            ShapeSpec::Point
                | ShapeSpec::Disc { .. }
                | ShapeSpec::Sphere { .. }
                | ShapeSpec::SphereSurface { .. }
                | ShapeSpec::Box { .. }
                | ShapeSpec::Line { .. }
                | ShapeSpec::Ring { .. }
        );
        if !known {
            return told("an emitter starts from a form");
        }
        if emitter.aim.even || emitter.aim.from_surface {
            return told("an emitter's aim is even or from the surface");
        }
        if emitter.scatter.is_some() {
            return told("an emitter is scattered over cells");
        }
    }
    None
}

/// The point that pulls everywhere and always, where that is the world's only field.
pub fn attractor(world: &World) -> Option<Attractor> {
    world.lone_attractor()
}

/// The obstacles of a world, if all are such.
pub fn convex(world: &World) -> Option<Vec<Convex>> {
    let solid = world.solid();
    if solid.posts.is_some() || solid.obstacles.len() > MOST_SOLID {
        return None;
    }
    let plain = |obstacle: &crate::obstacles::Obstacle| {
        let with = |at: Vec3, w: f32| at.extend(w).to_array();
        let (kind, place, more) = match &obstacle.body {
            Body::Plane { normal, offset } => (0, with(*normal, *offset), [0.0; 4]),
            Body::Sphere { middle, radius } => (1, with(*middle, *radius), [0.0; 4]),
            Body::Post(post) => (2, [post.x, 0.0, post.z, post.radius], [0.0; 4]),
            Body::Capsule { from, way, radius } => (3, with(*from, *radius), with(*way, 0.0)),
            Body::Box { middle, half, turn: [sin, cos] } => (4, with(*middle, *sin), with(*half, *cos)),
            Body::Heights(_) | Body::Distance(_) | Body::Mask(_) => return None,
        };
        let bounce = match obstacle.touch {
            Touch::Bounce => obstacle.bounce,
            Touch::Slide => 0.0,
            _ => return None,
        };
        Some(Convex { kind, place, more, bounce, friction: obstacle.friction })
    };
    solid.obstacles.iter().map(plain).collect()
}

/// The collectors of a world in the step from `time`, s, of `dt` seconds.
pub fn balls(world: &World, time: f64, dt: f32) -> impl Iterator<Item = Ball> {
    world.collectors().iter().map(move |collector| {
        let (from, to) = (collector.at(time), collector.at(time + f64::from(dt)));
        [to.extend(collector.radius).to_array(), (to - from).extend(0.0).to_array()]
    })
}
