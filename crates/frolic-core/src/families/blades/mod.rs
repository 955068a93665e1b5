//! Blades: rooted, bent by the wind and by pushers, in squares of ground.
//!
//! **In:** a [`BladeSpec`], a [`World`] with its wind and pushers, and a viewpoint. **Out:** [`BladeColumns`] and [`Chunk`]s, which a renderer draws
//! square by square. The blades of a square are contiguous in the columns.
//!
//! | question | file |
//! | --- | --- |
//! | how is a population described? | `spec.rs` |
//! | what is the curve of a blade, and its length? | `shape.rs` |
//! | how does it move? | `step.rs` |
//! | what is known of a square of ground? | `squares.rs` |
//! | which squares are stepped, and how? | `schedule.rs` |
//! | how does their number change? | `count.rs` |
//! | how are they changed, and saved? | `edit.rs`, `retune.rs`, `save.rs` |
//! | which squares are drawn as groups? | `groups.rs` |
//! | which squares exist? | here |

mod columns;
mod count;
mod edit;
mod groups;
mod retune;
mod save;
mod schedule;
mod shape;
mod spec;
mod squares;
mod step;

use std::ops::Range;

use glam::{Vec2, Vec3};
use rayon::prelude::*;

pub use columns::{BladeColumns, BladeRow};
use count::{Block, Source, densities};
pub use groups::{BladeLayouts, GroupSpec};
use schedule::{Schedule, Work};
use shape::clamp_lean;
pub use shape::{MOST_LEAN, along_curve, blade_curve, curve_length};
pub use spec::{AroundSpec, BladeMotion, BladeSpec, TearSpec, Weather};
pub use squares::Chunk;
pub use step::Torn;
use step::{Air, Rows, Tear, stiffness};

use crate::assets::Assets;
use crate::foundations::columns::fits;
use crate::foundations::error::SpecError;
use crate::foundations::meter::{Counter, Meter, Stage};
use crate::foundations::random::Draws;
use crate::foundations::simd::detect;
use crate::foundations::span::Span;
use crate::placement::{PlacedColumns, PlacedRow, Placement, PlacementSpec};
use crate::poses::Group;
use crate::world::World;
use crate::world::endless::{Cells, CellsSpec};
use crate::world::pushers::Pushing;

/// Separates the draws of blades from all others.
const BLADE_SEED: u32 = 0x0b1a_de55;

/// Maximum number of blades that can tear in a step.
const MOST_TORN: usize = 4096;

/// A population of blades.
///
/// ```
/// use frolic_core::{BladeSpec, Blades, Meter, PlacementSpec, Span, WorldSpec};
///
/// let mut meadow = Blades::new(&BladeSpec::new(PlacementSpec::default()), 500, Span::from(0.004), 1)?;
/// let world = WorldSpec::default().wind([4.0, 0.0, 0.0]).build()?;
/// meadow.step(&world, 1.0 / 60.0, 120, &mut Meter::new());
/// let columns = meadow.columns();
/// let leaning = (0..500).filter(|&i| columns.lean_x()[i] > columns.rest_x()[i]).count();
/// assert!(leaning > 450);
/// # Ok::<(), frolic_core::SpecError>(())
/// ```
#[derive(Debug, Clone)]
pub struct Blades {
    spec: BladeSpec,
    size: Span,
    seed: u32,
    count: u32,
    assets: Assets,
    /// Placement of the blades that it was built with.
    placement: Placement,
    /// What was built together, and what was added later: see `count.rs`.
    blocks: Vec<Block>,
    columns: BladeColumns,
    /// Squares in order of their first blade; those without a cell are empty.
    chunks: Vec<Chunk>,
    around: Option<Around>,
    layouts: Option<BladeLayouts>,
    /// Whether squares that can be groups are drawn as groups.
    grouped: bool,
    /// Time of the last update of visibility, in seconds.
    updated: f64,
    time: f64,
    steps: u32,
    pushing: Vec<Pushing>,
    torn: Vec<Torn>,
    /// Blades torn off by command since the last step.
    torn_now: Vec<Torn>,
    alive: usize,
}

/// Endless ground: present squares, and memory for each.
#[derive(Debug, Clone)]
struct Around {
    cells: Cells,
    /// Squares to be generated.
    waiting: bool,
}

impl Blades {
    /// `count` blades with a range of half widths at the root, in metres.
    ///
    /// # Errors
    /// A value is out of range, or the elements exceed the memory limit.
    pub fn new(spec: &BladeSpec, count: u32, size: Span, seed: u32) -> Result<Self, SpecError> {
        Self::with_assets(spec, count, size, seed, &Assets::default())
    }

    /// As [`Blades::new`], where the placement may name assets.
    ///
    /// # Errors
    /// As [`Blades::new`]; or an asset is missing or of another kind.
    pub fn with_assets(
        spec: &BladeSpec,
        count: u32,
        size: Span,
        seed: u32,
        assets: &Assets,
    ) -> Result<Self, SpecError> {
        spec.check()?;
        size.check("size", 0.0, 1e4, "m")?;
        let source = Source { seed, count, densities: densities(spec, count) };
        let (layers, asked) = source.layers(spec);
        let around = spec.endless.as_ref().map(|endless| {
            let cells = Cells::new(CellsSpec::new(spec.chunk, endless.reach))?;
            Ok::<_, SpecError>(Around { cells, waiting: true })
        });
        let around = around.transpose()?;
        let slots = around.as_ref().map_or(0, |around| around.cells.most() as u64);
        let room = if around.is_some() { source.room(spec) } else { 0 };
        let most = if around.is_some() { slots * u64::from(room) } else { u64::from(count) };
        fits(most, BladeColumns::BYTES_PER_ELEMENT as u64)?;
        // Without a whole square of ground there is nothing to share.
        let whole = |layer: &PlacementSpec| layer.area.size.iter().all(|&side| side >= spec.chunk);
        let groups = spec.groups.filter(|_| spec.endless.is_some() || layers.iter().any(whole));
        if let Some(groups) = groups {
            let each = count / layers.len().max(1) as u32;
            groups.fit(layers.iter().map(|layer| layer.mean_density(each)).sum(), spec.chunk)?;
        }
        let repeat = groups.map(|groups| groups.repeat(spec.chunk, seed));
        let placement = Placement::repeated(&layers, asked, seed, assets, repeat)
            .map_err(|error| error.under("placement"))?;
        let mut blades = Self {
            spec: spec.clone(),
            size,
            seed,
            count,
            assets: assets.clone(),
            blocks: Vec::new(),
            placement,
            columns: BladeColumns::default(),
            chunks: Vec::new(),
            around,
            layouts: None,
            grouped: false,
            updated: f64::NEG_INFINITY,
            time: 0.0,
            steps: 0,
            pushing: Vec::with_capacity(256),
            torn: Vec::with_capacity(if spec.tear.is_some() { MOST_TORN } else { 0 }),
            torn_now: Vec::new(),
            alive: 0,
        };
        let refused = |_| {
            let problem = format!("the system has no room for {most} blades");
            SpecError::new("count", problem, "write a smaller count")
        };
        blades.columns.reserve(most as usize).map_err(refused)?;
        if let (Some(groups), Some(repeat)) = (groups, repeat) {
            let layouts = BladeLayouts::new(groups, repeat, &blades.placement, |placed| blades.blade(placed));
            blades.layouts = Some(layouts);
        }
        let amount = if source.densities.is_empty() { f64::from(count) } else { 1.0 };
        // Finite ground is placed once.
        let placements = if blades.around.is_some() { vec![blades.placement.clone()] } else { Vec::new() };
        let mut block =
            Block { sources: vec![source], placements, chunks: 0..0, room, amount, below: u64::MAX };
        if blades.around.is_some() {
            let none = BladeRow::NONE;
            (0..most).for_each(|_| blades.columns.push(&none));
            blades.chunks.extend((0..slots as u32).map(|slot| Chunk::empty(slot * room)));
            block.chunks = 0..blades.chunks.len();
            blades.blocks.push(block);
            blades.recentre([0.0, 0.0]);
        } else {
            block.chunks = blades.fill(&blades.placement.all());
            blades.blocks.push(block);
            blades.alive = blades.columns.len();
        }
        Ok(blades)
    }

    /// Adds placed blades of finite areas, square by square. Returns their squares.
    fn fill(&mut self, placed: &PlacedColumns) -> Range<usize> {
        let (start, side) = (self.chunks.len(), self.spec.chunk);
        let cell = |nth: usize| {
            let [x, _, z] = placed.position();
            [z[nth], x[nth]].map(|at| (at / side).floor() as i32)
        };
        let mut order: Vec<u32> = (0..placed.len() as u32).collect();
        // Stable, so that blades of a kind keep their order.
        order.par_sort_by_key(|&nth| (cell(nth as usize), placed.kind()[nth as usize]));
        let mut next = 0;
        while next < order.len() {
            let [z, x] = cell(order[next] as usize);
            let end = next + order[next..].iter().take_while(|&&nth| cell(nth as usize) == [z, x]).count();
            let mut chunk = Chunk { cell: [x, z], ..Chunk::empty(self.columns.len() as u32) };
            for &nth in &order[next..end] {
                if let Some(row) = placed.row(nth as usize) {
                    let row = self.blade(&row);
                    self.columns.push(&row);
                    chunk.add(&row);
                }
            }
            chunk.stale = true;
            if self.blocks.is_empty() {
                self.record_layout(&mut chunk);
            }
            self.chunks.push(chunk);
            next = end;
        }
        start..self.chunks.len()
    }

    /// Records the layout of a filled square.
    fn record_layout(&self, chunk: &mut Chunk) {
        let Some(layouts) = &self.layouts else { return };
        let nth = layouts.of(chunk.cell);
        let whole = layouts.columns(nth).is_some_and(|columns| columns.len() == chunk.len as usize);
        let range = chunk.range();
        let Some(&height) = self.columns.py.get(range.start) else { return };
        let level = self.columns.py[range.clone()].iter().all(|&y| y == height)
            && [&self.columns.rise_x, &self.columns.rise_z]
                .iter()
                .all(|rise| rise[range.clone()].iter().all(|&rise| rise == 0.0));
        chunk.layout = (whole && level).then_some(nth);
    }

    /// A blade at a place.
    fn blade(&self, placed: &PlacedRow) -> BladeRow {
        let draws = Draws { seed: self.seed ^ BLADE_SEED, id: placed.id };
        let [length, size, hz] = draws.draw(0);
        let [bend, ..] = draws.draw(1);
        let (sin, cos) = libm::sincosf(placed.turn);
        let bend = self.spec.bend_degrees.at(bend).to_radians() + placed.bend + placed.tilt;
        let [rest_x, rest_z, _] = clamp_lean(sin * bend, cos * bend, placed.rise_x, placed.rise_z);
        BladeRow {
            px: placed.px,
            py: placed.py,
            pz: placed.pz,
            length: self.spec.length.at(length) * placed.size,
            // Width shrinks less than length.
            size: self.size.at(size) * placed.size.sqrt(),
            turn: placed.turn,
            rest_x,
            rest_z,
            lean_x: rest_x,
            lean_z: rest_z,
            rate_x: 0.0,
            rate_z: 0.0,
            stiffness: stiffness(self.spec.sway_hz.at(hz)) * placed.stiffness,
            rise_x: placed.rise_x,
            rise_z: placed.rise_z,
            press_x: 0.0,
            press_z: 0.0,
            tint: placed.tint,
            kind: placed.kind,
            id: placed.id,
        }
    }

    /// Moves the centre of endless ground: x and z, in metres. Squares that are too far disappear at once; new ones are generated over the next steps,
    /// nearest first. Returns whether any square changed, or is still to be generated.
    pub fn recentre(&mut self, middle: [f32; 2]) -> bool {
        let Some(around) = &mut self.around else { return false };
        let moved = around.cells.follow(middle);
        if !moved && !around.waiting {
            return false;
        }
        let first = self.alive == 0;
        // Squares that disappear.
        let there = around.cells.all();
        let mut gone = 0;
        for chunk in &mut self.chunks {
            if chunk.there && there.binary_search(&chunk.cell).is_err() {
                let range = chunk.range();
                let length = &mut self.columns.length[range];
                self.alive -= length.iter().filter(|length| **length > 0.0).count();
                length.fill(0.0);
                *chunk = Chunk::empty(chunk.first);
                gone += 1;
            }
        }
        let Some(first_block) = self.blocks.first() else { return false };
        let squares = self.chunks[first_block.chunks.clone()].iter();
        let mut made: Vec<[i32; 2]> = squares.filter(|chunk| chunk.there).map(|chunk| chunk.cell).collect();
        made.sort_unstable();
        let mut missing: Vec<[i32; 2]> =
            there.iter().copied().filter(|cell| made.binary_search(cell).is_err()).collect();
        let side = self.spec.chunk;
        let off = |&[x, z]: &[i32; 2]| {
            let at = Vec2::new((x as f32 + 0.5) * side, (z as f32 + 0.5) * side);
            (at - Vec2::from(middle)).length_squared()
        };
        missing.sort_by(|a, b| off(a).total_cmp(&off(b)).then(a.cmp(b)));
        let most_new = self.spec.endless.map_or(u32::MAX, |endless| endless.most_new);
        let room: u32 = self.blocks.iter().map(|block| block.room).sum();
        let most = if first { missing.len() } else { (most_new / room.max(1)).max(1) as usize };
        let many = missing.len().min(most);
        around.waiting = missing.len() > many;
        let changed = moved || gone > 0 || many > 0;
        self.make(&missing[..many]);
        changed
    }

    /// Generates all present squares of endless ground again.
    fn make_all(&mut self) {
        let Some(around) = &self.around else { return };
        let cells = around.cells.all().to_vec();
        for chunk in &mut self.chunks {
            let range = chunk.range();
            self.columns.length[range].fill(0.0);
            *chunk = Chunk::empty(chunk.first);
        }
        self.alive = 0;
        self.make(&cells);
    }

    /// Generates squares of all blocks.
    fn make(&mut self, cells: &[[i32; 2]]) {
        let blocks = std::mem::take(&mut self.blocks);
        for (nth, block) in blocks.iter().enumerate() {
            self.make_in(block, cells, nth == 0);
        }
        self.blocks = blocks;
    }

    /// Generates squares of a block in parallel. Only the first block has layouts.
    fn make_in(&mut self, block: &Block, cells: &[[i32; 2]], is_first: bool) {
        let side = self.spec.chunk;
        let made: Vec<(PlacedColumns, [i32; 2])> = cells
            .par_iter()
            .map(|&[x, z]| {
                let mut placed = PlacedColumns::default();
                let low = [x as f32 * side, z as f32 * side];
                for placement in &block.placements {
                    placement.within(low, [low[0] + side, low[1] + side], &mut placed);
                }
                (placed, [x, z])
            })
            .collect();
        let mut slot = block.chunks.start;
        for (placed, cell) in &made {
            // Earlier squares are in use.
            slot += self.chunks[slot..block.chunks.end].iter().take_while(|chunk| chunk.there).count();
            if slot == block.chunks.end {
                return;
            }
            let mut chunk = Chunk { cell: *cell, stale: true, ..Chunk::empty(self.chunks[slot].first) };
            let shown = block.shown(placed);
            // Over capacity: leave out blades at regular intervals, so that no edge of the square is bare.
            let many = shown.len().min(block.room as usize);
            let mut order: Vec<usize> = (0..many).map(|nth| shown[nth * shown.len() / many]).collect();
            order.sort_by_key(|&from| placed.kind()[from]);
            for (nth, &from) in order.iter().enumerate() {
                if let Some(row) = placed.row(from) {
                    let row = self.blade(&row);
                    self.columns.put(chunk.first as usize + nth, &row);
                    chunk.add(&row);
                }
            }
            chunk.there = true;
            if is_first {
                self.record_layout(&mut chunk);
            }
            self.alive += many;
            self.chunks[slot] = chunk;
        }
    }

    /// Updates the visibility of squares, from an eye, in metres, and a test for boxes (least and greatest x, y, z). Hidden squares are not stepped unless
    /// something presses them. With [`BladeSpec::cull_every`] it does nothing until that time has passed.
    pub fn update_visibility(
        &mut self,
        eye: [f32; 3],
        is_visible: impl Fn([f32; 3], [f32; 3]) -> bool + Sync,
    ) {
        let every = f64::from(self.spec.cull_every);
        if every > 0.0 && self.time - self.updated < every && self.time >= self.updated {
            return;
        }
        self.updated = self.time;
        let eye = Vec3::from(eye);
        // Squares that may become visible before the next update count as visible.
        let margin = if every > 0.0 { self.spec.chunk } else { 0.0 };
        let wide = |chunk: &Chunk| (chunk.low.map(|v| v - margin), chunk.high.map(|v| v + margin));
        for chunk in self.chunks.iter_mut().filter(|chunk| chunk.len > 0) {
            let (low, high) = wide(chunk);
            chunk.visible = is_visible(low, high);
            let nearest = eye.clamp(chunk.low.into(), chunk.high.into());
            chunk.distance = nearest.distance(eye);
        }
    }

    /// Sets whether squares that can be groups are drawn as groups: they are not stepped, and a renderer draws the layout and state of [`Chunk::group`].
    /// No effect without [`BladeSpec::groups`]. Default: false.
    pub fn group(&mut self, grouped: bool) {
        self.grouped = grouped && self.layouts.is_some();
        if !self.grouped {
            self.chunks.iter_mut().for_each(|chunk| chunk.group = None);
        }
    }

    /// Excludes squares from groups, because something shows on their blades that cached pictures lack, such as the light of a lamp. The test takes the
    /// box of each square (least and greatest x, y, z, in metres); the result holds until the next call, for present squares.
    pub fn set_apart(&mut self, apart: impl Fn([f32; 3], [f32; 3]) -> bool) {
        self.chunks.iter_mut().for_each(|chunk| chunk.apart = apart(chunk.low, chunk.high));
    }

    /// Whether squares that can be groups are drawn as groups.
    pub fn is_grouped(&self) -> bool {
        self.grouped
    }

    /// The layouts that squares share, if any.
    pub fn layouts(&self) -> Option<&BladeLayouts> {
        self.layouts.as_ref()
    }

    /// Visible squares that are groups: the centre of the ground of each, in metres, and its group.
    pub fn groups(&self) -> impl Iterator<Item = ([f32; 3], Group)> {
        let side = self.spec.chunk;
        self.chunks.iter().filter(|chunk| chunk.visible).filter_map(move |chunk| {
            let group = chunk.group?;
            let [x, z] = chunk.cell.map(|at| (at as f32 + 0.5) * side);
            Some(([x, *self.columns.py.get(chunk.first as usize)?, z], group))
        })
    }

    /// Memory that its blades hold, shared layouts included, in bytes.
    pub fn bytes(&self) -> u64 {
        let layouts = self.layouts.as_ref().map_or(0, BladeLayouts::bytes);
        (self.columns.len() * BladeColumns::BYTES_PER_ELEMENT + layouts) as u64
    }

    /// Takes `steps` steps of `dt` seconds (finite and above 0; others are not taken). O(blades in squares that are awake).
    pub fn step(&mut self, world: &World, dt: f32, steps: u32, meter: &mut Meter) {
        if !(dt.is_finite() && dt > 0.0) {
            return;
        }
        let started = meter.start(Stage::Integrate);
        self.torn.clear();
        self.torn.append(&mut self.torn_now);
        let mut work = Work::default();
        if let Some(layouts) = self.layouts.as_mut().filter(|_| self.grouped) {
            layouts.follow(world, &self.spec);
        }
        for nth in 0..steps {
            self.pushing.clear();
            self.pushing.extend(world.pushers_at(self.time));
            let tear = self.spec.tear.as_ref().map(|tear| Tear {
                above: tear.above_degrees.to_radians(),
                share: tear.rate * dt,
                stub: tear.stub,
                draw: self.steps,
            });
            let air = Air {
                world,
                level: detect(),
                time: self.time,
                plain: !world.has_currents(),
                gusts: world.gusts_at(self.time),
                wind: [world.spec().wind[0], world.spec().wind[2]],
                dt,
                drag: self.spec.drag,
                slow: self.spec.drag + self.spec.damping,
                recover: self.spec.recover,
            };
            let near = match self.spec.motion {
                BladeMotion::Swing => f32::INFINITY,
                BladeMotion::Lean => -1.0,
                BladeMotion::Near(far) => far,
            };
            let (last, pushing) = (nth + 1 == steps, &self.pushing[..]);
            let (fixed, own) = self.columns.halves();
            let layouts = self.layouts.as_ref().filter(|_| self.grouped);
            let schedule = Schedule { air: &air, fixed, pushing, near, last, layouts };
            work.add(schedule.step(&mut self.chunks, own, 0));
            if let Some(tear) = tear {
                self.tear(tear);
            }
            self.time += f64::from(dt);
            self.steps = self.steps.wrapping_add(1);
        }
        meter.moved(Stage::Integrate, work.bytes());
        meter.stop(started);
        meter.add(Counter::Alive, self.alive as u64);
        meter.add(Counter::ElementBytes, self.bytes());
        meter.add(Counter::Swung, work.swung);
        meter.add(Counter::Leant, work.leant);
        meter.add(Counter::Pressed, work.pressed);
        meter.add(Counter::SquaresAsleep, work.asleep);
        meter.add(Counter::SquaresGrouped, work.grouped);
    }

    /// Tears blades, in order of the squares.
    fn tear(&mut self, tear: Tear) {
        let awake = |chunk: &&mut Chunk| (chunk.visible || chunk.pressed) && chunk.group.is_none();
        for chunk in self.chunks.iter_mut().filter(awake) {
            let before = self.torn.len();
            let range = chunk.range();
            let (fixed, mut own) = self.columns.halves();
            Rows { fixed: fixed.range(range.clone()), own: own.range(range) }.tear(tear, &mut self.torn);
            if self.torn.len() > before {
                chunk.layout = None;
            }
        }
    }

    /// Blades that tore in the last steps, for a population of particles.
    pub fn torn(&self) -> &[Torn] {
        &self.torn
    }

    /// Number of blades that it was asked for: on endless ground the mean.
    pub fn count(&self) -> u32 {
        self.count
    }

    /// The spec that it was made from.
    pub fn spec(&self) -> &BladeSpec {
        &self.spec
    }

    /// Number of blades.
    pub fn len(&self) -> usize {
        self.alive
    }

    /// Whether there are no blades.
    pub fn is_empty(&self) -> bool {
        self.alive == 0
    }

    /// The attributes of all blades. Endless ground has gaps between squares, with blades of length 0.
    pub fn columns(&self) -> &BladeColumns {
        &self.columns
    }

    /// Squares in order of their first blade; some may be empty.
    pub fn chunks(&self) -> &[Chunk] {
        &self.chunks
    }

    /// Placement of the blades.
    pub fn placement(&self) -> &Placement {
        &self.placement
    }

    /// Simulated time, in seconds.
    pub fn time(&self) -> f64 {
        self.time
    }
}
