//! Looks that are ready to draw: tables over age, gradients, and shapes with their meshes and textures.

use std::hash::{DefaultHasher, Hash, Hasher};
use std::sync::Arc;

use frolic_core::Ramp;

use crate::atlas::{Atlas, Sheet};
use crate::colour::Colour;
use crate::detail::{Detail, DetailSpec};
use crate::light::Surface;
use crate::look::shape::{BillboardSpec, Facing, Play, RibbonSpec, WaveSpec};
use crate::look::spec::{Blend, DepthSpec, Library, LookSpec, Resolution};
use crate::mesh::Mesh;

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
    Billboard {
        /// Frames.
        sheet: Sheet,
        /// Orientation and choice of the frame.
        billboard: BillboardSpec,
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
        /// Waves that run along its body.
        wave: Option<WaveSpec>,
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
    /// Largest size over the life.
    pub(crate) largest: f32,
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
    pub(crate) resolution: Resolution,
    pub(crate) detail: Detail,
    /// Of elements that do not bend, whose extent is known.
    pub(crate) rigid_detail: Detail,
    detail_spec: DetailSpec,
    pub(crate) atlas: Arc<Atlas>,
}

impl Form {
    /// Whether it shows textures of the atlas.
    fn is_textured(&self) -> bool {
        !matches!(self, Self::Disc | Self::Ribbon(_) | Self::Mesh { texture: None, .. })
    }

    fn identify(&self, hasher: &mut DefaultHasher) {
        std::mem::discriminant(self).hash(hasher);
        match self {
            Self::Disc => {}
            Self::Billboard { sheet, billboard } => {
                let BillboardSpec { texture: _, play, blend_frames, facing, aspect } = billboard;
                (sheet, blend_frames, aspect.to_bits()).hash(hasher);
                let (kind, [a, b]) = match *facing {
                    Facing::Camera => (0, [0.0; 2]),
                    Facing::Spin { rate } => (1, [rate.min, rate.max]),
                    Facing::Heading => (2, [0.0; 2]),
                    Facing::Stretch { seconds } => (3, [seconds, 0.0]),
                };
                (kind, a.to_bits(), b.to_bits()).hash(hasher);
                let (kind, rate) = match *play {
                    Play::Age => (0, 0.0f32),
                    Play::Clock { rate } => (1, rate),
                    Play::Pick => (2, 0.0),
                };
                (kind, rate.to_bits()).hash(hasher);
            }
            Self::Ribbon(RibbonSpec { length, tip, segments }) => {
                (length.to_bits(), tip.to_bits(), segments).hash(hasher);
            }
            Self::Mesh { fine, coarse, texture, wave } => {
                (Arc::as_ptr(fine), coarse.as_ref().map(Arc::as_ptr), texture).hash(hasher);
                let wave = wave.map(|it| [it.swing, it.count, it.beat, it.speed].map(f32::to_bits));
                wave.hash(hasher);
            }
            Self::Sprite { on_screen } => on_screen.hash(hasher),
        }
    }
}

impl Look {
    /// A checked spec with its shape resolved.
    pub(crate) fn new(spec: &LookSpec, form: Form, library: &Library) -> Self {
        let at = |n: usize| n as f32 / LAST_ROW;
        let table = std::array::from_fn(|n| {
            let Colour { r, g, b } = spec.colour_over_age.at(at(n));
            LookAtAge {
                colour: [r * spec.glow, g * spec.glow, b * spec.glow],
                opacity: spec.opacity_over_age.at(at(n)),
                size: spec.size_over_age.at(at(n)),
            }
        });
        let [low, high] = spec.height_range;
        let gradient = |ramp: &Ramp<Colour>| {
            let plain = ramp.stops().iter().all(|&(_, colour)| colour == Colour::WHITE);
            (!plain)
                .then(|| std::array::from_fn(|n| ramp.at(n as f32 / (GRADIENT - 1) as f32).vec().to_array()))
        };
        let mut look = Self {
            largest: table.iter().fold(0.0, |largest, now| now.size.max(largest)),
            table: Box::new(table),
            over_height: gradient(&spec.colour_over_height).map(Box::new),
            along: gradient(&spec.colour_along).map(Box::new),
            height: [low, 1.0 / (high - low)],
            tints: spec.tints.iter().map(|tint| tint.vec().to_array()).collect(),
            key: 0,
            form,
            blend: spec.blend,
            solid: matches!(spec.blend, Blend::Opaque | Blend::CutOut),
            layer: spec.layer as i16,
            depth: spec.depth,
            lit: spec.lit,
            round: spec.round,
            hazed: spec.hazed,
            surface: Surface {
                lit: spec.lit,
                rim: spec.rim,
                translucency: spec.translucency,
                gloss: spec.gloss,
                two_sided: spec.two_sided,
            },
            per_soft: 1.0 / spec.soft,
            resolution: spec.resolution,
            detail: Detail::new(&spec.detail),
            rigid_detail: Detail::new(&spec.detail),
            detail_spec: spec.detail,
            atlas: Arc::clone(&library.atlas),
        };
        look.rigid_detail = look.of_rigid(look.detail);
        look.key = look.identity();
        look
    }

    /// Detail of elements that do not bend.
    fn of_rigid(&self, detail: Detail) -> Detail {
        if self.draws_tiny() { detail.with_tiny() } else { detail }
    }

    /// Whether elements can be drawn as spots.
    pub(crate) fn draws_tiny(&self) -> bool {
        self.solid && self.blend == Blend::Opaque && matches!(self.form, Form::Mesh { texture: None, .. })
    }

    /// Equal for looks that one draw call can draw: a hash of everything that is drawn by.
    fn identity(&self) -> u64 {
        let Self {
            table,
            largest: _,
            over_height,
            along,
            height,
            tints,
            key: _,
            form,
            blend,
            solid,
            layer,
            depth,
            ..
        } = self;
        let Self {
            lit: _,
            round,
            hazed,
            surface,
            per_soft,
            resolution,
            detail: _,
            rigid_detail: _,
            detail_spec,
            atlas,
            ..
        } = self;
        let mut hasher = DefaultHasher::new();
        let mut floats = |values: &[f32]| values.iter().for_each(|value| value.to_bits().hash(&mut hasher));
        for LookAtAge { colour, opacity, size } in &table[..] {
            floats(colour);
            floats(&[*opacity, *size]);
        }
        for gradient in [over_height, along].into_iter().flatten() {
            floats(gradient.as_flattened());
        }
        floats(height);
        floats(tints.as_flattened());
        floats(&[*round, *hazed, *per_soft, surface.lit, surface.rim, surface.translucency, surface.gloss]);
        let DetailSpec { from, reach, edge, thin_below, coarse_below, tiny_below } = *detail_spec;
        floats(&[from.min, from.max, reach, edge, thin_below, coarse_below, tiny_below]);
        (over_height.is_some(), along.is_some(), tints.len(), surface.two_sided).hash(&mut hasher);
        (blend, solid, layer, depth.test, depth.write, resolution).hash(&mut hasher);
        form.identify(&mut hasher);
        if form.is_textured() {
            Arc::as_ptr(atlas).hash(&mut hasher);
        }
        hasher.finish()
    }

    /// The textures, for painting over. Shared textures are copied first.
    pub fn textures_mut(&mut self) -> &mut Atlas {
        Arc::make_mut(&mut self.atlas)
    }

    /// Reduces detail for a frame budget ([`FrameBudget`](frolic_core::FrameBudget)): `detail`, 0.05 to 1, shortens the reach and raises the pixel
    /// limits; `density`, 0.02 to 1, is the share of elements that are drawn. Full detail is 1 and 1.
    pub fn ease(&mut self, detail: f32, density: f32) {
        self.detail = Detail::eased(&self.detail_spec, detail, density);
        self.rigid_detail = self.of_rigid(self.detail);
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

    /// Factor on the colour of the element with random number `random` (0..1) at a height in metres.
    #[inline(always)]
    pub fn tint(&self, random: f32, height: f32) -> [f32; 3] {
        let mut tint = self.by_height(height);
        if !self.tints.is_empty() {
            let picked = self.tints[((random * self.tints.len() as f32) as usize).min(self.tints.len() - 1)];
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
        let largest = if self.rigid_detail.is_active() { largest * 8.0 } else { largest };
        let curve = curves.map_or(0.0, |curves| {
            let longest = |column: &&[f32]| column.iter().fold(0.0f32, |most, v| most.max(v.abs()));
            curves.iter().flatten().map(longest).fold(0.0, f32::max) * 1.75
        });
        curve
            + largest
                * match &self.form {
                    Form::Disc | Form::Sprite { .. } => 1.0,
                    Form::Billboard { billboard, .. } => 1.5 * billboard.aspect.max(1.0),
                    Form::Ribbon(ribbon) => ribbon.length * 1.5 + 1.0,
                    Form::Mesh { fine, wave, .. } => {
                        fine.radius() + wave.map_or(0.0, |wave| wave.swing * fine.stretch()[1])
                    }
                }
    }

    /// Waves that run along the body of its mesh.
    pub(crate) fn wave(&self) -> Option<WaveSpec> {
        match &self.form {
            Form::Mesh { wave, .. } => *wave,
            _ => None,
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

    /// Whether instances can be mixed by weights instead of sorted.
    pub fn can_be_weighted(&self) -> bool {
        self.blend == Blend::Alpha && matches!(self.form, Form::Disc | Form::Billboard { .. })
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
