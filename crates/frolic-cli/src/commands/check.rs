//! `frolic check`: checks a scene and lists its contents.

use frolic::prelude::*;
use serde::Serialize;

use super::{CommandError, Outcome, choose};
use crate::args;
use crate::output::{bytes, say, say_json};

#[derive(Debug, Serialize)]
struct Checked {
    title: String,
    memory_bytes: u64,
    populations: Vec<Population>,
}

#[derive(Debug, Serialize)]
struct Population {
    name: String,
    count: u32,
    per_second: f32,
    burst: u32,
    memory_bytes: u64,
}

pub(super) fn run(args: &args::Check) -> Result<Outcome, CommandError> {
    let spec = choose(&args.chosen)?;
    // Building it reserves all memory, which is the rest of the check.
    let scene = Scene::new(&spec)?;
    let populations: Vec<Population> = spec
        .population
        .iter()
        .map(|population| Population {
            name: population.name.clone(),
            count: population.count,
            // A sum of no floats is -0.
            per_second: population.emitter.iter().map(|emitter| emitter.rate).sum::<f32>() + 0.0,
            burst: population
                .emitter
                .iter()
                .filter_map(|emitter| emitter.burst)
                .map(|burst| burst.count)
                .sum(),
            memory_bytes: scene.bytes(&population.name).unwrap_or_default(),
        })
        .collect();
    let memory_bytes = populations.iter().map(|population| population.memory_bytes).sum();
    let checked = Checked { title: spec.title.clone(), memory_bytes, populations };
    if args.json {
        say_json(&checked);
        return Ok(Outcome::Done);
    }
    say(&format!("{}: good. {}", args.chosen.scene, checked.title));
    for population in &checked.populations {
        let Population { name, count, per_second, burst, memory_bytes } = population;
        let rate = if *per_second > 0.0 { format!(", {per_second} a second") } else { String::new() };
        let burst = if *burst > 0 { format!(", {burst} in bursts") } else { String::new() };
        let memory = bytes(*memory_bytes);
        say(&format!("  {name:12} up to {count} alive{rate}{burst}, {memory}"));
    }
    Ok(Outcome::Done)
}
