//! What the tests of drawing share: populations placed at will, and drawing them every way there is.
#![allow(missing_docs)]

pub mod kit;

use frolic_core::simd::detect;
use frolic_core::{Chunk, EmitterSpec, Frame, Meter, ParticleSpec, Particles, ShapeSpec, WorldSpec};
use frolic_diagnostics::reference::LinearImage;
use frolic_draw::{
    BackdropSpec, Blend, Bounds, CameraSpec, Image, ImageSize, Instances, LightSpec, Look, LookSpec, Part,
    Renderer, Resolution, SunSpec, Technique, View,
};
use frolic_list::{ListScratch, ListSpec, Surroundings};

/// Particles spread through a box, some way into their lives.
pub fn cloud(count: u32, size: [f32; 2], box_size: [f32; 3], seed: u32) -> Particles {
    let emitter = EmitterSpec::burst(count, 0.0).shape(ShapeSpec::Box { size: box_size }).speed(0.0, 1.0);
    let spec = ParticleSpec::new(count)
        .life(1.0, 9.0)
        .size(size[0], size[1])
        .emitter(emitter.cone([1.0, 0.0, 0.0], 180.0));
    let mut particles = Particles::new(&spec, seed).unwrap();
    let mut world = WorldSpec::default();
    world.gravity = [0.0; 3];
    particles.step(&world.build().unwrap(), 0.4, 2, &mut Meter::new());
    particles
}

/// A look with every ramp at work.
pub fn look(blend: Blend) -> Look {
    look_at(blend, Resolution::Auto)
}

/// The same, drawn at a resolution.
pub fn look_at(blend: Blend, resolution: Resolution) -> Look {
    let mut spec = LookSpec::glowing(2.5, [(0.0, "#ffd080"), (0.4, "#4060ff"), (1.0, "#802010")]).unwrap();
    spec =
        spec.opacity_over_age([(0.0, 0.1), (0.3, 0.9), (1.0, 0.0)]).size_over_age([(0.0, 0.5), (1.0, 1.5)]);
    spec.blend = blend;
    spec.resolution = resolution;
    spec.lit = if blend == Blend::Alpha { 0.7 } else { 0.0 };
    spec.build().unwrap()
}

/// A view of the box from its front.
pub fn view(width: u32, height: u32) -> View {
    CameraSpec::new([0.3, 0.2, 6.0], [0.0; 3], 45.0).view(ImageSize::new(width, height).unwrap()).unwrap()
}

/// A sky of one colour, without ground.
pub fn plain() -> BackdropSpec {
    let mut backdrop = BackdropSpec::default();
    backdrop.sky.horizon = backdrop.sky.zenith;
    backdrop
}

pub fn lights() -> [LightSpec; 1] {
    [LightSpec::new([0.5, 1.0, 1.0], frolic_draw::Colour::new(1.0, 0.6, 0.2), 3.0)]
}

/// The picture and the frame's counters.
pub fn draw(
    populations: &[(&Particles, &Look)],
    technique: Technique,
    view: &View,
    backdrop: &BackdropSpec,
    renderer: &mut Renderer,
) -> (Image, Frame) {
    let (mut scratch, mut meter, lights) = (ListScratch::default(), Meter::new(), lights());
    let sources =
        populations.iter().map(|(particles, look)| (Instances::of(particles.columns(), 0.01), *look));
    meter.begin_frame();
    let around = Surroundings::new(backdrop).lights(&lights);
    let list = scratch.list(sources, &ListSpec::new(technique), view, &around, &mut meter);
    let mut image = Image::new(view.size());
    renderer.render(&list, view, backdrop, &mut image, &mut meter);
    (image, meter.end_frame())
}

/// The picture and the frame's counters of instances, each with its look, perhaps in the sun.
pub fn picture(
    renderer: &mut Renderer,
    populations: &[(Instances<'_>, &Look)],
    technique: Technique,
    view: &View,
    backdrop: &BackdropSpec,
    sun: Option<&SunSpec>,
) -> (Image, Frame) {
    let (mut scratch, mut meter) = (ListScratch::default(), Meter::new());
    meter.begin_frame();
    let around = Surroundings::new(backdrop).sun(sun);
    let list =
        scratch.list(populations.iter().copied(), &ListSpec::new(technique), view, &around, &mut meter);
    let mut image = Image::new(view.size());
    renderer.render(&list, view, backdrop, &mut image, &mut meter);
    (image, meter.end_frame())
}

/// A square of blades as a part.
pub fn part(chunk: &Chunk) -> Part {
    Part { first: chunk.first, count: chunk.len, bounds: Bounds { low: chunk.low, high: chunk.high } }
}

/// What [`draw`] draws by the plain scalar form, over a sky of one colour, without bloom: 8-bit sRGB of each pixel.
pub fn reference(populations: &[(&Particles, &Look)], view: &View, backdrop: &BackdropSpec) -> Vec<[u8; 3]> {
    let (mut scratch, mut meter, lights) = (ListScratch::default(), Meter::new(), lights());
    let sources =
        populations.iter().map(|(particles, look)| (Instances::of(particles.columns(), 0.01), *look));
    let around = Surroundings::new(backdrop).lights(&lights);
    let list = scratch.list(sources, &ListSpec::default(), view, &around, &mut meter);
    let sky = backdrop.sky.zenith;
    let mut linear = LinearImage::new(view.size(), [sky.r, sky.g, sky.b]);
    linear.draw(&list, view);
    linear.to_srgb(view)
}

pub fn renderer() -> Renderer {
    Renderer::tuned([6, 5], 128, detect())
}
