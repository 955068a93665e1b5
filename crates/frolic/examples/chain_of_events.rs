//! One population starts another: rockets whose end starts stars, whose hits on the water start splashes. Nothing is lost on the way.
//!
//! `cargo run --release -p frolic --example chain_of_events [FOLDER]` writes `chain_of_events.png` into FOLDER, or here.

use frolic::particles::{AimBy, TrailSpec};
use frolic::prelude::*;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let folder = std::env::args().nth(1).unwrap_or_default();

    // Each rocket ends in 260 stars that hand down a third of its speed; at most 4000 a step.
    let mut stars_of = EventSpec::start(Moment::Death, "stars", 260.0).keep_velocity(0.3).most(4000);
    (stars_of.aim.spread_degrees, stars_of.speed, stars_of.keep_look) = (180.0, Span::new(3.0, 3.6), true);
    let rockets = ParticleSpec::new(12)
        .life(1.05, 1.35)
        .size(0.05, 0.05)
        .motion(0.2, 0.6)
        .emitter(
            EmitterSpec::bursts(4, 0.1, 0.55)
                .position([0.0, 0.0, -6.0])
                .cone([0.0, 1.0, 0.0], 24.0)
                .speed(8.5, 11.0),
        )
        .event(stars_of);
    // A star that touches the water starts drops that fly off it.
    let hit = EventSpec::start(Moment::Hit { speed: 0.5 }, "drops", 3.0);
    let stars = ParticleSpec::new(20_000)
        .life(1.2, 2.6)
        .size(0.012, 0.03)
        .motion(0.9, 0.35)
        .trail(TrailSpec::new(8, 0.03))
        .event(hit.cone(AimBy::Normal, 50.0, Span::new(0.5, 1.6)));
    let drops = ParticleSpec::new(20_000).life(0.4, 0.9).size(0.008, 0.02).motion(0.3, 1.0);

    let mut look = LookSpec::glowing(7.0, [(0.0, "#ffffff"), (0.4, "#ffd890"), (1.0, "#802010")])?;
    look.tints = ["#ffb060", "#ff7090", "#80c8ff", "#a0ffb0"].into_iter().filter_map(Colour::hex).collect();
    let mut trail = look
        .clone()
        .shape(Shape::Ribbon(RibbonSpec::new(1.0, 0.85, 1)))
        .opacity_over_age([(0.0, 0.7), (1.0, 0.0)]);
    trail.glow = 2.5;
    let splash = LookSpec::glowing(2.0, [(0.0, "#cfe8ff"), (1.0, "#305080")])?
        .opacity_over_age([(0.0, 0.9), (1.0, 0.0)]);

    let mut spec = SceneSpec::new("a chain of events");
    spec.world =
        WorldSpec::default().obstacle(ObstacleSpec::plane([0.0; 3], [0.0, 1.0, 0.0]).bounce(0.0, 0.9));
    spec.camera.position = [0.0, 2.2, 6.0];
    spec.camera.target = [0.0, 4.2, -6.0];
    spec.camera.bloom = 0.15;
    spec.sky.zenith = Colour::new(0.002, 0.004, 0.012);
    spec.sky.horizon = Colour::new(0.012, 0.016, 0.034);
    spec.sky.stars = 0.5;
    let mut water = frolic::draw::WaterSpec::default();
    water.level = 0.0;
    spec.water = Some(water);
    spec = spec
        .with("rockets", rockets, look.clone())
        .with("stars", stars, look.clone())
        .with("drops", drops, splash);
    if let Some(stars) = spec.population.iter_mut().find(|population| population.name == "stars") {
        stars.trail = Some(frolic::scene::TrailLookSpec::new(8, 0.03, trail));
    }

    let mut scene = Scene::new(&spec)?;
    let mut meter = Meter::new();
    let (mut noted, mut born, mut refused) = (0, 0, 0);
    for _ in 0..60 * 3 {
        meter.begin_frame();
        scene.step(1.0 / 60.0, 1, &mut meter);
        let frame = meter.end_frame();
        noted += frame.count(Counter::Events);
        born += frame.count(Counter::Emitted);
        refused += frame.count(Counter::Refused);
    }
    for name in ["rockets", "stars", "drops"] {
        println!("{name:8} {:6} alive", scene.particles(name).map_or(0, Particles::len));
    }
    println!("{noted} events, {born} born, {refused} refused by caps or for want of room");
    let path = std::path::Path::new(&folder).join("chain_of_events.png");
    write_png(&path, scene.draw(&mut meter)?)?;
    println!("wrote {}", path.display());
    Ok(())
}
