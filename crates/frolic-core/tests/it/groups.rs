//! Squares that share layouts: what lies on them, when they are groups, and which state of the wind they show.

use crate::common::with;
use frolic_core::{
    AreaSpec, BladeMotion, BladeSpec, Blades, Chunk, ClumpSpec, Counter, FilterBy, FilterSpec, Frame,
    GroupSpec, Layouts, Meter, On, PatternSpec, PlacementSpec, PusherSpec, Span, Weather, World, WorldSpec,
};
use proptest::prelude::*;

const SIDE: f32 = 2.0;

fn layer() -> PlacementSpec {
    let blue = PlacementSpec::new(On::Ground(PatternSpec::BlueNoise { distance: 0.0 }));
    blue.area(AreaSpec::new([0.0; 2], [24.0; 2])).clumps(ClumpSpec::new(0.7))
}

fn field(layer: PlacementSpec, groups: GroupSpec, count: u32) -> Blades {
    let spec = with(BladeSpec::new(layer).chunk(SIDE).groups(groups), |spec| spec.motion = BladeMotion::Lean);
    Blades::new(&spec, count, Span::new(0.003, 0.005), 11).unwrap()
}

fn still() -> World {
    WorldSpec::default().build().unwrap()
}

fn step(blades: &mut Blades, world: &World, eye: [f32; 3]) -> Frame {
    let mut meter = Meter::new();
    meter.begin_frame();
    blades.update_visibility(eye, |_, _| true);
    blades.step(world, 1.0 / 60.0, 1, &mut meter);
    meter.end_frame()
}

/// Places in a square from its middle, with what is drawn for each, in an order of their own.
fn inside(blades: &Blades, chunk: &Chunk) -> Vec<[i64; 6]> {
    let columns = blades.columns();
    let middle = chunk.cell.map(|at| (at as f32 + 0.5) * SIDE);
    let whole = |value: f32| (f64::from(value) * 1e4).round() as i64;
    let of = |n: usize| {
        let row = columns.row(n).unwrap();
        [row.px - middle[0], row.pz - middle[1], row.length, row.turn, row.rest_x, row.tint].map(whole)
    };
    let mut all: Vec<_> = (chunk.first as usize..(chunk.first + chunk.len) as usize).map(of).collect();
    all.sort_unstable();
    all
}

#[test]
fn squares_of_a_layout_hold_the_same_blades() {
    let mut blades = field(layer(), GroupSpec::new(3, 4).beyond(2.0), 6_000);
    assert!(blades.len() <= 6_000 && blades.len() > 5_800, "{}", blades.len());
    blades.group(true);
    step(&mut blades, &still(), [0.0, 500.0, 0.0]);
    let layouts = blades.layouts().unwrap();
    assert_eq!(layouts.len(), 3);
    let mut first: [Option<Vec<[i64; 6]>>; 3] = Default::default();
    for chunk in blades.chunks() {
        let group = chunk.group.expect("all are whole and far");
        let layout = layouts.columns(group.layout).unwrap();
        assert_eq!(layout.len(), chunk.len as usize);
        let here = inside(&blades, chunk);
        let known = first[group.layout as usize].get_or_insert_with(|| here.clone());
        // Places far from the origin are rounded more coarsely.
        for (a, b) in known.iter().zip(&here) {
            assert!(a.iter().zip(b).all(|(a, b)| (a - b).abs() <= 1), "{a:?} {b:?}");
        }
    }
    assert!(first.iter().flatten().count() > 1);
    assert_ne!(first[0], first[1]);
}

#[test]
fn near_pressed_or_cut_squares_stay_single() {
    let points = vec![[-12.0, 5.0], [12.0, 5.0]];
    let path = FilterBy::Path { points, closed: false, width: 0.5, soft: 0.2 };
    let cut = layer().filter(FilterSpec::new(path).inverted());
    let mut blades = field(cut, GroupSpec::new(2, 1).beyond(4.0), 8_000);
    let walker = PusherSpec::new([-7.0, 0.0, -7.0], 0.5);
    let world = with(WorldSpec::default(), |world| world.pusher = vec![walker]).build().unwrap();

    let before = step(&mut blades, &world, [0.0, 1.0, 0.0]);
    assert_eq!(before.count(Counter::SquaresGrouped), 0, "asked for by nobody");
    blades.group(true);
    let frame = step(&mut blades, &world, [0.0, 1.0, 0.0]);
    let mut grouped = 0;
    for chunk in blades.chunks() {
        let [x, z] = chunk.cell.map(|at| (at as f32 + 0.5) * SIDE);
        let near = x.hypot(z) < 3.0;
        let on_path = (z - 5.0).abs() < 1.0;
        let pressed = (x + 7.0).abs() < 1.0 && (z + 7.0).abs() < 1.0;
        if near || on_path || pressed {
            assert_eq!(chunk.group, None, "{x} {z}");
        }
        if x.hypot(z) > 6.0 && (z - 5.0).abs() > 2.0 && (x + 7.0).hypot(z + 7.0) > 3.0 {
            assert!(chunk.group.is_some(), "{x} {z}");
        }
        grouped += u64::from(chunk.group.is_some());
    }
    assert_eq!(frame.count(Counter::SquaresGrouped), grouped);
    assert_eq!(frame.count(Counter::Leant) + frame.count(Counter::Pressed), {
        let single = blades.chunks().iter().filter(|chunk| chunk.group.is_none());
        single.map(|chunk| u64::from(chunk.len)).sum::<u64>()
    });
    blades.group(false);
    assert!(blades.chunks().iter().all(|chunk| chunk.group.is_none()));
}

/// A group leans as its blades would by themselves in air that moves as its state says.
#[test]
fn a_state_leans_as_single_blades_do_in_its_wind() {
    let groups = GroupSpec::new(2, 1).beyond(1.0 + SIDE);
    let world = WorldSpec::default().wind([4.0, 0.0, 3.0]).build().unwrap();
    let (mut single, mut grouped) = (field(layer(), groups, 4_000), field(layer(), groups, 4_000));
    grouped.group(true);
    for blades in [&mut single, &mut grouped] {
        step(blades, &world, [0.0, 100.0, 0.0]);
    }
    let layouts = grouped.layouts().unwrap();
    for (chunk, alone) in grouped.chunks().iter().zip(single.chunks()) {
        let [lean_x, lean_z] = layouts.lean(chunk.group.unwrap()).unwrap();
        let range = alone.first as usize..(alone.first + alone.len) as usize;
        let sum = |lean: &[f32]| lean.iter().map(|lean| f64::from(*lean)).sum::<f64>();
        let own = single.columns().lean().map(|lean| sum(&lean[range.clone()]));
        assert!((sum(lean_x) - own[0]).abs() < 1e-3 && (sum(lean_z) - own[1]).abs() < 1e-3);
    }
}

#[test]
fn wind_states_are_rebuilt_when_the_wind_changes() {
    let mut blades = field(layer(), GroupSpec::new(1, 5).beyond(2.0), 500);
    blades.group(true);
    let world = |x: f32| WorldSpec::default().wind([x, 0.0, 0.0]).gusts(1.0, 4.0).build().unwrap();
    let mut keys = Vec::new();
    for speed in [3.0, 3.0, 6.0, 3.0] {
        step(&mut blades, &world(speed), [0.0, 90.0, 0.0]);
        keys.push(blades.layouts().unwrap().key());
    }
    assert_eq!(keys[0], keys[1]);
    assert!(keys[1] != keys[2] && keys[2] != keys[3] && keys[3] != keys[0]);
    let other = field(layer(), GroupSpec::new(1, 5).beyond(2.0), 500);
    assert_ne!(other.layouts().unwrap().key(), keys[0], "never those of another population");
}

#[test]
fn states_out_of_range_are_refused_by_name() {
    let refused = |groups: GroupSpec| {
        let error = BladeSpec::new(layer()).chunk(SIDE).groups(groups).check().unwrap_err();
        error.to_string()
    };
    assert!(refused(GroupSpec::new(0, 4)).contains("groups.layouts"));
    assert!(refused(GroupSpec::new(300, 4)).contains("groups.layouts"));
    assert!(refused(GroupSpec::new(2, 0)).contains("groups.wind_states"));
    assert!(refused(GroupSpec::new(2, 4).beyond(f32::NAN)).contains("groups.beyond"));
    // A picture cannot be taken from within a square.
    assert!(refused(GroupSpec::new(2, 4).beyond(1.5)).contains("groups.beyond"));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// In any weather squares show states that exist, more of a lean where the wind is stronger, and never more blades than were asked for.
    #[test]
    fn any_wind_finds_a_state(
        weather in prop::sample::select(&Weather::ALL[..]), layouts in 1u32..9, states in 1u32..30, count in 0u32..3_000, x in -9f32..9.0,
    ) {
        let mut world = WorldSpec::default().wind([x, 0.0, 2.0]);
        weather.set_wind(&mut world);
        let world = world.build().unwrap();
        let mut blades = field(layer(), GroupSpec::new(layouts, states).beyond(3.0), count);
        prop_assert!(blades.len() <= count as usize);
        blades.group(true);
        for _ in 0..3 {
            step(&mut blades, &world, [0.0, 60.0, 0.0]);
        }
        let known = blades.layouts().unwrap();
        for group in blades.chunks().iter().filter_map(|chunk| chunk.group) {
            let lean = known.lean(group);
            prop_assert!(lean.is_some_and(|[x, z]| x.len() == z.len() && x.iter().chain(z).all(|lean| lean.is_finite())));
        }
    }
}

/// Layouts that memory has no room for are refused before anything is made; squares larger than the field are none, and nothing is shared.
#[test]
fn layouts_are_bounded() {
    let most = GroupSpec::new(256, 64).beyond(30.0);
    let spec = |chunk: f32| BladeSpec::new(layer()).chunk(chunk).groups(most);
    let size = Span::new(0.003, 0.005);
    let told = Blades::new(&spec(20.0), 600_000, size, 1).unwrap_err();
    assert_eq!(told.key, "groups");
    assert!(told.problem.contains("256 layouts") && told.instead.contains("smaller chunk"), "{told}");
    let mut wide = Blades::new(&spec(24.5), 6_000, size, 1).unwrap();
    assert!(wide.layouts().is_none() && wide.len() == 6_000);
    wide.group(true);
    assert!(!wide.is_grouped());
}
