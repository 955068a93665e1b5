//! The device's pictures against the processor's: every shape and look, by every technique.

mod common;

use common::drawing::kit::{kit, looks};
use common::drawing::{cloud, lights, plain};
use common::{differ, gpu};
use frolic_core::{Counter, Frame, Meter, Particles};
use frolic_draw::{
    BackdropSpec, CameraSpec, Image, ImageSize, Instances, ListScratch, ListSpec, Look, Renderer, SunSpec,
    Surroundings, Technique, View,
};
use frolic_gpu::{GpuRenderer, Recorder};

type Populations<'a> = Vec<(Instances<'a>, &'a Look)>;

fn view(width: u32, height: u32) -> View {
    CameraSpec::new([0.4, 0.6, 5.0], [0.0, 0.1, 0.0], 50.0)
        .view(ImageSize::new(width, height).unwrap())
        .unwrap()
}

/// The same list drawn by both backends.
fn both(
    populations: &Populations<'_>,
    spec: &ListSpec,
    view: &View,
    backdrop: &BackdropSpec,
    sun: Option<&SunSpec>,
) -> ([Image; 2], Frame) {
    let (mut scratch, mut meter, lights) = (ListScratch::default(), Meter::new(), lights());
    let around = Surroundings::new(backdrop).lights(&lights).sun(sun).time(1.3);
    meter.begin_frame();
    let list = scratch.list(populations.iter().copied(), spec, view, &around, &mut meter);
    let (mut here, mut there) = (Image::new(view.size()), Image::new(view.size()));
    Renderer::new().render(&list, view, backdrop, &mut here, &mut Meter::new());
    let gpu = gpu();
    let mut recorder = Recorder::new(&gpu);
    let mut renderer = GpuRenderer::new(&gpu).unwrap();
    renderer.render(&mut recorder, &list, &[], view, backdrop, Some(&mut there), &mut meter).unwrap();
    ([here, there], meter.end_frame())
}

fn of(particles: &Particles) -> Instances<'_> {
    Instances::of(particles.columns(), 0.01)
}

#[test]
fn every_look_is_the_same_picture() {
    let kit = kit();
    let (particles, view) = (cloud(60, [0.05, 0.35], [3.0, 2.0, 2.0], 11), view(150, 100));
    for (name, look) in looks(&kit) {
        let populations = vec![(of(&particles), &look)];
        for technique in [Technique::Instanced, Technique::Each, Technique::Batched, Technique::Indirect] {
            let (images, frame) = both(&populations, &ListSpec::new(technique), &view, &plain(), None);
            let off = differ(&images[0], &images[1]);
            if off > 0.01 && std::env::var("FROLIC_KEEP").is_ok() {
                common::keep(&format!("{name} {technique:?}"), &images);
            }
            println!("{name}, {technique:?}: {off}");
            assert!(off <= 0.01 || std::env::var("FROLIC_KEEP").is_ok(), "{name}, {technique:?}: {off}");
            assert_eq!(frame.count(Counter::DeviceDraws), frame.count(Counter::DrawCalls), "{name}");
            assert_eq!(frame.count(Counter::Submits), 1);
        }
    }
}
