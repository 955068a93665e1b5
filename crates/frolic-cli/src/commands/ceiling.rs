//! `frolic ceiling`: how many can be afforded.

use std::path::Path;

use comfy_table::{Cell, CellAlignment};
use frolic::prelude::*;
use frolic::profile::{Ceiling, CeilingPlan, Chart, ceilings};
use frolic::scene::write_beside;

use super::{
    CommandError, Outcome, choose, drawn_by, has_ending, heed_interrupts, interrupted, seconds, short_name,
    usable,
};
use crate::args;
use crate::output::{self, progress, say, say_json};

pub(super) fn run(args: &args::CeilingArgs) -> Result<Outcome, CommandError> {
    heed_interrupts();
    let mut spec = choose(&args.chosen)?;
    drawn_by(&mut spec, &args.drawing);
    let (mut plan, mut search) = (Plan::default(), CeilingPlan::default());
    plan.vary.clone_from(&args.vary);
    plan.counts = "1".parse()?;
    (search.budget, search.within) = (args.budget, args.within);
    search.time = seconds("--time", args.time)?;
    let name = short_name(&args.chosen.scene);
    if let Some(path) = &args.chart {
        if !(has_ending(path, "svg") || has_ending(path, "png")) {
            return Err(CommandError::Usage(format!("--chart {}: name a .png or a .svg", path.display())));
        }
        usable(path.parent().unwrap_or(Path::new("")))?;
    }
    let bar = progress(0, "searching");
    let found = ceilings(&name, &spec, &plan, &search, |variant, count| {
        bar.set_message(format!("{variant} at {count}"));
        bar.inc(1);
        !interrupted()
    })?;
    bar.finish_and_clear();
    let population = spec.climbing().map_or("elements", |population| population.name.as_str());
    if let Some(path) = &args.chart {
        let chart = Chart::ceilings(&name, population, &found);
        let bytes = if has_ending(path, "svg") { chart.svg()?.into_bytes() } else { chart.png()? };
        write_beside(path, |file| file.write_all(&bytes))?;
    }
    if args.json {
        say_json(&found);
    } else {
        say(&table(&found, population));
        if let Some(path) = &args.chart {
            say(&format!("\n{}", path.display()));
        }
    }
    Ok(if interrupted() { Outcome::Interrupted } else { Outcome::Done })
}

/// A line a variant, the largest first.
fn table(found: &[Ceiling], population: &str) -> String {
    let mut table = output::table(&["variant", population, "from", "to", "runs", ""]);
    let mut sorted: Vec<&Ceiling> = found.iter().collect();
    sorted.sort_by_key(|ceiling| std::cmp::Reverse(ceiling.count));
    for ceiling in sorted {
        let right = |text: String| Cell::new(text).set_alignment(CellAlignment::Right);
        let remark = ceiling.remark.clone().unwrap_or_default();
        table.add_row([
            Cell::new(&ceiling.variant),
            right(ceiling.count.to_string()),
            right(format!("{:.0}", ceiling.interval.low)),
            // Nothing bounds it from above.
            right(match ceiling.interval.high {
                high if high >= f64::from(u32::MAX) => "-".to_owned(),
                high => format!("{high:.0}"),
            }),
            right(ceiling.tried.len().to_string()),
            Cell::new(remark),
        ]);
    }
    let lines: Vec<String> = table.lines().map(|line| line.trim_end().to_owned()).collect();
    let budget = found.first().map_or(0.0, |ceiling| ceiling.budget_ms);
    format!("95 of 100 frames fit {budget:.3} ms up to\n\n{}", lines.join("\n"))
}
