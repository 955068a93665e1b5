//! Culls and sorts instances on the device: see `shaders/cull.wgsl` and `shaders/sort.wgsl`.

use std::collections::HashMap;
use std::sync::Arc;

use wgpu::BufferUsages;

use crate::device::error::GpuError;
use crate::device::{DeviceCounters, Gpu, SLOT, upload};
use crate::draw::keys::Source;
use crate::draw::pipelines::{Pipelines, compute, group, window};
use crate::shaders as shader;
use crate::shared::Shared;
use crate::shared::finish::{BINS, DIGIT, LIST_SORT, LIST_WORDS, SORT_TILE, SortPass};
use crate::shared::step::{GROUP, MOST_GROUPS};

/// Only tests read lists back.
const READ_BACK: BufferUsages = if cfg!(test) { BufferUsages::COPY_SRC } else { BufferUsages::empty() };

/// Thread groups for a number of elements: across, then down.
pub(crate) fn groups(count: u32) -> [u32; 2] {
    let groups = count.div_ceil(GROUP);
    [groups.min(MOST_GROUPS), groups.div_ceil(MOST_GROUPS)]
}

/// A batch that the device culls and sorts.
pub(crate) struct Ordered<'a> {
    /// Dynamic offsets of the uniforms.
    pub(crate) frame: u32,
    pub(crate) draw: u32,
    pub(crate) look: &'a wgpu::BindGroup,
    pub(crate) elements: &'a wgpu::BindGroup,
    pub(crate) source: Source,
    /// Most elements. `dispatch` covers the live elements of a population on the device.
    pub(crate) most: u32,
    pub(crate) dispatch: Option<(&'a wgpu::Buffer, u64)>,
    /// Whether instances are sorted from far to near.
    pub(crate) sorted: bool,
}

/// Buffers for the list of one batch.
#[derive(Debug)]
pub(crate) struct List {
    most: u32,
    pub(crate) list: wgpu::Buffer,
    pub(crate) calls: wgpu::Buffer,
    blocks: wgpu::Buffer,
    keys: wgpu::Buffer,
    counts: wgpu::Buffer,
    /// Bind groups for filling the list, and for the prefix sums.
    groups: Option<[wgpu::BindGroup; 2]>,
    digits: [wgpu::BindGroup; 2],
    bytes: u64,
}

/// The uniforms of all passes of a sort, one for each digit.
pub(crate) fn shifts(gpu: &Gpu, counters: &mut DeviceCounters) -> wgpu::Buffer {
    let shifts = gpu.buffer("shifts", SLOT * 4 * 8, BufferUsages::UNIFORM | BufferUsages::COPY_DST);
    let mut words = vec![0; (SLOT * 8) as usize];
    for (words, pass) in words.chunks_exact_mut(SLOT as usize).zip(0..) {
        SortPass { shift: pass * DIGIT, spare: 0, spare_b: 0, spare_c: 0 }.put(words);
    }
    upload(gpu, &shifts, 0, &words, counters);
    shifts
}

/// The bind group of one direction of a sort: calls, counts of digits, keys and list, sorted keys and list.
pub(crate) fn digits_group(
    gpu: &Gpu,
    layout: &wgpu::BindGroupLayout,
    shifts: &wgpu::Buffer,
    buffers: [&wgpu::Buffer; 6],
) -> wgpu::BindGroup {
    let shift = (0, window(shifts, SortPass::WORDS as u64 * 4));
    let all: Vec<_> =
        std::iter::once(shift).chain((1..).zip(buffers.map(wgpu::Buffer::as_entire_binding))).collect();
    group(gpu, layout, &all)
}

/// The pipelines of a sort: count digits, add up, write.
pub(crate) fn sorting(
    gpu: &Gpu,
    digits: &wgpu::BindGroupLayout,
) -> Result<[wgpu::ComputePipeline; 3], GpuError> {
    let sort = |entry| compute(gpu, shader::SORT, entry, &[Some(digits)], &[]);
    Ok([sort("count_digits")?, sort("add_digits")?, sort("write_sorted")?])
}

/// Encodes a sort by so many digits; an even number ends in the keys that it began with.
pub(crate) fn encode_sort(
    pass: &mut wgpu::ComputePass<'_>,
    pipelines: &[wgpu::ComputePipeline; 3],
    groups: &[wgpu::BindGroup; 2],
    calls: &wgpu::Buffer,
    digits: u32,
    counters: &mut DeviceCounters,
) {
    let [count, add, sorted] = pipelines;
    for digit in 0..digits {
        let at = digit * SLOT as u32 * 4;
        pass.set_bind_group(0, &groups[(digit % 2) as usize], &[at]);
        pass.set_pipeline(count);
        pass.dispatch_workgroups_indirect(calls, u64::from(LIST_SORT) * 4);
        pass.set_pipeline(add);
        pass.dispatch_workgroups(1, 1, 1);
        pass.set_pipeline(sorted);
        pass.dispatch_workgroups_indirect(calls, u64::from(LIST_SORT) * 4);
        counters.dispatches += 3;
        counters.pipelines += 3;
        counters.binds += 1;
    }
}

/// Lists of the batches of a frame, kept from frame to frame.
#[derive(Debug)]
pub(crate) struct Lists {
    lists: Vec<List>,
    shifts: wgpu::Buffer,
    /// Placeholder for the counters of a population on the device.
    none: wgpu::Buffer,
    pub(crate) generation: u64,
}

impl Lists {
    pub(crate) fn new(gpu: &Gpu, counters: &mut DeviceCounters) -> Self {
        Self {
            lists: Vec::new(),
            shifts: shifts(gpu, counters),
            none: gpu.buffer("none", 256, BufferUsages::STORAGE),
            generation: 0,
        }
    }

    /// Ensures that the `nth` list holds `most` instances. `counts` are the counters of a population on the device.
    pub(crate) fn make(
        &mut self,
        gpu: &Gpu,
        pipelines: &Pipelines,
        nth: usize,
        most: u32,
        counts: Option<&wgpu::Buffer>,
    ) {
        let counts = counts.unwrap_or(&self.none);
        let fits = self.lists.get(nth).is_some_and(|list| list.most >= most);
        if !fits {
            let list = List::new(gpu, pipelines, most.next_power_of_two(), &self.shifts, counts);
            if nth < self.lists.len() {
                self.lists[nth] = list;
            } else {
                self.lists.push(list);
            }
            self.generation += 1;
        }
        let list = &mut self.lists[nth];
        // The list may have belonged to another population.
        if list.counts != *counts {
            list.counts = counts.clone();
            list.bind(gpu, pipelines);
        }
    }

    pub(crate) fn get(&self, nth: usize) -> Option<&List> {
        self.lists.get(nth)
    }

    pub(crate) fn bytes(&self) -> u64 {
        self.lists.iter().map(|list| list.bytes).sum()
    }
}

impl List {
    fn new(
        gpu: &Gpu,
        pipelines: &Pipelines,
        most: u32,
        shifts: &wgpu::Buffer,
        counts: &wgpu::Buffer,
    ) -> Self {
        let each = u64::from(most) * 4;
        let tiles = u64::from(most.div_ceil(SORT_TILE));
        let buffer = |label, bytes| gpu.buffer(label, bytes, BufferUsages::STORAGE | READ_BACK);
        let [list, other, keys, other_keys] =
            ["list", "list 2", "keys", "keys 2"].map(|label| buffer(label, each));
        let digit_counts = buffer("digits", tiles * u64::from(BINS) * 4);
        let blocks = buffer("blocks", u64::from(most.div_ceil(GROUP)) * 4);
        let calls = gpu.buffer(
            "calls",
            u64::from(LIST_WORDS) * 4,
            BufferUsages::STORAGE | BufferUsages::INDIRECT | READ_BACK,
        );
        let digits = |from: &wgpu::Buffer, list: &wgpu::Buffer, to: &wgpu::Buffer, to_list: &wgpu::Buffer| {
            let buffers = [&calls, &digit_counts, from, list, to, to_list];
            digits_group(gpu, &pipelines.layouts.digits, shifts, buffers)
        };
        let digits = [digits(&keys, &list, &other_keys, &other), digits(&other_keys, &other, &keys, &list)];
        let bytes = each * 4 + tiles * 64 + blocks.size() + 64;
        let counts = counts.clone();
        let mut made = Self { most, list, calls, blocks, keys, counts, groups: None, digits, bytes };
        made.bind(gpu, pipelines);
        made
    }

    fn bind(&mut self, gpu: &Gpu, pipelines: &Pipelines) {
        let Self { list, calls, blocks, keys, counts, .. } = self;
        let fill = group(
            gpu,
            &pipelines.layouts.list,
            &[
                (0, blocks.as_entire_binding()),
                (1, list.as_entire_binding()),
                (2, keys.as_entire_binding()),
                (3, counts.as_entire_binding()),
            ],
        );
        let sum = group(
            gpu,
            &pipelines.layouts.list_sum,
            &[
                (0, blocks.as_entire_binding()),
                (3, counts.as_entire_binding()),
                (4, calls.as_entire_binding()),
            ],
        );
        self.groups = Some([fill, sum]);
    }
}

/// Pipelines for culling and sorting.
#[derive(Debug)]
pub(crate) struct Ordering {
    /// Count, prefix sum and write, for each source of elements that was needed.
    cull: HashMap<Source, [wgpu::ComputePipeline; 3]>,
    sort: [wgpu::ComputePipeline; 3],
}

impl Ordering {
    pub(crate) fn new(pipelines: &Pipelines) -> Result<Self, GpuError> {
        let sort = sorting(&pipelines.gpu, &pipelines.layouts.digits)?;
        Ok(Self { cull: HashMap::new(), sort })
    }

    /// Ensures that elements of a source can be culled.
    pub(crate) fn need(&mut self, source: Source, pipelines: &Pipelines) -> Result<(), GpuError> {
        if self.cull.contains_key(&source) {
            return Ok(());
        }
        let layouts = Arc::clone(&pipelines.layouts);
        let (program, elements) = match source {
            Source::Packed => (shader::CULL, &layouts.packed_compute),
            Source::Device => (shader::CULL_ON_DEVICE, &layouts.device_compute),
            Source::Flock => (shader::CULL_OF_FLOCK, &layouts.device_compute),
            Source::Trail => (shader::CULL_TRAIL, &layouts.device_compute),
        };
        let fill = [Some(&layouts.frame), Some(&layouts.look_compute), Some(elements), Some(&layouts.list)];
        // All groups are set, though not all are used: software Vulkan would lose dynamic offsets.
        let sum =
            [Some(&layouts.frame), Some(&layouts.look_compute), Some(elements), Some(&layouts.list_sum)];
        let made = [
            compute(&pipelines.gpu, program, "mark", &fill, &[])?,
            compute(&pipelines.gpu, program, "add_up", &sum, &[])?,
            compute(&pipelines.gpu, program, "write_list", &fill, &[])?,
        ];
        self.cull.insert(source, made);
        Ok(())
    }

    /// Encodes the passes that make the list of a batch.
    pub(crate) fn encode(
        &self,
        pass: &mut wgpu::ComputePass<'_>,
        frame: &wgpu::BindGroup,
        list: &List,
        batch: &Ordered<'_>,
        counters: &mut DeviceCounters,
    ) {
        let (Some([fill, sum]), Some(cull)) = (&list.groups, self.cull.get(&batch.source)) else { return };
        let [mark, add_up, write] = cull;
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
        counters.dispatches += 3;
        counters.pipelines += 3;
        counters.binds += 6;
        if !batch.sorted {
            return;
        }
        encode_sort(pass, &self.sort, &list.digits, &list.calls, 32 / DIGIT, counters);
    }
}

#[cfg(test)]
mod tests {
    use frolic_draw::{BackdropSpec, CameraSpec, ImageSize, Instances, LookSpec, Technique, View};
    use frolic_list::{ListScratch, ListSpec, Surroundings};
    use proptest::prelude::*;

    use super::*;
    use crate::device::Recorder;
    use crate::draw::items::DrawItems;
    use crate::draw::keys::Pass;
    use crate::population::read::read_words;
    use crate::shared::finish::LIST_COUNT;
    use crate::shared::frame::{ENDLESS, FrameView};

    /// The list that the device makes of discs at these places, of these radii.
    fn listed(places: &[[f32; 3]], radii: &[f32], view: &View, sorted: bool) -> Vec<u32> {
        let gpu = Gpu::shared().unwrap();
        let mut recorder = Recorder::new(&gpu);
        let mut counters = DeviceCounters::default();
        let mut draws = DrawItems::new(&gpu, &mut counters);
        let columns = [0, 1, 2].map(|axis| places.iter().map(|place| place[axis]).collect::<Vec<f32>>());
        let mut look = LookSpec::default();
        look.blend = if sorted { frolic_draw::Blend::Alpha } else { frolic_draw::Blend::Additive };
        let look = look.build().unwrap();
        let instances = Instances::at([&columns[0], &columns[1], &columns[2]]).unwrap().sized(radii).unwrap();
        let (mut scratch, backdrop) = (ListScratch::default(), BackdropSpec::default());
        let around = Surroundings::new(&backdrop);
        let spec = ListSpec::new(Technique::Indirect);
        let list = scratch.list([(instances, &look)], &spec, view, &around, &mut frolic_core::Meter::new());
        draws.build(&list, &[], view, |_| Pass::Soft, &mut counters).unwrap();
        let lighting = list.lighting();
        let seen = FrameView {
            view,
            camera: view,
            z: ENDLESS,
            map: None,
            lighting: &lighting,
            time: 0.0,
            exposure: 1.0,
            most_slope: 0.0,
        };
        draws.set_frames(&[seen], &mut counters);
        let frames = draws.frames(None, None, None);
        let (encoder, counters) = recorder.parts();
        {
            let mut pass = encoder.begin_compute_pass(&Default::default());
            draws.order(&mut pass, &frames[2], &[], counters).unwrap();
        }
        recorder.submit();
        let Some(list) = draws.list(0) else { return Vec::new() };
        let count = read_words(&gpu, &list.calls, 64).unwrap()[LIST_COUNT as usize] as usize;
        if count == 0 { Vec::new() } else { read_words(&gpu, &list.list, count as u64 * 4).unwrap() }
    }

    fn view() -> View {
        CameraSpec::new([0.0, 0.5, 6.0], [0.0; 3], 40.0).view(ImageSize::new(320, 200).unwrap()).unwrap()
    }

    fn near_or_equal() -> impl Strategy<Value = [f32; 3]> {
        let depth = prop_oneof![-9f32..5.5, Just(1.0f32), Just(-2.5f32)];
        (-1f32..1.0, -0.6f32..0.6, depth).prop_map(|(x, y, z)| [x, y, z])
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(12))]

        /// The order is that of a stable sort on the CPU: farthest first, equal depths in their own order, no element twice.
        #[test]
        fn the_order_is_that_of_a_stable_sort(
            places in prop::collection::vec(near_or_equal(), 0..9_000), sorted in any::<bool>(),
        ) {
            let view = view();
            let radii = vec![0.05; places.len()];
            let list = listed(&places, &radii, &view, sorted);
            let depth = |nth: u32| view.project(places[nth as usize]).map_or(0.0, |seen| seen[2]);
            let mut want = list.clone();
            want.sort_unstable();
            prop_assert!(want.windows(2).all(|pair| pair[0] < pair[1]), "somebody is there twice");
            if sorted {
                // The device may round a depth by a bit, and so swap neighbours that are closer than that.
                for pair in list.windows(2) {
                    let (a, b) = (depth(pair[0]), depth(pair[1]));
                    prop_assert!(a >= b - a.abs() * 1e-6, "{} before {}", a, b);
                    prop_assert!(places[pair[0] as usize] != places[pair[1] as usize] || pair[0] < pair[1]);
                }
            } else {
                prop_assert_eq!(&list, &want);
            }
        }

        /// Every element that touches the picture is on the list, and none far from it.
        #[test]
        fn all_elements_in_view_are_kept(
            places in prop::collection::vec(prop::array::uniform3(-9f32..9.0), 1..600), radius in 0.01f32..2.0,
        ) {
            let view = view();
            let radii = vec![radius; places.len()];
            let list = listed(&places, &radii, &view, false);
            for (nth, &[x, y, z]) in places.iter().enumerate() {
                let is_listed = list.binary_search(&(nth as u32)).is_ok();
                let bounds = |margin: f32| frolic_draw::Bounds {
                    low: [x - margin, y - margin, z - margin],
                    high: [x + margin, y + margin, z + margin],
                };
                // Part of the element is on a pixel.
                let on_picture = view.project([x, y, z]).is_some_and(|[px, py, depth]| {
                    let reach = radius * view.parts().focal / depth;
                    px > -reach * 0.7 && px < 320.0 + reach * 0.7 && py > -reach * 0.7 && py < 200.0 + reach * 0.7
                });
                prop_assert!(is_listed || !on_picture, "{:?} is left out", places[nth]);
                prop_assert!(!is_listed || view.sees(&bounds(radius * 2.0 + 0.3)), "{:?} is far from the picture", places[nth]);
            }
        }
    }
}
