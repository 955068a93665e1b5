//! Free bodies: elements of any family that have a place and a velocity, and what acts on them.
//!
//! **In:** borrowed columns ([`Bodies`]), a [`MotionSpec`] and a [`World`]. **Out:** the same columns a step later, the indices of dead bodies, and
//! event records. Wind, fields, obstacles, collectors and events act here, independent of family.
//!
//! | question | file |
//! | --- | --- |
//! | how does a population respond to the world? | `spec.rs` |
//! | by what formula does a body move? | `motion.rs` |
//! | how are all moved in one pass? | `step.rs` |
//! | how are contacts resolved, and events recorded? | `collisions.rs` |
//! | what happens to a newborn in the step of its birth? | `births.rs` |

mod births;
mod collisions;
mod motion;
mod spec;
mod step;

pub use motion::Motion;
pub use spec::{KeepTo, MotionSpec};
pub(crate) use step::{Acts, Chunk, Notes, Room, join_dead, step_chunks, step_row};

use glam::Vec3;

use crate::assets::Assets;
use crate::foundations::columns::columns;
use crate::foundations::error::SpecError;
use crate::foundations::meter::{Counter, Meter, Stage};
use crate::foundations::random::Draws;
use crate::foundations::simd::{Level, detect};
use crate::foundations::span::Span;
use crate::foundations::state::SavedState;
use crate::poses::sealed::Sealed;
use crate::poses::{Posed, Poses};
use crate::world::World;
use crate::world::collectors::Catching;
use crate::world::curl::Curl;
use crate::world::events::{EventRecord, EventSpec, Moment};
use crate::world::fields::spec::FieldSpec;
use crate::world::fields::{Acting, FieldPhases, FieldPopulation};

columns! {
    /// All attributes of one body.
    row BodyRow;
    /// The attributes of bodies; slices of one length.
    columns BodyColumns;
    /// Position x, in metres.
    px: f32,
    /// Position y (up), in metres.
    py: f32,
    /// Position z, in metres.
    pz: f32,
    /// Mean velocity over the last step, x, in m/s; of a body of age 0 its velocity now.
    vx: f32,
    /// The same along y, in m/s.
    vy: f32,
    /// The same along z, in m/s.
    vz: f32,
    /// Time since birth, in seconds.
    age: f32,
    /// Age at death, in seconds.
    life: f32,
    /// Radius at birth, in metres.
    size: f32,
    /// Number of the element, counted from 0 in order of birth.
    id: u32,
    /// Key of the random numbers that its look is drawn by: its number, or its parent's key.
    key: u32,
}

impl BodyColumns {
    /// The three position columns, in metres.
    pub fn position(&self) -> [&[f32]; 3] {
        [&self.px, &self.py, &self.pz]
    }

    /// The three velocity columns, in m/s.
    pub fn velocity(&self) -> [&[f32]; 3] {
        [&self.vx, &self.vy, &self.vz]
    }

    pub(crate) fn place(&self, nth: usize) -> Vec3 {
        Vec3::new(self.px[nth], self.py[nth], self.pz[nth])
    }

    pub(crate) fn velocity_of(&self, nth: usize) -> Vec3 {
        Vec3::new(self.vx[nth], self.vy[nth], self.vz[nth])
    }

    /// Draws all sizes again from a range, in metres, by the numbers of the elements.
    pub(crate) fn resize_by(&mut self, range: Span, seed: u32) {
        for (id, size) in self.id.iter().zip(&mut self.size) {
            *size = drawn_size(range, Draws { seed, id: *id });
        }
    }

    /// Places of the `many` with the highest numbers, rising.
    pub(crate) fn newest(&self, many: usize) -> Vec<u32> {
        let mut ids = self.id.clone();
        ids.sort_unstable();
        let first = ids.get(ids.len().saturating_sub(many)).copied().unwrap_or(u32::MAX);
        (0..self.len() as u32).filter(|nth| self.id[*nth as usize] >= first).collect()
    }

    /// All of them as [`Bodies`], to be moved.
    pub fn bodies(&mut self) -> Bodies<'_> {
        Bodies {
            position: [&mut self.px, &mut self.py, &mut self.pz],
            velocity: [&mut self.vx, &mut self.vy, &mut self.vz],
            age: &mut self.age,
            life: &self.life,
            size: &self.size,
            id: &self.id,
            key: &self.key,
        }
    }
}

/// Size of an element from a range, in metres, by its random numbers.
pub(crate) fn drawn_size(range: Span, draws: Draws) -> f32 {
    let [_, share, _] = draws.draw(8);
    range.at(share)
}

/// Borrowed columns of bodies of any family; slices of one length.
#[derive(Debug)]
pub struct Bodies<'a> {
    /// x, y and z, in metres.
    pub position: [&'a mut [f32]; 3],
    /// Mean velocity over the last step, x, y and z, in m/s; of a body of age 0 its velocity now.
    pub velocity: [&'a mut [f32]; 3],
    /// Time since birth, in seconds.
    pub age: &'a mut [f32],
    /// Age at death, in seconds; infinite for bodies that do not die of age.
    pub life: &'a [f32],
    /// Radius that events pass on to started elements, in metres.
    pub size: &'a [f32],
    /// Numbers of the elements: events draw their random numbers by them.
    pub id: &'a [u32],
    /// Keys of the random numbers of their looks.
    pub key: &'a [u32],
}

impl Bodies<'_> {
    /// Number of bodies.
    pub fn len(&self) -> usize {
        self.position[0].len()
    }

    /// Whether there are no bodies.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// All bodies as fields of a program see them before a step at a time, in seconds, of `dt` seconds.
    pub(crate) fn whole(&self, time: f64, dt: f32) -> FieldPopulation<'_> {
        FieldPopulation {
            time,
            dt,
            position: self.position.each_ref().map(|axis| &**axis),
            velocity: self.velocity.each_ref().map(|axis| &**axis),
            age: self.age,
            life: self.life,
            id: self.id,
        }
    }

    pub(crate) fn check(&self) -> Result<(), SpecError> {
        let count = self.len();
        let [_, py, pz] = &self.position;
        let [vx, vy, vz] = &self.velocity;
        let floats = [py.len(), pz.len(), vx.len(), vy.len(), vz.len(), self.age.len()];
        let others = [self.life.len(), self.size.len(), self.id.len(), self.key.len()];
        match floats.iter().chain(&others).find(|len| **len != count) {
            None => Ok(()),
            Some(len) => {
                let problem = format!("one has {len} values where position x has {count}");
                Err(SpecError::new("columns", problem, "give columns of one length"))
            }
        }
    }
}

/// Default number of bodies that a worker steps at a time: ten columns of them fit a second-level cache.
pub(crate) const CHUNK: usize = 8192;

/// Event records that a chunk has capacity for from the start.
const NOTED: usize = 1024;

/// Moves the bodies of one population step by step, and records their events.
///
/// ```
/// use frolic_core::{BodyColumns, BodyRow, Integrator, Meter, MotionSpec, WorldSpec};
/// let mut stones = BodyColumns::default();
/// stones.push(&BodyRow { py: 10.0, life: f32::INFINITY, ..BodyRow::default() });
/// let mut integrator = Integrator::new(&MotionSpec::default())?;
/// let world = WorldSpec::default().build()?;
/// for _ in 0..60 {
///     let dead = integrator.step(stones.bodies(), &world, 1.0 / 60.0, &mut Meter::new())?;
///     assert!(dead.is_empty());
/// }
/// // Half of 9.81 m/s² over a second.
/// assert!((stones.py()[0] - 5.095).abs() < 1e-3);
/// # Ok::<(), frolic_core::SpecError>(())
/// ```
#[derive(Debug, Clone)]
pub struct Integrator {
    motion: MotionSpec,
    events: Vec<EventSpec>,
    forces: Forces,
    notes: Vec<Notes>,
    pub(crate) happened: Vec<EventRecord>,
    pub(crate) caught: Vec<u64>,
    /// Indices of the dead: each chunk writes its own part, then they are joined.
    pub(crate) dead: Vec<u32>,
    dead_in_chunk: Vec<u32>,
    /// Scratch marks of bodies at rest.
    lies: Vec<u8>,
    /// Whether bodies at rest are set aside.
    pub(crate) sets_aside: bool,
    /// Whether a step looks for bodies of age 0; false if the caller starts its own.
    pub(crate) finds_newborn: bool,
    pub(crate) chunk: usize,
    pub(crate) level: Level,
    pub(crate) time: f64,
    /// Number of bodies at the start of the step.
    pub(crate) count: usize,
}

/// Influences of one step: fields of the population alone, curl noise of all fields, and collectors.
#[derive(Debug, Clone, Default)]
struct Forces {
    fields: Vec<Acting>,
    curls: Vec<Option<Curl>>,
    catching: Catching,
}

impl Integrator {
    /// An integrator for bodies with this response to the world.
    ///
    /// # Errors
    /// A value is out of range.
    pub fn new(motion: &MotionSpec) -> Result<Self, SpecError> {
        motion.check().map_err(|error| error.under("motion"))?;
        Ok(Self {
            motion: *motion,
            events: Vec::new(),
            forces: Forces::default(),
            notes: Vec::new(),
            happened: Vec::new(),
            caught: Vec::new(),
            dead: Vec::new(),
            dead_in_chunk: Vec::new(),
            lies: Vec::new(),
            sets_aside: false,
            finds_newborn: true,
            chunk: CHUNK,
            level: detect(),
            time: 0.0,
            count: 0,
        })
    }

    /// Adds fields that act on these bodies alone, besides those of the world.
    ///
    /// # Errors
    /// A value is out of range, or an asset that is named is missing or of another kind.
    pub fn with_fields(mut self, fields: &[FieldSpec], assets: &Assets) -> Result<Self, SpecError> {
        crate::world::fields::spec::check(fields)?;
        self.forces.fields = Acting::all(fields, assets)?;
        Ok(self)
    }

    /// Records these events.
    ///
    /// # Errors
    /// A value is out of range.
    pub fn with_events(mut self, events: &[EventSpec]) -> Result<Self, SpecError> {
        crate::foundations::error::each("event", events, crate::world::events::MOST_PARTS, EventSpec::check)?;
        self.events = events.to_vec();
        Ok(self)
    }

    /// Takes over the motion, fields and events of another integrator. Time and scratch memory stay.
    pub(crate) fn adopt(&mut self, other: Self) {
        (self.motion, self.events) = (other.motion, other.events);
        let before = std::mem::replace(&mut self.forces.fields, other.forces.fields);
        self.forces.fields.iter_mut().zip(&before).for_each(|(field, before)| field.replace(before));
        self.happened.clear();
    }

    /// Returns what it carries from step to step: time, and phases of its fields.
    pub fn save(&self) -> SavedState {
        let mut state = SavedState::default();
        state.put("time", &self.time);
        let phases: Vec<FieldPhases> = self.forces.fields.iter().map(Acting::phases).collect();
        state.put("fields", &phases);
        state
    }

    /// Takes over what an integrator with the same fields saved.
    ///
    /// # Errors
    /// The state is of other fields. The integrator then stays as it is.
    pub fn restore(&mut self, state: &SavedState) -> Result<(), SpecError> {
        self.take(self.restored(state)?);
        Ok(())
    }

    /// Reads what an integrator of the same spec saved, for [`Integrator::take`].
    pub(crate) fn restored(&self, state: &SavedState) -> Result<(f64, Vec<FieldPhases>), SpecError> {
        Ok((state.value("time")?, state.list("fields", self.forces.fields.len())?))
    }

    /// Takes over saved time and phases.
    pub(crate) fn take(&mut self, (time, phases): (f64, Vec<FieldPhases>)) {
        self.time = time;
        self.forces.fields.iter_mut().zip(phases).for_each(|(field, phases)| field.set_phases(phases));
        self.happened.clear();
    }

    /// Changes the response to the world, from the next step on.
    ///
    /// # Errors
    /// A value is out of range. The integrator then stays as it is.
    pub fn retune(&mut self, motion: &MotionSpec) -> Result<(), SpecError> {
        motion.check().map_err(|error| error.under("motion"))?;
        self.motion = *motion;
        Ok(())
    }

    /// Takes one step of `dt` seconds (finite and above 0; other steps are not taken): moves and ages every body and resolves its contacts.
    /// Returns the indices of dead bodies in rising order; the caller takes them out of the columns.
    ///
    /// Positions under gravity, steady wind and linear drag are exact at any step; with the rest their error is of second order in `dt`. Steps
    /// should be of one length. O(n), on all cores; allocates nothing once the number of bodies has been reached before.
    ///
    /// # Errors
    /// The columns differ in length.
    pub fn step(
        &mut self,
        bodies: Bodies<'_>,
        world: &World,
        dt: f32,
        meter: &mut Meter,
    ) -> Result<&[u32], SpecError> {
        bodies.check()?;
        self.begin();
        if !(dt.is_finite() && dt > 0.0) {
            return Ok(&[]);
        }
        let motion = self.prepare(world, dt);
        let started = meter.start(Stage::Integrate);
        world.prepare_own_fields(&bodies.whole(self.time, dt));
        let count = bodies.len();
        let mut lies = std::mem::take(&mut self.lies);
        lies.resize(count, 0);
        let dead = self.advance(&motion, world, bodies, 0, &mut lies);
        self.lies = lies;
        meter.moved(Stage::Integrate, count as u64 * STEP_BYTES);
        meter.stop(started);
        self.collect(meter);
        self.time += f64::from(dt);
        Ok(&self.dead[..dead])
    }

    /// Event records of the last step, in the order of the bodies.
    pub fn happened(&self) -> &[EventRecord] {
        &self.happened
    }

    /// Number of bodies that each collector of the world picked up in the last step.
    pub fn caught(&self) -> &[u64] {
        &self.caught
    }

    /// Seconds stepped so far.
    pub fn time(&self) -> f64 {
        self.time
    }

    /// Clears the event records and the counts of collectors.
    pub(crate) fn begin(&mut self) {
        self.happened.clear();
        self.caught.iter_mut().for_each(|count| *count = 0);
    }

    /// Prepares the influences of the next step.
    pub(crate) fn prepare(&mut self, world: &World, dt: f32) -> Motion {
        let motion = Motion::new(&self.motion, world, self.time, dt);
        self.forces.prepare(&motion, world, self.time);
        self.caught.resize(self.forces.catching.len(), 0);
        motion
    }

    /// The influences of the step that was prepared.
    pub(crate) fn acts<'a>(&'a self, motion: &'a Motion, world: &'a World) -> Acts<'a> {
        let Forces { fields, curls, catching } = &self.forces;
        Acts {
            motion,
            world,
            is_plain: self.motion.is_plain() && world.is_plain() && fields.is_empty(),
            own: fields,
            curls,
            catching,
            events: &self.events,
            sets_aside: self.sets_aside,
            finds_newborn: self.finds_newborn,
            time: self.time,
            level: self.level,
            count: self.count,
            offset: 0,
        }
    }

    /// Moves and ages all bodies and resolves their contacts; the first `skipped` are known to be at rest. Returns the number of dead bodies:
    /// their indices come first in `dead`. Afterwards `lies` is 1 for each body at rest, if those are set aside.
    pub(crate) fn advance(
        &mut self,
        motion: &Motion,
        world: &World,
        bodies: Bodies<'_>,
        skipped: usize,
        lies: &mut [u8],
    ) -> usize {
        let count = bodies.len();
        let chunks = count.div_ceil(self.chunk);
        // Scratch for this step's length; where memory was reserved this writes zeros and allocates nothing.
        let (mut dead, mut dead_in_chunk, mut notes) = (
            std::mem::take(&mut self.dead),
            std::mem::take(&mut self.dead_in_chunk),
            std::mem::take(&mut self.notes),
        );
        dead.resize(count, 0);
        dead_in_chunk.resize(chunks, 0);
        if notes.len() < chunks {
            notes.resize_with(chunks, Notes::default);
        }
        notes.iter_mut().for_each(Notes::clear);
        let acts = self.acts(motion, world);
        step_chunks(
            &acts,
            self.chunk,
            skipped,
            bodies,
            lies,
            &mut dead,
            &mut dead_in_chunk,
            &mut notes[..chunks],
        );
        let ended = join_dead(&mut dead, &dead_in_chunk, self.chunk);
        (self.dead, self.dead_in_chunk, self.notes) = (dead, dead_in_chunk, notes);
        ended
    }

    /// As [`Integrator::advance`] for rows that are stepped one by one: `advance` fills the list of dead bodies and the records.
    pub(crate) fn advance_rows(
        &mut self,
        motion: &Motion,
        world: &World,
        advance: impl FnOnce(&Acts<'_>, &mut Vec<u32>, &mut Notes),
    ) -> usize {
        let (mut dead, mut notes) = (std::mem::take(&mut self.dead), std::mem::take(&mut self.notes));
        notes.iter_mut().for_each(Notes::clear);
        let acts = Acts { level: Level::baseline(), ..self.acts(motion, world) };
        advance(&acts, &mut dead, &mut notes[0]);
        (self.dead, self.notes) = (dead, notes);
        self.dead.len()
    }

    /// Collects the records of a step from all chunks.
    pub(crate) fn collect(&mut self, meter: &mut Meter) {
        let Self { notes, happened, caught, .. } = self;
        for notes in notes {
            for &collector in &notes.caught {
                caught[collector as usize] += 1;
            }
            happened.extend(notes.happenings.drain(..).map(|(_, happening)| happening));
            meter.add(Counter::Hits, notes.hits);
            meter.add(Counter::Picked, notes.caught.len() as u64);
            notes.clear();
        }
    }

    /// Reserves scratch memory for `count` bodies in a number of chunks.
    pub(crate) fn reserve(
        &mut self,
        count: usize,
        chunks: usize,
    ) -> Result<(), std::collections::TryReserveError> {
        self.dead.try_reserve_exact(count.saturating_sub(self.dead.len()))?;
        self.dead_in_chunk.try_reserve_exact(chunks.saturating_sub(self.dead_in_chunk.len()))?;
        // Events come in bursts: capacity for those of a step, so that the first of them allocates nothing.
        let room = if self.events.is_empty() { 0 } else { count.min(NOTED) };
        self.notes.try_reserve_exact(chunks.saturating_sub(self.notes.len()))?;
        if self.notes.len() < chunks {
            self.notes.resize_with(chunks, || Notes::with_room(room));
        }
        let records = room * self.events.len();
        self.happened.try_reserve_exact(records.saturating_sub(self.happened.len()))
    }
}

/// Bytes that a step reads and writes of a body: seven columns both, life once.
pub(crate) const STEP_BYTES: u64 = (7 * 2 + 1) * size_of::<f32>() as u64;

impl Forces {
    /// For the step from `time` on, in seconds.
    fn prepare(&mut self, motion: &Motion, world: &World, time: f64) {
        self.curls.clear();
        let wind = world.carried(time);
        self.fields.iter_mut().for_each(|field| field.settle(&wind));
        let fields = world.fields().iter().chain(&self.fields);
        self.curls.extend(fields.map(|field| field.curl_at(&wind)));
        self.catching.prepare(world.collectors(), time, motion.dt);
    }
}

/// Records a birth for every event whose moment it is.
pub(crate) fn note_birth(events: &[EventSpec], row: &BodyRow, happened: &mut Vec<EventRecord>) {
    for (event, _) in events.iter().enumerate().filter(|(_, event)| event.on == Moment::Birth) {
        happened.push(EventRecord { event: event as u32, element: *row, other: 0, normal: [0.0; 3] });
    }
}

impl Sealed for BodyColumns {}

impl Posed for BodyColumns {
    fn poses(&self) -> Poses<'_> {
        Poses {
            velocity: Some(self.velocity()),
            age: Some([self.age(), self.life()]),
            size: Some(self.size()),
            id: Some(self.key()),
            ..Poses::at(self.position())
        }
    }
}
