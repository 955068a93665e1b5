//! Drafts: like the full picture, in a part of its pixels.

use crate::common::{cloud, draw, look, picture, plain, renderer, view};
use frolic_core::Counter;
use frolic_draw::{
    Blend, CameraSpec, Image, ImageSize, Instances, Look, LookSpec, Quality, Shape, Sprite, SunSpec,
    Technique,
};
use frolic_list::{ListScratch, ListSpec, Surroundings};

/// Mean difference of the channels of two pictures, in steps of 255.
fn mean(a: &Image, b: &Image) -> f64 {
    let off = |(a, b): (&[u8; 4], &[u8; 4])| (0..3).map(|c| f64::from(a[c].abs_diff(b[c]))).sum::<f64>();
    a.pixels().iter().zip(b.pixels()).map(off).sum::<f64>() / (3 * a.pixels().len()) as f64
}

fn boxes() -> Look {
    LookSpec::solid(Shape::mesh("box"), "#806040").unwrap().build().unwrap()
}

#[test]
fn a_draft_is_like_the_full_picture() {
    let (backdrop, sun) = (plain(), SunSpec::default());
    let (drops, stones) =
        (cloud(400, [0.02, 0.2], [4.0, 3.0, 2.0], 5), cloud(60, [0.1, 0.3], [4.0, 3.0, 2.0], 8));
    let (soft, solid) = (look(Blend::Alpha), boxes());
    let populations = [(&stones, &solid), (&drops, &soft)];
    for (width, height) in [(320, 200), (321, 199)] {
        let view = view(width, height);
        let mut renderer = renderer();
        let mut drawn = |quality| {
            renderer.set_quality(quality);
            let sources: Vec<_> =
                populations.iter().map(|(p, look)| (Instances::of(p.columns(), 0.01), *look)).collect();
            picture(&mut renderer, &sources, Technique::Instanced, &view, &backdrop, Some(&sun))
        };
        let (full, all) = drawn(Quality::Full);
        let (draft, fewer) = drawn(Quality::Draft);
        assert_eq!(draft.size(), full.size());
        let off = mean(&full, &draft);
        assert!(off > 0.0 && off < 5.0, "{width}x{height}: {off}");
        let pixels = [&all, &fewer].map(|frame| frame.count(Counter::PixelsTouched));
        assert!(pixels[1] * 3 < pixels[0], "{pixels:?}");
        assert_eq!(drawn(Quality::Full).0, full, "nothing of the draft is left");
        assert_eq!(drawn(Quality::Draft).0, draft);
    }
}

/// A picture of one colour stays it, at any size: no edge is mixed with what is outside.
#[test]
fn drafts_of_any_size_reach_the_edges() {
    let backdrop = plain();
    for (width, height) in [(1, 1), (2, 1), (1, 3), (129, 65), (400, 1)] {
        let mut renderer = renderer();
        renderer.set_quality(Quality::Draft);
        let (image, _) = draw(&[], Technique::Instanced, &view(width, height), &backdrop, &mut renderer);
        let first = image.pixels()[0];
        let even = |pixel: &[u8; 4]| (0..4).all(|c| pixel[c].abs_diff(first[c]) <= 1);
        assert!(image.pixels().iter().all(even), "{width}x{height}");
    }
}

/// Sprites on the screen are where they are in the full picture.
#[test]
fn places_on_the_screen_stay() {
    let (backdrop, size) = (plain(), ImageSize::new(120, 80).unwrap());
    let mut camera = CameraSpec::new([0.0, 0.0, 5.0], [0.0; 3], 40.0);
    camera.bloom = 0.0;
    let view = camera.view(size).unwrap();
    let look = LookSpec::sprites(true, 0).build().unwrap();
    let (position, size_of) = ([40.0, 20.0, 0.0], [30.0, 24.0]);
    let tint = [0.0, 0.0, 0.0, 1.0];
    let sprites = [Sprite { position, size: size_of, tint, ..Sprite::default() }];
    let mut renderer = renderer();
    let mut drawn = |quality| {
        renderer.set_quality(quality);
        let (mut scratch, mut meter) = (ListScratch::default(), frolic_core::Meter::new());
        let sources = [(Instances::sprites(&sprites), &look)];
        let around = Surroundings::new(&backdrop);
        let list = scratch.list(sources, &ListSpec::default(), &view, &around, &mut meter);
        let mut image = Image::new(size);
        renderer.render(&list, &view, &backdrop, &mut image, &mut meter);
        image
    };
    let (full, draft) = (drawn(Quality::Full), drawn(Quality::Draft));
    let dark = |image: &Image| image.pixels().iter().map(|pixel| pixel[1] < 30).collect::<Vec<_>>();
    let differ = dark(&full).iter().zip(dark(&draft)).filter(|(a, b)| **a != *b).count();
    assert!(dark(&full).iter().filter(|dark| **dark).count() > 600 && differ < 120, "{differ}");
}
