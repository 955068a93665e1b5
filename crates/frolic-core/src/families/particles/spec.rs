//! How a population of particles is described: plain data, checked before use.

use derive_setters::Setters;
use serde::{Deserialize, Serialize};

use crate::families::trail::TrailSpec;
use crate::foundations::error::{SpecError, each, vector_within, within};
use crate::foundations::paths::PathSpec;
use crate::foundations::span::Span;
use crate::placement::{AimSpec, ShapeSpec};
use crate::world::apart::ApartSpec;
use crate::world::bodies::MotionSpec;
use crate::world::endless::ScatterSpec;
use crate::world::events::{EventSpec, MOST_PARTS};
use crate::world::fields::spec::FieldSpec;

/// Storage of elements.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Storage {
    /// One contiguous array for each attribute. The fast form.
    #[default]
    Columns,
    /// One heap record for each element, stepped on one thread. The classic form, for comparison.
    Objects,
}

/// Order of the elements of a population.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Order {
    /// Order of birth. Of elements at the same depth the youngest is drawn in front.
    #[default]
    Birth,
    /// Any order. Gaps of dead elements are filled from the end, and elements at rest on an obstacle are set aside, where they cost almost
    /// nothing. For large numbers that are drawn additively or opaque.
    Any,
}

/// A population of particles.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct ParticleSpec {
    /// Maximum number of live elements. Memory for all is reserved at the start.
    pub count: u32,
    /// Age at death, in seconds, 0.001 to 1e6. Default: 1 to 2.
    #[setters(skip)]
    pub life: Span,
    /// Radius at birth, in metres, 0 to 1e4. Default: 0.05.
    #[setters(skip)]
    pub size: Span,
    /// Response to the world.
    #[setters(skip)]
    pub motion: MotionSpec,
    /// Emitters. Without any, only events start elements.
    #[setters(skip)]
    pub emitter: Vec<EmitterSpec>,
    /// Fields that act on this population alone, in addition to those of the world. Default: none.
    #[setters(skip)]
    pub field: Vec<FieldSpec>,
    /// Events of its elements, and what they start. Default: none.
    #[setters(skip)]
    pub event: Vec<EventSpec>,
    /// Trails: the last positions of its elements. Default: none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub trail: Option<TrailSpec>,
    /// Whether its elements keep apart from each other, and pile up. Default: they pass through each other.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub apart: Option<ApartSpec>,
    /// Order of its elements. Default: order of birth.
    #[serde(default)]
    pub order: Order,
}

/// An emitter: where, when and how fast elements appear.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct EmitterSpec {
    /// Elements a second, 0 to 1e9, spread evenly over each step. Default: 0.
    #[setters(skip)]
    pub rate: f32,
    /// Factor on the rate over time. Default: constant.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub rate_over_time: Option<CourseSpec>,
    /// Elements for each metre that the emitter moves, 0 to 1e6. Default: 0.
    pub per_metre: f32,
    /// Bursts: elements that appear at once. Default: none.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(skip)]
    pub burst: Option<BurstSpec>,
    /// Shape in which elements appear, around `position`. Default: a point.
    pub shape: ShapeSpec,
    /// Centre of the shape, in metres; on a path, the origin of the path. Default: the origin.
    pub position: [f32; 3],
    /// Path of the centre, from `position` on. Default: none.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub path: Option<PathSpec>,
    /// Endless places around a moving centre that each emit as this emitter does; `position` is added. Default: none; one place.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub scatter: Option<ScatterSpec>,
    /// Direction at birth. Default: up.
    pub aim: AimSpec,
    /// Speed at birth, in m/s, 0 to 1e5. Default: 1.
    #[setters(skip)]
    pub speed: Span,
    /// Share of the velocity of the emitter that is added, -10 to 10. Default: 0.
    pub keep_velocity: f32,
}

impl Default for EmitterSpec {
    fn default() -> Self {
        Self {
            rate: 0.0,
            rate_over_time: None,
            per_metre: 0.0,
            burst: None,
            shape: ShapeSpec::Point,
            position: [0.0; 3],
            path: None,
            scatter: None,
            aim: AimSpec::default(),
            speed: Span::from(1.0),
            keep_velocity: 0.0,
        }
    }
}

/// A factor over time: straight lines between stops, constant before the first and after the last.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct CourseSpec {
    /// Stops: pairs of a time, in seconds, rising, and a factor of at most 1e6; 1 to 256 pairs.
    #[setters(into)]
    pub stops: Vec<[f32; 2]>,
    /// Time after which it repeats, in seconds, 0.001 to 1e6. Default: never.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub every: Option<f32>,
}

impl CourseSpec {
    /// A course through pairs of a time, in seconds, and a factor.
    pub fn new(stops: impl IntoIterator<Item = [f32; 2]>) -> Self {
        Self { stops: stops.into_iter().collect(), every: None }
    }

    fn check(&self) -> Result<(), SpecError> {
        if !(1..=256).contains(&self.stops.len()) {
            let problem = format!("{} stops", self.stops.len());
            return Err(SpecError::new("stops", problem, "write 1 to 256 stops [time, factor]"));
        }
        for [at, factor] in &self.stops {
            within("stops", *at, 0.0, 1e9, "s")?;
            within("stops", *factor, 0.0, 1e6, "")?;
        }
        if self.stops.windows(2).any(|pair| pair[0][0] >= pair[1][0]) {
            return Err(SpecError::new("stops", "times do not rise", "write stops in rising order of time"));
        }
        match self.every {
            Some(every) => within("every", every, 0.001, 1e6, "s"),
            None => Ok(()),
        }
    }

    /// Integral of the factor from 0 to `time`, in seconds.
    pub(crate) fn sum_to(&self, time: f64) -> f64 {
        match self.every.map(f64::from) {
            Some(every) => {
                let rounds = (time / every).floor();
                rounds * self.sum_once(every) + self.sum_once(time - rounds * every)
            }
            None => self.sum_once(time),
        }
    }

    fn sum_once(&self, time: f64) -> f64 {
        let stop = |nth: usize| self.stops[nth].map(f64::from);
        let [first, level] = stop(0);
        let mut sum = level * time.min(first);
        for nth in 1..self.stops.len() {
            let ([a, from], [b, to]) = (stop(nth - 1), stop(nth));
            if time <= a {
                return sum;
            }
            let end = time.min(b);
            let there = from + (to - from) * (end - a) / (b - a);
            sum += (from + there) * 0.5 * (end - a);
        }
        let [last, level] = stop(self.stops.len() - 1);
        sum + level * (time - last).max(0.0)
    }
}

/// Bursts of an emitter.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct BurstSpec {
    /// Number of elements of each burst.
    pub count: u32,
    /// Time of the first burst, in seconds after the start, 0 to 1e9.
    #[serde(default)]
    pub at: f32,
    /// Time between bursts, in seconds, 0.001 to 1e6. Default: one burst only.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub every: Option<f32>,
    /// Number of bursts, if they repeat. Default: unlimited.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub times: Option<u32>,
}

impl ParticleSpec {
    /// A population of up to `count` elements that live 1 to 2 seconds, of a radius of 5 cm, under full gravity without drag.
    pub fn new(count: u32) -> Self {
        Self {
            count,
            life: Span::new(1.0, 2.0),
            size: Span::from(0.05),
            motion: MotionSpec::default(),
            emitter: Vec::new(),
            field: Vec::new(),
            event: Vec::new(),
            trail: None,
            apart: None,
            order: Order::default(),
        }
    }

    /// Sets the range of life, in seconds.
    pub fn life(mut self, min: f32, max: f32) -> Self {
        self.life = Span::new(min, max);
        self
    }

    /// Sets the range of the radius, in metres.
    pub fn size(mut self, min: f32, max: f32) -> Self {
        self.size = Span::new(min, max);
        self
    }

    /// Sets linear drag, in 1/s, and the share of gravity.
    pub fn motion(mut self, drag: f32, weight: f32) -> Self {
        self.motion = MotionSpec { drag, weight, ..self.motion };
        self
    }

    /// Sets quadratic drag, in 1/m.
    pub fn drag_square(mut self, drag_square: f32) -> Self {
        self.motion.drag_square = drag_square;
        self
    }

    /// Sets the minimum and maximum speed, in m/s.
    pub fn speed_limits(mut self, least: f32, greatest: f32) -> Self {
        self.motion.speed_limits = Some([least, greatest]);
        self
    }

    /// Adds a field that acts on this population alone.
    pub fn field(mut self, field: FieldSpec) -> Self {
        self.field.push(field);
        self
    }

    /// Adds an event.
    pub fn event(mut self, event: EventSpec) -> Self {
        self.event.push(event);
        self
    }

    /// Adds an emitter.
    pub fn emitter(mut self, emitter: EmitterSpec) -> Self {
        self.emitter.push(emitter);
        self
    }

    /// Checks that every value is in range. Assets are looked up when the population is built.
    ///
    /// # Errors
    /// Names the first key that is out of range.
    pub fn check(&self) -> Result<(), SpecError> {
        self.life.check("life", 0.001, 1e6, "s")?;
        self.size.check("size", 0.0, 1e4, "m")?;
        self.motion.check().map_err(|error| error.under("motion"))?;
        if let Some(trail) = &self.trail {
            trail.check().map_err(|error| error.under("trail"))?;
        }
        self.apart.map_or(Ok(()), |apart| apart.check().map_err(|error| error.under("apart")))?;
        crate::world::fields::spec::check(&self.field)?;
        each("event", &self.event, MOST_PARTS, EventSpec::check)?;
        each("emitter", &self.emitter, MOST_PARTS, EmitterSpec::check)
    }
}

impl EmitterSpec {
    /// A stream of a number of elements a second.
    pub fn rate(rate: f32) -> Self {
        Self { rate, ..Self::default() }
    }

    /// A one-off burst of `count` elements, `at` seconds after the start.
    pub fn burst(count: u32, at: f32) -> Self {
        Self { burst: Some(BurstSpec { count, at, every: None, times: None }), ..Self::default() }
    }

    /// Bursts of `count` elements: the first `at` seconds after the start, then one every `every` seconds.
    pub fn bursts(count: u32, at: f32, every: f32) -> Self {
        Self { burst: Some(BurstSpec { count, at, every: Some(every), times: None }), ..Self::default() }
    }

    /// A number of elements for each metre along a path.
    pub fn trail(per_metre: f32, path: PathSpec) -> Self {
        Self { per_metre, path: Some(path), ..Self::default() }
    }

    /// Aims at a direction, with the largest angle from it, in degrees.
    pub fn cone(mut self, direction: [f32; 3], spread_degrees: f32) -> Self {
        self.aim = AimSpec::cone(direction, spread_degrees);
        self
    }

    /// Sets the range of speed, in m/s.
    pub fn speed(mut self, min: f32, max: f32) -> Self {
        self.speed = Span::new(min, max);
        self
    }

    fn check(&self) -> Result<(), SpecError> {
        within("rate", self.rate, 0.0, 1e9, "elements a second")?;
        within("per_metre", self.per_metre, 0.0, 1e6, "elements a metre")?;
        if let Some(course) = &self.rate_over_time {
            course.check().map_err(|error| error.under("rate_over_time"))?;
        }
        if let Some(burst) = &self.burst {
            within("burst.at", burst.at, 0.0, 1e9, "s")?;
            if let Some(every) = burst.every {
                within("burst.every", every, 0.001, 1e6, "s")?;
            }
        }
        self.shape.check()?;
        vector_within("position", self.position, 1e6, "m")?;
        if let Some(path) = &self.path {
            path.check().map_err(|error| error.under("path"))?;
        }
        if let Some(scatter) = &self.scatter {
            scatter.check().map_err(|error| error.under("scatter"))?;
            if self.path.is_some() {
                let problem = "an emitter at scattered places follows no path";
                return Err(SpecError::new("scatter", problem, "write one of scatter and path"));
            }
        }
        self.aim.check()?;
        within("keep_velocity", self.keep_velocity, -10.0, 10.0, "")?;
        self.speed.check("speed", 0.0, 1e5, "m/s")
    }
}
