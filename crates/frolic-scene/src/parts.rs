//! The parts of a scene besides populations: textures, meshes, sprites, tile maps, texts.

use derive_setters::Setters;
use std::fmt::Write;

use frolic_core::random::hash3;
use frolic_core::{SpecError, WorldSpec, vector_within, within};
use frolic_draw::{Align, Colour, Orientation, ReliefSpec, TuftSpec};
use serde::{Deserialize, Serialize};

/// A texture: from a PNG file, or generated.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct TextureSpec {
    /// Name for references.
    #[setters(into)]
    pub name: String,
    /// The PNG, relative to the scene file: any colour type; at most 16384 pixels a side and 2^26 in all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub file: Option<String>,
    /// Without a file: a tuft of blades.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(skip)]
    pub tuft: Option<TuftSpec>,
    /// Number of frames of equal size, across and down. Default: `[1, 1]`.
    #[serde(default = "single")]
    pub frames: [u32; 2],
}

fn single() -> [u32; 2] {
    [1, 1]
}

impl TextureSpec {
    /// A texture from a PNG.
    pub fn new(name: &str, file: &str) -> Self {
        Self { name: name.into(), file: Some(file.into()), tuft: None, frames: single() }
    }

    /// A tuft of blades.
    pub fn tuft(name: &str, tuft: TuftSpec) -> Self {
        Self { name: name.into(), file: None, tuft: Some(tuft), frames: single() }
    }

    pub(crate) fn check(&self) -> Result<(), SpecError> {
        match (&self.file, &self.tuft) {
            (Some(_), None) => Ok(()),
            (None, Some(tuft)) => tuft.check().map_err(|error| error.under("tuft")),
            (None, None) => Err(SpecError::new("file", "is missing", "name a PNG, or write tuft = {}")),
            (Some(_), Some(_)) => {
                Err(SpecError::new("tuft", "is given beside a file", "write one of the two"))
            }
        }
    }
}

/// A small mesh of flat triangles, given in the scene.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct MeshSpec {
    /// Name for references.
    #[setters(into)]
    pub name: String,
    /// Vertices, in metres at size 1.
    #[setters(into)]
    pub vertices: Vec<[f32; 3]>,
    /// Triangles: three vertices each, counted from 0, anticlockwise as seen from outside.
    #[setters(into)]
    pub triangles: Vec<[u16; 3]>,
}

/// Orientation of a sprite or text in the world.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub enum OrientationSpec {
    /// Faces the camera.
    #[default]
    Camera,
    /// Upright, facing a bearing, in degrees from -z towards x.
    Upright(f32),
    /// Flat, with its upper edge towards a bearing, in degrees from -z towards x.
    Flat(f32),
}

impl OrientationSpec {
    pub(crate) fn orientation(self) -> Orientation {
        match self {
            Self::Camera => Orientation::Camera,
            Self::Upright(bearing) => Orientation::Upright(bearing.to_radians()),
            Self::Flat(bearing) => Orientation::Flat(bearing.to_radians()),
        }
    }

    fn check(self, key: &str) -> Result<(), SpecError> {
        match self {
            Self::Camera => Ok(()),
            Self::Upright(bearing) | Self::Flat(bearing) => within(key, bearing, -1e6, 1e6, "degrees"),
        }
    }
}

/// Position and orientation of a sprite, tile map or text: on the screen or in the world, and its layer.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct PutSpec {
    /// Whether positions and sizes are pixels of the picture instead of metres in the world. Default: false.
    #[setters(skip)]
    pub on_screen: bool,
    /// Origin of positions in the picture, as a share of its size. Default: the upper left corner.
    pub anchor: [f32; 2],
    /// Layers are drawn in ascending order, -1000 to 1000. Default: 0.
    pub layer: i32,
    /// Orientation in the world. Default: facing the camera.
    pub orientation: OrientationSpec,
    /// Whether nearer solid elements hide it. Default: true.
    pub depth_test: bool,
    /// Factor on its colours, 0 to 1e6. Default: 1.
    pub glow: f32,
    /// Share of the colour that is lit by lamps, sun and sky, 0 to 1. Default: 0.
    pub lit: f32,
}

impl Default for PutSpec {
    fn default() -> Self {
        Self {
            on_screen: false,
            anchor: [0.0; 2],
            layer: 0,
            orientation: OrientationSpec::Camera,
            depth_test: true,
            glow: 1.0,
            lit: 0.0,
        }
    }
}

impl PutSpec {
    /// On the screen, in a layer, relative to a point of the picture (a share of its size).
    pub fn on_screen(anchor: [f32; 2], layer: i32) -> Self {
        Self { on_screen: true, anchor, layer, ..Self::default() }
    }

    /// In the world, in a layer.
    pub fn in_world(orientation: OrientationSpec, layer: i32) -> Self {
        Self { orientation, layer, ..Self::default() }
    }

    fn check(&self) -> Result<(), SpecError> {
        self.orientation.check("orientation")?;
        self.anchor.iter().try_for_each(|share| within("anchor", *share, -10.0, 10.0, ""))?;
        within("layer", self.layer as f32, -1000.0, 1000.0, "")?;
        within("glow", self.glow, 0.0, 1e6, "")?;
        within("lit", self.lit, 0.0, 1.0, "")
    }
}

/// An image or a board.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct SpriteSpec {
    /// Position of its pivot: in metres, or in pixels right and down of the anchor (the third value is not used).
    pub position: [f32; 3],
    /// Width and height, in metres or pixels, 0 to 1e6. Default: 1.
    pub size: [f32; 2],
    /// Point at the position, about which it turns, as a share of the size from the upper left corner. Default: the centre.
    pub pivot: [f32; 2],
    /// Turn about the pivot, in degrees anticlockwise as seen. Default: 0.
    pub turn_degrees: f32,
    /// Factor on the colour of the texture. Default: white.
    pub colour: Colour,
    /// Opacity, 0 to 1. Default: 1.
    pub opacity: f32,
    /// Name of the texture. Default: none, a plain colour.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub texture: Option<String>,
    /// Frame of the texture. Default: 0.
    pub frame: u32,
    /// Corner radius, in metres or pixels, 0 to 1e6. Default: 0.
    pub corner: f32,
    /// Width of the border, in metres or pixels, 0 to 1e6. Default: 0.
    pub border: f32,
    /// Colour of the border. Default: white.
    pub border_colour: Colour,
    /// Position and orientation.
    pub put: PutSpec,
}

impl Default for SpriteSpec {
    fn default() -> Self {
        Self {
            position: [0.0; 3],
            size: [1.0; 2],
            pivot: [0.5; 2],
            turn_degrees: 0.0,
            colour: Colour::WHITE,
            opacity: 1.0,
            texture: None,
            frame: 0,
            corner: 0.0,
            border: 0.0,
            border_colour: Colour::WHITE,
            put: PutSpec::default(),
        }
    }
}

/// A tile map: any number of tiles on one quad.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct TilesSpec {
    /// Name of the texture whose frames are the tiles.
    #[setters(into)]
    pub texture: String,
    /// Number of places across and down, 1 to 8192 each, with a random tile at each.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub scatter: Option<[u32; 2]>,
    /// Tiles by row from the top, as frames counted from 0.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[setters(into)]
    pub rows: Vec<Vec<u16>>,
    /// A grey PNG, one pixel for each place: its value is the tile, 255 for none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub index: Option<String>,
    /// Centre of the quad, in metres, or in pixels right and down of the anchor.
    pub position: [f32; 3],
    /// Width and height of the quad, in metres or pixels, 0 to 1e6.
    pub size: [f32; 2],
    /// Factor on the colour of the texture. Default: white.
    #[serde(default = "white")]
    pub colour: Colour,
    /// Position and orientation.
    #[serde(default)]
    pub put: PutSpec,
}

fn white() -> Colour {
    Colour::WHITE
}

impl TilesSpec {
    /// Random tiles: numbers below `count`, by the scene's seed.
    pub(crate) fn scattered(seed: u32, [w, h]: [u32; 2], count: u32) -> Vec<u16> {
        let places = (0..h).flat_map(|j| (0..w).map(move |i| (i, j)));
        places.map(|(i, j)| (hash3(i, j, seed)[0] % count.min(u32::from(u16::MAX))) as u16).collect()
    }
}

/// Text.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct TextSpec {
    /// The text, at most 1000 characters; `{time}` stands for the scene's time, as h:mm:ss, and `{caught.0}` for the number that the first
    /// collector of the world has caught so far.
    #[setters(into)]
    pub text: String,
    /// Upper end of the first line: in metres, or in pixels right and down of the anchor.
    pub position: [f32; 3],
    /// Height of the letters: in metres, or 1 to 512 pixels.
    pub size: f32,
    /// Alignment of lines to the position. Default: left.
    #[serde(default)]
    pub align: Align,
    /// Colour. Default: white.
    #[serde(default = "white")]
    pub colour: Colour,
    /// Opacity, 0 to 1. Default: 1.
    #[serde(default = "opaque")]
    pub opacity: f32,
    /// A TrueType or OpenType font beside the scene file. Default: the built-in font.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub font: Option<String>,
    /// Start of `{time}`, in seconds, 0 to 1e9. Default: 0.
    #[serde(default)]
    pub time_from: f64,
    /// Position and orientation.
    #[serde(default)]
    pub put: PutSpec,
}

fn opaque() -> f32 {
    1.0
}

/// Draws a mask of the world as stone, with its current shape.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct ReliefPart {
    /// Name of an obstacle of the world, which must be a mask.
    pub obstacle: String,
    /// How it is painted.
    #[serde(default)]
    pub paint: ReliefSpec,
    /// Layers are drawn in ascending order, -1000 to 1000. Default: 0.
    #[serde(default)]
    pub layer: i32,
}

impl TextSpec {
    /// White text at a position: in metres, or in pixels if it is put on the screen.
    pub fn new(text: &str, position: [f32; 3], size: f32) -> Self {
        Self {
            text: text.to_owned(),
            position,
            size,
            align: Align::Left,
            colour: Colour::WHITE,
            opacity: 1.0,
            font: None,
            time_from: 0.0,
            put: PutSpec::default(),
        }
    }

    /// Appends the text for a time of the scene, in seconds, and the numbers that collectors have caught.
    pub fn say(&self, time: f64, caught: &[u64], into: &mut String) {
        let whole = (self.time_from + time).max(0.0) as u64;
        let mut rest = self.text.as_str();
        while let Some(start) = rest.find('{') {
            into.push_str(&rest[..start]);
            rest = &rest[start..];
            let word = rest.find('}').map_or("", |end| &rest[1..end]);
            let nth = word.strip_prefix("caught.").and_then(|nth| nth.parse::<usize>().ok());
            // Writing to a string cannot fail.
            let _ = match nth {
                Some(nth) => write!(into, "{}", caught.get(nth).unwrap_or(&0)),
                None if word == "time" => {
                    write!(into, "{}:{:02}:{:02}", whole / 3600, whole / 60 % 60, whole % 60)
                }
                None => {
                    into.push('{');
                    rest = &rest[1..];
                    continue;
                }
            };
            rest = &rest[word.len() + 2..];
        }
        into.push_str(rest);
    }

    pub(crate) fn changes(&self) -> bool {
        self.text.contains("{time}") || self.text.contains("{caught.")
    }
}

impl SpriteSpec {
    pub(crate) fn check(&self) -> Result<(), SpecError> {
        vector_within("position", self.position, 1e6, "")?;
        self.size.iter().try_for_each(|side| within("size", *side, 0.0, 1e6, ""))?;
        self.pivot.iter().try_for_each(|share| within("pivot", *share, -100.0, 100.0, ""))?;
        within("turn_degrees", self.turn_degrees, -1e6, 1e6, "degrees")?;
        colour("colour", self.colour)?;
        within("opacity", self.opacity, 0.0, 1.0, "")?;
        within("corner", self.corner, 0.0, 1e6, "")?;
        within("border", self.border, 0.0, 1e6, "")?;
        colour("border_colour", self.border_colour)?;
        self.put.check().map_err(|error| error.under("put"))
    }
}

impl ReliefPart {
    pub(crate) fn check(&self, world: &WorldSpec) -> Result<(), SpecError> {
        self.paint.check().map_err(|error| error.under("paint"))?;
        within("layer", self.layer as f32, -1000.0, 1000.0, "")?;
        world.mask("obstacle", &self.obstacle).map(|_| ())
    }
}

impl TilesSpec {
    pub(crate) fn check(&self) -> Result<(), SpecError> {
        let ways = [self.scatter.is_some(), !self.rows.is_empty(), self.index.is_some()];
        if ways.iter().filter(|way| **way).count() != 1 {
            let problem = "tiles come from exactly one of scatter, rows and index";
            return Err(SpecError::new("scatter", problem, "keep one of them"));
        }
        if let Some(places) = self.scatter {
            places.iter().try_for_each(|side| within("scatter", *side as f32, 1.0, 8192.0, "places"))?;
        }
        if self.rows.iter().any(|row| row.len() != self.rows[0].len()) {
            return Err(SpecError::new("rows", "differ in length", "write as many tiles in each"));
        }
        vector_within("position", self.position, 1e6, "")?;
        self.size.iter().try_for_each(|side| within("size", *side, 0.0, 1e6, ""))?;
        colour("colour", self.colour)?;
        self.put.check().map_err(|error| error.under("put"))
    }
}

impl TextSpec {
    pub(crate) fn check(&self) -> Result<(), SpecError> {
        if self.text.chars().count() > 1000 {
            return Err(SpecError::new("text", "is over 1000 characters", "split it"));
        }
        vector_within("position", self.position, 1e6, "")?;
        let (least, most) = if self.put.on_screen { (1.0, 512.0) } else { (1e-3, 1e4) };
        within("size", self.size, least, most, "")?;
        colour("colour", self.colour)?;
        within("opacity", self.opacity, 0.0, 1.0, "")?;
        within("time_from", self.time_from as f32, 0.0, 1e9, "s")?;
        self.put.check().map_err(|error| error.under("put"))
    }
}

fn colour(key: &str, colour: Colour) -> Result<(), SpecError> {
    let Colour { r, g, b } = colour;
    [r, g, b].into_iter().try_for_each(|channel| within(key, channel, 0.0, 1e6, "in linear light"))
}
