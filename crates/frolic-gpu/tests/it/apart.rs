//! Bodies that keep apart on the device, against the same on the processor: places for short times, piles for long ones.

use frolic_core::backend::why_not_on_device;
use frolic_core::{
    ApartSpec, Assets, BodyRow, Counter, EmitterSpec, Flock, FlockSpec, KeepTo, Meter, ObstacleSpec,
    ParticleSpec, ShapeSpec, Space, Span, WorldSpec,
};
use frolic_gpu::{GpuFlockSpec, GpuFlocks, GpuParticles, Recorder};

use crate::common::gpu;
use crate::common::stepped::both;

/// Pebbles that fall into a tray: a burst in a cube.
fn pebbles(count: u32, apart: ApartSpec) -> (ParticleSpec, WorldSpec) {
    let burst = EmitterSpec::burst(count, 0.0).position([0.0, 1.6, 0.0]);
    let mut spec = ParticleSpec::new(count).emitter(burst.shape(ShapeSpec::Box { size: [1.0, 2.0, 1.0] }));
    spec.life = Span::from(1e5);
    (spec.size, spec.apart) = (Span::new(0.05, 0.1), Some(apart));
    spec.motion.weight = 1.0;
    let walls = [[1.0, 0.0, 0.0], [-1.0, 0.0, 0.0], [0.0, 0.0, 1.0], [0.0, 0.0, -1.0]];
    let floor =
        WorldSpec::default().obstacle(ObstacleSpec::plane([0.0; 3], [0.0, 1.0, 0.0]).bounce(0.1, 0.3));
    let tray = walls.into_iter().fold(floor, |world, normal| {
        let at = normal.map(|axis: f32| -0.8 * axis);
        world.obstacle(ObstacleSpec::plane(at, normal).bounce(0.1, 0.3))
    });
    (spec, tray)
}

fn speed(row: &BodyRow) -> f32 {
    (row.vx * row.vx + row.vy * row.vy + row.vz * row.vz).sqrt()
}

/// Mean overlap of those that overlap, over the sum of their radii.
fn overlap(rows: &[BodyRow]) -> f32 {
    let (mut sum, mut count) = (0.0, 0);
    for (nth, a) in rows.iter().enumerate() {
        for b in &rows[..nth] {
            let off = [a.px - b.px, a.py - b.py, a.pz - b.pz];
            let (far, reach) = (off.iter().map(|axis| axis * axis).sum::<f32>().sqrt(), a.size + b.size);
            if far < reach {
                (sum, count) = (sum + 1.0 - far / reach, count + 1);
            }
        }
    }
    sum / count.max(1) as f32
}

/// For short times every body is where it is on the processor; a pile comes to rest as high, sleeps, and overlaps no more.
#[test]
fn piles_are_as_on_the_processor() {
    let (spec, world) = pebbles(400, ApartSpec::default());
    assert_eq!(why_not_on_device(&spec, &world.build().unwrap(), &Assets::default()), None);
    let ([here, there], _) = both(&gpu(), &spec, &world, 12);
    assert_eq!(here.len(), there.len());
    for (a, b) in here.iter().zip(&there) {
        let off = [a.px - b.px, a.py - b.py, a.pz - b.pz].iter().map(|axis| axis * axis).sum::<f32>().sqrt();
        assert!(a.id == b.id && off < 5e-3, "{off} m apart: {a:?} {b:?}");
    }
    let ([here, there], _) = both(&gpu(), &spec, &world, 500);
    let mean =
        |rows: &[BodyRow], of: fn(&BodyRow) -> f32| rows.iter().map(of).sum::<f32>() / rows.len() as f32;
    let (high, low) = (mean(&here, |row| row.py), mean(&there, |row| row.py));
    assert!((high / low - 1.0).abs() < 0.05, "{high} {low}");
    assert!(mean(&there, speed) < 0.05, "{} m/s", mean(&there, speed));
    let (own, theirs) = (overlap(&here), overlap(&there));
    assert!(theirs < own * 1.2 + 0.01, "{own} {theirs}");
    for row in &there {
        assert!(row.py > 0.5 * row.size && row.px.abs() < 0.8 && row.pz.abs() < 0.8, "{row:?}");
    }
}

/// A run repeats to the bit, and counts: pairs, and those that sleep.
#[test]
fn pushing_repeats_and_is_counted() {
    let (spec, world) = pebbles(300, ApartSpec::default().rounds(3));
    let world = world.build().unwrap();
    let run = |groups: &[u32]| {
        let mut recorder = Recorder::new(&gpu());
        let mut particles = GpuParticles::new(&gpu(), &spec, 5).unwrap();
        for steps in groups {
            particles.step(&mut recorder, &world, 1.0 / 60.0, *steps).unwrap();
            recorder.submit();
        }
        let mut rows = particles.read(&mut recorder).unwrap();
        rows.sort_by_key(|row| row.id);
        (rows, *particles.statistics())
    };
    let (once, counted) = run(&[300]);
    let (again, _) = run(&[1, 100, 64, 135]);
    assert_eq!(once, again);
    assert!(counted.pairs_near > 1000 && counted.pairs_tested > counted.pairs_near, "{counted:?}");
    assert!(counted.asleep > 100, "{counted:?}");
    // Other values of it are taken over while they lie there; without it they are a new population.
    let mut particles = GpuParticles::new(&gpu(), &spec, 5).unwrap();
    let mut other = spec.clone();
    other.apart = Some(ApartSpec::default().rounds(9).radius(0.5));
    assert!(particles.can_retune(&other));
    particles.retune(&other, &Assets::default()).unwrap();
    other.apart = None;
    assert!(!particles.can_retune(&other));
}

/// Discs of a flock jam in a plane, and stay in it and in their box.
#[test]
fn discs_of_a_flock_jam() {
    let mut spec =
        FlockSpec::default().within(Space::Box { position: [0.0, 2.0, 0.0], size: [2.2, 1.0, 2.2] });
    (spec.keep_to, spec.position) = (Some(KeepTo::Flat), [0.0, 2.0, 0.0]);
    spec.start = ShapeSpec::Box { size: [2.0, 0.0, 2.0] };
    spec.most = 1_000_000;
    let (world, assets) = (WorldSpec::default().build().unwrap(), Assets::default());
    let apart = ApartSpec::default().rounds(8).mass_power(2.0);
    let size = Span::from(0.05);
    let mut flocks = GpuFlocks::new(&gpu());
    flocks.add("discs", &GpuFlockSpec::new(&spec, 350, size, 3).apart(Some(apart)), &assets).unwrap();
    flocks.link().unwrap();
    let mut recorder = Recorder::new(&gpu());
    let mut here = Flock::new(&spec, 350, size, 3).unwrap().with_apart(&apart).unwrap();
    let mut meter = Meter::new();
    for (steps, most) in [(3, 2e-3), (60, f32::INFINITY)] {
        flocks.step(&mut recorder, &world, 1.0 / 30.0, steps).unwrap();
        meter.begin_frame();
        for _ in 0..steps {
            here.step(&world, &[], 1.0 / 30.0, &mut meter).unwrap();
        }
        assert!(meter.end_frame().count(Counter::PairsNear) > 0);
        let mut there: Vec<BodyRow> =
            flocks.read(&mut recorder, 0).unwrap().iter().map(|element| element.body).collect();
        there.sort_by_key(|row| row.id);
        let mut own: Vec<BodyRow> = (0..here.len()).filter_map(|nth| here.columns().row(nth)).collect();
        own.sort_by_key(|row| row.id);
        for (a, b) in own.iter().zip(&there) {
            let off = ((a.px - b.px).powi(2) + (a.pz - b.pz).powi(2)).sqrt();
            assert!(a.id == b.id && off < most, "{off} m apart after {steps} steps");
            assert!(b.py == 2.0 && b.px.abs() < 1.1001 && b.pz.abs() < 1.1001, "{b:?}");
        }
        let (deep, too) = (overlap(&own), overlap(&there));
        assert!(too < deep * 1.3 + 0.01, "{deep} {too}");
    }
}
