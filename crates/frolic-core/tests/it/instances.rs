//! Elements that stay where they are put: where that is, how they swing, what is refused.

use frolic_core::{
    BladeSpec, Blades, Counter, Field, FieldChunk, FieldKind, FieldSpec, FixedInstances, FixedSpec, LineSpec,
    Meter, On, PatternSpec, PlaceSpec, Placement, PlacementSpec, Span, Stage, SwaySpec, SwingSpec, Threads,
    World, WorldSpec,
};
use proptest::prelude::*;

fn still() -> WorldSpec {
    WorldSpec::default()
}

fn instances(spec: &FixedSpec, count: u32) -> FixedInstances {
    FixedInstances::new(spec, count, Span::new(0.2, 0.4), 3).unwrap()
}

/// One that hangs from a short level line, tilted to begin with.
fn pendulum(swing: SwingSpec, tilt_degrees: f32) -> FixedInstances {
    let mut place = PlaceSpec::default();
    place.tilt_degrees = tilt_degrees;
    let mut spec = FixedSpec::hung([], Some(swing));
    spec.at = vec![place];
    instances(&spec, 1)
}

fn swing(length: f32, drag: f32, damping: f32) -> SwingSpec {
    let mut swing = SwingSpec::default();
    (swing.length, swing.drag, swing.damping) = (length, drag, damping);
    swing
}

/// Tilts at every step of 1/240 s.
fn tilts(instances: &mut FixedInstances, world: &WorldSpec, seconds: f32) -> Vec<f32> {
    let world = world.build().unwrap();
    (0..(seconds * 240.0) as usize)
        .map(|_| {
            instances.step(&world, 1.0 / 240.0, 1, &mut Meter::new());
            instances.columns().tilt()[0]
        })
        .collect()
}

/// Small swings take 2π√(length/g), whatever their height (Galilei, 1602; Huygens, "Horologium Oscillatorium", 1673).
#[test]
fn a_pendulum_keeps_its_time() {
    for length in [0.25f32, 1.0, 4.0] {
        for start in [2.0f32, 6.0] {
            let mut one = pendulum(swing(length, 0.0, 0.0), start);
            let tilts = tilts(&mut one, &still(), 12.0);
            let crossings: Vec<usize> =
                (1..tilts.len()).filter(|&n| tilts[n - 1] > 0.0 && tilts[n] <= 0.0).collect();
            assert!(crossings.len() >= 2, "{length}: it swings");
            let periods = (crossings.len() - 1) as f32;
            let period = (crossings[crossings.len() - 1] - crossings[0]) as f32 / 240.0 / periods;
            let want = std::f32::consts::TAU * (length / 9.81).sqrt();
            assert!((period - want).abs() < want * 0.02, "{length} m: {period} s, {want}");
        }
    }
}

/// Damping takes swings down, and at rest in a steady wind a flag leans away from it, the more the stronger.
#[test]
fn it_comes_to_rest_leaning_from_the_wind() {
    let rest = |wind: f32| {
        let mut world = still();
        world.wind = [0.0, 0.0, wind];
        let mut one = pendulum(swing(0.3, 1.5, 2.0), 40.0);
        let tilts = tilts(&mut one, &world, 20.0);
        let end = &tilts[tilts.len() - 240..];
        let (low, high) = end.iter().fold((f32::MAX, f32::MIN), |(a, b), v| (a.min(*v), b.max(*v)));
        assert!(high - low < 0.01, "{wind}: still swinging, {low} to {high}");
        (low + high) * 0.5
    };
    let (calm, breeze, gale) = (rest(0.0), rest(2.0), rest(8.0));
    assert!(calm.abs() < 0.01, "{calm}");
    assert!(breeze.abs() > 0.1 && gale.abs() > breeze.abs() + 0.2, "{breeze} {gale}");
    assert!(gale.abs() < std::f32::consts::FRAC_PI_2, "it does not fly over: {gale}");
    assert!((rest(-2.0) + breeze).abs() < 0.02, "the other way in wind from the other side");
}

/// Without a swing nothing moves, at any wind, and a step costs no time.
#[test]
fn rigid_elements_do_not_move() {
    let mut spec = FixedSpec::default();
    spec.at = (0..50)
        .map(|n| {
            let mut place = PlaceSpec::default();
            place.position[0] = n as f32;
            place
        })
        .collect();
    let mut all = instances(&spec, 50);
    let before = all.columns().tilt().to_vec();
    let mut world = still();
    world.wind = [30.0, 0.0, 9.0];
    let mut meter = Meter::new();
    meter.begin_frame();
    all.step(&world.build().unwrap(), 1.0 / 60.0, 600, &mut meter);
    let frame = meter.end_frame();
    assert!(!all.swings() && all.columns().tilt() == before);
    assert_eq!(frame.count(Counter::Alive), 50);
    assert!(frame.stage(Stage::Integrate).is_zero());
}

/// The lines themselves as elements: a curve each, whose middle hangs by the sag.
#[test]
fn strung_lines_are_curves() {
    let lines =
        [LineSpec::new([0.0, 3.0, 0.0], [4.0, 3.0, 0.0], 0.5), LineSpec::new([1.0; 3], [1.0, 5.0, 1.0], 0.0)];
    let mut spec = FixedSpec::hung(lines, None);
    spec.strung = true;
    let strung = instances(&spec, 2);
    let [middle, tip] = strung.curves().unwrap();
    let at = |share: f32, nth: usize| {
        let root = strung.columns().position().map(|column| column[nth]);
        [0, 1, 2].map(|axis| {
            root[axis] + 2.0 * share * (1.0 - share) * middle[axis][nth] + share * share * tip[axis][nth]
        })
    };
    assert_eq!(at(0.0, 0), [0.0, 3.0, 0.0]);
    assert_eq!(at(1.0, 0), [4.0, 3.0, 0.0]);
    assert_eq!(at(0.5, 0), [2.0, 2.5, 0.0]);
    assert_eq!(at(0.5, 1), [1.0, 3.0, 1.0]);
    assert!(instances(&FixedSpec::hung(lines, None), 9).curves().is_none(), "hung ones are no curves");
}

#[test]
fn bad_numbers_are_refused_with_their_key() {
    let told = |change: &dyn Fn(&mut FixedSpec)| {
        let mut spec = FixedSpec::hung([LineSpec::new([0.0; 3], [1.0; 3], 0.1)], Some(SwingSpec::default()));
        spec.at = vec![PlaceSpec::default()];
        change(&mut spec);
        spec.check(5).map_err(|error| error.to_string())
    };
    assert!(told(&|_| ()).is_ok());
    for (key, change) in [
        ("at.0.position", &(|s: &mut FixedSpec| s.at[0].position[1] = f32::NAN) as &dyn Fn(&mut FixedSpec)),
        ("at.0.turn_degrees", &|s| s.at[0].turn_degrees = f32::INFINITY),
        ("at.0.scale", &|s| s.at[0].scale = -1.0),
        ("line.0.from", &|s| s.line[0].from[2] = 1e7),
        ("line.0.sag", &|s| s.line[0].sag = -0.1),
        ("swing.length", &|s| s.swing = Some(swing(0.0, 1.0, 1.0))),
        ("swing.drag", &|s| s.swing = Some(swing(1.0, f32::NAN, 1.0))),
        ("count", &|s| s.line.clear()),
    ] {
        let told = told(change).unwrap_err();
        assert!(told.contains(key), "{key}: {told}");
    }
    let most = FixedInstances::new(
        &FixedSpec::hung([LineSpec::new([0.0; 3], [1.0; 3], 0.0)], None),
        u32::MAX,
        Span::new(1.0, 1.0),
        1,
    );
    assert!(most.unwrap_err().to_string().contains("over the memory limit"));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// The same tilts to the last bit on one thread and on several, in many small frames and in one large.
    #[test]
    fn threads_and_frames_do_not_show(count in 1u32..9000, wind in prop::array::uniform3(-9f32..9.0), seed in any::<u32>()) {
        let lines = [LineSpec::new([0.0, 5.0, 0.0], [30.0, 5.0, 8.0], 1.0), LineSpec::new([0.0; 3], [0.0, 9.0, 4.0], 0.3)];
        let spec = FixedSpec::hung(lines, Some(SwingSpec::default()));
        let mut world = still();
        world.wind = wind;
        let world = world.build().unwrap();
        let run = |threads: u32, frames: u32| {
            Threads::new(threads).run(|| {
                let mut all = FixedInstances::new(&spec, count, Span::new(0.1, 0.3), seed).unwrap();
                for _ in 0..frames {
                    all.step(&world, 1.0 / 60.0, 12 / frames, &mut Meter::new());
                }
                all.columns().clone()
            })
        };
        let one = run(1, 1);
        prop_assert!(one == run(3, 1));
        prop_assert!(one == run(2, 4));
        prop_assert_eq!(one.len(), count as usize);
        prop_assert!(one.size().iter().all(|size| (0.1..=0.3).contains(size)));
    }
}

/// Air that moves along x, as a field of a program's own.
#[derive(Debug)]
struct Draught(f32);

impl Field for Draught {
    fn act(&self, chunk: &mut FieldChunk<'_>) {
        chunk.air[0].iter_mut().for_each(|x| *x += self.0);
    }
}

/// A fault once: fixed elements ignored every field, and blades those of a program's own. Air that a field moves leans them as the same wind does.
#[test]
fn static_instances_sway_in_all_fields() {
    let speed = 3.0;
    let air = |world: &WorldSpec| world.clone().build().unwrap();
    let windy = air(&WorldSpec::default().wind([speed, 0.0, 0.0]));
    let draught = FieldSpec::new(FieldKind::Wind { velocity: [speed, 0.0, 0.0] });
    let others: [World; 2] =
        [air(&WorldSpec::default().field(draught)), air(&WorldSpec::default()).with_field(Draught(speed))];
    let mut place = PlaceSpec::default();
    (place.position, place.turn_degrees) = ([0.0, 1.5, 0.0], 90.0);
    let mut spec = FixedSpec::default();
    (spec.at, spec.swing, spec.sway) =
        (vec![place; 700], Some(SwingSpec::default()), Some(SwaySpec::default()));
    let stood = |world: &World| {
        let mut all = instances(&spec, 700);
        all.step(world, 1.0 / 60.0, 40, &mut Meter::new());
        all.columns().clone()
    };
    let mut meadow = PlacementSpec::new(On::Ground(PatternSpec::Scattered));
    meadow.area.size = [4.0; 2];
    let bent = |world: &World| {
        let mut blades = Blades::new(&BladeSpec::new(meadow.clone()), 500, Span::from(0.004), 3).unwrap();
        blades.step(world, 1.0 / 60.0, 40, &mut Meter::new());
        blades.columns().clone()
    };
    let still = air(&WorldSpec::default());
    assert!(stood(&still) != stood(&windy) && bent(&still) != bent(&windy));
    for world in &others {
        assert_eq!(stood(world), stood(&windy));
        assert_eq!(bent(world), bent(&windy));
    }
}

/// A fault once: of several ways to place elements one silently won.
#[test]
fn one_way_of_placing_at_a_time() {
    let line = LineSpec::new([0.0; 3], [1.0, 0.0, 0.0], 0.0);
    let ground = PlacementSpec::new(On::Ground(PatternSpec::Scattered));
    let mut spec = FixedSpec::hung([line], None);
    spec.placement = vec![ground];
    let error = spec.check(3).unwrap_err();
    assert_eq!(
        error.to_string(),
        "placement: stands beside line; keep one of them, or write two populations"
    );
    spec.placement.clear();
    (spec.strung, spec.at) = (true, vec![PlaceSpec::default()]);
    assert_eq!(spec.check(1).unwrap_err().key, "at");
    // Places of their own come first, then the line.
    spec.strung = false;
    assert_eq!(instances(&spec, 5).len(), 5);
}

/// A fault once: an area of a few millimetres lost elements and said nothing.
#[test]
fn an_area_without_room_says_so() {
    let mut narrow = PlacementSpec::new(On::Ground(PatternSpec::Scattered));
    narrow.area.size = [0.002; 2];
    let error = Placement::new(&[narrow.clone()], Some(5_000_000), 1, &Default::default()).unwrap_err();
    assert!(error.to_string().contains("has room for about"), "{error}");
    narrow.area.size = [1.0; 2];
    assert_eq!(Placement::new(&[narrow], Some(5_000), 1, &Default::default()).unwrap().all().len(), 5_000);
}
