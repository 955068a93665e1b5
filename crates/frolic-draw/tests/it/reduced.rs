//! Transparent elements at a lower resolution: as at full resolution where they are large, the same however they are drawn, and clean at edges.

use crate::common::{cloud, draw, plain, renderer, view};
use frolic_core::simd::levels;
use frolic_core::{Counter, Particles};
use frolic_draw::{Blend, Image, Look, LookSpec, Renderer, Resolution, Shape, Technique};

fn haze(blend: Blend, resolution: Resolution) -> Look {
    let mut spec = LookSpec::glowing(1.2, [(0.0, "#c0a080"), (1.0, "#6080a0")]).unwrap();
    spec = spec.opacity_over_age([(0.0, 0.1), (0.5, 0.2), (1.0, 0.05)]).soft(0.3).resolution(resolution);
    spec.blend = blend;
    spec.build().unwrap()
}

fn pillars() -> (Particles, Look) {
    let mut look = LookSpec::solid(Shape::mesh("box"), "#404a50").unwrap();
    look.lit = 0.0;
    (cloud(60, [0.02, 0.15], [3.0, 3.0, 3.0], 4), look.build().unwrap())
}

/// Mean difference of the channels of two pictures, in steps of 255, and the share of pixels that differ by more than 8.
fn difference(a: &Image, b: &Image) -> (f64, f64) {
    let off = |(a, b): (&[u8; 4], &[u8; 4])| [0, 1, 2].map(|c| a[c].abs_diff(b[c]));
    let offs: Vec<[u8; 3]> = a.pixels().iter().zip(b.pixels()).map(off).collect();
    let mean = offs.iter().flatten().map(|off| f64::from(*off)).sum::<f64>() / (3 * offs.len()) as f64;
    let far = offs.iter().filter(|off| off.iter().any(|off| *off > 8)).count();
    (mean, far as f64 / offs.len() as f64)
}

#[test]
fn large_soft_elements_look_alike_at_any_resolution() {
    let (view, backdrop) = (view(320, 200), plain());
    let (boxes, solid) = pillars();
    let cloud = cloud(150, [0.5, 0.9], [3.0, 3.0, 3.0], 3);
    for blend in [Blend::Alpha, Blend::Additive] {
        for with_boxes in [false, true] {
            let drawn = |resolution| {
                let look = haze(blend, resolution);
                let mut populations = vec![(&cloud, &look)];
                if with_boxes {
                    populations.insert(0, (&boxes, &solid));
                }
                draw(&populations, Technique::Instanced, &view, &backdrop, &mut renderer())
            };
            let (full, all) = drawn(Resolution::Full);
            for (resolution, fewer) in [(Resolution::Half, 4), (Resolution::Quarter, 16)] {
                let (image, frame) = drawn(resolution);
                let (mean, far) = difference(&full, &image);
                assert!(mean < 0.5 && far < 0.003, "{blend:?} {resolution:?} {with_boxes}: {mean} {far}");
                let pixels = [&all, &frame].map(|frame| frame.count(Counter::PixelsTouched));
                if !with_boxes {
                    assert!(pixels[1] * fewer <= pixels[0] * 2, "{pixels:?}");
                }
            }
        }
    }
}

/// Tiles of any size, rounds of any length, any instruction set, any technique: the same bits.
#[test]
fn a_lower_resolution_is_the_same_however_it_is_drawn() {
    let (view, backdrop) = (view(150, 90), plain());
    let (boxes, solid) = pillars();
    let cloud = cloud(90, [0.2, 0.9], [3.0, 3.0, 3.0], 9);
    let other = cloud.clone();
    for resolution in [Resolution::Half, Resolution::Quarter, Resolution::Auto] {
        for blend in [Blend::Alpha, Blend::Additive] {
            let look = haze(blend, resolution);
            let mut bright = look.clone();
            bright.ease(0.9, 1.0);
            let populations = [(&cloud, &look), (&boxes, &solid), (&other, &bright)];
            let (first, _) = draw(&populations, Technique::Instanced, &view, &backdrop, &mut renderer());
            for technique in [Technique::Each, Technique::Batched, Technique::Indirect] {
                let (image, _) = draw(&populations, technique, &view, &backdrop, &mut renderer());
                assert_eq!(image, first, "{resolution:?} {blend:?} {technique:?}");
            }
            for level in levels() {
                for (tile, round) in [([3, 3], 1), ([4, 6], 2), ([5, 4], 128), ([6, 8], 1)] {
                    let mut renderer = Renderer::tuned(tile, round, level);
                    let (image, _) =
                        draw(&populations, Technique::Instanced, &view, &backdrop, &mut renderer);
                    assert_eq!(image, first, "{resolution:?} {blend:?} {tile:?} {round} {level:?}");
                }
            }
        }
    }
}

/// Small elements, and few ones, are drawn at the resolution of the picture unless the look says otherwise.
#[test]
fn only_large_elements_that_cover_much_are_reduced_by_themselves() {
    let (view, backdrop) = (view(320, 200), plain());
    for (count, size, is_reduced) in
        [(4000, [0.005, 0.02], false), (3, [0.5, 0.9], false), (150, [0.5, 0.9], true)]
    {
        let cloud = cloud(count, size, [3.0, 3.0, 3.0], 3);
        let pixels = |resolution| {
            let look = haze(Blend::Additive, resolution);
            let populations = [(&cloud, &look)];
            let (_, frame) = draw(&populations, Technique::Instanced, &view, &backdrop, &mut renderer());
            frame.count(Counter::PixelsTouched)
        };
        assert_eq!(pixels(Resolution::Auto) < pixels(Resolution::Full), is_reduced, "{count} of {size:?}");
    }
}
