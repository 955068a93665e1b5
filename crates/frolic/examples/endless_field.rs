//! A field without end: squares of grass appear around the camera as it goes, a few a step, and are given up behind it.
//!
//! `cargo run --release -p frolic --example endless_field [FOLDER]` writes `endless_field-1.png` to `-3.png` into FOLDER, or here.

use frolic::blades::{AroundSpec, Weather};
use frolic::drawing::GroundSpec;
use frolic::looks::{DetailSpec, TuftSpec};
use frolic::placement::{ClumpSpec, FilterBy, FilterSpec};
use frolic::prelude::*;
use frolic::scene::TextureSpec;
use frolic::world::PathSpec;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let folder = std::path::PathBuf::from(std::env::args().nth(1).unwrap_or_default());
    let patchy = FilterBy::Noise { size: 14.0, range: Span::new(-0.6, -0.1), seed: 3 };
    let layer = PlacementSpec::new(On::Ground(PatternSpec::BlueNoise { distance: 0.0 }))
        .clumps(ClumpSpec::new(0.8))
        .filter(FilterSpec::new(patchy).least(0.3));
    let blades = BladeSpec::new(layer.clone()).length(0.4, 0.8).chunk(3.0).endless(AroundSpec::new(30.0));
    let mut look = LookSpec::solid(Shape::Ribbon(RibbonSpec::new(10.0, 0.05, 3)), "#9aa552")?;
    (look.translucency, look.hazed) = (0.5, 1.0);
    look.colour_along = Ramp::new([(0.0, Colour::new(0.3, 0.28, 0.2)), (1.0, Colour::new(1.3, 1.2, 0.9))]);
    look.tints = vec![Colour::new(0.7, 0.8, 0.6), Colour::new(1.0, 1.0, 1.0), Colour::new(1.1, 0.95, 0.7)];
    // Farther out a tuft on three billboards stands for many blades: each comes in at a distance of its own, as blades vanish.
    let tufts = BladeSpec::new(layer).length(0.5, 0.8).chunk(12.0).endless(AroundSpec::new(130.0));
    let mut billboards = look.clone().shape(Shape::textured_mesh("crossed-quads", "tuft"));
    billboards.blend = Blend::CutOut;
    // Their normals lean upwards, which the low sun grazes.
    billboards.glow = 1.8;
    // Nothing ends at a line: each blade has a distance of its own, well before the squares end.
    look.detail = DetailSpec::reach(28.0, 0.5).thin_below(0.4).coarse_below(0.9);
    billboards.detail = DetailSpec::reach(125.0, 0.4).from(14.0, 28.0).thin_below(2.0);

    let grass = PopulationSpec::blades("grass", blades, 200_000, Span::new(0.003, 0.006), look);
    let tufts = PopulationSpec::blades("tufts", tufts, 50_000, Span::new(0.2, 0.3), billboards);
    let mut spec = SceneSpec::new("a field without end").with_population(grass).with_population(tufts);
    spec.texture = vec![TextureSpec::tuft("tuft", TuftSpec::new(12))];
    spec.weather = Some(Weather::Breeze);
    spec.camera = CameraSpec::new([0.0, 1.7, 0.0], [0.0, 0.9, -9.0], 46.0);
    spec.camera.exposure = 1.2;
    // A hundred kilometres an hour, straight ahead.
    spec.travel = Some(PathSpec::new([[0.0; 3], [24.0, 0.0, -108.0]], 4.0));
    let mut sun = SunSpec::new(24.0, 70.0, Colour::new(1.0, 0.84, 0.6), 4.2);
    // No farther than blades are seen, so that their shadows stay thin.
    (sun.shadow_reach, sun.shadow_map) = (28.0, 4096);
    spec.sun = Some(sun);
    spec.sky.zenith = Colour::new(0.10, 0.34, 0.86);
    spec.sky.horizon = Colour::new(0.98, 0.88, 0.74);
    spec.sky.haze = 240.0;
    let mut ground = GroundSpec::default();
    ground.colour = Colour::new(0.19, 0.175, 0.085);
    spec.ground = Some(ground);

    let mut scene = Scene::new(&spec)?;
    let mut meter = Meter::new();
    for (nth, moment) in [0.1, 2.0, 4.0].into_iter().enumerate() {
        scene.run_to(moment, &mut meter);
        meter.begin_frame();
        let file = folder.join(format!("endless_field-{}.png", nth + 1));
        write_png(&file, scene.draw(&mut meter)?)?;
        let frame = meter.end_frame();
        let (alive, drawn) = (scene.alive(), frame.count(Counter::Instances) - frame.count(Counter::Culled));
        let hidden = frame.count(Counter::CulledInChunks);
        println!("{}: {alive} blades there, {drawn} drawn, {hidden} in squares out of view", file.display());
    }
    Ok(())
}
