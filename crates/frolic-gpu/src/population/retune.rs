//! Changing the spec of a running population on a device.

use frolic_core::backend::{EmitterAxes, Emitters, MOST_BURSTS, OwnFields, free_axes, is_simple};
use frolic_core::{Assets, Change, ParticleSpec, SpecError};

use crate::shared::step::EMITTER_WORDS;

use super::{DevicePopulationError, GpuParticles};

/// What a new spec needs, built before anything changes.
#[derive(Debug)]
pub(crate) struct Retune {
    spec: ParticleSpec,
    emitters: Emitters,
    own: OwnFields,
}

impl GpuParticles {
    /// Returns whether the running population can take a spec: `count`, `order`, `event` and `trail` are those it was built with, it has `apart` if it had, and there are no
    /// more emitters, or emitters of assets, than it has memory for.
    pub fn can_retune(&self, spec: &ParticleSpec) -> bool {
        let fixed = |spec: &ParticleSpec| {
            (spec.count, spec.order, spec.event.clone(), spec.trail, spec.apart.is_some())
        };
        let words = spec.emitter.len() as u64 * (1 + u64::from(MOST_BURSTS)) * EMITTER_WORDS;
        let simple = |spec: &ParticleSpec| spec.emitter.iter().all(is_simple);
        spec.check().is_ok()
            && fixed(spec) == fixed(&self.spec)
            && words <= self.births_slot
            && (simple(spec) || !simple(&self.spec))
    }

    /// Changes the spec of the running population, from the next step that is encoded on: emitters, motion, fields, life and size. Elements, time and
    /// random numbers stay on the device, and nothing is read back. Emitters keep the fraction of an element that they owe; drifting noise goes on
    /// from where it is.
    ///
    /// # Errors
    /// A value is out of range, an asset is missing, or something differs that is fixed on a device: see [`GpuParticles::can_retune`]. The population
    /// then stays as it is.
    pub fn retune(&mut self, spec: &ParticleSpec, assets: &Assets) -> Result<Change, DevicePopulationError> {
        let Some(retune) = self.prepare_retune(spec, assets)? else { return Ok(Change::Unchanged) };
        self.commit(retune);
        Ok(Change::Live)
    }

    pub(crate) fn prepare_retune(
        &self,
        spec: &ParticleSpec,
        assets: &Assets,
    ) -> Result<Option<Retune>, DevicePopulationError> {
        if *spec == self.spec {
            return Ok(None);
        }
        spec.check()?;
        if !self.can_retune(spec) {
            let problem = "differs in count, order, events, trail, in whether elements keep apart, or in the number of emitters, which are fixed on a device";
            return Err(SpecError::new("spec", problem, "build a new population").into());
        }
        let emitters = Emitters::new(&spec.emitter, assets)?;
        Ok(Some(Retune { emitters, own: OwnFields::new(spec, assets)?, spec: spec.clone() }))
    }

    pub(crate) fn commit(&mut self, retune: Retune) {
        let Retune { spec, emitters, mut own } = retune;
        if spec.emitter != self.spec.emitter {
            self.emitters.adopt(emitters, &self.spec.emitter, &spec.emitter, self.seed);
            self.axes = spec.emitter.iter().map(EmitterAxes::of).collect();
        }
        if spec.field != self.spec.field {
            own.replace(&self.own);
            self.own = own;
        }
        if let (Some(apart), Some(new)) = (&mut self.apart, &spec.apart) {
            apart.retune(new, spec.size.max, free_axes(spec.motion.keep_to));
        }
        self.spec = spec;
    }
}
