//! Transparent elements that a tile draws by themselves and lays over its picture: large ones at a lower resolution, and those mixed by weights.

use std::cell::RefCell;

use frolic_raster::discs::SMALLEST;
use frolic_raster::overlay::{Depths, Overlay, Under, lay, lay_alike, mix};
use frolic_raster::tile::{Row, STRIDE};
use frolic_simd::Level;
use glam::Vec3;
use smallvec::SmallVec;

use super::pass::Rule;
use crate::camera::View;
use crate::list::{DrawList, Source};
use crate::look::{Blend, Form, Resolution};

thread_local! {
    /// Half and quarter of a tile.
    static PARTS: RefCell<[Overlay; 2]> = RefCell::default();
}

/// Elements of a population that are measured, at most.
const MEASURED: usize = 256;

/// Times that elements cover the picture from which on a lower resolution is worth it.
const WORTH: f32 = 2.0;

/// Radius in pixels that three of four elements must have for half the resolution, and for a quarter.
const LARGE: [f32; 2] = [12.0, 48.0];

/// Pixels for each texel from which on a texture loses nothing at half the resolution.
const TEXTURED: f32 = 4.0;

/// Pixels of the picture that an element reaches farther than its own edge, for a logarithm of the pixels across one of a part: to the middle of the
/// next pixel of the part, or as far as the smallest disc of it.
pub(super) fn margin(log2: u8) -> f32 {
    if log2 == 0 { 0.0 } else { (1.5 + SMALLEST) * (1u32 << log2) as f32 }
}

/// For each source, the logarithm of the pixels of the picture across one that its elements are drawn in.
pub(super) fn resolutions(list: &DrawList<'_>, view: &View) -> SmallVec<[u8; 32]> {
    let mut own: SmallVec<[u8; 32]> = list.sources.iter().map(|source| resolution(source, view)).collect();
    // Laid over the picture as a whole, no element of another population can be between.
    for batch in list.batches().iter().filter(|batch| batch.mixed) {
        list.runs(batch).iter().for_each(|run| own[run.source as usize] = 0);
    }
    // Those of one look share draw calls, so they take the finest.
    let look = |nth: usize| list.sources[nth].look.key;
    let mut finest: SmallVec<[(u64, u8); 32]> =
        own.iter().enumerate().map(|(nth, own)| (look(nth), *own)).collect();
    finest.sort_unstable();
    for (nth, own) in own.iter_mut().enumerate().filter(|(_, own)| **own > 0) {
        let first = finest.partition_point(|(key, _)| *key < look(nth));
        *own = finest.get(first).map_or(0, |(_, own)| *own);
    }
    own
}

fn resolution(source: &Source<'_>, view: &View) -> u8 {
    let look = source.look;
    let is_soft = matches!(look.blend, Blend::Alpha | Blend::Additive)
        && matches!(look.form, Form::Disc | Form::Billboard { .. });
    match look.resolution {
        _ if !is_soft => 0,
        Resolution::Full => 0,
        Resolution::Half => 1,
        Resolution::Quarter => 2,
        Resolution::Auto => by_size(source, view),
    }
}

/// By the size of some elements on the screen.
fn by_size(source: &Source<'_>, view: &View) -> u8 {
    let (instances, look) = (&source.instances, source.look);
    let count = instances.len();
    let step = count.div_ceil(MEASURED).max(1);
    let [wide, high] = view.size().sides().map(|side| side as f32);
    let mut radii: SmallVec<[f32; MEASURED]> = SmallVec::new();
    let mut area = 0.0;
    for element in (0..count).step_by(step) {
        let age = instances.age(element);
        if !(0.0..1.0).contains(&age) {
            continue;
        }
        let at = view.local(Vec3::from(instances.place(element)));
        let scale = view.scale(at.z);
        let radius = instances.size(element) * look.at(age).size * scale;
        let aside = [at.x.abs() * scale - wide * 0.5, at.y.abs() * scale - high * 0.5];
        let seen = at.z > view.near() && radius > 0.0 && aside[0] < radius && aside[1] < radius;
        if seen {
            area += (radius * radius * std::f32::consts::PI).min(wide * high) * step as f32;
            radii.push(radius);
        }
    }
    if radii.is_empty() || area < wide * high * WORTH {
        return 0;
    }
    let quarter = radii.len() / 4;
    let mut radius = *radii.select_nth_unstable_by(quarter, f32::total_cmp).1;
    if let Form::Billboard { sheet, .. } = &look.form {
        // What a texture shows must not get lost: as if it were as much smaller as it has texels for its pixels.
        let texels = look.atlas.textures().region(sheet.frame(0)).map_or(0, |region| region.w.max(region.h));
        radius *= (2.0 * radius / texels.max(1) as f32 / TEXTURED).min(1.0);
    }
    LARGE.iter().filter(|least| radius >= **least).count() as u8
}

/// A tile that a part is laid over.
pub(super) struct Below<'a> {
    pub(super) level: Level,
    pub(super) rows: &'a mut [Row],
    pub(super) depth: &'a [[f32; STRIDE]],
    /// First column and row.
    pub(super) at: [i32; 2],
    pub(super) width: usize,
    /// Depths of all tiles.
    pub(super) depths: Depths<'a>,
}

/// Draws a part by itself, and lays it over the tile.
pub(super) fn draw(below: Below<'_>, rule: Rule, draw: impl FnOnce(&mut Overlay)) {
    let Below { level, rows, depth, at: [x, y], width, depths } = below;
    let Rule { coarser, weighted, covers, .. } = rule;
    let picture = [depths.grid.width, depths.grid.height];
    let draw = |into: &mut Overlay| {
        if weighted {
            into.weigh();
        }
        draw(into);
        if weighted {
            mix(level, into);
        }
    };
    let mut parts = PARTS.take();
    let [half, quarter] = &mut parts;
    if coarser == 0 {
        half.open_full([x, y], width, depth);
        draw(half);
        lay_alike(level, half, rows);
        return PARTS.set(parts);
    }
    half.open(depths, 1, [x, y], [0, width], rows.len());
    if coarser > 1 {
        quarter.open(depths, 2, [half.x, half.y], half.columns, half.rows.len());
        draw(quarter);
        quarter.repeat_edges(picture);
        let Overlay { rows, left, depth, x, y, columns, .. } = &mut *half;
        let mut under = Under { rows, left, depth, x: *x, y: *y, columns: *columns };
        lay(level, quarter, &mut under, covers);
    } else {
        draw(half);
    }
    half.repeat_edges(picture);
    lay(level, half, &mut Under { rows, left: &mut [], depth, x, y, columns: [0, width] }, covers);
    PARTS.set(parts);
}
