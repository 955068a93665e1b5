//! What elements bounce off and what picks them up, against closed forms.

use crate::common::{assets, weightless};
use frolic_core::{
    AimSpec, Asset, Assets, BodyRow, CollectorSpec, Counter, EmitterSpec, FieldKind, FieldSpec, Meter,
    ObstacleShape, ObstacleSpec, Order, ParticleSpec, Particles, Plane, ShapeSpec, Storage, Touch, WorldSpec,
};
use proptest::prelude::*;

/// One element that falls from a height onto a floor that sends back a share.
fn fallen(bounce: f32, friction: f32, side: f32, steps: u32) -> (Particles, u64) {
    let floor = ObstacleSpec::plane([0.0; 3], [0.0, 2.0, 0.0]).bounce(bounce, friction);
    let world = WorldSpec::default().obstacle(floor).build().unwrap();
    let emitter =
        EmitterSpec::burst(1, 0.0).position([0.0, 2.0, 0.0]).cone([1.0, 0.0, 0.0], 0.0).speed(side, side);
    let mut one = Particles::new(&ParticleSpec::new(1).life(1e3, 1e3).emitter(emitter), 1).unwrap();
    let mut meter = Meter::new();
    meter.begin_frame();
    one.step(&world, 0.001, steps, &mut meter);
    (one, meter.end_frame().count(Counter::Hits))
}

#[test]
fn a_bounce_rises_as_high_as_its_share_squared() {
    // From 2 m it takes 0.639 s to the floor, then rises for half as long at a share of a half.
    let (top, hits) = fallen(0.5, 0.0, 0.0, 639 + 319);
    let height = top.columns().py()[0];
    assert!((height - 0.5).abs() < 0.02, "{height}");
    assert_eq!(hits, 1);
    // Without a share it lies where it fell.
    let (lain, hits) = fallen(0.0, 0.0, 0.0, 1_500);
    assert!(lain.columns().py()[0].abs() < 1e-4 && hits > 100);
}

#[test]
fn friction_takes_its_share_of_what_leads_along() {
    let (slid, hits) = fallen(0.9, 0.25, 3.0, 700);
    assert_eq!(hits, 1);
    assert!((slid.columns().vx()[0] - 3.0 * 0.75).abs() < 1e-3, "{}", slid.columns().vx()[0]);
}

proptest! {
    /// Nobody is inside of a floor or ball after a step, whatever the ball and the speed; and both storages agree to the bit.
    #[test]
    fn no_element_stays_inside(
        place in prop::array::uniform3(-1f32..1.0), radius in 0.2f32..1.5, bounce in 0f32..1.0, speed in 0f32..8.0, seed in 0u32..50,
    ) {
        let world = WorldSpec::default()
            .obstacle(ObstacleSpec::sphere(place, radius).bounce(bounce, 0.1))
            .collector(CollectorSpec::new([0.0, -3.0, 0.0], 1.0))
            .build()
            .unwrap();
        let emitter = EmitterSpec::rate(600.0)
            .shape(ShapeSpec::Box { size: [4.0, 3.0, 4.0] })
            .cone([0.0, 1.0, 0.0], 180.0)
            .speed(0.0, speed);
        let spec = ParticleSpec::new(500).life(0.5, 2.0).emitter(emitter);
        let mut frames = Vec::new();
        let mut all = Vec::new();
        for storage in [Storage::Columns, Storage::Objects] {
            let mut particles = Particles::with_storage(&spec, seed, storage).unwrap();
            let mut meter = Meter::new();
            meter.begin_frame();
            particles.step(&world, 1.0 / 60.0, 90, &mut meter);
            frames.push(meter.end_frame());
            all.push(particles);
        }
        prop_assert_eq!(all[0].columns(), all[1].columns());
        for counter in [Counter::Hits, Counter::Picked, Counter::Emitted, Counter::Retired] {
            prop_assert_eq!(frames[0].count(counter), frames[1].count(counter));
        }
        let frame = &frames[0];
        prop_assert_eq!(frame.count(Counter::Emitted), frame.count(Counter::Retired) + all[0].len() as u64);
        prop_assert!(frame.count(Counter::Picked) <= frame.count(Counter::Retired));
        let columns = all[0].columns();
        let [x, y, z] = columns.position();
        for i in 0..columns.len() {
            let off = |p: [f32; 3]| {
                ((x[i] - p[0]).powi(2) + (y[i] - p[1]).powi(2) + (z[i] - p[2]).powi(2)).sqrt()
            };
            // The newborn have not met anything yet.
            if columns.age()[i] > 1.0 / 60.0 {
                prop_assert!(off(place) > radius - 1e-4, "{} of {}", off(place), radius);
                prop_assert!(off([0.0, -3.0, 0.0]) > 1.0 - 1e-4);
            }
        }
    }
}

#[test]
fn bad_worlds_are_refused() {
    let told = |world: WorldSpec| world.build().unwrap_err().to_string();
    let flat = ObstacleSpec::plane([0.0; 3], [0.0; 3]);
    assert!(
        told(WorldSpec::default().obstacle(flat)).starts_with("obstacle.0.shape.plane.normal: has no length")
    );
    let hard = ObstacleSpec::sphere([0.0; 3], 1.0).bounce(1.5, 0.0);
    assert!(told(WorldSpec::default().obstacle(hard)).starts_with("obstacle.0.bounce: 1.5 is out of range"));
    let many =
        (0..65).fold(WorldSpec::default(), |world, _| world.obstacle(ObstacleSpec::sphere([0.0; 3], 1.0)));
    assert!(told(many).contains("keep to 64"));
    let flat = CollectorSpec::new([0.0; 3], 0.0);
    assert!(told(WorldSpec::default().collector(flat)).starts_with("collector.0.radius: 0 is out of range"));
    let nowhere = ObstacleSpec::mask("rock", [0.0; 3], 1.0);
    assert_eq!(
        told(WorldSpec::default().obstacle(nowhere)),
        "obstacle.0.shape.mask.asset: there is no asset 'rock'; add an asset of that name"
    );
    let wrong = ObstacleSpec::distance("mask");
    let error = WorldSpec::default().obstacle(wrong).build_with(&assets()).unwrap_err().to_string();
    assert!(error.contains("is a picture, not a distance grid; write one of: ball, hills"), "{error}");
}

/// One of each kind, apart from each other.
fn every_kind() -> Vec<ObstacleSpec> {
    let heights = ObstacleShape::Heights {
        asset: "hills".into(),
        position: [0.0, -4.0, 0.0],
        size: [12.0, 12.0],
        height: 1.5,
    };
    vec![
        ObstacleSpec::plane([0.0, -4.5, 0.0], [0.0, 1.0, 0.0]),
        ObstacleSpec::sphere([2.0, 1.0, 0.0], 0.7),
        ObstacleSpec::new(ObstacleShape::Capsule {
            from: [-2.0, 0.0, 1.0],
            to: [-1.0, 2.0, 0.0],
            radius: 0.3,
        }),
        ObstacleSpec::new(ObstacleShape::Box {
            position: [1.0, -1.5, 0.0],
            size: [1.5, 0.1, 2.0],
            turn_degrees: 25.0,
        }),
        ObstacleSpec::distance("ball"),
        ObstacleSpec::new(heights),
        ObstacleSpec::mask("mask", [0.0, 3.0, 0.0], 4.0),
    ]
}

/// How many cells of a mask, or what depth, counts as inside: what is between the grid's points is known to that.
const SLACK: f32 = 2e-3;

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    /// Whatever it meets at whatever speed, an element is outside of everything after a step.
    #[test]
    fn nothing_is_inside_after_a_step(
        seed in any::<u32>(), chosen in 1u8..128, speed in 0f32..400.0, bounce in 0f32..1.0, gravity in any::<bool>(),
    ) {
        let mut world = if gravity { WorldSpec::default() } else { weightless() };
        let all = every_kind().into_iter().enumerate().filter(|(nth, _)| chosen >> nth & 1 == 1);
        world.obstacle = all.map(|(_, obstacle)| obstacle.bounce(bounce, 0.1)).collect();
        let world = world.build_with(&assets()).unwrap();
        let emitter = EmitterSpec::burst(400, 0.0)
            .shape(ShapeSpec::Box { size: [8.0, 8.0, 4.0] })
            .cone([0.0, 1.0, 0.0], 180.0)
            .speed(0.0, speed);
        let mut particles = Particles::new(&ParticleSpec::new(400).life(90.0, 90.0).emitter(emitter), seed).unwrap();
        particles.step(&world, 1e-6, 1, &mut Meter::new());
        for _ in 0..12 {
            particles.step(&world, 1.0 / 60.0, 1, &mut Meter::new());
            let [x, y, z] = particles.columns().position();
            for i in 0..particles.len() {
                let off = world.distance([x[i], y[i], z[i]]);
                prop_assert!(off > -SLACK, "{} at {:?}", off, [x[i], y[i], z[i]]);
            }
        }
        prop_assert_eq!(particles.len(), 400);
    }

    /// A closed wall of one cell holds what is inside, at up to a hundred cells a step; and a thin box, sphere and capsule are not jumped over.
    #[test]
    fn nothing_goes_through_a_wall(seed in any::<u32>(), cells in 1f32..100.0) {
        let side = 64;
        let wall = |k: usize| {
            let (x, y) = (k % side, k / side);
            let edge = |at: usize| at == 12 || at == 51;
            let within = |at: usize| (12..=51).contains(&at);
            if (edge(x) && within(y)) || (edge(y) && within(x)) { 1.0 } else { 0.0 }
        };
        let mut assets = assets();
        let values = (0..side * side).map(wall).collect();
        assets.insert("ring", Asset::Plane(Plane::new(side, side, values).unwrap().into()));
        let world = weightless().obstacle(ObstacleSpec::mask("ring", [0.0; 3], 6.4).bounce(1.0, 0.0));
        let world = world.build_with(&assets).unwrap();
        let speed = cells * 0.1 * 60.0;
        let emitter = EmitterSpec::burst(300, 0.0)
            .shape(ShapeSpec::Box { size: [2.0, 2.0, 0.0] })
            .aim(AimSpec::fan([1.0, 0.0, 0.0], 180.0, [0.0, 0.0, 1.0]))
            .speed(speed, speed);
        let mut particles = Particles::new(&ParticleSpec::new(300).life(90.0, 90.0).emitter(emitter), seed).unwrap();
        particles.step(&world, 1e-6, 1, &mut Meter::new());
        particles.step(&world, 1.0 / 60.0, 30, &mut Meter::new());
        let [x, y, _] = particles.columns().position();
        prop_assert!(x.iter().chain(y).all(|at| at.abs() < 2.0), "all are inside still");
        // Thin things in the way of fast straight flight.
        for shape in [
            ObstacleShape::Box { position: [3.0, 0.0, 0.0], size: [0.002, 4.0, 4.0], turn_degrees: 0.0 },
            ObstacleShape::Sphere { position: [3.0, 0.0, 0.0], radius: 0.01 },
            ObstacleShape::Capsule { from: [3.0, -1.0, 0.0], to: [3.0, 1.0, 0.0], radius: 0.001 },
        ] {
            let world = weightless().obstacle(ObstacleSpec::new(shape.clone()).bounce(1.0, 0.0)).build().unwrap();
            let emitter = EmitterSpec::burst(1, 0.0).cone([1.0, 0.0, 0.0], 0.0).speed(speed * 50.0, speed * 50.0);
            let mut one = Particles::new(&ParticleSpec::new(1).life(9.0, 9.0).emitter(emitter), seed).unwrap();
            one.step(&world, 1e-7, 1, &mut Meter::new());
            one.step(&world, 1.0, 1, &mut Meter::new());
            prop_assert!(one.columns().px()[0] < 3.0 && one.columns().vx()[0] < 0.0, "{:?}", shape);
        }
    }
}

proptest! {
    /// A fault once: with a plate 5 cm before an emitter, 800 of 2000 newborn passed at 6 m/s, and 1880 at 60 m/s. Collectors missed them too.
    #[test]
    fn newborn_pass_through_no_walls(speed in 1f32..100.0, rate in 200f32..4000.0, objects in any::<bool>()) {
        let plate = ObstacleShape::Box { position: [0.05, 0.0, 0.0], size: [0.002, 9.0, 9.0], turn_degrees: 0.0 };
        let emitter = EmitterSpec::rate(rate).cone([1.0, 0.0, 0.0], 20.0).speed(speed, speed);
        let spec = ParticleSpec::new(2000).life(0.3, 0.9).emitter(emitter);
        let storage = if objects { Storage::Objects } else { Storage::Columns };
        let walled = weightless().obstacle(ObstacleSpec::new(plate.clone()).bounce(0.4, 0.0)).build().unwrap();
        let mut particles = Particles::with_storage(&spec, 3, storage).unwrap();
        for _ in 0..20 {
            particles.step(&walled, 1.0 / 60.0, 1, &mut Meter::new());
            prop_assert!(particles.columns().px().iter().all(|x| *x <= 0.05));
        }
        prop_assert!(particles.len() > 30);
        // What ends a life ends it in the step of its birth too, and is counted.
        let end = weightless().obstacle(ObstacleSpec::new(plate).touch(Touch::Die));
        let bucket = weightless().collector(CollectorSpec::new([0.2, 0.0, 0.0], 0.19));
        for (world, ends) in [(end, [Counter::Hits, Counter::Retired]), (bucket, [Counter::Picked, Counter::Retired])] {
            let world = world.build().unwrap();
            let emitter = spec.emitter[0].clone().cone([1.0, 0.0, 0.0], 5.0).speed(60.0, 60.0);
            let mut particles = Particles::with_storage(&ParticleSpec::new(2000).emitter(emitter), 3, storage).unwrap();
            let mut meter = Meter::new();
            meter.begin_frame();
            particles.step(&world, 1.0 / 60.0, 20, &mut meter);
            let frame = meter.end_frame();
            let left = frame.count(Counter::Emitted) - particles.len() as u64;
            // Those that had no time to get there.
            prop_assert!((particles.len() as f32) < 2.0 + rate * 0.05 / 60.0, "{} are left", particles.len());
            prop_assert_eq!(ends.map(|counter| frame.count(counter)), [left; 2]);
        }
    }
}

/// Height of the top of each bounce of a ball let fall from 2 m.
fn tops(bounce: f32, steps_a_second: u32) -> Vec<f32> {
    let world =
        WorldSpec::default().obstacle(ObstacleSpec::plane([0.0; 3], [0.0, 1.0, 0.0]).bounce(bounce, 0.0));
    let world = world.build().unwrap();
    let emitter = EmitterSpec::burst(1, 0.0).position([0.0, 2.0, 0.0]).speed(0.0, 0.0);
    let mut ball = Particles::new(&ParticleSpec::new(1).life(1e3, 1e3).emitter(emitter), 1).unwrap();
    let (mut tops, mut before) = (Vec::new(), -1.0);
    for _ in 0..5 * steps_a_second {
        ball.step(&world, 1.0 / steps_a_second as f32, 1, &mut Meter::new());
        let speed = ball.columns().vy()[0];
        if before > 0.0 && speed <= 0.0 {
            tops.push(ball.columns().py()[0]);
        }
        before = speed;
    }
    tops
}

#[test]
fn energy_over_bounces_falls_by_the_square_of_the_share() {
    for bounce in [0.5f32, 0.8, 0.95] {
        let tops = tops(bounce, 4000);
        assert!(tops.len() >= 3);
        for (nth, top) in tops.iter().take(5).enumerate() {
            let want = 2.0 * bounce.powi(2 * (nth as i32 + 1));
            assert!((top - want).abs() < 0.01 * want + 0.002, "{bounce}: {top} for {want}");
        }
    }
    // Nothing is won where nothing is lost.
    assert!(tops(1.0, 240).iter().all(|top| *top < 2.05 && *top > 1.9));
}

fn let_fall(
    obstacle: ObstacleSpec,
    from: [f32; 3],
    way: [f32; 3],
    speed: f32,
    seconds: f32,
) -> (Particles, u64) {
    let world = WorldSpec::default().obstacle(obstacle).build_with(&assets()).unwrap();
    let emitter = EmitterSpec::burst(1, 0.0).position(from).cone(way, 0.0).speed(speed, speed);
    let mut one = Particles::new(&ParticleSpec::new(1).life(1e3, 1e3).emitter(emitter), 1).unwrap();
    let mut meter = Meter::new();
    meter.begin_frame();
    one.step(&world, 1.0 / 120.0, (seconds * 120.0) as u32, &mut meter);
    (one, meter.end_frame().count(Counter::Hits))
}

#[test]
fn touches_have_their_effects() {
    let slope = |touch| ObstacleSpec::plane([0.0; 3], [1.0, 1.0, 0.0]).touch(touch).bounce(0.5, 0.0);
    // Down a slope of 45 degrees without friction: g / sqrt 2 along it.
    let (slid, _) = let_fall(slope(Touch::Slide), [0.0, 0.01, 0.0], [0.0, -1.0, 0.0], 0.0, 1.0);
    let speed = slid.columns().vx()[0].hypot(slid.columns().vy()[0]);
    assert!((speed - 9.81 / 2f32.sqrt()).abs() < 0.25, "{speed}");
    assert!((slid.columns().vx()[0] + slid.columns().vy()[0]).abs() < 0.15, "along the slope");
    // Under a ceiling it sticks, though gravity pulls it off.
    let ceiling = ObstacleSpec::plane([0.0, 2.0, 0.0], [0.0, -1.0, 0.0]).touch(Touch::Stick);
    let (stuck, hits) = let_fall(ceiling, [0.0; 3], [0.1, 1.0, 0.0], 9.0, 3.0);
    assert!((stuck.columns().py()[0] - 2.0).abs() < 2e-3 && stuck.columns().vy()[0] == 0.0);
    assert_eq!(hits, 1);
    let (stuck, _) = let_fall(
        ObstacleSpec::distance("ball").touch(Touch::Stick),
        [0.0, 4.0, 0.1],
        [0.0, -1.0, 0.0],
        1.0,
        3.0,
    );
    assert!((stuck.columns().py()[0] - 1.79).abs() < 0.03, "{:?}", stuck.columns().py());
    let (gone, hits) = let_fall(
        ObstacleSpec::sphere([0.0; 3], 1.0).touch(Touch::Die),
        [0.0, 4.0, 0.0],
        [0.0, -1.0, 0.0],
        1.0,
        3.0,
    );
    assert_eq!((gone.len(), hits), (0, 1));
    let (through, hits) = let_fall(
        ObstacleSpec::sphere([0.0; 3], 1.0).touch(Touch::Pass),
        [0.0, 4.0, 0.0],
        [0.0, -1.0, 0.0],
        1.0,
        3.0,
    );
    assert_eq!(hits, 1);
    let exact = 4.0 - 3.0 - 9.81 * 9.0 / 2.0;
    assert!((through.columns().py()[0] - exact).abs() < 0.3, "undisturbed");
}

#[test]
fn elements_inside_are_pushed_out_by_their_depth() {
    let world =
        weightless().obstacle(ObstacleSpec::mask("mask", [0.0; 3], 4.0)).build_with(&assets()).unwrap();
    // In the large disc of the mask, 0.2 m under its edge.
    let middle = [(0.3 - 0.5) * 4.0, (0.3 - 0.5) * 3.0];
    let emitter = EmitterSpec::burst(1, 0.0).position([middle[0] + 0.3, middle[1], 0.0]).speed(0.0, 0.0);
    let mut one = Particles::new(&ParticleSpec::new(1).life(9.0, 9.0).emitter(emitter), 1).unwrap();
    let before = world.distance([middle[0] + 0.3, middle[1], 0.0]);
    assert!(before < -0.1, "{before}");
    one.step(&world, 0.001, 1, &mut Meter::new());
    let after = world.distance([one.columns().px()[0], one.columns().py()[0], 0.0]);
    assert!((-SLACK..0.02).contains(&after), "{after}");
    assert!((one.columns().py()[0] - middle[1]).abs() < 0.1, "straight out");
}

#[test]
fn the_trapped_come_to_rest_and_are_freed_by_digging() {
    let mut assets = assets();
    assets.insert("rock", Asset::Plane(Plane::new(200, 200, vec![0.0; 40_000]).unwrap().into()));
    let mut spec = weightless().obstacle(ObstacleSpec::mask("rock", [0.0; 3], 4.0));
    spec.wind = [3.0, 0.0, 0.0];
    let mut world = spec.build_with(&assets).unwrap();
    let emitter = EmitterSpec::burst(50, 0.0)
        .aim(AimSpec::fan([1.0, 0.0, 0.0], 180.0, [0.0, 0.0, 1.0]))
        .speed(1.0, 1.0);
    let spec = ParticleSpec::new(50).life(90.0, 90.0).motion(2.0, 0.0).emitter(emitter);
    let mut all = Particles::new(&spec, 1).unwrap();
    all.step(&world, 0.01, 2, &mut Meter::new());
    let places = |all: &Particles| (all.columns().px().to_vec(), all.columns().py().to_vec());
    let before = places(&all);
    // Filled far deeper than the way out is looked for.
    assert!(world.fill(0, [0.0; 3], 3.0) == 40_000);
    all.step(&world, 0.01, 1, &mut Meter::new());
    let trapped = places(&all);
    all.step(&world, 0.01, 20, &mut Meter::new());
    let now = places(&all);
    let same = |a: &[f32], b: &[f32]| a.iter().zip(b).all(|(a, b)| (a - b).abs() < 1e-6);
    assert!(same(&now.0, &trapped.0) && same(&now.1, &trapped.1), "at rest, whatever the wind does");
    assert!(before.0.iter().zip(&trapped.0).all(|(a, b)| (a - b).abs() < 0.02), "where they were caught");
    assert!(all.columns().vx().iter().all(|v| *v == 0.0));
    // Dug out again, the wind takes them.
    assert!(world.dig(0, [0.0; 3], 1.9) > 20_000);
    all.step(&world, 0.01, 30, &mut Meter::new());
    assert!(all.columns().px().iter().zip(&trapped.0).all(|(now, then)| now - then > 0.05));
    // Brushes that are none change nothing.
    let nothing =
        [world.dig(0, [f32::NAN, 0.0, 0.0], 1.0), world.dig(0, [0.0; 3], -1.0), world.dig(7, [0.0; 3], 1.0)];
    assert_eq!(nothing, [0; 3]);
    assert_eq!(world.mask(0).map(|mask| (mask.width(), mask.edits())), Some((200, 2)));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// What lies still is set aside and not asked any more; digging, a draught and a collector that comes by find it all the same.
    #[test]
    fn elements_at_rest_keep_their_state(seed in any::<u32>(), draught in prop::bool::ANY, x in -1.5f32..1.5, y in -1.2f32..1.2) {
        let mut spec = WorldSpec::default()
            .obstacle(ObstacleSpec::mask("mask", [0.0; 3], 4.0).bounce(0.2, 0.3))
            .obstacle(ObstacleSpec::plane([0.0, -2.0, 0.0], [0.0, 1.0, 0.0]).bounce(0.0, 0.5))
            .collector(CollectorSpec::new([50.0, 0.0, 0.0], 0.4))
            .field(FieldSpec::curl(0.5, 1.0));
        if draught {
            spec = spec.field(FieldSpec::new(FieldKind::Wind { velocity: [60.0, 20.0, 0.0] }).during(2.0, 2.2));
        }
        let emitter = EmitterSpec::rate(400.0).shape(ShapeSpec::Box { size: [4.0, 0.5, 0.0] }).position([0.0, 2.5, 0.0]);
        let rain = ParticleSpec::new(600).life(1.0, 4.0).motion(0.5, 1.0).emitter(emitter);
        let run = |order: Order, storage: Storage| {
            let mut world = spec.build_with(&assets()).unwrap();
            let mut rain = Particles::with_storage(&rain.clone().order(order), seed, storage).unwrap();
            let mut meter = Meter::new();
            let mut told = [0; 3];
            for step in 0..180 {
                match step {
                    90 => {
                        world.dig(0, [x, y, 0.0], 0.5);
                    }
                    130 => {
                        world.put_collector(0, [x, y, 0.0]);
                    }
                    _ => {}
                }
                meter.begin_frame();
                rain.step(&world, 1.0 / 60.0, 1, &mut meter);
                let frame = meter.end_frame();
                for (told, counter) in told.iter_mut().zip([Counter::Picked, Counter::Hits, Counter::SetAside]) {
                    *told += frame.count(counter);
                }
            }
            let mut rows: Vec<BodyRow> = (0..rain.len()).filter_map(|nth| rain.columns().row(nth)).collect();
            rows.sort_by_key(|row| row.id);
            (rows, told)
        };
        let (want, [picked, hits, none]) = run(Order::Birth, Storage::Columns);
        prop_assert_eq!(none, 0);
        for storage in [Storage::Columns, Storage::Objects] {
            let (got, told) = run(Order::Any, storage);
            prop_assert_eq!(&got, &want);
            prop_assert_eq!(&told[..2], &[picked, hits][..]);
            prop_assert!(told[2] > 5_000, "{} set aside", told[2]);
        }
    }
}

/// Speed of one that has slid for half a second down the slanting edge of a mask of so many cells a side, m/s, and what the height that it
/// has lost would make it.
fn slid(slope: f32, side: usize, beside_another: bool) -> [f32; 2] {
    // Down to the right.
    let half = side as f32 * 0.5;
    let rock = |nth: usize| ((nth / side) as f32 + 0.5) < half - ((nth % side) as f32 + 0.5 - half) * slope;
    let mut assets = Assets::default();
    let values = (0..side * side).map(|nth| f32::from(u8::from(rock(nth)))).collect();
    assets.insert("slope", Asset::Plane(Plane::new(side, side, values).unwrap().into()));
    let mut spec = WorldSpec::default();
    spec.obstacle = vec![ObstacleSpec::mask("slope", [0.0; 3], 12.0).bounce(0.0, 0.0)];
    if beside_another {
        spec.obstacle.push(ObstacleSpec::mask("slope", [0.0, 100.0, 0.0], 12.0));
    }
    let world = spec.build_with(&assets).unwrap();
    let along = glam::Vec2::new(1.0, -slope).normalize();
    let start = along * -2.0 + along.perp() * 0.01;
    // A steady start, so that a flat one moves too.
    let speed = 2.0;
    let emitter = EmitterSpec::burst(1, 0.0)
        .position([start.x, start.y, 0.0])
        .cone([along.x, along.y, 0.0], 0.0)
        .speed(speed, speed);
    let mut one = Particles::new(&ParticleSpec::new(1).life(10.0, 10.0).emitter(emitter), 1).unwrap();
    one.step(&world, 1.0 / 60.0, 1, &mut Meter::new());
    let from = one.columns().py()[0];
    one.step(&world, 1.0 / 60.0, 30, &mut Meter::new());
    let columns = one.columns();
    let lost = from - columns.py()[0];
    [columns.vx()[0].hypot(columns.vy()[0]), (speed * speed + 2.0 * 9.81 * lost).sqrt()]
}

/// Down a slanting edge without friction: as fast as the height it has lost makes it, though the edge is made of steps.
#[test]
fn a_slide_down_a_mask_keeps_its_speed() {
    for slope in [0.0f32, 0.1, 0.33, 0.7, 1.0, 2.5] {
        for (side, beside_another) in [(240, false), (240, true), (480, false)] {
            let [speed, want] = slid(slope, side, beside_another);
            assert!(
                (0.8..1.01).contains(&(speed / want)),
                "a slope of {slope}, {side}, {beside_another}: {speed}, {want}"
            );
        }
    }
}
