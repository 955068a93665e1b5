//! What a population that lives elsewhere, as on a device, needs to be stepped by the same numbers.

use glam::Vec3;

pub use crate::particles::{Attractor, Due, EmitterAxes, Emitters, MOST_BURSTS, Motion};
pub use crate::world::{GUST_SEED, Gusts};

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

/// Why a population has to stay with the processor, if it has to: what it does, or what there is in the world, is not known elsewhere.
pub fn stays_at_home(spec: &ParticleSpec, world: &World) -> Option<String> {
    let told = |what: &str| Some(what.to_owned());
    if !spec.events.is_empty() {
        return told("its events start other elements");
    }
    if spec.trail.is_some() {
        return told("it leaves a trail");
    }
    let motion = &spec.motion;
    if !spec.fields.is_empty() || !world.own_fields().is_empty() {
        return told("it feels fields of its own");
    }
    if motion.drag_square > 0.0 || motion.speed_limits.is_some() || motion.keep_to.is_some() {
        return told("its motion has a drag of the square, speed limits, or a plane to keep to");
    }
    let plain = world.fields().is_empty() || attractor(world).is_some();
    if !plain || world.pulls() {
        return told("the world has fields other than one attractor");
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
        );
        let aim = &emitter.aim;
        if !known || aim.fan.is_some() || aim.even || aim.from_surface || aim.hollow_degrees > 0.0 {
            return told("an emitter has a shape or an aim of the newer kinds");
        }
        if emitter.scatter.is_some() {
            return told("an emitter is scattered over cells");
        }
        if emitter.path.as_ref().is_some_and(|path| path.turns) || emitter.keep_velocity != 0.0 {
            return told("an emitter turns or hands down its velocity");
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
