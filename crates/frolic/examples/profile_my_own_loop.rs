//! A loop of your own, measured as Frolic measures its scenes: any count, several ways, in rounds, with intervals and growth. Here: does it pay
//! to sort a million points by distance with keys of their own, or to sort the points?
//!
//! `cargo run --release -p frolic --example profile_my_own_loop [FOLDER] [SECONDS]` prints a table and the comparison of both ways at the
//! highest count, and, given FOLDER, writes `profile.json`, `profile.csv`, `frames.svg` and `frames.png` into it. It takes SECONDS, 8 if not given.

use frolic::prelude::*;
use frolic::profile::{Run, Subject, Variant, sweep_subjects};

/// Points, and how they are sorted.
struct Sorting {
    by_keys: bool,
}

/// Points of one count, with a meter: what a frame of the loop needs.
struct Frames<'a> {
    way: &'a Sorting,
    points: Vec<[f32; 3]>,
    sorted: Vec<[f32; 3]>,
    keys: Vec<(u32, u32)>,
    meter: Meter,
    turn: f32,
}

impl Subject for Sorting {
    fn begin(&mut self, count: u32) -> Result<Box<dyn Run + '_>, String> {
        let scattered = |n: u32| {
            let bits = n.wrapping_mul(0x9e37_79b9);
            [bits & 1023, bits >> 10 & 1023, bits >> 20].map(|v| v as f32 * 0.01)
        };
        let points: Vec<_> = (0..count).map(scattered).collect();
        let (sorted, keys) = (points.clone(), Vec::with_capacity(points.len()));
        Ok(Box::new(Frames { way: self, points, sorted, keys, meter: Meter::new(), turn: 0.0 }))
    }
}

impl Run for Frames<'_> {
    fn frame(&mut self) -> Result<Frame, String> {
        let Self { way, points, sorted, keys, meter, turn } = self;
        *turn += 0.3;
        let eye = [turn.cos() * 20.0, 4.0, turn.sin() * 20.0];
        let off = |point: &[f32; 3]| -> f32 { (0..3).map(|k| (point[k] - eye[k]).powi(2)).sum() };
        // Three lines wrap a frame: begin, a stage, end.
        meter.begin_frame();
        let started = meter.start(Stage::Sort);
        if way.by_keys {
            keys.clear();
            keys.extend((0u32..).zip(&*points).map(|(nth, point)| (!off(point).to_bits(), nth)));
            keys.sort_unstable();
            sorted.clear();
            sorted.extend(keys.iter().map(|(_, nth)| points[*nth as usize]));
        } else {
            sorted.clone_from(points);
            sorted.sort_unstable_by(|a, b| off(b).total_cmp(&off(a)));
        }
        meter.stop(started);
        meter.add(Counter::Sorted, sorted.len() as u64);
        meter.add(Counter::Alive, sorted.len() as u64);
        Ok(meter.end_frame())
    }
}

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut plan = Plan::default();
    plan.counts = "1k..200k".parse()?;
    let seconds = std::env::args().nth(2).map_or(Ok(8), |text| text.parse())?;
    plan.time = Some(std::time::Duration::from_secs(seconds));
    let ways = vec![
        Variant::new("points", Sorting { by_keys: false }),
        Variant::new("keys", Sorting { by_keys: true }),
    ];
    let profile = sweep_subjects("sorting", ways, &plan, None, |_| true)?;
    println!("{}", profile.table());

    let [points, keys] = &profile.variants[..] else { unreachable!("two ways were measured") };
    if let (Some(points), Some(keys)) = (points.points.last(), keys.points.last()) {
        let times = points.frame.median / keys.frame.median;
        let apart = points.frame.interval.low > keys.frame.interval.high;
        let sure = if apart { "" } else { ", but their intervals overlap" };
        println!("\nat {} keys take 1/{times:.2} of the time{sure}", points.count);
    }
    if let Some(folder) = std::env::args().nth(1) {
        for path in write_profile(&profile, folder)? {
            println!("wrote {}", path.display());
        }
    }
    Ok(())
}
