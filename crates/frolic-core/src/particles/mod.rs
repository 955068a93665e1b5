//! A population of particles: its state, and the step that moves it.
//!
//! One step is: fields and integration over all that live, the dead taken out in order, the newborn appended. State is
//! columns ([`ParticleColumns`]) or, for comparison, one heap record an element ([`Storage::Objects`]); both give the
//! same numbers to the last bit.

mod emit;
mod objects;
mod spec;
mod step;

pub use emit::{Due, EmitterAxes, Emitters};
pub use spec::{AimSpec, BurstSpec, EmitterSpec, MotionSpec, ParticleSpec, ShapeSpec, Storage};
pub use step::Motion;

use crate::columns::columns;
use crate::error::SpecError;
use crate::meter::{Counter, Meter, Stage};
use crate::obstacles::Solid;
use crate::simd::Level;
use crate::world::World;
use objects::Records;

columns! {
    /// All attributes of one particle.
    row ParticleRow;
    /// The attributes of all particles, in order of birth; slices of one length.
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
    /// Number of the element, counted from 0 in order of birth; the key of its random numbers.
    id: u32,
}

impl ParticleColumns {
    /// How many elements.
    pub fn len(&self) -> usize {
        self.px.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.px.is_empty()
    }

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
    spec: ParticleSpec,
    storage: Storage,
    seed: u32,
    time: f64,
    next_id: u32,
    emitters: Emitters,
    columns: ParticleColumns,
    records: Records,
    /// Indices of the dead: each chunk writes its own part, then they are joined.
    dead: Vec<u32>,
    dead_in_chunk: Vec<u32>,
    chunk: usize,
    level: Level,
}

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
        spec.check()?;
        let count = spec.count as usize;
        let needed = spec.count as u64 * Self::bytes_per_element(storage);
        if needed > MEMORY_LIMIT {
            let most = MEMORY_LIMIT / Self::bytes_per_element(storage);
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
            spec: spec.clone(),
            storage,
            seed,
            time: 0.0,
            next_id: 0,
            emitters: Emitters::new(&spec.emitters),
            columns: ParticleColumns::default(),
            records: Records::default(),
            dead: Vec::new(),
            dead_in_chunk: Vec::new(),
            chunk: CHUNK,
            level: Level::new(),
        };
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
        self.columns.reserve(count)?;
        match self.storage {
            Storage::Objects => self.records.reserve(count),
            Storage::Columns => {
                self.dead.try_reserve_exact(count)?;
                self.dead_in_chunk.try_reserve_exact(count.div_ceil(self.chunk))
            }
        }
    }

    /// Bytes of state and scratch an element of capacity.
    pub fn bytes_per_element(storage: Storage) -> u64 {
        let columns = ParticleColumns::BYTES_PER_ELEMENT;
        let rest = match storage {
            Storage::Columns => size_of::<u32>(),
            Storage::Objects => Records::BYTES_PER_ELEMENT,
        };
        (columns + rest) as u64
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
    /// Each element's linear drag is solved exactly over the step and its other accelerations are held constant, then
    /// the position follows the new velocity (semi-implicit). Stable at any drag and any step. O(n).
    pub fn step(&mut self, world: &World, dt: f32, steps: u32, meter: &mut Meter) {
        if !(dt.is_finite() && dt > 0.0) {
            return;
        }
        for _ in 0..steps {
            let motion = Motion::new(&self.spec.motion, world, self.time, dt);
            match self.storage {
                Storage::Columns => self.step_columns(&motion, world.solid(), meter),
                Storage::Objects => self.step_objects(&motion, world.solid(), meter),
            }
            self.emit(dt, meter);
            self.time += f64::from(dt);
        }
        if self.storage == Storage::Objects && steps > 0 {
            let started = meter.start();
            self.records.gather(&mut self.columns);
            meter.stop(Stage::Gather, started);
        }
        meter.add(Counter::Alive, self.len() as u64);
        meter.add(Counter::ElementBytes, u64::from(self.spec.count) * Self::bytes_per_element(self.storage));
    }

    fn step_columns(&mut self, motion: &Motion, solid: &Solid, meter: &mut Meter) {
        let started = meter.start();
        // Scratch for this step's length; both were reserved, so this writes zeros and allocates nothing.
        self.dead.resize(self.columns.len(), 0);
        self.dead_in_chunk.resize(self.columns.len().div_ceil(self.chunk), 0);
        let met = step::step_chunks(
            motion,
            solid,
            self.level,
            self.chunk,
            &mut self.columns,
            &mut self.dead,
            &mut self.dead_in_chunk,
        );
        meter.stop(Stage::Integrate, started);

        let started = meter.start();
        let dead = step::join_dead(&mut self.dead, &self.dead_in_chunk, self.chunk);
        self.columns.remove_sorted(&self.dead[..dead]);
        meter.stop(Stage::Retire, started);
        meter.add(Counter::Retired, dead as u64);
        meter.add(Counter::Hits, met.hits);
        meter.add(Counter::Picked, met.picked);
    }

    fn step_objects(&mut self, motion: &Motion, solid: &Solid, meter: &mut Meter) {
        let started = meter.start();
        let met = self.records.advance(motion, solid);
        meter.stop(Stage::Integrate, started);
        meter.add(Counter::Hits, met.hits);
        meter.add(Counter::Picked, met.picked);

        let started = meter.start();
        meter.add(Counter::Retired, self.records.retire() as u64);
        meter.stop(Stage::Retire, started);
    }

    fn emit(&mut self, dt: f32, meter: &mut Meter) {
        let started = meter.start();
        let room = self.spec.count as usize - self.len();
        let first = self.next_id;
        let (columns, records, storage) = (&mut self.columns, &mut self.records, self.storage);
        let due =
            self.emitters.emit(&self.spec, self.seed, self.time, dt, first, room, |row| match storage {
                Storage::Columns => columns.push(row),
                Storage::Objects => records.push(row),
            });
        let born = due.min(room as u64);
        self.next_id = first.wrapping_add(born as u32);
        meter.add(Counter::Emitted, born);
        meter.add(Counter::Refused, due - born);
        meter.stop(Stage::Emit, started);
    }

    /// How many are alive.
    pub fn len(&self) -> usize {
        match self.storage {
            Storage::Columns => self.columns.len(),
            Storage::Objects => self.records.len(),
        }
    }

    /// Whether none is alive.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The attributes of all that live, as of the last step, whatever the storage.
    pub fn columns(&self) -> &ParticleColumns {
        &self.columns
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

fn gib(bytes: u64) -> f64 {
    bytes as f64 / (1u64 << 30) as f64
}
