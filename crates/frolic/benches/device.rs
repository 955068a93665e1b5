//! The device path: a population of one million that lives there, stepped and drawn, against a minimal program written by hand that makes
//! the same passes; then the same list drawn by the device and by the processor. On software Vulkan, as here, the first says what the library
//! adds; the second is no contest.
//!
//! `cargo bench -p frolic --features gpu --bench device [-- COUNT]`

mod support;

use frolic::drawing::{ListScratch, ListSpec, Surroundings};
use frolic::gpu::{Gpu, GpuParticles, GpuRenderer, GpuSpec, Recorder};
use frolic::prelude::*;
use support::drawing::{far_camera, far_view, print_machine};
use support::minimal::Minimal;
use support::{Contender, at_least, at_most, compare};

const STEP: f32 = 1.0 / 60.0;

fn spec(count: u32) -> ParticleSpec {
    let emitter =
        EmitterSpec::burst(count, 0.0).shape(ShapeSpec::Box { size: [12.8, 8.0, 4.0] }).speed(0.0, 0.0);
    let mut spec =
        ParticleSpec::new(count).life(1.0, 3.0).size(0.02, 0.02).motion(0.1, 0.01).emitter(emitter.clone());
    spec.emitter[0].rate = count as f32;
    spec
}

fn look() -> Look {
    let mut look = LookSpec::glowing(1.0, [(0.0, "#7c7c7c"), (1.0, "#282828")]).unwrap();
    look.depth.test = false;
    look.build().unwrap()
}

fn against_the_minimal(count: u32) {
    let gpu = Gpu::open(GpuSpec::default()).unwrap();
    println!("device {}", gpu.name());
    let look = look();
    // Neither spreads light.
    let mut camera = far_camera();
    camera.bloom = 0.0;
    let camera = camera.view(ImageSize::default()).unwrap();
    let backdrop = BackdropSpec::default();
    let around = Surroundings::new(&backdrop);
    let world = WorldSpec::default().build().unwrap();
    let mut ours = Ours::new(&gpu, count);
    let mut steps = Ours::new(&gpu, count);
    let mut hand = Minimal::new(gpu.device(), gpu.queue(), count);
    let mut hand_steps = Minimal::new(gpu.device(), gpu.queue(), count);
    let due = (count as f32 * STEP) as u32;
    // The burst that fills them is no part of what is measured.
    for minimal in [&mut hand, &mut hand_steps] {
        minimal.frame(STEP, count, false);
    }
    let mut frame = Frame::default();
    let contenders = vec![
        Contender::new("step and draw, the library", || {
            frame = ours.frame(&look, &world, &camera, &around, &backdrop);
        }),
        Contender::new("step and draw, by hand", || hand.frame(STEP, due, true)),
        Contender::new("step alone, the library", || steps.step(&world)),
        Contender::new("step alone, by hand", || hand_steps.frame(STEP, due, false)),
    ];
    let medians =
        compare("resident particles, radius 2 pixels, additive, 1280x800", count as usize, 7, contenders);
    println!(
        "  the library's frame: {} draw calls, {} submits, {} bytes of elements uploaded, {} dispatches, {} passes",
        frame.count(Counter::DeviceDraws),
        frame.count(Counter::Submits),
        frame.count(Counter::UploadedElementBytes),
        frame.count(Counter::Dispatches),
        frame.count(Counter::Passes),
    );
    at_most("times the wall time of the program by hand", medians[0].wall / medians[1].wall, 1.3);
    at_most("the step alone", medians[2].wall / medians[3].wall, 1.3);
}

/// The library's side.
struct Ours {
    recorder: Recorder,
    renderer: GpuRenderer,
    particles: GpuParticles,
    scratch: ListScratch,
    meter: Meter,
}

impl Ours {
    fn new(gpu: &Gpu, count: u32) -> Self {
        let mut ours = Self {
            recorder: Recorder::new(gpu),
            renderer: GpuRenderer::new(gpu).unwrap(),
            particles: GpuParticles::new(gpu, &spec(count), 7).unwrap(),
            scratch: ListScratch::default(),
            meter: Meter::new(),
        };
        ours.step(&WorldSpec::default().build().unwrap());
        ours
    }

    fn step(&mut self, world: &World) {
        self.particles.step(&mut self.recorder, world, STEP, 1).unwrap();
        self.recorder.submit();
        self.renderer.wait(&mut self.recorder, &mut self.meter).unwrap();
    }

    fn frame(
        &mut self,
        look: &Look,
        world: &World,
        view: &View,
        around: &Surroundings<'_>,
        backdrop: &BackdropSpec,
    ) -> Frame {
        let Self { recorder, renderer, particles, scratch, meter } = self;
        meter.begin_frame();
        particles.step(recorder, world, STEP, 1).unwrap();
        particles.record(recorder);
        let sources = particles.instances(0.0).map(|instances| (instances, look));
        let list = scratch.list(sources, &ListSpec::default(), view, around, meter);
        renderer.render(recorder, &list, &[particles], view, backdrop, None, meter).unwrap();
        renderer.wait(recorder, meter).unwrap();
        particles.request_readback();
        particles.read_back(recorder, meter);
        meter.end_frame()
    }
}

/// The same list by both backends: order-exact alpha, as in the bench of billboards.
fn against_the_processor(count: u32) {
    let emitter =
        EmitterSpec::burst(count, 0.0).shape(ShapeSpec::Box { size: [12.8, 8.0, 4.0] }).speed(0.0, 0.0);
    let spec = ParticleSpec::new(count).life(100.0, 200.0).size(0.02, 0.02).motion(0.0, 0.0).emitter(emitter);
    let mut particles = Particles::new(&spec, 3).unwrap();
    particles.step(&WorldSpec::default().build().unwrap(), STEP, 1, &mut Meter::new());
    let look = LookSpec::default().opacity_over_age([(0.0, 0.2)]).build().unwrap();
    let gpu = Gpu::open(GpuSpec::default()).unwrap();
    let (mut recorder, mut device) = (Recorder::new(&gpu), GpuRenderer::new(&gpu).unwrap());
    let (view, backdrop) = (far_view(), BackdropSpec::default());
    let around = Surroundings::new(&backdrop);
    let (mut here, mut there, mut renderer) =
        (ListScratch::default(), ListScratch::default(), Renderer::new());
    let mut image = Image::new(view.size());
    let source = || [(Instances::of(particles.columns(), 0.0), &look)];
    let contenders = vec![
        Contender::new("processor", || {
            let mut meter = Meter::new();
            let list = here.list(source(), &ListSpec::default(), &view, &around, &mut meter);
            renderer.render(&list, &view, &backdrop, &mut image, &mut meter);
        }),
        Contender::new("device", || {
            let mut meter = Meter::new();
            let list = there.list(source(), &ListSpec::default(), &view, &around, &mut meter);
            device.render(&mut recorder, &list, &[], &view, &backdrop, None, &mut meter).unwrap();
            device.wait(&mut recorder, &mut meter).unwrap();
        }),
    ];
    let medians =
        compare("the same list, alpha in depth order, radius 2 pixels", count as usize, 5, contenders);
    at_least("times faster than software Vulkan", medians[1].wall / medians[0].wall, 30.0);
}

fn main() {
    let count = std::env::args().skip(1).find_map(|word| word.parse().ok()).unwrap_or(1_000_000);
    print_machine();
    against_the_minimal(count);
    against_the_processor(count);
}
