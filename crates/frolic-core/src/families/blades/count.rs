//! Changing the number of blades that stand.
//!
//! Blades come in blocks. The first holds the blades that the population was built with; each growth beyond all blocks adds one, placed independently, in
//! squares of its own at the end of the columns. What stood stays as it is. A smaller count hides the latest blocks, and of one block the blades
//! with the highest keys, which are spread over the whole ground. Hidden blades take no memory: they are placed again when the count rises.

use std::collections::HashMap;
use std::ops::Range;

use serde::{Deserialize, Serialize};

use super::columns::{BladeColumns, BladeRow};
use super::squares::Chunk;
use super::{BladeSpec, Blades};
use crate::assets::Assets;
use crate::foundations::columns::fits;
use crate::foundations::error::SpecError;
use crate::foundations::random::hash3;
use crate::foundations::state::unfit;
use crate::placement::{
    ClumpSpec, EachSpec, MOST_DENSITY, MOST_PLACED, On, PlacedColumns, Placement, PlacementSpec,
};

/// Separates the draws of blocks and keys from all others.
const COUNT_SEED: u32 = 0x0c07_a57b;

/// Number of blocks beyond which all but the first become one.
const MOST_BLOCKS: usize = 5;

/// What a block was placed from.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(super) struct Source {
    pub(super) seed: u32,
    pub(super) count: u32,
    /// Density of each layer, in blades for each square metre; empty where the count decides.
    pub(super) densities: Vec<f32>,
}

/// Blades that were added together.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(super) struct Block {
    pub(super) sources: Vec<Source>,
    /// Prepared placements of endless ground, one for each source. Finite ground is placed once.
    #[serde(skip)]
    pub(super) placements: Vec<Placement>,
    /// Its squares.
    pub(super) chunks: Range<usize>,
    /// Capacity of a square of endless ground, in blades.
    pub(super) room: u32,
    /// Number of its blades; where densities decide, the factor on those of the first block.
    pub(super) amount: f64,
    /// Blades with keys from this on are hidden.
    pub(super) below: u64,
}

/// Key of a blade by its number and root, in metres: those with the lowest stay when the count falls. Numbers alone can be equal.
fn key(id: u32, x: f32, z: f32) -> u64 {
    let [high, low, _] = hash3(id ^ COUNT_SEED, x.to_bits(), z.to_bits());
    u64::from(high) << 32 | u64::from(low)
}

/// Keys of all placed elements.
fn keys(placed: &PlacedColumns) -> impl Iterator<Item = u64> {
    let [x, _, z] = placed.position();
    placed.id().iter().zip(x.iter().zip(z)).map(|(&id, (&x, &z))| key(id, x, z))
}

impl Source {
    /// The layers of a spec as this source has them, and the count that finite ground is asked for.
    pub(super) fn layers(&self, spec: &BladeSpec) -> (Vec<PlacementSpec>, Option<u32>) {
        let mut layers = spec.placement.clone();
        for (layer, density) in layers.iter_mut().zip(&self.densities) {
            layer.density = *density;
        }
        (layers, spec.endless.is_none().then_some(self.count))
    }

    pub(super) fn placement(&self, spec: &BladeSpec, assets: &Assets) -> Result<Placement, SpecError> {
        let (layers, asked) = self.layers(spec);
        Placement::new(&layers, asked, self.seed, assets).map_err(|error| error.under("placement"))
    }

    /// Capacity of a square, in blades: room for random variation, and twice that if filters leave other squares empty.
    pub(super) fn room(&self, spec: &BladeSpec) -> u32 {
        let mean = self.count as f32 / ground(spec) * spec.chunk * spec.chunk;
        (mean * 2.0 + 6.0 * mean.sqrt()).ceil() as u32 + 8
    }
}

/// The layers of a spec as far as they decide where blades stand.
pub(super) fn placing(spec: &BladeSpec) -> Vec<PlacementSpec> {
    let mut layers = spec.placement.clone();
    for layer in &mut layers {
        layer.each = EachSpec::default();
        // Clumps do where they leave out blades between them.
        layer.clumps = layer.clumps.filter(|clumps| clumps.thin > 0.0).map(|clumps| ClumpSpec {
            side: clumps.side,
            seed: clumps.seed,
            thin: clumps.thin,
            ..ClumpSpec::default()
        });
    }
    layers
}

/// Area of endless ground, in square metres; infinite on finite ground.
fn ground(spec: &BladeSpec) -> f32 {
    spec.endless.map_or(f32::INFINITY, |endless| std::f32::consts::PI * endless.reach * endless.reach)
}

/// Density of each layer, if densities decide how many blades there are: on endless ground, and where all layers have one. Else empty.
pub(super) fn densities(spec: &BladeSpec, count: u32) -> Vec<f32> {
    let mean = (count as f32 / ground(spec)).max(1e-6);
    let decide = spec.endless.is_some() || spec.placement.iter().all(|layer| layer.density > 0.0);
    let layers = spec.placement.iter().filter(|_| decide);
    layers.map(|layer| if layer.density == 0.0 { mean } else { layer.density }).collect()
}

impl Block {
    /// Checks a saved block, and prepares the placements of endless ground.
    pub(super) fn restored(
        mut self,
        spec: &BladeSpec,
        assets: &Assets,
        like: Option<&Self>,
    ) -> Result<Self, SpecError> {
        let Self { sources, amount, .. } = &self;
        if sources.is_empty() || !(amount.is_finite() && *amount >= 0.0) {
            return Err(unfit("blocks", "have no source, or no amount"));
        }
        self.placements = match like.filter(|like| like.sources == *sources) {
            Some(like) => like.placements.clone(),
            None if spec.endless.is_none() => Vec::new(),
            None => {
                let placements = sources.iter().map(|source| source.placement(spec, assets));
                placements.collect::<Result<_, _>>()?
            }
        };
        Ok(self)
    }

    /// Which of the blades placed in one of its squares are shown.
    pub(super) fn shown(&self, placed: &PlacedColumns) -> Vec<usize> {
        keys(placed).enumerate().filter_map(|(row, key)| (key < self.below).then_some(row)).collect()
    }

    /// Returns whether blocks share out squares in order, with enough room for the blades of endless ground.
    pub(super) fn share_out(blocks: &[Self], chunks: &[Chunk], rows: usize, endless: bool) -> bool {
        let (mut next, mut first) = (0, 0);
        for block in blocks {
            let Some(own) = chunks.get(block.chunks.clone()).filter(|_| block.chunks.start == next) else {
                return false;
            };
            next = block.chunks.end;
            for chunk in own.iter().filter(|_| endless) {
                if chunk.first as usize != first || chunk.len > block.room {
                    return false;
                }
                first += block.room as usize;
            }
        }
        next == chunks.len() && (!endless || first == rows) && !blocks.is_empty()
    }
}

impl Blades {
    /// Amount of blades of a spec and count, in the unit of [`Block::amount`]: none if they cannot change to it while they stand.
    pub(super) fn amount_of(&self, spec: &BladeSpec, count: u32) -> Option<f64> {
        if spec.groups.is_some() {
            // Squares of a layout hold the same blades.
            let same = count == self.count && placing(spec) == placing(&self.spec);
            return same.then(|| self.blocks[0].amount);
        }
        let (first, now) = (&self.blocks[0].sources[0], densities(spec, count));
        if now.len() != first.densities.len() {
            return None;
        }
        if !now.is_empty() {
            // On finite ground the count is a limit, by which a placement was made.
            let limited = spec.endless.is_none() && count != self.count;
            let set = |layer: &PlacementSpec| match &layer.on {
                On::Ground(pattern) => pattern.is_set(),
                _ => true,
            };
            let fixed = spec.endless.is_none() && spec.placement.iter().any(set);
            let factors = now.into_iter().zip(&first.densities);
            let factors: Vec<f64> = factors.map(|(now, was)| f64::from(now / was)).collect();
            let alike = |factor: &f64| (factor / factors[0] - 1.0).abs() < 1e-4;
            let same = factors.iter().all(alike) && !limited && (!fixed || (factors[0] - 1.0).abs() < 1e-6);
            return same.then(|| factors.first().copied().unwrap_or(1.0));
        }
        let counted = |layer: &PlacementSpec| match &layer.on {
            On::Ground(_) => layer.spreads(),
            On::Places { .. } => false,
            On::Mesh { .. } | On::Volume { .. } => layer.density == 0.0,
        };
        let same = placing(spec) == placing(&self.spec);
        (same && (count == self.count || spec.placement.iter().all(counted))).then_some(f64::from(count))
    }

    /// Returns whether there is memory and ground for an amount of blades. If not, building them anew tells why.
    pub(super) fn has_room(&self, spec: &BladeSpec, amount: f64) -> bool {
        if spec.endless.is_some() {
            return self.plan_amount(spec, amount).is_ok();
        }
        let size = |layer: &PlacementSpec| f64::from(layer.area.size[0]) * f64::from(layer.area.size[1]);
        if self.is_by_density() {
            let blades: f64 = spec.placement.iter().map(|layer| size(layer) * f64::from(layer.density)).sum();
            return blades <= f64::from(MOST_PLACED);
        }
        let more = (amount - self.blocks.iter().map(|block| block.amount).sum::<f64>()).max(0.0);
        let ground = |layer: &PlacementSpec| match &layer.on {
            On::Ground(_) => size(layer),
            _ => f64::INFINITY,
        };
        let ground: f64 = spec.placement.iter().map(ground).sum();
        let rows = self.columns.len() as u64 + more as u64;
        more <= f64::from(MOST_PLACED).min(ground * f64::from(MOST_DENSITY))
            && fits(rows, BladeColumns::BYTES_PER_ELEMENT as u64).is_ok()
    }

    /// Whether densities decide how many blades there are, and not the count.
    fn is_by_density(&self) -> bool {
        !self.blocks[0].sources[0].densities.is_empty()
    }

    /// Prepares the blocks for an amount of blades: the last block may be new. `spec` is the new spec.
    pub(super) fn plan_amount(&self, spec: &BladeSpec, amount: f64) -> Result<Recount, SpecError> {
        let endless = spec.endless.is_some();
        let mut left = amount;
        let (mut below, mut again, mut rows) = (Vec::new(), Vec::new(), 0);
        for block in &self.blocks {
            let shown = left.min(block.amount);
            left -= shown;
            let placed = self.placed_again(block, spec, shown)?;
            below.push(self.limit(block, shown, placed.as_ref()));
            let present = || self.chunks[block.chunks.clone()].iter().map(|chunk| chunk.len).sum();
            rows += placed.as_ref().map_or_else(present, |placed| placed.len() as u32);
            again.push(placed);
        }
        let all: f64 = self.blocks.iter().map(|block| block.amount).sum();
        let mut added = None;
        // Less than a blade in a million is rounding.
        if amount > all * (1.0 + 1e-6) {
            let first = &self.blocks[0].sources[0];
            let more = amount - all;
            let nth: usize = self.blocks.iter().map(|block| block.sources.len()).sum();
            let count = match (endless, self.is_by_density()) {
                (true, _) => (f64::from(first.count) * more).round().max(1.0) as u32,
                (false, true) => self.count.saturating_sub(rows),
                (false, false) => more.round().max(1.0) as u32,
            };
            let source = Source {
                seed: hash3(self.seed, nth as u32, COUNT_SEED)[0],
                count,
                densities: first.densities.iter().map(|density| density * more as f32).collect(),
            };
            let room = if endless { source.room(spec) } else { 0 };
            let slots = self.around.as_ref().map_or(0, |around| around.cells.most() as u64);
            let new_rows = if endless { slots * u64::from(room) } else { u64::from(source.count) };
            fits(self.columns.len() as u64 + new_rows, BladeColumns::BYTES_PER_ELEMENT as u64)?;
            let placements = vec![source.placement(spec, &self.assets)?];
            let chunks = self.chunks.len()..self.chunks.len();
            added = Some(Block {
                sources: vec![source],
                placements,
                chunks,
                room,
                amount: more,
                below: u64::MAX,
            });
        }
        Ok(Recount { below, again, added })
    }

    /// All blades of a block of finite ground, if some that are hidden are to be shown.
    fn placed_again(
        &self,
        block: &Block,
        spec: &BladeSpec,
        shown: f64,
    ) -> Result<Option<PlacedColumns>, SpecError> {
        if spec.endless.is_some() || block.below == u64::MAX {
            return Ok(None);
        }
        let rows: u32 = self.chunks[block.chunks.clone()].iter().map(|chunk| chunk.len).sum();
        let stays = match self.is_by_density() {
            true => self.limit(block, shown, None) <= block.below,
            false => shown.round() <= f64::from(rows),
        };
        if stays {
            return Ok(None);
        }
        let mut all = PlacedColumns::default();
        for source in &block.sources {
            all.append(&source.placement(spec, &self.assets)?.all());
        }
        Ok(Some(all))
    }

    /// The key from which blades of a block are hidden, so that this amount is shown.
    fn limit(&self, block: &Block, shown: f64, placed: Option<&PlacedColumns>) -> u64 {
        if shown >= block.amount * (1.0 - 1e-9) {
            return u64::MAX;
        }
        if self.is_by_density() {
            return (shown / block.amount * u64::MAX as f64) as u64;
        }
        let columns = &self.columns;
        let rows = |chunk: &Chunk| chunk.range();
        let of_row = |row: usize| key(columns.id[row], columns.px[row], columns.pz[row]);
        let mut keys: Vec<u64> = match placed {
            Some(placed) => keys(placed).collect(),
            None => self.chunks[block.chunks.clone()].iter().flat_map(rows).map(of_row).collect(),
        };
        let shown = shown.round().max(0.0) as usize;
        if shown >= keys.len() {
            return if placed.is_some() { u64::MAX } else { block.below };
        }
        *keys.select_nth_unstable(shown).1
    }

    /// Shows and hides blades as planned. Blades that are shown before and after stay as they are.
    pub(super) fn recount(&mut self, plan: Recount) {
        let Recount { below, again, added } = plan;
        let endless = self.around.is_some();
        if self.blocks.iter().zip(&below).any(|(block, below)| block.below != *below) {
            let mut shown: HashMap<(usize, [i32; 2]), Vec<BladeRow>> = HashMap::new();
            for (nth, (block, placed)) in self.blocks.iter().zip(&again).enumerate() {
                let back = block.below..below[nth];
                if back.is_empty() {
                    continue;
                }
                let from_cells;
                let placed = match placed {
                    Some(placed) => placed,
                    None if endless => {
                        from_cells = self.in_present_squares(block);
                        &from_cells
                    }
                    None => continue,
                };
                for row in (0..placed.len()).filter_map(|row| placed.row(row)) {
                    if back.contains(&key(row.id, row.px, row.pz)) {
                        shown
                            .entry((nth, self.cell_of([row.px, row.pz])))
                            .or_default()
                            .push(self.blade(&row));
                    }
                }
            }
            self.regroup(&below, &mut shown);
        }
        if let Some(mut block) = added {
            if endless {
                self.add_squares(&mut block);
                self.blocks.push(block);
            } else {
                let placed = block.placements[0].all();
                block.placements.clear();
                block.chunks = self.fill(&placed);
                self.blocks.push(block);
            }
            if self.blocks.len() > MOST_BLOCKS {
                self.join_blocks();
            }
        }
        self.count_alive();
    }

    pub(super) fn cell_of(&self, [x, z]: [f32; 2]) -> [i32; 2] {
        [x, z].map(|at| (at / self.spec.chunk).floor() as i32)
    }

    /// All blades of a block in the present squares of endless ground.
    fn in_present_squares(&self, block: &Block) -> PlacedColumns {
        let mut placed = PlacedColumns::default();
        let side = self.spec.chunk;
        for chunk in self.chunks[block.chunks.clone()].iter().filter(|chunk| chunk.there) {
            let low = chunk.cell.map(|at| at as f32 * side);
            let high = low.map(|at| at + side);
            block.placements.iter().for_each(|placement| placement.within(low, high, &mut placed));
        }
        placed
    }

    /// Hides blades from a key on, block by block, and adds those that are shown again.
    fn regroup(&mut self, below: &[u64], shown: &mut HashMap<(usize, [i32; 2]), Vec<BladeRow>>) {
        let before = std::mem::take(&mut self.columns);
        let endless = self.around.is_some();
        // What cannot be reserved now grows with the rows.
        let more: usize = shown.values().map(Vec::len).sum();
        let _ = self.columns.reserve(before.len() + if endless { 0 } else { more });
        let mut rows = Vec::new();
        for (nth, below) in below.iter().enumerate() {
            let changes = std::mem::replace(&mut self.blocks[nth].below, *below) != *below;
            for square in self.blocks[nth].chunks.clone() {
                let chunk = &mut self.chunks[square];
                let was = chunk.range();
                chunk.first = self.columns.len() as u32;
                rows.clear();
                rows.extend(was.filter_map(|row| before.row(row)));
                if changes {
                    rows.retain(|row| key(row.id, row.px, row.pz) < *below);
                    let mut back = shown.remove(&(nth, chunk.cell)).unwrap_or_default();
                    lean_alike(&rows, &mut back);
                    rows.append(&mut back);
                    if endless {
                        rows.truncate(self.blocks[nth].room as usize);
                    }
                    // Stable: those that stood keep their order.
                    rows.sort_by_key(|row| row.kind & !BladeColumns::TORN);
                    chunk.refill(&rows);
                }
                rows.iter().for_each(|row| self.columns.push(row));
                // Finite ground has no room beyond its blades.
                let room = self.blocks[nth].room as usize;
                (rows.len()..room).for_each(|_| self.columns.push(&BladeRow::NONE));
            }
        }
    }

    /// Makes all blocks but the first one block, square by square.
    fn join_blocks(&mut self) {
        let later = self.blocks.split_off(1);
        let start = self.blocks[0].chunks.end;
        let endless = self.around.is_some();
        let squares = self.chunks.split_off(start);
        let first_row = squares.first().map_or(self.columns.len(), |chunk| chunk.first as usize);
        let mut joined: Vec<(Chunk, Vec<BladeRow>)> = Vec::new();
        let mut places: HashMap<[i32; 2], usize> = HashMap::new();
        // Of endless ground, squares that hold none are left out here.
        for chunk in squares.iter().filter(|chunk| !endless || chunk.there) {
            let place = *places.entry(chunk.cell).or_insert_with(|| {
                joined.push((Chunk { len: 0, ..chunk.clone() }, Vec::new()));
                joined.len() - 1
            });
            let (into, rows) = &mut joined[place];
            into.pressed |= chunk.pressed;
            into.settle = into.settle.max(chunk.settle);
            into.stale &= chunk.stale;
            let range = chunk.range();
            rows.extend(range.filter_map(|row| self.columns.row(row)));
        }
        joined.sort_by_key(|(chunk, _)| [chunk.cell[1], chunk.cell[0]]);
        self.columns.truncate(first_row);
        let room: u32 = later.iter().map(|block| block.room).sum();
        if let Some(around) = &self.around {
            let empty = around.cells.most().saturating_sub(joined.len());
            joined.extend((0..empty).map(|_| (Chunk::empty(0), Vec::new())));
        }
        for (mut chunk, mut rows) in joined {
            chunk.first = self.columns.len() as u32;
            rows.sort_by_key(|row| row.kind & !BladeColumns::TORN);
            chunk.refill(&rows);
            rows.iter().for_each(|row| self.columns.push(row));
            (rows.len()..room as usize).for_each(|_| self.columns.push(&BladeRow::NONE));
            self.chunks.push(chunk);
        }
        let amount = later.iter().map(|block| block.amount).sum();
        let (mut sources, mut placements) = (Vec::new(), Vec::new());
        for block in later {
            sources.extend(block.sources);
            placements.extend(block.placements);
        }
        let chunks = start..self.chunks.len();
        self.blocks.push(Block { sources, placements, chunks, room, amount, below: u64::MAX });
    }

    /// Adds empty squares for a block of endless ground, and fills those that are present.
    fn add_squares(&mut self, block: &mut Block) {
        let start = self.chunks.len();
        let slots = self.around.as_ref().map_or(0, |around| around.cells.most());
        for _ in 0..slots {
            self.chunks.push(Chunk::empty(self.columns.len() as u32));
            (0..block.room).for_each(|_| self.columns.push(&BladeRow::NONE));
        }
        block.chunks = start..self.chunks.len();
        let present: Vec<[i32; 2]> = {
            let first = self.chunks[self.blocks[0].chunks.clone()].iter();
            first.filter(|chunk| chunk.there).map(|chunk| chunk.cell).collect()
        };
        self.make_in(block, &present, false);
    }

    /// Counts the blades that are shown.
    pub(super) fn count_alive(&mut self) {
        let there = |chunk: &Chunk| {
            let range = chunk.range();
            self.columns.length[range].iter().filter(|length| **length > 0.0).count()
        };
        self.alive = self.chunks.iter().map(there).sum();
    }
}

/// A change of the number of blades, ready to be made.
#[derive(Debug)]
pub(super) struct Recount {
    /// For each block, the key from which blades are hidden.
    below: Vec<u64>,
    /// For each block, all its blades, where hidden ones are to be shown again.
    again: Vec<Option<PlacedColumns>>,
    added: Option<Block>,
}

/// Lets new blades lean by as much as those around them, on average, so that they do not swing up from rest.
fn lean_alike(around: &[BladeRow], new: &mut [BladeRow]) {
    let count = around.len().max(1) as f32;
    let mean = |of: fn(&BladeRow) -> f32| around.iter().map(of).sum::<f32>() / count;
    let (x, z) = (mean(|row| row.lean_x - row.rest_x), mean(|row| row.lean_z - row.rest_z));
    for row in new {
        (row.lean_x, row.lean_z) = (row.rest_x + x, row.rest_z + z);
    }
}
