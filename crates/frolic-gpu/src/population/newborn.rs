//! Newborns that the CPU writes, as no shader can start them: from assets, evenly aimed, or scattered.

use std::sync::Arc;

use frolic_core::BodyRow;
use wgpu::{BindGroupLayout, BufferUsages, ShaderStages};

use crate::device::{DeviceCounters, Gpu, upload};
use crate::draw::keys::Bind;
use crate::draw::pipelines::{group, layout};
use crate::shared::{self, Shared, SharedStruct};

/// Words of a newborn.
const WORDS: usize = shared::step::Newborn::WORDS;

/// Newborns of the steps that were not submitted yet.
#[derive(Debug)]
pub(crate) struct Newborn {
    layout: Arc<BindGroupLayout>,
    buffer: wgpu::Buffer,
    group: wgpu::BindGroup,
    /// Words of the current step; number of words of earlier steps.
    words: Vec<u32>,
    used: usize,
}

impl Newborn {
    pub(crate) fn new(gpu: &Gpu) -> Self {
        let layout = Arc::new(layout(gpu, "newborn", ShaderStages::COMPUTE, &[(1, Bind::Read)]));
        let (buffer, group) = made(gpu, &layout, 0);
        Self { layout, buffer, group, words: Vec::new(), used: 0 }
    }

    /// Most newborns of one step.
    pub(crate) fn most(gpu: &Gpu) -> u32 {
        (gpu.binding() / (WORDS as u64 * 4)) as u32
    }

    pub(crate) fn layout(&self) -> &Arc<BindGroupLayout> {
        &self.layout
    }

    /// Bind group of the step that was uploaded last.
    pub(crate) fn group(&self) -> &wgpu::BindGroup {
        &self.group
    }

    /// Bytes held on the device.
    pub(crate) fn bytes(&self) -> u64 {
        self.buffer.size()
    }

    /// Call it after a submission.
    pub(crate) fn clear(&mut self) {
        self.used = 0;
    }

    /// Adds newborns to the current step. Returns the index of the first.
    pub(crate) fn add(&mut self, rows: impl Iterator<Item = BodyRow>) -> u32 {
        let first = self.words.len() / WORDS;
        for row in rows {
            let newborn = shared::step::Newborn {
                place: [row.px, row.py, row.pz],
                size: row.size,
                velocity: [row.vx, row.vy, row.vz],
                id: row.id,
                age: row.age,
                life: row.life,
            };
            newborn.append(&mut self.words);
        }
        first as u32
    }

    /// Uploads the newborns of the step to the buffer of [`Newborn::group`]. Returns the index of the first.
    pub(crate) fn flush(&mut self, gpu: &Gpu, counters: &mut DeviceCounters) -> u32 {
        let bytes = (self.used + self.words.len()) as u64 * 4;
        if bytes > self.buffer.size() {
            // Earlier steps keep their buffer.
            self.used = 0;
            let bytes = (self.words.len() as u64 * 4 * 2).min(gpu.binding());
            (self.buffer, self.group) = made(gpu, &self.layout, bytes);
        }
        upload(gpu, &self.buffer, self.used as u64, &self.words, counters);
        counters.uploaded_elements += size_of_val(&self.words[..]) as u64;
        let first = self.used / WORDS;
        self.used += self.words.len();
        self.words.clear();
        first as u32
    }
}

fn made(gpu: &Gpu, layout: &BindGroupLayout, bytes: u64) -> (wgpu::Buffer, wgpu::BindGroup) {
    let buffer = gpu.buffer("newborn", bytes, BufferUsages::STORAGE | BufferUsages::COPY_DST);
    let group = group(gpu, layout, &[(1, buffer.as_entire_binding())]);
    (buffer, group)
}
