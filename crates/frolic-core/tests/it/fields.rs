//! Fields against closed forms, and against what they promise.

use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, RwLock};

use crate::common::{assets, still, weightless};
use frolic_core::{
    AttractorSpec, BodyColumns, BodyRow, CurlSpec, EmitterSpec, Falloff, Field, FieldChunk, FieldKind,
    FieldPopulation, FieldSpec, Integrator, Meter, MotionSpec, ParticleSpec, Particles, ShapeSpec, Storage,
    VortexSpec, World, WorldSpec,
};
use proptest::prelude::*;

/// Elements at rest at these places, free of gravity where the world is.
fn at_rest(spec: ParticleSpec, places: &[[f32; 3]]) -> Particles {
    let still = still();
    let spec = places
        .iter()
        .fold(spec, |spec, place| spec.emitter(EmitterSpec::burst(1, 0.0).position(*place).speed(0.0, 0.0)));
    let mut particles = Particles::with_assets(&spec, 1, Storage::Columns, &assets()).unwrap();
    particles.step(&still, 1e-7, 1, &mut Meter::new());
    particles
}

fn long_lived(count: usize) -> ParticleSpec {
    ParticleSpec::new(count as u32).life(1e4, 1e4)
}

/// Velocity of the air that a world moves at some places: what heavy drag takes on in one step.
fn air(world: &World, places: &[[f32; 3]]) -> Vec<[f32; 3]> {
    let mut particles = at_rest(long_lived(places.len()).motion(1e4, 0.0), places);
    particles.step(world, 1e-2, 1, &mut Meter::new());
    let [x, y, z] = particles.columns().velocity();
    (0..places.len()).map(|i| [x[i], y[i], z[i]]).collect()
}

/// Acceleration at some places.
fn push(world: &World, places: &[[f32; 3]]) -> Vec<[f32; 3]> {
    let mut particles = at_rest(long_lived(places.len()).motion(0.0, 0.0), places);
    let dt = 1e-3;
    particles.step(world, dt, 1, &mut Meter::new());
    let [x, y, z] = particles.columns().velocity();
    (0..places.len()).map(|i| [x[i] / dt, y[i] / dt, z[i] / dt]).collect()
}

fn length(v: [f32; 3]) -> f32 {
    (v[0] * v[0] + v[1] * v[1] + v[2] * v[2]).sqrt()
}

proptest! {
    /// Both drags at once, nothing else: Bernoulli's equation, at any step.
    #[test]
    fn both_drags_follow_their_closed_form(k in 0f32..5.0, c in 0.01f32..3.0, speed in 0.1f32..50.0, steps in 1u32..60) {
        let spec = ParticleSpec::new(1).life(1e4, 1e4).motion(k, 0.0).drag_square(c);
        let spec = spec.emitter(EmitterSpec::burst(1, 0.0).cone([1.0, 0.0, 0.0], 0.0).speed(speed, speed));
        let mut one = Particles::new(&spec, 1).unwrap();
        one.step(&still(), 1e-7, 1, &mut Meter::new());
        one.step(&still(), 0.6 / steps as f32, steps, &mut Meter::new());
        let (k, c, v) = (f64::from(k), f64::from(c), f64::from(speed));
        let keep = (-k * 0.6).exp();
        let reach = if k > 1e-6 { (1.0 - keep) / k } else { 0.6 };
        let want = v * keep / (1.0 + c * v * reach);
        let got = f64::from(one.columns().vx()[0]);
        prop_assert!((got - want).abs() < 2e-4 * want + 1e-5, "{} for {}", got, want);
    }

    /// The divergence of curl noise is near nothing beside its gradient; the speed is what was asked for.
    #[test]
    fn curl_noise_does_not_gather(place in prop::array::uniform3(-20f32..20.0), size in 0.5f32..5.0) {
        let world = weightless().field(FieldSpec::curl(2.0, size)).build().unwrap();
        let h = size * 0.02;
        let mut places = Vec::new();
        for axis in 0..3 {
            for side in [-h, h] {
                let mut at = place;
                at[axis] += side;
                places.push(at);
            }
        }
        let air = air(&world, &places);
        let gradient = |of: usize, along: usize| (air[along * 2 + 1][of] - air[along * 2][of]) / (2.0 * h);
        let divergence = (0..3).map(|axis| gradient(axis, axis)).sum::<f32>();
        let all = (0..9).map(|k| gradient(k / 3, k % 3).powi(2)).sum::<f32>().sqrt();
        prop_assert!(divergence.abs() < 0.05 * all.max(0.5 / size), "{} of {}", divergence, all);
    }

    /// Nothing leaves its speed limits but what stands still.
    #[test]
    fn speeds_stay_within_limits(seed in any::<u32>(), least in 0f32..2.0, more in 0f32..3.0) {
        let spec = ParticleSpec::new(300).life(1e4, 1e4).motion(0.4, 1.0).speed_limits(least, least + more)
            .emitter(EmitterSpec::burst(300, 0.0).cone([0.0, 1.0, 0.0], 180.0).speed(0.1, 20.0));
        let mut all = Particles::new(&spec, seed).unwrap();
        let world = WorldSpec::default().field(FieldSpec::curl(3.0, 1.0)).build().unwrap();
        all.step(&world, 0.02, 20, &mut Meter::new());
        let [x, y, z] = all.columns().velocity();
        for i in 0..all.len() {
            let speed = length([x[i], y[i], z[i]]);
            prop_assert!(speed >= least * 0.9999 && speed <= (least + more) * 1.0001, "{}", speed);
        }
    }
}

#[test]
fn drag_of_the_square_ends_at_its_speed() {
    let spec = long_lived(1).motion(0.0, 1.0).drag_square(0.3);
    let mut one = at_rest(spec, &[[0.0; 3]]);
    one.step(&WorldSpec::default().build().unwrap(), 1.0 / 240.0, 240 * 20, &mut Meter::new());
    let want = (9.81f32 / 0.3).sqrt();
    assert!((one.columns().vy()[0] + want).abs() < 0.01 * want, "{}", one.columns().vy()[0]);
    // Falling is over, yet the wind is still taken on.
    let windy = WorldSpec::default().wind([4.0, 0.0, 0.0]).build().unwrap();
    one.step(&windy, 1.0 / 240.0, 240 * 20, &mut Meter::new());
    assert!((one.columns().vx()[0] - 4.0).abs() < 0.05);
}

#[test]
fn pulls_fall_off_by_their_law() {
    let pull = |falloff, far: f32| {
        let mut spec = AttractorSpec::default();
        (spec.strength, spec.radius, spec.falloff) = (6.0, 0.001, falloff);
        let world = weightless()
            .field(FieldSpec::new(FieldKind::Attractor(spec)).position([1.0, 0.0, 0.0]).during(0.0, 1e9));
        push(&world.build().unwrap(), &[[1.0 + far, 0.0, 0.0]])[0][0]
    };
    for far in [0.5f32, 2.0, 7.0] {
        for (falloff, want) in [
            (Falloff::Square, -6.0 / (far * far)),
            (Falloff::Linear, -6.0 / far),
            (Falloff::None, -6.0),
            (Falloff::Spring, -6.0 * far),
        ] {
            let got = pull(falloff, far);
            assert!((got - want).abs() < want.abs() * 2e-3, "{falloff:?} at {far}: {got} for {want}");
        }
    }
}

#[test]
fn a_vortex_is_fastest_at_its_radius() {
    let mut spec = VortexSpec::default();
    (spec.speed, spec.radius, spec.inward, spec.along) = (3.0, 2.0, 1.0, 0.5);
    let world = weightless()
        .field(FieldSpec::new(FieldKind::Vortex(spec)).position([1.0, 0.0, 0.0]))
        .build()
        .unwrap();
    let at = |far: f32| air(&world, &[[1.0 + far, 5.0, 0.0]])[0];
    let [x, y, z] = at(2.0);
    // Anticlockwise as seen from above: at +x it goes to -z.
    assert!((z + 3.0).abs() < 0.01 && (x + 1.0).abs() < 0.01 && (y - 0.25).abs() < 0.01, "{:?}", at(2.0));
    assert!(at(1.0)[2].abs() < 3.0 && at(4.0)[2].abs() < 3.0 && at(0.0)[2].abs() < 1e-5);
    assert!((at(0.0)[1] - 0.5).abs() < 0.01);
}

#[test]
fn fields_keep_to_their_reach_and_their_time() {
    let field = FieldSpec::new(FieldKind::Push { acceleration: [0.0, 5.0, 0.0] })
        .position([0.0, 0.0, 3.0])
        .reach(2.0);
    let world = weightless().field(field.clone()).build().unwrap();
    let felt: Vec<f32> =
        [0.0f32, 1.0, 1.9, 2.0, 3.0].map(|off| push(&world, &[[off, 0.0, 3.0]])[0][1]).to_vec();
    assert!((felt[0] - 5.0).abs() < 1e-3 && (felt[1] - 5.0 * 0.5625).abs() < 1e-2, "{felt:?}");
    assert!(felt[2] < 0.1 && felt[3] == 0.0 && felt[4] == 0.0, "{felt:?}");
    let world = weightless().field(field.during(0.5, 1.0)).build().unwrap();
    let mut one = at_rest(long_lived(1).motion(0.0, 0.0), &[[0.0, 0.0, 3.0]]);
    let mut speeds = Vec::new();
    for _ in 0..12 {
        one.step(&world, 0.125, 1, &mut Meter::new());
        speeds.push(one.columns().vy()[0]);
    }
    assert!(speeds[..3].iter().all(|speed| *speed == 0.0) && speeds[11] > 2.0, "{speeds:?}");
    assert_eq!(speeds[9], speeds[11], "and no longer");
}

#[test]
fn elements_gather_on_a_shape() {
    let spec =
        ParticleSpec::new(500).life(1e4, 1e4).motion(0.0, 0.0).field(FieldSpec::shape("ball", 40.0, 8.0));
    let emitter = EmitterSpec::burst(500, 0.0)
        .shape(ShapeSpec::Box { size: [3.0, 3.0, 3.0] })
        .position([0.0, 1.0, 0.0])
        .speed(0.0, 1.0);
    let mut all = Particles::with_assets(&spec.emitter(emitter), 1, Storage::Columns, &assets()).unwrap();
    all.step(&still(), 1.0 / 60.0, 60 * 8, &mut Meter::new());
    let [x, y, z] = all.columns().position();
    let [vx, vy, vz] = all.columns().velocity();
    for i in 0..all.len() {
        let off = length([x[i], y[i] - 1.0, z[i]]) - 0.8;
        // What still goes around it is held on its way by just so much pull.
        let speed = length([vx[i], vy[i], vz[i]]);
        let held = speed * speed / (0.8 * 40.0);
        assert!((off - held).abs() < 0.03 + 0.3 * held, "{off} at {speed} m/s");
    }
}

/// Held on a ball under gravity they slide down its surface, and swing about its lowest point.
#[test]
fn elements_are_held_on_a_shape() {
    let emitter = EmitterSpec::burst(300, 0.0)
        .shape(ShapeSpec::Box { size: [2.0, 2.0, 2.0] })
        .position([0.0, 1.0, 0.0])
        .speed(0.0, 1.0);
    let spec = ParticleSpec::new(300).life(1e4, 1e4).motion(0.2, 1.0).field(FieldSpec::hold("ball"));
    let run = |storage, seconds: u32| {
        let mut all =
            Particles::with_assets(&spec.clone().emitter(emitter.clone()), 1, storage, &assets()).unwrap();
        all.step(&WorldSpec::default().build().unwrap(), 1.0 / 60.0, 60 * seconds, &mut Meter::new());
        all.columns().clone()
    };
    for seconds in [1, 30] {
        let all = run(Storage::Columns, seconds);
        let [x, y, z] = all.position();
        assert!((0..all.len()).all(|i| (length([x[i], y[i] - 1.0, z[i]]) - 0.8).abs() < 0.02));
    }
    let settled = run(Storage::Columns, 60);
    assert!(settled.py().iter().all(|y| *y < 0.25), "at its lowest point");
    assert_eq!(run(Storage::Columns, 1), run(Storage::Objects, 1));
}

/// Curl noise moves about as fast as it was asked to.
#[test]
fn curl_noise_has_its_speed() {
    let mut spec = CurlSpec::default();
    (spec.strength, spec.size) = (1.5, 0.8);
    let world = weightless().field(FieldSpec::new(FieldKind::Curl(spec))).build().unwrap();
    let places: Vec<[f32; 3]> =
        (0..250).map(|k| [k as f32 * 0.731 - 60.0, (k % 17) as f32 * 1.13, (k % 29) as f32 * 0.77]).collect();
    let square = air(&world, &places).iter().map(|v| length(*v).powi(2)).sum::<f32>() / places.len() as f32;
    assert!((square.sqrt() - 1.5).abs() < 0.2, "{}", square.sqrt());
}

#[derive(Debug)]
struct Lift;

impl Field for Lift {
    fn act(&self, chunk: &mut FieldChunk<'_>) {
        for (push, id) in chunk.push[1].iter_mut().zip(chunk.id) {
            *push += *id as f32;
        }
    }
}

#[test]
fn a_custom_field_acts_in_every_storage() {
    let world = weightless().build().unwrap().with_field(Lift);
    let spec = ParticleSpec::new(2000).life(1e4, 1e4).emitter(EmitterSpec::burst(2000, 0.0).speed(0.0, 0.0));
    let run = |storage| {
        let mut all = Particles::with_storage(&spec, 1, storage).unwrap();
        all.step(&world, 1e-3, 2, &mut Meter::new());
        all.columns().clone()
    };
    let columns = run(Storage::Columns);
    // The mean over the second step is that half way through it.
    assert!((columns.vy()[1234] - 1.5 * 1.234).abs() < 1e-3);
    assert_eq!(columns, run(Storage::Objects));
}

#[test]
fn bad_fields_are_refused() {
    let told =
        |field: FieldSpec| WorldSpec::default().field(field).build_with(&assets()).unwrap_err().to_string();
    assert!(told(FieldSpec::curl(-1.0, 1.0)).starts_with("field.0.kind.curl.strength: -1 is out of range"));
    assert!(told(FieldSpec::vortex([0.0; 3], 1.0, 0.0)).starts_with("field.0.kind.vortex.radius"));
    assert!(told(FieldSpec::curl(1.0, 1.0).reach(0.0)).starts_with("field.0.reach"));
    assert!(
        told(FieldSpec::curl(1.0, 1.0).during(3.0, 1.0))
            .starts_with("field.0.during: [3, 1] runs backwards; write [1, 3]")
    );
    assert!(told(FieldSpec::shape("hills", 1.0, 1.0)).contains("'hills' is a picture, not a distance grid"));
    let many = (0..65).fold(WorldSpec::default(), |world, _| world.field(FieldSpec::curl(1.0, 1.0)));
    assert!(many.build().unwrap_err().to_string().contains("keep to 64"));
    let own = ParticleSpec::new(1).field(FieldSpec::shape("nothing", 1.0, 1.0));
    assert!(Particles::new(&own, 1).unwrap_err().to_string().contains("there is no asset 'nothing'"));
}

/// Keeps the whole population of a step, and pushes each element towards the next one in it.
#[derive(Debug, Default)]
struct Chain {
    whole: RwLock<[Vec<f32>; 2]>,
    prepared: AtomicU32,
}

#[derive(Debug)]
struct Chained(Arc<Chain>);

impl Field for Chained {
    fn prepare(&self, whole: &FieldPopulation<'_>) {
        self.0.prepared.fetch_add(1, Ordering::Relaxed);
        let n = whole.id.len();
        assert!(
            whole.position.iter().chain(&whole.velocity).all(|axis| axis.len() == n) && whole.age.len() == n
        );
        let [x, y, _] = whole.position;
        *self.0.whole.write().unwrap() = [x.to_vec(), y.to_vec()];
    }

    fn act(&self, chunk: &mut FieldChunk<'_>) {
        let whole = self.0.whole.read().unwrap();
        for nth in 0..chunk.len() {
            let at = chunk.first + nth;
            // Newborns come after those that were there.
            if at < whole[0].len() {
                assert_eq!([whole[0][at], whole[1][at]], [chunk.position[0][nth], chunk.position[1][nth]]);
                let next = (at + 1) % whole[0].len();
                for axis in 0..2 {
                    chunk.push[axis][nth] += (whole[axis][next] - whole[axis][at]) * 0.5;
                }
            } else {
                assert!(chunk.age[nth] <= chunk.dt);
            }
        }
    }
}

/// A field sees the whole population before each step, and knows where in it the elements of a chunk are: in either storage, over many chunks, and with births.
#[test]
fn fields_see_whole_populations() {
    let spec = ParticleSpec::new(30_000)
        .life(0.3, 0.9)
        .motion(0.1, 0.2)
        .emitter(EmitterSpec::rate(30_000.0).shape(ShapeSpec::Sphere { radius: 2.0 }).speed(0.0, 1.0));
    let mut ends = Vec::new();
    for storage in [Storage::Columns, Storage::Objects] {
        let chain = Arc::new(Chain::default());
        let world = WorldSpec::default().build().unwrap().with_field(Chained(chain.clone()));
        let mut particles = Particles::with_storage(&spec, 4, storage).unwrap();
        particles.step(&world, 1.0 / 60.0, 45, &mut Meter::new());
        assert_eq!(chain.prepared.load(Ordering::Relaxed), 45);
        assert!(particles.len() > 10_000);
        ends.push(particles.columns().clone());
    }
    assert!(ends[0] == ends[1], "both kinds of storage give the same bits");
}

/// The same for bodies in columns of a program's own.
#[test]
fn fields_see_bodies_of_a_program() {
    let chain = Arc::new(Chain::default());
    let world = WorldSpec::default().build().unwrap().with_field(Chained(chain.clone()));
    let mut bodies = BodyColumns::default();
    for nth in 0..3_000 {
        bodies.push(&BodyRow {
            px: nth as f32,
            py: 1.0,
            life: f32::INFINITY,
            age: 1.0,
            ..BodyRow::default()
        });
    }
    let mut integrator = Integrator::new(&MotionSpec::default()).unwrap();
    for _ in 0..5 {
        integrator.step(bodies.bodies(), &world, 0.02, &mut Meter::new()).unwrap();
    }
    assert_eq!(chain.prepared.load(Ordering::Relaxed), 5);
    // Each went towards its neighbour, and the last back to the first.
    assert!(bodies.px()[0] > 0.0 && bodies.px()[2_999] < 2_998.0);
}
