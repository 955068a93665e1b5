//! Elements that grow in clusters.

use frolic_core::{
    Column, ColumnsEdit, GrowSpec, Growing, Meter, PlacedColumns, PlacedRow, Ramp, SavedState, ShownColumns,
    ShownRow, SpecError,
};
use frolic_diagnostics::Mark;
use frolic_draw::{Bounds, Instances, Part, SunSpec, View};

use super::{
    BuildContext, CheckContext, DrawContext, Drawables, Elements, FamilySpec, GroundPlan, RetuneContext,
    StepContext,
};
use crate::command::Command;
use crate::places_file::Places;
use crate::population::PopulationSpec;

#[cfg(feature = "schema")]
impl super::LiveKeys for GrowSpec {
    const LIVE: &'static [&'static str] = &["seconds", "rotation", "harvest"];
}

impl FamilySpec for GrowSpec {
    fn key(&self) -> &'static str {
        "growing"
    }

    fn check(&self, _population: &PopulationSpec, _context: &CheckContext<'_>) -> Result<(), SpecError> {
        GrowSpec::check(self).map_err(|error| error.under("growing"))
    }

    /// The slowest from seed to full size.
    fn warm_up_seconds(&self, _population: &PopulationSpec) -> f32 {
        self.seconds.max * (1.0 - self.start.min).max(0.0)
    }

    fn build(&self, context: &mut BuildContext<'_>) -> Result<Box<dyn Elements>, SpecError> {
        let &mut BuildContext { count, size, seed, assets, look, look_spec, .. } = context;
        let growing = Growing::with_assets(self, count, size, seed, assets)?;
        let parts = Vec::with_capacity(growing.clusters().len());
        let (margin, reach) = (look.reach_of(size.max, None), look.parts().detail.reach);
        Ok(Box::new(Grove { growing, parts, margin, reach, size: look_spec.size_over_age.clone() }))
    }
}

/// Growing elements, and the parts that drawing asks for.
#[derive(Debug, Clone)]
struct Grove {
    growing: Growing,
    parts: Vec<Part>,
    /// How far what is drawn of an element reaches from its place, in metres.
    margin: f32,
    /// Distance beyond which none is drawn, in metres.
    reach: f32,
    /// Factor on the size over growth.
    size: Ramp<f32>,
}

impl Grove {
    fn update_visibility(&mut self, view: &View, sun: Option<&SunSpec>) {
        let (margin, reach, eye) = (self.margin, self.reach, view.parts().eye);
        self.growing.update_visibility(|place, radius| {
            let near = eye.distance(place.into()) - radius - margin <= reach;
            near && view.concerns(&ball(place, radius + margin), sun)
        });
    }

    fn drawn(&self) -> Result<Instances<'_>, SpecError> {
        Instances::of(self.growing.shown(), 0.0).in_parts(&self.parts)
    }
}

impl Elements for Grove {
    fn len(&self, _context: DrawContext<'_>) -> usize {
        self.growing.len()
    }

    fn bytes(&self, _context: DrawContext<'_>) -> u64 {
        self.growing.bytes() as u64
    }

    /// Looks, rates, harvests and the count can change; placement cannot.
    fn can_retune(&self, change: &RetuneContext<'_>) -> bool {
        let Some(growing) = &change.population.growing else { return false };
        let count = change.population.count;
        let same = PopulationSpec { growing: Some(growing.clone()), count, ..change.before.clone() };
        let dressed = RetuneContext { before: &same, ..*change };
        dressed.is_dressed_only() && self.growing.can_retune(growing, count)
    }

    fn retune(&mut self, change: &RetuneContext<'_>) {
        if let Some(growing) = &change.population.growing {
            // Checked by `can_retune`.
            let _ = self.growing.retune(growing, change.population.count);
        }
        (self.margin, self.reach) =
            (change.look.reach_of(change.size.max, None), change.look.parts().detail.reach);
        self.size.clone_from(&change.look_spec.size_over_age);
    }

    fn step(&mut self, context: &mut StepContext<'_>) -> Result<(), SpecError> {
        self.update_visibility(context.view, context.sun);
        self.growing.step(context.dt, context.steps, context.meter);
        Ok(())
    }

    /// Gathers the clusters that are visible.
    fn prepare(
        &mut self,
        _context: DrawContext<'_>,
        view: &View,
        sun: Option<&SunSpec>,
        _taper: Option<f32>,
        meter: &mut Meter,
    ) {
        self.update_visibility(view, sun);
        self.growing.show(meter);
        self.parts.clear();
        for &(nth, first) in self.growing.visible() {
            let cluster = &self.growing.clusters()[nth as usize];
            let bounds = ball(cluster.place, cluster.radius + self.margin);
            self.parts.push(Part { first, count: cluster.len, bounds });
        }
    }

    fn instances<'a>(&'a self, _context: DrawContext<'a>) -> Result<Drawables<'a>, SpecError> {
        self.drawn().map(Drawables::one)
    }

    /// Where every element is, visible or not, at its present size.
    fn places(&mut self, _context: DrawContext<'_>) -> Option<Places> {
        self.growing.update_visibility(|_, _| true);
        let shown = self.growing.show(&mut Meter::new());
        let row = |n: usize| {
            let row = shown.row(n).filter(|row| row.growth >= 0.0)?;
            let ShownRow { px, py, pz, turn, tilt, tint, id, .. } = row;
            let size = row.size * self.size.at(row.growth);
            Some(PlacedRow { px, py, pz, turn, tilt, size, tint, id, ..PlacedRow::UPRIGHT })
        };
        Some(PlacedColumns::from_rows((0..shown.len()).filter_map(row)).into())
    }

    fn column_names(&self) -> &'static [&'static str] {
        ShownColumns::NAMES
    }

    /// Columns of the elements that were visible in the last picture.
    fn column<'a>(&'a self, _context: DrawContext<'a>, name: &str) -> Option<Column<'a>> {
        self.growing.shown().column(name)
    }

    fn command(&mut self, command: &Command) -> Option<u64> {
        match command {
            Command::Harvest { region, least, replant, .. } => {
                Some(self.growing.harvest(region, *least, *replant))
            }
            _ => None,
        }
    }

    fn edit(
        &mut self,
        change: &mut dyn FnMut(&mut ColumnsEdit<'_>) -> Result<(), SpecError>,
    ) -> Result<(), SpecError> {
        self.growing.edit(change)
    }

    fn try_clone(&self) -> Option<Box<dyn Elements>> {
        Some(Box::new(self.clone()))
    }

    fn save(&self) -> Result<SavedState, SpecError> {
        Ok(self.growing.save())
    }

    fn restore(&mut self, state: &SavedState) -> Result<(), SpecError> {
        self.growing.restore(state)
    }

    /// A mark for each cluster.
    fn plan(&self) -> Option<GroundPlan<'_>> {
        let marks = self.growing.clusters().iter().map(|cluster| Mark {
            place: [cluster.place[0], cluster.place[2]],
            turn: cluster.turn,
            radius: cluster.radius,
            tint: 0.5,
            kind: cluster.layout,
        });
        Some(GroundPlan::new(marks.collect()))
    }
}

fn ball(place: [f32; 3], radius: f32) -> Bounds {
    Bounds { low: place.map(|v| v - radius), high: place.map(|v| v + radius) }
}
