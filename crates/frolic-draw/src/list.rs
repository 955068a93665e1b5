//! The draw list: what every backend takes.
//!
//! A [`DrawList`] holds *sources* (populations whose columns it borrows, with their look), and *batches* in drawing order, each
//! one draw call over a run of one source's instances. A source that was sorted brings an index list; a source whose
//! vertices were merged brings those. Nothing is copied that can be borrowed.

use frolic_core::ParticleColumns;
use serde::{Deserialize, Serialize};
use smallvec::SmallVec;

use crate::look::{LightSpec, Look};

/// How elements become draw calls. All three give the same picture to the last bit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Technique {
    /// One draw call an element: the first thing that anyone writes.
    Each,
    /// Four finished vertices an element, merged into one buffer; one draw call a batch.
    Batched,
    /// One mesh and many instances that borrow the columns; one draw call a batch.
    #[default]
    Instanced,
}

/// Instances of one population: borrowed columns of one length.
#[derive(Debug, Clone, Copy)]
pub struct Instances<'a> {
    /// Position x, y, z, m.
    pub(crate) position: [&'a [f32]; 3],
    /// Velocity x, y, z, m/s.
    pub(crate) velocity: [&'a [f32]; 3],
    /// Time since birth, s.
    pub(crate) age: &'a [f32],
    /// Age at death, s.
    pub(crate) life: &'a [f32],
    /// Radius at birth, m.
    pub(crate) size: &'a [f32],
    /// How long before the columns' state the picture is taken, s.
    pub(crate) behind: f32,
}

impl<'a> Instances<'a> {
    /// All particles of a population, `behind` seconds before their last step: `(1 - alpha) * dt` for a
    /// [`Tick::alpha`](frolic_core::Tick).
    pub fn of(columns: &'a ParticleColumns, behind: f32) -> Self {
        Self {
            position: columns.position(),
            velocity: columns.velocity(),
            age: columns.age(),
            life: columns.life(),
            size: columns.size(),
            behind,
        }
    }

    /// The columns that drawing reads, in the order of [`Packed`].
    #[inline(always)]
    pub(crate) fn columns(&self) -> [&'a [f32]; 9] {
        let ([px, py, pz], [vx, vy, vz]) = (self.position, self.velocity);
        [px, py, pz, vx, vy, vz, self.age, self.life, self.size]
    }

    /// How many.
    pub fn len(&self) -> usize {
        self.age.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.age.is_empty()
    }
}

/// All that drawing reads of one element, side by side: position, velocity, age, life, size. Elements that are drawn
/// out of order are picked from these, one cache line each and not nine.
pub(crate) type Packed = [f32; 9];

/// A corner of a billboard, as `batched` merges it: everything a vertex needs, repeated for each of the four.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
#[repr(C)]
pub struct Vertex {
    /// Middle of the billboard, m.
    pub centre: [f32; 3],
    /// Which corner: -1 or 1 across, -1 or 1 down.
    pub corner: [f32; 2],
    /// Radius, m.
    pub radius: f32,
    /// Colour times opacity.
    pub colour: [f32; 3],
    /// Opacity.
    pub opacity: f32,
}

/// One draw call: a run of one source's instances.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Batch {
    /// Which source.
    pub source: u32,
    /// First instance, in the source's drawing order.
    pub first: u32,
    /// How many.
    pub count: u32,
}

/// A population in a draw list.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Source<'a> {
    pub(crate) instances: Instances<'a>,
    pub(crate) look: &'a Look,
    /// Drawing order, where it is not the order of the columns: place in [`DrawList::order`], and of the source's first
    /// element in [`DrawList::packed`].
    pub(crate) order: Option<u32>,
    /// First merged vertex, where there are any: place in [`DrawList::vertices`].
    pub(crate) vertices: Option<u32>,
}

impl Source<'_> {
    /// The element drawn as the source's instance `nth`.
    #[inline(always)]
    pub(crate) fn element(&self, order: &[u32], nth: usize) -> usize {
        self.order.map_or(nth, |at| order[at as usize + nth] as usize)
    }
}

/// Light that reaches instances whose look is lit.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Lighting<'a> {
    pub(crate) lights: &'a [LightSpec],
    /// Light from the sky, from every side.
    pub(crate) ambient: [f32; 3],
}

/// Everything to draw, in order.
#[derive(Debug)]
pub struct DrawList<'a> {
    pub(crate) sources: SmallVec<[Source<'a>; 8]>,
    pub(crate) batches: &'a [Batch],
    pub(crate) order: &'a [u32],
    pub(crate) packed: &'a [Packed],
    pub(crate) vertices: &'a [Vertex],
    pub(crate) lighting: Lighting<'a>,
}

impl DrawList<'_> {
    /// The draw calls, in order.
    pub fn batches(&self) -> &[Batch] {
        self.batches
    }

    /// The element (index into its population's columns) that is drawn as instance `nth` of a batch.
    pub fn element(&self, batch: &Batch, nth: u32) -> usize {
        self.sources[batch.source as usize].element(self.order, (batch.first + nth) as usize)
    }

    /// Instances in all batches.
    pub fn instances(&self) -> usize {
        self.batches.iter().map(|batch| batch.count as usize).sum()
    }
}
