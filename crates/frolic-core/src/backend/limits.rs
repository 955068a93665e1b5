//! Limits of a population on a device, and why one cannot run there.

use crate::assets::Assets;
use crate::families::particles::{EmitterSpec, ParticleSpec};
use crate::placement::{AimSpec, ShapeSpec};
use crate::world::World;
use crate::world::events::EventSpec;
use crate::world::fields::spec::FieldKind;

use super::colliders::{GRID_ROW, GRID_ROWS, grids, obstacles};
use super::fields::{MOST_CURLS, MOST_FIELDS, OwnFields};

/// Most events of a device-resident population.
pub const MOST_EVENTS: usize = 8;

/// Most elements of one with events, or started by events.
pub const MOST_LINKED: u32 = 8_000_000;

/// Most positions that its trails keep, with three more for each element.
pub const MOST_KEPT: u64 = 10_000_000;

/// Most obstacles and field shapes together, and most collectors.
pub const MOST_SOLID: usize = 16;

/// Most elements of a population whose emitters are not all [simple](is_simple).
pub const MOST_WRITTEN: u32 = 2_500_000;

/// Returns why this population cannot run on the device, if it cannot. `assets` are those that its fields name.
pub fn why_not_on_device(spec: &ParticleSpec, world: &World, assets: &Assets) -> Option<String> {
    let why = |what: &str| Some(what.to_owned());
    if spec.event.len() > MOST_EVENTS {
        return why("it has over 8 events");
    }
    if let Some(reason) = spec.event.iter().find_map(why_event_not_on_device) {
        return Some(format!("its events {reason}"));
    }
    if !spec.event.is_empty() && spec.count > MOST_LINKED {
        return why("it has events and over 8 000 000 elements");
    }
    if spec.trail.is_some_and(|trail| u64::from(spec.count) * u64::from(trail.places + 3) > MOST_KEPT) {
        return why("its trails keep over 10 million points");
    }
    if spec.apart.is_some() && spec.count > super::MOST_APART {
        return why("its elements keep apart, and they are over 2 000 000");
    }
    if has_own_fields(world) {
        return why("fields of the caller's own act on it");
    }
    let fields = || world.spec().field.iter().chain(&spec.field);
    if fields().count() + world.pulls_at(0.0).count() > MOST_FIELDS {
        return why("over 16 fields and attractors act on it");
    }
    if fields().filter(|field| matches!(field.kind, FieldKind::Curl(_))).count() > MOST_CURLS {
        return why("over 2 fields of curl noise act on it");
    }
    let shapes = || fields().filter(|field| matches!(field.kind, FieldKind::Shape(_))).count();
    if obstacles(world) + shapes() > MOST_SOLID {
        return why("there are over 16 obstacles and shapes");
    }
    if world.collectors().len() > MOST_SOLID {
        return why("the world has over 16 collectors");
    }
    if spec.count > MOST_WRITTEN && !spec.emitter.iter().all(is_simple) {
        return why(
            "its emitters place elements on assets or aim evenly, and it has over 2 500 000 elements",
        );
    }
    // Building the population reports a missing asset.
    let own = OwnFields::new(spec, assets).ok()?;
    if grids(world, &own).map(|grid| grid.len().div_ceil(GRID_ROW)).sum::<usize>() > GRID_ROWS {
        return why("its distance grids have over 16 million points");
    }
    None
}

/// Returns whether the world has fields written by the program, which no device can run.
pub fn has_own_fields(world: &World) -> bool {
    !world.own_fields().is_empty()
}

/// Returns the same for named populations whose events may start elements of each other: populations joined by events run in one place.
pub fn why_not_on_device_all(
    populations: &[(&str, &ParticleSpec)],
    world: &World,
    assets: &Assets,
) -> Vec<Option<String>> {
    let mut why: Vec<Option<(usize, String)>> = populations
        .iter()
        .enumerate()
        .map(|(nth, (_, spec))| why_not_on_device(spec, world, assets).map(|reason| (nth, reason)))
        .collect();
    let mut joined = Vec::new();
    for (from, (name, spec)) in populations.iter().enumerate() {
        let starts = |event: &EventSpec| {
            populations.iter().position(|(other, _)| event.start.as_deref() == Some(*other))
        };
        for to in spec.event.iter().filter_map(starts) {
            let started = populations[to].1;
            joined.push([from, to]);
            if started.count > MOST_LINKED {
                let reason = format!("events of '{name}' start its elements, and it has over 8 000 000");
                why[to].get_or_insert((to, reason));
            }
            // Their draws go by their numbers, which depend on what has been started.
            if !started.emitter.iter().all(is_simple) {
                let reason = format!(
                    "events of '{name}' start its elements, and its emitters start from assets, or aim evenly"
                );
                why[to].get_or_insert((to, reason));
            }
        }
    }
    // One round for each population reaches all that are joined.
    for _ in populations {
        for &[a, b] in &joined {
            let both = why[a].clone().or_else(|| why[b].clone());
            for end in [a, b] {
                if why[end].is_none() {
                    why[end].clone_from(&both);
                }
            }
        }
    }
    let text = |(nth, why): (usize, Option<(usize, String)>)| {
        why.map(|(of, reason)| {
            let name = populations[of].0;
            if of == nth { reason } else { format!("events link it to '{name}', where {reason}") }
        })
    };
    why.into_iter().enumerate().map(text).collect()
}

/// Returns whether the device can start the newborns of an emitter from its [`EmitterAxes`](super::EmitterAxes) and random numbers alone. [`Births::rows`](super::Births::rows) starts
/// all others.
pub fn is_simple(emitter: &EmitterSpec) -> bool {
    is_plain(&emitter.shape, &emitter.aim) && emitter.scatter.is_none()
}

/// Returns why the device cannot run events like this one, if it cannot.
pub fn why_event_not_on_device(event: &EventSpec) -> Option<&'static str> {
    if event.keep_look {
        return Some("hand down looks");
    }
    (!is_plain(&event.shape, &event.aim)).then_some("start elements from assets, evenly or from the surface")
}

/// Returns whether the device can draw positions of a shape and directions of an aim.
fn is_plain(shape: &ShapeSpec, aim: &AimSpec) -> bool {
    let known = matches!(
        shape,
        ShapeSpec::Point
            | ShapeSpec::Disc { .. }
            | ShapeSpec::Sphere { .. }
            | ShapeSpec::SphereSurface { .. }
            | ShapeSpec::Box { .. }
            | ShapeSpec::Line { .. }
            | ShapeSpec::Ring { .. }
    );
    known && !aim.even && !aim.from_surface
}
