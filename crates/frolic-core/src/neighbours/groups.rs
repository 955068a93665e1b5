//! Groups: elements that are joined by steps of at most a radius from one to the next.

use super::spec::{AxisSpec, NeighbourSpec};
use crate::foundations::error::SpecError;

/// Cells along an axis. Those of one cell are all within a radius of each other, so only cells are joined.
#[derive(Debug, Clone, Copy)]
struct Along {
    low: f32,
    per_metre: f32,
    /// Cells after which space begins again and its length in metres, or 0.
    around: i64,
    length: f32,
    /// Cells that may be within the radius to each side.
    reach: i64,
}

/// Number of groups of elements: each is within [`NeighbourSpec::reach`] of another of its group, none of another group. An element on its own is a group.
/// O(n log n); it is meant for a look now and then.
///
/// ```
/// use frolic_core::neighbours::{NeighbourSpec, groups};
/// let x = [0.0, 0.4, 0.8, 5.0];
/// assert_eq!(groups(&NeighbourSpec::new(0.5), [&x, &[0.0; 4], &[0.0; 4]])?, 2);
/// # Ok::<(), frolic_core::SpecError>(())
/// ```
///
/// # Errors
/// A value of the spec is out of range, columns differ in length, or a position is not finite.
pub fn groups(spec: &NeighbourSpec, position: [&[f32]; 3]) -> Result<usize, SpecError> {
    spec.check()?;
    let count = position[0].len();
    if position.iter().any(|column| column.len() != count) {
        let problem = format!("has columns of {:?} values", position.map(<[f32]>::len));
        return Err(SpecError::new("position", problem, "give columns of one length"));
    }
    if position.iter().any(|column| column.iter().any(|at| !at.is_finite())) {
        return Err(SpecError::new("position", "is not finite", "leave out elements without a place"));
    }
    let counted = spec.axes.iter().filter(|axis| **axis != AxisSpec::Ignored).count().max(1);
    let side = spec.reach / (counted as f32).sqrt() * 0.999;
    let along = spec.axes.map(|axis| Along::new(axis, side, spec.reach));
    // Elements in the order of cells, and where each cell begins.
    let cell = |nth: usize| [0, 1, 2].map(|axis| along[axis].cell(position[axis][nth]));
    let mut order: Vec<([i64; 3], u32)> = (0..count).map(|nth| (cell(nth), nth as u32)).collect();
    order.sort_unstable();
    let mut cells: Vec<([i64; 3], usize)> = Vec::new();
    for (nth, (cell, _)) in order.iter().enumerate() {
        if cells.last().is_none_or(|(last, _)| last != cell) {
            cells.push((*cell, nth));
        }
    }
    let members = |nth: usize| {
        let end = cells.get(nth + 1).map_or(order.len(), |(_, first)| *first);
        &order[cells[nth].1..end]
    };
    let near = |a: u32, b: u32| {
        let way =
            [0, 1, 2].map(|axis| along[axis].way(position[axis][a as usize], position[axis][b as usize]));
        way.iter().map(|axis| axis * axis).sum::<f32>() <= spec.reach * spec.reach
    };
    let mut parent: Vec<u32> = (0..cells.len() as u32).collect();
    let mut left = cells.len();
    for (nth, (cell, _)) in cells.iter().enumerate() {
        for_each_around(&along, *cell, |other| {
            let Ok(other) = cells.binary_search_by_key(&other, |(cell, _)| *cell) else { return };
            // Each pair once; those that are joined already need no look.
            if other <= nth || root(&mut parent, nth) == root(&mut parent, other) {
                return;
            }
            let joined = members(nth).iter().any(|a| members(other).iter().any(|b| near(a.1, b.1)));
            if joined {
                let (a, b) = (root(&mut parent, nth), root(&mut parent, other));
                parent[a.max(b)] = a.min(b) as u32;
                left -= 1;
            }
        });
    }
    Ok(left)
}

impl Along {
    fn new(axis: AxisSpec, side: f32, reach: f32) -> Self {
        match axis {
            AxisSpec::Ignored => Self { low: 0.0, per_metre: 0.0, around: 0, length: 0.0, reach: 0 },
            AxisSpec::Wrapping(low, high) => {
                let length = high - low;
                // No longer than the side, or they would hold elements too far from each other.
                let cells = (length / side).ceil().max(1.0);
                let reach = (reach * cells / length).ceil() as i64;
                Self { low, per_metre: cells / length, around: cells as i64, length, reach }
            }
            _ => Self {
                low: 0.0,
                per_metre: 1.0 / side,
                around: 0,
                length: 0.0,
                reach: (reach / side).ceil() as i64,
            },
        }
    }

    fn cell(&self, at: f32) -> i64 {
        let cell = ((at - self.low) * self.per_metre).floor() as i64;
        if self.around > 0 { cell.rem_euclid(self.around) } else { cell }
    }

    fn way(&self, from: f32, to: f32) -> f32 {
        let way = if self.per_metre == 0.0 { 0.0 } else { to - from };
        if self.length > 0.0 { way - (way / self.length).round() * self.length } else { way }
    }
}

/// The cells that may be within the radius of one, and perhaps itself.
fn for_each_around(along: &[Along; 3], cell: [i64; 3], mut see: impl FnMut([i64; 3])) {
    let [x, y, z] = along.map(|axis| -axis.reach..=axis.reach);
    for dz in z {
        for dy in y.clone() {
            for dx in x.clone() {
                let mut other = cell;
                for ((value, off), axis) in other.iter_mut().zip([dx, dy, dz]).zip(along) {
                    *value = value.saturating_add(off);
                    if axis.around > 0 {
                        *value = value.rem_euclid(axis.around);
                    }
                }
                see(other);
            }
        }
    }
}

/// The first cell of a group, to which all on the way are joined.
fn root(parent: &mut [u32], mut nth: usize) -> usize {
    while parent[nth] as usize != nth {
        parent[nth] = parent[parent[nth] as usize];
        nth = parent[nth] as usize;
    }
    nth
}
