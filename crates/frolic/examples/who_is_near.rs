//! Neighbours without a family: pebbles near a point, the nearest of them, and pairs that touch.
//!
//! `cargo run --release -p frolic --example who_is_near [COUNT]`

use std::time::Instant;

use frolic::core::neighbours::{NeighbourSpec, NeighbourTechnique, Neighbours, Others};
use frolic::core::random::{hash3, unit};
use frolic::prelude::*;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let count: u32 = std::env::args().nth(1).map_or(Ok(100_000), |count| count.parse())?;
    // Pebbles on a beach, some 30 within a quarter of a metre of each.
    let side = (count as f32 * 0.0065).sqrt();
    let along =
        |axis: usize| (0..count).map(move |nth| unit(hash3(nth, 1, 2)[axis]) * side).collect::<Vec<_>>();
    let (x, y, z) = (along(0), vec![0.0; count as usize], along(2));

    let spec = NeighbourSpec::new(0.25).flat();
    let (mut near, mut meter) = (Neighbours::new(&spec)?, Meter::new());
    meter.begin_frame();
    near.find(&[[&x, &y, &z]], &mut meter)?;

    let middle = [side * 0.5, 0.0, side * 0.5];
    println!(
        "{} of {count} pebbles lie within 0.25 m of the middle of the beach",
        near.within(middle, 0.25).count()
    );
    let mut nearest = Vec::new();
    near.nearest(middle, 0.25, 3, &mut nearest);
    for other in &nearest {
        println!("  pebble {} is {:.3} m away", other.index, other.distance());
    }
    println!("{} pairs are less than a centimetre apart", near.pairs(0.01).count());

    // A value for each pebble, on all cores: how many lie around it.
    let (mut around, mut scratch) = (Vec::new(), Vec::new());
    let crowd = |_: usize, _: [f32; 3], others: &mut Others<'_>| {
        let mut crowd = 0u32;
        others.visit(|_| crowd += 1);
        crowd
    };
    near.each(0, 0.25, crowd, &mut around, &mut scratch, &mut meter)?;
    let frame = meter.end_frame();
    let (least, most) = (around.iter().min().unwrap_or(&0), around.iter().max().unwrap_or(&0));
    println!("around a pebble lie {least} to {most} others");
    println!(
        "stage neighbours: {:.2} ms; {} pairs tested, {} near; fullest cell {}, {} cells in use, {:.1} MB",
        frame.stage(Stage::Neighbours).as_secs_f64() * 1e3,
        frame.count(Counter::PairsTested),
        frame.count(Counter::PairsNear),
        frame.count(Counter::FullestCell),
        frame.count(Counter::CellsUsed),
        frame.count(Counter::NeighbourBytes) as f64 * 1e-6
    );

    // The classic way gives the same numbers, after testing all pairs: for few pebbles, as it takes long.
    let few = count.min(5_000) as usize;
    let few = [&x[..few], &y[..few], &z[..few]];
    let mut compared = Vec::new();
    for technique in NeighbourTechnique::ALL {
        let mut near = Neighbours::new(&spec.technique(technique))?;
        let started = Instant::now();
        near.find(&[few], &mut meter)?;
        near.each(0, 0.25, crowd, &mut around, &mut scratch, &mut meter)?;
        println!(
            "{technique:?} of {} pebbles: {:.2} ms",
            few[0].len(),
            started.elapsed().as_secs_f64() * 1e3
        );
        compared.push(around.clone());
    }
    assert_eq!(compared[0], compared[1]);
    Ok(())
}
