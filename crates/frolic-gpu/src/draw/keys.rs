//! What tells compiled things of a device apart: bindings, shapes, passes, targets.

use frolic_draw::Look;
use frolic_draw::backend::Form;
use wgpu::TextureFormat;

/// A binding: its type, and the shader stages that use it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum Bind {
    /// A uniform, placed by a dynamic offset if so, of so many bytes.
    Uniform(bool, u64),
    Read,
    /// The same, placed by a dynamic offset.
    Moving,
    Write,
    Texture,
    /// A texture of whole numbers.
    Numbers,
    Depth,
    Samples,
}

/// Somebody else's pass: what it draws to, and how its depth buffer compares.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub struct ExternalTarget {
    /// Format of the colour.
    pub colour: TextureFormat,
    /// Format of the depth buffer, if there is one.
    pub depth: Option<TextureFormat>,
    /// Whether a greater depth is nearer.
    pub reversed: bool,
    /// Samples of a pixel, 1 or 4.
    pub samples: u32,
}

impl ExternalTarget {
    /// A pass with this colour, without a depth buffer, one sample a pixel.
    pub fn new(colour: TextureFormat) -> Self {
        Self { colour, depth: None, reversed: false, samples: 1 }
    }

    /// The same with a depth buffer; `reversed` where a greater depth is nearer.
    pub fn depth(mut self, format: TextureFormat, reversed: bool) -> Self {
        (self.depth, self.reversed) = (Some(format), reversed);
        self
    }

    /// The same with so many samples a pixel, 1 or 4.
    pub fn samples(mut self, samples: u32) -> Self {
        self.samples = samples;
        self
    }
}

/// What kind of pass something is drawn in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum Pass {
    /// Discs and rectangles that are transparent, onto the picture.
    Soft,
    /// What is solid, by samples.
    Solid,
    /// Pieces of transparent meshes and ribbons, by samples.
    Pieces,
    /// The sun's map.
    Shadow,
    External(ExternalTarget),
}

/// What tells pipelines apart.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) struct Key {
    pub(crate) shape: Shape,
    pub(crate) source: Source,
    pub(crate) pass: Pass,
    pub(crate) solid: bool,
    pub(crate) test: bool,
    pub(crate) write: bool,
    /// Bits that say whether triangles of the mesh, and of its coarse form, are left out where they face away.
    pub(crate) closed: u32,
    /// What its shaders are asked for.
    pub(crate) flags: u32,
}

/// Where shaders read elements from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum Source {
    /// Records that the processor packed.
    Packed,
    /// Columns of a population that lives on the device.
    Device,
    /// Trails of one.
    Trail,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum Shape {
    /// A round soft billboard.
    Disc,
    /// A transparent billboard, or a sprite.
    Quad,
    /// A mesh.
    Facet,
    /// A solid billboard.
    Billboard,
    Ribbon,
}

impl Shape {
    /// What a look is drawn as.
    pub(crate) fn of(look: &Look) -> Self {
        match look.parts().form {
            Form::Ribbon(_) => Self::Ribbon,
            Form::Mesh { .. } => Self::Facet,
            Form::Billboard { .. } if look.is_solid() => Self::Billboard,
            Form::Billboard { .. } | Form::Sprite { .. } => Self::Quad,
            _ => Self::Disc,
        }
    }

    /// Whether it has edges that are smoothed by samples.
    pub(crate) fn has_pieces(self) -> bool {
        matches!(self, Self::Facet | Self::Billboard | Self::Ribbon)
    }
}
