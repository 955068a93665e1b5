//! What is written of a flock: plain data, checked before use.

use derive_setters::Setters;
use serde::{Deserialize, Serialize};

use crate::foundations::error::{SpecError, each, vector_within, within};
use crate::foundations::paths::PathSpec;
use crate::foundations::span::Span;
use crate::neighbours::NeighbourTechnique;
use crate::placement::ShapeSpec;
use crate::world::bodies::KeepTo;

/// Elements that steer by those around them: fish, birds, insects.
///
/// Each step an element adds up its rules, each a direction of at most unit length times a weight. The sum times `acceleration` changes its velocity,
/// within the limits of acceleration, turning and speed. A weight of 1 is then a rule that alone can use all of its strength.
///
/// Separation, alignment and cohesion: Reynolds, "Flocks, Herds, and Schools: A Distributed Behavioral Model", 1987.
///
/// ```
/// use frolic_core::{FlockSpec, Space};
/// let school = FlockSpec::school(0.1).within(Space::Ball { position: [0.0; 3], radius: 4.0 });
/// assert!(school.check(1_000).is_ok());
/// ```
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct FlockSpec {
    /// Where they start, in metres. Default: the origin.
    pub position: [f32; 3],
    /// Shape in which they start. Default: a sphere of 1 m.
    pub start: ShapeSpec,
    /// Direction in which they start. Default: each its own.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub heading: Option<[f32; 3]>,
    /// Away from those too near.
    pub separation: RuleSpec,
    /// As fast as those around, the same way.
    pub alignment: RuleSpec,
    /// Towards the middle of those around.
    pub cohesion: RuleSpec,
    /// Field of view about the heading in which others are seen, in degrees, 1 to 360. Default: 300.
    pub view_degrees: f32,
    /// Noise of the heading: standard deviation of its random turn over a second, in degrees, 0 to 1e4. Default: 20.
    pub wander_degrees: f32,
    /// Speed of an element left alone, in m/s, 0 to 1e5. Each takes its own from the range. Default: 1.
    #[setters(into)]
    pub cruise: Span,
    /// Least and greatest speed, in m/s, 0 to 1e5. Default: 0.3 to 2.
    pub speed_limits: [f32; 2],
    /// Greatest turn, in degrees a second, 0 to 1e5. Default: 360.
    pub turn_degrees: f32,
    /// Greatest acceleration by its own strength, in m/s², 0 to 1e6. Default: 4.
    pub acceleration: f32,
    /// Linear drag towards the velocity of wind and currents, in 1/s, 0 to 1e4. Default: 0; they do not act.
    pub drag: f32,
    /// Plane in which elements stay. Default: none.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub keep_to: Option<KeepTo>,
    /// Space that they stay in. Default: none.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub within: Option<Space>,
    /// How far ahead they look for walls and obstacles, in seconds, 0 to 100. Default: 0.5.
    pub look_ahead: f32,
    /// Weight of avoiding walls and obstacles, 0 to 100. Default: 3.
    pub avoid: f32,
    /// Rate at which they turn level, so that they do not swim steeply for long, in shares of their strength, 0 to 100. Default: 0.
    pub level: f32,
    /// Bank into turns, 0 to 10: 1 leans as an aircraft does. Default: 0.
    pub bank: f32,
    /// What they are drawn to, at most 16.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub seek: Vec<TargetSpec>,
    /// What they flee, at most 16.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub flee: Vec<TargetSpec>,
    /// How alarm goes through the flock.
    pub alarm: AlarmSpec,
    /// What they hunt. Default: nothing.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub hunt: Option<HuntSpec>,
    /// Newcomers while there are fewer than the count, in elements a second, 0 to 1e6. Default: 0.
    pub joining: f32,
    /// What colours them: their tint runs over this. Default: their random numbers.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub tint_by: Option<TintSpec>,
    /// How neighbours are found. Default: `grid`.
    pub neighbours: NeighbourTechnique,
    /// Most candidates that are looked at for a group of eight elements, 64 to 1e6: of more, evenly spaced ones stand for the rest. Default: 512.
    pub most: u32,
}

/// A rule over those around.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct RuleSpec {
    /// How far it reaches, in metres, 1e-6 to 1e6.
    pub radius: f32,
    /// Its weight, -100 to 100.
    pub weight: f32,
}

impl RuleSpec {
    /// A rule that reaches a radius, in metres, with a weight.
    pub fn new(radius: f32, weight: f32) -> Self {
        Self { radius, weight }
    }
}

/// Space that elements stay in.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub enum Space {
    /// A box with sides along the axes.
    Box {
        /// Centre, in metres.
        position: [f32; 3],
        /// Full lengths of the sides, in metres, 0.001 to 1e6.
        size: [f32; 3],
    },
    /// A ball.
    Ball {
        /// Centre, in metres.
        position: [f32; 3],
        /// Radius, in metres, 0.001 to 1e6.
        radius: f32,
    },
    /// The inside of a distance grid.
    Distance {
        /// Name of the grid.
        asset: String,
    },
    /// A box that begins again at its sides.
    Wrapping {
        /// Centre, in metres.
        position: [f32; 3],
        /// Full lengths of the sides, in metres, 0.001 to 1e6.
        size: [f32; 3],
    },
}

impl Space {
    /// Low and high corner, in metres, of a space whose sides lie along the axes.
    pub fn corners(&self) -> Option<[[f32; 3]; 2]> {
        let (Self::Box { position, size } | Self::Wrapping { position, size }) = self else { return None };
        Some([-0.5, 0.5].map(|share| [0, 1, 2].map(|axis| position[axis] + share * size[axis])))
    }
}

/// Something that elements seek or flee.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct TargetSpec {
    /// What it is.
    pub target: Target,
    /// Weight, 0 to 100. Default: 1.
    #[serde(default = "one")]
    pub weight: f32,
    /// How far away it matters, in metres, 0.001 to 1e6; it fades towards that distance. Default: 1e6.
    #[serde(default = "far")]
    pub radius: f32,
    /// Distance at which those who seek it stop coming nearer, in metres, 0 to 1e6. Default: 0.
    #[serde(default)]
    pub keep: f32,
    /// Weight of going around it, anticlockwise from above, -100 to 100. Default: 0.
    #[serde(default)]
    pub orbit: f32,
    /// Alarm that it raises in those who flee it, 0 to 1. Default: 0.
    #[serde(default)]
    pub alarm: f32,
}

fn one() -> f32 {
    1.0
}

fn far() -> f32 {
    1e6
}

/// What elements seek or flee.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub enum Target {
    /// A point, in metres.
    Point([f32; 3]),
    /// What follows a path.
    Path(PathSpec),
    /// A pusher of the world, by its name: a program moves it where its pointer is.
    Pusher(String),
    /// The surface of a distance grid, by its name.
    Surface(String),
    /// The nearest element of another population, by its name.
    Population(String),
}

impl TargetSpec {
    /// A target with a weight.
    pub fn new(target: Target, weight: f32) -> Self {
        Self { target, weight, radius: far(), keep: 0.0, orbit: 0.0, alarm: 0.0 }
    }
}

/// How alarm goes through a flock: raised by what elements flee, passed on, and forgotten. Elements in alarm swim as fast as they can, closer together.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct AlarmSpec {
    /// Rate at which elements take over the alarm of those around, in 1/s, 0 to 1000. Default: 4.
    pub spread: f32,
    /// Time after which a third is left, in seconds, 0.01 to 1000. Default: 1.5.
    pub seconds: f32,
}

impl Default for AlarmSpec {
    fn default() -> Self {
        Self { spread: 4.0, seconds: 1.5 }
    }
}

/// How elements hunt.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct HuntSpec {
    /// Name of the population that they hunt, a flock.
    #[setters(skip)]
    pub prey: String,
    /// How far they see prey, in metres, 0.001 to 1e6. Default: 10.
    #[serde(default = "ten")]
    pub sight: f32,
    /// Distance at which prey is caught, in metres, 0 to 1e6. Default: 0.2.
    #[serde(default = "close")]
    pub reach: f32,
    /// How much they prefer prey with few around it, 0 (the nearest) to 100. Default: 1.
    #[serde(default = "one")]
    pub isolation: f32,
    /// Weight of the chase, 0 to 100. Default: 4.
    #[serde(default = "four")]
    pub weight: f32,
    /// Rest after each catch, in seconds, 0 to 1e6. Default: 3.
    #[serde(default = "three")]
    pub digest: f32,
}

fn ten() -> f32 {
    10.0
}

fn close() -> f32 {
    0.2
}

fn three() -> f32 {
    3.0
}

fn four() -> f32 {
    4.0
}

impl HuntSpec {
    /// Hunts a population, by its name.
    pub fn new(prey: &str) -> Self {
        let prey = prey.to_owned();
        Self { prey, sight: ten(), reach: close(), isolation: one(), weight: four(), digest: three() }
    }
}

/// What the tint of elements runs over, from 0 to 1.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub enum TintSpec {
    /// Speed, over its limits.
    Speed,
    /// Number of others in view, over a range.
    Density([f32; 2]),
    /// Alarm.
    Alarm,
    /// How much the strongest rule is separation (0), alignment (0.5) or cohesion (1).
    Rule,
    /// Whether a hunter hunts (0), chases (0.5) or digests (1).
    State,
}

impl Default for FlockSpec {
    fn default() -> Self {
        Self {
            position: [0.0; 3],
            start: ShapeSpec::Sphere { radius: 1.0 },
            heading: None,
            separation: RuleSpec::new(0.5, 1.5),
            alignment: RuleSpec::new(1.0, 1.0),
            cohesion: RuleSpec::new(1.0, 0.8),
            view_degrees: 300.0,
            wander_degrees: 20.0,
            cruise: Span::from(1.0),
            speed_limits: [0.3, 2.0],
            turn_degrees: 360.0,
            acceleration: 4.0,
            drag: 0.0,
            keep_to: None,
            within: None,
            look_ahead: 0.5,
            avoid: 3.0,
            level: 0.0,
            bank: 0.0,
            seek: Vec::new(),
            flee: Vec::new(),
            alarm: AlarmSpec::default(),
            hunt: None,
            joining: 0.0,
            tint_by: None,
            neighbours: NeighbourTechnique::Grid,
            most: 512,
        }
    }
}

/// Most targets of a list.
pub(crate) const MOST_TARGETS: usize = 16;

impl FlockSpec {
    /// A school of fish of this body length, in metres: close together, all one way.
    pub fn school(length: f32) -> Self {
        Self {
            separation: RuleSpec::new(length * 1.5, 2.0),
            alignment: RuleSpec::new(length * 4.0, 1.6),
            cohesion: RuleSpec::new(length * 4.0, 1.0),
            wander_degrees: 15.0,
            cruise: Span::new(length * 4.0, length * 5.0),
            speed_limits: [length * 1.5, length * 14.0],
            turn_degrees: 300.0,
            acceleration: length * 30.0,
            level: 0.3,
            ..Self::default()
        }
    }

    /// A swarm of insects of this spacing, in metres: each its own way about a common middle.
    pub fn swarm(spacing: f32) -> Self {
        Self {
            separation: RuleSpec::new(spacing, 1.0),
            alignment: RuleSpec::new(spacing * 2.0, 0.0),
            cohesion: RuleSpec::new(spacing * 5.0, 1.2),
            view_degrees: 360.0,
            wander_degrees: 400.0,
            cruise: Span::new(spacing * 3.0, spacing * 6.0),
            speed_limits: [spacing, spacing * 12.0],
            turn_degrees: 1_000.0,
            acceleration: spacing * 50.0,
            ..Self::default()
        }
    }

    /// A flight of birds of this spacing, in metres: wide turns, always fast, banking.
    pub fn flight(spacing: f32) -> Self {
        Self {
            separation: RuleSpec::new(spacing * 1.5, 1.6),
            alignment: RuleSpec::new(spacing * 5.0, 1.4),
            cohesion: RuleSpec::new(spacing * 5.0, 0.7),
            view_degrees: 270.0,
            wander_degrees: 10.0,
            cruise: Span::new(spacing * 9.0, spacing * 11.0),
            speed_limits: [spacing * 7.0, spacing * 16.0],
            turn_degrees: 120.0,
            acceleration: spacing * 12.0,
            level: 0.5,
            bank: 1.0,
            ..Self::default()
        }
    }

    /// Whether elements start alike and stay in the same plane: what cannot change while they live.
    pub fn starts_as(&self, other: &Self) -> bool {
        let Self { position, start, heading, keep_to, .. } = self;
        (position, start, heading, keep_to) == (&other.position, &other.start, &other.heading, &other.keep_to)
    }

    /// How far the farthest rule over those around reaches, in metres.
    pub fn reach(&self) -> f32 {
        self.separation.radius.max(self.alignment.radius).max(self.cohesion.radius)
    }

    /// Whether an element of this velocity sees another at an offset, in metres, by its field of view.
    pub fn sees(&self, velocity: [f32; 3], offset: [f32; 3]) -> bool {
        let [heading, offset] = [velocity, offset].map(glam::Vec3::from);
        let cos = libm::cosf(self.view_degrees.to_radians() * 0.5);
        self.view_degrees >= 360.0 || heading.normalize_or_zero().dot(offset) >= cos * offset.length()
    }

    /// Names of other populations that it looks at.
    pub fn looks_at(&self) -> impl Iterator<Item = &str> {
        let targets = self.seek.iter().chain(&self.flee);
        let named = targets.filter_map(|spec| match &spec.target {
            Target::Population(name) => Some(name.as_str()),
            _ => None,
        });
        named.chain(self.hunt.iter().map(|hunt| hunt.prey.as_str()))
    }

    /// Checks that all values are in range, for a number of elements.
    ///
    /// # Errors
    /// Names the first key that cannot be used.
    pub fn check(&self, count: u32) -> Result<(), SpecError> {
        vector_within("position", self.position, 1e6, "m")?;
        self.start.check().map_err(|error| error.renamed("shape", "start"))?;
        self.heading.map_or(Ok(()), |heading| crate::foundations::error::direction("heading", heading))?;
        for (name, rule) in
            [("separation", self.separation), ("alignment", self.alignment), ("cohesion", self.cohesion)]
        {
            within("radius", rule.radius, 1e-6, 1e6, "m").map_err(|error| error.under(name))?;
            within("weight", rule.weight, -100.0, 100.0, "").map_err(|error| error.under(name))?;
        }
        within("view_degrees", self.view_degrees, 1.0, 360.0, "degrees")?;
        within("wander_degrees", self.wander_degrees, 0.0, 1e4, "degrees")?;
        self.cruise.check("cruise", 0.0, 1e5, "m/s")?;
        let [least, most] = self.speed_limits;
        Span::new(least, most).check("speed_limits", 0.0, 1e5, "m/s")?;
        within("turn_degrees", self.turn_degrees, 0.0, 1e5, "degrees a second")?;
        within("acceleration", self.acceleration, 0.0, 1e6, "m/s²")?;
        within("drag", self.drag, 0.0, 1e4, "1/s")?;
        within("look_ahead", self.look_ahead, 0.0, 100.0, "s")?;
        within("avoid", self.avoid, 0.0, 100.0, "")?;
        within("level", self.level, 0.0, 100.0, "")?;
        within("bank", self.bank, 0.0, 10.0, "")?;
        each("seek", &self.seek, MOST_TARGETS, |target| target.check(false))?;
        each("flee", &self.flee, MOST_TARGETS, |target| target.check(true))?;
        within("alarm.spread", self.alarm.spread, 0.0, 1000.0, "1/s")?;
        within("alarm.seconds", self.alarm.seconds, 0.01, 1000.0, "s")?;
        self.hunt.as_ref().map_or(Ok(()), |hunt| hunt.check().map_err(|error| error.under("hunt")))?;
        within("joining", self.joining, 0.0, 1e6, "elements a second")?;
        if let Some(TintSpec::Density([least, most])) = self.tint_by {
            within("tint_by.density", least, 0.0, 1e6, "")?;
            within("tint_by.density", most, 0.0, 1e6, "")?;
            if least >= most {
                return Err(SpecError::new("tint_by.density", "does not rise", "write [lowest, highest]"));
            }
        }
        within("most", self.most as f32, 64.0, 1e6, "")?;
        self.check_space()?;
        self.check_room(count)
    }

    fn check_space(&self) -> Result<(), SpecError> {
        let Some(space) = &self.within else { return Ok(()) };
        let (name, position, sides) = match space {
            Space::Distance { .. } => return Ok(()),
            Space::Ball { position, radius } => ("ball", position, [2.0 * radius; 3]),
            Space::Box { position, size } => ("box", position, *size),
            Space::Wrapping { position, size } => ("wrapping", position, *size),
        };
        vector_within(&format!("within.{name}.position"), *position, 1e6, "m")?;
        let length = if name == "ball" { "radius" } else { "size" };
        let key = format!("within.{name}.{length}");
        sides.iter().try_for_each(|&side| within(&key, side, 0.001, 2e6, "m"))?;
        let counts = |axis: usize| match self.keep_to {
            Some(KeepTo::Flat) => axis != 1,
            Some(KeepTo::Upright) => axis != 2,
            None => true,
        };
        let (key, reach) = self.farthest();
        let wraps = matches!(space, Space::Wrapping { .. });
        let least = (0..3).filter(|axis| counts(*axis)).map(|axis| sides[axis]).fold(f32::INFINITY, f32::min);
        let most = if wraps { least * 0.5 } else { least };
        if reach > most {
            let problem = format!("{reach} m is over {most} m, which is all there is within its space");
            return Err(SpecError::new(key, problem, format!("write at most {most}")));
        }
        Ok(())
    }

    /// The rule that reaches farthest, by its key and radius.
    fn farthest(&self) -> (&'static str, f32) {
        let rules = [
            ("separation.radius", self.separation.radius),
            ("alignment.radius", self.alignment.radius),
            ("cohesion.radius", self.cohesion.radius),
        ];
        rules.into_iter().fold(("", 0.0), |most, rule| if rule.1 > most.1 { rule } else { most })
    }

    /// Refuses counts whose columns and cells are over the memory limit.
    fn check_room(&self, count: u32) -> Result<(), SpecError> {
        crate::foundations::columns::fits(u64::from(count), super::BYTES)
    }
}

impl TargetSpec {
    fn check(&self, flees: bool) -> Result<(), SpecError> {
        match &self.target {
            Target::Point(at) => vector_within("target.point", *at, 1e6, "m")?,
            Target::Path(path) => path.check().map_err(|error| error.under("target.path"))?,
            Target::Pusher(_) | Target::Surface(_) | Target::Population(_) => {}
        }
        within("weight", self.weight, 0.0, 100.0, "")?;
        within("radius", self.radius, 0.001, 1e6, "m")?;
        within("keep", self.keep, 0.0, 1e6, "m")?;
        within("orbit", self.orbit, -100.0, 100.0, "")?;
        within("alarm", self.alarm, 0.0, 1.0, "")?;
        if flees && self.keep > 0.0 {
            let problem = "does nothing for what is fled";
            return Err(SpecError::new("keep", problem, "leave it out, and set radius"));
        }
        if !flees && self.alarm > 0.0 {
            let problem = "does nothing for what is sought";
            return Err(SpecError::new("alarm", problem, "leave it out, or write it under flee"));
        }
        Ok(())
    }
}

impl HuntSpec {
    fn check(&self) -> Result<(), SpecError> {
        within("sight", self.sight, 0.001, 1e6, "m")?;
        within("reach", self.reach, 0.0, 1e6, "m")?;
        within("isolation", self.isolation, 0.0, 100.0, "")?;
        within("weight", self.weight, 0.0, 100.0, "")?;
        within("digest", self.digest, 0.0, 1e6, "s")
    }
}
