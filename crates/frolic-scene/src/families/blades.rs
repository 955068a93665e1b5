//! Blades: rooted, bent by the wind, stepped and drawn square by square.

use frolic_core::{
    BladeColumns, BladeSpec, Blades, Column, ColumnsEdit, Meter, ParticleSet, PlacedColumns, PlacedRow,
    PlacementSpec, SavedState, Span, SpecError, Weather,
};
use frolic_diagnostics::Mark;
use frolic_draw::backend::Form;
use frolic_draw::{Bounds, Groups, Instances, Look, Part, PlacedGroup, Shape};

use super::{
    BuildContext, CheckContext, DrawContext, Drawables, Elements, FamilySpec, GroundPlan, RetuneContext,
    StepContext,
};
use crate::command::Command;
use crate::families::registry;
use crate::places_file::Places;
use crate::population::PopulationSpec;

#[cfg(feature = "schema")]
impl super::LiveKeys for BladeSpec {
    const LIVE: &'static [&'static str] =
        &["length", "bend_degrees", "sway_hz", "drag", "damping", "recover", "motion", "cull_every", "tear"];
}

impl FamilySpec for BladeSpec {
    fn key(&self) -> &'static str {
        "blades"
    }

    fn reads(&self) -> &'static [&'static str] {
        &["kind"]
    }

    fn check(&self, population: &PopulationSpec, context: &CheckContext<'_>) -> Result<(), SpecError> {
        BladeSpec::check(self).map_err(|error| error.under("blades"))?;
        let kinds = population.kind.iter().enumerate();
        let kinds = kinds.map(|(nth, look)| (format!("kind.{nth}.shape"), look));
        for (key, look) in std::iter::once(("look.shape".to_owned(), &population.look)).chain(kinds) {
            if !matches!(look.shape, Shape::Ribbon(_) | Shape::Mesh { .. }) {
                let instead = "write shape = { ribbon = { segments = 3 } }, or a mesh";
                return Err(SpecError::new(key, "does not bend", instead));
            }
        }
        let start = self.tear.as_ref().map(|tear| &tear.start);
        if let Some(start) = start.filter(|start| {
            !context.all.iter().any(|other| other.name == **start && registry::of(other).key() == "particles")
        }) {
            let problem = format!("there is no population '{start}' of particles");
            return Err(SpecError::new("blades.tear.start", problem, "name a population of particles"));
        }
        Ok(())
    }

    /// Three swings of the slowest.
    fn warm_up_seconds(&self, _population: &PopulationSpec) -> f32 {
        3.0 / self.sway_hz.min
    }

    fn has_groups(&self) -> bool {
        self.groups.is_some()
    }

    fn ground(&self) -> Option<(&[PlacementSpec], bool)> {
        Some((&self.placement, self.endless.is_some()))
    }

    /// As many as asked for, wherever a density was written.
    fn scale(&mut self, factor: f64) {
        self.placement.iter_mut().for_each(|placement| placement.density *= factor as f32);
    }

    fn set_weather(&mut self, weather: Weather) {
        weather.set_motion(self);
    }

    fn build(&self, context: &mut BuildContext<'_>) -> Result<Box<dyn Elements>, SpecError> {
        Ok(Box::new(Meadow::new(self, context)?))
    }
}

/// Distance that drawn blades reach beyond their positions, in metres, and whether all looks are solid, as groups must be.
fn reach_of(spec: &BladeSpec, size: Span, look: &Look, kinds: &[Look]) -> (f32, bool) {
    let looks = || std::iter::once(look).chain(kinds);
    // Blades that represent others are wider; meshes, which are as long as blades, reach out.
    let thins = looks().any(|look| look.parts().detail.is_active());
    let bulky = looks().any(|look| matches!(look.parts().form, Form::Mesh { .. }));
    let wide = if bulky { spec.length.max * 0.12 } else { size.max };
    (wide * if thins { 16.0 } else { 1.0 }, looks().all(Look::is_solid))
}

/// Blades, and the parts of each kind that drawing asks for.
#[derive(Debug, Clone)]
struct Meadow {
    blades: Blades,
    /// Of each kind.
    parts: Vec<Vec<Part>>,
    /// How far what is drawn reaches beyond the blades themselves, in metres.
    margin: f32,
    /// Squares that are drawn as groups.
    placed: Vec<PlacedGroup>,
    /// Whether all looks hide what is behind, as groups must.
    solid: bool,
}

impl Meadow {
    fn new(spec: &BladeSpec, context: &mut BuildContext<'_>) -> Result<Self, SpecError> {
        let &mut BuildContext { count, size, seed, assets, look, kinds, .. } = context;
        let blades = Blades::with_assets(spec, count, size, seed, assets)?;
        let (margin, solid) = reach_of(spec, size, look, kinds);
        let room = blades.chunks().len();
        let parts = (0..=kinds.len()).map(|_| Vec::with_capacity(room)).collect();
        let placed = Vec::with_capacity(if spec.groups.is_some() { room } else { 0 });
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
        let groups = self.blades.groups();
        self.placed.extend(groups.map(|(middle, group)| PlacedGroup { middle, group }));
    }

    /// Whether squares that can be drawn as groups are.
    fn group(&mut self, grouped: bool) {
        let grouped = grouped && self.solid;
        if self.blades.is_grouped() != grouped {
            self.blades.group(grouped);
            self.arrange();
        }
    }

    /// Hands blades that were torn off to the particle population that the spec names.
    fn hand_over(&self, set: &mut ParticleSet, meter: &mut Meter) {
        let Some(tear) = &self.blades.spec().tear else { return };
        let Some(into) = set.get_mut(&tear.start) else { return };
        let torn = self.blades.torn().iter().map(|torn| (torn.middle(), torn.velocity()));
        into.take_on(torn, meter);
    }

    /// The instances of a kind, `lag` seconds before the last step.
    fn of_kind(&self, kind: usize, lag: f32) -> Result<Instances<'_>, SpecError> {
        let parts = self.parts.get(kind).map_or(&[][..], Vec::as_slice);
        let instances = Instances::of(self.blades.columns(), lag).in_parts(parts)?;
        Ok(match self.blades.layouts() {
            Some(layouts) => {
                instances.grouped(Groups { layouts, kind, placed: &self.placed, margin: self.margin })
            }
            None => instances,
        })
    }
}

impl Elements for Meadow {
    fn len(&self, _context: DrawContext<'_>) -> usize {
        self.blades.len()
    }

    fn bytes(&self, _context: DrawContext<'_>) -> u64 {
        self.blades.bytes()
    }

    fn column_names(&self) -> &'static [&'static str] {
        BladeColumns::NAMES
    }

    fn column<'a>(&'a self, _context: DrawContext<'a>, name: &str) -> Option<Column<'a>> {
        self.blades.columns().column(name)
    }

    fn edit(
        &mut self,
        change: &mut dyn FnMut(&mut ColumnsEdit<'_>) -> Result<(), SpecError>,
    ) -> Result<(), SpecError> {
        self.blades.edit(change)?;
        self.arrange();
        Ok(())
    }

    fn command(&mut self, command: &Command) -> Option<u64> {
        let Command::Tear { region, .. } = command else { return None };
        let torn = self.blades.tear_off(region);
        self.arrange();
        Some(torn)
    }

    /// Looks, shapes of blades, their response to wind and pushers, and their number can change; placement cannot.
    fn can_retune(&self, change: &RetuneContext<'_>) -> bool {
        let Some(blades) = &change.population.blades else { return false };
        let same = PopulationSpec {
            blades: Some(blades.clone()),
            count: change.population.count,
            size: change.population.size,
            ..change.before.clone()
        };
        let dressed = RetuneContext { before: &same, size_before: change.size, ..*change };
        dressed.is_dressed_only()
            && change.kinds.len() + 1 == self.parts.len()
            && self.blades.can_retune(blades, change.population.count)
    }

    fn retune(&mut self, change: &RetuneContext<'_>) {
        let Some(blades) = &change.population.blades else { return };
        // Checked by `can_retune`.
        let _ = self.blades.retune(blades, change.population.count, change.size);
        (self.margin, self.solid) = reach_of(blades, change.size, change.look, change.kinds);
        self.arrange();
    }

    /// Follows the camera, then steps the squares that are awake.
    fn step(&mut self, context: &mut StepContext<'_>) -> Result<(), SpecError> {
        let StepContext { world, set, view, sun, lights, grouped, dt, steps, meter, .. } = context;
        self.group(*grouped);
        let eye = view.parts().eye;
        // As many new squares as these steps allow, so that a long run does not fall behind.
        let mut changed = false;
        for _ in 0..(*steps).max(1) {
            if !self.blades.recentre([eye.x, eye.z]) {
                break;
            }
            changed = true;
        }
        let margin = self.margin;
        self.blades
            .update_visibility(eye.to_array(), |low, high| view.concerns(&widened(low, high, margin), *sun));
        if self.blades.is_grouped() && !lights.is_empty() {
            let lit = |low, high| lights.iter().any(|lamp| lamp.reaches(&Bounds { low, high }));
            self.blades.set_apart(lit);
        }
        self.blades.step(world, *dt, *steps, meter);
        if changed || self.blades.is_grouped() {
            self.arrange();
        }
        self.hand_over(set, meter);
        Ok(())
    }

    fn instances<'a>(&'a self, context: DrawContext<'a>) -> Result<Drawables<'a>, SpecError> {
        let mut all = Drawables::default();
        for kind in 0..self.parts.len() {
            all.push(self.of_kind(kind, context.lag)?, kind);
        }
        Ok(all)
    }

    /// Where every blade stands, how it leans and how long it is.
    fn places(&mut self, _context: DrawContext<'_>) -> Option<Places> {
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
                // The line from root to tip leans half as far as the tip.
                tilt: lean * 0.5,
                size: row.length,
                tint: row.tint,
                kind: row.kind & !BladeColumns::TORN,
                id: row.id,
                ..PlacedRow::UPRIGHT
            })
        };
        Some(PlacedColumns::from_rows((0..columns.len()).filter_map(row)).into())
    }

    fn try_clone(&self) -> Option<Box<dyn Elements>> {
        Some(Box::new(self.clone()))
    }

    fn save(&self) -> Result<SavedState, SpecError> {
        Ok(self.blades.save())
    }

    fn restore(&mut self, state: &SavedState) -> Result<(), SpecError> {
        self.blades.restore(state)?;
        self.arrange();
        Ok(())
    }

    fn plan(&self) -> Option<GroundPlan<'_>> {
        let columns = self.blades.columns();
        let [x, _, z] = columns.position();
        let mark = |n: usize| Mark {
            place: [x[n], z[n]],
            turn: columns.turn()[n],
            radius: columns.size()[n] * 4.0,
            tint: columns.tint()[n],
            kind: columns.kind()[n] & !BladeColumns::TORN,
        };
        let marks = (0..columns.len()).filter(|&n| columns.length()[n] > 0.0).map(mark).collect();
        let placement = self.blades.placement();
        let extent = self.blades.spec().endless.is_none().then(|| placement.extent());
        Some(GroundPlan { marks, placement: Some(placement), extent })
    }
}

/// The box of a square and of what is drawn beyond its blades.
fn widened(low: [f32; 3], high: [f32; 3], margin: f32) -> Bounds {
    Bounds { low: low.map(|v| v - margin), high: high.map(|v| v + margin) }
}
