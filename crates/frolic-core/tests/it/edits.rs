//! Edits of running elements: what was meant changes and nothing else; what breaks a column is refused and leaves no trace.

use frolic_core::{
    BladeSpec, Blades, Column, Counter, EmitterSpec, EventSpec, Meter, Moment, Order, ParticleSpec,
    Particles, PlacementSpec, Region, Span, SpecError, Storage, TrailSpec, WorldSpec,
};
use proptest::prelude::*;

fn stream() -> ParticleSpec {
    ParticleSpec::new(3_000)
        .life(0.5, 2.0)
        .emitter(EmitterSpec::rate(900.0).speed(1.0, 5.0))
        .event(EventSpec::note(Moment::Death))
}

fn running(spec: &ParticleSpec, storage: Storage) -> Particles {
    let mut particles = Particles::with_storage(spec, 3, storage).unwrap();
    particles.step(&WorldSpec::default().build().unwrap(), 1.0 / 60.0, 60, &mut Meter::new());
    particles
}

fn meadow() -> Blades {
    let mut blades =
        Blades::new(&BladeSpec::new(PlacementSpec::default()), 2_000, Span::from(0.004), 1).unwrap();
    let world = WorldSpec::default().wind([3.0, 0.0, 0.0]).build().unwrap();
    blades.step(&world, 1.0 / 60.0, 30, &mut Meter::new());
    blades
}

#[test]
fn columns_are_found_by_name() {
    let particles = running(&stream(), Storage::Columns);
    let columns = particles.columns();
    assert_eq!(columns.column("vy"), Some(Column::Floats(columns.vy())));
    assert_eq!(columns.column("id"), Some(Column::Numbers(columns.id())));
    assert_eq!(columns.column("px").and_then(Column::floats).map(<[f32]>::len), Some(columns.len()));
    assert!(columns.column("speed").is_none() && columns.column("id").and_then(Column::floats).is_none());
    for name in frolic_core::BodyColumns::NAMES {
        assert!(columns.column(name).is_some(), "{name}");
    }
}

#[test]
fn the_killed_die_in_the_next_step() {
    for storage in [Storage::Columns, Storage::Objects] {
        let mut particles = running(&stream(), storage);
        let before: Vec<u32> = particles.columns().id().to_vec();
        let killed = particles
            .edit(|edit| {
                assert!(!edit.kill(edit.len()) && !edit.is_empty());
                Ok((0..edit.len()).step_by(3).filter(|nth| edit.kill(*nth)).count())
            })
            .unwrap();
        assert_eq!(particles.columns().id(), &before[..], "they keep their places until then");
        particles.step(&WorldSpec::default().build().unwrap(), 1e-4, 1, &mut Meter::new());
        let gone: Vec<u32> = before.iter().copied().step_by(3).collect();
        assert!(particles.columns().id().iter().all(|id| !gone.contains(id)));
        let told = particles.happened().iter().filter(|record| gone.contains(&record.element.id)).count();
        assert_eq!((told, killed), (gone.len(), gone.len()), "their deaths are events");
    }
}

/// A trail goes with its element: wrapped around a box, no segment crosses it.
#[test]
fn trails_go_with_their_elements() {
    let mut spec = stream();
    spec.trail = Some(TrailSpec::new(6, 0.05));
    let mut particles = running(&spec, Storage::Columns);
    let lengths = |particles: &Particles| -> Vec<f32> {
        let [x, y, z] = particles.columns().position();
        let [tx, ty, tz] = particles.trail().unwrap().place(3).unwrap();
        (0..x.len()).map(|n| (x[n] - tx[n]).hypot(y[n] - ty[n]).hypot(z[n] - tz[n])).collect()
    };
    let before = lengths(&particles);
    particles
        .edit(|edit| {
            let [x, z] = edit.floats(["px", "pz"])?;
            x.iter_mut().chain(z).for_each(|at| *at += 40.0);
            Ok(())
        })
        .unwrap();
    let after = lengths(&particles);
    assert!(before.iter().zip(&after).all(|(a, b)| (a - b).abs() < 1e-3));
}

/// What breaks a column, or an error of the program, leaves every bit as it was.
#[test]
fn broken_edits_change_nothing() {
    let mut particles = running(&stream(), Storage::Objects);
    let before = particles.columns().clone();
    let set = |particles: &mut Particles, column: &str, value: f32| {
        particles.edit(|edit| {
            let [column] = edit.floats([column])?;
            column[5] = value;
            Ok(())
        })
    };
    for (column, value) in [
        ("px", f32::NAN),
        ("py", f32::INFINITY),
        ("vz", -2e9),
        ("age", -1.0),
        ("size", -0.1),
        ("life", f32::NAN),
    ] {
        let problem = set(&mut particles, column, value).unwrap_err().to_string();
        assert!(
            problem.starts_with(&format!("{column}: element 5 has "))
                && problem.contains("nothing was changed"),
            "{problem}"
        );
        assert_eq!(particles.columns(), &before);
    }
    for (column, told) in
        [("speed", "is no column that can be changed so"), ("id", "ask once for: px, py, pz")]
    {
        assert!(set(&mut particles, column, 1.0).unwrap_err().to_string().contains(told));
    }
    let twice = particles.edit(|edit| edit.floats(["px", "px"]).map(|_| ())).unwrap_err();
    assert!(twice.to_string().contains("is asked for twice"), "{twice}");
    let own = particles.edit(|edit| -> Result<(), SpecError> {
        edit.floats(["px"])?[0].fill(7.0);
        Err(SpecError::new("mine", "went wrong", "try again"))
    });
    assert!(own.is_err());
    assert_eq!(particles.columns(), &before);
    // And it runs on, as if nothing had been.
    let mut still = running(&stream(), Storage::Objects);
    let world = WorldSpec::default().build().unwrap();
    for particles in [&mut particles, &mut still] {
        particles.step(&world, 1.0 / 60.0, 20, &mut Meter::new());
    }
    assert_eq!(particles.columns(), still.columns());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// An edit that changes nothing leaves no trace; one that moves all moves what follows by as much, in either storage, at rest or not.
    #[test]
    fn moved_elements_go_on_from_there(off in prop::array::uniform3(-8f32..8.0), any_order in any::<bool>(), steps in 1u32..20) {
        let mut spec = stream();
        spec.order = if any_order { Order::Any } else { Order::Birth };
        spec.emitter.clear();
        spec = spec.emitter(EmitterSpec::burst(500, 0.0).speed(1.0, 5.0));
        let world = WorldSpec::default().build().unwrap();
        let run = |storage: Storage, off: [f32; 3]| {
            let mut particles = running(&spec, storage);
            particles
                .edit(|edit| {
                    for (axis, off) in edit.floats(["px", "py", "pz"])?.into_iter().zip(off) {
                        axis.iter_mut().for_each(|at| *at += off);
                    }
                    Ok(())
                })
                .unwrap();
            particles.step(&world, 1.0 / 60.0, steps, &mut Meter::new());
            particles
        };
        let mut plain = running(&spec, Storage::Columns);
        plain.step(&world, 1.0 / 60.0, steps, &mut Meter::new());
        let untouched = run(Storage::Columns, [0.0; 3]);
        prop_assert_eq!(untouched.columns(), plain.columns());
        let (moved, objects) = (run(Storage::Columns, off), run(Storage::Objects, off));
        prop_assert_eq!(moved.columns(), objects.columns());
        for (axis, off) in moved.columns().position().into_iter().zip(plain.columns().position()).zip(off) {
            for (a, b) in axis.0.iter().zip(axis.1) {
                prop_assert!((a - b - off).abs() < 1e-3, "{a} for {b} and {off}");
            }
        }
    }
}

#[test]
fn blades_are_mown_dyed_and_torn() {
    let mut blades = meadow();
    let (count, roots) = (blades.len(), blades.columns().px().to_vec());
    let highest = |blades: &Blades| blades.chunks().iter().map(|chunk| chunk.high[1]).fold(0.0, f32::max);
    let was = highest(&blades);
    blades
        .edit(|edit| {
            let [length, tint] = edit.floats(["length", "tint"])?;
            length.iter_mut().for_each(|length| *length = length.min(0.1));
            tint.fill(0.25);
            edit.kill(0);
            edit.kill(7);
            Ok(())
        })
        .unwrap();
    assert_eq!(blades.len(), count - 2);
    assert_eq!(blades.columns().px(), &roots[..]);
    assert!(blades.columns().tint().iter().all(|tint| *tint == 0.25));
    assert!(highest(&blades) < was && highest(&blades) < 0.2, "squares are as high as their blades");
    let set = |blades: &mut Blades, column: &str, value: f32| {
        blades.edit(|edit| {
            edit.floats([column])?[0][3] = value;
            Ok(())
        })
    };
    let told = set(&mut blades, "px", 1.0).unwrap_err().to_string();
    assert!(told.contains("px: is no column") && told.contains("lean_x"), "{told}");
    assert!(set(&mut blades, "tint", 1.5).is_err());

    let region = Region::Box { position: [0.0; 3], size: [2.0, 2.0, 2.0] };
    let within = |n: &usize| blades.columns().px()[*n].abs() < 1.0 && blades.columns().pz()[*n].abs() < 1.0;
    let there: Vec<usize> =
        (0..roots.len()).filter(within).filter(|n| blades.columns().length()[*n] > 0.0).collect();
    assert!(!there.is_empty());
    assert_eq!(blades.tear_off(&region), there.len() as u64);
    assert!(there.iter().all(|n| blades.columns().length()[*n] < 0.02));
    assert_eq!(blades.tear_off(&region), 0, "once torn, it stays");
    let mut meter = Meter::new();
    meter.begin_frame();
    blades.step(&WorldSpec::default().build().unwrap(), 1.0 / 60.0, 1, &mut meter);
    assert_eq!(blades.torn().len(), there.len());
    assert_eq!(meter.end_frame().count(Counter::Alive), (count - 2) as u64);
    blades.step(&WorldSpec::default().build().unwrap(), 1.0 / 60.0, 1, &mut meter);
    assert!(blades.torn().is_empty());
}
