//! Blades: against the closed form of a damped spring, against any wind and step, and square by square.

use crate::common::with;
use frolic_core::{
    AreaSpec, AroundSpec, BladeMotion, BladeSpec, Blades, Counter, MOST_LEAN, Meter, On, PatternSpec,
    PlacementSpec, PusherSpec, Span, TearSpec, Weather, World, WorldSpec, blade_curve, curve_length,
};
use proptest::prelude::*;

fn field(side: f32) -> BladeSpec {
    let blue = PatternSpec::BlueNoise { distance: 0.0 };
    BladeSpec::new(PlacementSpec::new(On::Ground(blue)).area(AreaSpec::new([0.0; 2], [side; 2])))
}

fn grown(spec: &BladeSpec, count: u32) -> Blades {
    Blades::new(spec, count, Span::from(0.004), 5).unwrap()
}

fn still() -> World {
    WorldSpec::default().build().unwrap()
}

fn blowing(wind: [f32; 3]) -> World {
    WorldSpec::default().wind(wind).gusts(2.0, 3.0).build().unwrap()
}

/// Runs steps and gives the frame.
fn run(blades: &mut Blades, world: &World, dt: f32, steps: u32) -> frolic_core::Frame {
    let mut meter = Meter::new();
    meter.begin_frame();
    blades.step(world, dt, steps, &mut meter);
    meter.end_frame()
}

/// One blade, blown aside and let go: it swings with the period and dies down at the rate of the closed form.
#[test]
fn a_blade_swings_as_a_damped_spring() {
    let spec = with(field(1.0), |it| {
        (it.sway_hz, it.bend_degrees) = (Span::from(1.3), Span::from(0.0));
        (it.drag, it.damping) = (0.8, 0.3);
    });
    let mut blade = grown(&spec, 1);
    run(&mut blade, &WorldSpec::default().wind([4.0, 0.0, 0.0]).build().unwrap(), 0.01, 4000);
    let start = f64::from(blade.columns().lean_x()[0]);
    assert!(start > 0.05);
    // x'' + c x' + k x = 0 from rest: x = A e^(-ct/2) (cos wt + c/(2w) sin wt).
    let (k, c) = ((std::f64::consts::TAU * 1.3).powi(2), 1.1f64);
    let omega = (k - c * c / 4.0).sqrt();
    let dt = 1.0 / 240.0;
    let (mut worst, mut crossings, mut before) = (0.0f64, Vec::new(), start);
    for nth in 1..=1200 {
        run(&mut blade, &still(), dt, 1);
        let t = f64::from(nth) * f64::from(dt);
        let expected =
            start * (-c * t / 2.0).exp() * ((omega * t).cos() + c / (2.0 * omega) * (omega * t).sin());
        let now = f64::from(blade.columns().lean_x()[0]);
        worst = worst.max((now - expected).abs());
        if before > 0.0 && now <= 0.0 {
            crossings.push(t - f64::from(dt) * (now / (now - before)));
        }
        before = now;
    }
    assert!(worst < 0.02 * start, "off by {worst} of {start}");
    let period = (crossings[4] - crossings[0]) / 4.0;
    assert!((period / (std::f64::consts::TAU / omega) - 1.0).abs() < 2e-3, "{period}");
}

#[test]
fn still_air_leaves_blades_at_rest() {
    let mut meadow = grown(&field(6.0), 400);
    run(&mut meadow, &still(), 1.0 / 60.0, 100);
    let columns = meadow.columns();
    for n in 0..400 {
        assert!((columns.lean_x()[n] - columns.rest_x()[n]).abs() < 1e-5);
        assert!(columns.rate_x()[n].abs() < 1e-4);
    }
}

/// The field is the same, whatever squares it is cut into; and so is its motion.
#[test]
fn chunk_size_changes_nothing() {
    let world = blowing([5.0, 0.0, 2.0]);
    let sorted = |chunk: f32| {
        let mut meadow = grown(&field(7.0).chunk(chunk), 900);
        run(&mut meadow, &world, 1.0 / 60.0, 30);
        assert_eq!(meadow.chunks().iter().map(|chunk| chunk.len).sum::<u32>(), 900);
        let mut rows: Vec<String> = (0..900).map(|n| format!("{:?}", meadow.columns().row(n))).collect();
        rows.sort();
        (rows, meadow.chunks().len())
    };
    let (one, few) = sorted(100.0);
    let (same, many) = sorted(0.9);
    assert_eq!(one, same);
    assert!(few <= 4 && many > 40, "{few} {many}");
    // Squares smaller than a blade is wide.
    assert_eq!(one, sorted(0.01).0);
}

/// Squares out of view sleep, and wake where the wind leans them, without a jump from a long gone moment.
#[test]
fn squares_out_of_view_sleep() {
    let spec = with(field(8.0).chunk(2.0), |it| it.motion = BladeMotion::Swing);
    let mut meadow = grown(&spec, 1600);
    let world = blowing([6.0, 0.0, 0.0]);
    let left = |_: [f32; 3], high: [f32; 3]| high[0] < 0.9;
    meadow.update_visibility([0.0, 2.0, 9.0], left);
    let seen: u64 =
        meadow.chunks().iter().filter(|chunk| chunk.visible).map(|chunk| u64::from(chunk.len)).sum();
    assert!(seen > 400 && seen < 1200, "{seen}");
    let frame = run(&mut meadow, &world, 1.0 / 60.0, 3);
    assert_eq!(frame.count(Counter::Swung), seen * 3);
    let hidden = meadow.chunks().iter().filter(|chunk| !chunk.visible).count() as u64;
    assert_eq!(frame.count(Counter::SquaresAsleep), hidden * 3);
    meadow.update_visibility([0.0, 2.0, 9.0], |_, _| true);
    run(&mut meadow, &world, 1.0 / 60.0, 1);
    let c = meadow.columns();
    let asleep = meadow.chunks().iter().find(|chunk| chunk.cell[0] == 1).unwrap().first as usize;
    assert!(c.lean_x()[asleep] > c.rest_x()[asleep] + 0.05, "{}", c.lean_x()[asleep]);
}

/// With a time between looks, what is in view is not asked again before.
#[test]
fn looks_keep_to_their_timer() {
    let mut meadow = grown(&with(field(8.0), |it| it.cull_every = 0.5), 300);
    let looks = std::sync::atomic::AtomicU32::new(0);
    let look = |meadow: &mut Blades| {
        meadow.update_visibility([0.0; 3], |_, _| {
            looks.fetch_add(1, std::sync::atomic::Ordering::Relaxed) < u32::MAX
        });
        looks.swap(0, std::sync::atomic::Ordering::Relaxed) > 0
    };
    let seen: Vec<bool> = (0..40)
        .map(|_| {
            let looked = look(&mut meadow);
            run(&mut meadow, &still(), 1.0 / 40.0, 1);
            looked
        })
        .collect();
    assert_eq!(seen.iter().filter(|looked| **looked).count(), 2);
}

#[test]
fn only_squares_near_a_pusher_are_stepped_one_by_one() {
    let mut meadow = grown(&with(field(12.0).chunk(1.0), |it| it.motion = BladeMotion::Lean), 6000);
    let world = WorldSpec::default().pusher(PusherSpec::new([1.2, 0.0, -0.7], 0.5)).build().unwrap();
    let frame = run(&mut meadow, &world, 1.0 / 60.0, 1);
    let pressed = frame.count(Counter::Pressed);
    assert!(pressed > 100 && pressed < 900, "{pressed}");
    assert_eq!(frame.count(Counter::Leant) + pressed, 6000);
    assert_eq!(frame.count(Counter::Swung), 0);
    run(&mut meadow, &world, 1.0 / 60.0, 60);
    let c = meadow.columns();
    for n in 0..6000 {
        let (x, z) = (c.px()[n] - 1.2, c.pz()[n] + 0.7);
        let far = x.hypot(z);
        if far < 0.2 && far > 0.05 {
            // Down, and away from the pusher's middle.
            let lean = [c.lean_x()[n], c.lean_z()[n]];
            assert!(lean[0].hypot(lean[1]) > 1.2 && lean[0] * x + lean[1] * z > 0.0, "{lean:?} at {x} {z}");
            let [_, tip] = blade_curve(c.length()[n], lean);
            assert!(tip.y >= 0.0 && tip.y < c.length()[n] * 0.7);
        }
    }
}

/// As many as there are, in one square or in many.
#[test]
fn every_one_of_many_pushers_presses() {
    for chunk in [1.0, 40.0] {
        let mut meadow = grown(&field(10.0).chunk(chunk), 8000);
        let mut world = WorldSpec::default();
        for n in 0..400 {
            let [x, z] = [n % 20, n / 20].map(|k| k as f32 * 0.5 - 4.75);
            world = world.pusher(PusherSpec::new([x, 0.0, z], 0.15));
        }
        run(&mut meadow, &world.build().unwrap(), 1.0 / 60.0, 5);
        let c = meadow.columns();
        let mut pressed = [0u32; 400];
        for n in (0..8000).filter(|&n| c.press_x()[n].hypot(c.press_z()[n]) > 0.1) {
            let cell = [c.px()[n], c.pz()[n]].map(|at| ((at + 5.0) * 2.0) as usize);
            pressed[cell[1].min(19) * 20 + cell[0].min(19)] += 1;
        }
        let some = pressed.iter().filter(|many| **many > 0).count();
        assert!(some > 390, "{some} of 400 in squares of {chunk} m");
    }
}

/// Trodden blades come up each at its own rate: soon half of them, the last much later.
#[test]
fn trodden_paths_linger() {
    let spec = with(field(4.0), |it| it.recover = Span::new(0.3, 30.0));
    let mut meadow = grown(&spec, 2000);
    let trodden = WorldSpec::default().pusher(PusherSpec::new([0.0; 3], 9.0)).build().unwrap();
    run(&mut meadow, &trodden, 1.0 / 60.0, 30);
    let down = |meadow: &Blades| {
        let c = meadow.columns();
        (0..2000).filter(|&n| c.press_x()[n].hypot(c.press_z()[n]) > 0.3).count()
    };
    assert!(down(&meadow) > 1900);
    let mut before = down(&meadow);
    let mut left = Vec::new();
    for _ in 0..4 {
        run(&mut meadow, &still(), 1.0 / 20.0, 60);
        assert!(down(&meadow) <= before);
        before = down(&meadow);
        left.push(before);
    }
    assert!(left[0] < 1500 && left[0] > 600 && left[3] > 100 && left[3] < left[0], "{left:?}");
    // Once all are up again no square is stepped one by one.
    run(&mut meadow, &still(), 1.0 / 20.0, 20_000);
    assert_eq!(run(&mut meadow, &still(), 1.0 / 60.0, 1).count(Counter::Pressed), 0);
}

#[test]
fn pushers_of_any_radius_do_no_harm() {
    for (radius, blast) in [(0.0, false), (1e5, false), (1e5, true), (0.001, true)] {
        let mut meadow = grown(&field(5.0), 500);
        let pusher = PusherSpec::new([0.3, 0.0, 0.0], radius);
        let pusher = if blast { pusher.blast(0.0, 8.0) } else { pusher };
        let world = WorldSpec::default().pusher(pusher).build().unwrap();
        let frame = run(&mut meadow, &world, 1.0 / 60.0, 20);
        let c = meadow.columns();
        assert!((0..500).all(|n| c.lean_x()[n].hypot(c.lean_z()[n]) <= MOST_LEAN * 1.0001));
        if radius == 0.0 {
            assert_eq!(frame.count(Counter::Pressed), 0);
        }
    }
    // A ring that has passed leaves no more than what comes up again.
    let mut meadow = grown(&with(field(5.0), |it| it.recover = Span::new(0.1, 0.3)), 500);
    let world = WorldSpec::default().pusher(PusherSpec::new([0.0; 3], 3.0).blast(0.1, 6.0)).build().unwrap();
    let least = |meadow: &Blades| {
        let c = meadow.columns();
        (0..500).map(|n| c.press_x()[n].hypot(c.press_z()[n])).fold(0.0f32, f32::max)
    };
    run(&mut meadow, &world, 1.0 / 60.0, 20);
    assert!(least(&meadow) > 0.3);
    run(&mut meadow, &world, 1.0 / 60.0, 600);
    assert_eq!(least(&meadow), 0.0);
}

/// A storm tears blades off, once each; a stub stays.
#[test]
fn storms_tear_blades_off() {
    let spec = field(6.0).tear(with(TearSpec::new(60.0, "chaff"), |it| it.rate = 5.0));
    let mut meadow = grown(&spec, 800);
    run(&mut meadow, &blowing([2.0, 0.0, 0.0]), 1.0 / 60.0, 60);
    assert!(meadow.torn().is_empty());
    let mut torn = 0;
    for _ in 0..300 {
        run(&mut meadow, &blowing([30.0, 0.0, 0.0]), 1.0 / 60.0, 1);
        for blade in meadow.torn() {
            // Each once: a stub is shorter.
            assert!(blade.lean[0].hypot(blade.lean[1]) > 1.0 && blade.length > 0.4);
        }
        torn += meadow.torn().len();
    }
    let stubs = meadow.columns().length().iter().filter(|length| **length < 0.2).count();
    assert!(torn > 500 && torn == stubs, "{torn} torn, {stubs} stubs");
}

/// Ground without end: what is around the middle follows from the seed and the middle alone, whatever way it came there.
#[test]
fn endless_fields_do_not_depend_on_the_path() {
    let spec = field(1.0).chunk(2.0).endless(AroundSpec::new(14.0));
    let there = |way: &[[f32; 2]]| {
        let mut meadow = grown(&spec, 6000);
        for &[x, z] in way {
            for _ in 0..400 {
                if !meadow.recentre([x, z]) {
                    break;
                }
            }
        }
        let c = meadow.columns();
        let near = |n: &usize| {
            let last = way[way.len() - 1];
            c.length()[*n] > 0.0 && (c.px()[*n] - last[0]).hypot(c.pz()[*n] - last[1]) < 10.0
        };
        let mut rows: Vec<String> = (0..c.len()).filter(near).map(|n| format!("{:?}", c.row(n))).collect();
        rows.sort();
        (rows, meadow.len())
    };
    let (straight, alive) = there(&[[500.0, 3.0]]);
    let (around, _) = there(&[[0.0, 0.0], [30.0, 90.0], [500.0, 3.0]]);
    assert!(straight.len() > 2000);
    assert_eq!(straight, around);
    assert!((5000..9000).contains(&alive), "{alive}");
}

/// Squares come a few at a time, so that no step has to make many.
#[test]
fn endless_fields_grow_a_few_squares_a_step() {
    let spec = field(1.0).chunk(2.0).endless(with(AroundSpec::new(14.0), |it| it.most_new = 400));
    let mut meadow = grown(&spec, 6000);
    let full = meadow.len();
    meadow.recentre([200.0, 0.0]);
    let mut steps = 0;
    let mut before = meadow.len();
    while meadow.recentre([200.0, 0.0]) {
        assert!(meadow.len() <= before + 400, "{} after {before}", meadow.len());
        before = meadow.len();
        steps += 1;
        assert!(steps < 200);
    }
    assert!(steps > 10 && (meadow.len() as f32 / full as f32 - 1.0).abs() < 0.1);
}

#[test]
fn weather_ranges_from_still_to_storm() {
    let lean = |weather: Weather| {
        let mut world = WorldSpec::default();
        weather.set_wind(&mut world);
        let world = world.build().unwrap();
        let mut spec = field(6.0);
        weather.set_motion(&mut spec);
        let mut meadow = grown(&spec, 300);
        run(&mut meadow, &world, 1.0 / 60.0, 240);
        let c = meadow.columns();
        (0..300).map(|n| (c.lean_x()[n] - c.rest_x()[n]).abs()).sum::<f32>() / 300.0
    };
    let [still, breeze, storm, water] = Weather::ALL.map(lean);
    assert!(
        still < 1e-4 && breeze > 0.08 && breeze < 0.8 && storm > breeze * 1.5,
        "{still} {breeze} {storm}"
    );
    assert!(water > 0.02);
}

#[test]
fn impossible_values_are_refused() {
    let wrong = |spec: &BladeSpec, count| Blades::new(spec, count, Span::from(0.01), 1).unwrap_err().key;
    assert_eq!(wrong(&field(5.0).chunk(0.0), 5), "chunk");
    assert_eq!(wrong(&field(5.0).length(f32::NAN, 1.0), 5), "length");
    assert_eq!(wrong(&field(5.0), u32::MAX), "count");
    assert_eq!(wrong(&field(5.0).chunk(2.0).endless(AroundSpec::new(1.0)), 5), "endless.reach");
    assert!(WorldSpec::default().wind([1e9, 0.0, 0.0]).build().is_err());
    assert!(WorldSpec::default().pusher(PusherSpec::new([0.0; 3], f32::NAN)).build().is_err());
    assert_eq!(grown(&field(5.0), 0).len(), 0);
    assert_eq!(grown(&field(5.0), 1).len(), 1);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    /// Whatever the wind, the stiffness, the drag and the step, blades stay what they are: as long, above their roots, and not faster than
    /// they could be.
    #[test]
    fn blades_are_stable(
        wind in -1e4f32..1e4, hz in 0.01f32..100.0, drag in 0f32..1000.0, damping in 0f32..50.0, dt in 0.0005f32..0.05, length in 0.001f32..20.0,
    ) {
        let spec = with(field(3.0).length(length, length), |it| {
            (it.sway_hz, it.drag, it.damping) = (Span::from(hz), drag, damping);
        });
        let mut meadow = grown(&spec, 40);
        run(&mut meadow, &blowing([wind, 0.0, -wind * 0.3]), dt, 150);
        let c = meadow.columns();
        // A spring let go from the largest lean is never faster than this.
        let fastest = 2.0 * MOST_LEAN * std::f32::consts::TAU * hz + 1.0;
        for n in 0..40 {
            let lean = [c.lean_x()[n], c.lean_z()[n]];
            prop_assert!(lean[0].hypot(lean[1]) <= MOST_LEAN * 1.0001, "{:?}", lean);
            prop_assert!(c.rate_x()[n].abs() <= fastest, "{} for {}", c.rate_x()[n], fastest);
            let [middle, tip] = blade_curve(length, lean);
            prop_assert!((curve_length(middle, tip) / f64::from(length) - 1.0).abs() < 1e-4);
            prop_assert!(tip.y >= 0.0);
        }
        // And the wind gone, they come back to rest if anything slows them.
        if drag + damping > 1.0 && hz > 0.2 && hz < 10.0 {
            let over = drag + damping;
            let seconds = (30.0 / over).max(30.0 * over / (std::f32::consts::TAU * hz).powi(2));
            if seconds / dt < 60_000.0 {
                run(&mut meadow, &still(), dt, (seconds / dt) as u32);
                let c = meadow.columns();
                prop_assert!((0..40).all(|n| (c.lean_x()[n] - c.rest_x()[n]).abs() < 0.02));
            }
        }
    }
}
