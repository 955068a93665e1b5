//! Squares of ground and the blades on them.

use std::ops::Range;

use glam::{Vec2, Vec3};
use serde::{Deserialize, Serialize};

use super::columns::{BladeColumns, BladeRow};
use crate::placement::MOST_KINDS;
use crate::poses::Group;
use crate::world::pushers::Pushing;

/// A square of ground and the blades on it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct Chunk {
    /// Coordinates of the square, in sides from the origin.
    pub cell: [i32; 2],
    /// Index of its first blade.
    pub first: u32,
    /// Number of its blades.
    pub len: u32,
    /// Cumulative number of blades by kind: blades of a kind are contiguous.
    pub kinds: [u32; MOST_KINDS],
    /// Least x, y, z that any part of its blades can reach, in metres.
    pub low: [f32; 3],
    /// Greatest x, y, z that any part of its blades can reach, in metres.
    pub high: [f32; 3],
    /// Whether it was visible at the last update.
    pub visible: bool,
    /// Whether something presses its blades down, or did recently.
    pub pressed: bool,
    /// Its group; none if its blades are drawn one by one.
    pub group: Option<Group>,
    /// Its layout, while it is level and shows all of it.
    pub(super) layout: Option<u32>,
    /// Whether it holds a square of endless ground.
    pub(super) there: bool,
    /// Distance from the eye at the last update, in metres.
    pub(super) distance: f32,
    /// Whether its blades are drawn one by one at any distance.
    pub(super) apart: bool,
    /// Whether it was not stepped for some time, so that its blades have to start at the lean of the wind.
    pub(super) stale: bool,
    /// Time for which blades that stop swinging still settle, in seconds.
    pub(super) settle: f32,
}

impl Chunk {
    pub(super) fn empty(first: u32) -> Self {
        Self {
            cell: [0; 2],
            first,
            len: 0,
            kinds: [0; MOST_KINDS],
            low: [f32::INFINITY; 3],
            high: [f32::NEG_INFINITY; 3],
            visible: true,
            pressed: false,
            group: None,
            layout: None,
            there: false,
            distance: 0.0,
            apart: false,
            stale: false,
            settle: 0.0,
        }
    }

    /// Adds a blade, and extends the box by its reach.
    pub(super) fn add(&mut self, row: &BladeRow) {
        self.len += 1;
        // Kinds come in order.
        let kind = (row.kind & !BladeColumns::TORN) as usize;
        self.kinds[kind.min(MOST_KINDS - 1)..].iter_mut().for_each(|end| *end = self.len);
        self.extend(row);
    }

    /// Extends the box by the reach of a blade.
    pub(super) fn extend(&mut self, row: &BladeRow) {
        let reach = row.length;
        for (axis, at) in [row.px, row.py, row.pz].into_iter().enumerate() {
            // Apart from its width, no part of a blade is below its root.
            let below = if axis == 1 { row.size } else { reach + row.size };
            self.low[axis] = self.low[axis].min(at - below);
            self.high[axis] = self.high[axis].max(at + reach + row.size);
        }
    }

    /// Rows of its blades.
    pub(super) fn range(&self) -> Range<usize> {
        self.first as usize..(self.first + self.len) as usize
    }

    /// Replaces its blades, whose kinds come in order.
    pub(super) fn refill(&mut self, rows: &[BladeRow]) {
        (self.len, self.kinds) = (0, [0; MOST_KINDS]);
        (self.low, self.high) = ([f32::INFINITY; 3], [f32::NEG_INFINITY; 3]);
        // It no longer looks like its layout.
        (self.layout, self.group) = (None, None);
        rows.iter().for_each(|row| self.add(row));
    }

    /// Brings the box to where its blades reach.
    pub(super) fn enclose(&mut self, columns: &BladeColumns) {
        (self.low, self.high) = ([f32::INFINITY; 3], [f32::NEG_INFINITY; 3]);
        for nth in self.range() {
            if let Some(row) = columns.row(nth) {
                self.extend(&row);
            }
        }
    }

    /// Returns whether a saved square fits blades of these kinds, and a number of layouts.
    pub(super) fn fits(&self, kinds: &[u32], layouts: usize) -> bool {
        let first = self.first as usize;
        let range = first.checked_add(self.len as usize).and_then(|end| kinds.get(first..end));
        let cumulative = self.kinds.is_sorted() && self.kinds[MOST_KINDS - 1] == self.len;
        let known = |layout: Option<u32>| layout.is_none_or(|layout| (layout as usize) < layouts);
        let listed = known(self.layout) && known(self.group.map(|group| group.layout));
        range.is_some() && (cumulative || self.len == 0) && listed
    }

    /// Range of its blades of a kind: first and count.
    pub fn of_kind(&self, kind: usize) -> (u32, u32) {
        let before = if kind == 0 { 0 } else { self.kinds[kind.min(MOST_KINDS) - 1] };
        let end = self.kinds.get(kind).copied().unwrap_or(before);
        (self.first + before, end - before)
    }

    /// Whether a pusher reaches it.
    pub(super) fn is_reached_by(&self, pushing: &Pushing) -> bool {
        let [low, high] = [Vec3::from(self.low), Vec3::from(self.high)];
        let nearest = pushing.at.clamp(low, high);
        let off = Vec2::new(nearest.x - pushing.at.x, nearest.z - pushing.at.z);
        off.length() < pushing.radius
    }
}
