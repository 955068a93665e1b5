//! Saving and restoring blades that stand.

use super::count::Block;
use super::{Blades, Chunk, MOST_TORN};
use crate::foundations::error::SpecError;
use crate::foundations::state::{SavedState, unfit};

impl Blades {
    /// Returns the state of the blades: where they stand and lean, what presses them, time. [`Blades::restore`] gives the same bits from then on.
    pub fn save(&self) -> SavedState {
        let mut state = SavedState::default();
        state.put_part("columns", self.columns.save());
        state.put("squares", &self.chunks);
        state.put("blocks", &self.blocks);
        if let Some(around) = &self.around {
            state.put("cells", around.cells.all());
            state.put("waiting", &around.waiting);
        }
        if let Some(layouts) = &self.layouts {
            state.put_part("layouts", layouts.save());
        }
        state.put("grouped", &self.grouped);
        // Infinite before the first update, which JSON-like readers of the file do not know.
        state.put("updated", &self.updated.is_finite().then_some(self.updated));
        state.put("time", &self.time);
        state.put("steps", &self.steps);
        state.put("torn_now", &self.torn_now);
        state.put("alive", &self.alive);
        state
    }

    /// Takes over a state that blades of the same spec, count and seed saved.
    ///
    /// # Errors
    /// The state is of another spec, or damaged. The blades then stay as they are.
    pub fn restore(&mut self, state: &SavedState) -> Result<(), SpecError> {
        let columns = state.part("columns")?;
        let (len, kinds) = (columns.floats("px")?.len(), columns.numbers("kind")?);
        let chunks: Vec<Chunk> = state.value("squares")?;
        let layouts = self.layouts.as_ref().map_or(0, |layouts| layouts.len());
        if let Some(nth) = chunks.iter().position(|chunk| !chunk.fits(kinds, layouts)) {
            return Err(unfit(&format!("squares.{nth}"), "does not fit the blades"));
        }
        let blocks: Vec<Block> = state.value("blocks")?;
        let blocks = blocks
            .into_iter()
            .enumerate()
            .map(|(nth, block)| block.restored(&self.spec, &self.assets, self.blocks.get(nth)));
        let blocks: Vec<Block> = blocks.collect::<Result<_, _>>()?;
        if !Block::share_out(&blocks, &chunks, len, self.around.is_some()) {
            return Err(unfit("blocks", "do not share out the squares"));
        }
        let around = match &self.around {
            None => None,
            Some(around) => {
                let mut around = around.clone();
                around.cells.restore(state.value("cells")?).map_err(|error| error.under("cells"))?;
                around.waiting = state.value("waiting")?;
                Some(around)
            }
        };
        let mut layouts = self.layouts.clone();
        if let Some(layouts) = &mut layouts {
            state.restore("layouts", |part| layouts.restore(part))?;
        }
        let alive = state.value::<usize>("alive")?;
        let torn_now: Vec<_> = state.value("torn_now")?;
        if alive > len || torn_now.len() > len {
            return Err(unfit("alive", &format!("or torn_now is over the {len} blades that there are")));
        }
        let (grouped, steps) = (state.value("grouped")?, state.value("steps")?);
        let (time, updated) = (state.value("time")?, state.value::<Option<f64>>("updated")?);
        self.columns.restore(columns).map_err(|error| error.under("columns"))?;
        // From here on nothing fails.
        (self.chunks, self.around, self.layouts) = (chunks, around, layouts);
        self.blocks = blocks;
        (self.grouped, self.steps, self.time, self.alive) = (grouped, steps, time, alive);
        self.updated = updated.unwrap_or(f64::NEG_INFINITY);
        self.torn.clear();
        self.torn.reserve(if self.spec.tear.is_some() { MOST_TORN } else { 0 });
        self.torn_now = torn_now;
        Ok(())
    }
}
