//! Populations on a device that start one another: [`ParticleSet`](frolic_core::ParticleSet) where they live there.

use frolic_core::{Assets, Counter, Meter, ParticleSpec, SpecError, World, check_events};

use crate::device::error::GpuError;
use crate::device::{DeviceCounters, Gpu, Recorder};
use crate::population::events::{Following, Link};
use crate::population::steps::{Ready, step_together};
use crate::population::{DevicePopulationError, GpuParticles};

/// Named populations of one device whose events may start elements of each other, and which are stepped together.
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
    /// Events that start anything, parent by parent.
    links: Vec<Link>,
    /// Once there is any.
    following: Option<Following>,
    /// Rounds until nothing more follows from a step.
    rounds: u32,
}

impl GpuSet {
    /// No population yet.
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

    /// Adds an empty population, whose emitters and fields may name assets; returns its place.
    ///
    /// # Errors
    /// As [`GpuParticles::with_assets`], or a name that is there already.
    pub fn add(
        &mut self,
        name: &str,
        spec: &ParticleSpec,
        seed: u32,
        assets: &Assets,
    ) -> Result<usize, DevicePopulationError> {
        if self.names.iter().any(|other| other == name) {
            let problem = format!("'{name}' is there twice");
            return Err(SpecError::new("name", problem, "write another name").into());
        }
        self.members.push(GpuParticles::with_assets(&self.gpu, spec, seed, assets)?);
        self.names.push(name.to_owned());
        Ok(self.members.len() - 1)
    }

    /// Finds the populations that events name, once all are there and before the first step. Events that were not linked start nothing.
    ///
    /// # Errors
    /// As [`ParticleSet::link`](frolic_core::ParticleSet::link); and what shaders cannot follow: looks that are handed down, elements that
    /// start from assets, and populations that are more than a shader sees at once.
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
                    let problem = format!("events that {why} are not followed on a device");
                    return Err(SpecError::new(key, problem, "keep them with the processor").into());
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
        // No chain of births is longer than there are events of births.
        self.rounds = 1 + self.links.iter().filter(|link| link.is_birth).count() as u32;
        self.following = Some(following);
        Ok(())
    }

    /// The population of this name.
    pub fn get(&self, name: &str) -> Option<&GpuParticles> {
        self.names.iter().position(|other| other == name).map(|nth| &self.members[nth])
    }

    /// All populations, in the order in which they were added.
    pub fn members(&self) -> &[GpuParticles] {
        &self.members
    }

    /// Moves the middle that scattered emitters are there around: x and z, m.
    pub fn recentre(&mut self, middle: [f32; 2]) {
        self.members.iter_mut().for_each(|member| {
            member.recentre(middle);
        });
    }

    /// Writes down `steps` steps of `dt` seconds each of all populations, and after each step what follows from it.
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

    /// At the end of a frame's commands: has the device's totals copied where they can be read_at.
    pub fn record(&mut self, recorder: &mut Recorder) {
        self.members.iter_mut().for_each(|member| member.record(recorder));
    }

    /// Asks for what was copied, after it was submitted; a new frame's steps may then be written down.
    pub fn request_readback(&mut self) {
        self.members.iter_mut().for_each(GpuParticles::request_readback);
    }

    /// Takes in what has come, without waiting, and tells the meter what is new, and how many are alive.
    pub fn read_back(&mut self, recorder: &mut Recorder, meter: &mut Meter) {
        for member in &mut self.members {
            member.read_back(recorder, meter);
            meter.add(Counter::Alive, member.statistics().alive);
        }
    }

    /// Waits for the newest totals of all. It stalls: for the end of a run, not for a frame.
    ///
    /// # Errors
    /// When the device was lost.
    pub fn wait(&mut self, recorder: &mut Recorder, meter: &mut Meter) -> Result<(), GpuError> {
        self.members.iter_mut().try_for_each(|member| member.wait(recorder, meter).map(|_| ()))
    }

    /// Adds what each collector has picked up, of what was read_at since the last call.
    pub fn take_caught(&mut self, into: &mut [u64]) {
        self.members.iter_mut().for_each(|member| member.take_caught(into));
    }

    /// Frames between what was read_at last and now, at most.
    pub fn readback_age(&self) -> u64 {
        self.members.iter().map(GpuParticles::readback_age).max().unwrap_or(0)
    }

    /// Bytes held on the device.
    pub fn bytes(&self) -> u64 {
        self.members.iter().map(GpuParticles::bytes).sum()
    }

    /// Reads the elements of a population, by its place, back. It stalls: for tests and for saving.
    ///
    /// # Errors
    /// When the device was lost. None where there is no such population.
    pub fn read(
        &mut self,
        recorder: &mut Recorder,
        nth: usize,
    ) -> Result<Vec<frolic_core::BodyRow>, GpuError> {
        self.members.get_mut(nth).map_or(Ok(Vec::new()), |member| member.read(recorder))
    }
}

/// What follows from a step that all have taken, in the order in which the processor follows it.
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
            // All members have written the same copy, as they are stepped together.
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
