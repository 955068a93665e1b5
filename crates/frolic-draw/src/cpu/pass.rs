//! A draw list cut into passes and chunks.
//!
//! A pass is drawn by one rule: solid records of a layer, of which the nearest wins; or transparent records in order. Chunks of a pass are
//! projected in parallel.

use std::ops::Range;

use super::bin::{CHUNK, ChunkStart};
use crate::list::{DrawList, Run};

/// Chunks that are drawn by one rule.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Pass {
    pub(super) solid: bool,
    /// Whether each tile sorts the records of the pass far to near.
    pub(super) far_to_near: bool,
    /// Whether the nearest of all wins, so that order has no effect.
    pub(super) nearest_wins: bool,
    pub(super) chunks: Range<usize>,
}

/// Cuts the instances of all batches, in drawing order, into chunks of [`CHUNK`] that end with their pass; a chunk can span many
/// small batches.
pub(super) fn split(list: &DrawList<'_>, starts: &mut Vec<ChunkStart>, passes: &mut Vec<Pass>) {
    starts.clear();
    passes.clear();
    let mut room = 0;
    let mut before = None;
    for (nth, batch) in list.batches().iter().enumerate() {
        let alone = batch.far_to_near.then_some(nth);
        let pass = (batch.layer, batch.solid, alone);
        if before != Some(pass) {
            let first = starts.len();
            passes.push(Pass {
                solid: batch.solid,
                far_to_near: batch.far_to_near,
                nearest_wins: batch.solid,
                chunks: first..first,
            });
            before = Some(pass);
            room = 0;
        }
        for run in batch.first_run..batch.first_run + batch.runs {
            let Run { count, source, .. } = list.runs[run as usize];
            if let Some(pass) = passes.last_mut() {
                let depth = list.sources[source as usize].look.depth;
                pass.nearest_wins &= depth.test && depth.write;
            }
            let mut skip = 0;
            while skip < count {
                if room == 0 {
                    starts.push(ChunkStart { batch: nth as u32, run, skip, count: 0 });
                    room = CHUNK as u32;
                }
                let taken = room.min(count - skip);
                if let Some(last) = starts.last_mut() {
                    last.count += taken;
                }
                skip += taken;
                room -= taken;
            }
        }
        if let Some(pass) = passes.last_mut() {
            pass.chunks.end = starts.len();
        }
    }
}

/// The part of a pass that a round draws.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct PassPart {
    /// Number of the round.
    pub(super) round: usize,
    pub(super) solid: bool,
    pub(super) far_to_near: bool,
    pub(super) nearest_wins: bool,
    pub(super) chunks: Range<usize>,
    /// Whether the pass ends here.
    pub(super) ends: bool,
}

/// Cuts passes into parts for rounds of at most `most` chunks. A pass that tiles sort stays whole: the list keeps
/// it below [`super::ROUND`] chunks.
pub(super) fn cut(passes: &[Pass], most: usize, parts: &mut Vec<PassPart>) {
    parts.clear();
    let (mut round, mut room) = (0, most);
    for pass in passes {
        let mut next = pass.chunks.start;
        while next < pass.chunks.end {
            let left = pass.chunks.end - next;
            if room == 0 || (pass.far_to_near && room < left && room < most) {
                (round, room) = (round + 1, most);
            }
            let taken = if pass.far_to_near { left } else { left.min(room) };
            room = room.saturating_sub(taken);
            let chunks = next..next + taken;
            next += taken;
            let ends = next == pass.chunks.end;
            let &Pass { solid, far_to_near, nearest_wins, .. } = pass;
            parts.push(PassPart { round, solid, far_to_near, nearest_wins, chunks, ends });
        }
    }
}

/// Adds a solid part to the first round if it has none, so that groups, which no chunk holds, are drawn with it.
pub(super) fn begin_solid(parts: &mut Vec<PassPart>) {
    if !parts.iter().any(|part| part.solid && part.round == 0) {
        let none = PassPart {
            round: 0,
            solid: true,
            far_to_near: false,
            nearest_wins: true,
            chunks: 0..0,
            ends: true,
        };
        parts.insert(0, none);
    }
}
