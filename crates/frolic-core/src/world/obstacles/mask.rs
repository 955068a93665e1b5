//! A mask: a picture whose opaque parts are solid, and which can be dug and filled while it is in use.
//!
//! It holds signed distances to the edge of the solid parts, which give normals and safe step lengths for swept elements. Distances
//! are exact within a band and constant beyond it; an edit recomputes only its own square and the band
//! around it. Two passes of lower envelopes: Felzenszwalb and Huttenlocher, "Distance Transforms of Sampled Functions" (2012), O(cells).

use std::collections::VecDeque;
use std::sync::Arc;

use glam::{Vec2, Vec3};
use serde::{Deserialize, Serialize};

use crate::assets::Plane;
use crate::foundations::simd::{Level, Simd, kernel};
use crate::world::new_stamp;

/// Orientation of a mask in the world.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum MaskOrientation {
    /// Across is x, up is y; the same at every z.
    #[default]
    Upright,
    /// Across is x, up in the picture is away (-z); the same at every height.
    Flat,
}

impl MaskOrientation {
    /// The point of its plane, across and up, at a position.
    pub(crate) fn flat(self, place: Vec3) -> Vec2 {
        match self {
            Self::Upright => Vec2::new(place.x, place.y),
            Self::Flat => Vec2::new(place.x, -place.z),
        }
    }

    /// A point or a direction of its plane, in world axes.
    pub(crate) fn raise(self, flat: Vec2) -> Vec3 {
        match self {
            Self::Upright => flat.extend(0.0),
            Self::Flat => Vec3::new(flat.x, 0.0, -flat.y),
        }
    }
}

/// Distance and direction at the centre of a cell, packed into four bytes, so that the cells near an edge fit a cache.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
struct Cell {
    /// Signed distance, in [`PARTS`] of a cell, negative where solid; within ±[`BAND`] cells.
    distance: i16,
    /// Direction out of the solid parts, times [`UNIT`].
    way: [i8; 2],
}

/// Resolution of distances: parts of a cell.
const PARTS: f32 = 1000.0;

/// Length of a direction in a cell.
const UNIT: f32 = 127.0;

/// A built mask.
#[derive(Debug, Clone)]
pub struct Mask {
    width: usize,
    height: usize,
    /// Lower left corner and the size of a cell, in metres.
    corner: Vec2,
    cell: f32,
    orientation: MaskOrientation,
    /// Which cells are solid, rows from the lower edge up.
    solid: Vec<bool>,
    cells: Vec<Cell>,
    /// Signed distance at the centre of each cell, in quarters of a cell, rounded down: for the first test, as it fits a cache.
    quarters: Vec<i8>,
    /// Number of edits, and the present stamp.
    edits: u64,
    stamp: u64,
    /// The last edits, newest first: the stamp before, then least and greatest cell, x and y.
    changes: VecDeque<(u64, [usize; 4])>,
}

/// Number of edits whose rectangles are kept.
const KEPT: usize = 256;

/// Distances are constant beyond this number of cells.
pub(crate) const BAND: usize = 32;

/// Most that the distance of a cell exceeds that of a position in it, in cells: half a diagonal, and the rounding to a
/// quarter of a cell.
const NEAR: f32 = 1.1;

/// Cells around an edit that are recomputed: the band, and the neighbourhood of a direction.
const REACH: usize = BAND + 4;

kernel! {
    /// Finds, for a first look at a block, the cell that each element is in, or the nearest one of the picture; and how far within
    /// the picture it can have come from, in cells.
    pub(super) fn find_cells(
        simd, mask: &Mask, px: &[f32], py: &[f32], pz: &[f32], vx: &[f32], vy: &[f32], vz: &[f32], dt: f32, cells: &mut [u32],
        ways: &mut [f32],
    ) {
        mask.find(simd, px, py, pz, vx, vy, vz, dt, cells, ways);
    }
}

impl Mask {
    /// A mask from a picture, solid where the value is at least `threshold`, with its centre and cell size in metres.
    pub(crate) fn new(
        picture: &Arc<Plane>,
        threshold: f32,
        middle: Vec3,
        cell: f32,
        orientation: MaskOrientation,
    ) -> Self {
        let solid: Vec<bool> = picture.values().iter().map(|&value| value >= threshold).collect();
        let (width, height) = (picture.width(), picture.height());
        // One row and one cell more, so that each cell has neighbours above and beside it.
        let cells = vec![Cell::default(); solid.len() + width + 2];
        let quarters = vec![0; solid.len()];
        let corner = orientation.flat(middle) - Vec2::new(width as f32, height as f32) * (cell * 0.5);
        let mut mask = Self {
            width,
            height,
            corner,
            cell,
            orientation,
            solid,
            cells,
            quarters,
            edits: 0,
            stamp: new_stamp(),
            changes: VecDeque::with_capacity(KEPT),
        };
        mask.measure(0, 0, width, height);
        mask
    }

    /// Number of cells across.
    pub fn width(&self) -> usize {
        self.width
    }

    /// Number of cells up.
    pub fn height(&self) -> usize {
        self.height
    }

    /// Size of a cell, in metres.
    pub fn cell(&self) -> f32 {
        self.cell
    }

    /// Number of edits.
    pub fn edits(&self) -> u64 {
        self.edits
    }

    /// Unique stamp, replaced by each edit: see [`Mask::changed_since`].
    pub fn stamp(&self) -> u64 {
        self.stamp
    }

    /// The rectangle of cells whose distances may have changed since a stamp: least x and y, then x and y past the greatest.
    /// The whole mask, for an old stamp or that of another mask.
    pub fn changed_since(&self, stamp: u64) -> Option<[usize; 4]> {
        if stamp == self.stamp {
            return None;
        }
        let Some(last) = self.changes.iter().position(|(before, _)| *before == stamp) else {
            return Some([0, 0, self.width, self.height]);
        };
        let join =
            |a: [usize; 4], b: [usize; 4]| [a[0].min(b[0]), a[1].min(b[1]), a[2].max(b[2]), a[3].max(b[3])];
        self.changes.iter().take(last + 1).map(|(_, place)| *place).reduce(join)
    }

    /// Centre of the mask, in metres, at z or height 0.
    pub fn middle(&self) -> [f32; 3] {
        let half = Vec2::new(self.width as f32, self.height as f32) * (self.cell * 0.5);
        self.orientation.raise(self.corner + half).to_array()
    }

    /// Its orientation.
    pub fn orientation(&self) -> MaskOrientation {
        self.orientation
    }

    /// Signed distance, in cells, and the direction out of the solid parts, at a position in cells from the lower left corner.
    pub fn sample_cells(&self, across: f32, up: f32) -> (f32, [f32; 2]) {
        let (distance, way) = self.between(Vec2::new(across, up));
        (distance, way.normalize_or_zero().to_array())
    }

    /// Frees (`dig`) or fills a disc around a point of the mask's plane; point and radius are in metres. Returns the number of cells that
    /// changed. The cost is proportional to the cells of the disc and of the band around it.
    pub(crate) fn brush(&mut self, at: Vec2, radius: f32, dig: bool) -> usize {
        let middle = (at - self.corner) / self.cell;
        let reach = radius / self.cell;
        let span = |middle: f32, count: usize| {
            let low = (middle - reach - 0.5).floor().clamp(0.0, count as f32) as usize;
            let high = (middle + reach + 0.5).ceil().clamp(0.0, count as f32) as usize;
            (low, high)
        };
        let ((x0, x1), (y0, y1)) = (span(middle.x, self.width), span(middle.y, self.height));
        let mut changed = 0;
        for y in y0..y1 {
            for x in x0..x1 {
                let off = Vec2::new(x as f32 + 0.5, y as f32 + 0.5) - middle;
                let solid = &mut self.solid[y * self.width + x];
                if off.length_squared() <= reach * reach && *solid == dig {
                    *solid = !dig;
                    changed += 1;
                }
            }
        }
        if changed > 0 {
            self.update([x0, y0, x1, y1]);
        }
        changed
    }

    /// Which cells are solid, 32 a number, rows from the lower edge up.
    pub(crate) fn save(&self) -> Vec<u32> {
        let word = |cells: &[bool]| {
            cells.iter().enumerate().fold(0, |word, (bit, &solid)| word | (u32::from(solid) << bit))
        };
        self.solid.chunks(32).map(word).collect()
    }

    /// Takes over saved cells. Returns false if they are of a mask of another size.
    pub(crate) fn restore(&mut self, saved: &[u32]) -> bool {
        if saved.len() != self.solid.len().div_ceil(32) {
            return false;
        }
        let mut differing: Option<[usize; 4]> = None;
        for (nth, solid) in self.solid.iter_mut().enumerate() {
            let was = saved[nth / 32] >> (nth % 32) & 1 == 1;
            if *solid != was {
                *solid = was;
                let (x, y) = (nth % self.width, nth / self.width);
                let [x0, y0, x1, y1] = differing.unwrap_or([x, y, x, y]);
                differing = Some([x0.min(x), y0.min(y), x1.max(x + 1), y1.max(y + 1)]);
            }
        }
        if let Some(cells) = differing {
            self.update(cells);
        }
        true
    }

    /// Brings distances up to date after cells of a rectangle have changed: least x and y, then x and y past the greatest.
    fn update(&mut self, [x0, y0, x1, y1]: [usize; 4]) {
        let (left, low) = (x0.saturating_sub(REACH), y0.saturating_sub(REACH));
        let (right, high) = ((x1 + REACH).min(self.width), (y1 + REACH).min(self.height));
        self.edits += 1;
        self.changes.truncate(KEPT - 1);
        self.changes.push_front((self.stamp, [left, low, right, high]));
        self.stamp = new_stamp();
        self.measure(left, low, right, high);
    }

    /// Recomputes the distances of a rectangle of cells, from the cells within the band around it.
    fn measure(&mut self, x0: usize, y0: usize, x1: usize, y1: usize) {
        if x1 <= x0 || y1 <= y0 {
            return;
        }
        // A ring wider than the picture takes the place of the free cells around it.
        let (left, low) = (x0 as isize - REACH as isize, y0 as isize - REACH as isize);
        let (width, height) = (x1 - x0 + 2 * REACH, y1 - y0 + 2 * REACH);
        let solid_at = |x: usize, y: usize| {
            let (x, y) = (left + x as isize, low + y as isize);
            let inside = x >= 0 && y >= 0 && (x as usize) < self.width && (y as usize) < self.height;
            inside && self.solid[y as usize * self.width + x as usize]
        };
        let to_solid = squares(width, height, solid_at);
        let to_free = squares(width, height, |x, y| !solid_at(x, y));
        let band = BAND as f32;
        let signed = |at: usize| {
            let value = if to_free[at] > 0.0 { 0.5 - to_free[at].sqrt() } else { to_solid[at].sqrt() - 0.5 };
            value.clamp(-band, band)
        };
        for y in y0..y1 {
            for x in x0..x1 {
                let at = (y - y0 + REACH) * width + x - x0 + REACH;
                let (cell, distance) = (y * self.width + x, signed(at));
                self.cells[cell].distance = (distance * PARTS).round() as i16;
                self.quarters[cell] = (distance * 4.0).floor() as i8;
            }
        }
        for y in y0..y1 {
            for x in x0..x1 {
                let way = self.direction(Vec2::new(x as f32 + 0.5, y as f32 + 0.5)) * UNIT;
                self.cells[y * self.width + x].way = [way.x.round() as i8, way.y.round() as i8];
            }
        }
    }

    /// A position, in cells from the lower left corner.
    fn in_cells(&self, place: Vec3) -> Vec2 {
        self.to_cells(self.orientation.flat(place))
    }

    /// Signed distance at a position, in metres, and the direction out of the solid parts (a unit vector, or zero if unknown).
    pub(crate) fn sample(&self, place: Vec3) -> (f32, Vec3) {
        let (distance, way) = self.look_at(self.in_cells(place));
        (distance * self.cell, self.orientation.raise(way))
    }

    /// The same in the mask's plane, in cells.
    pub(crate) fn look_at(&self, at: Vec2) -> (f32, Vec2) {
        let held = at.max(Vec2::ZERO).min(Vec2::new(self.width as f32, self.height as f32));
        let (inside, way) = self.between(held);
        if at == held {
            return (inside, way.normalize_or_zero());
        }
        let off = at - held;
        let away = off.length();
        ((inside.max(0.0).powi(2) + away * away).sqrt(), off / away)
    }

    /// Signed distance at a position, in metres, as of [`Mask::sample`].
    pub(crate) fn distance(&self, place: Vec3) -> f32 {
        let at = self.in_cells(place);
        let [distance] = self.distances(Level::baseline(), &[at.x], &[at.y]);
        distance * self.cell
    }

    /// Signed distances at some places, all in cells: one a lane.
    #[inline(always)]
    pub(crate) fn distances<S: Copy, const LANES: usize>(
        &self,
        _simd: S,
        x: &[f32; LANES],
        y: &[f32; LANES],
    ) -> [f32; LANES] {
        let (width, height) = (self.width as f32, self.height as f32);
        let (mut first, mut share, mut away) = ([0u32; LANES], [[0.0f32; LANES]; 2], [0.0f32; LANES]);
        for i in 0..LANES {
            let (u, v) = (x[i].max(0.0).min(width), y[i].max(0.0).min(height));
            away[i] = (x[i] - u) * (x[i] - u) + (y[i] - v) * (y[i] - v);
            let (at, fx, fy) = self.below(u, v);
            (first[i], share[0][i], share[1][i]) = (at, fx, fy);
        }
        let mut corners = [[0i32; LANES]; 4];
        for i in 0..LANES {
            let cells = self.around(first[i]);
            for corner in 0..4 {
                corners[corner][i] = i32::from(cells[corner].distance);
            }
        }
        let mut out = [0.0; LANES];
        for i in 0..LANES {
            let inside =
                mix(corners.map(|corner| corner[i] as f32), share[0][i], share[1][i]) * (1.0 / PARTS);
            // The position is beyond the picture.
            let outside = (inside.max(0.0) * inside.max(0.0) + away[i]).sqrt();
            out[i] = if away[i] > 0.0 { outside } else { inside };
        }
        out
    }

    /// The lower left of the four cells around a position, in cells, and the position between their centres.
    /// Positions beyond the outermost centres are clamped; one that is not a number is taken as the first.
    #[inline(always)]
    fn below(&self, x: f32, y: f32) -> (u32, f32, f32) {
        let most = |count: usize| (count as f32 - 1.0001).max(0.0);
        let (x, y) = ((x - 0.5).max(0.0).min(most(self.width)), (y - 0.5).max(0.0).min(most(self.height)));
        let (column, row) = (x as i32, y as i32);
        ((row * self.width as i32 + column) as u32, x - column as f32, y - row as f32)
    }

    /// Four cells from the lower left one. In a picture one cell wide or high the others have no weight.
    #[inline(always)]
    fn around(&self, first: u32) -> [Cell; 4] {
        let low = &self.cells[first as usize..][..2];
        let high = &self.cells[first as usize + self.width..][..2];
        [low[0], low[1], high[0], high[1]]
    }

    /// Linear between the centres of cells, in cells; constant beyond the outermost. The direction is not a unit vector.
    #[inline]
    fn between(&self, at: Vec2) -> (f32, Vec2) {
        let (first, fx, fy) = self.below(at.x, at.y);
        let cells = self.around(first);
        let along = |axis: usize| mix(cells.map(|cell| f32::from(cell.way[axis])), fx, fy);
        let distance = mix(cells.map(|cell| f32::from(cell.distance)), fx, fy) * (1.0 / PARTS);
        (distance, Vec2::new(along(0), along(1)))
    }

    /// The direction out of the solid parts, from the distances around a cell. It uses several cells, so that the steps of a slanting edge do
    /// not show, but few where these disagree, as in a wall of one cell.
    fn direction(&self, at: Vec2) -> Vec2 {
        let over = |half: f32| {
            let along = |axis: Vec2| self.between(at + axis * half).0 - self.between(at - axis * half).0;
            Vec2::new(along(Vec2::X), along(Vec2::Y)).normalize_or_zero()
        };
        let (near, wide) = (over(0.75), over(1.75));
        if near.dot(wide) > 0.7 { wide } else { near }
    }

    /// Returns whether a position at rest is at the edge of the solid parts, by its cell.
    pub(crate) fn supports(&self, place: Vec3) -> bool {
        let at = self.in_cells(place);
        if !(at.x >= 0.0 && at.y >= 0.0 && at.x < self.width as f32 && at.y < self.height as f32) {
            return false;
        }
        f32::from(self.cells[at.y as usize * self.width + at.x as usize].distance).abs() <= 1.6 * PARTS
    }

    /// A cell in one word: the distance in its low half, then the two parts of the direction.
    pub(crate) fn word(&self, nth: usize) -> u32 {
        let Cell { distance, way: [x, y] } = self.cells[nth];
        u32::from(distance as u16) | u32::from(x as u8) << 16 | u32::from(y as u8) << 24
    }

    /// Lower left corner of its plane, in metres.
    pub(crate) fn corner(&self) -> Vec2 {
        self.corner
    }

    /// Cells in a metre.
    pub(crate) fn per_metre(&self) -> f32 {
        1.0 / self.cell
    }

    /// A position, in cells from the lower left corner.
    pub(crate) fn to_cells(&self, flat: Vec2) -> Vec2 {
        (flat - self.corner) * self.per_metre()
    }

    /// The point of the plane, in metres, at a position in cells from the lower left corner.
    pub(crate) fn at_cells(&self, at: Vec2) -> Vec2 {
        self.corner + at * self.cell
    }

    #[expect(
        clippy::too_many_arguments,
        reason = "plain slices, so that the compiler knows that they do not overlap"
    )]
    #[inline(always)]
    fn find<S: Simd>(
        &self,
        _simd: S,
        px: &[f32],
        py: &[f32],
        pz: &[f32],
        vx: &[f32],
        vy: &[f32],
        vz: &[f32],
        dt: f32,
        cells: &mut [u32],
        ways: &mut [f32],
    ) {
        let n = px.len();
        let (up, rise) = match self.orientation {
            MaskOrientation::Upright => (&py[..n], 1.0),
            MaskOrientation::Flat => (&pz[..n], -1.0),
        };
        let (vx, vy, vz) = (&vx[..n], &vy[..n], &vz[..n]);
        let (cells, ways) = (&mut cells[..n], &mut ways[..n]);
        let per_cell = self.per_metre();
        let (left, low) = (self.corner.x, self.corner.y);
        let (wide, high) = (self.width as f32 - 0.01, self.height as f32 - 0.01);
        let row = self.width as i32;
        for i in 0..n {
            let (x, y) = ((px[i] - left) * per_cell, (up[i] * rise - low) * per_cell);
            // Clamped to the picture.
            let (u, v) = (x.max(0.0).min(wide), y.max(0.0).min(high));
            let off = (x - u) * (x - u) + (y - v) * (y - v);
            // Cell numbers fit a small integer, so no check is needed, which would prevent vectorising.
            let (column, line) = (u as i32, v as i32);
            cells[i] = (line * row + column) as u32;
            let way = (vx[i] * vx[i] + vy[i] * vy[i] + vz[i] * vz[i]) * (dt * per_cell) * (dt * per_cell);
            // The whole picture is behind its nearest point. An element below everything is out of reach.
            ways[i] = if way >= off { (way - off).sqrt() } else { -1e9 };
        }
    }

    /// Marks elements that can have touched something, from the cells of [`Mask::find`]. One read for each element.
    pub(crate) fn look(&self, cells: &[u32], ways: &[f32], flags: &mut [u32]) {
        for ((cell, way), flag) in cells.iter().zip(ways).zip(flags) {
            *flag |= u32::from(f32::from(self.quarters[*cell as usize]) * 0.25 - NEAR <= *way);
        }
    }
}

/// Linear between the values of four cells, the lower two first.
#[inline(always)]
fn mix([a, b, c, d]: [f32; 4], fx: f32, fy: f32) -> f32 {
    let (low, high) = (a + (b - a) * fx, c + (d - c) * fx);
    low + (high - low) * fy
}

/// Squared distances, in cells, from every cell to the nearest one for which `holds`; limited to a little over the band.
fn squares(width: usize, height: usize, holds: impl Fn(usize, usize) -> bool) -> Vec<f32> {
    let far = ((2 * REACH) * (2 * REACH)) as f32;
    let mut out = vec![far; width * height];
    // Along rows one scan in each direction suffices, as all costs start at 0.
    for y in 0..height {
        let row = &mut out[y * width..(y + 1) * width];
        let mut last = f32::INFINITY;
        for x in 0..width {
            last = if holds(x, y) { 0.0 } else { last + 1.0 };
            row[x] = (last * last).min(far);
        }
        last = f32::INFINITY;
        for x in (0..width).rev() {
            last = if row[x] == 0.0 { 0.0 } else { last + 1.0 };
            row[x] = row[x].min(last * last);
        }
    }
    // Up the columns, the lower envelope of parabolas.
    let mut column = vec![0.0f32; height];
    let mut roots = vec![0usize; height];
    let mut bounds = vec![0.0f32; height + 1];
    for x in 0..width {
        for y in 0..height {
            column[y] = out[y * width + x];
        }
        let meets = |q: usize, r: usize| {
            let height = |y: usize| column[y] + (y * y) as f32;
            (height(q) - height(r)) / (2.0 * (q as f32 - r as f32))
        };
        let mut k = 0;
        roots[0] = 0;
        (bounds[0], bounds[1]) = (f32::NEG_INFINITY, f32::INFINITY);
        for q in 1..height {
            let mut at = meets(q, roots[k]);
            while k > 0 && at <= bounds[k] {
                k -= 1;
                at = meets(q, roots[k]);
            }
            k += 1;
            roots[k] = q;
            (bounds[k], bounds[k + 1]) = (at, f32::INFINITY);
        }
        k = 0;
        for y in 0..height {
            while bounds[k + 1] < y as f32 {
                k += 1;
            }
            let off = y as f32 - roots[k] as f32;
            out[y * width + x] = column[roots[k]] + off * off;
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn mask(width: usize, height: usize, solid: &[bool]) -> Mask {
        let values = solid.iter().map(|&solid| f32::from(u8::from(solid))).collect();
        let plane = Arc::new(Plane::new(width, height, values).unwrap());
        let half = Vec2::new(width as f32, height as f32) * 0.125;
        Mask::new(&plane, 0.5, (Vec2::new(-1.0, 0.5) + half).extend(0.0), 0.25, MaskOrientation::Upright)
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(48))]

        /// Squared distances equal a search through all cells.
        #[test]
        fn squares_equal_brute_force(width in 1usize..24, height in 1usize..24, bits in prop::collection::vec(any::<bool>(), 576)) {
            let holds = |x: usize, y: usize| bits[y * 24 + x];
            let got = squares(width, height, holds);
            for y in 0..height {
                for x in 0..width {
                    let mut want = f32::INFINITY;
                    for v in 0..height {
                        for u in 0..width {
                            if holds(u, v) {
                                want = want.min(((u as f32 - x as f32).powi(2)) + (v as f32 - y as f32).powi(2));
                            }
                        }
                    }
                    let got = got[y * width + x];
                    prop_assert!(got == want || (want == f32::INFINITY && got > 4000.0), "{} for {}", got, want);
                }
            }
        }

        /// After any edits a mask equals a new one of the same cells.
        #[test]
        fn edits_equal_a_rebuild(
            strokes in prop::collection::vec((-1f32..26.0, -1f32..26.0, 0f32..3.0, any::<bool>()), 1..12),
            fill in any::<bool>(),
        ) {
            let (width, height) = (100, 90);
            let mut edited = mask(width, height, &vec![fill; width * height]);
            for (x, y, radius, dig) in strokes {
                edited.brush(Vec2::new(x, y), radius, dig);
            }
            let rebuilt = mask(width, height, &edited.solid.clone());
            prop_assert_eq!(&edited.cells, &rebuilt.cells);
        }
    }

    #[test]
    fn a_disc_has_round_normals() {
        let (width, height) = (64, 64);
        let mut mask = mask(width, height, &vec![false; width * height]);
        let middle = Vec2::new(-1.0 + 8.0, 0.5 + 8.0);
        assert!(mask.brush(middle, 3.0, false) > 400);
        for nth in 0..32 {
            let (sin, cos) = (nth as f32 * 0.2).sin_cos();
            let way = Vec2::new(cos, sin);
            for off in [2.0f32, 2.9, 3.1, 5.0] {
                let (distance, normal) = mask.sample((middle + way * off).extend(4.0));
                assert!((distance - (off - 3.0)).abs() < 0.25, "{distance} at {off}");
                assert!(normal.dot(way.extend(0.0)) > 0.9, "{normal} for {way}");
            }
        }
        // Beyond the picture: the direction back.
        let (distance, normal) = mask.sample(Vec3::new(-3.0, 3.0, 0.0));
        assert!(distance > 2.0 && normal.x < -0.9);
        assert_eq!(mask.brush(middle, 3.0, false), 0);
    }
}
