//! Hunters and prey: two flocks that look at each other. Small fish flee, and their alarm spreads; large ones choose prey that is alone, head it off, and rest
//! after a catch. Bubbles rise where prey was caught.
//!
//! `cargo run --release -p frolic --example hunter_and_prey [FILE] [SECONDS]` prints how many are left, second by second, and draws the last moment into FILE
//! (hunter_and_prey.png).

use frolic::flock::{FlockSpec, HuntSpec, Space, Target, TargetSpec, TintSpec};
use frolic::looks::WaveSpec;
use frolic::prelude::*;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut words = std::env::args().skip(1);
    let file = words.next().unwrap_or_else(|| "hunter_and_prey.png".into());
    let seconds: u32 = words.next().map_or(Ok(20), |word| word.parse())?;
    let mut scene = Scene::new(&spec()?)?;
    let mut meter = Meter::new();
    let (mut caught, mut left) = (0, 0);
    for second in 1..=seconds {
        meter.begin_frame();
        scene.run_to(f64::from(second), &mut meter);
        caught += meter.end_frame().count(Counter::Caught);
        let alarm = scene.column("fry", "alarm")?.floats().unwrap_or_default();
        left = alarm.len();
        let alarmed = alarm.iter().filter(|alarm| **alarm > 0.1).count();
        println!("{second:3} s: {left} left, {caught} caught, {alarmed} in alarm");
    }
    write_png(&file, scene.draw(&mut meter)?)?;
    println!("wrote {file}: {left} of 3000 are left");
    Ok(())
}

fn spec() -> Result<SceneSpec, Box<dyn std::error::Error>> {
    let lagoon = || Space::Box { position: [0.0, -3.0, 0.0], size: [14.0, 5.0, 10.0] };
    let swims = |name: &str, speed: f32| Shape::Mesh {
        name: name.to_owned(),
        coarse: None,
        texture: None,
        wave: Some(WaveSpec::default().speed(speed)),
    };
    // Prey: a school that flees what hunts it.
    let mut fry = FlockSpec::school(0.16).within(lagoon()).position([-2.0, -3.0, 0.0]);
    fry.start = ShapeSpec::Sphere { radius: 1.8 };
    fry.flee = vec![TargetSpec::new(Target::Population("pike".into()), 5.0).radius(1.6).alarm(1.0)];
    // A reef in the middle, which it circles.
    fry.seek = vec![TargetSpec::new(Target::Point([0.3, -3.1, 0.0]), 0.5).keep(1.6).orbit(0.3)];
    fry.tint_by = Some(TintSpec::Alarm);
    let mut silver = LookSpec::solid(swims("eel", 1.2), "#b9c8c4")?;
    silver.tints = ["#9fd0e0", "#ffb070"].iter().filter_map(|hex| Colour::hex(hex)).collect();
    (silver.gloss, silver.hazed) = (4.0, 1.0);
    let mut fry = PopulationSpec::flock("fry", fry, 3_000, Span::new(0.14, 0.2), silver);
    fry.event = vec![EventSpec::start(Moment::Caught, "bubbles", 24.0).speed(0.4)];
    // Hunters: few, fast, each by itself.
    let mut pike = FlockSpec::flight(0.8).within(lagoon()).position([4.0, -3.0, 0.0]);
    pike.start = ShapeSpec::Sphere { radius: 1.5 };
    (pike.cruise, pike.speed_limits, pike.acceleration) = (Span::new(1.2, 1.5), [0.6, 3.0], 5.0);
    pike.alignment.weight = 0.0;
    pike.hunt = Some(HuntSpec::new("fry").sight(6.0).reach(0.35).digest(2.0));
    let mut dark = LookSpec::solid(swims("eel", 2.0), "#4a5a48")?;
    (dark.gloss, dark.hazed) = (1.5, 1.0);
    let pike = PopulationSpec::flock("pike", pike, 4, Span::new(0.9, 1.2), dark);
    // What is left of a catch.
    let bubbles = ParticleSpec::new(2_000).life(1.0, 2.0).size(0.008, 0.02).motion(2.0, -0.05);
    let air = LookSpec::glowing(0.6, [(0.0, "#bfe8ff"), (1.0, "#40808f")])?;
    let mut spec = SceneSpec::new("hunters and prey")
        .with_population(fry)
        .with_population(pike)
        .with("bubbles", bubbles, air)
        .set("camera.position", "[-1.0, -3.6, 9.0]")?
        .set("camera.target", "[0.0, -3.0, 0.0]")?
        .set("sky", "{ zenith = [0.04, 0.26, 0.30], horizon = [0.006, 0.06, 0.08], soft_degrees = 16.0, haze = 12.0 }")?;
    spec = spec.set("sun", "{ height_degrees = 66.0, shadow_map = 0 }")?;
    Ok(spec)
}
