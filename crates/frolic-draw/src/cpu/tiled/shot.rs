//! Drawing a picture of a group: the blades of a layout one by one, into samples of its own.

use crate::camera::View;
use crate::cpu::pass::{CHUNK, ChunkStart};
use crate::cpu::project::{Projected, Scope};
use crate::cpu::style::{casting, drawing};
use crate::image::ImageSize;
use crate::instances::Instances;
use crate::light::Lighting;
use crate::list::{Batch, Break, DrawList, Run, Source, Technique};
use crate::vertices::Seen;
use frolic_core::{Group, Stage};
use frolic_raster::LANES;
use frolic_raster::colour9::{EMPTY, pack, unpack};
use frolic_raster::picture::{Blit, DEPTH_MIDDLE, Picture};
use frolic_raster::record::Outlined;
use frolic_raster::samples::{SAMPLES, Samples};
use frolic_raster::solid::{self, Visible};
use frolic_raster::tile::Grid;
use frolic_simd::Level;
use glam::{Vec2, Vec3};
use smallvec::smallvec;
use std::cell::RefCell;

use super::{GroupKey, kinds};

/// Maximum width and height of a picture, in pixels.
const MOST_SIDE: f32 = 2048.0;

/// A picture to be drawn.
#[derive(Debug, Clone, Copy)]
pub(super) struct Shot {
    pub(super) key: GroupKey,
    pub(super) slot: u32,
    /// Its view and size, about the middle of the group.
    pub(super) view: View,
    pub(super) camera: View,
    /// Depth of the middle, in metres.
    pub(super) middle: f32,
    /// Radius about the middle, in metres.
    pub(super) reach: f32,
    pub(super) most_slope: f32,
}

/// Size of a picture of a box about the origin, which is in its middle.
pub(super) fn frame(view: &View, half: Vec3) -> Option<ImageSize> {
    let mut most = Vec2::ZERO;
    for corner in 0..8 {
        let sign = |bit: i32| if corner >> bit & 1 == 0 { -1.0 } else { 1.0 };
        let d = Vec3::new(sign(0), sign(1), sign(2)) * half - view.eye;
        let depth = d.dot(view.forward);
        if depth <= view.near() {
            return None;
        }
        most = most.max(Vec2::new(d.dot(view.right), d.dot(view.up)).abs() * view.scale(depth));
    }
    let side = |half: f32| (((half + 2.0) * 2.0).min(MOST_SIDE) as u32).next_multiple_of(LANES as u32);
    ImageSize::new(side(most.x), side(most.y)).ok()
}

/// Buffers for drawing a picture, kept on each thread. Samples are empty between pictures: each empties those that it touched, which is a part of its frame.
#[derive(Debug, Default)]
struct Desk {
    projected: Projected,
    near: Vec<f32>,
    /// Nearness to the sun.
    cast: Vec<f32>,
    base: Vec<u32>,
    sun: Vec<u32>,
}

/// Columns and rows of a picture that records touch.
#[derive(Debug, Clone, Copy)]
struct Touched {
    x: [usize; 2],
    y: [usize; 2],
}

impl Touched {
    /// Those that lie in `extent`: left, top, right and bottom in pixels. With one more on each side, for what rounding loses.
    fn of([x0, y0, x1, y1]: [f32; 4], [width, height]: [usize; 2]) -> Self {
        let first = |at: f32, most: usize| ((at - 1.0).max(0.0) as usize).min(most);
        let after = |at: f32, most: usize| ((at + 2.0).max(0.0) as usize).min(most);
        let [x, y] = [[first(x0, width), after(x1, width)], [first(y0, height), after(y1, height)]];
        Self { x: [x[0], x[1].max(x[0])], y: [y[0], y[1].max(y[0])] }
    }
}

/// The samples of a picture; no colours in one from the sun.
struct Sheet<'a> {
    near: &'a mut [f32],
    base: &'a mut [u32],
    sun: &'a mut [u32],
}

/// The first of these, with empty ones added if there are too few.
fn first_of<T: Copy>(buffer: &mut Vec<T>, count: usize, empty: T) -> &mut [T] {
    if buffer.len() < count {
        buffer.resize(count, empty);
    }
    &mut buffer[..count]
}

thread_local! {
    static DESK: RefCell<Desk> = RefCell::default();
}

impl Shot {
    /// Draws the picture: the blades of the layout one by one, into samples of its own.
    pub(super) fn take(&self, level: Level, list: &DrawList<'_>) -> Picture {
        let mut desk = DESK.take();
        let picture = self.take_at(level, list, &mut desk);
        DESK.set(desk);
        picture
    }

    fn take_at(&self, level: Level, list: &DrawList<'_>, desk: &mut Desk) -> Picture {
        let from_sun = self.key.sun.is_some();
        let shaded = !from_sun && list.lighting.shadows();
        let size = self.view.size;
        let (width, height) = (size.width(), size.height());
        let per_pixel = if from_sun { 1 } else { SAMPLES };
        let Desk { projected, near, cast, base, sun } = desk;
        let count = width * height * per_pixel;
        let coloured = if from_sun { 0 } else { count };
        let empty = if from_sun { f32::NEG_INFINITY } else { 0.0 };
        let sheet = Sheet {
            near: first_of(if from_sun { cast } else { near }, count, empty),
            base: first_of(base, coloured, EMPTY),
            sun: first_of(sun, coloured, 0),
        };
        let mut extent = [f32::INFINITY, f32::INFINITY, f32::NEG_INFINITY, f32::NEG_INFINITY];
        let grid = Grid::new(size.sides(), [6, 10]);
        let mut samples = Samples {
            near: &mut *sheet.near,
            base: &mut *sheet.base,
            sun: &mut *sheet.sun,
            x: 0,
            y: 0,
            width,
            height,
            shown: [width, height],
            samples: per_pixel,
            most_slope: self.most_slope,
            ..Samples::default()
        };
        let Group { layout, .. } = self.key.group;
        for (nth, groups) in kinds(list, self.key.layouts) {
            let look = list.sources[nth].look;
            let Some(poses) = groups.layouts.poses(self.key.group) else { continue };
            let Ok(instances) = Instances::posed(poses, 0.0) else { continue };
            let (first, count) = groups.layouts.of_kind(layout, groups.kind);
            let run = Run { source: 0, first, count, sorted: false, vertices: 0 };
            let batch = Batch {
                first_run: 0,
                runs: 1,
                count,
                why: Break::First,
                layer: look.layer,
                solid: true,
                far_to_near: false,
                mixed: false,
                weighted: false,
            };
            let alone = DrawList {
                sources: smallvec![Source { instances, look }],
                batches: &[batch],
                runs: &[run],
                order: &[],
                vertices: &[],
                lighting: Lighting { lights: &[], lamps: &[], ..list.lighting },
                technique: Technique::Instanced,
                time: list.time,
            };
            let seen = Seen {
                list: &alone,
                view: &self.view,
                camera: &self.camera,
                shadows: shaded,
                lit: !from_sun,
                spots: true,
                due: None,
            };
            let scope = Scope {
                level,
                seen,
                grid: &grid,
                coarser: &[],
                stage: if from_sun { Stage::Shadow } else { Stage::Project },
            };
            let styles = [if from_sun { casting(look) } else { drawing(look, shaded) }];
            for skip in (0..count).step_by(CHUNK) {
                let start = ChunkStart { batch: 0, run: 0, skip, count: (count - skip).min(CHUNK as u32) };
                projected.chunk(&scope, start);
                let strips = projected.strips.kept.iter().map(Outlined::bounds);
                let facets = projected.facets.kept.iter().map(Outlined::bounds);
                let triangles = projected.triangles.kept.iter().map(Outlined::bounds);
                for [x0, y0, x1, y1] in strips.chain(facets).chain(triangles) {
                    let [left, top, right, bottom] = extent;
                    extent = [left.min(x0), top.min(y0), right.max(x1), bottom.max(y1)];
                }
                solid::strips(level, &mut samples, &projected.strips.kept, &styles);
                let (facets, triangles) = (&projected.facets.kept[..], &projected.triangles.kept[..]);
                solid::facets(level, &mut samples, facets, 0, &styles);
                solid::triangles(level, &mut samples, triangles, 0, &styles);
                let is_plain = triangles.is_empty() && facets.is_empty();
                if !from_sun && !is_plain {
                    // The columns that anything was drawn into.
                    let [first, after] = Touched::of(extent, [width, height]).x;
                    let visible = Visible { triangles, facets, styles: &styles };
                    solid::settle(level, &mut samples.columns(first..after), &visible, shaded);
                }
            }
        }
        let touched = Touched::of(extent, [width, height]);
        let picture = self.keep(width, height, touched, &sheet);
        for column in touched.x[0]..touched.x[1] {
            let rows = touched.y.map(|row| (column * height + row) * per_pixel);
            sheet.near[rows[0]..rows[1]].fill(empty);
            if !from_sun {
                sheet.base[rows[0]..rows[1]].fill(EMPTY);
                sheet.sun[rows[0]..rows[1]].fill(0);
            }
        }
        picture
    }

    /// The picture, from the samples.
    fn keep(&self, width: usize, height: usize, touched: Touched, sheet: &Sheet<'_>) -> Picture {
        let Sheet { near, base, sun } = sheet;
        let from_sun = self.key.sun.is_some();
        let samples = if from_sun { 1 } else { SAMPLES };
        let column = height * samples;
        let met = |at: usize| if from_sun { near[at].is_finite() } else { base[at] != EMPTY };
        // The rows of a column that are not empty.
        let span = |nth: usize| {
            let [from, to] = touched.y.map(|row| nth * column + row * samples);
            let mut of = (from..to).filter(|&at| met(at));
            let first = of.next()?;
            let last = of.next_back().unwrap_or(first);
            Some([(first - nth * column) / samples, (last - nth * column) / samples + 1])
        };
        let mut spans: Vec<Option<[usize; 2]>> = (touched.x[0]..touched.x[1]).map(span).collect();
        let (Some(first), Some(last)) =
            (spans.iter().position(Option::is_some), spans.iter().rposition(Option::is_some))
        else {
            return Picture::default();
        };
        spans.truncate(last + 1);
        spans.drain(..first);
        let left = touched.x[0] + first;
        let top = spans.iter().flatten().map(|&[first, _]| first).min().unwrap_or(0);
        let bottom = spans.iter().flatten().map(|&[_, after]| after).max().unwrap_or(0);
        let (kept_width, kept_height) = (spans.len(), bottom - top);
        let mut picture = Picture {
            frame: [width, height],
            first: [left, top],
            width: kept_width,
            height: kept_height,
            spans: Vec::with_capacity(kept_width),
            depths: Vec::with_capacity(kept_width * kept_height),
            colours: Vec::with_capacity(if from_sun { 0 } else { kept_width * kept_height }),
            // Slanting surfaces may have been biased.
            unit: (self.reach + self.most_slope) / 32_000.0,
        };
        for (nth, span) in (left..).zip(&spans) {
            picture.spans.push(span.map_or([0; 2], |rows| rows.map(|row| (row - top) as u16)));
            for row in top..bottom {
                let at = nth * column + row * samples;
                let (mut mask, mut many, mut depth) = (0, 0.0f32, 0.0);
                let (mut own, mut sunny) = (Vec3::ZERO, Vec3::ZERO);
                for sample in 0..samples {
                    if met(at + sample) {
                        mask |= 1 << sample;
                        many += 1.0;
                        if from_sun {
                            depth -= near[at];
                        } else {
                            depth += 1.0 / near[at + sample];
                            own += Vec3::from(unpack(base[at + sample]));
                            sunny += Vec3::from(unpack(sun[at + sample]));
                        }
                    }
                }
                let per = if many > 0.0 { 1.0 / many } else { 0.0 };
                let behind = if many > 0.0 { (depth * per - self.middle) / picture.unit } else { 0.0 };
                let behind = behind.clamp(-32_000.0, 32_000.0) as i32 + DEPTH_MIDDLE;
                picture.depths.push((behind as u32) << 16 | mask);
                if !from_sun {
                    picture.colours.push([pack((own * per).to_array()), pack((sunny * per).to_array())]);
                }
            }
        }
        picture
    }
}

/// Sets the part of its picture on a blit.
pub(super) fn crop(blit: &mut Blit, picture: &Picture) {
    for axis in 0..2 {
        blit.corner[axis] -= picture.frame[axis] as f32 / blit.per[axis] * 0.5;
        blit.corner[axis] += picture.first[axis] as f32 / blit.per[axis];
    }
    let last = |axis: usize, size: usize| (blit.corner[axis] + size as f32 / blit.per[axis]).ceil() as i32;
    let [left, top] = blit.corner.map(|at| at.floor() as i32);
    blit.extent = [left, last(0, picture.width), top, last(1, picture.height)];
}
