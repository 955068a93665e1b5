//! Columns of the visible elements, filled for each picture.

use crate::foundations::columns::{columns, split_columns};
use crate::foundations::random::{hash3, pair};
use crate::foundations::span::Span;
use crate::placement::PlacedColumns;
use crate::poses::sealed::Sealed;
use crate::poses::{Posed, Poses};

use super::{Cluster, GROW_SEED};

columns! {
    /// One visible element.
    row ShownRow;
    /// Elements of the visible clusters, filled for each picture. All slices have one length.
    columns ShownColumns;
    /// Position x, in metres.
    px: f32,
    /// Position y (up), in metres.
    py: f32,
    /// Position z, in metres.
    pz: f32,
    /// Full size, in metres.
    size: f32,
    /// Turn about y, in radians.
    turn: f32,
    /// Tilt about the turned x axis, in radians.
    tilt: f32,
    /// Growth, 0 to just under 1; below 0 for an empty place.
    growth: f32,
    /// Lifetime, 1 for all elements: growth is their age.
    whole: f32,
    /// Tint, 0 to 1.
    tint: f32,
    /// Key of the element's random numbers.
    id: u32,
}

impl ShownColumns {
    /// The three position columns, in metres.
    pub fn position(&self) -> [&[f32]; 3] {
        [&self.px, &self.py, &self.pz]
    }
}

/// Range of one cluster in the shown columns.
pub(super) struct Piece<'a> {
    /// Place x, y, z; size; turn, tilt; growth; tint.
    columns: [&'a mut [f32]; 8],
    pub(super) id: &'a mut [u32],
}

impl ShownColumns {
    pub(super) fn resize(&mut self, len: usize) {
        let Self { px, py, pz, size, turn, tilt, growth, whole, tint, id } = self;
        for column in [px, py, pz, size, turn, tilt, growth, tint] {
            column.resize(len, 0.0);
        }
        whole.resize(len, 1.0);
        id.resize(len, 0);
    }

    pub(super) fn whole_piece(&mut self) -> Piece<'_> {
        let Self { px, py, pz, size, turn, tilt, growth, tint, id, .. } = self;
        Piece { columns: [px, py, pz, size, turn, tilt, growth, tint], id }
    }
}

impl Piece<'_> {
    /// Visits the visible clusters, each with its own range, in halves on all cores.
    pub(super) fn over(self, visible: &[(u32, u32)], visit: &(impl Fn(u32, Piece<'_>) + Sync)) {
        let Some(&(nth, first)) = visible.first() else { return };
        if visible.len() == 1 {
            return visit(nth, self);
        }
        let (left, right) = visible.split_at(visible.len() / 2);
        let (before, after) = self.split((right[0].1 - first) as usize);
        rayon::join(|| before.over(left, visit), || after.over(right, visit));
    }

    pub(super) fn split(self, at: usize) -> (Self, Self) {
        let (before, after) = split_columns(self.columns, at);
        let (id, ids) = self.id.split_at_mut(at);
        (Self { columns: before, id }, Self { columns: after, id: ids })
    }

    pub(super) fn fill(&mut self, cluster: &Cluster, layout: &PlacedColumns, growth: &[u32], size: Span) {
        let (sin, cos) = libm::sincosf(cluster.turn);
        let [cx, cy, cz] = cluster.place;
        let [x, y, z] = layout.position();
        let [px, py, pz, full, turn, tilt, grown, tints] = &mut self.columns;
        for nth in 0..growth.len() {
            px[nth] = cx + x[nth] * cos + z[nth] * sin;
            py[nth] = cy + y[nth];
            pz[nth] = cz + z[nth] * cos - x[nth] * sin;
            let id = hash3(cluster.key, nth as u32, GROW_SEED)[0];
            let [large, tint] = pair(id);
            self.id[nth] = id;
            full[nth] = size.at(large) * layout.size[nth];
            turn[nth] = layout.turn[nth] + cluster.turn;
            tilt[nth] = layout.tilt[nth];
            tints[nth] = tint;
            // Full growth is just under 1, like an age; empty places are below 0.
            let share = growth[nth] as f32 * (1.0 / 4_294_967_296.0);
            grown[nth] = if growth[nth] == 0 { -1.0 } else { share.min(0.999_999) };
        }
    }
}

impl Sealed for ShownColumns {}

impl Posed for ShownColumns {
    fn poses(&self) -> Poses<'_> {
        Poses {
            size: Some(self.size()),
            turn: Some([self.turn(), self.tilt()]),
            age: Some([self.growth(), self.whole()]),
            tint: Some(self.tint()),
            id: Some(self.id()),
            ..Poses::at(self.position())
        }
    }
}
