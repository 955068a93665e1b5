//! Changing the spec of blades that stand.

use super::columns::BladeColumns;
use super::shape::clamp_lean;
use super::{BLADE_SEED, BladeMotion, BladeSpec, Blades, MOST_TORN};
use crate::foundations::change::Change;
use crate::foundations::error::SpecError;
use crate::foundations::random::Draws;
use crate::foundations::span::Span;

impl Blades {
    /// Returns whether a spec differs from the present one only in values that [`Blades::retune`] can change: `length`, `bend_degrees`, `sway_hz`,
    /// `drag`, `damping`, `recover`, `motion`, `cull_every` and `tear`.
    pub fn can_retune(&self, spec: &BladeSpec) -> bool {
        let live = |spec: &BladeSpec| BladeSpec {
            length: Span::from(1.0),
            bend_degrees: Span::from(0.0),
            sway_hz: Span::from(1.0),
            drag: 0.0,
            damping: 0.0,
            recover: Span::from(1.0),
            motion: BladeMotion::Swing,
            cull_every: 0.0,
            tear: None,
            ..spec.clone()
        };
        spec.check().is_ok() && live(spec) == live(&self.spec)
    }

    /// Changes the shape of blades, and their response to wind and pushers; `size` is the range of half widths at the root, in metres. Blades stay
    /// where they stand, and go on moving: each becomes longer, wider, stiffer or leans further by as much as its own draw from the range
    /// changes. Pressed and torn ones stay so.
    ///
    /// # Errors
    /// A value is out of range, or differs that cannot change while the blades stand: see [`Blades::can_retune`].
    pub fn retune(&mut self, spec: &BladeSpec, size: Span) -> Result<Change, SpecError> {
        spec.check()?;
        size.check("size", 0.0, 1e4, "m")?;
        if *spec == self.spec && size == self.size {
            return Ok(Change::Unchanged);
        }
        if !self.can_retune(spec) {
            return Err(SpecError::new(
                "blades",
                "differ in more than length, bend_degrees, sway_hz, drag, damping, recover, motion, cull_every and tear",
                "build new blades",
            ));
        }
        if spec.tear.is_some() {
            self.torn.reserve(MOST_TORN.saturating_sub(self.torn.len()));
        }
        let before = std::mem::replace(&mut self.spec, spec.clone());
        let sizes = [std::mem::replace(&mut self.size, size), size];
        let same = before.length == spec.length
            && before.bend_degrees == spec.bend_degrees
            && before.sway_hz == spec.sway_hz
            && sizes[0] == sizes[1];
        if !same {
            let reshape = Reshape { specs: [&before, &self.spec], sizes, seed: self.seed };
            reshape.columns(&mut self.columns);
            for chunk in &mut self.chunks {
                chunk.enclose(&self.columns);
            }
            if let Some(layouts) = &mut self.layouts {
                layouts.reshape(|columns, square| {
                    reshape.columns(columns);
                    square.enclose(columns);
                });
            }
        }
        Ok(Change::Live)
    }
}

/// A change of shape: the spec and the size before, and now.
struct Reshape<'a> {
    specs: [&'a BladeSpec; 2],
    sizes: [Span; 2],
    seed: u32,
}

impl Reshape<'_> {
    fn columns(&self, columns: &mut BladeColumns) {
        let [before, now] = self.specs;
        let bends = before.bend_degrees != now.bend_degrees;
        for nth in 0..columns.len() {
            // A place without a blade.
            if columns.length[nth] <= 0.0 {
                continue;
            }
            let draws = Draws { seed: self.seed ^ BLADE_SEED, id: columns.id[nth] };
            let [length, size, hz] = draws.draw(0);
            columns.length[nth] *= now.length.at(length) / before.length.at(length);
            let width = self.sizes[0].at(size);
            columns.size[nth] = if width > 0.0 {
                columns.size[nth] * (self.sizes[1].at(size) / width)
            } else {
                self.sizes[1].at(size)
            };
            let faster = now.sway_hz.at(hz) / before.sway_hz.at(hz);
            columns.stiffness[nth] *= faster * faster;
            if bends {
                let [bend, ..] = draws.draw(1);
                let (sin, cos) = libm::sincosf(columns.turn[nth]);
                let (x, z) = (columns.rest_x[nth], columns.rest_z[nth]);
                let further =
                    now.bend_degrees.at(bend).to_radians() - before.bend_degrees.at(bend).to_radians();
                let lean = x * sin + z * cos + further;
                let [to_x, to_z, _] =
                    clamp_lean(sin * lean, cos * lean, columns.rise_x[nth], columns.rise_z[nth]);
                (columns.rest_x[nth], columns.rest_z[nth]) = (to_x, to_z);
                columns.lean_x[nth] += to_x - x;
                columns.lean_z[nth] += to_z - z;
            }
        }
    }
}
