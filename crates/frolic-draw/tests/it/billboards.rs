//! The rasteriser against its plain scalar form, and billboards against what they promise.

use crate::common::{cloud, draw, look, look_at, plain, reference, renderer, view};
use frolic_core::simd::detect;
use frolic_core::{EmitterSpec, Meter, ParticleSpec, Particles, WorldSpec};
use frolic_diagnostics::reference::LinearImage;
use frolic_draw::cpu::SMALLEST;
use frolic_draw::{Blend, CameraSpec, ImageSize, LookSpec, Renderer, Resolution, Technique, View};
use frolic_list::{ListSpec, Surroundings};
use proptest::prelude::*;

/// A view like another but without bloom, whose spread the scalar form leaves out.
fn sharp(position: [f32; 3], width: u32, height: u32) -> View {
    let mut camera = CameraSpec::new(position, [0.0; 3], 45.0);
    camera.bloom = 0.0;
    camera.view(ImageSize::new(width, height).unwrap()).unwrap()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    /// Any mixture of sizes from far below a pixel to larger than the picture, any blend: within one 8-bit step.
    #[test]
    fn equals_the_scalar_form(
        count in 1u32..500,
        size in (0.0005f32..0.02, 0.02f32..1.5),
        seed in any::<u32>(),
        width in 1u32..210,
        height in 1u32..140,
        additive in any::<bool>(),
        distance in 2.5f32..12.0,
    ) {
        let particles = cloud(count, [size.0, size.1], [4.0, 3.0, 2.0], seed);
        let blend = if additive { Blend::Additive } else { Blend::Alpha };
        let (look, backdrop) = (look_at(blend, Resolution::Full), plain());
        let view = sharp([0.3, 0.2, distance], width, height);
        let populations = [(&particles, &look)];
        let (image, _) = draw(&populations, Technique::Instanced, &view, &backdrop, &mut renderer());
        let plain = reference(&populations, &view, &backdrop);
        for (at, (fast, slow)) in image.pixels().iter().zip(&plain).enumerate() {
            for channel in 0..3 {
                let off = i32::from(fast[channel]) - i32::from(slow[channel]);
                prop_assert!(off.abs() <= 1, "pixel {at}: {fast:?} for {slow:?}");
            }
        }
    }
}

/// One white additive billboard of a radius in pixels at a place in the picture, straight from the definition.
fn light_of(radius: f32, x: f32, y: f32) -> f64 {
    let size = ImageSize::new(64, 64).unwrap();
    // A camera of 90 degrees, a metre away from the plane z = 0, sees 32 pixels a metre.
    let mut camera = CameraSpec::new([0.0, 0.0, 1.0], [0.0; 3], 90.0);
    camera.bloom = 0.0;
    let view = camera.view(size).unwrap();
    let at = [(x - 32.0) / 32.0, (32.0 - y) / 32.0, 0.0];
    let emitter = EmitterSpec::burst(1, 0.0).position(at).speed(0.0, 0.0);
    let spec = ParticleSpec::new(1).life(10.0, 10.0).size(radius / 32.0, radius / 32.0).motion(0.0, 0.0);
    let mut particles = Particles::new(&spec.emitter(emitter), 1).unwrap();
    particles.step(&WorldSpec::default().build().unwrap(), 0.1, 1, &mut Meter::new());
    let look = LookSpec::glowing(1.0, [(0.0, "#ffffff")]).unwrap().build().unwrap();

    let (mut scratch, backdrop) = (frolic_list::ListScratch::default(), plain());
    let sources = [(frolic_draw::Instances::of(particles.columns(), 0.0), &look)];
    let list =
        scratch.list(sources, &ListSpec::default(), &view, &Surroundings::new(&backdrop), &mut Meter::new());
    let mut linear = LinearImage::new(size, [0.0; 3]);
    linear.blend(frolic_diagnostics::reference::splats(&list, &view));
    linear.pixels().iter().map(|pixel| f64::from(pixel[0])).sum()
}

#[test]
fn light_is_kept_at_every_size_and_place() {
    // Integral of (1 - d²/R²)² over the disc is a third of its area.
    for radius in [0.05f32, 0.3, 0.9, SMALLEST, 2.0, 3.7, 12.0] {
        let want = std::f64::consts::PI / 3.0 * f64::from(radius).powi(2);
        for step in 0..25 {
            let (x, y) = (30.0 + 0.2 * (step % 5) as f32, 31.0 + 0.2 * (step / 5) as f32);
            let sum = light_of(radius, x, y);
            let off = (sum / want - 1.0).abs();
            assert!(off < 0.04, "radius {radius} at {x}, {y}: {sum} for {want}");
        }
    }
}

#[test]
fn one_billboard_is_round_and_has_no_edge() {
    let spec = ParticleSpec::new(1).life(10.0, 10.0).size(0.5, 0.5).motion(0.0, 0.0);
    let mut particles = Particles::new(&spec.emitter(EmitterSpec::burst(1, 0.0).speed(0.0, 0.0)), 1).unwrap();
    particles.step(&WorldSpec::default().build().unwrap(), 0.1, 1, &mut Meter::new());
    let look = LookSpec::glowing(1.0, [(0.0, "#ffffff")]).unwrap().build().unwrap();
    let (view, backdrop) = (sharp([0.0, 0.0, 4.0], 201, 201), plain());
    let (image, _) = draw(&[(&particles, &look)], Technique::Instanced, &view, &backdrop, &mut renderer());
    let at = |x: usize, y: usize| i32::from(image.pixels()[y * 201 + x][0]);
    for d in 0..100 {
        // The same along four arms and, by Pythagoras, along the diagonals; dither is worth one step.
        let arms = [at(100 + d, 100), at(100 - d, 100), at(100, 100 + d), at(100, 100 - d)];
        let (least, most) = (arms.iter().min().unwrap(), arms.iter().max().unwrap());
        assert!(most - least <= 1, "{d}: {arms:?}");
    }
    // A hard edge would be a step of a hundred and more; the steepest slope of the profile is worth twenty.
    for x in 0..200 {
        assert!((at(x, 100) - at(x + 1, 100)).abs() <= 24, "{x}");
    }
}

/// Discs far outside the picture are left out, and count nothing, on any way to draw.
#[test]
fn discs_outside_the_picture_count_nothing() {
    use frolic_core::Counter;
    let particles = cloud(400, [0.02, 0.2], [60.0, 40.0, 20.0], 4);
    let (look, backdrop, view) = (look(Blend::Additive), plain(), view(64, 40));
    let all = [(&particles, &look)];
    let (first, counted) = draw(&all, Technique::Instanced, &view, &backdrop, &mut renderer());
    assert!(counted.count(Counter::Culled) > 200);
    for technique in [Technique::Each, Technique::Batched] {
        let (image, frame) = draw(&all, technique, &view, &backdrop, &mut renderer());
        assert_eq!(image, first, "{technique:?}");
        for same in [Counter::PixelsTouched, Counter::Culled, Counter::Records] {
            assert_eq!(frame.count(same), counted.count(same), "{technique:?} {}", same.name());
        }
    }
}

#[test]
fn counters_are_exact() {
    let particles = cloud(300, [0.02, 0.02], [3.0, 2.0, 1.0], 4);
    let (look, backdrop, view) = (look(Blend::Additive), plain(), view(320, 200));
    let (_, frame) = draw(&[(&particles, &look)], Technique::Instanced, &view, &backdrop, &mut renderer());
    use frolic_core::Counter;
    let kept = frame.count(Counter::Triangles) / 2;
    assert_eq!(frame.count(Counter::Instances), particles.len() as u64);
    assert_eq!(kept + frame.count(Counter::Culled), particles.len() as u64);
    assert!(frame.count(Counter::BinRecords) >= kept);
    // Every one is of the smallest size: a disc of 3 pixels across.
    let each = frame.count(Counter::PixelsTouched) as f64 / kept as f64;
    assert!((6.8..7.4).contains(&each), "{each}");
    let again = draw(&[(&particles, &look)], Technique::Instanced, &view, &backdrop, &mut renderer()).1;
    for counter in Counter::ALL {
        assert_eq!(frame.count(*counter), again.count(*counter), "{}", counter.name());
    }
}

/// Discs around four pixels wide take one way where they fit and another where they do not: wherever one lies, over the borders of tiles
/// and of the picture too, it is the plain form's, and the same for every tile size.
#[test]
fn a_disc_is_the_same_wherever_tiles_end() {
    let (view, backdrop) = (sharp([0.0, 0.0, 4.0], 48, 40), plain());
    // The picture is 45 degrees high, seen from 4 m.
    let pixel = 8.0 * 22.5f32.to_radians().tan() / 40.0;
    for blend in [Blend::Alpha, Blend::Additive] {
        let look = look(blend);
        for radius in [0.4f32, 1.5, 1.9, 2.0, 2.1, 2.6, 5.0] {
            for (x, y) in
                [(8.0, 8.0), (15.7, 31.9), (16.2, 7.6), (0.3, 39.8), (-1.2, 20.0), (47.9, -0.7), (33.4, 32.5)]
            {
                let at = [(x - 24.0) * pixel, (20.0 - y) * pixel, 0.0];
                let emitter = EmitterSpec::burst(1, 0.0).position(at).speed(0.0, 0.0);
                let size = radius * pixel;
                let spec = ParticleSpec::new(1).life(10.0, 10.0).size(size, size).motion(0.0, 0.0);
                let mut particles = Particles::new(&spec.emitter(emitter), 1).unwrap();
                particles.step(&WorldSpec::default().build().unwrap(), 0.1, 1, &mut Meter::new());
                let populations = [(&particles, &look)];
                let by = |tile| {
                    let mut renderer = Renderer::tuned(tile, 128, detect());
                    draw(&populations, Technique::Instanced, &view, &backdrop, &mut renderer).0
                };
                let whole = by([6, 6]);
                for tile in [[3, 3], [4, 5], [5, 3]] {
                    assert!(by(tile) == whole, "radius {radius} at {x}, {y}, tiles of 2^{tile:?}");
                }
                let plain = reference(&populations, &view, &backdrop);
                for (fast, slow) in whole.pixels().iter().zip(&plain) {
                    assert!((0..3).all(|c| fast[c].abs_diff(slow[c]) <= 1), "radius {radius} at {x}, {y}");
                }
            }
        }
    }
}
