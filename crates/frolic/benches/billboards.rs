//! A whole draw of one million soft round billboards at 1280x800 (draw list, projection, bins, tiles, eight bits), against the plain
//! scalar form: every pixel of every element, one after the other, up to linear light (its exact eight bits would flatter us).
//!
//! `cargo bench -p frolic --bench billboards [-- COUNT]`

mod support;

use frolic::draw::cpu::reference;
use frolic::prelude::*;
use support::{Contender, compare, ratio};

/// Billboards of one size in pixels, spread over the picture of a camera so far away that perspective hardly shows.
fn scene(count: u32, radius: f32, blend: Blend) -> (Particles, Look, View) {
    let metres_a_pixel = 0.01;
    let emitter =
        EmitterSpec::burst(count, 0.0).shape(ShapeSpec::Box { size: [12.8, 8.0, 4.0] }).speed(0.0, 0.0);
    let spec = ParticleSpec::new(count)
        .life(100.0, 200.0)
        .size(radius * metres_a_pixel, radius * metres_a_pixel)
        .motion(0.0, 0.0)
        .emitter(emitter);
    let mut particles = Particles::new(&spec, 3).unwrap();
    particles.step(&WorldSpec::default().build().unwrap(), 1.0 / 60.0, 1, &mut Meter::new());
    let mut look = LookSpec::default().opacity([(0.0, 0.2)]);
    look.blend = blend;
    let distance = 4.0 / (0.5f32.to_radians()).tan();
    let camera = CameraSpec::new([0.0, 0.0, distance], [0.0; 3], 1.0);
    (particles, look.build().unwrap(), camera.view(ImageSize::default()).unwrap())
}

fn main() {
    let count = std::env::args().skip(1).find_map(|word| word.parse().ok()).unwrap_or(1_000_000);
    println!(
        "instruction set {}, {} threads",
        frolic::core::simd::name(frolic::core::simd::Level::new()),
        Threads::current()
    );
    for (radius, blend) in
        [(2.0, Blend::Alpha), (2.0, Blend::Additive), (1.0, Blend::Additive), (4.0, Blend::Additive)]
    {
        let (particles, look, view) = scene(count, radius, blend);
        let backdrop = BackdropSpec::default();
        let (mut scratch, mut renderer) = (ListScratch::default(), Renderer::new());
        let mut image = Image::new(view.size());
        let mut meter = Meter::new();
        let mut frames = Vec::new();
        let instances = || [(Instances::of(particles.columns(), 0.0), &look)];
        let mut plain_scratch = ListScratch::default();
        let contenders = vec![
            Contender::new("tiles", || {
                meter.begin_frame();
                let list = scratch.list(
                    instances(),
                    &ListSpec::default(),
                    &view,
                    &Surroundings::new(&backdrop),
                    &mut meter,
                );
                renderer.render(&list, &view, &backdrop, &mut image, &mut meter);
                frames.push(meter.end_frame());
            }),
            Contender::new("plain scalar form to linear light, one thread", || {
                let mut meter = Meter::new();
                let list = plain_scratch.list(
                    instances(),
                    &ListSpec::default(),
                    &view,
                    &Surroundings::new(&backdrop),
                    &mut meter,
                );
                let mut linear = reference::LinearImage::new(view.size(), [0.1; 3]);
                linear.blend(reference::splats(&list, &view));
                std::hint::black_box(&linear);
            }),
        ];
        let medians = compare(&format!("radius {radius} px, {blend:?}"), count as usize, 9, contenders);
        let stages = [Stage::Sort, Stage::Project, Stage::Raster, Stage::Resolve].map(|stage| {
            let mut times: Vec<f64> =
                frames.iter().map(|frame| frame.stage(stage).as_secs_f64() * 1e3).collect();
            times.sort_by(f64::total_cmp);
            format!("{} {:.1}", stage.name(), times[times.len() / 2])
        });
        println!("  stages, ms: {}", stages.join(", "));
        ratio("times faster than the plain form", medians[1] / medians[0], 3.0);
    }
}
