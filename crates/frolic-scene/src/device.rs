//! A scene's graphics device: populations that live there, and the pictures it draws. `no_device.rs` stands in where the feature
//! `gpu` is off.

use frolic_core::{Counter, Forms, Meter, ParticleSet, ParticleSpec, PlacedColumns, SpecError, World};
use frolic_draw::{BackdropSpec, DrawList, Image, Instances, Resident, View};
use frolic_gpu::{Gpu, GpuParticles, GpuRenderer, GpuSet, Recorder, ResidentError};
use smallvec::SmallVec;

use crate::families::{DrawContext, Elements, InstancesOfKinds};

/// An open device with what lives on it and what draws it.
#[derive(Debug)]
pub(crate) struct Device {
    gpu: Gpu,
    recorder: Recorder,
    renderer: GpuRenderer,
    set: GpuSet,
}

/// A device-resident population: what a draw list names.
#[derive(Debug)]
struct Living {
    shards: SmallVec<[Resident; 1]>,
    trails: Option<Resident>,
}

impl Elements for Living {
    fn len(&self, _set: &ParticleSet) -> usize {
        0
    }

    fn bytes(&self, _set: &ParticleSet) -> u64 {
        0
    }

    fn instances<'a>(&'a self, context: DrawContext<'a>) -> InstancesOfKinds<'a> {
        self.shards.iter().map(|resident| (Instances::on_device(*resident, context.lag), 0)).collect()
    }

    fn trails(&self, context: DrawContext<'_>) -> Option<Instances<'_>> {
        self.trails.map(|resident| Instances::on_device(resident, context.lag))
    }

    fn placed(&mut self, _context: DrawContext<'_>) -> Option<PlacedColumns> {
        None
    }
}

impl Device {
    /// Opens the machine's device.
    pub(crate) fn open() -> Result<Self, String> {
        let gpu = Gpu::shared().map_err(|error| error.to_string())?;
        let renderer = GpuRenderer::new(&gpu).map_err(|error| error.to_string())?;
        Ok(Self { recorder: Recorder::new(&gpu), renderer, set: GpuSet::new(&gpu), gpu })
    }

    /// What it calls itself, and whether it times its passes.
    pub(crate) fn name(&self) -> String {
        let untimed = if self.gpu.is_timed() { "" } else { ", which does not time its passes" };
        format!("{}{untimed}", self.gpu.name())
    }

    pub(crate) fn population(
        &mut self,
        name: &str,
        spec: &ParticleSpec,
        seed: u32,
        forms: &Forms,
    ) -> Result<Box<dyn Elements>, SpecError> {
        let nth = self.set.add(name, spec, seed, forms).map_err(as_spec)?;
        let member = &self.set.members()[nth];
        Ok(Box::new(Living { shards: member.residents().collect(), trails: member.trails() }))
    }

    /// Once all populations are there: finds those that events name.
    pub(crate) fn link(&mut self) -> Result<(), SpecError> {
        self.set.link().map_err(as_spec)
    }

    /// Alive in all populations, as was heard last.
    pub(crate) fn alive(&self) -> usize {
        self.set.members().iter().map(|member| member.news().alive as usize).sum()
    }

    /// Adds what each collector has picked up, as far as that was heard since the last call.
    pub(crate) fn take_caught(&mut self, caught: &mut [u64]) {
        self.set.take_caught(caught);
    }

    /// Moves the middle that scattered emitters are there around: x and z, m.
    pub(crate) fn recentre(&mut self, middle: [f32; 2]) {
        self.set.recentre(middle);
    }

    pub(crate) fn step(
        &mut self,
        world: &World,
        dt: f32,
        steps: u32,
        meter: &mut Meter,
    ) -> Result<(), String> {
        let Self { renderer, recorder, set, .. } = self;
        renderer.step_set(recorder, set, world, dt, steps).map_err(|error| error.to_string())?;
        set.hear(recorder, meter);
        Ok(())
    }

    /// At the end of a frame's steps: what was counted is to be told.
    pub(crate) fn record(&mut self, meter: &mut Meter) {
        self.set.record(&mut self.recorder);
        meter.add(Counter::DeviceBytes, self.set.bytes());
    }

    /// After the frame was handed over.
    pub(crate) fn ask(&mut self) {
        self.set.ask();
    }

    /// Frames that the latest news are old.
    pub(crate) fn news_age(&self) -> u64 {
        self.set.news_age()
    }

    /// Waits for the newest counts of all populations.
    pub(crate) fn settle(&mut self, meter: &mut Meter) -> Result<(), String> {
        self.set.settle(&mut self.recorder, meter).map_err(|error| error.to_string())
    }

    /// Draws; without a backdrop see-through. Without an image the picture stays on the device, and is waited for.
    pub(crate) fn draw(
        &mut self,
        list: &DrawList<'_>,
        view: &View,
        backdrop: Option<&BackdropSpec>,
        image: Option<&mut Image>,
        meter: &mut Meter,
    ) -> Result<(), String> {
        let Self { recorder, renderer, set, .. } = self;
        let residents: Vec<&GpuParticles> = set.members().iter().collect();
        let done = match (backdrop, image) {
            (Some(backdrop), Some(image)) => {
                renderer.render(recorder, list, &residents, view, backdrop, Some(image), meter)
            }
            (Some(backdrop), None) => renderer
                .render(recorder, list, &residents, view, backdrop, None, meter)
                .and_then(|()| renderer.wait(recorder, meter)),
            (None, Some(image)) => {
                renderer.render_transparent(recorder, list, &residents, view, image, meter)
            }
            (None, None) => Ok(()),
        };
        done.map_err(|error| error.to_string())
    }
}

fn as_spec(error: ResidentError) -> SpecError {
    match error {
        ResidentError::Spec(error) => error,
        other => SpecError::new("", other.to_string(), "write residence = \"cpu\""),
    }
}
