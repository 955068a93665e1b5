//! Blades on the CPU backend: exactly those in view are drawn, thinning keeps what is covered, and every technique gives the same picture.

use crate::common::kit::kit;
use crate::common::{part, picture, plain};
use frolic_core::{
    AreaSpec, BladeMotion, BladeSpec, Blades, Counter, Frame, Meter, On, PatternSpec, PlacementSpec, Ramp,
    Span, WorldSpec, blade_curve,
};
use frolic_draw::{
    Blend, CameraSpec, Colour, DetailSpec, Image, ImageSize, Instances, Look, LookSpec, Part, Renderer,
    RibbonSpec, Shape, SunSpec, Technique, View,
};
use proptest::prelude::*;

fn view(from: [f32; 3], to: [f32; 3], fov: f32, (w, h): (u32, u32)) -> View {
    CameraSpec::new(from, to, fov).view(ImageSize::new(w, h).unwrap()).unwrap()
}

fn meadow(side: f32, count: u32, chunk: f32) -> Blades {
    let even = PlacementSpec::new(On::Ground(PatternSpec::BlueNoise { distance: 0.0 }));
    let spec = BladeSpec::new(even.area(AreaSpec::new([0.0; 2], [side; 2]))).chunk(chunk);
    let mut blades = Blades::new(&spec, count, Span::new(0.004, 0.008), 5).unwrap();
    let world = WorldSpec::default().wind([5.0, 0.0, 2.0]).gusts(1.0, 2.0).build().unwrap();
    blades.step(&world, 1.0 / 60.0, 60, &mut Meter::new());
    blades
}

fn parts(blades: &Blades) -> Vec<Part> {
    blades.chunks().iter().map(part).collect()
}

fn spec() -> LookSpec {
    let mut look = LookSpec::solid(Shape::Ribbon(RibbonSpec::new(10.0, 0.0, 3)), "#a0a850").unwrap();
    look.tints = vec![Colour::new(0.6, 0.8, 0.5), Colour::new(1.0, 1.0, 1.0), Colour::new(1.2, 0.9, 0.6)];
    look.translucency = 0.4;
    look
}

fn draw(
    instances: Instances<'_>,
    look: &Look,
    view: &View,
    technique: Technique,
    sun: Option<&SunSpec>,
) -> (Image, Frame) {
    picture(&mut Renderer::new(), &[(instances, look)], technique, view, &plain(), sun)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Squares out of view are left out, and nothing that can be seen: the picture and what is kept are those of all blades asked one by one.
    #[test]
    fn squares_draw_exactly_what_is_visible(
        yaw in -3.2f32..3.2, chunk in 0.3f32..5.0, height in 0.05f32..3.0, shadows in any::<bool>(), level in -0.6f32..0.6,
    ) {
        let blades = meadow(9.0, 1500, chunk);
        let look = spec().build().unwrap();
        let view = view([0.5, height, 0.3], [0.5 + yaw.sin(), height + level, 0.3 - yaw.cos()], 40.0, (120, 75));
        let sun = shadows.then(|| SunSpec::new(30.0, 70.0, Colour::WHITE, 3.0));
        let all = Instances::of(blades.columns(), 0.0);
        let parts = parts(&blades);
        let (whole, before) = draw(all, &look, &view, Technique::Instanced, sun.as_ref());
        let (pieces, after) = draw(all.in_parts(&parts).unwrap(), &look, &view, Technique::Instanced, sun.as_ref());
        prop_assert!(whole == pieces);
        let kept = |frame: &Frame| frame.count(Counter::Instances) - frame.count(Counter::Culled);
        prop_assert_eq!(kept(&before), kept(&after));
        prop_assert_eq!(
            before.count(Counter::Culled),
            after.count(Counter::Culled) + after.count(Counter::CulledInChunks)
        );
    }
}

#[test]
fn every_technique_draws_the_same_blades() {
    let blades = meadow(5.0, 900, 1.0);
    let look = spec().build().unwrap();
    let view = view([0.0, 0.7, 3.5], [0.0, 0.3, 0.0], 40.0, (160, 100));
    let sun = SunSpec::new(30.0, 70.0, Colour::WHITE, 3.0);
    let parts = parts(&blades);
    let all = Instances::of(blades.columns(), 0.0).in_parts(&parts).unwrap();
    let (one, frame) = draw(all, &look, &view, Technique::Instanced, Some(&sun));
    assert_eq!(frame.count(Counter::DrawCalls), 1);
    let (two, merged) = draw(all, &look, &view, Technique::Batched, Some(&sun));
    let (three, each) = draw(all, &look, &view, Technique::Each, Some(&sun));
    assert!(one == two && one == three);
    assert_eq!(merged.count(Counter::DrawCalls), 1);
    assert_eq!(each.count(Counter::DrawCalls), each.count(Counter::Instances));
}

/// A flower is a mesh that bends: its head is seen where a blade's tip is, however the wind leans it, and its stem where the blade stands.
#[test]
fn meshes_bend_as_blades_do() {
    let place =
        PlacementSpec::new(On::Ground(PatternSpec::Scattered)).area(AreaSpec::new([0.0; 2], [0.6; 2]));
    let view = view([0.0, 0.5, 2.4], [0.0, 0.4, 0.0], 40.0, (320, 200));
    let mut look = LookSpec::solid(Shape::mesh("flower"), "#ffffff").unwrap();
    (look.lit, look.colour_over_age) = (0.0, Ramp::constant(Colour::WHITE));
    // Green below, red from the petals up.
    let (green, red) = (Colour::new(0.0, 1.0, 0.0), Colour::new(1.0, 0.0, 0.0));
    look.colour_along = Ramp::new([(0.0, green), (0.69, green), (0.7, red), (1.0, red)]);
    let look = look.build().unwrap();
    for wind in [0.0, 3.0, 30.0] {
        let spec = BladeSpec::new(place.clone()).length(0.5, 0.6).motion(BladeMotion::Lean);
        let mut blades = Blades::new(&spec, 9, Span::from(0.004), 5).unwrap();
        blades.step(&WorldSpec::default().wind([wind, 0.0, 0.0]).build().unwrap(), 0.1, 1, &mut Meter::new());
        let all = Instances::of(blades.columns(), 0.0);
        let (image, _) = draw(all, &look, &view, Technique::Instanced, None);
        for technique in [Technique::Each, Technique::Batched] {
            assert!(draw(all, &look, &view, technique, None).0 == image, "{technique:?}");
        }
        let near = |point: [f32; 3], is: fn(&[u8; 4]) -> bool| {
            let [x, y, _] = view.project(point).unwrap();
            let around = |pixel: &usize| {
                let (dx, dy) = ((pixel % 320) as f32 + 0.5 - x, (pixel / 320) as f32 + 0.5 - y);
                dx.abs() < 5.0 && dy.abs() < 5.0
            };
            (0..320 * 200).filter(around).filter(|&pixel| is(&image.pixels()[pixel])).count()
        };
        for n in 0..blades.len() {
            let row = blades.columns().row(n).unwrap();
            let [middle, tip] = blade_curve(row.length, [row.lean_x, row.lean_z]);
            let at = |offset: glam::Vec3| [row.px + offset.x, row.py + offset.y, row.pz + offset.z];
            assert!(near(at(tip), |p| p[0] > 150 && p[1] < 120) > 4, "head of {n} in a wind of {wind}");
            assert!(
                near(at(middle * 0.5), |p| p[1] > 90 && p[0] < 150) > 0,
                "stem of {n} in a wind of {wind}"
            );
        }
    }
}

/// Beyond the reach squares are not even asked; the smaller squares are, the fewer blades are asked and the more stretches there are.
#[test]
fn chunk_size_trades_ranges_for_blades() {
    let mut look = spec();
    look.detail = DetailSpec::reach(4.0, 0.5);
    let look = look.build().unwrap();
    let view = view([0.0, 1.0, 6.0], [0.0, 0.2, 0.0], 30.0, (160, 100));
    let count = |chunk: f32| {
        let blades = meadow(12.0, 4000, chunk);
        let parts = parts(&blades);
        let all = Instances::of(blades.columns(), 0.0).in_parts(&parts).unwrap();
        let (image, frame) = draw(all, &look, &view, Technique::Instanced, None);
        (image, frame.count(Counter::Instances), frame.count(Counter::Stretches))
    };
    let ((a, many, few_stretches), (b, few, stretches)) = (count(12.0), count(0.5));
    assert!(a == b);
    assert!(few * 2 < many && stretches > few_stretches, "{few} of {many} blades in {stretches} stretches");
}

/// Squares that lie nearer than any of their elements come in are not even asked, and nothing of the picture is missing.
#[test]
fn near_squares_are_never_groups() {
    let mut look = LookSpec::solid(Shape::textured_mesh("crossed-quads", "tuft"), "#a0c040").unwrap();
    (look.blend, look.detail) = (Blend::CutOut, DetailSpec::default().from(5.0, 9.0));
    let look = look.build_with(&kit().library).unwrap();
    let view = view([0.0, 1.0, 6.0], [0.0, 0.2, 0.0], 40.0, (160, 100));
    let blades = meadow(12.0, 1500, 1.0);
    let (all, parts) = (Instances::of(blades.columns(), 0.0), parts(&blades));
    let (whole, asked) = draw(all, &look, &view, Technique::Instanced, None);
    let (image, frame) = draw(all.in_parts(&parts).unwrap(), &look, &view, Technique::Instanced, None);
    assert!(image == whole);
    let hidden = frame.count(Counter::CulledInChunks);
    assert!(hidden > 300 && frame.count(Counter::Instances) + hidden == 1500, "{hidden}");
    assert!(frame.count(Counter::Thinned) < asked.count(Counter::Thinned));
    // The near ground is bare, the far one is not.
    let (bare, _) = draw(Instances::at([&[]; 3]).unwrap(), &look, &view, Technique::Instanced, None);
    let grown = |rows: std::ops::Range<usize>| {
        // What shines spreads a little.
        let differs = |&n: &usize| image.pixels()[n][1].abs_diff(bare.pixels()[n][1]) > 12;
        (rows.start * 160..rows.end * 160).filter(differs).count()
    };
    assert!(grown(80..100) == 0 && grown(15..45) > 500, "{} and {}", grown(80..100), grown(15..45));
}

/// Blades that thin out far away are wider, not longer: as much is covered, and no one is higher than it was.
#[test]
fn thinned_blades_cover_as_much() {
    let blades = meadow(6.0, 6000, 1.0);
    let far = view([0.0, 2.0, 40.0], [0.0, 0.3, 0.0], 12.0, (240, 150));
    let covered = |thin: f32| {
        let mut look = spec();
        (look.lit, look.tints) = (0.0, Vec::new());
        look.detail = DetailSpec::default().thin_below(thin);
        let look = look.build().unwrap();
        let (image, frame) =
            draw(Instances::of(blades.columns(), 0.0), &look, &far, Technique::Instanced, None);
        let (empty, _) = draw(Instances::at([&[]; 3]).unwrap(), &look, &far, Technique::Instanced, None);
        let changed = |n: &usize| image.pixels()[*n] != empty.pixels()[*n];
        let all: Vec<usize> = (0..image.pixels().len()).filter(changed).collect();
        let top = all.iter().map(|n| n / 240).min().unwrap();
        let light: f64 = all.iter().map(|&n| f64::from(image.pixels()[n][0])).sum();
        (light, top, frame.count(Counter::Thinned))
    };
    let ((full, top, none), (thin, thin_top, some)) = (covered(0.0), covered(1.0));
    assert!(none == 0 && some > 2500, "{some}");
    assert!((thin / full - 1.0).abs() < 0.12, "{thin} for {full}");
    assert!(thin_top + 1 >= top);
}

/// A camera under the ground, in the middle of blades, or looking straight down sees something or nothing, and fails at neither.
#[test]
fn cameras_may_stand_anywhere() {
    let blades = meadow(4.0, 500, 0.7);
    let look = spec().build().unwrap();
    let parts = parts(&blades);
    let all = Instances::of(blades.columns(), 0.0).in_parts(&parts).unwrap();
    for (from, to) in [
        ([0.0, -3.0, 0.0], [0.0, 0.0, 0.1]),
        ([0.0, 0.2, 0.0], [1.0, 0.2, 0.0]),
        ([0.0, 5.0, 0.0], [0.0, 0.0, 0.0]),
        ([0.0, -0.01, 2.0], [0.0, -0.01, 0.0]),
    ] {
        let (image, _) = draw(all, &look, &view(from, to, 60.0, (64, 40)), Technique::Instanced, None);
        assert!(image.pixels().iter().all(|pixel| pixel[3] == 255));
    }
}

/// Between two steps a blade is drawn on its way: half a step back it has come about half as far.
#[test]
fn blades_are_drawn_between_steps() {
    let look = spec().build().unwrap();
    let view = view([0.0, 0.5, 2.0], [0.0, 0.35, 0.0], 40.0, (320, 200));
    let even = PlacementSpec::new(On::Ground(PatternSpec::Scattered)).area(AreaSpec::new([0.0; 2], [1.5; 2]));
    let mut blades = Blades::new(&BladeSpec::new(even), 60, Span::from(0.01), 5).unwrap();
    let world = WorldSpec::default().wind([6.0, 0.0, 0.0]).build().unwrap();
    // At rest in still air, then blown; ten steps a second: each is a long way.
    blades.step(&WorldSpec::default().build().unwrap(), 0.1, 1, &mut Meter::new());
    blades.step(&world, 0.1, 1, &mut Meter::new());
    let before = draw(Instances::of(blades.columns(), 0.0), &look, &view, Technique::Instanced, None).0;
    blades.step(&world, 0.1, 1, &mut Meter::new());
    let at =
        |lag: f32| draw(Instances::of(blades.columns(), lag), &look, &view, Technique::Instanced, None).0;
    let apart = |a: &Image, b: &Image| {
        a.bytes().iter().zip(b.bytes()).map(|(a, b)| u64::from(a.abs_diff(*b))).sum::<u64>()
    };
    let (now, half) = (at(0.0), at(0.05));
    assert!(apart(&before, &now) > 0 && apart(&half, &now) > 0);
    assert!(
        apart(&half, &before) < apart(&now, &before),
        "{} {}",
        apart(&half, &before),
        apart(&now, &before)
    );
}
