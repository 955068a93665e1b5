//! Sky, coast, ground and water, and the picture as a whole.

use frolic_core::{Counter, Meter, Ramp};
use frolic_draw::{
    BackdropSpec, Blend, CameraSpec, Colour, GroundSpec, Image, ImageSize, Instances, LightSpec, LookSpec,
    Renderer, RibbonSpec, Shape, SunSpec, View, WaterSpec,
};
use frolic_list::{ListScratch, ListSpec, Surroundings};
use proptest::prelude::*;

const W: usize = 120;
const H: usize = 80;

fn camera(target_y: f32) -> CameraSpec {
    let mut camera = CameraSpec::new([0.0, 2.0, 0.0], [0.0, target_y, -10.0], 60.0);
    camera.bloom = 0.0;
    camera
}

fn view(camera: &CameraSpec) -> View {
    camera.view(ImageSize::new(W as u32, H as u32).unwrap()).unwrap()
}

fn paint(camera: &CameraSpec, backdrop: &BackdropSpec, sun: Option<&SunSpec>, lamps: &[LightSpec]) -> Image {
    let (view, mut scratch, mut meter) = (view(camera), ListScratch::default(), Meter::new());
    let around = Surroundings::new(backdrop).sun(sun).lights(lamps);
    let list = scratch.list([], &ListSpec::default(), &view, &around, &mut meter);
    let mut image = Image::new(view.size());
    Renderer::new().render(&list, &view, backdrop, &mut image, &mut meter);
    image
}

fn sum(image: &Image, x: usize, y: usize) -> i32 {
    image.pixels()[y * W + x][..3].iter().map(|v| i32::from(*v)).sum()
}

fn dusk() -> BackdropSpec {
    let mut backdrop = BackdropSpec::default();
    backdrop.sky.zenith = Colour::new(0.02, 0.05, 0.2);
    backdrop.sky.horizon = Colour::new(0.5, 0.4, 0.3);
    (backdrop.sky.stars, backdrop.sky.afterglow) = (0.0, Colour::new(0.0, 0.0, 0.0));
    backdrop
}

fn lawn() -> GroundSpec {
    let mut ground = GroundSpec::default();
    (ground.colour, ground.mottled) = (Colour::new(0.1, 0.6, 0.1), 0.0);
    ground
}

/// The sky brightens towards the horizon, which is where level rays go.
#[test]
fn the_horizon_is_level() {
    let mut backdrop = dusk();
    backdrop.ground = Some(lawn());
    backdrop.sky.haze = 1e6;
    let level = paint(&camera(2.0), &backdrop, None, &[]);
    for x in [0, W / 2, W - 1] {
        assert!(sum(&level, x, 2) < sum(&level, x, H / 2 - 3), "brighter towards the horizon");
        let [r, g, _, _] = level.pixels()[(H / 2 + 4) * W + x];
        assert!(g > r, "the ground is green below it");
        let [r, g, _, _] = level.pixels()[(H / 2 - 4) * W + x];
        assert!(r >= g, "and the sky is not");
    }
}

/// Ground ends at its shore, and water lies beyond and below.
#[test]
fn the_ground_ends_at_its_shore() {
    let mut backdrop = dusk();
    let (mut ground, mut water) = (lawn(), WaterSpec::default());
    (ground.radius, water.level) = (8.0, -1.0);
    backdrop.ground = Some(ground);
    let dry = paint(&camera(0.0), &backdrop, None, &[]);
    backdrop.water = Some(water);
    let wet = paint(&camera(0.0), &backdrop, None, &[]);
    let green = |image: &Image, y: usize| {
        let [r, g, b, _] = image.pixels()[y * W + W / 2];
        g > r && g > b
    };
    assert!(green(&dry, H - 2) && green(&wet, H - 2));
    // A point 30 m out is beyond the shore.
    let [_, y, _] = view(&camera(0.0)).project([0.0, -1.0, -30.0]).unwrap();
    assert!(!green(&dry, y as usize) && !green(&wet, y as usize));
    assert_ne!(dry.pixels()[y as usize * W + W / 2], wet.pixels()[y as usize * W + W / 2]);
}

/// Distance fades to the horizon's colour: nearer haze hides more.
#[test]
fn haze_hides_what_is_far() {
    let mut backdrop = dusk();
    backdrop.ground = Some(lawn());
    let [_, y, _] = view(&camera(1.0)).project([0.0, 0.0, -60.0]).unwrap();
    let greenness = |haze: f32| {
        let mut backdrop = backdrop.clone();
        backdrop.sky.haze = haze;
        let [r, g, ..] = paint(&camera(1.0), &backdrop, None, &[]).pixels()[y as usize * W + W / 2];
        i32::from(g) - i32::from(r)
    };
    let (clear, misty, thick) = (greenness(1e6), greenness(60.0), greenness(5.0));
    assert!(clear > misty && misty > thick, "{clear} {misty} {thick}");
    assert!(thick < 0, "the horizon's own colour is left: {thick}");
}

/// Lamps and the sun light the ground; a coast stands above the horizon and no higher than it is told.
#[test]
fn lamps_sun_and_coast() {
    let mut backdrop = dusk();
    backdrop.sky.zenith = Colour::new(0.01, 0.01, 0.02);
    backdrop.sky.horizon = backdrop.sky.zenith;
    backdrop.ground = Some(lawn());
    let camera = camera(0.0);
    let unlit = paint(&camera, &backdrop, None, &[]);
    let lamp = [LightSpec::new([0.0, 1.0, -8.0], Colour::WHITE, 6.0)];
    let lamplit = paint(&camera, &backdrop, None, &lamp);
    let [x, y, _] = view(&camera).project([0.0, 0.0, -8.0]).unwrap();
    let (x, y) = (x as usize, y as usize);
    assert!(sum(&lamplit, x, y) > sum(&unlit, x, y) + 60);
    assert!(sum(&lamplit, x, y) > sum(&lamplit, 2, y) + 40, "it falls off to the side");
    let sun = SunSpec::new(50.0, 180.0, Colour::WHITE, 1.0);
    let sunny = paint(&camera, &backdrop, Some(&sun), &[]);
    assert!(sum(&sunny, 2, y) > sum(&unlit, 2, y) + 60);

    backdrop.sky.zenith = Colour::new(0.3, 0.5, 0.8);
    backdrop.sky.horizon = Colour::new(0.7, 0.8, 0.9);
    let open = paint(&camera, &backdrop, None, &[]);
    backdrop.sky.coast_degrees = 6.0;
    let coast = paint(&camera, &backdrop, None, &[]);
    let rows: Vec<usize> =
        (0..H).filter(|y| (0..W).any(|x| open.pixels()[y * W + x] != coast.pixels()[y * W + x])).collect();
    let degrees = |y: usize| (H as f32 * 0.5 - y as f32) * 60.0 / H as f32 - 11.3;
    assert!(rows.len() > 2, "there is a coast");
    assert!(rows.iter().all(|y| (-1.5..8.0).contains(&degrees(*y))), "{rows:?}");
}

/// Sky and ground are painted again only when they change.
#[test]
fn the_backdrop_is_kept() {
    let (camera, mut backdrop, mut renderer) = (camera(1.0), dusk(), Renderer::new());
    let (mut scratch, mut image) = (ListScratch::default(), Image::new(ImageSize::default()));
    let mut frame = |view: &View, backdrop: &BackdropSpec, lamps: &[LightSpec]| {
        let mut meter = Meter::new();
        meter.begin_frame();
        let around = Surroundings::new(backdrop).lights(lamps);
        let list = scratch.list([], &ListSpec::default(), view, &around, &mut meter);
        renderer.render(&list, view, backdrop, &mut image, &mut meter);
        let frame = meter.end_frame();
        (frame.count(Counter::BackdropHits), frame.count(Counter::BackdropMisses))
    };
    let here = view(&camera);
    assert_eq!(frame(&here, &backdrop, &[]), (0, 1));
    assert_eq!(frame(&here, &backdrop, &[]), (1, 0));
    assert_eq!(frame(&here, &backdrop, &[LightSpec::default()]), (0, 1), "another lamp");
    assert_eq!(frame(&view(&self::camera(3.0)), &backdrop, &[LightSpec::default()]), (0, 1), "another view");
    backdrop.sky.stars = 2.0;
    assert_eq!(frame(&view(&self::camera(3.0)), &backdrop, &[LightSpec::default()]), (0, 1), "another sky");
    // What changes in each frame is not kept, until it changes no more.
    assert_eq!(frame(&view(&self::camera(3.0)), &backdrop, &[LightSpec::default()]), (0, 1), "kept now");
    assert_eq!(frame(&view(&self::camera(3.0)), &backdrop, &[LightSpec::default()]), (1, 0));
    // One colour is the same in all views: a moving camera paints it once.
    let grey = BackdropSpec::plain(0.3);
    assert_eq!(frame(&here, &grey, &[]), (0, 1));
    assert_eq!(frame(&view(&self::camera(3.0)), &grey, &[LightSpec::default()]), (1, 0));
    assert_eq!(frame(&view(&self::camera(3.0)), &BackdropSpec::plain(0.4), &[]), (0, 1), "another colour");
}

/// A wall of discs of different opacity and a solid board before the backdrop, by a renderer that has drawn others before.
fn with_board(renderer: &mut Renderer, view: &View, backdrop: &BackdropSpec, sun: Option<&SunSpec>) -> Image {
    let board = LookSpec::solid(Shape::Ribbon(RibbonSpec::new(2.0, 0.0, 1)), "#c04020").unwrap();
    let board = board.build().unwrap();
    let mist = LookSpec::glowing(0.2, [(0.0, "#406080"), (1.0, "#102030")]).unwrap().build().unwrap();
    let (x, y, z) = ([-1.0, 0.4, 2.0], [0.0, 0.3, 1.0], [-4.0, -5.0, -6.0]);
    let all = Instances::at([&x, &y, &z]).unwrap().sized(&[1.1; 3]).unwrap();
    let boards = all.turned(&[0.0; 3], &[0.0; 3]).unwrap();
    let (mut scratch, mut meter) = (ListScratch::default(), Meter::new());
    let around = Surroundings::new(backdrop).sun(sun);
    let drawn = [(boards, &board), (all, &mist)];
    let list = scratch.list(drawn, &ListSpec::default(), view, &around, &mut meter);
    let mut image = Image::new(view.size());
    renderer.render(&list, view, backdrop, &mut image, &mut meter);
    image
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// While a camera moves, the backdrop is painted only where it shows: the picture is that of one that stands, to the bit.
    #[test]
    fn moving_cameras_see_the_same(
        height in 0.3f32..8.0, turn in -3f32..3.0, down in -0.6f32..0.4, radius in 3f32..60.0, soft in prop::option::of(1f32..6.0),
        (sunny, wet, dry, stars) in any::<(bool, bool, bool, bool)>(), tile in 3u32..7,
    ) {
        let mut backdrop = dusk();
        backdrop.sky.soft_degrees = soft.unwrap_or(0.0);
        (backdrop.sky.coast_degrees, backdrop.sky.stars) = (2.0, if stars { 1.0 } else { 0.0 });
        backdrop.ground = dry.then(|| {
            let mut ground = lawn();
            (ground.radius, ground.mottled) = (radius, 0.6);
            ground
        });
        backdrop.water = wet.then(WaterSpec::default);
        let sun = SunSpec::new(24.0, 60.0, Colour::new(1.0, 0.9, 0.8), 3.0);
        let sun = sunny.then_some(&sun);
        let at = |turn: f32| {
            let (sin, cos) = turn.sin_cos();
            let camera = CameraSpec::new([0.0, height, 2.0], [sin * 6.0, height + down * 6.0, 2.0 - cos * 6.0], 60.0);
            camera.view(ImageSize::new(232, 97).unwrap()).unwrap()
        };
        let mut moving = Renderer::tuned([tile, 5], 2, frolic_core::simd::detect());
        for nth in 0..3 {
            with_board(&mut moving, &at(turn + 0.02 * nth as f32), &backdrop, sun);
        }
        let view = at(turn + 0.06);
        prop_assert!(with_board(&mut moving, &view, &backdrop, sun) == with_board(&mut Renderer::new(), &view, &backdrop, sun));
        prop_assert!(with_board(&mut moving, &view, &backdrop, sun) == with_board(&mut moving, &view, &backdrop, sun));
    }
}

/// A view tilted to a side, where the horizon crosses rows: as sharp, and as if its picture were turned.
#[test]
fn tilted_views_are_level_ones_turned() {
    let mut backdrop = dusk();
    (backdrop.ground, backdrop.water) = (Some(lawn().radius(30.0)), Some(WaterSpec::default()));
    backdrop.sky.coast_degrees = 3.0;
    let size = ImageSize::new(100, 100).unwrap();
    let shot = |axes: [[f32; 3]; 3]| {
        let view = View::along(size, [0.0, 2.0, 0.0], axes, 1.0).unwrap();
        let (mut scratch, mut meter) = (ListScratch::default(), Meter::new());
        let list = scratch.list([], &ListSpec::default(), &view, &Surroundings::new(&backdrop), &mut meter);
        let mut image = Image::new(size);
        Renderer::new().render(&list, &view, &backdrop, &mut image, &mut meter);
        image
    };
    let level = shot([[1.0, 0.0, 0.0], [0.0, 1.0, 0.0], [0.0, 0.0, -1.0]]);
    let rolled = shot([[0.0, 1.0, 0.0], [-1.0, 0.0, 0.0], [0.0, 0.0, -1.0]]);
    let mut off = 0;
    for y in 0..100 {
        for x in 0..100 {
            // Right is up.
            let (a, b) = (level.pixels()[y * 100 + x], rolled.pixels()[x * 100 + (99 - y)]);
            off += usize::from((0..3).any(|channel| a[channel].abs_diff(b[channel]) > 6));
        }
    }
    assert!(off < 300, "{off} of 10000 differ");
}

#[test]
fn values_out_of_range_are_refused() {
    let told = |change: &dyn Fn(&mut BackdropSpec)| {
        let mut backdrop = dusk();
        (backdrop.ground, backdrop.water) = (Some(lawn()), Some(WaterSpec::default()));
        change(&mut backdrop);
        backdrop.check().map_err(|error| error.to_string())
    };
    assert!(told(&|_| ()).is_ok());
    for (key, change) in [
        ("sky.stars", &(|b: &mut BackdropSpec| b.sky.stars = -1.0) as &dyn Fn(&mut BackdropSpec)),
        ("sky.haze", &|b| b.sky.haze = 0.0),
        ("sky.coast_degrees", &|b| b.sky.coast_degrees = 46.0),
        ("sky.zenith", &|b| b.sky.zenith.g = f32::NAN),
        ("ground.radius", &|b| b.ground.as_mut().unwrap().radius = f32::INFINITY),
        ("water.waves", &|b| b.water.as_mut().unwrap().waves = 1.5),
    ] {
        let told = told(change).unwrap_err();
        assert!(told.contains(key), "{key}: {told}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    /// A picture put onto another lands where it is put, and what is over the edge is left away.
    #[test]
    fn pictures_are_put(w in 1u32..12, h in 1u32..12, x in 0usize..20, y in 0usize..20) {
        let mut sheet = Image::transparent(ImageSize::new(16, 16).unwrap());
        let mut stamp = Image::new(ImageSize::new(w, h).unwrap());
        stamp.paint(|i, j| [i as u8 + 1, j as u8 + 1, 7, 255]);
        sheet.put(&stamp, x, y);
        for (at, pixel) in sheet.pixels().iter().enumerate() {
            let (i, j) = (at % 16, at / 16);
            let inside = i >= x && j >= y && i < x + w as usize && j < y + h as usize;
            let want = if inside { [(i - x) as u8 + 1, (j - y) as u8 + 1, 7, 255] } else { [0; 4] };
            prop_assert_eq!(*pixel, want);
        }
        prop_assert_eq!(sheet.bytes().len(), 16 * 16 * 4);
    }

    /// Drawn without a backdrop and laid over any colour, a picture looks as if it had been drawn there.
    #[test]
    fn straight_alpha_lays_over_anything(opacity in 0.05f32..1.0, grey in 0.0f32..0.9, ink in 0.05f32..0.9) {
        let (view, zero, size) = (view(&CameraSpec::new([0.0, 0.0, 5.0], [0.0; 3], 30.0)), [0.0f32], [0.8f32]);
        let mut look = LookSpec::default().opacity_over_age([(0.0, opacity)]);
        look.colour_over_age = Ramp::new([(0.0, Colour::new(ink, ink, ink))]);
        look.blend = Blend::Alpha;
        let look = look.build().unwrap();
        let one = || Instances::at([&zero, &zero, &zero]).unwrap().sized(&size).unwrap();
        let mut backdrop = BackdropSpec::default();
        backdrop.sky.zenith = Colour::new(grey, grey, grey);
        backdrop.sky.horizon = backdrop.sky.zenith;
        let (mut scratch, mut meter, mut renderer) = (ListScratch::default(), Meter::new(), Renderer::new());
        let around = Surroundings::new(&backdrop);
        let list = scratch.list([(one(), &look)], &ListSpec::default(), &view, &around, &mut meter);
        let mut clear = Image::new(view.size());
        renderer.render_transparent(&list, &view, &mut clear, &mut meter);
        let [r, g, b, a] = clear.pixels()[H / 2 * W + W / 2];
        prop_assert!(r == g && g == b);
        prop_assert!((f32::from(a) / 255.0 - opacity).abs() < 0.03 || f32::from(a) / 255.0 >= opacity, "{a} {opacity}");
        prop_assert_eq!(clear.pixels()[0], [0; 4], "and nothing where nothing is");
    }
}
