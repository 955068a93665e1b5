//! Growth: skipped or not, it comes to the same; harvested, sown anew, ten million small.

use frolic_core::{
    AreaSpec, Counter, GrowSpec, Growing, HarvestSpec, Meter, On, PatternSpec, PlacementSpec, Region, Span,
    StackSpec,
};
use proptest::prelude::*;

fn beds(side: f32) -> GrowSpec {
    let patch = PlacementSpec::default().area(AreaSpec::new([0.0; 2], [0.9; 2]));
    let grid = PatternSpec::Grid { spacing: [1.0; 2], jitter: 0.0, turn_degrees: 0.0 };
    GrowSpec::new(patch, 50, PlacementSpec::new(On::Ground(grid)).area(AreaSpec::new([0.0; 2], [side; 2])))
        .seconds(2.0, 9.0)
}

fn sown(spec: &GrowSpec, count: u32) -> Growing {
    Growing::new(spec, count, Span::new(0.02, 0.04), 11).unwrap()
}

fn step(growing: &mut Growing, dt: f32, steps: u32) -> frolic_core::Frame {
    let mut meter = Meter::new();
    meter.begin_frame();
    growing.step(dt, steps, &mut meter);
    meter.end_frame()
}

fn all(growing: &Growing) -> Vec<Option<f32>> {
    (0..growing.len()).map(|nth| growing.growth(nth)).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Whatever is looked at and when, and however rarely the rest is stepped, growth is the same to the bit, and so is what is shown.
    #[test]
    fn skipping_changes_nothing(rotation in 1u32..200, looks in prop::collection::vec((-4f32..4.0, 1u32..60), 1..8), start in 0f32..1.0) {
        let mut spec = beds(8.0).start(0.0, start);
        spec.bare = 0.1;
        let mut plain = sown(&spec, 3000);
        spec.rotation = rotation;
        let mut skipping = sown(&spec, 3000);
        for (near, steps) in looks {
            skipping.update_visibility(|[x, _, z], radius| (x - near).hypot(z) < 1.5 + radius);
            step(&mut plain, 1.0 / 30.0, steps);
            step(&mut skipping, 1.0 / 30.0, steps);
            prop_assert_eq!(all(&plain), all(&skipping));
            let shown = skipping.show(&mut Meter::new()).clone();
            plain.update_visibility(|[x, _, z], radius| (x - near).hypot(z) < 1.5 + radius);
            prop_assert_eq!(plain.show(&mut Meter::new()), &shown);
            plain.update_visibility(|_, _| true);
        }
    }
}

#[test]
fn hidden_clusters_take_turns() {
    let mut spec = beds(20.0);
    spec.rotation = 10;
    let mut growing = sown(&spec, 20_000);
    growing.update_visibility(|[x, _, _], _| x < -9.0);
    let seen: u64 = growing.clusters().iter().filter(|it| it.visible).map(|it| u64::from(it.len)).sum();
    assert_eq!(seen, 20 * 50);
    let worked = step(&mut growing, 1.0 / 60.0, 10).count(Counter::Grown);
    // Each of the others once in ten steps.
    assert_eq!(worked, seen * 10 + (20_000 - seen));
}

#[test]
fn growth_ends_at_full_size_and_costs_nothing_more() {
    let mut growing = sown(&beds(4.0), 800);
    step(&mut growing, 1.0 / 30.0, 9 * 30 + 2);
    assert!(all(&growing).iter().all(|growth| growth.unwrap() > 0.9999));
    assert_eq!(step(&mut growing, 1.0 / 30.0, 5).count(Counter::Grown), 0);
    let shown = growing.show(&mut Meter::new());
    assert!(shown.growth().iter().all(|growth| *growth < 1.0));
    // Half of the fastest time: none is full, none a seed any more.
    let mut young = sown(&beds(4.0), 800);
    step(&mut young, 1.0 / 30.0, 30);
    assert!(all(&young).iter().all(|growth| (0.1..0.51).contains(&growth.unwrap())));
}

#[test]
fn regions_are_harvested_and_sown_anew() {
    let ball = Region::Sphere { position: [0.0; 3], radius: 1.6 };
    let mut growing = sown(&beds(8.0).start(0.5, 1.0), 3200);
    let inside = |growing: &mut Growing| {
        growing.update_visibility(|_, _| true);
        let shown = growing.show(&mut Meter::new());
        let near = |n: &usize| shown.px()[*n].hypot(shown.pz()[*n]) < 1.6;
        (0..shown.len()).filter(near).map(|n| shown.growth()[n]).collect::<Vec<f32>>()
    };
    let before = inside(&mut growing);
    assert!(before.len() > 200 && before.iter().all(|growth| *growth >= 0.49));
    // Only what is large enough.
    let large = before.iter().filter(|growth| **growth >= 0.75).count() as u64;
    assert_eq!(growing.harvest(&ball, 0.75, false), large);
    assert_eq!(inside(&mut growing).iter().filter(|growth| **growth < 0.0).count() as u64, large);
    assert_eq!(growing.replant(&ball), large);
    assert_eq!(growing.harvest(&ball, 0.75, false), 0);
    step(&mut growing, 1.0 / 30.0, 60);
    assert!(inside(&mut growing).iter().all(|growth| *growth > 0.1));
    assert_eq!(growing.harvest(&Region::Sphere { position: [1e5, 0.0, 0.0], radius: 1.0 }, 0.0, false), 0);
}

#[test]
fn harvests_come_when_they_are_due() {
    let all_of_it = Region::Box { position: [0.0; 3], size: [100.0; 3] };
    let spec = beds(4.0).start(1.0, 1.0).harvest(HarvestSpec::new(all_of_it, 0.5).every(1.0));
    let mut growing = sown(&spec, 800);
    let cut: Vec<u64> = (0..40).map(|_| step(&mut growing, 0.0625, 1).count(Counter::Harvested)).collect();
    let due: Vec<usize> = (0..40).filter(|&nth| cut[nth] > 0).collect();
    assert_eq!(due.len(), 2, "{due:?}");
    assert_eq!(due[1] - due[0], 16);
    assert_eq!(cut[due[0]], 800);
}

#[test]
fn stacks_stand_one_after_the_other() {
    let spec = beds(3.0).stack(StackSpec::new(4, [0.0, -2.0, 0.0]));
    let growing = sown(&spec, 9 * 4 * 50);
    assert_eq!(growing.clusters().len(), 36);
    for level in 0..4 {
        let there = growing.clusters().iter().filter(|it| it.place[1] == level as f32 * -2.0).count();
        assert_eq!(there, 9);
    }
    // Elements side by side in the columns, all of them.
    let mut next = 0;
    for cluster in growing.clusters() {
        assert_eq!(cluster.first, next);
        next += cluster.len;
    }
    assert_eq!(next as usize, growing.len());
}

#[test]
fn impossible_values_are_refused() {
    let wrong = |spec: &GrowSpec| Growing::new(spec, 10, Span::from(0.1), 1).unwrap_err().key;
    let mut spec = beds(3.0);
    spec.rotation = 0;
    assert_eq!(wrong(&spec), "rotation");
    assert_eq!(wrong(&beds(3.0).seconds(0.0, 1.0)), "seconds");
    let nowhere = Region::Sphere { position: [f32::NAN; 3], radius: 1.0 };
    assert!(wrong(&beds(3.0).harvest(HarvestSpec::new(nowhere, 0.0))).starts_with("harvest.0"));
    assert_eq!(sown(&beds(3.0), 0).len(), 0);
    assert_eq!(sown(&beds(3.0), 1).len(), 1);
    let mut still = sown(&beds(3.0), 100);
    assert_eq!(step(&mut still, f32::NAN, 3).count(Counter::Grown), 0);
}
