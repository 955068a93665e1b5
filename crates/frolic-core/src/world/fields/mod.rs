//! Fields: forces and currents of air with a value at each point and time.
//!
//! Some fields add to the acceleration of elements; others move the air, which acts through drag. Fields process a chunk of elements at a time
//! ([`FieldChunk`]). A field of the program's own is a trait with one method ([`Field`]).

pub(crate) mod kernels;
pub(crate) mod spec;

use std::sync::Arc;

use glam::Vec3;
use serde::{Deserialize, Serialize};

use crate::assets::{Assets, DistanceGrid};
use crate::foundations::error::SpecError;
use crate::foundations::simd::Level;
use crate::world::carried::Carried;
use crate::world::curl::{Curl, CurlPhases};
use crate::world::fields::spec::CurlSpec;

use kernels::{Fade, add_attractor, add_curl, add_fading_curl, add_steady, add_vortex, draw_to};
use spec::{AttractorSpec, Falloff, FieldKind, FieldSpec, ShapeFieldSpec};

/// An attractor with [`Falloff::Square`] that acts everywhere and always, for the plain form of a step.
#[derive(Debug, Clone, Copy, PartialEq)]
#[non_exhaustive]
pub struct Attractor {
    /// Position, in metres.
    pub position: [f32; 3],
    /// Acceleration at 1 m, in m/s².
    pub strength: f32,
    /// Softening radius, in metres.
    pub radius: f32,
}

/// A chunk of elements for the fields: slices of one length.
#[derive(Debug)]
#[non_exhaustive]
pub struct FieldChunk<'a> {
    /// Time since the start, in seconds.
    pub time: f64,
    /// Length of the step, in seconds.
    pub dt: f32,
    /// Index of the first element in its population, as [`Field::prepare`] sees it.
    pub first: usize,
    /// Position: x, y, z, in metres.
    pub position: [&'a [f32]; 3],
    /// Velocity: x, y, z, in m/s.
    pub velocity: [&'a [f32]; 3],
    /// Time since birth, in seconds.
    pub age: &'a [f32],
    /// Age at death, in seconds.
    pub life: &'a [f32],
    /// Number of each element.
    pub id: &'a [u32],
    /// Velocity of the air, in m/s: add to it. It acts through drag.
    pub air: [&'a mut [f32]; 3],
    /// Acceleration, in m/s²: add to it.
    pub push: [&'a mut [f32]; 3],
}

impl FieldChunk<'_> {
    /// Number of elements.
    pub fn len(&self) -> usize {
        self.age.len()
    }

    /// Whether there are no elements.
    pub fn is_empty(&self) -> bool {
        self.age.is_empty()
    }
}

/// A whole population for [`Field::prepare`]: slices of one length.
#[derive(Debug, Clone, Copy)]
#[non_exhaustive]
pub struct FieldPopulation<'a> {
    /// Time since the start, in seconds.
    pub time: f64,
    /// Length of the step, in seconds.
    pub dt: f32,
    /// Position: x, y, z, in metres.
    pub position: [&'a [f32]; 3],
    /// Velocity: x, y, z, in m/s.
    pub velocity: [&'a [f32]; 3],
    /// Time since birth, in seconds.
    pub age: &'a [f32],
    /// Age at death, in seconds.
    pub life: &'a [f32],
    /// Number of each element.
    pub id: &'a [u32],
}

/// A field of the program's own, for [`World::with_field`](crate::World::with_field).
///
/// ```
/// use frolic_core::{Field, FieldChunk, WorldSpec};
///
/// /// Holds everything under a ceiling, softly.
/// #[derive(Debug)]
/// struct Ceiling(f32);
///
/// impl Field for Ceiling {
///     fn act(&self, chunk: &mut FieldChunk<'_>) {
///         for (push, y) in chunk.push[1].iter_mut().zip(chunk.position[1]) {
///             *push -= 40.0 * (y - self.0).max(0.0);
///         }
///     }
/// }
///
/// let world = WorldSpec::default().build()?.with_field(Ceiling(3.0));
/// # Ok::<(), frolic_core::SpecError>(())
/// ```
pub trait Field: std::fmt::Debug + Send + Sync {
    /// Looks at a whole population before it is stepped, for example to find neighbours; called once for each step and population that the field
    /// acts on. What it keeps for [`Field::act`] it holds behind a lock. By default it does nothing.
    ///
    /// ```
    /// use std::sync::RwLock;
    /// use frolic_core::{Field, FieldChunk, FieldPopulation};
    ///
    /// /// Draws all elements to their middle.
    /// #[derive(Debug, Default)]
    /// struct Together(RwLock<f32>);
    ///
    /// impl Field for Together {
    ///     fn prepare(&self, whole: &FieldPopulation<'_>) {
    ///         let [x, ..] = whole.position;
    ///         *self.0.write().unwrap() = x.iter().sum::<f32>() / x.len().max(1) as f32;
    ///     }
    ///
    ///     fn act(&self, chunk: &mut FieldChunk<'_>) {
    ///         let middle = *self.0.read().unwrap();
    ///         for (push, x) in chunk.push[0].iter_mut().zip(chunk.position[0]) {
    ///             *push += (middle - x) * 2.0;
    ///         }
    ///     }
    /// }
    /// ```
    fn prepare(&self, _whole: &FieldPopulation<'_>) {}

    /// Adds to the velocity of the air or to the acceleration of every element. The result for an element must depend on that element alone: it
    /// may come in a chunk of any length.
    fn act(&self, chunk: &mut FieldChunk<'_>);
}

/// A prepared field.
#[derive(Debug, Clone)]
pub(crate) struct Acting {
    pub(crate) spec: FieldSpec,
    grid: Option<Arc<DistanceGrid>>,
    seed: u32,
    /// Phases of curl noise whose spec was changed.
    phases: Option<CurlPhases>,
    /// Curl noise as it was before a change that no step has seen yet.
    before: Option<(CurlSpec, Option<CurlPhases>)>,
}

/// What a field carries over changes: see [`Acting`].
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
pub(crate) struct FieldPhases {
    phases: Option<CurlPhases>,
    before: Option<(CurlSpec, Option<CurlPhases>)>,
}

impl Acting {
    fn new(spec: &FieldSpec, nth: usize, assets: &Assets) -> Result<Self, SpecError> {
        let under = |error: SpecError| error.under(&format!("field.{nth}"));
        let grid = match &spec.kind {
            FieldKind::Shape(shape) => {
                Some(Arc::clone(assets.distance("kind.shape.asset", &shape.asset).map_err(under)?))
            }
            _ => None,
        };
        Ok(Self { spec: spec.clone(), grid, seed: nth as u32, phases: None, before: None })
    }

    /// Prepares all fields of a checked list.
    pub(crate) fn all(specs: &[FieldSpec], assets: &Assets) -> Result<Vec<Self>, SpecError> {
        specs.iter().enumerate().map(|(nth, spec)| Self::new(spec, nth, assets)).collect()
    }

    /// The pull of a collector: constant towards a position, fading to nothing at its reach, in metres.
    pub(crate) fn pull(place: Vec3, strength: f32, reach: f32) -> Self {
        // Softened within a tenth of its reach, so that the pull has no jump at the centre.
        let kind =
            FieldKind::Attractor(AttractorSpec { strength, radius: reach * 0.1, falloff: Falloff::None });
        let spec = FieldSpec::new(kind).position(place.to_array()).reach(reach);
        Self { spec, grid: None, seed: 0, phases: None, before: None }
    }

    /// Its surface, if it has one.
    pub(crate) fn shape(&self) -> Option<(&ShapeFieldSpec, &Arc<DistanceGrid>)> {
        match &self.spec.kind {
            FieldKind::Shape(shape) => Some((shape, self.grid.as_ref()?)),
            _ => None,
        }
    }

    /// Whether it acts at a time, in seconds.
    pub(crate) fn acts(&self, time: f64) -> bool {
        self.spec.during.is_none_or(|[from, to]| (f64::from(from)..f64::from(to)).contains(&time))
    }

    /// The attractor for the plain form of a step, if it is one that acts everywhere and always.
    pub(crate) fn plain_attractor(&self) -> Option<Attractor> {
        match self.spec.kind {
            FieldKind::Attractor(AttractorSpec { strength, radius, falloff: Falloff::Square })
                if self.spec.reach.is_none() && self.spec.during.is_none() =>
            {
                Some(Attractor { position: self.spec.position, strength, radius })
            }
            _ => None,
        }
    }

    /// Upper bounds of its current, in m/s, and of its acceleration, in m/s². `None` if there is no bound.
    pub(crate) fn most(&self, curl: Option<&Curl>) -> Option<(f32, f32)> {
        let length = |vector: [f32; 3]| Vec3::from(vector).length();
        Some(match &self.spec.kind {
            FieldKind::Push { acceleration } => (0.0, length(*acceleration)),
            FieldKind::Wind { velocity } => (length(*velocity), 0.0),
            FieldKind::Attractor(spec) => match spec.falloff {
                // The maxima are at radius / √2, at the radius, and far away.
                Falloff::Square => (0.0, spec.strength.abs() * 0.3850 / (spec.radius * spec.radius)),
                Falloff::Linear => (0.0, spec.strength.abs() * 0.5 / spec.radius),
                Falloff::None => (0.0, spec.strength.abs()),
                Falloff::Spring => return None,
            },
            FieldKind::Vortex(spec) => (spec.speed.abs() + spec.inward.abs() + spec.along.abs(), 0.0),
            FieldKind::Curl(_) => (curl?.most(), 0.0),
            FieldKind::Shape(_) => return None,
        })
    }

    /// Whether it moves the air.
    pub(crate) fn moves_air(&self) -> bool {
        matches!(self.spec.kind, FieldKind::Wind { .. } | FieldKind::Vortex(_) | FieldKind::Curl(_))
    }

    /// Its curl noise at a moment of the wind, if it has any.
    pub(crate) fn curl_at(&self, wind: &Carried) -> Option<Curl> {
        let FieldKind::Curl(spec) = &self.spec.kind else { return None };
        Some(Curl::new(spec, wind, self.phases.as_ref(), self.curl_seed()))
    }

    fn curl_seed(&self) -> u32 {
        self.seed ^ 0x00c0_ffee
    }

    /// Takes over the phases of the field that it replaces: noise goes on where it was, from the next [`Acting::settle`] on.
    pub(crate) fn replace(&mut self, other: &Self) {
        let (FieldKind::Curl(spec), FieldKind::Curl(before)) = (&self.spec.kind, &other.spec.kind) else {
            return;
        };
        if other.before.is_none() && spec == before {
            self.phases = other.phases;
            return;
        }
        self.before = Some(other.before.unwrap_or((*before, other.phases)));
    }

    /// What it carries over changes.
    pub(crate) fn phases(&self) -> FieldPhases {
        FieldPhases { phases: self.phases, before: self.before }
    }

    /// Takes over what a field of the same spec carried.
    pub(crate) fn set_phases(&mut self, saved: FieldPhases) {
        (self.phases, self.before) = (saved.phases, saved.before);
    }

    /// Lets a change hold from a moment of the wind on.
    pub(crate) fn settle(&mut self, wind: &Carried) {
        let (&FieldKind::Curl(spec), Some((before, phases))) = (&self.spec.kind, self.before.take()) else {
            return;
        };
        self.phases = Some(Curl::going_on((&before, phases.as_ref()), &spec, wind, self.curl_seed()));
    }

    /// The grid on whose surface it holds elements, if it does.
    pub(crate) fn holds(&self) -> Option<&DistanceGrid> {
        self.shape().filter(|(shape, _)| shape.hold).map(|(_, grid)| &**grid)
    }

    /// Acts on a chunk; `curl` as [`Acting::curl_at`] gave it.
    pub(crate) fn act(&self, level: Level, curl: Option<&Curl>, chunk: &mut FieldChunk<'_>) {
        let fade = Fade::new(&self.spec);
        // As plain slices, each by itself: only then does the compiler know that they do not overlap.
        let [px, py, pz] = chunk.position;
        let [ax, ay, az] = &mut chunk.air;
        let [qx, qy, qz] = &mut chunk.push;
        match &self.spec.kind {
            FieldKind::Push { acceleration } => {
                add_steady(level, fade, *acceleration, px, py, pz, qx, qy, qz);
            }
            FieldKind::Wind { velocity } => {
                add_steady(level, fade, *velocity, px, py, pz, ax, ay, az);
            }
            FieldKind::Attractor(spec) => {
                add_attractor(level, fade, spec, px, py, pz, qx, qy, qz);
            }
            FieldKind::Vortex(spec) => {
                add_vortex(level, fade, spec, px, py, pz, ax, ay, az);
            }
            FieldKind::Curl(_) => {
                let Some(curl) = curl else { return };
                if fade.per_square == 0.0 {
                    add_curl(level, fade, curl, px, py, pz, ax, ay, az);
                } else {
                    add_fading_curl(level, fade, curl, px, py, pz, ax, ay, az);
                }
            }
            FieldKind::Shape(spec) => {
                if let Some(grid) = &self.grid {
                    draw_to(fade, spec, grid, chunk);
                }
            }
        }
    }
}
