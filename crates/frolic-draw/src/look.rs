//! Looks: shape, blending, colour, lighting and detail of instances.

use derive_setters::Setters;
use std::collections::HashMap;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::sync::Arc;

use frolic_core::{Ramp, Span, SpecError, listed, within};
use serde::{Deserialize, Serialize};

use crate::atlas::{Atlas, Sheet};
use crate::colour::Colour;
use crate::detail::{Detail, DetailSpec};
use crate::light::Surface;
use crate::mesh::{MESH_NAMES, Mesh};

/// How an instance blends with the image behind it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
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

/// Shape of an instance.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub enum Shape {
    /// A round soft billboard.
    #[default]
    Disc,
    /// A textured billboard.
    Card(CardSpec),
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
        Self::Mesh { name: name.into(), coarse: None, texture: None }
    }

    /// A mesh without a coarse form, with a texture.
    pub fn textured_mesh(name: &str, texture: &str) -> Self {
        Self::Mesh { name: name.into(), coarse: None, texture: Some(texture.into()) }
    }
}

/// A textured billboard.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct CardSpec {
    /// Name of the texture.
    #[setters(into)]
    pub texture: String,
    /// Which of the texture's frames is shown. Default: by age.
    #[serde(default)]
    #[setters(skip)]
    pub play: Play,
    /// Whether frames are blended with the next one. Default: no.
    #[serde(default)]
    pub melt: bool,
    /// Which way the card is turned. Default: upright, facing the camera.
    #[serde(default)]
    pub facing: Facing,
    /// Height over width, 0.01 to 100. Default 1.
    #[serde(default = "one")]
    pub aspect: f32,
}

impl CardSpec {
    /// A square card whose texture plays its frames once over each element's life.
    pub fn new(texture: &str) -> Self {
        Self {
            texture: texture.to_owned(),
            play: Play::Age,
            melt: false,
            facing: Facing::Camera,
            aspect: 1.0,
        }
    }

    /// Chooses frames this way; `melt` blends each with the next.
    pub fn play(mut self, play: Play, melt: bool) -> Self {
        (self.play, self.melt) = (play, melt);
        self
    }
}

fn one() -> f32 {
    1.0
}

/// Which frame of a flipbook is shown.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
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

/// How a card is turned about the line of sight.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
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
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct RibbonSpec {
    /// Ratio of length to the element's size, 0.01 to 1000. Default 10.
    pub length: f32,
    /// Ratio of the tip's width to the root's, 0 to 1. Default 0: pointed.
    pub tip: f32,
    /// Number of straight segments, 1 to 12. Default 3.
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

/// Depth test and depth write.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, Setters)]
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
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct LookSpec {
    /// Shape. Default: a disc.
    pub shape: Shape,
    /// Blending. Default: alpha.
    pub blend: Blend,
    /// Layer, -1000 to 1000; layers are drawn in ascending order. Default 0.
    pub layer: i32,
    /// Depth test and depth write.
    pub depth: DepthSpec,
    /// Colour over age. Default: white.
    #[setters(into)]
    pub colour_over_age: Ramp<Colour>,
    /// Opacity over age, 0 to 1. Default 1.
    #[setters(into)]
    pub opacity_over_age: Ramp<f32>,
    /// Factor on the radius over age. Default 1.
    #[setters(into)]
    pub size_over_age: Ramp<f32>,
    /// Factor on the colour over height, from the lower to the upper end of `height_range`. Default: white.
    #[setters(into)]
    pub colour_over_height: Ramp<Colour>,
    /// Range of heights for `colour_over_height`, in metres. Default 0 to 1.
    pub height_range: [f32; 2],
    /// Factor on the colour from the root (0) to the tip (1) of a ribbon, or from the foot to the top of a mesh. Default: white.
    #[setters(into)]
    pub colour_along: Ramp<Colour>,
    /// Factors on the colour; each element takes a random one. Default: none.
    #[setters(into)]
    pub tints: Vec<Colour>,
    /// Factor on the colour, 0 to 1e6. Above 1 the element glows. Default 1.
    pub glow: f32,
    /// Share of the colour that is lit by lights and sky, 0 (unlit) to 1. Default 0.
    pub lit: f32,
    /// Strength of rim light, on edges that turn away from the camera, 0 to 10. Default 0.
    pub rim: f32,
    /// Whether both sides of a surface are lit. Default: yes.
    pub two_sided: bool,
    /// Translucency: share of light that passes through from behind, 0 to 1. Default 0.
    pub through: f32,
    /// Roundness of a ribbon's shading, 0 (flat, by its orientation) to 1 (normals face the camera). Default 0.4. Unused by other
    /// shapes.
    pub round: f32,
    /// Share of the sky's haze, 0 to 1: distant elements of a lit, solid look fade to the colour of the horizon. Default 0.
    pub hazed: f32,
    /// Depth in metres over which a transparent instance fades out in front of a solid surface, 0.001 to 1000. Default 0.05.
    pub soft: f32,
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
            through: 0.0,
            round: 0.4,
            hazed: 0.0,
            soft: 0.05,
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
        let at = |n: usize| n as f32 / LAST_ROW;
        let table = std::array::from_fn(|n| {
            let Colour { r, g, b } = self.colour_over_age.at(at(n));
            LookAtAge {
                colour: [r * self.glow, g * self.glow, b * self.glow],
                opacity: self.opacity_over_age.at(at(n)),
                size: self.size_over_age.at(at(n)),
            }
        });
        let [low, high] = self.height_range;
        let gradient = |ramp: &Ramp<Colour>| {
            let plain = ramp.stops().iter().all(|&(_, colour)| colour == Colour::WHITE);
            (!plain)
                .then(|| std::array::from_fn(|n| ramp.at(n as f32 / (GRADIENT - 1) as f32).vec().to_array()))
        };
        Ok(Look {
            table: Box::new(table),
            over_height: gradient(&self.colour_over_height).map(Box::new),
            along: gradient(&self.colour_along).map(Box::new),
            height: [low, 1.0 / (high - low)],
            tints: self.tints.iter().map(|tint| tint.vec().to_array()).collect(),
            key: self.key(library),
            form,
            blend: self.blend,
            solid,
            layer: self.layer as i16,
            depth: self.depth,
            lit: self.lit,
            round: self.round,
            hazed: self.hazed,
            surface: Surface {
                lit: self.lit,
                rim: self.rim,
                through: self.through,
                two_sided: self.two_sided,
            },
            per_soft: 1.0 / self.soft,
            detail: Detail::new(&self.detail),
            detail_spec: self.detail,
            atlas: Arc::clone(&library.atlas),
        })
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
        within("through", self.through, 0.0, 1.0, "")?;
        within("round", self.round, 0.0, 1.0, "")?;
        within("hazed", self.hazed, 0.0, 1.0, "")?;
        within("soft", self.soft, 0.001, 1000.0, "m")?;
        self.detail.check().map_err(|error| error.under("detail"))
    }

    fn form(&self, library: &Library) -> Result<Form, SpecError> {
        Ok(match &self.shape {
            Shape::Disc => Form::Disc,
            Shape::Sprite { on_screen } => Form::Sprite { on_screen: *on_screen },
            Shape::Card(card) => {
                let sheet = texture("shape.card.texture", &card.texture, library)?;
                if let Play::Clock { rate } = card.play {
                    within("shape.card.play.clock.rate", rate, 0.0, 1000.0, "frames a second")?;
                }
                match card.facing {
                    Facing::Spin { rate } => {
                        rate.check("shape.card.facing.spin.rate", -1e5, 1e5, "degrees a second")?;
                    }
                    Facing::Stretch { seconds } => {
                        within("shape.card.facing.stretch.seconds", seconds, 0.0, 100.0, "s")?;
                    }
                    Facing::Camera | Facing::Heading => {}
                }
                within("shape.card.aspect", card.aspect, 0.01, 100.0, "")?;
                Form::Card { sheet, card: card.clone() }
            }
            Shape::Ribbon(ribbon) => {
                within("shape.ribbon.length", ribbon.length, 0.01, 1000.0, "times the size")?;
                within("shape.ribbon.tip", ribbon.tip, 0.0, 1.0, "")?;
                let most = RibbonSpec::MOST_SEGMENTS as f32;
                within("shape.ribbon.segments", ribbon.segments as f32, 1.0, most, "")?;
                Form::Ribbon(*ribbon)
            }
            Shape::Mesh { name, coarse, texture: worn } => {
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
                Form::Mesh { fine, coarse, texture: worn }
            }
        })
    }

    /// Equal for looks that one draw call can draw.
    fn key(&self, library: &Library) -> u64 {
        let mut hasher = DefaultHasher::new();
        // The debug form holds every value of a spec.
        format!("{self:?}").hash(&mut hasher);
        // The assets that the names refer to.
        if !matches!(self.shape, Shape::Disc | Shape::Ribbon(_) | Shape::Mesh { texture: None, .. }) {
            Arc::as_ptr(&library.atlas).hash(&mut hasher);
        }
        if let Shape::Mesh { name, .. } = &self.shape {
            library.meshes.get(name).map(Arc::as_ptr).hash(&mut hasher);
        }
        hasher.finish()
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
            SpecError::new("colour_over_age", format!("'{text}' is no colour"), "write \"#rrggbb\"")
        })?;
        Ok((at, colour))
    };
    Ok(Ramp::new(stops.into_iter().map(stop).collect::<Result<Vec<_>, SpecError>>()?))
}

/// Number of tabulated ages: steps are too small to see, and the table fits the first-level cache.
const TABLE: usize = 512;
pub(crate) const LAST_ROW: f32 = (TABLE - 1) as f32;

/// Number of steps of a gradient.
const GRADIENT: usize = 64;

/// Values of a look at one age.
#[derive(Debug, Clone, Copy, PartialEq)]
#[non_exhaustive]
pub struct LookAtAge {
    /// Colour with glow, before multiplication by opacity.
    pub colour: [f32; 3],
    /// Opacity, 0 to 1.
    pub opacity: f32,
    /// Factor on the radius.
    pub size: f32,
}

/// A shape with its meshes and textures resolved.
#[derive(Debug, Clone)]
#[non_exhaustive]
pub enum Form {
    /// A round soft billboard.
    Disc,
    /// A textured billboard.
    Card {
        /// Frames.
        sheet: Sheet,
        /// Orientation and choice of the frame.
        card: CardSpec,
    },
    /// A ribbon.
    Ribbon(RibbonSpec),
    /// A mesh.
    Mesh {
        /// Full mesh.
        fine: Arc<Mesh>,
        /// Coarse mesh.
        coarse: Option<Arc<Mesh>>,
        /// Texture.
        texture: Option<Sheet>,
    },
    /// Sprites.
    Sprite {
        /// Whether positions are pixels of the image.
        on_screen: bool,
    },
}

/// Fields of a [`Look`], for a backend.
#[derive(Debug, Clone, Copy)]
#[non_exhaustive]
pub struct LookParts<'a> {
    /// Equal for looks that one draw call can draw.
    pub key: u64,
    /// Shape.
    pub form: &'a Form,
    /// Blending.
    pub blend: Blend,
    /// Depth test and depth write.
    pub depth: DepthSpec,
    /// Response to light.
    pub surface: Surface,
    /// Roundness of a ribbon's shading.
    pub round: f32,
    /// Share of the sky's haze.
    pub hazed: f32,
    /// One over the depth of the soft edge in metres.
    pub per_soft: f32,
    /// Colour, opacity and size at evenly spaced ages from 0 to 1.
    pub over_age: &'a [LookAtAge],
    /// Factors on the colour at evenly spaced heights.
    pub over_height: Option<&'a [[f32; 3]]>,
    /// Factors on the colour at evenly spaced points from root to tip.
    pub along: Option<&'a [[f32; 3]]>,
    /// Lower end of the height gradient in metres, and one over its length.
    pub height: [f32; 2],
    /// Tints: factors on the colour, one of which each element takes.
    pub tints: &'a [[f32; 3]],
    /// Level of detail.
    pub detail: Detail,
    /// Atlas with its textures.
    pub atlas: &'a Arc<Atlas>,
}

/// A checked [`LookSpec`], prepared for drawing.
#[derive(Debug, Clone)]
pub struct Look {
    table: Box<[LookAtAge; TABLE]>,
    over_height: Option<Box<[[f32; 3]; GRADIENT]>>,
    along: Option<Box<[[f32; 3]; GRADIENT]>>,
    /// Lower end of the height gradient, and one over its length.
    height: [f32; 2],
    tints: Vec<[f32; 3]>,
    pub(crate) key: u64,
    pub(crate) form: Form,
    pub(crate) blend: Blend,
    pub(crate) solid: bool,
    pub(crate) layer: i16,
    pub(crate) depth: DepthSpec,
    pub(crate) lit: f32,
    pub(crate) round: f32,
    pub(crate) hazed: f32,
    pub(crate) surface: Surface,
    /// One over the depth of the soft edge in metres.
    pub(crate) per_soft: f32,
    pub(crate) detail: Detail,
    detail_spec: DetailSpec,
    pub(crate) atlas: Arc<Atlas>,
}

impl Look {
    /// The textures, for painting over. Shared textures are copied first.
    pub fn textures_mut(&mut self) -> &mut Atlas {
        Arc::make_mut(&mut self.atlas)
    }

    /// Reduces detail for a frame budget ([`Keeper`](frolic_core::Keeper)): `detail`, 0.05 to 1, shortens the reach and raises the pixel
    /// limits; `density`, 0.02 to 1, is the share of elements that are drawn. Full detail is 1 and 1.
    pub fn ease(&mut self, detail: f32, density: f32) {
        self.detail = Detail::eased(&self.detail_spec, detail, density);
    }

    /// The look's fields.
    pub fn parts(&self) -> LookParts<'_> {
        LookParts {
            key: self.key,
            form: &self.form,
            blend: self.blend,
            depth: self.depth,
            surface: self.surface,
            round: self.round,
            hazed: self.hazed,
            per_soft: self.per_soft,
            over_age: &self.table[..],
            over_height: self.over_height.as_ref().map(|gradient| &gradient[..]),
            along: self.gradient_along(),
            height: self.height,
            tints: &self.tints,
            detail: self.detail,
            atlas: &self.atlas,
        }
    }

    /// The look at a share of the life. Callers keep it within 0..=1.
    pub(crate) fn at(&self, age: f32) -> &LookAtAge {
        self.at_row((age * LAST_ROW + 0.5) as usize)
    }

    #[inline(always)]
    pub(crate) fn at_row(&self, row: usize) -> &LookAtAge {
        &self.table[row.min(TABLE - 1)]
    }

    /// Share of the background that a surface with an opacity covers; 0 if it is additive.
    #[inline(always)]
    pub(crate) fn cover(&self, opacity: f32) -> f32 {
        if self.blend == Blend::Additive { 0.0 } else { opacity }
    }

    /// Whether elements of one age can differ in colour.
    #[inline(always)]
    pub(crate) fn is_tinted(&self) -> bool {
        self.over_height.is_some() || !self.tints.is_empty()
    }

    /// Factor on the colour of an element with a tint, 0..1 along the list of tints, at a height in metres.
    #[inline(always)]
    pub fn tint_along(&self, share: f32, height: f32) -> [f32; 3] {
        let own = self.by_height(height);
        let Some(last) = self.tints.len().checked_sub(1) else { return own };
        let at = share.clamp(0.0, 1.0) * last as f32;
        let (a, b) = (self.tints[at as usize], self.tints[(at as usize + 1).min(last)]);
        let part = at - at.floor();
        [0, 1, 2].map(|channel| own[channel] * (a[channel] + (b[channel] - a[channel]) * part))
    }

    #[inline(always)]
    fn by_height(&self, height: f32) -> [f32; 3] {
        self.over_height.as_ref().map_or([1.0; 3], |gradient| {
            let share = ((height - self.height[0]) * self.height[1]).clamp(0.0, 1.0);
            gradient[((share * (GRADIENT - 1) as f32 + 0.5) as usize).min(GRADIENT - 1)]
        })
    }

    /// Factor on the colour of the element with random number `dice` (0..1) at a height in metres.
    #[inline(always)]
    pub fn tint(&self, dice: f32, height: f32) -> [f32; 3] {
        let mut tint = self.by_height(height);
        if !self.tints.is_empty() {
            let picked = self.tints[((dice * self.tints.len() as f32) as usize).min(self.tints.len() - 1)];
            tint = [tint[0] * picked[0], tint[1] * picked[1], tint[2] * picked[2]];
        }
        tint
    }

    /// Factors on the colour at evenly spaced points from root to tip; `None` if the colour is constant.
    pub(crate) fn gradient_along(&self) -> Option<&[[f32; 3]]> {
        self.along.as_ref().map(|gradient| &gradient[..])
    }

    /// Factor on the colour at a share of the length from root to tip.
    #[inline(always)]
    pub(crate) fn along(&self, share: f32) -> [f32; 3] {
        let row = (share.clamp(0.0, 1.0) * (GRADIENT - 1) as f32 + 0.5) as usize;
        self.along.as_ref().map_or([1.0; 3], |gradient| gradient[row.min(GRADIENT - 1)])
    }

    /// Distance in metres from an element's position that its drawing can reach. `curves` are those of strung ribbons.
    pub fn reach_of(&self, size: f32, curves: Option<[[&[f32]; 3]; 2]>) -> f32 {
        let largest = self.table.iter().map(|row| row.size).fold(0.0, f32::max) * size;
        // Elements that stand for others are up to seven times as large.
        let largest = if self.detail.is_active() { largest * 8.0 } else { largest };
        let curve = curves.map_or(0.0, |curves| {
            let longest = |column: &&[f32]| column.iter().fold(0.0f32, |most, v| most.max(v.abs()));
            curves.iter().flatten().map(longest).fold(0.0, f32::max) * 1.75
        });
        curve
            + largest
                * match &self.form {
                    Form::Disc | Form::Sprite { .. } => 1.0,
                    Form::Card { card, .. } => 1.5 * card.aspect.max(1.0),
                    Form::Ribbon(ribbon) => ribbon.length * 1.5 + 1.0,
                    Form::Mesh { fine, .. } => fine.radius(),
                }
    }

    /// A mesh of size 1 for exported elements: the look's own mesh, a blade 1 high with the ribbon's proportions, or a small box for flat
    /// shapes.
    pub fn model(&self) -> Mesh {
        match &self.form {
            Form::Mesh { fine, .. } => Mesh::clone(fine),
            Form::Ribbon(ribbon) => Mesh::blade(ribbon),
            _ => Mesh::named("box")
                .map_or_else(|| Mesh::blade(&RibbonSpec::default()), |mesh| Mesh::clone(&mesh)),
        }
    }

    /// Ratio of a ribbon's tip width to its root width; `None` for other shapes.
    pub fn taper(&self) -> Option<f32> {
        match &self.form {
            Form::Ribbon(ribbon) => Some(ribbon.tip),
            _ => None,
        }
    }

    /// Whether instances must be drawn back to front.
    pub fn needs_depth_order(&self) -> bool {
        self.blend == Blend::Alpha && !self.is_on_screen()
    }

    /// Whether the look draws sprites.
    pub fn is_sprites(&self) -> bool {
        matches!(self.form, Form::Sprite { .. })
    }

    /// Whether the look draws sprites with positions in pixels of the image.
    pub fn is_on_screen(&self) -> bool {
        matches!(self.form, Form::Sprite { on_screen: true })
    }

    /// Whether it hides what is behind it.
    #[inline]
    pub fn is_solid(&self) -> bool {
        self.solid
    }

    /// Layer.
    #[inline]
    pub fn layer(&self) -> i32 {
        i32::from(self.layer)
    }
}
