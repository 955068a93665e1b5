//! Description of a population of static instances: places, lines and layers, swinging and swaying.

use derive_setters::Setters;
use glam::Vec3;
use serde::{Deserialize, Serialize};

use crate::families::walkers::WalkSpec;
use crate::foundations::error::{SpecError, at_most, vector_within, within};
use crate::foundations::span::Span;
use crate::placement::{PlacementSpec, VolumePart, check_layers};
use crate::world::endless::ScatterSpec;
use crate::world::spec::MOST_PUSHERS;

/// Static instances: where they are put, and how they swing and sway.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct FixedSpec {
    /// Single places, for the first elements. At most 65536.
    #[setters(into)]
    pub at: Vec<PlaceSpec>,
    /// Lines along which further elements hang, evenly by length. At most 4096.
    #[setters(into)]
    pub line: Vec<LineSpec>,
    /// A distance grid over which further elements are spread. Default: none.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub fill: Option<FillSpec>,
    /// Endless cells over which further elements are scattered. Default: none.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub scatter: Option<ScatterSpec>,
    /// Layers of a placement for further elements, at most 16. Default: none.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[setters(into)]
    pub placement: Vec<PlacementSpec>,
    /// Elements that follow the pushers of the world, one each, instead of places. Default: none.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub walk: Option<WalkSpec>,
    /// Whether the lines themselves are the elements, one each, and nothing hangs from them. Default: false.
    pub strung: bool,
    /// Swinging. Default: none.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub swing: Option<SwingSpec>,
    /// Swaying of all elements together, as a bush. Default: none.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub sway: Option<SwaySpec>,
}

/// Elements spread over a distance grid, turned outwards.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct FillSpec {
    /// Name of the grid.
    #[setters(into)]
    pub asset: String,
    /// Part of the grid. Default: its inside.
    #[serde(default)]
    pub part: VolumePart,
    /// Tilt outwards, in degrees: 0 is upright, 90 points out. Default: 0 to 90.
    #[serde(default = "any_tilt")]
    #[setters(into)]
    pub tilt_degrees: Span,
    /// Largest turn from the direction outwards, in degrees, 0 to 180. Default: 60.
    #[serde(default = "some_turn")]
    pub stray_degrees: f32,
}

impl FillSpec {
    fn check(&self) -> Result<(), SpecError> {
        self.tilt_degrees.check("tilt_degrees", -180.0, 180.0, "degrees")?;
        within("stray_degrees", self.stray_degrees, 0.0, 180.0, "degrees")
    }
}

fn any_tilt() -> Span {
    Span::new(0.0, 90.0)
}

fn some_turn() -> f32 {
    60.0
}

/// Swaying of all elements together: displacement by the wind grows with the square of the height.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct SwaySpec {
    /// Height that does not move, in metres. Default: 0.
    pub root: f32,
    /// Height above `root` at which `give` applies, in metres, 0.001 to 1e4. Default: 1.
    pub height: f32,
    /// Displacement at that height for each m/s of wind, in metres, 0 to 100. Default: 0.02.
    pub give: f32,
}

impl Default for SwaySpec {
    fn default() -> Self {
        Self { root: 0.0, height: 1.0, give: 0.02 }
    }
}

impl SwaySpec {
    fn check(&self) -> Result<(), SpecError> {
        within("root", self.root, -1e6, 1e6, "m")?;
        within("height", self.height, 0.001, 1e4, "m")?;
        within("give", self.give, 0.0, 100.0, "m for each m/s")
    }
}

/// One place.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct PlaceSpec {
    /// Position, in metres.
    pub position: [f32; 3],
    /// Turn around y, in degrees anticlockwise as seen from above. Default: 0.
    pub turn_degrees: f32,
    /// Tilt around the turned x axis, in degrees. Default: 0.
    pub tilt_degrees: f32,
    /// Factor on the size of the population, 0 to 1e4. Default: 1.
    pub scale: f32,
}

impl Default for PlaceSpec {
    fn default() -> Self {
        Self { position: [0.0; 3], turn_degrees: 0.0, tilt_degrees: 0.0, scale: 1.0 }
    }
}

impl PlaceSpec {
    fn check(&self) -> Result<(), SpecError> {
        vector_within("position", self.position, 1e6, "m")?;
        within("turn_degrees", self.turn_degrees, -1e6, 1e6, "degrees")?;
        within("tilt_degrees", self.tilt_degrees, -1e6, 1e6, "degrees")?;
        within("scale", self.scale, 0.0, 1e4, "")
    }
}

/// A line that sags between two points.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct LineSpec {
    /// One end, in metres.
    pub from: [f32; 3],
    /// The other end, in metres.
    pub to: [f32; 3],
    /// Depth of its middle below the straight line, in metres, 0 to 1e4. Default: 0.
    #[serde(default)]
    pub sag: f32,
}

impl LineSpec {
    /// A line between two points with a sag, in metres.
    pub fn new(from: [f32; 3], to: [f32; 3], sag: f32) -> Self {
        Self { from, to, sag }
    }

    fn check(&self) -> Result<(), SpecError> {
        vector_within("from", self.from, 1e6, "m")?;
        vector_within("to", self.to, 1e6, "m")?;
        within("sag", self.sag, 0.0, 1e4, "m")
    }

    /// Position at a share of the way: a parabola, the form of a line under uniform load.
    pub(super) fn at(&self, share: f32) -> Vec3 {
        let straight = Vec3::from(self.from).lerp(Vec3::from(self.to), share);
        straight - Vec3::Y * (self.sag * 4.0 * share * (1.0 - share))
    }

    pub(super) fn length(&self) -> f32 {
        // Length of the parabola to second order in the sag.
        let straight = Vec3::from(self.from).distance(Vec3::from(self.to));
        straight + if straight > 0.0 { self.sag * self.sag * 8.0 / (3.0 * straight) } else { 0.0 }
    }
}

/// Swinging around the turned x axis, as a flag that hangs from its upper edge.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct SwingSpec {
    /// Length of the pendulum, in metres, 0.01 to 1000. Default: 0.3.
    pub length: f32,
    /// Response to the wind, in 1/s, 0 to 1000. Default: 2.
    pub drag: f32,
    /// Damping, in 1/s, 0 to 1000. Default: 0.8.
    pub damping: f32,
}

impl Default for SwingSpec {
    fn default() -> Self {
        Self { length: 0.3, drag: 2.0, damping: 0.8 }
    }
}
impl SwingSpec {
    fn check(&self) -> Result<(), SpecError> {
        within("length", self.length, 0.01, 1000.0, "m")?;
        within("drag", self.drag, 0.0, 1000.0, "1/s")?;
        within("damping", self.damping, 0.0, 1000.0, "1/s")
    }
}

/// Maximum number of places, and of lines.
const MOST_PLACES: usize = 65_536;
const MOST_LINES: usize = 4096;

impl FixedSpec {
    /// Elements that hang along lines.
    pub fn hung(lines: impl IntoIterator<Item = LineSpec>, swing: Option<SwingSpec>) -> Self {
        Self { line: lines.into_iter().collect(), swing, ..Self::default() }
    }

    /// Elements that follow the pushers of the world.
    pub fn walking(walk: WalkSpec) -> Self {
        Self { walk: Some(walk), ..Self::default() }
    }

    /// Checks that every value is in range, for a number of elements.
    ///
    /// # Errors
    /// Names the first key that cannot be used.
    pub fn check(&self, count: u32) -> Result<(), SpecError> {
        if let Some(walk) = &self.walk {
            walk.check().map_err(|error| error.under("walk"))?;
            at_most("count", count as usize, MOST_PUSHERS)?;
            if *self != Self::walking(walk.clone()) {
                let problem = "cannot be combined with places, lines, swing or sway";
                return Err(SpecError::new("walk", problem, "give those to another population"));
            }
            return Ok(());
        }
        let ways = [
            ("line", !self.line.is_empty()),
            ("fill", self.fill.is_some()),
            ("placement", !self.placement.is_empty()),
            ("scatter", self.scatter.is_some()),
            ("at", self.strung && !self.at.is_empty()),
            ("strung", self.strung && self.line.is_empty()),
        ];
        let mut ways = ways.into_iter().filter_map(|(key, written)| written.then_some(key));
        if let (Some(first), Some(second)) = (ways.next(), ways.next()) {
            let problem = format!("stands beside {first}");
            return Err(SpecError::new(second, problem, "keep one of them, or write two populations"));
        }
        at_most("at", self.at.len(), MOST_PLACES)?;
        at_most("line", self.line.len(), MOST_LINES)?;
        for (nth, place) in self.at.iter().enumerate() {
            place.check().map_err(|error| error.under(&format!("at.{nth}")))?;
        }
        for (nth, line) in self.line.iter().enumerate() {
            line.check().map_err(|error| error.under(&format!("line.{nth}")))?;
        }
        if let Some(fill) = &self.fill {
            fill.check().map_err(|error| error.under("fill"))?;
        }
        check_layers("placement", &self.placement)?;
        if let Some(scatter) = &self.scatter {
            scatter.check().map_err(|error| error.under("scatter"))?;
        }
        if let Some(sway) = &self.sway {
            sway.check().map_err(|error| error.under("sway"))?;
        }
        if let Some(swing) = &self.swing {
            swing.check().map_err(|error| error.under("swing"))?;
        }
        let places = if self.strung { self.line.len() } else { self.at.len() };
        if (self.strung || self.line.is_empty())
            && self.fill.is_none()
            && self.placement.is_empty()
            && self.scatter.is_none()
            && count as usize > places
        {
            let problem = format!("{count} elements for {places} places");
            return Err(SpecError::new("count", problem, "add places or lines, or write a smaller count"));
        }
        Ok(())
    }
}
