//! A population of particles: its state, and the step that moves it.
//!
//! One step is: fields, integration and what is met, over all that live (`bodies/`); the dead taken out; the newborn moved and appended. State is
//! columns ([`BodyColumns`]) or, for comparison, one heap record an element ([`Storage::Objects`]); both give the
//! same numbers to the last bit.
//!
//! | question | file |
//! | --- | --- |
//! | how is a population described? | `spec.rs` |
//! | when and where is one born? | `emit.rs`, `places.rs` |
//! | how does a newborn come into the population? | `births.rs` |
//! | in which order are they held? | `order.rs`, `objects.rs` |
//! | which populations start each other? | `set.rs` |
//! | where has one been? | `trail.rs` |

mod births;
mod emit;
mod objects;
mod order;
mod set;
mod spec;
mod trail;

use std::ops::Range;
use std::sync::Arc;

use glam::Vec3;

pub use emit::{Births, Due, EmitterAxes, Emitters, MOST_BURSTS};
pub use set::{ParticleSet, check_events};
pub use spec::{BurstSpec, CourseSpec, EmitterSpec, Order, ParticleSpec, Storage};
pub use trail::{Trail, TrailClock, TrailSpec};

use crate::assets::Forms;
use crate::foundations::columns::MEMORY_LIMIT;
use crate::foundations::error::SpecError;
use crate::foundations::meter::{Counter, Meter, Stage};
use crate::foundations::random::{Draws, FADE, lot};
use crate::foundations::simd::Level;
use crate::world::World;
use crate::world::bodies::{
    Acts, BodyColumns, BodyRow, Chunk, Integrator, Motion, Room, STEP_BYTES, note_birth,
};
use crate::world::events::{EventSpec, Happening};
use births::{Fate, Newcomers};
use emit::Newborn;
use objects::Records;
use order::Aside;

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
    next_id: u32,
    emitters: Emitters,
    /// How what each event starts comes about.
    children: Arc<[Newborn]>,
    integrator: Integrator,
    newcomers: Newcomers,
    /// Share of the newborn that are born: see [`Particles::thin`].
    share: f32,
}

/// The elements themselves, one way or the other, and what is behind them.
#[derive(Debug)]
struct Held {
    storage: Storage,
    columns: BodyColumns,
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

    fn push(&mut self, row: &BodyRow) {
        match self.storage {
            Storage::Columns => self.columns.push(row),
            Storage::Objects => self.records.push(row),
        }
        if let Some(trail) = &mut self.trail {
            trail.push(row);
        }
    }

    fn age(&self, nth: usize) -> f32 {
        match self.storage {
            Storage::Columns => self.columns.age[nth],
            Storage::Objects => self.records.row(nth).age,
        }
    }

    /// Gives newborn of a range, at most a block, the velocity that the leapfrog starts from.
    fn start(&mut self, range: Range<usize>, acts: &Acts<'_>, room: &mut Room) {
        match self.storage {
            Storage::Columns => Chunk::of(&mut self.columns.bodies()).part(range).start(acts, room),
            Storage::Objects => {
                for nth in range {
                    Chunk::of_row(nth as u32, self.records.row_mut(nth)).start(acts, room);
                }
            }
        }
    }

    fn append(&mut self, rows: &BodyColumns) {
        let each = || (0..rows.len()).filter_map(|nth| rows.row(nth));
        match self.storage {
            Storage::Columns => self.columns.append(rows),
            Storage::Objects => each().for_each(|row| self.records.push(&row)),
        }
        if let Some(trail) = &mut self.trail {
            each().for_each(|row| trail.push(&row));
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
const ROW: u64 = BodyColumns::BYTES_PER_ELEMENT as u64;

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
                columns: BodyColumns::default(),
                records: Records::default(),
                trail: spec.trail.as_ref().map(Trail::new),
                aside: Aside::default(),
            },
            spec: Arc::new(spec.clone()),
            seed,
            next_id: 0,
            emitters: Emitters::new(&spec.emitters, forms)?,
            children: children(&spec.events, forms)?,
            integrator: Integrator::new(&spec.motion)?
                .with_fields(&spec.fields, forms)?
                .with_events(&spec.events)?,
            newcomers: Newcomers::default(),
        };
        particles.integrator.sets_aside = spec.order == Order::Any;
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
        if let Some(trail) = &mut self.held.trail {
            trail.reserve(count)?;
        }
        let chunks = match self.held.storage {
            Storage::Objects => {
                self.held.records.reserve(count)?;
                1
            }
            Storage::Columns => count.div_ceil(self.integrator.chunk),
        };
        self.integrator.reserve(count, chunks)
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
        (BodyColumns::BYTES_PER_ELEMENT + records + scratch) as u64
    }

    /// The same population stepped `chunk` elements at a time (at least 1) with kernels of `level`; results do not
    /// depend on either. For tests and benches.
    ///
    /// # Errors
    /// When the system has no memory for the scratch of so many chunks.
    pub fn tuned(mut self, chunk: usize, level: Level) -> Result<Self, SpecError> {
        self.integrator.chunk = chunk.max(1);
        self.integrator.level = level;
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
        self.integrator.begin();
    }

    fn step_once(&mut self, world: &World, dt: f32, meter: &mut Meter) {
        let motion = self.integrator.prepare(world, dt);
        let started = meter.start(Stage::Integrate);
        if self.newcomers.still > 0 {
            self.newcomers.start(&self.integrator.acts(&motion, world), &mut self.held);
        }
        let (aside, dead) = self.move_all(&motion, world);
        meter.add(Counter::SetAside, aside as u64);
        meter.moved(Stage::Integrate, self.step_bytes(aside as u64));
        meter.stop(started);
        let started = meter.start(Stage::Retire);
        let before = self.len();
        self.retire(dead);
        meter.add(Counter::Retired, dead as u64);
        meter.moved(Stage::Retire, self.retire_bytes(before, dead));
        meter.stop(started);
        self.integrator.collect(meter);
        self.held.follow(dt);
        self.emit(&motion, world, meter);
        self.integrator.time += f64::from(dt);
    }

    fn end(&mut self, steps: u32, meter: &mut Meter) {
        if self.held.storage == Storage::Objects && steps > 0 {
            let started = meter.start(Stage::Gather);
            self.held.records.gather(&mut self.held.columns);
            meter.moved(Stage::Gather, 2 * self.len() as u64 * ROW);
            meter.stop(started);
        }
        meter.add(Counter::Events, self.happened().len() as u64);
        meter.add(Counter::Alive, self.len() as u64);
        meter.add(Counter::ElementBytes, self.bytes());
    }

    /// Moves, ages and lets meet all that live; returns how many lie still and only age, and how many are dead.
    fn move_all(&mut self, motion: &Motion, world: &World) -> (usize, usize) {
        let Self { held, integrator, .. } = self;
        let is_calm = integrator.acts(motion, world).is_calm();
        let Aside { count, stamp, lies, .. } = &mut held.aside;
        // Written by the step, so that this allocates and clears nothing but the newborn's.
        lies.resize(held.columns.len().max(held.records.len()), 0);
        let skipped = if *stamp == world.stamp() && is_calm { *count } else { 0 };
        *stamp = world.stamp();
        let dead = match held.storage {
            Storage::Columns => integrator.advance(motion, world, held.columns.bodies(), skipped, lies),
            Storage::Objects => {
                let records = &mut held.records;
                integrator
                    .advance_rows(motion, world, |acts, dead, notes| records.advance(acts, lies, dead, notes))
            }
        };
        (skipped, dead)
    }

    /// Bytes that a step reads and writes: place, velocity and age, and what it looks up; of those that lie still the age alone.
    fn step_bytes(&self, aside: u64) -> u64 {
        const AGED: u64 = 3 * size_of::<f32>() as u64;
        let moves = self.len() as u64 - aside.min(self.len() as u64);
        match self.held.storage {
            Storage::Columns => moves * STEP_BYTES + aside * AGED,
            Storage::Objects => 2 * (moves + aside) * ROW,
        }
    }

    /// Bytes that taking the dead out moves: all behind the first of them, or one for each.
    fn retire_bytes(&self, before: usize, retired: usize) -> u64 {
        match self.spec.order {
            Order::Birth => {
                let dead = &self.integrator.dead;
                let first = dead[..retired.min(dead.len())].first();
                first.map_or(0, |&first| 2 * (before - first as usize) as u64 * ROW)
            }
            Order::Any => 2 * retired as u64 * ROW,
        }
    }

    /// Takes out the dead, the first so many of the list.
    fn retire(&mut self, count: usize) {
        let Self { spec, held, integrator, .. } = self;
        let Held { storage, columns, records, trail, aside } = held;
        let dead = &integrator.dead[..count];
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
    }

    fn emit(&mut self, motion: &Motion, world: &World, meter: &mut Meter) {
        let started = meter.start(Stage::Emit);
        let room = self.spec.count as usize - self.len();
        let first = self.next_id;
        let Self { spec, emitters, held, share, integrator, newcomers, .. } = self;
        let (mut happened, mut caught) =
            (std::mem::take(&mut integrator.happened), std::mem::take(&mut integrator.caught));
        let (drawn, mut unborn) = (*share * (1.0 + FADE), 0);
        let acts = integrator.acts(motion, world);
        let mut fate = Fate::default();
        let due = emitters.emit(spec, self.seed, acts.time, motion.dt, first, room, |row| {
            // Nobody would see it.
            if *share < 1.0 && lot(row.id)[0] >= drawn {
                unborn += 1;
                return;
            }
            if newcomers.push(row) {
                newcomers.deliver(&acts, held, &mut happened, &mut caught, &mut fate);
            }
        });
        newcomers.deliver(&acts, held, &mut happened, &mut caught, &mut fate);
        (integrator.happened, integrator.caught) = (happened, caught);
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
            note_birth(&self.spec.events, &row, &mut self.integrator.happened);
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
            let row = BodyRow { px, py, pz, vx, vy, vz, age: 0.0, life, size, id, key };
            self.next_id = self.next_id.wrapping_add(1);
            self.held.push(&row);
            self.newcomers.still += 1;
            note_birth(&self.spec.events, &row, &mut self.integrator.happened);
            taken += 1;
        }
        meter.add(Counter::Emitted, taken as u64);
        meter.add(Counter::Refused, refused);
        taken
    }

    /// What happened to its elements in the last call of [`Particles::step`], step by step, in the order of the elements, the newborn last. Only what an
    /// event of its spec asks for.
    pub fn happened(&self) -> &[Happening] {
        self.integrator.happened()
    }

    /// How many elements each collector of the world has picked up in the last call of [`Particles::step`].
    pub fn caught(&self) -> &[u64] {
        self.integrator.caught()
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
    pub fn columns(&self) -> &BodyColumns {
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
        self.integrator.time()
    }
}

/// Of the draws, one an event of its own number, that decide what is started of a population with this seed: apart from those of births.
pub fn event_seed(seed: u32) -> u32 {
    seed ^ 0x1e5e_4eed
}

fn children(events: &[EventSpec], forms: &Forms) -> Result<Arc<[Newborn]>, SpecError> {
    let ready =
        |(nth, event)| Newborn::of_event(event, forms).map_err(|error| error.under(&format!("event.{nth}")));
    events.iter().enumerate().map(ready).collect()
}

fn gib(bytes: u64) -> f64 {
    bytes as f64 / (1u64 << 30) as f64
}
