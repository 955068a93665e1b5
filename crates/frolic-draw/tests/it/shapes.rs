//! Every shape and look against the plain scalar form, by every technique, on every kind of machine.

use crate::common::kit::{Kit, kit, looks};
use crate::common::{cloud, lights, plain};
use frolic_core::simd::{Level, detect, levels};
use frolic_core::{Counter, Frame, Meter, Particles, Threads};
use frolic_diagnostics::reference::LinearImage;
use frolic_draw::{
    CameraSpec, Colour, DepthOrder, Fill, Image, ImageSize, Instances, Look, LookSpec, Orientation, Renderer,
    RibbonSpec, Shape, Sprite, SunSpec, Technique, TextStyle, View,
};
use frolic_list::{ListScratch, ListSpec, Surroundings};
use proptest::prelude::*;

fn view(width: u32, height: u32) -> View {
    let mut camera = CameraSpec::new([0.4, 0.6, 5.0], [0.0, 0.1, 0.0], 50.0);
    camera.bloom = 0.0;
    camera.view(ImageSize::new(width, height).unwrap()).unwrap()
}

type Populations<'a> = Vec<(Instances<'a>, &'a Look)>;

fn draw(
    populations: &Populations<'_>,
    spec: &ListSpec,
    view: &View,
    renderer: &mut Renderer,
) -> (Image, Frame) {
    draw_under(None, populations, spec, view, renderer)
}

fn draw_under(
    sun: Option<&SunSpec>,
    populations: &Populations<'_>,
    spec: &ListSpec,
    view: &View,
    renderer: &mut Renderer,
) -> (Image, Frame) {
    let (mut scratch, mut meter, lights, backdrop) =
        (ListScratch::default(), Meter::new(), lights(), plain());
    let around = Surroundings::new(&backdrop).lights(&lights).sun(sun).time(1.3);
    meter.begin_frame();
    let list = scratch.list(populations.iter().copied(), spec, view, &around, &mut meter);
    let mut image = Image::new(view.size());
    renderer.render(&list, view, &backdrop, &mut image, &mut meter);
    (image, meter.end_frame())
}

/// The plain form, as 8-bit sRGB.
fn reference(populations: &Populations<'_>, spec: &ListSpec, view: &View) -> Vec<[u8; 3]> {
    let (mut scratch, mut meter, lights, backdrop) =
        (ListScratch::default(), Meter::new(), lights(), plain());
    let around = Surroundings::new(&backdrop).lights(&lights).time(1.3);
    let list = scratch.list(populations.iter().copied(), spec, view, &around, &mut meter);
    let sky = backdrop.sky.zenith;
    let mut linear = LinearImage::new(view.size(), [sky.r, sky.g, sky.b]);
    linear.draw(&list, view);
    linear.to_srgb(view)
}

/// Share of pixels that differ by more than two 8-bit steps.
fn off(image: &Image, plain: &[[u8; 3]]) -> f64 {
    let differs = |(fast, slow): &(&[u8; 4], &[u8; 3])| {
        (0..3).any(|channel| (i32::from(fast[channel]) - i32::from(slow[channel])).abs() > 2)
    };
    image.pixels().iter().zip(plain).filter(differs).count() as f64 / plain.len() as f64
}

fn of(particles: &Particles) -> Instances<'_> {
    Instances::of(particles.columns(), 0.01)
}

#[test]
fn every_look_equals_the_plain_form() {
    let kit = kit();
    let (particles, view) = (cloud(60, [0.05, 0.35], [3.0, 2.0, 2.0], 11), view(150, 100));
    for (name, look) in looks(&kit) {
        let populations = vec![(of(&particles), &look)];
        let spec = ListSpec::default();
        let (image, frame) = draw(&populations, &spec, &view, &mut Renderer::tuned([6, 5], 128, detect()));
        assert!(frame.count(Counter::Triangles) > 50, "{name} draws nothing");
        // Samples on an edge may fall to either side by rounding, as may texels of the nearest size.
        let off = off(&image, &reference(&populations, &spec, &view));
        assert!(off <= 0.004, "{name}: {off}");
    }
}

#[test]
fn every_look_is_the_same_by_every_technique_and_machine() {
    let kit = kit();
    let (particles, view) = (cloud(70, [0.05, 0.35], [3.0, 2.0, 2.0], 5), view(140, 90));
    for (name, look) in looks(&kit) {
        let populations = vec![(of(&particles), &look)];
        let plain = draw(
            &populations,
            &ListSpec::default(),
            &view,
            &mut Renderer::tuned([6, 6], 128, Level::baseline()),
        );
        for (technique, calls) in [(Technique::Each, 70), (Technique::Batched, 1), (Technique::Instanced, 1)]
        {
            let spec = ListSpec::new(technique);
            let (image, frame) = draw(&populations, &spec, &view, &mut Renderer::new());
            assert!(image == plain.0, "{name}, {technique:?}");
            assert_eq!(frame.count(Counter::DrawCalls), calls, "{name}, {technique:?}");
            for same in [Counter::Triangles, Counter::Culled, Counter::PixelsTouched, Counter::BinRecords] {
                assert_eq!(frame.count(same), plain.1.count(same), "{name}, {technique:?}, {}", same.name());
            }
        }
        for (tile, level) in [([3, 3], detect()), ([4, 7], Level::baseline()), ([6, 4], detect())] {
            let image = Threads::new(3).run(|| {
                draw(&populations, &ListSpec::default(), &view, &mut Renderer::tuned(tile, 1, level)).0
            });
            assert!(image == plain.0, "{name}, tiles of 2^{tile:?}, {level:?}");
        }
    }
    assert!(!levels().is_empty());
}

/// Smoke, sparks, blades and flags in one layer and in several, in every depth order: one picture by every technique.
#[test]
fn mixtures_are_the_same_by_every_technique() {
    let kit = kit();
    let looks = looks(&kit);
    let clouds: Vec<Particles> = (0..6).map(|n| cloud(40, [0.05, 0.4], [3.0, 2.0, 2.0], n)).collect();
    let view = view(120, 80);
    for order in [DepthOrder::None, DepthOrder::Population, DepthOrder::All] {
        for start in [0, 9, 17, 25, 31] {
            let populations: Populations<'_> = clouds
                .iter()
                .enumerate()
                .map(|(n, c)| (of(c), &looks[(start + n * 5) % looks.len()].1))
                .collect();
            let by = |technique, capacity| {
                let spec = ListSpec::new(technique).depth_order(order).capacity(capacity);
                draw(&populations, &spec, &view, &mut Renderer::new()).0
            };
            let instanced = by(Technique::Instanced, 1 << 20);
            assert!(by(Technique::Each, 1) == instanced, "{order:?} from {start}");
            assert!(by(Technique::Batched, 1 << 20) == instanced, "{order:?} from {start}");
            assert!(by(Technique::Batched, 7) == instanced, "{order:?} from {start}, small batches");
            let spec = ListSpec::default().depth_order(order);
            let off = off(&instanced, &reference(&populations, &spec, &view));
            assert!(off <= 0.006, "{order:?} from {start}: {off}");
        }
    }
}

/// Merged billboards face the camera; their shadows were those of billboards that face the camera too, and not the sun.
#[test]
fn merged_cards_throw_the_same_shadows() {
    let kit = kit();
    let billboards = cloud(60, [0.1, 0.5], [3.0, 2.0, 2.0], 21);
    let view = view(140, 90);
    let mut sun = SunSpec::new(35.0, 80.0, Colour::WHITE, 2.0);
    (sun.shadow_map, sun.shadow_reach) = (256, 12.0);
    for (name, look) in looks(&kit).iter().filter(|(_, look)| look.is_solid()) {
        let populations = vec![(of(&billboards), look)];
        let by = |technique| {
            draw_under(Some(&sun), &populations, &ListSpec::new(technique), &view, &mut Renderer::new()).0
        };
        let instanced = by(Technique::Instanced);
        assert!(by(Technique::Batched) == instanced && by(Technique::Each) == instanced, "{name}");
        let unshadowed = draw(&populations, &ListSpec::default(), &view, &mut Renderer::new()).0;
        assert!(unshadowed != instanced, "{name}: there is no sun");
    }
}

fn any_sprite(kit: &Kit, on_screen: bool) -> impl Strategy<Value = Sprite> + use<> {
    let fills = [Fill::Plain, Fill::Picture(kit.sheet.frame(0)), Fill::Tiles(kit.tiles)];
    let scale = if on_screen { 30.0 } else { 1.0 };
    let place = if on_screen { 0f32..100.0 } else { -2f32..2.0 };
    (
        prop::array::uniform3(place),
        prop::array::uniform2(0.05f32..2.0),
        prop::array::uniform2(-0.5f32..1.5),
        -7f32..7.0,
        prop::array::uniform4(0f32..1.0),
        0usize..3,
        (0f32..0.4, 0f32..0.2),
        prop_oneof![
            Just(Orientation::Camera),
            (-4f32..4.0).prop_map(Orientation::Upright),
            (-4f32..4.0).prop_map(Orientation::Flat)
        ],
    )
        .prop_map(move |(position, size, pivot, turn, tint, fill, (corner, border), orientation)| {
            Sprite {
                position,
                size: size.map(|side| side * scale),
                pivot,
                turn,
                orientation,
                tint,
                fill: fills[fill],
                corner: corner * scale,
                border: border * scale,
                border_tint: [0.9, 0.8, 0.1, 1.0],
            }
        })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    /// Sprites on the screen and in the world, of any fill, frame, turn and stand; partly behind the camera too.
    #[test]
    fn sprites_equal_the_plain_form(on_screen in any::<bool>(), seed in any::<u64>()) {
        let kit = kit();
        let mut runner = proptest::test_runner::TestRunner::deterministic();
        for _ in 0..seed % 7 {
            let _ = runner.new_rng();
        }
        let tree = prop::collection::vec(any_sprite(&kit, on_screen), 1..12).new_tree(&mut runner).unwrap();
        let sprites = proptest::strategy::ValueTree::current(&tree);
        let look = LookSpec::sprites(on_screen, 0).build_with(&kit.library).unwrap();
        let populations = vec![(Instances::sprites(&sprites), &look)];
        let view = view(110, 70);
        let (image, _) = draw(&populations, &ListSpec::default(), &view, &mut Renderer::new());
        let off = off(&image, &reference(&populations, &ListSpec::default(), &view));
        prop_assert!(off <= 0.003, "{off}");
        for technique in [Technique::Each, Technique::Batched] {
            let (other, _) = draw(&populations, &ListSpec::new(technique), &view, &mut Renderer::tuned([4, 3], 1, detect()));
            prop_assert!(other == image, "{technique:?}");
        }
    }

    /// Places, sizes and turns that make no sense: a picture all the same.
    #[test]
    fn nothing_breaks_on_strange_numbers(
        strange in prop_oneof![Just(f32::NAN), Just(f32::INFINITY), Just(-1.0f32), Just(0.0), Just(1e30), Just(1e-30)],
        which in 0usize..8, on_screen in any::<bool>(),
    ) {
        let kit = kit();
        let mut sprite = Sprite { position: [10.0, 10.0, 0.0], size: [9.0, 5.0], ..Sprite::default() };
        match which {
            0 => sprite.position[0] = strange,
            1 => sprite.size[1] = strange,
            2 => sprite.pivot[0] = strange,
            3 => sprite.turn = strange,
            4 => sprite.tint = [strange; 4],
            5 => sprite.corner = strange,
            6 => sprite.border = strange,
            _ => sprite.orientation = Orientation::Upright(strange),
        }
        let sprites = [sprite, Sprite::default()];
        let look = LookSpec::sprites(on_screen, 0).build_with(&kit.library).unwrap();
        let xs = [0.1, strange, 0.5];
        let sizes = [0.2, 0.3, strange];
        for (_, solid) in looks(&kit) {
            let bodies = Instances::at([&xs, &[0.0; 3], &[0.0; 3]]).unwrap().sized(&sizes).unwrap();
            let turns = [strange; 3];
            let bodies = bodies.turned(&turns, &[0.0; 3]).unwrap();
            let populations = vec![(Instances::sprites(&sprites), &look), (bodies, &solid)];
            let (image, _) = draw(&populations, &ListSpec::default(), &view(40, 30), &mut Renderer::new());
            prop_assert!(image.pixels().iter().all(|pixel| pixel[3] == 255));
        }
    }
}

#[test]
fn columns_of_other_lengths_are_refused() {
    let (three, two) = ([0.0f32; 3], [0.0f32; 2]);
    assert_eq!(Instances::at([&three, &three, &two]).unwrap_err().key, "position");
    let at = Instances::at([&three; 3]).unwrap();
    assert_eq!(at.sized(&two).unwrap_err().key, "size");
    assert_eq!(at.turned(&three, &two).unwrap_err().key, "turn");
    assert_eq!(at.curved([&three; 3], [&two; 3]).unwrap_err().key, "curve");
    assert_eq!(at.keyed(&[1, 2]).unwrap_err().key, "id");
    assert_eq!(at.ageing(&two, &three).unwrap_err().key, "age");
    assert_eq!(at.moving([&two; 3]).unwrap_err().key, "velocity");
}

fn unlit(mut look: LookSpec) -> Look {
    look.lit = 0.0;
    look.build().unwrap()
}

/// Two triangles that share an edge hide what is behind them completely: no seam, whatever the angle and wherever tiles end.
#[test]
fn solid_things_have_no_seams() {
    let look = LookSpec::solid(Shape::mesh("ball"), "#ffffff").unwrap();
    let look = unlit(look);
    for step in 0..40 {
        let turn = [step as f32 * 0.11];
        let tilt = [step as f32 * 0.07];
        let (zero, size) = ([0.0f32], [9.0f32]);
        let bodies = Instances::at([&zero, &[0.0], &[-6.0]])
            .unwrap()
            .sized(&size)
            .unwrap()
            .turned(&turn, &tilt)
            .unwrap();
        let (image, _) = draw(
            &vec![(bodies, &look)],
            &ListSpec::default(),
            &view(97, 61),
            &mut Renderer::tuned([3, 3], 128, detect()),
        );
        // The middle of the picture is well within the ball.
        for y in 20..40 {
            for x in 35..60 {
                let pixel = image.pixels()[y * 97 + x];
                assert!(pixel[0] > 180, "{step}: {pixel:?} at {x}, {y}");
            }
        }
    }
}

/// An edge is smooth: a slanting one goes through in-between tones.
#[test]
fn edges_are_smooth() {
    let look = LookSpec::solid(Shape::Ribbon(RibbonSpec::new(4.0, 1.0, 1)), "#ffffff").unwrap();
    let look = unlit(look);
    let zero = [0.0f32];
    let blade = Instances::at([&zero; 3]).unwrap().sized(&[0.5]).unwrap();
    let blade = blade.curved([&[0.3], &[0.7], &zero], [&[0.6], &[1.4], &zero]).unwrap();
    let (image, _) = draw(&vec![(blade, &look)], &ListSpec::default(), &view(120, 90), &mut Renderer::new());
    let mut tones: Vec<u8> = image.pixels().iter().map(|pixel| pixel[0]).collect();
    tones.sort_unstable();
    tones.dedup();
    assert!(tones.len() >= 5, "{tones:?}");
}

#[test]
fn text_is_set_by_the_same_quads() {
    let kit = kit();
    let look = LookSpec::sprites(true, 0).build_with(&kit.library).unwrap();
    let mut letters = Vec::new();
    let style = TextStyle { size: 12.0, align: frolic_draw::Align::Left, tint: [1.0; 4] };
    kit.font.on_screen("Salt Lark\nlane 1", [5.0, 4.0], &style, &mut letters);
    assert_eq!(letters.len(), "SaltLarklane1".len());
    let populations = vec![(Instances::sprites(&letters), &look)];
    let view = view(110, 50);
    let (image, frame) = draw(&populations, &ListSpec::default(), &view, &mut Renderer::new());
    assert_eq!(frame.count(Counter::DrawCalls), 1);
    assert!(off(&image, &reference(&populations, &ListSpec::default(), &view)) == 0.0);
}
