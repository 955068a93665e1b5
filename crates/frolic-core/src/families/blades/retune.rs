//! Changing the spec of blades that stand.

use super::columns::BladeColumns;
use super::shape::clamp_lean;
use super::{BLADE_SEED, BladeMotion, BladeSpec, Blades, MOST_TORN};
use crate::foundations::change::Change;
use crate::foundations::error::SpecError;
use crate::foundations::random::Draws;
use crate::foundations::span::Span;

impl Blades {
    /// Returns whether a spec and a count differ from the present ones only in what [`Blades::retune`] can change: `length`, `bend_degrees`, `sway_hz`,
    /// `drag`, `damping`, `recover`, `motion`, `cull_every` and `tear`; the count, unless blades stand in groups, in a pattern with a spacing of its
    /// own, at places that were read, or at a density on finite ground; and on endless ground the densities of all layers by one factor.
    pub fn can_retune(&self, spec: &BladeSpec, count: u32) -> bool {
        let live = |spec: &BladeSpec| {
            let mut live = BladeSpec {
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
            live.placement.iter_mut().for_each(|layer| layer.density = 0.0);
            live
        };
        spec.check().is_ok() && live(spec) == live(&self.spec) && self.amount_of(spec, count).is_some()
    }

    /// Changes the shape of blades, their response to wind and pushers, and their number; `size` is the range of half widths at the root, in metres.
    /// Blades stay where they stand, and go on moving: each becomes longer, wider, stiffer or leans further by as much as its own draw from the range
    /// changes. Pressed and torn ones stay so. A larger count adds blades between those that stand, at the end of the columns; a smaller one takes
    /// some away, evenly over the ground. The same ones come back when the count rises again.
    ///
    /// ```
    /// use frolic_core::{BladeSpec, Blades, PlacementSpec, Span};
    /// let spec = BladeSpec::new(PlacementSpec::default());
    /// let mut meadow = Blades::new(&spec, 1000, Span::from(0.004), 1)?;
    /// let stood = meadow.columns().row(7);
    /// meadow.retune(&spec, 1200, Span::from(0.004))?;
    /// assert_eq!(meadow.len(), 1200);
    /// assert_eq!(meadow.columns().row(7), stood);
    /// # Ok::<(), frolic_core::SpecError>(())
    /// ```
    ///
    /// # Errors
    /// A value is out of range, there are more blades than memory allows, or something differs that cannot change while the blades stand: see
    /// [`Blades::can_retune`]. The blades then stay as they are.
    pub fn retune(&mut self, spec: &BladeSpec, count: u32, size: Span) -> Result<Change, SpecError> {
        spec.check()?;
        size.check("size", 0.0, 1e4, "m")?;
        if *spec == self.spec && size == self.size && count == self.count {
            return Ok(Change::Unchanged);
        }
        let amount = self.amount_of(spec, count).filter(|_| self.can_retune(spec, count));
        let Some(amount) = amount else {
            return Err(SpecError::new(
                "blades",
                "differ in what cannot change while they stand",
                "build new blades",
            ));
        };
        let recount = self.plan_amount(spec, amount)?;
        if spec.tear.is_some() {
            self.torn.reserve(MOST_TORN.saturating_sub(self.torn.len()));
        }
        let before = std::mem::replace(&mut self.spec, spec.clone());
        self.count = count;
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
        // New blades have the new shape from the start.
        self.recount(recount);
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
