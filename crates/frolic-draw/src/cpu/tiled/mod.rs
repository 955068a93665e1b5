//! Groups of blades, drawn from cached pictures.
//!
//! ```text
//! for each square that is a group:
//!     find its picture: layout, wind state, look; direction of view and size on the screen, both in steps
//! draw missing pictures in parallel, in the way of single blades
//! for each tile, nearest group first, unless all it can touch is nearer:
//!     for each column, for each two rows:  look up both pixels, keep samples that are nearer
//! ```
//!
//! For each pixel a picture holds its covered samples, its depth relative to the middle of the group, and its colour
//! with and without the sun. So groups intersect each other, single blades and all solid elements; shadows fall on them; and the
//! same kind of picture, from the direction of the sun, casts shadows. Images with depth: Shade, Gortler, He and Szeliski, "Layered Depth Images", 1998, with one layer.
//!
//! Between steps a picture is approximate: its size on the screen is exact, but its direction is up to half a step off. Lamps do not light it.

use std::cell::RefCell;
use std::collections::HashMap;
use std::hash::{DefaultHasher, Hash, Hasher};

use frolic_core::{Counter, Group, Meter, Stage};
use frolic_raster::LANES;
use frolic_raster::camera::NEAR;
use frolic_raster::cells;
use frolic_raster::colour9::{EMPTY, pack, unpack};
use frolic_raster::picture::{self, Blit, DEPTH_MIDDLE, Picture};
use frolic_raster::samples::{SAMPLES, Samples};
use frolic_raster::solid;
use frolic_raster::tile::Grid;
use frolic_simd::Level;
use glam::{Quat, Vec2, Vec3};
use rayon::prelude::*;
use smallvec::smallvec;

use super::bin::{CHUNK, ChunkStart};
use super::project::{Projected, Scope};
use super::style::{casting, drawing};
use crate::bounds::Bounds;
use crate::camera::View;
use crate::image::ImageSize;
use crate::instances::{Groups, Instances};
use crate::light::Lighting;
use crate::list::{Batch, Break, DrawList, Run, Source, Technique};
use crate::vertices::Seen;

/// Directions of the pictures: steps in a full turn, and steps in a right angle from horizontal to straight down.
const TURNS: f32 = 36.0;
const HEIGHTS: f32 = 18.0;

/// Rolls of the picture, in a full turn.
const ROLLS: f32 = 60.0;

/// Sizes of the pictures: the ratio of one step to the one before.
const SIZES: f32 = 1.12;

/// Low bits of the detail's numbers that do not select another picture: steps of a third to a half, so that a frame budget that reduces detail
/// a little does not redraw all pictures.
const COARSER_DETAIL: u32 = 22;

/// Size of the cache in bytes, above which the least recently used pictures are dropped.
const KEPT: usize = 384 << 20;

/// Maximum width and height of a picture, in pixels.
const MOST_SIDE: f32 = 2048.0;

/// Content and viewpoint of a picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
struct Key {
    layouts: u64,
    group: Group,
    /// Looks of all kinds, and their levels of detail.
    looks: u64,
    focal: u32,
    turn: i16,
    height: i16,
    roll: i16,
    size: i16,
    /// For a picture from the sun: the steps of its size there.
    sun: Option<i16>,
}

/// Bytes of a picture.
fn bytes(picture: &Picture) -> usize {
    picture.spans.len() * size_of::<[u16; 2]>()
        + picture.depths.len() * size_of::<u32>()
        + picture.colours.len() * size_of::<[u32; 2]>()
}

/// The cache.
#[derive(Debug, Default)]
pub(super) struct Pictures {
    places: HashMap<Key, u32>,
    slots: Vec<Slot>,
    free: Vec<u32>,
    bytes: usize,
    frame: u64,
    light: Option<Light>,
    missing: Vec<Shot>,
}

#[derive(Debug)]
struct Slot {
    key: Key,
    used: u64,
    picture: Picture,
}

/// Lighting of the pictures.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Light {
    sun: Option<[f32; 8]>,
    sky: [Vec3; 3],
    per_haze: f32,
}

impl Light {
    fn of(lighting: &Lighting<'_>) -> Self {
        let (tone, per_haze) = lighting.haze;
        let sun = lighting.sun.map(|sun| {
            let [x, y, z] = lighting.towards_sun.to_array();
            let [r, g, b] = sun.colour.vec().to_array();
            [x, y, z, r, g, b, sun.power, f32::from(u8::from(lighting.shadows()))]
        });
        Self { sun, sky: [lighting.ambient, lighting.bounce, tone], per_haze }
    }
}

/// A picture to be drawn.
#[derive(Debug, Clone, Copy)]
struct Shot {
    key: Key,
    slot: u32,
    /// Its view and size, about the middle of the group.
    view: View,
    camera: View,
    /// Depth of the middle, in metres.
    middle: f32,
    /// Radius about the middle, in metres.
    reach: f32,
    most_slope: f32,
}

impl Pictures {
    /// The picture for a blit.
    pub(super) fn of(&self, blit: &Blit) -> &Picture {
        &self.slots[blit.slot as usize].picture
    }

    /// Starts a frame: drops pictures with other lighting, and the least recently used beyond the size of the cache.
    pub(super) fn start(&mut self, list: &DrawList<'_>) {
        if list.groups().next().is_none() {
            return;
        }
        let light = Light::of(&list.lighting);
        if self.light != Some(light) {
            *self = Self { light: Some(light), frame: self.frame, ..Self::default() };
        }
        self.frame += 1;
        if self.bytes > KEPT {
            let mut old: Vec<(u64, u32)> =
                self.places.values().map(|&slot| (self.slots[slot as usize].used, slot)).collect();
            old.sort_unstable();
            for (_, slot) in old {
                if self.bytes <= KEPT / 4 * 3 {
                    break;
                }
                let gone = &mut self.slots[slot as usize];
                self.bytes -= bytes(&gone.picture);
                gone.picture = Picture::default();
                self.places.remove(&gone.key);
                self.free.push(slot);
            }
        }
    }

    /// The visible groups, nearest first, each with its picture; draws missing pictures. For the view of the sun, with the camera and
    /// the maximum bias of slanting surfaces.
    pub(super) fn find(
        &mut self,
        list: &DrawList<'_>,
        view: &View,
        sun: Option<(&View, f32)>,
        level: Level,
        blits: &mut Vec<Blit>,
        meter: &mut Meter,
    ) {
        blits.clear();
        let mut drawn = 0;
        for (source, groups) in list.groups() {
            // Kinds of one population share a picture.
            let first = kinds(list, groups.layouts.key()).next().map(|(first, _)| first);
            if first == Some(source) {
                let before = blits.len();
                self.find_of(list, view, sun, &groups, blits);
                drawn += u64::from(blits.len() > before);
            }
        }
        if blits.is_empty() {
            return;
        }
        blits.sort_unstable_by(|a, b| b.nearest.total_cmp(&a.nearest).then(a.slot.cmp(&b.slot)));
        let missing = std::mem::take(&mut self.missing);
        let taken: Vec<Picture> = missing.par_iter().map(|shot| shot.take(level, list)).collect();
        for (shot, picture) in missing.iter().zip(taken) {
            self.bytes += bytes(&picture);
            self.slots[shot.slot as usize].picture = picture;
        }
        // The extent of each group is known once all pictures exist.
        for blit in blits.iter_mut() {
            crop(blit, &self.slots[blit.slot as usize].picture);
        }
        meter.add(Counter::GroupMisses, missing.len() as u64);
        meter.add(Counter::GroupHits, (blits.len() - missing.len()) as u64);
        self.missing = missing;
        self.missing.clear();
        if sun.is_none() {
            meter.add(Counter::DrawCalls, drawn);
            meter.add(Counter::Instances, blits.len() as u64);
            meter.add(Counter::GroupBytes, self.bytes as u64);
        }
    }

    fn find_of(
        &mut self,
        list: &DrawList<'_>,
        view: &View,
        sun: Option<(&View, f32)>,
        groups: &Groups<'_>,
        blits: &mut Vec<Blit>,
    ) {
        let [low, high] = groups.layouts.reach().map(Vec3::from);
        if !low.cmple(high).all() {
            return;
        }
        let (mut looks, mut margin, mut farthest) = (DefaultHasher::new(), 0.0f32, 0.0f32);
        for (nth, kind) in kinds(list, groups.layouts.key()) {
            let look = list.sources[nth].look;
            let d = look.detail;
            let thins = [d.from, d.onset, d.reach, d.edge, d.thin_below, d.coarse_below, d.density];
            (look.key, thins.map(|value| value.to_bits() >> COARSER_DETAIL)).hash(&mut looks);
            (margin, farthest) = (margin.max(kind.margin), farthest.max(d.reach));
        }
        let looks = looks.finish();
        // About the middle of the group's box.
        let (anchor, half) = ((low + high) * 0.5, (high - low) * 0.5 + margin);
        let reach = half.length();
        let camera = sun.map_or(view, |(camera, _)| camera);
        let most_slope = sun.map_or(0.0, |(_, most)| most);
        for placed in groups.placed {
            let middle = Vec3::from(placed.middle) + anchor;
            let bounds = Bounds { low: (middle - half).to_array(), high: (middle + half).to_array() };
            if bounds.distance(camera.eye) > farthest || !view.sees(&bounds) {
                continue;
            }
            let Some(side) = Side::of(camera, middle) else { continue };
            // The sun has one direction for all groups; the camera decides their detail.
            let side = if view.level { side.thinned_only() } else { side };
            let local = view.local(middle);
            if local.z <= view.near() {
                continue;
            }
            let scale = view.scale(local.z);
            let sun_size = view.level.then(|| step(scale));
            let key = Key {
                layouts: groups.layouts.key(),
                group: placed.group,
                looks,
                focal: camera.focal.to_bits(),
                turn: side.turn,
                height: side.height,
                roll: side.roll,
                size: side.size,
                sun: sun_size,
            };
            let slot = match self.places.get(&key) {
                Some(&slot) => slot,
                None => {
                    let camera = side.view(camera);
                    let own = match sun_size {
                        Some(size) => {
                            let away = view.forward * (reach * 2.0 + 1.0);
                            View { eye: -away, focal: SIZES.powi(i32::from(size)), ..*view }
                        }
                        None => camera,
                    };
                    let Some(size) = frame(&own, half) else { continue };
                    let slot = self.room(key);
                    self.missing.push(Shot {
                        key,
                        slot,
                        view: View { size, eye: own.eye + anchor, ..own },
                        camera: View { eye: camera.eye + anchor, ..camera },
                        middle: own.eye.dot(own.forward).abs(),
                        reach,
                        most_slope,
                    });
                    slot
                }
            };
            self.slots[slot as usize].used = self.frame;
            let at = view.screen(local);
            // Perspective stretches shapes away from the middle of the picture, as on any plane that is not perpendicular to the ray.
            let wide = if view.level { 1.0 } else { local.x.hypot(local.z) / local.z };
            let taken = SIZES.powi(i32::from(sun_size.unwrap_or(side.size)));
            let per = [taken / (scale * wide), taken / scale];
            let nearest = if view.level { reach - local.z } else { 1.0 / (local.z - reach).max(NEAR) };
            blits.push(Blit { slot, corner: at.to_array(), per, depth: local.z, nearest, extent: [0; 4] });
        }
    }

    /// Space for a picture to be drawn.
    fn room(&mut self, key: Key) -> u32 {
        let fresh = Slot { key, used: 0, picture: Picture::default() };
        let slot = match self.free.pop() {
            Some(slot) => {
                self.slots[slot as usize] = fresh;
                slot
            }
            None => {
                self.slots.push(fresh);
                self.slots.len() as u32 - 1
            }
        };
        self.places.insert(key, slot);
        slot
    }

    pub(super) fn bytes(&self) -> usize {
        self.bytes
    }
}

/// The sources of a list with these layouts, one for each kind.
fn kinds<'b, 'l>(
    list: &'b DrawList<'l>,
    layouts: u64,
) -> impl Iterator<Item = (usize, Groups<'l>)> + use<'b, 'l> {
    list.groups().filter(move |(_, groups)| groups.layouts.key() == layouts)
}

/// Step of a size.
fn step(scale: f32) -> i16 {
    (libm::logf(scale) / libm::logf(SIZES)).round() as i16
}

/// Direction of view, in steps.
#[derive(Debug, Clone, Copy)]
struct Side {
    turn: i16,
    height: i16,
    roll: i16,
    size: i16,
}

impl Side {
    /// `None` for points that are not in front of the camera.
    fn of(camera: &View, middle: Vec3) -> Option<Self> {
        let local = camera.local(middle);
        // Groups beside the view can still cast a shadow into the picture.
        let depth = local.z.abs().max(local.length() * 0.25);
        let towards = (middle - camera.eye).try_normalize()?;
        let turn = libm::atan2f(towards.x, towards.z) * (TURNS / std::f32::consts::TAU);
        let height = libm::asinf(towards.y.clamp(-1.0, 1.0)) * (HEIGHTS / std::f32::consts::FRAC_PI_2);
        // Direction of vertical lines in the picture at that point.
        let up = Vec2::new(camera.right.y, camera.up.y)
            - Vec2::new(local.x, local.y) / depth * camera.forward.y * f32::from(u8::from(local.z > 0.0));
        let roll = libm::atan2f(up.x, up.y) * (ROLLS / std::f32::consts::TAU);
        Some(Self {
            turn: turn.round() as i16,
            height: height.round() as i16,
            roll: if up.length_squared() > 1e-3 { roll.round() as i16 } else { 0 },
            // Between its width and its height on the screen.
            size: step(camera.focal / depth * (local.x.hypot(depth) / depth).sqrt()),
        })
    }

    /// The size alone, in coarser steps.
    fn thinned_only(self) -> Self {
        const COARSER: i16 = 4;
        Self { turn: 0, height: 0, roll: 0, size: self.size.div_euclid(COARSER) * COARSER }
    }

    /// A view like that of the camera, of the origin from this direction, without a picture size.
    fn view(self, camera: &View) -> View {
        let turn = f32::from(self.turn) * (std::f32::consts::TAU / TURNS);
        let height = f32::from(self.height) * (std::f32::consts::FRAC_PI_2 / HEIGHTS);
        let (sin, cos) = libm::sincosf(turn);
        let (rise, level) = libm::sincosf(height);
        let forward = Vec3::new(sin * level, rise, cos * level);
        let right = Vec3::new(-cos, 0.0, sin);
        // Rolled about the ray, so that vertical lines have the same slant as there.
        let roll = Quat::from_axis_angle(-forward, f32::from(self.roll) * (std::f32::consts::TAU / ROLLS));
        let (right, up) = (roll * right, roll * right.cross(forward));
        let eye = forward * -(camera.focal / SIZES.powi(i32::from(self.size)));
        View { eye, right, up, forward, ..*camera }
    }
}

/// Size of a picture of a box about the origin, which is in its middle.
fn frame(view: &View, half: Vec3) -> Option<ImageSize> {
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

/// Buffers for drawing a picture, kept on each thread.
#[derive(Debug, Default)]
struct Desk {
    projected: Projected,
    near: Vec<f32>,
    base: Vec<u32>,
    sun: Vec<u32>,
}

thread_local! {
    static DESK: RefCell<Desk> = RefCell::default();
}

impl Shot {
    /// Draws the picture: the blades of the layout one by one, into samples of its own.
    fn take(&self, level: Level, list: &DrawList<'_>) -> Picture {
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
        let Desk { projected, near, base, sun } = desk;
        near.clear();
        near.resize(width * height * per_pixel, if from_sun { f32::NEG_INFINITY } else { 0.0 });
        let coloured = if from_sun { 0 } else { near.len() };
        base.clear();
        base.resize(coloured, EMPTY);
        sun.clear();
        sun.resize(coloured, 0);
        let grid = Grid::new(size.sides(), [6, 10]);
        let mut samples = Samples {
            near: &mut near[..],
            base: &mut base[..],
            sun: &mut sun[..],
            x: 0,
            y: 0,
            width,
            height,
            samples: per_pixel,
            spans: Default::default(),
            most_slope: self.most_slope,
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
            let seen = Seen { list: &alone, view: &self.view, camera: &self.camera, shadows: shaded };
            let scope = Scope {
                level,
                seen,
                grid: &grid,
                stage: if from_sun { Stage::Shadow } else { Stage::Project },
            };
            let styles = [if from_sun { casting(look) } else { drawing(look, shaded) }];
            for skip in (0..count).step_by(CHUNK) {
                let start = ChunkStart { batch: 0, run: 0, skip, count: (count - skip).min(CHUNK as u32) };
                projected.chunk(&scope, start);
                solid::strips(level, &mut samples, &projected.strips.kept, &styles);
                solid::facets(level, &mut samples, &projected.facets.kept, &styles);
            }
        }
        self.keep(width, height, near, base, sun)
    }

    /// The picture, from the samples.
    fn keep(&self, width: usize, height: usize, near: &[f32], base: &[u32], sun: &[u32]) -> Picture {
        let from_sun = self.key.sun.is_some();
        let samples = if from_sun { 1 } else { SAMPLES };
        let column = height * samples;
        let met = |at: usize| if from_sun { near[at].is_finite() } else { base[at] != EMPTY };
        // The rows of a column that are not empty.
        let span = |nth: usize| {
            let mut of = (nth * column..(nth + 1) * column).filter(|&at| met(at));
            let first = of.next()?;
            let last = of.next_back().unwrap_or(first);
            Some([(first - nth * column) / samples, (last - nth * column) / samples + 1])
        };
        let spans: Vec<Option<[usize; 2]>> = (0..width).map(span).collect();
        let (Some(left), Some(last)) =
            (spans.iter().position(Option::is_some), spans.iter().rposition(Option::is_some))
        else {
            return Picture::default();
        };
        let top = spans.iter().flatten().map(|&[first, _]| first).min().unwrap_or(0);
        let bottom = spans.iter().flatten().map(|&[_, after]| after).max().unwrap_or(0);
        let (kept_width, kept_height) = (last + 1 - left, bottom - top);
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
        for (nth, span) in spans.iter().enumerate().take(last + 1).skip(left) {
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
fn crop(blit: &mut Blit, picture: &Picture) {
    for axis in 0..2 {
        blit.corner[axis] -= picture.frame[axis] as f32 / blit.per[axis] * 0.5;
        blit.corner[axis] += picture.first[axis] as f32 / blit.per[axis];
    }
    let last = |axis: usize, size: usize| (blit.corner[axis] + size as f32 / blit.per[axis]).ceil() as i32;
    let [left, top] = blit.corner.map(|at| at.floor() as i32);
    blit.extent = [left, last(0, picture.width), top, last(1, picture.height)];
}

/// Number of groups drawn between updates of the cells.
const PATIENCE: usize = 4;

thread_local! {
    static CELLS: RefCell<Vec<f32>> = const { RefCell::new(Vec::new()) };
}

/// Draws groups, nearest first, into a tile.
pub(super) fn draw_groups(level: Level, samples: &mut Samples<'_>, pictures: &Pictures, blits: &[Blit]) {
    if blits.is_empty() {
        return;
    }
    let mut cells = CELLS.take();
    cells::note(level, samples, &mut cells);
    let place = [samples.x, samples.y, samples.width as i32, samples.height as i32];
    let mut drawn = 0;
    for blit in blits {
        let Some(columns) = blit.columns(place) else { continue };
        let [i0, i1, j0, j1] = blit.extent.map(|at| at as f32);
        if cells::hides(samples, &cells, [i0, j0, i1 + 1.0, j1 + 1.0], blit.nearest) {
            continue;
        }
        let picture = pictures.of(blit);
        if !picture.depths.is_empty() {
            picture::draw(level, samples, picture, blit, columns);
        }
        drawn += 1;
        if drawn % PATIENCE == 0 {
            cells::note(level, samples, &mut cells);
        }
    }
    CELLS.set(cells);
}
