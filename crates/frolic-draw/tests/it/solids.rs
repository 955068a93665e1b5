//! Ribbons and meshes as shapes: how much they cover, from every side, at every thinness, and that nothing of them goes missing.

use crate::common::{picture, plain};
use frolic_core::random::Draws;
use frolic_core::simd::detect;
use frolic_core::{Counter, Frame, Meter, Ramp};
use frolic_diagnostics::reference::LinearImage;
use frolic_draw::{
    Blend, CameraSpec, Colour, DetailSpec, Image, ImageSize, Instances, Look, LookSpec, MESH_NAMES, Mesh,
    Renderer, RibbonSpec, Shape, SunSpec, Technique, View,
};
use frolic_list::{ListScratch, ListSpec, Surroundings};
use proptest::prelude::*;

const METRES_A_PIXEL: f32 = 0.01;

/// A view from far away: a pixel is a centimetre.
fn far(width: u32, height: u32) -> View {
    let half = height as f32 * 0.5 * METRES_A_PIXEL;
    let mut camera = CameraSpec::new([0.0, 0.0, half / 0.5f32.to_radians().tan()], [0.0; 3], 1.0);
    camera.bloom = 0.0;
    camera.view(ImageSize::new(width, height).unwrap()).unwrap()
}

fn draw(instances: Instances<'_>, look: &Look, view: &View, technique: Technique) -> (Image, Frame) {
    picture(&mut Renderer::tuned([5, 4], 3, detect()), &[(instances, look)], technique, view, &plain(), None)
}

/// Coverage of each pixel by the plain form: white over black.
fn coverage(instances: Instances<'_>, look: &Look, view: &View) -> Vec<f32> {
    let (mut scratch, backdrop) = (ListScratch::default(), plain());
    let around = Surroundings::new(&backdrop);
    let list = scratch.list([(instances, look)], &ListSpec::default(), view, &around, &mut Meter::new());
    let mut linear = LinearImage::new(view.size(), [0.0; 3]);
    linear.draw(&list, view);
    linear.pixels().iter().map(|pixel| pixel[0]).collect()
}

/// The most of a pixel and its eight neighbours, in a picture 110 pixels across.
fn most_around(pixels: &[f32], x: f32, y: f32) -> f32 {
    let around = (-1..=1).flat_map(|j| (-1..=1).map(move |i| (i, j)));
    around.map(|(i, j)| pixels[(y as i32 + j) as usize * 110 + (x as i32 + i) as usize]).fold(0.0, f32::max)
}

fn white(shape: Shape) -> LookSpec {
    let mut spec = LookSpec::solid(shape, "#ffffff").unwrap();
    spec.lit = 0.0;
    spec
}

/// A straight ribbon from the middle of the picture, by length and half width in pixels and the turn of its way from the vertical.
struct Straight {
    columns: [[f32; 1]; 7],
    half: [f32; 1],
}

impl Straight {
    fn new(length: f32, half: f32, turn: f32) -> Self {
        let (sin, cos) = turn.sin_cos();
        let tip = [sin * length * METRES_A_PIXEL, cos * length * METRES_A_PIXEL];
        let columns = [0.0, tip[0] * 0.5, tip[1] * 0.5, 0.0, tip[0], tip[1], 0.0].map(|v| [v]);
        Self { columns, half: [half * METRES_A_PIXEL] }
    }

    fn instances(&self) -> Instances<'_> {
        let [zero, mx, my, mz, tx, ty, tz] = &self.columns;
        let placed = Instances::at([zero, zero, zero]).unwrap().sized(&self.half).unwrap();
        placed.curved([mx, my, mz], [tx, ty, tz]).unwrap()
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(80))]

    /// A ribbon covers its width times its length however it leans: upright, lying, upside down.
    #[test]
    fn a_ribbon_is_as_wide_however_it_leans(turn in 0f32..6.3, half in 1f32..6.0, segments in 1u32..13) {
        let (length, view) = (40.0, far(110, 110));
        let straight = Straight::new(length, half, turn);
        let look = white(Shape::Ribbon(RibbonSpec::new(1.0, 1.0, segments))).build().unwrap();
        let covered: f32 = coverage(straight.instances(), &look, &view).iter().sum();
        let want = length * half * 2.0;
        // Where an edge runs along a line of samples, all of a line is in or out: 0.56 pixels of width.
        prop_assert!((covered - want).abs() < want * 0.03 + length * 0.3, "{covered} {want}");
    }

    /// Tapered to a point it covers half of that: no tip goes missing.
    #[test]
    fn a_blade_has_its_tip(turn in 0f32..6.3, half in 2f32..6.0) {
        let (length, view) = (44.0, far(110, 110));
        let straight = Straight::new(length, half, turn);
        let look = white(Shape::Ribbon(RibbonSpec::new(1.0, 0.0, 3))).build().unwrap();
        let pixels = coverage(straight.instances(), &look, &view);
        let covered: f32 = pixels.iter().sum();
        prop_assert!((covered - length * half).abs() < length * half * 0.04 + 4.0, "{covered}");
        let (sin, cos) = turn.sin_cos();
        let (x, y) = (55.0 + sin * length * 0.85, 55.0 - cos * length * 0.85);
        prop_assert!(most_around(&pixels, x, y) > 0.0, "no tip");
    }

    /// However thin, a ribbon is an unbroken line: something of it in every row or column it passes.
    #[test]
    fn thin_ribbons_are_not_dotted(turn in 0f32..6.3, half in 0.01f32..0.4) {
        let view = far(110, 110);
        let straight = Straight::new(46.0, half, turn);
        let look = white(Shape::Ribbon(RibbonSpec::new(1.0, 1.0, 5))).build().unwrap();
        let pixels = coverage(straight.instances(), &look, &view);
        let (sin, cos) = turn.sin_cos();
        for step in 2..44 {
            let (x, y) = (55.0 + sin * step as f32, 55.0 - cos * step as f32);
            let met = most_around(&pixels, x, y);
            prop_assert!(met > 0.0, "a gap at {x} {y}");
        }
    }

    /// Any ribbon at all: the fast form equals the plain one, and every technique the other to the last bit.
    #[test]
    fn curved_ribbons_equal_the_plain_form(
        ribbons in prop::collection::vec((prop::array::uniform8(-1f32..1.0), 0.002f32..0.06), 1..40),
        segments in 1u32..13, tip in 0f32..1.0, blend in prop::sample::select(vec![Blend::Opaque, Blend::Alpha]),
    ) {
        let view = far(120, 90);
        let column = |of: usize, scale: f32| ribbons.iter().map(|r| r.0[of] * scale).collect::<Vec<f32>>();
        let (x, y, z) = (column(0, 0.5), column(1, 0.4), column(2, 0.3));
        let (mx, my, tx, ty, tz) =
            (column(3, 0.3), column(4, 0.3), column(5, 0.5), column(6, 0.5), column(7, 0.2));
        let half: Vec<f32> = ribbons.iter().map(|r| r.1).collect();
        let all = Instances::at([&x, &y, &z]).unwrap().sized(&half).unwrap();
        let all = all.curved([&mx, &my, &z], [&tx, &ty, &tz]).unwrap();
        let mut spec = white(Shape::Ribbon(RibbonSpec::new(1.0, tip, segments))).opacity_over_age([(0.0, 0.6)]);
        spec.blend = blend;
        spec.colour_along = Ramp::new([
            (0.0, frolic_draw::Colour::new(0.9, 0.2, 0.1)),
            (1.0, frolic_draw::Colour::new(0.1, 0.5, 0.9)),
        ]);
        let look = spec.build().unwrap();
        let (image, frame) = draw(all, &look, &view, Technique::Instanced);
        for technique in [Technique::Each, Technique::Batched] {
            prop_assert!(draw(all, &look, &view, technique).0 == image, "{technique:?}");
        }
        prop_assert_eq!(frame.count(Counter::DrawCalls), 1);
        let (mut scratch, backdrop) = (ListScratch::default(), plain());
        let around = Surroundings::new(&backdrop);
        let list = scratch.list([(all, &look)], &ListSpec::default(), &view, &around, &mut Meter::new());
        let sky = backdrop.sky.zenith;
        let mut linear = LinearImage::new(view.size(), [sky.r, sky.g, sky.b]);
        linear.draw(&list, &view);
        let off = image.pixels().iter().zip(linear.to_srgb(&view)).filter(|(fast, slow)| {
            (0..3).any(|channel| (i32::from(fast[channel]) - i32::from(slow[channel])).abs() > 2)
        });
        // Samples on an edge may fall to either side by rounding.
        let off = off.count();
        prop_assert!(off <= 120 * 90 / 100, "{off}");
    }

    /// A closed mesh drops what faces away from the camera; drawn in full (as with holes that are not there) it looks the same.
    #[test]
    fn culled_back_faces_leave_no_holes(
        name in prop::sample::select(vec!["box", "post", "cone", "ball"]),
        turns in prop::array::uniform3((-3f32..3.0, -1.5f32..1.5)),
    ) {
        let view = {
            let mut camera = CameraSpec::new([0.0, 0.6, 4.0], [0.0, 0.3, 0.0], 40.0);
            camera.bloom = 0.0;
            camera.view(ImageSize::new(90, 70).unwrap()).unwrap()
        };
        let (x, y, z) = ([-1.1, 0.0, 1.1f32], [0.1, -0.2, 0.0f32], [0.0, 0.4, -0.6f32]);
        let (turn, tilt) = (turns.map(|t| t.0), turns.map(|t| t.1));
        let all = Instances::at([&x, &y, &z]).unwrap().turned(&turn, &tilt).unwrap();
        let of = |blend: Blend| {
            let shape = Shape::mesh(name);
            let mut spec = LookSpec::solid(shape, "#c08040").unwrap();
            spec.blend = blend;
            draw(all, &spec.build().unwrap(), &view, Technique::Instanced)
        };
        let ((front, fewer), (full, more)) = (of(Blend::Opaque), of(Blend::CutOut));
        prop_assert!(fewer.count(Counter::BinRecords) < more.count(Counter::BinRecords) * 3 / 4);
        let differ = front.pixels().iter().zip(full.pixels()).filter(|(a, b)| {
            (0..3).any(|channel| a[channel].abs_diff(b[channel]) > 2)
        });
        // A sample right on the outline may belong to the front or the back of it.
        prop_assert!(differ.count() <= 6);
    }
}

/// From within, a closed mesh shows its inside: nothing is dropped when it reaches behind the camera.
#[test]
fn the_inside_of_a_mesh_is_seen_from_within() {
    let mut camera = CameraSpec::new([0.0, 0.5, 0.0], [0.3, 0.5, -1.0], 70.0);
    camera.bloom = 0.0;
    let view = camera.view(ImageSize::new(60, 40).unwrap()).unwrap();
    let zero = [0.0f32];
    // The camera is within all that are closed, except for slender ones.
    let slender = ["eel", "eel-far", "seal"];
    let closed = |name: &&str| Mesh::named(name).unwrap().is_closed() && !slender.contains(name);
    for name in MESH_NAMES.into_iter().filter(closed) {
        let look = white(Shape::mesh(name));
        let size = [if name == "ball" { 3.0f32 } else { 1.0 }];
        let look = look.build().unwrap();
        let one = Instances::at([&zero, &zero, &zero]).unwrap().turned(&zero, &zero).unwrap();
        let covered = coverage(one.sized(&size).unwrap(), &look, &view);
        assert!(covered.iter().all(|share| *share > 0.99), "{name}");
    }
}

/// The coarse mesh, or a third of the segments, from a size on the screen on.
#[test]
fn small_things_are_drawn_coarsely() {
    let view = far(80, 80);
    let zero = [0.0f32];
    for (shape, fine, coarse) in [
        (
            Shape::Mesh {
                name: "ball".to_owned(),
                coarse: Some("box".to_owned()),
                texture: None,
                wave: None,
            },
            224,
            12,
        ),
        (Shape::Ribbon(RibbonSpec::new(8.0, 0.0, 9)), 18, 6),
    ] {
        for (pixels, want) in [(30.0f32, fine), (3.0, coarse)] {
            let mut spec = white(shape.clone());
            spec.detail = frolic_draw::DetailSpec::default().coarse_below(10.0);
            let (look, size) = (spec.build().unwrap(), [pixels * METRES_A_PIXEL]);
            let one = Instances::at([&zero, &zero, &zero]).unwrap().sized(&size).unwrap();
            let (_, frame) = draw(one, &look, &view, Technique::Instanced);
            assert_eq!(frame.count(Counter::Triangles), want, "{shape:?} {pixels}");
            assert_eq!(frame.count(Counter::Coarse), u64::from(want == coarse));
        }
    }
}

/// A column of random numbers.
fn column(count: u32, which: u32, from: f32, to: f32) -> Vec<f32> {
    (0..count).map(|id| from + (to - from) * Draws { seed: 5, id }.draw(which)[0]).collect()
}

/// More blades and boxes than pixels: tiles draw them from front to back and pass over what is hidden. A look that does not compare
/// depths, though it draws nothing, makes them go as they come: the picture is the same to the bit, and the plain form's.
#[test]
fn crowds_hide_what_is_behind_and_nothing_else() {
    let (view, backdrop) = (far(96, 64), plain());
    let many = |shape, colour: &str| {
        let mut spec = LookSpec::solid(shape, colour).unwrap();
        spec.tints = vec![Colour::new(1.0, 0.4, 0.3), Colour::new(0.3, 0.5, 1.0)];
        spec
    };
    let blades = many(Shape::Ribbon(RibbonSpec::new(0.25, 0.2, 3)), "#6c8a3a");
    let boxes = many(Shape::mesh("box"), "#8a6c3a");
    let mut untested = boxes.clone();
    untested.depth.test = false;
    let [blade, boxes, untested] = [blades, boxes, untested].map(|spec| spec.build().unwrap());
    let place = |count, first| {
        [
            column(count, first, -0.5, 0.5),
            column(count, first + 1, -0.4, 0.3),
            column(count, first + 2, -2.0, 2.0),
        ]
    };
    let ([bx, by, bz], [mx, my, mz]) = (place(9000, 0), place(2500, 3));
    let (thin, small) = (vec![0.012; 9000], vec![0.02; 2500]);
    // Leaning far towards the camera or away, so that the nearest point of a blade says little of the rest.
    let tip = [column(9000, 6, -0.1, 0.1), column(9000, 7, 0.1, 0.3), column(9000, 8, -3.0, 3.0)];
    let middle = [0, 1, 2].map(|axis| tip[axis].iter().map(|v| v * 0.4).collect::<Vec<f32>>());
    let curve = [&middle, &tip].map(|columns| [0, 1, 2].map(|axis| columns[axis].as_slice()));
    let blades =
        Instances::at([&bx, &by, &bz]).unwrap().sized(&thin).unwrap().curved(curve[0], curve[1]).unwrap();
    let blades = (blades, &blade);
    let boxes = (Instances::at([&mx, &my, &mz]).unwrap().sized(&small).unwrap(), &boxes);
    let nowhere = (Instances::at([&[900.0], &[0.0], &[0.0]]).unwrap(), &untested);
    let around = Surroundings::new(&backdrop);
    let picture = |populations: &[(Instances<'_>, &Look)], tile| {
        let (mut scratch, mut image) = (ListScratch::default(), Image::new(view.size()));
        let (spec, mut meter) = (ListSpec::default(), Meter::new());
        let list = scratch.list(populations.iter().copied(), &spec, &view, &around, &mut meter);
        Renderer::tuned(tile, 128, detect()).render(&list, &view, &backdrop, &mut image, &mut meter);
        image
    };
    let in_order = picture(&[blades, boxes, nowhere], [6, 5]);
    for tile in [[6, 5], [3, 3], [4, 7]] {
        assert!(picture(&[blades, boxes], tile) == in_order, "tiles of 2^{tile:?}");
    }
    let mut scratch = ListScratch::default();
    let list = scratch.list([blades, boxes], &ListSpec::default(), &view, &around, &mut Meter::new());
    let sky = backdrop.sky.zenith;
    let mut linear = LinearImage::new(view.size(), [sky.r, sky.g, sky.b]);
    linear.draw(&list, &view);
    let off = in_order
        .pixels()
        .iter()
        .zip(linear.to_srgb(&view))
        .filter(|(fast, slow)| (0..3).any(|c| fast[c].abs_diff(slow[c]) > 2))
        .count();
    // Samples on an edge may fall to either side by rounding.
    assert!(off <= 96 * 64 / 100, "{off} pixels differ");
}

/// Ribbons that are drawn eight side by side, some of them partly or wholly behind the camera, some too coarse or too far to be drawn
/// in full: each is there by every technique, and as the plain form has it.
#[test]
fn ribbons_side_by_side_are_as_alone() {
    let mut camera = CameraSpec::new([0.0, 0.6, 1.5], [0.0, 0.4, 0.0], 60.0);
    camera.bloom = 0.0;
    let view = camera.view(ImageSize::new(90, 70).unwrap()).unwrap();
    let count = 83;
    let (x, y, z) = (column(count, 0, -1.5, 1.5), column(count, 1, -0.2, 0.2), column(count, 2, -4.0, 2.2));
    let tip = [column(count, 3, -0.4, 0.4), column(count, 4, 0.3, 1.1), column(count, 5, -1.2, 1.2)];
    let middle = [0, 1, 2].map(|axis| tip[axis].iter().map(|v| v * 0.4).collect::<Vec<f32>>());
    let [middle, tip] = [&middle, &tip].map(|columns| [0, 1, 2].map(|axis| columns[axis].as_slice()));
    let half = column(count, 6, 0.005, 0.05);
    let instances = Instances::at([&x, &y, &z]).unwrap().sized(&half).unwrap().curved(middle, tip).unwrap();
    for segments in [1, 3, 7, 12] {
        let soft = DetailSpec::reach(4.5, 0.6).coarse_below(2.5);
        for detail in [DetailSpec::default(), soft, soft.from(0.5, 3.0)] {
            let mut spec =
                LookSpec::solid(Shape::Ribbon(RibbonSpec::new(1.0, 0.3, segments)), "#6c8a3a").unwrap();
            spec.colour_along = Ramp::new([(0.0, Colour::new(0.2, 0.2, 0.2)), (1.0, Colour::WHITE)]);
            spec.detail = detail;
            let look = spec.build().unwrap();
            let (image, frame) = draw(instances, &look, &view, Technique::Instanced);
            assert!(frame.count(Counter::Culled) > 0 && frame.count(Counter::Instances) > 40);
            for technique in [Technique::Each, Technique::Batched] {
                let (other, counted) = draw(instances, &look, &view, technique);
                assert!(other == image, "{segments} segments, {technique:?}");
                for same in [Counter::Culled, Counter::Coarse, Counter::Thinned, Counter::Triangles] {
                    assert_eq!(counted.count(same), frame.count(same), "{}", same.name());
                }
            }
            let (mut scratch, backdrop) = (ListScratch::default(), plain());
            let around = Surroundings::new(&backdrop);
            let list =
                scratch.list([(instances, &look)], &ListSpec::default(), &view, &around, &mut Meter::new());
            let sky = backdrop.sky.zenith;
            let mut linear = LinearImage::new(view.size(), [sky.r, sky.g, sky.b]);
            linear.draw(&list, &view);
            let plain = linear.to_srgb(&view);
            let differs = |(fast, slow): &(&[u8; 4], &[u8; 3])| (0..3).any(|c| fast[c].abs_diff(slow[c]) > 2);
            let off = image.pixels().iter().zip(&plain).filter(differs).count();
            assert!(off <= 90 * 70 / 150, "{segments} segments: {off} pixels differ");
        }
    }
}

/// Where no shadow falls, samples are averaged another way than where one may: what takes no light from the sun must look the same.
#[test]
fn shadows_do_not_change_unlit_elements() {
    let (view, backdrop) = (far(70, 50), plain());
    let count = 60;
    let (x, y, z) = (column(count, 0, -0.4, 0.4), column(count, 1, -0.3, 0.3), column(count, 2, -0.5, 0.5));
    let size = column(count, 3, 0.02, 0.08);
    let instances = Instances::at([&x, &y, &z]).unwrap().sized(&size).unwrap();
    let mut spec = white(Shape::mesh("ball"));
    spec.tints = vec![Colour::new(1.0, 0.4, 0.3), Colour::new(0.3, 0.5, 1.0)];
    let look = spec.build().unwrap();
    let under = |shadow_map| {
        let mut sun = SunSpec::new(40.0, 30.0, Colour::WHITE, 1.0);
        sun.shadow_map = shadow_map;
        let (mut scratch, mut meter) = (ListScratch::default(), Meter::new());
        let around = Surroundings::new(&backdrop).sun(Some(&sun));
        meter.begin_frame();
        let list = scratch.list([(instances, &look)], &ListSpec::default(), &view, &around, &mut meter);
        let mut image = Image::new(view.size());
        Renderer::new().render(&list, &view, &backdrop, &mut image, &mut meter);
        (image, meter.end_frame().count(Counter::ShadowRecords))
    };
    let ((with, cast), (without, none)) = (under(256), under(0));
    assert!(cast > 0 && none == 0);
    for (with, without) in with.pixels().iter().zip(without.pixels()) {
        // Sums of four in another order, then rounded.
        assert!((0..3).all(|c| with[c].abs_diff(without[c]) <= 1), "{with:?} {without:?}");
    }
}
