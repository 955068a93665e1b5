//! Grids of obstacles and fields in one texture. Each grid starts a row and continues in the rows below.
//!
//! Edits of a mask are copied in order with the steps, so each step reads the mask of its own time.

use std::sync::Arc;

use frolic_core::World;
use frolic_core::backend::{GRID_ROW, OwnFields, grids};
use wgpu::{BindGroupLayout, ShaderStages};

use crate::device::{DeviceCounters, Gpu};
use crate::draw::keys::Bind;
use crate::draw::pipelines::{group, layout};
use crate::shared::step::{GRID_WIDTH, GridPlace};

#[derive(Debug)]
pub(crate) struct Grids {
    layout: Arc<BindGroupLayout>,
    texture: wgpu::Texture,
    group: wgpu::BindGroup,
    places: Vec<GridPlace>,
    /// Stamp of each grid when its words were last uploaded.
    stamps: Vec<u64>,
    /// Words of one upload.
    words: Vec<u32>,
}

impl Grids {
    /// An empty texture.
    pub(crate) fn new(gpu: &Gpu) -> Self {
        let layout = Arc::new(layout(gpu, "grids", ShaderStages::COMPUTE, &[(0, Bind::Numbers)]));
        let (texture, group) = made(gpu, &layout, 1);
        Self { layout, texture, group, places: Vec::new(), stamps: Vec::new(), words: Vec::new() }
    }

    pub(crate) fn layout(&self) -> &Arc<BindGroupLayout> {
        &self.layout
    }

    pub(crate) fn group(&self) -> &wgpu::BindGroup {
        &self.group
    }

    /// Locations of the grids of the last world.
    pub(crate) fn places(&self) -> &[GridPlace] {
        &self.places
    }

    /// Bytes held on the device.
    pub(crate) fn bytes(&self) -> u64 {
        u64::from(self.texture.width()) * u64::from(self.texture.height()) * 4
    }

    /// Encodes the copies that update the texture to a world.
    pub(crate) fn follow(
        &mut self,
        gpu: &Gpu,
        encoder: &mut wgpu::CommandEncoder,
        counters: &mut DeviceCounters,
        world: &World,
        own: &OwnFields,
    ) {
        let points = || grids(world, own).map(|grid| grid.points());
        if !self.places.iter().map(|place| place.points).eq(points()) {
            let mut row = 0;
            self.places.clear();
            self.stamps.clear();
            for points in points() {
                self.places.push(GridPlace { points, row });
                // No grid has stamp 0.
                self.stamps.push(0);
                row += points.iter().product::<usize>().div_ceil(GRID_ROW) as u32;
            }
            (self.texture, self.group) = made(gpu, &self.layout, row.max(1));
        }
        for ((grid, place), stamp) in grids(world, own).zip(&self.places).zip(&mut self.stamps) {
            let changed = grid.changed_since(std::mem::replace(stamp, grid.stamp()));
            if changed.is_empty() {
                continue;
            }
            let (first, last) = (changed.start / GRID_ROW, changed.end.div_ceil(GRID_ROW));
            self.words.clear();
            self.words
                .extend((first * GRID_ROW..(last * GRID_ROW).min(grid.len())).map(|nth| grid.word(nth)));
            self.words.resize((last - first) * GRID_ROW, 0);
            let bytes = size_of_val(&self.words[..]) as u64;
            let usage = wgpu::BufferUsages::COPY_SRC | wgpu::BufferUsages::COPY_DST;
            let patch = gpu.buffer("patch", bytes, usage);
            gpu.queue().write_buffer(&patch, 0, bytemuck::cast_slice(&self.words));
            counters.uploaded += bytes;
            let rows = (last - first) as u32;
            let layout = wgpu::TexelCopyBufferLayout {
                offset: 0,
                bytes_per_row: Some(GRID_WIDTH * 4),
                rows_per_image: Some(rows),
            };
            encoder.copy_buffer_to_texture(
                wgpu::TexelCopyBufferInfo { buffer: &patch, layout },
                wgpu::TexelCopyTextureInfo {
                    texture: &self.texture,
                    mip_level: 0,
                    origin: wgpu::Origin3d { x: 0, y: place.row + first as u32, z: 0 },
                    aspect: wgpu::TextureAspect::All,
                },
                wgpu::Extent3d { width: GRID_WIDTH, height: rows, depth_or_array_layers: 1 },
            );
        }
    }
}

fn made(gpu: &Gpu, layout: &BindGroupLayout, rows: u32) -> (wgpu::Texture, wgpu::BindGroup) {
    let texture = gpu.device().create_texture(&wgpu::TextureDescriptor {
        label: Some("grids"),
        size: wgpu::Extent3d { width: GRID_WIDTH, height: rows, depth_or_array_layers: 1 },
        mip_level_count: 1,
        sample_count: 1,
        dimension: wgpu::TextureDimension::D2,
        format: wgpu::TextureFormat::R32Uint,
        usage: wgpu::TextureUsages::TEXTURE_BINDING | wgpu::TextureUsages::COPY_DST,
        view_formats: &[],
    });
    let view = texture.create_view(&wgpu::TextureViewDescriptor::default());
    let group = group(gpu, layout, &[(0, wgpu::BindingResource::TextureView(&view))]);
    (texture, group)
}
