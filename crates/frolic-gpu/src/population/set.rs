//! Populations on a device whose events start elements of each other, like [`ParticleSet`](frolic_core::ParticleSet) on the CPU.

use frolic_core::{Assets, Change, Counter, Meter, ParticleSpec, SpecError, World, check_events, listed};

use crate::device::error::GpuError;
use crate::device::{DeviceCounters, Gpu, Recorder};
use crate::population::events::{Following, Link};
use crate::population::retune::Retune;
use crate::population::steps::{Ready, step_together};
use crate::population::{DevicePopulationError, GpuParticles};

/// Named populations of one device that are stepped together. Their events may start elements of each other.
///
/// ```no_run
/// use frolic_core::{EmitterSpec, EventSpec, Assets, Moment, ParticleSpec, WorldSpec};
/// use frolic_gpu::{Gpu, GpuSet, GpuSpec, Recorder};
/// let gpu = Gpu::open(GpuSpec::default())?;
/// let rocket = ParticleSpec::new(1000)
///     .life(0.5, 0.5)
///     .emitter(EmitterSpec::rate(90.0).speed(9.0, 9.0))
///     .event(EventSpec::start(Moment::Death, "sparks", 80.0));
/// let mut set = GpuSet::new(&gpu);
/// set.add("rocket", &rocket, 1, &Assets::default())?;
/// set.add("sparks", &ParticleSpec::new(100_000), 2, &Assets::default())?;
/// set.link()?;
/// let mut recorder = Recorder::new(&gpu);
/// set.step(&mut recorder, &WorldSpec::default().build()?, 1.0 / 60.0, 4)?;
/// recorder.submit();
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Debug)]
pub struct GpuSet {
    gpu: Gpu,
    names: Vec<String>,
    members: Vec<GpuParticles>,
    /// Events that start elements, ordered by parent.
    links: Vec<Link>,
    /// Created with the first event.
    following: Option<Following>,
    /// Rounds after which no more births follow.
    rounds: u32,
}

impl GpuSet {
    /// An empty set.
    pub fn new(gpu: &Gpu) -> Self {
        Self {
            gpu: gpu.clone(),
            names: Vec::new(),
            members: Vec::new(),
            links: Vec::new(),
            following: None,
            rounds: 1,
        }
    }

    /// Adds an empty population, whose emitters and fields may name assets. Returns its index.
    ///
    /// # Errors
    /// As [`GpuParticles::with_assets`], or a name that is taken.
    pub fn add(
        &mut self,
        name: &str,
        spec: &ParticleSpec,
        seed: u32,
        assets: &Assets,
    ) -> Result<usize, DevicePopulationError> {
        if self.names.iter().any(|other| other == name) {
            let problem = format!("'{name}' is used twice");
            return Err(SpecError::new("name", problem, "write another name").into());
        }
        self.members.push(GpuParticles::with_assets(&self.gpu, spec, seed, assets)?);
        self.names.push(name.to_owned());
        Ok(self.members.len() - 1)
    }

    /// Resolves the populations that events name. Call it after the last population and before the first step; without it events start nothing.
    ///
    /// # Errors
    /// As [`ParticleSet::link`](frolic_core::ParticleSet::link), or an event that the device cannot run: inherited looks, elements that
    /// start from assets, or populations larger than one binding.
    pub fn link(&mut self) -> Result<(), DevicePopulationError> {
        let specs: Vec<_> = self
            .names
            .iter()
            .zip(&self.members)
            .map(|(name, member)| (name.as_str(), &member.spec().event[..]))
            .collect();
        let targets = check_events(&specs)?;
        self.links.clear();
        if targets.iter().flatten().all(Option::is_none) {
            return Ok(());
        }
        for (parent, targets) in targets.iter().enumerate() {
            for (number, target) in targets.iter().enumerate() {
                let event = &self.members[parent].spec().event[number];
                if let Some(why) = target.and_then(|target| self.members[target].cannot_be_started(event)) {
                    let key = format!("{}.event.{number}", self.names[parent]);
                    let problem = format!("the device cannot run events that {why}");
                    return Err(SpecError::new(key, problem, "keep these populations on the CPU").into());
                }
            }
        }
        let following = match self.following.take() {
            Some(following) => following,
            None => Following::new(&self.gpu)?,
        };
        for (parent, targets) in targets.iter().enumerate() {
            let started: Vec<_> =
                targets.iter().map(|target| target.map(|target| self.members[target].as_started())).collect();
            self.members[parent].note_for(&started);
        }
        for (parent, targets) in targets.iter().enumerate() {
            for (number, target) in targets.iter().enumerate() {
                let Some(target) = *target else { continue };
                let ends = [self.members[parent].ends(), self.members[target].ends()];
                let event = &self.members[parent].spec().event[number];
                let Some([from, to]) = ends[0].zip(ends[1]).map(|(from, to)| [from, to]) else { continue };
                self.links.push(following.link(&self.gpu, [parent, target], [from, to], number, event));
            }
        }
        // A chain of births is at most as long as the number of birth events.
        self.rounds = 1 + self.links.iter().filter(|link| link.is_birth).count() as u32;
        self.following = Some(following);
        Ok(())
    }

    /// Changes the specs of running populations, given by name, as [`GpuParticles::retune`].
    ///
    /// # Errors
    /// As [`GpuParticles::retune`], or no population has a name. All populations then stay as they are.
    pub fn retune(
        &mut self,
        specs: &[(&str, &ParticleSpec)],
        assets: &Assets,
    ) -> Result<Vec<Change>, DevicePopulationError> {
        let mut retunes = Vec::with_capacity(specs.len());
        for (name, spec) in specs {
            let Some(nth) = self.names.iter().position(|other| other == name) else {
                let instead = format!("write one of: {}", listed(self.names.iter().map(String::as_str)));
                return Err(
                    SpecError::new("name", format!("there is no population '{name}'"), instead).into()
                );
            };
            retunes.push((nth, self.members[nth].prepare_retune(spec, assets)?));
        }
        let change = |(nth, retune): (usize, Option<Retune>)| match retune {
            Some(retune) => {
                self.members[nth].commit(retune);
                Change::Live
            }
            None => Change::Unchanged,
        };
        Ok(retunes.into_iter().map(change).collect())
    }

    /// The population of a name.
    pub fn get(&self, name: &str) -> Option<&GpuParticles> {
        self.names.iter().position(|other| other == name).map(|nth| &self.members[nth])
    }

    /// All populations in the order they were added.
    pub fn members(&self) -> &[GpuParticles] {
        &self.members
    }

    /// Moves the centre of scattered emitters: x and z, in metres.
    pub fn recentre(&mut self, middle: [f32; 2]) {
        self.members.iter_mut().for_each(|member| {
            member.recentre(middle);
        });
    }

    /// Encodes `steps` steps of `dt` seconds of all populations, each followed by the elements that events start.
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
        let Self { gpu, members, links, following, rounds, .. } = self;
        let (links, following) = (&*links, following.as_ref());
        let follow = |members: &[GpuParticles],
                      pass: &mut wgpu::ComputePass<'_>,
                      counters: &mut DeviceCounters,
                      ready: &[&Ready]| {
            if let Some(following) = following {
                follow(following, links, *rounds, members, pass, counters, ready);
            }
        };
        step_together(gpu, members, follow, recorder, world, dt, steps)
    }

    /// Encodes the copy of all counters for a readback. Call it at the end of a frame's commands.
    pub fn record(&mut self, recorder: &mut Recorder) {
        self.members.iter_mut().for_each(|member| member.record(recorder));
    }

    /// Requests the readback. Call it after the submission, before steps of the next frame.
    pub fn request_readback(&mut self) {
        self.members.iter_mut().for_each(GpuParticles::request_readback);
    }

    /// Reads back counters that have arrived, without waiting. Adds new counts and live elements to the meter.
    pub fn read_back(&mut self, recorder: &mut Recorder, meter: &mut Meter) {
        for member in &mut self.members {
            member.read_back(recorder, meter);
            meter.add(Counter::Alive, member.statistics().alive);
        }
    }

    /// Waits for the latest counters of all populations. This stalls; use it at the end of a run.
    ///
    /// # Errors
    /// When the device was lost.
    pub fn wait(&mut self, recorder: &mut Recorder, meter: &mut Meter) -> Result<(), GpuError> {
        self.members.iter_mut().try_for_each(|member| member.wait(recorder, meter).map(|_| ()))
    }

    /// Adds the elements that each collector has picked up between the previous call and the latest readback.
    pub fn take_caught(&mut self, into: &mut [u64]) {
        self.members.iter_mut().for_each(|member| member.take_caught(into));
    }

    /// Age of the oldest readback in frames.
    pub fn readback_age(&self) -> u64 {
        self.members.iter().map(GpuParticles::readback_age).max().unwrap_or(0)
    }

    /// Bytes held on the device.
    pub fn bytes(&self) -> u64 {
        self.members.iter().map(GpuParticles::bytes).sum()
    }

    /// Reads the elements of a population back, by its index. This stalls; it is for tests and for saving.
    ///
    /// # Errors
    /// The device was lost. An unknown index gives no elements.
    pub fn read(
        &mut self,
        recorder: &mut Recorder,
        nth: usize,
    ) -> Result<Vec<frolic_core::BodyRow>, GpuError> {
        self.members.get_mut(nth).map_or(Ok(Vec::new()), |member| member.read(recorder))
    }
}

/// Starts the elements of all events after a step, in the order of the CPU.
fn follow(
    following: &Following,
    links: &[Link],
    rounds: u32,
    members: &[GpuParticles],
    pass: &mut wgpu::ComputePass<'_>,
    counters: &mut DeviceCounters,
    ready: &[&Ready],
) {
    let slot = |member: usize| ready[member].slot(1, 0);
    for round in 0..rounds {
        let mut parent = None;
        for link in links {
            // Members are stepped together, so all have written the same copy.
            let now = members[link.parent].copy();
            let is_first = parent.replace(link.parent) != Some(link.parent);
            if is_first && links.iter().any(|it| it.parent == link.parent && it.is_birth) {
                following.turn(pass, counters, link, now, slot(link.parent));
            }
            if link.is_birth {
                let Some(calls) = members[link.parent].calls() else { continue };
                following.note_births(pass, counters, link, now, slot(link.parent), calls);
            }
            if link.is_birth || round == 0 {
                following.start(pass, counters, link, now, slot(link.target));
            }
        }
    }
}
