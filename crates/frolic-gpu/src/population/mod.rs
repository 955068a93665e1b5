//! Particles on the device: emitted, moved, collided, aged and retired there. Drawing reads the buffers that a step
//! writes.
//!
//! State is three columns in two copies: positions with sizes, velocities with ids, ages with lifetimes. A step reads one copy and
//! writes the survivors, in order, to the other (`shaders/step.wgsl`), so retired elements cost nothing. A population larger than one
//! binding is split into shards, which fill up one after another.

mod encode;
pub(crate) mod events;
pub(crate) mod grids;
pub(crate) mod newborn;
pub(crate) mod read;
mod retune;
pub(crate) mod set;
pub(crate) mod shard;
pub(crate) mod steps;
pub(crate) mod trails;

use std::sync::atomic::{AtomicU64, Ordering};

use frolic_core::backend::{
    DeviceField, EmitterAxes, Emitters, MOST_BURSTS, MOST_EVENTS, MOST_SOLID, MOST_WRITTEN, OwnFields, Wave,
    free_axes, is_simple, why_event_not_on_device,
};
use frolic_core::{Assets, EventSpec, ParticleSpec, SpecError, World};
use frolic_draw::{DeviceKey, Instances};
use wgpu::BufferUsages;

use crate::apart::{ApartBodies, GpuApart};
use crate::device::error::GpuError;
use crate::device::readback::Readback;
use crate::device::{Gpu, Recorder};
use crate::draw::population::{DeviceElements, DevicePopulation};
use crate::population::events::{Ends, ranges};
use crate::population::grids::Grids;
use crate::population::newborn::Newborn;
use crate::population::shard::{Buffers, PopulationLayouts, Shard, Stepping, groups_of};
use crate::population::steps::step_together;
use crate::population::trails::Trailing;
use crate::shared::SharedStruct;
use crate::shared::event::{EVENT_WORDS, Event, Started};
use crate::shared::step::{
    EMITTER_WORDS, GROUP, MOST_STEPS, POPULATION_WORDS, SHARD_WORDS, STEP_SLOT, TESTED_APART,
};

/// Bytes an element: both copies of its columns.
const ELEMENT_BYTES: u64 = 2 * (16 + 16 + 8);

/// Key of the trails, in place of the number of a shard.
const TRAIL_KEY: u64 = 0xffff;

/// A key for a population. Keys are never reused.
pub(crate) fn next_key() -> u64 {
    static KEYS: AtomicU64 = AtomicU64::new(1);
    KEYS.fetch_add(1, Ordering::Relaxed)
}

/// Statistics of a population on the device, as exact totals since the start. They are one or two frames old.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct DeviceStatistics {
    /// Steps taken at the time of the readback.
    pub steps: u64,
    /// Live elements at that time.
    pub alive: u64,
    /// Elements emitted.
    pub emitted: u64,
    /// Elements that were due without room.
    pub refused: u64,
    /// Elements retired by age or by a collector. Those that end in the step of their birth count one step later.
    pub retired: u64,
    /// Contacts with obstacles, at most one for each element in a step.
    pub hits: u64,
    /// Elements picked up by collectors.
    pub picked: u64,
    /// The same for each collector.
    pub caught: [u64; MOST_SOLID],
    /// Number of events.
    pub happened: u64,
    /// Pairs whose distance was tested, of elements that keep apart.
    pub pairs_tested: u64,
    /// Pairs that overlapped.
    pub pairs_near: u64,
    /// Elements that slept through a step, added up over all steps.
    pub asleep: u64,
}

/// A population of particles on a device.
///
/// ```no_run
/// use frolic_core::{EmitterSpec, ParticleSpec, WorldSpec};
/// use frolic_gpu::{Gpu, GpuParticles, GpuSpec, Recorder};
/// let gpu = Gpu::open(GpuSpec::default())?;
/// let spec = ParticleSpec::new(100_000).emitter(EmitterSpec::rate(20_000.0));
/// let mut sparks = GpuParticles::new(&gpu, &spec, 1)?;
/// let mut recorder = Recorder::new(&gpu);
/// sparks.step(&mut recorder, &WorldSpec::default().build()?, 1.0 / 60.0, 4)?;
/// recorder.submit();
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Debug)]
pub struct GpuParticles {
    gpu: Gpu,
    key: u64,
    spec: ParticleSpec,
    seed: u32,
    time: f64,
    emitters: Emitters,
    next_id: u32,
    own: OwnFields,
    /// Fields of the step that is being encoded, and their waves.
    fields: (Vec<DeviceField>, Vec<Wave>),
    axes: Vec<EmitterAxes>,
    shards: Vec<Shard>,
    counts: wgpu::Buffer,
    steps: wgpu::Buffer,
    births: wgpu::Buffer,
    /// Uniforms of the events.
    events: wgpu::Buffer,
    /// Words of the emitters of one step.
    births_slot: u64,
    newborn: Newborn,
    trailing: Option<Trailing>,
    apart: Option<GpuApart>,
    grids: Grids,
    layouts: PopulationLayouts,
    /// Compiled for the world of the last step.
    stepping: Option<Stepping>,
    /// Index of the newest copy.
    now: usize,
    /// Steps that were encoded since the last submission, and its generation.
    pending: u32,
    generation: u64,
    taken: u64,
    readback: Readback,
    /// Counters of the population at the last readback. They wrap around.
    raw: [u32; POPULATION_WORDS as usize],
    statistics: DeviceStatistics,
    /// Counts already returned by [`GpuParticles::take_caught`].
    taken_of: [u64; MOST_SOLID],
    frame: u64,
    read_at: u64,
}

impl GpuParticles {
    /// An empty population. Memory for all elements is reserved.
    ///
    /// # Errors
    /// A value out of range, or more elements than the device can hold.
    pub fn new(gpu: &Gpu, spec: &ParticleSpec, seed: u32) -> Result<Self, DevicePopulationError> {
        Self::with_assets(gpu, spec, seed, &Assets::default())
    }

    /// As [`GpuParticles::new`], with assets for emitters and fields.
    ///
    /// # Errors
    /// As [`GpuParticles::new`]; an asset that is missing or unusable; or over 2.5 million elements with an emitter that starts them from
    /// assets, evenly or from the surface.
    pub fn with_assets(
        gpu: &Gpu,
        spec: &ParticleSpec,
        seed: u32,
        assets: &Assets,
    ) -> Result<Self, DevicePopulationError> {
        spec.check()?;
        gpu.check()?;
        let most_bytes = gpu.binding().min(gpu.device().limits().max_buffer_size);
        // Whole groups, within the reach of one dispatch.
        let most = ((most_bytes / 16) as u32 / GROUP * GROUP).max(GROUP);
        let count = spec.count;
        let shards = count.div_ceil(most).max(1);
        if shards > 1 && (!spec.event.is_empty() || spec.trail.is_some() || spec.apart.is_some()) {
            let problem = format!(
                "{count} elements with events, trails or that keep apart are over the limit of one storage buffer"
            );
            return Err(SpecError::new("count", problem, format!("write at most {most}")).into());
        }
        if spec.event.len() > MOST_EVENTS {
            return Err(
                SpecError::new("event", "are too many", format!("write at most {MOST_EVENTS}")).into()
            );
        }
        if u64::from(count) * ELEMENT_BYTES > frolic_core::MEMORY_LIMIT * 2 {
            let most = frolic_core::MEMORY_LIMIT * 2 / ELEMENT_BYTES;
            let problem = format!("{count} elements need too much memory on the device");
            return Err(SpecError::new("count", problem, format!("write at most {most}")).into());
        }
        let written = MOST_WRITTEN.min(Newborn::most(gpu));
        if count > written && !spec.emitter.iter().all(is_simple) {
            let problem = format!("{count} elements need a list of newborns");
            return Err(SpecError::new("count", problem, format!("write at most {written}")).into());
        }
        let storage = BufferUsages::STORAGE | BufferUsages::COPY_SRC | BufferUsages::COPY_DST;
        let count_words = POPULATION_WORDS + shards * SHARD_WORDS;
        let counts = gpu.buffer("counters", u64::from(count_words) * 4, storage);
        let uniform = BufferUsages::UNIFORM | BufferUsages::COPY_DST;
        let steps = u64::from(MOST_STEPS) * u64::from(shards) * STEP_SLOT * 4;
        let steps = gpu.buffer("steps", steps, uniform);
        // At most a stream and a few bursts for each emitter.
        let births_slot = (spec.emitter.len().max(1) as u64 * (1 + u64::from(MOST_BURSTS)) * EMITTER_WORDS)
            .next_multiple_of(64);
        let births = gpu.buffer("births", u64::from(MOST_STEPS) * births_slot * 4, storage);
        let events = gpu.buffer("events", MOST_EVENTS as u64 * EVENT_WORDS * 4, uniform);
        let (newborn, grids) = (Newborn::new(gpu), Grids::new(gpu));
        let layouts = PopulationLayouts::new(gpu);
        let trailing = spec.trail.as_ref().map(|trail| Trailing::new(gpu, trail, count)).transpose()?;
        let mut emitters = Emitters::new(&spec.emitter, assets)?;
        emitters.recentre([0.0; 2], seed);
        let memory = gpu.device().push_error_scope(wgpu::ErrorFilter::OutOfMemory);
        let shards = (0..shards)
            .map(|nth| {
                let first = u64::from(nth) * u64::from(most);
                let room = (u64::from(count) - first).min(u64::from(most)) as u32;
                let buffers =
                    Buffers { counts: &counts, steps: &steps, births: &births, births_slot, events: &events };
                Shard::new(gpu, &layouts, room, POPULATION_WORDS + nth * SHARD_WORDS, buffers)
            })
            .collect();
        if let Some(error) = pollster::block_on(memory.pop()) {
            let problem = format!("{count} elements: {error}");
            return Err(SpecError::new("count", problem, "write a smaller count").into());
        }
        let shards: Vec<Shard> = shards;
        let apart = spec.apart.as_ref().zip(shards.first()).map(|(apart, shard)| {
            let [[places, motions, _], [other_places, other_motions, _]] = &shard.columns;
            let of = ApartBodies {
                steps: &steps,
                counters: &counts,
                copies: &[[places, motions], [other_places, other_motions]],
                tally: TESTED_APART,
            };
            let free = free_axes(spec.motion.keep_to);
            GpuApart::new(gpu, apart, spec.size.max, free, count, of)
        });
        let apart = apart.transpose()?;
        let mut made = Self {
            gpu: gpu.clone(),
            key: next_key(),
            seed,
            time: 0.0,
            emitters,
            next_id: 0,
            own: OwnFields::new(spec, assets)?,
            fields: Default::default(),
            axes: spec.emitter.iter().map(EmitterAxes::of).collect(),
            shards,
            readback: Readback::new(gpu, "statistics", count_words as usize),
            counts,
            steps,
            births,
            births_slot,
            events,
            newborn,
            trailing,
            apart,
            grids,
            layouts,
            stepping: None,
            now: 0,
            pending: 0,
            generation: 0,
            taken: 0,
            raw: [0; POPULATION_WORDS as usize],
            statistics: DeviceStatistics::default(),
            taken_of: [0; MOST_SOLID],
            frame: 0,
            read_at: 0,
            spec: spec.clone(),
        };
        made.note_for(&vec![None; spec.event.len()]);
        Ok(made)
    }

    /// Returns why an event cannot start elements of this population, if it cannot.
    pub(crate) fn cannot_be_started(&self, event: &EventSpec) -> Option<&'static str> {
        if self.shards.len() > 1 {
            return Some("start elements over the limit of one storage buffer");
        }
        if !self.spec.emitter.iter().all(is_simple) {
            return Some("start elements of a population whose emitters use assets or aim evenly");
        }
        why_event_not_on_device(event)
    }

    pub(crate) fn as_started(&self) -> Started {
        Started { room: self.spec.count, seed: self.seed }
    }

    /// Buffers that events bind.
    pub(crate) fn ends(&self) -> Option<Ends<'_>> {
        let Self { steps, counts, events, shards, .. } = self;
        let Shard { blocks, columns, calls, most, .. } = shards.first()?;
        Some(Ends { steps, counts, blocks, events, columns, calls, most: *most })
    }

    /// Index of the newest copy of the state.
    pub(crate) fn copy(&self) -> usize {
        self.now
    }

    /// The dispatch over all live elements.
    pub(crate) fn calls(&self) -> Option<&wgpu::Buffer> {
        self.shards.first().map(|shard| &shard.calls[self.now])
    }

    /// Allocates the records of its events, given the population that each starts, and binds its trails.
    pub(crate) fn note_for(&mut self, started: &[Option<Started>]) {
        let Self { gpu, spec, shards, layouts, counts, steps, births, births_slot, events, trailing, .. } =
            self;
        let Some(shard) = shards.first_mut().filter(|_| !spec.event.is_empty() || trailing.is_some()) else {
            return;
        };
        let was_at = if trailing.is_some() { shard.most } else { 0 };
        let (ranges, words) = ranges(&spec.event, started, shard.most.div_ceil(GROUP), was_at);
        let mut words_of_events = Vec::new();
        for (number, ((event, started), range)) in (0u32..).zip(spec.event.iter().zip(started).zip(ranges)) {
            Event::of(event, number, *started, range).append(&mut words_of_events);
        }
        gpu.queue().write_buffer(events, 0, bytemuck::cast_slice(&words_of_events));
        shard.blocks = gpu.buffer("blocks", words * 4, BufferUsages::STORAGE);
        let buffers = Buffers { counts, steps, births, births_slot: *births_slot, events };
        shard.groups = groups_of(gpu, layouts, &shard.columns, &shard.calls, &shard.blocks, buffers);
        let Shard { blocks, columns, calls, most, .. } = shard;
        if let Some(trailing) = trailing {
            trailing.bind(gpu, Ends { steps, counts, blocks, events, columns, calls, most: *most });
        }
    }

    /// Moves the centre of scattered emitters: x and z, in metres; at first the origin. Returns whether any emitter appeared
    /// or vanished. Their elements stay.
    pub fn recentre(&mut self, middle: [f32; 2]) -> bool {
        self.emitters.recentre(middle, self.seed)
    }

    /// Encodes `steps` steps of `dt` seconds. If one submission cannot hold them, earlier steps are submitted.
    ///
    /// # Errors
    /// When the device was lost.
    pub fn step(
        &mut self,
        recorder: &mut Recorder,
        world: &World,
        dt: f32,
        steps: u32,
    ) -> Result<(), GpuError> {
        let gpu = self.gpu.clone();
        step_together(&gpu, std::slice::from_mut(self), |_, _, _, _| {}, recorder, world, dt, steps)
    }

    /// Statistics of the latest readback.
    pub fn statistics(&self) -> &DeviceStatistics {
        &self.statistics
    }

    /// Age of the latest readback in frames.
    pub fn readback_age(&self) -> u64 {
        self.frame - self.read_at
    }

    /// Number of steps encoded so far.
    pub fn steps_taken(&self) -> u64 {
        self.taken
    }

    /// Simulated time in seconds.
    pub fn time(&self) -> f64 {
        self.time
    }

    /// The spec it was built from.
    pub fn spec(&self) -> &ParticleSpec {
        &self.spec
    }

    /// Keys for draw lists, one for each shard.
    pub fn populations(&self) -> impl Iterator<Item = DeviceKey> {
        let key = |nth: usize| self.key << 16 | nth as u64;
        self.shards.iter().enumerate().map(move |(nth, shard)| DeviceKey { key: key(nth), most: shard.most })
    }

    /// Key for a draw list of its trails as ribbons, if it leaves trails.
    pub fn trails(&self) -> Option<DeviceKey> {
        let places = self.spec.trail?.places;
        Some(DeviceKey { key: self.key << 16 | TRAIL_KEY, most: self.spec.count * places })
    }

    /// Instances for a draw list, one for each shard, drawn `lag` seconds before the last step.
    pub fn instances(&self, lag: f32) -> impl Iterator<Item = Instances<'static>> + use<> {
        let populations: Vec<_> = self.populations().collect();
        populations.into_iter().map(move |resident| Instances::on_device(resident, lag))
    }

    /// Bytes held on the device.
    pub fn bytes(&self) -> u64 {
        let shards = self.shards.iter().flat_map(|shard| shard.columns.iter().flatten());
        let columns = shards.map(wgpu::Buffer::size).sum::<u64>();
        let trails = self.trailing.as_ref().map_or(0, Trailing::bytes);
        let apart = self.apart.as_ref().map_or(0, GpuApart::bytes);
        columns
            + trails
            + apart
            + self.steps.size()
            + self.births.size()
            + self.newborn.bytes()
            + self.grids.bytes()
    }
}

impl DevicePopulation for GpuParticles {
    fn elements(&self, key: u64) -> Option<DeviceElements<'_>> {
        let nth = key & 0xffff;
        let trailing = self.trailing.as_ref().filter(|_| nth == TRAIL_KEY);
        let nth = if trailing.is_some() { 0 } else { nth as usize };
        let shard = (key >> 16 == self.key).then(|| self.shards.get(nth)).flatten()?;
        let columns = shard.columns[self.now].each_ref();
        Some(DeviceElements {
            columns: trailing.map_or(columns, |trailing| [&trailing.buffers[self.now]; 3]),
            heading_step: None,
            trail: trailing.map(|trailing| trailing.clock),
            calls: &shard.calls[self.now],
            counters: &self.counts,
            live: shard.counts + (self.taken % 2) as u32,
            most: shard.most * trailing.map_or(1, |trailing| trailing.clock.places() as u32),
            copy: self.now,
        })
    }
}

/// Why a population cannot run on a device.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum DevicePopulationError {
    /// The spec cannot be used.
    #[error(transparent)]
    Spec(#[from] SpecError),
    /// The device cannot be used.
    #[error(transparent)]
    Gpu(#[from] GpuError),
}
