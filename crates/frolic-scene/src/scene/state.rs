//! Reach into a running scene: columns of its populations, edits of elements, commands.

use frolic_core::{Column, ColumnsEdit, SpecError, listed};

use crate::command::Command;
use crate::error::{SceneError, advice};
use crate::families::DrawContext;

use super::Scene;

impl Scene {
    /// Returns a column of a population by name, as `px` or `age`, in the state after the last step.
    ///
    /// # Errors
    /// There is no such population or column, or the population is device-resident; names those that there are.
    pub fn column(&self, population: &str, column: &str) -> Result<Column<'_>, SceneError> {
        let nth = self.known_place_of(population)?;
        let context = DrawContext { set: &self.set, lag: self.lag };
        let elements = &self.populations[nth].elements;
        elements.column(context, column).ok_or_else(|| {
            let names = elements.column_names();
            let problem =
                format!("'{population}' has no column '{column}'; {}", advice(column, names.iter().copied()));
            let instead = if names.is_empty() {
                "it shows none".to_owned()
            } else {
                format!("name one of: {}", listed(names.iter().copied()))
            };
            SpecError::new("column", problem, instead).into()
        })
    }

    /// Changes elements of a population by columns, as [`Particles::edit`](frolic_core::Particles::edit), [`Blades::edit`](frolic_core::Blades::edit),
    /// [`FixedInstances::edit`](frolic_core::FixedInstances::edit) and [`Growing::edit`](frolic_core::Growing::edit) do.
    ///
    /// # Errors
    /// There is no such population, it cannot be edited, the closure fails, or a value is out of range. The population then stays as it is.
    pub fn edit<R>(
        &mut self,
        population: &str,
        change: impl FnOnce(&mut ColumnsEdit<'_>) -> Result<R, SpecError>,
    ) -> Result<R, SceneError> {
        let nth = self.known_place_of(population)?;
        let under = |error: SpecError| SceneError::from(error.under(population));
        if let Some(particles) = self.set.get_mut(population) {
            return particles.edit(change).map_err(under);
        }
        let (mut change, mut result) = (Some(change), None);
        let mut once = |edit: &mut ColumnsEdit<'_>| {
            if let Some(change) = change.take() {
                result = Some(change(edit)?);
            }
            Ok(())
        };
        self.populations[nth].elements.edit(&mut once).map_err(under)?;
        result
            .ok_or_else(|| under(SpecError::new("edit", "was not made", "change the spec of the population")))
    }

    /// Does something once. Returns the number of elements, or of cells of a mask, that it concerns.
    ///
    /// # Errors
    /// There is no such population, emitter or obstacle, or it does not take this command.
    pub fn command(&mut self, command: &Command) -> Result<u64, SceneError> {
        let Some((population, verb)) = command.population() else { return self.dig(command) };
        let nth = self.known_place_of(population)?;
        if let Command::Burst { emitter, count, .. } = command {
            let particles = self.set.get_mut(population);
            let emitters = particles.as_ref().map_or(0, |particles| particles.spec().emitter.len());
            if particles.is_some_and(|particles| particles.burst(*emitter, *count)) {
                return Ok(u64::from(*count));
            }
            let problem = format!("'{population}' has {emitters} emitters on the CPU, no number {emitter}");
            return Err(SpecError::new("burst", problem, "name one of them, counted from 0").into());
        }
        self.populations[nth].elements.command(command).ok_or_else(|| {
            let problem = format!("'{population}' does not take it");
            SpecError::new(
                verb,
                problem,
                "name a population of blades to tear, of growing elements to harvest",
            )
            .into()
        })
    }

    fn dig(&mut self, command: &Command) -> Result<u64, SceneError> {
        let (Command::Dig { obstacle, position, radius } | Command::Fill { obstacle, position, radius }) =
            command
        else {
            return Ok(0);
        };
        let mask = self.world.obstacle_named(obstacle).filter(|nth| self.world.mask(*nth).is_some());
        let Some(nth) = mask else {
            let all = &self.spec.world.obstacle;
            let masks = (0..all.len()).filter(|nth| self.world.mask(*nth).is_some());
            let names: Vec<&str> = masks.filter_map(|nth| all[nth].name.as_deref()).collect();
            let instead = if names.is_empty() {
                "add a named mask to the world".to_owned()
            } else {
                format!("name one of: {}", listed(names))
            };
            return Err(SpecError::new("obstacle", format!("there is no mask '{obstacle}'"), instead).into());
        };
        let changed = match command {
            Command::Dig { .. } => self.world.dig(nth, *position, *radius),
            _ => self.world.fill(nth, *position, *radius),
        };
        self.decor.update_reliefs(&self.world);
        Ok(changed as u64)
    }

    /// Index of a population, or an error that names those that there are.
    fn known_place_of(&self, population: &str) -> Result<usize, SceneError> {
        self.place_of(population).ok_or_else(|| {
            let names = || self.spec.population.iter().map(|population| population.name.as_str());
            let problem = format!("there is no population '{population}'; {}", advice(population, names()));
            SpecError::new("population", problem, format!("name one of: {}", listed(names()))).into()
        })
    }
}
