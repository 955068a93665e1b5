//! Trails on the device: the last positions of every element, carried over after each step (`shaders/trails.wgsl`), and drawn as
//! ribbons from the same buffer (`shaders/trail_elements.wgsl`).

use std::sync::Arc;

use frolic_core::backend::TrailClock;
use frolic_core::{SpecError, TrailSpec};
use wgpu::{BindGroup, BindGroupLayout, BufferUsages, ComputePipeline, ShaderStages};

use crate::device::{DeviceCounters, Gpu};
use crate::draw::keys::Bind;
use crate::draw::pipelines::{compute, group, layout, set_dispatch, window};
use crate::population::events::Ends;
use crate::shaders as shader;
use crate::shared::step::{STEP_WORDS, TRAIL_HEAD};

/// The trails of a population.
#[derive(Debug)]
pub(crate) struct Trailing {
    pub(crate) clock: TrailClock,
    /// One for each copy of the state.
    pub(crate) buffers: [wgpu::Buffer; 2],
    layout: Arc<BindGroupLayout>,
    pipeline: ComputePipeline,
    /// For the copy that a step has written.
    groups: Option<[BindGroup; 2]>,
}

impl Trailing {
    /// Buffers for the trails of `count` elements.
    ///
    /// # Errors
    /// More than one binding, as [`DevicePopulationError::Spec`](crate::DevicePopulationError); a lost device.
    pub(crate) fn new(gpu: &Gpu, spec: &TrailSpec, count: u32) -> Result<Self, crate::DevicePopulationError> {
        let each = u64::from(TRAIL_HEAD + spec.places * 3) * 4;
        if each * u64::from(count) > gpu.binding() {
            let problem = format!("{count} elements with trails are over the limit of one storage buffer");
            let most = gpu.binding() / each;
            return Err(SpecError::new("count", problem, format!("write at most {most}")).into());
        }
        let mut binds = vec![(0, Bind::Uniform(true, STEP_WORDS * 4)), (13, Bind::Read)];
        binds.extend([1, 2, 6, 7, 8, 14].map(|binding| (binding, Bind::Write)));
        let layout = Arc::new(layout(gpu, "carry", ShaderStages::COMPUTE, &binds));
        let pipeline = compute(gpu, shader::CARRY, "carry", &[Some(&*layout)], &[])?;
        let buffer = || gpu.buffer("trail", each * u64::from(count), BufferUsages::STORAGE);
        let buffers = [buffer(), buffer()];
        Ok(Self { clock: TrailClock::new(spec), buffers, layout, pipeline, groups: None })
    }

    /// Binds the buffers of its population.
    pub(crate) fn bind(&mut self, gpu: &Gpu, ends: Ends<'_>) {
        let groups = [0, 1].map(|now| {
            let [places, motions, ages] = &ends.columns[now];
            let buffers = [
                (1, ends.counts),
                (2, ends.blocks),
                (6, places),
                (7, motions),
                (8, ages),
                (13, &self.buffers[1 - now]),
                (14, &self.buffers[now]),
            ];
            let mut all = vec![(0, window(ends.steps, STEP_WORDS * 4))];
            all.extend(buffers.map(|(binding, buffer)| (binding, buffer.as_entire_binding())));
            group(gpu, &self.layout, &all)
        });
        self.groups = Some(groups);
    }

    /// Encodes the copy of positions to the state `now`. `calls` holds the dispatch of the next step.
    pub(crate) fn carry(
        &self,
        pass: &mut wgpu::ComputePass<'_>,
        counters: &mut DeviceCounters,
        now: usize,
        slot: u32,
        calls: &wgpu::Buffer,
    ) {
        let Some(groups) = &self.groups else { return };
        set_dispatch(pass, counters, &self.pipeline, &groups[now], &[slot]);
        pass.dispatch_workgroups_indirect(calls, 0);
    }

    /// Bytes held on the device.
    pub(crate) fn bytes(&self) -> u64 {
        self.buffers.iter().map(wgpu::Buffer::size).sum()
    }
}
