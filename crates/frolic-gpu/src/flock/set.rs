//! Flocks of a device that look at each other and are stepped together.

use std::sync::Arc;

use frolic_core::backend::MOST_SEEN;
use frolic_core::{Assets, Change, Counter, FlockSpec, Meter, SpecError, Stage, World};
use wgpu::BufferUsages;

use super::layouts::{FlockGroups, FlockLayouts};
use super::{FlockElement, GpuFlock, GpuFlockSpec, LIVE_WORD};
use crate::device::error::GpuError;
use crate::device::{DeviceCounters, Gpu, Recorder, upload};
use crate::population::DevicePopulationError;
use crate::shared::SharedStruct;
use crate::shared::flock::SeenSlot;

/// Named flocks of one device. In each step they take their turns in the order in which they were added.
///
/// ```no_run
/// use frolic_core::{Assets, FlockSpec, HuntSpec, Span, WorldSpec};
/// use frolic_gpu::{Gpu, GpuFlockSpec, GpuFlocks, GpuSpec, Recorder};
/// let gpu = Gpu::open(GpuSpec::default())?;
/// let (school, hunter) = (FlockSpec::school(0.1), FlockSpec::flight(1.0).hunt(HuntSpec::new("school")));
/// let mut flocks = GpuFlocks::new(&gpu);
/// flocks.add("school", &GpuFlockSpec::new(&school, 100_000, Span::from(0.1), 1), &Assets::default())?;
/// flocks.add("hunter", &GpuFlockSpec::new(&hunter, 3, Span::from(1.0), 2), &Assets::default())?;
/// flocks.link()?;
/// let mut recorder = Recorder::new(&gpu);
/// flocks.step(&mut recorder, &WorldSpec::default().build()?, 1.0 / 30.0, 2)?;
/// recorder.submit();
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Debug)]
pub struct GpuFlocks {
    gpu: Gpu,
    /// Built with the first flock.
    layouts: Option<Arc<FlockLayouts>>,
    names: Vec<String>,
    members: Vec<GpuFlock>,
    generation: u64,
}

impl GpuFlocks {
    /// None yet.
    pub fn new(gpu: &Gpu) -> Self {
        Self { gpu: gpu.clone(), layouts: None, names: Vec::new(), members: Vec::new(), generation: u64::MAX }
    }

    /// Adds a flock. Returns its index.
    ///
    /// # Errors
    /// A value is out of range, an asset is missing, a name is taken, or the device has no room.
    pub fn add(
        &mut self,
        name: &str,
        flock: &GpuFlockSpec<'_>,
        assets: &Assets,
    ) -> Result<usize, DevicePopulationError> {
        self.gpu.check()?;
        if self.names.iter().any(|other| other == name) {
            let problem = format!("'{name}' is used twice");
            return Err(SpecError::new("name", problem, "write another name").into());
        }
        let layouts = match &self.layouts {
            Some(layouts) => Arc::clone(layouts),
            None => Arc::clone(self.layouts.insert(Arc::new(FlockLayouts::new(&self.gpu)?))),
        };
        self.members.push(GpuFlock::new(&self.gpu, &layouts, flock, assets)?);
        self.names.push(name.to_owned());
        Ok(self.members.len() - 1)
    }

    /// Finds the flocks that others seek, flee or hunt. Call it after the last one was added; without it they are not seen.
    ///
    /// # Errors
    /// A flock looks at one that is not there, at one of over [`MOST_SEEN`] elements that it does not hunt, or hunts with over that many.
    pub fn link(&mut self) -> Result<(), DevicePopulationError> {
        let Some(layouts) = self.layouts.clone() else { return Ok(()) };
        for nth in 0..self.members.len() {
            let find = |name: &str| {
                let other = self.names.iter().position(|other| other == name);
                other.ok_or_else(|| {
                    let problem = format!("looks at '{name}', which is no flock on the device");
                    SpecError::new("flock", problem, "keep both on the CPU").under(&self.names[nth])
                })
            };
            let mut groups = Vec::new();
            for (slot, seen) in self.members[nth].seen.iter().enumerate() {
                let other = &self.members[find(&seen.name)?];
                if other.bodies.count > MOST_SEEN {
                    let problem =
                        format!("seeks or flees '{}', of {} elements", seen.name, other.bodies.count);
                    let instead = format!("name one of at most {MOST_SEEN}, or keep both on the CPU");
                    return Err(SpecError::new("flock", problem, instead).under(&self.names[nth]).into());
                }
                let uniform = self.gpu.buffer("slot", 16, BufferUsages::UNIFORM | BufferUsages::COPY_DST);
                let words = SeenSlot { slot: slot as u32, live: LIVE_WORD, spare: 0, spare_b: 0 }.words();
                upload(&self.gpu, &uniform, 0, &words, &mut DeviceCounters::default());
                let (seen, by) = (&other.buffers, &self.members[nth].buffers);
                groups.push(FlockGroups::seen(&self.gpu, &layouts, &uniform, seen, by));
            }
            let hunt = match &self.members[nth].spec.hunt {
                Some(hunt) => {
                    let (prey, own) = (&self.members[find(&hunt.prey)?], &self.members[nth]);
                    if own.bodies.count > MOST_SEEN {
                        let problem = format!("{} hunters are too many for a device", own.bodies.count);
                        let instead = format!("write at most {MOST_SEEN}");
                        return Err(SpecError::new("count", problem, instead).under(&self.names[nth]).into());
                    }
                    Some(FlockGroups::hunt(&self.gpu, &layouts, &own.buffers, &prey.buffers))
                }
                None => None,
            };
            let member = &mut self.members[nth];
            member.hunt = hunt;
            for (seen, group) in member.seen.iter_mut().zip(groups) {
                seen.group = Some(group);
            }
        }
        Ok(())
    }

    /// Changes the spec of a flock, from the next step that is encoded on. Nothing is read back.
    ///
    /// # Errors
    /// There is no such flock, a value is out of range, or an asset is missing. All flocks then stay as they are.
    pub fn retune(
        &mut self,
        name: &str,
        spec: &FlockSpec,
        assets: &Assets,
    ) -> Result<Change, DevicePopulationError> {
        let Some(nth) = self.names.iter().position(|other| other == name) else {
            let problem = format!("there is no flock '{name}'");
            return Err(SpecError::new("name", problem, "write one that was added").into());
        };
        let before = self.members[nth].spec.clone();
        let change = self.members[nth].retune(spec, assets)?;
        if let Err(problem) = self.link() {
            // As it was, all of its populations were found.
            self.members[nth].retune(&before, assets)?;
            self.link()?;
            return Err(problem);
        }
        Ok(change)
    }

    /// The flock of a name.
    pub fn get(&self, name: &str) -> Option<&GpuFlock> {
        self.names.iter().position(|other| other == name).map(|nth| &self.members[nth])
    }

    /// All flocks in the order they were added.
    pub fn members(&self) -> &[GpuFlock] {
        &self.members
    }

    /// Encodes `steps` steps of `dt` seconds (finite and above 0; others are not taken). If one submission cannot hold them, earlier ones are submitted.
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
        if !(dt.is_finite() && dt > 0.0) || self.members.is_empty() {
            return Ok(());
        }
        if frolic_core::backend::has_own_fields(world) {
            let problem =
                "shaders cannot run a custom field; keep the flock on the CPU (residence = \"cpu\")";
            return Err(GpuError::Unsupported(problem.to_owned()));
        }
        let mut left = steps;
        while left > 0 {
            if self.generation != recorder.generation {
                self.generation = recorder.generation;
                self.members.iter_mut().for_each(GpuFlock::start_over);
            }
            let now = self.members.iter().map(GpuFlock::room).min().unwrap_or(0).min(left);
            if now == 0 {
                recorder.submit();
                self.gpu.check()?;
                continue;
            }
            let (encoder, counters, timing) = recorder.split();
            let times = timing.compute(Stage::DeviceStep);
            let ready = self.members.iter_mut().map(|member| member.ready(encoder, counters, world));
            let solids = ready.collect::<Result<Vec<_>, _>>()?;
            let mut pass = encoder.begin_compute_pass(&wgpu::ComputePassDescriptor {
                label: Some("flocks"),
                timestamp_writes: times,
            });
            counters.passes += 1;
            for _ in 0..now {
                for (member, solids) in self.members.iter_mut().zip(&solids) {
                    member.take(&mut pass, counters, world, solids, dt);
                }
            }
            left -= now;
        }
        Ok(())
    }

    /// Encodes the copy of all counters for a readback. Call it at the end of a frame's commands.
    pub fn record(&mut self, recorder: &mut Recorder) {
        self.members.iter_mut().for_each(|member| member.record(recorder));
    }

    /// Requests the readback. Call it after the submission, before steps of the next frame.
    pub fn request_readback(&mut self) {
        self.members.iter_mut().for_each(|member| member.readback.request_readback());
    }

    /// Reads back counters that have arrived, without waiting. Adds new counts, the number of elements and the order of the last flock to the meter.
    pub fn read_back(&mut self, recorder: &mut Recorder, meter: &mut Meter) {
        for member in &mut self.members {
            member.read_back(recorder, meter);
            let statistics = member.statistics();
            meter.add(Counter::Alive, statistics.alive);
            if statistics.alive > 1 && statistics.steps > 0 {
                statistics.gauges.set_levels(meter);
            }
        }
    }

    /// Waits for the latest counters. This stalls; use it at the end of a run.
    ///
    /// # Errors
    /// When the device was lost.
    pub fn wait(&mut self, recorder: &mut Recorder, meter: &mut Meter) -> Result<(), GpuError> {
        self.members.iter_mut().try_for_each(|member| member.wait(recorder, meter))
    }

    /// Age of the oldest readback in frames.
    pub fn readback_age(&self) -> u64 {
        self.members.iter().map(GpuFlock::readback_age).max().unwrap_or(0)
    }

    /// Bytes held on the device.
    pub fn bytes(&self) -> u64 {
        self.members.iter().map(GpuFlock::bytes).sum()
    }

    /// Reads the elements of a flock back, by its index, in the order of cells. This stalls; it is for tests.
    ///
    /// # Errors
    /// The device was lost. An unknown index gives no elements.
    pub fn read(&mut self, recorder: &mut Recorder, nth: usize) -> Result<Vec<FlockElement>, GpuError> {
        self.members.get_mut(nth).map_or(Ok(Vec::new()), |member| member.read(recorder))
    }
}
