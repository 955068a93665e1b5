//! Two scoops and a boat pick up what falls: exact counts a step, and which element went where.
//!
//! `cargo run --release -p frolic --example count_the_catch` prints what each has caught, second by second.

use std::collections::HashSet;

use frolic::prelude::*;
use frolic::world::{PathEnds, PathSpec};

fn main() -> Result<(), SpecError> {
    // Two scoops swing to and fro; the boat goes back and forth below, and pulls what comes near.
    let swing = |x: f32| PathSpec::new([[0.0; 3], [x, 0.0, 0.0]], 1.5).ends(PathEnds::Return);
    let world = WorldSpec::default()
        .collector(CollectorSpec::new([-2.0, 2.0, 0.0], 0.4).path(swing(3.0)))
        .collector(CollectorSpec::new([2.0, 1.5, 0.0], 0.4).path(swing(-3.0)))
        .collector(CollectorSpec::new([-3.0, 0.3, 0.0], 0.6).path(swing(6.0)).pulling(30.0, 1.5))
        .build()?;
    let rain = ParticleSpec::new(20_000)
        .life(1.4, 1.6)
        .motion(0.1, 1.0)
        .emitter(
            EmitterSpec::rate(6_000.0)
                .position([0.0, 4.0, 0.0])
                .shape(ShapeSpec::Box { size: [6.0, 0.2, 0.6] }),
        )
        // Noted one by one, as we want to know who it was.
        .event(EventSpec::note(Moment::Caught));
    let mut drops = Particles::new(&rain, 9)?;

    let mut meter = Meter::new();
    let mut totals = [0u64; 3];
    let mut seen = HashSet::new();
    println!("second   first scoop   second scoop   boat   alive");
    for second in 1..=5 {
        for _ in 0..60 {
            drops.step(&world, 1.0 / 60.0, 1, &mut meter);
            totals.iter_mut().zip(drops.caught()).for_each(|(total, now)| *total += now);
            for caught in drops.happened() {
                assert!(seen.insert(caught.element.id), "nobody is caught twice");
            }
        }
        println!("{second:6} {:13} {:14} {:6} {:7}", totals[0], totals[1], totals[2], drops.len());
    }
    println!("{} caught in all, each once", seen.len());
    assert_eq!(seen.len() as u64, totals.iter().sum::<u64>());
    Ok(())
}
