//! Saving and restoring the state of a population.

use super::{Particles, Storage};
use crate::foundations::error::SpecError;
use crate::foundations::state::{SavedState, unfit};
use crate::world::bodies::BodyColumns;

impl Particles {
    /// Returns the state of the population: elements, trails, what emitters owe, time. [`Particles::restore`] gives the same bits from then on.
    pub fn save(&self) -> SavedState {
        let held = &self.held;
        let columns = match held.storage {
            Storage::Columns => held.columns.save(),
            Storage::Objects => {
                let mut columns = BodyColumns::default();
                held.records.gather(&mut columns);
                columns.save()
            }
        };
        let mut state = SavedState::default();
        state.put_part("columns", columns);
        state.put_part("emitters", self.emitters.save());
        state.put_part("integrator", self.integrator.save());
        if let Some(trail) = &held.trail {
            state.put_part("trail", trail.save());
        }
        if let Some(apart) = &self.apart {
            state.put_part("apart", apart.save());
        }
        state.put("next_id", &self.next_id);
        state.put("newborn", &self.newcomers.still);
        state.put("at_rest", &held.aside.count);
        state.put("share", &self.share);
        state
    }

    /// Takes over a state that a population of the same spec and seed saved.
    ///
    /// ```
    /// use frolic_core::{EmitterSpec, Meter, ParticleSpec, Particles, WorldSpec};
    /// let spec = ParticleSpec::new(1000).emitter(EmitterSpec::rate(600.0));
    /// let (world, mut meter) = (WorldSpec::default().build()?, Meter::new());
    /// let mut sparks = Particles::new(&spec, 1)?;
    /// sparks.step(&world, 0.01, 10, &mut meter);
    /// let saved = sparks.save();
    /// let mut others = Particles::new(&spec, 1)?;
    /// others.restore(&saved)?;
    /// sparks.step(&world, 0.01, 10, &mut meter);
    /// others.step(&world, 0.01, 10, &mut meter);
    /// assert_eq!(sparks.columns(), others.columns());
    /// # Ok::<(), frolic_core::SpecError>(())
    /// ```
    ///
    /// # Errors
    /// The state is of another spec, or damaged. The population then stays as it is.
    pub fn restore(&mut self, state: &SavedState) -> Result<(), SpecError> {
        let (mut emitters, mut trail) = (self.emitters.clone(), self.held.trail.clone());
        let mut apart = self.apart.clone();
        if let Some(apart) = &mut apart {
            state.restore("apart", |part| apart.restore(part))?;
        }
        state.restore("emitters", |part| emitters.restore(part, self.seed))?;
        let integrator = state.part("integrator")?;
        let integrator = self.integrator.restored(integrator).map_err(|error| error.under("integrator"))?;
        let columns = state.part("columns")?;
        let len = columns.floats("px")?.len();
        if let Some(trail) = &mut trail {
            state.restore("trail", |part| trail.restore(part, len))?;
        }
        let (next_id, share) = (state.value("next_id")?, state.value("share")?);
        let [still, aside] = [state.value::<usize>("newborn")?, state.value::<usize>("at_rest")?];
        if still > len || aside > len {
            return Err(unfit("newborn", &format!("or at_rest is over the {len} elements that there are")));
        }
        self.held.columns.restore(columns).map_err(|error| error.under("columns"))?;
        // From here on nothing fails.
        self.integrator.take(integrator);
        (self.emitters, self.held.trail, self.apart) = (emitters, trail, apart);
        (self.next_id, self.newcomers.still, self.held.aside.count) = (next_id, still, aside);
        self.thin(share);
        // The next step finds elements at rest again.
        self.held.aside.stamp = 0;
        self.held.records.clear();
        if self.held.storage == Storage::Objects {
            let columns = &self.held.columns;
            let rows = (0..columns.len()).filter_map(|nth| columns.row(nth));
            rows.for_each(|row| self.held.records.push(&row));
        }
        Ok(())
    }
}
