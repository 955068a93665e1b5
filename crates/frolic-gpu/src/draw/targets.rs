//! Textures that are drawn to.

use half::f16;
use wgpu::{TextureFormat, TextureUsages, TextureView};

use frolic_draw::backend::{BackdropKey, BackdropPlanes};
use frolic_draw::{BackdropSpec, ImageSize, LightSpec, SunSpec, View};

use crate::device::error::GpuError;
use crate::device::{DeviceCounters, Gpu};
use crate::draw::pipelines::{DEPTH, LIGHT, NEAREST, PICTURE, SAMPLES};
use crate::shared::frame::FARTHEST;

/// A texture with a view of all of it.
#[derive(Debug)]
pub(crate) struct Target {
    pub(crate) texture: wgpu::Texture,
    pub(crate) view: TextureView,
    bytes: u64,
}

pub(crate) fn target(
    gpu: &Gpu,
    label: &str,
    [width, height]: [u32; 2],
    format: TextureFormat,
    samples: u32,
    usage: TextureUsages,
) -> Target {
    let texture = gpu.device().create_texture(&wgpu::TextureDescriptor {
        label: Some(label),
        size: wgpu::Extent3d { width, height, depth_or_array_layers: 1 },
        mip_level_count: 1,
        sample_count: samples,
        dimension: wgpu::TextureDimension::D2,
        format,
        usage,
        view_formats: &[],
    });
    let view = texture.create_view(&wgpu::TextureViewDescriptor::default());
    let texel = u64::from(format.block_copy_size(None).unwrap_or(4));
    Target { texture, view, bytes: u64::from(width) * u64::from(height) * u64::from(samples) * texel }
}

/// Textures for one size of picture.
#[derive(Debug)]
pub(crate) struct Targets {
    pub(crate) size: ImageSize,
    /// Linear light.
    pub(crate) light: Target,
    /// Multisampled targets and their resolved copies, if anything is drawn multisampled.
    pub(crate) sampled: Option<Sampled>,
    /// The finished picture.
    pub(crate) picture: Target,
}

#[derive(Debug)]
pub(crate) struct Sampled {
    pub(crate) light: Target,
    pub(crate) met: Target,
    pub(crate) depth: Target,
    /// Depth of the nearest sample of each pixel, in metres.
    pub(crate) nearest: Target,
}

const DRAWN: TextureUsages = TextureUsages::RENDER_ATTACHMENT.union(TextureUsages::TEXTURE_BINDING);

fn sides(size: ImageSize) -> [u32; 2] {
    [size.width() as u32, size.height() as u32]
}

impl Targets {
    /// Textures of this size.
    ///
    /// # Errors
    /// The device has no textures this large.
    pub(crate) fn new(gpu: &Gpu, size: ImageSize) -> Result<Self, GpuError> {
        fits(gpu, "a picture side", sides(size).into_iter().max().unwrap_or(0))?;
        Ok(Self {
            size,
            light: light(gpu, size),
            sampled: None,
            picture: target(gpu, "picture", sides(size), PICTURE, 1, DRAWN | TextureUsages::COPY_SRC),
        })
    }

    /// Ensures multisampled targets.
    pub(crate) fn with_samples(&mut self, gpu: &Gpu) -> bool {
        if self.sampled.is_some() {
            return false;
        }
        let size = sides(self.size);
        self.sampled = Some(Sampled {
            light: target(gpu, "samples", size, LIGHT, SAMPLES, TextureUsages::RENDER_ATTACHMENT),
            met: target(gpu, "met samples", size, LIGHT, 1, DRAWN),
            depth: target(gpu, "depth", size, DEPTH, SAMPLES, DRAWN),
            nearest: target(gpu, "nearest", size, NEAREST, 1, DRAWN),
        });
        true
    }

    pub(crate) fn bytes(&self) -> u64 {
        let sampled = self.sampled.as_ref().map_or(0, |sampled| {
            sampled.light.bytes + sampled.met.bytes + sampled.depth.bytes + sampled.nearest.bytes
        });
        self.light.bytes + self.picture.bytes + sampled
    }
}

/// A target for linear light.
pub(crate) fn light(gpu: &Gpu, size: ImageSize) -> Target {
    target(gpu, "light", sides(size), LIGHT, 1, DRAWN)
}

/// Refuses a texture whose side is too large.
pub(crate) fn fits(gpu: &Gpu, what: &'static str, side: u32) -> Result<(), GpuError> {
    let most = gpu.device().limits().max_texture_dimension_2d;
    if side <= most {
        return Ok(());
    }
    let (wanted, most) = (u64::from(side), u64::from(most));
    Err(GpuError::TooLarge { what, wanted, most, instead: "draw a smaller one, or draw on the CPU" })
}

/// A backdrop on the device, kept while the view does not change.
#[derive(Debug)]
pub(crate) struct BackdropOn {
    pub(crate) key: BackdropKey,
    pub(crate) light: Target,
    pub(crate) sunlit: Target,
    pub(crate) depth: Target,
    /// Whether it has solid parts.
    pub(crate) has_depth: bool,
}

impl BackdropOn {
    pub(crate) fn paint(
        gpu: &Gpu,
        view: &View,
        spec: &BackdropSpec,
        lights: &[LightSpec],
        sun: Option<&SunSpec>,
        counters: &mut DeviceCounters,
    ) -> Self {
        let planes = BackdropPlanes::paint(view, spec, lights, sun);
        let size = sides(view.size());
        let usage = TextureUsages::TEXTURE_BINDING | TextureUsages::COPY_DST;
        let rgb = |label, plane: &[[f32; 3]], size: [u32; 2], counters: &mut DeviceCounters| {
            let on = target(gpu, label, size, LIGHT, 1, usage);
            let half = |v: f32| f16::from_f32(v).to_bits();
            let texels: Vec<[u16; 4]> =
                plane.iter().map(|&[r, g, b]| [half(r), half(g), half(b), 0]).collect();
            write(gpu, &on, size, bytemuck::cast_slice(&texels), 8, counters);
            on
        };
        let light = rgb("backdrop", &planes.light, size, counters);
        let sunlit = if sun.is_some() {
            rgb("sunlit backdrop", &planes.sun, size, counters)
        } else {
            rgb("sunlit backdrop", &[[0.0; 3]], [1, 1], counters)
        };
        let depth = target(gpu, "backdrop depth", size, NEAREST, 1, usage);
        let depths: Vec<f32> = planes.depth.iter().map(|&depth| depth.min(FARTHEST)).collect();
        write(gpu, &depth, size, bytemuck::cast_slice(&depths), 4, counters);
        let has_depth = depths.iter().any(|&depth| depth < FARTHEST);
        let key = BackdropKey::new(view, spec, lights, sun);
        Self { key, light, sunlit, depth, has_depth }
    }

    pub(crate) fn bytes(&self) -> u64 {
        self.light.bytes + self.sunlit.bytes + self.depth.bytes
    }
}

fn write(
    gpu: &Gpu,
    on: &Target,
    [width, height]: [u32; 2],
    bytes: &[u8],
    texel: u32,
    counters: &mut DeviceCounters,
) {
    gpu.queue().write_texture(
        on.texture.as_image_copy(),
        bytes,
        wgpu::TexelCopyBufferLayout { offset: 0, bytes_per_row: Some(width * texel), rows_per_image: None },
        wgpu::Extent3d { width, height, depth_or_array_layers: 1 },
    );
    counters.uploaded += bytes.len() as u64;
}
