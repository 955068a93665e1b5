//! Specs of the world: what acts on all populations.

use crate::assets::Assets;
use crate::foundations::error::{SpecError, each, listed, vector_within, within};
use crate::foundations::paths::{Path, PathSpec};
use crate::foundations::span::Span;
use crate::world::carried::Start;
use crate::world::collectors::{Collector, CollectorSpec};
use crate::world::endless::EndlessSpec;
use crate::world::fields::Acting;
use crate::world::fields::spec::FieldSpec;
use crate::world::obstacles::{ObstacleShape, ObstacleSpec, Solid};
use crate::world::pushers::{Pusher, PusherSpec};
use crate::world::{World, new_stamp};
use derive_setters::Setters;
use serde::{Deserialize, Serialize};
use std::collections::HashSet;

/// What acts on all populations, on each according to its own response.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct WorldSpec {
    /// Gravity, in m/s². Default: `[0, -9.81, 0]`.
    pub gravity: [f32; 3],
    /// Steady velocity of the air, in m/s. It acts through drag. Default: no wind.
    pub wind: [f32; 3],
    /// Gusts added to the steady wind. Default: none.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(skip)]
    pub gusts: Option<GustSpec>,
    /// Fields, at most 64. Default: none.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[setters(skip)]
    pub field: Vec<FieldSpec>,
    /// Obstacles, at most 64. Default: none.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[setters(skip)]
    pub obstacle: Vec<ObstacleSpec>,
    /// Endless posts, in cells around a moving centre. Default: none.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub endless: Option<EndlessSpec>,
    /// Collectors, at most 65536. Default: none.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[setters(skip)]
    pub collector: Vec<CollectorSpec>,
    /// Pushers, which move through blades and bend them, at most 4096. Default: none.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[setters(skip)]
    pub pusher: Vec<PusherSpec>,
    /// Brushes, which dig or fill masks while the world runs, at most 64. Default: none.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[setters(into)]
    pub brush: Vec<BrushSpec>,
}

/// A brush that moves over a mask.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct BrushSpec {
    /// Name of the obstacle; it must be a mask.
    pub obstacle: String,
    /// Whether it fills instead of digging. Default: false.
    #[serde(default)]
    pub fills: bool,
    /// Radius, in metres, 0.001 to 1e4.
    pub radius: f32,
    /// Position, in metres; on a path, the origin of the path.
    #[serde(default)]
    pub position: [f32; 3],
    /// Path, from `position` on. Default: none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub path: Option<PathSpec>,
    /// Start and end of its work, in seconds after the start; its path starts then. Default: always.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub during: Option<[f32; 2]>,
}

/// Gusts: smooth noise that moves with the wind.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct GustSpec {
    /// Maximum speed added along each axis, in m/s, 0 to 1000. Default: 1.
    pub strength: f32,
    /// Size of a gust, in metres, 0.001 to 100000. Default: 3.
    pub size: f32,
    /// Rate of change in still air: drift through the noise, in m/s, 0 to 1000. Default: 0.5.
    pub drift: f32,
    /// Factor on the steady wind, from the deepest lull to the strongest gust, -10 to 10; negative values reverse it. Default: 1 to 1, a steady
    /// wind.
    #[setters(into)]
    pub swell: Span,
}

impl Default for GustSpec {
    fn default() -> Self {
        Self { strength: 1.0, size: 3.0, drift: 0.5, swell: Span::new(1.0, 1.0) }
    }
}

impl Default for WorldSpec {
    fn default() -> Self {
        Self {
            gravity: [0.0, -9.81, 0.0],
            wind: [0.0; 3],
            gusts: None,
            field: Vec::new(),
            obstacle: Vec::new(),
            endless: None,
            collector: Vec::new(),
            pusher: Vec::new(),
            brush: Vec::new(),
        }
    }
}

impl WorldSpec {
    /// Sets gusts: maximum added speed, in m/s, and size, in metres.
    pub fn gusts(mut self, strength: f32, size: f32) -> Self {
        self.gusts = Some(GustSpec { strength, size, ..GustSpec::default() });
        self
    }

    /// Adds a field.
    pub fn field(mut self, field: FieldSpec) -> Self {
        self.field.push(field);
        self
    }

    /// Adds an obstacle.
    pub fn obstacle(mut self, obstacle: ObstacleSpec) -> Self {
        self.obstacle.push(obstacle);
        self
    }

    /// Adds a collector.
    pub fn collector(mut self, collector: CollectorSpec) -> Self {
        self.collector.push(collector);
        self
    }

    /// Adds a pusher.
    pub fn pusher(mut self, pusher: PusherSpec) -> Self {
        self.pusher.push(pusher);
        self
    }

    /// Checks the values and prepares them for stepping.
    ///
    /// # Errors
    /// Names the key that is out of range.
    pub fn build(&self) -> Result<World, SpecError> {
        self.build_with(&Assets::default())
    }

    /// Checks the values and prepares them for stepping. Fields and obstacles may name assets.
    ///
    /// # Errors
    /// Names the key that is out of range, or whose asset is missing or of another kind.
    pub fn build_with(&self, assets: &Assets) -> Result<World, SpecError> {
        self.check()?;
        let stamp = new_stamp();
        Ok(World {
            fields: Acting::all(&self.field, assets)?,
            own_fields: Vec::new(),
            solid: Solid::new(&self.obstacle, self.endless.as_ref(), assets)?,
            collectors: self.collector.iter().map(Collector::new).collect(),
            pushers: self.pusher.iter().map(Pusher::new).collect(),
            brushes: self
                .brush
                .iter()
                .map(|brush| {
                    Ok((self.mask("obstacle", &brush.obstacle)?, brush.path.as_ref().map(Path::new)))
                })
                .collect::<Result<_, SpecError>>()?,
            way: Start::default(),
            gusts_from: None,
            stamp,
            origin: stamp,
            spec: self.clone(),
        })
    }

    /// Checks that every value is in range. Assets are looked up when the world is built.
    ///
    /// # Errors
    /// Names the first key that is out of range.
    pub fn check(&self) -> Result<(), SpecError> {
        vector_within("gravity", self.gravity, 1e4, "m/s²")?;
        vector_within("wind", self.wind, 1e4, "m/s")?;
        if let Some(gusts) = &self.gusts {
            within("gusts.strength", gusts.strength, 0.0, 1000.0, "m/s")?;
            within("gusts.size", gusts.size, 0.001, 1e5, "m")?;
            within("gusts.drift", gusts.drift, 0.0, 1000.0, "m/s")?;
            gusts.swell.check("gusts.swell", -10.0, 10.0, "")?;
        }
        crate::world::fields::spec::check(&self.field)?;
        crate::world::obstacles::check(&self.obstacle)?;
        if let Some(endless) = &self.endless {
            endless.check().map_err(|error| error.under("endless"))?;
        }
        crate::world::collectors::check(&self.collector)?;
        each("pusher", &self.pusher, MOST_PUSHERS, PusherSpec::check)?;
        names_differ("pusher", self.pusher.iter().map(|pusher| pusher.name.as_deref()))?;
        names_differ("obstacle", self.obstacle.iter().map(|obstacle| obstacle.name.as_deref()))?;
        each("brush", &self.brush, MOST_BRUSHES, |brush| brush.check(self))
    }

    /// Index of the obstacle of a name, which must be a mask. `key` names the key that holds the name.
    ///
    /// # Errors
    /// No obstacle has the name, or it is no mask.
    pub fn mask(&self, key: &str, name: &str) -> Result<usize, SpecError> {
        let is_mask = |obstacle: &ObstacleSpec| matches!(obstacle.shape, ObstacleShape::Mask { .. });
        let nth = self.obstacle.iter().position(|obstacle| obstacle.name.as_deref() == Some(name));
        if let Some(nth) = nth.filter(|nth| is_mask(&self.obstacle[*nth])) {
            return Ok(nth);
        }
        let masks = self.obstacle.iter().filter(|obstacle| is_mask(obstacle));
        let names = listed(masks.filter_map(|mask| mask.name.as_deref()));
        let problem = match nth {
            Some(_) => format!("obstacle '{name}' is not a mask"),
            None => format!("no obstacle is named '{name}'"),
        };
        let instead = match names.as_str() {
            "" => "name a mask among the obstacles, and write that name".to_owned(),
            names => format!("write the name of a mask: {names}"),
        };
        Err(SpecError::new(key, problem, instead))
    }
}

/// Refuses two things of a list with one name.
fn names_differ<'a>(key: &str, names: impl Iterator<Item = Option<&'a str>>) -> Result<(), SpecError> {
    let mut seen = HashSet::new();
    for (nth, name) in names.enumerate() {
        if let Some(name) = name.filter(|name| !seen.insert(*name)) {
            let problem = format!("'{name}' is used twice");
            return Err(SpecError::new(format!("{key}.{nth}.name"), problem, "write another name"));
        }
    }
    Ok(())
}

/// Maximum number of pushers of a world.
pub(crate) const MOST_PUSHERS: usize = 4096;

/// Maximum number of brushes of a world.
const MOST_BRUSHES: usize = 64;

impl BrushSpec {
    /// A brush that digs in the obstacle of a name, within a radius of a position, in metres.
    pub fn dig(obstacle: &str, position: [f32; 3], radius: f32) -> Self {
        let obstacle = obstacle.to_owned();
        Self { obstacle, fills: false, radius, position, path: None, during: None }
    }

    fn check(&self, world: &WorldSpec) -> Result<(), SpecError> {
        within("radius", self.radius, 0.001, 1e4, "m")?;
        vector_within("position", self.position, 1e6, "m")?;
        if let Some([from, to]) = self.during {
            Span::new(from, to).check("during", 0.0, 1e9, "s")?;
        }
        world.mask("obstacle", &self.obstacle)?;
        self.path.as_ref().map_or(Ok(()), |path| path.check().map_err(|error| error.under("path")))
    }
}
