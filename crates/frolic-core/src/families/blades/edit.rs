//! Changing blades that stand.

use glam::Vec3;

use super::step::Torn;
use super::{BladeColumns, Blades};
use crate::foundations::edit::ColumnsEdit;
use crate::foundations::error::SpecError;
use crate::world::events::Region;

/// Share of its length that remains of a torn blade whose spec has no `tear`.
pub(super) const STUB: f32 = 0.15;

impl Blades {
    /// Changes blades by columns: `lean_x`, `lean_z`, `rate_x`, `rate_z`, `press_x`, `press_z`, `length`, `size` and `tint`. Roots stay where they are. A
    /// killed blade is gone. Costs a copy of all columns.
    ///
    /// ```
    /// use frolic_core::{BladeSpec, Blades, PlacementSpec, Span};
    /// let mut meadow = Blades::new(&BladeSpec::new(PlacementSpec::default()), 200, Span::from(0.004), 1)?;
    /// // Mown to 10 cm.
    /// meadow.edit(|edit| {
    ///     let [length] = edit.floats(["length"])?;
    ///     length.iter_mut().for_each(|length| *length = length.min(0.1));
    ///     Ok(())
    /// })?;
    /// assert!(meadow.columns().length().iter().all(|length| *length <= 0.1));
    /// # Ok::<(), frolic_core::SpecError>(())
    /// ```
    ///
    /// # Errors
    /// As the closure; or a value is out of range: leans and presses to ±10, rates to ±1e4, `length` 0 to 1e3, `size` 0 to 1e4, `tint` 0 to 1. The
    /// blades then stay as they are.
    pub fn edit<R>(
        &mut self,
        change: impl FnOnce(&mut ColumnsEdit<'_>) -> Result<R, SpecError>,
    ) -> Result<R, SpecError> {
        let before = self.columns.clone();
        let columns = &mut self.columns;
        let floats: Vec<(&'static str, &mut [f32])> = vec![
            ("lean_x", &mut columns.lean_x),
            ("lean_z", &mut columns.lean_z),
            ("rate_x", &mut columns.rate_x),
            ("rate_z", &mut columns.rate_z),
            ("press_x", &mut columns.press_x),
            ("press_z", &mut columns.press_z),
            ("length", &mut columns.length),
            ("size", &mut columns.size),
            ("tint", &mut columns.tint),
        ];
        let range = |name: &str| match name {
            "rate_x" | "rate_z" => [-1e4, 1e4],
            "length" => [0.0, 1e3],
            "size" => [0.0, 1e4],
            "tint" => [0.0, 1.0],
            _ => [-10.0, 10.0],
        };
        let (result, killed) = match ColumnsEdit::make(floats, Vec::new(), range, change) {
            Ok(done) => done,
            Err(error) => {
                self.columns = before;
                return Err(error);
            }
        };
        for nth in killed {
            self.columns.length[nth as usize] = 0.0;
        }
        self.adopt_edit(&before);
        Ok(result)
    }

    /// Tears off all whole blades rooted in a region; a stub stays, of the share that the spec's `tear` says, or 0.15. The pieces are among those
    /// of the next step: see [`Blades::torn`]. Returns their number.
    pub fn tear_off(&mut self, region: &Region) -> u64 {
        let stub = self.spec.tear.as_ref().map_or(STUB, |tear| tear.stub);
        let before = self.torn_now.len();
        for chunk in &mut self.chunks {
            let (low, high) = (Vec3::from(chunk.low), Vec3::from(chunk.high));
            if chunk.len == 0 || !region.reaches((low + high) * 0.5, (high - low).length() * 0.5) {
                continue;
            }
            for nth in chunk.range() {
                let columns = &mut self.columns;
                let root = [columns.px[nth], columns.py[nth], columns.pz[nth]];
                let (length, kind) = (columns.length[nth], columns.kind[nth]);
                if length <= 0.0 || kind & BladeColumns::TORN != 0 || !region.holds(root.into()) {
                    continue;
                }
                self.torn_now.push(Torn {
                    root,
                    length,
                    lean: [columns.lean_x[nth], columns.lean_z[nth]],
                    rate: [columns.rate_x[nth], columns.rate_z[nth]],
                });
                columns.length[nth] = length * stub;
                columns.kind[nth] |= BladeColumns::TORN;
                (chunk.layout, chunk.group) = (None, None);
            }
        }
        (self.torn_now.len() - before) as u64
    }

    /// Brings squares up to date with changed columns.
    fn adopt_edit(&mut self, before: &BladeColumns) {
        for chunk in 0..self.chunks.len() {
            let range = self.chunks[chunk].range();
            let differs = |a: &[f32], b: &[f32]| a[range.clone()] != b[range.clone()];
            let (now, was) = (&self.columns, before);
            let reach = differs(&now.length, &was.length) || differs(&now.size, &was.size);
            let pressed = differs(&now.press_x, &was.press_x) || differs(&now.press_z, &was.press_z);
            let moved = differs(&now.lean_x, &was.lean_x)
                || differs(&now.lean_z, &was.lean_z)
                || differs(&now.rate_x, &was.rate_x)
                || differs(&now.rate_z, &was.rate_z);
            let dyed = differs(&now.tint, &was.tint);
            if !(reach || pressed || moved || dyed) {
                continue;
            }
            if reach {
                let was_there = was.length[range.clone()].iter().filter(|length| **length > 0.0).count();
                let is_there = now.length[range.clone()].iter().filter(|length| **length > 0.0).count();
                self.alive = self.alive + is_there - was_there;
                self.chunks[chunk].enclose(&self.columns);
            }
            let square = &mut self.chunks[chunk];
            square.pressed |= pressed;
            // It no longer looks like its layout.
            (square.layout, square.group) = (None, None);
        }
    }
}
