//! Changing the spec of a running population.

use std::sync::Arc;

use super::emit::{Emitters, Newborn};
use super::spec::ParticleSpec;
use super::{Particles, apart, check_memory, children, no_memory, sets_aside};
use crate::assets::Assets;
use crate::families::trail::Trail;
use crate::foundations::change::Change;
use crate::foundations::error::SpecError;
use crate::world::apart::PushApart;
use crate::world::bodies::Integrator;

impl Particles {
    /// Changes the spec of the running population, from the next step on. Elements, time and random numbers stay:
    ///
    /// - emitters keep the fraction of an element that they owe, so that a changed rate neither skips nor adds elements;
    /// - elements keep their life and size; newborns have those of the new spec;
    /// - trails keep their positions; a new trail starts at the present positions;
    /// - a smaller count stops emission until enough elements have died; a larger count reserves memory.
    ///
    /// ```
    /// use frolic_core::{Change, EmitterSpec, Meter, ParticleSpec, Particles, WorldSpec};
    /// let spec = ParticleSpec::new(1000).emitter(EmitterSpec::rate(600.0));
    /// let mut sparks = Particles::new(&spec, 1)?;
    /// let (world, mut meter) = (WorldSpec::default().build()?, Meter::new());
    /// sparks.step(&world, 1.0 / 60.0, 10, &mut meter);
    /// let mut fewer = spec.clone();
    /// fewer.emitter[0].rate = 60.0;
    /// assert_eq!(sparks.retune(&fewer)?, Change::Live);
    /// sparks.step(&world, 1.0 / 60.0, 10, &mut meter);
    /// assert_eq!(sparks.len(), 100 + 10);
    /// # Ok::<(), frolic_core::SpecError>(())
    /// ```
    ///
    /// # Errors
    /// As [`Particles::new`]. The population then stays as it is.
    pub fn retune(&mut self, spec: &ParticleSpec) -> Result<Change, SpecError> {
        self.retune_with(spec, &Assets::default())
    }

    /// As [`Particles::retune`], for emitters and fields that name assets.
    ///
    /// # Errors
    /// As [`Particles::with_assets`]. The population then stays as it is.
    pub fn retune_with(&mut self, spec: &ParticleSpec, assets: &Assets) -> Result<Change, SpecError> {
        let Some(retune) = self.prepare(spec, assets)? else { return Ok(Change::Unchanged) };
        self.commit(retune);
        Ok(Change::Live)
    }

    /// Builds what a new spec needs, and reserves its memory. Returns `None` if the specs are equal.
    pub(super) fn prepare(
        &mut self,
        spec: &ParticleSpec,
        assets: &Assets,
    ) -> Result<Option<Retune>, SpecError> {
        if *spec == *self.spec {
            return Ok(None);
        }
        spec.check()?;
        check_memory(spec, self.held.storage)?;
        let new_emitters = spec.emitter != self.spec.emitter;
        let new_events = spec.event != self.spec.event;
        let retune = Retune {
            emitters: new_emitters.then(|| Emitters::new(&spec.emitter, assets)).transpose()?,
            children: new_events.then(|| children(&spec.event, assets)).transpose()?,
            integrator: Integrator::new(&spec.motion)?
                .with_fields(&spec.field, assets)?
                .with_events(&spec.event)?,
            apart: apart(spec, self.held.storage)?,
            trail: (spec.trail != self.spec.trail).then(|| spec.trail.as_ref().map(Trail::new)),
            spec: Arc::new(spec.clone()),
        };
        if spec.count > self.spec.count {
            self.reserve(spec.count as usize).map_err(|_| no_memory(spec, self.held.storage))?;
        }
        Ok(Some(retune))
    }

    pub(super) fn commit(&mut self, retune: Retune) {
        let Retune { spec, emitters, children, integrator, apart, trail } = retune;
        if let Some(emitters) = emitters {
            self.emitters.adopt(emitters, &self.spec.emitter, &spec.emitter, self.seed);
        }
        if let Some(children) = children {
            self.children = children;
        }
        if let Some(mut trail) = trail {
            if let Some(trail) = &mut trail {
                // If it cannot be reserved now, it grows with the population.
                let _ = trail.reserve(spec.count as usize);
                match &self.held.trail {
                    Some(before) => trail.start(before),
                    None => self.held.each(|row| trail.push(row)),
                }
            }
            self.held.trail = trail;
        }
        self.integrator.adopt(integrator);
        self.integrator.sets_aside = sets_aside(&spec);
        self.apart = match (self.apart.take(), apart) {
            (Some(mut before), Some(now)) => {
                // What sleeps goes on to sleep.
                before.adopt(&now);
                Some(before)
            }
            (_, now) => now,
        };
        // The next step finds elements at rest again.
        self.held.aside.count = 0;
        self.spec = spec;
    }
}

/// What a new spec needs, built before anything changes.
#[derive(Debug)]
pub(super) struct Retune {
    spec: Arc<ParticleSpec>,
    emitters: Option<Emitters>,
    children: Option<Arc<[Newborn]>>,
    integrator: Integrator,
    apart: Option<PushApart>,
    /// The new trail, or its end, if it changed.
    trail: Option<Option<Trail>>,
}
