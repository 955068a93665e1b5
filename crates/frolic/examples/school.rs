//! A school of fish in a tank: one spec, columns that are stepped, a picture, and what the rules' weights do to its order.
//!
//! `cargo run --release -p frolic --example school [FILE] [COUNT]` prints order, milling and distance to the nearest for a few weights, and draws the last
//! school into FILE (school.png).

use frolic::drawing::{BackdropSpec, ListScratch, ListSpec, Surroundings};
use frolic::flock::{Flock, FlockSpec, Space, TintSpec};
use frolic::looks::{SunSpec, WaveSpec};
use frolic::prelude::*;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut words = std::env::args().skip(1);
    let file = words.next().unwrap_or_else(|| "school.png".into());
    let count: u32 = words.next().map_or(Ok(4_000), |word| word.parse())?;
    let tank = Space::Box { position: [0.0; 3], size: [5.0, 2.4, 3.0] };
    let mut spec = FlockSpec::school(0.1).within(tank).tint_by(TintSpec::Speed);
    spec.start = ShapeSpec::Box { size: [4.0, 2.0, 2.5] };
    println!("  separation  alignment  cohesion    order  milling  nearest");
    let mut last = None;
    for weights in [[2.0, 0.0, 0.0], [2.0, 1.6, 0.0], [0.0, 1.6, 2.0], [2.0, 1.6, 1.0]] {
        [spec.separation.weight, spec.alignment.weight, spec.cohesion.weight] = weights;
        let mut school = Flock::new(&spec, count, Span::new(0.08, 0.12), 7)?;
        let (world, mut meter) = (WorldSpec::default().build()?, Meter::new());
        for _ in 0..300 {
            school.step(&world, &[], 1.0 / 30.0, &mut meter)?;
        }
        let ([a, b, c], gauges) = (weights, school.gauges());
        let (order, milling, nearest) = (gauges.order, gauges.milling, gauges.nearest * 1e3);
        println!("  {a:10.1} {b:10.1} {c:9.1} {order:8.2} {milling:8.2} {nearest:5.0} mm");
        last = Some(school);
    }
    last.map_or(Ok(()), |school| draw(&school, &file))
}

/// Draws the tank from its front.
fn draw(school: &Flock, file: &str) -> Result<(), Box<dyn std::error::Error>> {
    let wave = WaveSpec::default().swing(0.1).speed(0.8);
    let (name, coarse) = ("eel".to_owned(), Some("eel-far".to_owned()));
    let shape = Shape::Mesh { name, coarse, texture: None, wave: Some(wave) };
    let mut look = LookSpec::solid(shape, "#c6d2d2")?;
    // Slow ones are blue, fast ones pale.
    look.tints = ["#3f7fa8", "#d8efe8", "#ffffff"].iter().filter_map(|hex| Colour::hex(hex)).collect();
    (look.gloss, look.hazed, look.two_sided) = (4.0, 1.0, false);
    let look = look.build()?;
    let mut backdrop = BackdropSpec::default();
    let sky = &mut backdrop.sky;
    (sky.zenith, sky.horizon) = (Colour::new(0.03, 0.22, 0.34), Colour::new(0.005, 0.05, 0.10));
    (sky.soft_degrees, sky.haze) = (16.0, 9.0);
    let sun = SunSpec::default().height_degrees(64.0).shadow_map(0);
    let size = ImageSize::new(1280, 800)?;
    // From the front, at the middle of the school.
    let middle = school.columns().position().map(|axis| axis.iter().sum::<f32>() / axis.len().max(1) as f32);
    let eye = [middle[0] - 1.0, middle[1] - 0.5, middle[2] + 3.4];
    let view = CameraSpec::default().position(eye).target(middle).fov_degrees(42.0).view(size)?;
    let (mut tint, mut image, mut meter) = (Vec::new(), Image::new(size), Meter::new());
    let mut poses = school.poses();
    if school.tint(&mut tint) {
        poses.tint = Some(&tint);
    }
    let mut scratch = ListScratch::default();
    let around = Surroundings::new(&backdrop).sun(Some(&sun));
    let instances = [(Instances::posed(poses, 0.0)?, &look)];
    let list = scratch.list(instances, &ListSpec::default(), &view, &around, &mut meter);
    Renderer::new().render(&list, &view, &backdrop, &mut image, &mut meter);
    write_png(file, &image)?;
    println!("wrote {file}");
    Ok(())
}
