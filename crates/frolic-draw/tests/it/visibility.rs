//! Culling, detail, shadows and diagnostics: nothing that can be seen is left out, and what was done can be read.

use crate::common::{cloud, picture, plain};
use frolic_core::{Counter, Frame, Meter};
use frolic_diagnostics::Show;
use frolic_draw::{
    AtlasBuilder, BackdropSpec, Blend, Bounds, CHUNK, CameraSpec, Colour, DetailSpec, GroundSpec, Image,
    ImageSize, Instances, Library, Look, LookSpec, Mesh, Picture, Renderer, RibbonSpec, Shape, SunSpec,
    Technique, View, chunk_parts,
};
use frolic_list::{ListScratch, ListSpec, Surroundings};
use proptest::prelude::*;

fn view(position: [f32; 3], target: [f32; 3], fov: f32, size: (u32, u32)) -> View {
    let mut camera = CameraSpec::new(position, target, fov);
    camera.bloom = 0.0;
    camera.view(ImageSize::new(size.0, size.1).unwrap()).unwrap()
}

fn show(
    show: Show,
    instances: Instances<'_>,
    look: &Look,
    view: &View,
    backdrop: &BackdropSpec,
    sun: Option<&SunSpec>,
) -> (Image, Frame) {
    let (mut scratch, mut meter) = (ListScratch::default(), Meter::new());
    meter.begin_frame();
    let around = Surroundings::new(backdrop).sun(sun);
    let list = scratch.list([(instances, look)], &ListSpec::default(), view, &around, &mut meter);
    let mut image = Image::new(view.size());
    show.paint(&mut Renderer::new(), &list, view, backdrop, &mut image, &mut meter);
    (image, meter.end_frame())
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    /// A box any point of which can be seen is never culled.
    #[test]
    fn everything_touching_the_view_is_kept(
        eye in prop::array::uniform3(-20f32..20.0), target in prop::array::uniform3(-20f32..20.0), fov in 1f32..170.0,
        w in 1u32..300, h in 1u32..300, low in prop::array::uniform3(-60f32..60.0),
        size in prop::array::uniform3(0f32..60.0), share in prop::array::uniform3(0f32..1.0),
    ) {
        prop_assume!(glam::Vec3::from(eye).distance(target.into()) > 0.1);
        let view = view(eye, target, fov, (w, h));
        let high = [0, 1, 2].map(|k| low[k] + size[k]);
        let point = [0, 1, 2].map(|k| low[k] + size[k] * share[k]);
        if let Some([x, y, _]) = view.project(point)
            && x >= 0.0 && y >= 0.0 && x <= w as f32 && y <= h as f32
        {
            let bounds = Bounds { low, high };
            prop_assert!(view.sees(&bounds));
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Boxes around chunks change what is worked on, never the picture.
    #[test]
    fn chunks_out_of_view_leave_no_gap(seed in any::<u32>(), yaw in -3.2f32..3.2, size in 0.01f32..0.4) {
        let count = 3 * CHUNK as u32 + 17;
        let cloud = cloud(count, [size, size], [40.0, 2.0, 4.0], seed);
        // Sorted along x, so that chunks are places.
        let mut rows: Vec<_> = (0..cloud.len()).map(|n| cloud.columns().row(n).unwrap()).collect();
        rows.sort_by(|a, b| a.px.total_cmp(&b.px));
        let [x, y, z] = [0, 1, 2].map(|axis| rows.iter().map(|r| [r.px, r.py, r.pz][axis]).collect::<Vec<f32>>());
        let sizes: Vec<f32> = rows.iter().map(|row| row.size).collect();
        let look = LookSpec::glowing(1.0, [(0.0, "#ffffff")]).unwrap().build().unwrap();
        let bounds: Vec<_> = chunk_parts([&x, &y, &z], look.reach_of(size, None)).collect();
        let view = view([0.0, 0.5, 0.0], [yaw.sin(), 0.5, -yaw.cos()], 35.0, (90, 60));
        let all = Instances::at([&x, &y, &z]).unwrap().sized(&sizes).unwrap();
        let (whole, before) = show(Show::Picture, all, &look, &view, &plain(), None);
        let (parts, after) = show(Show::Picture, all.in_parts(&bounds).unwrap(), &look, &view, &plain(), None);
        prop_assert!(whole == parts);
        prop_assert!(after.count(Counter::CulledInChunks) > 0 || yaw.cos().abs() > 0.8);
        prop_assert_eq!(
            before.count(Counter::Culled),
            after.count(Counter::Culled) + after.count(Counter::CulledInChunks)
        );
    }
}

/// Posts on a plain of ground, one a metre, and the sun.
fn posts(across: u32) -> ([Vec<f32>; 3], Vec<f32>) {
    let count = across * across;
    let x = (0..count).map(|n| (n % across) as f32 - across as f32 * 0.5 + 0.5).collect();
    let z = (0..count).map(|n| (n / across) as f32 - across as f32 * 0.5 + 0.5).collect();
    ([x, vec![0.0; count as usize], z], vec![0.3; count as usize])
}

fn meadow() -> (BackdropSpec, SunSpec) {
    let mut backdrop = plain();
    let mut ground = GroundSpec::default();
    (ground.mottled, ground.colour) = (0.0, Colour::new(0.3, 0.3, 0.3));
    backdrop.ground = Some(ground);
    let mut sun = SunSpec::new(40.0, 84.0, Colour::WHITE, 2.0);
    (sun.shadow_map, sun.shadow_reach) = (512, 30.0);
    (backdrop, sun)
}

fn post_look() -> Look {
    let shape = Shape::mesh("box");
    LookSpec::solid(shape, "#808080").unwrap().build().unwrap()
}

#[test]
fn the_sun_throws_shadows() {
    let (backdrop, sun) = meadow();
    let ([x, y, z], sizes) = ([vec![0.0], vec![0.0], vec![0.0]], vec![1.0]);
    let look = post_look();
    let post = Instances::at([&x, &y, &z]).unwrap().sized(&sizes).unwrap().turned(&[0.0], &[0.0]).unwrap();
    let view = view([0.0, 6.0, 0.1], [0.0, 0.0, 0.0], 60.0, (160, 100));
    let (image, frame) = show(Show::Picture, post, &look, &view, &backdrop, Some(&sun));
    assert_eq!(frame.count(Counter::ShadowRecords), 6, "the sides that face the sun");
    // The sun stands over +x, so the shadow lies on the side of -x.
    let at = |place: [f32; 3]| {
        let [px, py, _] = view.project(place).unwrap();
        i32::from(image.pixels()[py as usize * 160 + px as usize][1])
    };
    let (lit, shaded) = (at([1.6, 0.0, 0.0]), at([-0.9, 0.0, 0.0]));
    assert!(lit > shaded + 40, "{lit} {shaded}");
    assert!((at([-2.6, 0.0, 0.0]) - lit).abs() < 8, "beyond the shadow it is light again");
    let mut without = sun;
    without.shadow_map = 0;
    let (flat, _) = show(Show::Picture, post, &look, &view, &backdrop, Some(&without));
    let [px, py, _] = view.project([-0.9, 0.0, 0.0]).unwrap();
    assert!((i32::from(flat.pixels()[py as usize * 160 + px as usize][1]) - lit).abs() < 8);
}

/// The sun shines through the holes of a texture, and through nothing else: a board of four by four squares, every other one a hole.
#[test]
fn holes_let_the_sun_through() {
    let (backdrop, mut sun) = meadow();
    // From behind the board, at half a right angle: the shadow is as long as the board is high.
    (sun.height_degrees, sun.bearing_degrees, sun.shadow_reach) = (45.0, 0.0, 12.0);
    let board = [[0.0, 0.0, 0.0], [1.0, 0.0, 0.0], [1.0, 1.0, 0.0], [0.0, 1.0, 0.0]];
    let solid = |x: u32, y: u32| (x / 16 + y / 16).is_multiple_of(2);
    let mut atlas = AtlasBuilder::default();
    let checks = Picture::paint([64, 64], |x, y| [255, 255, 255, if solid(x, y) { 255 } else { 0 }]);
    atlas.picture("checks", checks.unwrap());
    let mut library = Library { atlas: atlas.build().unwrap().into(), ..Library::default() };
    library.meshes.insert("board".into(), Mesh::faceted(&board, &[[0, 1, 2], [0, 2, 3]]).unwrap().into());
    let mut spec = LookSpec::solid(Shape::textured_mesh("board", "checks"), "#808080").unwrap();
    spec.blend = Blend::CutOut;
    let look = spec.build_with(&library).unwrap();
    let view = view([2.0, 9.0, 2.1], [2.0, 0.0, 2.0], 50.0, (200, 200));
    let one = Instances::at([&[0.0], &[0.0], &[0.0]]).unwrap().sized(&[4.0]).unwrap();
    let one = one.turned(&[0.0], &[0.0]).unwrap();
    let (image, _) = show(Show::Picture, one, &look, &view, &backdrop, Some(&sun));
    let at = |x: f32, z: f32| {
        let [px, py, _] = view.project([x, 0.0, z]).unwrap();
        image.pixels()[py as usize * 200 + px as usize][1]
    };
    let lit = at(2.0, 4.6);
    for (x, z) in (0..4).flat_map(|x| (0..4).map(move |z| (x, z))) {
        let here = at(x as f32 + 0.5, z as f32 + 0.5);
        // Far off lies what is high up.
        let shaded = solid(x * 16, (3 - z) * 16);
        assert_eq!(here + 20 < lit, shaded, "{x} across, {z} away: {here} where {lit} is light");
    }
}

/// However many there are, each throws its shadow.
#[test]
fn no_shadow_goes_missing_as_counts_rise() {
    let (backdrop, sun) = meadow();
    let look = post_look();
    for across in [2, 8, 20] {
        let ([x, y, z], sizes) = posts(across);
        let turn = vec![0.0; x.len()];
        let all = Instances::at([&x, &y, &z]).unwrap().sized(&sizes).unwrap().turned(&turn, &turn).unwrap();
        let view = view([0.0, 24.0, 0.1], [0.0, 0.0, 0.0], 60.0, (300, 300));
        let (image, frame) = show(Show::Shadow, all, &look, &view, &backdrop, Some(&sun));
        // Some triangles reach no texel.
        let posts = u64::from(across * across);
        assert!((posts..=posts * 6).contains(&frame.count(Counter::ShadowRecords)));
        let dark = |x: f32, z: f32| {
            let [px, py, _] = view.project([x - 0.29, 0.0, z]).unwrap();
            let [r, _, b, _] = image.pixels()[py as usize * 300 + px as usize];
            b > r
        };
        // The legend and the inset hide corners; in the middle every one is there.
        let seen = x.iter().zip(&z).filter(|(x, z)| x.abs() < 5.0 && z.abs() < 5.0);
        let (mut total, mut found) = (0, 0);
        for (x, z) in seen {
            total += 1;
            found += u32::from(dark(*x, *z));
        }
        assert!(total > 0 && found == total, "{found} of {total}");
    }
}

/// A frame of a running scene: the picture of posts that are moved aside, with the tiles of the shadow map that were kept.
struct Run {
    renderer: Renderer,
    backdrop: BackdropSpec,
    sun: SunSpec,
    look: Look,
    view: View,
}

impl Run {
    fn new() -> Self {
        let (backdrop, sun) = meadow();
        let view = view([0.0, 24.0, 0.1], [0.0, 0.0, 0.0], 60.0, (160, 160));
        Self { renderer: Renderer::new(), backdrop, sun, look: post_look(), view }
    }

    fn frame(&mut self, time: f32, aside: f32) -> (Image, u64) {
        self.frame_with(time, aside, None)
    }

    /// With another post at a place.
    fn frame_with(&mut self, time: f32, aside: f32, other: Option<[f32; 3]>) -> (Image, u64) {
        let ([mut x, y, z], sizes) = posts(12);
        x.iter_mut().for_each(|x| *x += aside);
        let turn = vec![0.0; x.len()];
        let all = Instances::at([&x, &y, &z]).unwrap().sized(&sizes).unwrap().turned(&turn, &turn).unwrap();
        let (mut scratch, mut meter) = (ListScratch::default(), Meter::new());
        meter.begin_frame();
        let around = Surroundings::new(&self.backdrop).sun(Some(&self.sun)).time(time);
        let [ox, oy, oz] = other.unwrap_or_default().map(|at| [at]);
        let other = other.map(|_| {
            let post = Instances::at([&ox, &oy, &oz]).unwrap().sized(&[1.0]).unwrap();
            (post.turned(&[0.0], &[0.0]).unwrap(), &self.look)
        });
        let all = std::iter::once((all, &self.look)).chain(other);
        let list = scratch.list(all, &ListSpec::default(), &self.view, &around, &mut meter);
        let mut image = Image::new(self.view.size());
        self.renderer.render(&list, &self.view, &self.backdrop, &mut image, &mut meter);
        (image, meter.end_frame().count(Counter::ShadowKept))
    }
}

/// Tiles of the map in these tests.
const TILES: u64 = 81;

/// Shadows that are drawn in turn are those of a map that is drawn whole, in each of sixty frames; what stands is drawn no more.
#[test]
fn shadows_in_turn_do_not_flicker() {
    let mut run = Run::new();
    let (whole, kept) = run.frame(0.0, 0.0);
    assert_eq!(kept, 0);
    let turns = u64::from(run.sun.shadow_frames);
    for nth in 1..60 {
        let (image, kept) = run.frame(nth as f32 / 60.0, 0.0);
        assert_eq!(kept == TILES, nth > turns, "{kept} of {TILES} tiles");
        assert!(image == whole, "frame {nth}");
    }
}

/// Where something moves, tiles are drawn anew in turn; where all stands they are kept.
#[test]
fn only_what_moves_has_its_shadow_drawn_again() {
    let mut run = Run::new();
    let place = |nth: usize| [4.0 + 0.05 * nth.clamp(15, 30) as f32, 0.0, 3.0];
    let kept: Vec<u64> =
        (0..45).map(|nth| run.frame_with(nth as f32 / 60.0, 0.0, Some(place(nth))).1).collect();
    assert_eq!((kept[14], kept[44]), (TILES, TILES));
    let drawn = kept[16..31].iter().map(|kept| TILES - kept);
    assert!(drawn.clone().all(|drawn| drawn < 9) && drawn.sum::<u64>() > 15, "{kept:?}");
    let (image, _) = run.frame_with(1.0, 0.0, Some(place(44)));
    run.renderer = Renderer::new();
    assert!(image == run.frame_with(1.0, 0.0, Some(place(44))).0);
    // What goes leaves no shadow behind.
    let (gone, _) = run.frame_with(2.0, 0.0, None);
    run.renderer = Renderer::new();
    run.frame_with(1.0, 0.0, Some(place(44)));
    for nth in 1..=run.sun.shadow_frames {
        let (image, _) = run.frame_with(1.0 + nth as f32 / 60.0, 0.0, None);
        assert!(nth < run.sun.shadow_frames || image == gone);
    }
}

/// What moves takes its shadow along within the frames of a turn, and pixels are as they were or as they will be.
#[test]
fn shadows_follow_what_moves() {
    let (before, after) = (Run::new().frame(0.0, 0.0).0, Run::new().frame(0.0, 0.06).0);
    let mut run = Run::new();
    let turns = run.sun.shadow_frames;
    run.frame(0.0, 0.0);
    for nth in 1..=turns {
        let (image, kept) = run.frame(nth as f32 / 60.0, 0.06);
        assert!(kept > 0);
        // But for a few, where a shadow that is still to move falls on what has moved.
        let all = image.pixels().iter().zip(before.pixels()).zip(after.pixels());
        let strays = all.filter(|((now, before), after)| {
            let [now, before, after] = [now, before, after].map(|pixel| pixel[1]);
            now + 2 < before.min(after) || now > before.max(after).saturating_add(2)
        });
        assert!(strays.count() * 200 < image.pixels().len());
        assert_eq!(image == after, nth == turns, "frame {nth} of {turns}");
    }
}

/// A map that moves on with the camera shows what one that is drawn whole shows: nothing is missing where tiles come in, and nothing crawls.
#[test]
fn shadows_stay_while_the_camera_moves() {
    let mut run = Run::new();
    let mut kept_all = 0;
    for nth in 0..60 {
        // Along a wavy line that takes it over several tiles, and back.
        let t = nth as f32 / 60.0 * std::f32::consts::TAU;
        let [x, z] = [12.0 * t.sin(), 9.0 * (2.0 * t).sin()];
        run.view = view([x, 24.0, z + 0.1], [x, 0.0, z], 60.0, (160, 160));
        let time = nth as f32 / 60.0;
        let (image, kept) = run.frame(time, 0.0);
        assert_eq!(kept == 0, nth == 0, "frame {nth}");
        kept_all += kept;
        let renderer = std::mem::take(&mut run.renderer);
        let (whole, _) = run.frame(time, 0.0);
        run.renderer = renderer;
        let off = image.pixels().iter().zip(whole.pixels()).filter(|(a, b)| a[1].abs_diff(b[1]) > 2).count();
        // Texels at the very edge of a shadow may round to the other side.
        assert!(off * 1000 < image.pixels().len(), "{off} pixels of frame {nth}");
    }
    assert!(kept_all > 59 * 20, "{kept_all} tiles kept");
}

/// What changes before a frame; returns the frame's time.
type Change<'a> = &'a dyn Fn(&mut Run) -> f32;

/// A picture that is no next frame of a running scene has all of its shadows drawn.
#[test]
fn any_other_change_draws_all_shadows() {
    let settled = || {
        let mut run = Run::new();
        run.frame(0.0, 0.0);
        assert!(run.frame(0.02, 0.0).1 > 0);
        run
    };
    let changes: [(&str, Change<'_>); 9] = [
        ("time stands", &|_| 0.02),
        ("time goes back", &|_| 0.01),
        ("time jumps", &|_| 0.5),
        ("the camera, far away", &|run| {
            run.view = view([900.0, 24.0, 0.1], [900.0, 0.0, 0.0], 60.0, (160, 160));
            0.04
        }),
        ("the camera, to where texels have another size", &|run| {
            run.view = view([0.0, 50.0, 0.1], [0.0, 0.0, 0.0], 60.0, (160, 160));
            0.04
        }),
        ("the sun", &|run| {
            run.sun.bearing_degrees += 1.0;
            0.04
        }),
        ("the map", &|run| {
            run.sun.shadow_map = 256;
            0.04
        }),
        ("the look", &|run| {
            run.look = LookSpec::solid(Shape::mesh("box"), "#808000").unwrap().build().unwrap();
            0.04
        }),
        ("no turns", &|run| {
            run.sun.shadow_frames = 1;
            0.04
        }),
    ];
    for (name, change) in changes {
        let mut run = settled();
        let time = change(&mut run);
        let (image, kept) = run.frame(time, 0.2);
        assert_eq!(kept, 0, "{name}");
        let mut fresh = Run { renderer: Renderer::new(), ..run };
        assert!(fresh.frame(time, 0.2).0 == image, "{name}");
    }
}

/// Solid elements of more rounds than one are lit as those of one round: the colours of triangles are worked out in between.
#[test]
fn rounds_change_no_shadow() {
    let (backdrop, sun) = meadow();
    let view = view([0.0, 1.2, 5.0], [0.0, 0.6, -6.0], 55.0, (200, 120));
    // Slabs that recede from the viewer, then more boxes than a round of 8192 elements holds.
    let (slabs, boxes) = (40, 8400);
    let share = |n: usize, by: f32| (n as f32 * by).fract();
    let place = |n: usize, by: f32, wide: f32| (share(n, by) - 0.5) * wide;
    let count = slabs + boxes;
    let position = [
        (0..count).map(|n| place(n, 0.618_034, 9.0)).collect::<Vec<f32>>(),
        (0..count).map(|n| if n < slabs { 0.1 } else { 0.2 + share(n, 0.414_214) }).collect(),
        (0..count).map(|n| place(n, 0.732_051, 12.0) - 4.0).collect(),
    ];
    let size: Vec<f32> = (0..count).map(|n| if n < slabs { 1.6 } else { 0.04 }).collect();
    let turn: [Vec<f32>; 2] =
        [(0..count).map(|n| place(n, 0.3, 6.0)).collect(), (0..count).map(|n| place(n, 0.9, 1.2)).collect()];
    let look = LookSpec::solid(Shape::mesh("box"), "#a08060").unwrap().build().unwrap();
    let drawn = |tile, round, level| {
        let instances = Instances::at(position.each_ref().map(|column| &column[..]))
            .and_then(|all| all.sized(&size))
            .and_then(|all| all.turned(&turn[0], &turn[1]))
            .unwrap();
        let mut renderer = Renderer::tuned(tile, round, level);
        picture(&mut renderer, &[(instances, &look)], Technique::Instanced, &view, &backdrop, Some(&sun)).0
    };
    for level in frolic_core::simd::levels() {
        let whole = drawn([6, 6], 128, level);
        assert!(drawn([6, 6], 1, level) == whole, "rounds of one chunk, {level:?}");
        assert!(drawn([4, 5], 1, level) == whole, "small tiles, {level:?}");
    }
}

/// A strand throws a shadow too, and discs none.
#[test]
fn ribbons_cast_shadows_and_discs_do_not() {
    let (backdrop, sun) = meadow();
    let ([x, y, z], sizes) = posts(4);
    let all = Instances::at([&x, &y, &z]).unwrap().sized(&sizes).unwrap();
    let view = view([0.0, 9.0, 0.1], [0.0, 0.0, 0.0], 60.0, (80, 80));
    let blades = LookSpec::solid(Shape::Ribbon(RibbonSpec::default()), "#80a060").unwrap().build().unwrap();
    let (_, frame) = show(Show::Picture, all, &blades, &view, &backdrop, Some(&sun));
    assert_eq!(frame.count(Counter::ShadowRecords), 16);
    let discs = LookSpec::default().build().unwrap();
    let (_, frame) = show(Show::Picture, all, &discs, &view, &backdrop, Some(&sun));
    assert_eq!(frame.count(Counter::ShadowRecords), 0);
}

/// Far elements go one by one, and the meter says how many.
#[test]
fn far_elements_thin_out() {
    let cloud = cloud(4000, [0.02, 0.05], [60.0, 1.0, 60.0], 3);
    let view = view([0.0, 2.0, 32.0], [0.0, 0.0, 0.0], 60.0, (120, 80));
    let drawn = |detail: DetailSpec| {
        let mut look = LookSpec::glowing(1.0, [(0.0, "#ffffff")]).unwrap();
        look.detail = detail;
        let look = look.build().unwrap();
        let instances = Instances::of(cloud.columns(), 0.0);
        let (_, frame) = show(Show::Picture, instances, &look, &view, &plain(), None);
        (frame.count(Counter::Triangles) / 2, frame.count(Counter::Thinned), frame.count(Counter::Coarse))
    };
    let (all, none, _) = drawn(DetailSpec::default());
    assert_eq!(none, 0);
    let mut before = all;
    for reach in [60.0, 45.0, 30.0, 12.0] {
        let (kept, thinned, _) = drawn(DetailSpec::reach(reach, 0.5));
        assert!(kept < before && thinned > 0, "{reach}: {kept} of {before}");
        before = kept;
    }
    let (kept, thinned, _) = drawn(DetailSpec::default().thin_below(4.0));
    assert!(kept < all * 9 / 10 && thinned > all / 20, "{kept} {thinned}");
}

#[test]
fn diagnostics_can_be_read() {
    let (backdrop, sun) = meadow();
    let ([x, y, z], sizes) = posts(6);
    let mut look = LookSpec::solid(Shape::Ribbon(RibbonSpec::default()), "#80a060").unwrap();
    look.detail = DetailSpec::reach(14.0, 0.6).coarse_below(9.0);
    let look = look.build().unwrap();
    let all = Instances::at([&x, &y, &z]).unwrap().sized(&sizes).unwrap();
    let view = view([0.0, 3.0, 8.0], [0.0, 0.5, 0.0], 60.0, (320, 240));
    let mut pictures = Vec::new();
    for what in Show::ALL {
        // Plans are of a scene; of a list they are the picture itself.
        if matches!(what, Show::Placement | Show::Wind | Show::Neighbours | Show::NeighboursInView) {
            continue;
        }
        let (image, _) = show(what, all, &look, &view, &backdrop, Some(&sun));
        let mut tones: Vec<[u8; 4]> = image.pixels().to_vec();
        tones.sort_unstable();
        tones.dedup();
        assert!(tones.len() > 8, "{} has {} tones", what.name(), tones.len());
        assert!(pictures.iter().all(|other| *other != image), "{} looks like another", what.name());
        pictures.push(image);
    }
}

/// Without a backdrop: nothing where nothing is, covered where something is, and the same colours over black.
#[test]
fn transparent_pictures_are_straight() {
    let mut look = LookSpec::covering([(0.0, "#ff8040")]).unwrap();
    look.lit = 0.0;
    let look = look.build().unwrap();
    let (zero, size) = ([0.0f32], [1.0f32]);
    let disc = Instances::at([&zero; 3]).unwrap().sized(&size).unwrap();
    let view = view([0.0, 0.0, 5.0], [0.0; 3], 40.0, (81, 61));
    let (mut scratch, mut meter, backdrop) = (ListScratch::default(), Meter::new(), plain());
    let around = Surroundings::new(&backdrop);
    let list = scratch.list([(disc, &look)], &ListSpec::default(), &view, &around, &mut meter);
    let mut image = Image::new(view.size());
    Renderer::new().render_transparent(&list, &view, &mut image, &mut meter);
    assert_eq!(image.pixels()[0], [0; 4]);
    let [r, g, b, a] = image.pixels()[30 * 81 + 40];
    assert!(a > 250 && r > g && g > b, "{:?}", [r, g, b, a]);
    let edge = image.pixels()[30 * 81 + 26];
    assert!(edge[3] > 5 && edge[3] < 230, "{edge:?}");
}
