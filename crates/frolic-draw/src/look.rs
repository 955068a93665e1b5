//! How instances look: shape, blend, colour, light, detail.

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

/// How an instance meets what is behind it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Blend {
    /// Covers what is behind by its opacity; drawn back to front.
    #[default]
    Alpha,
    /// Adds its light; order does not matter.
    Additive,
    /// Hides what is behind; the nearest is seen, in any order.
    Opaque,
    /// As opaque, with holes where its texture's opacity is under a half.
    CutOut,
}

/// What an instance is.
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
        /// A mesh of the scene, or one that ships.
        name: String,
        /// The same with fewer triangles, seen from afar; see `detail.coarse_below`. Default none.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        coarse: Option<String>,
        /// Name of the texture it wears. Default none.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        texture: Option<String>,
    },
    /// Sprites, each with a place, size and fill of its own.
    Sprite {
        /// Whether places are pixels of the picture and not metres. Default in the world.
        #[serde(default)]
        on_screen: bool,
    },
}

impl Shape {
    /// A mesh of one form.
    pub fn mesh(name: &str) -> Self {
        Self::Mesh { name: name.into(), coarse: None, texture: None }
    }

    /// A mesh of one form that wears a texture.
    pub fn textured_mesh(name: &str, texture: &str) -> Self {
        Self::Mesh { name: name.into(), coarse: None, texture: Some(texture.into()) }
    }
}

/// A textured billboard.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct CardSpec {
    /// Name of the texture.
    pub texture: String,
    /// Which of the texture's frames is shown. Default by age.
    #[serde(default)]
    pub play: Play,
    /// Whether a frame melts into the next. Default no.
    #[serde(default)]
    pub melt: bool,
    /// Which way it is turned. Default as the camera.
    #[serde(default)]
    pub facing: Facing,
    /// Height over width, 0.01 to 100. Default 1.
    #[serde(default = "one")]
    pub aspect: f32,
}

impl CardSpec {
    /// Square, showing a texture, one frame after the other over each element's life.
    pub fn new(texture: &str) -> Self {
        Self {
            texture: texture.to_owned(),
            play: Play::Age,
            melt: false,
            facing: Facing::Camera,
            aspect: 1.0,
        }
    }

    /// The same with frames chosen this way; `melt` mixes each with the next.
    pub fn play(mut self, play: Play, melt: bool) -> Self {
        (self.play, self.melt) = (play, melt);
        self
    }

    /// The same turned this way.
    pub fn facing(mut self, facing: Facing) -> Self {
        self.facing = facing;
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
    /// So many frames a second, over and over; each element starts at another.
    Clock {
        /// Frames a second, 0 to 1000.
        rate: f32,
    },
    /// Each element keeps one, picked at random.
    Pick,
}

/// Which way a card is turned about the line of sight.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub enum Facing {
    /// Upright, as the camera.
    #[default]
    Camera,
    /// Turned at random, and turning.
    Spin {
        /// Range of the rate, degrees a second, -1e5 to 1e5.
        rate: Span,
    },
    /// Upper edge the way it moves.
    Heading,
    /// Upper edge the way it moves, and longer by the way it goes in so many seconds.
    Stretch {
        /// Length of the streak, s of motion, 0 to 100.
        seconds: f32,
    },
}

/// A ribbon.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct RibbonSpec {
    /// Length over the element's size, 0.01 to 1000. Default 10.
    pub length: f32,
    /// Width of the tip over that of the root, 0 to 1. Default 0: pointed.
    pub tip: f32,
    /// Straight pieces, 1 to 12. Default 3.
    pub segments: u32,
}

impl Default for RibbonSpec {
    fn default() -> Self {
        Self { length: 10.0, tip: 0.0, segments: 3 }
    }
}

impl RibbonSpec {
    /// So many times as long as its element's size, with a tip of this share of the root's width, in so many straight pieces.
    pub fn new(length: f32, tip: f32, segments: u32) -> Self {
        Self { length, tip, segments }
    }

    /// Most straight pieces.
    pub const MOST_SEGMENTS: u32 = frolic_raster::sections::MOST_SEGMENTS as u32;
}

/// Whether depths are compared, and kept, where something is drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct DepthSpec {
    /// Whether nearer solid things hide it. Default yes.
    pub test: bool,
    /// Whether what is solid hides things behind it that come later. Default yes.
    pub write: bool,
}

impl Default for DepthSpec {
    fn default() -> Self {
        Self { test: true, write: true }
    }
}

/// The look of a population.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct LookSpec {
    /// What an instance is. Default a disc.
    pub shape: Shape,
    /// How it meets what is behind. Default alpha.
    pub blend: Blend,
    /// Layers are drawn in rising order, -1000 to 1000. Default 0.
    pub layer: i32,
    /// Comparing and keeping depths.
    pub depth: DepthSpec,
    /// Colour over age. Default white.
    pub colour_over_age: Ramp<Colour>,
    /// Opacity over age, 0 to 1. Default 1.
    pub opacity_over_age: Ramp<f32>,
    /// Factor on the radius over age. Default 1.
    pub size_over_age: Ramp<f32>,
    /// Factor on the colour over height: from the lower to the upper end of `height_range`. Default white.
    pub colour_over_height: Ramp<Colour>,
    /// Heights between which `colour_over_height` runs, m. Default 0 to 1.
    pub height_range: [f32; 2],
    /// Factor on the colour from root (0) to tip (1) of a ribbon or from foot to top of a mesh. Default white.
    pub colour_along: Ramp<Colour>,
    /// Factors on the colour, of which each element takes one at random. Default none.
    pub tints: Vec<Colour>,
    /// Factor on the colour, 0 to 1e6; above 1 it glows. Default 1.
    pub glow: f32,
    /// How much of its colour comes from lights and sky and not from itself, 0 to 1. Default 0.
    pub lit: f32,
    /// Strength of the light on edges that turn away, 0 to 10. Default 0.
    pub rim: f32,
    /// Whether both sides of a surface are lit. Default yes.
    pub two_sided: bool,
    /// Share of the light that comes through from behind, 0 to 1. Default 0.
    pub through: f32,
    /// How round a blade is in the light, 0 (flat, by the way it is turned) to 1 (as if it faced the eye everywhere). Default 0.4. No matter for
    /// other shapes.
    pub round: f32,
    /// Share of the sky's haze that lies before it, 0 to 1: far elements of a lit, solid look fade to the colour of the horizon. Default 0.
    pub hazed: f32,
    /// Depth over which a transparent instance fades into what is solid behind it, m, 0.001 to 1000. Default 0.05.
    pub soft: f32,
    /// What becomes of elements far away.
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

/// Named meshes and textures that looks refer to.
#[derive(Debug, Clone, Default)]
pub struct Library {
    /// Meshes by name, before those that ship.
    pub meshes: HashMap<String, Arc<Mesh>>,
    /// Textures by name.
    pub atlas: Arc<Atlas>,
}

/// Most tints of a look.
const MOST_TINTS: usize = 64;

impl LookSpec {
    /// Additive light of this colour over age, given as sRGB `#rrggbb` stops, times `glow`.
    ///
    /// # Errors
    /// When a colour is not `#rrggbb`.
    pub fn glowing<'a>(
        glow: f32,
        stops: impl IntoIterator<Item = (f32, &'a str)>,
    ) -> Result<Self, SpecError> {
        Ok(Self { blend: Blend::Additive, glow, colour_over_age: hex_stops(stops)?, ..Self::default() })
    }

    /// Smoke-like cover of this colour over age, given as sRGB `#rrggbb` stops, lit by lights and sky.
    ///
    /// # Errors
    /// When a colour is not `#rrggbb`.
    pub fn covering<'a>(stops: impl IntoIterator<Item = (f32, &'a str)>) -> Result<Self, SpecError> {
        Ok(Self { lit: 1.0, colour_over_age: hex_stops(stops)?, ..Self::default() })
    }

    /// A solid shape of one colour, given as sRGB `#rrggbb`, lit by lights and sky.
    ///
    /// # Errors
    /// When the colour is not `#rrggbb`.
    pub fn solid(shape: Shape, colour: &str) -> Result<Self, SpecError> {
        let colour_over_age = hex_stops([(0.0, colour)])?;
        Ok(Self { shape, blend: Blend::Opaque, lit: 1.0, colour_over_age, ..Self::default() })
    }

    /// Sprites in the world, or on the screen, in a layer.
    pub fn sprites(on_screen: bool, layer: i32) -> Self {
        Self { shape: Shape::Sprite { on_screen }, layer, ..Self::default() }
    }

    /// The same as another shape.
    pub fn shape(mut self, shape: Shape) -> Self {
        self.shape = shape;
        self
    }

    /// The same in another layer.
    pub fn layer(mut self, layer: i32) -> Self {
        self.layer = layer;
        self
    }

    /// The same with this opacity over age.
    pub fn opacity(mut self, stops: impl IntoIterator<Item = (f32, f32)>) -> Self {
        self.opacity_over_age = Ramp::new(stops);
        self
    }

    /// The same with this factor on the radius over age.
    pub fn size(mut self, stops: impl IntoIterator<Item = (f32, f32)>) -> Self {
        self.size_over_age = Ramp::new(stops);
        self
    }

    /// Checks the look and tabulates its ramps; meshes are those that ship, and there are no textures.
    ///
    /// # Errors
    /// As [`LookSpec::build_with`].
    pub fn build(&self) -> Result<Look, SpecError> {
        self.build_with(&Library::default())
    }

    /// Checks the look, tabulates its ramps and finds its mesh or texture.
    ///
    /// # Errors
    /// Names the key that is out of range or names nothing.
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

    /// Whether every value is in range; names of meshes and textures are looked up by [`LookSpec::build_with`].
    ///
    /// # Errors
    /// Names the key that is not.
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
        // What the names stand for, where they stand for something.
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

/// Ages that a look is tabulated at: steps too small to see, in a table that stays in the first-level cache.
const TABLE: usize = 512;
pub(crate) const LAST_ROW: f32 = (TABLE - 1) as f32;

/// Steps of a gradient.
const GRADIENT: usize = 64;

/// What a look is at one age.
#[derive(Debug, Clone, Copy, PartialEq)]
#[non_exhaustive]
pub struct LookAtAge {
    /// Colour with its glow, not yet times opacity.
    pub colour: [f32; 3],
    /// Opacity, 0 to 1.
    pub opacity: f32,
    /// Factor on the radius.
    pub size: f32,
}

/// A shape with what it refers to.
#[derive(Debug, Clone)]
#[non_exhaustive]
pub enum Form {
    /// A round soft billboard.
    Disc,
    /// A textured billboard.
    Card {
        /// Its frames.
        sheet: Sheet,
        /// How it is turned, and which frame is shown.
        card: CardSpec,
    },
    /// A ribbon.
    Ribbon(RibbonSpec),
    /// A mesh.
    Mesh {
        /// From near.
        fine: Arc<Mesh>,
        /// From afar.
        coarse: Option<Arc<Mesh>>,
        /// What it wears.
        texture: Option<Sheet>,
    },
    /// Sprites.
    Sprite {
        /// Whether places are pixels of the picture.
        on_screen: bool,
    },
}

/// What a [`Look`] is made of, for a backend.
#[derive(Debug, Clone, Copy)]
#[non_exhaustive]
pub struct LookParts<'a> {
    /// Equal for looks that one draw call can draw.
    pub key: u64,
    /// The shape.
    pub form: &'a Form,
    /// How it meets what is behind it.
    pub blend: Blend,
    /// Comparing and keeping depths.
    pub depth: DepthSpec,
    /// How it takes light.
    pub surface: Surface,
    /// Share of a blade's normals that are bent towards the eye.
    pub round: f32,
    /// Share of distance's haze that lies over it.
    pub hazed: f32,
    /// One over the depth of the soft edge, 1/m.
    pub per_soft: f32,
    /// Colour, opacity and size at ages from 0 to 1, evenly.
    pub over_age: &'a [LookAtAge],
    /// Factors on the colour over height, and along a ribbon or mesh, evenly.
    pub over_height: Option<&'a [[f32; 3]]>,
    /// Factors on the colour from root to tip, evenly.
    pub along: Option<&'a [[f32; 3]]>,
    /// Lower end of the height gradient, m, and one over its length.
    pub height: [f32; 2],
    /// Factors on the colour, of which each element takes one.
    pub tints: &'a [[f32; 3]],
    /// What becomes of elements far away.
    pub detail: Detail,
    /// Where its textures are.
    pub atlas: &'a Arc<Atlas>,
}

/// A checked [`LookSpec`], ready for drawing.
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
    /// One over the depth of the soft edge, 1/m.
    pub(crate) per_soft: f32,
    pub(crate) detail: Detail,
    detail_spec: DetailSpec,
    pub(crate) atlas: Arc<Atlas>,
}

impl Look {
    /// Its textures, to paint over. In place if nobody else holds them, else in a copy that is its own from then on.
    pub fn textures_mut(&mut self) -> &mut Atlas {
        Arc::make_mut(&mut self.atlas)
    }

    /// Has it drawn with this share of its detail (nearer, and larger elements alone, 0.05 to 1) and this share of its elements (0.02 to 1): what
    /// a [`Keeper`](frolic_core::Keeper) leaves. 1 and 1 is as it was made.
    pub fn ease(&mut self, detail: f32, density: f32) {
        self.detail = Detail::eased(&self.detail_spec, detail, density);
    }

    /// What it is made of.
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

    /// The look at an age fraction; callers keep it within 0..=1.
    pub(crate) fn at(&self, age: f32) -> &LookAtAge {
        self.at_row((age * LAST_ROW + 0.5) as usize)
    }

    #[inline(always)]
    pub(crate) fn at_row(&self, row: usize) -> &LookAtAge {
        &self.table[row.min(TABLE - 1)]
    }

    /// How much of what is behind a surface of an opacity covers: what adds, nothing.
    #[inline(always)]
    pub(crate) fn cover(&self, opacity: f32) -> f32 {
        if self.blend == Blend::Additive { 0.0 } else { opacity }
    }

    /// Whether colours differ from element to element by more than age.
    #[inline(always)]
    pub(crate) fn is_tinted(&self) -> bool {
        self.over_height.is_some() || !self.tints.is_empty()
    }

    /// Factor on the colour of an element at a share 0..1 of the way along the list of tints, at a height, m.
    #[inline(always)]
    pub(crate) fn tint_along(&self, share: f32, height: f32) -> [f32; 3] {
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

    /// Factor on the colour of the element with random number `dice` (0..1) at a height, m.
    #[inline(always)]
    pub(crate) fn tint(&self, dice: f32, height: f32) -> [f32; 3] {
        let mut tint = self.by_height(height);
        if !self.tints.is_empty() {
            let picked = self.tints[((dice * self.tints.len() as f32) as usize).min(self.tints.len() - 1)];
            tint = [tint[0] * picked[0], tint[1] * picked[1], tint[2] * picked[2]];
        }
        tint
    }

    /// Factors on the colour from root to tip, evenly; none where it does not vary.
    pub(crate) fn gradient_along(&self) -> Option<&[[f32; 3]]> {
        self.along.as_ref().map(|gradient| &gradient[..])
    }

    /// Factor on the colour at a share of the way from root to tip.
    #[inline(always)]
    pub(crate) fn along(&self, share: f32) -> [f32; 3] {
        let row = (share.clamp(0.0, 1.0) * (GRADIENT - 1) as f32 + 0.5) as usize;
        self.along.as_ref().map_or([1.0; 3], |gradient| gradient[row.min(GRADIENT - 1)])
    }

    /// How far from its place an element of a size, m, can be drawn; `curves` are those of strung ribbons.
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

    /// A mesh of size 1 that stands for an element elsewhere: its own; of a ribbon a blade 1 high, as wide for its height as this one; of flat shapes a
    /// small box.
    pub fn model(&self) -> Mesh {
        match &self.form {
            Form::Mesh { fine, .. } => Mesh::clone(fine),
            Form::Ribbon(ribbon) => Mesh::blade(ribbon),
            _ => Mesh::named("box")
                .map_or_else(|| Mesh::blade(&RibbonSpec::default()), |mesh| Mesh::clone(&mesh)),
        }
    }

    /// Width of a ribbon's tip over that of its root; none where it draws no ribbons.
    pub fn taper(&self) -> Option<f32> {
        match &self.form {
            Form::Ribbon(ribbon) => Some(ribbon.tip),
            _ => None,
        }
    }

    /// Whether instances have to come back to front.
    pub fn needs_depth_order(&self) -> bool {
        self.blend == Blend::Alpha && !self.is_on_screen()
    }

    /// Whether it draws sprites.
    pub fn is_sprites(&self) -> bool {
        matches!(self.form, Form::Sprite { .. })
    }

    /// Whether it draws sprites whose places are pixels of the picture.
    pub fn is_on_screen(&self) -> bool {
        matches!(self.form, Form::Sprite { on_screen: true })
    }

    /// Whether it hides what is behind it.
    #[inline]
    pub fn is_solid(&self) -> bool {
        self.solid
    }

    /// The layer it is drawn in.
    #[inline]
    pub fn layer(&self) -> i32 {
        i32::from(self.layer)
    }
}
