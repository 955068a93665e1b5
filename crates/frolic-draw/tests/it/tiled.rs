//! `tiled` against `instanced`: how far the picture is off, what is found and what is made anew, and how groups stand among other things.

use crate::common;
use crate::common::{part, plain};
use frolic_core::simd::{Level, detect};
use frolic_core::{
    AreaSpec, BladeMotion, BladeSpec, Blades, ClumpSpec, Counter, Frame, GroupSpec, Meter, On, PatternSpec,
    PlacementSpec, Span, Threads, World, WorldSpec,
};
use frolic_draw::{
    BackdropSpec, Blend, Bounds, CameraSpec, Colour, DetailSpec, GroundSpec, Groups, Image, ImageSize,
    Instances, Look, LookSpec, Part, PlacedGroup, Renderer, RibbonSpec, Shape, SunSpec, Technique, View,
};
use proptest::prelude::*;

/// Mean difference of a channel from `instanced`, of 255, in still air; and of the mean colour of the whole picture.
const TOLERANCE: f64 = 14.0;
const TOLERANCE_OF_MEAN: f64 = 2.5;

/// A field, its parts and groups as a scene keeps them.
struct Field {
    blades: Blades,
    parts: Vec<Part>,
    placed: Vec<PlacedGroup>,
}

impl Field {
    fn new(count: u32, grouped: bool) -> Self {
        let blue = PlacementSpec::new(On::Ground(PatternSpec::BlueNoise { distance: 0.0 }));
        let layer = blue.area(AreaSpec::new([0.0; 2], [24.0; 2])).clumps(ClumpSpec::new(0.6));
        let groups = GroupSpec::new(3, 4).beyond(2.0);
        let spec = BladeSpec::new(layer).chunk(2.0).length(0.3, 0.6).motion(BladeMotion::Lean).groups(groups);
        let mut blades = Blades::new(&spec, count, Span::new(0.008, 0.014), 3).unwrap();
        blades.group(grouped);
        Self { blades, parts: Vec::new(), placed: Vec::new() }
    }

    fn step(&mut self, world: &World, view: &View) {
        let eye = view.parts().eye.to_array();
        self.blades.update_visibility(eye, |low, high| view.sees(&Bounds { low, high }));
        self.blades.step(world, 0.02, 1, &mut Meter::new());
        let single = self.blades.chunks().iter().filter(|chunk| chunk.group.is_none());
        self.parts = single.map(part).collect();
        self.placed = self.blades.groups().map(|(middle, group)| PlacedGroup { middle, group }).collect();
    }

    fn instances(&self) -> Instances<'_> {
        let groups =
            Groups { layouts: self.blades.layouts().unwrap(), kind: 0, placed: &self.placed, margin: 0.0 };
        Instances::of(self.blades.columns(), 0.0).in_parts(&self.parts).unwrap().grouped(groups)
    }
}

fn look() -> LookSpec {
    let mut look = LookSpec::solid(Shape::Ribbon(RibbonSpec::new(10.0, 0.0, 3)), "#88a040").unwrap();
    look.tints = vec![Colour::new(0.6, 0.8, 0.5), Colour::new(1.2, 0.9, 0.6)];
    look.translucency = 0.4;
    look
}

fn view(from: [f32; 3], to: [f32; 3]) -> View {
    CameraSpec::new(from, to, 45.0).view(ImageSize::new(320, 200).unwrap()).unwrap()
}

fn sun() -> SunSpec {
    SunSpec::new(40.0, 70.0, Colour::WHITE, 3.0)
}

/// Sky above ground, which the sun and shadows fall on.
fn ground() -> BackdropSpec {
    let mut backdrop = BackdropSpec::default();
    backdrop.ground = Some(GroundSpec::default());
    backdrop
}

fn still() -> World {
    WorldSpec::default().build().unwrap()
}

fn picture(
    renderer: &mut Renderer,
    populations: &[(Instances<'_>, &Look)],
    view: &View,
    backdrop: &BackdropSpec,
    sun: Option<&SunSpec>,
) -> (Image, Frame) {
    common::picture(renderer, populations, Technique::Tiled, view, backdrop, sun)
}

/// Mean difference of a channel, and the greatest difference of a channel's mean, of 255.
fn off(a: &Image, b: &Image) -> (f64, f64) {
    let (mut sum, mut means) = (0.0, [0.0; 3]);
    for (a, b) in a.pixels().iter().zip(b.pixels()) {
        for channel in 0..3 {
            let off = f64::from(a[channel]) - f64::from(b[channel]);
            sum += off.abs();
            means[channel] += off;
        }
    }
    let many = a.pixels().len() as f64;
    (sum / (3.0 * many), means.into_iter().map(|mean| (mean / many).abs()).fold(0.0, f64::max))
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(16))]

    /// From wherever a field is seen in still air, the picture is that of single blades but for the tolerance; shadows are there.
    #[test]
    fn the_picture_is_within_its_tolerance(
        yaw in -3.2f32..3.2, height in 0.5f32..6.0, down in 0.0f32..0.9, shadows in any::<bool>(), count in 2_000u32..20_000,
        thinned in any::<bool>(),
    ) {
        let mut look = look();
        if thinned {
            look.detail = DetailSpec::reach(20.0, 0.5).thin_below(0.8).coarse_below(2.0);
        }
        let look = look.build().unwrap();
        let from = [-yaw.sin() * 9.0, height, yaw.cos() * 9.0];
        let view = view(from, [0.0, height - down * height, 0.0]);
        let sun = shadows.then(sun);
        let (mut single, mut grouped) = (Field::new(count, false), Field::new(count, true));
        single.step(&still(), &view);
        grouped.step(&still(), &view);
        let backdrop = ground();
        let (one, _) = picture(&mut Renderer::new(), &[(single.instances(), &look)], &view, &backdrop, sun.as_ref());
        let (two, frame) = picture(&mut Renderer::new(), &[(grouped.instances(), &look)], &view, &backdrop, sun.as_ref());
        prop_assert!(frame.count(Counter::GroupMisses) > 0);
        let (mean, of_mean) = off(&one, &two);
        prop_assert!(mean < TOLERANCE && of_mean < TOLERANCE_OF_MEAN, "{mean} {of_mean}");
    }
}

#[test]
fn group_pictures_are_cached_until_wind_look_or_light_change() {
    let view = view([0.0, 1.5, 9.0], [0.0; 3]);
    let (plain_look, mut other) = (look().build().unwrap(), look());
    other.translucency = 0.1;
    let other = other.build().unwrap();
    let mut field = Field::new(8_000, true);
    let mut renderer = Renderer::new();
    let backdrop = plain();
    let breeze = WorldSpec::default().wind([5.0, 0.0, 0.0]).build().unwrap();
    let mut shot = |field: &Field, look: &Look, sun: &SunSpec| {
        let (image, frame) =
            picture(&mut renderer, &[(field.instances(), look)], &view, &backdrop, Some(sun));
        (
            image,
            [Counter::GroupHits, Counter::GroupMisses, Counter::GroupBytes]
                .map(|counter| frame.count(counter)),
        )
    };
    field.step(&still(), &view);
    let (first, [hits, misses, bytes]) = shot(&field, &plain_look, &sun());
    assert!(misses > 0 && bytes > 0);
    let (again, [all, none, same]) = shot(&field, &plain_look, &sun());
    assert!(first == again, "the same from pictures that were kept");
    assert_eq!([all, none, same], [hits + misses, 0, bytes]);

    let low = SunSpec::new(12.0, 200.0, Colour::WHITE, 3.0);
    for (look, sun) in [(&plain_look, &low), (&other, &low)] {
        let (_, [_, anew, _]) = shot(&field, look, sun);
        assert_eq!(anew, misses);
    }
    field.step(&breeze, &view);
    let (_, [_, anew, _]) = shot(&field, &other, &low);
    assert_eq!(anew, misses);
}

/// A camera that moves fast draws few new pictures in a frame, and others stand in; when it stops, all are drawn soon.
#[test]
fn pictures_stand_in_while_a_camera_moves_fast() {
    let look = look().build().unwrap();
    let mut field = Field::new(8_000, true);
    let backdrop = plain();
    let at = |turn: f32| view([turn.sin() * 9.0, 1.5, turn.cos() * 9.0], [0.0; 3]);
    let mut renderer = Renderer::new();
    let mut shot = |field: &mut Field, turn: f32| {
        field.step(&still(), &at(turn));
        let (image, frame) =
            picture(&mut renderer, &[(field.instances(), &look)], &at(turn), &backdrop, None);
        (image, frame.count(Counter::GroupMisses))
    };
    let (first, all) = shot(&mut field, 0.0);
    let moving: Vec<u64> = (1..=20).map(|nth| shot(&mut field, nth as f32 * 0.01).1).collect();
    let fewer = moving.iter().sum::<u64>() as f64 / 20.0;
    let anew = |field: &mut Field, turn: f32| {
        field.step(&still(), &at(turn));
        picture(&mut Renderer::new(), &[(field.instances(), &look)], &at(turn), &backdrop, None)
    };
    let exact = anew(&mut field, 0.2).0;
    let (mut last, mut frames) = (shot(&mut field, 0.2).0, 0);
    assert!(off(&last, &exact).0 < TOLERANCE * 1.5, "{:?}", off(&last, &exact));
    while frames < 60 && last != exact {
        (last, frames) = (shot(&mut field, 0.2).0, frames + 1);
    }
    assert!(last == exact && frames > 0, "{frames} frames until all are drawn");
    assert!(all > 20 && fewer < all as f64 / 3.0, "{all} first, then {moving:?}");
    assert!(anew(&mut field, 0.0).0 == first);
}

#[test]
fn threads_tiles_and_instruction_sets_give_the_same_picture() {
    let view = view([3.0, 1.2, 8.0], [0.0; 3]);
    let look = look().build().unwrap();
    let mut field = Field::new(6_000, true);
    field.step(&still(), &view);
    let shot = |threads: u32, tile: [u32; 2], level: Level| {
        let mut renderer = Renderer::tuned(tile, 128, level);
        let backdrop = ground();
        Threads::new(threads)
            .run(|| picture(&mut renderer, &[(field.instances(), &look)], &view, &backdrop, Some(&sun())).0)
    };
    let first = shot(2, [6, 6], detect());
    assert!(first == shot(1, [6, 6], detect()));
    assert!(first == shot(2, [4, 5], detect()));
    for level in frolic_core::simd::levels() {
        // Blades of a picture are a little otherwise where an instruction set rounds otherwise.
        let (mean, _) = off(&first, &shot(2, [6, 6], level));
        assert!(mean < 0.05, "{mean}");
    }
}

/// A board in the field: blades before it hide its foot, and it hides those behind; over water and sky alike.
#[test]
fn groups_stand_before_and_behind_other_things() {
    let view = view([0.0, 1.0, 9.0], [0.0, 0.4, 0.0]);
    let grass = look().build().unwrap();
    let mut board = LookSpec::solid(Shape::Ribbon(RibbonSpec::new(2.0, 0.0, 1)), "#ff0000").unwrap();
    board.lit = 0.0;
    let board = board.build().unwrap();
    let mut field = Field::new(20_000, true);
    field.step(&still(), &view);
    let single = field.parts.iter().filter(|part| view.sees(&part.bounds));
    assert!(single.map(|part| part.bounds.low[2]).all(|z| z > 5.0), "only what is near is single");
    let place = [[0.0], [0.0], [0.0]];
    let [x, y, z] = &place;
    let alone = Instances::at([x, y, z]).unwrap().sized(&[0.6]).unwrap().turned(&[0.0], &[0.0]).unwrap();
    let backdrop = plain();
    let red = |image: &Image| image.pixels().iter().filter(|p| p[0] > 100 && p[1] < p[0] / 2).count();
    let (without, _) = picture(&mut Renderer::new(), &[(alone, &board)], &view, &backdrop, None);
    for order in [true, false] {
        let mut both = [(field.instances(), &grass), (alone, &board)];
        if order {
            both.reverse();
        }
        let (with, _) = picture(&mut Renderer::new(), &both, &view, &backdrop, None);
        let (seen, all) = (red(&with), red(&without));
        assert!(seen > all / 3 && seen < all * 9 / 10, "{seen} of {all}");
    }
}

#[test]
fn nothing_is_drawn_of_groups_behind_beyond_or_without_blades() {
    let ahead = view([0.0, 1.0, 40.0], [0.0, 1.0, 80.0]);
    let mut field = Field::new(5_000, true);
    let mut near = look();
    near.detail = DetailSpec::reach(5.0, 0.5);
    let (near, far) = (near.build().unwrap(), look().build().unwrap());
    let blank = picture(&mut Renderer::new(), &[], &ahead, &plain(), None).0;
    field.step(&still(), &ahead);
    let (image, frame) =
        picture(&mut Renderer::new(), &[(field.instances(), &far)], &ahead, &plain(), Some(&sun()));
    assert!(image == blank && frame.count(Counter::GroupMisses) == 0, "behind");
    let across = view([0.0, 1.0, 40.0], [0.0; 3]);
    field.step(&still(), &across);
    let (image, frame) =
        picture(&mut Renderer::new(), &[(field.instances(), &near)], &across, &plain(), None);
    assert_eq!(frame.count(Counter::GroupMisses), 0, "beyond its reach");
    assert!(image == picture(&mut Renderer::new(), &[], &across, &plain(), None).0);
    let mut empty = Field::new(0, true);
    empty.step(&still(), &across);
    let (image, frame) =
        picture(&mut Renderer::new(), &[(empty.instances(), &far)], &across, &plain(), Some(&sun()));
    assert!(image == picture(&mut Renderer::new(), &[], &across, &plain(), Some(&sun())).0);
    assert_eq!(frame.count(Counter::DrawCalls), 0);
}

/// Beside so many single elements that they take several rounds, and in front of what is transparent in a lower layer, groups leave the sun on
/// the ground where it was.
#[test]
fn the_ground_is_lit_whatever_comes_beside_groups() {
    let view = view([0.0, 2.0, 9.0], [0.0; 3]);
    let grass = look().build().unwrap();
    let (mut grouped, mut single) = (Field::new(3_000, true), Field::new(60_000, false));
    grouped.step(&still(), &view);
    single.step(&still(), &view);
    let backdrop = ground();
    let by = |round: usize| {
        let both = [(single.instances(), &grass), (grouped.instances(), &grass)];
        let mut renderer = Renderer::tuned([6, 6], round, detect());
        picture(&mut renderer, &both, &view, &backdrop, Some(&sun())).0
    };
    assert!(by(1) == by(128));

    // From outside the field: at the lower edge there is ground alone.
    let mut camera = CameraSpec::new([0.0, 2.0, 20.0], [0.0; 3], 45.0);
    camera.bloom = 0.0;
    let view = camera.view(view.size()).unwrap();
    let mut mist = LookSpec::glowing(0.0, [(0.0, "#000000"), (1.0, "#000000")]).unwrap();
    (mist.blend, mist.layer, mist.depth.test) = (Blend::Alpha, -1, false);
    let mist = mist.build().unwrap();
    grouped.step(&still(), &view);
    let alone = Instances::at([&[0.0], &[1.0], &[0.0]]).unwrap().sized(&[40.0]).unwrap();
    let edge = |populations: &[(Instances<'_>, &Look)]| {
        let (image, _) = picture(&mut Renderer::new(), populations, &view, &backdrop, Some(&sun()));
        image.pixels()[199 * 320..].to_vec()
    };
    assert!(edge(&[(alone, &mist)]) != edge(&[]), "the mist is seen");
    assert!(edge(&[(grouped.instances(), &grass), (alone, &mist)]) == edge(&[(alone, &mist)]));
}
