//! The same population stepped on the processor and on the device.

use frolic_core::{Assets, BodyRow, Counter, Meter, ParticleSpec, Particles, World, WorldSpec};
use frolic_gpu::{Gpu, GpuParticles, Recorder};

/// Rows of both, by id; and what each counted: emitted, refused, retired, hits, picked, alive.
pub type Both = ([Vec<BodyRow>; 2], [[u64; 6]; 2]);

/// Both after some steps in a world that stays as it is.
pub fn both(gpu: &Gpu, spec: &ParticleSpec, world: &WorldSpec, steps: u32) -> Both {
    both_in(gpu, spec, world, &Assets::default(), steps, None)
}

/// What is done to a world before each step, by its number.
pub type Change<'a> = &'a dyn Fn(&mut World, u32);

/// Both after some steps in a world of assets that changes before each step, if so.
pub fn both_in(
    gpu: &Gpu,
    spec: &ParticleSpec,
    world: &WorldSpec,
    assets: &Assets,
    steps: u32,
    change: Option<Change<'_>>,
) -> Both {
    let built = world.build_with(assets).unwrap();
    let dt = 1.0 / 60.0;
    let mut meter = Meter::new();
    let mut here = Particles::with_assets(spec, 7, Default::default(), assets).unwrap();
    let mut recorder = Recorder::new(gpu);
    let mut there = GpuParticles::with_assets(gpu, spec, 7, assets).unwrap();
    meter.begin_frame();
    match change {
        None => {
            here.step(&built, dt, steps, &mut meter);
            there.step(&mut recorder, &built, dt, steps).unwrap();
        }
        Some(change) => {
            let mut world = built;
            for nth in 0..steps {
                change(&mut world, nth);
                here.step(&world, dt, 1, &mut meter);
                there.step(&mut recorder, &world, dt, 1).unwrap();
            }
        }
    }
    let frame = meter.end_frame();
    let counters = [Counter::Emitted, Counter::Refused, Counter::Retired, Counter::Hits, Counter::Picked];
    let mut counted = counters.map(|counter| frame.count(counter)).to_vec();
    counted.push(here.len() as u64);
    let mut rows = there.read(&mut recorder).unwrap();
    let statistics = there.statistics();
    assert_eq!(statistics.steps, u64::from(steps));
    assert_eq!(statistics.alive, rows.len() as u64);
    rows.sort_by_key(|row| row.id);
    let mut own: Vec<BodyRow> = (0..here.len()).filter_map(|nth| here.columns().row(nth)).collect();
    own.sort_by_key(|row| row.id);
    let read_at = [
        statistics.emitted,
        statistics.refused,
        statistics.retired,
        statistics.hits,
        statistics.picked,
        statistics.alive,
    ];
    ([own, rows], [counted.try_into().unwrap(), read_at])
}

/// The largest difference between attributes of two rows, of their own size or a unit.
pub fn off(a: &BodyRow, b: &BodyRow) -> f32 {
    let pairs = [
        (a.px, b.px),
        (a.py, b.py),
        (a.pz, b.pz),
        (a.vx, b.vx),
        (a.vy, b.vy),
        (a.vz, b.vz),
        (a.age, b.age),
        (a.life, b.life),
        (a.size, b.size),
    ];
    pairs.iter().map(|(a, b)| (a - b).abs() / a.abs().max(1.0)).fold(0.0, f32::max)
}

/// The same elements live, and all of their attributes agree.
pub fn agree(rows: &[Vec<BodyRow>; 2], tolerance: f32) {
    let [own, there] = rows;
    assert_eq!(own.len(), there.len());
    for (a, b) in own.iter().zip(there) {
        assert_eq!(a.id, b.id);
        assert!(off(a, b) <= tolerance, "{a:?} and {b:?}");
    }
}

/// Share of the elements of either that the other has within a tolerance. Who grazes an obstacle and who just passes by is decided by the
/// last bit, and ways part there.
pub fn alike(rows: &[Vec<BodyRow>; 2], tolerance: f32) -> f64 {
    let [own, there] = rows;
    let mut same = 0;
    let mut nth = 0;
    for a in own {
        while nth < there.len() && there[nth].id < a.id {
            nth += 1;
        }
        same += usize::from(there.get(nth).is_some_and(|b| b.id == a.id && off(a, b) <= tolerance));
    }
    same as f64 / own.len().max(there.len()).max(1) as f64
}
