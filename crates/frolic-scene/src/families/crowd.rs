//! Crowds: units that each go to a goal and avoid each other.

use frolic_core::{Column, ColumnsEdit, Counter, Crowd, CrowdSpec, Meter, SavedState, SpecError};
use frolic_draw::{Part, SunSpec, View, chunk_parts};

use super::{
    BuildContext, CheckContext, DrawContext, Drawables, Elements, FamilySpec, RetuneContext, StepContext,
    prepared,
};
use crate::population::PopulationSpec;

#[cfg(feature = "schema")]
impl super::LiveKeys for CrowdSpec {
    const LIVE: &'static [&'static str] = &[
        "goal",
        "close",
        "cruise",
        "top_speed",
        "acceleration",
        "turn_degrees",
        "avoidance",
        "look_ahead",
        "look_ahead_walls",
        "sight",
        "heeds",
        "priority",
        "patience",
        "tint_by",
        "most",
    ];
}

impl FamilySpec for CrowdSpec {
    fn key(&self) -> &'static str {
        "crowd"
    }

    fn reads(&self) -> &'static [&'static str] {
        &["field", "event", "apart"]
    }

    fn check(&self, population: &PopulationSpec, _context: &CheckContext<'_>) -> Result<(), SpecError> {
        CrowdSpec::check(self, population.count).map_err(|error| error.under("crowd"))?;
        if !population.kind.is_empty() {
            let problem = "does nothing: crowds have no kinds";
            return Err(SpecError::new("kind", problem, "leave it out, or write several populations"));
        }
        Ok(())
    }

    /// Until units avoid each other.
    fn warm_up_seconds(&self, _population: &PopulationSpec) -> f32 {
        4.0
    }

    fn build(&self, context: &mut BuildContext<'_>) -> Result<Box<dyn Elements>, SpecError> {
        let &mut BuildContext { population, count, size, seed, assets, look, .. } = context;
        let mut crowd = Crowd::with_assets(self, count, size, seed, assets)
            .map_err(|error| error.under("crowd"))?
            .with_events(&population.event)?
            .with_fields(&population.field, assets)?;
        if let Some(apart) = &population.apart {
            crowd = crowd.with_apart(apart)?;
        }
        let reach = look.reach_of(size.max, None);
        Ok(Box::new(Units { crowd, tint: Vec::new(), is_tinted: false, parts: Vec::new(), reach }))
    }
}

/// A crowd, and what drawing needs of it.
#[derive(Debug, Clone)]
struct Units {
    crowd: Crowd,
    tint: Vec<f32>,
    is_tinted: bool,
    parts: Vec<Part>,
    /// How far what is drawn of a unit reaches from its place, in metres.
    reach: f32,
}

impl Elements for Units {
    fn len(&self, _context: DrawContext<'_>) -> usize {
        self.crowd.len()
    }

    fn bytes(&self, _context: DrawContext<'_>) -> u64 {
        self.crowd.bytes()
    }

    fn can_retune(&self, change: &RetuneContext<'_>) -> bool {
        let Some(crowd) = &change.population.crowd else { return false };
        let PopulationSpec { count, size, .. } = *change.population;
        let same = PopulationSpec { crowd: Some(crowd.clone()), count, size, ..change.before.clone() };
        let dressed = RetuneContext { before: &same, size_before: change.size, ..*change };
        dressed.is_dressed_only() && self.crowd.can_retune(crowd)
    }

    fn retune(&mut self, change: &RetuneContext<'_>) {
        if let Some(crowd) = &change.population.crowd {
            // Checked by `can_retune` and with the spec.
            let _ = self.crowd.retune(crowd, change.population.count);
        }
        if change.size != change.size_before {
            self.crowd.resize(change.size);
        }
        self.reach = change.look.reach_of(change.size.max, None);
    }

    fn step(&mut self, context: &mut StepContext<'_>) -> Result<(), SpecError> {
        for _ in 0..context.steps {
            self.crowd.step(context.world, context.dt, context.meter)?;
            context.start(self.crowd.happened());
            context.add_caught(self.crowd.picked());
        }
        if context.steps > 0 {
            self.crowd.gauges().set_levels(context.meter);
        }
        context.meter.add(Counter::Alive, self.crowd.len() as u64);
        context.meter.add(Counter::ElementBytes, self.crowd.bytes());
        Ok(())
    }

    fn prepare(
        &mut self,
        context: DrawContext<'_>,
        _view: &View,
        _sun: Option<&SunSpec>,
        _taper: Option<f32>,
        _meter: &mut Meter,
    ) {
        let Self { crowd, tint, parts, reach, .. } = self;
        self.is_tinted = crowd.tint(tint);
        parts.clear();
        // Between steps units are behind where they are, by a part of a step.
        let behind = crowd.spec().top_speed * context.lag.min(crowd.last_step());
        parts.extend(chunk_parts(crowd.columns().position(), *reach + behind));
    }

    fn instances<'a>(&'a self, context: DrawContext<'a>) -> Result<Drawables<'a>, SpecError> {
        // Before the first step units are where they start.
        let lag = context.lag.min(self.crowd.last_step());
        let tint = self.is_tinted.then_some(&self.tint[..]);
        prepared(self.crowd.poses(), tint, &self.parts, lag).map(Drawables::one)
    }

    fn column_names(&self) -> &'static [&'static str] {
        &[
            "px", "py", "pz", "vx", "vy", "vz", "age", "life", "size", "id", "key", "gx", "gz", "leg",
            "waited", "arrived", "way", "gap", "origin",
        ]
    }

    fn column<'a>(&'a self, _context: DrawContext<'a>, name: &str) -> Option<Column<'a>> {
        self.crowd.columns().column(name).or_else(|| self.crowd.own_columns().column(name))
    }

    fn edit(
        &mut self,
        change: &mut dyn FnMut(&mut ColumnsEdit<'_>) -> Result<(), SpecError>,
    ) -> Result<(), SpecError> {
        self.crowd.edit(change)
    }

    fn try_clone(&self) -> Option<Box<dyn Elements>> {
        Some(Box::new(self.clone()))
    }

    fn save(&self) -> Result<SavedState, SpecError> {
        Ok(self.crowd.save())
    }

    fn restore(&mut self, state: &SavedState) -> Result<(), SpecError> {
        self.crowd.restore(state)
    }
}
