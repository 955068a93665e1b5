//! A population in a render pass of the program's own, with the program's device, queue and encoder. Nothing is submitted
//! here.

use frolic_core::{Meter, ParticleSpec, World};
use frolic_draw::{BackdropSpec, ImageSize, LightSpec, Look, SunSpec, Technique, View};
use frolic_list::{ListScratch, ListSpec, Surroundings};
use glam::{Mat4, Vec3};

use crate::device::error::GpuError;
use crate::device::{DeviceCounters, Gpu, GpuSpec};
use crate::draw::items::DrawItems;
use crate::draw::keys::{ExternalTarget, Pass};
use crate::draw::population::DevicePopulation;
use crate::population::{DevicePopulationError, DeviceStatistics, GpuParticles};
use crate::shared::frame::{ClipZ, FrameView};
use crate::shared::step::MOST_STEPS;

/// The program's camera, derived from its matrices.
#[derive(Debug, Clone, Copy)]
pub struct ExternalView {
    view: View,
    z: ClipZ,
    exposure: f32,
}

impl ExternalView {
    /// From the program's view and projection matrices, by columns, for a picture of this size. The depth range may be reversed or
    /// infinite, and the matrices left- or right-handed.
    ///
    /// # Errors
    /// A projection without perspective, pixels that are not square, or a view that scales or slants.
    pub fn new(
        size: ImageSize,
        view: [[f32; 4]; 4],
        projection: [[f32; 4]; 4],
    ) -> Result<Self, DevicePopulationError> {
        let wrong = |key: &str, problem: &str, instead: &str| {
            Err(DevicePopulationError::Spec(frolic_core::SpecError::new(key, problem, instead)))
        };
        let (v, p) = (Mat4::from_cols_array_2d(&view), Mat4::from_cols_array_2d(&projection));
        let towards = p.z_axis.w;
        if (towards.abs() - 1.0).abs() > 1e-4 || p.w_axis.w.abs() > 1e-4 {
            return wrong("projection", "has no perspective", "write a perspective projection");
        }
        let [w, h] = [size.width() as f32, size.height() as f32];
        let (across, down) = (p.x_axis.x * w * 0.5, p.y_axis.y * h * 0.5);
        if !(down > 0.0 && (across - down).abs() <= down * 0.01) {
            return wrong("projection", "has pixels that are not square", "write the picture's own aspect");
        }
        let row = |nth: usize| Vec3::new(v.x_axis[nth], v.y_axis[nth], v.z_axis[nth]);
        let moved = v.w_axis.truncate();
        let eye = -(row(0) * moved.x + row(1) * moved.y + row(2) * moved.z);
        let axes = [row(0), row(1), row(2) * towards].map(|axis| axis.to_array());
        let fov = 2.0 * libm::atanf(h * 0.5 / down);
        let view = View::along(size, eye.to_array(), axes, fov)?;
        // Depth is the distance along the view axis: z in view space, or its negative.
        Ok(Self { view, z: ClipZ { x: p.z_axis.z * towards, y: p.w_axis.z }, exposure: 1.0 })
    }

    /// Sets a factor on all light. Default: 1.
    pub fn exposure(mut self, exposure: f32) -> Self {
        self.exposure = exposure;
        self
    }
}

/// A population of particles in a render pass of the program's own.
///
/// Three calls: [`ExternalPopulation::new`] once; in each frame [`ExternalPopulation::step`] into the encoder, before the pass, and
/// [`ExternalPopulation::draw`] into the pass. The program submits its encoder once a frame, before the next call. The population is
/// blended as premultiplied linear light. The depth buffer of the pass hides elements, without soft edges; there are no shadows.
/// See `examples/particles_in_your_pass.rs`.
#[derive(Debug)]
pub struct ExternalPopulation {
    gpu: Gpu,
    particles: GpuParticles,
    look: Look,
    target: ExternalTarget,
    draws: DrawItems,
    scratch: ListScratch,
    backdrop: BackdropSpec,
    lights: Vec<LightSpec>,
    sun: Option<SunSpec>,
    counters: DeviceCounters,
    frames: Option<[wgpu::BindGroup; 3]>,
}

impl ExternalPopulation {
    /// An empty population on the program's device, with a look, for passes like `target`. It needs no feature and no more than
    /// the default limits of WebGPU.
    ///
    /// # Errors
    /// A value out of range, or a device with less than the default limits of WebGPU.
    pub fn new(
        device: &wgpu::Device,
        queue: &wgpu::Queue,
        spec: &ParticleSpec,
        look: &Look,
        target: ExternalTarget,
        seed: u32,
    ) -> Result<Self, DevicePopulationError> {
        let gpu = Gpu::from_parts(device, queue, GpuSpec::default())?;
        let mut counters = DeviceCounters::default();
        Ok(Self {
            particles: GpuParticles::new(&gpu, spec, seed)?,
            draws: DrawItems::new(&gpu, &mut counters),
            look: look.clone(),
            target,
            scratch: ListScratch::default(),
            backdrop: BackdropSpec::default(),
            lights: Vec::new(),
            sun: None,
            counters,
            frames: None,
            gpu,
        })
    }

    /// Lights it by this sky, ground, lights and sun.
    pub fn lit_by(mut self, backdrop: &BackdropSpec, lights: &[LightSpec], sun: Option<&SunSpec>) -> Self {
        (self.backdrop, self.lights) = (backdrop.clone(), lights.to_vec());
        self.sun = sun.copied().map(|mut sun| {
            // The external pass has no shadow map.
            sun.shadow_map = 0;
            sun
        });
        self
    }

    /// Encodes `steps` steps of `dt` seconds, at most 64, and everything that drawing needs; and reads back what the device has counted
    /// meanwhile.
    ///
    /// # Errors
    /// More steps than one submission holds, or a shader that the device rejects.
    pub fn step(
        &mut self,
        encoder: &mut wgpu::CommandEncoder,
        world: &World,
        dt: f32,
        steps: u32,
        view: &ExternalView,
        meter: &mut Meter,
    ) -> Result<(), GpuError> {
        if steps > MOST_STEPS {
            return Err(GpuError::Unsupported(format!(
                "{steps} steps in one frame; take at most {MOST_STEPS}"
            )));
        }
        // The previous commands have been submitted since.
        self.particles.request_readback();
        self.particles.read_back_in(&mut self.counters, meter);
        self.particles.start_over();
        self.particles.encode(encoder, &mut self.counters, world, dt, steps)?;
        self.particles.copy_counters_in(encoder);
        let Self { particles, draws, scratch, look, target, backdrop, lights, sun, counters, .. } = self;
        let around =
            Surroundings::new(backdrop).lights(lights).sun(sun.as_ref()).time(particles.time() as f32);
        let sources = particles.instances(0.0).map(|instances| (instances, &*look));
        let spec = ListSpec::new(Technique::Indirect);
        let list = scratch.list(sources, &spec, &view.view, &around, meter);
        let populations: [&dyn DevicePopulation; 1] = [&*particles];
        let pass = Pass::External(*target);
        draws.build(&list, &populations, &view.view, |_| pass, counters)?;
        let lighting = list.lighting();
        let seen = FrameView {
            view: &view.view,
            camera: &view.view,
            z: view.z,
            map: None,
            lighting: &lighting,
            time: list.time(),
            exposure: view.exposure,
            most_slope: 0.0,
        };
        draws.set_frames(&[seen], counters);
        let frames = draws.frames(None, None, None);
        if draws.has_lists() {
            let mut pass = encoder.begin_compute_pass(&wgpu::ComputePassDescriptor {
                label: Some("order"),
                timestamp_writes: None,
            });
            counters.passes += 1;
            draws.order(&mut pass, &frames[2], &populations, counters)?;
        }
        self.frames = Some(frames);
        self.counters.report(meter);
        Ok(())
    }

    /// Draws into the program's open pass. It sets its own pipeline and bind groups 0 to 2, and does not restore them.
    ///
    /// # Errors
    /// None, if the pass is like the target.
    pub fn draw(&mut self, pass: &mut wgpu::RenderPass<'_>) -> Result<(), GpuError> {
        let Some(frames) = &self.frames else { return Ok(()) };
        pass.set_bind_group(0, &frames[0], &[0]);
        self.counters.binds += 1;
        let items = 0..self.draws.items.len();
        self.draws.draw(pass, items, false, &[&self.particles], &mut self.counters)
    }

    /// Statistics of the population, one or two frames old.
    pub fn statistics(&self) -> &DeviceStatistics {
        self.particles.statistics()
    }

    /// The device.
    pub fn gpu(&self) -> &Gpu {
        &self.gpu
    }
}
