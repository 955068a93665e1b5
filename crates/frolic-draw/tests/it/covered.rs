//! Tiles that are all one surface: what is behind is left out, and the backdrop is painted once, without a change of the picture.

use crate::common::{cloud, look, picture, renderer, view};
use frolic_core::{Counter, Frame, Particles};
use frolic_draw::{
    BackdropSpec, Blend, DepthSpec, Image, Instances, Look, LookSpec, Renderer, Sprite, Technique, View,
};

/// Pixels of a picture of more tiles than a record is copied to.
const SIZE: [u32; 2] = [400, 224];

/// Boards in front of the whole view, each a layer of its own.
fn boards(opacity: &[f32]) -> (Vec<[Sprite; 1]>, Vec<Look>) {
    let board =
        |opacity: &f32| [Sprite { size: [60.0, 60.0], tint: [0.3, 0.5, 0.2, *opacity], ..Sprite::default() }];
    let layer = |nth: usize| {
        LookSpec::sprites(false, nth as i32 + 1).depth(DepthSpec::default().test(false)).build().unwrap()
    };
    (opacity.iter().map(board).collect(), (0..opacity.len()).map(layer).collect())
}

fn drawn(
    clouds: &[(&Particles, &Look)],
    (boards, looks): &(Vec<[Sprite; 1]>, Vec<Look>),
    view: &View,
    renderer: &mut Renderer,
) -> (Image, Frame) {
    let clouds = clouds.iter().map(|(cloud, look)| (Instances::of(cloud.columns(), 0.01), *look));
    let boards = boards.iter().zip(looks).map(|(board, look)| (Instances::sprites(board), look));
    let all: Vec<_> = clouds.chain(boards).collect();
    picture(renderer, &all, Technique::Instanced, view, &BackdropSpec::default(), None)
}

#[test]
fn nothing_is_drawn_behind_an_opaque_board() {
    let (view, soft) = (view(SIZE[0], SIZE[1]), look(Blend::Alpha));
    let (behind, pixels) = (cloud(500, [0.1, 0.3], [3.0; 3], 1), u64::from(SIZE[0] * SIZE[1]));
    let touched = |frame: &Frame| frame.count(Counter::PixelsTouched);
    let (alone, frame) = drawn(&[], &boards(&[1.0]), &view, &mut renderer());
    assert_eq!(touched(&frame), pixels);
    // Two boards, the upper one opaque: only that is drawn.
    let (two, frame) = drawn(&[], &boards(&[0.5, 1.0]), &view, &mut renderer());
    assert_eq!((&two, touched(&frame)), (&alone, pixels));
    // One that shows what is behind: both are.
    let (through, frame) = drawn(&[], &boards(&[1.0, 0.5]), &view, &mut renderer());
    assert_eq!((&through, touched(&frame)), (&alone, 2 * pixels));
    let (all, _) = drawn(&[(&behind, &soft)], &boards(&[1.0]), &view, &mut renderer());
    assert_eq!(all, alone);
    let (faint, _) = drawn(&[(&behind, &soft)], &boards(&[0.5]), &view, &mut renderer());
    assert_ne!(faint, alone);
}

/// Also where only some of the tiles are hidden, at any size of tiles and rounds.
#[test]
fn tiles_that_are_hidden_in_part_are_the_same() {
    let (view, soft) = (view(SIZE[0], SIZE[1]), look(Blend::Additive));
    let behind = cloud(800, [0.05, 0.2], [4.0; 3], 2);
    let (mut boards, looks) = boards(&[1.0, 1.0]);
    (boards[0][0].size, boards[0][0].turn) = ([4.4, 2.1], 0.3);
    (boards[1][0].size, boards[1][0].position) = ([1.7, 3.0], [-1.3, 0.2, 0.1]);
    let all = (boards, looks);
    let (first, _) = drawn(&[(&behind, &soft)], &all, &view, &mut renderer());
    for level in frolic_core::simd::levels() {
        for (tile, round) in [([3, 3], 128), ([6, 6], 1), ([4, 5], 2), ([6, 10], 128)] {
            let (image, _) =
                drawn(&[(&behind, &soft)], &all, &view, &mut Renderer::tuned(tile, round, level));
            assert_eq!(image, first, "{tile:?} {round} {level:?}");
        }
    }
}

/// A tile whose backdrop stays is painted again only where something was drawn: after any other picture it is as in a new renderer.
#[test]
fn tiles_are_clean_whatever_was_drawn_before() {
    let (view, other) = (view(SIZE[0], SIZE[1]), view(203, 120));
    let (soft, none) = (look(Blend::Alpha), boards(&[]));
    let (few, many) = (cloud(6, [0.1, 0.2], [4.0; 3], 5), cloud(300, [0.02, 0.3], [4.0; 3], 6));
    let mut solid = LookSpec::solid(frolic_draw::Shape::mesh("box"), "#807060").unwrap();
    solid.lit = 0.5;
    let solid = solid.build().unwrap();
    let boards = boards(&[0.7]);
    let pictures: [(&[(&Particles, &Look)], _, _); 9] = [
        (&[], &none, &view),
        (&[(&few, &soft)], &none, &view),
        (&[], &none, &view),
        (&[(&many, &solid)], &none, &view),
        (&[(&few, &solid), (&few, &soft)], &none, &view),
        (&[], &boards, &view),
        (&[(&few, &soft)], &none, &view),
        (&[(&few, &soft)], &none, &other),
        (&[], &none, &view),
    ];
    let mut keeps = renderer();
    for turn in 0..3 {
        for (nth, (clouds, boards, view)) in pictures.iter().enumerate() {
            let (kept, _) = drawn(clouds, boards, view, &mut keeps);
            let (fresh, _) = drawn(clouds, boards, view, &mut renderer());
            assert_eq!(kept, fresh, "picture {nth}, turn {turn}");
        }
    }
}
