//! Flocks on the device: sorted by cell, steered, moved and drawn there, without a readback.
//!
//! | question | file |
//! | --- | --- |
//! | what does a flock hold, and what is read of it? | `mod.rs` |
//! | what is dispatched in a step? | `encode.rs` |
//! | which buffers does a dispatch bind? | `layouts.rs` |
//! | how do flocks look at each other? | `set.rs` |
//!
//! State is three buffers: places with sizes, motions with numbers, bearings. A step copies them into the order of cells, and writes them anew from there.

mod encode;
mod layouts;
pub(crate) mod set;

use std::sync::Arc;

use frolic_core::backend::{
    DeviceCells, DeviceField, FlockTargets, MOST_FLOCK, MOST_TARGETS, OwnFields, Wave, flock_bodies,
    free_axes, why_flock_not_on_device,
};
use frolic_core::{
    ApartSpec, Assets, BodyRow, Change, Counter, FieldSpec, Flock, FlockGauges, FlockSpec, Meter,
    ParticleSpec, Span, SpecError, Target, World,
};
use frolic_draw::{DeviceKey, Instances};
use wgpu::ComputePipeline;

use crate::apart::{ApartBodies, GpuApart};
use crate::device::error::GpuError;
use crate::device::readback::Readback;
use crate::device::{DeviceCounters, Gpu, Recorder, upload};
use crate::draw::order::groups;
use crate::draw::population::{DeviceElements, DevicePopulation};
use crate::neighbours::{DeviceGrid, Sorted};
use crate::population::grids::Grids;
use crate::population::read::{read_words, wide_since};
use crate::population::shard::Fields;
use crate::population::{DevicePopulationError, next_key};
use crate::shared::flock::{
    ARRANGED_ROWS, BEARING_ROWS, CAUGHT, CELLS_USED, CROWDED, FLOCK_WORDS, FULLEST, GAUGES, NEIGHBOURS,
    NEXT_ID, NO_ELEMENT, TESTED,
};
use crate::shared::step::{
    CALL_DRAW, CALL_STEP, CALL_WORDS, CORNERS, EMITTED, HITS, LIVE, MOST_STEPS, POPULATION_WORDS, STEP_SLOT,
    STEPS, TESTED_APART,
};
use layouts::{FlockBuffers, FlockGroups, FlockLayouts};

/// Word of the counters with the number of elements.
const LIVE_WORD: u32 = POPULATION_WORDS + LIVE + 1;

/// What is known of a flock on the device: totals since the start, and its order in the last step. One or two frames old.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
#[non_exhaustive]
pub struct DeviceFlockStatistics {
    /// Steps taken at the time of the readback.
    pub steps: u64,
    /// Elements at that time.
    pub alive: u64,
    /// Newcomers.
    pub joined: u64,
    /// Elements that hunters have caught.
    pub caught: u64,
    /// Contacts with obstacles.
    pub hits: u64,
    /// Pairs whose distance was tested.
    pub pairs_tested: u64,
    /// Pairs within reach.
    pub pairs_near: u64,
    /// Elements that slept through a step, added up over all steps.
    pub asleep: u64,
    /// Elements that looked at some for all of a crowd.
    pub crowded: u64,
    /// Elements of the fullest cell in the last step.
    pub fullest: u64,
    /// Cells with elements in the last step.
    pub cells_used: u64,
    /// Order of the flock in the last step.
    pub gauges: FlockGauges,
}

/// What a flock on a device is built from.
#[derive(Debug, Clone, Copy)]
pub struct GpuFlockSpec<'a> {
    spec: &'a FlockSpec,
    count: u32,
    size: Span,
    seed: u32,
    fields: &'a [FieldSpec],
    apart: Option<ApartSpec>,
}

impl<'a> GpuFlockSpec<'a> {
    /// A flock of `count` elements whose sizes are within a range, in metres.
    pub fn new(spec: &'a FlockSpec, count: u32, size: Span, seed: u32) -> Self {
        Self { spec, count, size, seed, fields: &[], apart: None }
    }

    /// With fields that act on it besides those of the world.
    pub fn fields(mut self, fields: &'a [FieldSpec]) -> Self {
        self.fields = fields;
        self
    }

    /// Its elements keep apart as bodies, beside what separation does.
    pub fn apart(mut self, apart: Option<ApartSpec>) -> Self {
        self.apart = apart;
        self
    }
}

/// An element of a flock as it is read back.
#[derive(Debug, Clone, Copy, PartialEq)]
#[non_exhaustive]
pub struct FlockElement {
    /// Position, velocity, size and number.
    pub body: BodyRow,
    /// Velocity one step ago, in m/s.
    pub before: [f32; 3],
    /// Bank into its turn, in radians.
    pub bank: f32,
    /// Way gone, in metres.
    pub way: f32,
    /// Alarm, 0 to 1.
    pub alarm: f32,
    /// Others that it sees within the radius of cohesion.
    pub around: f32,
    /// Distance of the nearest other, in metres, if one is in reach.
    pub nearest: Option<f32>,
    /// Its strongest rule: separation 0, alignment 0.5, cohesion 1.
    pub rule: f32,
    /// Number of the prey that it chases.
    pub quarry: Option<u32>,
}

/// A flock on a device, stepped as a member of a [`GpuFlocks`](crate::GpuFlocks).
#[derive(Debug)]
pub struct GpuFlock {
    gpu: Gpu,
    key: u64,
    spec: FlockSpec,
    /// The same elements as bodies of the world.
    bodies: ParticleSpec,
    seed: u32,
    time: f64,
    /// Number and length of the last step.
    taken: u64,
    last: f32,
    cells: DeviceCells,
    targets: FlockTargets,
    own: OwnFields,
    fields: (Vec<DeviceField>, Vec<Wave>),
    layouts: Arc<FlockLayouts>,
    buffers: FlockBuffers,
    groups: FlockGroups,
    grid: DeviceGrid,
    grids: Grids,
    apart: Option<GpuApart>,
    /// The pipeline for the world of the last step.
    steering: Option<(Fields, ComputePipeline)>,
    /// Populations that it seeks or flees, in the order of slots, and their copies.
    seen: Vec<Seen>,
    hunt: Option<wgpu::BindGroup>,
    pending: u32,
    readback: Readback,
    raw: [u32; FLOCK_WORDS as usize],
    statistics: DeviceFlockStatistics,
    frame: u64,
    read_at: u64,
}

/// A population that a flock sees.
#[derive(Debug)]
struct Seen {
    name: String,
    group: Option<wgpu::BindGroup>,
}

impl GpuFlock {
    /// A flock, where one on the CPU of the same seed starts.
    fn new(
        gpu: &Gpu,
        layouts: &Arc<FlockLayouts>,
        of: &GpuFlockSpec<'_>,
        assets: &Assets,
    ) -> Result<Self, DevicePopulationError> {
        let GpuFlockSpec { spec, count, size, seed, fields, apart } = *of;
        let most = MOST_FLOCK.min((gpu.binding() / (16 * u64::from(ARRANGED_ROWS))) as u32);
        if count > most {
            let problem = format!("{count} elements of a flock are over the limit of one storage buffer");
            return Err(SpecError::new("count", problem, format!("write at most {most}")).into());
        }
        let start = Flock::with_assets(spec, count, size, seed, assets)?;
        let bodies = flock_bodies(spec, count, size, fields);
        let buffers = FlockBuffers::new(gpu, count, FLOCK_WORDS, MOST_STEPS, STEP_SLOT);
        let sorted = Sorted {
            uniforms: &buffers.flock_steps,
            counters: &buffers.counts,
            places: &[&buffers.places],
            gone: &buffers.gone,
        };
        let grid = DeviceGrid::new(gpu, &layouts.grid, count, most_cells(count), sorted);
        let groups = FlockGroups::new(gpu, layouts, &buffers, &grid);
        let apart = apart.map(|apart| {
            apart.check().map_err(|error| error.under("apart"))?;
            let of = ApartBodies {
                steps: &buffers.steps,
                counters: &buffers.counts,
                copies: &[[&buffers.places, &buffers.motions]],
                tally: TESTED_APART,
            };
            let free = free_axes(spec.keep_to);
            Ok::<_, DevicePopulationError>(GpuApart::new(gpu, &apart, size.max, free, count, of)?)
        });
        let apart = apart.transpose()?;
        let mut flock = Self {
            gpu: gpu.clone(),
            key: next_key(),
            cells: DeviceCells::of(spec, count),
            targets: FlockTargets::new(spec, assets)?,
            own: OwnFields::new(&bodies, assets)?,
            fields: Default::default(),
            grids: Grids::new(gpu),
            apart,
            readback: Readback::new(gpu, "flock", FLOCK_WORDS as usize),
            spec: spec.clone(),
            bodies,
            seed,
            time: 0.0,
            taken: 0,
            last: 0.0,
            layouts: Arc::clone(layouts),
            buffers,
            groups,
            grid,
            steering: None,
            seen: Vec::new(),
            hunt: None,
            pending: 0,
            raw: [0; FLOCK_WORDS as usize],
            statistics: DeviceFlockStatistics { alive: u64::from(count), ..Default::default() },
            frame: 0,
            read_at: 0,
        };
        flock.note_seen();
        flock.put(&start);
        Ok(flock)
    }

    /// Lists the populations that its spec seeks or flees.
    fn note_seen(&mut self) {
        self.seen.clear();
        for target in self.spec.seek.iter().chain(&self.spec.flee).take(MOST_TARGETS) {
            if let Target::Population(name) = &target.target
                && !self.seen.iter().any(|seen| seen.name == *name)
            {
                self.seen.push(Seen { name: name.clone(), group: None });
            }
        }
    }

    /// Uploads the state that a flock on the CPU starts in.
    fn put(&mut self, start: &Flock) {
        let (bodies, own) = (start.columns(), start.own_columns());
        let ([px, py, pz], [vx, vy, vz]) = (bodies.position(), bodies.velocity());
        let (size, id, way) = (bodies.size(), bodies.id(), own.way());
        let (mut places, mut motions) = (Vec::new(), Vec::new());
        let (mut bearings, mut starts) = (Vec::new(), Vec::new());
        for nth in 0..start.len() {
            let velocity = [vx[nth], vy[nth], vz[nth]].map(f32::to_bits);
            let place = [px[nth], py[nth], pz[nth], size[nth]].map(f32::to_bits);
            let [a, b, c] = velocity;
            let motion = [a, b, c, id[nth]];
            places.extend_from_slice(&place);
            motions.extend_from_slice(&motion);
            starts.extend_from_slice(&[place, motion].concat());
            bearings.extend_from_slice(&[a, b, c, 0]);
            bearings.extend_from_slice(&[way[nth].to_bits(), (-1f32).to_bits(), 0, 0]);
            bearings.extend_from_slice(&[0, NO_ELEMENT, (-1f32).to_bits(), 0]);
        }
        let live = start.len() as u32;
        let mut counts = vec![0u32; FLOCK_WORDS as usize];
        (counts[LIVE_WORD as usize], counts[NEXT_ID as usize]) = (live, live);
        let mut calls = vec![0u32; CALL_WORDS as usize];
        let [across, down] = groups(live);
        calls[CALL_STEP as usize..][..3].copy_from_slice(&[across, down, 1]);
        calls[CALL_DRAW as usize..][..2].copy_from_slice(&[CORNERS, live]);
        let FlockBuffers { places: to_places, motions: to_motions, bearings: to_bearings, .. } =
            &self.buffers;
        let mut counters = DeviceCounters::default();
        for (to, words) in [
            (to_places, &places),
            (to_motions, &motions),
            (to_bearings, &bearings),
            (&self.buffers.starts, &starts),
            (&self.buffers.counts, &counts),
            (&self.buffers.calls, &calls),
        ] {
            upload(&self.gpu, to, 0, words, &mut counters);
        }
        self.raw.copy_from_slice(&counts);
    }

    /// Returns whether the running flock can take a spec: the device can run it, and it differs neither in where elements start, nor in the plane that they
    /// stay in, nor in whether they hunt.
    pub fn can_retune(&self, spec: &FlockSpec, world: &World, assets: &Assets) -> bool {
        let bodies = flock_bodies(spec, self.bodies.count, self.bodies.size, &self.bodies.field);
        spec.starts_as(&self.spec)
            && spec.hunt.is_some() == self.spec.hunt.is_some()
            && spec.check(self.bodies.count).is_ok()
            && why_flock_not_on_device(spec, &bodies, &[], world, assets).is_none()
    }

    /// Changes the spec from the next step that is encoded on. Populations that it names anew are looked up by [`GpuFlocks::link`](crate::GpuFlocks::link).
    ///
    /// # Errors
    /// A value is out of range, or an asset is missing. The flock then stays as it is.
    fn retune(&mut self, spec: &FlockSpec, assets: &Assets) -> Result<Change, SpecError> {
        if *spec == self.spec {
            return Ok(Change::Unchanged);
        }
        spec.check(self.bodies.count)?;
        let targets = FlockTargets::new(spec, assets)?;
        let bodies = flock_bodies(spec, self.bodies.count, self.bodies.size, &self.bodies.field);
        (self.targets, self.bodies, self.spec) = (targets, bodies, spec.clone());
        self.cells = DeviceCells::of(&self.spec, self.bodies.count);
        self.note_seen();
        Ok(Change::Live)
    }

    /// The spec that it follows.
    pub fn spec(&self) -> &FlockSpec {
        &self.spec
    }

    /// Statistics of the latest readback.
    pub fn statistics(&self) -> &DeviceFlockStatistics {
        &self.statistics
    }

    /// Age of the latest readback in frames.
    pub fn readback_age(&self) -> u64 {
        self.frame - self.read_at
    }

    /// Simulated time in seconds.
    pub fn time(&self) -> f64 {
        self.time
    }

    /// Key for draw lists.
    pub fn population(&self) -> DeviceKey {
        DeviceKey { key: self.key << 16, most: self.bodies.count }
    }

    /// Instances for a draw list, drawn `lag` seconds before the last step.
    pub fn instances(&self, lag: f32) -> Instances<'static> {
        Instances::on_device(self.population(), lag)
    }

    /// Bytes held on the device.
    pub fn bytes(&self) -> u64 {
        let apart = self.apart.as_ref().map_or(0, GpuApart::bytes);
        self.buffers.bytes() + self.grid.bytes() + self.grids.bytes() + apart
    }

    /// Encodes the copy of the counters for a readback.
    fn record(&mut self, recorder: &mut Recorder) {
        let (encoder, _) = recorder.parts();
        self.frame += 1;
        self.readback.record(encoder, &self.buffers.counts, self.frame);
    }

    /// Reads back counters that have arrived, and adds the new counts to the meter.
    fn read_back(&mut self, recorder: &mut Recorder, meter: &mut Meter) {
        self.gpu.poll();
        let before = self.statistics;
        let (raw, now, read_at) = (&mut self.raw, &mut self.statistics, &mut self.read_at);
        self.readback.read_back(&mut recorder.counters, |frame, words| {
            let single = |word: u32| u64::from(words[word as usize].wrapping_sub(raw[word as usize]));
            let wide = |word: u32| wide_since(&raw[..], words, word);
            now.steps += single(STEPS);
            now.joined += single(EMITTED);
            now.caught += single(CAUGHT);
            now.hits += single(HITS);
            now.crowded += single(CROWDED);
            now.pairs_tested += wide(TESTED) + wide(TESTED_APART);
            now.pairs_near += wide(NEIGHBOURS) + wide(TESTED_APART + 2);
            now.asleep += single(TESTED_APART + 4);
            now.alive = u64::from(words[LIVE_WORD as usize]);
            now.fullest = u64::from(words[FULLEST as usize]);
            now.cells_used = u64::from(words[CELLS_USED as usize]);
            let gauge = |nth: u32| f64::from(f32::from_bits(words[(GAUGES + nth) as usize]));
            now.gauges.order = gauge(0);
            now.gauges.milling = gauge(1);
            now.gauges.nearest = gauge(2);
            now.gauges.speed = gauge(3);
            raw.copy_from_slice(&words[..FLOCK_WORDS as usize]);
            *read_at = frame;
        });
        meter.add(Counter::Emitted, now.joined - before.joined);
        meter.add(Counter::Caught, now.caught - before.caught);
        meter.add(Counter::Hits, now.hits - before.hits);
        meter.add(Counter::PairsTested, now.pairs_tested - before.pairs_tested);
        meter.add(Counter::PairsNear, now.pairs_near - before.pairs_near);
        meter.add(Counter::Crowded, now.crowded - before.crowded);
        meter.add(Counter::SetAside, now.asleep - before.asleep);
        if now.steps > 0 {
            meter.set(Counter::FullestCell, now.fullest);
            meter.set(Counter::CellsUsed, now.cells_used);
            meter.set(Counter::NeighbourBytes, self.grid.bytes());
        }
    }

    /// Waits for the latest counters.
    fn wait(&mut self, recorder: &mut Recorder, meter: &mut Meter) -> Result<(), GpuError> {
        // What is on its way first, so that a buffer is free.
        self.fetch(recorder, meter)?;
        self.record(recorder);
        self.fetch(recorder, meter)
    }

    /// Submits, and waits for the readbacks that were recorded.
    fn fetch(&mut self, recorder: &mut Recorder, meter: &mut Meter) -> Result<(), GpuError> {
        recorder.submit();
        self.readback.request_readback();
        self.readback.wait(&self.gpu)?;
        self.read_back(recorder, meter);
        Ok(())
    }

    /// Reads all elements back. This stalls; it is for tests.
    fn read(&mut self, recorder: &mut Recorder) -> Result<Vec<FlockElement>, GpuError> {
        self.wait(recorder, &mut Meter::new())?;
        let live = self.statistics.alive;
        let places = read_words(&self.gpu, &self.buffers.places, live * 16)?;
        let motions = read_words(&self.gpu, &self.buffers.motions, live * 16)?;
        let bearings = read_words(&self.gpu, &self.buffers.bearings, live * 16 * u64::from(BEARING_ROWS))?;
        let float = f32::from_bits;
        let rows = places.chunks_exact(4).zip(motions.chunks_exact(4)).zip(bearings.chunks_exact(12));
        let row = |((place, motion), own): ((&[u32], &[u32]), &[u32])| FlockElement {
            body: BodyRow {
                px: float(place[0]),
                py: float(place[1]),
                pz: float(place[2]),
                vx: float(motion[0]),
                vy: float(motion[1]),
                vz: float(motion[2]),
                life: f32::INFINITY,
                size: float(place[3]),
                id: motion[3],
                key: motion[3],
                ..BodyRow::default()
            },
            before: [float(own[0]), float(own[1]), float(own[2])],
            bank: float(own[3]),
            way: float(own[4]),
            alarm: float(own[6]),
            around: float(own[7]),
            nearest: Some(float(own[10])).filter(|nearest| *nearest >= 0.0),
            rule: float(own[11]),
            quarry: Some(own[9]).filter(|quarry| *quarry != NO_ELEMENT),
        };
        Ok(rows.take(live as usize).map(row).collect())
    }
}

impl DevicePopulation for GpuFlock {
    fn elements(&self, key: u64) -> Option<DeviceElements<'_>> {
        let FlockBuffers { places, motions, bearings, calls, counts, .. } = &self.buffers;
        (key == self.key << 16).then_some(DeviceElements {
            columns: [places, motions, bearings],
            heading_step: Some(self.last),
            trail: None,
            calls,
            counters: counts,
            live: LIVE_WORD,
            most: self.bodies.count,
            copy: 0,
        })
    }
}

/// Most cells that a flock of so many elements can use, whatever its spec.
fn most_cells(count: u32) -> u32 {
    let of = |free| DeviceCells::new(1.0, count, [0.0; 3], [0.0; 3], free).count();
    of([1.0; 3]).max(of([1.0, 0.0, 1.0]))
}
