//! The families of elements that ship, and the seam between them and the rest of a scene.
//!
//! A scene builds, steps, draws, exports and checks populations through [`FamilySpec`] and [`Elements`] and names no family. [`all`] and [`all_mut`]
//! list the families that a population can be written as; a population with none of their keys is one of particles.

mod blades;
mod fixed;
mod growing;
mod particles;

use std::fmt::Debug;

use frolic_core::{
    BladeSpec, Forms, Meter, ParticleSet, ParticleSpec, PlacedColumns, Placement, Span, SpecError, Storage,
    Weather, World,
};
use frolic_diagnostics::Mark;
use frolic_draw::{Instances, LightSpec, Look, LookSpec, SunSpec, View};
use smallvec::SmallVec;

use crate::device::Device;
use crate::spec::{PopulationSpec, SceneSpec};

/// The families that a population is written as; a checked one has at most one.
pub(crate) fn all(population: &PopulationSpec) -> impl Iterator<Item = &dyn FamilySpec> {
    let PopulationSpec { fixed, blades, growing, .. } = population;
    let fixed = fixed.as_ref().map(|spec| spec as &dyn FamilySpec);
    let blades = blades.as_ref().map(|spec| spec as &dyn FamilySpec);
    let growing = growing.as_ref().map(|spec| spec as &dyn FamilySpec);
    [fixed, blades, growing].into_iter().flatten()
}

/// The same, to change.
pub(crate) fn all_mut(population: &mut PopulationSpec) -> impl Iterator<Item = &mut dyn FamilySpec> {
    let PopulationSpec { fixed, blades, growing, .. } = population;
    let fixed = fixed.as_mut().map(|spec| spec as &mut dyn FamilySpec);
    let blades = blades.as_mut().map(|spec| spec as &mut dyn FamilySpec);
    let growing = growing.as_mut().map(|spec| spec as &mut dyn FamilySpec);
    [fixed, blades, growing].into_iter().flatten()
}

/// What a scene file says of a family.
pub(crate) trait FamilySpec {
    /// The key of a population that holds it.
    fn key(&self) -> &'static str;

    /// Keys of a population that it reads and other families may not; see [`PopulationSpec::written`].
    fn reads(&self) -> &'static [&'static str] {
        &[]
    }

    /// Whether its values can be used in this population of this scene. Keys are relative to the population.
    fn check(&self, population: &PopulationSpec, scene: &SceneSpec) -> Result<(), SpecError>;

    /// Time until the population costs what it costs from then on, in seconds.
    fn settle_seconds(&self) -> f32;

    /// Whether `tiled` draws it as cached pictures, which only the CPU does.
    fn has_groups(&self) -> bool {
        false
    }

    /// Changes densities by the factor that the count of its population changed by.
    fn scale(&mut self, _factor: f64) {}

    /// Changes what the weather changes.
    fn set_weather(&mut self, _weather: Weather) {}

    /// Builds the population's elements.
    fn build(&self, context: &BuildContext<'_>) -> Result<Box<dyn Elements>, SpecError>;
}

/// What a population is built from, beside its own spec.
#[derive(Debug)]
pub(crate) struct BuildContext<'a> {
    pub(crate) count: u32,
    /// Radius range in the scene's season, in metres.
    pub(crate) size: Span,
    pub(crate) seed: u32,
    pub(crate) forms: &'a Forms,
    pub(crate) look: &'a Look,
    /// Looks of further kinds of element.
    pub(crate) kinds: &'a [Look],
    /// What the look was built from, in the scene's season.
    pub(crate) look_spec: &'a LookSpec,
}

/// Builds a population of particles: device-resident if `device` is given, else a member of `set`.
pub(crate) fn build_particles(
    name: &str,
    spec: &ParticleSpec,
    context: &BuildContext<'_>,
    storage: Storage,
    set: &mut ParticleSet,
    device: Option<&mut Device>,
) -> Result<Box<dyn Elements>, SpecError> {
    match device {
        Some(device) => device.population(name, spec, context.seed, context.forms),
        None => {
            let member = set.add_with(name, spec, context.seed, storage, context.forms)?;
            Ok(Box::new(particles::Member::new(member)))
        }
    }
}

/// What a population is stepped with.
pub(crate) struct StepContext<'a> {
    pub(crate) world: &'a World,
    /// The scene's particle populations, stepped before the others.
    pub(crate) set: &'a mut ParticleSet,
    /// The view at the end of the steps.
    pub(crate) view: &'a View,
    pub(crate) sun: Option<&'a SunSpec>,
    pub(crate) lights: &'a [LightSpec],
    /// Whether groups may be drawn as cached pictures.
    pub(crate) grouped: bool,
    /// Length of a step, in seconds.
    pub(crate) dt: f32,
    pub(crate) steps: u32,
    pub(crate) meter: &'a mut Meter,
}

/// What a population is drawn with.
#[derive(Debug, Clone, Copy)]
pub(crate) struct DrawContext<'a> {
    pub(crate) set: &'a ParticleSet,
    /// Interpolation lag: time from the picture to the state, in seconds.
    pub(crate) lag: f32,
}

/// Instances with the number of the kind of element that they are.
pub(crate) type InstancesOfKinds<'a> = SmallVec<[(Instances<'a>, usize); 1]>;

/// Elements that stand where they were placed, for a plan from above.
pub(crate) struct GroundPlan<'a> {
    pub(crate) marks: Vec<Mark>,
    /// Where the heights of the ground come from, if elements were placed on one.
    pub(crate) placement: Option<&'a Placement>,
    /// Least and greatest x and z, in metres; by default the rectangle around the marks.
    pub(crate) extent: Option<[[f32; 2]; 2]>,
}

/// The elements of one population: state, and what drawing needs of it. One virtual call a population a step, none an element.
pub(crate) trait Elements: Debug + Send + Sync {
    /// Number of elements; 0 of a device-resident population.
    fn len(&self, set: &ParticleSet) -> usize;

    /// Memory that the elements hold, in bytes; 0 of a device-resident population.
    fn bytes(&self, set: &ParticleSet) -> u64;

    /// Moves an endless population to around a place: x and z, in metres.
    fn recentre(&mut self, _middle: [f32; 2]) {}

    /// Takes fixed steps. Particle populations take theirs together, in the scene's set.
    fn step(&mut self, _context: &mut StepContext<'_>) {}

    /// Derives what only a picture needs. `taper` is the width of a trail's tip over its root, where the population has trails.
    fn prepare(
        &mut self,
        _context: DrawContext<'_>,
        _view: &View,
        _sun: Option<&SunSpec>,
        _taper: Option<f32>,
        _meter: &mut Meter,
    ) {
    }

    /// What is drawn.
    fn instances<'a>(&'a self, context: DrawContext<'a>) -> InstancesOfKinds<'a>;

    /// Ribbons behind its elements.
    fn trails(&self, _context: DrawContext<'_>) -> Option<Instances<'_>> {
        None
    }

    /// Where every element is; none of a device-resident population.
    fn placed(&mut self, context: DrawContext<'_>) -> Option<PlacedColumns>;

    /// A plan of the elements; none where they move freely.
    fn plan(&self) -> Option<GroundPlan<'_>> {
        None
    }
}

/// Checks the family of a population: that there is at most one, that its values can be used, and that no key is written that it does not read.
pub(crate) fn check(population: &PopulationSpec, scene: &SceneSpec) -> Result<(), SpecError> {
    let mut families = all(population);
    let Some(family) = families.next() else {
        if !population.kind.is_empty() {
            let problem = "does nothing: particles are of one kind";
            return Err(SpecError::new("kind", problem, "leave it out, or write several populations"));
        }
        return Ok(());
    };
    let key = family.key();
    if let Some(other) = families.next() {
        let problem = format!("stands beside {key}");
        return Err(SpecError::new(other.key(), problem, "keep one of them"));
    }
    family.check(population, scene)?;
    let unread = population.written().into_iter().find(|key| !family.reads().contains(key));
    match unread {
        Some(unread) => {
            let problem = format!("does nothing in a population of {key}");
            Err(SpecError::new(unread, problem, "leave it out"))
        }
        None => Ok(()),
    }
}

/// The blades of a population by name, whose ground a scene may show.
pub(crate) fn blades<'a>(scene: &'a SceneSpec, name: &str) -> Option<&'a BladeSpec> {
    scene.population.iter().find(|population| population.name == name)?.blades.as_ref()
}
