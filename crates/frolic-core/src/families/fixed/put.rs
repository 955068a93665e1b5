//! Puts static instances into their places, and turns them.

use glam::Vec3;

use super::columns::{FixedColumns, FixedRow};
use super::spec::{FillSpec, FixedSpec};
use crate::assets::Assets;
use crate::foundations::error::SpecError;
use crate::foundations::random::{Draws, pair};
use crate::foundations::span::Span;
use crate::placement::{On, Placement, ShapeSpec, Source};

/// Elements in their places.
pub(super) struct Placed {
    pub(super) columns: FixedColumns,
    /// Tints of places that were read; empty without such places.
    pub(super) tint: Vec<f32>,
    /// Of strung lines: offsets from one end of the middle control point and of the other end; x, y, z each, in metres.
    pub(super) curve: [Vec<f32>; 6],
    size: Span,
    seed: u32,
}

impl Placed {
    /// Puts at most `count` elements into empty `columns`; those that are scattered around the camera are not put yet.
    pub(super) fn new(
        spec: &FixedSpec,
        count: u32,
        columns: FixedColumns,
        size: Span,
        seed: u32,
        assets: &Assets,
    ) -> Result<Self, SpecError> {
        let (tint, curve) = Default::default();
        let mut placed = Self { columns, tint, curve, size, seed };
        if spec.walk.is_some() {
            // Hidden until the first step.
            (0..count).for_each(|_| placed.put(Vec3::NAN, 0.0, 0.0, 1.0));
            return Ok(placed);
        }
        if spec.strung {
            placed.string(spec, count);
            return Ok(placed);
        }
        for place in spec.at.iter().take(count as usize) {
            let (turn, tilt) = (place.turn_degrees.to_radians(), place.tilt_degrees.to_radians());
            placed.put(Vec3::from(place.position), turn, tilt, place.scale);
        }
        let rest = count - count.min(spec.at.len() as u32);
        if spec.scatter.is_some() {
        } else if !spec.placement.is_empty() {
            placed.place(spec, rest, assets)?;
        } else if let Some(fill) = &spec.fill {
            placed.fill(fill, rest, assets)?;
        } else {
            placed.hang(spec, rest as usize);
        }
        Ok(placed)
    }

    fn put(&mut self, at: Vec3, turn: f32, tilt: f32, scale: f32) {
        let id = self.columns.len() as u32;
        let [random, ..] = Draws { seed: self.seed, id }.draw(0);
        let size = self.size.at(random) * scale;
        self.columns.push(&FixedRow { px: at.x, py: at.y, pz: at.z, turn, tilt, rate: 0.0, size, id });
    }

    /// Makes each line an element.
    fn string(&mut self, spec: &FixedSpec, count: u32) {
        for line in spec.line.iter().take(count as usize) {
            self.put(Vec3::from(line.from), 0.0, 0.0, 1.0);
            let tip = Vec3::from(line.to) - Vec3::from(line.from);
            // The control point of a parabola is twice as far off the straight line as its middle.
            let middle = tip * 0.5 - Vec3::Y * (line.sag * 2.0);
            let offsets = [middle.x, middle.y, middle.z, tip.x, tip.y, tip.z];
            for (column, offset) in self.curve.iter_mut().zip(offsets) {
                column.push(offset);
            }
        }
    }

    /// Puts elements on the layers of the placement.
    fn place(&mut self, spec: &FixedSpec, count: u32, assets: &Assets) -> Result<(), SpecError> {
        let placement = Placement::new(&spec.placement, Some(count), self.seed, assets);
        let found = placement.map_err(|error| error.under("placement"))?.all();
        let first = self.columns.len();
        for row in (0..found.len()).filter_map(|nth| found.row(nth)) {
            self.put(Vec3::new(row.px, row.py, row.pz), row.turn, row.tilt, row.size);
        }
        // Places that were read keep their id and tint; others are drawn by the number of the element.
        if spec.placement.iter().any(|layer| matches!(layer.on, On::Places { .. })) {
            self.columns.id[first..].copy_from_slice(found.id());
            let before = self.columns.id[..first].iter().map(|id| pair(*id)[1]);
            self.tint = before.chain(found.tint().iter().copied()).collect();
        }
        Ok(())
    }

    /// Spreads elements over a distance grid.
    fn fill(&mut self, fill: &FillSpec, count: u32, assets: &Assets) -> Result<(), SpecError> {
        let shape = ShapeSpec::Volume { asset: fill.asset.clone(), part: fill.part };
        let source = Source::new(&shape, assets).map_err(|error| error.under("fill"))?;
        let grid = assets.distance("fill.asset", &fill.asset)?;
        let first = self.columns.len() as u32;
        for id in first..first + count {
            let draws = Draws { seed: self.seed, id };
            let (at, outwards) = source.place(draws);
            let [stray, tilt, _] = draws.draw(4);
            let out = outwards.unwrap_or_else(|| grid.sample(at).1.normalize_or(Vec3::Y));
            let stray = (stray * 2.0 - 1.0) * fill.stray_degrees.to_radians();
            // With this turn, a tilt around x leans the top outwards.
            let turn = libm::atan2f(out.x, out.z) + stray;
            self.put(at, turn, fill.tilt_degrees.at(tilt).to_radians(), 1.0);
        }
        Ok(())
    }

    /// Hangs elements along the lines, evenly by length.
    fn hang(&mut self, spec: &FixedSpec, count: usize) {
        let total: f64 = spec.line.iter().map(|line| f64::from(line.length())).sum();
        let mut before = 0.0;
        let mut nth = 0;
        for line in &spec.line {
            let length = f64::from(line.length());
            // Uniform over all lines together: element n is at the middle of the nth of equal pieces.
            let way = Vec3::from(line.to) - Vec3::from(line.from);
            let turn = libm::atan2f(-way.z, way.x);
            while nth < count {
                let place = (nth as f64 + 0.5) * total / count as f64 - before;
                if place > length {
                    break;
                }
                self.put(line.at((place / length.max(1e-9)).clamp(0.0, 1.0) as f32), turn, 0.0, 1.0);
                nth += 1;
            }
            before += length;
        }
        // All lines are of length 0, or rounding missed the last element.
        if let Some(line) = spec.line.last() {
            (nth..count).for_each(|_| self.put(line.at(1.0), 0.0, 0.0, 1.0));
        }
    }
}
