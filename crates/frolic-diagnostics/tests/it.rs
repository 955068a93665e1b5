//! Diagnostic views, plans, previews and the read-out, by their pixels.
#![allow(missing_docs)]

use std::time::Duration;

use frolic_core::{BakeSpec, Counter, Frame, Meter, Stage, Surface, WorldSpec};
use frolic_diagnostics::{Corner, Mark, PlanView, Readout, Show, preview};
use frolic_draw::{
    BackdropSpec, CameraSpec, DetailSpec, Image, ImageSize, Instances, Look, LookSpec, Renderer, Shape,
    SunSpec, View,
};
use frolic_list::{ListScratch, ListSpec, Surroundings};
use proptest::prelude::*;

fn size(width: u32, height: u32) -> ImageSize {
    ImageSize::new(width, height).unwrap()
}

/// A view of the origin from 6 m in front of it.
fn view() -> View {
    let mut camera = CameraSpec::new([0.0, 0.0, 6.0], [0.0; 3], 40.0);
    camera.bloom = 0.0;
    camera.view(size(480, 360)).unwrap()
}

fn sky() -> BackdropSpec {
    let mut backdrop = BackdropSpec::default();
    backdrop.sky.horizon = backdrop.sky.zenith;
    backdrop
}

fn shown(show: Show, sources: &[(Instances<'_>, &Look)]) -> Image {
    let (view, backdrop) = (view(), sky());
    let (mut scratch, mut meter) = (ListScratch::default(), Meter::new());
    let around = Surroundings::new(&backdrop);
    let list = scratch.list(sources.iter().copied(), &ListSpec::default(), &view, &around, &mut meter);
    let mut image = Image::new(size(8, 8));
    show.paint(&mut Renderer::new(), &list, &view, &backdrop, &mut image, &mut meter);
    assert_eq!(image.size(), view.size());
    image
}

/// The pixel at which a place in the world is drawn.
fn pixel(image: &Image, place: [f32; 3]) -> [u8; 3] {
    let [x, y, _] = view().project(place).unwrap();
    at(image, x as usize, y as usize)
}

fn at(image: &Image, x: usize, y: usize) -> [u8; 3] {
    let [r, g, b, a] = image.pixels()[y * image.size().width() + x];
    assert_eq!(a, 255);
    [r, g, b]
}

fn is_near(a: [u8; 3], b: [u8; 3]) -> bool {
    a.iter().zip(b).all(|(a, b)| a.abs_diff(b) <= 3)
}

/// Relative luminance (IEC 61966-2-1), times a million.
fn lightness(pixel: [u8; 3]) -> u64 {
    let linear =
        |byte: u8| ((f64::from(byte) / 255.0 + 0.055) / 1.055).powf(2.4).max(f64::from(byte) / 3294.6);
    let [r, g, b] = pixel.map(linear);
    ((0.2126 * r + 0.7152 * g + 0.0722 * b) * 1e6) as u64
}

fn boxes(layer: i32) -> Look {
    let mut spec = LookSpec::solid(Shape::mesh("box"), "#808080").unwrap();
    spec.layer = layer;
    spec.build().unwrap()
}

#[test]
fn an_unknown_view_lists_the_views() {
    for show in Show::ALL {
        assert_eq!(show.name().parse::<Show>().unwrap(), show);
    }
    let error = "wireframe".parse::<Show>().unwrap_err();
    assert_eq!(error.key, "show");
    assert!(Show::ALL.iter().all(|show| error.instead.contains(show.name())), "{error}");
}

/// The scale of the legend runs by the logarithm of the number, up to 255.
#[test]
fn overdraw_is_the_number_of_elements_at_a_pixel() {
    let look = LookSpec::default().build().unwrap();
    // In the upper right, where no legend is.
    let (places, zeros, sizes) = (vec![1.3; 255], vec![0.0; 255], vec![0.5; 255]);
    let mut before = 0;
    for count in [1, 3, 7, 15, 31, 63, 127, 255] {
        let places = [&places[..count], &places[..count], &zeros[..count]];
        let all = Instances::at(places).unwrap().sized(&sizes[..count]).unwrap();
        let image = shown(Show::Overdraw, &[(all, &look)]);
        let light = lightness(pixel(&image, [1.3, 1.3, 0.0]));
        assert!(light > before, "{count} elements are not lighter than fewer");
        before = light;
        assert!(is_near(pixel(&image, [2.6, 1.9, 0.0]), [0x16, 0x1a, 0x33]));
        let middle = pixel(&image, [1.3, 1.3, 0.0]);
        assert!(count < 255 || is_near(middle, [0xff, 0xf1, 0xd6]), "{middle:?}");
    }
}

#[test]
fn nearer_elements_are_lighter_in_the_view_of_depth() {
    let look = boxes(0);
    let x = [-0.8, 0.0, 0.8];
    let (zeros, z, sizes) = ([0.0; 3], [-6.0, -2.0, 1.0], [0.3; 3]);
    let all = Instances::at([&x, &zeros, &z]).unwrap().sized(&sizes).unwrap();
    let image = shown(Show::Depth, &[(all, &look)]);
    let [far, middle, near] = [0, 1, 2].map(|nth| lightness(pixel(&image, [x[nth], 0.0, z[nth]])));
    assert!(far < middle && middle < near, "{far} {middle} {near}");
}

/// Each draw call has the next colour of the legend.
#[test]
fn each_batch_has_its_colour() {
    let looks = [boxes(0), boxes(1), boxes(2)];
    let xs = [[-1.0], [0.0], [1.0]];
    let (zero, sizes) = ([0.0], [0.3]);
    let sources: Vec<_> = xs
        .iter()
        .zip(&looks)
        .map(|(x, look)| (Instances::at([x, &zero, &zero]).unwrap().sized(&sizes).unwrap(), look))
        .collect();
    let image = shown(Show::Batches, &sources);
    for (x, tone) in xs.iter().zip([[0x4f, 0x8f, 0xd9], [0xe0, 0x8a, 0x3c], [0x5b, 0xb5, 0x6b]]) {
        assert!(is_near(pixel(&image, [x[0], 0.0, 0.0]), tone), "{x:?}");
    }
    // Elements of one draw call share it.
    let all = Instances::at([&[-1.0, 0.0, 1.0], &[0.0; 3], &[0.0; 3]]).unwrap().sized(&[0.3; 3]).unwrap();
    let image = shown(Show::Batches, &[(all, &looks[0])]);
    assert!(xs.iter().all(|x| is_near(pixel(&image, [x[0], 0.0, 0.0]), [0x4f, 0x8f, 0xd9])));
}

#[test]
fn coarse_elements_differ_in_the_view_of_detail() {
    let spec = LookSpec::solid(Shape::mesh("ball"), "#808080").unwrap();
    let full = spec.clone().build().unwrap();
    let shape = Shape::Mesh { name: "ball".into(), coarse: Some("box".into()), texture: None, wave: None };
    let coarse = spec.shape(shape).detail(DetailSpec::default().coarse_below(1e5)).build().unwrap();
    let (x, zero, sizes) = ([[-1.0], [1.0]], [0.0], [0.4]);
    let [left, right] =
        x.each_ref().map(|x| Instances::at([x, &zero, &zero]).unwrap().sized(&sizes).unwrap());
    let image = shown(Show::Detail, &[(left, &full), (right, &coarse)]);
    let [left, right] = [-1.0, 1.0].map(|x| pixel(&image, [x, 0.0, 0.0]));
    assert!(!is_near(left, right), "{left:?} {right:?}");
}

fn mark(place: [f32; 2], kind: u32) -> Mark {
    Mark { place, turn: 0.0, radius: 0.4, tint: 0.5, kind }
}

/// x runs to the right and -z up; each kind has its colour.
#[test]
fn a_plan_marks_each_element_in_its_place() {
    let size = size(500, 500);
    let plan = PlanView::of([-10.0, -10.0], [10.0, 10.0], size);
    let mut image = Image::new(size);
    let places = [[-4.0, 0.0], [0.0, -6.0], [4.0, 2.0]];
    let marks: Vec<Mark> = places.iter().zip(0..).map(|(place, kind)| mark(*place, kind)).collect();
    plan.placement("shells", &marks, None, &mut image);
    let scale = 500.0 / 20.0 * 0.92;
    for ([x, z], tone) in places.into_iter().zip([[0x4f, 0x8f, 0xd9], [0xe0, 0x8a, 0x3c], [0x5b, 0xb5, 0x6b]])
    {
        let found = at(&image, (250.0 + x * scale) as usize, (250.0 + z * scale) as usize);
        assert!(found.iter().zip(tone).all(|(a, b): (&u8, u8)| a.abs_diff(b) < 16), "{found:?} at {x}, {z}");
    }
    // Places that are no numbers, or outside, are left out.
    let mut other = Image::new(size);
    let stray = [mark([f32::NAN, 0.0], 0), mark([1e9, -1e9], 1)];
    plan.placement("shells", &[&marks[..], &stray[..]].concat(), None, &mut other);
    let middle = |image: &Image| (100..400).map(|y| at(image, 250, y)).collect::<Vec<_>>();
    assert_eq!(middle(&image), middle(&other));
}

/// Too many to tell apart are a density: light where there are more, dark where there is nothing.
#[test]
fn a_dense_plan_shows_densities() {
    let size = size(200, 200);
    let plan = PlanView::of([0.0; 2], [10.0; 2], size);
    // A grid of elements, and four times as many in the right half.
    let column = |nth: u32, many: u32| [(nth % many) as f32 / many as f32, (nth / many) as f32 / many as f32];
    let mut marks: Vec<Mark> =
        (0..10_000).map(|nth| column(nth, 100)).map(|[u, v]| mark([u * 5.0, v * 7.0], 0)).collect();
    marks.extend((0..40_000).map(|nth| column(nth, 200)).map(|[u, v]| mark([5.0 + u * 5.0, v * 7.0], 0)));
    let mut image = Image::new(size);
    plan.placement("grains", &marks, None, &mut image);
    let light = |x: std::ops::Range<usize>, y: std::ops::Range<usize>| {
        let all = y.flat_map(|y| x.clone().map(move |x| (x, y)));
        let (sum, many) =
            all.fold((0, 0), |(sum, many), (x, y)| (sum + lightness(at(&image, x, y)), many + 1));
        sum / many
    };
    let (left, right, none) = (light(60..95, 60..120), light(105..140, 60..120), light(60..140, 152..165));
    assert!(right > left * 2 && left > none, "{none} {left} {right}");
}

#[test]
fn a_plan_of_hills_has_contours() {
    let size = size(400, 400);
    let plan = PlanView::of([-10.0, -10.0], [10.0, 10.0], size);
    let tones = |height: &dyn Fn(f32, f32) -> Option<f32>| {
        let mut image = Image::new(size);
        plan.placement("shells", &[], Some(height), &mut image);
        let mut row: Vec<_> = (60..340).map(|x| at(&image, x, 200)).collect();
        row.dedup();
        row.len()
    };
    assert_eq!(tones(&|_, _| Some(3.0)), 1);
    let slope = tones(&|x, _| Some(x * 0.5));
    assert!(slope > 12, "{slope}");
    assert_eq!(tones(&|_, _| None), 1);
}

/// Steady air has one speed everywhere; still air is dark.
#[test]
fn a_plan_of_the_wind_shows_its_speed() {
    let size = size(300, 300);
    let plan = PlanView::of([0.0, 0.0], [30.0, 30.0], size);
    let tone = |wind: [f32; 3]| {
        let mut image = Image::new(size);
        plan.wind(&WorldSpec::default().wind(wind).build().unwrap(), 2.0, 1.0, &mut image);
        let mut tones: Vec<_> = (80..220).map(|y| at(&image, 150, y)).collect();
        tones.sort_unstable();
        // The commonest: arrows are drawn over it.
        tones.chunk_by(|a, b| a == b).max_by_key(|same| same.len()).unwrap()[0]
    };
    let [still, breeze, storm] = [[0.0; 3], [3.0, 0.0, 0.0], [0.0, 0.0, 20.0]].map(tone);
    assert!(lightness(still) * 3 < lightness(breeze));
    // The scale ends at the greatest speed there is.
    assert_eq!(breeze, storm);
}

/// Slices are warm inside, cold outside; the shaded view shows the ball before its ground.
#[test]
fn a_preview_shows_the_inside_of_a_grid() {
    let grid = BakeSpec::new(24).bake(&Surface::ball(3)).unwrap();
    let image = preview(&grid, size(600, 300));
    for nth in 0..3 {
        let [r, _, b] = at(&image, 550, nth * 100 + 55);
        assert!(r > b + 40, "slice {nth} is not warm in its middle");
        let [r, _, b] = at(&image, 508, nth * 100 + 8);
        assert!(b > r, "slice {nth} is not cold in its corner");
    }
    let ([r, _, b], [far_r, _, far_b]) = (at(&image, 250, 150), at(&image, 20, 20));
    assert!(r > b + 20 && far_b >= far_r);
    // Any size will do.
    for (width, height) in [(1, 1), (3, 200), (200, 3)] {
        assert_eq!(preview(&grid, size(width, height)).size(), size(width, height));
    }
}

/// A box twice as high as it is wide shows so in its slices; the slice across its height is square.
#[test]
fn slices_keep_proportions() {
    let surface = Surface::ball(12);
    let corners: Vec<[f32; 3]> =
        surface.corners().iter().map(|corner| [corner.x, corner.y * 2.0, corner.z]).collect();
    let grid = BakeSpec::new(32).bake(&Surface::new(corners, surface.triangles().to_vec()).unwrap()).unwrap();
    let image = preview(&grid, size(600, 300));
    // Warm pixels of a slice, across and down its middle.
    let inside = |nth: usize| {
        let warm = |x: usize, y: usize| {
            let [r, _, b] = at(&image, 500 + x, nth * 100 + y);
            r > b.saturating_add(20)
        };
        [(3..97).filter(|x| warm(*x, 50)).count(), (3..97).filter(|y| warm(50, *y)).count()]
    };
    for (nth, ratio) in [(0, 2.0), (1, 1.0), (2, 2.0)] {
        let [across, down] = inside(nth).map(|count| count as f32);
        assert!((down / across / ratio - 1.0).abs() < 0.2, "slice {nth}: {across} by {down}");
    }
}

/// The panel stays in its corner, in pictures of any size.
#[test]
fn a_readout_keeps_to_its_corner() {
    let mut readout = Readout::new(0.016);
    for ms in [4, 9, 40, 12] {
        readout.add(&Frame::new(Duration::from_millis(ms)));
    }
    let painted = |corner: Corner, width: u32, height: u32| {
        let mut image = Image::new(size(width, height));
        let before = image.clone();
        readout.paint(&mut image, corner);
        let changed = |x: usize, y: usize| {
            let at = y * width as usize + x;
            image.pixels()[at] != before.pixels()[at]
        };
        let (w, h) = (width as usize, height as usize);
        [(0, 0), (w / 2, 0), (0, h / 2), (w / 2, h / 2)]
            .map(|(x0, y0)| (y0..y0 + h / 2).any(|y| (x0..x0 + w / 2).any(|x| changed(x, y))))
    };
    let corners = [Corner::TopLeft, Corner::TopRight, Corner::BottomLeft, Corner::BottomRight];
    for (nth, corner) in corners.into_iter().enumerate() {
        let mut only = [false; 4];
        only[nth] = true;
        assert_eq!(painted(corner, 1000, 800), only);
        for (width, height) in [(1, 1), (40, 900), (900, 40)] {
            painted(corner, width, height);
        }
    }
}

/// A floor under the sun with a box above it: the floor is dark in the box's shadow, and light beside it.
#[test]
fn shadowed_ground_is_darker_in_the_view_of_shadows() {
    let view = CameraSpec::new([0.0, 8.0, 0.01], [0.0; 3], 50.0).view(size(900, 900)).unwrap();
    let (look, backdrop) = (boxes(0), sky());
    // A box of size s stands on its position, with sides of s metres.
    let places = ([0.0, 0.0], [-12.5, 0.75], [0.0, 0.0]);
    let sizes = [12.0, 0.5];
    let all = Instances::at([&places.0, &places.1, &places.2]).unwrap().sized(&sizes).unwrap();
    let all = all.turned(&[0.0; 2], &[0.0; 2]).unwrap();
    let shown = |sun: Option<&SunSpec>| {
        let (mut scratch, mut meter, mut image) =
            (ListScratch::default(), Meter::new(), Image::new(size(8, 8)));
        let around = Surroundings::new(&backdrop).sun(sun);
        let list = scratch.list([(all, &look)], &ListSpec::default(), &view, &around, &mut meter);
        Show::Shadow.paint(&mut Renderer::new(), &list, &view, &backdrop, &mut image, &mut meter);
        image
    };
    // The sun stands in the west at 45 degrees, so the shadow falls to the east by the height of the box.
    let mut sun = SunSpec::default();
    (sun.height_degrees, sun.bearing_degrees) = (45.0, 270.0);
    let image = shown(Some(&sun));
    let at = |image: &Image, place: [f32; 3]| {
        let [x, y, _] = view.project(place).unwrap();
        lightness(self::at(image, x as usize, y as usize))
    };
    let top = -0.5;
    let lit = at(&image, [0.0, top, 1.4]);
    let mut shadowed = [1.5, -1.5].map(|x| at(&image, [x, top, 0.0]));
    shadowed.sort_unstable();
    assert!(shadowed[0] * 2 < lit && shadowed[1] * 3 > lit * 2, "{shadowed:?} {lit}");
    // Without a sun nothing is in shadow.
    let image = shown(None);
    let beside = [1.5, -1.5].map(|x| at(&image, [x, top, 0.0]));
    assert!(beside[0].abs_diff(beside[1]) * 10 < beside[0] && beside[0] * 2 > lit, "{beside:?} {lit}");
}

/// Every view of nothing, and of a single element, is a picture of the view's size, whatever the size.
#[test]
fn every_view_paints_any_picture() {
    let (look, backdrop) = (boxes(0), sky());
    let one = Instances::at([&[0.0], &[0.0], &[0.0]]).unwrap().sized(&[0.3]).unwrap();
    for (width, height) in [(1, 1), (3, 200), (300, 2), (64, 48)] {
        let view = CameraSpec::new([0.0, 0.0, 6.0], [0.0; 3], 40.0).view(size(width, height)).unwrap();
        for show in Show::ALL
            .into_iter()
            .filter(|show| !matches!(show, Show::Placement | Show::Wind | Show::Neighbours))
        {
            for sources in [&[][..], &[(one, &look)][..]] {
                let (mut scratch, mut meter, mut image) =
                    (ListScratch::default(), Meter::new(), Image::new(size(8, 8)));
                let around = Surroundings::new(&backdrop);
                let list =
                    scratch.list(sources.iter().copied(), &ListSpec::default(), &view, &around, &mut meter);
                show.paint(&mut Renderer::new(), &list, &view, &backdrop, &mut image, &mut meter);
                assert_eq!(image.size(), view.size(), "{}", show.name());
            }
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Of two boxes the nearer one is lighter in the view of depth, wherever they are.
    #[test]
    fn depth_is_ordered_wherever_elements_are(near in -1f32..2.0, behind in 0.8f32..30.0, left in 0.7f32..1.2) {
        let look = boxes(0);
        let (x, zeros, z, sizes) = ([-left, left], [0.0; 2], [near, near - behind], [0.25; 2]);
        let all = Instances::at([&x, &zeros, &z]).unwrap().sized(&sizes).unwrap();
        let image = shown(Show::Depth, &[(all, &look)]);
        let [a, b] = [0, 1].map(|nth| lightness(pixel(&image, [x[nth], 0.0, z[nth]])));
        prop_assert!(a > b, "{a} {b}");
    }

    /// The read-out takes the median of the last 30 frames, the worst of the last 120, and the newest counts.
    #[test]
    fn a_readout_averages_the_last_frames(ms in prop::collection::vec(1u64..200, 1..300), alive in any::<u32>(), calls in 0u64..9_999) {
        let mut readout = Readout::new(0.016);
        for ms in &ms {
            let time = Duration::from_millis(*ms);
            readout.add(&Frame::new(time)
                .with_stage(Stage::Raster, time / 2)
                .with_stage(Stage::Sort, time / 4)
                .with_count(Counter::Alive, u64::from(alive))
                .with_count(Counter::DrawCalls, calls));
        }
        let mut last: Vec<u64> = ms.iter().rev().take(30).copied().collect();
        last.sort_unstable();
        let middle = last[last.len() / 2];
        let worst = ms.iter().rev().take(120).max().unwrap();
        let lines = readout.lines();
        prop_assert!(lines[0].starts_with(&format!("frame {middle}.0 ms")), "{}", lines[0]);
        prop_assert!(lines[0].ends_with(&format!("worst {worst}.0")), "{}", lines[0]);
        let digits: String = lines[1].split("drawn").next().unwrap().chars().filter(char::is_ascii_digit).collect();
        prop_assert_eq!(digits, alive.to_string());
        let digits: String = lines[2].split("steps").next().unwrap().chars().filter(char::is_ascii_digit).collect();
        prop_assert_eq!(digits, calls.to_string());
        // The longest stage comes first.
        prop_assert!(lines[4].starts_with("raster ") && lines[5].starts_with("sort "), "{lines:?}");
        prop_assert!(lines[6..].iter().all(String::is_empty));
    }
}

/// Dropped steps, lowered quality and memory are listed where there are any.
#[test]
fn a_readout_lists_what_was_dropped_and_lowered() {
    let mut readout = Readout::new(0.016);
    let frame = Frame::new(Duration::from_millis(5)).with_count(Counter::Steps, 3);
    readout.add(&frame);
    assert!(readout.lines()[2].ends_with("steps 3"), "{}", readout.lines()[2]);
    assert_eq!(readout.lines()[3], "memory 0.0 MiB");
    readout.add(
        &frame
            .with_count(Counter::StepsDropped, 2)
            .with_count(Counter::DetailPercent, 80)
            .with_count(Counter::DensityPercent, 60)
            .with_count(Counter::RatePercent, 100)
            .with_count(Counter::ElementBytes, 3 << 20)
            .with_count(Counter::DrawBytes, 1 << 19),
    );
    assert!(readout.lines()[2].ends_with("steps 3 (-2)"), "{}", readout.lines()[2]);
    assert_eq!(readout.lines()[3], "memory 3.5 MiB   kept 80/60/100 %");
}
