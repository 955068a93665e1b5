//! The family of a population, and what a scene asks of it: checks, elements, and whether a device can run it.

use frolic_core::backend::why_not_on_device_all;
use frolic_core::{Assets, ParticleSpec, SpecError, World};
use frolic_draw::LookSpec;

use super::particles::ParticleFamily;
use super::{BuildContext, CheckContext, Elements, FamilySpec, ResidenceContext, list};
use crate::population::PopulationSpec;

// Keys of the families that ship.
macro_rules! keys {
    ($($(#[$doc:meta])* $key:ident: $Spec:ty, $about:literal;)*) => {
        const KEYS: &[&str] = &["particles", $(stringify!($key)),*];

        /// Families that ship, by the key of a population that holds each, with the keys of theirs that are live in a running scene.
        #[cfg(feature = "schema")]
        pub(crate) const LIVE: &[(&str, &[&str])] = &[$((stringify!($key), <$Spec as super::LiveKeys>::LIVE)),*];
    };
}
list!(keys);

/// The family of a checked population.
pub(crate) fn of(population: &PopulationSpec) -> &dyn FamilySpec {
    population.families().next().unwrap_or(&ParticleFamily)
}

/// Builds the elements of a population. Returns them with the number of their events in the set of particles.
pub(crate) fn build(context: &mut BuildContext<'_>) -> Result<(Box<dyn Elements>, usize), SpecError> {
    let population = context.population;
    let elements = of(population).build(context)?;
    if context.joined {
        return Ok((elements, 0));
    }
    let source = context.set.add_source(&population.name, &population.event, context.assets)?;
    Ok((elements, source))
}

/// Returns for each population why it cannot run on the device, if it cannot. Populations whose events start elements of each other run in
/// one place, and so do those that look at each other.
pub(crate) fn why_not_on_device(
    populations: &[PopulationSpec],
    seasonal: &[(ParticleSpec, LookSpec)],
    world: &World,
    assets: &Assets,
) -> Vec<Option<String>> {
    let is_particles = |population: &PopulationSpec| population.families().next().is_none();
    let starts = |population: &PopulationSpec| population.event.iter().any(|event| event.start.is_some());
    if populations.iter().any(|population| !is_particles(population) && starts(population)) {
        return vec![Some("events of families on the CPU start elements".to_owned()); populations.len()];
    }
    let named: Vec<_> = populations
        .iter()
        .zip(seasonal)
        .filter(|(population, _)| is_particles(population))
        .map(|(population, (particles, _))| (population.name.as_str(), particles))
        .collect();
    let mut of_particles = why_not_on_device_all(&named, world, assets).into_iter();
    let mut reasons: Vec<Option<String>> = populations
        .iter()
        .zip(seasonal)
        .map(|(population, (particles, _))| {
            if is_particles(population) {
                return of_particles.next().flatten();
            }
            let size = particles.size;
            let context = ResidenceContext { population, all: populations, size, world, assets };
            of(population).why_not_on_device(&context)
        })
        .collect();
    let before = reasons.clone();
    // A round for each population reaches all that look at each other.
    for _ in populations {
        for (from, population) in populations.iter().enumerate() {
            for name in of(population).looks_at() {
                let Some(to) = populations.iter().position(|other| other.name == name) else { continue };
                if reasons[to].is_some() && reasons[from].is_none() {
                    reasons[from] = Some(format!("it looks at '{name}', which is on the CPU"));
                }
                if reasons[from].is_some() && reasons[to].is_none() {
                    reasons[to] = Some(format!("'{}' looks at it from the CPU", population.name));
                }
            }
        }
    }
    // One that is looked at from the CPU may be joined by events with others.
    let looked_at = populations.iter().zip(before.iter().zip(&reasons));
    let looked_at = looked_at
        .filter(|(population, (before, now))| is_particles(population) && before.is_none() && now.is_some())
        .map(|(population, _)| population.name.as_str())
        .next();
    if let Some(name) = looked_at.filter(|_| populations.iter().any(starts)) {
        for (population, why) in populations.iter().zip(&mut reasons) {
            if is_particles(population) {
                why.get_or_insert_with(|| format!("events may link it to '{name}'"));
            }
        }
    }
    reasons
}

/// Checks the family of a population: that there is at most one, that its values can be used, and that no key is written that it does not read.
pub(crate) fn check(population: &PopulationSpec, context: &CheckContext<'_>) -> Result<(), SpecError> {
    let mut families = population.families();
    let family = families.next().unwrap_or(&ParticleFamily);
    let key = family.key();
    if let Some(other) = families.next() {
        let problem = format!("stands beside {key}");
        return Err(SpecError::new(other.key(), problem, "keep one of them"));
    }
    if population.own.is_some() && KEYS.contains(&key) {
        let problem = format!("'{key}' is a built-in family");
        return Err(SpecError::new("family", problem, "give your own another key"));
    }
    family.check(population, context)?;
    let unread = population.written().into_iter().find(|key| !family.reads().contains(key));
    match unread {
        Some(unread) => {
            let problem = format!("does nothing in a population of {key}");
            Err(SpecError::new(unread, problem, "leave it out"))
        }
        None => Ok(()),
    }
}
