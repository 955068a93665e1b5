//! Builds a draw list: breaks populations into batches, by technique and depth order.

use derive_setters::Setters;
use frolic_core::{Counter, Meter, SpecError, Stage, within};
use frolic_draw::backend::{BYTES_SEEN, BatchKey, DepthSorter, Detail, Lamp, Lighting, Source, Sources};
use frolic_draw::{
    BackdropSpec, Batch, Break, DepthOrder, DrawList, Entry, Instances, LightSpec, Look, Part, Run, SunSpec,
    Technique, Vertex, View,
};
use serde::{Deserialize, Serialize};
use smallvec::SmallVec;

/// Settings of the list builder.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct ListSpec {
    /// How elements become draw calls. Default: instanced.
    pub technique: Technique,
    /// Which transparent elements are sorted together by depth. Default: the elements of each population.
    pub depth_order: DepthOrder,
    /// Maximum number of instances in a batch, 1 to 2^32 - 1. Default: 1048576.
    pub capacity: u32,
}

impl Default for ListSpec {
    fn default() -> Self {
        Self { technique: Technique::default(), depth_order: DepthOrder::default(), capacity: 1 << 20 }
    }
}

impl ListSpec {
    /// Settings with this technique, and defaults.
    pub fn new(technique: Technique) -> Self {
        Self { technique, ..Self::default() }
    }

    /// Checks that values are in range.
    ///
    /// # Errors
    /// Names the key that is out of range.
    pub fn check(&self) -> Result<(), SpecError> {
        within("capacity", self.capacity as f32, 1.0, u32::MAX as f32, "instances")
    }
}

/// The surroundings of a draw list: backdrop, lamps, sun and time.
#[derive(Debug, Clone, Copy)]
pub struct Surroundings<'a> {
    backdrop: &'a BackdropSpec,
    lights: &'a [LightSpec],
    sun: Option<&'a SunSpec>,
    time: f32,
}

impl<'a> Surroundings<'a> {
    /// A backdrop without lamps or sun, at time 0.
    pub fn new(backdrop: &'a BackdropSpec) -> Self {
        Self { backdrop, lights: &[], sun: None, time: 0.0 }
    }

    /// Sets the lamps.
    pub fn lights(self, lights: &'a [LightSpec]) -> Self {
        Self { lights, ..self }
    }

    /// Sets the sun.
    pub fn sun(self, sun: Option<&'a SunSpec>) -> Self {
        Self { sun, ..self }
    }

    /// Sets the time, in seconds, which selects the frame of flipbooks that play by the clock.
    pub fn time(self, time: f32) -> Self {
        Self { time, ..self }
    }
}

/// Scratch buffers of the list builder. They are kept between frames, so a frame allocates nothing after warm-up.
///
/// ```
/// use frolic_core::{Meter, ParticleSpec, Particles};
/// use frolic_draw::{BackdropSpec, CameraSpec, ImageSize, Instances, LookSpec};
/// use frolic_list::{ListScratch, ListSpec, Surroundings};
///
/// let particles = Particles::new(&ParticleSpec::new(10), 1)?;
/// let look = LookSpec::default().build()?;
/// let view = CameraSpec::default().view(ImageSize::default())?;
/// let (mut scratch, mut meter) = (ListScratch::default(), Meter::new());
/// let backdrop = BackdropSpec::default();
/// let populations = [(Instances::of(particles.columns(), 0.0), &look)];
/// let list =
///     scratch.list(populations, &ListSpec::default(), &view, &Surroundings::new(&backdrop), &mut meter);
/// assert_eq!(list.batches().len(), 0);   // nothing alive, nothing drawn
/// # Ok::<(), frolic_core::SpecError>(())
/// ```
#[derive(Debug, Default)]
pub struct ListScratch {
    batches: Vec<Batch>,
    runs: Vec<Run>,
    order: Vec<Entry>,
    vertices: Vec<Vertex>,
    lamps: Vec<Lamp>,
    sorter: DepthSorter,
}

/// Maximum number of instances whose depth order is left to the backend.
const SORTED_BY_BACKEND: u32 = 1 << 20;

impl ListScratch {
    /// Builds the draw list of these populations. Layers come in rising order. Within a layer solid populations come before transparent ones, and
    /// each group keeps its order or is sorted far to near, as the spec says.
    pub fn list<'a>(
        &'a mut self,
        populations: impl IntoIterator<Item = (Instances<'a>, &'a Look)>,
        spec: &ListSpec,
        view: &View,
        around: &Surroundings<'a>,
        meter: &mut Meter,
    ) -> DrawList<'a> {
        let started = meter.start(Stage::Batch);
        let Self { batches, runs, order, vertices, lamps, sorter } = self;
        batches.clear();
        runs.clear();
        order.clear();
        let mut sources = Sources::new();
        sources.extend(
            populations
                .into_iter()
                .take(usize::from(u16::MAX))
                .map(|(instances, look)| Source { instances, look }),
        );
        let mut turn: SmallVec<[u32; 32]> = (0..sources.len() as u32).collect();
        turn.sort_by_key(|&nth| (sources[nth as usize].look.layer(), !sources[nth as usize].look.is_solid()));
        meter.stop(started);

        let (key, closed, mixed, weighted) = (None, false, false, false);
        let mut batcher = Batcher { sources: &sources, spec, batches, runs, key, closed, mixed, weighted };
        let mut next = 0;
        while next < turn.len() {
            let first = sources[turn[next] as usize].look;
            let same = |look: &Look| look.layer() == first.layer() && look.is_solid() == first.is_solid();
            let end = turn[next..].iter().take_while(|&&nth| same(sources[nth as usize].look)).count() + next;
            let group = &turn[next..end];
            next = end;
            let mixes = |nth: u32| {
                let look = sources[nth as usize].look;
                spec.depth_order == DepthOrder::All
                    && !look.is_solid()
                    && sources[nth as usize].instances.device_key().is_none()
                    && !look.is_on_screen()
            };
            let mixed = group.iter().filter(|&&nth| mixes(nth)).count();
            let mut done = false;
            for &nth in group {
                let source = &sources[nth as usize];
                if mixed > 1 && mixes(nth) {
                    // The merged order takes the place of the first of its populations.
                    if !std::mem::replace(&mut done, true) {
                        let together = group.iter().copied().filter(|&nth| mixes(nth));
                        let sorted = merge(&sources, together, view, around.sun, sorter, order, meter);
                        let started = meter.start(Stage::Batch);
                        batcher.mixed = true;
                        batcher.sorted(order, sorted);
                        batcher.mixed = false;
                        meter.stop(started);
                    }
                    continue;
                }
                let weighted = spec.depth_order == DepthOrder::Weighted && source.look.can_be_weighted();
                let ordered =
                    source.look.needs_depth_order() && spec.depth_order != DepthOrder::None && !weighted;
                if source.instances.device_key().is_some() {
                    batcher.device(nth, ordered);
                    continue;
                }
                let alone = source.instances.len() as u32 <= spec.capacity.min(SORTED_BY_BACKEND);
                let instanced = !matches!(spec.technique, Technique::Each | Technique::Batched);
                if ordered && !(instanced && alone) {
                    let sorted =
                        merge(&sources, std::iter::once(nth), view, around.sun, sorter, order, meter);
                    let started = meter.start(Stage::Batch);
                    batcher.sorted(order, sorted);
                    meter.stop(started);
                } else {
                    let started = meter.start(Stage::Batch);
                    batcher.weighted = weighted;
                    for (from, count) in in_view(source, view, around.sun, meter) {
                        batcher.stretch(nth, from, count, ordered);
                    }
                    batcher.weighted = false;
                    meter.stop(started);
                }
            }
        }

        let started = meter.start(Stage::Batch);
        let lighting = Lighting::new(around.backdrop, around.lights, around.sun, lamps);
        let mut list = DrawList::new(sources, order, lighting, spec.technique, around.time);
        if spec.technique == Technique::Batched {
            let read = runs.iter().map(|run| u64::from(run.count)).sum::<u64>() * BYTES_SEEN;
            list.merge(runs, view, vertices);
            meter.moved(Stage::Batch, size_of_val(list.vertices()) as u64 + read);
        }
        meter.add(Counter::Stretches, runs.len() as u64);
        list.set_batches(batches, runs);
        count(&list, meter);
        meter.stop(started);
        let bytes = list.bytes() + sorter.bytes();
        meter.add(Counter::DrawBytes, bytes as u64);
        list
    }
}

/// Adds the counters of a list to the meter.
fn count(list: &DrawList<'_>, meter: &mut Meter) {
    meter.add(Counter::DrawCalls, list.batches().len() as u64);
    meter.add(Counter::Instances, list.instances() as u64);
    for batch in list.batches() {
        if let Some(counter) = batch.why.counter() {
            meter.add(counter, 1);
        }
    }
}

/// Merges the instances of some sources into one depth order. Returns their range within `order`.
fn merge(
    sources: &[Source<'_>],
    which: impl Iterator<Item = u32>,
    view: &View,
    sun: Option<&SunSpec>,
    sorter: &mut DepthSorter,
    order: &mut Vec<Entry>,
    meter: &mut Meter,
) -> std::ops::Range<usize> {
    let started = meter.start(Stage::Sort);
    sorter.clear();
    let from = order.len();
    for nth in which {
        let source = &sources[nth as usize];
        for (first, count) in in_view(source, view, sun, meter) {
            sorter.add(nth, &source.instances, first, count, view);
        }
    }
    sorter.sort(order);
    let sorted = (order.len() - from) as u64;
    meter.moved(Stage::Sort, sorted * DepthSorter::BYTES_PER_ELEMENT);
    meter.stop(started);
    meter.add(Counter::Sorted, sorted);
    from..order.len()
}

/// Returns the ranges (first, count) of instances whose parts may be visible or may cast a shadow into view. Adjacent parts form one range.
fn in_view<'b>(
    Source { instances, look }: &'b Source<'_>,
    view: &'b View,
    sun: Option<&'b SunSpec>,
    meter: &mut Meter,
) -> impl Iterator<Item = (u32, u32)> + use<'b> {
    let parts = instances.parts().unwrap_or_default();
    let Detail { from, reach, .. } = look.parts().detail;
    let eye = view.parts().eye;
    let sees = move |part: &Part| {
        part.count > 0
            && part.bounds.distance(eye) <= reach
            && part.bounds.farthest(eye) >= from
            && view.concerns(&part.bounds, sun)
    };
    let hidden: u64 = parts.iter().filter(|part| !sees(part)).map(|part| u64::from(part.count)).sum();
    meter.add(Counter::CulledInChunks, hidden);
    let mut next = 0;
    let whole = (instances.parts().is_none() && !instances.is_empty()).then_some((0, instances.len() as u32));
    let stretches = std::iter::from_fn(move || {
        while next < parts.len() && !sees(&parts[next]) {
            next += 1;
        }
        let Part { first, mut count, .. } = *parts.get(next)?;
        next += 1;
        while let Some(part) = parts.get(next)
            && part.first == first + count
            && sees(part)
        {
            count += part.count;
            next += 1;
        }
        Some((first, count))
    });
    whole.into_iter().chain(stretches)
}

/// Breaks ranges of instances into batches.
struct Batcher<'b, 'a> {
    sources: &'b [Source<'a>],
    spec: &'b ListSpec,
    batches: &'b mut Vec<Batch>,
    runs: &'b mut Vec<Run>,
    /// Key of the current batch.
    key: Option<BatchKey>,
    /// Whether the current batch is closed: no run can be added to it.
    closed: bool,
    /// Whether what is added was sorted together with other populations.
    mixed: bool,
    /// Whether what is added is mixed by weights.
    weighted: bool,
}

impl Batcher<'_, '_> {
    fn key(&self, source: u32, element: u32) -> BatchKey {
        self.sources[source as usize].batch_key(element)
    }

    /// Adds a device-resident source. It gets a batch of its own, because no other source shares its buffers.
    fn device(&mut self, source: u32, far_to_near: bool) {
        let key = self.key(source, 0);
        let why = self.key.map_or(Break::First, |before| before.why(&key).unwrap_or(Break::Capacity));
        let first_run = self.runs.len() as u32;
        let BatchKey { layer, solid, .. } = key;
        self.batches.push(Batch {
            first_run,
            runs: 1,
            count: 0,
            why,
            layer,
            solid,
            far_to_near,
            mixed: false,
            weighted: false,
        });
        self.runs.push(Run { source, first: 0, count: 0, sorted: false, vertices: 0 });
        self.key = Some(key);
        self.closed = true;
    }

    /// Adds a range of one source, in column order.
    fn stretch(&mut self, source: u32, first: u32, count: u32, far_to_near: bool) {
        let by_element = self.sources[source as usize].look.is_sprites();
        if !by_element {
            let key = self.key(source, first);
            return self.add(key, Run { source, first, count, sorted: false, vertices: 0 }, far_to_near);
        }
        // Sprites of one source may be on different atlas pages.
        let page = |nth: u32| self.key(source, nth).page;
        let mut cuts: SmallVec<[(u32, u32); 8]> = SmallVec::new();
        let mut from = first;
        let mut here = page(first);
        for nth in first..first + count {
            let next = page(nth);
            if next.is_some() && here.is_some() && next != here {
                cuts.push((from, nth - from));
                from = nth;
            }
            here = next.or(here);
            if from == nth {
                here = next;
            }
        }
        cuts.push((from, first + count - from));
        for (from, count) in cuts {
            let mut key = self.key(source, from);
            key.page = (from..from + count).find_map(|nth| self.key(source, nth).page);
            self.add(key, Run { source, first: from, count, sorted: false, vertices: 0 }, far_to_near);
        }
    }

    /// Adds a range of the merged order, split where the look changes.
    fn sorted(&mut self, order: &[Entry], stretch: std::ops::Range<usize>) {
        let mut from = stretch.start;
        while from < stretch.end {
            let first = order[from];
            let mut key = self.key(first.source, first.element);
            let sprite = |entry: Entry| self.sources[entry.source as usize].look.is_sprites();
            let mut to = from + 1;
            while to < stretch.end {
                let entry = order[to];
                // Comparing sources first is quicker: they are usually the same.
                if entry.source != first.source || sprite(entry) {
                    let other = self.key(entry.source, entry.element);
                    if key.why(&other).is_some() {
                        break;
                    }
                    key.page = key.page.or(other.page);
                }
                to += 1;
            }
            let (source, count) = (first.source, (to - from) as u32);
            self.add(key, Run { source, first: from as u32, count, sorted: true, vertices: 0 }, false);
            from = to;
        }
    }

    /// Adds a run to the current batch, or to new ones.
    fn add(&mut self, key: BatchKey, run: Run, far_to_near: bool) {
        let capacity = if self.spec.technique == Technique::Each { 1 } else { self.spec.capacity.max(1) };
        let mut run = run;
        while run.count > 0 {
            let why = match (&self.key, self.batches.last()) {
                (Some(before), Some(batch)) => {
                    // A batch has at most one order that is left to the backend.
                    let other = far_to_near || batch.far_to_near || self.weighted != batch.weighted;
                    let full = batch.count >= capacity || other || self.closed;
                    before.why(&key).or(full.then_some(Break::Capacity))
                }
                _ => Some(Break::First),
            };
            self.closed = false;
            let room =
                if why.is_some() { capacity } else { capacity - self.batches.last().map_or(0, |b| b.count) };
            let count = run.count.min(room);
            if let Some(why) = why {
                self.batches.push(Batch {
                    first_run: self.runs.len() as u32,
                    runs: 0,
                    count: 0,
                    why,
                    layer: key.layer,
                    solid: key.solid,
                    far_to_near,
                    mixed: false,
                    weighted: self.weighted,
                });
                self.key = Some(key);
            } else if let Some(before) = &mut self.key {
                before.page = before.page.or(key.page);
            }
            if let Some(batch) = self.batches.last_mut() {
                batch.runs += 1;
                batch.count += count;
                batch.mixed |= self.mixed;
            }
            self.runs.push(Run { count, ..run });
            run.first += count;
            run.count -= count;
        }
    }
}
