//! Columns that instances borrow: what fits, what is drawn, what only depends on an element's key.

use crate::common;
use crate::common::{picture, plain, view};
use frolic_core::{Counter, Frame, SpecError};
use frolic_draw::{
    Bounds, CHUNK, DetailSpec, Image, Instances, Look, LookSpec, Part, Renderer, RibbonSpec, Shape, Sprite,
    Technique, chunk_parts,
};
use proptest::prelude::*;

fn draw(instances: Instances<'_>, look: &Look) -> (Image, Frame) {
    picture(&mut Renderer::new(), &[(instances, look)], Technique::Instanced, &view(96, 64), &plain(), None)
}

fn spots() -> LookSpec {
    LookSpec::glowing(2.0, [(0.0, "#ffffff"), (1.0, "#4080ff")]).unwrap()
}

#[test]
fn columns_of_other_lengths_are_refused() {
    let (three, two, ids) = ([0.0f32; 3], [0.0f32; 2], [0u32; 2]);
    let whole = || Instances::at([&three, &three, &three]).unwrap();
    let told = |result: Result<Instances<'_>, SpecError>| result.unwrap_err().to_string();
    assert!(told(Instances::at([&three, &two, &three])).contains("position"));
    assert!(told(whole().moving([&three, &three, &two])).contains("velocity"));
    assert!(told(whole().ageing(&three, &two)).contains("age"));
    assert!(told(whole().sized(&two)).contains("size"));
    assert!(told(whole().turned(&two, &three)).contains("turn"));
    assert!(told(whole().curved([&three; 3], [&three, &two, &three])).contains("curve"));
    assert!(told(whole().keyed(&ids)).contains("id"));
    let bounds = Bounds { low: [0.0; 3], high: [0.0; 3] };
    let part = |first, count| Part { first, count, bounds };
    assert!(told(whole().in_parts(&[part(0, 2), part(1, 1)])).contains("parts"));
    assert!(told(whole().in_parts(&[part(2, 2)])).contains("parts"));
    assert!(told(whole().in_parts(&[part(2, u32::MAX)])).contains("parts"));
    assert!(whole().in_parts(&[part(0, 1), part(2, 1)]).is_ok());
    assert!(told(whole().tinted(&two)).contains("tint"));
}

#[test]
fn no_elements_give_a_picture_of_the_sky() {
    let look = spots().build().unwrap();
    let none: [f32; 0] = [];
    let empty = Instances::at([&none, &none, &none]).unwrap();
    assert!(empty.is_empty() && Instances::sprites(&[]).is_empty());
    let (image, frame) = draw(empty, &look);
    assert_eq!((frame.count(Counter::DrawCalls), frame.count(Counter::Instances)), (0, 0));
    let zero = [0.0f32];
    let (other, _) = draw(Instances::at([&zero, &zero, &zero]).unwrap().sized(&zero).unwrap(), &look);
    assert!(image == other, "a size of nothing is nothing");
}

/// What is not a number, not born or dead is not drawn, and takes nothing else with it.
#[test]
fn dead_elements_are_not_drawn() {
    let (zero, one) = ([0.0f32; 3], [1.0f32; 3]);
    let size = [0.3f32; 3];
    for shape in [Shape::Disc, Shape::Ribbon(RibbonSpec::default())] {
        let look = spots().shape(shape.clone()).build().unwrap();
        let alone = [0.2f32];
        let (want, _) = draw(
            Instances::at([&zero[..1], &zero[..1], &zero[..1]])
                .and_then(|i| i.sized(&size[..1]))
                .and_then(|i| i.ageing(&alone, &one[..1]))
                .unwrap(),
            &look,
        );
        for (x, age) in [
            ([0.0, f32::NAN, f32::INFINITY], [0.2, 0.2, 0.2f32]),
            ([0.0, 0.4, -0.4], [0.2, -0.001, 1.0]),
            ([0.0, 0.4, -0.4], [0.2, f32::NAN, 3.0]),
        ] {
            let all = Instances::at([&x, &zero, &zero]).unwrap().sized(&size).unwrap();
            let (image, frame) = draw(all.ageing(&age, &one).unwrap(), &look);
            assert!(image == want, "{shape:?} {x:?} {age:?}");
            assert_eq!(frame.count(Counter::Culled), 2);
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    /// Thinning and tints go by an element's key, not by its place in the columns: turned round, the same ones stay.
    #[test]
    fn order_depends_on_the_key_alone(seed in any::<u32>(), count in 1usize..400) {
        let random = |n: usize, of: u32| {
            frolic_core::random::Draws { seed, id: n as u32 }.draw(of).map(|v| v * 3.0 - 1.5)
        };
        let rows: Vec<[f32; 3]> = (0..count).map(|n| random(n, 1)).collect();
        let ids: Vec<u32> = (0..count as u32).map(|n| n.wrapping_mul(2_654_435_761)).collect();
        let size = vec![0.02f32; count];
        let mut look = spots();
        look.detail = DetailSpec::reach(7.0, 0.4).thin_below(3.0);
        look.tints = vec![frolic_draw::Colour::new(1.0, 0.2, 0.1), frolic_draw::Colour::new(0.1, 1.0, 0.4)];
        let look = look.build().unwrap();
        let kept = |order: &[usize]| {
            let column = |axis: usize| order.iter().map(|n| rows[*n][axis]).collect::<Vec<f32>>();
            let (x, y, z) = (column(0), column(1), column(2));
            let ids: Vec<u32> = order.iter().map(|n| ids[*n]).collect();
            let all = Instances::at([&x, &y, &z]).unwrap().sized(&size).unwrap().keyed(&ids).unwrap();
            let (image, frame) = draw(all, &look);
            (image, frame.count(Counter::Thinned))
        };
        let forth: Vec<usize> = (0..count).collect();
        let back: Vec<usize> = (0..count).rev().collect();
        let ((a, thinned), (b, other)) = (kept(&forth), kept(&back));
        prop_assert_eq!(thinned, other);
        // Light adds in another order, so the last bit may differ.
        let most = a.bytes().iter().zip(b.bytes()).map(|(a, b)| a.abs_diff(*b)).max().unwrap();
        prop_assert!(most <= 1, "{most}");
    }

    /// The boxes of chunks hold every element with its margin.
    #[test]
    fn boxes_hold_their_chunks(count in 0usize..3000, margin in 0f32..5.0, seed in any::<u32>()) {
        let at = |of: u32| -> Vec<f32> {
            let draws = |n: usize| frolic_core::random::Draws { seed, id: n as u32 };
            (0..count).map(|n| draws(n).draw(of)[0] * 100.0 - 50.0).collect()
        };
        let (x, y, z) = (at(1), at(2), at(3));
        let bounds: Vec<_> = chunk_parts([&x, &y, &z], margin).collect();
        prop_assert_eq!(bounds.len(), count.div_ceil(CHUNK));
        for n in 0..count {
            let Bounds { low, high } = bounds[n / CHUNK].bounds;
            for (axis, v) in [x[n], y[n], z[n]].into_iter().enumerate() {
                prop_assert!(low[axis] <= v - margin * 0.999 && v + margin * 0.999 <= high[axis]);
            }
        }
    }
}

/// Where an element was moving lies between two steps: drawn so far back along its way.
#[test]
fn instances_stand_between_steps() {
    let look = spots().build().unwrap();
    let (zero, size, velocity) = ([0.0f32], [0.2f32], [4.0f32]);
    let particles = common::cloud(200, [0.05, 0.2], [2.0, 2.0, 2.0], 9);
    let now = draw(Instances::of(particles.columns(), 0.0), &look).0;
    let before = draw(Instances::of(particles.columns(), 0.05), &look).0;
    assert!(now != before);
    // Without a moment to go back, velocity says nothing of the place.
    let still = Instances::at([&zero, &zero, &zero]).unwrap().sized(&size).unwrap();
    assert!(draw(still, &look).0 == draw(still.moving([&velocity, &zero, &zero]).unwrap(), &look).0);
}

/// Sprites are instances too: as many as there are, in the order they came.
#[test]
fn sprites_are_drawn_in_their_order() {
    let at = |x: f32, tint: [f32; 4]| Sprite {
        position: [x, 20.0, 0.0],
        size: [30.0, 30.0],
        pivot: [0.0, 0.0],
        tint,
        ..Sprite::default()
    };
    let (red, blue) = ([0.9, 0.0, 0.0, 1.0], [0.0, 0.0, 0.9, 1.0]);
    let look = LookSpec::sprites(true, 0).build().unwrap();
    let pixel = |sprites: &[Sprite]| {
        let (image, frame) = draw(Instances::sprites(sprites), &look);
        assert_eq!(frame.count(Counter::Instances), 2);
        image.pixels()[30 * 96 + 35]
    };
    let [r, _, b, _] = pixel(&[at(10.0, red), at(20.0, blue)]);
    assert!(b > 150 && r < 40, "{r} {b}");
    let [r, _, b, _] = pixel(&[at(20.0, blue), at(10.0, red)]);
    assert!(r > 150 && b < 40, "{r} {b}");
}
