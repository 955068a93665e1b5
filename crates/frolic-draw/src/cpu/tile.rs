//! One tile: the backdrop, then all records of all chunks, in order.
//!
//! The expensive parts are kernels: `frolic_raster::dots` for discs, `solid` for meshes and ribbons, `sun` for the sunlit ground.

use std::cell::RefCell;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Instant;

use frolic_core::{Counter, Meter, Stage, trace};
use frolic_raster::colour9::EMPTY;
use frolic_raster::dots::{self, DotStyle, DotTile};
use frolic_raster::overlay::{Apart, Depths};
use frolic_raster::samples::{self, SAMPLES, Samples};
use frolic_raster::solid::{self, Style};
use frolic_raster::sun::{self, Sunlight, SunnyRow};
use frolic_raster::tile::{Grid, Row, STRIDE};
use frolic_simd as simd;
use smallvec::SmallVec;

use super::bin::Bin;
use super::front::Front;
use super::overlay::{self, Below};
use super::pass::PassPart;
use super::shadow::Shadow;
use super::tiled::{Pictures, draw_groups};
use crate::backdrop::{BackdropLight, BackdropTile, first_pixels};
use crate::camera::View;
use crate::list::DrawList;
use crate::look::Blend;
use frolic_raster::picture::Blit;

/// Fills one tile.
pub(super) struct RasterTile<'a, 'l> {
    pub(super) level: simd::Level,
    pub(super) grid: &'a Grid,
    pub(super) nth: usize,
    pub(super) rows: &'a mut [Row],
    pub(super) behind: BackdropTile<'a>,
    pub(super) light: &'a BackdropLight<'a>,
    /// Nanoseconds that painting the backdrop took, of all tiles.
    pub(super) painting: &'a AtomicU64,
    pub(super) tally: &'a TileTally,
    /// Depths and samples of solid records; none without any.
    pub(super) solid: Option<SolidTile<'a>>,
    /// Those of a round without solid records, after others.
    pub(super) done: Option<DoneTile<'a>>,
    /// Depths of all tiles, if any part is of a lower resolution.
    pub(super) depths: Depths<'a>,
    /// The chunks of the round, the first of which is `first_chunk`.
    pub(super) bins: &'a [Bin],
    pub(super) first_chunk: usize,
    pub(super) parts: &'a [PassPart],
    pub(super) list: &'a DrawList<'l>,
    pub(super) view: &'a View,
    pub(super) shadow: Option<&'a Shadow>,
    /// Style of the records of each source.
    pub(super) styles: &'a [Style<'a>],
    /// Groups to draw, nearest first, before other solid records.
    pub(super) groups: &'a [Blit],
    pub(super) pictures: &'a Pictures,
    /// Whether to start from the depths of the backdrop instead of those of the earlier rounds.
    pub(super) first: bool,
    /// Whether the backdrop has still to be painted.
    pub(super) is_bare: bool,
    /// Whether its rows hold the light of the backdrop and nothing else, before and after.
    pub(super) is_clean: &'a mut bool,
}

/// Counts of all tiles.
#[derive(Debug, Default)]
pub(super) struct TileTally {
    /// Pixels that records other than discs covered, samples of solid ones that passed the depth test, pixels in which visible triangles were coloured.
    counts: [AtomicU64; 3],
}

impl TileTally {
    fn add(&self, pixels: u64, samples: u64, shaded: u64) {
        for (count, more) in self.counts.iter().zip([pixels, samples, shaded]) {
            count.fetch_add(more, Ordering::Relaxed);
        }
    }

    pub(super) fn count(self, meter: &mut Meter) {
        let [pixels, samples, shaded] = self.counts.map(AtomicU64::into_inner);
        meter.add(Counter::PixelsTouched, pixels);
        meter.add(Counter::Samples, samples);
        meter.add(Counter::PixelsShaded, shaded);
    }
}

/// State of the solid records of a tile, kept from round to round.
pub(super) struct SolidTile<'a> {
    pub(super) depth: &'a mut [[f32; STRIDE]],
    pub(super) nearest: &'a mut f32,
    pub(super) samples: &'a mut TileSamples,
}

/// Samples of a tile. Between passes none holds a colour.
#[derive(Debug, Default)]
pub(super) struct TileSamples {
    near: Vec<f32>,
    base: Vec<u32>,
    sun: Vec<u32>,
}

thread_local! {
    static OWN: RefCell<TileSamples> = RefCell::default();
}

impl TileSamples {
    pub(super) fn resize(&mut self, count: usize) {
        self.near.resize(count, 0.0);
        self.base.resize(count, EMPTY);
        self.sun.resize(count, 0);
    }

    /// Nearness of each.
    pub(super) fn near(&self) -> &[f32] {
        &self.near
    }

    pub(super) fn bytes(&self) -> usize {
        (self.near.capacity() + self.base.capacity() + self.sun.capacity()) * size_of::<u32>()
    }
}

/// Finished solid records of a tile.
#[derive(Debug, Clone, Copy)]
pub(super) struct DoneTile<'a> {
    pub(super) depth: &'a [[f32; STRIDE]],
    pub(super) nearest: f32,
    pub(super) near: &'a [f32],
}

impl SolidTile<'_> {
    /// Samples for a tile with this first pixel and size, its depths and the least depth.
    fn open(
        &mut self,
        [x, y]: [i32; 2],
        [width, height]: [usize; 2],
        shown: [usize; 2],
    ) -> (Samples<'_>, &mut [[f32; STRIDE]], &mut f32) {
        let samples = Samples {
            near: &mut self.samples.near,
            base: &mut self.samples.base,
            sun: &mut self.samples.sun,
            x,
            y,
            width,
            height,
            shown,
            samples: SAMPLES,
            ..Samples::default()
        };
        (samples, &mut *self.depth, &mut *self.nearest)
    }
}

/// The bins of a part, of those of a round that begins at a chunk.
fn bins_of<'b>(bins: &'b [Bin], first_chunk: usize, part: &PassPart) -> &'b [Bin] {
    &bins[part.chunks.start - first_chunk..part.chunks.end - first_chunk]
}

impl RasterTile<'_, '_> {
    pub(super) fn run(mut self) {
        let mut solid = self.solid.take();
        let is_own = solid.as_ref().is_some_and(|solid| solid.samples.near.is_empty());
        if is_own && let Some(solid) = &mut solid {
            OWN.with_borrow_mut(|own| std::mem::swap(own, solid.samples));
            solid.samples.resize(SAMPLES * self.grid.tile_width() * self.grid.rows());
        }
        if self.first
            && let Some(solid) = &mut solid
        {
            self.start(solid);
        }
        self.draw(&mut solid);
        if is_own && let Some(solid) = &mut solid {
            OWN.with_borrow_mut(|own| std::mem::swap(own, solid.samples));
        }
    }

    fn draw(&mut self, solid: &mut Option<SolidTile<'_>>) {
        let [across, down] = self.grid.place(self.nth);
        let (x, y) = (self.grid.rect(self.nth).x as i32, self.grid.rect(self.nth).y as i32);
        let (width, height) = (self.grid.tile_width(), self.grid.rows());
        let shown = [self.grid.rect(self.nth).w, self.grid.rect(self.nth).h];
        let sunlight = self.shadow.and_then(|shadow| shadow.through(self.view));
        // Solid records usually cover much of the ground. If they come first, the backdrop is painted only where it is visible.
        let mut is_bare = self.is_bare;
        let first = self.first_shown();
        let is_empty =
            self.groups.is_empty() && !self.bins.iter().any(|bin| bin.holds(self.nth, across, down));
        if is_bare && first > 0 {
            self.rows.fill([[0.0; STRIDE]; 3]);
            is_bare = false;
        }
        if is_bare && (is_empty || *self.is_clean || !self.parts.first().is_some_and(|part| part.rule.solid))
        {
            if !*self.is_clean {
                self.paint_backdrop(None, sunlight.as_ref());
            }
            is_bare = false;
            *self.is_clean = self.light.is_kept() && sunlight.is_none();
        }
        *self.is_clean &= is_empty && first == 0;
        let &mut Self {
            level, nth, bins, first_chunk, parts, list, view, styles, mut groups, pictures, ..
        } = self;
        let (mut dots, mut over_dots) = (DotStyles::default(), DotStyles::default());
        for (at, part) in parts.iter().enumerate() {
            let bins = bins_of(bins, first_chunk, part);
            if part.rule.solid {
                let Some(solid) = solid else { continue };
                let (mut samples, depth, nearest) = solid.open([x, y], [width, height], shown);
                let records = bins.iter().map(|bin| bin.solids_in_tile(nth)).sum::<usize>();
                let crowded = part.rule.nearest_wins && records > width * height;
                let front = Front { level, styles, bins, nth, place: [across, down] };
                front.draw(&mut samples, crowded, |samples, visible| {
                    let (passed, sunlight) = (samples.passed, sunlight.as_ref());
                    draw_groups(level, samples, pictures, std::mem::take(&mut groups));
                    if part.ends {
                        if std::mem::take(&mut is_bare) {
                            self.paint_backdrop(Some(samples), sunlight);
                        }
                        let least = solid::resolve(level, samples, visible, self.rows, depth, sunlight);
                        *nearest = nearest.min(least);
                    } else {
                        solid::settle(level, samples, visible, sunlight.is_some());
                    }
                    self.tally.add(passed / SAMPLES as u64, passed, samples.shaded);
                });
                continue;
            }
            if at < first {
                continue;
            }
            let done = self.done.or(solid.as_ref().map(|solid| DoneTile {
                depth: &*solid.depth,
                nearest: *solid.nearest,
                near: solid.samples.near(),
            }));
            let (depth, nearest) = match &done {
                Some(done) => (done.depth, done.nearest),
                None => (self.behind.depth, self.behind.nearest),
            };
            if part.rule.is_apart() {
                let sunlight = sunlight.map(|sunlight| sunlight.coarser(part.rule.coarser.into()));
                let below =
                    Below { level, rows: &mut *self.rows, depth, at: [x, y], width, depths: self.depths };
                if !bins.iter().any(|bin| bin.holds(nth, across, down)) {
                    continue;
                }
                overlay::draw(below, part.rule, |into| {
                    let dots = over_dots.at(list, into.nearest());
                    let ([from, width], height) = (into.columns, into.rows.len());
                    let target = Target {
                        rows: &mut into.rows,
                        apart: Apart { left: &mut into.left, weights: &mut into.weights },
                        depth: &into.depth,
                        near: None,
                        x: into.x,
                        y: into.y,
                        from: from as i32,
                        width,
                        shown: [width, height],
                        coarser: into.log2,
                    };
                    let sunlight = sunlight.as_ref();
                    let mut tile =
                        Tile { into: target, level, list, view, sunlight, styles, dots, touched: 0 };
                    tile.draw(part, bins, nth, [across, down]);
                    self.tally.add(tile.touched, 0, 0);
                });
                continue;
            }
            let near = done.map(|done| done.near);
            let (rows, apart) = (&mut *self.rows, Apart::default());
            let target = Target { rows, apart, depth, near, x, y, from: 0, width, shown, coarser: 0 };
            let (dots, sunlight) = (dots.at(list, nearest), sunlight.as_ref());
            let mut tile = Tile { into: target, level, list, view, sunlight, styles, dots, touched: 0 };
            tile.draw(part, bins, nth, [across, down]);
            self.tally.add(tile.touched, 0, 0);
        }
    }

    /// The part from which on anything transparent shows: before it, a rectangle hides all of the tile; 0 if there is none.
    fn first_shown(&self) -> usize {
        let rect = self.grid.rect(self.nth);
        let [i0, j0, i1, j1] = [rect.x, rect.y, rect.x + rect.w - 1, rect.y + rect.h - 1].map(|at| at as i32);
        let [across, down] = self.grid.place(self.nth);
        let hides = |at: &usize| {
            let part = &self.parts[*at];
            // How far solid records of the round are behind is not known yet.
            let is_behind = self.parts[..*at].iter().any(|part| part.rule.solid);
            let behind = if is_behind || !self.first { 0.0 } else { self.behind.nearest };
            let bins = bins_of(self.bins, self.first_chunk, part);
            !part.rule.solid
                && !part.rule.is_apart()
                && bins.iter().flat_map(|bin| bin.quads.large(across, down)).any(|quad| {
                    let quad = quad.painted(self.list, self.view);
                    quad.is_some_and(|quad| quad.hides([i0, j0, i1, j1], behind))
                })
        };
        (1..self.parts.len()).rev().find(hides).unwrap_or(0)
    }

    /// Writes the light of the backdrop, with sunlight where no shadow falls; only into pixels that solid records do not cover, if any are given.
    fn paint_backdrop(&mut self, over: Option<&Samples<'_>>, sunlight: Option<&Sunlight<'_>>) {
        let started = self.light.is_painted().then(Instant::now);
        let _part = started.map(|_| trace::part(Stage::Backdrop));
        let (rect, height) = (self.grid.rect(self.nth), self.grid.rows());
        let mut open: SmallVec<[u64; 64]> = SmallVec::from_elem(u64::MAX, height);
        if let Some(samples) = over {
            samples::open_pixels(self.level, samples, &mut open);
        }
        let mut scratch = [[0.0; STRIDE]; 3];
        for (j, row) in self.rows.iter_mut().enumerate().take(rect.h) {
            let (at, open) = ([rect.x, rect.y + j], open[j] & first_pixels(rect.w));
            if let Some(sun) = self.light.row(self.nth * height + j, at, open, row, &mut scratch) {
                let ground = SunnyRow { sun, depth: &self.behind.depth[j], at, open };
                sun::light_ground(self.level, ground, sunlight, row);
            }
        }
        if let Some(started) = started {
            self.painting.fetch_add(started.elapsed().as_nanos() as u64, Ordering::Relaxed);
        }
    }

    /// Starts from the depths of the backdrop.
    fn start(&self, solid: &mut SolidTile<'_>) {
        solid.depth.copy_from_slice(self.behind.depth);
        *solid.nearest = self.behind.nearest;
        let near = &mut solid.samples.near[..];
        if self.behind.nearest.is_infinite() {
            near.fill(0.0);
        } else {
            samples::start(self.level, near, self.behind.depth, self.grid.tile_width());
        }
    }
}

/// Blending of the discs of each source, where the nearest solid surface is at a depth: worked out again only for another depth.
#[derive(Debug, Default)]
struct DotStyles {
    nearest: Option<f32>,
    styles: SmallVec<[DotStyle; 32]>,
}

impl DotStyles {
    fn at(&mut self, list: &DrawList<'_>, nearest: f32) -> &[DotStyle] {
        if self.nearest != Some(nearest) {
            self.nearest = Some(nearest);
            self.styles.clear();
            self.styles.extend(list.sources.iter().map(|source| {
                let look = source.look;
                // Slightly nearer than where a disc starts to fade.
                let fades = nearest * 0.999_999 - 1.000_001 / look.per_soft;
                DotStyle {
                    covers: look.blend == Blend::Alpha,
                    per_soft: look.per_soft,
                    in_front: if look.depth.test { fades } else { f32::INFINITY },
                }
            }));
        }
        &self.styles
    }
}

/// What transparent records are drawn into: the rows of a tile, or those of a part that is laid over it.
pub(super) struct Target<'a> {
    pub(super) rows: &'a mut [Row],
    /// Where `rows` hold only what is drawn over the background.
    pub(super) apart: Apart<'a>,
    /// Depths of the solid records.
    pub(super) depth: &'a [[f32; STRIDE]],
    /// Nearness of the solid record at each sample, where it is known.
    pub(super) near: Option<&'a [f32]>,
    /// Its first pixel.
    pub(super) x: i32,
    pub(super) y: i32,
    /// Columns that are wanted.
    pub(super) from: i32,
    pub(super) width: usize,
    /// Columns and rows that are in the picture, and count.
    pub(super) shown: [usize; 2],
    /// Logarithm of the pixels of the picture across one of it.
    pub(super) coarser: u32,
}

/// A tile that transparent records are drawn into.
pub(super) struct Tile<'a, 'l> {
    pub(super) into: Target<'a>,
    pub(super) level: simd::Level,
    pub(super) list: &'a DrawList<'l>,
    pub(super) view: &'a View,
    /// The sun, if shadows fall.
    pub(super) sunlight: Option<&'a Sunlight<'a>>,
    /// Style of the records of each source.
    pub(super) styles: &'a [Style<'a>],
    /// Blending of the discs of each source.
    pub(super) dots: &'a [DotStyle],
    /// Pixels so far that rectangles and pieces covered, and nothing solid hid them.
    pub(super) touched: u64,
}

impl Tile<'_, '_> {
    /// The tile, as target of discs.
    pub(super) fn for_dots(&mut self) -> DotTile<'_> {
        let Target { rows, apart, depth, x, y, from, width, coarser, .. } = &mut self.into;
        let (apart, styles) = (apart.lend(), self.dots);
        DotTile { rows, depth, x: *x, y: *y, from: *from, width: *width, styles, apart, coarser: *coarser }
    }

    /// The records of a part, in its order.
    fn draw(&mut self, part: &PassPart, bins: &[Bin], nth: usize, [across, down]: [u16; 2]) {
        if part.rule.far_to_near {
            self.far_to_near(bins, nth, across, down);
        } else {
            for bin in bins {
                self.in_order(bin, nth, across, down);
            }
        }
    }

    /// The records of one chunk, by rank.
    fn in_order(&mut self, bin: &Bin, nth: usize, across: u16, down: u16) {
        let level = self.level;
        let mut dots = bin.dots.tile(nth, across, down);
        if bin.quads.distinct + bin.facets.distinct + bin.strips.distinct == 0 {
            // Usually there is nothing to merge.
            let mut tile = self.for_dots();
            dots.runs(|dots| dots::in_order(level, &mut tile, dots));
            return;
        }
        let mut quads = bin.quads.tile(nth, across, down);
        let mut facets = bin.facets.tile(nth, across, down);
        let mut strips = bin.strips.tile(nth, across, down);
        loop {
            let ranks = [dots.rank(), quads.rank(), facets.rank(), strips.rank()];
            let Some(rank) = ranks.into_iter().flatten().min() else { break };
            while dots.rank() == Some(rank) {
                let Some((dot, _)) = dots.take() else { break };
                dots::in_order(level, &mut self.for_dots(), std::slice::from_ref(dot));
            }
            // All pieces of an instance have its rank.
            while quads.rank() == Some(rank) {
                quads.take().into_iter().for_each(|(quad, _)| self.quad(quad));
            }
            if facets.rank() == Some(rank) || strips.rank() == Some(rank) {
                let (f, s) = (facets.clone(), strips.clone());
                self.pieces(f.of_rank(rank), s.of_rank(rank));
                facets.pass(rank);
                strips.pass(rank);
            }
        }
    }
}
