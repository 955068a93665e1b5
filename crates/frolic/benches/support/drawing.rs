//! A whole draw (draw list, projection, bins, tiles, eight bits) beside the plain form of it.

use frolic::core::random::Draws;
use frolic::core::simd::{detect, levels, name};
use frolic::diagnostics::reference::LinearImage;
use frolic::draw::{DrawList, View};
use frolic::drawing::{ListScratch, ListSpec, Surroundings};
use frolic::prelude::*;

use super::{Contender, Median, compare, median};

/// A camera so far away that perspective hardly shows: at the origin a pixel of a picture of 1280x800 is 1 cm.
pub(crate) fn far_view() -> View {
    far_camera().view(ImageSize::default()).unwrap()
}

/// Its camera.
pub(crate) fn far_camera() -> CameraSpec {
    let distance = 4.0 / (0.5f32.to_radians()).tan();
    CameraSpec::new([0.0, 0.0, distance], [0.0; 3], 1.0)
}

/// A column of random numbers.
pub(crate) fn column(count: u32, which: u32, from: f32, to: f32) -> Vec<f32> {
    (0..count).map(|id| from + (to - from) * Draws { seed: 7, id }.draw(which)[0]).collect()
}

/// Says what the benches run on.
pub(crate) fn print_machine() {
    println!("instruction set {}, {} threads", name(detect()), Threads::current());
}

/// The medians of drawing `instances`: by tiles, by the same tiles with the narrowest instruction set, and by `plain`, one
/// element after the other up to linear light on one thread (its exact eight bits would flatter us).
pub(crate) fn compare_drawing<'a>(
    title: &str,
    instances: &Instances<'a>,
    look: &'a Look,
    view: &View,
    plain: impl Fn(&DrawList<'_>, &mut LinearImage),
) -> Vec<Median> {
    let backdrop = BackdropSpec::default();
    let around = Surroundings::new(&backdrop);
    let [mut wide, mut narrow, mut scalar] = [(); 3].map(|()| ListScratch::default());
    let (mut renderer, mut narrow_renderer) =
        (Renderer::new(), Renderer::tuned([6, 6], 128, levels().first().copied().unwrap_or(detect())));
    let [mut image, mut narrow_image] = [(); 2].map(|()| Image::new(view.size()));
    let (mut meter, mut frames) = (Meter::new(), Vec::new());
    let list_spec = ListSpec::default();
    let contenders = vec![
        Contender::new("tiles", || {
            meter.begin_frame();
            let list = wide.list([(*instances, look)], &list_spec, view, &around, &mut meter);
            renderer.render(&list, view, &backdrop, &mut image, &mut meter);
            frames.push(meter.end_frame());
        }),
        Contender::new("tiles, narrowest instruction set", || {
            let mut meter = Meter::new();
            let list = narrow.list([(*instances, look)], &list_spec, view, &around, &mut meter);
            narrow_renderer.render(&list, view, &backdrop, &mut narrow_image, &mut meter);
        }),
        Contender::new("plain scalar form, one thread", || {
            let mut meter = Meter::new();
            let list = scalar.list([(*instances, look)], &list_spec, view, &around, &mut meter);
            let mut linear = LinearImage::new(view.size(), [0.1; 3]);
            plain(&list, &mut linear);
            std::hint::black_box(&linear);
        }),
    ];
    let medians = compare(title, instances.len(), 9, contenders);
    let stages = [Stage::Sort, Stage::Project, Stage::Raster, Stage::Resolve].map(|stage| {
        let mut times: Vec<f64> = frames.iter().map(|frame| frame.stage(stage).as_secs_f64() * 1e3).collect();
        format!("{} {:.1}", stage.name(), median(&mut times))
    });
    let last = &frames[frames.len() - 1];
    println!("  stages of the first, wall ms: {}", stages.join(", "));
    println!(
        "  {} drawn, {} culled, {} triangles, {:.0} records a thousand elements",
        last.count(Counter::Instances),
        last.count(Counter::Culled),
        last.count(Counter::Triangles),
        last.count(Counter::BinRecords) as f64 * 1e3 / instances.len() as f64
    );
    medians
}
