//! The draw list, the input of every backend.
//!
//! A [`DrawList`] holds *sources* (populations whose columns it borrows, with their look) and *batches* in drawing order, each one
//! draw call over *runs* of instances: stretches of a source, or of the merged depth order of several. Nothing is copied that
//! can be borrowed.

use std::sync::Arc;

use frolic_core::Counter;
use serde::{Deserialize, Serialize};
use smallvec::SmallVec;

use crate::detail::Detail;
use crate::instances::{Groups, Instances};
use crate::light::Lighting;
use crate::look::{Form, Look};
use crate::sprite::Fill;

/// How elements become draw calls. All but [`Technique::Tiled`] give the same picture to the last bit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Technique {
    /// One draw call an element: the simplest way, for comparison.
    Each,
    /// Finished vertices of every element, merged into one buffer; one draw call a batch.
    Batched,
    /// One mesh and many instances that borrow the columns; one draw call a batch.
    #[default]
    Instanced,
    /// As instanced, but the device culls the instances and counts those that a call draws. On the CPU, which always culls, the same as
    /// instanced.
    Indirect,
    /// Groups of elements as images, rendered once for each layout, wind state and viewing side, and cached; all else as instanced. CPU
    /// only.
    Tiled,
}

/// Which transparent elements are sorted by depth together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum DepthOrder {
    /// No sorting.
    None,
    /// Elements of each population. Fewest batches.
    #[default]
    Population,
    /// Alpha-blended elements of all populations in a layer. Right where populations mix, at the cost of a batch for every change of look.
    All,
    /// No sorting: alpha-blended discs and billboards of a layer are mixed by weights that fall with depth, the same in any order (McGuire and
    /// Bavoil, "Weighted Blended Order-Independent Transparency", 2013). Wrong where a nearly opaque element hides others of much different
    /// colour. Transparent ribbons, meshes and sprites are sorted, and a device sorts all, as with `population`.
    Weighted,
}

/// Why a batch could not be merged into the previous one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Break {
    /// First batch of the list.
    First,
    /// Another mesh or shape.
    Mesh,
    /// Another look.
    Look,
    /// Another page of an atlas.
    Atlas,
    /// Another layer, or transparent elements after solid ones.
    Layer,
    /// The previous batch was full; with [`Technique::Each`], after one element.
    Capacity,
}

impl Break {
    /// Counter of this reason. `None` for the first batch, which is no break.
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

    /// Name in reports.
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

/// A finished vertex, as the technique `batched` merges them.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
#[repr(C)]
pub struct Vertex {
    /// Position in metres, or in pixels on the screen; of a disc, its centre.
    pub place: [f32; 3],
    /// Coordinates within the shape: -1 or 1 across and down for a disc, 0..1 for a texture, side (-1 or 1) and share of the length for a
    /// ribbon.
    pub corner: [f32; 2],
    /// Radius of a disc, half width of a ribbon, in metres.
    pub radius: f32,
    /// Colour times opacity; without sunlight where shadows may fall.
    pub colour: [f32; 3],
    /// Unshadowed sunlight.
    pub sun: [f32; 3],
    /// Opacity; 0 for additive elements.
    pub opacity: f32,
}

/// A range of instances.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Run {
    /// Index of the source; of a sorted run, that of its first instance.
    pub source: u32,
    /// First instance: an element of the source, or an index into the merged order.
    pub first: u32,
    /// Number of instances.
    pub count: u32,
    /// Whether `first` is an index into the merged order.
    pub sorted: bool,
    /// First of its merged vertices, with [`Technique::Batched`].
    pub vertices: u32,
}

/// One draw call.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Batch {
    /// First of its runs.
    pub first_run: u32,
    /// Number of runs.
    pub runs: u32,
    /// Number of instances; 0 for device-resident populations, whose count is on the device.
    pub count: u32,
    /// Why it was not merged into the previous batch.
    pub why: Break,
    /// Layer.
    pub layer: i16,
    /// Whether it hides what is behind it.
    pub solid: bool,
    /// Whether the backend must draw the instances far to near. All are of one source, so their order changes no batch.
    pub far_to_near: bool,
    /// Whether its instances were sorted together with those of other populations.
    pub mixed: bool,
    /// Whether its instances are mixed by weights, in any order ([`DepthOrder::Weighted`]).
    pub weighted: bool,
}

/// One instance in the merged order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Entry {
    /// Index of the source.
    pub source: u32,
    /// Index of the element.
    pub element: u32,
}

/// A population in a draw list.
#[derive(Debug, Clone, Copy)]
pub struct Source<'a> {
    /// Columns.
    pub instances: Instances<'a>,
    /// Look of all elements.
    pub look: &'a Look,
}

/// Key that all instances of a batch share.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct BatchKey {
    /// Layer.
    pub layer: i16,
    /// Whether it hides what is behind it.
    pub solid: bool,
    form: u64,
    look: u64,
    /// Page of the atlas. `None` without a texture, which fits any page.
    pub page: Option<u16>,
}

impl BatchKey {
    /// Why instances with another key cannot share the batch, if so.
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
    /// Detail of its elements.
    #[inline(always)]
    pub(crate) fn detail(&self) -> &Detail {
        if self.instances.poses.bend.is_none() { &self.look.rigid_detail } else { &self.look.detail }
    }

    /// The batch key of an element.
    pub fn batch_key(&self, element: u32) -> BatchKey {
        let Self { instances, look } = self;
        let (form, page) = match &look.form {
            Form::Disc => (0, None),
            Form::Billboard { sheet, .. } => (1, Some(look.atlas.page_of(sheet.frame(0)))),
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

/// Populations by index. Up to 32 need no heap memory.
pub type Sources<'a> = SmallVec<[Source<'a>; 32]>;

/// Bytes read to draw an element: position, size, age over life, id.
pub const BYTES_SEEN: u64 = 7 * size_of::<f32>() as u64;

/// Draw calls in drawing order.
#[derive(Debug)]
pub struct DrawList<'a> {
    pub(crate) sources: Sources<'a>,
    pub(crate) batches: &'a [Batch],
    pub(crate) runs: &'a [Run],
    pub(crate) order: &'a [Entry],
    /// Merged vertices, run after run; only with `batched`.
    pub(crate) vertices: &'a [Vertex],
    pub(crate) lighting: Lighting<'a>,
    pub(crate) technique: Technique,
    /// The scene's time in seconds, for flipbooks.
    pub(crate) time: f32,
}

impl<'l> DrawList<'l> {
    /// A list of these populations, still without batches. Sorted runs index into `order`, the merged order.
    pub fn new(
        sources: Sources<'l>,
        order: &'l [Entry],
        lighting: Lighting<'l>,
        technique: Technique,
        time: f32,
    ) -> Self {
        Self { sources, batches: &[], runs: &[], order, vertices: &[], lighting, technique, time }
    }

    /// Sets the batches and their runs, in drawing order.
    pub fn set_batches(&mut self, batches: &'l [Batch], runs: &'l [Run]) {
        (self.batches, self.runs) = (batches, runs);
    }

    /// Bytes of the list, without the borrowed columns.
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

    /// Instances of a batch, in the list's order.
    pub fn entries<'b>(&'b self, batch: &Batch) -> impl Iterator<Item = Entry> + use<'b, 'l> {
        let runs = &self.runs[batch.first_run as usize..][..batch.runs as usize];
        runs.iter().flat_map(|run| (run.first..run.first + run.count).map(|at| self.entry(run, at)))
    }

    #[inline(always)]
    pub(crate) fn entry(&self, run: &Run, at: u32) -> Entry {
        if run.sorted { self.order[at as usize] } else { Entry { source: run.source, element: at } }
    }

    /// Populations by index: instances and look.
    pub fn sources(&self) -> impl ExactSizeIterator<Item = (&Instances<'l>, &'l Look)> {
        self.sources.iter().map(|source| (&source.instances, source.look))
    }

    /// The population that a run or an entry refers to.
    pub fn source(&self, nth: u32) -> Option<(&Instances<'l>, &'l Look)> {
        self.sources.get(nth as usize).map(|source| (&source.instances, source.look))
    }

    /// An instance of a run.
    pub fn instance(&self, run: &Run, nth: u32) -> Entry {
        self.entry(run, run.first + nth)
    }

    /// Merged vertices, run after run; only with `batched`.
    pub fn vertices(&self) -> &[Vertex] {
        self.vertices
    }

    /// Technique that the list was built for.
    pub fn technique(&self) -> Technique {
        self.technique
    }

    /// Light sources.
    pub fn lighting(&self) -> Lighting<'l> {
        self.lighting
    }

    /// The scene's time in seconds, for flipbooks.
    pub fn time(&self) -> f32 {
        self.time
    }

    /// Whether the list has groups, which only the CPU backend draws.
    pub fn is_grouped(&self) -> bool {
        self.groups().next().is_some()
    }

    /// Groups, each with the index of its population.
    pub(crate) fn groups(&self) -> impl Iterator<Item = (usize, Groups<'l>)> {
        let of = |(nth, source): (usize, &Source<'l>)| {
            let groups =
                source.instances.groups.filter(|groups| source.look.solid && !groups.placed.is_empty())?;
            Some((nth, groups))
        };
        self.sources.iter().enumerate().filter_map(of)
    }

    /// Number of instances in all batches.
    pub fn instances(&self) -> usize {
        self.batches.iter().map(|batch| batch.count as usize).sum()
    }
}
