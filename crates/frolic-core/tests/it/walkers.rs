//! Figures that go with pushers: where they stand, which way they look, and what is refused.

use frolic_core::{
    Asset, Assets, FixedInstances, FixedSpec, LineSpec, Meter, PathSpec, Plane, PusherSpec, Span, SwaySpec,
    TerrainSpec, WalkSpec, WorldSpec,
};
use proptest::prelude::*;

fn assets() -> Assets {
    let mut assets = Assets::default();
    let slope = Plane::new(2, 1, vec![0.0, 1.0]).unwrap();
    assets.insert("slope", Asset::Plane(slope.into()));
    assets
}

fn ground() -> TerrainSpec {
    TerrainSpec::new("slope", [40.0, 40.0], 4.0)
}

fn world(points: [[f32; 3]; 2]) -> WorldSpec {
    let mut world = WorldSpec::default();
    world.pusher.push(PusherSpec::new([1.0, 3.0, 2.0], 0.5).path(PathSpec::new(points, 4.0)));
    world
}

proptest! {
    /// On the ground under its pusher, no higher than a step lifts it, turned the way that it has gone.
    #[test]
    fn a_walker_follows_its_pusher(x in -6.0f32..6.0, z in -6.0f32..6.0, stride in 0.0f32..1.0, steps in 1u32..200) {
        prop_assume!(x.hypot(z) > 0.5);
        let world = world([[0.0; 3], [x, 0.0, z]]).build().unwrap();
        let spec = FixedSpec::walking(WalkSpec::new(stride, Some(ground())));
        let mut figures = FixedInstances::with_assets(&spec, 1, Span::from(1.7), 1, &assets()).unwrap();
        let mut heading = None;
        for nth in 0..steps {
            let before = [figures.columns().px()[0], figures.columns().pz()[0]];
            figures.step(&world, 1.0 / 60.0, 1, &mut Meter::new());
            let columns = figures.columns();
            let pushing = world.pusher_at(0, f64::from(nth + 1) / 60.0).unwrap();
            prop_assert!((columns.px()[0] - pushing.at.x).abs() < 1e-4 && (columns.pz()[0] - pushing.at.z).abs() < 1e-4);
            let foot = ground().build(&assets()).unwrap().at(columns.px()[0], columns.pz()[0]).unwrap().y;
            let lift = columns.py()[0] - foot;
            prop_assert!((-1e-4..=stride * 0.06 + 1e-4).contains(&lift), "{lift} of {stride}");
            let way = [columns.px()[0] - before[0], columns.pz()[0] - before[1]];
            if way[0].hypot(way[1]) > 1e-3 {
                heading = Some(way[0].atan2(way[1]));
            }
            let off = heading.map_or(0.0, |heading| (columns.turn()[0] - heading).sin().abs());
            prop_assert!(off < 0.03, "{} {heading:?}", columns.turn()[0]);
        }
    }
}

#[test]
fn walkers_without_a_pusher_are_hidden() {
    let world = world([[0.0; 3], [5.0, 1.0, 0.0]]).build().unwrap();
    let mut figures =
        FixedInstances::new(&FixedSpec::walking(WalkSpec::default()), 3, Span::from(1.0), 1).unwrap();
    let there = |figures: &FixedInstances| figures.columns().px().iter().filter(|x| x.is_finite()).count();
    assert!(there(&figures) == 0 && figures.moves());
    figures.step(&world, 0.5, 2, &mut Meter::new());
    assert_eq!(there(&figures), 1);
    // Without a ground it is as high as its pusher.
    assert_eq!(figures.columns().py()[0], world.pusher_at(0, 1.0).unwrap().at.y);
    assert!(world.pusher_at(1, 1.0).is_none());
}

/// The first element follows the pusher that its walk names, and the next one the pusher after it.
#[test]
fn pushers_are_found_by_name() {
    let pusher = |x: f32| PusherSpec::new([x, 0.0, 0.0], 0.5);
    let spec = WorldSpec::default().pusher(pusher(1.0)).pusher(pusher(2.0).name("cart")).pusher(pusher(3.0));
    let world = spec.build().unwrap();
    let walk = |name: &str| {
        let spec = FixedSpec::walking(WalkSpec::default().pusher(name));
        let mut figures = FixedInstances::new(&spec, 2, Span::from(1.0), 1).unwrap();
        figures.step(&world, 0.5, 1, &mut Meter::new());
        figures.columns().px().to_vec()
    };
    assert_eq!(walk("cart"), [2.0, 3.0]);
    assert!(walk("nobody").iter().all(|x| x.is_nan()));
    let twice = spec.pusher(pusher(4.0).name("cart")).build().unwrap_err();
    assert!(twice.to_string().starts_with("pusher.3.name: 'cart' is used twice"), "{twice}");
}

#[test]
fn bad_walks_are_refused() {
    let told =
        |spec: &FixedSpec, count: u32| FixedInstances::new(spec, count, Span::from(1.0), 1).unwrap_err();
    let walking = FixedSpec::walking(WalkSpec::new(0.7, None));
    let mut swaying = walking.clone();
    swaying.sway = Some(SwaySpec::default());
    let mut hung = walking.clone();
    hung.line.push(LineSpec::new([0.0; 3], [1.0; 3], 0.0));
    for spec in [&swaying, &hung] {
        assert_eq!(told(spec, 1).key, "walk");
    }
    assert_eq!(told(&walking, 5_000).key, "count");
    assert_eq!(told(&FixedSpec::walking(WalkSpec::new(f32::NAN, None)), 1).key, "walk.stride");
    let lost = FixedSpec::walking(WalkSpec::new(0.7, Some(ground())));
    assert_eq!(told(&lost, 1).key, "walk.terrain.asset");
}
