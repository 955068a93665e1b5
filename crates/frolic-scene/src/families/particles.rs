//! Particles: a member of the scene's set, in which events of one population start elements of another.

use frolic_core::{BodyColumns, Column, Meter, Particles, SavedState, SpecError};
use frolic_draw::{Instances, SunSpec, Trails, View};

use super::{BuildContext, CheckContext, DrawContext, Drawables, Elements, FamilySpec, ResidenceContext};
use crate::device::OnDevice;
use crate::places_file::Places;
use crate::population::PopulationSpec;

/// The family of a population that is written as none of the list. Its values are keys of the population itself.
#[derive(Debug)]
pub(crate) struct ParticleFamily;

impl FamilySpec for ParticleFamily {
    fn key(&self) -> &'static str {
        "particles"
    }

    fn reads(&self) -> &'static [&'static str] {
        &["life", "motion", "emitter", "field", "event", "apart", "order", "trail"]
    }

    fn check(&self, population: &PopulationSpec, _context: &CheckContext<'_>) -> Result<(), SpecError> {
        if population.kind.is_empty() {
            return Ok(());
        }
        let problem = "does nothing: particles have no kinds";
        Err(SpecError::new("kind", problem, "leave it out, or write several populations"))
    }

    /// The longest lifetime.
    fn warm_up_seconds(&self, population: &PopulationSpec) -> f32 {
        population.life.max
    }

    fn runs_on_device(&self) -> bool {
        true
    }

    /// The registry asks of all particles at once, as events join them.
    fn why_not_on_device(&self, _context: &ResidenceContext<'_>) -> Option<String> {
        None
    }

    fn build(&self, context: &mut BuildContext<'_>) -> Result<Box<dyn Elements>, SpecError> {
        let BuildContext { population, particles, seed, storage, assets, set, device, joined, .. } = context;
        *joined = true;
        let name = &population.name;
        match device {
            Some(device) => {
                Ok(Box::new(ResidentParticles(device.particles(name, particles, *seed, assets)?)))
            }
            None => {
                let nth = set.add_with(name, particles, *seed, *storage, assets)?;
                Ok(Box::new(Member { nth, trails: Trails::default() }))
            }
        }
    }
}

/// Particles on the device.
#[derive(Debug)]
struct ResidentParticles(OnDevice);

/// The state of a population on the device is not saved.
pub(super) fn not_saved() -> SpecError {
    SpecError::new("state", "is on the graphics device", "write residence = \"cpu\" to save the scene")
}

impl Elements for ResidentParticles {
    /// Only the device has the number.
    fn len(&self, _context: DrawContext<'_>) -> usize {
        0
    }

    fn bytes(&self, _context: DrawContext<'_>) -> u64 {
        self.0.bytes
    }

    fn instances<'a>(&'a self, context: DrawContext<'a>) -> Result<Drawables<'a>, SpecError> {
        let mut all = Drawables::default();
        self.0.shards.iter().for_each(|shard| all.push(Instances::on_device(*shard, context.lag), 0));
        Ok(all)
    }

    fn trails(&self, context: DrawContext<'_>) -> Option<Instances<'_>> {
        self.0.trails.map(|trails| Instances::on_device(trails, context.lag))
    }

    fn places(&mut self, _context: DrawContext<'_>) -> Option<Places> {
        None
    }

    fn save(&self) -> Result<SavedState, SpecError> {
        Err(not_saved())
    }
}

/// A member of the set, and the trails of its elements as they were last drawn.
#[derive(Debug)]
struct Member {
    nth: usize,
    trails: Trails,
}

impl Member {
    fn particles<'a>(&self, context: DrawContext<'a>) -> &'a Particles {
        &context.set.members()[self.nth]
    }
}

impl Elements for Member {
    fn len(&self, context: DrawContext<'_>) -> usize {
        self.particles(context).len()
    }

    fn bytes(&self, context: DrawContext<'_>) -> u64 {
        self.particles(context).bytes()
    }

    fn prepare(
        &mut self,
        context: DrawContext<'_>,
        _view: &View,
        _sun: Option<&SunSpec>,
        taper: Option<f32>,
        _meter: &mut Meter,
    ) {
        let particles = self.particles(context);
        if let (Some(trail), Some(taper)) = (particles.trail(), taper) {
            self.trails.take(particles.columns(), trail, context.lag, taper);
        }
    }

    fn instances<'a>(&'a self, context: DrawContext<'a>) -> Result<Drawables<'a>, SpecError> {
        Ok(Drawables::one(Instances::of(self.particles(context).columns(), context.lag)))
    }

    fn trails(&self, _context: DrawContext<'_>) -> Option<Instances<'_>> {
        self.trails.instances().ok()
    }

    fn column_names(&self) -> &'static [&'static str] {
        BodyColumns::NAMES
    }

    fn column<'a>(&'a self, context: DrawContext<'a>, name: &str) -> Option<Column<'a>> {
        self.particles(context).columns().column(name)
    }

    fn try_clone(&self) -> Option<Box<dyn Elements>> {
        Some(Box::new(Self { nth: self.nth, trails: Trails::default() }))
    }

    /// The set saves its members.
    fn save(&self) -> Result<SavedState, SpecError> {
        Ok(SavedState::default())
    }

    fn restore(&mut self, _state: &SavedState) -> Result<(), SpecError> {
        Ok(())
    }
}
