//! Grass in a breeze: a walker treads a line through it, a ball rolls across, and something goes off in the middle.
//!
//! `cargo run --release -p frolic --example walk_through_grass [FOLDER]` writes `walk_through_grass-1.png` to `-3.png` into FOLDER, or here.

use frolic::prelude::*;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let folder = std::path::PathBuf::from(std::env::args().nth(1).unwrap_or_default());
    let even = On::Ground(PatternSpec::BlueNoise { distance: 0.0 });
    let layer =
        PlacementSpec::new(even).area(AreaSpec::new([0.0, -3.0], [22.0, 18.0])).clumps(ClumpSpec::new(0.5));
    let mut blades = BladeSpec::new(layer).length(0.35, 0.7);
    blades.recover = Span::new(1.0, 60.0);
    let mut look = LookSpec::solid(Shape::Ribbon(RibbonSpec::new(10.0, 0.05, 3)), "#8f9a45")?;
    look.through = 0.5;
    look.colour_along = Ramp::new([(0.0, Colour::new(0.3, 0.28, 0.2)), (1.0, Colour::new(1.3, 1.25, 0.9))]);

    let mut spec = SceneSpec::new("a walk through grass").with_fixed(PopulationSpec::blades(
        "grass",
        blades,
        60_000,
        Span::new(0.004, 0.007),
        look,
    ));
    spec.weather = Some(Weather::Breeze);
    spec.camera = CameraSpec::new([0.0, 3.4, 8.0], [0.0, 0.0, -2.0], 42.0);
    spec.sun = Some(SunSpec::new(26.0, 65.0, Colour::new(1.0, 0.86, 0.62), 4.2));
    spec.sky.zenith = Colour::new(0.14, 0.32, 0.66);
    spec.sky.horizon = Colour::new(0.95, 0.85, 0.70);
    spec.ground = Some(GroundSpec::default());
    let walker = PathSpec::new([[-7.0, 0.0, 2.5], [-2.0, 0.0, 0.5], [3.0, 0.0, 1.5], [8.0, 0.0, -1.5]], 6.0);
    let ball = PathSpec::new([[6.0, 0.0, -9.0], [-8.0, 0.0, -3.5]], 5.0);
    spec.world = WorldSpec::default()
        .pusher(PusherSpec::new([0.0; 3], 0.45).along(walker))
        .pusher(PusherSpec::new([0.0; 3], 0.9).along(ball))
        .pusher(PusherSpec::new([0.5, 0.0, -3.0], 3.5).blast(6.4, 9.0));

    let mut scene = Scene::new(&spec)?;
    let mut meter = Meter::new();
    for (nth, moment) in [2.5, 5.5, 6.75].into_iter().enumerate() {
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
