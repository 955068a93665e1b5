//! A population of particles: its state, and the step that moves it.
//!
//! A step moves all live elements and resolves their contacts (`world/bodies/`), takes out dead elements, and moves and appends newborns. State is
//! columns ([`BodyColumns`]) or, for comparison, one heap record for each element ([`Storage::Objects`]); both give
//! the same numbers to the last bit.
//!
//! | question | file |
//! | --- | --- |
//! | how is a population described? | `spec.rs` |
//! | when and where are elements born? | `emit.rs` |
//! | how does a newborn come into the population? | `births.rs` |
//! | in which order are they held? | `order.rs`, `objects.rs` |
//! | how does a running population take a new spec? | `retune.rs` |
//! | how does a program change its elements? | `edit.rs` |
//! | what is saved of it? | `save.rs` |
//! | which populations start each other? | `set.rs` |
//! | where have elements been? | `families/trail.rs` |

mod births;
mod edit;
mod emit;
mod objects;
mod order;
mod retune;
mod save;
mod set;
mod spec;

use std::ops::Range;
use std::sync::Arc;

use glam::Vec3;

pub use super::trail::{Trail, TrailClock, TrailSpec};
pub use emit::{Births, Due, EmitterAxes, Emitters, MOST_BURSTS};
pub use set::{ParticleSet, check_events};
pub use spec::{BurstSpec, CourseSpec, EmitterSpec, Order, ParticleSpec, Storage};

use crate::assets::Assets;
use crate::foundations::columns::MEMORY_LIMIT;
use crate::foundations::error::SpecError;
use crate::foundations::meter::{Counter, Meter, Stage};
use crate::foundations::random::{Draws, FADE, pair};
use crate::foundations::simd::Level;
use crate::world::World;
use crate::world::apart::PushApart;
use crate::world::bodies::{
    Acts, BodyColumns, BodyRow, Chunk, Integrator, Motion, Room, STEP_BYTES, note_birth,
};
use crate::world::events::{EventRecord, EventSpec};
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
#[derive(Debug, Clone)]
pub struct Particles {
    spec: Arc<ParticleSpec>,
    held: Held,
    seed: u32,
    next_id: u32,
    emitters: Emitters,
    /// For each event: how the elements that it starts are made.
    children: Arc<[Newborn]>,
    integrator: Integrator,
    /// What keeps its elements apart, if they do.
    apart: Option<PushApart>,
    newcomers: Newcomers,
    /// Fraction of newborns that are emitted: see [`Particles::thin`].
    share: f32,
}

/// The elements, as columns or records, and their trails.
#[derive(Debug, Clone)]
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

    /// Gives newborns of a range the velocity that the leapfrog starts from.
    fn start_newborn(&mut self, range: Range<usize>, acts: &Acts<'_>, room: &mut Room) {
        match self.storage {
            Storage::Columns => Chunk::of(&mut self.columns.bodies()).part(range).start_newborn(acts, room),
            Storage::Objects => {
                for nth in range {
                    Chunk::of_row(nth as u32, self.records.row_mut(nth)).start_newborn(acts, room);
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

    /// Calls `visit` for each element, by index.
    fn each(&self, mut visit: impl FnMut(&BodyRow)) {
        match self.storage {
            Storage::Columns => {
                (0..self.columns.len()).filter_map(|nth| self.columns.row(nth)).for_each(|row| visit(&row));
            }
            Storage::Objects => self.records.rows().for_each(visit),
        }
    }

    /// After a step: stores positions for the trail, if that is due.
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

/// Bytes of the columns of one element.
const ROW: u64 = BodyColumns::BYTES_PER_ELEMENT as u64;

impl Particles {
    /// An empty population that reserves memory for all its elements, as columns.
    ///
    /// # Errors
    /// A value is out of range, or the count needs more than [`MEMORY_LIMIT`] or more than the system has.
    pub fn new(spec: &ParticleSpec, seed: u32) -> Result<Self, SpecError> {
        Self::with_storage(spec, seed, Storage::Columns)
    }

    /// An empty population in one kind of storage.
    ///
    /// # Errors
    /// As [`Particles::new`].
    pub fn with_storage(spec: &ParticleSpec, seed: u32, storage: Storage) -> Result<Self, SpecError> {
        Self::with_assets(spec, seed, storage, &Assets::default())
    }

    /// An empty population in one kind of storage, whose emitters and fields may name assets.
    ///
    /// # Errors
    /// As [`Particles::new`]; or an asset is missing or of another kind.
    pub fn with_assets(
        spec: &ParticleSpec,
        seed: u32,
        storage: Storage,
        assets: &Assets,
    ) -> Result<Self, SpecError> {
        spec.check()?;
        check_memory(spec, storage)?;
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
            emitters: Emitters::new(&spec.emitter, assets)?,
            children: children(&spec.event, assets)?,
            integrator: Integrator::new(&spec.motion)?
                .with_fields(&spec.field, assets)?
                .with_events(&spec.event)?,
            apart: apart(spec, storage)?,
            newcomers: Newcomers::default(),
        };
        particles.integrator.sets_aside = sets_aside(spec);
        // Newborns are the last elements: `Newcomers` starts them.
        particles.integrator.finds_newborn = false;
        particles.recentre([0.0; 2]);
        particles.reserve(spec.count as usize).map_err(|_| no_memory(spec, storage))?;
        Ok(particles)
    }

    /// Reserves memory for `count` elements in total.
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
        let [reserved, each] = bytes_of(&self.spec, self.held.storage);
        reserved.max(self.len() as u64 * each)
    }

    /// Bytes of state and scratch for each element of capacity.
    pub fn bytes_per_element(storage: Storage) -> u64 {
        let records = match storage {
            Storage::Columns => 0,
            Storage::Objects => Records::BYTES_PER_ELEMENT,
        };
        // The list of dead elements, and the marks of elements at rest.
        let scratch = size_of::<u32>() + size_of::<u8>();
        (BodyColumns::BYTES_PER_ELEMENT + records + scratch) as u64
    }

    /// Sets the number of elements of a chunk (at least 1) and the instruction set. Results depend on neither. For tests and benches.
    ///
    /// # Errors
    /// The system has no memory for the scratch of that many chunks.
    pub fn tuned(mut self, chunk: usize, level: Level) -> Result<Self, SpecError> {
        self.integrator.chunk = chunk.max(1);
        self.integrator.level = level;
        self.apart = self.apart.map(|apart| apart.tuned(level));
        self.reserve(self.spec.count as usize).map_err(|_| {
            SpecError::new("chunk", "the system has no memory for its scratch", "take larger chunks")
        })?;
        Ok(self)
    }

    /// Takes `steps` steps of `dt` seconds (finite and above 0; others are not taken).
    ///
    /// Positions under gravity, steady wind and linear drag are exact at any step; with fields, gusts and quadratic drag their error is
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

    /// From now on emits only this fraction of newborns, 0.02 to 1, chosen as the density of a [`FrameBudget`](crate::FrameBudget) chooses what is drawn, so
    /// that a change of density does not pop. Present elements stay.
    pub fn thin(&mut self, share: f32) {
        self.share = if share.is_finite() { share.clamp(0.02, 1.0) } else { 1.0 };
    }

    /// Clears event records and counts of collectors.
    fn begin(&mut self) {
        self.integrator.begin();
    }

    fn step_once(&mut self, world: &World, dt: f32, meter: &mut Meter) {
        let motion = self.integrator.prepare(world, dt);
        let started = meter.start(Stage::Integrate);
        self.integrator.count = self.len();
        if !world.own_fields().is_empty() {
            if self.held.storage == Storage::Objects {
                self.held.records.gather(&mut self.held.columns);
            }
            world.prepare_own_fields(&self.held.columns.bodies().whole(self.integrator.time, dt));
        }
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
        if let Some(apart) = &mut self.apart {
            // Bodies at places that are not numbers are left where they are.
            let _ = apart.step(&mut self.held.columns.bodies(), world, dt, meter);
        }
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

    /// Moves and ages all elements and resolves their contacts. Returns the number that were skipped at rest, and the number of dead.
    fn move_all(&mut self, motion: &Motion, world: &World) -> (usize, usize) {
        let Self { held, integrator, .. } = self;
        let is_calm = integrator.acts(motion, world).is_calm();
        let len = held.len();
        let Aside { count, stamp, lies, .. } = &mut held.aside;
        // The step writes all marks: only those of newborns are cleared here.
        lies.resize(len, 0);
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

    /// Bytes that a step reads and writes: position, velocity, age and life; of elements at rest the age alone.
    fn step_bytes(&self, aside: u64) -> u64 {
        const AGED: u64 = 3 * size_of::<f32>() as u64;
        let moves = self.len() as u64 - aside.min(self.len() as u64);
        match self.held.storage {
            Storage::Columns => moves * STEP_BYTES + aside * AGED,
            Storage::Objects => 2 * (moves + aside) * ROW,
        }
    }

    /// Bytes moved to take out dead elements: all rows behind the first dead one, or one row for each.
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

    /// Takes out dead elements: the first `count` of the list.
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
                let swaps = aside.close_gaps(dead);
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
        let room = (self.spec.count as usize).saturating_sub(self.len());
        let first = self.next_id;
        let Self { spec, emitters, held, share, integrator, newcomers, .. } = self;
        let (mut happened, mut caught) =
            (std::mem::take(&mut integrator.happened), std::mem::take(&mut integrator.caught));
        let (drawn, mut unborn) = (*share * (1.0 + FADE), 0);
        let acts = integrator.acts(motion, world);
        let mut fate = Fate::default();
        let due = emitters.emit(spec, self.seed, acts.time, motion.dt, first, room, |row| {
            // It would not be drawn.
            if *share < 1.0 && pair(row.id)[0] >= drawn {
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
        // Elements without room use up numbers too, so that numbers do not depend on deaths.
        self.next_id = first.wrapping_add(due as u32);
        meter.add(Counter::Emitted, born);
        meter.add(Counter::Hits, fate.hits);
        meter.add(Counter::Picked, fate.caught);
        meter.add(Counter::Retired, fate.ended);
        meter.moved(Stage::Emit, born * ROW);
        meter.add(Counter::Refused, due - with_room);
        meter.stop(started);
    }

    /// Starts the elements that an event asks for. `started` counts those of this step.
    fn start(
        &mut self,
        event: &EventSpec,
        newborn: &Newborn,
        happening: &EventRecord,
        started: &mut u32,
        meter: &mut Meter,
    ) {
        // Drawn by the number of the parent, so that the result does not depend on other events.
        let random = Draws { seed: event_seed(self.seed), id: happening.element.id }.draw(happening.event);
        if random[0] >= event.chance {
            return;
        }
        let wanted = event.count.at(random[1]);
        let count = wanted.floor() as u32 + u32::from(wanted.fract() > random[2]);
        let allowed = count.min(event.most.saturating_sub(*started));
        let room = (self.spec.count as usize).saturating_sub(self.len()).min(allowed as usize) as u32;
        for nth in 0..room {
            let draws = Draws { seed: self.seed, id: self.next_id };
            let row = newborn.child(&self.spec, event, happening, draws, u64::from(nth), u64::from(room));
            self.next_id = self.next_id.wrapping_add(1);
            self.held.push(&row);
            self.newcomers.still += 1;
            note_birth(&self.spec.event, &row, &mut self.integrator.happened);
        }
        *started += room;
        meter.add(Counter::Emitted, u64::from(room));
        meter.add(Counter::Refused, u64::from(count - room));
    }

    /// Adds elements from elsewhere: position in metres and velocity in metres a second of each. They are born now, with life and size as of the
    /// spec. Returns the number that found room. Call it between steps.
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
            note_birth(&self.spec.event, &row, &mut self.integrator.happened);
            taken += 1;
        }
        meter.add(Counter::Emitted, taken as u64);
        meter.add(Counter::Refused, refused);
        taken
    }

    /// Event records of the last call of [`Particles::step`]: step by step, in the order of the elements, newborns last.
    pub fn happened(&self) -> &[EventRecord] {
        self.integrator.happened()
    }

    /// Number of elements that each collector of the world picked up in the last call of [`Particles::step`].
    pub fn caught(&self) -> &[u64] {
        self.integrator.caught()
    }

    /// Requests a burst of an emitter, counted from 0, in the next step. Returns false if there is no such emitter.
    pub fn burst(&mut self, emitter: usize, count: u32) -> bool {
        self.emitters.ask(emitter, count)
    }

    /// Moves an emitter, counted from 0, to a position, in metres, that it reaches at the end of the next step; it emits along the way. `heading`
    /// turns it so that its directions are forward, up, right. From then on it leaves its path. Returns false if there is no such emitter.
    pub fn put_emitter(&mut self, emitter: usize, position: [f32; 3], heading: Option<[f32; 3]>) -> bool {
        self.emitters.put(emitter, position.into(), heading.map(Vec3::from))
    }

    /// Moves the centre of scattered emitters: x and z, in metres; at first the origin. Returns whether any place appeared or disappeared. Elements
    /// that were born there live on.
    pub fn recentre(&mut self, middle: [f32; 2]) -> bool {
        self.emitters.recentre(middle, self.seed)
    }

    /// Number of live elements.
    pub fn len(&self) -> usize {
        self.held.len()
    }

    /// Whether no element is alive.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The attributes of all live elements after the last step, for either kind of storage.
    pub fn columns(&self) -> &BodyColumns {
        &self.held.columns
    }

    /// The last positions of its elements, if its spec has a trail.
    pub fn trail(&self) -> Option<&Trail> {
        self.held.trail.as_ref()
    }

    /// The spec that it was made from.
    pub fn spec(&self) -> &ParticleSpec {
        &self.spec
    }

    /// Simulated time, in seconds.
    pub fn time(&self) -> f64 {
        self.integrator.time()
    }
}

/// Seed of the draws that decide what events start in a population with this seed, apart from the draws of births.
pub fn event_seed(seed: u32) -> u32 {
    seed ^ 0x1e5e_4eed
}

fn children(events: &[EventSpec], assets: &Assets) -> Result<Arc<[Newborn]>, SpecError> {
    let ready =
        |(nth, event)| Newborn::of_event(event, assets).map_err(|error| error.under(&format!("event.{nth}")));
    events.iter().enumerate().map(ready).collect()
}

/// Bytes that a population reserves, and bytes of each element.
fn bytes_of(spec: &ParticleSpec, storage: Storage) -> [u64; 2] {
    let each = Particles::bytes_per_element(storage) + spec.trail.as_ref().map_or(0, Trail::bytes);
    [u64::from(spec.count) * each, each]
}

/// What keeps the elements of a spec apart.
fn apart(spec: &ParticleSpec, storage: Storage) -> Result<Option<PushApart>, SpecError> {
    if spec.apart.is_some() && storage == Storage::Objects {
        let problem = "is written for elements that are held as objects";
        return Err(SpecError::new("apart", problem, "write storage = \"columns\""));
    }
    spec.apart.map(|apart| PushApart::new(&apart, spec.motion.keep_to)).transpose()
}

/// Whether elements at rest are set aside: not where others may push them.
fn sets_aside(spec: &ParticleSpec) -> bool {
    spec.order == Order::Any && spec.apart.is_none()
}

fn check_memory(spec: &ParticleSpec, storage: Storage) -> Result<(), SpecError> {
    let [needed, each] = bytes_of(spec, storage);
    if needed <= MEMORY_LIMIT {
        return Ok(());
    }
    let (count, limit) = (spec.count, MEMORY_LIMIT >> 30);
    let problem = format!("{count} elements need {:.1} GiB, over the limit of {limit} GiB", gib(needed));
    Err(SpecError::new("count", problem, format!("write at most {}", MEMORY_LIMIT / each)))
}

fn no_memory(spec: &ParticleSpec, storage: Storage) -> SpecError {
    let [needed, _] = bytes_of(spec, storage);
    let problem = format!("the system has no {:.1} GiB left", gib(needed));
    SpecError::new("count", problem, "write a smaller count")
}

fn gib(bytes: u64) -> f64 {
    bytes as f64 / (1u64 << 30) as f64
}
