//! Births: how many, when, where, and which way.

use crate::common;
use crate::common::still;
use frolic_core::{
    AimSpec, Asset, Counter, CourseSpec, EmitterSpec, MaskOrientation, MeshPart, Meter, ParticleSpec,
    Particles, PathEnds, PathSpec, Plane, ShapeSpec, Storage, VolumePart,
};
use proptest::prelude::*;

/// What `count` newborn of an emitter look like, at the moment of a burst.
fn newborn(emitter: EmitterSpec, count: u32) -> Particles {
    let spec = ParticleSpec::new(count).life(10.0, 20.0).emitter(emitter);
    let mut particles = Particles::new(&spec, 11).unwrap();
    particles.step(&still(), 1e-6, 1, &mut Meter::new());
    particles
}

fn places(particles: &Particles) -> Vec<[f32; 3]> {
    let [x, y, z] = particles.columns().position();
    (0..particles.len()).map(|i| [x[i], y[i], z[i]]).collect()
}

proptest! {
    /// A stream gives rate times time, to within the one that is still owed, at any step.
    #[test]
    fn a_rate_is_kept(rate in 0.0f32..5000.0, step in 0.001f32..0.2, steps in 1u32..100) {
        let spec = ParticleSpec::new(200_000).life(1e5, 1e6).emitter(EmitterSpec::rate(rate));
        let mut particles = Particles::new(&spec, 3).unwrap();
        particles.step(&still(), step, steps, &mut Meter::new());
        let due = f64::from(rate) * f64::from(step) * f64::from(steps);
        prop_assert!((particles.len() as f64 - due).abs() <= 1.001, "{} for {}", particles.len(), due);
    }

    /// Newborn are spread evenly over the step they are born in, not bunched at its end.
    #[test]
    fn a_stream_is_even_within_a_step(rate in 100.0f32..2000.0) {
        let spec = ParticleSpec::new(10_000).life(100.0, 200.0).emitter(EmitterSpec::rate(rate).speed(4.0, 4.0));
        let mut particles = Particles::new(&spec, 3).unwrap();
        particles.step(&still(), 0.5, 2, &mut Meter::new());
        let ages = particles.columns().age();
        for pair in ages.windows(2) {
            prop_assert!((pair[0] - pair[1] - 1.0 / rate).abs() < 1e-4, "{:?}", pair);
        }
        for (age, y) in ages.iter().zip(particles.columns().py()) {
            prop_assert!((y - 4.0 * age).abs() < 1e-4, "each has moved for as long as it lived");
        }
    }
}

#[test]
fn a_burst_comes_once_at_its_time() {
    let spec = ParticleSpec::new(500).life(50.0, 60.0).emitter(EmitterSpec::burst(120, 0.25));
    let mut particles = Particles::new(&spec, 3).unwrap();
    let counts: Vec<usize> = (0..6)
        .map(|_| {
            particles.step(&still(), 0.1, 1, &mut Meter::new());
            particles.len()
        })
        .collect();
    assert_eq!(counts, [0, 0, 120, 120, 120, 120]);
    let age = particles.columns().age()[0];
    assert!((age - 0.35).abs() < 1e-6, "{age}");
}

#[test]
fn dropped_records_are_counted() {
    let spec = ParticleSpec::new(10).life(50.0, 60.0).emitter(EmitterSpec::burst(25, 0.0));
    let mut particles = Particles::new(&spec, 3).unwrap();
    let mut meter = Meter::new();
    meter.begin_frame();
    particles.step(&still(), 0.1, 2, &mut meter);
    let frame = meter.end_frame();
    assert_eq!(particles.len(), 10);
    assert_eq!(frame.count(Counter::Emitted), 10);
    assert_eq!(frame.count(Counter::Refused), 15);
}

#[test]
fn an_empty_population_steps() {
    let spec =
        ParticleSpec::new(0).emitter(EmitterSpec::rate(1e9)).emitter(EmitterSpec::burst(u32::MAX, 0.0));
    let mut particles = Particles::new(&spec, 3).unwrap();
    particles.step(&still(), 0.1, 3, &mut Meter::new());
    assert!(particles.is_empty());
}

#[test]
fn shapes_are_filled_evenly_and_not_left() {
    let n = 4000;
    let at = [1.0, -2.0, 3.0];
    let off = |shape| -> Vec<[f32; 3]> {
        let particles = newborn(EmitterSpec::burst(n, 0.0).position(at).shape(shape).speed(0.0, 0.0), n);
        places(&particles).iter().map(|p| [p[0] - at[0], p[1] - at[1], p[2] - at[2]]).collect()
    };
    let length = |p: &[f32; 3]| (p[0] * p[0] + p[1] * p[1] + p[2] * p[2]).sqrt();
    let mean = |values: Vec<f32>| values.iter().sum::<f32>() / values.len() as f32;

    assert!(off(ShapeSpec::Point).iter().all(|p| length(p) < 1e-5));

    let sphere = off(ShapeSpec::Sphere { radius: 2.0 });
    assert!(sphere.iter().all(|p| length(p) < 2.0 + 1e-4));
    // Mean distance in a ball is three quarters of its radius.
    assert!((mean(sphere.iter().map(length).collect()) - 1.5).abs() < 0.03);

    let skin = off(ShapeSpec::SphereSurface { radius: 2.0 });
    assert!(skin.iter().all(|p| (length(p) - 2.0).abs() < 1e-4));
    // Archimedes: heights on a sphere are even.
    assert!((mean(skin.iter().map(|p| p[1].abs()).collect()) - 1.0).abs() < 0.04);

    let disc = off(ShapeSpec::Disc { radius: 3.0, normal: [0.0, 0.0, 5.0] });
    assert!(disc.iter().all(|p| p[2].abs() < 1e-5 && length(p) < 3.0 + 1e-4));
    assert!((mean(disc.iter().map(length).collect()) - 2.0).abs() < 0.04);

    let cube = off(ShapeSpec::Box { size: [1.0, 2.0, 0.0] });
    assert!(cube.iter().all(|p| p[0].abs() <= 0.5 + 1e-5 && p[1].abs() <= 1.0 + 1e-5 && p[2].abs() < 1e-5));
    assert!((mean(cube.iter().map(|p| p[1].abs()).collect()) - 0.5).abs() < 0.02);
}

#[test]
fn aim_stays_within_its_spread() {
    for spread in [0.0f32, 15.0, 90.0, 180.0] {
        let direction = [0.3f32, -0.5, 0.8];
        let particles = newborn(EmitterSpec::burst(3000, 0.0).cone(direction, spread).speed(2.0, 2.0), 3000);
        let [vx, vy, vz] = particles.columns().velocity();
        let norm = direction.iter().map(|d| d * d).sum::<f32>().sqrt();
        let cosines: Vec<f32> = (0..particles.len())
            .map(|i| (vx[i] * direction[0] + vy[i] * direction[1] + vz[i] * direction[2]) / (2.0 * norm))
            .collect();
        let rim = spread.to_radians().cos();
        assert!(cosines.iter().all(|&cos| cos >= rim - 1e-4), "{spread}");
        // Even over the cap: the mean cosine is half way between the middle and the rim.
        let mean = cosines.iter().sum::<f32>() / cosines.len() as f32;
        assert!((mean - (1.0 + rim) / 2.0).abs() < 0.03, "{spread}: {mean}");
    }
}

#[test]
fn ranges_are_filled_to_their_ends() {
    let spec = ParticleSpec::new(5000).life(2.0, 4.0).size(0.1, 0.3).emitter(EmitterSpec::burst(5000, 0.0));
    let mut particles = Particles::new(&spec, 9).unwrap();
    particles.step(&still(), 1e-6, 1, &mut Meter::new());
    for (values, low, high) in
        [(particles.columns().life(), 2.0, 4.0), (particles.columns().size(), 0.1, 0.3)]
    {
        let (least, most) = values.iter().fold((f32::MAX, f32::MIN), |(l, m), &v| (l.min(v), m.max(v)));
        assert!(least >= low && least < low + 0.01 * high, "{least}");
        assert!(most <= high && most > high - 0.01 * high, "{most}");
    }
}

#[test]
fn a_rate_follows_its_course() {
    let course = CourseSpec::new([[0.0, 0.0], [1.0, 1.0], [2.0, 0.0]]).every(2.0);
    let spec = ParticleSpec::new(100_000).life(1e5, 1e5);
    for steps in [7u32, 60, 333] {
        let emitter = EmitterSpec::rate(1000.0).rate_over_time(course.clone());
        let mut all = Particles::new(&spec.clone().emitter(emitter), 1).unwrap();
        let mut before = 0;
        // A triangle of area 1 every two seconds; half of it by its middle.
        for (seconds, want) in [(1.0f32, 500), (1.0, 500), (2.0, 1000), (0.5, 125)] {
            all.step(&still(), seconds / steps as f32, steps, &mut Meter::new());
            let born = all.len() - before;
            before = all.len();
            assert!((born as i64 - want).abs() <= 2, "{born} for {want} in {steps}");
        }
    }
}

#[test]
fn moving_emitters_emit_evenly_by_the_metre() {
    let path = PathSpec::new([[0.0; 3], [6.0, 0.0, 0.0]], 2.0);
    let emitter = EmitterSpec::trail(50.0, path.clone()).speed(0.0, 0.0);
    let spec = ParticleSpec::new(1000).life(1e5, 1e5);
    let mut all = Particles::new(&spec.clone().emitter(emitter.clone()), 1).unwrap();
    // Few long steps: 0.6 m each, thirty elements a step.
    all.step(&still(), 0.2, 20, &mut Meter::new());
    assert!((299..=301).contains(&all.len()), "{}", all.len());
    let gaps: Vec<f32> = all.columns().px().windows(2).map(|pair| pair[1] - pair[0]).collect();
    assert!(gaps.iter().all(|gap| (gap - 0.02).abs() < 2e-3), "{gaps:?}");
    // The way it moves is handed down, and turns what it aims.
    let mut turning = path.ends(PathEnds::Loop);
    turning.turns = true;
    let mut emitter = EmitterSpec::rate(100.0).path(turning).cone([0.0, 0.0, 1.0], 0.0).speed(2.0, 2.0);
    emitter.keep_velocity = 1.0;
    let mut all = Particles::new(&spec.clone().emitter(emitter), 1).unwrap();
    all.step(&still(), 0.1, 4, &mut Meter::new());
    // Twelve metres in two seconds along x; to its right, which is z, at 2 m/s.
    let last = all.columns().row(all.len() - 1).unwrap();
    assert!((last.vx - 6.0).abs() < 0.3 && (last.vz - 2.0).abs() < 0.05, "{last:?}");
    // By hand instead: a pointer.
    let mut by_the_metre = EmitterSpec::rate(0.0);
    by_the_metre.per_metre = 10.0;
    let mut all = Particles::new(&spec.emitter(by_the_metre), 1).unwrap();
    assert!(all.put_emitter(0, [1.0, 0.0, 0.0], None) && !all.put_emitter(1, [0.0; 3], None));
    all.step(&still(), 0.1, 1, &mut Meter::new());
    assert!(all.is_empty(), "it has not moved yet");
    assert!(all.put_emitter(0, [3.05, 0.0, 0.0], Some([0.0, 0.0, 1.0])));
    all.step(&still(), 0.1, 3, &mut Meter::new());
    assert_eq!(all.len(), 20);
    assert!(all.put_emitter(0, [f32::NAN, 0.0, 0.0], None));
    all.step(&still(), 0.1, 1, &mut Meter::new());
    assert_eq!(all.len(), 20);
}

#[test]
fn bursts_repeat_and_come_on_command() {
    let mut emitter = EmitterSpec::bursts(10, 0.05, 0.1);
    emitter.burst.as_mut().unwrap().times = Some(4);
    let spec = ParticleSpec::new(10_000).life(1e5, 1e5).emitter(emitter);
    let mut all = Particles::new(&spec, 1).unwrap();
    let counts: Vec<usize> = (0..8)
        .map(|_| {
            all.step(&still(), 0.071, 1, &mut Meter::new());
            all.len()
        })
        .collect();
    // At 0.05, 0.15, 0.25 and 0.35 s.
    assert_eq!(counts, [10, 10, 20, 30, 40, 40, 40, 40]);
    // All in one step, however many there are.
    let mut all = Particles::new(&spec, 1).unwrap();
    all.step(&still(), 10.0, 1, &mut Meter::new());
    assert_eq!(all.len(), 40);
    let spec = ParticleSpec::new(100_000).life(1e5, 1e5).emitter(EmitterSpec::bursts(1, 0.0, 0.001));
    let mut all = Particles::new(&spec, 1).unwrap();
    all.step(&still(), 1.0, 1, &mut Meter::new());
    assert!((999..=1001).contains(&all.len()), "{}", all.len());
    let mut all = Particles::new(&ParticleSpec::new(100).emitter(EmitterSpec::rate(0.0)), 1).unwrap();
    assert!(all.burst(0, 70) && all.burst(0, 7) && !all.burst(1, 5));
    all.step(&still(), 0.1, 2, &mut Meter::new());
    assert_eq!(all.len(), 77);
}

#[test]
fn fans_are_flat_even_and_hollow() {
    let mut aim = AimSpec::fan([1.0, 1.0, 0.0], 60.0, [0.0, 0.0, 2.0]);
    let directions = |aim: AimSpec| -> Vec<f32> {
        let particles = newborn(EmitterSpec::burst(61, 0.0).aim(aim).speed(2.0, 2.0), 61);
        let [x, y, z] = particles.columns().velocity();
        assert!(z.iter().all(|z| z.abs() < 1e-5), "flat");
        (0..61).map(|i| y[i].atan2(x[i]).to_degrees() - 45.0).collect()
    };
    let all = directions(aim);
    assert!(all.windows(2).all(|pair| (pair[1] - pair[0] - 120.0 / 61.0).abs() < 0.01), "even");
    assert!((all[0] + 59.0).abs() < 0.1 && (all[60] - 59.0).abs() < 0.1);
    aim.hollow_degrees = 30.0;
    assert!(directions(aim).iter().all(|angle| (29.9..60.1).contains(&angle.abs())));
    // A hollow cone.
    let mut cone = AimSpec::cone([0.0, 1.0, 0.0], 50.0);
    (cone.hollow_degrees, cone.even) = (40.0, true);
    let particles = newborn(EmitterSpec::burst(500, 0.0).aim(cone).speed(1.0, 1.0), 500);
    let angles: Vec<f32> = particles.columns().vy().iter().map(|y| y.acos().to_degrees()).collect();
    assert!(angles.iter().all(|angle| (39.9..50.1).contains(angle)));
    let along = ParticleSpec::new(1).emitter(EmitterSpec::rate(1.0).aim(AimSpec::fan(
        [0.0, 1.0, 0.0],
        5.0,
        [0.0, 3.0, 0.0],
    )));
    assert_eq!(Particles::new(&along, 1).unwrap_err().key, "emitter.0.aim.fan");
}

/// Places and velocities of what a shape that names an asset gives, aimed out of its surface.
fn of_asset(shape: ShapeSpec, count: u32) -> Vec<([f32; 3], [f32; 3])> {
    let mut aim = AimSpec::default();
    aim.from_surface = true;
    let emitter = EmitterSpec::burst(count, 0.0).shape(shape).aim(aim).speed(1.0, 1.0);
    let spec = ParticleSpec::new(count).life(10.0, 20.0).emitter(emitter);
    let mut particles = Particles::with_assets(&spec, 11, Storage::Columns, &common::assets()).unwrap();
    particles.step(&still(), 1e-6, 1, &mut Meter::new());
    let [vx, vy, vz] = particles.columns().velocity();
    let at = places(&particles).into_iter().enumerate();
    at.map(|(i, place)| (place, [vx[i], vy[i], vz[i]])).collect()
}

#[test]
fn assets_are_filled_evenly_and_aimed_outwards() {
    let n = 4000;
    let middle = [0.0f32, 1.0, 0.0];
    let off = |p: [f32; 3]| {
        let d = [p[0] - middle[0], p[1] - middle[1], p[2] - middle[2]];
        (d, (d[0] * d[0] + d[1] * d[1] + d[2] * d[2]).sqrt())
    };
    let mean_height =
        |all: &[([f32; 3], [f32; 3])]| all.iter().map(|(p, _)| off(*p).0[1].abs()).sum::<f32>() / n as f32;
    let outwards = |(p, v): &([f32; 3], [f32; 3])| {
        let (d, far) = off(*p);
        (d[0] * v[0] + d[1] * v[1] + d[2] * v[2]) / far
    };
    let asset = || "mesh".to_owned();
    let mesh = of_asset(ShapeSpec::Mesh { asset: asset(), part: MeshPart::Surface }, n);
    assert!(mesh.iter().all(|(p, _)| (0.79..0.801).contains(&off(*p).1)));
    assert!((mean_height(&mesh) - 0.4).abs() < 0.02, "even by area: {}", mean_height(&mesh));
    assert!(mesh.iter().all(|at| outwards(at) > 0.98));
    let corners = of_asset(ShapeSpec::Mesh { asset: asset(), part: MeshPart::Corners }, n);
    assert!(corners.iter().all(|(p, _)| (off(*p).1 - 0.8).abs() < 1e-3));
    let edges = of_asset(ShapeSpec::Mesh { asset: asset(), part: MeshPart::Edges }, n);
    assert!(edges.iter().all(|(p, _)| (0.79..0.801).contains(&off(*p).1)));

    let ball = |part| of_asset(ShapeSpec::Volume { asset: "ball".into(), part }, n);
    let inside = ball(VolumePart::Inside);
    assert!(inside.iter().all(|(p, _)| off(*p).1 < 0.81));
    let mean = inside.iter().map(|(p, _)| off(*p).1).sum::<f32>() / n as f32;
    assert!((mean - 0.6).abs() < 0.015, "even by volume: {mean}");
    let surface = ball(VolumePart::Surface);
    assert!(surface.iter().all(|(p, _)| (off(*p).1 - 0.8).abs() < 0.02));
    assert!(surface.iter().all(|at| outwards(at) > 0.95));
    let shell = ball(VolumePart::Shell(0.1));
    assert!(shell.iter().all(|(p, _)| (0.68..0.82).contains(&off(*p).1)));

    let asset = || "picture".to_owned();
    let picture =
        of_asset(ShapeSpec::Picture { asset: asset(), width: 4.0, orientation: MaskOrientation::Upright }, n);
    assert!(
        picture
            .iter()
            .all(|(p, _)| (-1e-3..2.001).contains(&p[0]) && p[1].abs() < 1.001 && p[2].abs() < 1e-3)
    );
    // Twice as many where it is twice as bright: rows of 0, 0.1 .. 0.9.
    let row =
        |k: i32| picture.iter().filter(|(p, _)| ((p[1] + 1.0) * 5.0).floor() as i32 == k).count() as f32;
    assert_eq!(row(0), 0.0);
    assert!((row(8) / row(4) - 2.0).abs() < 0.3, "{} {}", row(8), row(4));
    let flat =
        of_asset(ShapeSpec::Picture { asset: asset(), width: 4.0, orientation: MaskOrientation::Flat }, 100);
    assert!(flat.iter().all(|(p, _)| p[1].abs() < 1e-3 && p[2].abs() < 1.001));
    let hills = of_asset(ShapeSpec::Heights { asset: "hills".into(), size: [4.0, 2.0], height: 0.5 }, n);
    assert!(
        hills.iter().all(|(p, v)| p[0].abs() <= 2.0
            && p[2].abs() <= 1.0
            && (-0.01..0.5).contains(&p[1])
            && v[1] > 0.1)
    );

    let line =
        newborn(EmitterSpec::burst(n, 0.0).shape(ShapeSpec::Line { to: [2.0, 0.0, 0.0] }).speed(0.0, 0.0), n);
    let mean = line.columns().px().iter().sum::<f32>() / n as f32;
    assert!((mean - 1.0).abs() < 0.03 && line.columns().px().iter().all(|x| (0.0..=2.0).contains(x)));
    let ring = newborn(
        EmitterSpec::burst(n, 0.0)
            .shape(ShapeSpec::Ring { radius: 2.0, normal: [1.0, 0.0, 0.0] })
            .speed(0.0, 0.0),
        n,
    );
    assert!(places(&ring).iter().all(|p| p[0].abs() < 1e-5 && (p[1].hypot(p[2]) - 2.0).abs() < 1e-4));
}

#[test]
fn assets_that_are_not_there_are_refused() {
    let told = |shape: ShapeSpec| {
        let spec = ParticleSpec::new(1).emitter(EmitterSpec::rate(1.0).shape(shape));
        Particles::with_assets(&spec, 1, Storage::Columns, &common::assets()).unwrap_err().to_string()
    };
    let error = told(ShapeSpec::Mesh { asset: "ball".into(), part: MeshPart::Edges });
    assert!(
        error.starts_with(
            "emitter.0.shape.mesh.asset: asset 'ball' is a distance grid, not triangles; write one of:"
        ),
        "{error}"
    );
    assert!(
        told(ShapeSpec::Volume { asset: "bal".into(), part: VolumePart::Inside })
            .contains("there is no asset 'bal'")
    );
    let mut assets = common::assets();
    assets.insert("black", Asset::Plane(Plane::new(2, 2, vec![0.0; 4]).unwrap().into()));
    let dark = ShapeSpec::Picture { asset: "black".into(), width: 1.0, orientation: MaskOrientation::Flat };
    let spec = ParticleSpec::new(1).emitter(EmitterSpec::rate(1.0).shape(dark));
    let error = Particles::with_assets(&spec, 1, Storage::Columns, &assets).unwrap_err().to_string();
    assert!(error.contains("'black' is all black"), "{error}");
}
