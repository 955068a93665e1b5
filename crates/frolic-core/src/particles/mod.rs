//! A population of particles: its state, and the step that moves it.
//!
//! One step is: fields, integration and what is met, over all that live; the dead taken out; the newborn moved and appended. State is
//! columns ([`ParticleColumns`]) or, for comparison, one heap record an element ([`Storage::Objects`]); both give the
//! same numbers to the last bit.
//!
//! | question | file |
//! | --- | --- |
//! | how is a population described? | `spec.rs` |
//! | when and where is one born? | `emit.rs`, `places.rs` |
//! | what befalls one in the step of its birth? | `births.rs` |
//! | by what formula does one move? | `motion.rs` |
//! | how are all moved in one pass? | `step.rs` |
//! | what becomes of one that meets something? | `encounters.rs` |
//! | in which order are they held? | `order.rs`, `objects.rs` |
//! | which populations start each other? | `set.rs` |
//! | where has one been? | `trail.rs` |

mod births;
mod emit;
mod encounters;
mod motion;
mod objects;
mod order;
mod places;
mod set;
mod spec;
mod step;
mod trail;

use std::sync::Arc;

use glam::Vec3;

pub use emit::{Births, Due, EmitterAxes, Emitters, MOST_BURSTS};
pub use motion::{Attractor, Motion};
pub(crate) use places::Source;
pub use set::{ParticleSet, check_events};
pub use spec::{
    AimSpec, BurstSpec, CourseSpec, EmitterSpec, KeepTo, MeshPart, MotionSpec, Order, ParticleSpec,
    ShapeSpec, Storage, VolumePart,
};
pub use trail::{Trail, TrailClock, TrailSpec};

use crate::collectors::Catching;
use crate::columns::columns;
use crate::curl::Curl;
use crate::error::SpecError;
use crate::events::{EventSpec, Happening, Moment};
use crate::fields::Acting;
use crate::forms::Forms;
use crate::meter::{Counter, Meter, Stage};
use crate::random::{Draws, FADE, lot};
use crate::simd::{Level, detect};
use crate::world::World;
use births::{Fate, Newcomers};
use emit::Newborn;
use objects::Records;
use order::Aside;
use step::{Acts, Notes};

columns! {
    /// All attributes of one particle.
    row ParticleRow;
    /// The attributes of all particles, in order of birth or as [`Order`] says; slices of one length.
    columns ParticleColumns;
    /// Position x, m.
    px: f32,
    /// Position y (up), m.
    py: f32,
    /// Position z, m.
    pz: f32,
    /// Velocity x, m/s.
    vx: f32,
    /// Velocity y, m/s.
    vy: f32,
    /// Velocity z, m/s.
    vz: f32,
    /// Time since birth, s.
    age: f32,
    /// Age at death, s.
    life: f32,
    /// Radius at birth, m.
    size: f32,
    /// Number of the element, counted from 0 in order of birth.
    id: u32,
    /// Key of the random numbers that its look is drawn by: its number, or its parent's key.
    key: u32,
}

impl ParticleColumns {
    /// The three position columns, m.
    pub fn position(&self) -> [&[f32]; 3] {
        [&self.px, &self.py, &self.pz]
    }

    /// The three velocity columns, m/s.
    pub fn velocity(&self) -> [&[f32]; 3] {
        [&self.vx, &self.vy, &self.vz]
    }
}

/// Most memory that one population may reserve: 4 GiB.
pub const MEMORY_LIMIT: u64 = 4 << 30;

/// Happenings of a step that a chunk has room for from the start.
const NOTED: usize = 1024;

/// Elements a worker steps at a time: ten columns of it fit a second-level cache.
const CHUNK: usize = 8192;

/// A population of particles.
///
/// ```
/// use frolic_core::{EmitterSpec, Meter, ParticleSpec, Particles, WorldSpec};
/// let spec = ParticleSpec::new(100).emitter(EmitterSpec::burst(100, 0.0));
/// let mut sparks = Particles::new(&spec, 1)?;
/// sparks.step(&WorldSpec::default().build()?, 0.01, 3, &mut Meter::new());
/// let lowest = sparks.columns().py().iter().copied().fold(f32::MAX, f32::min);
/// assert_eq!(sparks.len(), 100);
/// assert!(lowest.is_finite());
/// # Ok::<(), frolic_core::SpecError>(())
/// ```
#[derive(Debug)]
pub struct Particles {
    spec: Arc<ParticleSpec>,
    held: Held,
    seed: u32,
    time: f64,
    next_id: u32,
    emitters: Emitters,
    /// How what each event starts comes about.
    children: Arc<[Newborn]>,
    forces: Forces,
    newcomers: Newcomers,
    notes: Vec<Notes>,
    happened: Vec<Happening>,
    caught: Vec<u64>,
    /// Indices of the dead: each chunk writes its own part, then they are joined.
    dead: Vec<u32>,
    dead_in_chunk: Vec<u32>,
    chunk: usize,
    level: Level,
    /// Share of the newborn that are born: see [`Particles::thin`].
    share: f32,
}

/// What acts in one step: fields of the population's own, curl noise of the world's and of those, and collectors.
#[derive(Debug, Default)]
struct Forces {
    fields: Vec<Acting>,
    curls: Vec<Option<Curl>>,
    catching: Catching,
}

impl Forces {
    /// For the step from `time` on, s.
    fn prepare(&mut self, motion: &Motion, world: &World, time: f64) {
        self.curls.clear();
        let fields = world.fields().iter().chain(&self.fields);
        self.curls.extend(fields.map(|field| field.curl_at(motion.wind, time)));
        self.catching.prepare(world.collectors(), time, motion.dt);
    }

    fn acts<'a>(
        &'a self,
        spec: &'a ParticleSpec,
        motion: &'a Motion,
        world: &'a World,
        time: f64,
        level: Level,
    ) -> Acts<'a> {
        Acts {
            motion,
            world,
            is_plain: spec.motion.is_plain() && world.is_plain() && self.fields.is_empty(),
            own: &self.fields,
            curls: &self.curls,
            catching: &self.catching,
            events: &spec.events,
            sets_aside: spec.order == Order::Any,
            time,
            level,
        }
    }
}

/// The elements themselves, one way or the other, and what is behind them.
#[derive(Debug)]
struct Held {
    storage: Storage,
    columns: ParticleColumns,
    records: Records,
    trail: Option<Trail>,
    aside: Aside,
}

impl Held {
    fn len(&self) -> usize {
        match self.storage {
            Storage::Columns => self.columns.len(),
            Storage::Objects => self.records.len(),
        }
    }

    fn push(&mut self, row: &ParticleRow) {
        match self.storage {
            Storage::Columns => self.columns.push(row),
            Storage::Objects => self.records.push(row),
        }
        if let Some(trail) = &mut self.trail {
            trail.push(row);
        }
    }

    fn row(&self, nth: usize) -> ParticleRow {
        match self.storage {
            Storage::Columns => self.columns.row(nth).expect("an element"),
            Storage::Objects => *self.records.row(nth),
        }
    }

    fn age(&self, nth: usize) -> f32 {
        match self.storage {
            Storage::Columns => self.columns.age[nth],
            Storage::Objects => self.records.row(nth).age,
        }
    }

    fn set_velocity(&mut self, nth: usize, [vx, vy, vz]: [f32; 3]) {
        let row = ParticleRow { vx, vy, vz, ..self.row(nth) };
        match self.storage {
            Storage::Columns => self.columns.put(nth, &row),
            Storage::Objects => *self.records.row_mut(nth) = row,
        }
    }

    fn append(&mut self, rows: &ParticleColumns) {
        match self.storage {
            Storage::Columns => self.columns.append(rows),
            Storage::Objects => (0..rows.len()).filter_map(|nth| rows.row(nth)).for_each(|row| self.records.push(&row)),
        }
        if let Some(trail) = &mut self.trail {
            (0..rows.len()).filter_map(|nth| rows.row(nth)).for_each(|row| trail.push(&row));
        }
    }

    /// After a step: keeps where the elements are, if that is due.
    fn follow(&mut self, dt: f32) {
        let Some(trail) = &mut self.trail else { return };
        if !trail.is_due(dt) {
            return;
        }
        match self.storage {
            Storage::Columns => {
                let [x, y, z] = self.columns.position();
                trail.keep(x.iter().zip(y).zip(z).map(|((x, y), z)| [*x, *y, *z]));
            }
            Storage::Objects => trail.keep(self.records.places()),
        }
    }
}

/// Bytes of one element's columns.
const ROW: u64 = ParticleColumns::BYTES_PER_ELEMENT as u64;

impl Particles {
    /// An empty population with room for all its elements, held as columns.
    ///
    /// # Errors
    /// A value out of range, or a count that needs more than [`MEMORY_LIMIT`] or more than the system gives.
    pub fn new(spec: &ParticleSpec, seed: u32) -> Result<Self, SpecError> {
        Self::with_storage(spec, seed, Storage::Columns)
    }

    /// An empty population held as `storage` says.
    ///
    /// # Errors
    /// As [`Particles::new`].
    pub fn with_storage(spec: &ParticleSpec, seed: u32, storage: Storage) -> Result<Self, SpecError> {
        Self::with_forms(spec, seed, storage, &Forms::default())
    }

    /// An empty population held as `storage` says, whose emitters and fields may name forms.
    ///
    /// # Errors
    /// As [`Particles::new`]; and a form that is missing or of another kind.
    pub fn with_forms(
        spec: &ParticleSpec,
        seed: u32,
        storage: Storage,
        forms: &Forms,
    ) -> Result<Self, SpecError> {
        spec.check()?;
        let count = spec.count as usize;
        let each = Self::bytes_per_element(storage) + spec.trail.as_ref().map_or(0, Trail::bytes);
        let needed = spec.count as u64 * each;
        if needed > MEMORY_LIMIT {
            let most = MEMORY_LIMIT / each;
            return Err(SpecError::new(
                "count",
                format!(
                    "{count} elements need {:.1} GiB, over the limit of {} GiB",
                    gib(needed),
                    MEMORY_LIMIT >> 30
                ),
                format!("write at most {most}"),
            ));
        }
        let mut particles = Self {
            share: 1.0,
            held: Held {
                storage,
                columns: ParticleColumns::default(),
                records: Records::default(),
                trail: spec.trail.as_ref().map(Trail::new),
                aside: Aside::default(),
            },
            spec: Arc::new(spec.clone()),
            seed,
            time: 0.0,
            next_id: 0,
            emitters: Emitters::new(&spec.emitters, forms)?,
            children: children(spec, forms)?,
            forces: Forces { fields: Acting::all(&spec.fields, forms)?, ..Forces::default() },
            newcomers: Newcomers::default(),
            notes: Vec::new(),
            happened: Vec::new(),
            caught: Vec::new(),
            dead: Vec::new(),
            dead_in_chunk: Vec::new(),
            chunk: CHUNK,
            level: detect(),
        };
        particles.recentre([0.0; 2]);
        particles.reserve(count).map_err(|_| {
            SpecError::new(
                "count",
                format!("the system has no {:.1} GiB to give", gib(needed)),
                "write a smaller count",
            )
        })?;
        Ok(particles)
    }

    fn reserve(&mut self, count: usize) -> Result<(), std::collections::TryReserveError> {
        self.held.columns.reserve(count)?;
        self.held.aside.reserve(count)?;
        self.newcomers.reserve()?;
        self.dead.try_reserve_exact(count)?;
        if let Some(trail) = &mut self.held.trail {
            trail.reserve(count)?;
        }
        let chunks = match self.held.storage {
            Storage::Objects => {
                self.held.records.reserve(count)?;
                1
            }
            Storage::Columns => {
                let chunks = count.div_ceil(self.chunk);
                self.dead_in_chunk.try_reserve_exact(chunks)?;
                chunks
            }
        };
        // Events are bursts: room for those of a step, so that the first of them allocates nothing.
        let room = if self.spec.events.is_empty() { 0 } else { count.min(NOTED) };
        self.notes.try_reserve_exact(chunks)?;
        self.notes.resize_with(chunks, || Notes::with_room(room));
        self.happened.try_reserve_exact(room * self.spec.events.len())
    }

    /// Memory reserved for its elements, trails included, in bytes.
    pub fn bytes(&self) -> u64 {
        let trail = self.spec.trail.as_ref().map_or(0, Trail::bytes);
        u64::from(self.spec.count) * (Self::bytes_per_element(self.held.storage) + trail)
    }

    /// Bytes of state and scratch an element of capacity.
    pub fn bytes_per_element(storage: Storage) -> u64 {
        let records = match storage {
            Storage::Columns => 0,
            Storage::Objects => Records::BYTES_PER_ELEMENT,
        };
        // Who is dead, and who lies still.
        let scratch = size_of::<u32>() + size_of::<u8>();
        (ParticleColumns::BYTES_PER_ELEMENT + records + scratch) as u64
    }

    /// The same population stepped `chunk` elements at a time (at least 1) with kernels of `level`; results do not
    /// depend on either. For tests and benches.
    ///
    /// # Errors
    /// When the system has no memory for the scratch of so many chunks.
    pub fn tuned(mut self, chunk: usize, level: Level) -> Result<Self, SpecError> {
        self.chunk = chunk.max(1);
        self.level = level;
        self.reserve(self.spec.count as usize).map_err(|_| {
            SpecError::new("chunk", "the system has no memory for its scratch", "take larger chunks")
        })?;
        Ok(self)
    }

    /// Takes `steps` steps of `dt` seconds (finite and above 0; others are not taken).
    ///
    /// Positions under gravity, steady wind and linear drag are exact at any step; with fields, gusts and drag of the square their error is
    /// of second order in `dt`, and a contact adds one of first order in the step in which it happens. Velocities are means over the last
    /// step. Stable at any drag and any step. O(n).
    pub fn step(&mut self, world: &World, dt: f32, steps: u32, meter: &mut Meter) {
        self.begin();
        if !(dt.is_finite() && dt > 0.0) {
            return;
        }
        for _ in 0..steps {
            self.step_once(world, dt, meter);
        }
        self.end(steps, meter);
    }

    /// From now on has only those born of which a picture with this share of all elements (0.02 to 1) shows something: the same that
    /// [`Keeper`](crate::Keeper)'s density leaves, so that no gap is seen when it is raised again; those who are there stay.
    pub fn thin(&mut self, share: f32) {
        self.share = if share.is_finite() { share.clamp(0.02, 1.0) } else { 1.0 };
    }

    /// Forgets what happened in the steps before.
    fn begin(&mut self) {
        self.happened.clear();
        self.caught.iter_mut().for_each(|count| *count = 0);
    }

    fn step_once(&mut self, world: &World, dt: f32, meter: &mut Meter) {
        let motion = Motion::new(&self.spec.motion, world, self.time, dt);
        self.forces.prepare(&motion, world, self.time);
        self.caught.resize(self.forces.catching.len(), 0);
        let started = meter.start(Stage::Integrate);
        if self.newcomers.still > 0 {
            let acts = self.forces.acts(&self.spec, &motion, world, self.time, self.level);
            self.newcomers.start(&acts, &mut self.held);
        }
        let aside = self.move_all(&motion, world) as u64;
        meter.add(Counter::SetAside, aside);
        meter.moved(Stage::Integrate, self.step_bytes(aside));
        meter.stop(started);
        let started = meter.start(Stage::Retire);
        let (before, retired) = (self.len(), self.retire());
        meter.add(Counter::Retired, retired as u64);
        meter.moved(Stage::Retire, self.retire_bytes(before, retired));
        meter.stop(started);
        for notes in &mut self.notes {
            for &collector in &notes.caught {
                self.caught[collector as usize] += 1;
            }
            self.happened.extend(notes.happenings.drain(..).map(|(_, happening)| happening));
            meter.add(Counter::Hits, notes.hits);
            meter.add(Counter::Picked, notes.caught.len() as u64);
        }
        self.held.follow(dt);
        self.emit(&motion, world, meter);
        self.time += f64::from(dt);
    }

    fn end(&mut self, steps: u32, meter: &mut Meter) {
        if self.held.storage == Storage::Objects && steps > 0 {
            let started = meter.start(Stage::Gather);
            self.held.records.gather(&mut self.held.columns);
            meter.moved(Stage::Gather, 2 * self.len() as u64 * ROW);
            meter.stop(started);
        }
        meter.add(Counter::Events, self.happened.len() as u64);
        meter.add(Counter::Alive, self.len() as u64);
        meter.add(Counter::ElementBytes, self.bytes());
    }

    /// Moves, ages and lets meet all that live; returns how many lie still and only age.
    fn move_all(&mut self, motion: &Motion, world: &World) -> usize {
        let Self { spec, held, forces, notes, dead, dead_in_chunk, .. } = self;
        notes.iter_mut().for_each(Notes::clear);
        let level = match held.storage {
            Storage::Columns => self.level,
            Storage::Objects => Level::baseline(),
        };
        let acts = forces.acts(spec, motion, world, self.time, level);
        let Aside { count, stamp, lies, .. } = &mut held.aside;
        // Written by the step, so that this allocates and clears nothing but the newborn's.
        lies.resize(held.columns.len().max(held.records.len()), 0);
        let skipped = if *stamp == world.stamp() && acts.is_calm() { *count } else { 0 };
        *stamp = world.stamp();
        match held.storage {
            Storage::Columns => {
                // Scratch for this step's length; all were reserved, so this writes zeros and allocates nothing.
                let chunks = held.columns.len().div_ceil(self.chunk);
                dead.resize(held.columns.len(), 0);
                dead_in_chunk.resize(chunks, 0);
                let notes = &mut notes[..chunks];
                step::step_chunks(
                    &acts,
                    self.chunk,
                    skipped,
                    &mut held.columns,
                    lies,
                    dead,
                    dead_in_chunk,
                    notes,
                );
            }
            Storage::Objects => held.records.advance(&acts, lies, dead, &mut notes[0]),
        }
        skipped
    }

    /// Bytes that a step reads and writes: place, velocity and age, and what it looks up; of those that lie still the age alone.
    fn step_bytes(&self, aside: u64) -> u64 {
        const AGED: u64 = 3 * size_of::<f32>() as u64;
        let moves = self.len() as u64 - aside.min(self.len() as u64);
        match self.held.storage {
            // Seven are written back; then life, and whether it lies.
            Storage::Columns => moves * (7 * 2 + 1) * size_of::<f32>() as u64 + aside * AGED,
            Storage::Objects => 2 * (moves + aside) * ROW,
        }
    }

    /// Bytes that taking the dead out moves: all behind the first of them, or one for each.
    fn retire_bytes(&self, before: usize, retired: usize) -> u64 {
        match self.spec.order {
            Order::Birth => {
                let first = self.dead[..retired.min(self.dead.len())].first();
                first.map_or(0, |&first| 2 * (before - first as usize) as u64 * ROW)
            }
            Order::Any => 2 * retired as u64 * ROW,
        }
    }

    /// Takes the dead out; returns how many.
    fn retire(&mut self) -> usize {
        let Self { spec, held, dead, dead_in_chunk, .. } = self;
        let Held { storage, columns, records, trail, aside } = held;
        let count = match storage {
            Storage::Columns => step::join_dead(dead, dead_in_chunk, self.chunk),
            Storage::Objects => dead.len(),
        };
        let dead = &dead[..count];
        match spec.order {
            Order::Birth => {
                match storage {
                    Storage::Columns => columns.remove_sorted(dead),
                    Storage::Objects => records.retire(),
                }
                if let Some(trail) = trail {
                    trail.remove(dead);
                }
            }
            Order::Any => {
                let left = aside.lies.len() - count;
                let swaps = aside.settle(dead);
                match storage {
                    Storage::Columns => columns.swap_and_truncate(swaps, left),
                    Storage::Objects => records.swap_and_truncate(swaps, left),
                }
                if let Some(trail) = trail {
                    trail.swap_and_truncate(swaps, left);
                }
            }
        }
        count
    }

    fn emit(&mut self, motion: &Motion, world: &World, meter: &mut Meter) {
        let started = meter.start(Stage::Emit);
        let room = self.spec.count as usize - self.len();
        let first = self.next_id;
        let Self { spec, emitters, held, happened, caught, share, forces, newcomers, .. } = self;
        let (drawn, mut unborn) = (*share * (1.0 + FADE), 0);
        let acts = forces.acts(spec, motion, world, self.time, self.level);
        let mut fate = Fate::default();
        let due = emitters.emit(spec, self.seed, self.time, motion.dt, first, room, |row| {
            // Nobody would see it.
            if *share < 1.0 && lot(row.id)[0] >= drawn {
                unborn += 1;
                return;
            }
            if newcomers.push(row) {
                newcomers.deliver(&acts, held, happened, caught, &mut fate);
            }
        });
        newcomers.deliver(&acts, held, happened, caught, &mut fate);
        let with_room = due.min(room as u64);
        let born = with_room - unborn;
        // Those without room use up their numbers too: who decides on births needs not know who has died.
        self.next_id = first.wrapping_add(due as u32);
        meter.add(Counter::Emitted, born);
        meter.add(Counter::Hits, fate.hits);
        meter.add(Counter::Picked, fate.caught);
        meter.add(Counter::Retired, fate.ended);
        meter.moved(Stage::Emit, born * ROW);
        meter.add(Counter::Refused, due - with_room);
        meter.stop(started);
    }

    /// Starts what an event asks for: `started` counts what it has started in this step already.
    fn start(
        &mut self,
        event: &EventSpec,
        newborn: &Newborn,
        happening: &Happening,
        started: &mut u32,
        meter: &mut Meter,
    ) {
        // Of the parent's own numbers, so that it does not depend on who else starts any.
        let dice = Draws { seed: event_seed(self.seed), id: happening.element.id }.draw(happening.event);
        if dice[0] >= event.chance {
            return;
        }
        let wanted = event.count.at(dice[1]);
        let count = wanted.floor() as u32 + u32::from(wanted.fract() > dice[2]);
        let allowed = count.min(event.most.saturating_sub(*started));
        let room = (self.spec.count as usize - self.len()).min(allowed as usize) as u32;
        for nth in 0..room {
            let draws = Draws { seed: self.seed, id: self.next_id };
            let row = newborn.child(&self.spec, event, happening, draws, u64::from(nth), u64::from(room));
            self.next_id = self.next_id.wrapping_add(1);
            self.held.push(&row);
            self.newcomers.still += 1;
            note_birth(&self.spec.events, &row, &mut self.happened);
        }
        *started += room;
        meter.add(Counter::Emitted, u64::from(room));
        meter.add(Counter::Refused, u64::from(count - room));
    }

    /// Takes on elements from elsewhere: where each is, m, and how fast, m/s. They are born now, with a life and size of its spec. Returns how many found
    /// room. Call it between steps.
    ///
    /// ```
    /// use frolic_core::{Meter, ParticleSpec, Particles};
    /// let mut chaff = Particles::new(&ParticleSpec::new(2), 1)?;
    /// let torn = [([0.0, 1.0, 0.0], [3.0, 0.0, 0.0]); 3];
    /// assert_eq!(chaff.take_on(torn, &mut Meter::new()), 2);
    /// # Ok::<(), frolic_core::SpecError>(())
    /// ```
    pub fn take_on(
        &mut self,
        newcomers: impl IntoIterator<Item = ([f32; 3], [f32; 3])>,
        meter: &mut Meter,
    ) -> usize {
        let (mut taken, mut refused) = (0, 0);
        for ([px, py, pz], [vx, vy, vz]) in newcomers {
            if self.len() >= self.spec.count as usize {
                refused += 1;
                continue;
            }
            let draws = Draws { seed: self.seed, id: self.next_id };
            let [life, size, _] = draws.draw(2);
            let (life, size) = (self.spec.life.at(life), self.spec.size.at(size));
            let (id, key) = (draws.id, draws.id);
            let row = ParticleRow { px, py, pz, vx, vy, vz, age: 0.0, life, size, id, key };
            self.next_id = self.next_id.wrapping_add(1);
            self.held.push(&row);
            self.newcomers.still += 1;
            note_birth(&self.spec.events, &row, &mut self.happened);
            taken += 1;
        }
        meter.add(Counter::Emitted, taken as u64);
        meter.add(Counter::Refused, refused);
        taken
    }

    /// What happened to its elements in the last call of [`Particles::step`], step by step, in the order of the elements, the newborn last. Only what an
    /// event of its spec asks for.
    pub fn happened(&self) -> &[Happening] {
        &self.happened
    }

    /// How many elements each collector of the world has picked up in the last call of [`Particles::step`].
    pub fn caught(&self) -> &[u64] {
        &self.caught
    }

    /// Asks an emitter, counted from 0, for a burst at the next step. Returns whether there is such an emitter.
    pub fn burst(&mut self, emitter: usize, count: u32) -> bool {
        self.emitters.ask(emitter, count)
    }

    /// Puts an emitter, counted from 0, somewhere (m) at the end of the next step, as a pointer does; on the way there it emits by the
    /// metre, and `heading` turns it so that directions are (forward, up, right). From then on its path is not followed. Returns whether
    /// there is such an emitter.
    pub fn put_emitter(&mut self, emitter: usize, position: [f32; 3], heading: Option<[f32; 3]>) -> bool {
        self.emitters.put(emitter, position.into(), heading.map(Vec3::from))
    }

    /// Moves the middle that scattered emitters are there around: x and z, m; at first it is the origin. Returns whether any place appeared
    /// or went: what was born there lives on.
    pub fn recentre(&mut self, middle: [f32; 2]) -> bool {
        self.emitters.recentre(middle, self.seed)
    }

    /// How many are alive.
    pub fn len(&self) -> usize {
        self.held.len()
    }

    /// Whether none is alive.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The attributes of all that live, as of the last step, whatever the storage.
    pub fn columns(&self) -> &ParticleColumns {
        &self.held.columns
    }

    /// The last places of its elements, if its spec has a trail.
    pub fn trail(&self) -> Option<&Trail> {
        self.held.trail.as_ref()
    }

    /// What it was made from.
    pub fn spec(&self) -> &ParticleSpec {
        &self.spec
    }

    /// Seconds stepped so far.
    pub fn time(&self) -> f64 {
        self.time
    }
}

/// Of the draws, one an event of its own number, that decide what is started of a population with this seed: apart from those of births.
pub fn event_seed(seed: u32) -> u32 {
    seed ^ 0x1e5e_4eed
}

fn children(spec: &ParticleSpec, forms: &Forms) -> Result<Arc<[Newborn]>, SpecError> {
    let ready =
        |(nth, event)| Newborn::of_event(event, forms).map_err(|error| error.under(&format!("event.{nth}")));
    spec.events.iter().enumerate().map(ready).collect()
}

fn note_birth(events: &[EventSpec], row: &ParticleRow, happened: &mut Vec<Happening>) {
    for (event, _) in events.iter().enumerate().filter(|(_, event)| event.on == Moment::Birth) {
        happened.push(Happening { event: event as u32, element: *row, other: 0, normal: [0.0; 3] });
    }
}

fn gib(bytes: u64) -> f64 {
    bytes as f64 / (1u64 << 30) as f64
}
