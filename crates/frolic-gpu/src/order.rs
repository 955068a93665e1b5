//! Which instances of a batch are seen, and in which order, found out on the device: see `shaders/cull.wgsl` and `shaders/sort.wgsl`.

use std::sync::Arc;

use wgpu::BufferUsages;

use crate::device::{Gpu, SLOT, Tally, upload};
use crate::error::GpuError;
use crate::pipelines::{Pipelines, group, window};
use crate::shader::{self, SORT_TILE};

/// Elements of a thread group.
pub(crate) const GROUP: u32 = 256;

/// Bits of a key that one pass sorts by.
const DIGIT: u32 = 4;

/// Thread groups for so many elements: across, then down.
pub(crate) fn groups(count: u32) -> [u32; 2] {
    let groups = count.div_ceil(GROUP);
    [groups.min(32_768), groups.div_ceil(32_768)]
}

/// A batch whose instances the device chooses.
pub(crate) struct Ordered<'a> {
    /// Offsets of the uniforms.
    pub(crate) frame: u32,
    pub(crate) draw: u32,
    pub(crate) look: &'a wgpu::BindGroup,
    pub(crate) elements: &'a wgpu::BindGroup,
    pub(crate) resident: bool,
    /// Most elements there can be; and, where only the device knows how many, the dispatch over them.
    pub(crate) most: u32,
    pub(crate) dispatch: Option<(&'a wgpu::Buffer, u64)>,
    /// Whether far to near.
    pub(crate) sorted: bool,
}

/// Buffers of one batch's list.
#[derive(Debug)]
pub(crate) struct List {
    most: u32,
    pub(crate) list: wgpu::Buffer,
    pub(crate) calls: wgpu::Buffer,
    blocks: wgpu::Buffer,
    keys: wgpu::Buffer,
    book: wgpu::Buffer,
    /// Of filling it, and of adding up.
    groups: Option<[wgpu::BindGroup; 2]>,
    digits: [wgpu::BindGroup; 2],
    bytes: u64,
}

/// Lists of a frame's batches, kept from frame to frame.
#[derive(Debug)]
pub(crate) struct Lists {
    lists: Vec<List>,
    shifts: wgpu::Buffer,
    /// Stands in where a book of the device's is not needed.
    none: wgpu::Buffer,
    pub(crate) generation: u64,
}

impl Lists {
    pub(crate) fn new(gpu: &Gpu, tally: &mut Tally) -> Self {
        let shifts = gpu.buffer("shifts", SLOT * 4 * 8, BufferUsages::UNIFORM | BufferUsages::COPY_DST);
        let mut words = vec![0; (SLOT * 8) as usize];
        for pass in 0..8 {
            words[pass * SLOT as usize] = pass as u32 * DIGIT;
        }
        upload(gpu, &shifts, 0, &words, tally);
        Self {
            lists: Vec::new(),
            shifts,
            none: gpu.buffer("none", 256, BufferUsages::STORAGE),
            generation: 0,
        }
    }

    /// Sees to it that the `nth` list holds `most` instances; `book` says how many there are, where only the device knows.
    pub(crate) fn make(
        &mut self,
        gpu: &Gpu,
        pipelines: &Pipelines,
        nth: usize,
        most: u32,
        book: Option<&wgpu::Buffer>,
    ) -> &List {
        let book = book.unwrap_or(&self.none);
        let fits = self.lists.get(nth).is_some_and(|list| list.most >= most);
        if !fits {
            let list = List::new(gpu, pipelines, most.next_power_of_two(), &self.shifts, book);
            if nth < self.lists.len() {
                self.lists[nth] = list;
            } else {
                self.lists.push(list);
            }
            self.generation += 1;
        }
        let list = &mut self.lists[nth];
        // Another population may have been in this place.
        if list.book != *book {
            list.book = book.clone();
            list.bind(gpu, pipelines);
        }
        list
    }

    pub(crate) fn get(&self, nth: usize) -> Option<&List> {
        self.lists.get(nth)
    }

    pub(crate) fn bytes(&self) -> u64 {
        self.lists.iter().map(|list| list.bytes).sum()
    }
}

impl List {
    fn new(gpu: &Gpu, pipelines: &Pipelines, most: u32, shifts: &wgpu::Buffer, book: &wgpu::Buffer) -> Self {
        let each = u64::from(most) * 4;
        let tiles = u64::from(most.div_ceil(SORT_TILE));
        let buffer = |label, bytes| gpu.buffer(label, bytes, BufferUsages::STORAGE);
        let [list, other, keys, other_keys] =
            ["list", "list 2", "keys", "keys 2"].map(|label| buffer(label, each));
        let counts = buffer("digits", tiles * 16 * 4);
        let blocks = buffer("blocks", u64::from(most.div_ceil(GROUP)) * 4);
        let calls = gpu.buffer("calls", 64, BufferUsages::STORAGE | BufferUsages::INDIRECT);
        let digits = |from: &wgpu::Buffer, list: &wgpu::Buffer, to: &wgpu::Buffer, to_list: &wgpu::Buffer| {
            group(
                gpu,
                &pipelines.layouts.digits,
                &[
                    (0, window(shifts, 16)),
                    (1, calls.as_entire_binding()),
                    (2, counts.as_entire_binding()),
                    (3, from.as_entire_binding()),
                    (4, list.as_entire_binding()),
                    (5, to.as_entire_binding()),
                    (6, to_list.as_entire_binding()),
                ],
            )
        };
        let digits = [digits(&keys, &list, &other_keys, &other), digits(&other_keys, &other, &keys, &list)];
        let bytes = each * 4 + tiles * 64 + blocks.size() + 64;
        let book = book.clone();
        let mut made = Self { most, list, calls, blocks, keys, book, groups: None, digits, bytes };
        made.bind(gpu, pipelines);
        made
    }

    fn bind(&mut self, gpu: &Gpu, pipelines: &Pipelines) {
        let Self { list, calls, blocks, keys, book, .. } = self;
        let fill = group(
            gpu,
            &pipelines.layouts.list,
            &[
                (0, blocks.as_entire_binding()),
                (1, list.as_entire_binding()),
                (2, keys.as_entire_binding()),
                (3, book.as_entire_binding()),
            ],
        );
        let sum = group(
            gpu,
            &pipelines.layouts.list_sum,
            &[(0, blocks.as_entire_binding()), (3, book.as_entire_binding()), (4, calls.as_entire_binding())],
        );
        self.groups = Some([fill, sum]);
    }
}

/// The pipelines of culling and sorting.
#[derive(Debug)]
pub(crate) struct Ordering {
    /// Count, add up, write: of packed elements, then of resident ones.
    cull: [[wgpu::ComputePipeline; 3]; 2],
    sort: [wgpu::ComputePipeline; 3],
}

impl Ordering {
    pub(crate) fn new(pipelines: &mut Pipelines) -> Result<Self, GpuError> {
        let layouts = Arc::clone(&pipelines.layouts);
        let mut cull = |program, elements: &wgpu::BindGroupLayout| -> Result<_, GpuError> {
            let fill =
                [Some(&layouts.frame), Some(&layouts.look_compute), Some(elements), Some(&layouts.list)];
            // No group is left out, though not all are used: software Vulkan then loses offsets.
            let sum =
                [Some(&layouts.frame), Some(&layouts.look_compute), Some(elements), Some(&layouts.list_sum)];
            Ok([
                pipelines.compute(program, "mark", &fill, &[])?,
                pipelines.compute(program, "add_up", &sum, &[])?,
                pipelines.compute(program, "write_list", &fill, &[])?,
            ])
        };
        let cull = [
            cull(shader::CULL, &layouts.packed_compute)?,
            cull(shader::CULL_RESIDENT, &layouts.resident_compute)?,
        ];
        let digits = [Some(&layouts.digits)];
        let mut sort = |entry| pipelines.compute(shader::SORT, entry, &digits, &[]);
        Ok(Self { cull, sort: [sort("count_digits")?, sort("add_digits")?, sort("write_sorted")?] })
    }

    /// Writes down what makes a batch's list.
    pub(crate) fn encode(
        &self,
        pass: &mut wgpu::ComputePass<'_>,
        frame: &wgpu::BindGroup,
        list: &List,
        batch: &Ordered<'_>,
        tally: &mut Tally,
    ) {
        let Some([fill, sum]) = &list.groups else { return };
        let [mark, add_up, write] = &self.cull[usize::from(batch.resident)];
        let over_all = |pass: &mut wgpu::ComputePass<'_>| match batch.dispatch {
            Some((buffer, offset)) => pass.dispatch_workgroups_indirect(buffer, offset),
            None => {
                let [across, down] = groups(batch.most);
                pass.dispatch_workgroups(across, down, 1);
            }
        };
        pass.set_bind_group(0, frame, &[batch.frame]);
        pass.set_bind_group(1, batch.look, &[batch.draw]);
        pass.set_bind_group(2, batch.elements, &[]);
        pass.set_pipeline(mark);
        pass.set_bind_group(3, fill, &[]);
        over_all(pass);
        pass.set_pipeline(add_up);
        pass.set_bind_group(3, sum, &[]);
        pass.dispatch_workgroups(1, 1, 1);
        pass.set_pipeline(write);
        pass.set_bind_group(3, fill, &[]);
        over_all(pass);
        tally.dispatches += 3;
        tally.pipelines += 3;
        tally.binds += 6;
        if !batch.sorted {
            return;
        }
        let [count, add, sorted] = &self.sort;
        for digit in 0..32 / DIGIT {
            let at = digit * SLOT as u32 * 4;
            pass.set_bind_group(0, &list.digits[(digit % 2) as usize], &[at]);
            pass.set_pipeline(count);
            pass.dispatch_workgroups_indirect(&list.calls, 16);
            pass.set_pipeline(add);
            pass.dispatch_workgroups(1, 1, 1);
            pass.set_pipeline(sorted);
            pass.dispatch_workgroups_indirect(&list.calls, 16);
            tally.dispatches += 3;
            tally.pipelines += 3;
            tally.binds += 1;
        }
    }
}
