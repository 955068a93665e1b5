//! Flocks: rules against plain arithmetic, the same bits everywhere, spaces, hunters, and what is refused.

use frolic_core::neighbours::NeighbourTechnique;
use frolic_core::random::{hash3, unit};
use frolic_core::simd::levels;
use frolic_core::{
    AlarmSpec, Assets, Change, Counter, EventSpec, Flock, FlockSpec, HuntSpec, KeepTo, Meter, Moment,
    ObstacleSpec, OtherElements, PathSpec, PusherSpec, RuleSpec, ShapeSpec, Space, Span, SpecError, Target,
    TargetSpec, Threads, TintSpec, TrailSpec, World, WorldSpec,
};
use proptest::prelude::*;

const STEP: f32 = 1.0 / 30.0;

fn still() -> World {
    WorldSpec::default().build().unwrap()
}

fn flock(spec: &FlockSpec, count: u32) -> Flock {
    Flock::new(spec, count, Span::from(0.1), 5).unwrap()
}

fn run(flock: &mut Flock, steps: u32) -> Meter {
    let (world, mut meter) = (still(), Meter::new());
    for _ in 0..steps {
        flock.step(&world, &[], STEP, &mut meter).unwrap();
    }
    meter
}

/// A closed box about the origin.
fn boxed(side: f32) -> Space {
    Space::Box { position: [0.0; 3], size: [side; 3] }
}

/// Rules without any weight.
fn without_rules() -> FlockSpec {
    let mut spec = FlockSpec::default();
    for rule in [&mut spec.separation, &mut spec.alignment, &mut spec.cohesion] {
        rule.weight = 0.0;
    }
    spec.wander_degrees = 0.0;
    spec
}

/// Positions by number, in the order of numbers.
fn places(flock: &Flock) -> Vec<(u32, [u32; 3])> {
    let [x, y, z] = flock.columns().position();
    let id = flock.columns().id();
    let mut all: Vec<_> =
        (0..flock.len()).map(|nth| (id[nth], [x[nth], y[nth], z[nth]].map(f32::to_bits))).collect();
    all.sort_unstable();
    all
}

fn velocity(flock: &Flock, nth: usize) -> [f32; 3] {
    flock.columns().velocity().map(|column| column[nth])
}

fn length(vector: [f32; 3]) -> f32 {
    vector.iter().map(|axis| axis * axis).sum::<f32>().sqrt()
}

#[test]
fn the_same_bits_with_any_technique_threads_and_instructions() {
    let mut spec = FlockSpec::school(0.2).within(boxed(3.0));
    spec.start = ShapeSpec::Box { size: [2.5; 3] };
    spec.separation.radius = 0.25;
    spec.most = 100_000;
    spec.flee = vec![TargetSpec::new(Target::Point([0.3, 0.0, 0.0]), 2.0).radius(1.0).alarm(1.0)];
    let spaces = [
        Some(boxed(3.0)),
        None,
        Some(Space::Wrapping { position: [0.0; 3], size: [3.0; 3] }),
        Some(Space::Ball { position: [0.0; 3], radius: 1.6 }),
    ];
    for (nth, within) in spaces.into_iter().enumerate() {
        let mut spec = spec.clone();
        spec.within = within;
        spec.keep_to = (nth == 2).then_some(KeepTo::Flat);
        let after = |technique, threads, level| {
            Threads::new(threads).run(|| {
                let mut school = flock(&spec.clone().neighbours(technique), 1_500).tuned(level);
                run(&mut school, 12);
                (places(&school), school.gauges())
            })
        };
        let (expected, gauges) = after(NeighbourTechnique::Grid, 1, levels()[0]);
        for level in levels() {
            for threads in [1, 2, 7] {
                let (found, own) = after(NeighbourTechnique::Grid, threads, level);
                assert!(found == expected && own == gauges, "space {nth}, {threads} threads, {level:?}");
            }
        }
        let (found, _) = after(NeighbourTechnique::AllPairs, 2, levels()[0]);
        assert!(found == expected, "space {nth}: all pairs");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// What a step sees equals plain arithmetic over all pairs.
    #[test]
    fn rules_are_as_they_are_written(seed in any::<u32>(), spread in 0.5f32..3.0, view in 60.0f32..360.0) {
        let count = 60;
        let mut spec = without_rules();
        spec.start = ShapeSpec::Box { size: [spread; 3] };
        spec.separation = RuleSpec::new(0.4, 0.3);
        spec.alignment = RuleSpec::new(0.9, 0.25);
        spec.cohesion = RuleSpec::new(0.7, 0.2);
        spec.view_degrees = view;
        (spec.turn_degrees, spec.speed_limits) = (1e5, [0.0, 100.0]);
        let mut school = Flock::new(&spec, count, Span::from(0.1), seed).unwrap();
        let before: Vec<([f32; 3], [f32; 3], u32)> = (0..school.len()).map(|nth| {
            let row = school.columns().row(nth).unwrap();
            ([row.px, row.py, row.pz], [row.vx, row.vy, row.vz], row.id)
        }).collect();
        run(&mut school, 1);
        let mut checked = 0;
        for (at, own, id) in &before {
            let (speed, mut away, mut with, mut middle) = (length(*own), [0.0f32; 3], [0.0f32; 3], [0.0f32; 3]);
            let (mut aligned, mut gathered, mut is_doubtful) = (0.0f32, 0.0f32, false);
            for (other, moves, _) in before.iter().filter(|(_, _, other)| other != id) {
                let way = [0, 1, 2].map(|axis| other[axis] - at[axis]);
                let far = length(way);
                let ahead: f32 = (0..3).map(|axis| way[axis] * own[axis] / speed).sum();
                // Near an edge of the view or of a radius the shaken positions may decide.
                let cos = (view.to_radians() * 0.5).cos();
                is_doubtful |= (ahead - far * cos).abs() < 0.006;
                is_doubtful |= [0.7f32, 0.9].iter().any(|radius| (far - radius).abs() < 0.003);
                if view < 360.0 && ahead < far * cos {
                    continue;
                }
                let share = (1.0 - far * far / 0.16).max(0.0).powi(4);
                for axis in 0..3 {
                    away[axis] -= way[axis] * share;
                }
                if far <= 0.9 {
                    aligned += 1.0;
                    (0..3).for_each(|axis| with[axis] += moves[axis]);
                }
                if far <= 0.7 {
                    gathered += 1.0;
                    (0..3).for_each(|axis| middle[axis] += way[axis]);
                }
            }
            if is_doubtful {
                continue;
            }
            checked += 1;
            let limited = |vector: [f32; 3]| {
                let scale = 1.0 / length(vector).max(1.0);
                vector.map(|axis| axis * scale)
            };
            let away = limited(away.map(|axis| axis / (0.20809 * 0.4)));
            let with = limited([0, 1, 2].map(|axis| if aligned > 0.0 { with[axis] / aligned - own[axis] } else { 0.0 }));
            let middle = middle.map(|axis| axis / 0.7 / gathered.max(1.0));
            let sum = limited([0, 1, 2].map(|axis| away[axis] * 0.3 + with[axis] * 0.25 + middle[axis] * 0.2));
            let nth = school.columns().id().iter().position(|other| other == id).unwrap();
            let now = velocity(&school, nth);
            for axis in 0..3 {
                let expected = own[axis] + sum[axis] * spec.acceleration * STEP;
                prop_assert!((now[axis] - expected).abs() < 2e-3, "{id}: {now:?}, axis {axis} {expected}");
            }
        }
        prop_assert!(checked > 5, "{checked} of {count}");
    }

    /// Nothing is lost or doubled by sorting, and nothing leaves its space, whatever the rules.
    #[test]
    fn none_leaves_its_space(
        seed in any::<u32>(), side in 0.6f32..4.0, ball in any::<bool>(), speed in 0.1f32..40.0, avoid in 0.0f32..4.0,
    ) {
        let mut spec = FlockSpec::school(0.1).avoid(avoid);
        spec.within = Some(if ball { Space::Ball { position: [1.0, 2.0, 3.0], radius: side } } else {
            Space::Box { position: [1.0, 2.0, 3.0], size: [side, side * 2.0, side * 3.0] }
        });
        spec.position = [1.0, 2.0, 3.0];
        (spec.cruise, spec.speed_limits) = (Span::from(speed), [0.0, speed * 2.0]);
        let mut school = Flock::new(&spec, 300, Span::from(0.1), seed).unwrap();
        run(&mut school, 40);
        let ids: Vec<u32> = places(&school).into_iter().map(|(id, _)| id).collect();
        prop_assert_eq!(ids, (0..300).collect::<Vec<_>>());
        let [x, y, z] = school.columns().position();
        for nth in 0..300 {
            let off = [x[nth] - 1.0, y[nth] - 2.0, z[nth] - 3.0];
            let within = if ball { length(off) <= side * 1.000_01 } else {
                (0..3).all(|axis| off[axis].abs() <= side * (axis + 1) as f32 * 0.500_01)
            };
            prop_assert!(within, "{off:?} in {side}");
        }
    }
}

/// Alignment alone: at low noise all go one way, at high noise each its own (Vicsek et al., 1995).
#[test]
fn alignment_alone_orders_at_low_noise_only() {
    let order = |wander: f32| {
        let mut spec = without_rules();
        spec.alignment = RuleSpec::new(1.0, 2.0);
        spec.start = ShapeSpec::Box { size: [8.0; 3] };
        spec.within = Some(Space::Wrapping { position: [0.0; 3], size: [8.0; 3] });
        spec.keep_to = Some(KeepTo::Flat);
        spec.view_degrees = 360.0;
        spec.wander_degrees = wander;
        let mut school = flock(&spec, 600);
        run(&mut school, 300);
        school.gauges().order
    };
    let (low, high) = (order(5.0), order(2_000.0));
    assert!(low > 0.95, "{low}");
    assert!(high < 0.3, "{high}");
}

#[test]
fn without_rules_all_keep_their_momentum() {
    let mut school = flock(&without_rules(), 400);
    let before = school.columns().clone();
    run(&mut school, 60);
    for nth in 0..school.len() {
        let id = school.columns().id()[nth];
        let was = before.id().iter().position(|other| *other == id).unwrap();
        let (now, then) = (velocity(&school, nth), before.velocity().map(|column| column[was]));
        assert!((0..3).all(|axis| (now[axis] - then[axis]).abs() < 1e-4), "{now:?} {then:?}");
        let way = school.own_columns().way()[nth];
        assert!(way >= 2.0, "{way}");
    }
}

/// Speed, acceleration and turn keep to their limits.
#[test]
fn limits_hold() {
    let mut spec = FlockSpec::flight(0.4);
    spec.wander_degrees = 0.0;
    let mut flight = flock(&spec, 500);
    let [least, most] = spec.speed_limits;
    for _ in 0..40 {
        let before: std::collections::HashMap<u32, [f32; 3]> =
            (0..flight.len()).map(|nth| (flight.columns().id()[nth], velocity(&flight, nth))).collect();
        run(&mut flight, 1);
        for nth in 0..flight.len() {
            let (now, was) = (velocity(&flight, nth), before[&flight.columns().id()[nth]]);
            let speed = length(now);
            assert!(speed >= least * 0.999 && speed <= most * 1.001, "{speed}");
            let dot: f32 = (0..3).map(|axis| now[axis] * was[axis]).sum();
            let turn = (dot / speed / length(was)).clamp(-1.0, 1.0).acos().to_degrees();
            assert!(turn <= spec.turn_degrees * STEP * 1.01 + 0.1, "{turn}");
        }
    }
    let bank = flight.own_columns().bank();
    assert!(bank.iter().any(|bank| bank.abs() > 0.02) && bank.iter().all(|bank| bank.abs() <= 1.3));
}

/// All in one place: they part, in finite time, and the counters report the crowd.
#[test]
fn coincident_elements_part() {
    let mut spec = FlockSpec::school(0.1);
    (spec.start, spec.wander_degrees) = (ShapeSpec::Point, 0.0);
    spec.heading = Some([1.0, 0.0, 0.0]);
    spec.cruise = Span::from(0.5);
    let mut school = flock(&spec, 2_000);
    let mut meter = Meter::new();
    meter.begin_frame();
    school.step(&still(), &[], STEP, &mut meter).unwrap();
    let frame = meter.end_frame();
    assert_eq!(frame.count(Counter::Crowded), 2_000);
    assert!(frame.count(Counter::PairsTested) <= 2_000 * u64::from(spec.most));
    run(&mut school, 90);
    let mut all: Vec<_> = places(&school).into_iter().map(|(_, at)| at).collect();
    all.dedup();
    assert_eq!(all.len(), 2_000);
    assert!(school.gauges().nearest > 0.005, "{}", school.gauges().nearest);
}

/// Counters of pairs are those of plain counting.
#[test]
fn pairs_are_counted_exactly() {
    let mut spec = without_rules();
    spec.start = ShapeSpec::Box { size: [4.0; 3] };
    spec.neighbours = NeighbourTechnique::AllPairs;
    let mut school = flock(&spec, 500);
    let [x, y, z] = school.columns().position().map(<[f32]>::to_vec);
    let far = |a: usize, b: usize| length([x[a] - x[b], y[a] - y[b], z[a] - z[b]]);
    let pairs = || (0..500).flat_map(|a| (0..500).filter(move |b| *b != a).map(move |b| (a, b)));
    let near = pairs().filter(|(a, b)| far(*a, *b) <= 1.0).count() as i64;
    let mut meter = Meter::new();
    meter.begin_frame();
    school.step(&still(), &[], STEP, &mut meter).unwrap();
    let frame = meter.end_frame();
    assert_eq!(frame.count(Counter::PairsTested), 500 * 499);
    // Shaken positions decide right at the radius.
    assert!((frame.count(Counter::PairsNear) as i64 - near).abs() <= near / 100 + 2);
}

/// Few elements in a space of many cells are no crowd, however cells far apart share their places: all that are near are seen.
#[test]
fn few_in_wide_spaces_are_no_crowd() {
    for (within, spread) in [(Some(boxed(60.0)), 5.0), (None, 5.0), (None, 60.0), (Some(boxed(8.0)), 7.0)] {
        let mut spec = without_rules();
        (spec.cohesion, spec.within) = (RuleSpec::new(0.4, 0.5), within);
        (spec.separation, spec.alignment) = (RuleSpec::new(0.4, 0.0), RuleSpec::new(0.4, 0.0));
        (spec.start, spec.view_degrees) = (ShapeSpec::Box { size: [spread; 3] }, 360.0);
        let start = flock(&spec, 1500);
        let mut school = start.clone();
        let mut meter = Meter::new();
        meter.begin_frame();
        school.step(&still(), &[], STEP, &mut meter).unwrap();
        let frame = meter.end_frame();
        assert_eq!(frame.count(Counter::Crowded), 0, "{spread} m");
        let [x, y, z] = start.columns().position();
        let near = |a: usize, b: usize| length([x[a] - x[b], y[a] - y[b], z[a] - z[b]]) <= spec.reach();
        let pairs: usize = (0..1500).map(|a| (0..1500).filter(|b| *b != a && near(a, *b)).count()).sum();
        let counted = frame.count(Counter::PairsNear);
        // They are shaken by a thousandth of their reach.
        assert!(
            counted.abs_diff(pairs as u64) <= pairs as u64 / 50 + 2,
            "{counted} of {pairs} in {spread} m"
        );
    }
}

#[test]
fn targets_are_sought_and_fled() {
    let middle = |flock: &Flock| {
        flock.columns().position().map(|column| column.iter().sum::<f32>() / column.len() as f32)
    };
    let run_with = |change: &dyn Fn(&mut FlockSpec), world: &World, others: &[OtherElements<'_>]| {
        let mut spec = without_rules();
        change(&mut spec);
        let mut school = flock(&spec, 200);
        for _ in 0..150 {
            school.step(world, others, STEP, &mut Meter::new()).unwrap();
        }
        school
    };
    let aim = [4.0, 1.0, 0.0];
    let near = |flock: &Flock| length([0, 1, 2].map(|axis| middle(flock)[axis] - aim[axis]));
    // A point, a path that stays there, a pusher, the nearest of few and of many others.
    let point = run_with(&|spec| spec.seek = vec![TargetSpec::new(Target::Point(aim), 3.0)], &still(), &[]);
    assert!(near(&point) < 1.0, "{}", near(&point));
    let path = PathSpec::new([aim, [4.0, 1.0, 0.01]], 1.0);
    let path =
        run_with(&|spec| spec.seek = vec![TargetSpec::new(Target::Path(path.clone()), 3.0)], &still(), &[]);
    assert!(near(&path) < 1.0);
    let world = WorldSpec::default().pusher(PusherSpec::new(aim, 1.0).name("hand")).build().unwrap();
    let pusher = Target::Pusher("hand".into());
    let pushed = run_with(&|spec| spec.seek = vec![TargetSpec::new(pusher.clone(), 3.0)], &world, &[]);
    assert!(near(&pushed) < 1.0);
    for count in [1, 20, 400] {
        let of = |axis: usize| -> Vec<f32> {
            (0..count).map(|nth| aim[axis] + unit(hash3(nth, 1, 1)[axis]) * 0.1).collect()
        };
        let [x, y, z] = [0, 1, 2].map(of);
        let others = [OtherElements::at("crumbs", [&x, &y, &z])];
        let crumbs = Target::Population("crumbs".into());
        let seek = TargetSpec::new(crumbs.clone(), 3.0).radius(20.0);
        let found = run_with(&|spec| spec.seek = vec![seek.clone()], &still(), &others);
        assert!(near(&found) < 1.0, "{count}: {}", near(&found));
        let flee = TargetSpec::new(crumbs, 3.0).radius(3.0).alarm(1.0);
        let fled = run_with(
            &|spec| {
                spec.position = aim;
                spec.flee = vec![flee.clone()];
            },
            &still(),
            &others,
        );
        let [px, py, pz] = fled.columns().position();
        let least = (0..200).map(|nth| length([px[nth] - aim[0], py[nth] - aim[1], pz[nth] - aim[2]]));
        assert!(least.fold(f32::INFINITY, f32::min) > 2.0);
    }
    // One that is not there does nothing.
    let absent = TargetSpec::new(Target::Population("crumbs".into()), 3.0);
    let alone = run_with(&|spec| spec.seek = vec![absent.clone()], &still(), &[]);
    assert!(near(&alone) > 3.0);
}

#[test]
fn a_distance_is_kept_and_a_target_is_circled() {
    let mut spec = without_rules();
    (spec.turn_degrees, spec.acceleration) = (2_000.0, 20.0);
    spec.seek = vec![TargetSpec::new(Target::Point([0.0; 3]), 2.0).keep(2.0).orbit(1.0)];
    let mut school = flock(&spec, 300);
    run(&mut school, 300);
    let [x, y, z] = school.columns().position();
    let mean = (0..300).map(|nth| length([x[nth], y[nth], z[nth]])).sum::<f32>() / 300.0;
    assert!((1.4..2.6).contains(&mean), "{mean}");
    assert!(school.gauges().milling > 0.7, "{:?}", school.gauges());
}

/// In a plane the plane's height does not matter: distances to targets are those within it, and obstacles are where they are.
#[test]
fn a_plane_may_be_anywhere() {
    let run_at = |height: f32, population: bool| {
        let mut spec = without_rules();
        (spec.turn_degrees, spec.acceleration) = (2_000.0, 20.0);
        (spec.keep_to, spec.position) = (Some(KeepTo::Flat), [0.0, height, 0.0]);
        spec.start = ShapeSpec::Box { size: [2.0, 0.0, 2.0] };
        let target = match population {
            true => Target::Population("lures".into()),
            false => Target::Point([0.0, height + 1.0, 0.0]),
        };
        spec.seek = vec![TargetSpec::new(target, 2.0).keep(2.0).radius(20.0).orbit(0.5)];
        let world = WorldSpec::default().obstacle(ObstacleSpec::sphere([2.0, height, 0.0], 0.5));
        let world = world.build().unwrap();
        let mut school = flock(&spec, 300);
        // Many, so that they are sorted too.
        let lures = [vec![0.0; 40], vec![height - 2.0; 40], vec![0.0; 40]];
        let seen = OtherElements::at("lures", lures.each_ref().map(|column| &column[..]));
        for _ in 0..200 {
            school.step(&world, &[seen], STEP, &mut Meter::new()).unwrap();
        }
        let [x, y, z] = school.columns().position();
        assert!(y.iter().all(|y| *y == height));
        let away = (0..300).map(|nth| length([x[nth], 0.0, z[nth]]));
        let inside = (0..300).filter(|nth| length([x[*nth] - 2.0, 0.0, z[*nth]]) < 0.499).count();
        assert_eq!(inside, 0);
        away.sum::<f32>() / 300.0
    };
    for population in [false, true] {
        let (here, there) = (run_at(0.0, population), run_at(50.0, population));
        assert!((1.4..2.6).contains(&here) && (here - there).abs() < 0.1, "{here} {there}");
    }
}

/// Alarm is raised by what is fled, passed on beyond its radius, and forgotten.
#[test]
fn alarm_spreads_and_fades() {
    let after = |spread: f32| {
        let mut spec = without_rules();
        spec.start = ShapeSpec::Box { size: [6.0, 1.0, 1.0] };
        (spec.cruise, spec.speed_limits) = (Span::from(0.0), [0.0, 0.0]);
        spec.alarm = AlarmSpec::default().spread(spread).seconds(1.0);
        spec.flee = vec![TargetSpec::new(Target::Population("fright".into()), 1.0).radius(1.0).alarm(1.0)];
        let mut school = flock(&spec, 600);
        let fright = [OtherElements::at("fright", [&[-3.0], &[0.0], &[0.0]])];
        for _ in 0..20 {
            school.step(&still(), &fright, STEP, &mut Meter::new()).unwrap();
        }
        let far = |school: &Flock| {
            let x = school.columns().position()[0];
            let far = (0..600).filter(|nth| x[*nth] > -1.5);
            far.map(|nth| school.own_columns().alarm()[nth]).fold(0.0, f32::max)
        };
        let spread = far(&school);
        run(&mut school, 300);
        (spread, school.own_columns().alarm().iter().fold(0.0f32, |most, it| most.max(*it)))
    };
    let (passed, left) = after(8.0);
    assert!(passed > 0.05 && left < 0.01, "{passed} {left}");
    assert_eq!(after(0.0).0, 0.0);
}

#[test]
fn obstacles_are_avoided() {
    let world = WorldSpec::default().obstacle(ObstacleSpec::sphere([4.0, 0.0, 0.0], 1.0)).build().unwrap();
    let hits = |avoid: f32| {
        let mut spec = without_rules().avoid(avoid).look_ahead(1.0);
        (spec.start, spec.heading) = (ShapeSpec::Sphere { radius: 0.8 }, Some([1.0, 0.0, 0.0]));
        let (mut school, mut meter, mut hits) = (flock(&spec, 300), Meter::new(), 0);
        for _ in 0..150 {
            meter.begin_frame();
            school.step(&world, &[], STEP, &mut meter).unwrap();
            hits += meter.end_frame().count(Counter::Hits);
        }
        let [x, y, z] = school.columns().position();
        let inside = (0..300).filter(|nth| length([x[*nth] - 4.0, y[*nth], z[*nth]]) < 0.99).count();
        assert_eq!(inside, 0);
        hits
    };
    let (without, with) = (hits(0.0), hits(5.0));
    assert!(without > 200 && with < without / 10, "{without} {with}");
}

/// Wind acts through drag, events are recorded, and trails follow the order of their elements.
#[test]
fn the_world_acts_on_them() {
    let wind = WorldSpec::default().wind([5.0, 0.0, 0.0]).build().unwrap();
    let mut spec = without_rules();
    spec.drag = 5.0;
    let mut school = flock(&spec, 100).with_trail(&TrailSpec::new(4, STEP)).unwrap();
    for _ in 0..60 {
        school.step(&wind, &[], STEP, &mut Meter::new()).unwrap();
    }
    assert!((0..100).all(|nth| velocity(&school, nth)[0] > 2.0));
    let newest = school.trail().unwrap().place(0).unwrap();
    assert_eq!(newest, school.columns().position());
    let older = school.trail().unwrap().place(1).unwrap();
    let [x, y, z] = school.columns().position();
    for nth in 0..100 {
        let way = length([x[nth] - older[0][nth], y[nth] - older[1][nth], z[nth] - older[2][nth]]);
        assert!(way < length(velocity(&school, nth)) * STEP * 1.01, "{way}");
    }
}

fn hunters_of(prey: &str, count: u32) -> Flock {
    let mut spec = without_rules();
    (spec.cruise, spec.speed_limits) = (Span::from(3.0), [1.0, 4.0]);
    spec.acceleration = 20.0;
    let hunt = HuntSpec::new(prey).sight(20.0).reach(0.4).digest(0.5).isolation(0.0);
    spec.hunt = Some(hunt);
    flock(&spec, count)
}

fn seen(prey: &Flock) -> OtherElements<'_> {
    let mut seen = OtherElements::at("prey", prey.columns().position());
    (seen.velocity, seen.id) = (prey.columns().velocity(), prey.columns().id());
    seen.around = prey.own_columns().around();
    seen
}

/// Each prey is caught once, caught ones are gone and start events, and hunters rest after a catch.
#[test]
fn prey_is_caught_once() {
    let mut spec = without_rules();
    spec.start = ShapeSpec::Box { size: [6.0; 3] };
    (spec.cruise, spec.speed_limits) = (Span::from(0.2), [0.0, 0.5]);
    let mut prey = flock(&spec, 60).with_events(&[EventSpec::note(Moment::Caught)]).unwrap();
    let mut hunters = hunters_of("prey", 8);
    let (world, mut meter) = (still(), Meter::new());
    let (mut caught, mut records, mut counted) = (Vec::new(), 0, 0);
    let mut fed: std::collections::HashMap<u32, u32> = std::collections::HashMap::new();
    for step in 0..900 {
        meter.begin_frame();
        prey.step(&world, &[], STEP, &mut meter).unwrap();
        records += prey.happened().len();
        hunters.step(&world, &[seen(&prey)], STEP, &mut meter).unwrap();
        counted += meter.end_frame().count(Counter::Caught);
        for catch in hunters.catches() {
            caught.push(prey.columns().id()[catch.element as usize]);
            if let Some(before) = fed.insert(catch.hunter, step) {
                assert!(step - before >= 14, "hunter {} after {} steps", catch.hunter, step - before);
            }
        }
        let elements: Vec<u32> = hunters.catches().iter().map(|catch| catch.element).collect();
        assert_eq!(prey.catch(&elements), elements.len());
        // A second hunter of the same prey counts for nothing.
        assert_eq!(prey.catch(&elements), 0);
    }
    prey.step(&world, &[], STEP, &mut meter).unwrap();
    records += prey.happened().len();
    let total = caught.len();
    caught.sort_unstable();
    caught.dedup();
    assert_eq!(caught.len(), total, "none twice");
    assert!(total > 20, "{total}");
    assert_eq!((prey.len(), records), (60 - total, total));
    assert!(counted as usize >= total - 8);
}

/// Hunters prefer prey with few around it.
#[test]
fn hunters_choose_the_isolated() {
    let mut hunters = hunters_of("prey", 1);
    let mut spec = hunters.spec().clone();
    spec.hunt = Some(spec.hunt.unwrap().isolation(5.0));
    (spec.start, spec.heading) = (ShapeSpec::Point, None);
    hunters = flock(&spec, 1);
    // One at 3 m alone, one at 2 m among many.
    let (x, z) = ([2.0, -3.0], [0.0; 2]);
    let mut prey = OtherElements::at("prey", [&x, &z, &z]);
    prey.around = &[20.0, 0.0];
    for _ in 0..20 {
        hunters.step(&still(), &[prey], STEP, &mut Meter::new()).unwrap();
    }
    assert!(velocity(&hunters, 0)[0] < -1.0);
}

#[test]
fn a_flock_continues_from_its_state() {
    let mut spec = FlockSpec::flight(0.3).within(boxed(6.0)).joining(20.0);
    spec.flee = vec![TargetSpec::new(Target::Point([0.0; 3]), 1.0).radius(2.0).alarm(1.0)];
    let build = || flock(&spec, 400).with_trail(&TrailSpec::new(3, 0.05)).unwrap();
    let mut one = build();
    run(&mut one, 20);
    one.catch(&[3, 9, 4]);
    let mut other = build();
    other.restore(&one.save()).unwrap();
    let mut third = one.clone();
    for flock in [&mut one, &mut other, &mut third] {
        run(flock, 25);
    }
    for again in [&other, &third] {
        assert_eq!(again.columns(), one.columns());
        assert_eq!(again.own_columns(), one.own_columns());
        assert_eq!(again.gauges(), one.gauges());
        assert_eq!(again.trail().unwrap().place(1), one.trail().unwrap().place(1));
    }
    // Newcomers take the places of those that were caught.
    assert_eq!(one.len(), 400);
    assert!(one.columns().id().iter().any(|id| *id >= 400));
    let fewer = flock(&FlockSpec::flight(0.3), 100);
    let problem = build().restore(&fewer.save()).unwrap_err();
    assert!(problem.to_string().contains("trail"), "{problem}");
}

#[test]
fn weights_and_counts_change_while_it_lives() {
    let mut school = flock(&FlockSpec::school(0.1), 300);
    run(&mut school, 5);
    let ids = |flock: &Flock| places(flock).into_iter().map(|(id, _)| id).collect::<Vec<_>>();
    let mut spec = school.spec().clone();
    let none = Assets::default();
    assert_eq!(school.retune(&spec, 300, &none), Ok(Change::Unchanged));
    (spec.cohesion, spec.within) = (RuleSpec::new(1.0, 4.0), Some(boxed(5.0)));
    spec.hunt = Some(HuntSpec::new("other"));
    assert_eq!(school.retune(&spec, 400, &none), Ok(Change::Live));
    assert_eq!(ids(&school), (0..400).collect::<Vec<_>>());
    run(&mut school, 5);
    assert_eq!(school.retune(&spec, 250, &none), Ok(Change::Live));
    assert_eq!(ids(&school), (0..250).collect::<Vec<_>>());
    run(&mut school, 5);
    let moved = spec.clone().position([1.0, 0.0, 0.0]);
    assert!(!school.can_retune(&moved) && school.retune(&moved, 250, &none).is_err());
    let edited = school.edit(|edit| {
        let [x] = edit.floats(["px"])?;
        x.iter_mut().for_each(|x| *x += 1.0);
        edit.kill(0);
        Ok(())
    });
    assert!(edited.is_ok() && school.len() == 249);
    let refused = school.edit(|edit| {
        edit.floats(["alarm"])?[0][0] = 2.0;
        Ok(())
    });
    assert!(refused.unwrap_err().to_string().contains("alarm"));
    assert!(school.own_columns().alarm().iter().all(|alarm| *alarm <= 1.0));
}

#[test]
fn tints_tell_what_they_are_by() {
    let mut tint = Vec::new();
    assert!(!flock(&FlockSpec::default(), 10).tint(&mut tint));
    let by =
        [TintSpec::Speed, TintSpec::Density([0.0, 400.0]), TintSpec::Alarm, TintSpec::Rule, TintSpec::State];
    for by in by {
        let mut school = flock(&FlockSpec::school(0.2).tint_by(by), 300);
        run(&mut school, 10);
        assert!(school.tint(&mut tint) && tint.len() == 300);
        assert!(tint.iter().all(|tint| (0.0..=1.0).contains(tint)), "{by:?}");
        if matches!(by, TintSpec::Speed | TintSpec::Density(_)) {
            assert!(tint.iter().any(|other| *other != tint[0]), "{by:?}");
        }
    }
}

#[test]
fn what_cannot_be_is_refused() {
    let refused = |change: &dyn Fn(&mut FlockSpec), key: &str| {
        let mut spec = FlockSpec::default();
        change(&mut spec);
        let problem: SpecError = spec.check(100).unwrap_err();
        assert!(problem.key.starts_with(key), "{problem}");
        problem.to_string()
    };
    refused(&|spec| spec.separation.radius = 0.0, "separation.radius");
    refused(&|spec| spec.alignment.weight = f32::NAN, "alignment.weight");
    refused(&|spec| spec.cohesion.weight = f32::INFINITY, "cohesion.weight");
    refused(&|spec| spec.view_degrees = 0.0, "view_degrees");
    refused(&|spec| spec.speed_limits = [2.0, 1.0], "speed_limits");
    refused(&|spec| spec.heading = Some([0.0; 3]), "heading");
    refused(&|spec| spec.most = 3, "most");
    refused(&|spec| spec.tint_by = Some(TintSpec::Density([2.0, 2.0])), "tint_by");
    let wide = |spec: &mut FlockSpec| {
        spec.within = Some(boxed(2.0));
        spec.cohesion.radius = 3.0;
    };
    assert!(refused(&wide, "cohesion.radius").contains("at most 2"));
    let wraps = |spec: &mut FlockSpec| {
        spec.within = Some(Space::Wrapping { position: [0.0; 3], size: [2.0; 3] });
        spec.alignment.radius = 1.5;
    };
    assert!(refused(&wraps, "alignment.radius").contains("at most 1"));
    refused(
        &|spec| spec.seek = vec![TargetSpec::new(Target::Point([f32::NAN; 3]), 1.0)],
        "seek.0.target.point",
    );
    refused(&|spec| spec.flee = vec![TargetSpec::new(Target::Point([0.0; 3]), 1.0).keep(1.0)], "flee.0.keep");
    refused(
        &|spec| spec.seek = vec![TargetSpec::new(Target::Point([0.0; 3]), 1.0).alarm(1.0)],
        "seek.0.alarm",
    );
    let surface = |spec: &mut FlockSpec| spec.within = Some(Space::Distance { asset: "reef".into() });
    let mut spec = FlockSpec::default();
    surface(&mut spec);
    let problem = Flock::new(&spec, 10, Span::from(0.1), 1).unwrap_err();
    assert!(problem.key == "within.distance.asset", "{problem}");
    let problem = FlockSpec::default().check(u32::MAX).unwrap_err();
    assert!(problem.key == "count" && problem.instead.contains("at most"), "{problem}");
    // Positions that are not numbers are an error, not a panic.
    let mut school = flock(&FlockSpec::default(), 10);
    let lost = [OtherElements::at("other", [&[f32::NAN; 40], &[0.0; 40], &[0.0; 40]])];
    let mut spec = school.spec().clone();
    spec.seek = vec![TargetSpec::new(Target::Population("other".into()), 1.0)];
    school.retune(&spec, 10, &Assets::default()).unwrap();
    assert!(school.step(&still(), &lost, STEP, &mut Meter::new()).is_err());
}
