//! Particles on the device: emitted, moved, collided, aged and retired there. Drawing reads the buffers that a step
//! writes.
//!
//! State is three columns in two copies: positions with sizes, velocities with ids, ages with lifetimes. A step reads one copy and
//! writes the survivors, in order, to the other (`shaders/step.wgsl`), so retired elements cost nothing. A population larger than one
//! binding is split into shards, which fill up one after another.

pub(crate) mod events;
pub(crate) mod grids;
pub(crate) mod newborn;
pub(crate) mod set;
pub(crate) mod shard;
pub(crate) mod steps;
pub(crate) mod trails;

use std::sync::atomic::{AtomicU64, Ordering};

use frolic_core::backend::{
    DeviceCollector, DeviceColliders, DeviceField, EmitterAxes, Emitters, MOST_BURSTS, MOST_EVENTS,
    MOST_SOLID, MOST_WRITTEN, Motion, OwnFields, Wave, device_collectors, device_colliders, is_simple,
    why_event_not_on_device,
};
use frolic_core::{Assets, BodyRow, Counter, EventSpec, Meter, Moment, ParticleSpec, SpecError, World};
use frolic_draw::{DeviceKey, Instances};
use wgpu::BufferUsages;

use crate::device::error::GpuError;
use crate::device::readback::Readback;
use crate::device::{DeviceCounters, Gpu, Recorder, upload};
use crate::draw::order::groups;
use crate::draw::population::{DeviceElements, DevicePopulation};
use crate::population::events::{Ends, ranges};
use crate::population::grids::Grids;
use crate::population::newborn::Newborn;
use crate::population::shard::{Buffers, Fields, Layouts, Shard, Stepping, groups_of};
use crate::population::steps::{Ready, encode_together, step_together};
use crate::population::trails::Trailing;
use crate::shared::SharedStruct;
use crate::shared::event::{EVENT_WORDS, Event, Started};
use crate::shared::step::{
    COLLECTED, COLLECTED_BY, EMITTED, EMITTER_WORDS, EVENTS_COUNTED, Emitter, GROUP, HITS, LIVE,
    POPULATION_WORDS, REFUSED, RETIRED, SHARD_WORDS, STEP_WORDS, STEPS, Step, StepBirths, StepShard,
    StepWorld,
};

/// Most steps of one submission.
pub const MOST_STEPS: u32 = 64;

/// Words between the uniforms of two steps.
pub(crate) const STEP_SLOT: u64 = STEP_WORDS.next_multiple_of(64);

/// Bytes an element: both copies of its columns.
const ELEMENT_BYTES: u64 = 2 * (16 + 16 + 8);

/// Key of the trails, in place of the number of a shard.
const TRAIL_KEY: u64 = 0xffff;

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
    grids: Grids,
    layouts: Layouts,
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
        /// Keys of populations are never reused.
        static KEYS: AtomicU64 = AtomicU64::new(1);
        spec.check()?;
        gpu.check()?;
        let most_bytes = gpu.binding().min(gpu.device().limits().max_buffer_size);
        // Whole groups, within the reach of one dispatch.
        let most = ((most_bytes / 16) as u32 / GROUP * GROUP).max(GROUP);
        let count = spec.count;
        let shards = count.div_ceil(most).max(1);
        if shards > 1 && (!spec.event.is_empty() || spec.trail.is_some()) {
            let problem =
                format!("{count} elements with events or trails are more than a shader sees at once");
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
            let problem = format!("{count} elements are written down by their emitters");
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
        let layouts = Layouts::new(gpu);
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
        let mut made = Self {
            gpu: gpu.clone(),
            key: KEYS.fetch_add(1, Ordering::Relaxed),
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
            return Some("start elements of more than a shader sees at once");
        }
        if !self.spec.emitter.iter().all(is_simple) {
            return Some("start elements that emitters too start from assets, or evenly");
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

    /// Number of encoded steps that were not submitted yet.
    pub(crate) fn pending_in(&mut self, recorder: &Recorder) -> u32 {
        if self.generation != recorder.generation {
            (self.generation, self.pending) = (recorder.generation, 0);
        }
        self.pending
    }

    /// Encodes steps into the given encoder, at most [`MOST_STEPS`] for one submission.
    pub(crate) fn encode(
        &mut self,
        encoder: &mut wgpu::CommandEncoder,
        counters: &mut DeviceCounters,
        world: &World,
        dt: f32,
        steps: u32,
    ) -> Result<(), GpuError> {
        encode_together(
            std::slice::from_mut(self),
            |_, _, _, _| {},
            encoder,
            counters,
            world,
            dt,
            steps,
            None,
        )
    }

    /// Uploads the uniforms of steps, at most [`MOST_STEPS`] for one submission.
    pub(crate) fn ready(
        &mut self,
        encoder: &mut wgpu::CommandEncoder,
        counters: &mut DeviceCounters,
        world: &World,
        dt: f32,
        steps: u32,
    ) -> Result<Vec<Ready>, GpuError> {
        let solids = device_colliders(world, &self.own);
        let fields = Fields::of(&self.spec, &self.own, world, &solids);
        if self.stepping.as_ref().is_none_or(|stepping| stepping.fields != fields) {
            let extra = [
                ("EVENTS", self.spec.event.len() as f64),
                ("TRAILS", f64::from(u8::from(self.trailing.is_some()))),
            ];
            self.stepping =
                Some(self.layouts.pipelines(&self.gpu, fields, extra, &self.grids, &self.newborn)?);
        }
        self.grids.follow(&self.gpu, encoder, counters, world, &self.own);
        let first = self.pending;
        let ready = (first..MOST_STEPS.min(first + steps))
            .map(|step| self.prepare(counters, world, &solids, dt, step));
        Ok(ready.collect())
    }

    /// Encodes the update of trails after a step and its events.
    pub(crate) fn carry(
        &self,
        pass: &mut wgpu::ComputePass<'_>,
        counters: &mut DeviceCounters,
        ready: &Ready,
    ) {
        if let (Some(trailing), Some(calls)) = (&self.trailing, self.calls()) {
            trailing.carry(pass, counters, self.now, ready.slot(1, 0), calls);
        }
    }

    /// Encodes a prepared step.
    pub(crate) fn take(
        &mut self,
        pass: &mut wgpu::ComputePass<'_>,
        counters: &mut DeviceCounters,
        ready: &Ready,
    ) {
        let Some(stepping) = &self.stepping else { return };
        for (at, shard) in self.shards.iter().enumerate() {
            let slot = ready.slot(self.shards.len(), at);
            let births = ready.step * self.births_slot as u32 * 4;
            let groups_of = &shard.groups[self.now];
            let calls = &shard.calls[self.now];
            pass.set_pipeline(&stepping.mark);
            pass.set_bind_group(0, &groups_of[0], &[slot]);
            pass.set_bind_group(1, self.grids.group(), &[]);
            pass.dispatch_workgroups_indirect(calls, 0);
            pass.set_pipeline(&stepping.scan);
            pass.set_bind_group(0, &groups_of[1], &[slot]);
            pass.dispatch_workgroups(1, 1, 1);
            pass.set_pipeline(&stepping.advance);
            pass.set_bind_group(0, &groups_of[2], &[slot]);
            pass.set_bind_group(1, self.grids.group(), &[]);
            pass.dispatch_workgroups_indirect(calls, 0);
            counters.dispatches += 3;
            counters.pipelines += 3;
            counters.binds += 5;
            if ready.due > 0 {
                let [across, down] = groups(ready.due.min(u64::from(shard.most)) as u32);
                pass.set_pipeline(&stepping.birth);
                pass.set_bind_group(0, &groups_of[3], &[slot, births]);
                pass.set_bind_group(1, self.grids.group(), &[]);
                pass.set_bind_group(2, &ready.newborn, &[]);
                pass.dispatch_workgroups(across, down, 1);
                counters.dispatches += 1;
                counters.pipelines += 1;
                counters.binds += 3;
            }
        }
        self.now = 1 - self.now;
    }

    /// Uploads the uniforms of one step.
    fn prepare(
        &mut self,
        counters: &mut DeviceCounters,
        world: &World,
        solids: &DeviceColliders,
        dt: f32,
        step: u32,
    ) -> Ready {
        let motion = Motion::new(&self.spec.motion, world, self.time, dt);
        let mut births = Vec::new();
        let mut due = 0u64;
        let Self { axes, spec, newborn, seed, next_id, gpu, pending, .. } = self;
        let mut count = 0u32;
        if *pending == 0 {
            newborn.clear();
        }
        self.emitters.due(&spec.emitter, self.time, dt, |now, born| {
            let emitter = &spec.emitter[now.emitter];
            let row = (!is_simple(emitter)).then(|| {
                let room = u64::from(spec.count).saturating_sub(due).min(now.count);
                newborn.add(born.rows(spec, *seed, &now, next_id.wrapping_add(due as u32), room))
            });
            Emitter::of(emitter, &axes[now.emitter], &now, due, row).append(&mut births);
            // Beyond this number there is no room in any case.
            due = (due + now.count).min(u64::from(u32::MAX));
            count += 1;
        });
        let first_row = newborn.flush(gpu, counters);
        let first_id = *next_id;
        *next_id = first_id.wrapping_add(due as u32);
        upload(&self.gpu, &self.births, u64::from(step) * self.births_slot, &births, counters);
        // The steps of a frame read the two copies in turn.
        let parity = (self.taken % 2) as u32;
        let collectors: Vec<DeviceCollector> =
            device_collectors(world, self.time, dt).take(MOST_SOLID).collect();
        let (fields, waves) = &mut self.fields;
        self.own.device_fields(world, self.time, fields, waves);
        let last = self.shards.len() - 1;
        let trail = self.trailing.as_mut().map_or([0; 3], |Trailing { clock, .. }| {
            let due = clock.advance(dt);
            [clock.places() as u32, clock.newest() as u32, u32::from(due)]
        });
        let on_birth = self.spec.event.iter().filter(|event| event.on == Moment::Birth).count();
        let births =
            StepBirths { due: due as u32, emitters: count, first_id, first_row, events: on_birth as u32 };
        let grids = self.grids.places();
        let around = StepWorld { solids, grids, collectors: &collectors, fields, waves };
        for (nth, shard) in self.shards.iter().enumerate() {
            let on = StepShard {
                capacity: shard.most,
                counters: shard.counts,
                parity,
                is_first: nth == 0,
                is_last: nth == last,
            };
            let now = Step::new(&motion, &self.spec, self.seed, births, on, trail, around);
            let slot = u64::from(step) * self.shards.len() as u64 + nth as u64;
            upload(&self.gpu, &self.steps, slot * STEP_SLOT, &now.words(), counters);
        }
        self.pending += 1;
        self.taken += 1;
        self.time += f64::from(dt);
        Ready { step, due, newborn: self.newborn.group().clone() }
    }

    /// Encodes the copy of the counters for a readback. Call it at the end of a frame's commands.
    pub fn record(&mut self, recorder: &mut Recorder) {
        let (encoder, _) = recorder.parts();
        self.copy_counters_in(encoder);
    }

    pub(crate) fn copy_counters_in(&mut self, encoder: &mut wgpu::CommandEncoder) {
        self.frame += 1;
        self.readback.record(encoder, &self.counts, self.frame);
    }

    /// Requests the readback. Call it after the submission, before steps of the next frame.
    pub fn request_readback(&mut self) {
        self.readback.request_readback();
    }

    pub(crate) fn start_over(&mut self) {
        self.pending = 0;
    }

    /// Reads back counters that have arrived, without waiting, and adds the new counts to the meter.
    pub fn read_back(&mut self, recorder: &mut Recorder, meter: &mut Meter) {
        self.read_back_in(&mut recorder.counters, meter);
    }

    pub(crate) fn read_back_in(&mut self, counters: &mut DeviceCounters, meter: &mut Meter) {
        self.gpu.poll();
        let (raw, statistics, read_at) = (&mut self.raw, &mut self.statistics, &mut self.read_at);
        let (shards, before) = (self.shards.len(), *statistics);
        self.readback.read_back(counters, |frame, words| {
            let mut new = |word: u32| {
                let (now, raw) = (words[word as usize], &mut raw[word as usize]);
                u64::from(now.wrapping_sub(std::mem::replace(raw, now)))
            };
            statistics.emitted += new(EMITTED);
            statistics.refused += new(REFUSED);
            statistics.retired += new(RETIRED);
            statistics.hits += new(HITS);
            statistics.picked += new(COLLECTED);
            statistics.steps += new(STEPS);
            statistics.happened += new(EVENTS_COUNTED);
            for (nth, sum) in (COLLECTED_BY..).zip(&mut statistics.caught) {
                *sum += new(nth);
            }
            let parity = (statistics.steps % 2) as usize;
            let live =
                |nth: usize| words[(POPULATION_WORDS + LIVE) as usize + nth * SHARD_WORDS as usize + parity];
            statistics.alive = (0..shards).map(|nth| u64::from(live(nth))).sum();
            *read_at = frame;
        });
        meter.add(Counter::Emitted, statistics.emitted - before.emitted);
        meter.add(Counter::Refused, statistics.refused - before.refused);
        meter.add(Counter::Retired, statistics.retired - before.retired);
        meter.add(Counter::Hits, statistics.hits - before.hits);
        meter.add(Counter::Picked, statistics.picked - before.picked);
        meter.add(Counter::Events, statistics.happened - before.happened);
    }

    /// Waits for the latest counters. This stalls; use it at the end of a run.
    ///
    /// # Errors
    /// When the device was lost.
    pub fn wait(&mut self, recorder: &mut Recorder, meter: &mut Meter) -> Result<DeviceStatistics, GpuError> {
        recorder.submit();
        self.request_readback();
        self.readback.wait(&self.gpu)?;
        self.read_back(recorder, meter);
        self.record(recorder);
        recorder.submit();
        self.request_readback();
        self.readback.wait(&self.gpu)?;
        self.read_back(recorder, meter);
        recorder.counters.report(meter);
        Ok(self.statistics)
    }

    /// Statistics of the latest readback.
    pub fn statistics(&self) -> &DeviceStatistics {
        &self.statistics
    }

    /// Adds the elements that each collector has picked up between the previous call and the latest readback. Further collectors are left out.
    pub fn take_caught(&mut self, into: &mut [u64]) {
        for ((sum, now), taken) in into.iter_mut().zip(self.statistics.caught).zip(&mut self.taken_of) {
            *sum += now - std::mem::replace(taken, now);
        }
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
        columns + trails + self.steps.size() + self.births.size() + self.newborn.bytes() + self.grids.bytes()
    }

    /// Reads the elements back. Shards are in no particular order. This stalls; it is for tests and for saving.
    ///
    /// # Errors
    /// When the device was lost.
    pub fn read(&mut self, recorder: &mut Recorder) -> Result<Vec<BodyRow>, GpuError> {
        let alive = self.wait(recorder, &mut Meter::new())?;
        let parity = (alive.steps % 2) as usize;
        let counts = read_words(&self.gpu, &self.counts, self.counts.size())?;
        let mut rows = Vec::with_capacity(alive.alive as usize);
        for shard in &self.shards {
            let live = counts[shard.counts as usize + parity] as usize;
            if live == 0 {
                continue;
            }
            let [places, motions, ages] = &shard.columns[self.now];
            let places = read_words(&self.gpu, places, live as u64 * 16)?;
            let motions = read_words(&self.gpu, motions, live as u64 * 16)?;
            let ages = read_words(&self.gpu, ages, live as u64 * 8)?;
            let float = f32::from_bits;
            for ((place, motion), age) in
                places.chunks_exact(4).zip(motions.chunks_exact(4)).zip(ages.chunks_exact(2)).take(live)
            {
                rows.push(BodyRow {
                    px: float(place[0]),
                    py: float(place[1]),
                    pz: float(place[2]),
                    vx: float(motion[0]),
                    vy: float(motion[1]),
                    vz: float(motion[2]),
                    age: float(age[0]),
                    life: float(age[1]),
                    size: float(place[3]),
                    id: motion[3],
                    key: motion[3],
                });
            }
        }
        Ok(rows)
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

/// Reads words back. This stalls.
pub(crate) fn read_words(gpu: &Gpu, from: &wgpu::Buffer, bytes: u64) -> Result<Vec<u32>, GpuError> {
    let to = gpu.buffer("read", bytes, BufferUsages::MAP_READ | BufferUsages::COPY_DST);
    let mut encoder = gpu.device().create_command_encoder(&wgpu::CommandEncoderDescriptor::default());
    encoder.copy_buffer_to_buffer(from, 0, &to, 0, bytes);
    gpu.queue().submit([encoder.finish()]);
    to.map_async(wgpu::MapMode::Read, .., |_| {});
    gpu.wait()?;
    let view = to.get_mapped_range(..).map_err(|error| GpuError::Lost(error.to_string()))?;
    Ok(bytemuck::cast_slice(&view[..bytes as usize]).to_vec())
}
