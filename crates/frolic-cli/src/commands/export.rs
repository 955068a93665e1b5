//! `frolic export`: where the elements of a population are, as a file that other programs read.

use frolic::assets::write_places;
use frolic::core::listed;
use frolic::prelude::*;
use serde::Serialize;

use super::{CommandError, Outcome, choose, heed_interrupts, interrupted, run_to, short_name};
use crate::args;
use crate::output::{bytes, say, say_json};

/// Output of `--json`.
#[derive(Debug, Serialize)]
struct Exported {
    scene: String,
    population: String,
    file: String,
    elements: usize,
    triangles_each: usize,
    at: f32,
    bytes: u64,
}

pub(super) fn run(args: &args::Export) -> Result<Outcome, CommandError> {
    heed_interrupts();
    let mut spec = choose(&args.chosen)?;
    if let Some(at) = args.at {
        spec.draw.at = at;
    }
    spec.check()?;
    let name = match &args.population {
        Some(name) => name.clone(),
        None => {
            let first = spec.climbing().map(|population| population.name.clone());
            first.ok_or_else(|| CommandError::Usage("the scene has no population to export".to_owned()))?
        }
    };
    if !spec.population.iter().any(|population| population.name == name) {
        let names = spec.population.iter().map(|population| population.name.as_str());
        let problem = format!("there is no population '{name}'; name one of: {}", listed(names));
        return Err(CommandError::Usage(problem));
    }
    let scene_name = short_name(&args.chosen.scene);
    let path = args.output.clone().unwrap_or_else(|| format!("{scene_name}.glb").into());
    let mut scene = Scene::new(&spec)?;
    if !run_to(&mut scene, f64::from(spec.draw.at), &mut Meter::new()) || interrupted() {
        return Ok(Outcome::Interrupted);
    }
    let Some((places, mesh)) = scene.snapshot(&name) else {
        let problem = format!("'{name}' lives on the graphics device; write --set residence=cpu");
        return Err(CommandError::Usage(problem));
    };
    write_places(&path, &places, &mesh)?;
    let exported = Exported {
        scene: scene_name,
        population: name,
        file: path.display().to_string(),
        elements: places.elements.len(),
        triangles_each: mesh.triangles().len(),
        at: spec.draw.at,
        bytes: std::fs::metadata(&path).map_or(0, |data| data.len()),
    };
    if args.json {
        say_json(&exported);
    } else {
        say(&format!(
            "{}: {} of {} at {} s, {}",
            exported.file,
            exported.elements,
            exported.population,
            exported.at,
            bytes(exported.bytes)
        ));
    }
    Ok(Outcome::Done)
}
