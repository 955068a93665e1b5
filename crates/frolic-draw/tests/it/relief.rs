//! Masks as stone, pictures painted over, looks at a distance grid, trails as ribbons.

use std::sync::Arc;

use frolic_core::{
    Asset, Assets, BakeSpec, EmitterSpec, Mask, Meter, ObstacleSpec, ParticleSpec, Particles, Plane, Surface,
    TrailSpec, World, WorldSpec,
};
use frolic_diagnostics::preview;
use frolic_draw::{AtlasBuilder, ImageSize, Library, LookSpec, Picture, RELIEF_SCALE, ReliefSpec, Trails};
use proptest::prelude::*;

/// A world with one mask, solid below a slanting line.
fn world() -> World {
    let (wide, high) = (120, 90);
    let solid = |k: usize| f32::from(u8::from((k / wide) as f32 <= 30.0 + (k % wide) as f32 * 0.25));
    let mut assets = Assets::default();
    assets.insert(
        "rock",
        Asset::Plane(Plane::new(wide, high, (0..wide * high).map(solid).collect()).unwrap().into()),
    );
    WorldSpec::default().obstacle(ObstacleSpec::mask("rock", [0.0; 3], 6.0)).build_with(&assets).unwrap()
}

fn whole(mask: &Mask) -> Picture {
    ReliefSpec::default().paint(mask, [0, 0, mask.width(), mask.height()]).unwrap()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(16))]

    /// Painting over what was dug, edit by edit, ends in what painting all of it does; on every copy of the page.
    #[test]
    fn painting_over_equals_painting_anew(strokes in prop::collection::vec((-3.5f32..3.5, -2.5f32..2.5, 0.05f32..0.6, any::<bool>()), 1..6)) {
        let mut world = world();
        let mask = |world: &World| world.mask(0).unwrap().clone();
        let built = |mask: &Mask| {
            let mut builder = AtlasBuilder::default();
            let region = builder.picture("stone", whole(mask)).frame(0);
            (builder.build().unwrap(), region)
        };
        let (mut atlas, region) = built(&mask(&world));
        let mut seen = mask(&world).stamp();
        for (x, y, radius, dig) in strokes {
            let changed = if dig { world.dig(0, [x, y, 0.0], radius) } else { world.fill(0, [x, y, 0.0], radius) };
            let now = mask(&world);
            prop_assert_eq!(now.changed_since(seen).is_some(), changed > 0);
            if let Some([x0, y0, x1, y1]) = now.changed_since(seen) {
                let part = ReliefSpec::default().paint(&now, [x0, y0, x1, y1]).unwrap();
                prop_assert_eq!(part.size(), [((x1 - x0) * RELIEF_SCALE) as u32, ((y1 - y0) * RELIEF_SCALE) as u32]);
                let at = [x0 * RELIEF_SCALE, (now.height() - y1) * RELIEF_SCALE].map(|at| at as u32);
                atlas.repaint(region, at, &part);
                seen = now.stamp();
            }
        }
        let (anew, _) = built(&mask(&world));
        let (side, levels) = atlas.page(0).unwrap();
        let (want_side, want) = anew.page(0).unwrap();
        prop_assert_eq!(side, want_side);
        // The padding around the picture is the edge of the first painting; the picture itself is what is looked up.
        for (level, (got, want)) in levels.iter().zip(want).enumerate() {
            let (w, h) = ((120 * RELIEF_SCALE) >> level, (90 * RELIEF_SCALE) >> level);
            let side = side >> level;
            for y in 0..h {
                prop_assert_eq!(&got[y * side..y * side + w], &want[y * side..y * side + w], "level {} row {}", level, y);
            }
        }
    }
}

#[test]
fn mask_reliefs_cover_the_mask_and_are_lit() {
    let world = world();
    let mask = world.mask(0).unwrap();
    let picture = whole(mask);
    let [w, h] = picture.size();
    let at = |x: u32, y: u32| picture.pixels()[(y * w + x) as usize];
    // Rows come from the top: rock below, nothing above, soft between.
    assert_eq!(at(w / 2, 2)[3], 0);
    assert_eq!(at(w / 2, h - 2)[3], 255);
    let soft = picture.pixels().iter().filter(|pixel| (1..255).contains(&pixel[3])).count();
    assert!((200..3000).contains(&soft), "{soft}");
    let bright = |pixel: [u8; 4]| u32::from(pixel[0]) + u32::from(pixel[1]) + u32::from(pixel[2]);
    let column: Vec<u32> = (0..h).map(|y| at(w / 2, y)).filter(|p| p[3] == 255).map(bright).collect();
    // Lit from above right: bright along its upper edge, dark within.
    assert!(column[1] > column[column.len() / 2] * 2, "{:?}", &column[..4]);
    let mut spec = ReliefSpec::default();
    spec.edge_depth = 0.0;
    assert_eq!(spec.check().unwrap_err().key, "edge_depth");
    assert!(ReliefSpec::default().paint(mask, [5, 5, 5, 9]).is_err(), "no cell at all");
}

#[test]
fn textures_are_painted_over_in_place_or_in_a_copy() {
    let mut builder = AtlasBuilder::default();
    let region = builder.picture("a", Picture::paint([16, 16], |_, _| [0, 0, 0, 255]).unwrap()).frame(0);
    let library = Library { meshes: Default::default(), atlas: Arc::new(builder.build().unwrap()) };
    let mut look = LookSpec::sprites(false, 0).build_with(&library).unwrap();
    let white = Picture::paint([4, 4], |_, _| [255; 4]).unwrap();
    // Held by the library too: that one stays as it was.
    look.textures_mut().repaint(region, [8, 8], &white);
    assert_eq!(library.atlas.sample(region, 0.6, 0.6, 1.0), [0.0, 0.0, 0.0, 1.0]);
    assert_eq!(look.textures_mut().sample(region, 0.6, 0.6, 1.0), [1.0; 4]);
    assert_eq!(look.textures_mut().sample(region, 0.2, 0.2, 1.0), [0.0, 0.0, 0.0, 1.0]);
    // What does not fit is left.
    look.textures_mut().repaint(region, [14, 14], &white);
    look.textures_mut().repaint(region, [400, 0], &white);
    assert_eq!(look.textures_mut().sample(region, 0.97, 0.97, 1.0), [1.0; 4]);
}

#[test]
fn a_view_of_a_grid_shows_it() {
    let grid = BakeSpec::new(24).bake(&Surface::ball(8)).unwrap();
    let image = preview(&grid, ImageSize::new(320, 200).unwrap());
    let at = |x: usize, y: usize| image.pixels()[y * 320 + x];
    let warm = |p: [u8; 4]| p[0] > p[2].saturating_add(20);
    // The ball in the middle of the view is warm, what is around it is not; so are the middles of the slices.
    assert!(warm(at(127, 100)) && !warm(at(4, 4)) && !warm(at(240, 190)));
    for nth in 0..3 {
        assert!(warm(at(320 - 33, 33 + nth * 66)), "slice {nth}");
        assert!(!warm(at(320 - 33 - 28, 33 + nth * 66)), "outside, slice {nth}");
    }
    // Of any size, even none that fits.
    for size in [[1, 1], [7, 300], [300, 7]] {
        preview(&grid, ImageSize::new(size[0], size[1]).unwrap());
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Stretches of trails join: each begins where the one before ended, the first at the element, whenever the picture is taken.
    #[test]
    fn ranges_join(seed in any::<u32>(), places in 1u32..9, steps in 3u32..50, lag in 0f32..0.016) {
        let spec = ParticleSpec::new(60)
            .life(0.5, 2.0)
            .trail(TrailSpec::new(places, 0.04))
            .emitter(EmitterSpec::rate(80.0).cone([0.0, 1.0, 0.0], 60.0).speed(1.0, 4.0));
        let mut all = Particles::new(&spec, seed).unwrap();
        all.step(&WorldSpec::default().build().unwrap(), 1.0 / 60.0, steps, &mut Meter::new());
        let mut trails = Trails::default();
        trails.take(all.columns(), all.trail().unwrap(), lag, 0.8);
        let instances = trails.instances().unwrap();
        prop_assert!(instances.len() <= all.len() * places as usize);
        let mut before: Option<(u32, [f32; 3], f32)> = None;
        for nth in 0..instances.len() {
            let stretch = instances.element(nth).unwrap();
            let [_, tip] = stretch.curve.unwrap();
            let end = std::array::from_fn(|axis| stretch.position[axis] + tip[axis]);
            prop_assert!((0.0..=1.0).contains(&stretch.age));
            match before {
                Some((id, place, size)) if id == stretch.id => {
                    let off = (0..3).map(|axis| (place[axis] - stretch.position[axis]).abs()).fold(0.0, f32::max);
                    prop_assert!(off < 1e-4, "{}", off);
                    prop_assert!(stretch.size < size);
                }
                _ => {
                    let i = all.columns().key().iter().position(|key| *key == stretch.id).unwrap();
                    let row = all.columns().row(i).unwrap();
                    prop_assert!((stretch.position[1] - (row.py - row.vy * lag)).abs() < 1e-4);
                    prop_assert_eq!(stretch.size, row.size);
                }
            }
            before = Some((stretch.id, end, stretch.size));
        }
    }
}
