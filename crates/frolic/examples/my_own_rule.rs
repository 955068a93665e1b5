//! A rule of one's own over neighbours: sheep keep together on a meadow and go where those around them go, written with the organ for neighbours alone.
//!
//! `cargo run --release -p frolic --example my_own_rule [COUNT] [SECONDS]`

use frolic::core::neighbours::{NeighbourSpec, Neighbours, Others};
use frolic::core::random::{hash3, unit};
use frolic::prelude::*;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut words = std::env::args().skip(1);
    let count: u32 = words.next().map_or(Ok(20_000), |word| word.parse())?;
    let seconds: u32 = words.next().map_or(Ok(20), |word| word.parse())?;
    // A meadow of two square metres for each, which begins again at its edges.
    let meadow = (count as f32 * 2.0).sqrt();
    let random = |axis: usize| (0..count).map(move |nth| unit(hash3(nth, 8, 1)[axis])).collect::<Vec<_>>();
    let [mut x, mut z] = [0, 2].map(|axis| random(axis).iter().map(|it| it * meadow).collect::<Vec<f32>>());
    let (y, mut heading) = (
        vec![0.0; count as usize],
        random(1).iter().map(|it| it * std::f32::consts::TAU).collect::<Vec<f32>>(),
    );
    let mut near = Neighbours::new(&NeighbourSpec::new(2.5).flat().wrapping([0.0; 3], [meadow; 3]))?;
    let (mut wanted, mut scratch, mut meter) = (Vec::new(), Vec::new(), Meter::new());
    for second in 0..=seconds {
        let order = heading.iter().fold([0.0; 2], |[s, c], it| [s + it.sin(), c + it.cos()]);
        let order = order[0].hypot(order[1]) / count as f32;
        // 0: each goes its own way; 1: all go the same way.
        println!("{second:3} s: order {order:.2}");
        for _ in 0..10 {
            near.find(&[[&x, &y, &z]], &mut meter)?;
            // The rule: towards those around, away from those too near, and the way they go.
            let rule = |own: usize, _: [f32; 3], others: &mut Others<'_>| {
                let (sin, cos) = heading[own].sin_cos();
                let mut way = [sin, cos];
                others.visit(|other| {
                    let pull = if other.square < 1.0 { -1.5 } else { 0.1 };
                    let (sin, cos) = heading[other.index].sin_cos();
                    way = [way[0] + other.offset[0] * pull + sin, way[1] + other.offset[2] * pull + cos];
                });
                way[0].atan2(way[1])
            };
            near.each(0, 2.5, rule, &mut wanted, &mut scratch, &mut meter)?;
            for nth in 0..count as usize {
                // A quarter of the way to where they want to go, at 1.2 m/s, in steps of a tenth of a second.
                let turn = (wanted[nth] - heading[nth]).sin() * 0.25;
                heading[nth] += turn + (unit(hash3(nth as u32, second, 5)[0]) - 0.5) * 0.1;
                let (sin, cos) = heading[nth].sin_cos();
                x[nth] = (x[nth] + sin * 0.12).rem_euclid(meadow);
                z[nth] = (z[nth] + cos * 0.12).rem_euclid(meadow);
            }
        }
    }
    Ok(())
}
