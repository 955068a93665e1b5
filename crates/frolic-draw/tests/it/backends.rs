//! What backends elsewhere are told: lists with populations that live on a device, looks, views and backdrops taken apart.

use crate::common;
use crate::common::kit::kit;
use crate::common::{cloud, draw, look, plain, view};
use frolic_core::{Counter, Meter};
use frolic_draw::backend::{BackdropPlanes, Form, stride};
use frolic_draw::backend::{srgb, tone};
use frolic_draw::{
    BackdropSpec, Blend, Break, CameraSpec, Colour, DeviceKey, GroundSpec, Image, ImageSize, Instances,
    LookSpec, Renderer, RibbonSpec, Shape, SunSpec, Technique, WaterSpec,
};
use frolic_list::{ListScratch, ListSpec, Surroundings};
use proptest::prelude::*;

/// A population on a device is a batch of its own, says why, and is empty for the processor.
#[test]
fn device_populations_are_batches_of_their_own() {
    let particles = cloud(50, [0.05, 0.2], [3.0, 2.0, 2.0], 3);
    let (glow, smoke) = (look(Blend::Additive), look(Blend::Alpha));
    let here = || Instances::of(particles.columns(), 0.0);
    let there = |key| Instances::on_device(DeviceKey { key, most: 1 << 20 }, 0.02);
    let (mut scratch, mut meter, backdrop) = (ListScratch::default(), Meter::new(), plain());
    let around = Surroundings::new(&backdrop);
    let populations = [
        (here(), &glow),
        (there(1), &glow),
        (there(2), &glow),
        (here(), &glow),
        (here(), &glow),
        (there(3), &smoke),
    ];
    let view = view(60, 40);
    let list = scratch.list(populations, &ListSpec::default(), &view, &around, &mut meter);
    let batches: Vec<(u32, Break, bool)> =
        list.batches().iter().map(|batch| (batch.count, batch.why, batch.far_to_near)).collect();
    let full = Break::Capacity;
    assert_eq!(
        batches,
        [
            (50, Break::First, false),
            (0, full, false),
            (0, full, false),
            (100, full, false),
            (0, Break::Look, true)
        ]
    );
    let named = |nth: usize| {
        let run = list.runs(&list.batches()[nth])[0];
        list.source(run.source).unwrap().0.device_key()
    };
    assert_eq!(named(0), None);
    assert_eq!(named(2), Some(DeviceKey { key: 2, most: 1 << 20 }));
    assert_eq!(list.instances(), 150);
    assert_eq!(list.sources().len(), 6);
    assert_eq!(list.sources().nth(5).unwrap().0.lag(), 0.02);
    // The processor draws the rest.
    let mut image = Image::new(view.size());
    meter.begin_frame();
    Renderer::new().render(&list, &view, &backdrop, &mut image, &mut meter);
    assert!(meter.end_frame().count(Counter::PixelsTouched) > 0);
}

/// On the processor, which leaves out what is not seen anyway, it is the same as instanced.
#[test]
fn indirect_is_instanced_on_the_processor() {
    let particles = cloud(400, [0.02, 0.2], [5.0, 4.0, 3.0], 8);
    for blend in [Blend::Alpha, Blend::Additive] {
        let look = look(blend);
        let by = |technique| {
            let (image, frame) =
                draw(&[(&particles, &look)], technique, &view(90, 60), &plain(), &mut Renderer::new());
            (image, frame.count(Counter::DrawCalls), frame.count(Counter::BinRecords))
        };
        assert!(by(Technique::Indirect) == by(Technique::Instanced));
    }
}

proptest! {
    /// A camera by its axes is the camera by its target.
    #[test]
    fn a_view_along_axes_is_the_same_view(
        eye in prop::array::uniform3(-9f32..9.0), target in prop::array::uniform3(-9f32..9.0), fov in 5f32..150.0,
        point in prop::array::uniform3(-9f32..9.0),
    ) {
        let size = ImageSize::new(300, 200).unwrap();
        prop_assume!(glam::Vec3::from(eye).distance(target.into()) > 0.1);
        let by_target = CameraSpec::new(eye, target, fov).view(size).unwrap();
        let parts = by_target.parts();
        let axes = [parts.right, parts.up, parts.forward].map(|axis| axis.to_array());
        let along = frolic_draw::View::along(size, eye, axes, fov.to_radians()).unwrap();
        match (by_target.project(point), along.project(point)) {
            (Some(a), Some(b)) => {
                for k in 0..3 {
                    prop_assert!((a[k] - b[k]).abs() <= a[k].abs().max(1.0) * 1e-3, "{a:?} and {b:?}");
                }
            }
            (None, None) => {}
            _ => prop_assert!(false, "one sees it"),
        }
    }
}

#[test]
fn invalid_axes_are_refused() {
    let size = ImageSize::default();
    let along = |axes, fov| frolic_draw::View::along(size, [0.0; 3], axes, fov).map(|_| ());
    let good = [[1.0, 0.0, 0.0], [0.0, 1.0, 0.0], [0.0, 0.0, -1.0]];
    assert!(along(good, 0.7).is_ok());
    assert_eq!(along(good, 3.2).unwrap_err().key, "fov");
    assert_eq!(along([[2.0, 0.0, 0.0], good[1], good[2]], 0.7).unwrap_err().key, "axes");
    assert_eq!(along([[0.8, 0.6, 0.0], good[1], good[2]], 0.7).unwrap_err().key, "axes");
    assert_eq!(along([[f32::NAN; 3], good[1], good[2]], 0.7).unwrap_err().key, "axes");
}

/// The planes of a backdrop, through the tone curve, are the picture of an empty list.
#[test]
fn planes_of_a_backdrop_are_its_picture() {
    let mut backdrop = BackdropSpec::default();
    let mut ground = GroundSpec::default();
    ground.radius = 8.0;
    backdrop.ground = Some(ground);
    backdrop.water = Some(WaterSpec::default());
    backdrop.sky.coast_degrees = 3.0;
    backdrop.sky.stars = 1.0;
    let mut sun = SunSpec::new(30.0, 20.0, Colour::WHITE, 1.5);
    sun.shadow_map = 0;
    let mut camera = CameraSpec::new([0.0, 2.0, 9.0], [0.0, 1.0, 0.0], 60.0);
    camera.bloom = 0.0;
    let view = camera.view(ImageSize::new(130, 70).unwrap()).unwrap();
    let lights = common::lights();
    let planes = BackdropPlanes::paint(&view, &backdrop, &lights, Some(&sun));
    let (mut scratch, mut meter) = (ListScratch::default(), Meter::new());
    let around = Surroundings::new(&backdrop).lights(&lights).sun(Some(&sun));
    let list = scratch.list([], &ListSpec::default(), &view, &around, &mut meter);
    let mut image = Image::new(view.size());
    Renderer::new().render(&list, &view, &backdrop, &mut image, &mut meter);
    for (nth, pixel) in image.pixels().iter().enumerate() {
        for channel in 0..3 {
            let light = planes.light[nth][channel] + planes.sun[nth][channel];
            let byte = srgb(tone(f64::from(light))) * 255.0;
            assert!((f64::from(pixel[channel]) - byte).abs() <= 1.02, "{pixel:?} for {byte} at {nth}");
        }
    }
    let solid = planes.depth.iter().filter(|depth| depth.is_finite()).count();
    assert!(solid > 1_000 && solid < 130 * 70, "{solid} pixels of ground and water");
}

/// A look taken apart is what its spec says.
#[test]
fn looks_come_apart() {
    let kit = kit();
    let mut spec = LookSpec::solid(Shape::Ribbon(RibbonSpec::new(7.0, 0.25, 5)), "#ff8040").unwrap();
    spec.tints = vec![Colour::new(1.0, 0.5, 0.25)];
    spec.soft = 0.25;
    let look = spec.build_with(&kit.library).unwrap();
    let parts = look.parts();
    assert!(matches!(parts.form, Form::Ribbon(ribbon) if ribbon.segments == 5));
    assert_eq!((parts.per_soft, parts.tints), (4.0, &[[1.0, 0.5, 0.25]][..]));
    assert!(parts.over_height.is_none() && parts.along.is_none() && !parts.detail.is_active());
    assert_eq!(stride(&look), 12);
    let first = parts.over_age.first().unwrap();
    assert_eq!((first.opacity, first.size), (1.0, 1.0));
    assert!(first.colour[0] > first.colour[1] && first.colour[1] > first.colour[2]);
    let regions = parts.atlas.regions();
    assert!(regions.len() > 50, "{} letters and pictures", regions.len());
    assert_eq!(parts.atlas.tile_maps()[0].size(), [7, 5]);
    assert_eq!(parts.atlas.tile_maps()[0].tiles().len(), 35);
    let (side, levels) = parts.atlas.page(0).unwrap();
    assert_eq!((levels.len(), levels[0].len(), levels[3].len()), (4, side * side, side * side / 64));
    assert!(parts.atlas.page(9).is_none());
}

/// Elements as a backend packs them: what is left out has one value for all.
#[test]
fn elements_are_packed_whole() {
    let particles = cloud(20, [0.05, 0.2], [3.0, 2.0, 2.0], 3);
    let columns = particles.columns();
    let instances = Instances::of(columns, 0.5);
    let element = instances.element(7).unwrap();
    assert_eq!(element.id, columns.id()[7]);
    assert_eq!(element.position[0], columns.position()[0][7] - columns.velocity()[0][7] * 0.5);
    assert_eq!(element.age, (columns.age()[7] - 0.5) / columns.life()[7]);
    assert!(element.turn.is_none() && element.curve.is_none() && instances.element(20).is_none());
    let xs = [1.0f32, 2.0];
    let bare = Instances::at([&xs; 3]).unwrap();
    let element = bare.element(1).unwrap();
    assert_eq!((element.position, element.size, element.age, element.id), ([2.0; 3], 1.0, 0.0, 1));
    let turned = bare.turned(&xs, &xs).unwrap().curved([&xs; 3], [&xs; 3]).unwrap().element(0).unwrap();
    assert_eq!((turned.turn, turned.curve), (Some([1.0, 1.0]), Some([[1.0; 3]; 2])));
    assert!(Instances::sprites(&[]).element(0).is_none());
}
