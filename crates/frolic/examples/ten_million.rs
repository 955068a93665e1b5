//! Ten million things that grow, four bytes each: those in view every frame, the others in turns, and no one can tell.
//!
//! `cargo run --release -p frolic --example ten_million [COUNT]` prints what it did.

use std::time::Instant;

use frolic::growing::Growing;
use frolic::particles::Region;
use frolic::prelude::*;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let count = std::env::args().nth(1).map_or(Ok(10_000_000), |text| text.parse())?;
    let patch = PlacementSpec::default().area(AreaSpec::new([0.0; 2], [2.0, 2.0]));
    let beds = PlacementSpec::new(On::Ground(PatternSpec::Grid {
        spacing: [0.0; 2],
        jitter: 0.2,
        turn_degrees: 0.0,
    }))
    .area(AreaSpec::new([0.0; 2], [400.0, 400.0]));
    let mut spec = GrowSpec::new(patch, 1_000, beds).seconds(60.0, 240.0);
    spec.rotation = 32;
    let mut all = Growing::new(&spec, count, Span::new(0.02, 0.05), 9)?;
    println!("{} elements in {} bytes", all.len(), all.bytes());

    // One in twenty is near enough to be seen.
    all.update_visibility(|[x, _, z], _| x.abs() < 45.0 && z.abs() < 45.0);
    let mut meter = Meter::new();
    let started = Instant::now();
    let mut worked = 0;
    for _ in 0..120 {
        meter.begin_frame();
        all.step(1.0 / 60.0, 1, &mut meter);
        all.show(&mut meter);
        worked += meter.end_frame().count(Counter::Grown);
    }
    let each = started.elapsed().as_secs_f64() * 1e3 / 120.0;
    println!(
        "{} in view; {} worked on a step; {each:.2} ms a frame to grow and gather",
        all.shown().len(),
        worked / 120
    );

    // What was out of view has grown all the same.
    let (near, far) = (all.growth(all.len() / 2), all.growth(0));
    println!("grown by now: {near:.4?} in the middle, {far:.4?} in the corner");
    let middle = Region::Sphere { position: [0.0; 3], radius: 20.0 };
    println!("{} harvested and sown anew", all.harvest(&middle, 0.0, true));
    Ok(())
}
