//! Turns the batches of a draw list into draw items: packed, uploaded and bound, one draw call each.

use std::collections::HashMap;
use std::sync::Arc;

use frolic_draw::backend::{Form, stride};
use frolic_draw::{Batch, DrawList, Fill, Look, Technique, Vertex, View};
use rayon::prelude::*;
use wgpu::{BindingResource, BufferUsages, TextureUsages};

use crate::device::error::GpuError;
use crate::device::{DeviceCounters, Gpu, SLOT, upload};
use crate::draw::keys::{Pass, PipelineKey, Source};
use crate::draw::looks::{Looks, Slot};
use crate::draw::order::{Lists, Ordered, Ordering};
use crate::draw::pipelines::{DEPTH, NEAREST, Pipelines, group, window};
use crate::draw::population::{DeviceElements, DevicePopulation};
use crate::draw::records::{self, Pages};
use crate::draw::targets::{Target, target};
use crate::shared::SharedStruct;
use crate::shared::frame::{FRAME_BYTES, FrameView};
use crate::shared::look::{DRAW_BYTES, Lit, MERGED};
use crate::shared::step::CORNERS;

/// Words between two frame uniforms, of the camera and of the sun.
pub(crate) const FRAME_SLOT: u64 = FRAME_BYTES.next_multiple_of(256) / 4;

/// Buffers of an item's elements.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum Elements {
    /// Pages of records and of merged vertices.
    Packed { records: usize, merged: Option<usize>, list: Option<usize> },
    /// A shard by its key, and the copy of its columns.
    Device { key: u64, copy: usize, list: Option<usize> },
}

impl Elements {
    pub(crate) fn list(&self) -> Option<usize> {
        match self {
            Self::Packed { list, .. } | Self::Device { list, .. } => *list,
        }
    }
}

/// The draw call of an item.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Call {
    /// Range of vertices, and range of instances.
    Draw([u32; 2], [u32; 2]),
    /// Indirect, by a list.
    Listed(usize),
    /// Indirect, all live elements of a shard.
    Device(u64),
}

/// One draw call.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Item {
    pub(crate) key: PipelineKey,
    /// Dynamic offset of its uniform.
    pub(crate) slot: u32,
    /// Address of its atlas, and page.
    pub(crate) atlas: usize,
    pub(crate) page: usize,
    pub(crate) elements: Elements,
    pub(crate) call: Call,
    /// Its draw call for the shadow map. Shapes that face the viewpoint are not merged there.
    cast: (u32, Call),
}

impl Item {
    /// The item in the shadow map.
    pub(crate) fn casting(self) -> Self {
        let (slot, call) = self.cast;
        let flags = self.key.flags & !MERGED;
        Self { key: PipelineKey { pass: Pass::Shadow, flags, ..self.key }, slot, call, ..self }
    }
}

/// A list that the device makes.
#[derive(Debug, Clone, Copy)]
struct Listing {
    item: usize,
    most: u32,
    sorted: bool,
}

/// Bind groups, created when first needed and kept while their buffers exist.
#[derive(Debug, Default)]
struct Bound {
    looks: HashMap<(usize, usize), wgpu::BindGroup>,
    look_compute: Option<wgpu::BindGroup>,
    elements: HashMap<Elements, wgpu::BindGroup>,
    elements_compute: HashMap<Elements, wgpu::BindGroup>,
    /// For the camera before and after solid surfaces, and for the sun.
    frames: Option<[wgpu::BindGroup; 3]>,
    /// Generations of the buffers they were created from.
    of: [u64; 4],
}

/// Draw items with their bind groups, shared by the renderer and external passes.
#[derive(Debug)]
pub(crate) struct DrawItems {
    pub(crate) gpu: Gpu,
    pub(crate) pipelines: Pipelines,
    ordering: Option<Ordering>,
    pub(crate) looks: Looks,
    records: Pages,
    merged: Pages,
    lists: Lists,
    frames: wgpu::Buffer,
    draws: wgpu::Buffer,
    draws_generation: u64,
    draw_words: Vec<u32>,
    no_elements: wgpu::Buffer,
    no_shadow: Target,
    no_depth: Target,
    pub(crate) items: Vec<Item>,
    listings: Vec<Listing>,
    /// Key of the previous item's look.
    same_look: Option<u64>,
    bound: Bound,
}

impl DrawItems {
    pub(crate) fn new(gpu: &Gpu, counters: &mut DeviceCounters) -> Self {
        let uniform = BufferUsages::UNIFORM | BufferUsages::COPY_DST;
        let drawn = TextureUsages::RENDER_ATTACHMENT | TextureUsages::TEXTURE_BINDING;
        Self {
            gpu: gpu.clone(),
            pipelines: Pipelines::new(gpu),
            ordering: None,
            looks: Looks::new(gpu),
            records: Pages::new("records"),
            merged: Pages::new("merged vertices"),
            lists: Lists::new(gpu, counters),
            frames: gpu.buffer("frames", FRAME_SLOT * 8, uniform),
            draws: gpu.buffer("draws", SLOT * 4 * 64, uniform),
            draws_generation: 0,
            draw_words: Vec::new(),
            no_elements: gpu.buffer("none", 256, BufferUsages::STORAGE),
            no_shadow: target(gpu, "no shadow", [1, 1], DEPTH, 1, drawn),
            no_depth: target(gpu, "no depth", [1, 1], NEAREST, 1, drawn),
            items: Vec::new(),
            listings: Vec::new(),
            same_look: None,
            bound: Bound::default(),
        }
    }

    /// Builds items from the batches of a list and uploads them. `kind` chooses the pass of a look.
    pub(crate) fn build(
        &mut self,
        list: &DrawList<'_>,
        populations: &[&dyn DevicePopulation],
        view: &View,
        kind: impl Fn(&Look) -> Pass,
        counters: &mut DeviceCounters,
    ) -> Result<(), GpuError> {
        self.items.clear();
        self.listings.clear();
        self.draw_words.clear();
        self.records.clear();
        self.merged.clear();
        self.same_look = None;
        self.looks.tidy();
        let shadows = list.lighting().shadows();
        for batch in list.batches() {
            let Some((instances, look)) = list.runs(batch).first().and_then(|run| list.source(run.source))
            else {
                continue;
            };
            self.looks.meet(&self.gpu, look, counters)?;
            let pass = kind(look);
            match instances.device_key() {
                Some(resident) => {
                    let shard = find(populations, resident.key)?;
                    if shard.trail.is_some() && look.taper().is_none() {
                        return Err(GpuError::Unsupported("trails are drawn as ribbons alone".to_owned()));
                    }
                    self.on_device(list, batch, look, resident.key, shard, instances.lag(), pass, shadows);
                }
                None => self.packed(list, batch, look, view, pass, shadows),
            }
        }
        self.looks.flush(&self.gpu, counters)?;
        self.records.flush(&self.gpu, counters);
        self.merged.flush(&self.gpu, counters);
        let bytes = self.draw_words.len() as u64 * 4;
        if bytes > self.draws.size() {
            let uniform = BufferUsages::UNIFORM | BufferUsages::COPY_DST;
            self.draws = self.gpu.buffer("draws", bytes.next_power_of_two(), uniform);
            self.draws_generation += 1;
        }
        upload(&self.gpu, &self.draws, 0, &self.draw_words, counters);
        for nth in 0..self.items.len() {
            // Neighbouring items mostly share a pipeline.
            if nth == 0 || self.items[nth].key != self.items[nth - 1].key {
                self.pipelines.make(self.items[nth].key)?;
            }
        }
        if !self.listings.is_empty() && self.ordering.is_none() {
            self.ordering = Some(Ordering::new(&self.pipelines)?);
        }
        for (nth, listing) in self.listings.iter().enumerate() {
            if let Some(ordering) = &mut self.ordering {
                ordering.need(self.items[listing.item].key.source, &self.pipelines)?;
            }
            let counts = match self.items[listing.item].elements {
                Elements::Device { key, .. } => Some(find(populations, key)?.counters),
                Elements::Packed { .. } => None,
            };
            self.lists.make(&self.gpu, &self.pipelines, nth, listing.most, counts);
        }
        self.bind(populations)
    }

    fn slot(&mut self, look: &Look, slot: &Slot) -> u32 {
        let at = self.draw_words.len() as u32 * 4;
        self.looks.draw(look, slot).append(&mut self.draw_words);
        // Dynamic offsets of uniforms are multiples of a slot.
        self.draw_words.resize(self.draw_words.len().next_multiple_of(SLOT as usize), 0);
        at
    }

    /// Atlas and page of a batch.
    fn page(&self, list: &DrawList<'_>, batch: &Batch, look: &Look) -> (usize, usize) {
        let parts = look.parts();
        let on = self.looks.atlas(look);
        let page = match parts.form {
            Form::Billboard { sheet, .. } | Form::Mesh { texture: Some(sheet), .. } => {
                on.map_or(0, |on| on.page_of(sheet.frame(0)))
            }
            Form::Sprite { .. } => {
                let mut fills = list.entries(batch).filter_map(|entry| {
                    let (instances, _) = list.source(entry.source)?;
                    match instances.as_sprites().get(entry.element as usize)?.fill {
                        Fill::Picture(region) => on.map(|on| on.page_of(region)),
                        Fill::Tiles(map) => on.and_then(|on| on.map(map.number())).map(|(_, page)| page),
                        _ => None,
                    }
                });
                fills.next().unwrap_or(0)
            }
            _ => 0,
        };
        (Arc::as_ptr(parts.atlas) as usize, page)
    }

    #[expect(clippy::too_many_arguments, reason = "inputs of one pass")]
    fn on_device(
        &mut self,
        list: &DrawList<'_>,
        batch: &Batch,
        look: &Look,
        key: u64,
        shard: DeviceElements<'_>,
        lag: f32,
        pass: Pass,
        shadows: bool,
    ) {
        let [span, _] = self.looks.span(look);
        // The step counts rectangles, and all of them.
        let all = span == CORNERS && shard.trail.is_none();
        let listed = batch.far_to_near || list.technique() == Technique::Indirect || !all;
        let nth = listed.then_some(self.listings.len());
        let (atlas, page) = self.page(list, batch, look);
        let mut slot = Slot { lag, listed, count: shard.live, span, shadows, ..Slot::default() };
        let mut source = Source::Device;
        if let Some(step) = shard.heading_step {
            source = Source::Flock;
            slot.per_step = if step > 0.0 { 1.0 / step } else { 0.0 };
            // One that has not taken a step yet is where it starts.
            slot.lag = lag.min(step);
        }
        if let Some(trail) = shard.trail {
            source = Source::Trail;
            (slot.stride, slot.newest) = (trail.places() as u32, trail.newest() as u32);
            // The last segment shortens until the next position is recorded, so that the end does not jump.
            slot.trail_end = 1.0 - trail.share();
        }
        let at = self.slot(look, &slot);
        if nth.is_some() {
            let item = self.items.len();
            self.listings.push(Listing { item, most: shard.most, sorted: batch.far_to_near });
        }
        let call = nth.map_or(Call::Device(key), Call::Listed);
        self.items.push(Item {
            key: PipelineKey::new(look, source, pass, &slot),
            slot: at,
            atlas,
            page,
            elements: Elements::Device { key, copy: shard.copy, list: nth },
            call,
            cast: (at, call),
        });
    }

    fn packed(
        &mut self,
        list: &DrawList<'_>,
        batch: &Batch,
        look: &Look,
        view: &View,
        pass: Pass,
        shadows: bool,
    ) {
        let words = records::words(list, batch, look);
        let merged = list.technique() == Technique::Batched;
        let listed = !merged && (batch.far_to_near || list.technique() == Technique::Indirect);
        // Sprites neither move nor are sorted one by one.
        let listed = listed && !look.is_sprites();
        let each = if merged { stride(look) } else { 0 };
        let [span, corners] = self.looks.span(look);
        let (atlas, page) = self.page(list, batch, look);
        let most = Pages::most(&self.gpu, words).min(Pages::most(&self.gpu, each * Lit::WORDS));
        let (mut skip, total) = (0, batch.count as usize);
        while skip < total {
            let count = (total - skip).min(most);
            let (at, first_word) = self.records.take(&self.gpu, count, words);
            let on = self.looks.atlas(look);
            let into = self.records.words(at, first_word, count * words);
            records::pack(list, batch, skip, view, on, words, into);
            let first = (first_word / words) as u32;
            let mut slot = Slot {
                stride: words as u32 / 4,
                listed,
                count: count as u32,
                span,
                shadows,
                ..Slot::default()
            };
            let mut merged_page = None;
            if merged {
                let run = list.runs(batch).first().map_or(0, |run| run.vertices as usize);
                let from = run + skip * each;
                let (page, word) = self.merged.take(&self.gpu, count * each, Lit::WORDS);
                let into = self.merged.words(page, word, count * each * Lit::WORDS);
                store(&list.vertices()[from..from + count * each], into);
                merged_page = Some(page);
                (slot.corners, slot.merged_at) = (corners, word as u32);
                (slot.first, slot.each) = (first, each as u32);
            }
            let nth = listed.then_some(self.listings.len());
            if listed {
                slot.first = first;
                let item = self.items.len();
                self.listings.push(Listing { item, most: count as u32, sorted: batch.far_to_near });
            }
            let elements = Elements::Packed { records: at, merged: merged_page, list: nth };
            let key = PipelineKey::new(look, Source::Packed, pass, &slot);
            let call = match nth {
                Some(nth) => Call::Listed(nth),
                None if merged => Call::Draw([first * corners, (first + count as u32) * corners], [0, 1]),
                None => Call::Draw([0, span], [first, first + count as u32]),
            };
            // An item like the previous one, as with one call for each element, shares its uniform.
            let like = self.items.last().filter(|last| {
                !listed && !merged && last.key == key && last.elements == elements && last.page == page
            });
            let at = match like {
                Some(last) if self.same_look == Some(look.parts().key) => last.slot,
                _ => self.slot(look, &slot),
            };
            let cast = if merged && shadows && look.is_solid() {
                let alone = Slot { corners: 0, ..slot };
                (self.slot(look, &alone), Call::Draw([0, span], [first, first + count as u32]))
            } else {
                (at, call)
            };
            self.same_look = Some(look.parts().key);
            self.items.push(Item { key, slot: at, atlas, page, elements, call, cast });
            skip += count;
        }
    }

    /// Creates missing bind groups, and drops those of replaced buffers.
    fn bind(&mut self, populations: &[&dyn DevicePopulation]) -> Result<(), GpuError> {
        let Self { gpu, pipelines, looks, records, merged, lists, draws, bound, items, .. } = self;
        let layouts = &pipelines.layouts;
        let of = [
            looks.generation,
            records.generation + merged.generation,
            lists.generation,
            self.draws_generation,
        ];
        if of[0] != bound.of[0] || of[3] != bound.of[3] {
            bound.looks.clear();
            bound.look_compute = None;
        }
        if of[1] != bound.of[1] || of[2] != bound.of[2] {
            bound.elements.clear();
            bound.elements_compute.clear();
        }
        bound.of = of;
        // Drops bind groups of populations that are gone.
        if bound.elements.len() > 1024 {
            bound.elements.clear();
            bound.elements_compute.clear();
        }
        bound.look_compute.get_or_insert_with(|| {
            let tables = looks.tables.as_entire_binding();
            group(gpu, &layouts.look_compute, &[(0, window(draws, DRAW_BYTES)), (1, tables)])
        });
        for item in items.iter() {
            let Some(atlas) = looks.atlas_at(item.atlas) else { continue };
            bound.looks.entry((item.atlas, item.page)).or_insert_with(|| {
                let page = &atlas.pages[item.page.min(atlas.pages.len() - 1)];
                group(
                    gpu,
                    &layouts.look,
                    &[
                        (0, window(draws, DRAW_BYTES)),
                        (1, looks.tables.as_entire_binding()),
                        (2, atlas.regions.as_entire_binding()),
                        (3, BindingResource::TextureView(page)),
                    ],
                )
            });
            if bound.elements.contains_key(&item.elements) {
                continue;
            }
            let none = self.no_elements.as_entire_binding();
            let list = item.elements.list().and_then(|nth| lists.get(nth));
            let list_binding = list.map_or(none.clone(), |list| list.list.as_entire_binding());
            match item.elements {
                Elements::Packed { records: page, merged: merged_page, list } => {
                    let Some(page) = records.buffer(page) else { continue };
                    let merged = merged_page.and_then(|page| merged.buffer(page));
                    let merged = merged.map_or(none, |page| page.as_entire_binding());
                    let page = page.as_entire_binding();
                    let drawn =
                        group(gpu, &layouts.packed, &[(0, merged), (1, list_binding), (2, page.clone())]);
                    bound.elements.insert(item.elements, drawn);
                    if list.is_some() {
                        let compute = group(gpu, &layouts.packed_compute, &[(2, page)]);
                        bound.elements_compute.insert(item.elements, compute);
                    }
                }
                Elements::Device { key, list, .. } => {
                    let shard = find(populations, key)?;
                    let columns: [(u32, BindingResource<'_>); 3] =
                        std::array::from_fn(|k| (2 + k as u32, shard.columns[k].as_entire_binding()));
                    let mut all = vec![(0, none), (1, list_binding)];
                    all.extend_from_slice(&columns);
                    bound.elements.insert(item.elements, group(gpu, &layouts.device, &all));
                    if list.is_some() {
                        let compute = group(gpu, &layouts.device_compute, &columns);
                        bound.elements_compute.insert(item.elements, compute);
                    }
                }
            }
        }
        Ok(())
    }

    /// Uploads the frame uniforms of the camera and of the sun.
    pub(crate) fn set_frames(&self, seen: &[FrameView<'_>], counters: &mut DeviceCounters) {
        for (nth, seen) in seen.iter().enumerate() {
            upload(&self.gpu, &self.frames, nth as u64 * FRAME_SLOT, &seen.frame().words(), counters);
        }
    }

    /// The bind groups of the frame: before solid surfaces, after them, and for the sun. `shadow` and the depths are sampled by shaders.
    pub(crate) fn frames(
        &mut self,
        shadow: Option<&wgpu::TextureView>,
        backdrop: Option<&wgpu::TextureView>,
        nearest: Option<&wgpu::TextureView>,
    ) -> [wgpu::BindGroup; 3] {
        let Self { gpu, pipelines, frames, no_shadow, no_depth, bound, .. } = self;
        let made = bound.frames.get_or_insert_with(|| {
            let of = |shadow, depth| {
                group(
                    gpu,
                    &pipelines.layouts.frame,
                    &[
                        (0, window(frames, FRAME_BYTES)),
                        (1, BindingResource::TextureView(shadow)),
                        (2, BindingResource::TextureView(depth)),
                    ],
                )
            };
            let shadow = shadow.unwrap_or(&no_shadow.view);
            let backdrop = backdrop.unwrap_or(&no_depth.view);
            [
                of(shadow, backdrop),
                of(shadow, nearest.unwrap_or(backdrop)),
                of(&no_shadow.view, &no_depth.view),
            ]
        });
        made.clone()
    }

    /// Call it when a sampled texture was replaced.
    pub(crate) fn targets_changed(&mut self) {
        self.bound.frames = None;
    }

    /// Encodes culling and sorting.
    pub(crate) fn order(
        &self,
        pass: &mut wgpu::ComputePass<'_>,
        frame: &wgpu::BindGroup,
        populations: &[&dyn DevicePopulation],
        counters: &mut DeviceCounters,
    ) -> Result<(), GpuError> {
        let (Some(ordering), Some(look)) = (&self.ordering, &self.bound.look_compute) else { return Ok(()) };
        for (nth, listing) in self.listings.iter().enumerate() {
            let item = &self.items[listing.item];
            let (Some(list), Some(elements)) =
                (self.lists.get(nth), self.bound.elements_compute.get(&item.elements))
            else {
                continue;
            };
            let dispatch = match item.elements {
                Elements::Device { key, .. } => {
                    let shard = find(populations, key)?;
                    Some((shard.calls, if shard.trail.is_some() { DeviceElements::TRAILS } else { 0 }))
                }
                Elements::Packed { .. } => None,
            };
            let batch = Ordered {
                frame: 0,
                draw: item.slot,
                look,
                elements,
                source: item.key.source,
                most: listing.most,
                dispatch,
                sorted: listing.sorted,
            };
            ordering.encode(pass, frame, list, &batch, counters);
        }
        Ok(())
    }

    #[cfg(test)]
    pub(crate) fn list(&self, nth: usize) -> Option<&crate::draw::order::List> {
        self.lists.get(nth)
    }

    pub(crate) fn has_lists(&self) -> bool {
        !self.listings.is_empty()
    }

    /// Encodes the draw calls of items; `casting`: into the shadow map.
    pub(crate) fn draw(
        &self,
        pass: &mut wgpu::RenderPass<'_>,
        items: impl Iterator<Item = usize>,
        casting: bool,
        populations: &[&dyn DevicePopulation],
        counters: &mut DeviceCounters,
    ) -> Result<(), GpuError> {
        let mut before: Option<(PipelineKey, u32, (usize, usize), Elements)> = None;
        for nth in items {
            let item = if casting { self.items[nth].casting() } else { self.items[nth] };
            let key = item.key;
            let look = (item.atlas, item.page);
            let (Some(pipeline), Some(look_group), Some(elements)) = (
                self.pipelines.get(&key),
                self.bound.looks.get(&look),
                self.bound.elements.get(&item.elements),
            ) else {
                continue;
            };
            if before.is_none_or(|(before, ..)| before != key) {
                pass.set_pipeline(pipeline);
                counters.pipelines += 1;
            }
            if before.is_none_or(|(_, slot, before, _)| (slot, before) != (item.slot, look)) {
                pass.set_bind_group(1, look_group, &[item.slot]);
                counters.binds += 1;
            }
            if before.is_none_or(|(.., before)| before != item.elements) {
                pass.set_bind_group(2, elements, &[]);
                counters.binds += 1;
            }
            before = Some((key, item.slot, look, item.elements));
            match item.call {
                Call::Draw([a, b], [from, to]) => pass.draw(a..b, from..to),
                Call::Listed(nth) => {
                    if let Some(list) = self.lists.get(nth) {
                        pass.draw_indirect(&list.calls, 0);
                    }
                }
                Call::Device(key) => pass.draw_indirect(find(populations, key)?.calls, DeviceElements::DRAW),
            }
            counters.draws += 1;
        }
        Ok(())
    }

    pub(crate) fn bytes(&self) -> u64 {
        self.looks.bytes()
            + self.records.bytes()
            + self.merged.bytes()
            + self.lists.bytes()
            + self.draws.size()
            + self.frames.size()
    }
}

/// The shard that a draw list names.
fn find<'a>(populations: &[&'a dyn DevicePopulation], key: u64) -> Result<DeviceElements<'a>, GpuError> {
    populations.iter().find_map(|population| population.elements(key)).ok_or_else(|| {
        GpuError::Unsupported("the draw list names a population that was not passed with it".to_owned())
    })
}

/// Finished vertices as words.
fn store(vertices: &[Vertex], into: &mut [u32]) {
    into.par_chunks_mut(Lit::WORDS * 4096).zip(vertices.par_chunks(4096)).for_each(|(into, vertices)| {
        for (words, vertex) in into.chunks_exact_mut(Lit::WORDS).zip(vertices) {
            let Vertex { place: at, corner, radius, colour, sun, opacity: cover } = *vertex;
            Lit { at, corner, radius, colour, sun, cover }.put(words);
        }
    });
}
