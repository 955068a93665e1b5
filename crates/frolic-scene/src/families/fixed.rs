//! Elements that stay where they are put: they hang, stand and sway.

use frolic_core::{
    Column, ColumnsEdit, FixedColumns, FixedInstances, FixedSpec, SavedState, Span, SpecError,
};
use frolic_diagnostics::Mark;
use frolic_draw::{Instances, Look, Part, chunk_parts};

use super::{
    BuildContext, CheckContext, DrawContext, Drawables, Elements, FamilySpec, GroundPlan, RetuneContext,
    StepContext, check_pusher,
};
use crate::population::PopulationSpec;

#[cfg(feature = "schema")]
impl super::LiveKeys for FixedSpec {
    const LIVE: &'static [&'static str] = &[];
}

impl FamilySpec for FixedSpec {
    fn key(&self) -> &'static str {
        "fixed"
    }

    fn check(&self, population: &PopulationSpec, context: &CheckContext<'_>) -> Result<(), SpecError> {
        if let Some(name) = self.walk.as_ref().and_then(|walk| walk.pusher.as_deref()) {
            check_pusher("fixed.walk.pusher", name, context)?;
        }
        FixedSpec::check(self, population.count).map_err(|error| error.under("fixed"))
    }

    /// Three swings of a pendulum of its length.
    fn warm_up_seconds(&self, _population: &PopulationSpec) -> f32 {
        let swing = |length: f32| std::f32::consts::TAU * (length / 9.81).sqrt();
        self.swing.map_or(0.0, |it| 3.0 * swing(it.length))
    }

    fn build(&self, context: &mut BuildContext<'_>) -> Result<Box<dyn Elements>, SpecError> {
        let &mut BuildContext { count, size, seed, assets, look, .. } = context;
        let instances = FixedInstances::with_assets(self, count, size, seed, assets)?;
        let margin = reach_of(self, size, look, &instances);
        let mut fixed = Fixed { instances, parts: Vec::new(), margin };
        fixed.follow();
        Ok(Box::new(fixed))
    }
}

/// Distance that drawn elements reach from their positions, with sway, in metres.
fn reach_of(spec: &FixedSpec, size: Span, look: &Look, instances: &FixedInstances) -> f32 {
    look.reach_of(size.max, instances.curves()) + spec.sway.map_or(0.0, |sway| sway.give * 40.0)
}

/// Static instances, and boxes around their chunks.
#[derive(Debug, Clone)]
struct Fixed {
    instances: FixedInstances,
    parts: Vec<Part>,
    /// Distance that a drawn element reaches from its place, the wind's part included, in metres.
    margin: f32,
}

impl Fixed {
    /// Brings the boxes to where the elements are.
    fn follow(&mut self) {
        self.parts.clear();
        self.parts.extend(chunk_parts(self.instances.columns().position(), self.margin));
    }

    fn drawn(&self) -> Result<Instances<'_>, SpecError> {
        let instances = Instances::of(self.instances.columns(), 0.0).in_parts(&self.parts)?;
        let instances = match self.instances.tint() {
            Some(tint) => instances.tinted(tint)?,
            None => instances,
        };
        match self.instances.curves() {
            Some([middle, tip]) => instances.curved(middle, tip),
            None => Ok(instances),
        }
    }
}

impl Elements for Fixed {
    fn len(&self, _context: DrawContext<'_>) -> usize {
        self.instances.len()
    }

    fn column_names(&self) -> &'static [&'static str] {
        FixedColumns::NAMES
    }

    fn column<'a>(&'a self, _context: DrawContext<'a>, name: &str) -> Option<Column<'a>> {
        self.instances.columns().column(name)
    }

    fn bytes(&self, _context: DrawContext<'_>) -> u64 {
        self.instances.bytes()
    }

    fn recentre(&mut self, middle: [f32; 2]) {
        if self.instances.recentre(middle) {
            self.follow();
        }
    }

    fn can_retune(&self, change: &RetuneContext<'_>) -> bool {
        change.is_dressed_only()
    }

    fn retune(&mut self, change: &RetuneContext<'_>) {
        if let Some(spec) = &change.population.fixed {
            self.margin = reach_of(spec, change.size, change.look, &self.instances);
            self.follow();
        }
    }

    fn step(&mut self, context: &mut StepContext<'_>) -> Result<(), SpecError> {
        self.instances.step(context.world, context.dt, context.steps, context.meter);
        if self.instances.moves() {
            self.follow();
        }
        Ok(())
    }

    fn instances<'a>(&'a self, _context: DrawContext<'a>) -> Result<Drawables<'a>, SpecError> {
        self.drawn().map(Drawables::one)
    }

    fn edit(
        &mut self,
        change: &mut dyn FnMut(&mut ColumnsEdit<'_>) -> Result<(), SpecError>,
    ) -> Result<(), SpecError> {
        self.instances.edit(change)?;
        self.follow();
        Ok(())
    }

    fn try_clone(&self) -> Option<Box<dyn Elements>> {
        Some(Box::new(self.clone()))
    }

    fn save(&self) -> Result<SavedState, SpecError> {
        Ok(self.instances.save())
    }

    fn restore(&mut self, state: &SavedState) -> Result<(), SpecError> {
        self.instances.restore(state)?;
        self.follow();
        Ok(())
    }

    fn plan(&self) -> Option<GroundPlan<'_>> {
        let columns = self.instances.columns();
        let mark = |n: usize| {
            let (place, tint) = ([columns.px()[n], columns.pz()[n]], 0.5);
            Mark { place, turn: columns.turn()[n], radius: columns.size()[n], tint, kind: 0 }
        };
        Some(GroundPlan::new((0..columns.len()).map(mark).collect()))
    }
}
