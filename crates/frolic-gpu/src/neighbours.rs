//! Elements on the device sorted by cell: `shaders/grid.wgsl` and `sort.wgsl`. The order is fixed, so a run repeats.

use std::sync::Arc;

use frolic_core::backend::DeviceCells;
use wgpu::{BindGroupLayout, BufferUsages, ComputePipeline, ShaderStages};

use crate::device::error::GpuError;
use crate::device::{DeviceCounters, Gpu};
use crate::draw::keys::Bind;
use crate::draw::order::{digits_group, encode_sort, groups, shifts, sorting};
use crate::draw::pipelines::{compute, digits_layout, group, layout, window};
use crate::shaders as shader;
use crate::shared::Shared;
use crate::shared::cells::CellGrid;
use crate::shared::finish::{BINS, DIGIT, LIST_WORDS, SORT_TILE};

/// Bytes of a grid's uniform.
const GRID_BYTES: u64 = CellGrid::WORDS as u64 * 4;

/// What all grids of a device share.
#[derive(Debug, Clone)]
pub(crate) struct GridPipelines {
    layout: Arc<BindGroupLayout>,
    digits: Arc<BindGroupLayout>,
    /// Clear, list, note.
    steps: [ComputePipeline; 3],
    sort: [ComputePipeline; 3],
    shifts: wgpu::Buffer,
}

impl GridPipelines {
    /// # Errors
    /// When the device was lost.
    pub(crate) fn new(gpu: &Gpu) -> Result<Self, GpuError> {
        let mut binds = vec![(0, Bind::Uniform(true, GRID_BYTES))];
        binds.extend([1, 2, 3].map(|binding| (binding, Bind::Read)));
        binds.extend([4, 5, 6, 7].map(|binding| (binding, Bind::Write)));
        let layout = Arc::new(layout(gpu, "grid", ShaderStages::COMPUTE, &binds));
        let digits = Arc::new(digits_layout(gpu));
        let step = |entry| compute(gpu, shader::GRID, entry, &[Some(&*layout)], &[]);
        let steps = [step("clear_cells")?, step("list_elements")?, step("note_cells")?];
        let sort = sorting(gpu, &digits)?;
        let shifts = shifts(gpu, &mut DeviceCounters::default());
        Ok(Self { layout, digits, steps, sort, shifts })
    }
}

/// Elements that are sorted: the counters with their number, their places in each copy of the state, and which of them are gone.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Sorted<'a> {
    pub(crate) uniforms: &'a wgpu::Buffer,
    pub(crate) counters: &'a wgpu::Buffer,
    pub(crate) places: &'a [&'a wgpu::Buffer],
    pub(crate) gone: &'a wgpu::Buffer,
}

/// The cells of a population, and its elements in their order.
#[derive(Debug)]
pub(crate) struct DeviceGrid {
    pipelines: GridPipelines,
    /// Elements in the order of cells.
    pub(crate) list: wgpu::Buffer,
    /// First and end of each cell's elements.
    pub(crate) cells: wgpu::Buffer,
    /// The dispatch of a sort, and how many were sorted.
    pub(crate) calls: wgpu::Buffer,
    /// For each copy of the state.
    groups: Vec<wgpu::BindGroup>,
    digits: [wgpu::BindGroup; 2],
    bytes: u64,
}

impl DeviceGrid {
    /// Buffers for so many elements and cells.
    pub(crate) fn new(
        gpu: &Gpu,
        pipelines: &GridPipelines,
        capacity: u32,
        most_cells: u32,
        of: Sorted<'_>,
    ) -> Self {
        let each = u64::from(capacity.max(1)) * 4;
        let buffer = |label, bytes| gpu.buffer(label, bytes, BufferUsages::STORAGE);
        let [list, other, keys, other_keys] =
            ["list", "list 2", "keys", "keys 2"].map(|label| buffer(label, each));
        let cells = buffer("cells", u64::from(most_cells) * 8);
        let tiles = u64::from(capacity.div_ceil(SORT_TILE).max(1));
        let digit_counts = buffer("digits", tiles * u64::from(BINS) * 4);
        let usage = BufferUsages::STORAGE | BufferUsages::INDIRECT;
        let calls = gpu.buffer("calls", u64::from(LIST_WORDS) * 4, usage);
        let groups = of.places.iter().map(|places| {
            let mut all = vec![(0, window(of.uniforms, GRID_BYTES))];
            let buffers = [of.counters, *places, of.gone, &keys, &list, &cells, &calls];
            all.extend((1..).zip(buffers.map(wgpu::Buffer::as_entire_binding)));
            group(gpu, &pipelines.layout, &all)
        });
        let groups = groups.collect();
        let digits = |buffers| digits_group(gpu, &pipelines.digits, &pipelines.shifts, buffers);
        let digits = [
            digits([&calls, &digit_counts, &keys, &list, &other_keys, &other]),
            digits([&calls, &digit_counts, &other_keys, &other, &keys, &list]),
        ];
        let bytes = each * 4 + cells.size() + digit_counts.size();
        Self { pipelines: pipelines.clone(), list, cells, calls, groups, digits, bytes }
    }

    /// Encodes the sort of the elements that `live` dispatches over, in a copy of the state. `slot` is the offset of the uniform with these cells.
    pub(crate) fn encode(
        &self,
        pass: &mut wgpu::ComputePass<'_>,
        cells: &DeviceCells,
        slot: u32,
        copy: usize,
        live: &wgpu::Buffer,
        counters: &mut DeviceCounters,
    ) {
        let [clear, list, note] = &self.pipelines.steps;
        pass.set_bind_group(0, &self.groups[copy], &[slot]);
        pass.set_pipeline(clear);
        let [across, down] = groups(cells.count());
        pass.dispatch_workgroups(across, down, 1);
        pass.set_pipeline(list);
        pass.dispatch_workgroups_indirect(live, 0);
        // Those that are gone have the number of cells as their key.
        let digits = (u32::BITS - cells.count().leading_zeros()).div_ceil(DIGIT).next_multiple_of(2);
        encode_sort(pass, &self.pipelines.sort, &self.digits, &self.calls, digits, counters);
        pass.set_bind_group(0, &self.groups[copy], &[slot]);
        pass.set_pipeline(note);
        pass.dispatch_workgroups_indirect(live, 0);
        counters.dispatches += 3;
        counters.pipelines += 3;
        counters.binds += 2;
    }

    /// Bytes held on the device.
    pub(crate) fn bytes(&self) -> u64 {
        self.bytes
    }
}
