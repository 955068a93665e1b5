//! The number of blades changes while they stand: what stood stays, and what went comes back.

use std::collections::{BTreeMap, BTreeSet};

use frolic_core::{
    AreaSpec, AroundSpec, BladeColumns, BladeRow, BladeSpec, Blades, Change, ClumpSpec, EachSpec, GroupSpec,
    Meter, On, PatternSpec, PlacementSpec, Region, Span, WorldSpec,
};
use proptest::prelude::*;

use crate::common::with;

const WIDTH: f32 = 0.004;

fn build(spec: &BladeSpec, count: u32) -> Blades {
    Blades::new(spec, count, Span::from(WIDTH), 5).unwrap()
}

/// Squares of 2 m; blades of three kinds.
fn meadow() -> BladeSpec {
    let pattern = On::Ground(PatternSpec::BlueNoise { distance: 0.0 });
    let kinds = with(EachSpec::default(), |each| each.kinds = vec![1.0, 2.0, 1.0]);
    BladeSpec::new(PlacementSpec::new(pattern).each(kinds)).chunk(2.0)
}

fn step(blades: &mut Blades, steps: u32) {
    let world = WorldSpec::default().wind([4.0, 0.0, 1.0]).gusts(1.0, 2.0).build().unwrap();
    blades.step(&world, 1.0 / 60.0, steps, &mut Meter::new());
}

fn set(blades: &mut Blades, count: u32) {
    let spec = blades.spec().clone();
    assert_eq!(blades.retune(&spec, count, Span::from(WIDTH)).unwrap(), Change::Live);
}

/// Number and root of a blade: two may have one number.
type Key = (u32, [u32; 2]);

fn key(row: &BladeRow) -> Key {
    (row.id, [row.px.to_bits(), row.pz.to_bits()])
}

/// All blades by their keys.
fn rows(blades: &Blades) -> BTreeMap<Key, BladeRow> {
    let columns = blades.columns();
    (0..columns.len())
        .filter_map(|nth| columns.row(nth))
        .filter(|row| row.length > 0.0)
        .map(|row| (key(&row), row))
        .collect()
}

/// Squares hold every blade once, on their ground, and their kinds come in order.
fn check_squares(blades: &Blades) {
    let columns = blades.columns();
    let mut seen = BTreeSet::new();
    for chunk in blades.chunks() {
        for kind in 0..3 {
            let (first, count) = chunk.of_kind(kind);
            for nth in first as usize..(first + count) as usize {
                let row = columns.row(nth).unwrap();
                assert_eq!((row.kind & !BladeColumns::TORN) as usize, kind);
                assert_eq!([row.px, row.pz].map(|at| (at / 2.0).floor() as i32), chunk.cell);
                assert!(chunk.low[0] <= row.px && chunk.high[1] >= row.py + row.length);
                assert!(seen.insert(key(&row)), "{row:?} is there twice");
            }
        }
    }
    assert_eq!(seen.len(), blades.len());
    assert_eq!(seen.len(), rows(blades).len());
}

#[test]
fn the_first_of_a_larger_count_are_those_that_stood() {
    let mut blades = build(&meadow(), 100_000);
    step(&mut blades, 30);
    let before = blades.columns().clone();
    set(&mut blades, 120_000);
    assert_eq!(blades.len(), 120_000);
    for nth in 0..100_000 {
        assert_eq!(blades.columns().row(nth), before.row(nth));
    }
    check_squares(&blades);
    // New ones lean with the wind from the first step on, among the others.
    let mut old = build(&meadow(), 100_000);
    step(&mut old, 30);
    step(&mut old, 1);
    step(&mut blades, 1);
    for nth in 0..100_000 {
        assert_eq!(blades.columns().row(nth), old.columns().row(nth));
    }
    let lean = |range: std::ops::Range<usize>| {
        let columns = blades.columns();
        range.clone().map(|nth| columns.lean_x()[nth] - columns.rest_x()[nth]).sum::<f32>()
            / range.len() as f32
    };
    let (stood, new) = (lean(0..100_000), lean(100_000..120_000));
    assert!(stood > 0.1 && (new / stood - 1.0).abs() < 0.3, "{stood} {new}");
}

#[test]
fn a_smaller_count_thins_evenly_and_the_same_come_back() {
    let mut blades = build(&meadow(), 20_000);
    step(&mut blades, 20);
    let before = rows(&blades);
    set(&mut blades, 8_000);
    let thin = rows(&blades);
    assert_eq!((blades.len(), thin.len()), (8_000, 8_000));
    assert!(thin.iter().all(|(id, row)| before[id] == *row), "those that stay are as they were");
    // Each quarter of the ground keeps its share.
    let quarter = |rows: &BTreeMap<Key, BladeRow>| {
        rows.values().filter(|row| row.px < 0.0 && row.pz < 0.0).count() as f32 / rows.len() as f32
    };
    assert!((quarter(&thin) - quarter(&before)).abs() < 0.02);
    check_squares(&blades);
    let bytes = blades.bytes();
    set(&mut blades, 20_000);
    assert!(bytes < blades.bytes() / 2, "hidden blades take no memory");
    let again = rows(&blades);
    assert!(again.keys().eq(before.keys()));
    for (id, row) in &again {
        let was = &before[id];
        assert_eq!([row.px, row.pz, row.length, row.tint], [was.px, was.pz, was.length, was.tint]);
        assert!((row.lean_x - was.lean_x).abs() < 0.5);
    }
    check_squares(&blades);
    assert_eq!(build(&meadow(), 20_000).len(), blades.len());
}

#[test]
fn edits_and_torn_blades_survive_a_count() {
    let mut blades = build(&meadow(), 5_000);
    blades
        .edit(|edit| {
            (0..50).for_each(|nth| assert!(edit.kill(nth)));
            edit.floats(["tint"])?[0].fill(0.25);
            Ok(())
        })
        .unwrap();
    let torn = blades.tear_off(&Region::Sphere { position: [0.0; 3], radius: 1.5 });
    assert!(torn > 20);
    let before = rows(&blades);
    set(&mut blades, 6_000);
    let after = rows(&blades);
    assert_eq!(after.len(), 4_950 + 1_000);
    assert!(before.iter().all(|(id, row)| after[id] == *row));
    set(&mut blades, 5_000);
    assert!(rows(&blades) == before);
}

#[test]
fn counts_that_cannot_change_are_refused() {
    let width = Span::from(WIDTH);
    let grouped = meadow().groups(GroupSpec::new(3, 4).beyond(4.0));
    let dense = |density| BladeSpec::new(PlacementSpec::default().density(density));
    for (spec, other) in
        [(grouped.clone(), grouped), (dense(20.0), dense(20.0)), (meadow(), meadow().chunk(3.0))]
    {
        let mut blades = build(&spec, 1_500);
        let before = blades.save();
        assert!(!blades.can_retune(&other, 2_000));
        let error = blades.retune(&other, 2_000, width).unwrap_err();
        assert!(error.to_string().contains("build new blades"), "{error}");
        assert!(blades.save() == before);
    }
    // More than there is memory or ground for: building them says so.
    let crowded = with(meadow(), |spec| spec.placement[0].area.size = [0.02, 0.02]);
    for (spec, most) in [(meadow(), u32::MAX), (crowded, 100_000)] {
        let mut blades = build(&spec, 15);
        assert!(!blades.can_retune(&spec, most));
        assert!(blades.retune(&spec, most, width).is_err());
        assert_eq!((blades.len(), blades.count()), (15, 15));
        assert!(Blades::new(&spec, most, width, 1).is_err());
    }
}

/// Endless ground: present squares and those that appear later hold the same blades, whichever way the count and the centre went.
#[test]
fn endless_ground_takes_counts_and_densities() {
    let spec = meadow().endless(AroundSpec::new(12.0));
    let ids = |blades: &Blades| rows(blades).into_keys().collect::<Vec<_>>();
    let walk = |blades: &mut Blades, to: f32| {
        while blades.recentre([to, 0.0]) {}
    };
    let mut blades = build(&spec, 6_000);
    step(&mut blades, 10);
    let before = rows(&blades);
    set(&mut blades, 9_000);
    let more = rows(&blades);
    assert!(before.iter().all(|(id, row)| more[id] == *row));
    let share = more.len() as f32 / before.len() as f32;
    assert!((share - 1.5).abs() < 0.05, "{share}");
    check_squares(&blades);
    // Away and back, at another count in between.
    let here = ids(&blades);
    walk(&mut blades, 80.0);
    set(&mut blades, 3_000);
    check_squares(&blades);
    let thin = blades.len() as f32;
    assert!((thin / before.len() as f32 - 0.5).abs() < 0.08, "{thin}");
    walk(&mut blades, 0.0);
    set(&mut blades, 9_000);
    assert_eq!(ids(&blades), here);
    check_squares(&blades);
    // A density does the same.
    let dense = |density| {
        meadow().endless(AroundSpec::new(12.0)).placement([PlacementSpec::default().density(density)])
    };
    let mut blades = build(&dense(10.0), 5_000);
    let before = rows(&blades);
    assert_eq!(blades.retune(&dense(15.0), 5_000, Span::from(WIDTH)).unwrap(), Change::Live);
    let more = rows(&blades);
    assert!(before.iter().all(|(id, row)| more[id] == *row));
    assert!((more.len() as f32 / before.len() as f32 - 1.5).abs() < 0.08);
}

/// Clumps, and what each blade is given, change while blades stand: each stays where it is, and goes on moving.
#[test]
fn clumps_change_while_blades_stand() {
    let clumped = |clumps: ClumpSpec| {
        let mut spec = meadow();
        spec.placement[0].clumps = Some(clumps);
        spec
    };
    let spec = clumped(ClumpSpec::new(0.7));
    let mut clumps = ClumpSpec::new(1.4).facing(0.9);
    clumps.size = Span::new(0.4, 1.9);
    let other = clumped(clumps);
    let ids = |blades: &Blades| rows(blades).into_keys().collect::<Vec<_>>();
    for endless in [false, true] {
        let around = |spec: &BladeSpec| {
            if endless { spec.clone().endless(AroundSpec::new(10.0)) } else { spec.clone() }
        };
        let mut blades = build(&around(&spec), 3_000);
        set(&mut blades, 3_600);
        blades.recentre([6.0, 1.0]);
        step(&mut blades, 30);
        let before = rows(&blades);
        let time = blades.time();
        assert_eq!(blades.retune(&around(&other), 3_600, Span::from(WIDTH)).unwrap(), Change::Live);
        let after = rows(&blades);
        assert!(before.keys().eq(after.keys()), "all stand where they stood");
        let off = |row: &BladeRow| [row.lean_x - row.rest_x, row.lean_z - row.rest_z];
        for (id, row) in &after {
            let was = &before[id];
            assert!(off(row).iter().zip(off(was)).all(|(now, was)| (now - was).abs() < 1e-5));
            assert_eq!((row.rate_x, row.rate_z), (was.rate_x, was.rate_z));
        }
        let changed = after.iter().filter(|(id, row)| (row.length / before[*id].length - 1.0).abs() > 0.05);
        assert!(changed.count() > 1_000);
        assert_eq!(blades.time(), time);
        check_squares(&blades);
        // What a fresh meadow of that spec has, in the blades that both have.
        let fresh = rows(&build(&around(&other), 3_000));
        let shared: Vec<_> = fresh.iter().filter_map(|(id, row)| Some((row, after.get(id)?))).collect();
        assert!(shared.len() > 2_000);
        assert!(shared.iter().all(|(fresh, row)| fresh.length == row.length && fresh.tint == row.tint));
        set(&mut blades, 3_000);
        set(&mut blades, 3_600);
        assert_eq!(ids(&blades), after.keys().copied().collect::<Vec<_>>());
    }
    let mut thinned = ClumpSpec::new(0.7);
    thinned.thin = 0.5;
    assert!(!build(&spec, 500).can_retune(&clumped(thinned), 500), "blades would stand elsewhere");
    // Groups take it too: their layouts are made anew.
    let mut grouped = build(&spec.clone().groups(GroupSpec::new(2, 3).beyond(4.0)), 3_000);
    let before = ids(&grouped);
    grouped.retune(&other.groups(GroupSpec::new(2, 3).beyond(4.0)), 3_000, Span::from(WIDTH)).unwrap();
    assert_eq!(ids(&grouped), before);
}

/// A density on finite ground, up to its count.
#[test]
fn finite_ground_takes_densities() {
    let dense = |density: f32| {
        let layer = PlacementSpec::default().area(AreaSpec::new([0.0; 2], [20.0; 2]));
        BladeSpec::new(layer.density(density)).chunk(2.0)
    };
    let set = |blades: &mut Blades, density: f32| {
        assert_eq!(blades.retune(&dense(density), 9_000, Span::from(WIDTH)).unwrap(), Change::Live);
        check_squares(blades);
        rows(blades)
    };
    let mut blades = build(&dense(10.0), 9_000);
    step(&mut blades, 10);
    let before = rows(&blades);
    assert!((before.len() as f32 / 4_000.0 - 1.0).abs() < 0.05);
    let more = set(&mut blades, 15.0);
    assert!(before.iter().all(|(id, row)| more[id] == *row));
    assert!((more.len() as f32 / 6_000.0 - 1.0).abs() < 0.05, "{}", more.len());
    let fewer = set(&mut blades, 5.0);
    assert!(fewer.iter().all(|(id, row)| before[id] == *row));
    assert!((fewer.len() as f32 / 2_000.0 - 1.0).abs() < 0.08, "{}", fewer.len());
    assert!(set(&mut blades, 10.0).keys().eq(before.keys()));
    assert!(set(&mut blades, 15.0).keys().eq(more.keys()));
    let mut restored = build(&dense(15.0), 9_000);
    restored.restore(&blades.save()).unwrap();
    assert!(set(&mut restored, 10.0).keys().eq(before.keys()));
    // No more than the count, from hidden blades too.
    set(&mut blades, 5.0);
    assert_eq!(set(&mut blades, 60.0).len(), 9_000);
    // Without blades there is nothing to hide, and more can come.
    let mut none = build(&meadow(), 0);
    let saved = none.save();
    none.restore(&saved).unwrap();
    none.retune(&meadow(), 50, Span::from(WIDTH)).unwrap();
    assert_eq!(none.len(), 50);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(6))]

    /// Any way of counts: as many as asked for, those that stay as they were, and a saved state continues alike.
    #[test]
    fn any_way_of_counts(counts in prop::collection::vec(200u32..4_000, 1..9), endless in any::<bool>()) {
        let spec = if endless { meadow().endless(AroundSpec::new(10.0)) } else { meadow() };
        let mut blades = build(&spec, 2_000);
        let mut last = 2_000;
        for &count in counts.iter().filter(|count| **count != 2_000) {
            if count == last {
                continue;
            }
            let before = rows(&blades);
            set(&mut blades, count);
            let after = rows(&blades);
            if !endless {
                prop_assert_eq!(blades.len(), count as usize);
            }
            let (fewer, more) = if count > last { (&before, &after) } else { (&after, &before) };
            prop_assert!(fewer.iter().all(|(id, row)| more.get(id) == Some(row)));
            check_squares(&blades);
            step(&mut blades, 1);
            last = count;
        }
        let mut restored = build(&spec, last);
        restored.restore(&blades.save()).unwrap();
        prop_assert!(restored.save() == blades.save());
        for count in [last + 500, last - 100, 3_000] {
            for blades in [&mut blades, &mut restored] {
                set(blades, count);
                blades.recentre([9.0, 0.0]);
                step(blades, 2);
            }
            prop_assert!(restored.save() == blades.save());
        }
    }
}
