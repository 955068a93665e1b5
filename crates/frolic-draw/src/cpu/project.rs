//! Projection: from instances to records on the screen.
//!
//! Billboards, sprites and meshes are projected one by one. Discs and ribbons, the largest part, are projected eight at a time.
//!
//! The formulas exist twice: for one element ([`Seen::disc`], [`place`], [`splat`], [`Dot::new`]), as vertices and the reference need them, and
//! for eight at a time (`frolic-raster`). Both do the same operations in the same order, so the bits are the same;
//! `tests/it/techniques.rs` checks that.

use std::ops::Range;

use frolic_core::Stage;
use frolic_raster::camera::NEAR;
use frolic_raster::discs::{self, BLOCK, Block, DiscLook, LARGEST};
pub use frolic_raster::discs::{NEAR_FADE, SMALLEST};
use frolic_raster::points::Skin;
use frolic_raster::record::{Dot, Facet, Label, Outlined, Record, Splat, Strip, Triangle};
use frolic_raster::tile::{Grid, Tiles};
use frolic_simd as simd;
use glam::Vec3;

use super::bin::{MANY, Tally};
use super::overlay::margin;
use super::pass::CHUNK;
use super::record::{Quad, Shapes};
use crate::camera::View;
use crate::detail::{Level, random};
use crate::list::{DrawList, Run, Vertex};
use crate::look::{Blend, Form, LAST_ROW, Look, RibbonSpec};
use crate::mesh::LANES_OF_PIECES;
use crate::room;
use crate::vertices::{Missing, Seen, Sheaf, a_point, in_points, load_skin, stride, triangles};

/// A point on the screen: x, y, depth, and pixels for each metre there.
#[inline(always)]
pub(super) fn place(view: &View, [x, y, z]: [f32; 3]) -> [f32; 4] {
    let (dx, dy, dz) = (x - view.eye.x, y - view.eye.y, z - view.eye.z);
    let along = |axis: Vec3| dx * axis.x + dy * axis.y + dz * axis.z;
    let depth = along(view.forward);
    let scale = view.scale(depth);
    let [cx, cy] = view.middle();
    [cx + along(view.right) * scale, cy - along(view.up) * scale, depth, scale]
}

/// The splat of a shaded element; none if it is not visible.
#[inline(always)]
pub(super) fn splat(vertex: &Vertex, [x, y, depth, scale]: [f32; 4]) -> Option<Splat> {
    let wanted = vertex.radius * scale;
    // Written so that NaN is not visible.
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

/// What the projection of a chunk needs.
pub(super) struct Scope<'a, 'l> {
    pub(super) level: simd::Level,
    pub(super) seen: Seen<'a, 'l>,
    pub(super) grid: &'a Grid,
    /// Logarithm of the pixels of the picture across one that each source is drawn in; empty where all are drawn in those of the picture.
    pub(super) coarser: &'a [u8],
    /// The stage of the meter.
    pub(super) stage: Stage,
}

/// Memory that the chunks of a list need, other than for discs.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct Need {
    /// Records of a chunk.
    quads: usize,
    facets: usize,
    strips: usize,
    /// Triangles and vertices of one instance.
    triangles: usize,
    vertices: usize,
    /// Tiles of the picture or of the shadow map, the larger number.
    tiles: usize,
}

impl Need {
    /// The larger of what a list needs, for a number of tiles, and what was needed before.
    pub(super) fn of(list: &DrawList<'_>, tiles: usize, before: Self) -> Self {
        /// Memory for records beyond this number is reserved on demand.
        const MOST: usize = 1 << 16;
        let mut need = Self::default();
        for source in &list.sources {
            let (look, count) = (source.look, source.instances.len().min(CHUNK));
            let each = triangles(look, Level::Full).max(triangles(look, Level::Coarse));
            match look.form {
                Form::Disc => {}
                Form::Ribbon(_) => need.strips += count * each.div_ceil(2),
                Form::Billboard { .. } | Form::Sprite { .. } if !look.solid => need.quads += count,
                Form::Mesh { .. } | Form::Billboard { .. } | Form::Sprite { .. } => {
                    need.facets += count * each;
                }
            }
            // Clipping at the camera makes two triangles of one.
            need.triangles = need.triangles.max(each * 2);
            need.vertices = need.vertices.max(stride(look)).max(LANES_OF_PIECES);
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

/// Records of one chunk with the tiles that each touches, and counts.
#[derive(Debug, Default)]
pub(super) struct Projected {
    pub(super) dots: Queue<Dot>,
    pub(super) quads: Queue<Quad>,
    pub(super) triangles: Queue<Triangle>,
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
    /// Reserves memory at once, as any thread may get any chunk.
    pub(super) fn make_room(&mut self, need: &Need) {
        self.clear();
        self.shapes.clear();
        self.vertices.clear();
        self.dots.make_room(CHUNK, need.tiles);
        self.quads.make_room(need.quads, need.tiles);
        self.triangles.make_room(need.facets, need.tiles);
        self.facets.make_room(need.facets, need.tiles);
        self.strips.make_room(need.strips, need.tiles);
        room::for_more(&mut self.shapes.triangles, need.triangles);
        room::for_more(&mut self.shapes.facets, need.triangles);
        room::for_more(&mut self.shapes.strips, need.triangles);
        room::for_more(&mut self.vertices, need.vertices);
        self.skin.start(need.vertices, 0);
        self.skin.start(RibbonSpec::MOST_SEGMENTS as usize + 1, 1);
    }

    pub(super) fn clear(&mut self) {
        self.dots.clear();
        self.quads.clear();
        self.triangles.clear();
        self.facets.clear();
        self.strips.clear();
        self.tally = Tally::default();
        self.rank = 0;
    }

    /// Projects `count` instances of a run from `skip` on, in the order of the list.
    pub(super) fn run(&mut self, scope: &Scope<'_, '_>, run: &Run, skip: u32, count: u32) {
        let list = scope.seen.list;
        let tag = run.source as u16;
        let which = &list.sources[run.source as usize];
        let coarser = scope.coarser(run.source);
        match which.look.form {
            Form::Disc => {}
            Form::Ribbon(_) if list.vertices.is_empty() => {
                return self.ribbons(scope, tag, run, skip..skip + count);
            }
            _ => return self.shapes(scope, tag, run, skip, count),
        }
        if !list.vertices.is_empty() {
            let quads = &list.vertices[(run.vertices + skip * 4) as usize..][..count as usize * 4];
            return self.merged(quads, scope, tag, coarser);
        }
        let (level, camera, light) = (scope.level, scope.seen.view.camera(), list.lighting.plain());
        let look = which.look;
        let disc = DiscLook { lit: look.lit, covers: look.blend == Blend::Alpha, margin: margin(coarser) };
        debug_assert!(!camera.level, "discs cast no shadows");
        let mut done = 0;
        while done < count as usize {
            let n = BLOCK.min(count as usize - done);
            let varies = look.detail.is_active() || look.is_tinted();
            load(&mut self.block, list, run, skip as usize + done, n, varies);
            // A sorted run may span sources, all of one look.
            discs::place(level, &mut self.block, &camera, LAST_ROW, n);
            look_up(&mut self.block, look, n);
            if varies {
                self.tally.thinned += vary(&mut self.block, scope.seen.camera, look, n);
            }
            discs::finish(level, &mut self.block, scope.grid, disc, &light, n);
            self.collect(scope.grid, tag, n, coarser);
            done += n;
        }
    }

    /// Keeps the visible records of the block.
    #[inline(always)]
    fn collect(&mut self, grid: &Grid, tag: u16, n: usize, coarser: u8) {
        let Self { block, dots, tally, .. } = self;
        // In registers, not in memory.
        let (mut rank, mut boxes) = (self.rank, 0);
        let mut room = dots.open(n, grid);
        for i in 0..n {
            if block.seen[i] == 0 {
                continue;
            }
            let dot = Dot { label: Label { rank, tag }, ..block.dots[i] };
            rank += 1;
            boxes += block.pixels[i] as u64;
            room.push(dot, Place(block.tile[i] as u32), || {
                Tiles::new(block.x0[i], block.x1[i], block.y0[i], block.y1[i])
            });
        }
        room.close();
        tally.boxes += sixteenths(boxes, coarser);
        let kept = u64::from(rank - self.rank);
        self.rank = rank;
        tally.culled += n as u64 - kept;
        tally.triangles += 2 * kept;
        tally.vertices += 4 * n as u64;
    }

    /// Discs from merged vertices: each of the four is projected, and bounds the disc.
    fn merged(&mut self, vertices: &[Vertex], scope: &Scope<'_, '_>, tag: u16, coarser: u8) {
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
                Some((splat, scope.grid.pixels(widened(bounds, coarser))?))
            });
            match cover {
                Some((splat, pixels @ [i0, j0, i1, j1])) => {
                    let label = Label { rank: self.rank, tag };
                    self.rank += 1;
                    self.dots.push(Dot::new(&splat, label), scope.grid.tiles_of(pixels), scope.grid);
                    let pixels = (i1 - i0 + 1) as u64 * (j1 - j0 + 1) as u64;
                    self.tally.boxes += sixteenths(pixels, coarser);
                    self.tally.triangles += 2;
                }
                None => self.tally.culled += 1,
            }
        }
    }

    /// Ribbons, eight at a time.
    fn ribbons(&mut self, scope: &Scope<'_, '_>, tag: u16, run: &Run, mut range: Range<u32>) {
        let list = scope.seen.list;
        let camera = scope.seen.view.camera();
        while !range.is_empty() {
            let mut sheaf = Sheaf::default();
            let look = list.sources[list.entry(run, run.first + range.start).source as usize].look;
            while !range.is_empty() {
                let entry = list.entry(run, run.first + range.start);
                let source = &list.sources[entry.source as usize];
                if scope.seen.is_kept(source, entry.element as usize) {
                    self.tally.culled += 1;
                } else if let Some(body) = scope.seen.sized_body(source, entry.element as usize) {
                    if !sheaf.takes(body.level) {
                        break;
                    }
                    let curve = scope.seen.curve(source, entry.element as usize, &body);
                    if scope.seen.may_see_ribbon(&body, curve) {
                        sheaf.add(&scope.seen, entry, &body, curve);
                    } else {
                        self.tally.culled += 1;
                    }
                } else {
                    self.tally.culled += 1;
                    self.tally.thinned += u64::from(look.detail.is_active());
                }
                range.start += 1;
            }
            if sheaf.ribbons.len == 0 {
                continue;
            }
            scope.seen.ribbons(scope.level, look, &sheaf, &mut self.skin);
            self.shapes.start_ribbons(scope.level, &camera, &mut self.skin, scope.seen.lit);
            for ribbon in 0..sheaf.ribbons.len {
                self.shapes.strips.clear();
                let depth = sheaf.order_depth[ribbon];
                self.shapes.add_ribbon(scope.level, camera.near, &self.skin, ribbon, depth);
                let level = sheaf.levels[ribbon];
                let label = Label { rank: self.rank, tag };
                self.tally.vertices += (self.skin.len * a_point(look)) as u64;
                let seen = keep(&self.shapes.strips, &mut self.strips, scope.grid, label, 0);
                self.count(seen, look, level);
            }
        }
    }

    /// Counts an instance as visible or not.
    #[inline(always)]
    fn count(&mut self, seen: bool, look: &Look, level: Level) {
        if seen {
            self.rank += 1;
            self.tally.coarse += u64::from(level == Level::Coarse);
            self.tally.tiny += u64::from(level == Level::Tiny);
            self.tally.triangles += triangles(look, level) as u64;
        } else {
            self.tally.culled += 1;
        }
    }

    /// Instances of all other shapes, one by one.
    fn shapes(&mut self, scope: &Scope<'_, '_>, tag: u16, run: &Run, skip: u32, count: u32) {
        let list = scope.seen.list;
        let coarser = scope.coarser(run.source);
        for at in skip..skip + count {
            let entry = list.entry(run, run.first + at);
            let source = &list.sources[entry.source as usize];
            let look = source.look;
            let in_points = in_points(look);
            if scope.seen.is_kept(source, entry.element as usize) {
                self.tally.culled += 1;
                continue;
            }
            self.vertices.clear();
            // Merged billboards face the camera; for the shadow map they face the sun.
            let turned = scope.seen.view.level && matches!(look.form, Form::Billboard { .. });
            let mut out_of_sight = false;
            // Merged vertices are those of the mesh itself.
            let is_spot = !list.vertices.is_empty() && {
                let body = scope.seen.sized_body(source, entry.element as usize);
                body.is_some_and(|body| scope.seen.is_tiny(source, &body))
            };
            let level = if !list.vertices.is_empty() && !turned && !is_spot {
                // Merged vertices exist if the element does; its level gives their number.
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
                let found = scope.seen.skin(scope.level, entry, Some(scope.seen.view), &mut self.skin);
                out_of_sight = found == Err(Missing::OutOfSight);
                found.ok()
            } else {
                scope.seen.vertices(entry, &mut self.vertices)
            };
            self.shapes.clear();
            let Some(level) = level else {
                self.tally.culled += 1;
                self.tally.thinned += u64::from(source.detail().is_active() && !out_of_sight);
                continue;
            };
            if in_points {
                self.tally.vertices += (self.skin.len * a_point(look)) as u64;
                self.shapes.add_skin(scope.level, &scope.seen, entry, level, &mut self.skin);
            } else {
                self.tally.vertices += self.vertices.len() as u64;
                self.shapes.add(list, scope.seen.view, entry, &self.vertices);
            }
            let label = Label { rank: self.rank, tag };
            let seen = keep(&self.shapes.quads, &mut self.quads, scope.grid, label, coarser)
                | keep(&self.shapes.triangles, &mut self.triangles, scope.grid, label, 0)
                | keep(&self.shapes.facets, &mut self.facets, scope.grid, label, 0)
                | keep(&self.shapes.strips, &mut self.strips, scope.grid, label, 0);
            self.count(seen, look, level);
        }
    }
}

impl Scope<'_, '_> {
    /// Logarithm of the pixels of the picture across one that a source is drawn in.
    fn coarser(&self, source: u32) -> u8 {
        self.coarser.get(source as usize).copied().unwrap_or(0)
    }
}

/// Bounds with the margin of a lower resolution.
fn widened([x0, y0, x1, y1]: [f32; 4], coarser: u8) -> [f32; 4] {
    let margin = margin(coarser);
    [x0 - margin, y0 - margin, x1 + margin, y1 + margin]
}

/// Sixteenths of pixels that are filled in place of pixels of the picture.
fn sixteenths(pixels: u64, coarser: u8) -> u64 {
    pixels << (4 - 2 * coarser)
}

/// Keeps the records that touch the picture; returns whether there are any.
fn keep<R: Outlined>(from: &[R], into: &mut Queue<R>, grid: &Grid, label: Label, coarser: u8) -> bool {
    if from.is_empty() {
        return false;
    }
    let before = into.kept.len();
    let mut room = into.open(from.len(), grid);
    for record in from {
        if let Some(tiles) = grid.cover(widened(record.bounds(), coarser)) {
            let mut record = *record;
            record.set_label(label);
            room.push(record, place_of(tiles, grid), || tiles);
        }
    }
    room.close();
    into.kept.len() > before
}

/// Destination of a record: its only tile, or a span of tiles.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Place(u32);

impl Place {
    const SPAN: u32 = 1 << 31;

    /// The tile, or the index of the span.
    #[inline(always)]
    pub(super) fn span(self) -> Result<usize, usize> {
        if self.0 & Self::SPAN == 0 { Ok(self.0 as usize) } else { Err((self.0 & !Self::SPAN) as usize) }
    }
}

/// Records of one kind with the tiles that each touches, counted on arrival.
#[derive(Debug, Default)]
pub(super) struct Queue<R> {
    pub(super) kept: Vec<R>,
    pub(super) places: Vec<Place>,
    /// The tile spans of records that touch more than one tile.
    pub(super) spans: Vec<Tiles>,
    /// Number of copies for each tile; during the scatter, the next index of each.
    pub(super) next: Vec<u32>,
    /// Number of records that touch too many tiles to be copied.
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
        room.push(record, place_of(tiles, grid), || tiles);
        room.close();
    }

    /// Capacity for `count` more records, filled without further checks.
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

/// Reserved capacity of a queue.
struct Room<'a, R> {
    queue: &'a mut Queue<R>,
    grid: &'a Grid,
    filled: usize,
}

impl<R: Record> Room<'_, R> {
    /// Adds a record; `tiles` is called if it touches more than one.
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

/// Destination of a record that touches tiles.
fn place_of(tiles: Tiles, grid: &Grid) -> Place {
    match (tiles.count(), tiles.first(grid)) {
        (1, tile) => Place(tile as u32),
        _ => Place(Place::SPAN),
    }
}

/// Loads `n` instances into a block: position, age over life, size and id at the time of the picture.
fn load(block: &mut Block, list: &DrawList<'_>, run: &Run, first: usize, n: usize, varies: bool) {
    if run.sorted {
        let order = &list.order[run.first as usize + first..][..n];
        for (i, entry) in order.iter().enumerate() {
            let instances = &list.sources[entry.source as usize].instances;
            let element = entry.element as usize;
            let [x, y, z] = instances.place(element);
            (block.at[0][i], block.at[1][i], block.at[2][i]) = (x, y, z);
            block.age[i] = instances.age(element);
            block.own[i] = instances.size(element);
            block.id[i] = instances.id(element);
            block.tint[i] = instances.poses.tint.map_or(-1.0, |tint| tint[element]);
        }
        return;
    }
    let instances = &list.sources[run.source as usize].instances;
    let first = run.first as usize + first;
    let lag = instances.lag;
    for axis in 0..3 {
        block.at[axis][..n].copy_from_slice(&instances.poses.position[axis][first..first + n]);
        if let Some(velocity) = instances.poses.velocity.filter(|_| lag != 0.0) {
            let velocity = &velocity[axis][first..first + n];
            for i in 0..n {
                block.at[axis][i] -= velocity[i] * lag;
            }
        }
    }
    if let Some([age, life]) = instances.poses.age {
        let (age, life) = (&age[first..first + n], &life[first..first + n]);
        for i in 0..n {
            block.age[i] = (age[i] - lag) / life[i];
        }
    } else {
        block.age[..n].fill(0.0);
    }
    match instances.poses.size {
        Some(size) => block.own[..n].copy_from_slice(&size[first..first + n]),
        None => block.own[..n].fill(1.0),
    }
    if varies {
        for i in 0..n {
            block.id[i] = instances.id(first + i);
            block.tint[i] = instances.poses.tint.map_or(-1.0, |tint| tint[first + i]);
        }
    }
}

/// Size, opacity and colour for each age.
fn look_up(block: &mut Block, look: &Look, n: usize) {
    for i in 0..n {
        let now = look.at_row(block.row[i].max(0) as usize);
        // Before birth or after death: no size, so not visible.
        block.size[i] = if block.row[i] < 0 { 0.0 } else { now.size };
        block.opacity[i] = now.opacity;
        [block.red[i], block.green[i], block.blue[i]] = now.colour;
    }
}

/// Tint and detail of elements that differ by more than age; returns the number that were left out.
fn vary(block: &mut Block, camera: &View, look: &Look, n: usize) -> u64 {
    let mut left_out = 0;
    let ends = look.detail.ends();
    for i in 0..n {
        let at = Vec3::new(block.at[0][i], block.at[1][i], block.at[2][i]);
        let random = random(block.id[i]);
        if look.is_tinted() {
            let own = block.tint[i];
            let [r, g, b] = if own < 0.0 { look.tint(random[1], at.y) } else { look.tint_along(own, at.y) };
            (block.red[i], block.green[i], block.blue[i]) =
                (block.red[i] * r, block.green[i] * g, block.blue[i] * b);
        }
        if look.detail.is_active() {
            let distance = if ends { camera.local(at).length() } else { 0.0 };
            let depth = block.depth[i].max(camera.near().max(0.01));
            let pixels = block.own[i] * block.size[i] * camera.scale(depth);
            match look.detail.keep(random[0], distance, pixels) {
                Some(kept) => {
                    // As in the scalar form: the size itself times the factor.
                    block.own[i] = block.own[i] * block.size[i] * kept.size;
                    block.size[i] = if block.row[i] < 0 { 0.0 } else { 1.0 };
                }
                None => {
                    block.size[i] = 0.0;
                    left_out += u64::from(block.row[i] >= 0);
                }
            }
        }
    }
    left_out
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Every record is counted once for each tile that it touches, whether pushed alone or into reserved capacity.
    #[test]
    fn queues_count_what_tiles_get() {
        let grid = Grid::new([256, 128], [5, 5]);
        let mut queue = Queue::<Dot>::default();
        let spans =
            [Tiles::new(0, 0, 0, 0), Tiles::new(1, 2, 0, 1), Tiles::new(0, 7, 0, 3), Tiles::new(2, 2, 1, 1)];
        for tiles in spans {
            queue.push(Dot::default(), tiles, &grid);
        }
        // One of the four touches too many tiles to be copied.
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
