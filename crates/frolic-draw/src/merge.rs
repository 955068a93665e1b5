//! All vertices of a list in one buffer, for the technique `batched`.

use std::cell::RefCell;

use frolic_core::{Stage, trace};
use frolic_raster::points::Skin;
use frolic_simd as simd;
use rayon::prelude::*;

use crate::camera::View;
use crate::list::{DrawList, Run, Vertex};
use crate::look::Form;
use crate::room;
use crate::vertices::{CORNERS, Seen, in_points, store_skin, stride};

/// Elements a part of what is merged in parallel.
const PART: usize = 1024;

/// Writes finished vertices in drawing order, and the first vertex of each run. Returns their number; the buffer may be longer.
fn vertices_of(list: &DrawList<'_>, runs: &mut [Run], view: &View, vertices: &mut Vec<Vertex>) -> usize {
    let mut needed = 0;
    for run in runs.iter_mut() {
        run.vertices = needed as u32;
        needed += run.count as usize * stride(list.sources[run.source as usize].look);
    }
    room::at_least(vertices, needed);
    let seen = Seen {
        list,
        view,
        camera: view,
        shadows: list.lighting.shadows(),
        lit: true,
        spots: false,
        due: None,
    };
    let level = simd::detect();
    let mut left = &mut vertices[..needed];
    for run in runs.iter() {
        let each = stride(list.sources[run.source as usize].look);
        let (mine, rest) = left.split_at_mut(run.count as usize * each);
        left = rest;
        mine.par_chunks_mut(each * PART).enumerate().for_each(|(part, vertices)| {
            let _part = trace::part(Stage::Batch);
            MERGED.with_borrow_mut(|(finished, skin)| {
                for (nth, vertices) in vertices.chunks_mut(each).enumerate() {
                    let entry = list.entry(run, run.first + (part * PART + nth) as u32);
                    let source = &list.sources[entry.source as usize];
                    if matches!(source.look.form, Form::Disc) {
                        let vertex = seen.disc(source, entry.element as usize);
                        for (into, [u, v]) in vertices.iter_mut().zip(CORNERS) {
                            *into = Vertex { corner: [u * 2.0 - 1.0, v * 2.0 - 1.0], ..vertex };
                        }
                        continue;
                    }
                    vertices.fill(Vertex::default());
                    if in_points(source.look) {
                        if seen.skin(level, entry, None, skin).is_ok() {
                            store_skin(source.look, skin, vertices);
                        }
                        continue;
                    }
                    finished.clear();
                    seen.vertices(entry, finished);
                    vertices[..finished.len()].copy_from_slice(finished);
                }
            });
        });
    }
    needed
}

thread_local! {
    static MERGED: RefCell<(Vec<Vertex>, Skin)> = RefCell::default();
}

impl<'l> DrawList<'l> {
    /// Finishes the vertices of these runs in drawing order, and sets the first vertex of each run.
    pub fn merge(&mut self, runs: &mut [Run], view: &View, vertices: &'l mut Vec<Vertex>) {
        let count = vertices_of(self, runs, view, vertices);
        self.vertices = &vertices[..count];
    }
}
