//! Motion against closed forms.

use frolic_core::{
    Clock, ClockSpec, Counter, EmitterSpec, EventSpec, FieldSpec, Meter, Moment, ParticleSet, ParticleSpec,
    Particles, Span, Stage, World, WorldSpec, gust_noise,
    random::{hash3, unit},
};
use proptest::prelude::*;

fn one(drag: f32, weight: f32, emitter: EmitterSpec) -> Particles {
    let spec = ParticleSpec::new(1).life(1e5, 1e6).motion(drag, weight).emitter(emitter);
    Particles::new(&spec, 1).unwrap()
}

fn thrown(drag: f32, speed: f32) -> Particles {
    one(drag, 1.0, EmitterSpec::burst(1, 0.0).speed(speed, speed))
}

/// Height after a second of a throw upwards, stepped `steps` times.
fn height(spec: &ParticleSpec, world: &World, steps: u32) -> f64 {
    let mut particles = Particles::new(spec, 1).unwrap();
    particles.step(world, 1.0 / steps as f32, steps, &mut Meter::new());
    f64::from(particles.columns().py()[0])
}

fn throw(at: f32) -> ParticleSpec {
    let emitter = EmitterSpec::burst(1, at).speed(8.0, 8.0);
    ParticleSpec::new(1).life(1e5, 1e6).motion(1.7, 1.0).emitter(emitter)
}

/// A fault once: the step was of first order, so that a throw of two seconds ended 0.16 m off at 60 steps a second.
#[test]
fn motion_does_not_depend_on_the_step_rate() {
    let wind = WorldSpec::default().wind([3.0, 1.0, 0.0]).build().unwrap();
    let (g, v, k) = (9.81f64, 8.0f64, 1.7f64);
    let end = 1.0 - g / k;
    let exact = |t: f64| end * t + (v - end) * (1.0 - (-k * t).exp()) / k;
    for steps in [3, 10, 30, 60, 240] {
        // Born at the start, and some way into a step.
        for at in [0.0f32, 0.123, 0.45] {
            let off = height(&throw(at), &wind, steps) - exact(1.0 - f64::from(at));
            // A newborn moves by two half steps: that is of third order, once.
            let allowed = 2e-5 + 0.25 * k * k * (8.0 - end) / f64::from(steps).powi(3);
            assert!(off.abs() < allowed, "{steps} steps, born at {at} s: {off}");
        }
    }
}

/// With the rest (drag of the square, a point that pulls, air that turns) a quarter of the step is a sixteenth of the error.
#[test]
fn motion_is_of_second_order_where_fields_act() {
    let mut world = WorldSpec::default();
    world.field.push(FieldSpec::attractor([0.5, 2.0, 0.0], 6.0, 0.8));
    world.field.push(FieldSpec::vortex([1.0, 0.0, 0.2], 2.0, 1.0));
    let world = world.build().unwrap();
    for at in [0.0, 0.25] {
        let mut spec = throw(at);
        spec.motion.drag_square = 0.2;
        let best = height(&spec, &world, 1024);
        let error = |steps: u32| (height(&spec, &world, steps) - best).abs();
        let (coarse, fine) = (error(16), error(64));
        assert!(coarse > 1e-4 && coarse / fine > 11.0, "born at {at} s: {coarse} against {fine}");
    }
}

/// What events start, and what is taken on, moves as exactly as what an emitter starts.
#[test]
fn children_fall_as_exactly_as_their_parents() {
    let world = WorldSpec::default().build().unwrap();
    let fall = |steps: u32| {
        let mut parent =
            ParticleSpec::new(1).life(0.25, 0.25).emitter(EmitterSpec::burst(1, 0.0).speed(0.0, 0.0));
        parent.motion.weight = 0.0;
        let mut set = ParticleSet::default();
        let mut event = EventSpec::start(Moment::Death, "child", 1.0);
        event.speed = Span::from(0.0);
        set.add("parent", &parent.event(event), 1).unwrap();
        set.add("child", &ParticleSpec::new(2).life(9.0, 9.0).motion(0.0, 1.0), 2).unwrap();
        set.link().unwrap();
        let dt = 1.0 / steps as f32;
        set.step(&world, dt, steps / 4, &mut Meter::new());
        set.get_mut("child").unwrap().take_on([([0.0; 3], [0.0; 3])], &mut Meter::new());
        set.step(&world, dt, steps / 2, &mut Meter::new());
        let child = set.get("child").unwrap();
        [child.columns().py()[0], child.columns().py()[1]]
    };
    for steps in [16, 64, 256] {
        for drop in fall(steps) {
            assert!((drop + 0.5 * 9.81 * 0.25).abs() < 1e-4, "{steps} steps: {drop}");
        }
    }
}

proptest! {
    /// Any drag and any step: what is blown ends at the speed of the wind, without overshoot.
    #[test]
    fn drag_is_stable(drag in 0.1f32..10_000.0, dt in 0.001f32..10.0) {
        let mut world = WorldSpec::default().wind([3.0, 0.0, 0.0]);
        world.gravity = [0.0; 3];
        let world = world.build().unwrap();
        let mut particles = one(drag, 0.0, EmitterSpec::burst(1, 0.0).speed(0.0, 0.0));
        particles.step(&world, dt, 1, &mut Meter::new());
        let mut before = 0.0;
        for _ in 0..200 {
            particles.step(&world, dt, 1, &mut Meter::new());
            let v = particles.columns().vx()[0];
            prop_assert!(v >= before - 1e-4 && v <= 3.0 + 1e-4, "{} after {}", v, before);
            before = v;
        }
        let want = 3.0 * (1.0 - (-f64::from(drag) * f64::from(dt) * 200.0).exp());
        prop_assert!((f64::from(before) - want).abs() < 0.01, "{} for {}", before, want);
    }

    /// Steps taken and dropped add up to the time that passed, no frame takes more than the cap, and the place between two states
    /// is a fraction.
    #[test]
    fn the_clock_keeps_time_and_never_freezes(frames in prop::collection::vec(0.0f64..0.6, 1..80), cap in 1u32..8) {
        let mut spec = ClockSpec::default();
        spec.max_steps = cap;
        let mut clock = Clock::new(spec);
        let (mut whole, mut alpha) = (0.0, 0.0);
        for &elapsed in &frames {
            let tick = clock.advance(elapsed);
            prop_assert!(tick.steps <= cap);
            prop_assert!((0.0..=1.0).contains(&tick.alpha));
            prop_assert!(tick.dropped == 0 || tick.steps == cap);
            whole += f64::from(tick.steps + tick.dropped);
            alpha = f64::from(tick.alpha);
        }
        let due = frames.iter().sum::<f64>() * 60.0;
        prop_assert!((whole + alpha - due).abs() < 1e-2, "{} + {} for {}", whole, alpha, due);
    }

    #[test]
    fn gusts_are_smooth_and_bounded(x in -1e5f32..1e5, y in -50f32..50.0, z in -50f32..50.0, seed in any::<u32>()) {
        let here = gust_noise([x, y, z], seed);
        let there = gust_noise([x, y + 0.001, z], seed);
        for (a, b) in here.iter().zip(there) {
            prop_assert!(a.abs() <= 1.0);
            prop_assert!((a - b).abs() < 0.01);
        }
    }

    /// Places that lie in few cells of the noise share them; each by itself is the same to the bit.
    #[test]
    fn air_is_the_same_for_many_places_and_for_one(
        (size, reach) in (0.05f32..20.0, 0.01f32..60.0),
        (time, count) in (0f64..1e4, 1usize..700),
        (middle, seed) in ([-1e4f32..1e4, -20.0..20.0, -1e4..1e4], any::<u32>()),
    ) {
        let mut spec = WorldSpec::default().wind([3.0, 0.1, -1.5]).gusts(2.0, size);
        spec.gusts.as_mut().unwrap().swell = Span::new(-0.5, 1.5);
        let world = spec.build().unwrap();
        let strange = [f32::NAN, f32::INFINITY, 1e30];
        let place = |nth: usize, axis: usize| match (nth, strange.get(nth % 250)) {
            (500.., Some(strange)) => *strange,
            _ => middle[axis] + (unit(hash3(nth as u32, axis as u32, seed)[0]) - 0.5) * reach,
        };
        let places = [0, 1, 2].map(|axis| (0..count).map(|nth| place(nth, axis)).collect::<Vec<_>>());
        let [mut x, mut y, mut z] = [0, 1, 2].map(|_| vec![0.0; count]);
        world.air(time, [&places[0], &places[1], &places[2]], [&mut x, &mut y, &mut z]);
        for nth in 0..count {
            let mut air = [[0.0]; 3];
            let [ax, ay, az] = &mut air;
            world.air(time, [0, 1, 2].map(|axis| &places[axis][nth..=nth]), [ax, ay, az]);
            prop_assert_eq!(air.map(|[axis]| axis.to_bits()), [x[nth], y[nth], z[nth]].map(f32::to_bits));
        }
    }
}

#[test]
fn bad_times_are_refused() {
    let mut clock = Clock::new(ClockSpec::default());
    for elapsed in [f64::NAN, f64::INFINITY, f64::NEG_INFINITY, -5.0, 0.0] {
        let tick = clock.advance(elapsed);
        assert_eq!((tick.steps, tick.dropped), (0, 0), "{elapsed}");
    }
    let mut particles = thrown(0.0, 1.0);
    let world = WorldSpec::default().build().unwrap();
    for dt in [f32::NAN, f32::INFINITY, 0.0, -1.0] {
        particles.step(&world, dt, 3, &mut Meter::new());
        assert_eq!(particles.time(), 0.0, "{dt}");
    }
}

#[test]
fn gusts_average_to_nothing() {
    let mut sum = [0.0f64; 3];
    let n = 40_000;
    for i in 0..n {
        let value = gust_noise([i as f32 * 0.37, (i % 97) as f32 * 0.61, 0.0], 5);
        sum.iter_mut().zip(value).for_each(|(sum, value)| *sum += f64::from(value) / f64::from(n));
    }
    assert!(sum.iter().all(|mean| mean.abs() < 0.02), "{sum:?}");
}

#[test]
fn gusts_travel_with_the_wind() {
    // Two still worlds' worth of push on heavy drag: what is at x now is at x + wind later.
    let mut spec = WorldSpec::default().wind([2.0, 0.0, 0.0]).gusts(4.0, 1.0);
    spec.gravity = [0.0; 3];
    if let Some(gusts) = &mut spec.gusts {
        gusts.drift = 0.0;
    }
    let world = spec.build().unwrap();
    let felt = |x: f32, wait: u32| {
        let emitter = EmitterSpec::burst(1, wait as f32).position([x, 0.3, 0.0]).speed(0.0, 0.0);
        let mut particles = one(1e4, 0.0, emitter);
        particles.step(&world, 1.0, wait, &mut Meter::new());
        particles.step(&world, 1e-6, 1, &mut Meter::new());
        particles.step(&world, 1e-3, 1, &mut Meter::new());
        particles.columns().vx()[0]
    };
    assert!((felt(0.4, 0) - felt(8.4, 4)).abs() < 0.05, "{} {}", felt(0.4, 0), felt(8.4, 4));
    assert!((felt(0.4, 0) - felt(2.9, 0)).abs() > 0.05, "and differs elsewhere");
}

#[test]
fn an_attractor_pulls_by_its_law() {
    let mut world = WorldSpec::default().field(FieldSpec::attractor([2.0, 0.0, 0.0], 6.0, 0.5));
    world.gravity = [0.0; 3];
    let mut particles = one(0.0, 0.0, EmitterSpec::burst(1, 0.0).speed(0.0, 0.0));
    let (world, mut meter) = (world.build().unwrap(), Meter::new());
    particles.step(&world, 1e-3, 1, &mut meter);
    particles.step(&world, 1e-3, 1, &mut meter);
    // a = strength d / (d² + r²)^1.5 towards it; the mean over the second step is that half way through it.
    let want = 6.0 * 2.0 / (4.0f32 + 0.25).powf(1.5) * 1.5e-3;
    assert!((particles.columns().vx()[0] - want).abs() < want * 1e-3);
}

#[test]
fn the_meter_has_stages_and_counts() {
    let spec = ParticleSpec::new(5_000).life(0.1, 0.2).emitter(EmitterSpec::rate(20_000.0));
    let mut particles = Particles::new(&spec, 1).unwrap();
    let world = WorldSpec::default().build().unwrap();
    let mut meter = Meter::new();
    let (mut born, mut died) = (0, 0);
    for _ in 0..50 {
        meter.begin_frame();
        particles.step(&world, 1.0 / 60.0, 1, &mut meter);
        let frame = meter.end_frame();
        born += frame.count(Counter::Emitted);
        died += frame.count(Counter::Retired);
        assert_eq!(frame.count(Counter::Alive), born - died);
        assert_eq!(frame.count(Counter::ElementBytes), 5_000 * 49);
        let sum: std::time::Duration = Stage::ALL.iter().map(|&stage| frame.stage(stage)).sum();
        assert_eq!(sum + frame.other(), frame.total());
    }
    assert_eq!(particles.len() as u64, born - died);
    assert!(died > 0);
}
