//! Bodies that keep apart: overlaps go, energy does not grow, piles come to rest, and results are the same everywhere.

use frolic_core::neighbours::NeighbourTechnique;
use frolic_core::random::{hash3, unit};
use frolic_core::simd::levels;
use frolic_core::{
    ApartSpec, BodyColumns, BodyRow, Counter, EmitterSpec, Integrator, KeepTo, Meter, MotionSpec,
    ObstacleSpec, ParticleSpec, Particles, PushApart, ShapeSpec, Stage, Storage, Threads, World, WorldSpec,
};
use proptest::prelude::*;

const STEP: f32 = 1.0 / 60.0;

fn still() -> World {
    WorldSpec::default().build().unwrap()
}

/// Bodies in a cube, some of them on one spot, in sizes from half to full.
fn heap(count: u32, side: f32, seed: u32) -> BodyColumns {
    let mut bodies = BodyColumns::default();
    for id in 0..count {
        let [x, y, z] = hash3(id / 2 * 2, seed, 3).map(|bits| (unit(bits) - 0.5) * side);
        let [a, b, c] = hash3(id, seed, 4).map(|bits| unit(bits) - 0.5);
        let size = 0.05 + 0.05 * unit(hash3(id, seed, 5)[0]);
        let row = BodyRow {
            px: x,
            py: y,
            pz: z,
            vx: a,
            vy: b,
            vz: c,
            size,
            life: f32::INFINITY,
            id,
            key: id,
            ..BodyRow::default()
        };
        bodies.push(&row);
    }
    bodies
}

/// Mean overlap over the sum of the radii, and the share of overlaps that are deeper than a quarter.
fn overlap(bodies: &BodyColumns) -> (f32, f32) {
    let [x, y, z] = bodies.position();
    let (mut deep, mut sum, mut count) = (0, 0.0, 0);
    for a in 0..bodies.len() {
        for b in 0..a {
            let far =
                [x[a] - x[b], y[a] - y[b], z[a] - z[b]].iter().map(|axis| axis * axis).sum::<f32>().sqrt();
            let reach = bodies.size()[a] + bodies.size()[b];
            if far < reach {
                deep += usize::from(1.0 - far / reach > 0.25);
                sum += 1.0 - far / reach;
                count += 1;
            }
        }
    }
    let count = count.max(1) as f32;
    (sum / count, deep as f32 / count)
}

/// Kinetic energy and momentum of bodies whose mass is the cube of their size.
fn energy(bodies: &BodyColumns) -> (f64, [f64; 3]) {
    let [vx, vy, vz] = bodies.velocity();
    let (mut energy, mut momentum) = (0.0, [0.0; 3]);
    for nth in 0..bodies.len() {
        let mass = f64::from(bodies.size()[nth]).powi(3);
        let velocity = [vx[nth], vy[nth], vz[nth]].map(f64::from);
        energy += 0.5 * mass * velocity.iter().map(|axis| axis * axis).sum::<f64>();
        (0..3).for_each(|axis| momentum[axis] += mass * velocity[axis]);
    }
    (energy, momentum)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Overlaps go, nothing is lost, and no step gains energy.
    #[test]
    fn overlaps_go_and_energy_does_not_grow(seed in any::<u32>(), count in 2u32..300, friction in 0.0f32..1.0) {
        let side = (count as f32 * 0.004).cbrt();
        let mut bodies = heap(count, side, seed);
        let mut apart = PushApart::new(&ApartSpec::default().friction(friction).rest(0.0), None).unwrap();
        let (before, _) = energy(&bodies);
        let mut last = before;
        for _ in 0..120 {
            apart.step(&mut bodies.bodies(), &still(), STEP, &mut Meter::new()).unwrap();
            let (now, _) = energy(&bodies);
            prop_assert!(now <= last * (1.0 + 1e-5), "{last} {now}");
            last = now;
        }
        let (mean, deep) = overlap(&bodies);
        prop_assert!(mean < 0.02 && deep == 0.0, "{mean} {deep}");
        prop_assert_eq!(bodies.id(), &(0..count).collect::<Vec<_>>()[..]);
    }
}

/// Two that meet head on keep their momentum and stop.
#[test]
fn a_pair_stops() {
    let mut bodies = BodyColumns::default();
    for (id, x, vx, size) in [(0, -0.72, 1.0, 0.5), (1, 0.72, -0.125, 1.0)] {
        let row = BodyRow { px: x, vx, size, life: f32::INFINITY, id, key: id, ..BodyRow::default() };
        bodies.push(&row);
    }
    let (_, before) = energy(&bodies);
    let mut apart = PushApart::new(&ApartSpec::default(), None).unwrap();
    for _ in 0..10 {
        apart.step(&mut bodies.bodies(), &still(), STEP, &mut Meter::new()).unwrap();
    }
    let (left, after) = energy(&bodies);
    assert!((0..3).all(|axis| (before[axis] - after[axis]).abs() < 1e-6) && left < 1e-9, "{left} {after:?}");
    let gap = bodies.px()[1] - bodies.px()[0];
    assert!((1.49..1.52).contains(&gap), "{gap}");
    // The heavier went an eighth of the way of the lighter.
    let ways = [-0.72 - bodies.px()[0], bodies.px()[1] - 0.72];
    assert!((ways[0] / ways[1] - 8.0).abs() < 0.1, "{ways:?}");
}

#[test]
fn the_same_bits_with_any_technique_threads_and_instructions() {
    for keep_to in [None, Some(KeepTo::Flat)] {
        let after = |technique, threads, level| {
            Threads::new(threads).run(|| {
                let mut bodies = heap(3_000, 1.6, 9);
                let spec = ApartSpec::default().neighbours(technique);
                let mut apart = PushApart::new(&spec, keep_to).unwrap().tuned(level);
                for _ in 0..6 {
                    apart.step(&mut bodies.bodies(), &still(), STEP, &mut Meter::new()).unwrap();
                }
                bodies
            })
        };
        let expected = after(NeighbourTechnique::Grid, 1, levels()[0]);
        for level in levels() {
            for threads in [1, 2, 7] {
                assert!(after(NeighbourTechnique::Grid, threads, level) == expected, "{threads} {level:?}");
            }
        }
        assert!(after(NeighbourTechnique::AllPairs, 2, levels()[0]) == expected, "all pairs");
    }
}

/// A pile in a box comes to rest, sleeps, and wakes where it is disturbed.
#[test]
fn a_pile_comes_to_rest_and_sleeps() {
    let mut world =
        WorldSpec::default().obstacle(ObstacleSpec::plane([0.0; 3], [0.0, 1.0, 0.0]).bounce(0.0, 0.5));
    for (at, normal) in [([-0.5, 0.0, 0.0], [1.0, 0.0, 0.0]), ([0.5, 0.0, 0.0], [-1.0, 0.0, 0.0])] {
        world = world.obstacle(ObstacleSpec::plane(at, normal).bounce(0.0, 0.5));
    }
    let world = world.build().unwrap();
    let mut bodies = BodyColumns::default();
    for id in 0..120 {
        let [a, ..] = hash3(id, 1, 1).map(unit);
        let row = BodyRow {
            px: ((id % 8) as f32 - 3.5) * 0.11 + (a - 0.5) * 0.01,
            py: 0.1 + 0.11 * (id / 8) as f32,
            size: 0.05,
            life: f32::INFINITY,
            id,
            key: id,
            ..BodyRow::default()
        };
        bodies.push(&row);
    }
    let motion = MotionSpec::default().keep_to(KeepTo::Upright);
    let mut integrator = Integrator::new(&motion).unwrap();
    let mut apart =
        PushApart::new(&ApartSpec::default().rounds(8).friction(0.6), Some(KeepTo::Upright)).unwrap();
    let mut meter = Meter::new();
    let mut step = |bodies: &mut BodyColumns, apart: &mut PushApart| {
        meter.begin_frame();
        integrator.step(bodies.bodies(), &world, STEP, &mut meter).unwrap();
        apart.step(&mut bodies.bodies(), &world, STEP, &mut meter).unwrap();
        meter.end_frame()
    };
    for _ in 0..900 {
        step(&mut bodies, &mut apart);
    }
    let before = bodies.clone();
    let frame = step(&mut bodies, &mut apart);
    let asleep = apart.asleep();
    assert!(asleep >= 110, "{asleep} of 120");
    assert_eq!(frame.count(Counter::SetAside), asleep);
    assert!(frame.stage(Stage::Collide).as_nanos() > 0);
    let moved = (0..120).filter(|nth| {
        bodies.row(*nth).map(|row| [row.px, row.py]) != before.row(*nth).map(|row| [row.px, row.py])
    });
    assert!(moved.count() <= 120 - asleep as usize);
    // The weight of ten layers presses on the lowest.
    let (mean, deep) = overlap(&bodies);
    assert!(mean < 0.15 && deep < 0.15, "{mean} {deep}");
    // The same state goes on with the same bits.
    let (mut other, mut again) =
        (bodies.clone(), PushApart::new(apart.spec(), Some(KeepTo::Upright)).unwrap());
    again.restore(&apart.save()).unwrap();
    let mut one = bodies.clone();
    apart.clone().step(&mut one.bodies(), &world, STEP, &mut Meter::new()).unwrap();
    again.step(&mut other.bodies(), &world, STEP, &mut Meter::new()).unwrap();
    assert!(one == other);
    // A blow from above wakes some of them.
    let top = (0..120).max_by(|a, b| bodies.py()[*a].total_cmp(&bodies.py()[*b])).unwrap();
    let mut row = bodies.row(top).unwrap();
    (row.py, row.vy, row.id) = (row.py + 0.3, -6.0, 999);
    bodies.put(top, &row);
    for _ in 0..8 {
        step(&mut bodies, &mut apart);
    }
    assert!(apart.asleep() < asleep, "{} {asleep}", apart.asleep());
}

/// Particles pile up on the ground and do not fall through each other; without the key they do.
#[test]
fn particles_pile_up() {
    let world = WorldSpec::default()
        .obstacle(ObstacleSpec::plane([0.0; 3], [0.0, 1.0, 0.0]).bounce(0.1, 0.6))
        .build()
        .unwrap();
    let emitter =
        EmitterSpec::rate(200.0).shape(ShapeSpec::Box { size: [0.2, 0.1, 0.2] }).position([0.0, 1.0, 0.0]);
    let spec = ParticleSpec::new(400).life(60.0, 60.0).size(0.04, 0.04).emitter(emitter);
    let heights = |spec: &ParticleSpec| {
        let mut pebbles = Particles::new(spec, 3).unwrap();
        pebbles.step(&world, STEP, 240, &mut Meter::new());
        let y = pebbles.columns().py();
        (y.iter().sum::<f32>() / y.len() as f32, pebbles)
    };
    let (flat, _) = heights(&spec);
    let (piled, mut pebbles) = heights(&spec.clone().apart(ApartSpec::default().rounds(6)));
    assert!(piled > flat + 0.01, "{piled} {flat}");
    // It can be switched off and on while it runs.
    assert!(pebbles.retune(&spec).is_ok());
    pebbles.step(&world, STEP, 200, &mut Meter::new());
    let y = pebbles.columns().py();
    assert!(y.iter().sum::<f32>() / (y.len() as f32) < piled);
    let problem =
        Particles::with_storage(&spec.apart(ApartSpec::default()), 1, Storage::Objects).unwrap_err();
    assert_eq!(problem.key, "apart");
}

#[test]
fn what_cannot_be_is_refused() {
    for (spec, key) in [
        (ApartSpec::default().radius(0.0), "apart.radius"),
        (ApartSpec::default().rounds(0), "apart.rounds"),
        (ApartSpec::default().stiffness(f32::NAN), "apart.stiffness"),
        (ApartSpec::default().friction(2.0), "apart.friction"),
        (ApartSpec::default().rest(-1.0), "apart.rest"),
    ] {
        assert_eq!(PushApart::new(&spec, None).unwrap_err().key, key);
    }
    let mut bodies = heap(10, 1.0, 1);
    let mut row = bodies.row(3).unwrap();
    row.px = f32::NAN;
    bodies.put(3, &row);
    let mut apart = PushApart::new(&ApartSpec::default(), None).unwrap();
    assert!(apart.step(&mut bodies.bodies(), &still(), STEP, &mut Meter::new()).is_err());
    row.px = 0.0;
    row.size = f32::INFINITY;
    bodies.put(3, &row);
    assert!(apart.step(&mut bodies.bodies(), &still(), STEP, &mut Meter::new()).is_err());
}
