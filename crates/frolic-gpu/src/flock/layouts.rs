//! Bindings and pipelines of a flock's step.

use wgpu::{BindGroup, BindGroupLayout, BufferUsages, ComputePipeline, ShaderStages};

use crate::device::Gpu;
use crate::device::error::GpuError;
use crate::draw::keys::Bind;
use crate::draw::pipelines::{compute, group, layout, window};
use crate::neighbours::{DeviceGrid, GridPipelines};
use crate::population::shard::Fields;
use crate::shaders as shader;
use crate::shared::Shared;
use crate::shared::flock::{ARRANGED_ROWS, BEARING_ROWS, FlockStep, OTHER_ROWS, SUM_ROWS, SeenSlot};
use crate::shared::step::{CALL_WORDS, GROUP, STEP_WORDS};

/// Bytes of the uniform of a flock's step, and words between two.
const FLOCK_BYTES: u64 = FlockStep::WORDS as u64 * 4;
pub(super) const FLOCK_SLOT: u64 = (FlockStep::WORDS as u64).next_multiple_of(64);

/// What all flocks of a device share.
#[derive(Debug)]
pub(super) struct FlockLayouts {
    arrange: BindGroupLayout,
    settle: BindGroupLayout,
    newcomers: BindGroupLayout,
    seen: BindGroupLayout,
    hunt: BindGroupLayout,
    steer: BindGroupLayout,
    sum: BindGroupLayout,
    within: BindGroupLayout,
    pub(super) grid: GridPipelines,
    pub(super) pipelines: FlockPipelines,
}

/// Pipelines that do not depend on the world.
#[derive(Debug)]
pub(super) struct FlockPipelines {
    pub(super) arrange: ComputePipeline,
    pub(super) settle: ComputePipeline,
    pub(super) let_in: ComputePipeline,
    pub(super) newcomers: ComputePipeline,
    pub(super) note_seen: ComputePipeline,
    pub(super) choose: ComputePipeline,
    pub(super) catch_prey: ComputePipeline,
    pub(super) sum_up: ComputePipeline,
    pub(super) keep_within: ComputePipeline,
}

impl FlockLayouts {
    /// # Errors
    /// When the device was lost.
    pub(super) fn new(gpu: &Gpu) -> Result<Self, GpuError> {
        use Bind::{Read, Uniform, Write};
        let of = |label, reads: &[u32], writes: &[u32]| {
            let mut all = vec![(0, Uniform(true, STEP_WORDS * 4)), (11, Uniform(true, FLOCK_BYTES))];
            all.extend(reads.iter().map(|binding| (*binding, Read)));
            all.extend(writes.iter().map(|binding| (*binding, Write)));
            layout(gpu, label, ShaderStages::COMPUTE, &all)
        };
        let arrange = of("arrange", &[16, 18], &[1, 6, 7, 12, 13, 17]);
        let settle = of("settle", &[18], &[1, 9]);
        let newcomers = of("newcomers", &[19], &[1, 6, 7, 12, 17]);
        let hunt = of("hunt", &[20, 21, 22, 23], &[1, 13, 15, 24]);
        let steer = of("steer", &[13, 14, 15], &[1, 6, 7, 10, 12]);
        let sum = of("sum", &[], &[1, 10]);
        let within = of("within", &[], &[1, 6, 7]);
        let slot = (0, Uniform(false, SeenSlot::WORDS as u64 * 4));
        let seen = [slot, (1, Read), (2, Read), (3, Write)];
        let seen = layout(gpu, "seen", ShaderStages::COMPUTE, &seen);
        let made = |program, entry, layout| compute(gpu, program, entry, &[Some(layout)], &[]);
        let pipelines = FlockPipelines {
            arrange: made(shader::FLOCK_ARRANGE, "arrange", &arrange)?,
            settle: made(shader::FLOCK_ARRANGE, "settle", &settle)?,
            let_in: made(shader::FLOCK_ARRANGE, "let_in", &settle)?,
            newcomers: made(shader::FLOCK_ARRANGE, "newcomers", &newcomers)?,
            note_seen: made(shader::FLOCK_SEEN, "note_seen", &seen)?,
            choose: made(shader::FLOCK_HUNT, "choose", &hunt)?,
            catch_prey: made(shader::FLOCK_HUNT, "catch_prey", &hunt)?,
            sum_up: made(shader::FLOCK_STEER, "sum_up", &sum)?,
            keep_within: made(shader::FLOCK_STEER, "keep_within", &within)?,
        };
        let grid = GridPipelines::new(gpu)?;
        Ok(Self { arrange, settle, newcomers, seen, hunt, steer, sum, within, grid, pipelines })
    }

    /// The pipeline that steers in a world of these features, whose grids are bound as `grids`.
    ///
    /// # Errors
    /// When the device was lost.
    pub(super) fn steering(
        &self,
        gpu: &Gpu,
        fields: Fields,
        grids: &BindGroupLayout,
    ) -> Result<ComputePipeline, GpuError> {
        let features = [("FEATURES", f64::from(fields.bits))];
        compute(gpu, shader::FLOCK_STEER, "steer", &[Some(&self.steer), Some(grids)], &features)
    }
}

/// Buffers of a flock.
#[derive(Debug)]
pub(super) struct FlockBuffers {
    pub(super) counts: wgpu::Buffer,
    pub(super) steps: wgpu::Buffer,
    pub(super) flock_steps: wgpu::Buffer,
    pub(super) places: wgpu::Buffer,
    pub(super) motions: wgpu::Buffer,
    pub(super) bearings: wgpu::Buffer,
    pub(super) arranged: wgpu::Buffer,
    pub(super) sums: wgpu::Buffer,
    pub(super) gone: wgpu::Buffer,
    pub(super) others: wgpu::Buffer,
    pub(super) starts: wgpu::Buffer,
    pub(super) calls: wgpu::Buffer,
}

impl FlockBuffers {
    /// Buffers of `capacity` elements, counters of so many words, and uniforms of so many steps.
    pub(super) fn new(gpu: &Gpu, capacity: u32, words: u32, steps: u32, step_slot: u64) -> Self {
        let storage = BufferUsages::STORAGE | BufferUsages::COPY_SRC | BufferUsages::COPY_DST;
        let uniform = BufferUsages::UNIFORM | BufferUsages::COPY_DST;
        let each = |label, bytes: u32| gpu.buffer(label, u64::from(capacity) * u64::from(bytes), storage);
        let rows = |label, rows: u32| gpu.buffer(label, u64::from(rows) * 16, storage);
        Self {
            counts: gpu.buffer("counters", u64::from(words) * 4, storage),
            steps: gpu.buffer("steps", u64::from(steps) * step_slot * 4, uniform),
            flock_steps: gpu.buffer("flock steps", u64::from(steps) * FLOCK_SLOT * 4, uniform),
            places: each("places", 16),
            motions: each("motions", 16),
            bearings: each("bearings", 16 * BEARING_ROWS),
            arranged: each("arranged", 16 * ARRANGED_ROWS),
            gone: each("gone", 4),
            starts: each("starts", 32),
            sums: rows("sums", capacity.div_ceil(GROUP) * SUM_ROWS),
            others: rows("others", OTHER_ROWS),
            calls: gpu.buffer("calls", u64::from(CALL_WORDS) * 4, storage | BufferUsages::INDIRECT),
        }
    }

    pub(super) fn bytes(&self) -> u64 {
        [&self.places, &self.motions, &self.bearings, &self.arranged, &self.sums, &self.gone]
            .into_iter()
            .chain([&self.others, &self.starts, &self.steps, &self.flock_steps])
            .map(wgpu::Buffer::size)
            .sum()
    }
}

/// Bind groups of a flock.
#[derive(Debug)]
pub(super) struct FlockGroups {
    pub(super) arrange: BindGroup,
    pub(super) settle: BindGroup,
    pub(super) newcomers: BindGroup,
    pub(super) steer: BindGroup,
    pub(super) sum: BindGroup,
    pub(super) within: BindGroup,
}

impl FlockGroups {
    pub(super) fn new(gpu: &Gpu, layouts: &FlockLayouts, buffers: &FlockBuffers, grid: &DeviceGrid) -> Self {
        let of = |layout: &BindGroupLayout, bound: &[(u32, &wgpu::Buffer)]| bind(gpu, layout, buffers, bound);
        let FlockBuffers { counts, places, motions, bearings, arranged, sums, gone, others, .. } = buffers;
        let (starts, calls) = (&buffers.starts, &buffers.calls);
        let state = [(1, counts), (6, places), (7, motions), (12, bearings)];
        let arrange = [&state[..], &[(13, arranged), (16, &grid.list), (17, gone), (18, &grid.calls)]];
        let steer = [&state[..], &[(10, sums), (13, arranged), (14, &grid.cells), (15, others)]];
        Self {
            arrange: of(&layouts.arrange, &arrange.concat()),
            settle: of(&layouts.settle, &[(1, counts), (9, calls), (18, &grid.calls)]),
            newcomers: of(&layouts.newcomers, &[&state[..], &[(17, gone), (19, starts)]].concat()),
            steer: of(&layouts.steer, &steer.concat()),
            sum: of(&layouts.sum, &[(1, counts), (10, sums)]),
            within: of(&layouts.within, &[(1, counts), (6, places), (7, motions)]),
        }
    }

    /// Hunters of a flock and the prey that they look at.
    pub(super) fn hunt(
        gpu: &Gpu,
        layouts: &FlockLayouts,
        hunters: &FlockBuffers,
        prey: &FlockBuffers,
    ) -> BindGroup {
        let FlockBuffers { counts, places, motions, bearings, gone, .. } = prey;
        let bound = [
            (1, &hunters.counts),
            (13, &hunters.arranged),
            (15, &hunters.others),
            (20, counts),
            (21, places),
            (22, motions),
            (23, bearings),
            (24, gone),
        ];
        bind(gpu, &layouts.hunt, hunters, &bound)
    }

    /// The copy of the places of a population that a flock sees, described by a uniform.
    pub(super) fn seen(
        gpu: &Gpu,
        layouts: &FlockLayouts,
        slot: &wgpu::Buffer,
        seen: &FlockBuffers,
        by: &FlockBuffers,
    ) -> BindGroup {
        let bound = [slot, &seen.counts, &seen.places, &by.others];
        let all: Vec<_> = (0..).zip(bound.map(wgpu::Buffer::as_entire_binding)).collect();
        group(gpu, &layouts.seen, &all)
    }
}

fn bind(
    gpu: &Gpu,
    layout: &BindGroupLayout,
    own: &FlockBuffers,
    bound: &[(u32, &wgpu::Buffer)],
) -> BindGroup {
    let mut all = vec![(0, window(&own.steps, STEP_WORDS * 4)), (11, window(&own.flock_steps, FLOCK_BYTES))];
    all.extend(bound.iter().map(|(binding, buffer)| (*binding, buffer.as_entire_binding())));
    group(gpu, layout, &all)
}
