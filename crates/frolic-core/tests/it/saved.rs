//! State that is saved and restored: the same bits from then on, and nothing of another spec.

use frolic_core::{
    AroundSpec, BladeSpec, Blades, FrameBudget, FrameBudgetSpec, GroupSpec, GrowSpec, Growing, Meter,
    ParticleSpec, Particles, PlacementSpec, QualitySetting, Region, SavedState, Span, SpecError, Storage,
    TrailSpec, World, WorldSpec,
};
use proptest::prelude::*;
use std::time::Duration;

use crate::common::assets;
use crate::same_results::full_scenes;

const DT: f32 = 1.0 / 60.0;

/// The state as a file has it.
fn through_bytes(state: &SavedState) -> SavedState {
    SavedState::from_bytes(&state.to_bytes().unwrap()).unwrap()
}

/// A built world with a gusty wind that has changed.
fn changed(world: &World) -> World {
    let mut world = world.clone();
    let spec = world.spec().clone().wind([1.0, 0.0, 4.0]);
    world.retune_with(&spec, 0.3, &assets()).unwrap();
    world
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(32))]

    /// Particles with all fields, obstacles, events and collectors.
    #[test]
    fn particles_continue_with_the_same_bits(
        (mut spec, world, seed) in full_scenes(),
        objects in any::<bool>(),
        trail in any::<bool>(),
        before in 1u32..40,
        after in 1u32..30,
    ) {
        let storage = if objects { Storage::Objects } else { Storage::Columns };
        spec.trail = trail.then(|| TrailSpec::new(5, 0.04));
        let (world, mut meter) = (changed(&world), Meter::new());
        let build = || Particles::with_assets(&spec, seed, storage, &assets()).unwrap();
        let mut particles = build();
        particles.step(&world, DT, before, &mut meter);
        particles.thin(0.6);
        particles.burst(0, 3);
        particles.take_on([([0.0; 3], [1.0, 2.0, 0.0])], &mut meter);
        let saved = through_bytes(&particles.save());
        let (mut restored, mut copy) = (build(), particles.clone());
        restored.step(&world, DT, 3, &mut meter);
        restored.restore(&saved).unwrap();
        prop_assert_eq!(restored.save(), saved);
        let mut same_world = world.clone();
        same_world.restore(&through_bytes(&world.save())).unwrap();
        particles.step(&world, DT, after, &mut meter);
        restored.step(&same_world, DT, after, &mut meter);
        copy.step(&world, DT, after, &mut meter);
        prop_assert_eq!(restored.save(), particles.save());
        prop_assert_eq!(copy.save(), particles.save());
        prop_assert_eq!(restored.happened(), particles.happened());
    }

    /// Blades on finite and on endless ground, one by one and in groups, torn and pressed.
    #[test]
    fn blades_continue_with_the_same_bits(
        endless in any::<bool>(),
        groups in any::<bool>(),
        before in 1u32..30,
        after in 1u32..30,
        x in -20f32..20.0,
    ) {
        let mut spec = BladeSpec::new(PlacementSpec::default()).chunk(2.0);
        if endless {
            spec = spec.endless(AroundSpec::new(14.0));
        }
        if groups {
            spec = spec.groups(GroupSpec::new(3, 4).beyond(4.0));
        }
        let world = WorldSpec::default().wind([3.0, 0.0, 1.0]).gusts(2.0, 1.0).build().unwrap();
        let build = || Blades::new(&spec, 3_000, Span::from(0.004), 9).unwrap();
        let go = |blades: &mut Blades, steps: u32| {
            for step in 0..steps {
                let eye = [x * step as f32 * 0.05, 1.0, 0.0];
                blades.recentre([eye[0], eye[2]]);
                blades.update_visibility(eye, |low, _| low[2] < 3.0);
                blades.step(&world, DT, 1, &mut Meter::new());
            }
        };
        let mut blades = build();
        blades.group(groups);
        go(&mut blades, before);
        blades.tear_off(&Region::Sphere { position: [0.0; 3], radius: 2.0 });
        let longer = with_length(&spec, 1.3);
        blades.retune(&longer, 3_000, Span::from(0.005)).unwrap();
        let saved = through_bytes(&blades.save());
        let mut restored = Blades::new(&longer, 3_000, Span::from(0.005), 9).unwrap();
        restored.restore(&saved).unwrap();
        prop_assert_eq!(restored.save(), saved);
        let mut copy = blades.clone();
        for blades in [&mut blades, &mut restored, &mut copy] {
            go(blades, after);
        }
        prop_assert_eq!(restored.save(), blades.save());
        prop_assert_eq!(copy.save(), blades.save());
    }
}

fn with_length(spec: &BladeSpec, factor: f32) -> BladeSpec {
    let length = Span::new(spec.length.min * factor, spec.length.max * factor);
    let mut spec = spec.clone();
    spec.length = length;
    spec
}

#[test]
fn a_frame_budget_keeps_its_settings() {
    let spec = FrameBudgetSpec::new(0.010);
    let mut budget = FrameBudget::new(&spec).unwrap();
    for _ in 0..40 {
        budget.after(Duration::from_millis(19));
    }
    assert!(budget.share(QualitySetting::Detail) < 1.0);
    let mut restored = FrameBudget::new(&spec).unwrap();
    restored.restore(&through_bytes(&budget.save())).unwrap();
    for millis in [19, 18, 9, 9, 9, 4].into_iter().cycle().take(300) {
        let frame = Duration::from_millis(millis);
        assert_eq!(budget.after(frame), restored.after(frame));
    }
    assert_eq!(budget.save(), restored.save());
}

/// The key of the error that a state gives.
fn refused(result: Result<(), SpecError>) -> String {
    let error = result.unwrap_err();
    assert!(error.instead.contains("same scene"), "{error}");
    error.key
}

#[test]
fn states_of_other_specs_are_refused() {
    let spec = ParticleSpec::new(100);
    let mut dust = Particles::new(&spec, 1).unwrap();
    let before = dust.save();
    let emitter = frolic_core::EmitterSpec::rate(5.0);
    let other = Particles::new(&spec.clone().emitter(emitter), 1).unwrap();
    assert_eq!(refused(dust.restore(&other.save())), "emitters.each");
    let mut trailing = spec.clone();
    trailing.trail = Some(TrailSpec::new(3, 0.1));
    let mut trailing = Particles::new(&trailing, 1).unwrap();
    assert_eq!(refused(trailing.restore(&before)), "trail");
    let mut short = before.clone();
    short.put("newborn", &5usize);
    assert_eq!(refused(dust.restore(&short)), "newborn");
    assert_eq!(dust.save(), before);

    let grow = GrowSpec::new(PlacementSpec::default(), 100, PlacementSpec::default());
    let mut beds = Growing::new(&grow, 1_000, Span::from(0.1), 3).unwrap();
    let more = Growing::new(&grow, 1_200, Span::from(0.1), 3).unwrap();
    assert_eq!(refused(beds.restore(&more.save())), "growth");

    let meadow = BladeSpec::new(PlacementSpec::default());
    let mut meadow = Blades::new(&meadow, 200, Span::from(0.004), 1).unwrap();
    let mut state = meadow.save();
    let mut columns = state.part("columns").unwrap().clone();
    columns.put_floats("py", &[0.0]);
    state.put_part("columns", columns);
    assert_eq!(refused(meadow.restore(&state)), "columns.py");
    assert_eq!(refused(meadow.restore(&SavedState::default())), "columns");

    let mut state = SavedState::default();
    state.put("time", "noon");
    assert!(state.value::<f64>("time").is_err() && state.floats("time").is_err());
    assert!(state.part("time").is_err() && state.numbers("date").is_err());
    assert_eq!(state.keys().collect::<Vec<_>>(), ["time"]);
}
