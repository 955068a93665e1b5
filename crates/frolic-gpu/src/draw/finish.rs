//! From light to a finished picture: bloom, tone curve and eight bits; and its readback.

use frolic_draw::{Image, ImageSize};
use wgpu::{BufferUsages, TextureView};

use crate::device::error::GpuError;
use crate::device::{DeviceCounters, Gpu, upload};
use crate::draw::pipelines::{Pipelines, compute, group};
use crate::shaders as shader;
use crate::shared::finish::{BLOOM_BLOCK, BloomSize};
use crate::shared::{self, SharedStruct};

/// Buffers and bindings for one size of picture.
#[derive(Debug)]
pub(crate) struct Finish {
    size: ImageSize,
    blocks: [u32; 2],
    numbers: wgpu::Buffer,
    written: Option<[f32; 2]>,
    bloom: wgpu::BindGroup,
    resolve: wgpu::BindGroup,
    passes: [wgpu::ComputePipeline; 5],
    back: Option<wgpu::Buffer>,
    bytes: u64,
}

impl Finish {
    /// For a picture of this size of `light`. A transparent picture needs the same light `over_white` too.
    pub(crate) fn new(
        gpu: &Gpu,
        pipelines: &mut Pipelines,
        size: ImageSize,
        light: &TextureView,
        over_white: &TextureView,
        counters: &mut DeviceCounters,
    ) -> Result<Self, GpuError> {
        let [width, height] = [size.width() as u32, size.height() as u32];
        let blocks = [width, height].map(|side| side.div_ceil(BLOOM_BLOCK) + 2);
        let bytes = u64::from(blocks[0]) * u64::from(blocks[1]) * 16;
        let plane = |label| gpu.buffer(label, bytes, BufferUsages::STORAGE);
        let planes = [plane("bloom 1"), plane("bloom 2"), plane("bloom 3")];
        let uniform = BufferUsages::UNIFORM | BufferUsages::COPY_DST;
        let sizes = gpu.buffer("bloom size", 16, uniform);
        let numbers = gpu.buffer("finish", 16, uniform);
        let [across, down] = blocks.map(u32::cast_signed);
        let size_of = BloomSize { across, down, width: width.cast_signed(), height: height.cast_signed() };
        upload(gpu, &sizes, 0, &size_of.words(), counters);
        let layouts = std::sync::Arc::clone(&pipelines.layouts);
        let bloom = group(
            gpu,
            &layouts.bloom,
            &[
                (0, sizes.as_entire_binding()),
                (1, wgpu::BindingResource::TextureView(light)),
                (2, planes[0].as_entire_binding()),
                (3, planes[1].as_entire_binding()),
                (4, planes[2].as_entire_binding()),
            ],
        );
        let resolve = group(
            gpu,
            &layouts.resolve,
            &[
                (0, numbers.as_entire_binding()),
                (1, wgpu::BindingResource::TextureView(light)),
                (2, planes[2].as_entire_binding()),
                (3, wgpu::BindingResource::TextureView(over_white)),
            ],
        );
        let groups = [Some(&layouts.bloom)];
        let of = |entry| compute(gpu, shader::BLOOM, entry, &groups, &[]);
        let passes = [of("means")?, of("near_across")?, of("near_down")?, of("far_across")?, of("far_down")?];
        Ok(Self {
            size,
            blocks,
            numbers,
            written: None,
            bloom,
            resolve,
            passes,
            back: None,
            bytes: bytes * 3,
        })
    }

    /// Sets the exposure, and the share of the light that spreads.
    pub(crate) fn set(&mut self, gpu: &Gpu, exposure: f32, bloom: f32, counters: &mut DeviceCounters) {
        if self.written != Some([exposure, bloom]) {
            let numbers = shared::finish::Finish { exposure, bloom, across: self.blocks[0], spare: 0 };
            upload(gpu, &self.numbers, 0, &numbers.words(), counters);
            self.written = Some([exposure, bloom]);
        }
    }

    /// Encodes the bloom.
    pub(crate) fn spread(&self, pass: &mut wgpu::ComputePass<'_>, counters: &mut DeviceCounters) {
        let [across, down] = self.blocks;
        pass.set_bind_group(0, &self.bloom, &[]);
        for (nth, pipeline) in self.passes.iter().enumerate() {
            pass.set_pipeline(pipeline);
            if nth == 0 {
                pass.dispatch_workgroups(across.div_ceil(8), down.div_ceil(8), 1);
            } else {
                pass.dispatch_workgroups((across * down).div_ceil(64), 1, 1);
            }
        }
        counters.dispatches += self.passes.len() as u64;
        counters.pipelines += self.passes.len() as u64;
        counters.binds += 1;
    }

    /// Bind group of the last pass.
    pub(crate) fn resolve(&self) -> &wgpu::BindGroup {
        &self.resolve
    }

    fn row_bytes(&self) -> u32 {
        (self.size.width() as u32 * 4).next_multiple_of(wgpu::COPY_BYTES_PER_ROW_ALIGNMENT)
    }

    /// Encodes the copy of the finished picture into a buffer that can be mapped.
    pub(crate) fn copy_back(
        &mut self,
        gpu: &Gpu,
        encoder: &mut wgpu::CommandEncoder,
        picture: &wgpu::Texture,
    ) {
        let row = self.row_bytes();
        let bytes = u64::from(row) * self.size.height() as u64;
        let back = self.back.get_or_insert_with(|| {
            gpu.buffer("picture back", bytes, BufferUsages::MAP_READ | BufferUsages::COPY_DST)
        });
        encoder.copy_texture_to_buffer(
            picture.as_image_copy(),
            wgpu::TexelCopyBufferInfo {
                buffer: back,
                layout: wgpu::TexelCopyBufferLayout {
                    offset: 0,
                    bytes_per_row: Some(row),
                    rows_per_image: None,
                },
            },
            picture.size(),
        );
    }

    /// Waits for the picture and copies it. This stalls; only pictures for files are read back.
    pub(crate) fn take(
        &self,
        gpu: &Gpu,
        image: &mut Image,
        counters: &mut DeviceCounters,
    ) -> Result<(), GpuError> {
        let Some(back) = &self.back else { return Ok(()) };
        back.map_async(wgpu::MapMode::Read, .., |_| {});
        gpu.wait()?;
        let view = back.get_mapped_range(..).map_err(|error| GpuError::Lost(error.to_string()))?;
        let row = self.row_bytes() as usize;
        image.paint(|x, y| {
            let at = y as usize * row + x as usize * 4;
            [view[at], view[at + 1], view[at + 2], view[at + 3]]
        });
        counters.downloaded += row as u64 * self.size.height() as u64;
        drop(view);
        back.unmap();
        Ok(())
    }

    pub(crate) fn bytes(&self) -> u64 {
        self.bytes + self.back.as_ref().map_or(0, wgpu::Buffer::size)
    }
}
