//! Looks as they are written: shape, blending, colour, lighting and detail of instances.

use std::collections::HashMap;
use std::sync::Arc;

use derive_setters::Setters;
use frolic_core::{Ramp, SpecError, listed, within};
use serde::{Deserialize, Serialize};

use crate::atlas::{Atlas, Sheet};
use crate::colour::Colour;
use crate::detail::DetailSpec;
use crate::look::built::{Form, Look};
use crate::look::shape::{Facing, Play, RibbonSpec, Shape};
use crate::mesh::{MESH_NAMES, Mesh};

/// How an instance blends with the image behind it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Blend {
    /// Alpha blending by opacity; drawn back to front.
    #[default]
    Alpha,
    /// Additive; order does not matter.
    Additive,
    /// Opaque: the nearest is visible, in any order.
    Opaque,
    /// Opaque, with holes where the texture's opacity is below a half.
    CutOut,
}

/// Resolution that transparent elements are drawn at, as a share of the picture's.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Resolution {
    /// By their size on the screen: full where they are small or few, half or quarter where they are large and cover the picture several times.
    #[default]
    Auto,
    /// Full.
    Full,
    /// Half: a quarter of the pixels.
    Half,
    /// Quarter: a sixteenth of the pixels.
    Quarter,
}

/// Depth test and depth write.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct DepthSpec {
    /// Depth test: whether nearer solid elements hide it. Default: yes.
    pub test: bool,
    /// Depth write: whether it hides later elements behind it, if it is solid. Default: yes.
    pub write: bool,
}

impl Default for DepthSpec {
    fn default() -> Self {
        Self { test: true, write: true }
    }
}

/// The look of a population.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct LookSpec {
    /// Shape. Default: a disc.
    pub shape: Shape,
    /// Blending. Default: alpha.
    pub blend: Blend,
    /// Layer, -1000 to 1000; layers are drawn in ascending order. Default: 0.
    pub layer: i32,
    /// Depth test and depth write.
    pub depth: DepthSpec,
    /// Colour over age. Default: white.
    #[setters(into)]
    pub colour_over_age: Ramp<Colour>,
    /// Opacity over age, 0 to 1. Default: 1.
    #[setters(into)]
    pub opacity_over_age: Ramp<f32>,
    /// Factor on the radius over age. Default: 1.
    #[setters(into)]
    pub size_over_age: Ramp<f32>,
    /// Factor on the colour over height, from the lower to the upper end of `height_range`. Default: white.
    #[setters(into)]
    pub colour_over_height: Ramp<Colour>,
    /// Range of heights for `colour_over_height`, in metres. Default: 0 to 1.
    pub height_range: [f32; 2],
    /// Factor on the colour from the root (0) to the tip (1) of a ribbon, or from the foot to the top of a mesh. Default: white.
    #[setters(into)]
    pub colour_along: Ramp<Colour>,
    /// Factors on the colour; each element takes a random one. Default: none.
    #[setters(into)]
    pub tints: Vec<Colour>,
    /// Factor on the colour, 0 to 1e6. Above 1 the element glows. Default: 1.
    pub glow: f32,
    /// Share of the colour that is lit by lights and sky, 0 (unlit) to 1. Default: 0.
    pub lit: f32,
    /// Strength of rim light, on edges that turn away from the camera, 0 to 10. Default: 0.
    pub rim: f32,
    /// Whether both sides of a surface are lit. Default: yes.
    pub two_sided: bool,
    /// Translucency: share of light that passes through from behind, 0 to 1. Default: 0.
    pub translucency: f32,
    /// Strength of the sun's reflection, as on silver or wet skin, 0 to 100. Default: 0.
    pub gloss: f32,
    /// Roundness of a ribbon's shading, 0 (flat, by its orientation) to 1 (normals face the camera). Default: 0.4. Unused by other
    /// shapes.
    pub round: f32,
    /// Share of the sky's haze, 0 to 1: distant elements of a lit, solid look fade to the colour of the horizon. Default: 0.
    pub hazed: f32,
    /// Depth in metres over which a transparent instance fades out in front of a solid surface, 0.001 to 1000. Default: 0.05.
    pub soft: f32,
    /// Resolution that transparent discs and billboards are drawn at; edges of solid things in front stay sharp. Default: auto. A device draws
    /// all at full resolution.
    pub resolution: Resolution,
    /// Level of detail.
    pub detail: DetailSpec,
}

impl Default for LookSpec {
    fn default() -> Self {
        Self {
            shape: Shape::Disc,
            blend: Blend::Alpha,
            layer: 0,
            depth: DepthSpec::default(),
            colour_over_age: Ramp::constant(Colour::WHITE),
            opacity_over_age: Ramp::constant(1.0),
            size_over_age: Ramp::constant(1.0),
            colour_over_height: Ramp::constant(Colour::WHITE),
            height_range: [0.0, 1.0],
            colour_along: Ramp::constant(Colour::WHITE),
            tints: Vec::new(),
            glow: 1.0,
            lit: 0.0,
            rim: 0.0,
            two_sided: true,
            translucency: 0.0,
            gloss: 0.0,
            round: 0.4,
            hazed: 0.0,
            soft: 0.05,
            resolution: Resolution::Auto,
            detail: DetailSpec::default(),
        }
    }
}

/// Meshes and textures by name, for looks that refer to them.
#[derive(Debug, Clone, Default)]
pub struct Library {
    /// Meshes by name. They take precedence over built-in meshes.
    pub meshes: HashMap<String, Arc<Mesh>>,
    /// Textures by name.
    pub atlas: Arc<Atlas>,
}

/// Most tints of a look.
const MOST_TINTS: usize = 64;

impl LookSpec {
    /// An additive look with these colours over age, sRGB `#rrggbb`, times `glow`.
    ///
    /// # Errors
    /// When a colour is not `#rrggbb`.
    pub fn glowing<'a>(
        glow: f32,
        stops: impl IntoIterator<Item = (f32, &'a str)>,
    ) -> Result<Self, SpecError> {
        Ok(Self { blend: Blend::Additive, glow, colour_over_age: hex_stops(stops)?, ..Self::default() })
    }

    /// An alpha-blended look like smoke with these colours over age, sRGB `#rrggbb`, lit by lights and sky.
    ///
    /// # Errors
    /// When a colour is not `#rrggbb`.
    pub fn covering<'a>(stops: impl IntoIterator<Item = (f32, &'a str)>) -> Result<Self, SpecError> {
        Ok(Self { lit: 1.0, colour_over_age: hex_stops(stops)?, ..Self::default() })
    }

    /// A solid look of one colour, sRGB `#rrggbb`, lit by lights and sky.
    ///
    /// # Errors
    /// When the colour is not `#rrggbb`.
    pub fn solid(shape: Shape, colour: &str) -> Result<Self, SpecError> {
        let colour_over_age = hex_stops([(0.0, colour)])?;
        Ok(Self { shape, blend: Blend::Opaque, lit: 1.0, colour_over_age, ..Self::default() })
    }

    /// A look for sprites in a layer, in the world or on the screen.
    pub fn sprites(on_screen: bool, layer: i32) -> Self {
        Self { shape: Shape::Sprite { on_screen }, layer, ..Self::default() }
    }

    /// Checks the look and tabulates its ramps, with built-in meshes and no textures.
    ///
    /// # Errors
    /// As [`LookSpec::build_with`].
    pub fn build(&self) -> Result<Look, SpecError> {
        self.build_with(&Library::default())
    }

    /// Checks the look, tabulates its ramps and looks up its mesh or texture.
    ///
    /// # Errors
    /// Names the key that is out of range, or whose name is unknown.
    pub fn build_with(&self, library: &Library) -> Result<Look, SpecError> {
        self.check()?;
        let form = self.form(library)?;
        let solid = matches!(self.blend, Blend::Opaque | Blend::CutOut);
        if solid && matches!(form, Form::Disc | Form::Sprite { .. }) {
            let problem = "a disc or sprite has soft edges, so it cannot be solid";
            return Err(SpecError::new("blend", problem, "write \"alpha\" or \"additive\""));
        }
        Ok(Look::new(self, form, library))
    }

    /// Checks that all values are in range. [`LookSpec::build_with`] looks up names of meshes and textures.
    ///
    /// # Errors
    /// Names the key that is out of range.
    pub fn check(&self) -> Result<(), SpecError> {
        self.colour_over_age.check("colour_over_age")?;
        self.opacity_over_age.check("opacity_over_age")?;
        self.size_over_age.check("size_over_age")?;
        self.colour_over_height.check("colour_over_height")?;
        self.colour_along.check("colour_along")?;
        if self.opacity_over_age.stops().iter().any(|&(_, opacity)| opacity > 1.0) {
            return Err(SpecError::new(
                "opacity_over_age",
                "an opacity is above 1",
                "write opacities from 0 to 1",
            ));
        }
        let [low, high] = self.height_range;
        within("height_range", low, -1e6, 1e6, "m")?;
        within("height_range", high, -1e6, 1e6, "m")?;
        if high <= low {
            return Err(SpecError::new("height_range", "does not rise", "write [lowest, highest]"));
        }
        if self.tints.len() > MOST_TINTS {
            let problem = format!("{} tints", self.tints.len());
            return Err(SpecError::new("tints", problem, format!("keep to {MOST_TINTS}")));
        }
        self.tints.iter().try_for_each(|tint| tint.check("tints"))?;
        within("layer", self.layer as f32, -1000.0, 1000.0, "")?;
        within("glow", self.glow, 0.0, 1e6, "")?;
        within("lit", self.lit, 0.0, 1.0, "")?;
        within("rim", self.rim, 0.0, 10.0, "")?;
        within("translucency", self.translucency, 0.0, 1.0, "")?;
        within("gloss", self.gloss, 0.0, 100.0, "")?;
        within("round", self.round, 0.0, 1.0, "")?;
        within("hazed", self.hazed, 0.0, 1.0, "")?;
        within("soft", self.soft, 0.001, 1000.0, "m")?;
        self.check_shape()?;
        self.detail.check().map_err(|error| error.under("detail"))
    }

    /// Checks the numbers of the shape. Whether its textures and meshes exist is known when it is built.
    fn check_shape(&self) -> Result<(), SpecError> {
        match &self.shape {
            Shape::Disc | Shape::Sprite { .. } => Ok(()),
            Shape::Mesh { wave, .. } => {
                let Some(wave) = wave else { return Ok(()) };
                within("shape.mesh.wave.swing", wave.swing, 0.0, 1.0, "lengths")?;
                within("shape.mesh.wave.count", wave.count, 0.0, 10.0, "")?;
                within("shape.mesh.wave.beat", wave.beat, 0.01, 1000.0, "lengths")?;
                within("shape.mesh.wave.speed", wave.speed, 0.001, 1e5, "m/s")
            }
            Shape::Billboard(billboard) => {
                if let Play::Clock { rate } = billboard.play {
                    within("shape.billboard.play.clock.rate", rate, 0.0, 1000.0, "frames a second")?;
                }
                match billboard.facing {
                    Facing::Spin { rate } => {
                        rate.check("shape.billboard.facing.spin.rate", -1e5, 1e5, "degrees a second")?;
                    }
                    Facing::Stretch { seconds } => {
                        within("shape.billboard.facing.stretch.seconds", seconds, 0.0, 100.0, "s")?;
                    }
                    Facing::Camera | Facing::Heading => {}
                }
                within("shape.billboard.aspect", billboard.aspect, 0.01, 100.0, "")
            }
            Shape::Ribbon(ribbon) => {
                within("shape.ribbon.length", ribbon.length, 0.01, 1000.0, "times the size")?;
                within("shape.ribbon.tip", ribbon.tip, 0.0, 1.0, "")?;
                let most = RibbonSpec::MOST_SEGMENTS as f32;
                within("shape.ribbon.segments", ribbon.segments as f32, 1.0, most, "")
            }
        }
    }

    fn form(&self, library: &Library) -> Result<Form, SpecError> {
        Ok(match &self.shape {
            Shape::Disc => Form::Disc,
            Shape::Sprite { on_screen } => Form::Sprite { on_screen: *on_screen },
            Shape::Billboard(billboard) => {
                let sheet = texture("shape.billboard.texture", &billboard.texture, library)?;
                Form::Billboard { sheet, billboard: billboard.clone() }
            }
            Shape::Ribbon(ribbon) => Form::Ribbon(*ribbon),
            Shape::Mesh { name, coarse, texture: worn, wave } => {
                let find = |key: &str, name: &String| {
                    library.meshes.get(name).cloned().or_else(|| Mesh::named(name)).ok_or_else(|| {
                        let mut names: Vec<&str> = library.meshes.keys().map(String::as_str).collect();
                        names.sort_unstable();
                        names.extend(MESH_NAMES);
                        nothing(key, "mesh", name, &names)
                    })
                };
                let fine = find("shape.mesh.name", name)?;
                let coarse = coarse.as_ref().map(|name| find("shape.mesh.coarse", name)).transpose()?;
                let worn =
                    worn.as_ref().map(|name| texture("shape.mesh.texture", name, library)).transpose()?;
                Form::Mesh { fine, coarse, texture: worn, wave: *wave }
            }
        })
    }
}

fn texture(key: &str, name: &str, library: &Library) -> Result<Sheet, SpecError> {
    library.atlas.sheet(name).ok_or_else(|| {
        let mut names: Vec<&str> = library.atlas.names().collect();
        names.sort_unstable();
        nothing(key, "texture", name, &names)
    })
}

fn nothing(key: &str, what: &str, name: &str, names: &[&str]) -> SpecError {
    let instead = if names.is_empty() {
        format!("add a {what} of this name")
    } else {
        format!("name one of: {}", listed(names.iter().copied()))
    };
    SpecError::new(key, format!("there is no {what} '{name}'"), instead)
}

fn hex_stops<'a>(stops: impl IntoIterator<Item = (f32, &'a str)>) -> Result<Ramp<Colour>, SpecError> {
    let stop = |(at, text): (f32, &'a str)| {
        let colour = Colour::hex(text).ok_or_else(|| {
            SpecError::new("colour_over_age", format!("'{text}' is not a colour"), "write \"#rrggbb\"")
        })?;
        Ok((at, colour))
    };
    Ok(Ramp::new(stops.into_iter().map(stop).collect::<Result<Vec<_>, SpecError>>()?))
}
