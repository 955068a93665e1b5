//! Changing the spec of blades that stand.

use std::collections::HashMap;

use super::columns::BladeColumns;
use super::count::{Source, placing};
use super::edit::STUB;
use super::shape::clamp_lean;
use super::{BLADE_SEED, BladeMotion, BladeSpec, Blades, Chunk, MOST_TORN};
use crate::foundations::change::Change;
use crate::foundations::error::SpecError;
use crate::foundations::random::Draws;
use crate::foundations::span::Span;
use crate::placement::{ClumpSpec, EachSpec};

impl Blades {
    /// Returns whether a spec and a count differ from the present ones only in what [`Blades::retune`] can change: `length`, `bend_degrees`, `sway_hz`,
    /// `drag`, `damping`, `recover`, `motion`, `cull_every` and `tear`; `clumps` (but for `thin`, and where it is not 0 `side` and `seed`) and `each` of the
    /// placement; the count, unless blades stand in groups, in a pattern with a spacing of its own, at places that were read, or at a density on finite
    /// ground; and the densities of all layers by one factor, up to the count on finite ground.
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
            live.placement = placing(spec);
            live.placement.iter_mut().for_each(|layer| layer.density = 0.0);
            live
        };
        let fits = |amount| self.has_room(spec, amount);
        spec.check().is_ok()
            && live(spec) == live(&self.spec)
            && self.amount_of(spec, count).is_some_and(fits)
    }

    /// Changes the shape of blades, their response to wind and pushers, and their number; `size` is the range of half widths at the root, in metres.
    /// Blades stay where they stand, and go on moving: each becomes longer, wider, stiffer or leans further by as much as its own draw from the range
    /// changes. Pressed and torn ones stay so. A larger count adds blades between those that stand, at the end of the columns; a smaller one takes
    /// some away, evenly over the ground. The same ones come back when the count rises again. Other `clumps` or another `each` place all blades again,
    /// which costs as much as building them; those that are at the same place as before go on moving, and edits of their length and tint are lost.
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
        let amount = self.can_retune(spec, count).then(|| self.amount_of(spec, count)).flatten();
        let Some(amount) = amount else {
            return Err(SpecError::new(
                "blades",
                "differ in what cannot change while they stand",
                "build new blades",
            ));
        };
        if dressed(&self.spec) != dressed(spec) {
            let mut anew = self.placed_anew(spec, size)?;
            anew.recount(anew.plan_amount(spec, amount)?);
            (anew.spec, anew.count) = (spec.clone(), count);
            anew.continue_from(self);
            *self = anew;
            return Ok(Change::Live);
        }
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

/// What a placement gives its elements besides their places.
fn dressed(spec: &BladeSpec) -> Vec<(Option<ClumpSpec>, EachSpec)> {
    spec.placement.iter().map(|layer| (layer.clumps, layer.each.clone())).collect()
}

impl Blades {
    /// Places the blades of all blocks by another spec, which may differ in clumps, and in what each element is given.
    fn placed_anew(&self, spec: &BladeSpec, size: Span) -> Result<Self, SpecError> {
        let sources: Vec<&Source> = self.blocks.iter().flat_map(|block| &block.sources).collect();
        let first = sources[0];
        let mut placed = spec.clone();
        for (layer, density) in placed.placement.iter_mut().zip(&first.densities) {
            layer.density = *density;
        }
        let mut anew = Self::with_assets(&placed, first.count, size, self.seed, &self.assets)?;
        let mut amount = anew.blocks[0].amount;
        for source in &sources[1..] {
            let more = source.densities.first().zip(first.densities.first());
            amount += more.map_or(f64::from(source.count), |(more, first)| f64::from(more / first));
            anew.recount(anew.plan_amount(&placed, amount)?);
        }
        if let (Some(around), Some(before)) = (&mut anew.around, &self.around) {
            around.cells.clone_from(&before.cells);
            around.waiting = before.waiting;
            anew.make_all();
        }
        Ok(anew)
    }

    /// Takes over the motion of blades that stood at the same places, and of their squares.
    fn continue_from(&mut self, before: &Self) {
        let columns = &before.columns;
        let key = |columns: &BladeColumns, nth: usize| {
            (columns.id[nth], columns.px[nth].to_bits(), columns.pz[nth].to_bits())
        };
        let stood = (0..columns.len()).filter(|&nth| columns.length[nth] > 0.0);
        let stood: HashMap<_, usize> = stood.map(|nth| (key(columns, nth), nth)).collect();
        let stub = self.spec.tear.as_ref().map_or(STUB, |tear| tear.stub);
        for nth in 0..self.columns.len() {
            let Some(&was) = stood.get(&key(&self.columns, nth)) else { continue };
            let now = &mut self.columns;
            now.lean_x[nth] = now.rest_x[nth] + (columns.lean_x[was] - columns.rest_x[was]);
            now.lean_z[nth] = now.rest_z[nth] + (columns.lean_z[was] - columns.rest_z[was]);
            (now.rate_x[nth], now.rate_z[nth]) = (columns.rate_x[was], columns.rate_z[was]);
            (now.press_x[nth], now.press_z[nth]) = (columns.press_x[was], columns.press_z[was]);
            if columns.kind[was] & BladeColumns::TORN != 0 {
                now.kind[nth] |= BladeColumns::TORN;
                now.length[nth] *= stub;
            }
        }
        let squares: HashMap<[i32; 2], &Chunk> =
            before.chunks.iter().map(|chunk| (chunk.cell, chunk)).collect();
        for chunk in self.chunks.iter_mut().filter(|chunk| chunk.len > 0) {
            let Some(was) = squares.get(&chunk.cell) else { continue };
            (chunk.visible, chunk.pressed, chunk.apart) = (was.visible, was.pressed, was.apart);
            (chunk.distance, chunk.settle, chunk.stale) = (was.distance, was.settle, was.stale);
            if was.layout.is_none() {
                (chunk.layout, chunk.group) = (None, None);
            }
        }
        (self.time, self.steps, self.updated) = (before.time, before.steps, before.updated);
        self.grouped = before.grouped;
        self.torn_now.clone_from(&before.torn_now);
        self.count_alive();
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
