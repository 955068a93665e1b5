//! `frolic check`: is this a scene, and what is in it?

use frolic::prelude::*;
use serde::Serialize;

use super::{CommandError, Outcome, choose};
use crate::args;
use crate::output::{say, say_json};

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
    Scene::new(&spec)?;
    let each = Particles::bytes_per_element(spec.storage);
    let populations: Vec<Population> = spec
        .population
        .iter()
        .map(|population| Population {
            name: population.name.clone(),
            count: population.count,
            per_second: population.emitter.iter().map(|emitter| emitter.rate).sum(),
            burst: population
                .emitter
                .iter()
                .filter_map(|emitter| emitter.burst)
                .map(|burst| burst.count)
                .sum(),
            memory_bytes: u64::from(population.count) * each,
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
        let burst = if *burst > 0 { format!(", {burst} in bursts") } else { String::new() };
        let kib = memory_bytes >> 10;
        say(&format!("  {name:12} up to {count} alive, {per_second} a second{burst}, {kib} KiB"));
    }
    Ok(Outcome::Done)
}
