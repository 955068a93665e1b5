//! The draw list: what every backend takes.
//!
//! A [`DrawList`] holds *sources* (populations whose columns it borrows, with their look) and *batches* in drawing order, each one
//! draw call over *runs* of instances: stretches of a source, or of the merged depth order of several. Nothing is copied that
//! can be borrowed.

use std::sync::Arc;

use frolic_core::Counter;
use serde::{Deserialize, Serialize};
use smallvec::SmallVec;

use crate::instances::{Groups, Instances};
use crate::light::Lighting;
use crate::look::{Form, Look};
use crate::sprite::Fill;

/// How elements become draw calls. All but [`Technique::Tiled`] give the same picture to the last bit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Technique {
    /// One draw call an element: the first thing that anyone writes.
    Each,
    /// Finished vertices of every element, merged into one buffer; one draw call a batch.
    Batched,
    /// One mesh and many instances that borrow the columns; one draw call a batch.
    #[default]
    Instanced,
    /// As instanced, but the device finds out which instances are seen, and how many a call draws. On the CPU, which always
    /// leaves out what is not seen, the same as instanced.
    Indirect,
    /// Groups of blades from pictures that are made once for each layout, state of the wind and side they are seen from, and kept;
    /// all else as instanced. On the CPU alone.
    Tiled,
}

/// Which transparent elements are put into depth order with which.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum DepthOrder {
    /// None: as they come.
    None,
    /// Those of one population; populations follow one another. Fewest batches.
    #[default]
    Population,
    /// All that cover within a layer, whatever their population: right wherever they mix, at a batch for every change of look.
    All,
}

/// Why a batch could not be part of the one before.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Break {
    /// It is the first.
    First,
    /// Another mesh or shape.
    Mesh,
    /// Another look.
    Look,
    /// Another page of an atlas.
    Atlas,
    /// Another layer, or transparent things after solid ones.
    Layer,
    /// The batch before was full; with [`Technique::Each`], after one element.
    Capacity,
}

impl Break {
    /// What counts it; none of the first, which is no break.
    pub const fn counter(self) -> Option<Counter> {
        match self {
            Self::First => None,
            Self::Mesh => Some(Counter::BreaksMesh),
            Self::Look => Some(Counter::BreaksLook),
            Self::Atlas => Some(Counter::BreaksAtlas),
            Self::Layer => Some(Counter::BreaksLayer),
            Self::Capacity => Some(Counter::BreaksCapacity),
        }
    }

    /// In words, as reports show it.
    pub const fn name(self) -> &'static str {
        match self {
            Self::First => "first",
            Self::Mesh => "mesh",
            Self::Look => "look",
            Self::Atlas => "atlas",
            Self::Layer => "layer",
            Self::Capacity => "capacity",
        }
    }
}

/// A corner of an element, as `batched` merges it: everything a vertex needs, finished.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
#[repr(C)]
pub struct Vertex {
    /// Place, m, or pixels on the screen; of a disc, its middle.
    pub place: [f32; 3],
    /// Place within the shape: -1 or 1 across and down for a disc, 0..1 for a texture, side (-1 or 1) and way along for a ribbon.
    pub corner: [f32; 2],
    /// Radius of a disc, half width of a ribbon, m.
    pub radius: f32,
    /// Colour times opacity, without the sun where shadows may fall.
    pub colour: [f32; 3],
    /// What the sun adds where no shadow falls.
    pub sun: [f32; 3],
    /// Opacity; 0 adds.
    pub opacity: f32,
}

/// A stretch of instances.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Run {
    /// Which source; of a sorted run, that of its first instance.
    pub source: u32,
    /// First instance: an element of the source, or a place in the merged order.
    pub first: u32,
    /// How many.
    pub count: u32,
    /// Whether `first` is a place in the merged order.
    pub sorted: bool,
    /// First of its merged vertices, with [`Technique::Batched`].
    pub vertices: u32,
}

/// One draw call.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Batch {
    /// First of its runs.
    pub first_run: u32,
    /// How many runs.
    pub runs: u32,
    /// How many instances; 0 where only the device knows, as they live there.
    pub count: u32,
    /// Why it is not part of the batch before.
    pub why: Break,
    /// Its layer.
    pub layer: i16,
    /// Whether it hides what is behind.
    pub solid: bool,
    /// Whether the backend must draw its instances far to near, as the list leaves the order to it: all are of one source, so
    /// the order changes no batch.
    pub far_to_near: bool,
}

/// One instance in the merged order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Entry {
    /// Which source.
    pub source: u32,
    /// Which of its elements.
    pub element: u32,
}

/// A population in a draw list.
#[derive(Debug, Clone, Copy)]
pub struct Source<'a> {
    /// Its elements.
    pub instances: Instances<'a>,
    /// How each is drawn.
    pub look: &'a Look,
}

/// What instances of one batch share.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct BatchKey {
    /// Its layer.
    pub layer: i16,
    /// Whether it hides what is behind.
    pub solid: bool,
    form: u64,
    look: u64,
    /// Page of the atlas; none where no picture is shown, which goes with any.
    pub page: Option<u16>,
}

impl BatchKey {
    /// Why what has another key cannot share a batch, if so.
    pub fn why(&self, other: &Self) -> Option<Break> {
        if (self.layer, self.solid) != (other.layer, other.solid) {
            Some(Break::Layer)
        } else if self.form != other.form {
            Some(Break::Mesh)
        } else if self.look != other.look {
            Some(Break::Look)
        } else if self.page.is_some() && other.page.is_some() && self.page != other.page {
            Some(Break::Atlas)
        } else {
            None
        }
    }
}

impl Source<'_> {
    /// What it takes to share a batch with one of its elements.
    pub fn batch_key(&self, element: u32) -> BatchKey {
        let Self { instances, look } = self;
        let (form, page) = match &look.form {
            Form::Disc => (0, None),
            Form::Card { sheet, .. } => (1, Some(look.atlas.page_of(sheet.frame(0)))),
            Form::Ribbon(ribbon) => (16 + u64::from(ribbon.segments), None),
            Form::Sprite { .. } => {
                let page = match instances.sprites.get(element as usize).map(|sprite| sprite.fill) {
                    None | Some(Fill::Plain) => None,
                    Some(Fill::Picture(region)) => Some(look.atlas.page_of(region)),
                    Some(Fill::Tiles(map)) => {
                        look.atlas.map(map).map(|map| look.atlas.page_of(map.sheet.frame(0)))
                    }
                };
                (2, page)
            }
            Form::Mesh { fine, texture, .. } => {
                let page = texture.map(|sheet| look.atlas.page_of(sheet.frame(0)));
                (1024 + Arc::as_ptr(fine) as u64, page)
            }
        };
        BatchKey { layer: look.layer, solid: look.solid, form, look: look.key, page }
    }
}

/// Populations by number; a few need no memory of their own.
pub type Sources<'a> = SmallVec<[Source<'a>; 32]>;

/// Bytes that are read of an element to draw it: place, size, age over life, id.
pub const BYTES_SEEN: u64 = 7 * size_of::<f32>() as u64;

/// Everything to draw, in order.
#[derive(Debug)]
pub struct DrawList<'a> {
    pub(crate) sources: Sources<'a>,
    pub(crate) batches: &'a [Batch],
    pub(crate) runs: &'a [Run],
    pub(crate) order: &'a [Entry],
    /// Merged vertices, run after run; empty but for `batched`.
    pub(crate) vertices: &'a [Vertex],
    pub(crate) lighting: Lighting<'a>,
    pub(crate) technique: Technique,
    /// The scene's time, s: flipbooks run by it.
    pub(crate) time: f32,
}

impl<'l> DrawList<'l> {
    /// A list of these populations without batches yet; `order` is the merged order that sorted runs name places in.
    pub fn new(
        sources: Sources<'l>,
        order: &'l [Entry],
        lighting: Lighting<'l>,
        technique: Technique,
        time: f32,
    ) -> Self {
        Self { sources, batches: &[], runs: &[], order, vertices: &[], lighting, technique, time }
    }

    /// Its batches and their runs, in drawing order.
    pub fn set_batches(&mut self, batches: &'l [Batch], runs: &'l [Run]) {
        (self.batches, self.runs) = (batches, runs);
    }

    /// Bytes that it holds, beside what it borrows of populations.
    pub fn bytes(&self) -> usize {
        size_of_val(self.batches)
            + size_of_val(self.runs)
            + size_of_val(self.order)
            + size_of_val(self.vertices)
    }

    /// The draw calls, in order.
    pub fn batches(&self) -> &[Batch] {
        self.batches
    }

    /// The runs of a batch.
    pub fn runs(&self, batch: &Batch) -> &[Run] {
        &self.runs[batch.first_run as usize..][..batch.runs as usize]
    }

    /// The instances of a batch, in the list's order.
    pub fn entries<'b>(&'b self, batch: &Batch) -> impl Iterator<Item = Entry> + use<'b, 'l> {
        let runs = &self.runs[batch.first_run as usize..][..batch.runs as usize];
        runs.iter().flat_map(|run| (run.first..run.first + run.count).map(|at| self.entry(run, at)))
    }

    #[inline(always)]
    pub(crate) fn entry(&self, run: &Run, at: u32) -> Entry {
        if run.sorted { self.order[at as usize] } else { Entry { source: run.source, element: at } }
    }

    /// Its populations, by number: instances and look.
    pub fn sources(&self) -> impl ExactSizeIterator<Item = (&Instances<'l>, &'l Look)> {
        self.sources.iter().map(|source| (&source.instances, source.look))
    }

    /// The population that a run or entry names.
    pub fn source(&self, nth: u32) -> Option<(&Instances<'l>, &'l Look)> {
        self.sources.get(nth as usize).map(|source| (&source.instances, source.look))
    }

    /// The instance at a place of a run.
    pub fn instance(&self, run: &Run, nth: u32) -> Entry {
        self.entry(run, run.first + nth)
    }

    /// Finished vertices, run after run; empty but for `batched`.
    pub fn vertices(&self) -> &[Vertex] {
        self.vertices
    }

    /// How elements became draw calls.
    pub fn technique(&self) -> Technique {
        self.technique
    }

    /// What shines.
    pub fn lighting(&self) -> Lighting<'l> {
        self.lighting
    }

    /// The scene's time, s: flipbooks run by it.
    pub fn time(&self) -> f32 {
        self.time
    }

    /// Whether squares of blades come as groups, which only the CPU backend draws.
    pub fn is_grouped(&self) -> bool {
        self.groups().next().is_some()
    }

    /// Its groups, each with the number of its population.
    pub(crate) fn groups(&self) -> impl Iterator<Item = (usize, Groups<'l>)> {
        let of = |(nth, source): (usize, &Source<'l>)| {
            let groups =
                source.instances.groups.filter(|groups| source.look.solid && !groups.placed.is_empty())?;
            Some((nth, groups))
        };
        self.sources.iter().enumerate().filter_map(of)
    }

    /// Instances in all batches.
    pub fn instances(&self) -> usize {
        self.batches.iter().map(|batch| batch.count as usize).sum()
    }
}
