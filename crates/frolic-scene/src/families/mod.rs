//! The families of elements that ship, and the seam between them and the rest of a scene.
//!
//! A scene builds, steps, draws, exports and checks populations through [`FamilySpec`] and [`Elements`] and names no family. [`list`] names those
//! that a population can be written as; a population with none of their keys is one of particles, which are a family too.

mod blades;
mod crowd;
mod fixed;
mod flock;
mod growing;
mod particles;
pub(crate) mod registry;

use std::fmt::Debug;
use std::sync::Arc;

use frolic_core::{
    Assets, Column, ColumnsEdit, EventRecord, Meter, OtherElements, ParticleSet, ParticleSpec, PlacedColumns,
    PlacedRow, Placement, PlacementSpec, Poses, SavedState, Span, SpecError, Storage, Weather, World,
    WorldSpec, listed, random,
};
use frolic_diagnostics::Mark;
use frolic_draw::{Instances, LightSpec, Look, LookSpec, Part, SunSpec, View};
use smallvec::{SmallVec, smallvec};

use crate::command::Command;
use crate::device::Device;
use crate::places_file::Places;
use crate::population::PopulationSpec;

/// Hands the families that ship to a macro: the key of a population that holds each, its spec, and what a population of it is.
macro_rules! list {
    ($then:ident) => {
        $then! {
            /// Static instances instead of emitters. Default: none.
            fixed: frolic_core::FixedSpec, "A population of `count` static instances.";
            /// Blades instead of emitters: rooted, bent by the wind. `size` is half the width of their roots. Default: none.
            blades: frolic_core::BladeSpec, "A population of `count` blades. `size` is the range of half the width of their roots, in metres.";
            /// Elements that grow in clusters, instead of emitters. `size` is their full size, and ramps over age run over growth. Default: none.
            growing: frolic_core::GrowSpec, "A population of `count` growing elements. `size` is the range of their full size, in metres.";
            /// Elements that steer by those around them, instead of emitters. Default: none.
            flock: frolic_core::FlockSpec, "A flock of `count` elements. `size` is the range of their size, in metres.";
            /// Units that each go to a goal and avoid each other, instead of emitters. `size` is their radius. Default: none.
            crowd: frolic_core::CrowdSpec, "A crowd of `count` units. `size` is the range of their radius, in metres.";
        }
    };
}
pub(crate) use list;

/// A family of elements as a population names it: what is written down of it, and how its elements are built.
///
/// A program adds a family of its own by this trait and [`Elements`]; [`PopulationSpec::of`] puts it into a scene built in code. The example
/// `my_own_family` is a whole one.
pub trait FamilySpec: Debug + Send + Sync {
    /// Name of the family: the key of a population that holds it. No two families have the same.
    fn key(&self) -> &'static str;

    /// Keys of a population that it reads beside `name`, `count`, `size`, `look` and `seasons`. Other keys that are written are refused: a key
    /// that does nothing is an error.
    fn reads(&self) -> &'static [&'static str] {
        &[]
    }

    /// Checks its values, in this population of a scene. Keys are relative to the population.
    ///
    /// # Errors
    /// Names the first key that cannot be used.
    fn check(&self, population: &PopulationSpec, context: &CheckContext<'_>) -> Result<(), SpecError>;

    /// Time until the population costs what it costs from then on, in seconds. Profiles wait for it.
    fn warm_up_seconds(&self, population: &PopulationSpec) -> f32;

    /// Whether a graphics device can hold and step elements of this family: particles and flocks.
    fn runs_on_device(&self) -> bool {
        false
    }

    /// Why a graphics device cannot run this population, if it cannot.
    fn why_not_on_device(&self, _context: &ResidenceContext<'_>) -> Option<String> {
        Some("its family runs on the CPU".to_owned())
    }

    /// Names of other populations that its elements look at: they run where it does.
    fn looks_at(&self) -> Vec<&str> {
        Vec::new()
    }

    /// Whether `tiled` draws it as cached pictures, which only the CPU does.
    fn has_groups(&self) -> bool {
        false
    }

    /// Ground that its elements are placed on, which terrain may show: the placement, and whether it is endless.
    fn ground(&self) -> Option<(&[PlacementSpec], bool)> {
        None
    }

    /// Changes densities by the factor that the count of its population changed by.
    fn scale(&mut self, _factor: f64) {}

    /// Changes what the weather changes.
    fn set_weather(&mut self, _weather: Weather) {}

    /// Builds the population's elements.
    ///
    /// # Errors
    /// A value cannot be used, or memory is short.
    fn build(&self, context: &mut BuildContext<'_>) -> Result<Box<dyn Elements>, SpecError>;
}

/// Keys of a shipped family that its running elements take.
#[cfg(feature = "schema")]
pub(crate) trait LiveKeys {
    const LIVE: &'static [&'static str];
}

/// A family of a program's own, shared by the copies of a spec.
#[derive(Debug, Clone)]
pub struct OwnFamily(Arc<dyn FamilySpec>);

impl OwnFamily {
    /// Shares a family.
    pub fn new(family: impl FamilySpec + 'static) -> Self {
        Self(Arc::new(family))
    }

    pub(crate) fn spec(&self) -> &dyn FamilySpec {
        &*self.0
    }
}

/// Two are the same if they share their family.
impl PartialEq for OwnFamily {
    fn eq(&self, other: &Self) -> bool {
        Arc::ptr_eq(&self.0, &other.0)
    }
}

/// What a population's values are checked against.
#[derive(Debug, Clone, Copy)]
#[non_exhaustive]
pub struct CheckContext<'a> {
    /// All populations of the scene.
    pub all: &'a [PopulationSpec],
    /// Obstacles, pushers and fields of the scene.
    pub world: &'a WorldSpec,
}

/// What decides whether a population runs on a graphics device.
#[derive(Debug, Clone, Copy)]
#[non_exhaustive]
pub struct ResidenceContext<'a> {
    /// What is written of the population.
    pub population: &'a PopulationSpec,
    /// All populations of the scene.
    pub all: &'a [PopulationSpec],
    /// Range of the radius in the scene's season, in metres.
    pub size: Span,
    /// Wind, fields, obstacles and collectors.
    pub world: &'a World,
    /// Meshes, pictures and distance grids that specs name.
    pub assets: &'a Assets,
}

/// What a population is built from, beside its own spec.
#[derive(Debug)]
#[non_exhaustive]
pub struct BuildContext<'a> {
    /// What is written of the population.
    pub population: &'a PopulationSpec,
    /// Maximum number of elements.
    pub count: u32,
    /// Range of the radius in the scene's season, in metres.
    pub size: Span,
    /// Seed of the population's random numbers.
    pub seed: u32,
    /// Meshes, pictures and distance grids that specs name.
    pub assets: &'a Assets,
    /// Look of its elements.
    pub look: &'a Look,
    /// Looks of further kinds of element.
    pub kinds: &'a [Look],
    /// What the look was built from, in the scene's season.
    pub look_spec: &'a LookSpec,
    /// Values of its particles in the scene's season.
    pub(crate) particles: &'a ParticleSpec,
    pub(crate) storage: Storage,
    /// The scene's particle populations on the CPU.
    pub(crate) set: &'a mut ParticleSet,
    /// The device, if the population is to run there.
    pub(crate) device: Option<&'a mut Device>,
    /// Whether it has joined others, which follow its events.
    pub(crate) joined: bool,
}

/// A change of a running population.
#[derive(Debug, Clone, Copy)]
#[non_exhaustive]
pub struct RetuneContext<'a> {
    /// The present spec.
    pub before: &'a PopulationSpec,
    /// The new spec, checked.
    pub population: &'a PopulationSpec,
    /// New range of the radius in the scene's season, in metres.
    pub size: Span,
    /// Present range of the radius.
    pub size_before: Span,
    /// New look of its elements.
    pub look: &'a Look,
    /// New looks of further kinds of element.
    pub kinds: &'a [Look],
    /// What the look was built from, in the scene's season.
    pub look_spec: &'a LookSpec,
}

impl RetuneContext<'_> {
    /// Returns whether the elements themselves stay as they are: at most looks and trails differ.
    pub fn is_dressed_only(&self) -> bool {
        let PopulationSpec { look, kind, seasons, .. } = self.population;
        let before = PopulationSpec {
            look: look.clone(),
            kind: kind.clone(),
            seasons: seasons.clone(),
            ..self.before.clone()
        };
        before == *self.population && self.size == self.size_before
    }
}

/// What a population is stepped with.
#[derive(Debug)]
#[non_exhaustive]
pub struct StepContext<'a> {
    /// Wind, fields, obstacles and collectors.
    pub world: &'a World,
    /// The view at the end of the steps.
    pub view: &'a View,
    /// The sun, if there is one: what throws a shadow into the picture concerns it too.
    pub sun: Option<&'a SunSpec>,
    /// Lamps.
    pub lights: &'a [LightSpec],
    /// Whether groups may be drawn as cached pictures.
    pub grouped: bool,
    /// Length of a step, in seconds.
    pub dt: f32,
    /// Number of steps to take.
    pub steps: u32,
    /// Records stages and counters.
    pub meter: &'a mut Meter,
    /// The scene's particle populations, stepped before the others.
    pub(crate) set: &'a mut ParticleSet,
    /// Number of the population's events in the set.
    pub(crate) source: usize,
    /// Number of elements that each collector has picked up since the start.
    pub(crate) caught: &'a mut [u64],
    pub(crate) others: &'a dyn OtherPopulations,
    /// Elements of others that it has caught: the place of their population, and theirs in it.
    pub(crate) prey: &'a mut Vec<(usize, u32)>,
}

impl StepContext<'_> {
    /// Starts what events of this population start: `happened` since the last call, as [`frolic_core::Integrator::happened`] lists it.
    pub fn start(&mut self, happened: &[EventRecord]) {
        self.set.start_from(self.source, happened, self.meter);
    }

    /// Elements of another population as they are now, by its name: one before it in the scene has taken this step already. None if there is no such
    /// population, or its columns are not on the CPU.
    pub fn other<'s>(&'s self, name: &'s str) -> Option<OtherElements<'s>> {
        seen(self.others, self.set, name)
    }

    /// Adds what each collector has picked up, as [`frolic_core::Integrator::caught`] counts it.
    pub fn add_caught(&mut self, caught: &[u64]) {
        self.caught.iter_mut().zip(caught).for_each(|(sum, now)| *sum += now);
    }
}

/// The other populations of a scene, while one of them is stepped.
pub(crate) trait OtherPopulations: Debug {
    /// Place and elements of the population of a name, if there is another one of that name.
    fn named(&self, name: &str) -> Option<(usize, &dyn Elements)>;
}

/// Checks that a pusher of the world has a name that a key holds.
fn check_pusher(key: &str, name: &str, context: &CheckContext<'_>) -> Result<(), SpecError> {
    let names = || context.world.pusher.iter().filter_map(|pusher| pusher.name.as_deref());
    if names().any(|other| other == name) {
        return Ok(());
    }
    let instead = one_of(names(), "name one of the world's pushers, and write that name");
    Err(SpecError::new(key, format!("no pusher is named '{name}'"), instead))
}

/// What to write instead of a name that is not there: one of those that are, or else what `without` says.
fn one_of<'a>(names: impl IntoIterator<Item = &'a str>, without: &str) -> String {
    match listed(names).as_str() {
        "" => without.to_owned(),
        names => format!("write one of: {names}"),
    }
}

/// Instances of poses with what was prepared for them: their tints, and boxes around parts of them. Both are left out where they are of another number
/// of elements, as between a step and the next preparation.
pub(crate) fn prepared<'a>(
    mut poses: Poses<'a>,
    tint: Option<&'a [f32]>,
    parts: &'a [Part],
    lag: f32,
) -> Result<Instances<'a>, SpecError> {
    let count = poses.position[0].len();
    poses.tint = tint.filter(|tint| tint.len() == count);
    let instances = Instances::posed(poses, lag)?;
    let covered: usize = parts.iter().map(|part| part.count as usize).sum();
    if covered == count { instances.in_parts(parts) } else { Ok(instances) }
}

/// Elements of a population by its name, among those of a scene.
pub(crate) fn seen<'a>(
    others: &'a dyn OtherPopulations,
    set: &'a ParticleSet,
    name: &'a str,
) -> Option<OtherElements<'a>> {
    let (_, elements) = others.named(name)?;
    let context = DrawContext { lag: 0.0, set };
    let floats = |column: &str| elements.column(context, column).and_then(Column::floats);
    let mut seen = OtherElements::at(name, [floats("px")?, floats("py")?, floats("pz")?]);
    seen.velocity = ["vx", "vy", "vz"].map(|column| floats(column).unwrap_or_default());
    if let Some(Column::Numbers(id)) = elements.column(context, "id") {
        seen.id = id;
    }
    seen.around = floats("around").unwrap_or_default();
    Some(seen)
}

/// What a population is drawn with.
#[derive(Debug, Clone, Copy)]
#[non_exhaustive]
pub struct DrawContext<'a> {
    /// Interpolation lag: time from the picture to the state, in seconds.
    pub lag: f32,
    pub(crate) set: &'a ParticleSet,
}

/// Instances to draw, each with the number of the kind of element that they are.
#[derive(Debug, Default)]
pub struct Drawables<'a>(SmallVec<[(Instances<'a>, usize); 1]>);

impl<'a> Drawables<'a> {
    /// Instances of one kind, drawn by the look of the population.
    pub fn one(instances: Instances<'a>) -> Self {
        Self(smallvec![(instances, 0)])
    }

    /// Adds instances of a kind: 0 is drawn by the look of the population, further ones by its `kind`.
    pub fn push(&mut self, instances: Instances<'a>, kind: usize) {
        self.0.push((instances, kind));
    }

    pub(crate) fn into_inner(self) -> SmallVec<[(Instances<'a>, usize); 1]> {
        self.0
    }
}

/// A plan of the elements of a population from above.
#[derive(Debug)]
#[non_exhaustive]
pub struct GroundPlan<'a> {
    /// A mark for each element or group of elements.
    pub marks: Vec<Mark>,
    /// Where the heights of the ground come from, if elements were placed on one.
    pub placement: Option<&'a Placement>,
    /// Least and greatest x and z, in metres; by default the rectangle around the marks.
    pub extent: Option<[[f32; 2]; 2]>,
}

impl GroundPlan<'_> {
    /// A plan of these marks.
    pub fn new(marks: Vec<Mark>) -> Self {
        Self { marks, placement: None, extent: None }
    }
}

/// Which elements of a population see each other.
#[derive(Debug, Clone, Default)]
#[non_exhaustive]
pub struct SightPlan {
    /// A mark for each element, whose tint is the number of others that it sees over `most`.
    pub marks: Vec<Mark>,
    /// Height (y) of each of them, in metres.
    pub heights: Vec<f32>,
    /// Most that any sees, a few in a hundred aside.
    pub most: f32,
    /// Links from some elements to those that they see: two ends each, in metres.
    pub links: Vec<[[f32; 3]; 2]>,
}

/// The elements of one population: state, and what drawing needs of it. One virtual call a population a step, none an element.
///
/// A panic in one of these calls ends the population and leaves the rest of the scene as it is: the next call that draws returns it as an error.
pub trait Elements: Debug + Send + Sync {
    /// Number of elements. A population of a program's own family ends if there are more than its `count`.
    fn len(&self, context: DrawContext<'_>) -> usize;

    /// Whether there are none.
    fn is_empty(&self, context: DrawContext<'_>) -> bool {
        self.len(context) == 0
    }

    /// Memory that the elements hold, in bytes.
    fn bytes(&self, context: DrawContext<'_>) -> u64;

    /// Moves an endless population to around a place: x and z, in metres.
    fn recentre(&mut self, _middle: [f32; 2]) {}

    /// Returns whether the elements can take a change while they live, with [`Elements::retune`]. If not, the population is built again.
    fn can_retune(&self, _change: &RetuneContext<'_>) -> bool {
        false
    }

    /// Takes a change that [`Elements::can_retune`] accepts. It holds from the next step on.
    fn retune(&mut self, _change: &RetuneContext<'_>) {}

    /// Whether its steps depend on those of other populations. All of the scene then step in turn, one step at a time.
    fn looks_at_others(&self) -> bool {
        false
    }

    /// Takes note that another population has caught some of its elements, counted from 0. By default nothing happens.
    fn catch(&mut self, _elements: &[u32]) {}

    /// Takes fixed steps. Particle populations take theirs together, in the scene's set, before the others.
    ///
    /// # Errors
    /// The state cannot be stepped; the population ends.
    fn step(&mut self, _context: &mut StepContext<'_>) -> Result<(), SpecError> {
        Ok(())
    }

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
    ///
    /// # Errors
    /// Columns differ in length.
    fn instances<'a>(&'a self, context: DrawContext<'a>) -> Result<Drawables<'a>, SpecError>;

    /// Ribbons behind its elements.
    fn trails(&self, _context: DrawContext<'_>) -> Option<Instances<'_>> {
        None
    }

    /// Where every element is, for an export; none of a device-resident population. By default what is drawn.
    fn places(&mut self, context: DrawContext<'_>) -> Option<Places> {
        let drawn = self.instances(context).ok()?.into_inner();
        let all = || {
            drawn.iter().flat_map(|(instances, kind)| {
                let elements = (0..instances.len()).filter_map(|nth| Some((nth, instances.element(nth)?)));
                elements.map(move |(nth, element)| (instances, *kind as u32, nth, element))
            })
        };
        let rows = all().map(|(_, kind, _, element)| {
            let ([px, py, pz], [turn, tilt]) = (element.position, element.turn.unwrap_or_default());
            let tint = element.tint.unwrap_or_else(|| random::pair(element.id)[1]);
            let (size, id) = (element.size, element.id);
            PlacedRow { px, py, pz, turn, tilt, size, tint, kind, id, ..PlacedRow::UPRIGHT }
        });
        let mut places = Places::from(PlacedColumns::from_rows(rows));
        if drawn.iter().any(|(instances, _)| instances.poses().velocity.is_some()) {
            places.velocity =
                Some([0, 1, 2].map(|axis| all().map(|(.., element)| element.velocity[axis]).collect()));
        }
        if drawn.iter().any(|(instances, _)| instances.poses().age.is_some()) {
            let age = |(instances, _, nth, _): (&Instances<'_>, u32, usize, _)| {
                instances.poses().age.map_or(0.0, |[age, _]| (age[nth] - context.lag).max(0.0))
            };
            places.age =
                Some(all().map(|(instances, kind, nth, _)| age((instances, kind, nth, ()))).collect());
        }
        Some(places)
    }

    /// Names of the columns that [`Elements::column`] gives.
    fn column_names(&self) -> &'static [&'static str] {
        &[]
    }

    /// A column of the elements by its name.
    fn column<'a>(&'a self, _context: DrawContext<'a>, _name: &str) -> Option<Column<'a>> {
        None
    }

    /// Lets a program change elements by their columns. By default they cannot be changed.
    ///
    /// # Errors
    /// They cannot be changed, the change fails, or it gives a value out of range. The elements then stay as they are.
    fn edit(
        &mut self,
        _change: &mut dyn FnMut(&mut ColumnsEdit<'_>) -> Result<(), SpecError>,
    ) -> Result<(), SpecError> {
        Err(SpecError::new("edit", "is not taken by this family", "change its spec"))
    }

    /// Does something once. Returns the number of elements that it concerns; none if they do not take this command.
    fn command(&mut self, _command: &Command) -> Option<u64> {
        None
    }

    /// A copy that continues with the same bits, for a copy of the scene. By default there is none.
    fn try_clone(&self) -> Option<Box<dyn Elements>> {
        None
    }

    /// The state of the elements, without what their spec gives. By default they do not save it.
    ///
    /// # Errors
    /// They do not save it.
    fn save(&self) -> Result<SavedState, SpecError> {
        Err(SpecError::new("state", "is not saved by this family", "save scenes without it"))
    }

    /// Takes over a state that elements of the same spec saved.
    ///
    /// # Errors
    /// The state does not fit the spec. The scene then drops these elements.
    fn restore(&mut self, _state: &SavedState) -> Result<(), SpecError> {
        Err(SpecError::new("state", "is not restored by this family", "save scenes without it"))
    }

    /// Number of groups that its elements form, if that means something for them. It may take as long as a step; profiles ask between frames.
    fn groups(&self) -> Option<usize> {
        None
    }

    /// Which elements see each other, from above; none where they do not look.
    fn sight(&self) -> Option<SightPlan> {
        None
    }

    /// A plan of the elements; none where they move freely.
    fn plan(&self) -> Option<GroundPlan<'_>> {
        None
    }
}

/// Elements of a population that has ended: none.
#[derive(Debug)]
pub(crate) struct Ended;

impl Elements for Ended {
    fn len(&self, _context: DrawContext<'_>) -> usize {
        0
    }

    fn bytes(&self, _context: DrawContext<'_>) -> u64 {
        0
    }

    fn instances<'a>(&'a self, _context: DrawContext<'a>) -> Result<Drawables<'a>, SpecError> {
        Ok(Drawables::default())
    }

    fn try_clone(&self) -> Option<Box<dyn Elements>> {
        Some(Box::new(Self))
    }

    fn save(&self) -> Result<SavedState, SpecError> {
        Err(SpecError::new("state", "is gone: the population has ended", "save before it ends"))
    }
}
