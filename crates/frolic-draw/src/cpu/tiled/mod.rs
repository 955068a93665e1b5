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
//! A camera that moves fast would need many new pictures in a frame: beyond a few, that of a step nearby, from an earlier frame, stands in for some frames.

mod shot;
mod side;

use std::cell::RefCell;
use std::collections::HashMap;
use std::hash::{DefaultHasher, Hash, Hasher};

use frolic_core::{Counter, Group, Meter};
use frolic_raster::camera::NEAR;
use frolic_raster::cells;
use frolic_raster::picture::{self, Blit, Picture};
use frolic_raster::samples::Samples;
use frolic_simd::Level;
use glam::Vec3;
use rayon::prelude::*;

use crate::bounds::Bounds;
use crate::camera::View;
use crate::instances::Groups;
use crate::light::Lighting;
use crate::list::DrawList;

use shot::{Shot, crop, frame};
use side::{HALF_TURNS, SIZES, Side, nearby, step};

/// Low bits of the detail's numbers that do not select another picture: steps of a third to a half, so that a frame budget that reduces detail
/// a little does not redraw all pictures.
const COARSER_DETAIL: u32 = 22;

/// Size of the cache in bytes, above which the least recently used pictures are dropped.
const KEPT: usize = 384 << 20;

/// Pictures that are drawn in a frame although another could stand in.
const FRESH: usize = 4;

/// Frames after the camera moved in which pictures may stand in for others. Enough for all those of a view to be drawn.
const MOVING: u64 = 60;

/// Content and viewpoint of a picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
struct GroupKey {
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
    places: HashMap<GroupKey, u32>,
    slots: Vec<Slot>,
    free: Vec<u32>,
    bytes: usize,
    frame: u64,
    light: Option<Light>,
    missing: Vec<Shot>,
    /// Number of pictures that may still be drawn in this frame although another could stand in; `None` while the camera stands and all are drawn.
    fresh: Option<usize>,
    /// The last view of the camera, and the frame in which it changed.
    view: Option<View>,
    moved: Option<u64>,
}

#[derive(Debug)]
struct Slot {
    key: GroupKey,
    /// The frames in which it was last used, and drawn.
    used: u64,
    made: u64,
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
        if sun.is_none() && self.view != Some(*view) {
            self.moved = self.view.map(|_| self.frame);
            self.view = Some(*view);
        }
        let moves = sun.is_none() && self.moved.is_some_and(|moved| self.frame < moved + MOVING);
        self.fresh = moves.then_some(FRESH);
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
            let key = GroupKey {
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
            let kept = self.places.get(&key).copied();
            let beside = if kept.is_none() && self.fresh.is_some() { self.beside(&key) } else { None };
            let slot = match (kept, beside) {
                (Some(slot), _) => slot,
                (None, Some(slot)) if self.fresh == Some(0) => slot,
                _ => {
                    if let (Some(fresh), Some(_)) = (&mut self.fresh, beside) {
                        *fresh -= 1;
                    }
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
            let taken = SIZES.powi(i32::from(sun_size.unwrap_or(self.slots[slot as usize].key.size)));
            let per = [taken / (scale * wide), taken / scale];
            let nearest = if view.level { reach - local.z } else { 1.0 / (local.z - reach).max(NEAR) };
            blits.push(Blit { slot, corner: at.to_array(), per, depth: local.z, nearest, extent: [0; 4] });
        }
    }

    /// The picture of an earlier frame of the nearest step about this one, if there is any.
    fn beside(&self, key: &GroupKey) -> Option<u32> {
        let earlier = |slot: &u32| self.slots[*slot as usize].made < self.frame;
        nearby().iter().find_map(|[turn, height, roll, size]| {
            let turn = (key.turn + turn + HALF_TURNS).rem_euclid(2 * HALF_TURNS) - HALF_TURNS;
            let (height, roll, size) = (key.height + height, key.roll + roll, key.size + size);
            self.places.get(&GroupKey { turn, height, roll, size, ..*key }).copied().filter(earlier)
        })
    }

    /// Space for a picture to be drawn.
    fn room(&mut self, key: GroupKey) -> u32 {
        let fresh = Slot { key, used: 0, made: self.frame, picture: Picture::default() };
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
