//! Which of two ways is faster, answered so that it holds: both take turns, whoever draws another picture is not called faster, and a difference
//! counts only where its interval leaves none out. Then the same question to two runs of one and the same way, which must find nothing.
//!
//! `cargo run --release -p frolic --example which_is_faster [FOLDER]` prints what came of it and, given FOLDER, writes the report there.

use std::time::Duration;

use frolic::prelude::*;
use frolic::profile::{CompareSpec, Verdict, compare};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let scene = SceneSpec::find("beacon")?.set("draw.size", "[640, 400]")?;
    let mut plan = Plan::default();
    plan.counts = "20k,100k".parse()?;
    plan.vary = vec!["draw.technique=each,instanced".parse()?];
    plan.time = Some(Duration::from_secs(10));
    let profile = sweep("beacon", &scene, &plan, None, |_| true)?;
    println!("{}\n", profile.table());

    match profile.other_picture() {
        Some(other) => println!("no answer: {} draws another picture", other.variant),
        None => {
            let [each, instanced] = &profile.variants[..] else { unreachable!("two values were varied") };
            for (slow, fast) in each.points.iter().zip(&instanced.points) {
                let (a, b) = (slow.frame, fast.frame);
                let answer = if b.interval.high < a.interval.low {
                    format!("instanced is faster, {:.1} times", a.median / b.median)
                } else {
                    "no difference is sure".to_owned()
                };
                println!("at {} embers: {answer}", slow.count);
            }
        }
    }

    // The same way twice: what differs is noise, and must not be called a change.
    plan.counts = "20k".parse()?;
    plan.vary = vec!["draw.technique=instanced".parse()?];
    plan.time = Some(Duration::from_secs(5));
    let [before, after] = [(); 2].map(|()| sweep("beacon", &scene, &plan, None, |_| true));
    let mut how = CompareSpec::default();
    // The machine may have slowed down between them; each round is divided by its pace.
    how.undrift = true;
    let comparison = compare(&before?, &after?, &how)?;
    println!("\nthe same way twice:");
    comparison.lines().iter().for_each(|line| println!("{line}"));
    let called = comparison.changes.iter().filter(|change| change.verdict != Verdict::NoDifference).count();
    println!("{called} of {} called a change", comparison.changes.len());

    if let Some(folder) = std::env::args().nth(1) {
        for path in write_profile(&profile, folder)? {
            println!("wrote {}", path.display());
        }
    }
    Ok(())
}
