//! A draw list cut into phases and chunks.
//!
//! A phase is drawn by one rule: solid records of a layer, of which the nearest wins; or transparent records in order. Chunks of a phase are
//! projected in parallel.

use std::ops::Range;

use super::bin::{CHUNK, ChunkStart};
use crate::list::{DrawList, Run};

/// Chunks that are drawn by one rule.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Phase {
    pub(super) solid: bool,
    /// Whether each tile sorts the records of the phase far to near.
    pub(super) far_to_near: bool,
    /// Whether the nearest of all wins, so that order has no effect.
    pub(super) nearest_wins: bool,
    pub(super) chunks: Range<usize>,
}

/// Cuts the instances of all batches, in drawing order, into chunks of [`CHUNK`] that end with their phase; a chunk can span many
/// small batches.
pub(super) fn split(list: &DrawList<'_>, starts: &mut Vec<ChunkStart>, phases: &mut Vec<Phase>) {
    starts.clear();
    phases.clear();
    let mut room = 0;
    let mut before = None;
    for (nth, batch) in list.batches().iter().enumerate() {
        let alone = batch.far_to_near.then_some(nth);
        let phase = (batch.layer, batch.solid, alone);
        if before != Some(phase) {
            let first = starts.len();
            phases.push(Phase {
                solid: batch.solid,
                far_to_near: batch.far_to_near,
                nearest_wins: batch.solid,
                chunks: first..first,
            });
            before = Some(phase);
            room = 0;
        }
        for run in batch.first_run..batch.first_run + batch.runs {
            let Run { count, source, .. } = list.runs[run as usize];
            if let Some(phase) = phases.last_mut() {
                let depth = list.sources[source as usize].look.depth;
                phase.nearest_wins &= depth.test && depth.write;
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
        if let Some(phase) = phases.last_mut() {
            phase.chunks.end = starts.len();
        }
    }
}

/// The part of a phase that a round draws.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Part {
    /// Number of the round.
    pub(super) round: usize,
    pub(super) solid: bool,
    pub(super) far_to_near: bool,
    pub(super) nearest_wins: bool,
    pub(super) chunks: Range<usize>,
    /// Whether the phase ends here.
    pub(super) ends: bool,
}

/// Cuts phases into parts for rounds of at most `most` chunks. A phase that tiles sort stays whole: the list keeps
/// it below [`super::ROUND`] chunks.
pub(super) fn cut(phases: &[Phase], most: usize, parts: &mut Vec<Part>) {
    parts.clear();
    let (mut round, mut room) = (0, most);
    for phase in phases {
        let mut next = phase.chunks.start;
        while next < phase.chunks.end {
            let left = phase.chunks.end - next;
            if room == 0 || (phase.far_to_near && room < left && room < most) {
                (round, room) = (round + 1, most);
            }
            let taken = if phase.far_to_near { left } else { left.min(room) };
            room = room.saturating_sub(taken);
            let chunks = next..next + taken;
            next += taken;
            let ends = next == phase.chunks.end;
            let &Phase { solid, far_to_near, nearest_wins, .. } = phase;
            parts.push(Part { round, solid, far_to_near, nearest_wins, chunks, ends });
        }
    }
}

/// Adds a solid part to the first round if it has none, so that groups, which no chunk holds, are drawn with it.
pub(super) fn begin_solid(parts: &mut Vec<Part>) {
    if !parts.iter().any(|part| part.solid && part.round == 0) {
        let none =
            Part { round: 0, solid: true, far_to_near: false, nearest_wins: true, chunks: 0..0, ends: true };
        parts.insert(0, none);
    }
}
