//! Description of a population of blades.

use derive_setters::Setters;
use serde::{Deserialize, Serialize};

use super::groups::GroupSpec;
use super::shape::MOST_LEAN;
use crate::foundations::error::{SpecError, within};
use crate::foundations::span::Span;
use crate::placement::{PlacementSpec, check_layers};
use crate::world::spec::{GustSpec, WorldSpec};

/// Blades: rooted, bent by the wind and by pushers.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct BladeSpec {
    /// Placement of the roots: at most 16 layers. Default: one layer, scattered over 10 m by 10 m.
    #[setters(into)]
    pub placement: Vec<PlacementSpec>,
    /// Length, in metres, 0.001 to 100. Default: 0.5 to 0.8.
    #[setters(skip)]
    pub length: Span,
    /// Lean at rest, in the direction of the turn, in degrees, 0 to 134. Default: 5 to 25.
    #[setters(into)]
    pub bend_degrees: Span,
    /// Natural frequency, in Hz, 0.01 to 100; stiff blades have a high one. Default: 1.1 to 1.7.
    #[setters(into)]
    pub sway_hz: Span,
    /// Response to the wind, in 1/s, 0 to 1000: wind leans blades, and still air damps them. Default: 3.5.
    pub drag: f32,
    /// Damping besides that of the air, in 1/s, 0 to 1000. Default: 0.6.
    pub damping: f32,
    /// Time in which a pressed blade has mostly risen again, in seconds, 0.01 to 1e6, drawn for each blade: with a wide range, trodden paths
    /// linger. Default: 0.5 to 20.
    #[setters(into)]
    pub recover: Span,
    /// Motion in the wind. Default: blades swing.
    pub motion: BladeMotion,
    /// Side of the squares in which blades are stepped, culled and drawn, in metres, 0.01 to 1e4. Default: 4.
    pub chunk: f32,
    /// Squares that share layouts, which `technique = "tiled"` draws as cached pictures. Default: each square has its own layout.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub groups: Option<GroupSpec>,
    /// Endless ground: squares appear and disappear around the camera. Default: the areas of the placement.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub endless: Option<AroundSpec>,
    /// Time between updates of visibility, in seconds, 0 to 10; in between, squares somewhat outside the view count as visible. Default: 0, an update
    /// in each frame.
    pub cull_every: f32,
    /// Blades that the wind tears off. Default: none.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub tear: Option<TearSpec>,
}

/// Endless ground.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct AroundSpec {
    /// Distance from the camera up to which squares exist, in metres, at least the side of a square and at most 200 times that.
    pub reach: f32,
    /// Maximum number of blades generated in a step, 1 to 1e8, so that no frame takes long; the first step generates all. Default: 20000.
    #[serde(default = "some")]
    pub most_new: u32,
}

fn some() -> u32 {
    20_000
}

impl AroundSpec {
    /// Endless ground up to a distance from the camera, in metres.
    pub fn new(reach: f32) -> Self {
        Self { reach, most_new: some() }
    }
}

/// Motion of blades in the wind.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub enum BladeMotion {
    /// Each blade swings along two axes, with rates of its own.
    #[default]
    Swing,
    /// Each blade leans with the present wind, without inertia: half the memory traffic.
    Lean,
    /// Blades within a distance of the camera swing, the others lean.
    Near(
        /// Distance from the camera, in metres, 0 to 1e6.
        f32,
    ),
}

/// Blades that are torn off.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct TearSpec {
    /// Lean beyond which a blade can tear, in degrees, 1 to 134.
    pub above_degrees: f32,
    /// Share of the leaning blades that tear each second, 0 to 100. Default: 0.1.
    #[serde(default = "tenth")]
    pub rate: f32,
    /// Share of its length that remains, 0 to 1. Default: 0.15.
    #[serde(default = "stub")]
    pub stub: f32,
    /// Name of the particle population that torn pieces join.
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
    /// Turns blades that lean beyond an angle, in degrees, into particles of a population.
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
            cull_every: 0.0,
            tear: None,
        }
    }
}

impl BladeSpec {
    /// Blades on one layer of a placement.
    pub fn new(placement: PlacementSpec) -> Self {
        Self { placement: vec![placement], ..Self::default() }
    }

    /// Sets the range of lengths, in metres.
    pub fn length(self, least: f32, most: f32) -> Self {
        Self { length: Span::new(least, most), ..self }
    }

    /// Checks that every value is in range.
    ///
    /// # Errors
    /// Names the first key that cannot be used.
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
        within("cull_every", self.cull_every, 0.0, 10.0, "s")?;
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

/// A named wind, and the motion of blades in it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Weather {
    /// No wind.
    Still,
    /// 4 m/s, with gusts to 7 and lulls to 2.
    Breeze,
    /// 17 m/s, with gusts to 29.
    Storm,
    /// A slow swell in a dense fluid: blades sway to and fro and hardly swing.
    UnderWater,
}

impl Weather {
    /// All named winds.
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

    /// Sets this wind on a world, from the direction of its present wind; along x if there is none.
    pub fn set_wind(self, world: &mut WorldSpec) {
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

    /// Sets the motion of blades for this wind.
    pub fn set_motion(self, blades: &mut BladeSpec) {
        if self == Self::UnderWater {
            blades.drag *= 6.0;
            blades.sway_hz = Span::new(blades.sway_hz.min * 0.35, blades.sway_hz.max * 0.35);
        }
    }
}
