//! Triangles and strips against their samples, one by one.

use fearless_simd::Level;
use frolic_raster::colour9::{EMPTY, pack, unpack};
use frolic_raster::record::{Facet, Label, PLAIN, SEGMENTS, Strip};
use frolic_raster::samples::{PLACES, SAMPLES, Samples};
use frolic_raster::solid::{FACET, Style, facets, nearest_first, resolve, strips};
use frolic_raster::texture::Textures;
use frolic_raster::tile::{Row, STRIDE};
use frolic_simd::levels;
use glam::Vec2;
use proptest::prelude::*;

const WIDTH: usize = 32;
const HEIGHT: usize = 32;

/// The samples of a tile of 32 by 32 pixels.
#[derive(Debug, Clone, PartialEq)]
struct Tile {
    near: Vec<f32>,
    base: Vec<u32>,
    sun: Vec<u32>,
    x: i32,
    y: i32,
}

impl Tile {
    fn new(x: i32, y: i32) -> Self {
        let count = WIDTH * HEIGHT * SAMPLES;
        Self { near: vec![0.0; count], base: vec![EMPTY; count], sun: vec![0; count], x, y }
    }

    fn samples(&mut self) -> Samples<'_> {
        Samples {
            near: &mut self.near,
            base: &mut self.base,
            sun: &mut self.sun,
            x: self.x,
            y: self.y,
            width: WIDTH,
            height: HEIGHT,
            samples: SAMPLES,
            spans: Default::default(),
            most_slope: 0.0,
        }
    }

    /// Each sample with its place in the picture, in pixels.
    fn places(&self) -> impl Iterator<Item = (usize, [f32; 2])> + use<> {
        let [x, y] = [self.x, self.y].map(|first| first as f32);
        (0..WIDTH * HEIGHT * SAMPLES).map(move |at| {
            let (pixel, [dx, dy]) = (at / SAMPLES, PLACES[at % SAMPLES]);
            let (i, j) = (pixel / HEIGHT, pixel % HEIGHT);
            (at, [x + i as f32 + 0.5 + dx, y + j as f32 + 0.5 + dy])
        })
    }

    fn covered(&self) -> Vec<usize> {
        (0..self.base.len()).filter(|&at| self.base[at] != EMPTY).collect()
    }
}

fn style(textures: &Textures) -> Style<'_> {
    Style { test: true, write: true, holes: false, sun: false, textures }
}

/// A triangle of one colour and nearness.
fn flat(corners: [[f32; 2]; 3], near: f32, colour: u32) -> Facet {
    let mut facet = Facet {
        x: corners.map(|[x, _]| x),
        y: corners.map(|[_, y]| y),
        near: [near; 3],
        base: [colour; 3],
        region: PLAIN,
        opacity: 1.0,
        order_depth: 1.0 / near,
        ..Facet::default()
    };
    // Clockwise on the screen.
    if area(&facet) < 0.0 {
        (facet.x, facet.y) = ([facet.x[0], facet.x[2], facet.x[1]], [facet.y[0], facet.y[2], facet.y[1]]);
    }
    facet
}

fn area(facet: &Facet) -> f32 {
    let ([ax, bx, cx], [ay, by, cy]) = (facet.x, facet.y);
    (bx - ax) * (cy - ay) - (cx - ax) * (by - ay)
}

/// Distance of a place inside a triangle to its nearest edge, in pixels; negative outside.
fn depth_inside(facet: &Facet, [x, y]: [f32; 2]) -> f64 {
    let [x, y] = [x, y].map(f64::from);
    (0..3)
        .map(|k| {
            let [ax, ay, bx, by] =
                [facet.x[k], facet.y[k], facet.x[(k + 1) % 3], facet.y[(k + 1) % 3]].map(f64::from);
            ((bx - ax) * (y - ay) - (by - ay) * (x - ax)) / (bx - ax).hypot(by - ay).max(1e-9)
        })
        .fold(f64::INFINITY, f64::min)
}

fn draw(level: Level, tile: &mut Tile, records: &[Facet]) {
    let textures = Textures::default();
    facets(level, &mut tile.samples(), records, &[style(&textures)]);
}

prop_compose! {
    fn corner()(x in -10f32..60.0, y in -10f32..60.0) -> [f32; 2] {
        [x, y]
    }
}

prop_compose! {
    fn triangle()(corners in [corner(), corner(), corner()], near in 0.01f32..10.0, red in 0u32..9) -> Facet {
        flat(corners, near, pack([red as f32 / 8.0, 0.5, 0.25]))
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(96))]

    /// A sample shows the nearest of the triangles that it is in, at any instruction set and wherever the tile is.
    #[test]
    fn the_nearest_triangle_wins(triangles in proptest::collection::vec(triangle(), 1..10), x in 0i32..20, y in 0i32..20) {
        let triangles: Vec<Facet> = triangles.into_iter().filter(|facet| area(facet) > 1.0).collect();
        let mut first = Tile::new(x, y);
        draw(levels()[0], &mut first, &triangles);
        for (at, place) in first.places() {
            let inside: Vec<f64> = triangles.iter().map(|facet| depth_inside(facet, place)).collect();
            if inside.iter().any(|depth| depth.abs() < 1e-3) {
                continue;
            }
            let nearest = triangles
                .iter()
                .zip(&inside)
                .filter(|(_, depth)| **depth > 0.0)
                .max_by(|(a, _), (b, _)| a.near[0].total_cmp(&b.near[0]));
            match nearest {
                None => prop_assert_eq!(first.base[at], EMPTY),
                Some((facet, _)) => {
                    prop_assert!((first.near[at] / facet.near[0] - 1.0).abs() < 1e-3);
                    let tied = triangles.iter().filter(|other| (other.near[0] / facet.near[0] - 1.0).abs() < 1e-2).count() > 1;
                    let [got, wanted] = [first.base[at], facet.base[0]].map(unpack);
                    prop_assert!(tied || got.iter().zip(wanted).all(|(got, wanted)| (got - wanted).abs() < 0.01));
                }
            }
        }
        for level in levels() {
            let mut again = Tile::new(x, y);
            draw(level, &mut again, &triangles);
            prop_assert!(again == first);
            // The same samples from a tile that starts elsewhere.
            let mut aside = Tile::new(x + 5, y + 3);
            draw(level, &mut aside, &triangles);
            for (at, [px, py]) in aside.places().filter(|(_, [px, py])| *px < (x + 32) as f32 && *py < (y + 32) as f32) {
                let (i, j) = ((px.floor() as i32 - x) as usize, (py.floor() as i32 - y) as usize);
                let from = (i * HEIGHT + j) * SAMPLES + at % SAMPLES;
                prop_assert_eq!(aside.near[at], first.near[from]);
                prop_assert_eq!(aside.base[at], first.base[from]);
            }
        }
    }

    /// Two triangles that share an edge leave no gap and overlap nowhere: they share out the samples of their rectangle.
    #[test]
    fn neighbours_share_out_the_samples(x in 0f32..10.0, y in 0f32..10.0, w in 4f32..20.0, h in 4f32..20.0, along in 0f32..1.0) {
        // A fan about a place in the rectangle.
        let middle = [x + w * along, y + h * (1.0 - along * 0.8)];
        let corners = [[x, y], [x + w, y], [x + w, y + h], [x, y + h]];
        for level in levels() {
            let mut times = vec![0; WIDTH * HEIGHT * SAMPLES];
            for k in 0..4 {
                let facet = flat([corners[k], corners[(k + 1) % 4], middle], 1.0, pack([1.0; 3]));
                let mut tile = Tile::new(0, 0);
                draw(level, &mut tile, &[facet]);
                tile.covered().into_iter().for_each(|at| times[at] += 1);
            }
            for (at, [px, py]) in Tile::new(0, 0).places() {
                let inside = (px - x).min(x + w - px).min(py - y).min(y + h - py);
                prop_assert!(times[at] <= 1);
                prop_assert!(inside.abs() < 1e-3 || times[at] == usize::from(inside > 0.0), "{} at {px}, {py}", times[at]);
            }
        }
    }

    /// Drawing from front to back, with hidden records skipped, leaves the same samples as drawing in any order.
    #[test]
    fn front_to_back_leaves_the_same_samples(triangles in proptest::collection::vec(triangle(), 1..200)) {
        let textures = Textures::default();
        let mut triangles: Vec<Facet> = triangles.into_iter().filter(|facet| area(facet) > 0.5).collect();
        // Different depths, so that no order matters.
        let many = triangles.len() as f32;
        triangles.iter_mut().enumerate().for_each(|(nth, facet)| facet.near = [((nth * 7919) as f32 % many + 1.0) / many + nth as f32 * 1e-4; 3]);
        let nearness = |facet: &Facet| u64::from(!facet.nearest().to_bits()) << 32;
        let mut keys: Vec<u64> =
            triangles.iter().enumerate().map(|(nth, facet)| nearness(facet) | u64::from(nth as u32 | FACET)).collect();
        keys.sort_unstable();
        for level in levels() {
            let (mut any, mut front) = (Tile::new(3, 4), Tile::new(3, 4));
            draw(level, &mut any, &triangles);
            let styles = [style(&textures)];
            nearest_first(level, &mut front.samples(), &keys, &triangles, &[], &styles, &mut Vec::new());
            prop_assert!(any.near == front.near);
        }
    }

    /// An upright strip covers, on each row of samples, the span between its sides.
    #[test]
    fn an_upright_strip_covers_its_spans(
        xs in [2f32..30.0, 2f32..30.0, 2f32..30.0, 2f32..30.0], widths in [0.2f32..5.0, 0.2f32..5.0, 0.2f32..5.0, 0.2f32..5.0],
        top in 1f32..8.0, steps in [2f32..8.0, 2f32..8.0, 2f32..8.0], near in 0.1f32..4.0,
    ) {
        let textures = Textures::default();
        let ys = [top, top + steps[0], top + steps[0] + steps[1], top + steps.iter().sum::<f32>()];
        let strip = Strip {
            p: std::array::from_fn(|k| Vec2::new(xs[k], ys[k])),
            n: std::array::from_fn(|k| Vec2::new(widths[k], 0.0)),
            near: [near; SEGMENTS + 1],
            base: [pack([0.5, 1.0, 0.25]); SEGMENTS + 1],
            count: 4,
            upright: true,
            opacity: 1.0,
            label: Label::default(),
            ..Strip::default()
        };
        let mut first: Option<Tile> = None;
        for level in levels() {
            let mut tile = Tile::new(0, 0);
            strips(level, &mut tile.samples(), &[strip], &[style(&textures)]);
            for (at, [x, y]) in tile.places() {
                let Some(k) = (0..SEGMENTS).find(|&k| (ys[k]..ys[k + 1]).contains(&y)) else {
                    let beside = ys.iter().any(|end| (y - end).abs() < 1e-3);
                    prop_assert!(beside || tile.base[at] == EMPTY);
                    continue;
                };
                let share = (y - ys[k]) / (ys[k + 1] - ys[k]);
                let mix = |of: [f32; 4]| of[k] + (of[k + 1] - of[k]) * share;
                let inside = mix(widths) - (x - mix(xs)).abs();
                if inside.abs() > 1e-2 && ys.iter().all(|end| (y - end).abs() > 1e-2) {
                    prop_assert_eq!(tile.base[at] != EMPTY, inside > 0.0, "at {}, {}", x, y);
                }
            }
            prop_assert!(first.get_or_insert_with(|| tile.clone()) == &tile);
        }
    }

    /// A pixel gets the mean of its samples over what was there, and the depth of the nearest; the samples are empty again.
    #[test]
    fn pixels_are_means_of_their_samples(triangles in proptest::collection::vec(triangle(), 1..8), before in 0f32..2.0) {
        for level in levels() {
            let mut tile = Tile::new(0, 0);
            draw(level, &mut tile, &triangles);
            let drawn = tile.clone();
            let mut rows: Vec<Row> = vec![[[before; STRIDE]; 3]; HEIGHT];
            let mut depth = vec![[f32::INFINITY; STRIDE]; HEIGHT];
            let nearest = resolve(level, &mut tile.samples(), &mut rows, &mut depth, None);
            prop_assert!(tile.base.iter().all(|base| *base == EMPTY));
            let mut least = f32::INFINITY;
            for pixel in 0..WIDTH * HEIGHT {
                let (i, j) = (pixel / HEIGHT, pixel % HEIGHT);
                let samples = pixel * SAMPLES..(pixel + 1) * SAMPLES;
                for channel in 0..3 {
                    let light = |at: usize| if drawn.base[at] == EMPTY { before } else { unpack(drawn.base[at])[channel] };
                    let mean = samples.clone().map(light).sum::<f32>() / SAMPLES as f32;
                    prop_assert!((rows[j][channel][i] - mean).abs() < 1e-4);
                }
                let near = samples.filter(|at| drawn.base[*at] != EMPTY).map(|at| drawn.near[at]).fold(0.0, f32::max);
                let wanted = if near > 0.0 { 1.0 / near } else { f32::INFINITY };
                prop_assert!(depth[j][i] == wanted || (depth[j][i] / wanted - 1.0).abs() < 1e-5);
                least = least.min(depth[j][i]);
            }
            prop_assert_eq!(nearest, least);
        }
    }
}
