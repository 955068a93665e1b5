//! Triangles and strips against their samples, one by one.

use fearless_simd::Level;
use frolic_raster::colour9::{EMPTY, TEXTURED, VISIBLE, pack, unpack};
use frolic_raster::points::{Eight, Skin};
use frolic_raster::record::{Facet, Label, PLAIN, SEGMENTS, Strip, Triangle};
use frolic_raster::samples::{PLACES, SAMPLES, Samples};
use frolic_raster::solid::{
    Polygon, Records, Style, Visible, facets, nearest_first, resolve, settle, strips,
};
use frolic_raster::texture::{Page, Region, Textures};
use frolic_raster::tile::{Row, STRIDE};
use frolic_raster::triangles::{Wanted, append};
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
            shown: [WIDTH, HEIGHT],
            samples: SAMPLES,
            spans: Default::default(),
            most_slope: 0.0,
            passed: 0,
            shaded: 0,
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

/// No triangles.
const NONE: Visible<'_> = Visible { triangles: &[], facets: &[], styles: &[] };

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

/// The triangle without a texture.
fn plain(facet: &Facet) -> Triangle {
    Triangle {
        x: facet.x,
        y: facet.y,
        near: facet.near,
        base: facet.base,
        sun: facet.sun,
        label: facet.label,
    }
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
    let styles = [style(&textures)];
    facets(level, &mut tile.samples(), records, 0, &styles);
    settle(level, &mut tile.samples(), &Visible { triangles: &[], facets: records, styles: &styles }, false);
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
            triangles.iter().enumerate().map(|(nth, facet)| nearness(facet) | nth as u64).collect();
        keys.sort_unstable();
        for level in levels() {
            let (mut any, mut front) = (Tile::new(3, 4), Tile::new(3, 4));
            draw(level, &mut any, &triangles);
            let styles = [style(&textures)];
            let plain: Vec<Triangle> = triangles.iter().map(plain).collect();
            let records = Records { keys: &keys, triangles: &plain, facets: &[], strips: &[] };
            nearest_first(level, &mut front.samples(), &records, &styles, &mut Vec::new());
            prop_assert!(any.near == front.near);
            let visible = Visible { triangles: &plain, facets: &[], styles: &styles };
            settle(level, &mut front.samples(), &visible, false);
            prop_assert_eq!(any.covered(), front.covered());
        }
    }

    /// Plain triangles cover the samples that triangles with a texture cover, at the same nearness, and have the colours of their corners,
    /// mixed in the middle of each pixel.
    #[test]
    fn plain_triangles_are_as_others(
        triangles in proptest::collection::vec((triangle(), prop::array::uniform3(0u32..9)), 1..20), x in 0i32..20, first in 0u32..9,
    ) {
        let textures = Textures::default();
        let colour = |red: u32| pack([red as f32 / 8.0, 0.5, 0.25]);
        let triangles: Vec<Facet> = triangles
            .into_iter()
            .map(|(facet, reds)| Facet { base: reds.map(colour), sun: reds.map(|red| colour(8 - red)), ..facet })
            .filter(|facet| area(facet) > 20.0)
            .collect();
        let plain: Vec<Triangle> = triangles.iter().map(plain).collect();
        let sunny = Style { sun: true, ..style(&textures) };
        let mut once: Option<Tile> = None;
        for level in levels() {
            let (mut worn, mut tile) = (Tile::new(x, 3), Tile::new(x, 3));
            facets(level, &mut worn.samples(), &triangles, 0, &[sunny]);
            let visible = Visible { triangles: &[], facets: &triangles, styles: &[sunny] };
            settle(level, &mut worn.samples(), &visible, true);
            // Those of a chunk may come after others.
            let others = vec![Triangle::default(); first as usize];
            frolic_raster::solid::triangles(level, &mut tile.samples(), &plain, first, &[sunny]);
            let all = [others, plain.clone()].concat();
            let visible = Visible { triangles: &all, facets: &[], styles: &[sunny] };
            settle(level, &mut tile.samples(), &visible, true);
            prop_assert!(worn.near == tile.near);
            prop_assert_eq!(worn.covered(), tile.covered());
            for at in tile.covered() {
                for (got, wanted) in [(tile.base[at], worn.base[at]), (tile.sun[at], worn.sun[at])] {
                    for (got, wanted) in unpack(got).into_iter().zip(unpack(wanted)) {
                        prop_assert!((got - wanted).abs() < 0.02, "{got} for {wanted}");
                    }
                }
            }
            prop_assert!(once.get_or_insert_with(|| tile.clone()) == &tile);
        }
    }

    /// Triangles with a texture have the colours afterwards that they would have been drawn in at once.
    #[test]
    fn textures_are_looked_up_afterwards(
        triangles in proptest::collection::vec((triangle(), prop::array::uniform6(0f32..1.0)), 1..12), first in 0u32..5, x in 0i32..20, holes in any::<bool>(),
    ) {
        let opacity = |n: usize| if holes { (n * 7919) as u16 } else { 65_535 };
        let level = |side: usize| (0..side * side).map(|n| [(n * 911) as u16, (n * 577) as u16, 9000, opacity(n)]).collect();
        let textures = Textures {
            pages: vec![Page { side: 32, levels: vec![level(32), level(16), level(8), level(4)] }],
            regions: vec![Region { page: 0, x: 3, y: 5, w: 20, h: 17 }],
        };
        let facets: Vec<Facet> = triangles
            .into_iter()
            .map(|(facet, [a, b, c, d, e, f])| Facet { uv: [[a, b], [c, d], [e, f]], region: 0, sun: facet.base, ..facet })
            .filter(|facet| area(facet) > 20.0)
            .collect();
        let styles = [Style { sun: true, holes, ..style(&textures) }];
        let all = [vec![Facet::default(); first as usize], facets.clone()].concat();
        let polygons: Vec<Polygon> = facets.iter().map(|facet| Polygon::of_facet(facet, &textures)).collect();
        let mut once = None;
        for level in levels() {
            let mut tile = Tile::new(x, 3);
            frolic_raster::solid::facets(level, &mut tile.samples(), &facets, first, &styles);
            let words = tile.base.clone();
            settle(level, &mut tile.samples(), &Visible { triangles: &[], facets: &all, styles: &styles }, true);
            for at in tile.covered() {
                let nth = (words[at] & !(VISIBLE | TEXTURED)) - first;
                let (polygon, facet) = (&polygons[nth as usize], &facets[nth as usize]);
                let (i, j) = (at / SAMPLES / HEIGHT, at / SAMPLES % HEIGHT);
                let [px, py] = [(tile.x + i as i32) as f32 + 0.5, (tile.y + j as i32) as f32 + 0.5];
                let plane = |plane: frolic_raster::solid::Plane| py * plane.dy + plane.c + px * plane.dx;
                let [u, v] = polygon.uv.map(|uv| (plane(uv) / plane(polygon.scale)).clamp(0.0, 1.0));
                let texel = textures.look_up(&textures.regions[0], u, v, polygon.texels).to_array();
                // By about how far samples and the middle of their pixel differ from the half.
                prop_assert!(!holes || texel[3] > 0.3, "{}", texel[3]);
                for (packed, own) in [(tile.base[at], facet.base[0]), (tile.sun[at], facet.sun[0])] {
                    for (channel, got) in unpack(packed).into_iter().enumerate() {
                        let wanted = unpack(own)[channel] * texel[channel] / texel[3].max(1e-4);
                        prop_assert!((got - wanted).abs() < 0.01 * wanted.max(1.0), "{got} for {wanted}");
                    }
                }
            }
            prop_assert!(once.get_or_insert_with(|| tile.clone()) == &tile);
        }
    }

    /// Resolving with triangles still to be coloured is as colouring all samples first; every level gives the same bits.
    #[test]
    fn pixels_are_as_of_settled_samples(
        triangles in proptest::collection::vec((triangle(), prop::array::uniform3(0u32..9)), 1..30), x in 0i32..20, behind in 0f32..1.0,
    ) {
        let textures = Textures::default();
        let colour = |red: u32| pack([red as f32 / 8.0, 0.5, 0.25]);
        let plain: Vec<Triangle> = triangles
            .into_iter()
            .map(|(facet, reds)| Triangle { base: reds.map(colour), ..plain(&facet) })
            .collect();
        let styles = [style(&textures)];
        let visible = Visible { triangles: &plain, facets: &[], styles: &styles };
        let mut once = None;
        for level in levels() {
            let (mut settled, mut tile) = (Tile::new(x, 3), Tile::new(x, 3));
            for tile in [&mut settled, &mut tile] {
                frolic_raster::solid::triangles(level, &mut tile.samples(), &plain, 0, &styles);
            }
            settle(level, &mut settled.samples(), &visible, false);
            let fresh = || (vec![[[behind; STRIDE]; 3] as Row; HEIGHT], vec![[f32::INFINITY; STRIDE]; HEIGHT]);
            let ((mut rows, mut depth), (mut all, mut depths)) = (fresh(), fresh());
            let nearest = resolve(level, &mut settled.samples(), &NONE, &mut rows, &mut depth, None);
            let least = resolve(level, &mut tile.samples(), &visible, &mut all, &mut depths, None);
            prop_assert_eq!((nearest, &depth), (least, &depths));
            for (row, all) in rows.as_flattened().as_flattened().iter().zip(all.as_flattened().as_flattened()) {
                prop_assert!((row - all).abs() <= 1e-5 * row.abs(), "{all} for {row}");
            }
            prop_assert!(tile.covered().is_empty());
            prop_assert!(once.get_or_insert_with(|| all.clone()) == &all);
        }
    }

    /// Triangles of a mesh that are left out reach no sample, or face away; all others are kept, whole.
    #[test]
    fn no_triangle_that_reaches_a_sample_is_left_out(
        corners in proptest::collection::vec((-2f32..34.0, -2f32..34.0), 3..20), small in prop::bool::ANY, shadow in any::<bool>(), turned_away in any::<bool>(),
    ) {
        let textures = Textures::default();
        let scale = if small { 0.03 } else { 1.0 };
        let corners: Vec<[f32; 2]> = corners.into_iter().map(|(x, y)| [x * scale + 4.0, y * scale + 4.0]).collect();
        let mut skin = Skin::default();
        skin.start(corners.len(), 0);
        for (nth, [x, y]) in corners.iter().enumerate() {
            let eight: &mut Eight = &mut skin.eights[nth / 8];
            (eight.x[nth % 8], eight.y[nth % 8], eight.near[nth % 8]) = (*x, *y, 1.0);
        }
        let fan: Vec<[u16; 3]> = (2..corners.len() as u16).map(|nth| [0, nth - 1, nth]).collect();
        let samples = if shadow { 1 } else { SAMPLES };
        for level in levels() {
            let wanted = Wanted { triangles: &fan, turned_away, samples, size: [WIDTH, HEIGHT] };
            let mut kept = Vec::new();
            append(level, &skin, &wanted, &mut kept);
            let mut kept = kept.into_iter().peekable();
            for triangle in &fan {
                let of = |axis: usize| triangle.map(|nth| corners[usize::from(nth)][axis]);
                let facet = Facet { x: of(0), y: of(1), near: [1.0; 3], region: PLAIN, ..Facet::default() };
                let is_kept = kept.next_if(|triangle| (triangle.x, triangle.y) == (facet.x, facet.y)).is_some();
                let count = WIDTH * HEIGHT * samples;
                let mut near = vec![0.0; count];
                let mut tile = Samples {
                    near: &mut near, base: &mut [], sun: &mut [],
                    x: 0, y: 0, width: WIDTH, height: HEIGHT, shown: [WIDTH, HEIGHT], samples, spans: Default::default(), most_slope: 0.0,
            passed: 0,
            shaded: 0,
                };
                facets(level, &mut tile, &[facet], 0, &[style(&textures)]);
                let reaches = area(&facet) != 0.0 && near.iter().any(|near| *near > 0.0);
                let seen = !turned_away || area(&facet) < 0.0;
                prop_assert!(is_kept || !(reaches && seen), "{facet:?}");
                prop_assert!(!is_kept || seen);
            }
            prop_assert!(kept.next().is_none());
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
            let nearest = resolve(level, &mut tile.samples(), &NONE, &mut rows, &mut depth, None);
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
