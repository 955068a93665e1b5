//! Populations that start one another on the device, against the same on the processor: to the digit who is born and who dies, within a
//! tolerance where they are.

use crate::common::gpu;
use crate::common::stepped::{agree, alike};
use frolic_core::backend::{MOST_EVENTS, why_not_on_device_all};
use frolic_core::{
    AimBy, Assets, BodyRow, CollectorSpec, Counter, EmitterSpec, EventSpec, Meter, Moment, ObstacleSpec,
    ParticleSet, ParticleSpec, Region, ShapeSpec, Span, TrailSpec, WorldSpec,
};
use frolic_gpu::{GpuSet, Recorder};
use proptest::prelude::*;

const COUNTERS: [Counter; 7] = [
    Counter::Emitted,
    Counter::Refused,
    Counter::Retired,
    Counter::Hits,
    Counter::Picked,
    Counter::Events,
    Counter::Alive,
];

type Named<'a> = [(&'a str, ParticleSpec)];

/// Rows of every population on both, by id; and what both counted.
fn both(specs: &Named<'_>, world: &WorldSpec, steps: u32) -> (Vec<[Vec<BodyRow>; 2]>, [[u64; 7]; 2]) {
    let gpu = gpu();
    let (mut here, mut there) = (ParticleSet::default(), GpuSet::new(&gpu));
    for ((name, spec), seed) in specs.iter().zip(5..) {
        here.add(name, spec, seed).unwrap();
        there.add(name, spec, seed, &Assets::default()).unwrap();
    }
    here.link().unwrap();
    there.link().unwrap();
    let (mut recorder, world) = (Recorder::new(&gpu), world.build().unwrap());
    let (mut own, mut read_at) = (Meter::new(), Meter::new());
    own.begin_frame();
    read_at.begin_frame();
    here.step(&world, 1.0 / 60.0, steps, &mut own);
    // In two goes, one of them over what one submission holds.
    there.step(&mut recorder, &world, 1.0 / 60.0, steps / 5).unwrap();
    there.step(&mut recorder, &world, 1.0 / 60.0, steps - steps / 5).unwrap();
    there.wait(&mut recorder, &mut read_at).unwrap();
    let alive = there.members().iter().map(|member| member.statistics().alive).sum();
    read_at.add(Counter::Alive, alive);
    let (own, read_at) = (own.end_frame(), read_at.end_frame());
    let rows = (0..specs.len()).map(|nth| {
        let columns = here.members()[nth].columns();
        let mut own: Vec<_> = (0..columns.len()).filter_map(|row| columns.row(row)).collect();
        let mut rows = there.read(&mut recorder, nth).unwrap();
        own.sort_by_key(|row| row.id);
        rows.sort_by_key(|row| row.id);
        [own, rows]
    });
    (rows.collect(), [&own, &read_at].map(|frame| COUNTERS.map(|counter| frame.count(counter))))
}

fn fountain(count: u32) -> ParticleSpec {
    ParticleSpec::new(count)
        .life(0.3, 0.9)
        .motion(0.4, 1.0)
        .emitter(EmitterSpec::rate(300.0).cone([0.1, 1.0, 0.0], 30.0).speed(2.0, 5.0))
}

#[test]
fn deaths_start_sparks_and_these_start_ash() {
    let sparks =
        EventSpec::start(Moment::Death, "sparks", 3.0).cone(AimBy::Velocity, 60.0, Span::new(0.5, 2.0));
    let mut ash = EventSpec::start(Moment::Death, "ash", 1.5).cone(AimBy::World, 180.0, Span::new(0.0, 0.4));
    (ash.chance, ash.size, ash.shape) = (0.6, Some(Span::new(0.2, 0.7)), ShapeSpec::Sphere { radius: 0.1 });
    ash.keep_velocity = 0.5;
    let specs = [
        ("ash", ParticleSpec::new(600).life(0.2, 2.0).motion(3.0, -0.1)),
        ("fire", fountain(400).event(sparks)),
        ("sparks", ParticleSpec::new(900).life(0.1, 0.5).motion(0.5, 0.5).event(ash.most(40))),
    ];
    let (rows, counted) = both(&specs, &WorldSpec::default().wind([1.0, 0.0, 0.0]), 200);
    assert_eq!(counted[0], counted[1]);
    assert!(counted[0][1] > 0 && counted[0][5] > 2_000, "{:?}", counted[0]);
    for rows in &rows {
        assert!(!rows[0].is_empty());
        agree(rows, 2e-3);
    }
}

/// Whoever touches the ground or the ball, is picked up, comes of age or into a region starts something: all kinds at once, twice the same.
#[test]
fn every_event_kind_starts_elements() {
    let region = Region::Box { position: [0.0, 1.2, 0.0], size: [8.0, 0.4, 8.0] };
    let ball = Region::Sphere { position: [0.6, 1.6, 0.0], radius: 0.5 };
    let fan = |mut event: EventSpec| {
        event.aim.fan = Some([0.0, 0.0, 1.0]);
        event.aim.spread_degrees = 70.0;
        event
    };
    let parent = fountain(500)
        .event(EventSpec::start(Moment::Hit { speed: 0.5 }, "dust", 2.0).cone(
            AimBy::Normal,
            80.0,
            Span::new(0.2, 1.0),
        ))
        .event(fan(EventSpec::start(Moment::Caught, "dust", 1.0)))
        .event(EventSpec::start(Moment::Age(0.25), "rings", 1.0))
        .event(EventSpec::start(Moment::Enter(region), "rings", 0.5))
        .event(EventSpec::start(Moment::Enter(ball), "dust", 1.0))
        .event(EventSpec::note(Moment::Birth))
        .event(EventSpec::note(Moment::Death));
    let specs = [
        ("parent", parent.life(0.5, 4.0)),
        ("dust", ParticleSpec::new(5_000).life(0.2, 0.6)),
        ("rings", ParticleSpec::new(50_000).life(0.5, 0.5).event(EventSpec::note(Moment::Birth))),
    ];
    let world = WorldSpec::default()
        .obstacle(ObstacleSpec::plane([0.0; 3], [0.0, 1.0, 0.0]).bounce(0.6, 0.1))
        .collector(CollectorSpec::new([0.4, 0.5, 0.0], 0.4));
    let (rows, counted) = both(&specs, &world, 150);
    // Who bounces twice in a step of either is a matter of the last bit.
    let [mut here, mut there] = counted;
    assert!(here[3].abs_diff(there[3]) <= 3, "{here:?} {there:?}");
    (here[3], there[3]) = (0, 0);
    assert_eq!(here, there);
    assert!(counted[0][3] > 100 && counted[0][4] > 10, "{:?}", counted[0]);
    for rows in &rows {
        assert!(alike(rows, 4e-3) > 0.98, "{}", alike(rows, 4e-3));
    }
}

/// A birth that starts a birth that starts a birth, the wrong way round, all within the step.
#[test]
fn births_follow_births_at_once() {
    let specs = [
        ("third", ParticleSpec::new(5_000).life(1.0, 2.0)),
        (
            "second",
            ParticleSpec::new(3_000).life(0.5, 1.0).event(EventSpec::start(Moment::Birth, "third", 1.4)),
        ),
        ("first", fountain(900).event(EventSpec::start(Moment::Birth, "second", 2.0).keep_velocity(0.5))),
    ];
    for steps in [1, 7, 90] {
        let (rows, counted) = both(&specs, &WorldSpec::default(), steps);
        assert_eq!(counted[0], counted[1], "after {steps}");
        rows.iter().for_each(|rows| agree(rows, 2e-3));
    }
}

/// Elements of a population's own kind: what is started in a step is followed from the next on.
#[test]
fn events_may_start_their_own_population() {
    let mut again =
        EventSpec::start(Moment::Death, "only", 1.0).cone(AimBy::Velocity, 20.0, Span::new(1.0, 2.0));
    again.chance = 0.9;
    let spec = fountain(700).event(again).event(EventSpec::note(Moment::Birth));
    let (rows, counted) = both(&[("only", spec)], &WorldSpec::default(), 120);
    assert_eq!(counted[0], counted[1]);
    agree(&rows[0], 2e-3);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(5))]

    /// However many, however often, however little room: the same are started on both.
    #[test]
    fn any_deaths_start_the_same(
        count in 0f32..40.0, more in 0f32..9.0, chance in 0f32..1.0, most in 0u32..300, room in 0u32..3_000,
        parents in 1u32..1_500, burst in 0u32..1_200, steps in 1u32..80, own in any::<bool>(),
    ) {
        let mut event = EventSpec::start(Moment::Death, "children", 1.0).most(most);
        (event.count, event.chance) = (Span::new(count, count + more), chance);
        let mut children = ParticleSpec::new(room).life(0.1, 0.4);
        if own {
            children = children.emitter(EmitterSpec::rate(200.0));
        }
        let parent = ParticleSpec::new(parents).life(0.05, 0.6).event(event).emitter(EmitterSpec::burst(burst, 0.0));
        let (rows, counted) = both(&[("parents", parent), ("children", children)], &WorldSpec::default(), steps);
        prop_assert_eq!(counted[0], counted[1]);
        rows.iter().for_each(|rows| agree(rows, 2e-3));
    }
}

/// What cannot be followed is told, with the reason; and all that events join stay together.
#[test]
fn refused_populations_name_their_reason() {
    let (world, assets) = (WorldSpec::default().build().unwrap(), Assets::default());
    let start = || EventSpec::start(Moment::Death, "b", 1.0);
    let trailing = ParticleSpec::new(1_000_000).trail(TrailSpec::new(8, 0.1));
    let told = |a: &ParticleSpec, b: &ParticleSpec| {
        let alone = ParticleSpec::new(5);
        let [a, b, c] = &why_not_on_device_all(&[("a", a), ("b", b), ("c", &alone)], &world, &assets)[..]
        else {
            panic!("three of them")
        };
        assert_eq!(*c, None);
        [a, b].map(|why| why.clone().unwrap_or_default())
    };
    let plain = ParticleSpec::new(5);
    assert_eq!(told(&plain.clone().event(start()), &plain), [String::new(), String::new()]);
    let [a, b] = told(&plain.clone().event(start()), &trailing);
    assert_eq!(
        (a.as_str(), b.as_str()),
        (
            "events link it to 'b', where its trails keep over 10 million points",
            "its trails keep over 10 million points"
        )
    );
    let mut even = EmitterSpec::rate(5.0);
    even.aim.even = true;
    let [_, b] = told(&plain.clone().event(start()), &plain.clone().emitter(even.clone()));
    assert!(b.contains("events of 'a' start its elements"), "{b}");
    let mut looks = start();
    looks.keep_look = true;
    assert_eq!(told(&plain.clone().event(looks.clone()), &plain)[0], "its events hand down looks");
    let many = (0..=MOST_EVENTS).fold(plain.clone(), |spec, _| spec.event(EventSpec::note(Moment::Death)));
    assert_eq!(told(&many, &plain)[0], "it has over 8 events");

    let linked = |a: ParticleSpec, b: ParticleSpec| {
        let mut set = GpuSet::new(&gpu());
        set.add("a", &a, 1, &assets).unwrap();
        set.add("b", &b, 2, &assets).unwrap();
        assert!(set.add("b", &b, 2, &assets).unwrap_err().to_string().contains("twice"));
        set.link().unwrap_err().to_string()
    };
    assert!(linked(plain.clone().event(looks), plain.clone()).contains("a.event.0"));
    assert!(linked(plain.clone().event(start()), plain.clone().emitter(even)).contains("evenly"));
    let nobody = EventSpec::start(Moment::Death, "nobody", 1.0);
    assert!(linked(plain.clone().event(nobody), plain).contains("there is no population 'nobody'"));
}
