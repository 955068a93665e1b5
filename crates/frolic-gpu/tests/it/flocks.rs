//! Flocks on the device against the same on the processor: places for short times, order for long ones, and counts.

use frolic_core::neighbours::NeighbourTechnique;
use frolic_core::{
    Assets, Counter, Flock, FlockSpec, HuntSpec, Meter, ObstacleSpec, OtherElements, ShapeSpec, Space, Span,
    Target, TargetSpec, TintSpec, World, WorldSpec,
};
use frolic_gpu::{DeviceFlockStatistics, FlockElement, GpuFlockSpec, GpuFlocks, Recorder};

use crate::common::gpu;

const DT: f32 = 1.0 / 30.0;

/// Elements in the order of their numbers.
fn by_number(mut elements: Vec<FlockElement>) -> Vec<FlockElement> {
    elements.sort_by_key(|element| element.body.id);
    elements
}

fn on_device(
    spec: &FlockSpec,
    count: u32,
    world: &World,
    steps: &[u32],
) -> (Vec<FlockElement>, DeviceFlockStatistics) {
    let mut flocks = GpuFlocks::new(&gpu());
    flocks.add("flock", &GpuFlockSpec::new(spec, count, Span::new(0.1, 0.2), 7), &Assets::default()).unwrap();
    flocks.link().unwrap();
    let mut recorder = Recorder::new(&gpu());
    for &steps in steps {
        flocks.step(&mut recorder, world, DT, steps).unwrap();
        recorder.submit();
    }
    let elements = flocks.read(&mut recorder, 0).unwrap();
    (by_number(elements), *flocks.members()[0].statistics())
}

fn on_processor(spec: &FlockSpec, count: u32, world: &World, steps: u32) -> (Flock, frolic_core::Frame) {
    let mut flock = Flock::new(spec, count, Span::new(0.1, 0.2), 7).unwrap();
    let mut meter = Meter::new();
    meter.begin_frame();
    for _ in 0..steps {
        flock.step(world, &[], DT, &mut meter).unwrap();
    }
    (flock, meter.end_frame())
}

/// Greatest distance between an element on both.
fn apart(flock: &Flock, elements: &[FlockElement]) -> f32 {
    assert_eq!(flock.len(), elements.len());
    let mut rows: Vec<_> = (0..flock.len()).filter_map(|nth| flock.columns().row(nth)).collect();
    rows.sort_by_key(|row| row.id);
    let far = rows.iter().zip(elements).map(|(a, b)| {
        assert_eq!((a.id, a.size), (b.body.id, b.body.size));
        let off = [a.px - b.body.px, a.py - b.body.py, a.pz - b.body.pz];
        off.iter().map(|axis| axis * axis).sum::<f32>().sqrt()
    });
    far.fold(0.0, f32::max)
}

/// Specs of many kinds, each with a world.
fn kinds() -> Vec<(&'static str, FlockSpec, WorldSpec)> {
    let ball = Space::Ball { position: [0.0; 3], radius: 1.5 };
    let room = Space::Box { position: [0.5, 0.0, 0.0], size: [4.0, 2.0, 3.0] };
    let round = Space::Wrapping { position: [0.0; 3], size: [3.0, 2.5, 4.0] };
    let seek = TargetSpec::new(Target::Point([1.0, 0.5, 0.0]), 0.7).keep(0.8).orbit(0.4);
    let flee = TargetSpec::new(Target::Point([-0.5, 0.0, 0.2]), 2.0).radius(1.0).alarm(1.0);
    let mut flat =
        FlockSpec::flight(0.2).within(Space::Wrapping { position: [0.0; 3], size: [6.0, 1.0, 6.0] });
    flat.keep_to = Some(frolic_core::KeepTo::Flat);
    let mut drifting = FlockSpec::school(0.12);
    drifting.drag = 0.8;
    let rocks = [[0.4, 0.0, 0.0], [-0.8, 0.3, 0.5]].map(|at| ObstacleSpec::sphere(at, 0.4));
    let rocky = rocks.into_iter().fold(WorldSpec::default(), WorldSpec::obstacle);
    vec![
        ("school in a box", FlockSpec::school(0.1).within(room), WorldSpec::default()),
        (
            "swarm in a ball",
            FlockSpec::swarm(0.1).within(ball).seek(vec![seek.clone()]),
            WorldSpec::default(),
        ),
        ("space that wraps", FlockSpec::school(0.1).within(round), WorldSpec::default()),
        ("in a plane", flat, WorldSpec::default()),
        (
            "alarm",
            FlockSpec::school(0.1).seek(vec![seek]).flee(vec![flee]).tint_by(TintSpec::Alarm),
            WorldSpec::default(),
        ),
        ("around rocks", FlockSpec::school(0.1), rocky),
        ("in the wind", drifting, WorldSpec::default().wind([1.0, 0.2, 0.0])),
        ("all pairs", FlockSpec::school(0.1).neighbours(NeighbourTechnique::AllPairs), WorldSpec::default()),
    ]
}

/// For short times every element is where it is on the processor, and the same pairs are near; the order of the flock is the same for longer.
#[test]
fn flocks_move_as_on_the_processor() {
    for (what, mut spec, world) in kinds() {
        // Which ones stand for a crowd differs.
        spec.most = 1_000_000;
        let world = world.build().unwrap();
        let (flock, frame) = on_processor(&spec, 1500, &world, 4);
        let (elements, statistics) = on_device(&spec, 1500, &world, &[4]);
        let off = apart(&flock, &elements);
        assert!(off < 2e-4, "{what}: {off} m apart after four steps");
        let (near, there) = (frame.count(Counter::PairsNear), statistics.pairs_near);
        assert!(near.abs_diff(there) <= near / 5000 + 2, "{what}: {near} pairs near, {there} on the device");
        assert!(statistics.pairs_tested >= there && near > 0);
        let (here, there) = (flock.gauges(), statistics.gauges);
        assert!((here.order - there.order).abs() < 1e-3, "{what}: {here:?}, {there:?}");
        assert!((here.milling - there.milling).abs() < 2e-3, "{what}: {here:?}, {there:?}");
        assert!(
            (here.nearest - there.nearest).abs() < 1e-3 * here.nearest.max(1e-3),
            "{what}: {here:?}, {there:?}"
        );
        // What is drawn of it.
        let own = flock.own_columns();
        let mut rows: Vec<_> = (0..flock.len()).map(|nth| (flock.columns().id()[nth], nth)).collect();
        rows.sort_unstable();
        for ((_, nth), element) in rows.iter().zip(&elements).step_by(50) {
            assert!((own.way()[*nth] - element.way).abs() < 1e-3, "{what}");
            assert!((own.bank()[*nth] - element.bank).abs() < 2e-2, "{what}: {element:?}");
            assert!((own.alarm()[*nth] - element.alarm).abs() < 1e-3, "{what}: {element:?}");
        }
        let (flock, _) = on_processor(&spec, 1500, &world, 60);
        let (_, statistics) = on_device(&spec, 1500, &world, &[60]);
        let (here, there) = (flock.gauges(), statistics.gauges);
        assert!((here.order - there.order).abs() < 0.12, "{what}: {here:?}, {there:?}");
        assert!((here.nearest / there.nearest - 1.0).abs() < 0.12, "{what}: {here:?}, {there:?}");
        assert!((here.speed / there.speed - 1.0).abs() < 0.08, "{what}: {here:?}, {there:?}");
    }
}

/// A run repeats to the bit, however its steps are submitted.
#[test]
fn runs_repeat_to_the_bit() {
    let (_, spec, world) = kinds().swap_remove(0);
    let world = world.build().unwrap();
    let (once, _) = on_device(&spec, 3000, &world, &[90]);
    let (again, _) = on_device(&spec, 3000, &world, &[1, 64, 25]);
    assert_eq!(once, again);
    let (more, _) = on_device(&spec, 3000, &world, &[91]);
    assert_ne!(once, more);
}

/// No element leaves a closed space, and a space that wraps keeps all within its sides.
#[test]
fn no_element_leaves_a_closed_space() {
    for (what, spec, world) in kinds().into_iter().take(3) {
        let (elements, _) = on_device(&spec, 2000, &world.build().unwrap(), &[50]);
        for element in &elements {
            let at = [element.body.px, element.body.py, element.body.pz];
            let inside = match spec.within.as_ref().unwrap() {
                Space::Ball { radius, .. } => {
                    at.iter().map(|axis| axis * axis).sum::<f32>() <= radius * radius
                }
                Space::Box { position, size } | Space::Wrapping { position, size } => {
                    (0..3).all(|axis| (at[axis] - position[axis]).abs() <= size[axis] * 0.5 + 1e-5)
                }
                _ => false,
            };
            assert!(inside, "{what}: {at:?}");
        }
    }
}

/// All in one cell: an element looks at no more than its share, and the counters tell. Those on one spot part.
#[test]
fn crowds_stay_bounded() {
    let mut spec = FlockSpec::school(0.5);
    spec.start = ShapeSpec::Point;
    spec.most = 100;
    let world = WorldSpec::default().build().unwrap();
    let (elements, statistics) = on_device(&spec, 20_000, &world, &[1]);
    assert_eq!((statistics.crowded, statistics.fullest, statistics.cells_used), (20_000, 20_000, 1));
    assert!(statistics.pairs_tested <= 20_000 * 101, "{}", statistics.pairs_tested);
    let spread = elements.iter().map(|element| element.body.px.abs()).fold(0.0, f32::max);
    assert!(spread > 1e-3);
}

/// A hunter catches prey, never the same twice; alarm goes before it; newcomers take the places of the caught.
#[test]
fn hunters_catch_each_prey_once() {
    let world = WorldSpec::default().build().unwrap();
    let room = Space::Box { position: [0.0; 3], size: [4.0, 2.0, 4.0] };
    let mut prey = FlockSpec::school(0.1).within(room.clone());
    prey.flee = vec![TargetSpec::new(Target::Population("seal".into()), 3.0).radius(0.8).alarm(1.0)];
    let mut hunt = HuntSpec::new("eels");
    (hunt.digest, hunt.reach) = (0.2, 0.25);
    let seal = FlockSpec::flight(0.3).within(room).hunt(hunt);
    for joining in [0.0, 200.0] {
        let mut eels = prey.clone();
        eels.joining = joining;
        let mut flocks = GpuFlocks::new(&gpu());
        let assets = Assets::default();
        flocks.add("eels", &GpuFlockSpec::new(&eels, 3000, Span::from(0.1), 3), &assets).unwrap();
        flocks.add("seal", &GpuFlockSpec::new(&seal, 4, Span::from(1.0), 4), &assets).unwrap();
        flocks.link().unwrap();
        let (mut recorder, mut meter) = (Recorder::new(&gpu()), Meter::new());
        for _ in 0..6 {
            flocks.step(&mut recorder, &world, DT, 30).unwrap();
            recorder.submit();
        }
        let elements = by_number(flocks.read(&mut recorder, 0).unwrap());
        let statistics = *flocks.members()[0].statistics();
        assert!(statistics.caught > 10, "{statistics:?}");
        assert_eq!(statistics.alive + statistics.caught, 3000 + statistics.joined, "{statistics:?}");
        assert_eq!(statistics.joined > 0, joining > 0.0);
        assert!(
            elements.windows(2).all(|pair| pair[0].body.id < pair[1].body.id),
            "an element is there twice"
        );
        assert!(elements.iter().any(|element| element.alarm > 0.3));
        assert!(elements.iter().all(|element| element.body.px.is_finite()));
        let hunters = flocks.read(&mut recorder, 1).unwrap();
        assert!(
            hunters
                .iter()
                .all(|hunter| hunter.quarry.is_none_or(|quarry| quarry < 3000 + statistics.joined as u32))
        );
        // The same hunt on the processor catches about as many.
        let mut here = Flock::new(&eels, 3000, Span::from(0.1), 3).unwrap();
        let mut hunters = Flock::new(&seal, 4, Span::from(1.0), 4).unwrap();
        meter.begin_frame();
        for _ in 0..180 {
            let seen = OtherElements::at("seal", hunters.columns().position());
            here.step(&world, &[seen], DT, &mut meter).unwrap();
            let mut seen = OtherElements::at("eels", here.columns().position());
            (seen.velocity, seen.id) = (here.columns().velocity(), here.columns().id());
            seen.around = here.own_columns().around();
            hunters.step(&world, &[seen], DT, &mut meter).unwrap();
            let caught: Vec<u32> = hunters.catches().iter().map(|caught| caught.element).collect();
            here.catch(&caught);
        }
        let caught = meter.end_frame().count(Counter::Caught);
        assert!(
            statistics.caught.abs_diff(caught) <= caught / 3 + 3,
            "{} on the device, {caught} here",
            statistics.caught
        );
    }
}

/// A changed spec holds from the next step on, and every element stays.
#[test]
fn specs_change_while_they_swim() {
    let world = WorldSpec::default().build().unwrap();
    let (_, spec, _) = kinds().swap_remove(0);
    let mut flocks = GpuFlocks::new(&gpu());
    let assets = Assets::default();
    flocks.add("school", &GpuFlockSpec::new(&spec, 1000, Span::from(0.1), 3), &assets).unwrap();
    let mut recorder = Recorder::new(&gpu());
    flocks.step(&mut recorder, &world, DT, 30).unwrap();
    let before = by_number(flocks.read(&mut recorder, 0).unwrap());
    let mut slow = spec.clone();
    slow.speed_limits = [0.01, 0.05];
    assert!(flocks.members()[0].can_retune(&slow, &world, &assets));
    flocks.retune("school", &slow, &assets).unwrap();
    flocks.step(&mut recorder, &world, DT, 1).unwrap();
    let after = by_number(flocks.read(&mut recorder, 0).unwrap());
    let ids = |elements: &[FlockElement]| elements.iter().map(|element| element.body.id).collect::<Vec<_>>();
    assert_eq!(ids(&before), ids(&after));
    for element in &after {
        let speed = [element.body.vx, element.body.vy, element.body.vz]
            .iter()
            .map(|axis| axis * axis)
            .sum::<f32>()
            .sqrt();
        assert!(speed <= 0.0501, "{speed}");
    }
    // Where it starts is fixed, and a bad value is refused with the flock as it was.
    let mut other = slow.clone();
    other.position = [1.0, 0.0, 0.0];
    assert!(!flocks.members()[0].can_retune(&other, &world, &assets));
    slow.cohesion.weight = f32::NAN;
    assert!(flocks.retune("school", &slow, &assets).is_err());
    assert!(flocks.retune("absent", &spec, &assets).is_err());
    // One that looks at a flock that is not there is refused, and the school swims on as it was.
    let follower = spec.clone().seek(vec![TargetSpec::new(Target::Population("absent".into()), 1.0)]);
    let before = flocks.members()[0].spec().clone();
    assert!(flocks.retune("school", &follower, &assets).unwrap_err().to_string().contains("absent"));
    assert_eq!(*flocks.members()[0].spec(), before);
    flocks.step(&mut recorder, &world, DT, 1).unwrap();
    assert_eq!(flocks.read(&mut recorder, 0).unwrap().len(), 1000);
}

/// Populations that are looked at must be there.
#[test]
fn flocks_that_are_looked_at_must_be_there() {
    let mut flocks = GpuFlocks::new(&gpu());
    let spec = FlockSpec::flight(0.3).hunt(HuntSpec::new("eels"));
    flocks.add("seal", &GpuFlockSpec::new(&spec, 1, Span::from(1.0), 4), &Assets::default()).unwrap();
    let error = flocks.link().unwrap_err().to_string();
    assert!(error.contains("eels") && error.contains("seal"), "{error}");
}

/// A school around a lure and the hunter that it flees are where they are on the processor, element by element, for a while.
#[test]
fn a_hunt_is_the_same_for_short_times() {
    let world = WorldSpec::default().build().unwrap();
    let mut eels = FlockSpec::school(0.07).wander_degrees(22.0).bank(0.8);
    (eels.position, eels.start) = ([0.0, -4.4, 0.0], ShapeSpec::Sphere { radius: 2.6 });
    eels.within = Some(Space::Box { position: [0.0, -5.0, 0.0], size: [18.0, 9.4, 14.0] });
    eels.seek = vec![TargetSpec::new(Target::Point([0.0, -4.35, 0.0]), 0.8).keep(2.3).orbit(0.55)];
    eels.flee = vec![TargetSpec::new(Target::Population("seal".into()), 6.0).radius(2.1).alarm(1.0)];
    let mut seal = FlockSpec::default().hunt(HuntSpec::new("eels"));
    (seal.position, seal.start, seal.heading) = ([3.6, -5.1, 2.7], ShapeSpec::Point, Some([-1.0, 0.1, -0.2]));
    let (mut flocks, assets) = (GpuFlocks::new(&gpu()), Assets::default());
    flocks.add("eels", &GpuFlockSpec::new(&eels, 6000, Span::new(0.1, 0.2), 7), &assets).unwrap();
    flocks.add("seal", &GpuFlockSpec::new(&seal, 1, Span::from(1.7), 4), &assets).unwrap();
    flocks.link().unwrap();
    let mut recorder = Recorder::new(&gpu());
    let mut here = Flock::new(&eels, 6000, Span::new(0.1, 0.2), 7).unwrap();
    let mut hunters = Flock::new(&seal, 1, Span::from(1.7), 4).unwrap();
    let mut meter = Meter::new();
    for step in 1..=9 {
        flocks.step(&mut recorder, &world, DT, 1).unwrap();
        let seen = OtherElements::at("seal", hunters.columns().position());
        here.step(&world, &[seen], DT, &mut meter).unwrap();
        let mut seen = OtherElements::at("eels", here.columns().position());
        (seen.velocity, seen.id) = (here.columns().velocity(), here.columns().id());
        seen.around = here.own_columns().around();
        hunters.step(&world, &[seen], DT, &mut meter).unwrap();
        let off = apart(&here, &by_number(flocks.read(&mut recorder, 0).unwrap()));
        assert!(off < 2e-3, "{off} m apart after {step} steps");
        let hunter = flocks.read(&mut recorder, 1).unwrap()[0];
        let there = hunters.columns().row(0).unwrap();
        assert!((hunter.body.px - there.px).abs() < 1e-4 && hunter.quarry.is_some(), "{hunter:?} {there:?}");
    }
}
