//! Keys of compiled objects: bindings, shapes, passes and targets.

use frolic_draw::Look;
use frolic_draw::backend::Form;
use wgpu::TextureFormat;

/// Type of a binding.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum Bind {
    /// A uniform: whether it has a dynamic offset, and its size in bytes.
    Uniform(bool, u64),
    Read,
    /// A storage buffer with a dynamic offset.
    Moving,
    Write,
    Texture,
    /// A texture of integers.
    Numbers,
    Depth,
    Samples,
}

/// Target of an external pass: its formats, and how its depth buffer compares.
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
    /// A pass with this colour format, without a depth buffer, one sample a pixel.
    pub fn new(colour: TextureFormat) -> Self {
        Self { colour, depth: None, reversed: false, samples: 1 }
    }

    /// Sets the format of the depth buffer. `reversed`: a greater depth is nearer.
    pub fn depth(mut self, format: TextureFormat, reversed: bool) -> Self {
        (self.depth, self.reversed) = (Some(format), reversed);
        self
    }

    /// Sets the number of samples of a pixel, 1 or 4.
    pub fn samples(mut self, samples: u32) -> Self {
        self.samples = samples;
        self
    }
}

/// Kind of a render pass.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum Pass {
    /// Transparent discs and rectangles, straight onto the picture.
    Soft,
    /// Solid surfaces, multisampled.
    Solid,
    /// Transparent meshes and ribbons, multisampled.
    Pieces,
    /// The shadow map.
    Shadow,
    External(ExternalTarget),
}

/// Key of a pipeline for elements.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) struct PipelineKey {
    pub(crate) shape: DrawnShape,
    pub(crate) source: Source,
    pub(crate) pass: Pass,
    pub(crate) solid: bool,
    pub(crate) test: bool,
    pub(crate) write: bool,
    /// Bits: back faces of the fine, and of the coarse mesh are culled.
    pub(crate) closed: u32,
    /// Features that its shaders are compiled for.
    pub(crate) flags: u32,
}

/// Source of the elements that shaders read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum Source {
    /// Records that the CPU has packed.
    Packed,
    /// Columns of a population on the device.
    Device,
    /// Columns of a flock on the device.
    Flock,
    /// Trails of a population on the device.
    Trail,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum DrawnShape {
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

impl DrawnShape {
    /// The shape that a look is drawn as.
    pub(crate) fn of(look: &Look) -> Self {
        match look.parts().form {
            Form::Ribbon(_) => Self::Ribbon,
            Form::Mesh { .. } => Self::Facet,
            Form::Billboard { .. } if look.is_solid() => Self::Billboard,
            Form::Billboard { .. } | Form::Sprite { .. } => Self::Quad,
            _ => Self::Disc,
        }
    }

    /// Returns whether its edges need multisampling.
    pub(crate) fn has_pieces(self) -> bool {
        matches!(self, Self::Facet | Self::Billboard | Self::Ribbon)
    }
}
