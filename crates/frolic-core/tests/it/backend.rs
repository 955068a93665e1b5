//! What a population that lives elsewhere is told, against what the processor makes of the same specs.

use crate::common::assets;
use frolic_core::backend::{
    ColliderKind, Emitters, Grid, MOST_LINKED, MOST_WRITTEN, OwnFields, device_colliders, grids, is_simple,
    why_not_on_device,
};
use frolic_core::{
    Assets, BodyRow, CellsSpec, EmitterSpec, EndlessSpec, EventSpec, FieldSpec, MeshPart, Meter, Moment,
    ObstacleShape, ObstacleSpec, ParticleSpec, Particles, ScatterSpec, ShapeSpec, Span, TrailSpec, WorldSpec,
};
use proptest::prelude::*;

fn own(spec: &ParticleSpec, assets: &Assets) -> OwnFields {
    OwnFields::new(spec, assets).unwrap()
}

proptest! {
    /// Births that are written down are those of the processor, to the bit, and numbers of births without room are used up.
    #[test]
    fn births_are_recorded_in_order(
        rate in 10f32..3_000.0, burst in 0u32..60, count in 1u32..200, steps in 1u32..12, even in any::<bool>(),
    ) {
        let assets = assets();
        let mut emitter = EmitterSpec::rate(rate)
            .shape(ShapeSpec::Mesh { asset: "mesh".to_owned(), part: MeshPart::Surface })
            .cone([0.3, 1.0, 0.0], 50.0)
            .speed(1.0, 3.0);
        emitter.aim.even = even;
        let mut more = EmitterSpec::burst(burst, 0.02);
        more.aim.even = true;
        // Nobody dies, so that what is there is what was born.
        let spec = ParticleSpec::new(count).life(1e3, 1e3).motion(0.0, 0.0).emitter(emitter).emitter(more);
        prop_assert!(!spec.emitter.iter().any(is_simple));
        let mut here = Particles::with_assets(&spec, 5, Default::default(), &assets).unwrap();
        let mut there = Emitters::new(&spec.emitter, &assets).unwrap();
        let world = WorldSpec::default().build().unwrap();
        let dt = 1.0 / 60.0;
        let (mut time, mut next, mut written) = (0.0f64, 0u32, 0usize);
        for _ in 0..steps {
            let before = here.len();
            here.step(&world, dt, 1, &mut Meter::new());
            let mut rows: Vec<BodyRow> = Vec::new();
            there.due(&spec.emitter, time, dt, |due, births| {
                // Each is written down at its birth, and flies straight for the rest of the step.
                rows.extend(births.rows(&spec, 5, &due, next, due.count).map(|mut row| {
                    row.px += row.vx * row.age;
                    row.py += row.vy * row.age;
                    row.pz += row.vz * row.age;
                    row
                }));
                next = next.wrapping_add(due.count as u32);
            });
            time += f64::from(dt);
            let born: Vec<_> = (before..here.len()).filter_map(|nth| here.columns().row(nth)).collect();
            prop_assert_eq!(&rows[..born.len()], &born[..]);
            prop_assert!(born.len() == rows.len() || here.len() == count as usize);
            written += rows.len();
        }
        prop_assert_eq!(next as usize, written);
    }

    /// A mask's words say what its cells do, and only rows that a brush has reached are told to have changed.
    #[test]
    fn mask_edits_are_sent_by_words(x in -2f32..2.0, y in -0.5f32..2.5, radius in 0.1f32..0.6, dig in any::<bool>()) {
        let spec = WorldSpec::default().obstacle(ObstacleSpec::mask("mask", [0.0, 1.0, 0.0], 4.0));
        let mut world = spec.build_with(&assets()).unwrap();
        let nothing = own(&ParticleSpec::new(1), &Assets::default());
        let words = |grid: &Grid<'_>| (0..grid.len()).map(|nth| grid.word(nth)).collect::<Vec<_>>();
        let grid = grids(&world, &nothing).next().unwrap();
        let (before, stamp) = (words(&grid), grid.stamp());
        prop_assert!(grid.changed_since(stamp).is_empty());
        prop_assert_eq!(grid.changed_since(stamp.wrapping_sub(1)), 0..grid.len());
        let changed = if dig { world.dig(0, [x, y, 0.0], radius) } else { world.fill(0, [x, y, 0.0], radius) };
        let grid = grids(&world, &nothing).next().unwrap();
        let (after, rows) = (words(&grid), grid.changed_since(stamp));
        prop_assert_eq!(rows.is_empty(), changed == 0);
        for (nth, (before, after)) in before.iter().zip(&after).enumerate() {
            prop_assert!(before == after || rows.contains(&nth), "word {}", nth);
        }
        let mask = world.mask(0).unwrap();
        for (nth, word) in after.iter().enumerate().step_by(7) {
            let middle = [nth % mask.width(), nth / mask.width()].map(|cell| cell as f32 + 0.5);
            let (distance, _) = mask.sample_cells(middle[0], middle[1]);
            prop_assert!((f32::from(*word as u16 as i16) * 0.001 - distance).abs() < 0.01, "cell {}", nth);
        }
    }
}

/// Obstacles come first, then posts, then shapes; each finds its grid.
#[test]
fn everything_finds_its_grid() {
    let assets = assets();
    let mut world = WorldSpec::default()
        .obstacle(ObstacleSpec::sphere([0.0; 3], 1.0))
        .obstacle(ObstacleSpec::distance("ball"))
        .field(FieldSpec::hold("ball"));
    world.obstacle.push(ObstacleSpec::new(ObstacleShape::Heights {
        asset: "hills".to_owned(),
        position: [0.0; 3],
        size: [2.0, 3.0],
        height: 0.5,
    }));
    world.endless = Some(EndlessSpec::new(2.0, 8.0, Span::new(0.1, 0.4)));
    let world = world.build_with(&assets).unwrap();
    let spec = ParticleSpec::new(1).field(FieldSpec::shape("ball", 1.0, 1.0));
    let own = own(&spec, &assets);
    let colliders = device_colliders(&world, &own);
    assert_eq!(colliders.obstacles, 4);
    use ColliderKind::{Distances, Ground, Posts, Sphere};
    let kinds: Vec<_> = colliders.all.iter().map(|it| it.kind).collect();
    assert_eq!(kinds, [Sphere, Distances, Ground, Posts, Distances, Distances]);
    assert_eq!(
        colliders.all.iter().map(|it| it.grid).collect::<Vec<_>>(),
        [None, Some(0), Some(1), Some(2), Some(3), Some(4)]
    );
    // Among posts and a ball no way is short.
    assert_eq!((colliders.short_way, colliders.flat), (0.0, 0));
    let all: Vec<Grid<'_>> = grids(&world, &own).collect();
    assert_eq!(all.len(), 5);
    assert!(all.iter().all(|grid| !grid.is_empty() && grid.len() == grid.points().iter().product::<usize>()));
    // Every post is in the words of its cell.
    let (posts, grid) = (world.posts().collect::<Vec<_>>(), &all[2]);
    let floats: Vec<f32> = (0..grid.len()).map(|nth| f32::from_bits(grid.word(nth))).collect();
    let there: Vec<&[f32]> = floats.chunks_exact(3).filter(|post| post[2] > 0.0).collect();
    assert_eq!(there.len(), posts.len());
    assert!(posts.iter().all(|post| there.contains(&&post[..])));
}

#[test]
fn reasons_to_stay_on_the_cpu_are_given() {
    let (assets, world) = (assets(), WorldSpec::default().build().unwrap());
    let plain = || ParticleSpec::new(100).emitter(EmitterSpec::rate(5.0));
    let reason = |spec: &ParticleSpec| why_not_on_device(spec, &world, &assets);
    assert_eq!(reason(&plain()), None);
    let starts = plain().event(EventSpec::start(Moment::Death, "sparks", 3.0)).trail(TrailSpec::new(4, 0.1));
    assert_eq!(reason(&starts), None);
    let mut many = starts;
    many.count = MOST_LINKED + 1;
    assert!(reason(&many).unwrap().contains("8 000 000"));
    many.event.clear();
    assert!(reason(&many).unwrap().contains("trail"));
    let mut scattered =
        plain().emitter(EmitterSpec::rate(1.0).scatter(ScatterSpec::new(CellsSpec::new(2.0, 6.0), 1)));
    assert_eq!(reason(&scattered), None);
    scattered.count = MOST_WRITTEN + 1;
    assert!(reason(&scattered).unwrap().contains("2 500 000"));
    let mut crowded = WorldSpec::default();
    crowded.obstacle = vec![ObstacleSpec::sphere([0.0; 3], 1.0); 15];
    crowded.endless = Some(EndlessSpec::new(2.0, 8.0, Span::new(0.1, 0.4)));
    assert_eq!(why_not_on_device(&plain(), &crowded.build().unwrap(), &assets), None);
    let shape = plain().field(FieldSpec::hold("ball"));
    assert!(why_not_on_device(&shape, &crowded.build().unwrap(), &assets).unwrap().contains("16 obstacles"));
}
