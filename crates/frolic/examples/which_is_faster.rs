//! Which of two ways is faster, answered so that it holds: they take turns, who draws another picture is not called faster, and a difference
//! counts only where its interval leaves none out. The second way is there twice: what is called a change between the two is noise.
//!
//! `cargo run --release -p frolic --example which_is_faster [FOLDER] [SECONDS]` prints what came of it and, given FOLDER, writes the report
//! there. It takes SECONDS, 15 if not given.

use std::time::Duration;

use frolic::prelude::*;
use frolic::profile::{Verdict, compare_variants};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let scene = SceneSpec::find("beacon")?.set("draw.size", "[640, 400]")?;
    let mut plan = Plan::default();
    plan.counts = "20k,100k".parse()?;
    plan.vary = vec!["draw.technique=each,instanced,instanced".parse()?];
    let seconds = std::env::args().nth(2).map_or(Ok(15), |text| text.parse())?;
    plan.time = Some(Duration::from_secs(seconds));
    let profile = sweep("beacon", &scene, &plan, None, |_| true)?;
    println!("{}\n", profile.table());

    match profile.other_picture() {
        Some(other) => println!("no answer: {} draws another picture", other.variant),
        None => {
            println!("from each to instanced:");
            let comparison = compare_variants(&profile, 0, 1)?;
            comparison.lines().iter().for_each(|line| println!("{line}"));
            for frame in comparison.changes.iter().filter(|change| change.stage.is_none()) {
                let answer = match frame.verdict {
                    Verdict::Faster => format!("instanced is faster, {:.1} times", 1.0 / frame.ratio),
                    Verdict::Slower => format!("instanced is slower, {:.1} times", frame.ratio),
                    _ => "no difference is sure".to_owned(),
                };
                println!("at {} embers: {answer}", frame.count);
            }
        }
    }

    println!("\nthe same way twice:");
    let comparison = compare_variants(&profile, 1, 2)?;
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
