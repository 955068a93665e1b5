//! Grass in a breeze: a walker treads a line through it, a ball rolls across, and something goes off in the middle.
//!
//! `cargo run --release -p frolic --example walk_through_grass [FOLDER]` writes `walk_through_grass-1.png` to `-3.png` into FOLDER, or here.

use frolic::blades::Weather;
use frolic::drawing::{GroundSpec, WaterSpec};
use frolic::fixed::WalkSpec;
use frolic::placement::ClumpSpec;
use frolic::prelude::*;
use frolic::world::{PathSpec, PusherSpec};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let folder = std::path::PathBuf::from(std::env::args().nth(1).unwrap_or_default());
    let even = On::Ground(PatternSpec::BlueNoise { distance: 0.0 });
    let layer =
        PlacementSpec::new(even).area(AreaSpec::new([0.0, -8.0], [36.0, 30.0])).clumps(ClumpSpec::new(0.5));
    let mut blades = BladeSpec::new(layer).length(0.35, 0.7);
    blades.recover = Span::new(1.0, 60.0);
    let mut look = LookSpec::solid(Shape::Ribbon(RibbonSpec::new(10.0, 0.05, 3)), "#8f9a45")?;
    look.translucency = 0.5;
    look.colour_along = Ramp::new([(0.0, Colour::new(0.3, 0.28, 0.2)), (1.0, Colour::new(1.3, 1.25, 0.9))]);

    let mut spec = SceneSpec::new("a walk through grass").with_population(PopulationSpec::blades(
        "grass",
        blades,
        160_000,
        Span::new(0.004, 0.007),
        look,
    ));
    spec.weather = Some(Weather::Breeze);
    spec.camera = CameraSpec::new([0.0, 3.4, 8.0], [0.0, 0.0, -2.0], 42.0);
    spec.sun = Some(SunSpec::new(26.0, 65.0, Colour::new(1.0, 0.86, 0.62), 4.2));
    spec.sky.zenith = Colour::new(0.14, 0.32, 0.66);
    spec.sky.horizon = Colour::new(0.95, 0.85, 0.70);
    (spec.sky.haze, spec.sky.coast_degrees) = (600.0, 1.6);
    // The grass runs down to the water.
    let mut ground = GroundSpec::default();
    (ground.colour, ground.radius) = (Colour::new(0.10, 0.11, 0.04), 27.0);
    spec.ground = Some(ground);
    spec.water = Some(WaterSpec::default());
    let walker = PathSpec::new([[-7.0, 0.0, 2.5], [-2.0, 0.0, 0.5], [3.0, 0.0, 1.5], [8.0, 0.0, -1.5]], 6.0);
    let ball = PathSpec::new([[6.0, 0.6, -9.0], [-8.0, 0.6, -3.5]], 5.0);
    spec.world = WorldSpec::default()
        .pusher(PusherSpec::new([0.0; 3], 0.45).path(walker))
        .pusher(PusherSpec::new([0.0; 3], 0.9).name("ball").path(ball))
        .pusher(PusherSpec::new([0.5, 0.0, -3.0], 3.5).blast(6.4, 9.0));
    // Who treads there: the first pusher wears a coat, the second is a float that got loose.
    let worn = |name: &str, colour: &str| LookSpec::solid(Shape::mesh(name), colour);
    let mut coat = worn("walker", "#ffffff")?;
    coat.colour_along = Ramp::new([
        (0.0, Colour::new(0.04, 0.05, 0.08)),
        (0.35, Colour::new(0.06, 0.07, 0.10)),
        (0.36, Colour::new(0.56, 0.34, 0.05)),
        (0.83, Colour::new(0.66, 0.42, 0.07)),
        (0.84, Colour::new(0.55, 0.33, 0.23)),
        (0.93, Colour::new(0.55, 0.33, 0.23)),
        (0.931, Colour::new(0.60, 0.38, 0.06)),
    ]);
    let float = worn("ball", "#e2703a")?;
    for (name, walk, size, look) in [
        ("walker", WalkSpec::new(0.74, None), 1.72, coat),
        ("float", WalkSpec::default().pusher("ball"), 1.2, float),
    ] {
        let figure = FixedSpec::walking(walk);
        spec = spec.with_population(PopulationSpec::fixed(name, figure, 1, Span::from(size), look));
    }

    let mut scene = Scene::new(&spec)?;
    let mut meter = Meter::new();
    for (nth, moment) in [3.4, 5.5, 6.75].into_iter().enumerate() {
        meter.begin_frame();
        scene.run_to(moment, &mut meter);
        let file = folder.join(format!("walk_through_grass-{}.png", nth + 1));
        write_png(&file, scene.draw(&mut meter)?)?;
        let frame = meter.end_frame();
        let (swung, pressed) = (frame.count(Counter::Swung), frame.count(Counter::Pressed));
        println!(
            "{}: {swung} swung, {pressed} were stepped one by one, as something trod there",
            file.display()
        );
    }
    Ok(())
}
