//! Strips cut from ribbons: whole, joined, and never from behind the camera.

use frolic_raster::LANES;
use frolic_raster::points::Skin;
use frolic_raster::record::{SEGMENTS, Strip};
use frolic_raster::sections::{MOST_SEGMENTS, Sections, THINNEST, append, take};
use frolic_simd::levels;
use proptest::prelude::*;

const NEAR: f32 = 0.05;

/// One ribbon in all lanes: places on the screen, half widths in pixels, and depths.
fn skin(points: &[[f32; 3]], depths: &[f32]) -> Skin {
    let mut skin = Skin::default();
    skin.start(points.len(), 1);
    skin.opacity = [1.0; LANES];
    skin.in_front = [f32::from(u8::from(depths.iter().all(|depth| *depth > NEAR))); LANES];
    for ((eight, [x, y, half]), depth) in skin.eights().iter_mut().zip(points).zip(depths) {
        (eight.x, eight.y, eight.radius) = ([*x; LANES], [*y; LANES], [*half; LANES]);
        (eight.scale, eight.depth, eight.near) = ([1.0; LANES], [*depth; LANES], [1.0 / depth; LANES]);
    }
    skin
}

fn strips(skin: &Skin, level: frolic_simd::Level) -> Vec<Strip> {
    let (mut sections, mut strips) = (Sections::default(), Vec::new());
    take(level, &mut sections, skin);
    append(level, &sections, NEAR, skin, 0, 3.0, &mut strips);
    strips
}

prop_compose! {
    /// A ribbon whose points are some pixels apart.
    fn ribbon()(
        x in -200f32..900.0, y in -200f32..900.0,
        steps in prop::collection::vec((-40f32..40.0, 1f32..40.0, 0f32..6.0), 2..MOST_SEGMENTS + 2),
    ) -> Vec<[f32; 3]> {
        let (mut x, mut y) = (x, y);
        steps.iter().map(|(dx, dy, half)| { (x, y) = (x + dx, y + dy); [x, y, *half] }).collect()
    }
}

proptest! {
    /// Strips hold every point once but for shared ends, at which neighbours have the same edge.
    #[test]
    fn strips_share_their_edges(points in ribbon()) {
        for level in levels() {
            let strips = strips(&skin(&points, &vec![2.0; points.len()]), level);
            prop_assert_eq!(strips.len(), (points.len() - 1).div_ceil(SEGMENTS));
            let held: usize = strips.iter().map(|strip| usize::from(strip.count)).sum();
            prop_assert_eq!(held, points.len() + strips.len() - 1);
            for pair in strips.windows(2) {
                let last = usize::from(pair[0].count) - 1;
                prop_assert_eq!((pair[0].p[last], pair[0].n[last]), (pair[1].p[0], pair[1].n[0]));
            }
            let mut middles: Vec<_> = strips.iter().flat_map(|strip| &strip.p[..usize::from(strip.count)]).copied().collect();
            middles.dedup();
            let mut own: Vec<_> = points.iter().map(|[x, y, _]| glam::Vec2::new(*x, *y)).collect();
            if middles.first() != own.first() {
                own.reverse();
            }
            prop_assert_eq!(middles, own);
        }
    }

    /// A ribbon is no thinner than the samples can hold, but where it ends in a point; and no edge leans out by over twice the width.
    #[test]
    fn widths_are_kept_within_bounds(points in ribbon()) {
        for level in levels() {
            for strip in strips(&skin(&points, &vec![2.0; points.len()]), level) {
                for k in 0..usize::from(strip.count) {
                    let [_, _, half] = points.iter().find(|[x, y, _]| [*x, *y] == strip.p[k].to_array()).unwrap();
                    let wide = strip.n[k].length();
                    if *half == 0.0 {
                        prop_assert_eq!(wide, 0.0);
                    } else if !strip.upright {
                        prop_assert!(wide >= half.max(THINNEST) * 0.99 && wide <= half.max(THINNEST) * 2.01, "{wide} of {half}");
                    } else {
                        prop_assert!(wide >= half.max(THINNEST) * 0.99 && strip.n[k].y == 0.0, "{wide} of {half}");
                    }
                }
            }
        }
    }

    /// Points behind the camera are left out, and with fewer than two the whole ribbon.
    #[test]
    fn points_behind_the_camera_are_left_out(points in ribbon(), behind in prop::collection::vec(any::<bool>(), MOST_SEGMENTS + 1)) {
        let depths: Vec<f32> = behind.iter().take(points.len()).map(|behind| if *behind { 0.01 } else { 2.0 }).collect();
        let front: Vec<_> = points.iter().zip(&depths).filter(|(_, depth)| **depth > NEAR).map(|(point, _)| *point).collect();
        for level in levels() {
            let strips = strips(&skin(&points, &depths), level);
            let held: usize = strips.iter().map(|strip| usize::from(strip.count)).sum();
            if front.len() < 2 {
                prop_assert_eq!(held, 0);
            } else {
                prop_assert_eq!(held, front.len() + strips.len() - 1);
                for strip in &strips {
                    for p in &strip.p[..usize::from(strip.count)] {
                        prop_assert!(front.iter().any(|[x, y, _]| [*x, *y] == p.to_array()));
                    }
                }
            }
        }
    }
}

/// Places beyond all reason, and what is not a number, draw nothing.
#[test]
fn unsound_ribbons_are_left_out() {
    for bad in [f32::NAN, f32::INFINITY, 1e9] {
        for level in levels() {
            assert!(
                strips(&skin(&[[0.0, 0.0, 1.0], [bad, 20.0, 1.0]], &[2.0; 2]), level).is_empty(),
                "{bad}"
            );
        }
    }
}
