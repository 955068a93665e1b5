//! Events and pick-ups: nothing is lost, nothing is doubled, nothing runs away.

use crate::common::{still, weightless};
use frolic_core::{
    AimBy, CollectorSpec, Counter, EmitterSpec, EventSpec, Frame, Meter, Moment, ObstacleSpec, ParticleSet,
    ParticleSpec, Particles, PathSpec, Region, ShapeSpec, Span, Storage, World, WorldSpec,
};
use proptest::prelude::*;

fn run(set: &mut ParticleSet, world: &World, steps: u32) -> Frame {
    let mut meter = Meter::new();
    meter.begin_frame();
    set.step(world, 1.0 / 60.0, steps, &mut meter);
    meter.end_frame()
}

fn fountain(count: u32) -> ParticleSpec {
    ParticleSpec::new(count)
        .life(0.2, 0.5)
        .emitter(EmitterSpec::rate(900.0).cone([0.0, 1.0, 0.0], 40.0).speed(1.0, 4.0))
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    /// Births, deaths and pick-ups of a chain of three add up, whatever the room; each death started as many as it says.
    #[test]
    fn counts_are_kept_through_a_chain(
        seed in any::<u32>(), each in 1u32..5, room in 1u32..2000, most in 1u32..200, objects in any::<bool>(), steps in 1u32..90,
    ) {
        let storage = if objects { Storage::Objects } else { Storage::Columns };
        let mut set = ParticleSet::default();
        let first = fountain(800).event(EventSpec::start(Moment::Death, "b", each as f32).most(most));
        let second = ParticleSpec::new(room).life(0.1, 0.2).event(EventSpec::start(Moment::Death, "c", 1.0).most(most));
        for (name, spec) in [("a", &first), ("b", &second), ("c", &ParticleSpec::new(room).life(0.1, 0.3))] {
            set.add_with(name, spec, seed, storage, &Default::default()).unwrap();
        }
        set.link().unwrap();
        let world = WorldSpec::default().collector(CollectorSpec::new([0.0, 0.6, 0.0], 0.2)).build().unwrap();
        let mut deaths = [0u64; 3];
        let (mut born, mut retired, mut refused, mut caught) = (0, 0, 0, 0);
        let mut started_in_b = 0u64;
        for _ in 0..steps {
            let frame = run(&mut set, &world, 1);
            born += frame.count(Counter::Emitted);
            retired += frame.count(Counter::Retired);
            refused += frame.count(Counter::Refused);
            caught += frame.count(Counter::Picked);
            for (nth, member) in set.members().iter().enumerate() {
                deaths[nth] += member.happened().len() as u64;
            }
            prop_assert_eq!(frame.count(Counter::Picked), set.members().iter().flat_map(|m| m.caught()).sum::<u64>());
            let now = set.members()[1].columns();
            started_in_b += (0..now.len()).filter(|&i| now.age()[i] == 0.0).count() as u64;
            prop_assert!(now.len() <= room as usize);
        }
        let alive: u64 = set.members().iter().map(|member| member.len() as u64).sum();
        prop_assert_eq!(born, alive + retired);
        // Who was caught has not died: the deaths of the first and second, those of the third are not noted.
        prop_assert!(deaths[0] + deaths[1] <= retired - caught);
        // What was started and what was not are together what was asked for; the caps and the room decide which.
        let stream = (900.0 * f64::from(steps) / 60.0 + 1e-3).floor() as u64;
        let asked = deaths[0] * u64::from(each) + deaths[1];
        prop_assert_eq!(born + refused, stream + asked);
        prop_assert!(started_in_b <= deaths[0] * u64::from(each));
    }

    /// Each element goes to one collector, once, and the ids say which.
    #[test]
    fn each_is_caught_once(seed in any::<u32>(), collectors in 1usize..40, radius in 0.05f32..0.5, objects in any::<bool>()) {
        let storage = if objects { Storage::Objects } else { Storage::Columns };
        let spec = fountain(2000).event(EventSpec::note(Moment::Caught));
        let mut all = Particles::with_storage(&spec, seed, storage).unwrap();
        let path = PathSpec::new([[0.0; 3], [0.3, 0.4, 0.0]], 0.5);
        let world = (0..collectors).fold(WorldSpec::default(), |world, nth| {
            world.collector(CollectorSpec::new([nth as f32 * 0.1 - 1.0, 0.5, 0.0], radius).path(path.clone()))
        });
        let world = world.build().unwrap();
        let mut seen = std::collections::BTreeMap::new();
        let mut meter = Meter::new();
        meter.begin_frame();
        for _ in 0..60 {
            all.step(&world, 1.0 / 60.0, 1, &mut meter);
            let mut by = vec![0u64; collectors];
            for caught in all.happened() {
                by[caught.other as usize] += 1;
                prop_assert!(seen.insert(caught.element.id, caught.other).is_none(), "caught twice");
            }
            prop_assert_eq!(&by[..], all.caught());
            let left = all.columns().id();
            prop_assert!(left.iter().all(|id| !seen.contains_key(id)), "caught and still there");
        }
        prop_assert_eq!(meter.end_frame().count(Counter::Picked), seen.len() as u64);
    }
}

#[test]
fn a_fast_collector_jumps_over_nothing() {
    // It sweeps 10 m in one step over elements at rest that it is never near at either end.
    let world = weightless()
        .collector(
            CollectorSpec::new([-5.0, 0.0, 0.0], 0.1).path(PathSpec::new([[0.0; 3], [10.0, 0.0, 0.0]], 0.1)),
        )
        .build()
        .unwrap();
    let line = ShapeSpec::Line { to: [6.0, 0.0, 0.0] };
    let spec = ParticleSpec::new(400)
        .life(9.0, 9.0)
        .emitter(EmitterSpec::burst(400, 0.0).position([-3.0, 0.05, 0.0]).shape(line).speed(0.0, 0.0));
    let mut all = Particles::new(&spec, 1).unwrap();
    all.step(&world, 1e-6, 1, &mut Meter::new());
    all.step(&world, 0.1, 1, &mut Meter::new());
    assert_eq!((all.len(), all.caught()), (0, &[400u64][..]));
}

#[test]
fn a_collector_pulls_before_it_catches_and_can_be_put() {
    let mut world =
        weightless().collector(CollectorSpec::new([0.0; 3], 0.05).pulling(8.0, 2.0)).build().unwrap();
    let spec = ParticleSpec::new(60).life(90.0, 90.0).motion(3.0, 0.0);
    let ball = ShapeSpec::SphereSurface { radius: 1.0 };
    let spec = spec.emitter(EmitterSpec::burst(60, 0.0).shape(ball).speed(0.0, 0.0));
    let mut all = Particles::new(&spec, 1).unwrap();
    all.step(&still(), 1e-6, 1, &mut Meter::new());
    assert!(world.put_collector(0, [40.0, 0.0, 0.0]) && !world.put_collector(1, [0.0; 3]));
    all.step(&world, 1.0 / 60.0, 60, &mut Meter::new());
    assert_eq!(all.len(), 60, "out of reach");
    assert!(world.put_collector(0, [0.0; 3]));
    all.step(&world, 1.0 / 60.0, 600, &mut Meter::new());
    assert_eq!((all.len(), all.caught()[0]), (0, 60));
    assert_eq!(world.collector_at(0, 7.0), Some([0.0; 3]));
}

/// Elements that fall onto a floor and are noted for everything.
fn noted(moments: &[Moment]) -> Particles {
    let floor = ObstacleSpec::plane([0.0; 3], [0.0, 1.0, 0.0]).bounce(0.5, 0.0);
    let world = WorldSpec::default().obstacle(floor).build().unwrap();
    let emitter = EmitterSpec::burst(10, 0.0).position([0.0, 2.0, 0.0]).speed(0.0, 0.0);
    let spec = ParticleSpec::new(10).life(1.5, 1.5).emitter(emitter);
    let spec = moments.iter().fold(spec, |spec, moment| spec.event(EventSpec::note(*moment)));
    let mut all = Particles::new(&spec, 1).unwrap();
    all.step(&world, 1.0 / 240.0, 240 * 2, &mut Meter::new());
    all
}

#[test]
fn events_happen_at_their_moments() {
    let region = Region::Box { position: [0.0, 1.0, 0.0], size: [1.0, 0.5, 1.0] };
    let all = noted(&[
        Moment::Birth,
        Moment::Death,
        Moment::Hit { speed: 1.0 },
        Moment::Age(0.5),
        Moment::Enter(region),
        Moment::Caught,
    ]);
    let of = |event: u32| all.happened().iter().filter(move |happening| happening.event == event);
    assert_eq!([0, 1, 3, 5].map(|event| of(event).count()), [10, 10, 10, 0]);
    // Hits at 6.26, 3.13 and 1.57 m/s: within 1.5 s at 0.64 and 1.28 s.
    assert_eq!(of(2).count(), 20);
    assert!(of(2).all(|hit| hit.normal == [0.0, 1.0, 0.0] && hit.other == 0));
    assert!(of(3).all(|at| (0.5..0.505).contains(&at.element.age)));
    // Into the region from above; the bounce to 0.5 m does not reach it.
    assert_eq!(of(4).count(), 10);
    assert!(of(4).all(|at| (1.2..1.26).contains(&at.element.py) && at.element.vy < 0.0));
}

#[test]
fn children_take_after_their_parents() {
    let mut event = EventSpec::start(Moment::Hit { speed: 1.0 }, "chips", 40.0).cone(
        AimBy::Normal,
        20.0,
        Span::from(2.0),
    );
    event.size = Some(Span::from(0.5));
    event.keep_look = true;
    let slow = EventSpec::start(Moment::Death, "dust", 1.0)
        .cone(AimBy::Velocity, 0.0, Span::from(3.0))
        .keep_velocity(0.5);
    let stone = ParticleSpec::new(1).life(1.0, 1.0).size(0.3, 0.3);
    let stone = stone.emitter(
        EmitterSpec::burst(1, 0.0).position([0.0, 1.0, 0.0]).cone([0.0, -1.0, 0.0], 0.0).speed(6.0, 6.0),
    );
    let mut set = ParticleSet::default();
    set.add("stone", &stone.event(event).event(slow), 4).unwrap();
    set.add("chips", &ParticleSpec::new(100).life(9.0, 9.0), 5).unwrap();
    set.add("dust", &ParticleSpec::new(100).life(9.0, 9.0), 6).unwrap();
    set.link().unwrap();
    let floor = ObstacleSpec::plane([0.0; 3], [1.0, 1.0, 0.0]).bounce(0.5, 0.0);
    let world = weightless().obstacle(floor).build().unwrap();
    set.step(&world, 0.01, 17, &mut Meter::new());
    let chips = set.get("chips").unwrap().columns();
    assert_eq!(chips.len(), 40);
    for i in 0..40 {
        assert!((chips.size()[i] - 0.15).abs() < 1e-6 && chips.key()[i] == 0);
        let along = (chips.vx()[i] + chips.vy()[i]) / 2f32.sqrt();
        assert!(along > 2.0 * 0.93, "off the obstacle: {along}");
    }
    assert_eq!(chips.id(), (0..40).collect::<Vec<u32>>());
    set.step(&world, 0.01, 100, &mut Meter::new());
    let dust = set.get("dust").unwrap().columns();
    // Sent back at half of 6 / sqrt 2 square to the floor, whole along it; then 3 m/s faster the same way, from half.
    let speed = dust.vx()[0].hypot(dust.vy()[0]);
    let parent = (3.0f32 / 2f32.sqrt()).hypot(6.0 / 2f32.sqrt());
    assert!((speed - (3.0 + 0.5 * parent)).abs() < 0.05, "{speed}");
}

#[test]
fn growing_event_rings_are_refused() {
    let linked = |events: &[(&str, EventSpec)]| {
        let mut set = ParticleSet::default();
        for name in ["a", "b", "c"] {
            let own = events.iter().filter(|(from, _)| *from == name);
            let spec =
                own.fold(ParticleSpec::new(100).life(0.1, 0.1), |spec, (_, event)| spec.event(event.clone()));
            set.add(name, &spec, 1).unwrap();
        }
        set.link().map_err(|error| error.to_string())
    };
    let death = |to: &str, count: f32| EventSpec::start(Moment::Death, to, count);
    assert!(linked(&[("a", death("b", 9.0)), ("b", death("c", 9.0))]).is_ok(), "no ring");
    assert!(linked(&[("a", death("a", 1.0))]).is_ok(), "one for one");
    assert!(linked(&[("a", death("b", 4.0)), ("b", death("c", 0.5)), ("c", death("a", 0.5))]).is_ok());
    let error = linked(&[("a", death("a", 1.01))]).unwrap_err();
    assert!(error.starts_with("a.event: each round of this ring"), "{error}");
    assert!(linked(&[("a", death("b", 2.0)), ("b", death("c", 1.0)), ("c", death("a", 1.0))]).is_err());
    assert!(
        linked(&[("a", death("b", 1.0)), ("b", EventSpec::start(Moment::Hit { speed: 0.0 }, "a", 0.01))])
            .is_err()
    );
    let birth = |to: &str| EventSpec::start(Moment::Birth, to, 1.0);
    assert!(linked(&[("a", birth("b")), ("b", birth("c"))]).is_ok());
    assert!(linked(&[("a", birth("b")), ("b", birth("a"))]).unwrap_err().contains("endless ring"));
    assert!(
        linked(&[("a", death("d", 1.0))])
            .unwrap_err()
            .contains("a.event.0.start: there is no population 'd'; write one of: a, b, c")
    );
}

/// One for one for ever: the ring neither dies out nor grows.
#[test]
fn a_ring_of_ones_goes_on() {
    let spec = ParticleSpec::new(50)
        .life(0.05, 0.1)
        .emitter(EmitterSpec::burst(20, 0.0))
        .event(EventSpec::start(Moment::Death, "a", 1.0));
    let mut set = ParticleSet::default();
    set.add("a", &spec, 1).unwrap();
    set.link().unwrap();
    for _ in 0..100 {
        run(&mut set, &still(), 3);
        assert_eq!(set.members()[0].len(), 20);
    }
}

#[test]
fn births_chain_within_one_step() {
    let mut set = ParticleSet::default();
    let birth = |to: &str, count: f32| EventSpec::start(Moment::Birth, to, count);
    set.add("c", &ParticleSpec::new(1000).life(9.0, 9.0), 1).unwrap();
    set.add("b", &ParticleSpec::new(1000).life(9.0, 9.0).event(birth("c", 3.0)), 2).unwrap();
    let spec =
        ParticleSpec::new(10).life(9.0, 9.0).emitter(EmitterSpec::burst(5, 0.0)).event(birth("b", 2.0));
    set.add("a", &spec, 3).unwrap();
    set.link().unwrap();
    run(&mut set, &still(), 1);
    let alive: Vec<usize> = set.members().iter().map(Particles::len).collect();
    assert_eq!(alive, [30, 10, 5]);
    assert!(set.add("a", &spec, 1).unwrap_err().to_string().contains("'a' is used twice"));
}
