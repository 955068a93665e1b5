//! How a population of blades is described.

use derive_setters::Setters;
use serde::{Deserialize, Serialize};

use super::groups::GroupSpec;
use super::shape::MOST_LEAN;
use crate::foundations::error::{SpecError, within};
use crate::foundations::span::Span;
use crate::placement::{PlacementSpec, check_layers};
use crate::world::{GustSpec, WorldSpec};

/// Blades: rooted, bent by wind and by what moves through them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct BladeSpec {
    /// Where they stand: layers, at most 16. Default one, scattered over 10 m by 10 m.
    #[setters(into)]
    pub placement: Vec<PlacementSpec>,
    /// Length, in metres, 0.001 to 100. Default 0.5 to 0.8.
    #[setters(skip)]
    pub length: Span,
    /// How far they hang over at rest, towards where they are turned, degrees, 0 to 134. Default 5 to 25.
    #[setters(into)]
    pub bend_degrees: Span,
    /// Swings a second of a blade by itself, Hz, 0.01 to 100: stiff ones swing fast. Default 1.1 to 1.7.
    #[setters(into)]
    pub sway_hz: Span,
    /// Rate at which they take on the air's motion, in 1/s, 0 to 1000: by it the wind leans them, and still air calms them. Default 3.5.
    pub drag: f32,
    /// Rate at which swinging dies down by itself, in 1/s, 0 to 1000. Default 0.6.
    pub damping: f32,
    /// Time after which a blade that was pressed down has mostly come up again, in seconds, 0.01 to 1e6, each its own: with a wide range, trodden paths
    /// linger. Default 0.5 to 20.
    #[setters(into)]
    pub recover: Span,
    /// How they answer to the wind. Default they swing.
    #[setters(skip)]
    pub motion: BladeMotion,
    /// Side of the squares in which they are stepped, left out and drawn, in metres, 0.01 to 1e4. Default 4.
    #[setters(skip)]
    pub chunk: f32,
    /// Squares that share layouts, which `technique = "tiled"` draws from pictures made before. Default none: each has its own.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(skip)]
    pub groups: Option<GroupSpec>,
    /// Ground without end: squares are made and given up around the camera. Default the areas of the placement.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(skip)]
    pub endless: Option<AroundSpec>,
    /// Time from one look at what is in view to the next, in seconds, 0 to 10; between them what is somewhat outside counts as in view. Default 0: at each
    /// frame.
    pub look_every: f32,
    /// Blades that the wind tears off. Default none.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(skip)]
    pub tear: Option<TearSpec>,
}

/// Ground without end.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct AroundSpec {
    /// How far around the camera squares are there, in metres, at least the chunk's side and at most 200 times that.
    pub reach: f32,
    /// Most blades that are made in a step, 1 to 1e8, so that no frame takes long; all of them at the first. Default 20000.
    #[serde(default = "some")]
    pub most_new: u32,
}

fn some() -> u32 {
    20_000
}

impl AroundSpec {
    /// As far as this, in metres.
    pub fn new(reach: f32) -> Self {
        Self { reach, most_new: some() }
    }
}

/// How blades answer to the wind.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub enum BladeMotion {
    /// Each swings by itself, two ways, with a speed of its own.
    #[default]
    Swing,
    /// Each leans as the wind is now: no memory, half the traffic.
    Lean,
    /// Those within a distance of the camera swing, the others lean.
    Near(
        /// Radius in metres, 0 to 1e6.
        f32,
    ),
}

/// Blades that are torn off.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct TearSpec {
    /// Lean beyond which a blade may come off, degrees, 1 to 134.
    pub above_degrees: f32,
    /// Share of those that come off each second, 0 to 100. Default 0.1.
    #[serde(default = "tenth")]
    pub rate: f32,
    /// Share of its length that stays, 0 to 1. Default 0.15.
    #[serde(default = "stub")]
    pub stub: f32,
    /// The population of particles that they become.
    #[setters(into)]
    pub start: String,
}

fn tenth() -> f32 {
    0.1
}

fn stub() -> f32 {
    0.15
}

impl TearSpec {
    /// Those that lean beyond this, degrees, become particles of a population.
    pub fn new(above_degrees: f32, start: &str) -> Self {
        Self { above_degrees, rate: tenth(), stub: stub(), start: start.to_owned() }
    }
}

impl Default for BladeSpec {
    fn default() -> Self {
        Self {
            placement: vec![PlacementSpec::default()],
            length: Span::new(0.5, 0.8),
            bend_degrees: Span::new(5.0, 25.0),
            sway_hz: Span::new(1.1, 1.7),
            drag: 3.5,
            damping: 0.6,
            recover: Span::new(0.5, 20.0),
            motion: BladeMotion::Swing,
            chunk: 4.0,
            groups: None,
            endless: None,
            look_every: 0.0,
            tear: None,
        }
    }
}

impl BladeSpec {
    /// Blades that stand like this.
    pub fn new(placement: PlacementSpec) -> Self {
        Self { placement: vec![placement], ..Self::default() }
    }

    /// The same of this length, in metres.
    pub fn length(self, least: f32, most: f32) -> Self {
        Self { length: Span::new(least, most), ..self }
    }

    /// The same that answer to the wind like this.
    pub fn motion(self, motion: BladeMotion) -> Self {
        Self { motion, ..self }
    }

    /// The same in squares of this side, in metres.
    pub fn chunk(self, chunk: f32) -> Self {
        Self { chunk, ..self }
    }

    /// The same without end, made this far around the camera.
    pub fn endless(self, around: AroundSpec) -> Self {
        Self { endless: Some(around), ..self }
    }

    /// The same in squares that share layouts.
    pub fn groups(self, groups: GroupSpec) -> Self {
        Self { groups: Some(groups), ..self }
    }

    /// The same of which some tear off.
    pub fn tear(self, tear: TearSpec) -> Self {
        Self { tear: Some(tear), ..self }
    }

    /// Whether every value is in range.
    ///
    /// # Errors
    /// Names the first key that is not.
    pub fn check(&self) -> Result<(), SpecError> {
        check_layers("placement", &self.placement)?;
        let over = MOST_LEAN.to_degrees().floor();
        self.length.check("length", 0.001, 100.0, "m")?;
        self.bend_degrees.check("bend_degrees", 0.0, over, "degrees")?;
        self.sway_hz.check("sway_hz", 0.01, 100.0, "Hz")?;
        within("drag", self.drag, 0.0, 1000.0, "1/s")?;
        within("damping", self.damping, 0.0, 1000.0, "1/s")?;
        self.recover.check("recover", 0.01, 1e6, "s")?;
        within("chunk", self.chunk, 0.01, 1e4, "m")?;
        within("look_every", self.look_every, 0.0, 10.0, "s")?;
        if let BladeMotion::Near(far) = self.motion {
            within("motion.near", far, 0.0, 1e6, "m")?;
        }
        if let Some(around) = &self.endless {
            within("endless.reach", around.reach, self.chunk, self.chunk * 200.0, "m")?;
            within("endless.most_new", around.most_new as f32, 1.0, 1e8, "blades")?;
        }
        if let Some(groups) = &self.groups {
            groups.check(self.chunk).map_err(|error| error.under("groups"))?;
        }
        if let Some(tear) = &self.tear {
            within("tear.above_degrees", tear.above_degrees, 1.0, over, "degrees")?;
            within("tear.rate", tear.rate, 0.0, 100.0, "1/s")?;
            within("tear.stub", tear.stub, 0.0, 1.0, "")?;
        }
        Ok(())
    }
}

/// The air, by name: a wind, and blades that are in it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Weather {
    /// No wind.
    Still,
    /// 4 m/s, with gusts to 7 and lulls to 2.
    Breeze,
    /// 17 m/s, with gusts to 29.
    Storm,
    /// A slow swell, to and fro, in something heavy: blades give way and hardly swing.
    UnderWater,
}

impl Weather {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Still, Self::Breeze, Self::Storm, Self::UnderWater];

    /// Its name.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Still => "still",
            Self::Breeze => "breeze",
            Self::Storm => "storm",
            Self::UnderWater => "under-water",
        }
    }

    /// Gives a world this wind, from where the world's own wind comes; from -x where that has none.
    pub fn blow(self, world: &mut WorldSpec) {
        let own = glam::Vec3::from(world.wind).normalize_or(glam::Vec3::X);
        let (speed, strength, size, drift, swell) = match self {
            Self::Still => (0.0, 0.0, 3.0, 0.5, Span::from(1.0)),
            Self::Breeze => (4.0, 1.2, 6.0, 0.5, Span::new(0.4, 1.7)),
            Self::Storm => (17.0, 5.0, 9.0, 1.5, Span::new(0.6, 1.6)),
            Self::UnderWater => (0.5, 0.15, 4.0, 0.25, Span::new(-1.6, 2.4)),
        };
        world.wind = (own * speed).to_array();
        world.gusts = (speed > 0.0).then_some(GustSpec { strength, size, drift, swell });
    }

    /// Has blades answer as they do in it.
    pub fn settle(self, blades: &mut BladeSpec) {
        if self == Self::UnderWater {
            blades.drag *= 6.0;
            blades.sway_hz = Span::new(blades.sway_hz.min * 0.35, blades.sway_hz.max * 0.35);
        }
    }
}
