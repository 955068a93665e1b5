//! The device's pictures against the processor's: every shape and look, by every technique.

use crate::common;
use std::cell::RefCell;

use crate::common::drawing::kit::{kit, looks};
use crate::common::drawing::{cloud, lights, plain};
use crate::common::{differ, gpu, keep};
use frolic_core::{
    AreaSpec, BladeSpec, Blades, Counter, Frame, Meter, On, Particles, PatternSpec, PlacementSpec, Ramp,
    Span, WorldSpec,
};
use frolic_draw::{
    Align, BackdropSpec, Blend, Bounds, CameraSpec, Colour, DepthOrder, DetailSpec, DeviceKey, Fill,
    GroundSpec, Image, ImageSize, Instances, Look, LookSpec, Orientation, Part, Renderer, RibbonSpec, Shape,
    Sprite, SunSpec, Technique, TextStyle, View,
};
use frolic_gpu::{Gpu, GpuRenderer, GpuSpec, Recorder};
use frolic_list::{ListScratch, ListSpec, Surroundings};

type Populations<'a> = Vec<(Instances<'a>, &'a Look)>;

fn view(width: u32, height: u32) -> View {
    CameraSpec::new([0.4, 0.6, 5.0], [0.0, 0.1, 0.0], 50.0)
        .view(ImageSize::new(width, height).unwrap())
        .unwrap()
}

/// The same list drawn by both backends.
fn both(
    populations: &Populations<'_>,
    spec: &ListSpec,
    view: &View,
    backdrop: &BackdropSpec,
    sun: Option<&SunSpec>,
) -> ([Image; 2], Frame) {
    let (mut scratch, mut meter, lights) = (ListScratch::default(), Meter::new(), lights());
    let around = Surroundings::new(backdrop).lights(&lights).sun(sun).time(1.3);
    meter.begin_frame();
    let list = scratch.list(populations.iter().copied(), spec, view, &around, &mut meter);
    let (mut here, mut there) = (Image::new(view.size()), Image::new(view.size()));
    Renderer::new().render(&list, view, backdrop, &mut here, &mut Meter::new());
    DEVICE.with_borrow_mut(|(recorder, renderer)| {
        renderer.render(recorder, &list, &[], view, backdrop, Some(&mut there), &mut meter).unwrap();
    });
    ([here, there], meter.end_frame())
}

thread_local! {
    /// One renderer a test, so that lists of all kinds follow one another in it.
    static DEVICE: RefCell<(Recorder, GpuRenderer)> = {
        let gpu = gpu();
        RefCell::new((Recorder::new(&gpu), GpuRenderer::new(&gpu).unwrap()))
    };
}

fn of(particles: &Particles) -> Instances<'_> {
    Instances::of(particles.columns(), 0.01)
}

#[test]
fn every_look_is_the_same_picture() {
    let kit = kit();
    let (particles, view) = (cloud(60, [0.05, 0.35], [3.0, 2.0, 2.0], 11), view(150, 100));
    for (nth, (name, look)) in looks(&kit).into_iter().enumerate() {
        let populations = vec![(of(&particles), &look)];
        // Each look as instances and by one more technique, in turn: neighbours in the list differ in one key, so every shape meets every technique.
        let other = [Technique::Each, Technique::Batched, Technique::Indirect][nth % 3];
        for technique in [Technique::Instanced, other] {
            let (images, frame) = both(&populations, &ListSpec::new(technique), &view, &plain(), None);
            let off = differ(&images[0], &images[1]);
            if off > 0.01 {
                keep(&format!("{name} {technique:?}"), &images);
            }
            assert!(off <= 0.01, "{name}, {technique:?}: {off}");
            assert_eq!(frame.count(Counter::DeviceDraws), frame.count(Counter::DrawCalls), "{name}");
            assert_eq!(frame.count(Counter::Submits), 1);
        }
    }
}

/// Smoke, sparks, blades, flags and boards in several layers, under a sun that throws shadows onto ground: phase after phase.
#[test]
fn mixtures_with_shadows_are_the_same_picture() {
    let kit = kit();
    let all = looks(&kit);
    let clouds: Vec<Particles> = (0..5).map(|n| cloud(40, [0.05, 0.4], [3.0, 2.0, 2.0], n)).collect();
    let board = Sprite {
        position: [0.2, 0.4, 0.8],
        size: [1.4, 0.9],
        tint: [0.8, 0.7, 0.9, 0.9],
        fill: Fill::Tiles(kit.tiles),
        corner: 0.2,
        border: 0.06,
        border_tint: [0.9, 0.8, 0.1, 1.0],
        ..Sprite::default()
    };
    let turned = Sprite {
        turn: 0.7,
        fill: Fill::Picture(kit.sheet.frame(0)),
        orientation: Orientation::Upright(0.6),
        ..board
    };
    let boards = [board, turned];
    let board_look = LookSpec::sprites(false, 1).build_with(&kit.library).unwrap();
    let mut letters = Vec::new();
    let style = TextStyle { size: 14.0, align: Align::Left, tint: [1.0; 4] };
    kit.font.on_screen("Salt Lark\nlane 1", [5.0, 4.0], &style, &mut letters);
    let text_look = LookSpec::sprites(true, 2).build_with(&kit.library).unwrap();
    let mut backdrop = plain();
    backdrop.ground = Some(GroundSpec::default());
    let mut sun = SunSpec::new(40.0, 30.0, Colour::WHITE, 2.0);
    (sun.shadow_map, sun.shadow_reach) = (512, 20.0);
    let view = view(180, 120);
    for start in [3, 12, 21, 33] {
        for sun in [None, Some(&sun)] {
            let mut populations: Populations<'_> = clouds
                .iter()
                .enumerate()
                .map(|(n, cloud)| (of(cloud), &all[(start + n * 7) % all.len()].1))
                .collect();
            populations.push((Instances::sprites(&boards), &board_look));
            populations.push((Instances::sprites(&letters), &text_look));
            for technique in [Technique::Instanced, Technique::Batched, Technique::Indirect] {
                let (images, _) = both(&populations, &ListSpec::new(technique), &view, &backdrop, sun);
                let off = differ(&images[0], &images[1]);
                if off > 0.01 {
                    keep(&format!("mix {start} {technique:?} {}", sun.is_some()), &images);
                }
                assert!(off <= 0.01, "from {start}, {technique:?}, sun {}: {off}", sun.is_some());
            }
        }
    }
}

/// Elements that are turned, curved and keyed by their columns; depth order across populations; the sky shining through.
#[test]
fn columns_orders_and_transparency_are_the_same() {
    let kit = kit();
    let n = 40;
    let column = |seed: f32, scale: f32| -> Vec<f32> {
        (0..n).map(|k| ((k as f32 * 0.618 + seed).fract() - 0.5) * scale).collect()
    };
    let place = [column(0.1, 3.0), column(0.37, 2.0), column(0.73, 2.0)];
    let place = [&place[0][..], &place[1], &place[2]];
    let (turn, tilt, size) = (column(0.2, 6.0), column(0.5, 2.0), vec![0.2; n]);
    let bend =
        [column(0.9, 0.5), vec![0.4; n], column(0.4, 0.5), column(0.6, 1.0), vec![0.8; n], column(0.8, 1.0)];
    let ids: Vec<u32> = (0..n as u32).map(|k| k * 7 + 3).collect();
    let at = || Instances::at(place).unwrap().sized(&size).unwrap().keyed(&ids).unwrap();
    let blades = at().curved([&bend[0], &bend[1], &bend[2]], [&bend[3], &bend[4], &bend[5]]).unwrap();
    let boxes = at().turned(&turn, &tilt).unwrap();
    let all = looks(&kit);
    let look = |name: &str| &all.iter().find(|(own, _)| own == name).unwrap().1;
    let view = view(160, 110);
    let populations = vec![
        (boxes, look("worn box, CutOut")),
        (blades, look("ribbon, Opaque")),
        (blades, look("ribbon, Alpha")),
        (at(), look("disc, Alpha")),
        (at(), look("melting billboard, Alpha")),
    ];
    for order in [DepthOrder::None, DepthOrder::Population, DepthOrder::All] {
        let spec = ListSpec::default().depth_order(order);
        let (images, frame) = both(&populations, &spec, &view, &plain(), None);
        let off = differ(&images[0], &images[1]);
        if off > 0.01 {
            keep(&format!("columns {order:?}"), &images);
        }
        assert!(off <= 0.01, "{order:?}: {off}");
        assert_eq!(frame.count(Counter::DeviceDraws), frame.count(Counter::DrawCalls));
    }
    let (mut scratch, mut meter, lights, backdrop) =
        (ListScratch::default(), Meter::new(), lights(), plain());
    let around = Surroundings::new(&backdrop).lights(&lights);
    let list = scratch.list(populations, &ListSpec::default(), &view, &around, &mut meter);
    let (mut here, mut there) = (Image::new(view.size()), Image::new(view.size()));
    Renderer::new().render_transparent(&list, &view, &mut here, &mut meter);
    let gpu = gpu();
    let (mut recorder, mut renderer) = (Recorder::new(&gpu), GpuRenderer::new(&gpu).unwrap());
    for _ in 0..2 {
        renderer.render_transparent(&mut recorder, &list, &[], &view, &mut there, &mut meter).unwrap();
        let off = differ(&here, &there);
        assert!(off <= 0.012, "transparent: {off}");
    }
    assert!(there.pixels().iter().any(|pixel| pixel[3] == 0), "the sky is not there");
}

/// A meadow in the wind, thinned by size and let go over a distance, hazed, round, tinted by its own columns, in the light of lamps and
/// under a sun: ribbons, a mesh that bends along them, a look over what is behind; and shapes that are no blades by the same columns.
#[test]
fn blades_are_the_same_picture() {
    let even = PlacementSpec::new(On::Ground(PatternSpec::BlueNoise { distance: 0.0 }));
    let spec = BladeSpec::new(even.area(AreaSpec::new([0.0; 2], [5.0; 2]))).chunk(1.0);
    let mut blades = Blades::new(&spec, 900, Span::new(0.012, 0.03), 5).unwrap();
    let world = WorldSpec::default().wind([5.0, 0.0, 2.0]).gusts(1.0, 2.0).build().unwrap();
    blades.step(&world, 1.0 / 60.0, 40, &mut Meter::new());
    let columns = blades.columns();
    let tints = ["#a8d090", "#ffffff", "#ffc060"].map(|hex| Colour::hex(hex).unwrap());
    let shape = |shape: Shape, blend: Blend| {
        let mut look = LookSpec::solid(shape, "#b0b060").unwrap();
        look.tints = tints.to_vec();
        (look.translucency, look.round, look.hazed, look.blend) = (0.4, 0.5, 0.8, blend);
        look.detail = DetailSpec::reach(5.0, 0.5).thin_below(1.5).coarse_below(3.0);
        look.colour_along = Ramp::new([(0.0, Colour::new(0.4, 0.4, 0.4)), (1.0, Colour::WHITE)]);
        look
    };
    let ribbon = || Shape::Ribbon(RibbonSpec::new(10.0, 0.1, 4));
    let mut billboards = shape(Shape::textured_mesh("crossed-quads", "tuft"), Blend::CutOut);
    billboards.detail = billboards.detail.from(2.0, 4.0);
    let kit = kit();
    let looks = [
        shape(ribbon(), Blend::Opaque),
        shape(ribbon(), Blend::Alpha),
        shape(
            Shape::Mesh { name: "flower".into(), coarse: Some("ear".into()), texture: None, wave: None },
            Blend::Opaque,
        ),
        shape(Shape::Disc, Blend::Alpha),
        shape(Shape::mesh("box"), Blend::Opaque),
        billboards,
    ]
    .map(|look| look.build_with(&kit.library).unwrap());
    let standing = Instances::at(columns.position())
        .unwrap()
        .sized(columns.size())
        .unwrap()
        .tinted(columns.tint())
        .unwrap();
    let mut backdrop = plain();
    (backdrop.ground, backdrop.sky.haze) = (Some(GroundSpec::default()), 4.0);
    let mut sun = SunSpec::new(40.0, 30.0, Colour::WHITE, 2.0);
    (sun.shadow_map, sun.shadow_reach) = (512, 20.0);
    let view = CameraSpec::new([0.3, 0.7, 3.2], [0.0, 0.2, 0.0], 45.0)
        .view(ImageSize::new(180, 120).unwrap())
        .unwrap();
    let few = [Part { first: 450, count: 80, bounds: Bounds { low: [-9.0; 3], high: [9.0; 3] } }];
    let empty = both(&vec![], &ListSpec::default(), &view, &backdrop, None).0;
    for (nth, look) in looks.iter().enumerate() {
        let instances = if nth < 3 || nth == 5 { Instances::of(columns, 0.01) } else { standing };
        // Of what is seen through, or through the holes of, few: layer on layer of edges differ by little, and everywhere.
        let instances = if nth == 1 || nth == 5 { instances.in_parts(&few).unwrap() } else { instances };
        for sun in [None, Some(&sun)] {
            for technique in [Technique::Instanced, Technique::Batched, Technique::Indirect] {
                let populations = vec![(instances, look)];
                let (images, frame) = both(&populations, &ListSpec::new(technique), &view, &backdrop, sun);
                let (off, shown) = (differ(&images[0], &images[1]), differ(&images[0], &empty[0]));
                // A device rounds corners to a 256th of a pixel, in which a billboard from the side has a whole blade.
                let most = if nth == 5 { 0.02 } else { 0.01 };
                if off > most {
                    keep(&format!("blades {nth} {technique:?} {}", sun.is_some()), &images);
                }
                assert!(
                    off <= most && shown > 0.03,
                    "look {nth}, {technique:?}, sun {}: {off} of {shown}",
                    sun.is_some()
                );
                assert!(frame.count(Counter::Instances) > 0);
            }
        }
    }
}

/// A device that shows its shaders little at a time: batches are drawn in pieces, and the picture stays.
#[test]
fn small_bindings_split_batches() {
    let (particles, view) = (cloud(9000, [0.01, 0.04], [3.0, 2.0, 2.0], 3), view(120, 80));
    let look = common::drawing::look(Blend::Additive);
    let (mut scratch, mut meter, backdrop) = (ListScratch::default(), Meter::new(), plain());
    let around = Surroundings::new(&backdrop);
    let mut pictures = Vec::new();
    for spec in [GpuSpec::default(), GpuSpec::default().binding(64 << 10)] {
        let gpu = Gpu::open(spec).unwrap();
        let (mut recorder, mut renderer) = (Recorder::new(&gpu), GpuRenderer::new(&gpu).unwrap());
        for technique in [Technique::Instanced, Technique::Indirect, Technique::Batched] {
            let list = scratch.list(
                [(of(&particles), &look)],
                &ListSpec::new(technique),
                &view,
                &around,
                &mut meter,
            );
            let mut image = Image::new(view.size());
            meter.begin_frame();
            renderer
                .render(&mut recorder, &list, &[], &view, &backdrop, Some(&mut image), &mut meter)
                .unwrap();
            let draws = meter.end_frame().count(Counter::DeviceDraws);
            assert_eq!(draws > 1, spec != GpuSpec::default(), "{draws} draws, {technique:?}");
            pictures.push(image);
        }
    }
    for other in &pictures[1..] {
        assert!(differ(&pictures[0], other) <= 0.001);
    }
}

/// What is too large for the device, or is not there, is said so.
#[test]
fn undrawable_lists_are_refused() {
    // A device as a program may have opened it: with what WebGPU promises, and no more.
    let (device, queue) = common::plain_device();
    let gpu = Gpu::from_parts(&device, &queue, GpuSpec::default()).unwrap();
    let most = gpu.device().limits().max_texture_dimension_2d;
    assert_eq!(most, 8192);
    let (mut scratch, mut meter, backdrop) = (ListScratch::default(), Meter::new(), plain());
    let around = Surroundings::new(&backdrop);
    let (mut recorder, mut renderer) = (Recorder::new(&gpu), GpuRenderer::new(&gpu).unwrap());
    {
        let size = ImageSize::new(16_384, 1).unwrap();
        let wide = CameraSpec::default().view(size).unwrap();
        let list = scratch.list([], &ListSpec::default(), &wide, &around, &mut meter);
        let told =
            renderer.render(&mut recorder, &list, &[], &wide, &backdrop, None, &mut meter).unwrap_err();
        assert!(told.to_string().contains("of 16384 is over this device's limit of 8192"), "{told}");
    }
    let view = view(40, 30);
    let look = common::drawing::look(Blend::Additive);
    let stray = Instances::on_device(DeviceKey { key: 1 << 40, most: 10 }, 0.0);
    let list = scratch.list([(stray, &look)], &ListSpec::default(), &view, &around, &mut meter);
    let told = renderer.render(&mut recorder, &list, &[], &view, &backdrop, None, &mut meter).unwrap_err();
    assert!(told.to_string().contains("was not passed with it"), "{told}");
    // For the CPU such a population is empty.
    let mut image = Image::new(view.size());
    Renderer::new().render(&list, &view, &backdrop, &mut image, &mut meter);
    assert_eq!((list.batches().len(), list.instances()), (1, 0));
}

/// Places, sizes and turns that make no sense, a camera inside of everything: a picture all the same, and no word of complaint from the device.
#[test]
fn nothing_breaks_on_strange_numbers() {
    let kit = kit();
    let all = looks(&kit);
    let on_screen = LookSpec::sprites(true, 0).build_with(&kit.library).unwrap();
    let in_world = LookSpec::sprites(false, 0).build_with(&kit.library).unwrap();
    let inside = CameraSpec::new([0.1, 0.0, 0.0], [0.1, 5.0, 0.0], 170.0)
        .view(ImageSize::new(40, 30).unwrap())
        .unwrap();
    for strange in [f32::NAN, f32::INFINITY, -1.0, 0.0, 1e30, 1e-30] {
        let (xs, sizes, turns) = ([0.1, strange, 0.5], [0.2, 0.3, strange], [strange; 3]);
        let bodies = Instances::at([&xs, &[0.0; 3], &[0.0; 3]]).unwrap().sized(&sizes).unwrap();
        let bodies = bodies.turned(&turns, &[0.0; 3]).unwrap();
        let bent = bodies.curved([&xs, &xs, &turns], [&[0.3; 3], &xs, &xs]).unwrap();
        let board = Sprite { position: [10.0, 10.0, 0.0], size: [9.0, 5.0], ..Sprite::default() };
        let boards = [
            Sprite { position: [strange, 1.0, 0.0], ..board },
            Sprite { size: [3.0, strange], ..board },
            Sprite { pivot: [strange, 0.5], turn: strange, ..board },
            Sprite { tint: [strange; 4], ..board },
            Sprite { corner: strange, border: strange, border_tint: [strange; 4], ..board },
            Sprite { orientation: Orientation::Upright(strange), fill: Fill::Tiles(kit.tiles), ..board },
        ];
        let mut populations: Populations<'_> = all.iter().map(|(_, look)| (bodies, look)).collect();
        populations
            .extend(all.iter().filter(|(name, _)| name.starts_with("ribbon")).map(|(_, look)| (bent, look)));
        populations.push((Instances::sprites(&boards), &on_screen));
        populations.push((Instances::sprites(&boards), &in_world));
        for (view, technique) in [
            (view(40, 30), Technique::Instanced),
            (view(40, 30), Technique::Indirect),
            (inside, Technique::Batched),
            (inside, Technique::Instanced),
        ] {
            let (images, _) = both(&populations, &ListSpec::new(technique), &view, &plain(), None);
            assert!(images[1].pixels().iter().all(|pixel| pixel[3] == 255), "{strange}");
        }
    }
}

/// A stall by compiling comes once for each kind of pipeline, not once for each renderer.
#[test]
fn renderers_of_a_device_share_pipelines() {
    // A device of its own: other tests compile on the shared one.
    let gpu = Gpu::open(GpuSpec::default()).unwrap();
    let (particles, look) = (cloud(100, [0.1, 0.2], [2.0; 3], 1), LookSpec::default().build().unwrap());
    let (view, backdrop) = (view(64, 40), plain());
    let mut compiled = [0; 3];
    for after in &mut compiled {
        let (mut scratch, mut meter) = (ListScratch::default(), Meter::new());
        let around = Surroundings::new(&backdrop);
        let list = scratch.list([(of(&particles), &look)], &ListSpec::default(), &view, &around, &mut meter);
        let (mut recorder, mut renderer) = (Recorder::new(&gpu), GpuRenderer::new(&gpu).unwrap());
        let mut image = Image::new(view.size());
        renderer.render(&mut recorder, &list, &[], &view, &backdrop, Some(&mut image), &mut meter).unwrap();
        *after = gpu.pipelines_compiled();
    }
    assert!(compiled[0] > 5, "{compiled:?}");
    assert_eq!(compiled, [compiled[0]; 3]);
}
