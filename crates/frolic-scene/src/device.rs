//! The graphics device of a scene: device-resident populations and pictures. `no_device.rs` replaces this file without the feature `gpu`.

use frolic_core::{Assets, Counter, Meter, ParticleSpec, SpecError, World};
use frolic_draw::{BackdropSpec, DeviceKey, DrawList, Image, View};
use frolic_gpu::{
    DevicePopulation, DevicePopulationError, Gpu, GpuError, GpuFlockSpec, GpuFlocks, GpuRenderer, GpuSet,
    Recorder,
};
use smallvec::SmallVec;

use crate::error::DeviceError;
use crate::resident::{FlockOnDevice, Retuned};

/// An open device, its populations and its renderer.
#[derive(Debug)]
pub(crate) struct Device {
    gpu: Gpu,
    recorder: Recorder,
    renderer: GpuRenderer,
    set: GpuSet,
    flocks: GpuFlocks,
    /// Flocks by name, and where their changed specs come in, with the assets that they name.
    retuned: Vec<(String, Retuned, Assets)>,
}

/// A population on the device, as draw lists name it.
#[derive(Debug)]
pub(crate) struct OnDevice {
    /// What a draw list names, one for each part of the population.
    pub(crate) shards: SmallVec<[DeviceKey; 1]>,
    pub(crate) trails: Option<DeviceKey>,
    /// Memory on the device when it was built. Later, only grids and newborns that the CPU has written are added.
    pub(crate) bytes: u64,
}

impl Device {
    /// Opens the default device.
    pub(crate) fn open() -> Result<Self, DeviceError> {
        let gpu = Gpu::shared()?;
        let renderer = GpuRenderer::new(&gpu)?;
        let (set, flocks) = (GpuSet::new(&gpu), GpuFlocks::new(&gpu));
        Ok(Self { recorder: Recorder::new(&gpu), renderer, set, flocks, retuned: Vec::new(), gpu })
    }

    /// Returns the name of the device, and whether it times passes.
    pub(crate) fn name(&self) -> String {
        let untimed = if self.gpu.is_timed() { "" } else { ", which does not time its passes" };
        format!("{}{untimed}", self.gpu.name())
    }

    /// Adds a population of particles.
    pub(crate) fn particles(
        &mut self,
        name: &str,
        spec: &ParticleSpec,
        seed: u32,
        assets: &Assets,
    ) -> Result<OnDevice, SpecError> {
        let nth = self.set.add(name, spec, seed, assets).map_err(as_spec)?;
        let member = &self.set.members()[nth];
        let (shards, trails) = (member.populations().collect(), member.trails());
        Ok(OnDevice { shards, trails, bytes: member.bytes() })
    }

    /// Adds a flock, whose later specs come in through `retuned`.
    pub(crate) fn flock(
        &mut self,
        name: &str,
        of: FlockOnDevice<'_>,
        assets: &Assets,
        retuned: &Retuned,
    ) -> Result<OnDevice, SpecError> {
        let FlockOnDevice { spec, count, size, seed, fields, apart } = of;
        let spec = GpuFlockSpec::new(spec, count, size, seed).fields(fields).apart(apart);
        let nth = self.flocks.add(name, &spec, assets).map_err(as_spec)?;
        self.retuned.push((name.to_owned(), retuned.clone(), assets.clone()));
        let member = &self.flocks.members()[nth];
        let shards = SmallVec::from_iter([member.population()]);
        Ok(OnDevice { shards, trails: None, bytes: member.bytes() })
    }

    /// Resolves the populations that events and flocks refer to. Call it after the last population.
    pub(crate) fn link(&mut self) -> Result<(), SpecError> {
        self.set.link().map_err(as_spec)?;
        self.flocks.link().map_err(as_spec)
    }

    /// Returns the number of live elements at the latest readback.
    pub(crate) fn alive(&self) -> usize {
        let particles = self.set.members().iter().map(|member| member.statistics().alive as usize);
        particles.chain(self.flocks.members().iter().map(|member| member.statistics().alive as usize)).sum()
    }

    /// Adds the number of elements that each collector has picked up between the previous call and the latest readback.
    pub(crate) fn take_caught(&mut self, caught: &mut [u64]) {
        self.set.take_caught(caught);
    }

    /// Returns the fault of a device that was lost or refused a command.
    pub(crate) fn check(&self) -> Result<(), DeviceError> {
        Ok(self.gpu.check()?)
    }

    /// Returns whether running populations, given by name, can take other specs.
    pub(crate) fn can_retune(&self, specs: &[(&str, &ParticleSpec)]) -> bool {
        specs.iter().all(|(name, spec)| self.set.get(name).is_some_and(|member| member.can_retune(spec)))
    }

    /// Changes the specs of running populations, given by name.
    pub(crate) fn retune(
        &mut self,
        specs: &[(&str, &ParticleSpec)],
        assets: &Assets,
    ) -> Result<(), SpecError> {
        self.set.retune(specs, assets).map(|_| ()).map_err(as_spec)
    }

    /// Returns whether a population is device-resident.
    pub(crate) fn has(&self, name: &str) -> bool {
        self.has_particles(name) || self.flocks.get(name).is_some()
    }

    /// Returns whether a population is device-resident particles.
    pub(crate) fn has_particles(&self, name: &str) -> bool {
        self.set.get(name).is_some()
    }

    /// Moves the centre of endless emitters: x and z, in metres.
    pub(crate) fn recentre(&mut self, middle: [f32; 2]) {
        self.set.recentre(middle);
    }

    pub(crate) fn step(
        &mut self,
        world: &World,
        dt: f32,
        steps: u32,
        meter: &mut Meter,
    ) -> Result<(), DeviceError> {
        let Self { recorder, set, flocks, retuned, .. } = self;
        for (name, retuned, assets) in retuned {
            if let Some(spec) = retuned.take() {
                // It was checked with the scene, and can live here.
                flocks
                    .retune(name, &spec, assets)
                    .map_err(|error| GpuError::Unsupported(error.to_string()))?;
            }
        }
        set.step(recorder, world, dt, steps)?;
        flocks.step(recorder, world, dt, steps)?;
        set.read_back(recorder, meter);
        flocks.read_back(recorder, meter);
        Ok(())
    }

    /// Records the readback of counters. Call it after the steps of a frame.
    pub(crate) fn record(&mut self, meter: &mut Meter) {
        self.set.record(&mut self.recorder);
        self.flocks.record(&mut self.recorder);
        meter.add(Counter::DeviceBytes, self.set.bytes() + self.flocks.bytes());
    }

    /// Requests the readback. Call it after the frame was submitted.
    pub(crate) fn request_readback(&mut self) {
        self.set.request_readback();
        self.flocks.request_readback();
    }

    /// Returns the age of the latest readback, in frames.
    pub(crate) fn readback_age(&self) -> u64 {
        self.set.readback_age().max(self.flocks.readback_age())
    }

    /// Waits for the present counts of all populations.
    pub(crate) fn wait(&mut self, meter: &mut Meter) -> Result<(), DeviceError> {
        self.set.wait(&mut self.recorder, meter)?;
        self.flocks.wait(&mut self.recorder, meter).map_err(DeviceError::from)
    }

    /// Draws a list: transparent without a backdrop. Without an image the picture is not read back, and the call waits for the device.
    pub(crate) fn draw(
        &mut self,
        list: &DrawList<'_>,
        view: &View,
        backdrop: Option<&BackdropSpec>,
        image: Option<&mut Image>,
        meter: &mut Meter,
    ) -> Result<(), DeviceError> {
        let Self { recorder, renderer, set, flocks, .. } = self;
        let particles = set.members().iter().map(|member| member as &dyn DevicePopulation);
        let flocks = flocks.members().iter().map(|member| member as &dyn DevicePopulation);
        let populations: Vec<&dyn DevicePopulation> = particles.chain(flocks).collect();
        let done = match (backdrop, image) {
            (Some(backdrop), Some(image)) => {
                renderer.render(recorder, list, &populations, view, backdrop, Some(image), meter)
            }
            (Some(backdrop), None) => renderer
                .render(recorder, list, &populations, view, backdrop, None, meter)
                .and_then(|()| renderer.wait(recorder, meter)),
            (None, Some(image)) => {
                renderer.render_transparent(recorder, list, &populations, view, image, meter)
            }
            (None, None) => Ok(()),
        };
        done.map_err(DeviceError::from)
    }
}

fn as_spec(error: DevicePopulationError) -> SpecError {
    match error {
        DevicePopulationError::Spec(error) => error,
        other => SpecError::new("", other.to_string(), "write residence = \"cpu\""),
    }
}
