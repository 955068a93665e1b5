//! A scene's graphics device: populations that live there, and the pictures it draws. `no_device.rs` stands in where the feature
//! `gpu` is off.

use frolic_core::{Counter, Forms, Meter, ParticleSpec, SpecError, World};
use frolic_draw::{BackdropSpec, DrawList, Image, Instances, View};
use frolic_gpu::{Gpu, GpuParticles, GpuRenderer, Recorder, ResidentError};

/// An open device with what draws on it.
#[derive(Debug)]
pub(crate) struct Device {
    gpu: Gpu,
    recorder: Recorder,
    renderer: GpuRenderer,
}

/// A population that lives there.
#[derive(Debug)]
pub(crate) struct Living(GpuParticles);

impl Living {
    /// Alive, as was heard last.
    pub(crate) fn len(&self) -> usize {
        self.0.news().alive as usize
    }

    /// Adds what each collector has picked up, as far as that was heard since the last call.
    pub(crate) fn take_caught(&mut self, caught: &mut [u64]) {
        self.0.take_caught(caught);
    }

    /// Moves the middle that scattered emitters are there around: x and z, m.
    pub(crate) fn recentre(&mut self, middle: [f32; 2]) {
        self.0.recentre(middle);
    }

    pub(crate) fn instances(&self, behind: f32) -> impl Iterator<Item = Instances<'static>> + use<> {
        self.0.instances(behind)
    }
}

impl Device {
    /// Opens the machine's device.
    pub(crate) fn open() -> Result<Self, String> {
        let gpu = Gpu::shared().map_err(|error| error.to_string())?;
        let renderer = GpuRenderer::new(&gpu).map_err(|error| error.to_string())?;
        Ok(Self { recorder: Recorder::new(&gpu), renderer, gpu })
    }

    /// What it calls itself, and whether it times its passes.
    pub(crate) fn name(&self) -> String {
        let untimed = if self.gpu.is_timed() { "" } else { ", which does not time its passes" };
        format!("{}{untimed}", self.gpu.name())
    }

    pub(crate) fn population(
        &self,
        spec: &ParticleSpec,
        seed: u32,
        forms: &Forms,
    ) -> Result<Living, SpecError> {
        GpuParticles::with_forms(&self.gpu, spec, seed, forms).map(Living).map_err(|error| match error {
            ResidentError::Spec(error) => error,
            other => SpecError::new("", other.to_string(), "write residence = \"cpu\""),
        })
    }

    pub(crate) fn step(
        &mut self,
        living: &mut Living,
        world: &World,
        dt: f32,
        steps: u32,
        meter: &mut Meter,
    ) -> Result<(), String> {
        self.renderer
            .step(&mut self.recorder, &mut living.0, world, dt, steps)
            .map_err(|error| error.to_string())?;
        living.0.hear(&mut self.recorder, meter);
        meter.add(Counter::Alive, living.0.news().alive);
        Ok(())
    }

    /// At the end of a frame's steps: what was counted is to be told.
    pub(crate) fn record(&mut self, living: &mut Living, meter: &mut Meter) {
        living.0.record(&mut self.recorder);
        meter.add(Counter::DeviceBytes, living.0.bytes());
    }

    /// After the frame was handed over.
    pub(crate) fn ask(&mut self, living: &mut Living) {
        living.0.ask();
    }

    /// Frames that the latest news are old.
    pub(crate) fn news_age(living: &Living) -> u64 {
        living.0.news_age()
    }

    /// Waits for the newest counts of a population.
    pub(crate) fn settle(&mut self, living: &mut Living, meter: &mut Meter) -> Result<(), String> {
        living.0.settle(&mut self.recorder, meter).map(|_| ()).map_err(|error| error.to_string())
    }

    /// Draws; without a backdrop see-through. Without an image the picture stays on the device, and is waited for.
    pub(crate) fn draw(
        &mut self,
        list: &DrawList<'_>,
        living: &[&Living],
        view: &View,
        backdrop: Option<&BackdropSpec>,
        image: Option<&mut Image>,
        meter: &mut Meter,
    ) -> Result<(), String> {
        let residents: Vec<&GpuParticles> = living.iter().map(|living| &living.0).collect();
        let Self { recorder, renderer, .. } = self;
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
