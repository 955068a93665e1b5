//! A draw list cut into passes and chunks.
//!
//! A pass is drawn by one rule: solid records of a layer, of which the nearest wins; or transparent records in order. Chunks of a pass are
//! projected in parallel.

use std::ops::Range;

use crate::list::DrawList;
use crate::look::Blend;

/// Instances in a chunk; ranks within it fit 16 bits.
pub(super) const CHUNK: usize = 8192;

/// A range of a draw list that is projected together.
#[derive(Debug, Clone, Copy)]
pub(super) struct ChunkStart {
    pub(super) batch: u32,
    pub(super) run: u32,
    /// Instances of that run that belong to earlier chunks.
    pub(super) skip: u32,
    pub(super) count: u32,
}

/// How the chunks of a pass are drawn.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct Rule {
    pub(super) solid: bool,
    /// Whether each tile sorts the records of the pass far to near.
    pub(super) far_to_near: bool,
    /// Whether the nearest of all wins, so that order has no effect.
    pub(super) nearest_wins: bool,
    /// Logarithm of the pixels of the picture across one that it is drawn in.
    pub(super) coarser: u8,
    /// Whether its elements are mixed by weights.
    pub(super) weighted: bool,
    /// Where it is drawn by itself: whether anything takes of the background.
    pub(super) covers: bool,
}

impl Rule {
    /// Whether it is drawn by itself and laid over the picture.
    pub(super) fn is_apart(self) -> bool {
        self.coarser > 0 || self.weighted
    }
}

/// Chunks that are drawn by one rule.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Pass {
    pub(super) rule: Rule,
    pub(super) chunks: Range<usize>,
}

/// Cuts the instances of all batches, in drawing order, into chunks of [`CHUNK`] that end with their pass; a chunk can span many
/// small batches. `coarser` is the resolution of each source.
pub(super) fn split(
    list: &DrawList<'_>,
    coarser: &[u8],
    starts: &mut Vec<ChunkStart>,
    passes: &mut Vec<Pass>,
) {
    starts.clear();
    passes.clear();
    let mut room = 0;
    let mut before = None;
    for (nth, batch) in list.batches().iter().enumerate() {
        let alone = batch.far_to_near.then_some(nth);
        for number in batch.first_run..batch.first_run + batch.runs {
            let run = list.runs[number as usize];
            let first = list.entry(&run, run.first).source as usize;
            let look = list.sources[run.source as usize].look;
            let coarser = coarser.get(first).copied().unwrap_or(0);
            // What is laid over the picture together must not depend on how it is batched.
            let apart = (coarser > 0 && !batch.weighted).then_some(if look.needs_depth_order() {
                first as u64
            } else {
                look.key
            });
            let pass = (batch.layer, batch.solid, alone, coarser, batch.weighted, apart);
            if before != Some(pass) {
                let first = starts.len();
                let rule = Rule {
                    solid: batch.solid,
                    far_to_near: batch.far_to_near,
                    nearest_wins: batch.solid,
                    coarser,
                    weighted: batch.weighted,
                    covers: look.blend == Blend::Alpha,
                };
                passes.push(Pass { rule, chunks: first..first });
                before = Some(pass);
                room = 0;
            }
            if let Some(pass) = passes.last_mut() {
                pass.rule.nearest_wins &= look.depth.test && look.depth.write;
            }
            let mut skip = 0;
            while skip < run.count {
                if room == 0 {
                    starts.push(ChunkStart { batch: nth as u32, run: number, skip, count: 0 });
                    room = CHUNK as u32;
                }
                let taken = room.min(run.count - skip);
                if let Some(last) = starts.last_mut() {
                    last.count += taken;
                }
                skip += taken;
                room -= taken;
            }
            if let Some(pass) = passes.last_mut() {
                pass.chunks.end = starts.len();
            }
        }
    }
}

/// The part of a pass that a round draws.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct PassPart {
    /// Number of the round.
    pub(super) round: usize,
    pub(super) rule: Rule,
    pub(super) chunks: Range<usize>,
    /// Whether the pass ends here.
    pub(super) ends: bool,
}

/// Cuts passes into parts for rounds of at most `most` chunks. A pass that tiles sort stays whole: the list keeps
/// it below [`super::ROUND`] chunks. So does one of a lower resolution or by weights, which is cut at that number: each part is laid over the picture by itself.
///
/// No round has solid parts and parts of a lower resolution: these read depths of tiles beside their own, which must be finished.
pub(super) fn cut(passes: &[Pass], most: usize, parts: &mut Vec<PassPart>) {
    parts.clear();
    let (mut round, mut room) = (0, most);
    // Whether the round has solid parts, and parts of a lower resolution.
    let mut has = [false; 2];
    for pass in passes {
        let rule = pass.rule;
        let Rule { solid, far_to_near, coarser, .. } = rule;
        let mut next = pass.chunks.start;
        while next < pass.chunks.end {
            let left = pass.chunks.end - next;
            let whole = if far_to_near { left } else { left.min(super::ROUND) };
            let is_whole = far_to_near || rule.is_apart();
            let apart = (solid && has[1]) || (coarser > 0 && has[0]);
            if room == 0 || apart || (is_whole && room < whole && room < most) {
                (round, room, has) = (round + 1, most, [false; 2]);
            }
            let taken = if is_whole { whole } else { left.min(room) };
            room = room.saturating_sub(taken);
            has = [has[0] | solid, has[1] | (coarser > 0)];
            let chunks = next..next + taken;
            next += taken;
            let ends = next == pass.chunks.end;
            parts.push(PassPart { round, rule, chunks, ends });
        }
    }
}

/// Adds a solid part to the first round if it has none, so that groups, which no chunk holds, are drawn with it.
pub(super) fn begin_solid(parts: &mut Vec<PassPart>) {
    if !parts.iter().any(|part| part.rule.solid && part.round == 0) {
        let rule = Rule { solid: true, nearest_wins: true, ..Rule::default() };
        let none = PassPart { round: 0, rule, chunks: 0..0, ends: true };
        if parts.iter().any(|part| part.rule.coarser > 0 && part.round == 0) {
            parts.iter_mut().for_each(|part| part.round += 1);
        }
        parts.insert(0, none);
    }
}
