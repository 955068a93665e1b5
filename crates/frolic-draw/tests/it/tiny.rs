//! Meshes hardly larger than a pixel: spots that cover as much, in the same colour, and never pop.

use crate::common::{cloud, draw, plain, renderer, view};
use frolic_core::{Counter, Frame, Particles};
use frolic_draw::{
    BackdropSpec, CameraSpec, Colour, DetailSpec, Image, ImageSize, Look, LookSpec, Renderer, Shape,
    Technique, View,
};

fn look(mesh: &str, detail: DetailSpec) -> Look {
    let mut look = LookSpec::solid(Shape::mesh(mesh), "#e0802c").unwrap();
    (look.detail, look.lit) = (detail, 0.5);
    look.build().unwrap()
}

/// A sky without light.
fn dark() -> BackdropSpec {
    let mut backdrop = plain();
    (backdrop.sky.zenith, backdrop.sky.horizon) = (Colour::new(0.0, 0.0, 0.0), Colour::new(0.0, 0.0, 0.0));
    backdrop
}

/// Sum of the light of a picture, of each channel.
fn light(image: &Image) -> [f64; 3] {
    let of = |pixel: &[u8; 4]| [0, 1, 2].map(|c| (f64::from(pixel[c]) / 255.0).powf(2.2));
    image.pixels().iter().map(of).fold([0.0; 3], |sum, own| [0, 1, 2].map(|c| sum[c] + own[c]))
}

fn seen(
    stones: &Particles,
    look: &Look,
    view: &View,
    technique: Technique,
    renderer: &mut Renderer,
) -> (Image, Frame) {
    draw(&[(stones, look)], technique, view, &dark(), renderer)
}

#[test]
fn spots_cover_what_meshes_cover() {
    let view = view(320, 200);
    // Radii of about half a pixel to a pixel and a half.
    let stones = cloud(6000, [0.015, 0.035], [4.0, 2.5, 2.0], 3);
    for mesh in ["box", "ball", "cone", "hull", "walker"] {
        let drawn = |tiny: f32| {
            let detail = DetailSpec::default().tiny_below(tiny);
            seen(&stones, &look(mesh, detail), &view, Technique::Instanced, &mut renderer())
        };
        let ((whole, all), (spots, fewer)) = (drawn(0.0), drawn(3.0));
        assert_eq!(all.count(Counter::Tiny), 0, "{mesh}: switched off");
        assert!(fewer.count(Counter::Tiny) > 4000, "{mesh}: {}", fewer.count(Counter::Tiny));
        assert!(fewer.count(Counter::BinRecords) < all.count(Counter::BinRecords), "{mesh}");
        let (a, b) = (light(&whole), light(&spots));
        // The tone curve bends what is faint: the strongest channel says how much is covered.
        assert!((b[0] / a[0] - 1.0).abs() < 0.12, "{mesh}: {a:?} {b:?}");
        assert!((b[1] / b[0] - a[1] / a[0]).abs() < 0.06, "{mesh}: {a:?} {b:?}");
    }
}

#[test]
fn spots_are_the_same_however_they_are_drawn() {
    let view = view(150, 90);
    let stones = cloud(900, [0.03, 0.25], [4.0, 2.5, 2.0], 3);
    let look = look("hull", DetailSpec::default());
    let (first, frame) = seen(&stones, &look, &view, Technique::Instanced, &mut renderer());
    let tiny = frame.count(Counter::Tiny);
    assert!(tiny > 50 && tiny < 850, "{tiny}: some are, some are not");
    for technique in [Technique::Each, Technique::Batched, Technique::Indirect] {
        assert_eq!(seen(&stones, &look, &view, technique, &mut renderer()).0, first, "{technique:?}");
    }
    for level in frolic_core::simd::levels() {
        let mut renderer = Renderer::tuned([3, 4], 1, level);
        assert_eq!(seen(&stones, &look, &view, Technique::Instanced, &mut renderer).0, first, "{level:?}");
    }
}

/// While the camera draws back, meshes become spots, and some stand for all, each at its own distance: what is covered falls evenly.
#[test]
fn nothing_pops_on_the_way_out() {
    let size = ImageSize::new(200, 120).unwrap();
    let stones = cloud(20_000, [0.02, 0.03], [3.0, 2.0, 3.0], 3);
    let look = look("ball", DetailSpec::default());
    let mut before: Option<f64> = None;
    let mut tiny = Vec::new();
    for step in 0..36 {
        let distance = 3.0 * 1.07f32.powi(step);
        let mut camera = CameraSpec::new([0.0, 0.0, distance], [0.0; 3], 45.0);
        camera.bloom = 0.0;
        let view = camera.view(size).unwrap();
        let (image, frame) = seen(&stones, &look, &view, Technique::Instanced, &mut renderer());
        tiny.push(frame.count(Counter::Tiny));
        // As the cloud shrinks on the screen, by what it covers there.
        let covered = light(&image)[0] * f64::from(distance * distance);
        if let Some(before) = before.filter(|_| distance > 6.0) {
            assert!((covered / before - 1.0).abs() < 0.12, "at {distance}: {before} {covered}");
        }
        before = Some(covered);
    }
    assert!(tiny[0] < 18_000 && tiny.iter().max() > Some(&19_000), "{tiny:?}");
    assert!(tiny[35] < 10_000, "some stand for all: {tiny:?}");
}
