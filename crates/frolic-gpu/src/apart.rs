//! Bodies that keep apart on the device: `shaders/apart.wgsl`, as [`PushApart`](frolic_core::PushApart) on the CPU.

use frolic_core::ApartSpec;
use frolic_core::backend::{APART_MOST_PUSH, DeviceCells};
use wgpu::{BindGroup, BindGroupLayout, BufferUsages, ComputePipeline, ShaderStages};

use crate::device::error::GpuError;
use crate::device::{DeviceCounters, Gpu, upload};
use crate::draw::keys::Bind;
use crate::draw::order::groups;
use crate::draw::pipelines::{compute, group, layout, set_dispatch, window};
use crate::neighbours::{DeviceGrid, GridPipelines, Sorted};
use crate::population::shard::Fields;
use crate::shaders as shader;
use crate::shared::apart::{ApartStep, BODY_ROWS, MEMORY_ROWS, SLEEPER_ROWS, cells_of};
use crate::shared::cells::CellGrid;
use crate::shared::step::{MOST_STEPS, STEP_WORDS};
use crate::shared::{Shared, SharedStruct};

/// Bytes of the uniform of a step, and words between two.
const APART_BYTES: u64 = ApartStep::WORDS as u64 * 4;
const APART_SLOT: u64 = (ApartStep::WORDS as u64).next_multiple_of(64);

/// Entries of the shader, with what each reads and writes.
const ENTRIES: [(&str, &[u32], &[u32]); 7] = [
    ("clear_slots", &[], &[32]),
    ("claim_slots", &[], &[1, 7, 32]),
    ("take", &[26], &[1, 6, 7, 28, 30, 31, 32]),
    ("wake", &[27], &[1, 28, 30]),
    ("push", &[27], &[1, 28, 29, 30]),
    ("slow", &[27], &[1, 28, 30]),
    ("give", &[27], &[1, 6, 7, 28, 30, 31]),
];

/// Places of entries in [`ENTRIES`].
const CLEAR: usize = 0;
const CLAIM: usize = 1;
const TAKE: usize = 2;
const WAKE: usize = 3;
const PUSH: usize = 4;
const SLOW: usize = 5;
const GIVE: usize = 6;

/// Bodies of a population: uniforms of its steps, counters, and places with motions, of each copy of the state.
#[derive(Debug, Clone, Copy)]
pub(crate) struct ApartBodies<'a> {
    pub(crate) steps: &'a wgpu::Buffer,
    pub(crate) counters: &'a wgpu::Buffer,
    pub(crate) copies: &'a [[&'a wgpu::Buffer; 2]],
    /// Word of the counters from which pairs and sleepers are counted.
    pub(crate) tally: u32,
}

/// Keeps the bodies of one population apart.
#[derive(Debug)]
pub(crate) struct GpuApart {
    spec: ApartSpec,
    /// Greatest radius, in metres, and axes along which bodies may be pushed.
    largest: f32,
    free: [f32; 3],
    count: u32,
    tally: u32,
    slots: u32,
    cells: DeviceCells,
    uniforms: wgpu::Buffer,
    grid: DeviceGrid,
    layouts: Vec<BindGroupLayout>,
    /// For each copy of the state, and for rows that begin in either buffer, the bind group of each entry.
    groups: Vec<[Vec<BindGroup>; 2]>,
    pipelines: Option<(Fields, Vec<ComputePipeline>)>,
    bytes: u64,
}

impl GpuApart {
    /// For `count` bodies of sizes up to `size`, in metres. `free` is 0 along an axis on which they are not pushed.
    ///
    /// # Errors
    /// When the device was lost.
    pub(crate) fn new(
        gpu: &Gpu,
        spec: &ApartSpec,
        size: f32,
        free: [f32; 3],
        count: u32,
        bodies: ApartBodies<'_>,
    ) -> Result<Self, GpuError> {
        let buffer = |label, bytes: u64| gpu.buffer(label, bytes, BufferUsages::STORAGE);
        let rows = |label, rows: u32| buffer(label, u64::from(count) * u64::from(rows) * 16);
        let slots = count.max(1).next_power_of_two();
        let bodies_of = [rows("bodies", BODY_ROWS), rows("bodies 2", BODY_ROWS)];
        let sleepers = rows("sleepers", SLEEPER_ROWS);
        let memory = buffer("memory", u64::from(slots) * u64::from(MEMORY_ROWS) * 16);
        let owners = buffer("owners", u64::from(slots) * 4);
        let none = buffer("none gone", u64::from(count) * 4);
        let uniforms = gpu.buffer(
            "apart",
            u64::from(MOST_STEPS) * APART_SLOT * 4,
            BufferUsages::UNIFORM | BufferUsages::COPY_DST,
        );
        let places: Vec<&wgpu::Buffer> = bodies.copies.iter().map(|[places, _]| *places).collect();
        let sorted = Sorted { uniforms: &uniforms, counters: bodies.counters, places: &places, gone: &none };
        let most_cells = [[1.0; 3], [1.0, 0.0, 1.0]].map(|free| cells_of(spec, 1.0, count, free).count());
        let most_cells = most_cells[0].max(most_cells[1]);
        let grid = DeviceGrid::new(gpu, &GridPipelines::new(gpu)?, count, most_cells, sorted);
        let layouts: Vec<_> = ENTRIES
            .iter()
            .map(|(label, reads, writes)| {
                let mut all =
                    vec![(0, Bind::Uniform(true, STEP_WORDS * 4)), (25, Bind::Uniform(true, APART_BYTES))];
                all.extend(reads.iter().map(|binding| (*binding, Bind::Read)));
                all.extend(writes.iter().map(|binding| (*binding, Bind::Write)));
                layout(gpu, label, ShaderStages::COMPUTE, &all)
            })
            .collect();
        let groups = bodies.copies.iter().map(|[places, motions]| {
            [0, 1].map(|first| {
                let buffer_of = |binding: u32| match binding {
                    1 => bodies.counters,
                    6 => *places,
                    7 => *motions,
                    26 => &grid.list,
                    27 => &grid.cells,
                    28 => &bodies_of[first],
                    29 => &bodies_of[1 - first],
                    30 => &sleepers,
                    31 => &memory,
                    _ => &owners,
                };
                let group_of = |(layout, (_, reads, writes)): (&BindGroupLayout, &(&str, &[u32], &[u32]))| {
                    let mut all =
                        vec![(0, window(bodies.steps, STEP_WORDS * 4)), (25, window(&uniforms, APART_BYTES))];
                    let bound = reads.iter().chain(*writes);
                    all.extend(bound.map(|binding| (*binding, buffer_of(*binding).as_entire_binding())));
                    group(gpu, layout, &all)
                };
                layouts.iter().zip(&ENTRIES).map(group_of).collect()
            })
        });
        let groups = groups.collect();
        let held = [&bodies_of[0], &bodies_of[1], &sleepers, &memory, &owners, &none, &uniforms];
        let bytes = held.map(wgpu::Buffer::size).iter().sum::<u64>() + grid.bytes();
        let mut made = Self {
            spec: *spec,
            largest: 0.0,
            free,
            count,
            tally: bodies.tally,
            slots,
            cells: cells_of(spec, 1.0, count, free),
            uniforms,
            grid,
            layouts,
            groups,
            pipelines: None,
            bytes,
        };
        made.retune(spec, size, free);
        Ok(made)
    }

    /// Takes over another spec from the next step on.
    pub(crate) fn retune(&mut self, spec: &ApartSpec, size: f32, free: [f32; 3]) {
        (self.spec, self.largest, self.free) = (*spec, size * spec.radius, free);
        self.cells = cells_of(spec, self.largest, self.count, free);
    }

    /// Builds pipelines for a world of these features, whose grids are bound as `grids`.
    ///
    /// # Errors
    /// When the device was lost.
    pub(crate) fn ready(
        &mut self,
        gpu: &Gpu,
        fields: Fields,
        grids: &BindGroupLayout,
    ) -> Result<(), GpuError> {
        if self.pipelines.as_ref().is_some_and(|(there, _)| *there == fields) {
            return Ok(());
        }
        let features = [("FEATURES", f64::from(fields.bits))];
        let all = ENTRIES.iter().zip(&self.layouts).map(|((entry, _, _), layout)| {
            compute(gpu, shader::APART, entry, &[Some(layout), Some(grids)], &features)
        });
        self.pipelines = Some((fields, all.collect::<Result<_, _>>()?));
        Ok(())
    }

    /// Uploads the uniform of a step of the submission. `live` is the word of the counters with the number of bodies.
    pub(crate) fn upload(&self, gpu: &Gpu, counters: &mut DeviceCounters, step: u32, dt: f32, live: u32) {
        let words = ApartStep {
            grid: CellGrid::new(self.cells, self.count, live),
            free: self.free,
            radius: self.spec.radius,
            dt,
            stiffness: self.spec.stiffness,
            rest: self.spec.rest,
            friction: self.spec.friction,
            mass_power: self.spec.mass_power,
            farthest: self.largest * APART_MOST_PUSH,
            slots: self.slots - 1,
            tally: self.tally,
        };
        upload(gpu, &self.uniforms, u64::from(step) * APART_SLOT, &words.words(), counters);
    }

    /// Encodes a step of the bodies of a copy of the state, which `live` dispatches over. `body_slot` is the offset of the population's uniform.
    #[expect(clippy::too_many_arguments, reason = "what a step binds")]
    pub(crate) fn encode(
        &self,
        pass: &mut wgpu::ComputePass<'_>,
        counters: &mut DeviceCounters,
        copy: usize,
        body_slot: u32,
        step: u32,
        live: &wgpu::Buffer,
        grids: &BindGroup,
    ) {
        let Some((_, pipelines)) = &self.pipelines else { return };
        let slot = step * APART_SLOT as u32 * 4;
        self.grid.encode(pass, &self.cells, slot, copy, live, counters);
        pass.set_bind_group(1, grids, &[]);
        counters.binds += 1;
        let mut first = 0;
        let mut run = |pass: &mut wgpu::ComputePass<'_>, entry: usize, first: usize| {
            let bound = &self.groups[copy][first][entry];
            set_dispatch(pass, counters, &pipelines[entry], bound, &[body_slot, slot]);
            if entry == CLEAR {
                let [across, down] = groups(self.slots);
                pass.dispatch_workgroups(across, down, 1);
            } else {
                pass.dispatch_workgroups_indirect(live, 0);
            }
        };
        for entry in [CLEAR, CLAIM, TAKE, WAKE] {
            run(pass, entry, first);
        }
        for _ in 0..self.spec.rounds {
            run(pass, PUSH, first);
            first = 1 - first;
        }
        for entry in [SLOW, GIVE] {
            run(pass, entry, first);
        }
    }

    /// Bytes held on the device.
    pub(crate) fn bytes(&self) -> u64 {
        self.bytes
    }
}
