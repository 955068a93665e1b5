//! Visits the instances of a list one by one, in drawing order, with the records that the rasteriser gets of each: for diagnostics
//! of a frame.

use frolic_raster::points::Skin;
use frolic_raster::record::{Splat, key};
use frolic_simd as simd;
use glam::Vec3;

use super::project::{place, splat};
use super::record::Shapes;
use crate::camera::View;
use crate::detail::Level;
use crate::list::{Batch, DrawList, Entry};
use crate::look::{Form, Look};
use crate::vertices::{Seen, in_points};

/// Records of one instance.
#[derive(Debug)]
pub struct Instance<'a> {
    /// Of a disc.
    pub splat: Option<Splat>,
    /// Of any other shape.
    pub shapes: &'a Shapes,
    /// Its draw call.
    pub batch: usize,
    /// Its style.
    pub look: &'a Look,
    /// Its level of detail.
    pub level: Level,
}

/// The instances of a batch in drawing order.
fn in_order(list: &DrawList<'_>, view: &View, batch: &Batch) -> Vec<Entry> {
    let mut entries: Vec<Entry> = list.entries(batch).collect();
    if batch.far_to_near {
        entries.sort_by_cached_key(|entry| {
            let place = list.sources[entry.source as usize].instances.place(entry.element as usize);
            key(view.local(Vec3::from(place)).z)
        });
    }
    entries
}

/// Visits all instances in drawing order.
pub fn walk(list: &DrawList<'_>, view: &View, mut visit: impl FnMut(&Instance<'_>)) {
    let seen = Seen { list, view, camera: view, shadows: false, lit: true, spots: true, due: None };
    let (mut vertices, mut skin, mut shapes) = (Vec::new(), Skin::default(), Shapes::default());
    let lanes = simd::Level::baseline();
    for (nth, batch) in list.batches().iter().enumerate() {
        for entry in in_order(list, view, batch) {
            let source = &list.sources[entry.source as usize];
            let element = entry.element as usize;
            vertices.clear();
            shapes.clear();
            let mut instance =
                Instance { splat: None, shapes: &shapes, batch: nth, look: source.look, level: Level::Full };
            if matches!(source.look.form, Form::Disc) {
                let vertex = seen.disc(source, element);
                instance.splat = splat(&vertex, place(view, vertex.place));
                instance.level = seen.body(source, element).map_or(Level::Full, |body| body.level);
                visit(&instance);
                continue;
            }
            let level = if in_points(source.look) {
                let level = seen.skin(lanes, entry, None, &mut skin).ok();
                if let Some(level) = level {
                    shapes.add_skin(lanes, &seen, entry, level, &mut skin);
                }
                level
            } else {
                let level = seen.vertices(entry, &mut vertices);
                if level.is_some() {
                    shapes.add(list, view, entry, &vertices);
                }
                level
            };
            if let Some(level) = level {
                let shapes = &shapes;
                visit(&Instance { splat: None, shapes, batch: nth, look: source.look, level });
            }
        }
    }
}
