//! Chunks that keep their projected records and bins from the frame before, as nothing that they depend on has changed.
//!
//! Elements that move by themselves are projected in every frame. Of the others, inputs are compared to the bit: what is common to a picture once ([`Common`]), columns
//! chunk by chunk. A chunk is copied for that only when its first elements stayed the same for a frame, so that what sways costs nothing here.

use std::sync::Arc;

use frolic_raster::light::Lamp;
use frolic_raster::tile::Grid;
use smallvec::SmallVec;

use super::pass::ChunkStart;
use crate::camera::View;
use crate::detail::Detail;
use crate::lamps::SunSpec;
use crate::light::Lighting;
use crate::list::{DrawList, Run, Source};
use crate::look::{Form, Play};
use crate::mesh::Mesh;
use crate::sprite::Sprite;

/// Elements of a column that are looked at before all are copied.
const FIRST: usize = 32;

/// What all chunks of a picture depend on.
#[derive(Debug, Default)]
pub(super) struct Common {
    /// Counts pictures in which any of it changed.
    pub(super) version: u64,
    view: Option<(View, Grid)>,
    lamps: Vec<Lamp>,
    sun: Option<SunSpec>,
    /// Ambient light, its bounce, haze and its reach.
    sky: [f32; 10],
}

impl Common {
    /// Takes over what a picture depends on.
    pub(super) fn update(&mut self, list: &DrawList<'_>, view: &View, grid: &Grid) {
        let Lighting { lamps, sun, ambient, bounce, haze: (tone, per), .. } = list.lighting;
        let sky = [ambient, bounce, tone].map(|light| light.to_array());
        let mut all = [per; 10];
        all[..9].copy_from_slice(sky.as_flattened());
        let same = self.view == Some((*view, *grid))
            && self.lamps == lamps
            && self.sun.as_ref() == sun
            && self.sky.map(f32::to_bits) == all.map(f32::to_bits);
        if !same {
            self.version += 1;
            (self.view, self.sun, self.sky) = (Some((*view, *grid)), sun.copied(), all);
            self.lamps.clear();
            self.lamps.extend_from_slice(lamps);
        }
    }
}

/// What one chunk depends on.
#[derive(Debug, Default)]
pub(super) struct Inputs {
    version: u64,
    stretches: SmallVec<[Stretch; 2]>,
    /// Hash of the first elements.
    first: u64,
    /// Columns of all elements, one after the other; empty before they are copied.
    words: Vec<u32>,
    sprites: Vec<Sprite>,
    is_copied: bool,
    /// Whether the records are those of the frame before.
    pub(super) is_kept: bool,
}

/// A range of a population.
#[derive(Debug, Clone, PartialEq)]
struct Stretch {
    source: u32,
    first: u32,
    count: u32,
    look: u64,
    detail: Detail,
    coarser: u8,
    /// Of flipbooks that play by the clock: the time of the scene.
    time: Option<u32>,
    /// Columns that are there.
    columns: u32,
    /// The meshes themselves: while they are held, no other mesh can be mistaken for them.
    meshes: [Option<SameMesh>; 2],
}

/// A mesh that is compared by its place in memory.
#[derive(Debug, Clone)]
struct SameMesh(Arc<Mesh>);

impl PartialEq for SameMesh {
    fn eq(&self, other: &Self) -> bool {
        Arc::ptr_eq(&self.0, &other.0)
    }
}

impl Inputs {
    /// Whether a chunk can keep its records; takes over its inputs otherwise. `coarser` is the resolution of each source.
    pub(super) fn keep(
        &mut self,
        list: &DrawList<'_>,
        coarser: &[u8],
        version: u64,
        start: ChunkStart,
    ) -> bool {
        self.is_kept = self.is_same(list, coarser, version, start);
        self.is_kept
    }

    fn is_same(&mut self, list: &DrawList<'_>, coarser: &[u8], version: u64, start: ChunkStart) -> bool {
        let runs = runs_of(list, start);
        if !list.vertices.is_empty() || !runs.clone().all(|(run, ..)| may_stay(list, &run)) {
            self.forget();
            return false;
        }
        let ranges = runs.map(|(run, skip, count)| {
            let source = &list.sources[run.source as usize];
            (source, run.source, run.first as usize + skip as usize, count as usize)
        });
        let stretches = ranges.clone().map(|(source, nth, first, count)| {
            Stretch::new(
                list,
                source,
                nth,
                [first as u32, count as u32],
                coarser.get(nth as usize).copied().unwrap_or(0),
            )
        });
        let head_stays = self.version == version && self.stretches.iter().cloned().eq(stretches.clone());
        if !head_stays {
            self.forget();
            self.version = version;
            self.stretches.extend(stretches);
        }
        let of = |(source, _, first, count)| (source, first, count);
        if self.is_copied && head_stays {
            if self.holds(ranges.clone().map(of)) {
                return true;
            }
            self.is_copied = false;
        }
        let mut hash = 0xcbf2_9ce4_8422_2325;
        for (source, _, first, count) in ranges.clone() {
            let seen = count.min(FIRST);
            columns(source, |column| {
                for word in &column[first..first + seen] {
                    hash = (hash ^ u64::from(*word)).wrapping_mul(0x0100_0000_01b3);
                }
            });
        }
        let stays = std::mem::replace(&mut self.first, hash) == hash && head_stays;
        if stays {
            self.copy(ranges.map(of));
        }
        false
    }

    fn forget(&mut self) {
        self.stretches.clear();
        self.is_copied = false;
        self.version = 0;
    }

    /// Whether columns are those that were copied.
    fn holds<'a>(&self, ranges: impl Iterator<Item = (&'a Source<'a>, usize, usize)>) -> bool {
        let (mut words, mut sprites) = (&self.words[..], &self.sprites[..]);
        let mut same = true;
        for (source, first, count) in ranges {
            columns(source, |column| {
                let (mine, rest) = words.split_at(count.min(words.len()));
                words = rest;
                same = same && mine == &column[first..first + count];
            });
            if !source.instances.sprites.is_empty() {
                let (mine, rest) = sprites.split_at(count.min(sprites.len()));
                sprites = rest;
                same = same && mine == &source.instances.sprites[first..first + count];
            }
        }
        same
    }

    fn copy<'a>(&mut self, ranges: impl Iterator<Item = (&'a Source<'a>, usize, usize)>) {
        self.words.clear();
        self.sprites.clear();
        for (source, first, count) in ranges {
            columns(source, |column| self.words.extend_from_slice(&column[first..first + count]));
            if !source.instances.sprites.is_empty() {
                self.sprites.extend_from_slice(&source.instances.sprites[first..first + count]);
            }
        }
        self.is_copied = true;
    }

    pub(super) fn bytes(&self) -> usize {
        self.words.capacity() * size_of::<u32>() + self.sprites.capacity() * size_of::<Sprite>()
    }
}

impl Stretch {
    fn new(
        list: &DrawList<'_>,
        source: &Source<'_>,
        nth: u32,
        [first, count]: [u32; 2],
        coarser: u8,
    ) -> Self {
        let look = source.look;
        let clocked = match &look.form {
            Form::Billboard { billboard, .. } => matches!(billboard.play, Play::Clock { .. }),
            _ => false,
        };
        let meshes = match &look.form {
            Form::Mesh { fine, coarse, .. } => [Some(fine), coarse.as_ref()],
            _ => [None; 2],
        };
        let poses = &source.instances.poses;
        let of = [poses.size.is_some(), poses.turn.is_some(), poses.curve.is_some(), poses.bend.is_some()];
        let of = of.into_iter().chain([poses.id.is_some(), poses.tint.is_some()]);
        let columns = of.fold(0, |bits, is_there| bits << 1 | u32::from(is_there));
        Self {
            source: nth,
            first,
            count,
            look: look.key,
            detail: *source.detail(),
            coarser,
            time: clocked.then_some(list.time.to_bits()),
            columns,
            meshes: meshes.map(|mesh| mesh.map(|mesh| SameMesh(Arc::clone(mesh)))),
        }
    }
}

/// Whether elements of a run can be where they were, by what columns they have.
fn may_stay(list: &DrawList<'_>, run: &Run) -> bool {
    let poses = &list.sources[run.source as usize].instances.poses;
    !run.sorted && poses.velocity.is_none() && poses.age.is_none() && poses.heading.is_none()
}

/// The runs of a chunk, with the instances to skip and their number.
pub(super) fn runs_of<'l>(
    list: &'l DrawList<'_>,
    start: ChunkStart,
) -> impl Iterator<Item = (Run, u32, u32)> + Clone + use<'l> {
    let (mut left, mut skip) = (start.count, start.skip);
    list.runs[start.run as usize..].iter().map_while(move |run| {
        if left == 0 {
            return None;
        }
        let count = left.min(run.count - skip);
        left -= count;
        Some((*run, std::mem::take(&mut skip), count))
    })
}

/// Visits the columns of a population that drawing reads, as bits.
fn columns(source: &Source<'_>, mut visit: impl FnMut(&[u32])) {
    let poses = &source.instances.poses;
    let mut floats = |columns: &[&[f32]]| {
        for column in columns.iter().filter(|column| !column.is_empty()) {
            visit(bytemuck::cast_slice(column));
        }
    };
    floats(&poses.position);
    floats(poses.size.as_slice());
    floats(poses.turn.as_ref().map_or(&[], |columns| &columns[..]));
    floats(poses.curve.as_ref().map_or(&[], |columns| &columns[..]));
    floats(poses.bend.as_ref().map_or(&[], |columns| &columns[..]));
    floats(poses.tint.as_slice());
    if let Some(id) = poses.id {
        visit(id);
    }
}
