//! Saving and restoring static instances.

use super::FixedInstances;
use crate::foundations::error::SpecError;
use crate::foundations::state::{SavedState, unfit};

/// Columns of the places at rest.
const REST: [&str; 3] = ["rest_x", "rest_y", "rest_z"];

impl FixedInstances {
    /// Returns the state of the elements: where they are, how they swing. [`FixedInstances::restore`] gives the same bits from then on.
    pub fn save(&self) -> SavedState {
        let mut state = SavedState::default();
        state.put_part("columns", self.columns.save());
        for (key, column) in REST.iter().zip(&self.rest) {
            state.put_floats(key, column);
        }
        state.put("cells", &self.cells.as_ref().map(|cells| cells.all().to_vec()));
        state.put("time", &self.time);
        state
    }

    /// Takes over a state that elements of the same spec, count and seed saved.
    ///
    /// # Errors
    /// The state is of another spec, or damaged. The elements then stay as they are.
    pub fn restore(&mut self, state: &SavedState) -> Result<(), SpecError> {
        let columns = state.part("columns")?;
        let len = columns.floats("px")?.len();
        let stays = self.cells.is_none();
        if (stays && len != self.columns.len()) || len > self.count as usize {
            return Err(unfit("columns", &format!("have {len} elements, not those of the spec")));
        }
        let mut rest = [const { Vec::new() }; 3];
        for (key, rest) in REST.iter().zip(&mut rest) {
            *rest = state.floats(key)?.to_vec();
            let due = if self.spec.sway.is_some() { len } else { 0 };
            if rest.len() != due {
                return Err(unfit(key, &format!("has {} values for {due} elements", rest.len())));
            }
        }
        let mut cells = self.cells.clone();
        if let Some(cells) = &mut cells {
            let all: Option<Vec<[i32; 2]>> = state.value("cells")?;
            cells.restore(all.unwrap_or_default()).map_err(|error| error.under("cells"))?;
        }
        let time = state.value("time")?;
        self.columns.restore(columns).map_err(|error| error.under("columns"))?;
        (self.rest, self.cells, self.time) = (rest, cells, time);
        Ok(())
    }
}
