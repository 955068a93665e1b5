//! Pebbles that keep apart: they are tipped out over the ground, roll off each other into a heap, and come to rest. Written with columns and calls alone, as a
//! program with a loop of its own would use them.
//!
//! `cargo run --release -p frolic --example pile_of_pebbles [FILE] [COUNT] [SECONDS]` draws a picture into FILE (pile_of_pebbles.png) and prints, second by
//! second, how many rest, how much they overlap and what a step costs.

use frolic::bodies::{ApartSpec, BodyColumns, BodyRow, Integrator, MotionSpec, PushApart};
use frolic::core::random::{hash3, unit};
use frolic::drawing::{BackdropSpec, GroundSpec, ListScratch, ListSpec, Surroundings};
use frolic::looks::SunSpec;
use frolic::prelude::*;

/// Steps a second.
const RATE: u32 = 60;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut words = std::env::args().skip(1);
    let file = words.next().unwrap_or_else(|| "pile_of_pebbles.png".into());
    let count: u32 = words.next().map_or(Ok(6_000), |word| word.parse())?;
    let seconds: u32 = words.next().map_or(Ok(12), |word| word.parse())?;
    let world = WorldSpec::default()
        .obstacle(ObstacleSpec::plane([0.0; 3], [0.0, 1.0, 0.0]).bounce(0.1, 0.5))
        .build()?;
    let mut pebbles = BodyColumns::default();
    let mut integrator = Integrator::new(&MotionSpec::default())?;
    let mut apart = PushApart::new(&ApartSpec::default().rounds(8).friction(0.7), None)?;
    let mut meter = Meter::new();
    for step in 0..seconds * RATE {
        meter.begin_frame();
        // All are tipped out within two thirds of the time.
        let due = (u64::from(count) * u64::from(step + 1) * 3 / (u64::from(seconds * RATE) * 2))
            .min(u64::from(count));
        for id in pebbles.len() as u32..due as u32 {
            let ([x, z, size], [y, ..]) = (hash3(id, 1, 1).map(unit), hash3(id, 2, 1).map(unit));
            let (px, py, pz) = ((x - 0.5) * 0.5, 2.2 + 0.5 * y, (z - 0.5) * 0.5);
            let size = 0.022 + 0.03 * size * size;
            let life = f32::INFINITY;
            pebbles.push(&BodyRow { px, py, pz, vy: -2.0, size, life, id, key: id, ..BodyRow::default() });
        }
        integrator.step(pebbles.bodies(), &world, 1.0 / RATE as f32, &mut meter)?;
        apart.step(&mut pebbles.bodies(), &world, 1.0 / RATE as f32, &mut meter)?;
        let frame = meter.end_frame();
        if (step + 1) % RATE == 0 {
            let milliseconds = frame.total().as_secs_f64() * 1e3;
            let (overlap, top) = (overlap(&pebbles)?, pebbles.py().iter().fold(0.0f32, |top, y| top.max(*y)));
            println!(
                "{:3} s: {:6} pebbles, {:6} at rest, {:4.1} % mean overlap, {top:.2} m high, {milliseconds:.1} ms",
                (step + 1) / RATE,
                pebbles.len(),
                apart.asleep(),
                overlap * 100.0,
            );
        }
    }
    draw(&pebbles, &file)
}

/// Mean depth of all overlaps over the sum of the two radii.
fn overlap(pebbles: &BodyColumns) -> Result<f32, SpecError> {
    use frolic::core::neighbours::{NeighbourSpec, Neighbours};
    let mut near = Neighbours::new(&NeighbourSpec::new(0.11))?;
    near.find(&[pebbles.position()], &mut Meter::new())?;
    let reach = |a: usize, b: usize| pebbles.size()[a] + pebbles.size()[b];
    let depths = near.pairs(0.11).filter_map(|pair| {
        let reach = reach(pair.index, pair.other.index);
        (pair.other.distance() < reach).then(|| 1.0 - pair.other.distance() / reach)
    });
    let (sum, count) = depths.fold((0.0, 0), |(sum, count), depth| (sum + depth, count + 1));
    Ok(sum / count.max(1) as f32)
}

/// Draws the heap in low sun.
fn draw(pebbles: &BodyColumns, file: &str) -> Result<(), Box<dyn std::error::Error>> {
    let mut look = LookSpec::solid(Shape::mesh("ball"), "#c9c2b4")?;
    look.tints = ["#8d8578", "#b9ae9c", "#6f6a66", "#d8cdb9", "#9a8672"]
        .iter()
        .filter_map(|hex| Colour::hex(hex))
        .collect();
    (look.gloss, look.hazed) = (0.12, 0.3);
    let look = look.build()?;
    let mut backdrop =
        BackdropSpec::default().ground(GroundSpec::default().colour(Colour::new(0.30, 0.26, 0.20)));
    (backdrop.sky.zenith, backdrop.sky.horizon) =
        (Colour::new(0.16, 0.26, 0.42), Colour::new(0.62, 0.56, 0.48));
    let sun =
        SunSpec::default().height_degrees(24.0).bearing_degrees(-60.0).colour(Colour::new(1.0, 0.86, 0.66));
    let size = ImageSize::new(1280, 800)?;
    let camera = CameraSpec::default()
        .position([1.4, 2.3, 5.4])
        .target([0.0, 0.15, 0.3])
        .fov_degrees(34.0)
        .exposure(1.9);
    let (view, mut image, mut meter) = (camera.view(size)?, Image::new(size), Meter::new());
    // Balls are of radius 0.5 at size 1.
    let sizes: Vec<f32> = pebbles.size().iter().map(|size| size * 2.0).collect();
    let instances = Instances::at(pebbles.position())?.sized(&sizes)?.keyed(pebbles.key())?;
    let mut scratch = ListScratch::default();
    let around = Surroundings::new(&backdrop).sun(Some(&sun));
    let list = scratch.list([(instances, &look)], &ListSpec::default(), &view, &around, &mut meter);
    Renderer::new().render(&list, &view, &backdrop, &mut image, &mut meter);
    write_png(file, &image)?;
    println!("wrote {file}");
    Ok(())
}
