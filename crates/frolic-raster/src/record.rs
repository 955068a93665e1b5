//! Records that kernels fill: discs, triangles and pieces of ribbons on the screen, in pixels.

use glam::{Vec2, Vec3};

use crate::colour9::unpack;
use crate::discs::SMALLEST;

/// The part of every record that bins and tiles read.
pub trait Record: Copy + Default + Send + Sync {
    /// Whether an instance is one record and no more.
    const ALONE: bool;
    /// Index within its chunk, and its source.
    fn label(&self) -> Label;
    /// Depth that its element is sorted by, in metres.
    fn order_depth(&self) -> f32;
}

/// A record with an outline of its own.
pub trait Outlined: Record {
    /// Left, upper, right and lower end of the pixel middles it can touch, in pixels.
    fn bounds(&self) -> [f32; 4];
    /// Says where it comes from.
    fn set_label(&mut self, label: Label);
}

/// Where a record comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Label {
    /// Place of its instance among the kept ones of its chunk: the order of drawing.
    pub rank: u16,
    /// Its source; for a diagnostic, its batch or level.
    pub tag: u16,
}

/// Distance of a sample from the centre of its pixel: sampled shapes touch pixels whose centre is this far away.
pub const OFF_MIDDLE: f32 = 0.375;

macro_rules! record {
    ($Record:ty, $depth:ident, $alone:literal) => {
        impl Record for $Record {
            const ALONE: bool = $alone;

            #[inline(always)]
            fn label(&self) -> Label {
                self.label
            }
            #[inline(always)]
            fn order_depth(&self) -> f32 {
                self.$depth
            }
        }
    };
    ($Record:ty, $depth:ident, $alone:literal, $reach:expr) => {
        record!($Record, $depth, $alone);
        outlined!($Record, $reach);
    };
}

macro_rules! outlined {
    ($Record:ty, $reach:expr) => {
        impl Outlined for $Record {
            #[inline(always)]
            fn bounds(&self) -> [f32; 4] {
                let [x0, y0, x1, y1] = self.extent();
                [x0 - $reach, y0 - $reach, x1 + $reach, y1 + $reach]
            }
            #[inline(always)]
            fn set_label(&mut self, label: Label) {
                self.label = label;
            }
        }
    };
}

/// A round soft billboard on the screen.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Splat {
    /// Middle, pixels from the left.
    pub x: f32,
    /// Middle, pixels from the top.
    pub y: f32,
    /// Radius, in pixels.
    pub radius: f32,
    /// Depth along the view, in metres.
    pub depth: f32,
    /// Light at full coverage: colour times opacity.
    pub light: [f32; 3],
    /// Opacity at full coverage; 0 is additive.
    pub cover: f32,
}

impl Splat {
    /// Left, upper, right and lower end, in pixels.
    pub fn extent(&self) -> [f32; 4] {
        [self.x - self.radius, self.y - self.radius, self.x + self.radius, self.y + self.radius]
    }
}

/// A splat made ready to be filled: eight numbers of four bytes, as they come from eight lanes.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
#[repr(C, align(32))]
pub struct Dot {
    /// From its middle to the middle of the first pixel, in pixels.
    pub offset: [f32; 2],
    /// One over its radius squared.
    pub per_r2: f32,
    /// Depth along the view, in metres.
    pub depth: f32,
    /// Red above green and blue above cover: the upper halves of their floats, rounded, so within a 256th.
    pub paint: [u32; 2],
    /// Column and row of the first pixel that it may touch; may be outside the picture.
    pub first: [i16; 2],
    /// Where it comes from.
    pub label: Label,
}
record!(Dot, depth, true);

impl Dot {
    /// Makes a splat ready.
    pub fn new(splat: &Splat, label: Label) -> Self {
        Self {
            depth: splat.depth,
            paint: [halves(splat.light[0], splat.light[1]), halves(splat.light[2], splat.cover)],
            label,
            ..Self::default()
        }
        .placed([splat.x, splat.y], splat.radius)
    }

    /// The disc at another place and with another radius, in pixels.
    #[inline(always)]
    fn placed(self, at: [f32; 2], radius: f32) -> Self {
        let first = at.map(|at| (at - 0.5 - radius).ceil().clamp(-FARTHEST, FARTHEST));
        Self {
            first: first.map(|first| first as i16),
            offset: [first[0] + 0.5 - at[0], first[1] + 0.5 - at[1]],
            per_r2: 1.0 / (radius * radius),
            ..self
        }
    }

    /// The disc in a picture of a 2^`log2`th of the resolution: as large, or where it would be too small to be filled, larger and fainter.
    #[inline(always)]
    pub fn coarser(&self, log2: u32) -> Self {
        let per = 1.0 / (1u32 << log2) as f32;
        let at = [0, 1].map(|axis| (f32::from(self.first[axis]) + 0.5 - self.offset[axis]) * per);
        let wanted = (1.0 / self.per_r2).sqrt() * per;
        let radius = wanted.max(SMALLEST);
        let mut it = self.placed(at, radius);
        if radius > wanted {
            let share = wanted * wanted / (radius * radius);
            let [red_green, blue_cover] = self.paint.map(|two| {
                let [upper, lower] = [two & 0xffff_0000, two << 16].map(f32::from_bits);
                halves(upper * share, lower * share)
            });
            it.paint = [red_green, blue_cover];
        }
        it
    }
}

/// Added to a float's bits, so that cutting off the lower half rounds.
pub const HALF_STEP: u32 = 1 << 15;

/// The upper halves of two floats that are not negative.
pub fn halves(upper: f32, lower: f32) -> u32 {
    let [upper, lower] = [upper, lower].map(|v| v.to_bits() + HALF_STEP);
    upper & 0xffff_0000 | lower >> 16
}

/// Pixels from the corner of the picture that a first column or row is held to: more than the largest picture has.
pub const FARTHEST: f32 = 32_000.0;

/// A triangle on the screen that is solid and has no texture.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
#[repr(C, align(64))]
pub struct Triangle {
    /// Columns of its corners, in pixels.
    pub x: [f32; 3],
    /// Rows of its corners, in pixels.
    pub y: [f32; 3],
    /// Greater for nearer: one over the depth, or of a level view minus the depth.
    pub near: [f32; 3],
    /// Colour without the sun, as [`crate::colour9`].
    pub base: [u32; 3],
    /// The sun's part of the colours.
    pub sun: [u32; 3],
    /// Where it comes from.
    pub label: Label,
}

impl Record for Triangle {
    const ALONE: bool = false;

    #[inline(always)]
    fn label(&self) -> Label {
        self.label
    }
    /// Nothing solid is sorted by its element.
    #[inline(always)]
    fn order_depth(&self) -> f32 {
        0.0
    }
}

outlined!(Triangle, OFF_MIDDLE);

impl Triangle {
    /// Greatest nearness of its corners.
    #[inline(always)]
    pub fn nearest(&self) -> f32 {
        greatest(self.near)
    }

    /// Left, upper, right and lower end, in pixels.
    #[inline(always)]
    pub fn extent(&self) -> [f32; 4] {
        ends(self.x, self.y)
    }
}

#[inline(always)]
fn greatest([a, b, c]: [f32; 3]) -> f32 {
    a.max(b).max(c)
}

/// Left, upper, right and lower end of three places.
#[inline(always)]
fn ends([a, b, c]: [f32; 3], [d, e, f]: [f32; 3]) -> [f32; 4] {
    [a.min(b).min(c), d.min(e).min(f), a.max(b).max(c), d.max(e).max(f)]
}

impl From<Triangle> for Facet {
    fn from(Triangle { x, y, near, base, sun, label }: Triangle) -> Self {
        Self { x, y, near, base, sun, region: PLAIN, opacity: 1.0, label, ..Self::default() }
    }
}

/// A triangle on the screen with a texture or an opacity of its own.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Facet {
    /// Columns of its corners, in pixels.
    pub x: [f32; 3],
    /// Rows of its corners, in pixels.
    pub y: [f32; 3],
    /// Greater for nearer: one over the depth, or of a level view minus the depth.
    pub near: [f32; 3],
    /// Colour without the sun, and the sun's part, as [`crate::colour9`].
    pub base: [u32; 3],
    /// The sun's part of the colours.
    pub sun: [u32; 3],
    /// Place in the texture.
    pub uv: [[f32; 2]; 3],
    /// Region of the look's atlas; [`PLAIN`] for none.
    pub region: u32,
    /// Opacity, 0 adds.
    pub opacity: f32,
    /// Depth that its element is sorted by, in metres.
    pub order_depth: f32,
    /// Where it comes from.
    pub label: Label,
    /// Whether it belongs to a parallel view, in which distant shapes are not smaller.
    pub level: bool,
}
record!(Facet, order_depth, false, OFF_MIDDLE);

impl Facet {
    /// Greatest nearness of its corners.
    #[inline(always)]
    pub fn nearest(&self) -> f32 {
        greatest(self.near)
    }

    /// Scale of the view at its corners: attributes times the scale are linear over the picture.
    pub fn scale(&self) -> [f32; 3] {
        if self.level { [1.0; 3] } else { self.near }
    }
}

impl Strip {
    /// Greatest nearness of its cross sections.
    #[inline(always)]
    pub fn nearest(&self) -> f32 {
        let [a, b, c, d] = self.near;
        a.max(b).max(c.max(d))
    }
}

/// No texture.
pub const PLAIN: u32 = u32::MAX;

impl Facet {
    #[inline(always)]
    /// Left, upper, right and lower end, in pixels.
    pub fn extent(&self) -> [f32; 4] {
        ends(self.x, self.y)
    }
}

/// Segments of a strip.
pub const SEGMENTS: usize = 3;

/// A piece of a ribbon: a row of cross sections, each from `p - n` to `p + n`.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Strip {
    /// Middles of the cross sections, in pixels.
    pub p: [Vec2; SEGMENTS + 1],
    /// From the middle of each cross section to one side, in pixels.
    pub n: [Vec2; SEGMENTS + 1],
    /// Value of the depth test, as of a facet.
    pub near: [f32; SEGMENTS + 1],
    /// Colours without the sun, packed.
    pub base: [u32; SEGMENTS + 1],
    /// The sun's part of the colours, packed.
    pub sun: [u32; SEGMENTS + 1],
    /// Cross sections that there are.
    pub count: u16,
    /// Whether all cross sections are level, each below the previous one: it then covers a span on each row. Sections past `count` repeat the last.
    pub upright: bool,
    /// Opacity, 0 adds.
    pub opacity: f32,
    /// Depth that its element is sorted by, in metres.
    pub order_depth: f32,
    /// Where it comes from.
    pub label: Label,
}
record!(Strip, order_depth, false, OFF_MIDDLE);

impl Strip {
    /// How far a place is from cross section `nth` to the next, 0 to 1 between them.
    pub fn share(&self, nth: usize, at: Vec2) -> f32 {
        let (from, way) = (self.p[nth], self.p[nth + 1] - self.p[nth]);
        if self.upright {
            (at.y - from.y) / way.y
        } else {
            (at - from).dot(way) / way.length_squared().max(1e-12)
        }
    }

    /// Left, upper, right and lower end, in pixels.
    pub fn extent(&self) -> [f32; 4] {
        let mut bounds = [f32::INFINITY, f32::INFINITY, f32::NEG_INFINITY, f32::NEG_INFINITY];
        for k in 0..self.count as usize {
            let (low, high) = (self.p[k] - self.n[k].abs(), self.p[k] + self.n[k].abs());
            bounds =
                [bounds[0].min(low.x), bounds[1].min(low.y), bounds[2].max(high.x), bounds[3].max(high.y)];
        }
        bounds
    }
}

/// The colours of a strip's or facet's corners, unpacked.
pub fn colours<const N: usize>(packed: [u32; N]) -> [Vec3; N] {
    packed.map(|packed| Vec3::from(unpack(packed)))
}

/// A depth along the view as a key that rises from far to near. Behind the camera and not a number count as nearest: they are not
/// drawn anyway. Bits of floats that are not negative rise with their value.
#[inline(always)]
pub fn key(depth: f32) -> u32 {
    let depth = if depth > 0.0 { depth } else { 0.0 };
    !depth.to_bits()
}

/// Sort key: the [`key`] of a depth, and below it the source.
#[inline(always)]
pub fn keyed(depth: f32, which: u32) -> u64 {
    u64::from(key(depth)) << 32 | u64::from(which)
}

/// The depth that went into [`keyed`], 0 for one that is not above it.
#[inline(always)]
pub fn depth_of(keyed: u64) -> f32 {
    f32::from_bits(!((keyed >> 32) as u32))
}
