//! Fields of a world and of a population as plain numbers.

use crate::assets::Assets;
use crate::families::particles::ParticleSpec;
use crate::foundations::error::SpecError;
use crate::world::carried::Carried;
use crate::world::curl::WAVES;
use crate::world::fields::Acting;
use crate::world::fields::kernels::Fade;
use crate::world::fields::spec::FieldKind;
use crate::world::{World, new_stamp};
use glam::Vec3;

use super::colliders::obstacles;
use crate::world::fields::Attractor;

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
    /// [`DeviceColliders::all`](super::DeviceColliders::all), and 1 for a shape that holds elements on its surface.
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
    pub(super) fields: Vec<Acting>,
    pub(super) stamp: u64,
}

impl OwnFields {
    /// Builds the fields of a spec.
    ///
    /// # Errors
    /// An asset that is missing or is no distance grid.
    pub fn new(spec: &ParticleSpec, assets: &Assets) -> Result<Self, SpecError> {
        Ok(Self { fields: Acting::all(&spec.field, assets)?, stamp: new_stamp() })
    }

    /// Lets changed noise go on from where it is in the fields before a change.
    pub fn replace(&mut self, before: &Self) {
        self.fields.iter_mut().zip(&before.fields).for_each(|(field, before)| field.replace(before));
    }

    /// Lets a change hold from a time, in seconds. Call it before the first step after [`OwnFields::replace`].
    pub fn settle(&mut self, world: &World, time: f64) {
        let wind = world.carried(time);
        self.fields.iter_mut().for_each(|field| field.settle(&wind));
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
        let wind = world.carried(time);
        for field in world.fields().iter().chain(&self.fields) {
            if field.acts(time) {
                fields.extend(device_field(field, shape, &wind, waves));
            }
            shape += usize::from(field.shape().is_some());
        }
        for pull in world.pulls_at(time) {
            fields.extend(device_field(&pull, shape, &wind, waves));
        }
    }
}

/// Strength of a field at a position, 0 to 1: `middle` as in [`DeviceField::middle`].
pub fn fade(middle: [f32; 4], [x, y, z]: [f32; 3]) -> f32 {
    let [a, b, c, per_square] = middle;
    Fade { middle: [a, b, c], per_square }.at(x, y, z)
}

/// `shape` is the index of the field's shape, for a field that has one.
fn device_field(field: &Acting, shape: usize, wind: &Carried, waves: &mut Vec<Wave>) -> Option<DeviceField> {
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
            let curl = field.curl_at(wind)?;
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

/// Returns the attractor that acts everywhere and always, if it is the world's only field.
pub fn attractor(world: &World) -> Option<Attractor> {
    world.lone_attractor()
}
