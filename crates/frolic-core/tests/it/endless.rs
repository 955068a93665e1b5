//! Worlds without end: the same after a walk away and back, no larger than their reach, and nobody inside of what is there.

use crate::common::weightless;
use frolic_core::{
    AimSpec, Cells, CellsSpec, Counter, EmitterSpec, EndlessSpec, FixedInstances, FixedSpec, KeepOffSpec,
    KeepTo, Meter, ParticleSpec, Particles, PathSpec, ScatterSpec, Span, Storage, World,
};
use proptest::prelude::*;

fn world(seed: u32) -> World {
    let mut spec = EndlessSpec::new(4.0, 30.0, Span::new(0.3, 1.6));
    (spec.seed, spec.share, spec.bounce, spec.friction) = (seed, 0.7, 1.0, 0.0);
    let mut world = weightless();
    world.endless = Some(spec);
    world.build().unwrap()
}

fn posts(world: &World) -> Vec<[u32; 3]> {
    world.posts().map(|post| post.map(f32::to_bits)).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    /// However the middle wandered, what is there where it has come back to is what was there.
    #[test]
    fn a_walk_away_and_back_finds_the_same_world(
        seed in any::<u32>(), way in prop::collection::vec(prop::array::uniform2(-300f32..300.0), 1..12), home in prop::array::uniform2(-40f32..40.0),
    ) {
        let mut walked = world(seed);
        walked.recentre([9e5, 9e5]);
        walked.recentre(home);
        let before = posts(&walked);
        prop_assert!(!before.is_empty());
        for middle in way {
            walked.recentre(middle);
            prop_assert!(walked.posts().count() <= 400, "bounded");
        }
        // By way of somewhere far, as cells that are near stay a little longer.
        walked.recentre([9e5, 9e5]);
        walked.recentre(home);
        prop_assert_eq!(posts(&walked), before);
    }

    /// Cells within reach are there, those over a fifth further are not; swaying by less than that fifth makes and unmakes nothing.
    #[test]
    fn cells_come_and_go_with_room_to_sway(middle in prop::array::uniform2(-1e4f32..1e4), sway in prop::array::uniform2(-1.5f32..1.5)) {
        let mut cells = Cells::new(CellsSpec::new(3.0, 20.0)).unwrap();
        cells.follow(middle);
        let off = |[x, z]: [i32; 2]| ((x as f32 + 0.5) * 3.0 - middle[0]).hypot((z as f32 + 0.5) * 3.0 - middle[1]);
        prop_assert!(cells.all().iter().all(|cell| off(*cell) <= 20.0));
        // As many as fit, to within those that the edge cuts.
        let area = std::f32::consts::PI * 400.0 / 9.0;
        prop_assert!((cells.all().len() as f32 - area).abs() < 45.0, "{}", cells.all().len());
        cells.follow([middle[0] + sway[0], middle[1] + sway[1]]);
        prop_assert_eq!(cells.changed()[1], 0, "none went");
        cells.follow(middle);
        prop_assert_eq!(cells.changed(), [0, 0], "and back again nothing is new");
        prop_assert!(cells.all().windows(2).all(|pair| pair[0] < pair[1]));
    }

    /// Fast elements among many posts: none is inside of one, and no speed is lost; columns and objects alike.
    #[test]
    fn no_element_is_inside_a_post(seed in any::<u32>(), speed in 1f32..300.0) {
        let world = world(seed);
        let mut spec = ParticleSpec::new(400).life(90.0, 90.0).motion(0.0, 0.0).emitter(
            EmitterSpec::burst(400, 0.0).aim(AimSpec::fan([1.0, 0.0, 0.0], 180.0, [0.0, 1.0, 0.0])).speed(speed, speed),
        );
        spec.motion.keep_to = Some(KeepTo::Flat);
        let run = |storage| {
            let mut all = Particles::with_storage(&spec, seed, storage).unwrap();
            all.step(&world, 1e-6, 1, &mut Meter::new());
            all.step(&world, 1.0 / 60.0, 20, &mut Meter::new());
            all.columns().clone()
        };
        let columns = run(Storage::Columns);
        let [x, y, z] = columns.position();
        let [vx, vy, vz] = columns.velocity();
        for i in 0..columns.len() {
            prop_assert!(world.distance([x[i], y[i], z[i]]) > -2e-3);
            let now = (vx[i] * vx[i] + vy[i] * vy[i] + vz[i] * vz[i]).sqrt();
            // Who was caught between posts has slowed down.
            prop_assert!(now <= speed * 1.001 && vy[i] == 0.0 && y[i] == 0.0);
        }
        prop_assert_eq!(columns, run(Storage::Objects));
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Scattered elements too: the same after a walk, each within its cell, never more than the count.
    #[test]
    fn scattered_elements_are_found_again(seed in any::<u32>(), per_cell in 1u32..40, count in 50u32..4000, away in prop::array::uniform2(-500f32..500.0)) {
        let mut spec = FixedSpec::default();
        spec.scatter = Some(ScatterSpec::new(CellsSpec::new(2.0, 9.0), per_cell));
        let mut tufts = FixedInstances::new(&spec, count, Span::new(0.1, 0.3), seed).unwrap();
        let far = |tufts: &mut FixedInstances| tufts.recentre([7e4, 7e4]);
        far(&mut tufts);
        tufts.recentre([3.0, -4.0]);
        let before = tufts.columns().clone();
        prop_assert!(before.len() > 40 && before.len() <= count as usize);
        tufts.recentre(away);
        prop_assert!(tufts.columns().len() <= count as usize);
        far(&mut tufts);
        tufts.recentre([3.0, -4.0]);
        prop_assert_eq!(tufts.columns(), &before);
        for i in 0..before.len() {
            prop_assert!((before.px()[i] - 3.0).hypot(before.pz()[i] + 4.0) < 9.0 + 2.0);
        }
    }
}

#[test]
fn ground_can_be_kept_free_and_hits_are_counted() {
    let mut spec = EndlessSpec::new(2.0, 20.0, Span::new(0.4, 0.9));
    spec.share = 1.0;
    spec.keep_off = Some(KeepOffSpec::new([3.0, 0.0, 0.0], 6.0));
    let mut around = weightless();
    around.endless = Some(spec);
    let world = around.build().unwrap();
    assert!(world.posts().count() > 200);
    assert!(world.posts().all(|[x, z, radius]| (x - 3.0).hypot(z) > 6.0 + radius - 1e-3));
    let spec = ParticleSpec::new(100).life(9.0, 9.0).motion(0.0, 0.0);
    let fan = AimSpec::fan([1.0, 0.0, 0.0], 180.0, [0.0, 1.0, 0.0]);
    let emitter = EmitterSpec::burst(100, 0.0).position([3.0, 0.0, 0.0]).aim(fan).speed(10.0, 10.0);
    let mut all = Particles::new(&spec.emitter(emitter), 1).unwrap();
    let mut meter = Meter::new();
    meter.begin_frame();
    all.step(&world, 0.05, 10, &mut meter);
    assert_eq!(meter.end_frame().count(Counter::Hits), 0, "nothing within five metres");
    meter.begin_frame();
    all.step(&world, 0.05, 40, &mut meter);
    assert!(meter.end_frame().count(Counter::Hits) >= 100);
}

#[test]
fn impossible_values_are_refused() {
    let told = |change: fn(&mut EndlessSpec)| {
        let mut spec = EndlessSpec::new(4.0, 30.0, Span::new(0.3, 1.6));
        change(&mut spec);
        let mut world = weightless();
        world.endless = Some(spec);
        world.build().unwrap_err().key
    };
    assert_eq!(told(|spec| spec.cells.side = 0.0), "endless.cells.side");
    assert_eq!(told(|spec| spec.cells.reach = 4000.0), "endless.cells.reach");
    assert_eq!(told(|spec| spec.radius = Span::new(0.3, 2.5)), "endless.radius");
    assert_eq!(told(|spec| spec.share = 1.5), "endless.share");
    let mut cells = Cells::new(CellsSpec::new(1.0, 5.0)).unwrap();
    for middle in [[f32::NAN, 0.0], [f32::INFINITY, 0.0], [1e30, 0.0]] {
        assert!(!cells.follow(middle));
    }
    assert!(cells.all().is_empty());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(16))]

    /// Emitters scattered over cells: each place that is there gives its share, and after a walk away the same places are there.
    #[test]
    fn scattered_emitters_are_found_again(
        seed in any::<u32>(), per_cell in 1u32..5, away in prop::array::uniform2(-500f32..500.0), storage in prop_oneof![Just(Storage::Columns), Just(Storage::Objects)],
    ) {
        let scatter = ScatterSpec::new(CellsSpec::new(3.0, 12.0), per_cell);
        let emitter = EmitterSpec::bursts(2, 0.0, 0.5).scatter(scatter).position([0.0, 1.5, 0.0]).speed(0.0, 0.0);
        let spec = ParticleSpec::new(20_000).life(0.4, 0.4).motion(0.0, 0.0).emitter(emitter);
        let world = weightless().build().unwrap();
        let mut springs = Particles::with_storage(&spec, seed, storage).unwrap();
        let mut places = |middle: [f32; 2]| {
            springs.recentre([7e4, 7e4]);
            springs.recentre(middle);
            // To the middle of a time in which one burst is about.
            springs.step(&world, 0.05, 10, &mut Meter::new());
            let columns = springs.columns();
            let mut all: Vec<[u32; 3]> = (0..columns.len())
                .map(|i| [columns.px()[i], columns.py()[i], columns.pz()[i]].map(f32::to_bits))
                .collect();
            all.sort_unstable();
            all
        };
        let before = places([3.0, -4.0]);
        prop_assert!(before.len() > 20 * per_cell as usize);
        let elsewhere = places(away);
        prop_assert!(!elsewhere.is_empty() && elsewhere.len() < 20_000);
        prop_assert_eq!(&before, &places([3.0, -4.0]));
        // Two of each place, within reach, at the height that was asked for.
        for pair in before.chunks(2) {
            prop_assert_eq!(pair[0], pair[1]);
            let [x, y, z] = pair[0].map(f32::from_bits);
            prop_assert!((x - 3.0).hypot(z + 4.0) < 12.0 + 3.0 && y == 1.5);
        }
    }
}

#[test]
fn a_middle_that_sways_makes_and_unmakes_nothing() {
    let scatter = ScatterSpec::new(CellsSpec::new(1.0, 10.0), 3);
    let spec = ParticleSpec::new(10).emitter(EmitterSpec::rate(1.0).scatter(scatter.clone()));
    let mut springs = Particles::new(&spec, 5).unwrap();
    springs.recentre([0.9, 0.0]);
    springs.recentre([-0.9, 0.0]);
    assert!((0..40).all(|nth| !springs.recentre([if nth % 2 == 0 { 0.9 } else { -0.9 }, 0.0])));
    assert!(springs.recentre([5.0, 0.0]));
    // What could not be is told with its place.
    let told = |emitter: EmitterSpec| {
        Particles::new(&ParticleSpec::new(10).emitter(emitter), 1).unwrap_err().to_string()
    };
    let path = PathSpec::new([[0.0; 3], [1.0, 0.0, 0.0]], 1.0);
    assert!(told(EmitterSpec::rate(1.0).scatter(scatter).path(path)).contains("follows no path"));
    let dense = ScatterSpec::new(CellsSpec::new(1.0, 100.0), 90_000);
    assert!(told(EmitterSpec::rate(1.0).scatter(dense)).starts_with("emitter.0.scatter.per_cell: up to"));
}
