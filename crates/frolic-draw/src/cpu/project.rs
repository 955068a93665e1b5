//! From instances to records: what each is on the screen.
//!
//! Cards, sprites and meshes go one by one. Discs and ribbons are most of what there is, and go eight at a time.
//!
//! A disc covers a pixel whose centre is at distance d from its middle by `(1 - d²/R²)²`, and not at all beyond the
//! radius R: round at every size, without an edge. R is at least [`SMALLEST`] pixels; below that the light is
//! scaled so that its sum stays, and a distant ember fades and does not twinkle.
//!
//! The formulas stand twice: for one element ([`Seen::disc`], [`place`], [`splat`], [`Dot::new`]), as vertices and the reference need them, and
//! for eight at a time ([`Block`]). Both do the same operations in the same order, so the bits are the same;
//! `tests/techniques.rs` holds that.

use std::ops::Range;

use fearless_simd::prelude::*;
use fearless_simd::{f32x8, i32x8, mask32x8, u32x8};
use glam::Vec3;

use super::bin::{CHUNK, MANY, Tally};
use super::record::{Dot, FARTHEST, Facet, HALF_STEP, Label, Outlined, Quad, Record, Shapes, Splat, Strip};
use super::tile::{Grid, LANES, Tiles};
use crate::camera::{NEAR, View};
use crate::detail::{Level, dice};
use crate::light::Lighting;
use crate::list::{DrawList, Run, Vertex};
use crate::look::{Blend, Form, Look, RibbonSpec};
use crate::room;
use crate::skin::Skin;
use crate::vertices::{Missing, Seen, Sheaf, a_point, in_points, load_skin, stride, triangles};

/// Smallest radius that is filled, pixels. The sum over pixel centres then varies by at most 4 % with the sub-pixel
/// place (`tests/billboards.rs` measures it).
pub const SMALLEST: f32 = 1.5;

/// Depth over which what comes close to the camera fades, m.
pub const NEAR_FADE: f32 = 0.5;

/// Where a point is on the screen: x, y, depth, and pixels a metre there.
#[inline(always)]
pub(super) fn place(view: &View, [x, y, z]: [f32; 3]) -> [f32; 4] {
    let (dx, dy, dz) = (x - view.eye.x, y - view.eye.y, z - view.eye.z);
    let along = |axis: Vec3| dx * axis.x + dy * axis.y + dz * axis.z;
    let depth = along(view.forward);
    let scale = view.scale(depth);
    let [cx, cy] = view.middle();
    [cx + along(view.right) * scale, cy - along(view.up) * scale, depth, scale]
}

/// The splat of a shaded element, if any of it can be seen.
#[inline(always)]
pub(super) fn splat(vertex: &Vertex, [x, y, depth, scale]: [f32; 4]) -> Option<Splat> {
    let wanted = vertex.radius * scale;
    // Written so that what is not a number is not seen.
    let seen = depth > NEAR && wanted > 0.0 && wanted < LARGEST;
    if !seen {
        return None;
    }
    let radius = wanted.max(SMALLEST);
    let share = wanted / radius;
    let weight = share * share * ((depth - NEAR) * (1.0 / NEAR_FADE)).min(1.0);
    let [r, g, b] = vertex.colour;
    let light = [r * weight, g * weight, b * weight];
    let cover = vertex.opacity * weight;
    let strength = light[0] + light[1] + light[2] + cover;
    (strength > 0.0 && strength < f32::INFINITY).then_some(Splat { x, y, radius, depth, light, cover })
}

/// Radius in pixels beyond which nothing is drawn: its arithmetic would overflow.
const LARGEST: f32 = 1e9;

/// What projecting a chunk needs to know.
pub(super) struct Scope<'a, 'l> {
    pub(super) seen: Seen<'a, 'l>,
    pub(super) grid: &'a Grid,
    /// What records are tagged with, and whether only what casts shadows counts.
    pub(super) tag: Tag,
}

/// What a record's tag tells.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Tag {
    Source,
    /// For a diagnostic: the draw call.
    Batch,
    /// For a diagnostic: how much of the element is drawn.
    Detail,
}

/// Room that chunks of a list may need, other than for discs.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct Need {
    /// Records of a chunk.
    quads: usize,
    facets: usize,
    strips: usize,
    /// Triangles and vertices of one instance.
    triangles: usize,
    vertices: usize,
    /// Tiles of the picture or of the shadow map, whichever has more.
    tiles: usize,
}

impl Need {
    /// What a list may need on a picture or map of so many tiles, and what was needed before.
    pub(super) fn of(list: &DrawList<'_>, tiles: usize, before: Self) -> Self {
        /// More records than this are made room for when they come.
        const MOST: usize = 1 << 16;
        let mut need = Self::default();
        for source in &list.sources {
            let (look, count) = (source.look, source.instances.len().min(CHUNK));
            let each = triangles(look, Level::Full).max(triangles(look, Level::Coarse));
            match look.form {
                Form::Disc => {}
                Form::Ribbon(_) => need.strips += count * each.div_ceil(2),
                Form::Card { .. } | Form::Sprite { .. } if !look.solid => need.quads += count,
                Form::Mesh { .. } | Form::Card { .. } | Form::Sprite { .. } => need.facets += count * each,
            }
            // Cut at the camera a triangle becomes two.
            need.triangles = need.triangles.max(each * 2);
            need.vertices = need.vertices.max(stride(look));
        }
        Self {
            quads: need.quads.next_power_of_two().min(MOST).max(before.quads),
            facets: need.facets.next_power_of_two().min(MOST).max(before.facets),
            strips: need.strips.next_power_of_two().min(MOST).max(before.strips),
            triangles: need.triangles.max(before.triangles),
            vertices: need.vertices.max(before.vertices),
            tiles: tiles.max(before.tiles),
        }
    }
}

/// Records of one chunk with the tiles that each touches, and what was counted on the way.
#[derive(Debug, Default)]
pub(super) struct Projected {
    pub(super) dots: Queue<Dot>,
    pub(super) quads: Queue<Quad>,
    pub(super) facets: Queue<Facet>,
    pub(super) strips: Queue<Strip>,
    pub(super) tally: Tally,
    /// Instances kept so far: the rank of the next.
    rank: u16,
    shapes: Shapes,
    skin: Skin,
    vertices: Vec<Vertex>,
    block: Block,
}

impl Projected {
    /// Makes room at once, as any chunk may come to this thread.
    pub(super) fn make_room(&mut self, need: &Need) {
        self.clear();
        self.shapes.clear();
        self.vertices.clear();
        self.dots.make_room(CHUNK, need.tiles);
        self.quads.make_room(need.quads, need.tiles);
        self.facets.make_room(need.facets, need.tiles);
        self.strips.make_room(need.strips, need.tiles);
        room::for_more(&mut self.shapes.facets, need.triangles);
        room::for_more(&mut self.shapes.strips, need.triangles);
        room::for_more(&mut self.vertices, need.vertices);
        self.skin.start(need.vertices, 0);
        self.skin.start(RibbonSpec::MOST_SEGMENTS as usize + 1, 1);
    }

    pub(super) fn clear(&mut self) {
        self.dots.clear();
        self.quads.clear();
        self.facets.clear();
        self.strips.clear();
        self.tally = Tally::default();
        self.rank = 0;
    }

    /// Projects `count` instances of a run from `skip` on, in the list's order.
    #[inline(always)]
    pub(super) fn run<S: Simd>(
        &mut self,
        simd: S,
        scope: &Scope<'_, '_>,
        batch: u32,
        run: &Run,
        skip: u32,
        count: u32,
    ) {
        let list = scope.seen.list;
        let tag = if scope.tag == Tag::Batch { batch as u16 } else { run.source as u16 };
        let which = &list.sources[run.source as usize];
        match which.look.form {
            Form::Disc => {}
            Form::Ribbon(_) if list.vertices.is_empty() => {
                return self.ribbons(simd, scope, tag, run, skip..skip + count);
            }
            _ => return self.shapes(simd, scope, tag, run, skip, count),
        }
        if !list.vertices.is_empty() {
            let quads = &list.vertices[(run.vertices + skip * 4) as usize..][..count as usize * 4];
            return self.merged(quads, scope, tag);
        }
        let mut done = 0;
        while done < count as usize {
            let n = BLOCK.min(count as usize - done);
            let varies = which.look.detail.is_active() || which.look.is_tinted();
            self.block.load(list, run, skip as usize + done, n, varies);
            // A sorted run may span sources, all of one look.
            self.block.place(simd, scope.seen.view, n);
            self.block.look_up(which.look, n);
            if varies {
                self.tally.thinned += self.block.vary(scope.seen.camera, which.look, n);
            }
            self.block.finish(simd, scope.seen.view, scope.grid, which.look, &list.lighting, n);
            self.collect(scope.grid, tag, scope.tag, n);
            done += n;
        }
    }

    /// Keeps what of the block is seen.
    #[inline(always)]
    fn collect(&mut self, grid: &Grid, tag: u16, tagged: Tag, n: usize) {
        let Self { block, dots, tally, .. } = self;
        // In registers, not in memory.
        let (mut rank, mut pixels) = (self.rank, 0);
        let mut room = dots.open(n, grid);
        for i in 0..n {
            if block.seen[i] == 0 {
                continue;
            }
            let tag = if tagged == Tag::Detail { block.level[i] } else { tag };
            let dot = Dot { label: Label { rank, tag }, ..block.dots[i] };
            rank += 1;
            room.push(dot, Place(block.tile[i] as u32), || {
                Tiles::new(block.x0[i], block.x1[i], block.y0[i], block.y1[i])
            });
            pixels += block.pixels[i] as u64;
        }
        room.close();
        let kept = u64::from(rank - self.rank);
        self.rank = rank;
        tally.culled += n as u64 - kept;
        tally.pixels += pixels;
        tally.triangles += 2 * kept;
        tally.vertices += 4 * n as u64;
    }

    /// Discs from merged vertices: each of the four is projected, and bounds what it belongs to.
    fn merged(&mut self, vertices: &[Vertex], scope: &Scope<'_, '_>, tag: u16) {
        let (quads, _) = vertices.as_chunks::<4>();
        for quad in quads {
            let mut placed = [[0.0; 4]; 4];
            for corner in 0..4 {
                placed[corner] = place(scope.seen.view, quad[corner].place);
            }
            self.tally.vertices += 4;
            let splat = splat(&quad[0], placed[0]);
            let cover = splat.and_then(|splat| {
                let mut bounds = [f32::INFINITY, f32::INFINITY, f32::NEG_INFINITY, f32::NEG_INFINITY];
                for corner in 0..4 {
                    let x = placed[corner][0] + quad[corner].corner[0] * splat.radius;
                    let y = placed[corner][1] + quad[corner].corner[1] * splat.radius;
                    bounds = [bounds[0].min(x), bounds[1].min(y), bounds[2].max(x), bounds[3].max(y)];
                }
                Some((splat, scope.grid.cover(bounds)?))
            });
            match cover {
                Some((splat, (tiles, pixels))) => {
                    let label = Label { rank: self.rank, tag };
                    self.rank += 1;
                    self.dots.push(Dot::new(&splat, label), tiles, scope.grid);
                    self.tally.pixels += pixels;
                    self.tally.triangles += 2;
                }
                None => self.tally.culled += 1,
            }
        }
    }

    /// Ribbons, eight side by side.
    #[inline(always)]
    fn ribbons<S: Simd>(
        &mut self,
        simd: S,
        scope: &Scope<'_, '_>,
        tag: u16,
        run: &Run,
        mut range: Range<u32>,
    ) {
        let list = scope.seen.list;
        while !range.is_empty() {
            let mut sheaf = Sheaf::default();
            let look = list.sources[list.entry(run, run.first + range.start).source as usize].look;
            while !range.is_empty() {
                let entry = list.entry(run, run.first + range.start);
                let source = &list.sources[entry.source as usize];
                if let Some(body) = scope.seen.sized_body(source, entry.element as usize) {
                    if !sheaf.takes(body.level) {
                        break;
                    }
                    sheaf.add(&scope.seen, entry, &body);
                } else {
                    self.tally.culled += 1;
                    self.tally.thinned += u64::from(look.detail.is_active());
                }
                range.start += 1;
            }
            if sheaf.len == 0 {
                continue;
            }
            scope.seen.ribbons(simd, look, &sheaf, &mut self.skin);
            self.shapes.start_ribbons(simd, scope.seen.view, &mut self.skin);
            for ribbon in 0..sheaf.len {
                self.shapes.strips.clear();
                let depth = sheaf.order_depth[ribbon];
                self.shapes.add_ribbon(simd, scope.seen.view, &self.skin, ribbon, depth);
                let level = sheaf.levels[ribbon];
                let tag = if scope.tag == Tag::Detail { level as u16 } else { tag };
                let label = Label { rank: self.rank, tag };
                self.tally.vertices += (self.skin.len * a_point(look)) as u64;
                let seen = keep(&self.shapes.strips, &mut self.strips, scope.grid, label, &mut self.tally);
                self.count(seen, look, level);
            }
        }
    }

    /// Counts an instance that is seen or not.
    #[inline(always)]
    fn count(&mut self, seen: bool, look: &Look, level: Level) {
        if seen {
            self.rank += 1;
            self.tally.coarse += u64::from(level == Level::Coarse);
            self.tally.triangles += triangles(look, level) as u64;
        } else {
            self.tally.culled += 1;
        }
    }

    /// Instances of every other shape, one after the other.
    #[inline(always)]
    fn shapes<S: Simd>(
        &mut self,
        simd: S,
        scope: &Scope<'_, '_>,
        tag: u16,
        run: &Run,
        skip: u32,
        count: u32,
    ) {
        let list = scope.seen.list;
        for at in skip..skip + count {
            let entry = list.entry(run, run.first + at);
            let look = list.sources[entry.source as usize].look;
            let in_points = in_points(look);
            self.vertices.clear();
            // Merged cards face the camera; the sun sees them face itself.
            let turned = scope.seen.view.level && matches!(look.form, Form::Card { .. });
            let mut out_of_sight = false;
            let level = if !list.vertices.is_empty() && !turned {
                // Merged vertices are there if it is; how many, its level says.
                let source = &list.sources[entry.source as usize];
                let level = match look.form {
                    Form::Sprite { .. } => Some(Level::Full),
                    _ => scope.seen.body(source, entry.element as usize).map(|body| body.level),
                };
                let stride = stride(look);
                let first = run.vertices as usize + at as usize * stride;
                self.vertices.extend_from_slice(&list.vertices[first..][..stride]);
                let level = level.filter(|_| self.vertices[0] != Vertex::default());
                if in_points && let Some(level) = level {
                    load_skin(look, level, &self.vertices, &mut self.skin);
                }
                level
            } else if in_points {
                let found = scope.seen.skin(simd, entry, Some(scope.seen.view), &mut self.skin);
                out_of_sight = found == Err(Missing::OutOfSight);
                found.ok()
            } else {
                scope.seen.vertices(entry, &mut self.vertices)
            };
            self.shapes.clear();
            let Some(level) = level else {
                self.tally.culled += 1;
                self.tally.thinned += u64::from(look.detail.is_active() && !out_of_sight);
                continue;
            };
            if in_points {
                self.tally.vertices += (self.skin.len * a_point(look)) as u64;
                self.shapes.add_skin(simd, list, scope.seen.view, entry, level, &mut self.skin);
            } else {
                self.tally.vertices += self.vertices.len() as u64;
                self.shapes.add(list, scope.seen.view, entry, &self.vertices);
            }
            let tag = if scope.tag == Tag::Detail { level as u16 } else { tag };
            let label = Label { rank: self.rank, tag };
            let seen = keep(&self.shapes.quads, &mut self.quads, scope.grid, label, &mut self.tally)
                | keep(&self.shapes.facets, &mut self.facets, scope.grid, label, &mut self.tally)
                | keep(&self.shapes.strips, &mut self.strips, scope.grid, label, &mut self.tally);
            self.count(seen, look, level);
        }
    }
}

/// Keeps the records that touch the picture; whether there are any.
fn keep<R: Outlined>(from: &[R], into: &mut Queue<R>, grid: &Grid, label: Label, tally: &mut Tally) -> bool {
    let before = into.kept.len();
    for record in from {
        if let Some((tiles, pixels)) = grid.cover(record.bounds()) {
            let mut record = *record;
            record.set_label(label);
            into.push(record, tiles, grid);
            tally.pixels += pixels;
        }
    }
    into.kept.len() > before
}

/// Where a record goes: the one tile it touches, or which span of tiles.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Place(u32);

impl Place {
    const SPAN: u32 = 1 << 31;

    /// The one tile, or which of the spans.
    #[inline(always)]
    pub(super) fn span(self) -> Result<usize, usize> {
        if self.0 & Self::SPAN == 0 { Ok(self.0 as usize) } else { Err((self.0 & !Self::SPAN) as usize) }
    }
}

/// Records of one kind with the tiles that each touches, counted as they come.
#[derive(Debug, Default)]
pub(super) struct Queue<R> {
    pub(super) kept: Vec<R>,
    pub(super) places: Vec<Place>,
    /// The tiles of records that touch more than one.
    pub(super) spans: Vec<Tiles>,
    /// Copies that each tile gets; while they are made, where the next goes.
    pub(super) next: Vec<u32>,
    /// How many touch too many tiles to be copied.
    pub(super) many: usize,
}

impl<R: Record> Queue<R> {
    fn make_room(&mut self, count: usize, tiles: usize) {
        room::for_more(&mut self.next, tiles);
        room::for_more(&mut self.kept, count);
        room::for_more(&mut self.places, count);
        room::for_more(&mut self.spans, count);
    }

    fn clear(&mut self) {
        self.kept.clear();
        self.places.clear();
        self.spans.clear();
        self.next.clear();
        self.many = 0;
    }

    fn push(&mut self, record: R, tiles: Tiles, grid: &Grid) {
        let mut room = self.open(1, grid);
        room.push(record, tiles.place(grid), || tiles);
        room.close();
    }

    /// Room for up to `count` more, to be filled without asking for it each time.
    #[inline(always)]
    fn open<'a>(&'a mut self, count: usize, grid: &'a Grid) -> Room<'a, R> {
        if self.next.is_empty() {
            self.next.resize(grid.tiles(), 0);
        }
        let filled = self.kept.len();
        self.kept.resize(filled + count, R::default());
        self.places.resize(filled + count, Place::default());
        Room { queue: self, grid, filled }
    }
}

/// Room made in a queue.
struct Room<'a, R> {
    queue: &'a mut Queue<R>,
    grid: &'a Grid,
    filled: usize,
}

impl<R: Record> Room<'_, R> {
    /// Adds a record; `tiles` is asked where it touches more than one.
    #[inline(always)]
    fn push(&mut self, record: R, place: Place, tiles: impl FnOnce() -> Tiles) {
        let Queue { kept, places, spans, next, many } = &mut *self.queue;
        let place = if let Ok(tile) = place.span() {
            next[tile] += 1;
            place
        } else {
            let (tiles, span) = (tiles(), spans.len() as u32);
            if tiles.count() <= MANY {
                tiles.each(self.grid, |tile| next[tile] += 1);
            } else {
                *many += 1;
            }
            spans.push(tiles);
            Place(Place::SPAN | span)
        };
        kept[self.filled] = record;
        places[self.filled] = place;
        self.filled += 1;
    }

    #[inline(always)]
    fn close(self) {
        self.queue.kept.truncate(self.filled);
        self.queue.places.truncate(self.filled);
    }
}

impl Tiles {
    /// Where a record that touches these goes.
    fn place(self, grid: &Grid) -> Place {
        match (self.count(), self.first(grid)) {
            (1, tile) => Place(tile as u32),
            _ => Place(Place::SPAN),
        }
    }
}

/// Instances that are projected together; their columns fit the first-level cache beside the look's table.
const BLOCK: usize = 64;

type Lane<T> = [T; BLOCK];

/// Columns of a block: what came in, then what was worked out, stage by stage.
#[derive(Debug)]
struct Block {
    /// Age over life.
    age: Lane<f32>,
    /// Size, m, before its look.
    own: Lane<f32>,
    id: Lane<u32>,
    /// Tint 0..1; below 0 where random numbers say.
    tint: Lane<f32>,
    at: [Lane<f32>; 3],
    x: Lane<f32>,
    y: Lane<f32>,
    depth: Lane<f32>,
    scale: Lane<f32>,
    /// Row of the look's table; -1 when not born yet or dead.
    row: Lane<i32>,
    size: Lane<f32>,
    opacity: Lane<f32>,
    red: Lane<f32>,
    green: Lane<f32>,
    blue: Lane<f32>,
    dots: Lane<Dot>,
    /// The tile it touches, or -1 when more than one.
    tile: Lane<i32>,
    x0: Lane<i32>,
    x1: Lane<i32>,
    y0: Lane<i32>,
    y1: Lane<i32>,
    pixels: Lane<i32>,
    seen: Lane<i32>,
    level: Lane<u16>,
}

impl Default for Block {
    fn default() -> Self {
        let (f, i) = ([0.0; BLOCK], [0; BLOCK]);
        Self {
            age: f,
            own: f,
            id: [0; BLOCK],
            tint: f,
            at: [f; 3],
            x: f,
            y: f,
            depth: f,
            scale: f,
            row: i,
            size: f,
            opacity: f,
            red: f,
            green: f,
            blue: f,
            dots: [Dot::default(); BLOCK],
            tile: i,
            x0: i,
            x1: i,
            y0: i,
            y1: i,
            pixels: i,
            seen: i,
            level: [0; BLOCK],
        }
    }
}

/// Lanes from `i`.
#[inline(always)]
fn get<S: Simd>(simd: S, column: &Lane<f32>, i: usize) -> f32x8<S> {
    f32x8::from_slice(simd, &column[i..i + LANES])
}

#[inline(always)]
fn put<S: Simd>(column: &mut Lane<f32>, i: usize, value: f32x8<S>) {
    value.store_slice(&mut column[i..i + LANES]);
}

impl Block {
    /// Brings in `n` instances: place, age over life, size and id at the picture's moment.
    #[inline(always)]
    fn load(&mut self, list: &DrawList<'_>, run: &Run, first: usize, n: usize, varies: bool) {
        if varies {
            self.level = [0; BLOCK];
        }
        if run.sorted {
            let order = &list.order[run.first as usize + first..][..n];
            for (i, entry) in order.iter().enumerate() {
                let instances = &list.sources[entry.source as usize].instances;
                let element = entry.element as usize;
                let [x, y, z] = instances.place(element);
                (self.at[0][i], self.at[1][i], self.at[2][i]) = (x, y, z);
                self.age[i] = instances.age(element);
                self.own[i] = instances.size(element);
                self.id[i] = instances.id(element);
                self.tint[i] = instances.tint.map_or(-1.0, |tint| tint[element]);
            }
            return;
        }
        let instances = &list.sources[run.source as usize].instances;
        let first = run.first as usize + first;
        let behind = instances.behind;
        for axis in 0..3 {
            self.at[axis][..n].copy_from_slice(&instances.position[axis][first..first + n]);
            if let Some(velocity) = instances.velocity.filter(|_| behind != 0.0) {
                let velocity = &velocity[axis][first..first + n];
                for i in 0..n {
                    self.at[axis][i] -= velocity[i] * behind;
                }
            }
        }
        if let Some([age, life]) = instances.age {
            let (age, life) = (&age[first..first + n], &life[first..first + n]);
            for i in 0..n {
                self.age[i] = (age[i] - behind) / life[i];
            }
        } else {
            self.age[..n].fill(0.0);
        }
        match instances.size {
            Some(size) => self.own[..n].copy_from_slice(&size[first..first + n]),
            None => self.own[..n].fill(1.0),
        }
        if varies {
            for i in 0..n {
                self.id[i] = instances.id(first + i);
                self.tint[i] = instances.tint.map_or(-1.0, |tint| tint[first + i]);
            }
        }
    }

    /// Place on the screen and row of the look's table. Lanes past `n` hold what the block before left; nobody reads them.
    #[inline(always)]
    fn place<S: Simd>(&mut self, simd: S, view: &View, n: usize) {
        let [cx, cy] = view.middle();
        let (right, up, forward, eye) = (view.right, view.up, view.forward, view.eye);
        for i in (0..n).step_by(LANES) {
            let x = get(simd, &self.at[0], i);
            let y = get(simd, &self.at[1], i);
            let z = get(simd, &self.at[2], i);
            let (dx, dy, dz) = (x - eye.x, y - eye.y, z - eye.z);
            let depth = dx * forward.x + dy * forward.y + dz * forward.z;
            let scale = f32x8::splat(simd, view.focal) / depth;
            put(&mut self.x, i, cx + (dx * right.x + dy * right.y + dz * right.z) * scale);
            put(&mut self.y, i, cy - (dx * up.x + dy * up.y + dz * up.z) * scale);
            put(&mut self.depth, i, depth);
            put(&mut self.scale, i, scale);
            let age = get(simd, &self.age, i);
            let alive = age.simd_ge(f32x8::splat(simd, 0.0)) & age.simd_lt(f32x8::splat(simd, 1.0));
            let row: i32x8<S> = alive.select(Look::row(age), f32x8::splat(simd, -1.0)).to_int();
            row.store_slice(&mut self.row[i..i + LANES]);
        }
    }

    /// Size, opacity and colour at each one's age.
    #[inline(always)]
    fn look_up(&mut self, look: &Look, n: usize) {
        for i in 0..n {
            let now = look.at_row(self.row[i].max(0) as usize);
            // Not born yet, or dead: no size, so not seen.
            self.size[i] = if self.row[i] < 0 { 0.0 } else { now.size };
            self.opacity[i] = now.opacity;
            [self.red[i], self.green[i], self.blue[i]] = now.colour;
        }
    }

    /// Tint and detail of elements that differ by more than age; returns how many were left out.
    #[inline(always)]
    fn vary(&mut self, camera: &View, look: &Look, n: usize) -> u64 {
        let mut left_out = 0;
        let ends = look.detail.ends();
        for i in 0..n {
            let at = Vec3::new(self.at[0][i], self.at[1][i], self.at[2][i]);
            let dice = dice(self.id[i]);
            if look.is_tinted() {
                let own = self.tint[i];
                let [r, g, b] = if own < 0.0 { look.tint(dice[1], at.y) } else { look.tint_along(own, at.y) };
                (self.red[i], self.green[i], self.blue[i]) =
                    (self.red[i] * r, self.green[i] * g, self.blue[i] * b);
            }
            if look.detail.is_active() {
                let distance = if ends { camera.local(at).length() } else { 0.0 };
                let depth = self.depth[i].max(camera.near().max(0.01));
                let pixels = self.own[i] * self.size[i] * camera.scale(depth);
                match look.detail.keep(dice[0], distance, pixels) {
                    Some(kept) => {
                        // As the scalar form: the size itself times the factor.
                        self.own[i] = self.own[i] * self.size[i] * kept.size;
                        self.size[i] = if self.row[i] < 0 { 0.0 } else { 1.0 };
                        self.level[i] = kept.level as u16;
                    }
                    None => {
                        self.size[i] = 0.0;
                        left_out += u64::from(self.row[i] >= 0);
                    }
                }
            }
        }
        left_out
    }

    /// Radius, light, and what of the picture is touched.
    #[inline(always)]
    fn finish<S: Simd>(
        &mut self,
        simd: S,
        view: &View,
        grid: &Grid,
        look: &Look,
        lighting: &Lighting<'_>,
        n: usize,
    ) {
        let zero = f32x8::splat(simd, 0.0);
        let covers = if look.blend == Blend::Alpha { 1.0 } else { 0.0 };
        debug_assert!(!view.level, "discs cast no shadows");
        for i in (0..n).step_by(LANES) {
            let depth = get(simd, &self.depth, i);
            let wanted = get(simd, &self.own, i) * get(simd, &self.size, i) * get(simd, &self.scale, i);
            let seen = depth.simd_gt(f32x8::splat(simd, NEAR))
                & wanted.simd_gt(zero)
                & wanted.simd_lt(f32x8::splat(simd, LARGEST));
            let radius = wanted.max(f32x8::splat(simd, SMALLEST));
            let share = wanted / radius;
            let near = ((depth - NEAR) * (1.0 / NEAR_FADE)).min(f32x8::splat(simd, 1.0));
            let weight = share * share * near;
            let opacity = get(simd, &self.opacity, i);
            let mut light = [get(simd, &self.red, i), get(simd, &self.green, i), get(simd, &self.blue, i)];
            if look.lit != 0.0 {
                let at = [get(simd, &self.at[0], i), get(simd, &self.at[1], i), get(simd, &self.at[2], i)];
                light_lanes(simd, &mut light, look, lighting, at);
            }
            light = [light[0] * opacity * weight, light[1] * opacity * weight, light[2] * opacity * weight];
            let cover = opacity * covers * weight;
            let strength = light[0] + light[1] + light[2] + cover;
            let seen = seen & strength.simd_gt(zero) & strength.simd_lt(f32x8::splat(simd, f32::INFINITY));
            let ([dx, dy], first) = self.touch(simd, grid, radius, seen, i);
            let per_r2 = f32x8::splat(simd, 1.0) / (radius * radius);
            let paint = [halves(light[0], light[1]), halves(light[2], cover)];
            let rows = transpose([
                dx,
                dy,
                per_r2,
                depth,
                paint[0].bitcast(),
                paint[1].bitcast(),
                first.bitcast(),
                depth,
            ]);
            for k in 0..LANES {
                let [dx, dy, per_r2, depth, red_green, blue_cover, first, _] = rows[k].to_array();
                let first = first.to_bits();
                self.dots[i + k] = Dot {
                    offset: [dx, dy],
                    per_r2,
                    depth,
                    paint: [red_green.to_bits(), blue_cover.to_bits()],
                    first: [first as i16, (first >> 16) as i16],
                    label: Label::default(),
                };
            }
        }
    }

    /// Tiles and pixels within the picture that bounds touch: [`Grid::cover`] for eight; returns the way to the first pixel, and that pixel's
    /// column and above it its row.
    #[inline(always)]
    fn touch<S: Simd>(
        &mut self,
        simd: S,
        grid: &Grid,
        radius: f32x8<S>,
        seen: mask32x8<S>,
        i: usize,
    ) -> ([f32x8<S>; 2], u32x8<S>) {
        let (x, y) = (get(simd, &self.x, i), get(simd, &self.y, i));
        let (zero, farthest) = (f32x8::splat(simd, 0.0), f32x8::splat(simd, FARTHEST));
        let whole = |v: f32x8<S>| -> i32x8<S> { v.to_int() };
        let first_x = (x - 0.5 - radius).ceil().max(-farthest).min(farthest);
        let first_y = (y - 0.5 - radius).ceil().max(-farthest).min(farthest);
        let first = (whole(first_x) & 0xffff) | (whole(first_y) << 16);
        let (i0, j0) = (first_x.max(zero), first_y.max(zero));
        let last = |v: f32x8<S>, most: usize| (v - 0.5).floor().min(f32x8::splat(simd, most as f32 - 1.0));
        let (i1, j1) = (last(x + radius, grid.width), last(y + radius, grid.height));
        let seen = seen & i0.simd_le(i1) & j0.simd_le(j1);
        let (i0, i1, j0, j1) = (whole(i0), whole(i1), whole(j0), whole(j1));
        let [w, h] = grid.tile_log2;
        let (x0, x1, y0, y1) = (i0 >> w, i1 >> w, j0 >> h, j1 >> h);
        x0.store_slice(&mut self.x0[i..i + LANES]);
        x1.store_slice(&mut self.x1[i..i + LANES]);
        y0.store_slice(&mut self.y0[i..i + LANES]);
        y1.store_slice(&mut self.y1[i..i + LANES]);
        let one = x0.simd_eq(x1) & y0.simd_eq(y1);
        let tile = one.select(y0 * grid.across as i32 + x0, i32x8::splat(simd, -1));
        tile.store_slice(&mut self.tile[i..i + LANES]);
        ((i1 - i0 + 1) * (j1 - j0 + 1)).store_slice(&mut self.pixels[i..i + LANES]);
        let flag = seen.select(i32x8::splat(simd, 1), i32x8::splat(simd, 0));
        flag.store_slice(&mut self.seen[i..i + LANES]);
        ([first_x + 0.5 - x, first_y + 0.5 - y], first.bitcast())
    }
}

/// The upper halves of floats that are not negative.
#[inline(always)]
fn halves<S: Simd>(upper: f32x8<S>, lower: f32x8<S>) -> u32x8<S> {
    let (upper, lower): (u32x8<S>, u32x8<S>) = (upper.bitcast(), lower.bitcast());
    ((upper + HALF_STEP) & 0xffff_0000) | ((lower + HALF_STEP) >> 16)
}

/// Eight columns to eight rows, by three perfect shuffles.
#[inline(always)]
fn transpose<S: Simd>(v: [f32x8<S>; LANES]) -> [f32x8<S>; LANES] {
    let mut v = v;
    for _ in 0..3 {
        let (a, b) = v[0].interleave(v[4]);
        let (c, d) = v[1].interleave(v[5]);
        let (e, f) = v[2].interleave(v[6]);
        let (g, h) = v[3].interleave(v[7]);
        v = [a, b, c, d, e, f, g, h];
    }
    v
}

/// [`Lighting::on_soft`] for eight, multiplied into their colours.
#[inline(always)]
fn light_lanes<S: Simd>(
    simd: S,
    colour: &mut [f32x8<S>; 3],
    look: &Look,
    lighting: &Lighting<'_>,
    at: [f32x8<S>; 3],
) {
    let [r, g, b] = lighting.soft_ambient().to_array();
    let mut received = [f32x8::splat(simd, r), f32x8::splat(simd, g), f32x8::splat(simd, b)];
    for light in lighting.lights {
        let [x, y, z] = light.position;
        let fall = light.fall_off([x - at[0], y - at[1], z - at[2]]);
        received[0] += light.colour.r * fall;
        received[1] += light.colour.g * fall;
        received[2] += light.colour.b * fall;
    }
    let own = 1.0 - look.lit;
    for channel in 0..3 {
        colour[channel] *= own + received[channel] * look.lit;
    }
}

#[cfg(test)]
mod tests {
    use frolic_core::simd::{dispatch, levels};

    use super::*;

    #[test]
    fn columns_become_rows() {
        for level in levels() {
            let rows = dispatch!(level, simd => {
                let mut columns = [f32x8::splat(simd, 0.0); LANES];
                for k in 0..LANES {
                    let mut lanes = [0.0; LANES];
                    for lane in 0..LANES {
                        lanes[lane] = (k * 10 + lane) as f32;
                    }
                    columns[k] = f32x8::load_array(simd, lanes);
                }
                transpose(columns).map(|row| row.to_array())
            });
            for (lane, row) in rows.iter().enumerate() {
                for (k, value) in row.iter().enumerate() {
                    assert_eq!(*value, (k * 10 + lane) as f32, "{level:?}");
                }
            }
        }
    }

    /// Every record is counted once for each tile it touches, in one push or in a room for many.
    #[test]
    fn queues_count_what_tiles_get() {
        let grid = Grid::new(crate::ImageSize::new(256, 128).unwrap(), [5, 5]);
        let mut queue = Queue::<Dot>::default();
        let spans =
            [Tiles::new(0, 0, 0, 0), Tiles::new(1, 2, 0, 1), Tiles::new(0, 7, 0, 3), Tiles::new(2, 2, 1, 1)];
        for tiles in spans {
            queue.push(Dot::default(), tiles, &grid);
        }
        // One of the four touches more tiles than it is copied to.
        assert_eq!((queue.kept.len(), queue.spans.len(), queue.many), (4, 2, 1));
        assert_eq!(queue.next.iter().sum::<u32>(), 1 + 4 + 1);
        assert_eq!(queue.next[grid.across + 2], 2);
        let places: Vec<_> = queue.places.iter().map(|place| place.span()).collect();
        assert_eq!(places, [Ok(0), Err(0), Err(1), Ok(grid.across + 2)]);
        queue.clear();
        queue.push(Dot::default(), spans[0], &grid);
        assert_eq!(queue.next.iter().sum::<u32>(), 1);
    }
}
