//! A population of blades in a scene: its state, and what of it is drawn.

use frolic_core::{
    BladeColumns, BladeSpec, Blades, Forms, Meter, ParticleSet, PlacedColumns, PlacedRow, Span, SpecError,
    World,
};
use frolic_diagnostics::Mark;
use frolic_draw::backend::Form;
use frolic_draw::{Bounds, Groups, Instances, LightSpec, Look, Part, PlacedGroup, SunSpec, View};

/// Blades, and the parts of each kind that drawing asks for.
#[derive(Debug)]
pub(crate) struct Meadow {
    pub(crate) blades: Blades,
    /// Of each kind.
    parts: Vec<Vec<Part>>,
    /// How far what is drawn reaches beyond the blades themselves, m.
    margin: f32,
    /// Squares that are drawn as groups.
    placed: Vec<PlacedGroup>,
    /// Whether all looks hide what is behind, as groups must.
    solid: bool,
}

impl Meadow {
    /// Blades with so many looks, the first of which is told.
    pub(crate) fn new(
        spec: &BladeSpec,
        count: u32,
        size: Span,
        seed: u32,
        forms: &Forms,
        looks: &[&Look],
    ) -> Result<Self, SpecError> {
        let blades = Blades::with_forms(spec, count, size, seed, forms)?;
        // Those that stand for others are wider; of meshes, which are as long as blades, some reach out.
        let thins = looks.iter().any(|look| look.parts().detail.is_active());
        let bulky = looks.iter().any(|look| matches!(look.parts().form, Form::Mesh { .. }));
        let wide = if bulky { spec.length.max * 0.12 } else { size.max };
        let margin = wide * if thins { 16.0 } else { 1.0 };
        let room = blades.chunks().len();
        let parts = looks.iter().map(|_| Vec::with_capacity(room)).collect();
        let placed = Vec::with_capacity(if spec.groups.is_some() { room } else { 0 });
        let solid = looks.iter().all(|look| look.is_solid());
        let mut meadow = Self { blades, parts, margin, placed, solid };
        meadow.arrange();
        Ok(meadow)
    }

    /// Makes the parts anew.
    fn arrange(&mut self) {
        let margin = self.margin;
        for (kind, parts) in self.parts.iter_mut().enumerate() {
            parts.clear();
            for chunk in self.blades.chunks() {
                let (first, count) = chunk.of_kind(kind);
                if count > 0 && chunk.group.is_none() {
                    let bounds = widened(chunk.low, chunk.high, margin);
                    parts.push(Part { first, count, bounds });
                }
            }
        }
        self.placed.clear();
        self.placed.extend(PlacedGroup::all_of(&self.blades));
    }

    /// Whether squares that can be drawn as groups are.
    pub(crate) fn group(&mut self, grouped: bool) {
        let grouped = grouped && self.solid;
        if self.blades.is_grouped() != grouped {
            self.blades.group(grouped);
            self.arrange();
        }
    }

    /// Follows the camera, then steps what is awake.
    pub(crate) fn step(
        &mut self,
        world: &World,
        view: &View,
        (sun, lamps): (Option<&SunSpec>, &[LightSpec]),
        dt: f32,
        steps: u32,
        meter: &mut Meter,
    ) {
        let eye = view.parts().eye;
        // As many new squares as these steps allow, so that a long run does not fall behind.
        let mut changed = false;
        for _ in 0..steps.max(1) {
            if !self.blades.recentre([eye.x, eye.z]) {
                break;
            }
            changed = true;
        }
        let margin = self.margin;
        self.blades.look(eye.to_array(), |low, high| view.concerns(&widened(low, high, margin), sun));
        if self.blades.is_grouped() && !lamps.is_empty() {
            let lit = |low, high| lamps.iter().any(|lamp| lamp.reaches(&Bounds { low, high }));
            self.blades.set_apart(lit);
        }
        self.blades.step(world, dt, steps, meter);
        if changed || self.blades.is_grouped() {
            self.arrange();
        }
    }

    /// Hands what was torn off to the particles that its spec names.
    pub(crate) fn hand_over(&self, set: &mut ParticleSet, meter: &mut Meter) {
        let Some(tear) = &self.blades.spec().tear else { return };
        let Some(into) = set.get_mut(&tear.start) else { return };
        let torn = self.blades.torn().iter().map(|torn| (torn.middle(), torn.velocity()));
        into.take_on(torn, meter);
    }

    /// Marks of all blades for a plan.
    pub(crate) fn marks(&self, into: &mut Vec<Mark>) {
        let columns = self.blades.columns();
        let [x, _, z] = columns.position();
        into.extend((0..columns.len()).filter(|&n| columns.length()[n] > 0.0).map(|n| Mark {
            place: [x[n], z[n]],
            turn: columns.turn()[n],
            radius: columns.size()[n] * 4.0,
            tint: columns.tint()[n],
            kind: columns.kind()[n] & !BladeColumns::TORN,
        }));
    }

    /// Where every blade stands, how it leans and how long it is.
    pub(crate) fn placed(&self) -> PlacedColumns {
        let columns = self.blades.columns();
        let row = |n: usize| {
            let row = columns.row(n).filter(|row| row.length > 0.0)?;
            let lean = row.lean_x.hypot(row.lean_z);
            let turn = if lean > 1e-6 { row.lean_x.atan2(row.lean_z) } else { row.turn };
            Some(PlacedRow {
                px: row.px,
                py: row.py,
                pz: row.pz,
                turn,
                // From root to tip it stands half as far off as its tip points.
                tilt: lean * 0.5,
                size: row.length,
                tint: row.tint,
                kind: row.kind & !BladeColumns::TORN,
                id: row.id,
                ..PlacedRow::UPRIGHT
            })
        };
        PlacedColumns::from_rows((0..columns.len()).filter_map(row))
    }

    /// The instances of a kind, `behind` seconds before the last step.
    pub(crate) fn instances(&self, kind: usize, behind: f32) -> Result<Instances<'_>, SpecError> {
        let parts = self.parts.get(kind).map_or(&[][..], Vec::as_slice);
        let instances = Instances::blades(self.blades.columns(), behind).in_parts(parts)?;
        Ok(match self.blades.layouts() {
            Some(layouts) => {
                instances.grouped(Groups { layouts, kind, placed: &self.placed, margin: self.margin })
            }
            None => instances,
        })
    }
}

/// The box of a square and of what is drawn beyond its blades.
fn widened(low: [f32; 3], high: [f32; 3], margin: f32) -> Bounds {
    Bounds { low: low.map(|v| v - margin), high: high.map(|v| v + margin) }
}
