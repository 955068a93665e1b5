//! Populations that live on the device, drawn from the buffers that the step writes, against the same drawn by the processor.

use crate::common;
use crate::common::drawing::kit::{kit, looks};
use crate::common::drawing::{lights, plain};
use crate::common::{differ, gpu, keep};
use frolic_core::{
    Counter, EmitterSpec, Frame, Meter, ParticleSpec, Particles, ShapeSpec, Span, Stage, TrailSpec, World,
    WorldSpec,
};
use frolic_draw::{
    Blend, CameraSpec, Colour, DetailSpec, GroundSpec, Image, ImageSize, Instances, Look, LookSpec, Renderer,
    RibbonSpec, Shape, SunSpec, Technique, Trails, View,
};
use frolic_gpu::{GpuParticles, GpuRenderer, Recorder};
use frolic_list::{ListScratch, ListSpec, Surroundings};
use proptest::prelude::*;

const STEP: f32 = 1.0 / 60.0;

fn view() -> View {
    CameraSpec::new([0.4, 0.6, 5.0], [0.0, 0.1, 0.0], 50.0).view(ImageSize::new(150, 100).unwrap()).unwrap()
}

fn cloud(count: u32) -> ParticleSpec {
    ParticleSpec::new(count).life(1.0, 3.0).size(0.05, 0.3).motion(0.6, 0.1).emitter(
        EmitterSpec::rate(count as f32 / 2.0)
            .shape(ShapeSpec::Box { size: [3.0, 2.0, 2.0] })
            .cone([1.0, 0.3, 0.0], 180.0)
            .speed(0.0, 1.0),
    )
}

fn world() -> World {
    WorldSpec::default().wind([0.2, 0.0, 0.1]).gusts(0.5, 1.0).build().unwrap()
}

/// A population here and there, as old.
struct Twins {
    here: Particles,
    there: GpuParticles,
    recorder: Recorder,
    renderer: GpuRenderer,
}

impl Twins {
    fn new(spec: &ParticleSpec, steps: u32) -> Self {
        let gpu = gpu();
        let mut twins = Self {
            here: Particles::new(spec, 9).unwrap(),
            there: GpuParticles::new(&gpu, spec, 9).unwrap(),
            recorder: Recorder::new(&gpu),
            renderer: GpuRenderer::new(&gpu).unwrap(),
        };
        twins.here.step(&world(), STEP, steps, &mut Meter::new());
        twins.there.step(&mut twins.recorder, &world(), STEP, steps).unwrap();
        twins
    }

    /// Both pictures, and what the frame of the device was.
    fn draw(
        &mut self,
        look: &Look,
        technique: Technique,
        view: &View,
        sun: Option<&SunSpec>,
    ) -> ([Image; 2], Frame) {
        let (mut near_scratch, mut meter, lights, mut backdrop) =
            (ListScratch::default(), Meter::new(), lights(), plain());
        if sun.is_some() {
            backdrop.ground = Some(GroundSpec::default());
        }
        let around = Surroundings::new(&backdrop).lights(&lights).sun(sun).time(1.3);
        let spec = ListSpec::new(technique);
        let (mut near, mut far) = (Image::new(view.size()), Image::new(view.size()));
        // A population with trails is drawn as these alone.
        let mut trails = Trails::default();
        let here = match (self.here.trail(), look.taper()) {
            (Some(trail), Some(taper)) => {
                trails.take(self.here.columns(), trail, 0.01, taper);
                trails.instances().unwrap()
            }
            _ => Instances::of(self.here.columns(), 0.01),
        };
        let list = near_scratch.list([(here, look)], &spec, view, &around, &mut meter);
        Renderer::new().render(&list, view, &backdrop, &mut near, &mut meter);
        let mut scratch = ListScratch::default();
        meter.begin_frame();
        let trails = self.there.trails().map(|trails| Instances::on_device(trails, 0.01));
        let all = self.there.instances(0.01).filter(|_| trails.is_none());
        let sources = all.chain(trails).map(|instances| (instances, look));
        let list = scratch.list(sources, &spec, view, &around, &mut meter);
        let Self { there, recorder, renderer, .. } = self;
        renderer.render(recorder, &list, &[there], view, &backdrop, Some(&mut far), &mut meter).unwrap();
        ([near, far], meter.end_frame())
    }
}

fn alike(name: &str, images: &[Image; 2], most: f64) {
    let off = differ(&images[0], &images[1]);
    if off > most {
        keep(name, images);
    }
    assert!(off <= most, "{name}: {off}");
}

/// Trails are kept, carried along past the dead and drawn there: at any number of places, when one is due and when none is, sorted or not.
#[test]
fn trails_are_drawn_from_where_they_live() {
    for (places, every, steps) in [(1, 0.05, 40), (2, 0.016, 41), (7, 0.04, 77), (32, 0.03, 130)] {
        let mut spec = cloud(60).life(0.3, 1.2).size(0.03, 0.08).trail(TrailSpec::new(places, every));
        spec.emitter[0].speed = Span::new(1.0, 4.0);
        let mut twins = Twins::new(&spec, steps);
        for (blend, segments) in [(Blend::Additive, 1), (Blend::Alpha, 3)] {
            let mut look = LookSpec::default();
            (look.blend, look.glow) = (blend, 1.0);
            look.shape = Shape::Ribbon(RibbonSpec::new(1.0, 0.85, segments));
            let unseen = look.clone().opacity_over_age([(0.0, 0.0)]).build().unwrap();
            let look = look.build().unwrap();
            let (images, frame) = twins.draw(&look, Technique::Instanced, &view(), None);
            alike(&format!("trail {places} {every} {blend:?}"), &images, 0.015);
            let (nothing, _) = twins.draw(&unseen, Technique::Instanced, &view(), None);
            let drawn = differ(&images[1], &nothing[1]);
            assert!(drawn > 0.001, "{drawn} of the picture with {places} places");
            assert_eq!(frame.count(Counter::UploadedElementBytes), 0);
        }
    }
}

#[test]
fn every_look_is_drawn_from_where_it_lives() {
    let kit = kit();
    let mut twins = Twins::new(&cloud(70), 70);
    for (name, look) in looks(&kit) {
        for technique in [Technique::Instanced, Technique::Indirect] {
            let (images, frame) = twins.draw(&look, technique, &view(), None);
            alike(&format!("resident {name} {technique:?}"), &images, 0.01);
            assert_eq!(frame.count(Counter::UploadedElementBytes), 0, "{name}");
            assert_eq!(
                (frame.count(Counter::DeviceDraws), frame.count(Counter::DrawCalls)),
                (1, 1),
                "{name}"
            );
            assert!(frame.count(Counter::Submits) <= 3);
        }
    }
}

/// Thousands that cover each other: the device's order is the processor's.
#[test]
fn depth_order_holds_for_thousands() {
    let mut look = LookSpec::covering([(0.0, "#ff3010"), (0.5, "#20ff40"), (1.0, "#1040ff")]).unwrap();
    look.lit = 0.0;
    let look = look.opacity_over_age([(0.0, 0.9)]).build().unwrap();
    for count in [1, 300, 4_095, 4_097, 20_000] {
        let mut spec = cloud(count);
        spec.emitter[0].burst = EmitterSpec::burst(count, 0.0).burst;
        let mut twins = Twins::new(&spec.size(0.02, 0.12), 20);
        let (images, frame) = twins.draw(&look, Technique::Instanced, &view(), None);
        alike(&format!("order of {count}"), &images, 0.01);
        // Three dispatches to cull, and three for each of eight digits.
        assert!(frame.count(Counter::Dispatches) >= 27);
    }
}

/// Shadows of what lives on the device, and of what the camera does not see.
#[test]
fn device_populations_cast_shadows() {
    let kit = kit();
    let all = looks(&kit);
    let mut sun = SunSpec::new(40.0, 30.0, Colour::WHITE, 2.0);
    (sun.shadow_map, sun.shadow_reach) = (512, 20.0);
    let mut twins = Twins::new(&cloud(70), 70);
    for name in ["ball, Opaque", "ribbon, Opaque", "leaf, CutOut"] {
        let (_, look) = all.iter().find(|(own, _)| own == name).unwrap();
        for technique in [Technique::Instanced, Technique::Indirect] {
            let (images, _) = twins.draw(look, technique, &view(), Some(&sun));
            alike(&format!("resident shadows of {name} {technique:?}"), &images, 0.012);
        }
    }
    // FrameView from aside: what throws the shadow is out of the picture.
    let aside = CameraSpec::new([0.4, 3.0, 5.0], [0.5, -2.0, 1.0], 30.0);
    let aside = aside.view(ImageSize::new(150, 100).unwrap()).unwrap();
    let (_, look) = all.iter().find(|(own, _)| own == "ball, Opaque").unwrap();
    let (images, _) = twins.draw(look, Technique::Indirect, &aside, Some(&sun));
    alike("shadows from outside", &images, 0.012);
}

/// One submission and one wait: times of passes come back where the device has them, and what the frame was told is counted.
#[test]
fn frames_are_metered() {
    let look = common::drawing::look(Blend::Additive);
    let mut twins = Twins::new(&cloud(500), 30);
    twins.draw(&look, Technique::Indirect, &view(), None);
    twins.there.step(&mut twins.recorder, &world(), STEP, 1).unwrap();
    let (_, frame) = twins.draw(&look, Technique::Indirect, &view(), None);
    assert_eq!(frame.count(Counter::Submits), 1);
    assert_eq!(frame.count(Counter::DeviceDraws), 1);
    // Four for the step, three to cull, and the bloom's five.
    assert_eq!(frame.count(Counter::Dispatches), 12);
    assert_eq!(frame.count(Counter::Passes), 5);
    assert!(frame.count(Counter::UploadedBytes) < 8_000, "{}", frame.count(Counter::UploadedBytes));
    assert!(frame.count(Counter::DownloadedBytes) >= 150 * 100 * 4);
    assert!(frame.count(Counter::PipelineChanges) > 8 && frame.count(Counter::BindChanges) > 8);
    assert!(frame.count(Counter::DeviceBytes) > 500 * 80);
    if gpu().is_timed() {
        for stage in [Stage::DeviceStep, Stage::DeviceOrder, Stage::DeviceRaster, Stage::DeviceResolve] {
            assert!(!frame.stage(stage).is_zero(), "{}", stage.name());
        }
    }
    // Times of the device are no part of the frame's own.
    let own: std::time::Duration =
        Stage::ALL.iter().filter(|stage| !stage.on_device()).map(|&stage| frame.stage(stage)).sum();
    assert!(own + frame.other() == frame.total());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(8))]

    /// Any look on any cloud from anywhere: the same picture, culled or not.
    #[test]
    fn any_view_is_the_same_picture(
        which in 0usize..38, eye in prop::array::uniform3(-4f32..4.0), fov in 20f32..110.0, reach in 2f32..9.0, indirect in any::<bool>(),
    ) {
        let kit = kit();
        let (name, _) = &looks(&kit)[which];
        let mut spec = LookSpec::glowing(1.0, [(0.0, "#ffd080"), (1.0, "#a04020")]).unwrap();
        let shape = name.split(',').next().unwrap();
        let named = ["disc", "ribbon", "ball", "pennant"].contains(&shape);
        prop_assume!(named && glam::Vec3::from(eye).length() > 1.0);
        spec.shape = match shape {
            "ribbon" => frolic_draw::Shape::Ribbon(frolic_draw::RibbonSpec::default()),
            "disc" => frolic_draw::Shape::Disc,
            mesh => frolic_draw::Shape::mesh(mesh),
        };
        spec.blend = if named && shape != "disc" { Blend::Opaque } else { Blend::Alpha };
        spec.detail = DetailSpec::reach(reach, 0.4).thin_below(3.0);
        let look = spec.build().unwrap();
        let view = CameraSpec::new(eye, [0.0, 0.2, 0.0], fov).view(ImageSize::new(96, 64).unwrap()).unwrap();
        let mut twins = Twins::new(&cloud(60), 60);
        let technique = if indirect { Technique::Indirect } else { Technique::Instanced };
        let (images, _) = twins.draw(&look, technique, &view, None);
        alike(&format!("any view {shape}"), &images, 0.015);
    }
}
