//! A school of fish in a tank: one spec, columns that are stepped, a picture, and what the rules' weights do to its order.
//!
//! `cargo run --release -p frolic --example school [FILE] [COUNT]` prints order, milling, distance to the nearest and groups for a few weights, and draws the
//! four schools side by side into FILE (school.png).

use frolic::drawing::{BackdropSpec, ListScratch, ListSpec, Surroundings};
use frolic::flock::{Flock, FlockSpec, Space, TintSpec};
use frolic::looks::{SunSpec, WaveSpec};
use frolic::prelude::*;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut words = std::env::args().skip(1);
    let file = words.next().unwrap_or_else(|| "school.png".into());
    let count: u32 = words.next().map_or(Ok(4_000), |word| word.parse())?;
    let tank = Space::Box { position: [0.0; 3], size: [3.4, 2.0, 2.2] };
    let mut spec = FlockSpec::school(0.1).within(tank).tint_by(TintSpec::Speed);
    spec.start = ShapeSpec::Box { size: [3.2, 1.8, 2.0] };
    println!("  separation  alignment  cohesion    order  milling  nearest  groups");
    let mut sheet = Image::new(ImageSize::new(1280, 800)?);
    sheet.pixels_mut().fill([4, 12, 18, 255]);
    let all = [[2.0, 0.0, 0.0], [2.0, 1.6, 0.0], [0.2, 1.6, 2.0], [2.0, 1.6, 1.0]];
    for (nth, weights) in all.into_iter().enumerate() {
        [spec.separation.weight, spec.alignment.weight, spec.cohesion.weight] = weights;
        let mut school = Flock::new(&spec, count, Span::new(0.08, 0.12), 7)?;
        let (world, mut meter) = (WorldSpec::default().build()?, Meter::new());
        for _ in 0..300 {
            school.step(&world, &[], 1.0 / 30.0, &mut meter)?;
        }
        let ([a, b, c], gauges) = (weights, school.gauges());
        let (order, milling, nearest) = (gauges.order, gauges.milling, gauges.nearest * 1e3);
        let groups = school.groups();
        println!("  {a:10.1} {b:10.1} {c:9.1} {order:8.2} {milling:8.2} {nearest:5.0} mm {groups:7}");
        place(&draw(&school)?, nth, &mut sheet);
    }
    write_png(&file, &sheet)?;
    println!("wrote {file}");
    Ok(())
}

/// Copies a picture to its quarter of a sheet.
fn place(picture: &Image, nth: usize, sheet: &mut Image) {
    let (wide, across) = (picture.size().width(), sheet.size().width());
    let (x, y) = (nth % 2 * (across - wide), nth / 2 * (sheet.size().height() - picture.size().height()));
    let first = y * across + x;
    for (row, pixels) in picture.pixels().chunks_exact(wide).enumerate() {
        sheet.pixels_mut()[first + row * across..][..wide].copy_from_slice(pixels);
    }
}

/// Draws the tank from its front.
fn draw(school: &Flock) -> Result<Image, Box<dyn std::error::Error>> {
    let wave = WaveSpec::default().swing(0.1).speed(0.8);
    let (name, coarse) = ("eel".to_owned(), Some("eel-far".to_owned()));
    let shape = Shape::Mesh { name, coarse, texture: None, wave: Some(wave) };
    let mut look = LookSpec::solid(shape, "#e6eeec")?;
    // Slow ones are blue, fast ones pale.
    look.tints = ["#5fb0cc", "#e4f4ee", "#ffffff"].iter().filter_map(|hex| Colour::hex(hex)).collect();
    (look.gloss, look.hazed, look.two_sided) = (5.0, 0.6, false);
    let look = look.build()?;
    let mut backdrop = BackdropSpec::default();
    let sky = &mut backdrop.sky;
    (sky.zenith, sky.horizon) = (Colour::new(0.02, 0.16, 0.26), Colour::new(0.003, 0.03, 0.07));
    (sky.soft_degrees, sky.haze) = (16.0, 9.0);
    let sun = SunSpec::default().height_degrees(48.0).bearing_degrees(150.0).power(4.0).shadow_map(0);
    let size = ImageSize::new(636, 396)?;
    let view = CameraSpec::new([0.0, 0.2, 3.7], [0.0; 3], 40.0).view(size)?;
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
    Ok(image)
}
