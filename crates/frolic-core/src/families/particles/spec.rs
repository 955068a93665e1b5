//! How a population of particles is described: plain data, checked before use.

use serde::{Deserialize, Serialize};

use super::trail::TrailSpec;
use crate::foundations::error::{SpecError, each, vector_within, within};
use crate::foundations::paths::PathSpec;
use crate::foundations::span::Span;
use crate::placement::{AimSpec, ShapeSpec};
use crate::world::bodies::MotionSpec;
use crate::world::endless::ScatterSpec;
use crate::world::events::{EventSpec, MOST_PARTS};
use crate::world::fields::FieldSpec;

/// How elements are held in memory.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Storage {
    /// One contiguous array an attribute. The fast way.
    #[default]
    Columns,
    /// One heap record an element, stepped on one thread. The classic way, kept so that the two can be compared.
    Objects,
}

/// Whether the order of the elements of a population says anything.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Order {
    /// In order of birth: where elements are drawn over each other at the same depth, the youngest is in front.
    #[default]
    Birth,
    /// Any. Gaps that the dead leave are filled from the end, and what lies still on an obstacle is set aside, where it costs next to
    /// nothing. For great numbers that are drawn additively or opaque.
    Any,
}

/// A population of particles.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct ParticleSpec {
    /// Most elements alive at once; memory for all is reserved at the start.
    pub count: u32,
    /// Age at death, s, 0.001 to 1e6. Default 1 to 2.
    pub life: Span,
    /// Radius at birth, m, 0 to 1e4. Default 0.05.
    pub size: Span,
    /// How the population answers to the world.
    pub motion: MotionSpec,
    /// Where and when elements appear; without one only events start elements.
    pub emitters: Vec<EmitterSpec>,
    /// Fields that this population alone feels, beside the world's. Default none.
    pub fields: Vec<FieldSpec>,
    /// What is noted of its elements, and what that starts. Default nothing.
    pub events: Vec<EventSpec>,
    /// Whether the last places of its elements are kept. Default none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trail: Option<TrailSpec>,
    /// Whether the order of its elements says anything. Default it is that of birth.
    #[serde(default)]
    pub order: Order,
}

/// Where, when and how fast elements appear.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct EmitterSpec {
    /// Elements a second, 0 to 1e9, spread evenly over each step. Default 0.
    pub rate: f32,
    /// How the rate changes. Default not at all.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rate_over_time: Option<CourseSpec>,
    /// Elements for each metre that the emitter moves, 0 to 1e6. Default 0.
    pub per_metre: f32,
    /// Elements that appear all at once. Default none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub burst: Option<BurstSpec>,
    /// Where they appear, around `position`. Default a point.
    pub shape: ShapeSpec,
    /// Middle of the shape, m; on a path, where the path's origin is. Default the origin.
    pub position: [f32; 3],
    /// The way that the middle goes, from `position` on. Default it stays.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub path: Option<PathSpec>,
    /// Places of an endless world that each do what the emitter does, around a moving middle; its position is added. Default none: it is
    /// one place.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub scatter: Option<ScatterSpec>,
    /// Which way they go. Default straight up.
    pub aim: AimSpec,
    /// Speed at birth, m/s, 0 to 1e5. Default 1.
    pub speed: Span,
    /// Share of the emitter's own velocity that is added, -10 to 10. Default 0.
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

/// How something changes over time: straight lines between stops, level before and after.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct CourseSpec {
    /// Pairs of a time, s, and a factor, 0 to 1e6; times rise. 1 to 256 of them.
    pub stops: Vec<[f32; 2]>,
    /// Time after which it starts over, s, 0.001 to 1e6. Default never.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub every: Option<f32>,
}

impl CourseSpec {
    /// Through these pairs of a time, s, and a factor.
    pub fn new(stops: impl IntoIterator<Item = [f32; 2]>) -> Self {
        Self { stops: stops.into_iter().collect(), every: None }
    }

    /// The same, starting over after so many seconds.
    pub fn every(mut self, seconds: f32) -> Self {
        self.every = Some(seconds);
        self
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
            return Err(SpecError::new(
                "stops",
                "times do not rise",
                "let each stop be later than the one before",
            ));
        }
        match self.every {
            Some(every) => within("every", every, 0.001, 1e6, "s"),
            None => Ok(()),
        }
    }

    /// The sum of the factor over time, from 0 to `time` s.
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

/// Elements that appear all at once.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct BurstSpec {
    /// How many appear each time.
    pub count: u32,
    /// When the first comes, s after the start, 0 to 1e9.
    #[serde(default)]
    pub at: f32,
    /// Time from one to the next, s, 0.001 to 1e6. Default there is but one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub every: Option<f32>,
    /// How many there are, where they repeat. Default without end.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub times: Option<u32>,
}

impl ParticleSpec {
    /// Up to `count` elements that live 1 to 2 s, 5 cm in radius, under full gravity without drag.
    pub fn new(count: u32) -> Self {
        Self {
            count,
            life: Span::new(1.0, 2.0),
            size: Span::from(0.05),
            motion: MotionSpec::default(),
            emitters: Vec::new(),
            fields: Vec::new(),
            events: Vec::new(),
            trail: None,
            order: Order::default(),
        }
    }

    /// The same with this range of life, s.
    pub fn life(mut self, min: f32, max: f32) -> Self {
        self.life = Span::new(min, max);
        self
    }

    /// The same with this range of radius, m.
    pub fn size(mut self, min: f32, max: f32) -> Self {
        self.size = Span::new(min, max);
        self
    }

    /// The same with this linear drag, 1/s, and share of gravity.
    pub fn motion(mut self, drag: f32, weight: f32) -> Self {
        self.motion = MotionSpec { drag, weight, ..self.motion };
        self
    }

    /// The same with drag that grows with the square of the speed, 1/m.
    pub fn drag_square(mut self, drag_square: f32) -> Self {
        self.motion.drag_square = drag_square;
        self
    }

    /// The same with a least and a greatest speed, m/s.
    pub fn speed_limits(mut self, least: f32, greatest: f32) -> Self {
        self.motion.speed_limits = Some([least, greatest]);
        self
    }

    /// The same with one more field of its own.
    pub fn field(mut self, field: FieldSpec) -> Self {
        self.fields.push(field);
        self
    }

    /// The same that keeps the last places of its elements.
    pub fn trail(mut self, trail: TrailSpec) -> Self {
        self.trail = Some(trail);
        self
    }

    /// The same whose elements are in this order.
    pub fn order(mut self, order: Order) -> Self {
        self.order = order;
        self
    }

    /// The same with one more event.
    pub fn event(mut self, event: EventSpec) -> Self {
        self.events.push(event);
        self
    }

    /// The same with one more emitter.
    pub fn emitter(mut self, emitter: EmitterSpec) -> Self {
        self.emitters.push(emitter);
        self
    }

    /// Whether every value is in range; the forms that it names are looked up when the population is made.
    ///
    /// # Errors
    /// Names the first key that is not.
    pub fn check(&self) -> Result<(), SpecError> {
        self.life.check("life", 0.001, 1e6, "s")?;
        self.size.check("size", 0.0, 1e4, "m")?;
        self.motion.check().map_err(|error| error.under("motion"))?;
        if let Some(trail) = &self.trail {
            trail.check().map_err(|error| error.under("trail"))?;
        }
        crate::world::fields::check(&self.fields)?;
        each("event", &self.events, MOST_PARTS, EventSpec::check)?;
        each("emitter", &self.emitters, MOST_PARTS, EmitterSpec::check)
    }
}

impl EmitterSpec {
    /// A steady stream, elements a second.
    pub fn rate(rate: f32) -> Self {
        Self { rate, ..Self::default() }
    }

    /// A one-off burst of `count` elements, `at` seconds after the start.
    pub fn burst(count: u32, at: f32) -> Self {
        Self { burst: Some(BurstSpec { count, at, every: None, times: None }), ..Self::default() }
    }

    /// Bursts of `count` elements, the first `at` seconds after the start, then one every so many seconds.
    pub fn bursts(count: u32, at: f32, every: f32) -> Self {
        Self { burst: Some(BurstSpec { count, at, every: Some(every), times: None }), ..Self::default() }
    }

    /// So many elements for each metre that it moves, along a path.
    pub fn trail(per_metre: f32, path: PathSpec) -> Self {
        Self { per_metre, path: Some(path), ..Self::default() }
    }

    /// The same whose rate changes so.
    pub fn rate_over_time(mut self, course: CourseSpec) -> Self {
        self.rate_over_time = Some(course);
        self
    }

    /// The same at many places of an endless world, each of which does all of it.
    pub fn scattered(mut self, scatter: ScatterSpec) -> Self {
        self.scatter = Some(scatter);
        self
    }

    /// The same that follows a path from its position on.
    pub fn along(mut self, path: PathSpec) -> Self {
        self.path = Some(path);
        self
    }

    /// The same around this place, m.
    pub fn at(mut self, position: [f32; 3]) -> Self {
        self.position = position;
        self
    }

    /// The same from this shape.
    pub fn shape(mut self, shape: ShapeSpec) -> Self {
        self.shape = shape;
        self
    }

    /// The same aimed this way: direction and largest angle from it, degrees.
    pub fn aim(mut self, direction: [f32; 3], spread_degrees: f32) -> Self {
        self.aim = AimSpec::cone(direction, spread_degrees);
        self
    }

    /// The same with another aim.
    pub fn aimed(mut self, aim: AimSpec) -> Self {
        self.aim = aim;
        self
    }

    /// The same at this range of speed, m/s.
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
