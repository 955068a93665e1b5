//! Crowds: arrivals without overlaps, walls and doors, the same bits at any thread count, and errors.

use frolic_core::simd::levels;
use frolic_core::{
    ApartSpec, AvoidanceTechnique, Change, Counter, Crowd, CrowdSpec, CrowdTint, GoalSpec, Meter,
    ObstacleShape, ObstacleSpec, ShapeSpec, Span, Threads, World, WorldSpec,
};

const STEP: f32 = 0.1;
const RADIUS: f32 = 0.25;

fn still() -> World {
    WorldSpec::default().build().unwrap()
}

/// Units that change their velocity at will.
fn nimble() -> CrowdSpec {
    CrowdSpec::default().acceleration(1e3).turn_degrees(1e5).close(0.1)
}

fn crowd(spec: &CrowdSpec, count: u32) -> Crowd {
    Crowd::new(spec, count, Span::from(RADIUS), 3).unwrap()
}

/// Units on a circle, each of which goes to the opposite place.
fn circle(spec: &CrowdSpec, count: u32, across: f32) -> Crowd {
    let mut crowd = crowd(&spec.clone().goal(GoalSpec::Across([0.0; 3])), count);
    crowd
        .edit(|edit| {
            let [px, pz, gx, gz] = edit.floats(["px", "pz", "gx", "gz"])?;
            for nth in 0..count as usize {
                let (sin, cos) = (nth as f32 / count as f32 * std::f32::consts::TAU).sin_cos();
                (px[nth], pz[nth]) = (cos * across, sin * across);
                (gx[nth], gz[nth]) = (-cos * across, -sin * across);
            }
            Ok(())
        })
        .unwrap();
    crowd
}

/// All units cross the middle at once and arrive, and no two ever overlap by more than a hundredth.
#[test]
fn opposite_goals_on_a_circle_are_reached_without_overlap() {
    for (count, across, most_steps) in [(8, 4.0, 250), (50, 12.0, 700), (250, 40.0, 2000)] {
        let mut crowd = circle(&nimble(), count, across);
        let (world, mut meter) = (still(), Meter::new());
        let mut steps = 0;
        while crowd.gauges().arrived < u64::from(count) {
            crowd.step(&world, STEP, &mut meter).unwrap();
            steps += 1;
            let gauges = crowd.gauges();
            assert_eq!(gauges.overlaps, 0, "{count} units, step {steps}: {} m deep", gauges.deepest);
            assert!(steps < most_steps, "{} of {count} arrived after {steps} steps", gauges.arrived);
        }
    }
}

/// Two rooms with a door between them, of a width in metres, at x = 0.
fn with_door(width: f32) -> World {
    let long = 30.0;
    let side = |sign: f32| ObstacleShape::Box {
        position: [0.0, 0.0, sign * (width + long) * 0.5],
        size: [0.4, 4.0, long],
        turn_degrees: 0.0,
    };
    let spec = WorldSpec::default();
    [-1.0, 1.0]
        .into_iter()
        .fold(spec, |spec, sign| spec.obstacle(ObstacleSpec::new(side(sign))))
        .build()
        .unwrap()
}

fn through_a_door() -> CrowdSpec {
    let goal = GoalSpec::Path { points: vec![[0.0; 3], [30.0, 0.0, 0.0]], again: false };
    CrowdSpec::default()
        .position([-8.0, 0.0, 0.0])
        .start(ShapeSpec::Box { size: [12.0, 0.0, 16.0] })
        .goal(goal)
        .close(0.8)
}

/// Places by number, in the order of numbers.
fn places(crowd: &Crowd) -> Vec<[f32; 2]> {
    let ([x, _, z], id) = (crowd.columns().position(), crowd.columns().id());
    let mut all: Vec<_> = (0..crowd.len()).map(|nth| (id[nth], [x[nth], z[nth]])).collect();
    all.sort_unstable_by_key(|(id, _)| *id);
    all.into_iter().map(|(_, at)| at).collect()
}

/// At every step all are in front of the walls, and come through by the door alone; the wider it is, the more come through.
#[test]
fn no_unit_goes_through_walls_and_wider_doors_let_more_through() {
    for avoidance in [AvoidanceTechnique::Velocities, AvoidanceTechnique::Forces] {
        let mut through = Vec::new();
        for width in [0.8, 1.4, 2.4, 4.0] {
            let world = with_door(width);
            let mut crowd = crowd(&through_a_door().avoidance(avoidance), 150);
            let mut before = places(&crowd);
            for step in 0..250 {
                crowd.step(&world, STEP, &mut Meter::new()).unwrap();
                let now = places(&crowd);
                for (from, to) in before.iter().zip(&now) {
                    assert!(world.distance([to[0], 0.0, to[1]]) > -1e-3, "{to:?} in a wall at step {step}");
                    if from[0].signum() != to[0].signum() {
                        let share = from[0] / (from[0] - to[0]);
                        let across = from[1] + (to[1] - from[1]) * share;
                        assert!(across.abs() <= width * 0.5, "through the wall at {across}, step {step}");
                    }
                }
                before = now;
            }
            through.push(before.iter().filter(|at| at[0] > 0.5).count());
        }
        assert!(through[0] > 0 && through[3] > through[0] * 2, "{avoidance:?}: {through:?}");
        // Forces let them squeeze through, so that narrow doors differ little.
        let rises = through.windows(2).all(|pair| pair[0] <= pair[1]);
        assert!(rises || avoidance == AvoidanceTechnique::Forces, "{avoidance:?}: {through:?}");
    }
}

#[test]
fn the_same_bits_with_any_threads_and_instructions() {
    let world = with_door(1.4);
    let run = |threads: Option<u32>, level| {
        let mut crowd = crowd(&through_a_door().tint_by(CrowdTint::Waiting), 2500).tuned(level);
        let steps = |crowd: &mut Crowd| {
            (0..12).for_each(|_| crowd.step(&world, STEP, &mut Meter::new()).unwrap());
        };
        match threads {
            Some(threads) => Threads::new(threads).run(|| steps(&mut crowd)),
            None => steps(&mut crowd),
        }
        let waited: Vec<u32> = crowd.own_columns().waited().iter().map(|it| it.to_bits()).collect();
        (places(&crowd).into_iter().map(|at| at.map(f32::to_bits)).collect::<Vec<_>>(), waited)
    };
    let first = run(Some(1), levels()[0]);
    for level in levels() {
        for threads in [Some(1), Some(3), None] {
            assert!(run(threads, level) == first, "{threads:?} threads, {level:?}");
        }
    }
}

/// Of two units on a head-on course, the one with the greater priority goes straighter.
#[test]
fn the_greater_priority_goes_straight() {
    let mut spec = nimble().goal(GoalSpec::Across([0.0; 3])).priority(Span::new(0.2, 5.0));
    spec.patience = 1e6;
    let mut crowd = circle(&spec, 2, 5.0);
    let mut aside = [0.0f32; 2];
    for _ in 0..100 {
        crowd.step(&still(), STEP, &mut Meter::new()).unwrap();
        for (aside, at) in aside.iter_mut().zip(places(&crowd)) {
            *aside = aside.max(at[1].abs());
        }
    }
    let (less, more) = (aside[0].min(aside[1]), aside[0].max(aside[1]));
    assert!(more > less * 1.5 && more > RADIUS, "{aside:?}");
}

/// Forces get there too, but let them bump.
#[test]
fn forces_bump_where_velocities_do_not() {
    let run = |avoidance| {
        let mut crowd = circle(&nimble().avoidance(avoidance), 40, 10.0);
        let mut overlaps = 0;
        for _ in 0..600 {
            crowd.step(&still(), STEP, &mut Meter::new()).unwrap();
            overlaps += crowd.gauges().overlaps;
        }
        (crowd.gauges().arrived, overlaps)
    };
    let ((by_velocities, none), (by_forces, some)) =
        (run(AvoidanceTechnique::Velocities), run(AvoidanceTechnique::Forces));
    assert_eq!((by_velocities, none), (40, 0));
    assert!(by_forces > 30 && some > 0, "{by_forces} arrived, {some} overlaps");
}

/// Units whose goal cannot be reached wait, are counted, and keep finite places.
#[test]
fn units_that_cannot_arrive_wait() {
    let walled = ObstacleShape::Sphere { position: [10.0, 0.0, 0.0], radius: 3.0 };
    let world = WorldSpec::default().obstacle(ObstacleSpec::new(walled)).build().unwrap();
    let spec = CrowdSpec::default().goal(GoalSpec::Point([10.0, 0.0, 0.0]));
    let mut crowd = crowd(&spec, 60);
    let mut meter = Meter::new();
    meter.begin_frame();
    for _ in 0..600 {
        crowd.step(&world, STEP, &mut meter).unwrap();
    }
    let gauges = crowd.gauges();
    gauges.set_levels(&mut meter);
    assert_eq!(gauges.arrived, 0);
    assert!(gauges.waiting > 10 && gauges.progress < 0.5, "{gauges:?}");
    assert_eq!(meter.end_frame().count(Counter::Waiting), gauges.waiting);
    assert!(places(&crowd).iter().flatten().all(|at| at.is_finite() && at.abs() < 20.0));
}

/// A path is walked from point to point, and around again.
#[test]
fn paths_are_walked_point_by_point() {
    let points = vec![[4.0, 0.0, 0.0], [4.0, 0.0, 4.0], [0.0, 0.0, 4.0], [0.0; 3]];
    for again in [false, true] {
        let mut spec = nimble().goal(GoalSpec::Path { points: points.clone(), again }).close(0.3);
        (spec.start, spec.position) = (ShapeSpec::Box { size: [0.1, 0.0, 0.1] }, [0.0; 3]);
        let mut crowd = crowd(&spec, 1);
        let mut legs = Vec::new();
        for _ in 0..260 {
            crowd.step(&still(), STEP, &mut Meter::new()).unwrap();
            legs.push(crowd.own_columns().leg()[0]);
        }
        legs.dedup();
        assert!(legs.starts_with(&[0, 1, 2, 3]), "{legs:?}");
        assert_eq!(legs.len() > 4, again, "{legs:?}");
        assert_eq!(crowd.gauges().arrived, u64::from(!again));
    }
}

/// So many on so little room: a step looks at a bounded number of candidates, all stay, and they spread.
#[test]
fn a_crush_takes_bounded_work() {
    let mut spec = CrowdSpec::default().goal(GoalSpec::Point([0.0; 3]));
    (spec.start, spec.most) = (ShapeSpec::Box { size: [1.0, 0.0, 1.0] }, 128);
    let count = 20_000;
    let mut crowd = crowd(&spec, count);
    let mut meter = Meter::new();
    meter.begin_frame();
    crowd.step(&still(), STEP, &mut meter).unwrap();
    let frame = meter.end_frame();
    assert!(
        frame.count(Counter::PairsTested) <= u64::from(count) * 128,
        "{}",
        frame.count(Counter::PairsTested)
    );
    assert_eq!(frame.count(Counter::Crowded), u64::from(count));
    for _ in 0..20 {
        crowd.step(&still(), STEP, &mut meter).unwrap();
    }
    assert_eq!(crowd.len(), count as usize);
    let far = places(&crowd).into_iter().flatten().map(f32::abs).fold(0.0, f32::max);
    assert!(far > 0.6 && far < 100.0, "{far}");
}

/// What was saved goes on to the bit, and what is changed while it runs is taken over.
#[test]
fn crowds_are_saved_and_retuned() {
    let world = with_door(1.4);
    let spec = through_a_door();
    let new = || crowd(&spec, 200).with_apart(&ApartSpec::default()).unwrap();
    let mut first = new();
    (0..20).for_each(|_| first.step(&world, STEP, &mut Meter::new()).unwrap());
    let mut second = new();
    second.restore(&first.save()).unwrap();
    for crowd in [&mut first, &mut second] {
        (0..20).for_each(|_| crowd.step(&world, STEP, &mut Meter::new()).unwrap());
    }
    assert_eq!(places(&first), places(&second));
    assert!(crowd(&spec, 100).restore(&first.save()).is_err());

    let other = spec.clone().goal(GoalSpec::Point([-20.0, 0.0, 0.0])).cruise(Span::from(1.0));
    assert_eq!(first.retune(&other, 250), Ok(Change::Live));
    assert_eq!(first.retune(&other, 250), Ok(Change::Unchanged));
    assert_eq!(first.len(), 250);
    assert!(first.own_columns().gx().iter().all(|goal| *goal == -20.0));
    first.retune(&other, 30).unwrap();
    assert_eq!(first.len(), 30);
    first.step(&world, STEP, &mut Meter::new()).unwrap();
    let elsewhere = other.clone().position([1.0, 0.0, 0.0]);
    assert!(first.retune(&elsewhere, 30).is_err());
}

#[test]
fn what_cannot_be_is_refused() {
    let of = |change: &dyn Fn(&mut CrowdSpec)| {
        let mut spec = CrowdSpec::default();
        change(&mut spec);
        spec.check(10).unwrap_err().key
    };
    assert_eq!(of(&|spec| spec.top_speed = 0.0), "top_speed");
    assert_eq!(of(&|spec| spec.heeds = 17), "heeds");
    assert_eq!(of(&|spec| spec.cruise = Span::new(2.0, 1.0)), "cruise");
    assert_eq!(of(&|spec| spec.look_ahead = f32::NAN), "look_ahead");
    assert_eq!(of(&|spec| spec.goal = Some(GoalSpec::Direction([0.0, 1.0, 0.0]))), "goal.direction");
    assert_eq!(of(&|spec| spec.goal = Some(GoalSpec::Point([f32::INFINITY; 3]))), "goal.point");
    let nowhere = GoalSpec::Path { points: Vec::new(), again: true };
    assert_eq!(of(&|spec| spec.goal = Some(nowhere.clone())), "goal.path.points");
    assert!(CrowdSpec::default().check(u32::MAX).is_err());
}
