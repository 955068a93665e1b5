//! Fields: forces and currents of air with a value at each point and time.
//!
//! Some fields add to the acceleration of elements; others move the air, which acts through drag. Fields process a chunk of elements at a time
//! ([`FieldChunk`]). A field of the program's own is a trait with one method ([`Field`]).

use derive_setters::Setters;
use std::sync::Arc;

use glam::Vec3;
use serde::{Deserialize, Serialize};

use crate::assets::{Assets, DistanceGrid};
use crate::foundations::error::{SpecError, direction, each, vector_within, within};
use crate::foundations::simd::{Level, Simd, kernel};
use crate::foundations::span::Span;
use crate::world::curl::Curl;

/// A field.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct FieldSpec {
    /// Kind of the field.
    pub kind: FieldKind,
    /// Centre, in metres. Default: the origin.
    #[serde(default)]
    pub position: [f32; 3],
    /// Distance from the centre at which it fades to nothing, in metres, 0.001 to 1e6. The factor at a distance d is (1 - d² / reach²)². Default:
    /// none; it acts everywhere.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub reach: Option<f32>,
    /// Start and end, in seconds after the start. Default: always.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(skip)]
    pub during: Option<[f32; 2]>,
}

/// Kind of a field.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub enum FieldKind {
    /// A uniform acceleration.
    Push {
        /// Acceleration, in m/s², -1e4 to 1e4 along each axis.
        acceleration: [f32; 3],
    },
    /// A uniform current of air. It acts through drag.
    Wind {
        /// Velocity, in m/s, -1e4 to 1e4 along each axis.
        velocity: [f32; 3],
    },
    /// A pull towards the centre.
    Attractor(AttractorSpec),
    /// A current around an axis (Scully, 1975). It acts through drag.
    Vortex(VortexSpec),
    /// Curl noise: air that swirls without gathering anywhere. It acts through drag.
    Curl(CurlSpec),
    /// A pull to the surface of a distance grid, or a constraint to it.
    Shape(ShapeFieldSpec),
}

/// An attractor. At a distance `d` the acceleration towards it is `strength * d / s^3` for [`Falloff::Square`],
/// `strength * d / s^2` for [`Falloff::Linear`], `strength * d / s` for [`Falloff::None`] and `strength * d` for [`Falloff::Spring`], where
/// `s^2 = d^2 + radius^2`.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct AttractorSpec {
    /// Acceleration at a distance of 1 m with radius 0, in m/s², -1e6 to 1e6; negative values push away. Default: 1.
    pub strength: f32,
    /// Softening radius, in metres, 0.001 to 1e6: inside it the pull weakens to nothing at the middle. A spring ignores it. Default: 1.
    pub radius: f32,
    /// Falloff with distance. Default: with its square.
    pub falloff: Falloff,
}

impl Default for AttractorSpec {
    fn default() -> Self {
        Self { strength: 1.0, radius: 1.0, falloff: Falloff::Square }
    }
}

/// Falloff of a pull with distance.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Falloff {
    /// With its square, as gravity.
    #[default]
    Square,
    /// With the distance.
    Linear,
    /// Constant.
    None,
    /// Grows with the distance, like a spring.
    Spring,
}

/// A vortex. At a distance d from the axis the air turns at `speed * 2 d radius / (d² + radius²)`: fastest at the radius.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct VortexSpec {
    /// Direction of the axis; the air turns anticlockwise as seen against it. Default: up.
    pub axis: [f32; 3],
    /// Speed of the air at the radius, in m/s, -1e4 to 1e4. Default: 2.
    pub speed: f32,
    /// Distance from the axis with the greatest speed, in metres, 0.001 to 1e6. Default: 1.
    pub radius: f32,
    /// Speed towards the axis at the radius, in m/s; negative values lead away. Default: 0.
    pub inward: f32,
    /// Speed along the axis at its centre, in m/s. Default: 0.
    pub along: f32,
}

impl Default for VortexSpec {
    fn default() -> Self {
        Self { axis: [0.0, 1.0, 0.0], speed: 2.0, radius: 1.0, inward: 0.0, along: 0.0 }
    }
}

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

impl VortexSpec {
    /// Rates at which the air turns around the axis and approaches it, close to the axis, in 1/s.
    pub(crate) fn rates(&self) -> [f32; 2] {
        [2.0 * self.speed / self.radius, 2.0 * self.inward / self.radius]
    }
}

/// Curl noise.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct CurlSpec {
    /// Root mean square of the speed, in m/s, 0 to 1000. Default: 1.
    pub strength: f32,
    /// Size of the largest swirls, in metres, 0.001 to 100000. Default: 1.
    pub size: f32,
    /// Rate of change in still air, as a drift in m/s, 0 to 1000. Default: 0.3.
    pub drift: f32,
}

impl Default for CurlSpec {
    fn default() -> Self {
        Self { strength: 1.0, size: 1.0, drift: 0.3 }
    }
}

/// A surface that elements are pulled to, or held on.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct ShapeFieldSpec {
    /// Name of a distance grid.
    #[setters(into)]
    pub asset: String,
    /// Acceleration towards the surface for each metre of distance, in 1/s², 0 to 1e5. Default: 20.
    #[serde(default = "default_pull")]
    pub pull: f32,
    /// Damping of the speed towards or away from the surface, in 1/s, 0 to 1000. Default: 4.
    #[serde(default = "default_damp")]
    pub damp: f32,
    /// Distance beyond which the pull no longer grows, in metres, 0 to 1e6. Default: 1.
    #[serde(default = "default_most")]
    pub most: f32,
    /// Whether elements are projected onto the surface after each step, and move along it. Default: false.
    #[serde(default)]
    pub hold: bool,
}

fn default_pull() -> f32 {
    20.0
}

fn default_damp() -> f32 {
    4.0
}

fn default_most() -> f32 {
    1.0
}

impl FieldSpec {
    /// A field of a kind, everywhere and always.
    pub fn new(kind: FieldKind) -> Self {
        Self { kind, position: [0.0; 3], reach: None, during: None }
    }

    /// An attractor at a position, in metres, with a strength, in m/s² at 1 m, and a softening radius, in metres.
    pub fn attractor(position: [f32; 3], strength: f32, radius: f32) -> Self {
        let attractor = AttractorSpec { strength, radius, ..AttractorSpec::default() };
        Self::new(FieldKind::Attractor(attractor)).position(position)
    }

    /// A vortex around a vertical axis through a point, in metres, with a speed, in m/s, at a radius, in metres.
    pub fn vortex(position: [f32; 3], speed: f32, radius: f32) -> Self {
        Self::new(FieldKind::Vortex(VortexSpec { speed, radius, ..VortexSpec::default() })).position(position)
    }

    /// Curl noise with a root mean square of the speed, in m/s, and a size, in metres.
    pub fn curl(strength: f32, size: f32) -> Self {
        Self::new(FieldKind::Curl(CurlSpec { strength, size, ..CurlSpec::default() }))
    }

    /// A pull to the surface of a distance grid, by name, in 1/s², with damping, in 1/s.
    pub fn shape(asset: &str, pull: f32, damp: f32) -> Self {
        Self::new(FieldKind::Shape(ShapeFieldSpec {
            asset: asset.to_owned(),
            pull,
            damp,
            most: default_most(),
            hold: false,
        }))
    }

    /// A constraint to the surface of a distance grid, by name.
    pub fn hold(asset: &str) -> Self {
        let (asset, hold) = (asset.to_owned(), true);
        Self::new(FieldKind::Shape(ShapeFieldSpec {
            asset,
            pull: 0.0,
            damp: 0.0,
            most: default_most(),
            hold,
        }))
    }

    /// Sets start and end, in seconds after the start.
    pub fn during(mut self, from: f32, to: f32) -> Self {
        self.during = Some([from, to]);
        self
    }

    pub(crate) fn check(&self) -> Result<(), SpecError> {
        vector_within("position", self.position, 1e6, "m")?;
        if let Some(reach) = self.reach {
            within("reach", reach, 0.001, 1e6, "m")?;
        }
        if let Some([from, to]) = self.during {
            Span::new(from, to).check("during", 0.0, 1e9, "s")?;
        }
        match &self.kind {
            FieldKind::Push { acceleration } => {
                vector_within("kind.push.acceleration", *acceleration, 1e4, "m/s²")
            }
            FieldKind::Wind { velocity } => vector_within("kind.wind.velocity", *velocity, 1e4, "m/s"),
            FieldKind::Attractor(spec) => {
                within("kind.attractor.strength", spec.strength, -1e6, 1e6, "m/s² at 1 m")?;
                within("kind.attractor.radius", spec.radius, 0.001, 1e6, "m")
            }
            FieldKind::Vortex(spec) => {
                direction("kind.vortex.axis", spec.axis)?;
                within("kind.vortex.speed", spec.speed, -1e4, 1e4, "m/s")?;
                within("kind.vortex.radius", spec.radius, 0.001, 1e6, "m")?;
                within("kind.vortex.inward", spec.inward, -1e4, 1e4, "m/s")?;
                within("kind.vortex.along", spec.along, -1e4, 1e4, "m/s")
            }
            FieldKind::Curl(spec) => {
                within("kind.curl.strength", spec.strength, 0.0, 1000.0, "m/s")?;
                within("kind.curl.size", spec.size, 0.001, 1e5, "m")?;
                within("kind.curl.drift", spec.drift, 0.0, 1000.0, "m/s")
            }
            FieldKind::Shape(spec) => {
                within("kind.shape.pull", spec.pull, 0.0, 1e5, "1/s²")?;
                within("kind.shape.damp", spec.damp, 0.0, 1000.0, "1/s")?;
                within("kind.shape.most", spec.most, 0.0, 1e6, "m")
            }
        }
    }
}

/// A chunk of elements for the fields: slices of one length.
#[derive(Debug)]
#[non_exhaustive]
pub struct FieldChunk<'a> {
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
    /// Adds to the velocity of the air or to the acceleration of every element. The result for an element must depend on that element alone: it
    /// may come in a chunk of any length.
    fn act(&self, chunk: &mut FieldChunk<'_>);
}

/// Maximum number of fields of a world, and of a population.
const MOST_FIELDS: usize = 64;

/// Checks every field of a list. Assets are looked up when fields are prepared.
pub(crate) fn check(specs: &[FieldSpec]) -> Result<(), SpecError> {
    each("field", specs, MOST_FIELDS, FieldSpec::check)
}

/// A prepared field.
#[derive(Debug, Clone)]
pub(crate) struct Acting {
    pub(crate) spec: FieldSpec,
    grid: Option<Arc<DistanceGrid>>,
    seed: u32,
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
        Ok(Self { spec: spec.clone(), grid, seed: nth as u32 })
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
        Self { spec: FieldSpec::new(kind).position(place.to_array()).reach(reach), grid: None, seed: 0 }
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

    /// Its curl noise at a time, if it has any.
    pub(crate) fn curl_at(&self, wind: [f32; 3], time: f64) -> Option<Curl> {
        let FieldKind::Curl(spec) = self.spec.kind else { return None };
        Some(Curl::new(spec.strength, spec.size, spec.drift, wind, time, self.seed ^ 0x00c0_ffee))
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

/// Factor of a field over the distance from its centre: 1 there, 0 at its reach, with no slope at either.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Fade {
    pub(crate) middle: [f32; 3],
    /// 0 if it reaches everywhere.
    pub(crate) per_square: f32,
}

impl Fade {
    pub(crate) fn new(spec: &FieldSpec) -> Self {
        Self { middle: spec.position, per_square: spec.reach.map_or(0.0, |reach| 1.0 / (reach * reach)) }
    }

    #[inline(always)]
    pub(crate) fn at(self, x: f32, y: f32, z: f32) -> f32 {
        let (dx, dy, dz) = (x - self.middle[0], y - self.middle[1], z - self.middle[2]);
        let left = (1.0 - (dx * dx + dy * dy + dz * dz) * self.per_square).max(0.0);
        left * left
    }
}

kernel! {
    /// Adds a steady push or wind at places.
    fn add_steady(
        simd, fade: Fade, what: [f32; 3], px: &[f32], py: &[f32], pz: &[f32], x: &mut [f32], y: &mut [f32], z: &mut [f32],
    ) {
        steady(simd, fade, what, px, py, pz, x, y, z);
    }

    /// Adds the pull of an attractor at places.
    fn add_attractor(
        simd, fade: Fade, spec: &AttractorSpec, px: &[f32], py: &[f32], pz: &[f32], x: &mut [f32], y: &mut [f32], z: &mut [f32],
    ) {
        attract(simd, fade, spec, px, py, pz, x, y, z);
    }

    /// Adds the air of a vortex at places.
    fn add_vortex(
        simd, fade: Fade, spec: &VortexSpec, px: &[f32], py: &[f32], pz: &[f32], x: &mut [f32], y: &mut [f32], z: &mut [f32],
    ) {
        turn(simd, fade, spec, px, py, pz, x, y, z);
    }

    /// Adds curl noise that is as strong everywhere.
    fn add_curl(
        simd, fade: Fade, curl: &Curl, px: &[f32], py: &[f32], pz: &[f32], x: &mut [f32], y: &mut [f32], z: &mut [f32],
    ) {
        swirl::<_, false>(simd, fade, curl, px, py, pz, x, y, z);
    }

    /// Adds curl noise that fades with distance.
    fn add_fading_curl(
        simd, fade: Fade, curl: &Curl, px: &[f32], py: &[f32], pz: &[f32], x: &mut [f32], y: &mut [f32], z: &mut [f32],
    ) {
        swirl::<_, true>(simd, fade, curl, px, py, pz, x, y, z);
    }
}

#[expect(
    clippy::too_many_arguments,
    reason = "plain slices, so that the compiler knows that they do not overlap"
)]
#[inline(always)]
fn steady<S: Simd>(
    _simd: S,
    fade: Fade,
    what: [f32; 3],
    px: &[f32],
    py: &[f32],
    pz: &[f32],
    x: &mut [f32],
    y: &mut [f32],
    z: &mut [f32],
) {
    let n = px.len();
    let (py, pz, x, y, z) = (&py[..n], &pz[..n], &mut x[..n], &mut y[..n], &mut z[..n]);
    for i in 0..n {
        let share = fade.at(px[i], py[i], pz[i]);
        x[i] += what[0] * share;
        y[i] += what[1] * share;
        z[i] += what[2] * share;
    }
}

#[expect(
    clippy::too_many_arguments,
    reason = "plain slices, so that the compiler knows that they do not overlap"
)]
#[inline(always)]
fn attract<S: Simd>(
    _simd: S,
    fade: Fade,
    spec: &AttractorSpec,
    px: &[f32],
    py: &[f32],
    pz: &[f32],
    x: &mut [f32],
    y: &mut [f32],
    z: &mut [f32],
) {
    let n = px.len();
    let (py, pz, x, y, z) = (&py[..n], &pz[..n], &mut x[..n], &mut y[..n], &mut z[..n]);
    let AttractorSpec { strength, radius, falloff } = *spec;
    let [mx, my, mz] = fade.middle;
    for i in 0..n {
        let (dx, dy, dz) = (mx - px[i], my - py[i], mz - pz[i]);
        let r2 = dx * dx + dy * dy + dz * dz + radius * radius;
        let pull = match falloff {
            Falloff::Square => strength / (r2 * r2.sqrt()),
            Falloff::Linear => strength / r2,
            Falloff::None => strength / r2.sqrt(),
            Falloff::Spring => strength,
        };
        let pull = pull * fade.at(px[i], py[i], pz[i]);
        x[i] += dx * pull;
        y[i] += dy * pull;
        z[i] += dz * pull;
    }
}

#[expect(
    clippy::too_many_arguments,
    reason = "plain slices, so that the compiler knows that they do not overlap"
)]
#[inline(always)]
fn turn<S: Simd>(
    _simd: S,
    fade: Fade,
    spec: &VortexSpec,
    px: &[f32],
    py: &[f32],
    pz: &[f32],
    x: &mut [f32],
    y: &mut [f32],
    z: &mut [f32],
) {
    let n = px.len();
    let (py, pz, x, y, z) = (&py[..n], &pz[..n], &mut x[..n], &mut y[..n], &mut z[..n]);
    let [ax, ay, az] = Vec3::from(spec.axis).normalize_or(Vec3::Y).to_array();
    let [mx, my, mz] = fade.middle;
    let per_square = 1.0 / (spec.radius * spec.radius);
    let [round, inward] = spec.rates();
    for i in 0..n {
        let (dx, dy, dz) = (px[i] - mx, py[i] - my, pz[i] - mz);
        let along = dx * ax + dy * ay + dz * az;
        let (ox, oy, oz) = (dx - ax * along, dy - ay * along, dz - az * along);
        let share = fade.at(px[i], py[i], pz[i]);
        let near = share / (1.0 + (ox * ox + oy * oy + oz * oz) * per_square);
        let (swirl, draw, lift) = (round * near, inward * near, spec.along * near);
        x[i] += (ay * oz - az * oy) * swirl - ox * draw + ax * lift;
        y[i] += (az * ox - ax * oz) * swirl - oy * draw + ay * lift;
        z[i] += (ax * oy - ay * ox) * swirl - oz * draw + az * lift;
    }
}

#[expect(
    clippy::too_many_arguments,
    reason = "plain slices, so that the compiler knows that they do not overlap"
)]
#[inline(always)]
fn swirl<S: Simd, const FADES: bool>(
    _simd: S,
    fade: Fade,
    curl: &Curl,
    px: &[f32],
    py: &[f32],
    pz: &[f32],
    x: &mut [f32],
    y: &mut [f32],
    z: &mut [f32],
) {
    // By value: the compiler then knows that no store changes the constants.
    let curl = *curl;
    let n = px.len();
    let (py, pz, x, y, z) = (&py[..n], &pz[..n], &mut x[..n], &mut y[..n], &mut z[..n]);
    for i in 0..n {
        let share = if FADES { fade.at(px[i], py[i], pz[i]) } else { 1.0 };
        let [a, b, c] = curl.at(px[i], py[i], pz[i]);
        x[i] += a * share;
        y[i] += b * share;
        z[i] += c * share;
    }
}

/// Reads of a grid do not vectorise, so this loop is plain.
fn draw_to(fade: Fade, spec: &ShapeFieldSpec, grid: &DistanceGrid, chunk: &mut FieldChunk<'_>) {
    // Damping is implicit, so that it is stable at any step.
    let damp = spec.damp / (1.0 + spec.damp * chunk.dt);
    for i in 0..chunk.len() {
        let place = Vec3::new(chunk.position[0][i], chunk.position[1][i], chunk.position[2][i]);
        let velocity = Vec3::new(chunk.velocity[0][i], chunk.velocity[1][i], chunk.velocity[2][i]);
        let (distance, gradient) = grid.sample(place);
        let normal = gradient.normalize_or_zero();
        let share = fade.at(place.x, place.y, place.z);
        let off = distance.clamp(-spec.most, spec.most);
        let push = -normal * ((spec.pull * off + damp * velocity.dot(normal)) * share);
        chunk.push[0][i] += push.x;
        chunk.push[1][i] += push.y;
        chunk.push[2][i] += push.z;
    }
}
