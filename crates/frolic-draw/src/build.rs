//! From populations to batches, by the technique asked for.

use frolic_core::{Counter, Meter, Stage};
use rayon::prelude::*;
use smallvec::SmallVec;

use crate::backdrop::BackdropSpec;
use crate::camera::View;
use crate::cpu::project::shade;
use crate::list::{Batch, DrawList, Instances, Lighting, Packed, Source, Technique, Vertex};
use crate::look::{LightSpec, Look};
use crate::sort::DepthSorter;

/// Buffers of the draw list, kept from frame to frame so that a frame allocates nothing.
///
/// ```
/// use frolic_core::{Meter, ParticleSpec, Particles};
/// use frolic_draw::{BackdropSpec, CameraSpec, ImageSize, Instances, ListScratch, LookSpec, Technique};
///
/// let particles = Particles::new(&ParticleSpec::new(10), 1)?;
/// let look = LookSpec::default().build()?;
/// let view = CameraSpec::default().view(ImageSize::default())?;
/// let (mut scratch, mut meter) = (ListScratch::default(), Meter::new());
/// let populations = [(Instances::of(particles.columns(), 0.0), &look)];
/// let list = scratch.list(populations, Technique::Instanced, &view, &BackdropSpec::default(), &[], &mut meter);
/// assert_eq!(list.batches().len(), 0);   // nothing alive, nothing drawn
/// # Ok::<(), frolic_core::SpecError>(())
/// ```
#[derive(Debug, Default)]
pub struct ListScratch {
    batches: Vec<Batch>,
    order: Vec<u32>,
    packed: Vec<Packed>,
    vertices: Vec<Vertex>,
    sorter: DepthSorter,
}

impl ListScratch {
    /// The draw list of these populations, in this order. Populations whose look covers are put into depth order.
    pub fn list<'a>(
        &'a mut self,
        populations: impl IntoIterator<Item = (Instances<'a>, &'a Look)>,
        technique: Technique,
        view: &View,
        backdrop: &BackdropSpec,
        lights: &'a [LightSpec],
        meter: &mut Meter,
    ) -> DrawList<'a> {
        self.batches.clear();
        self.order.clear();
        let mut sources: SmallVec<[Source<'a>; 8]> = SmallVec::new();
        let (mut vertices_needed, mut total) = (0, 0);
        for (instances, look) in populations {
            if instances.is_empty() {
                continue;
            }
            let mut source = Source { instances, look, order: None, vertices: None };
            let count = instances.len() as u32;
            total += u64::from(count);
            if look.needs_depth_order() {
                let started = meter.start();
                // Every sorted source packs as many elements as it orders.
                let at = self.order.len();
                source.order = Some(at as u32);
                if self.packed.len() < at + instances.len() {
                    self.packed.resize(at + instances.len(), Packed::default());
                }
                pack(&instances, &mut self.packed[at..at + instances.len()]);
                self.sorter.sort(&instances, view, &mut self.order);
                meter.stop(Stage::Sort, started);
                meter.add(Counter::Sorted, u64::from(count));
            }

            let started = meter.start();
            let at = sources.len() as u32;
            match technique {
                Technique::Each => {
                    self.batches.extend((0..count).map(|first| Batch { source: at, first, count: 1 }));
                }
                Technique::Batched => {
                    source.vertices = Some(vertices_needed as u32);
                    vertices_needed += instances.len() * 4;
                    self.batches.push(Batch { source: at, first: 0, count });
                }
                Technique::Instanced => self.batches.push(Batch { source: at, first: 0, count }),
            }
            sources.push(source);
            meter.stop(Stage::Batch, started);
        }

        let lighting = Lighting { lights, ambient: backdrop.ambient() };
        let started = meter.start();
        // Grown, never shrunk: what is over from a fuller frame is not read.
        if self.vertices.len() < vertices_needed {
            self.vertices.resize(vertices_needed, Vertex::default());
        }
        for source in &sources {
            if let Some(first) = source.vertices {
                let into = &mut self.vertices[first as usize..][..source.instances.len() * 4];
                merge_vertices(source, &self.order, &lighting, into);
            }
        }
        meter.stop(Stage::Batch, started);

        meter.add(Counter::DrawCalls, self.batches.len() as u64);
        meter.add(Counter::DrawBytes, self.bytes() as u64);
        meter.add(Counter::Instances, total);
        DrawList {
            sources,
            batches: &self.batches,
            order: &self.order,
            packed: &self.packed,
            vertices: &self.vertices,
            lighting,
        }
    }

    fn bytes(&self) -> usize {
        self.batches.capacity() * size_of::<Batch>()
            + self.order.capacity() * size_of::<u32>()
            + self.packed.capacity() * size_of::<Packed>()
            + self.vertices.capacity() * size_of::<Vertex>()
            + self.sorter.bytes()
    }
}

/// Elements a part of what is copied in parallel.
const PART: usize = 4096;

/// Copies columns into packed elements.
fn pack(instances: &Instances<'_>, packed: &mut [Packed]) {
    packed.par_chunks_mut(PART).enumerate().for_each(|(part, packed)| {
        let first = part * PART;
        for (attribute, column) in instances.columns().into_iter().enumerate() {
            for (packed, value) in packed.iter_mut().zip(&column[first..]) {
                packed[attribute] = *value;
            }
        }
    });
}

/// Writes four finished vertices an instance, in drawing order.
fn merge_vertices(source: &Source<'_>, order: &[u32], lighting: &Lighting<'_>, vertices: &mut [Vertex]) {
    const CORNERS: [[f32; 2]; 4] = [[-1.0, -1.0], [1.0, -1.0], [1.0, 1.0], [-1.0, 1.0]];
    vertices.par_chunks_mut(4 * PART).enumerate().for_each(|(part, vertices)| {
        let (quads, _) = vertices.as_chunks_mut::<4>();
        for (nth, quad) in quads.iter_mut().enumerate() {
            let element = source.element(order, part * PART + nth);
            let vertex = shade(source, lighting, element);
            *quad = CORNERS.map(|corner| Vertex { corner, ..vertex });
        }
    });
}
