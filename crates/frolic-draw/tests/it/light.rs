//! How surfaces take light, in linear light before the tone curve: closed forms.

use std::collections::HashMap;
use std::sync::Arc;

use frolic_core::trace::{Trace, What};
use frolic_core::{Meter, Ramp, Stage};
use frolic_diagnostics::reference::LinearImage;
use frolic_draw::{
    BackdropSpec, Blend, CameraSpec, Colour, GroundSpec, Image, ImageSize, Instances, Library, LightSpec,
    Look, LookSpec, Mesh, Renderer, RibbonSpec, Shape, SunSpec, View,
};
use frolic_list::{ListScratch, ListSpec, Surroundings};
use proptest::prelude::*;

const SIDE: usize = 40;
const BLACK: Colour = Colour::new(0.0, 0.0, 0.0);

/// A black sky: no light but what a test puts there.
fn dark() -> BackdropSpec {
    let mut backdrop = BackdropSpec::default();
    (backdrop.sky.zenith, backdrop.sky.horizon) = (BLACK, BLACK);
    backdrop
}

/// A board of 2x2 m that faces +z, seen from there.
fn board(change: impl FnOnce(&mut LookSpec)) -> Look {
    let corners = [[-1.0, -1.0, 0.0], [1.0, -1.0, 0.0], [1.0, 1.0, 0.0], [-1.0, 1.0, 0.0]];
    let mesh = Mesh::faceted(&corners, &[[0, 1, 2], [0, 2, 3]]).unwrap();
    let shape = Shape::mesh("board");
    let mut spec = LookSpec::solid(shape, "#ffffff").unwrap();
    change(&mut spec);
    let meshes = HashMap::from([("board".to_owned(), Arc::new(mesh))]);
    spec.build_with(&Library { meshes, ..Library::default() }).unwrap()
}

fn front() -> View {
    let mut camera = CameraSpec::new([0.0, 0.0, 5.0], [0.0; 3], 40.0);
    camera.bloom = 0.0;
    camera.view(ImageSize::new(SIDE as u32, SIDE as u32).unwrap()).unwrap()
}

/// Linear light in the middle of the picture of one element at the origin.
fn middle(look: &Look, view: &View, around: &Surroundings<'_>) -> [f32; 3] {
    whole(look, view, around)[SIDE / 2 * SIDE + SIDE / 2]
}

fn whole(look: &Look, view: &View, around: &Surroundings<'_>) -> Vec<[f32; 3]> {
    let (mut scratch, zero) = (ListScratch::default(), [0.0f32]);
    let one = Instances::at([&zero, &zero, &zero]).unwrap().turned(&zero, &zero).unwrap();
    let list = scratch.list([(one, look)], &ListSpec::default(), view, around, &mut Meter::new());
    let mut linear = LinearImage::new(view.size(), [0.0; 3]);
    linear.draw(&list, view);
    linear.pixels().to_vec()
}

fn near(a: f32, b: f32) -> bool {
    // Colours of samples are kept in nine bits.
    (a - b).abs() <= b.abs() / 100.0 + 1e-4
}

fn sun(height: f32, bearing: f32, power: f32) -> SunSpec {
    let mut sun = SunSpec::new(height, bearing, Colour::WHITE, power);
    sun.shadow_map = 0;
    sun
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    /// Lambert: as the cosine of the angle between the normal and the sun.
    #[test]
    fn the_sun_lights_by_the_cosine(height in 1f32..90.0, bearing in 90f32..270.0, power in 0.1f32..20.0) {
        let (backdrop, sun) = (dark(), sun(height, bearing, power));
        let around = Surroundings::new(&backdrop).sun(Some(&sun));
        let cos = height.to_radians().cos() * -bearing.to_radians().cos();
        let [r, g, b] = middle(&board(|_| ()), &front(), &around);
        // The sky's light is the sun's too, where it is bright: none here.
        prop_assert!(near(r, power * cos), "{r} {}", power * cos);
        prop_assert!(r == g && g == b);
    }

    /// A lamp falls off with distance squared, softened by its own size.
    #[test]
    fn a_lamp_falls_off(distance in 0.3f32..30.0, radius in 0.01f32..3.0, power in 0.1f32..50.0) {
        let backdrop = dark();
        let mut lamp = LightSpec::new([0.0, 0.0, distance], Colour::new(1.0, 0.5, 0.25), power);
        lamp.radius = radius;
        let lamps = [lamp];
        // The board's corners are lit apart, so one that is small beside the distance.
        let look = board(|look| look.size_over_age = Ramp::new([(0.0, 0.15 * distance.min(2.0))]));
        let view = CameraSpec::new([0.0, 0.0, 2.0], [0.0; 3], 2.0)
            .view(ImageSize::new(SIDE as u32, SIDE as u32).unwrap()).unwrap();
        let [r, g, b] = middle(&look, &view, &Surroundings::new(&backdrop).lights(&lamps));
        let want = power / (distance * distance + radius * radius);
        prop_assert!((r - want).abs() < want * 0.1, "{r} {want}");
        prop_assert!((g / r - 0.5).abs() < 0.01 && (b / r - 0.25).abs() < 0.01);
    }
}

/// What faces away: dark if it has one side, as bright as the front if it has two, and by its share if light comes through.
#[test]
fn backs_are_dark_lit_or_shone_through() {
    let (backdrop, behind) = (dark(), sun(30.0, 0.0, 2.0));
    let around = Surroundings::new(&backdrop).sun(Some(&behind));
    let cos = 30f32.to_radians().cos();
    let of = |change: &dyn Fn(&mut LookSpec)| middle(&board(|look| change(look)), &front(), &around)[0];
    assert_eq!(of(&|_| ()), 0.0);
    assert!(near(of(&|look| look.translucency = 0.6), 0.6 * 2.0 * cos));
    // Seen from behind, a thing with two sides shows a lit one; with one side its normal still points away.
    let view = CameraSpec::new([0.0, 0.0, -5.0], [0.0; 3], 40.0);
    let view = view.view(ImageSize::new(SIDE as u32, SIDE as u32).unwrap()).unwrap();
    let from_behind = |two_sided: bool| {
        middle(&board(|look| (look.two_sided, look.translucency) = (two_sided, 0.0)), &view, &around)[0]
    };
    assert!(near(from_behind(true), 2.0 * cos));
    assert_eq!(from_behind(false), 0.0);
}

/// `lit` mixes a surface's own colour with what light makes of it; `glow` is a factor on both.
#[test]
fn lit_mixes_and_glow_multiplies() {
    let (backdrop, sun) = (dark(), sun(90.0, 0.0, 1.0));
    let around = Surroundings::new(&backdrop).sun(Some(&sun));
    // The sun overhead does not reach an upright board.
    for (lit, glow) in [(0.0, 1.0), (0.25, 1.0), (0.25, 40.0), (1.0, 3.0)] {
        let look = board(|look| (look.lit, look.glow) = (lit, glow));
        let [r, ..] = middle(&look, &front(), &around);
        assert!(near(r, (1.0 - lit) * glow), "{lit} {glow}: {r}");
    }
}

/// The light along edges that turn away brightens the limb of a ball and not its middle.
#[test]
fn rim_light_adds() {
    let mut backdrop = dark();
    backdrop.sky.zenith = Colour::new(0.3, 0.3, 0.3);
    backdrop.sky.horizon = backdrop.sky.zenith;
    let around = Surroundings::new(&backdrop);
    let ball = |rim: f32| {
        let shape = Shape::mesh("ball");
        let mut spec = LookSpec::solid(shape, "#ffffff").unwrap();
        (spec.rim, spec.size_over_age) = (rim, Ramp::new([(0.0, 3.0)]));
        whole(&spec.build().unwrap(), &front(), &around)
    };
    let (plain, rimmed) = (ball(0.0), ball(4.0));
    let at = |x: usize| SIDE / 2 * SIDE + x;
    let limb = (0..SIDE / 2).find(|x| plain[at(*x)][0] > 0.05).unwrap() + 1;
    assert!(rimmed[at(limb)][0] > plain[at(limb)][0] * 1.5);
    assert!(near(rimmed[at(SIDE / 2)][0], plain[at(SIDE / 2)][0]));
}

/// The sky lights what faces up, the ground what faces down.
#[test]
fn light_comes_from_above_and_below() {
    let mut backdrop = dark();
    backdrop.sky.zenith = Colour::new(0.1, 0.2, 0.4);
    backdrop.sky.horizon = backdrop.sky.zenith;
    let mut ground = GroundSpec::default();
    ground.colour = Colour::new(0.5, 0.0, 0.0);
    backdrop.ground = Some(ground);
    let tilted = |tilt: f32| {
        let view = front();
        let (mut scratch, zero) = (ListScratch::default(), [0.0f32]);
        let (look, up) = (board(|_| ()), [tilt]);
        let one = Instances::at([&zero, &zero, &zero]).unwrap().turned(&zero, &up).unwrap();
        let around = Surroundings::new(&backdrop);
        let list = scratch.list([(one, &look)], &ListSpec::default(), &view, &around, &mut Meter::new());
        let mut linear = LinearImage::new(view.size(), [0.0; 3]);
        linear.draw(&list, &view);
        linear.pixels()[SIDE / 2 * SIDE + SIDE / 2]
    };
    let (up, down) = (tilted(-1.2), tilted(1.2));
    assert!(up[2] > up[0], "{up:?}");
    assert!(down[0] > down[2], "{down:?}");
}

/// Colours by age, by height, root to tip, and of a random choice multiply.
#[test]
fn gradients_and_tints_multiply() {
    let backdrop = dark();
    let around = Surroundings::new(&backdrop);
    let look = board(|look| {
        look.lit = 0.0;
        look.colour_over_height = Ramp::new([(0.0, BLACK), (1.0, Colour::WHITE)]);
        look.height_range = [-1.0, 3.0];
        look.tints = vec![Colour::new(1.0, 0.5, 0.0)];
    });
    // At height 0 a quarter of the way; of 64 steps.
    let [r, g, b] = middle(&look, &front(), &around);
    assert!((r - 0.25).abs() < 0.02 && near(g, r * 0.5) && b == 0.0, "{r} {g} {b}");

    let mut spec = LookSpec::solid(Shape::Ribbon(RibbonSpec::new(4.0, 1.0, 12)), "#ffffff").unwrap();
    (spec.lit, spec.size_over_age) = (0.0, Ramp::new([(0.0, 0.4)]));
    spec.colour_along = Ramp::new([(0.0, BLACK), (1.0, Colour::WHITE)]);
    let pixels = whole(&spec.build().unwrap(), &front(), &around);
    let column: Vec<f32> = (0..SIDE).map(|y| pixels[y * SIDE + SIDE / 2][0]).filter(|v| *v > 0.0).collect();
    assert!(column.len() > 8 && column[1] > 0.8 && column[column.len() - 2] < 0.3, "{column:?}");
    assert!(column.windows(2).skip(1).all(|pair| pair[1] <= pair[0] + 0.01), "{column:?}");
}

/// Light above 1 survives until the tone curve: more of it still looks brighter, and bloom carries it around.
#[test]
fn glow_blooms() {
    let backdrop = dark();
    let picture = |glow: f32, bloom: f32| {
        let mut camera = CameraSpec::new([0.0, 0.0, 5.0], [0.0; 3], 40.0);
        camera.bloom = bloom;
        let view = camera.view(ImageSize::new(120, 120).unwrap()).unwrap();
        let mut spec = LookSpec::default();
        (spec.blend, spec.glow, spec.size_over_age) = (Blend::Additive, glow, Ramp::new([(0.0, 0.2)]));
        let (mut scratch, zero) = (ListScratch::default(), [0.0f32]);
        let look = spec.build().unwrap();
        let one = Instances::at([&zero, &zero, &zero]).unwrap();
        let around = Surroundings::new(&backdrop);
        let list = scratch.list([(one, &look)], &ListSpec::default(), &view, &around, &mut Meter::new());
        let mut image = Image::new(view.size());
        Renderer::new().render(&list, &view, &backdrop, &mut image, &mut Meter::new());
        let at = |x: usize| i32::from(image.pixels()[60 * 120 + x][1]);
        (at(60), at(60 + 18))
    };
    let (bright, _) = picture(1.0, 0.0);
    let (brighter, beside) = picture(6.0, 0.0);
    let (_, bloomed) = picture(6.0, 0.3);
    assert!(brighter > bright + 20, "{brighter} {bright}");
    assert!(beside <= 1 && bloomed > 8, "{beside} {bloomed}");
}

/// In a trace, all that is done for the sun's map is a part of the stage `shadow`: the same element is projected once for the sun and once for the
/// picture.
#[test]
fn projection_for_the_sun_is_traced_as_shadow() {
    let (look, view, backdrop, sun) = (board(|_| ()), front(), dark(), SunSpec::default());
    let around = Surroundings::new(&backdrop).sun(Some(&sun));
    let zero = [0.0f32];
    let (mut scratch, mut image) = (ListScratch::default(), Image::new(view.size()));
    // Threads of its own, as other tests draw at the same time.
    let threads = rayon::ThreadPoolBuilder::new().num_threads(2).thread_name(|nth| format!("sunlit-{nth}"));
    let threads = threads.build().unwrap();
    let trace = Trace::begin();
    threads.install(|| {
        let one = Instances::at([&zero, &zero, &zero]).unwrap().turned(&zero, &zero).unwrap();
        let list = scratch.list([(one, &look)], &ListSpec::default(), &view, &around, &mut Meter::new());
        Renderer::new().render(&list, &view, &backdrop, &mut image, &mut Meter::new());
    });
    let lanes = trace.end();
    let ours = lanes.iter().filter(|lane| lane.thread.starts_with("sunlit-")).flat_map(|lane| &lane.spans);
    let parts: Vec<Stage> = ours
        .filter_map(|span| match span.what {
            What::Part(stage) => Some(stage),
            _ => None,
        })
        .collect();
    let count = |stage: Stage| parts.iter().filter(|other| **other == stage).count();
    assert_eq!(count(Stage::Project), 1, "{parts:?}");
    // The chunk, and each tile of the map.
    assert!(count(Stage::Shadow) > 1, "{parts:?}");
}
