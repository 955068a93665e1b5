//! A mask: a picture whose opaque parts are solid, dug and filled while running.
//!
//! Kept as a signed distance to the edge of what is solid, so that normals come from a neighbourhood and a swept element knows how far it
//! may go unharmed. The distance is exact up to a band and level beyond it; a dig recomputes no more than its own square and the band
//! around it. Two passes of lower envelopes: Felzenszwalb and Huttenlocher, "Distance Transforms of Sampled Functions" (2012), O(cells).

use std::sync::Arc;

use glam::{Vec2, Vec3};
use serde::{Deserialize, Serialize};

use crate::forms::Plane;

/// How a mask lies in the world.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum MaskLie {
    /// Across is x, up is y; the same at every z.
    #[default]
    Upright,
    /// Across is x, up in the picture is away (-z); the same at every height.
    Flat,
}

/// A mask, made ready.
#[derive(Debug, Clone)]
pub struct Mask {
    width: usize,
    height: usize,
    /// Lower left corner and the size of a cell, m.
    corner: Vec2,
    cell: f32,
    lie: MaskLie,
    /// 1 solid, 0 free.
    solid: Vec<bool>,
    /// Signed distance at the middle of every cell, in cells, negative where solid; within ±[`BAND`].
    distance: Vec<f32>,
    /// Changes with every edit.
    edits: u64,
}

/// Beyond this many cells distances are level.
pub(crate) const BAND: usize = 32;

/// Cells around what changed that are looked at.
const REACH: usize = BAND + 1;

impl Mask {
    /// A mask from a picture: solid where its value is at least `threshold`; its lower left corner, m, in the plane that it lies in, and
    /// the width of a cell, m.
    pub(crate) fn new(picture: &Arc<Plane>, threshold: f32, corner: Vec2, cell: f32, lie: MaskLie) -> Self {
        let solid: Vec<bool> = picture.values().iter().map(|&value| value >= threshold).collect();
        let (width, height) = (picture.width(), picture.height());
        let distance = vec![0.0; solid.len()];
        let mut mask = Self { width, height, corner, cell, lie, solid, distance, edits: 0 };
        mask.measure(0, 0, width, height);
        mask
    }

    /// Cells across.
    pub fn width(&self) -> usize {
        self.width
    }

    /// Cells up.
    pub fn height(&self) -> usize {
        self.height
    }

    /// Width of a cell, m.
    pub fn cell(&self) -> f32 {
        self.cell
    }

    /// Which cells are solid, rows from the lower edge up.
    pub fn solid(&self) -> &[bool] {
        &self.solid
    }

    /// Signed distances at the middles of the cells, in cells.
    pub fn distances(&self) -> &[f32] {
        &self.distance
    }

    /// Moves its lower left corner there, m.
    pub(super) fn put(&mut self, corner: Vec2) {
        self.corner = corner;
    }

    /// A number that changes with every edit.
    pub fn edits(&self) -> u64 {
        self.edits
    }

    /// Frees (`dig`) or fills everything within a radius, m, of a point of the plane that the mask lies in, m. Returns how many cells
    /// changed. Costs the cells of the brush and of the band around it.
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
            self.edits += 1;
            self.measure(
                x0.saturating_sub(REACH),
                y0.saturating_sub(REACH),
                (x1 + REACH).min(self.width),
                (y1 + REACH).min(self.height),
            );
        }
        changed
    }

    /// Measures the cells of a rectangle anew; what lies within the band around it is looked at.
    fn measure(&mut self, x0: usize, y0: usize, x1: usize, y1: usize) {
        if x1 <= x0 || y1 <= y0 {
            return;
        }
        // A ring wider than the picture stands for the free cells around it.
        let (left, low) = (x0 as isize - REACH as isize, y0 as isize - REACH as isize);
        let (width, height) = (x1 - x0 + 2 * REACH, y1 - y0 + 2 * REACH);
        let solid_at = |x: usize, y: usize| {
            let (x, y) = (left + x as isize, low + y as isize);
            let inside = x >= 0 && y >= 0 && (x as usize) < self.width && (y as usize) < self.height;
            inside && self.solid[y as usize * self.width + x as usize]
        };
        let to_solid = squares(width, height, |x, y| solid_at(x, y));
        let to_free = squares(width, height, |x, y| !solid_at(x, y));
        let band = BAND as f32;
        let signed = |at: usize| {
            let value = if to_free[at] > 0.0 { 0.5 - to_free[at].sqrt() } else { to_solid[at].sqrt() - 0.5 };
            value.clamp(-band, band)
        };
        for y in y0..y1 {
            for x in x0..x1 {
                let at = (y - y0 + REACH) * width + x - x0 + REACH;
                self.distance[y * self.width + x] = signed(at);
            }
        }
    }

    /// The point of the plane that it lies in.
    pub(crate) fn flat(&self, place: Vec3) -> Vec2 {
        match self.lie {
            MaskLie::Upright => Vec2::new(place.x, place.y),
            MaskLie::Flat => Vec2::new(place.x, -place.z),
        }
    }

    fn upright(&self, flat: Vec2) -> Vec3 {
        match self.lie {
            MaskLie::Upright => flat.extend(0.0),
            MaskLie::Flat => Vec3::new(flat.x, 0.0, -flat.y),
        }
    }

    /// Signed distance at a place, m, and the direction away from what is solid (of length 1, or 0 where none is known).
    ///
    /// The direction is taken over several cells, so that the steps of a slanting edge do not show; but over few where those tell another, as
    /// in a wall of one cell.
    pub(crate) fn sample(&self, place: Vec3) -> (f32, Vec3) {
        let flat = (self.flat(place) - self.corner) / self.cell;
        let held = flat.clamp(Vec2::ZERO, Vec2::new(self.width as f32, self.height as f32));
        let off = flat - held;
        let away = off.length();
        if away > 0.0 {
            return (self.between(held).max(0.0).hypot(away) * self.cell, self.upright(off / away));
        }
        let over = |half: f32| {
            let along = |axis: Vec2| self.between(flat + axis * half) - self.between(flat - axis * half);
            Vec2::new(along(Vec2::X), along(Vec2::Y)).normalize_or_zero()
        };
        let (near, wide) = (over(0.75), over(1.75));
        let normal = if near.dot(wide) > 0.7 { wide } else { near };
        (self.between(flat) * self.cell, self.upright(normal))
    }

    /// Signed distance at a place, m.
    pub(crate) fn distance_at(&self, place: Vec3) -> f32 {
        let flat = (self.flat(place) - self.corner) / self.cell;
        let held = flat.clamp(Vec2::ZERO, Vec2::new(self.width as f32, self.height as f32));
        let away = (flat - held).length();
        let inside = self.between(held);
        (if away > 0.0 { inside.max(0.0).hypot(away) } else { inside }) * self.cell
    }

    /// Straight between the middles of cells, in cells; level beyond the outermost.
    fn between(&self, at: Vec2) -> f32 {
        let most = Vec2::new((self.width - 1) as f32, (self.height - 1) as f32);
        // A place that is no number is the first.
        let at = (at - 0.5).max(Vec2::ZERO).min(most);
        let (x, y) = (at.x as usize, at.y as usize);
        let (fx, fy) = (at.x - x as f32, at.y - y as f32);
        let (x1, y1) = ((x + 1).min(self.width - 1), (y + 1).min(self.height - 1));
        let value = |x: usize, y: usize| self.distance[y * self.width + x];
        let (a, c) = (value(x, y), value(x, y1));
        let (low, high) = (a + (value(x1, y) - a) * fx, c + (value(x1, y1) - c) * fx);
        low + (high - low) * fy
    }

    /// For a first look: how far a place, at least, is from anything solid, m. One read.
    #[inline]
    pub(crate) fn clear(&self, place: Vec3) -> f32 {
        let at = (self.flat(place) - self.corner) / self.cell;
        let (w, h) = (self.width as f32, self.height as f32);
        let off = (-at.x).max(at.x - w).max(-at.y).max(at.y - h);
        if off > 0.0 {
            return off * self.cell;
        }
        // Places that are no numbers are the first; the upper edges belong to the last.
        let (x, y) = ((at.x as usize).min(self.width - 1), (at.y as usize).min(self.height - 1));
        // From the middle of the cell it is half a diagonal at most, and the middles of cells tell distances to a quarter of one.
        (self.distance[y * self.width + x] - 1.0) * self.cell
    }
}

/// Squares of the distances, in cells, from every cell to the nearest for which `holds`; at most a little over the band's.
fn squares(width: usize, height: usize, holds: impl Fn(usize, usize) -> bool) -> Vec<f32> {
    let far = ((2 * REACH) * (2 * REACH)) as f32;
    let mut out = vec![far; width * height];
    // Along rows a scan each way is enough, as all start from 0.
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
    // Up the columns the lower envelope of parabolas.
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
        Mask::new(&plane, 0.5, Vec2::new(-1.0, 0.5), 0.25, MaskLie::Upright)
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(48))]

        /// Squares equal a search through all cells.
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

        /// However it was dug and filled, a mask is what a new one of its cells would be.
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
            prop_assert_eq!(&edited.distance, &rebuilt.distance);
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
        // Beyond the picture: the way back.
        let (distance, normal) = mask.sample(Vec3::new(-3.0, 3.0, 0.0));
        assert!(distance > 2.0 && normal.x < -0.9);
        assert_eq!(mask.brush(middle, 3.0, false), 0);
    }
}
