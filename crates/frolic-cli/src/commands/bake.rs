//! `frolic bake`: a distance grid from a mesh, and a look at it.

use std::path::PathBuf;
use std::time::Instant;

use frolic::assets::{BakeSpec, read_mesh, write_grid};
use frolic::diagnostics::preview;
use frolic::prelude::*;
use serde::Serialize;

use super::{CommandError, Outcome, short_name};
use crate::args;
use crate::output::{bytes, ms, say, say_json};

/// Output of `--json`.
#[derive(Debug, Serialize)]
struct Baked {
    mesh: String,
    triangles: usize,
    grid: String,
    picture: Option<String>,
    points: [usize; 3],
    cell: f32,
    low: [f32; 3],
    high: [f32; 3],
    area: f32,
    volume: f32,
    bytes: u64,
    bake_ms: f64,
}

pub(super) fn run(args: &args::Bake) -> Result<Outcome, CommandError> {
    let surface = read_mesh(&args.mesh)?;
    let mut spec = BakeSpec::new(args.points);
    spec.margin = args.margin;
    let started = Instant::now();
    let grid = spec.bake(&surface)?;
    let took = started.elapsed();
    if grid.volume() <= 0.0 {
        let problem = format!(
            "{}: the grid has no point inside the mesh; give a closed mesh, or more --points for a thin one",
            args.mesh.display()
        );
        return Err(CommandError::Usage(problem));
    }
    let path = args
        .output
        .clone()
        .unwrap_or_else(|| PathBuf::from(format!("{}.dgrid", short_name(&args.mesh.to_string_lossy()))));
    write_grid(&path, &grid)?;
    let picture = (!args.no_picture).then(|| path.with_extension("png"));
    if let Some(picture) = &picture {
        write_png(picture, &preview(&grid, args.size.unwrap_or_default()))?;
    }
    let [low, high] = grid.bounds().map(|corner| corner.to_array());
    let baked = Baked {
        mesh: args.mesh.display().to_string(),
        triangles: surface.triangles().len(),
        grid: path.display().to_string(),
        picture: picture.map(|picture| picture.display().to_string()),
        points: grid.points(),
        cell: grid.cell(),
        low,
        high,
        area: surface.area(),
        volume: grid.volume(),
        bytes: grid.values().len() as u64 * 4,
        bake_ms: took.as_secs_f64() * 1e3,
    };
    if args.json {
        say_json(&baked);
        return Ok(Outcome::Done);
    }
    let [nx, ny, nz] = baked.points;
    say(&format!(
        "{}: {nx} x {ny} x {nz} points, {:.4} m apart, {}",
        baked.grid,
        baked.cell,
        bytes(baked.bytes)
    ));
    say(&format!(
        "  {} triangles, {:.3} m² around {:.4} m³, baked in {}",
        baked.triangles,
        baked.area,
        baked.volume,
        ms(took)
    ));
    let corner = |[x, y, z]: [f32; 3]| format!("({x:.3}, {y:.3}, {z:.3})");
    say(&format!("  from {} to {} m", corner(low), corner(high)));
    if let Some(picture) = &baked.picture {
        say(&format!("{picture}: a view, and slices through the middle square to x, y and z"));
    }
    Ok(Outcome::Done)
}
