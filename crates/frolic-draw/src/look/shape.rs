//! Shapes of instances: discs, textured billboards, ribbons, meshes and sprites.

use derive_setters::Setters;
use frolic_core::Span;
use serde::{Deserialize, Serialize};

/// Shape of an instance.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub enum Shape {
    /// A round soft billboard.
    #[default]
    Disc,
    /// A textured billboard.
    Billboard(BillboardSpec),
    /// A ribbon of segments, tapered and curved: a blade or a strand.
    Ribbon(RibbonSpec),
    /// A triangle mesh, by name.
    Mesh {
        /// A mesh of the scene, or a built-in one.
        name: String,
        /// The same with fewer triangles, for far away; see `detail.coarse_below`. Default: none.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        coarse: Option<String>,
        /// Name of its texture. Default: none.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        texture: Option<String>,
        /// Waves that run along its body as it goes. Default: none.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        wave: Option<WaveSpec>,
    },
    /// Sprites, each with its own position, size and fill.
    Sprite {
        /// Whether positions are pixels of the image and not metres. Default: metres.
        #[serde(default)]
        on_screen: bool,
    },
}

impl Shape {
    /// A mesh without a coarse form.
    pub fn mesh(name: &str) -> Self {
        Self::Mesh { name: name.into(), coarse: None, texture: None, wave: None }
    }

    /// A mesh without a coarse form, with a texture.
    pub fn textured_mesh(name: &str, texture: &str) -> Self {
        Self::Mesh { name: name.into(), coarse: None, texture: Some(texture.into()), wave: None }
    }
}

/// Waves that run along a mesh from its front (+z) to its back as its element goes: the body of a swimming fish. Elements of families that tell the way
/// they have gone swing; others keep straight.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct WaveSpec {
    /// Swing of the back to each side at full speed, in lengths of the mesh, 0 to 1. Default: 0.12.
    pub swing: f32,
    /// Waves along the length, 0 to 10. Default: 0.8.
    pub count: f32,
    /// Way for each beat, in lengths of the mesh, 0.01 to 1000. Default: 0.7.
    pub beat: f32,
    /// Speed of full swing, in m/s, 0.001 to 1e5: slower elements swing less. Default: 1.
    pub speed: f32,
}

impl Default for WaveSpec {
    fn default() -> Self {
        Self { swing: 0.12, count: 0.8, beat: 0.7, speed: 1.0 }
    }
}

/// A textured billboard.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct BillboardSpec {
    /// Name of the texture.
    #[setters(into)]
    pub texture: String,
    /// Which of the texture's frames is shown. Default: by age.
    #[serde(default)]
    #[setters(skip)]
    pub play: Play,
    /// Whether frames are blended with the next one. Default: false.
    #[serde(default)]
    pub blend_frames: bool,
    /// Which way the billboard is turned. Default: upright, facing the camera.
    #[serde(default)]
    pub facing: Facing,
    /// Height over width, 0.01 to 100. Default: 1.
    #[serde(default = "one")]
    pub aspect: f32,
}

impl BillboardSpec {
    /// A square billboard whose texture plays its frames once over each element's life.
    pub fn new(texture: &str) -> Self {
        Self {
            texture: texture.to_owned(),
            play: Play::Age,
            blend_frames: false,
            facing: Facing::Camera,
            aspect: 1.0,
        }
    }

    /// Chooses frames this way; `blend_frames` blends each with the next.
    pub fn play(mut self, play: Play, blend_frames: bool) -> Self {
        (self.play, self.blend_frames) = (play, blend_frames);
        self
    }
}

fn one() -> f32 {
    1.0
}

/// Which frame of a flipbook is shown.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub enum Play {
    /// All frames once over the element's life.
    #[default]
    Age,
    /// At a constant rate, repeating; each element starts at its own frame.
    Clock {
        /// Frames a second, 0 to 1000.
        rate: f32,
    },
    /// One random frame for each element.
    Pick,
}

/// How a billboard is turned about the line of sight.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub enum Facing {
    /// Upright, like the camera.
    #[default]
    Camera,
    /// A random angle, rotating at a random rate.
    Spin {
        /// Range of the rate in degrees a second, -1e5 to 1e5.
        rate: Span,
    },
    /// Upper edge along the velocity.
    Heading,
    /// Upper edge along the velocity, and stretched by the distance moved in a time.
    Stretch {
        /// Length of the streak, in seconds of motion, 0 to 100.
        seconds: f32,
    },
}

/// A ribbon.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct RibbonSpec {
    /// Ratio of length to the element's size, 0.01 to 1000. Default: 10.
    pub length: f32,
    /// Ratio of the tip's width to the root's, 0 to 1. Default: 0: pointed.
    pub tip: f32,
    /// Number of straight segments, 1 to 12. Default: 3.
    pub segments: u32,
}

impl Default for RibbonSpec {
    fn default() -> Self {
        Self { length: 10.0, tip: 0.0, segments: 3 }
    }
}

impl RibbonSpec {
    /// A ribbon with a ratio of length to size, a ratio of the tip's width to the root's, and a number of segments.
    pub fn new(length: f32, tip: f32, segments: u32) -> Self {
        Self { length, tip, segments }
    }

    /// Most segments.
    pub const MOST_SEGMENTS: u32 = frolic_raster::sections::MOST_SEGMENTS as u32;
}
