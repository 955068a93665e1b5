//! Static instances: posts, boats, flags on a line. Hanging elements swing in the wind.

use derive_setters::Setters;
use glam::Vec3;
use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use crate::assets::Assets;
use crate::families::walkers::{Figure, Walk, WalkSpec};
use crate::foundations::columns::{columns, fits};
use crate::foundations::error::{SpecError, at_most, vector_within, within};
use crate::foundations::meter::{Counter, Meter, Stage};
use crate::foundations::random::{Draws, pair};
use crate::foundations::simd::{Level, Simd, detect, kernel};
use crate::foundations::span::Span;
use crate::foundations::trace::part;
use crate::placement::{On, Placement, PlacementSpec, check_layers};
use crate::placement::{ShapeSpec, Source, VolumePart};
use crate::poses::sealed::Sealed;
use crate::poses::{Posed, Poses};
use crate::world::endless::{Cells, ScatterSpec};
use crate::world::obstacles::BLOCK;
use crate::world::{Gusts, MOST_PUSHERS, World};

/// Static instances: where they are put, and how they swing and sway.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, Setters)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct FixedSpec {
    /// Single places, for the first elements. At most 65536.
    #[setters(into)]
    pub at: Vec<PlaceSpec>,
    /// Lines along which further elements hang, evenly by length. At most 4096.
    #[setters(into)]
    pub line: Vec<LineSpec>,
    /// A distance grid over which further elements are spread. Default: none.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub fill: Option<FillSpec>,
    /// Endless cells over which further elements are scattered. Default: none.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub scatter: Option<ScatterSpec>,
    /// Layers of a placement for further elements, at most 16. Default: none.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[setters(into)]
    pub placement: Vec<PlacementSpec>,
    /// Elements that follow the pushers of the world, one each, instead of places. Default: none.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub walk: Option<WalkSpec>,
    /// Whether the lines themselves are the elements, one each, and nothing hangs from them. Default: false.
    pub strung: bool,
    /// Swinging. Default: none.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub swing: Option<SwingSpec>,
    /// Swaying of all elements together, as a bush. Default: none.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub sway: Option<SwaySpec>,
}

/// Elements spread over a distance grid, turned outwards.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct FillSpec {
    /// Name of the grid.
    #[setters(into)]
    pub asset: String,
    /// Part of the grid. Default: its inside.
    #[serde(default)]
    pub part: VolumePart,
    /// Tilt outwards, in degrees: 0 is upright, 90 points out. Default: 0 to 90.
    #[serde(default = "any_tilt")]
    #[setters(into)]
    pub tilt_degrees: Span,
    /// Largest turn from the direction outwards, in degrees, 0 to 180. Default: 60.
    #[serde(default = "some_turn")]
    pub stray_degrees: f32,
}

fn any_tilt() -> Span {
    Span::new(0.0, 90.0)
}

fn some_turn() -> f32 {
    60.0
}

/// Swaying of all elements together: displacement by the wind grows with the square of the height.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct SwaySpec {
    /// Height that does not move, in metres. Default: 0.
    pub root: f32,
    /// Height above `root` at which `give` applies, in metres, 0.001 to 1e4. Default: 1.
    pub height: f32,
    /// Displacement at that height for each m/s of wind, in metres, 0 to 100. Default: 0.02.
    pub give: f32,
}

impl Default for SwaySpec {
    fn default() -> Self {
        Self { root: 0.0, height: 1.0, give: 0.02 }
    }
}

/// One place.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct PlaceSpec {
    /// Position, in metres.
    pub position: [f32; 3],
    /// Turn around y, in degrees anticlockwise as seen from above. Default: 0.
    pub turn_degrees: f32,
    /// Tilt around the turned x axis, in degrees. Default: 0.
    pub tilt_degrees: f32,
    /// Factor on the size of the population, 0 to 1e4. Default: 1.
    pub scale: f32,
}

impl Default for PlaceSpec {
    fn default() -> Self {
        Self { position: [0.0; 3], turn_degrees: 0.0, tilt_degrees: 0.0, scale: 1.0 }
    }
}

/// A line that sags between two points.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct LineSpec {
    /// One end, in metres.
    pub from: [f32; 3],
    /// The other end, in metres.
    pub to: [f32; 3],
    /// Depth of its middle below the straight line, in metres, 0 to 1e4. Default: 0.
    #[serde(default)]
    pub sag: f32,
}

impl LineSpec {
    /// A line between two points with a sag, in metres.
    pub fn new(from: [f32; 3], to: [f32; 3], sag: f32) -> Self {
        Self { from, to, sag }
    }

    /// Position at a share of the way: a parabola, the form of a line under uniform load.
    fn at(&self, share: f32) -> Vec3 {
        let straight = Vec3::from(self.from).lerp(Vec3::from(self.to), share);
        straight - Vec3::Y * (self.sag * 4.0 * share * (1.0 - share))
    }

    fn length(&self) -> f32 {
        // Length of the parabola to second order in the sag.
        let straight = Vec3::from(self.from).distance(Vec3::from(self.to));
        straight + if straight > 0.0 { self.sag * self.sag * 8.0 / (3.0 * straight) } else { 0.0 }
    }
}

/// Swinging around the turned x axis, as a flag that hangs from its upper edge.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct SwingSpec {
    /// Length of the pendulum, in metres, 0.01 to 1000. Default: 0.3.
    pub length: f32,
    /// Response to the wind, in 1/s, 0 to 1000. Default: 2.
    pub drag: f32,
    /// Damping, in 1/s, 0 to 1000. Default: 0.8.
    pub damping: f32,
}

impl Default for SwingSpec {
    fn default() -> Self {
        Self { length: 0.3, drag: 2.0, damping: 0.8 }
    }
}

columns! {
    /// All attributes of one instance.
    row FixedRow;
    /// The attributes of all instances; slices of one length.
    columns FixedColumns;
    /// Position x, in metres.
    px: f32,
    /// Position y (up), in metres.
    py: f32,
    /// Position z, in metres.
    pz: f32,
    /// Turn about y, in radians.
    turn: f32,
    /// Tilt about the turned x axis, in radians.
    tilt: f32,
    /// Rate of the tilt, radians a second.
    rate: f32,
    /// Size, in metres.
    size: f32,
    /// Key of the element's random numbers.
    id: u32,
}

impl FixedColumns {
    /// The three position columns, in metres.
    pub fn position(&self) -> [&[f32]; 3] {
        [&self.px, &self.py, &self.pz]
    }
}

/// Maximum number of places, and of lines.
const MOST_PLACES: usize = 65_536;
const MOST_LINES: usize = 4096;

impl FixedSpec {
    /// Elements that hang along lines.
    pub fn hung(lines: impl IntoIterator<Item = LineSpec>, swing: Option<SwingSpec>) -> Self {
        Self { line: lines.into_iter().collect(), swing, ..Self::default() }
    }

    /// Elements that follow the pushers of the world.
    pub fn walking(walk: WalkSpec) -> Self {
        Self { walk: Some(walk), ..Self::default() }
    }

    /// Checks that every value is in range, for a number of elements.
    ///
    /// # Errors
    /// Names the first key that cannot be used.
    pub fn check(&self, count: u32) -> Result<(), SpecError> {
        if let Some(walk) = &self.walk {
            walk.check().map_err(|error| error.under("walk"))?;
            at_most("count", count as usize, MOST_PUSHERS)?;
            if *self != Self::walking(walk.clone()) {
                let problem = "stands beside places, lines, swing or sway";
                return Err(SpecError::new("walk", problem, "give those to another population"));
            }
            return Ok(());
        }
        let ways = [
            ("line", !self.line.is_empty()),
            ("fill", self.fill.is_some()),
            ("placement", !self.placement.is_empty()),
            ("scatter", self.scatter.is_some()),
            ("at", self.strung && !self.at.is_empty()),
        ];
        let mut ways = ways.into_iter().filter_map(|(key, written)| written.then_some(key));
        if let (Some(first), Some(second)) = (ways.next(), ways.next()) {
            let problem = format!("stands beside {first}");
            return Err(SpecError::new(second, problem, "keep one of them, or write two populations"));
        }
        at_most("at", self.at.len(), MOST_PLACES)?;
        at_most("line", self.line.len(), MOST_LINES)?;
        for (nth, place) in self.at.iter().enumerate() {
            let key = |name: &str| format!("at.{nth}.{name}");
            vector_within(&key("position"), place.position, 1e6, "m")?;
            within(&key("turn_degrees"), place.turn_degrees, -1e6, 1e6, "degrees")?;
            within(&key("tilt_degrees"), place.tilt_degrees, -1e6, 1e6, "degrees")?;
            within(&key("scale"), place.scale, 0.0, 1e4, "")?;
        }
        for (nth, line) in self.line.iter().enumerate() {
            let key = |name: &str| format!("line.{nth}.{name}");
            vector_within(&key("from"), line.from, 1e6, "m")?;
            vector_within(&key("to"), line.to, 1e6, "m")?;
            within(&key("sag"), line.sag, 0.0, 1e4, "m")?;
        }
        if let Some(fill) = &self.fill {
            fill.tilt_degrees.check("fill.tilt_degrees", -180.0, 180.0, "degrees")?;
            within("fill.stray_degrees", fill.stray_degrees, 0.0, 180.0, "degrees")?;
        }
        check_layers("placement", &self.placement)?;
        if let Some(scatter) = &self.scatter {
            scatter.check().map_err(|error| error.under("scatter"))?;
        }
        if let Some(sway) = &self.sway {
            within("sway.root", sway.root, -1e6, 1e6, "m")?;
            within("sway.height", sway.height, 0.001, 1e4, "m")?;
            within("sway.give", sway.give, 0.0, 100.0, "m for each m/s")?;
        }
        if let Some(swing) = &self.swing {
            within("swing.length", swing.length, 0.01, 1000.0, "m")?;
            within("swing.drag", swing.drag, 0.0, 1000.0, "1/s")?;
            within("swing.damping", swing.damping, 0.0, 1000.0, "1/s")?;
        }
        let places = if self.strung { self.line.len() } else { self.at.len() };
        if (self.strung || self.line.is_empty())
            && self.fill.is_none()
            && self.placement.is_empty()
            && self.scatter.is_none()
            && count as usize > places
        {
            let problem = format!("{count} elements for {places} places");
            return Err(SpecError::new("count", problem, "add places or lines, or write a smaller count"));
        }
        Ok(())
    }
}

/// A population of static instances: its state, and the step that swings it.
///
/// ```
/// use frolic_core::{FixedSpec, FixedInstances, LineSpec, Meter, Span, SwingSpec, WorldSpec};
///
/// let line = LineSpec::new([0.0, 3.0, 0.0], [10.0, 3.0, 0.0], 0.5);
/// let spec = FixedSpec::hung([line], Some(SwingSpec::default()));
/// let mut flags = FixedInstances::new(&spec, 40, Span::from(0.2), 1)?;
/// let world = WorldSpec::default().wind([0.0, 0.0, 4.0]).build()?;
/// flags.step(&world, 1.0 / 60.0, 60, &mut Meter::new());
/// assert_eq!(flags.columns().len(), 40);
/// assert!(flags.columns().tilt().iter().all(|tilt| *tilt < 0.0)); // blown to one side
/// # Ok::<(), frolic_core::SpecError>(())
/// ```
#[derive(Debug)]
pub struct FixedInstances {
    spec: FixedSpec,
    columns: FixedColumns,
    /// Positions at rest of swaying elements, in metres.
    rest: [Vec<f32>; 3],
    /// Tints of places that were read; empty without such places.
    tint: Vec<f32>,
    /// Cells over which elements are scattered.
    cells: Option<Cells>,
    walk: Option<Walk>,
    size: Span,
    seed: u32,
    count: u32,
    /// Of strung lines: offsets from one end of the middle control point and of the other end; x, y, z each, in metres.
    curve: [Vec<f32>; 6],
    time: f64,
}

/// Number of elements that a worker swings at a time.
const CHUNK: usize = 4096;

impl FixedInstances {
    /// `count` elements with a range of sizes, in metres.
    ///
    /// # Errors
    /// A value is out of range, or the elements exceed the memory limit.
    pub fn new(spec: &FixedSpec, count: u32, size: Span, seed: u32) -> Result<Self, SpecError> {
        Self::with_assets(spec, count, size, seed, &Assets::default())
    }

    /// As [`FixedInstances::new`], where the spec may name assets.
    ///
    /// # Errors
    /// As [`FixedInstances::new`]; or an asset is missing or of another kind.
    pub fn with_assets(
        spec: &FixedSpec,
        count: u32,
        size: Span,
        seed: u32,
        assets: &Assets,
    ) -> Result<Self, SpecError> {
        let mut instances = Self::put(spec, count, size, seed, assets)?;
        if spec.sway.is_some() {
            instances.rest = instances.columns.position().map(<[f32]>::to_vec);
        }
        Ok(instances)
    }

    fn put(spec: &FixedSpec, count: u32, size: Span, seed: u32, assets: &Assets) -> Result<Self, SpecError> {
        spec.check(count)?;
        size.check("size", 0.0, 1e4, "m")?;
        let mut columns = FixedColumns::default();
        let bytes = u64::from(count) * Self::bytes_per_element();
        let refused = |_| {
            SpecError::new(
                "count",
                format!("the system has no {bytes} bytes to give"),
                "write a smaller count",
            )
        };
        fits(u64::from(count), Self::bytes_per_element())?;
        columns.reserve(count as usize).map_err(refused)?;
        let (rest, curve) = Default::default();
        let cells = spec.scatter.as_ref().map(|scatter| Cells::new(scatter.cells)).transpose()?;
        let walk = spec.walk.as_ref().map(|walk| walk.build(assets)).transpose();
        let walk = walk.map_err(|error| error.under("walk"))?;
        let mut instances = Self {
            spec: spec.clone(),
            columns,
            rest,
            tint: Vec::new(),
            cells,
            walk,
            size,
            seed,
            count,
            curve,
            time: 0.0,
        };
        let mut put = |at: Vec3, turn: f32, tilt: f32, scale: f32| {
            let id = instances.columns.len() as u32;
            let [random, ..] = Draws { seed, id }.draw(0);
            instances.columns.push(&FixedRow {
                px: at.x,
                py: at.y,
                pz: at.z,
                turn,
                tilt,
                rate: 0.0,
                size: size.at(random) * scale,
                id,
            });
        };
        if spec.walk.is_some() {
            // Hidden until the first step.
            (0..count).for_each(|_| put(Vec3::NAN, 0.0, 0.0, 1.0));
            return Ok(instances);
        }
        if spec.strung {
            for line in spec.line.iter().take(count as usize) {
                put(Vec3::from(line.from), 0.0, 0.0, 1.0);
                let tip = Vec3::from(line.to) - Vec3::from(line.from);
                // The control point of a parabola is twice as far off the straight line as its middle.
                let middle = tip * 0.5 - Vec3::Y * (line.sag * 2.0);
                for (column, value) in
                    instances.curve.iter_mut().zip([middle.x, middle.y, middle.z, tip.x, tip.y, tip.z])
                {
                    column.push(value);
                }
            }
            return Ok(instances);
        }
        for place in spec.at.iter().take(count as usize) {
            let (turn, tilt) = (place.turn_degrees.to_radians(), place.tilt_degrees.to_radians());
            put(Vec3::from(place.position), turn, tilt, place.scale);
        }
        if spec.scatter.is_some() {
            instances.recentre([0.0, 0.0]);
            return Ok(instances);
        }
        if !spec.placement.is_empty() {
            let rest = count - count.min(spec.at.len() as u32);
            let placement = Placement::new(&spec.placement, Some(rest), seed, assets);
            let placed = placement.map_err(|error| error.under("placement"))?.all();
            for row in (0..placed.len()).filter_map(|nth| placed.row(nth)) {
                put(Vec3::new(row.px, row.py, row.pz), row.turn, row.tilt, row.size);
            }
            // Places that were read keep their id and tint; others are drawn by the number of the element.
            if spec.placement.iter().any(|layer| matches!(layer.on, On::Places { .. })) {
                let first = instances.columns.len() - placed.len();
                instances.columns.id[first..].copy_from_slice(placed.id());
                let before = instances.columns.id[..first].iter().map(|id| pair(*id)[1]);
                instances.tint = before.chain(placed.tint().iter().copied()).collect();
            }
            return Ok(instances);
        }
        if let Some(fill) = &spec.fill {
            let shape = ShapeSpec::Volume { asset: fill.asset.clone(), part: fill.part };
            let source = Source::new(&shape, assets).map_err(|error| error.under("fill"))?;
            let grid = assets.distance("fill.asset", &fill.asset)?;
            for id in spec.at.len() as u32..count {
                let draws = Draws { seed, id };
                let (at, outwards) = source.place(draws);
                let [stray, tilt, _] = draws.draw(4);
                let out = outwards.unwrap_or_else(|| grid.sample(at).1.normalize_or(Vec3::Y));
                let stray = (stray * 2.0 - 1.0) * fill.stray_degrees.to_radians();
                // With this turn, a tilt around x leans the top outwards.
                let turn = libm::atan2f(out.x, out.z) + stray;
                put(at, turn, fill.tilt_degrees.at(tilt).to_radians(), 1.0);
            }
            return Ok(instances);
        }
        let hung = (count as usize).saturating_sub(spec.at.len());
        let total: f64 = spec.line.iter().map(|line| f64::from(line.length())).sum();
        let mut before = 0.0;
        let mut nth = 0;
        for line in &spec.line {
            let length = f64::from(line.length());
            // Uniform over all lines together: element n is at the middle of the nth of equal pieces.
            let way = Vec3::from(line.to) - Vec3::from(line.from);
            let turn = libm::atan2f(-way.z, way.x);
            while nth < hung {
                let place = (nth as f64 + 0.5) * total / hung as f64 - before;
                if place > length {
                    break;
                }
                put(line.at((place / length.max(1e-9)).clamp(0.0, 1.0) as f32), turn, 0.0, 1.0);
                nth += 1;
            }
            before += length;
        }
        // All lines are of length 0, or rounding missed the last element.
        if let Some(line) = spec.line.last() {
            (nth..hung).for_each(|_| put(line.at(1.0), 0.0, 0.0, 1.0));
        }
        Ok(instances)
    }

    /// Moves the centre of scattered elements: x and z, in metres. Elements of cells that stay keep their key. Returns whether any appeared or
    /// disappeared.
    pub fn recentre(&mut self, middle: [f32; 2]) -> bool {
        let (Some(scatter), Some(cells)) = (&self.spec.scatter, &mut self.cells) else { return false };
        if !cells.follow(middle) {
            return false;
        }
        let kept = self.spec.at.len().min(self.columns.len());
        self.columns.truncate(kept);
        let room = self.count as usize - kept;
        let all = cells.all().iter().flat_map(|&cell| scatter.places(cell, self.seed));
        for ([px, py, pz], draws, turn) in all.take(room) {
            let [size, ..] = draws.draw(1);
            self.columns.push(&FixedRow {
                px,
                py,
                pz,
                turn: turn * std::f32::consts::TAU,
                tilt: 0.0,
                rate: 0.0,
                size: self.size.at(size),
                id: draws.seed.wrapping_add(draws.id),
            });
        }
        if self.spec.sway.is_some() {
            self.rest = self.columns.position().map(<[f32]>::to_vec);
        }
        true
    }

    /// Whether elements change place with each step, and do not only swing or sway.
    pub fn moves(&self) -> bool {
        self.walk.is_some()
    }

    /// Moves each element to its pusher. The column of the rate holds the way of the figure.
    fn follow(&mut self, world: &World) {
        let Self { walk: Some(walk), columns, time, .. } = self else { return };
        let FixedColumns { px, py, pz, turn, tilt, rate, .. } = columns;
        let first = walk.first(world);
        for nth in 0..px.len() {
            let at = Vec3::new(px[nth], py[nth], pz[nth]);
            let before = Figure { at, gone: rate[nth], turn: turn[nth], tilt: tilt[nth] };
            let nowhere = Figure { at: Vec3::NAN, ..before };
            let pushing = world.pusher_at(first + nth, *time);
            let now = pushing.map_or(nowhere, |pushing| walk.go(before, &pushing));
            [px[nth], py[nth], pz[nth]] = now.at.to_array();
            (turn[nth], tilt[nth], rate[nth]) = (now.turn, now.tilt, now.gone);
        }
    }

    /// Memory that its elements hold, in bytes.
    pub fn bytes(&self) -> u64 {
        self.len() as u64 * Self::bytes_per_element()
    }

    /// Bytes of state of an element.
    pub fn bytes_per_element() -> u64 {
        FixedColumns::BYTES_PER_ELEMENT as u64
    }

    /// Takes `steps` steps of `dt` seconds (finite and above 0; others are not taken).
    ///
    /// A pendulum in moving air: semi-implicit, with implicit drag and damping, so that it is stable at any values. O(n).
    pub fn step(&mut self, world: &World, dt: f32, steps: u32, meter: &mut Meter) {
        if let (Some(swing), true) = (self.spec.swing, dt.is_finite() && dt > 0.0) {
            let started = meter.start(Stage::Integrate);
            for _ in 0..steps {
                let motion = Motion { swing, air: Air::new(world, self.time), dt };
                self.swing(&motion);
                self.time += f64::from(dt);
            }
            // Position and turn are read; tilt and its rate are written too.
            meter.moved(Stage::Integrate, u64::from(steps) * self.len() as u64 * 8 * size_of::<f32>() as u64);
            meter.stop(started);
        }
        if self.walk.is_some() && dt.is_finite() && dt > 0.0 && steps > 0 {
            let started = meter.start(Stage::Integrate);
            self.time += f64::from(dt) * f64::from(steps);
            self.follow(world);
            meter.stop(started);
        }
        if let (Some(sway), true) = (self.spec.sway, dt.is_finite() && dt > 0.0 && steps > 0) {
            let started = meter.start(Stage::Integrate);
            if self.spec.swing.is_none() {
                self.time += f64::from(dt) * f64::from(steps);
            }
            self.sway(&sway, world);
            // Positions at rest are read, positions are written.
            meter.moved(Stage::Integrate, self.len() as u64 * 6 * size_of::<f32>() as u64);
            meter.stop(started);
        }
        meter.add(Counter::Alive, self.len() as u64);
        meter.add(Counter::ElementBytes, self.bytes());
    }

    /// Displaces all elements by the present wind, as a bent rod: by the square of the height.
    fn sway(&mut self, sway: &SwaySpec, world: &World) {
        let air = Air::new(world, self.time);
        let [rx, ry, rz] = &self.rest;
        let FixedColumns { px, py, pz, .. } = &mut self.columns;
        let chunks = rx.par_chunks(CHUNK).zip(ry.par_chunks(CHUNK)).zip(rz.par_chunks(CHUNK));
        let moved = px.par_chunks_mut(CHUNK).zip(py.par_chunks_mut(CHUNK)).zip(pz.par_chunks_mut(CHUNK));
        chunks.zip(moved).for_each(|(((rx, ry), rz), ((px, py), pz))| {
            let _part = part(Stage::Integrate);
            if !air.has_currents {
                lean_chunk(air.level, *sway, &air, [rx, ry, rz], px, py, pz);
                return;
            }
            for first in (0..px.len()).step_by(BLOCK) {
                let many = first..(first + BLOCK).min(px.len());
                let rest = [rx, ry, rz].map(|axis| &axis[many.clone()]);
                let blown = air.at(rest);
                let (px, py, pz) = (&mut px[many.clone()], &mut py[many.clone()], &mut pz[many]);
                lean_blown(air.level, *sway, &blown, rest, px, py, pz);
            }
        });
    }

    fn swing(&mut self, motion: &Motion<'_>) {
        let FixedColumns { px, py, pz, turn, tilt, rate, .. } = &mut self.columns;
        let chunks = px
            .par_chunks(CHUNK)
            .zip(py.par_chunks(CHUNK))
            .zip(pz.par_chunks(CHUNK))
            .zip(turn.par_chunks(CHUNK))
            .zip(tilt.par_chunks_mut(CHUNK))
            .zip(rate.par_chunks_mut(CHUNK));
        chunks.for_each(|(((((px, py), pz), turn), tilt), rate)| {
            let _part = part(Stage::Integrate);
            let level = motion.air.level;
            if !motion.air.has_currents {
                swing_chunk(level, motion, [px, py, pz], turn, tilt, rate);
                return;
            }
            for first in (0..px.len()).step_by(BLOCK) {
                let many = first..(first + BLOCK).min(px.len());
                let blown = motion.air.at([px, py, pz].map(|axis| &axis[many.clone()]));
                swing_blown(
                    level,
                    motion,
                    &blown,
                    &turn[many.clone()],
                    &mut tilt[many.clone()],
                    &mut rate[many],
                );
            }
        });
    }

    /// Number of elements.
    pub fn len(&self) -> usize {
        self.columns.len()
    }

    /// Whether there are no elements.
    pub fn is_empty(&self) -> bool {
        self.columns.is_empty()
    }

    /// The attributes of all elements.
    pub fn columns(&self) -> &FixedColumns {
        &self.columns
    }

    /// Tints, 0 to 1, of places that were read; none if tints are drawn by the number of the element.
    pub fn tint(&self) -> Option<&[f32]> {
        (!self.tint.is_empty()).then_some(&self.tint)
    }

    /// Of strung lines: offsets from one end of the middle control point and of the other end; x, y, z columns, in metres.
    pub fn curves(&self) -> Option<[[&[f32]; 3]; 2]> {
        let [a, b, c, d, e, f] = &self.curve;
        self.spec.strung.then_some([[a, b, c], [d, e, f]])
    }

    /// Whether elements swing or sway.
    pub fn swings(&self) -> bool {
        self.spec.swing.is_some() || self.spec.sway.is_some()
    }
}

/// Velocity of the air of a block, along x and z, in m/s.
type Blown = [[f32; BLOCK]; 2];

/// The air of a step.
struct Air<'a> {
    world: &'a World,
    level: Level,
    time: f64,
    gusts: Option<Gusts>,
    /// Whether fields move the air.
    has_currents: bool,
}

impl<'a> Air<'a> {
    fn new(world: &'a World, time: f64) -> Self {
        let (gusts, has_currents) = (world.gusts_at(time), world.has_currents());
        Self { world, level: detect(), time, gusts, has_currents }
    }

    /// Velocity of the air of a block, fields of the program's own included.
    fn at(&self, position: [&[f32]; 3]) -> Blown {
        let n = position[0].len();
        let ([mut x, mut y, mut z], gusts) = ([[0.0; BLOCK]; 3], self.gusts.as_ref());
        let air = [&mut x[..n], &mut y[..n], &mut z[..n]];
        self.world.air_of_chunk(self.level, self.time, gusts, position, air);
        [x, z]
    }

    /// Steady wind and gusts at a position, along x and z, in m/s.
    #[inline(always)]
    fn plain(&self, at: [f32; 3]) -> [f32; 2] {
        let [wx, _, wz] = self.world.spec().wind;
        let [gx, _, gz] = self.gusts.as_ref().map_or([0.0; 3], |gusts| gusts.at(at));
        [wx + gx, wz + gz]
    }
}

kernel! {
    /// Displaces swaying elements.
    fn lean_chunk(
        simd, sway: SwaySpec, air: &Air<'_>, rest: [&[f32]; 3], px: &mut [f32], py: &mut [f32], pz: &mut [f32],
    ) {
        let [rx, ry, rz] = rest;
        lean(simd, sway, |i| air.plain([rx[i], ry[i], rz[i]]), rest, px, py, pz);
    }

    /// The same for a block whose air was computed.
    fn lean_blown(
        simd, sway: SwaySpec, air: &Blown, rest: [&[f32]; 3], px: &mut [f32], py: &mut [f32], pz: &mut [f32],
    ) {
        lean(simd, sway, |i| [air[0][i], air[1][i]], rest, px, py, pz);
    }

    /// One step of swinging elements.
    fn swing_chunk(simd, motion: &Motion<'_>, position: [&[f32]; 3], turn: &[f32], tilt: &mut [f32], rate: &mut [f32]) {
        let [x, y, z] = position;
        motion.chunk(simd, |i| motion.air.plain([x[i], y[i], z[i]]), turn, tilt, rate);
    }

    /// The same for a block whose air was computed.
    fn swing_blown(simd, motion: &Motion<'_>, air: &Blown, turn: &[f32], tilt: &mut [f32], rate: &mut [f32]) {
        motion.chunk(simd, |i| [air[0][i], air[1][i]], turn, tilt, rate);
    }
}

#[inline(always)]
fn lean<S: Simd>(
    _simd: S,
    sway: SwaySpec,
    air: impl Fn(usize) -> [f32; 2],
    [rx, ry, rz]: [&[f32]; 3],
    px: &mut [f32],
    py: &mut [f32],
    pz: &mut [f32],
) {
    for i in 0..px.len() {
        let [ax, az] = air(i);
        let share = ((ry[i] - sway.root) / sway.height).max(0.0);
        let give = sway.give * share * share;
        let (dx, dz) = (ax * give, az * give);
        px[i] = rx[i] + dx;
        pz[i] = rz[i] + dz;
        // A leaning element is a little lower.
        py[i] = ry[i] - (dx * dx + dz * dz) * 0.5 / sway.height;
    }
}

struct Motion<'a> {
    swing: SwingSpec,
    air: Air<'a>,
    dt: f32,
}

impl Motion<'_> {
    #[inline(always)]
    fn chunk<S: Simd>(
        &self,
        _simd: S,
        air: impl Fn(usize) -> [f32; 2],
        turn: &[f32],
        tilt: &mut [f32],
        rate: &mut [f32],
    ) {
        let SwingSpec { length, drag, damping } = self.swing;
        let fall = -self.air.world.spec().gravity[1] / length;
        let slow = 1.0 / (1.0 + self.dt * (drag + damping));
        for i in 0..turn.len() {
            let [ax, az] = air(i);
            let (sin_turn, cos_turn) = libm::sincosf(turn[i]);
            // Wind perpendicular to the cloth, which tilts the other way around x.
            let push = ax * sin_turn + az * cos_turn;
            let (sin, cos) = libm::sincosf(tilt[i]);
            let force = -fall * sin - drag * push * cos / length;
            rate[i] = (rate[i] + self.dt * force) * slow;
            // A flag does not pass over the line.
            tilt[i] = (tilt[i] + self.dt * rate[i]).clamp(-2.6, 2.6);
        }
    }
}

impl Sealed for FixedColumns {}

impl Posed for FixedColumns {
    fn poses(&self) -> Poses<'_> {
        Poses {
            size: Some(self.size()),
            turn: Some([self.turn(), self.tilt()]),
            id: Some(self.id()),
            ..Poses::at(self.position())
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::world::WorldSpec;

    #[test]
    fn elements_are_even_along_lines_of_any_length() {
        let lines =
            [LineSpec::new([0.0; 3], [3.0, 0.0, 0.0], 0.0), LineSpec::new([0.0; 3], [0.0, 0.0, 1.0], 0.0)];
        let flags = FixedInstances::new(&FixedSpec::hung(lines, None), 400, Span::from(0.1), 1).unwrap();
        let columns = flags.columns();
        assert_eq!(columns.px().iter().filter(|x| **x > 0.0).count(), 300);
        for pair in columns.px()[..300].windows(2) {
            assert!((pair[1] - pair[0] - 0.01).abs() < 1e-4);
        }
        // Their x axis runs along the line.
        assert_eq!(columns.turn()[0], 0.0);
        assert!((columns.turn()[399] + std::f32::consts::FRAC_PI_2).abs() < 1e-6);
    }

    #[test]
    fn a_line_hangs_by_its_sag() {
        let line = LineSpec::new([0.0, 2.0, 0.0], [10.0, 2.0, 0.0], 0.7);
        let flags = FixedInstances::new(&FixedSpec::hung([line], None), 101, Span::from(0.1), 1).unwrap();
        let lowest = flags.columns().py().iter().copied().fold(f32::INFINITY, f32::min);
        assert!((lowest - 1.3).abs() < 1e-3, "{lowest}");
    }

    #[test]
    fn places_without_room_are_refused() {
        assert_eq!(FixedSpec::default().check(1).unwrap_err().key, "count");
        let mut spec = FixedSpec { at: vec![PlaceSpec::default()], ..FixedSpec::default() };
        assert!(spec.check(1).is_ok());
        spec.at[0].position[1] = f32::NAN;
        assert_eq!(spec.check(1).unwrap_err().key, "at.0.position");
        let line = LineSpec::new([0.0; 3], [0.0; 3], 0.0);
        let flags = FixedInstances::new(&FixedSpec::hung([line], None), 5, Span::from(0.1), 1).unwrap();
        assert_eq!(flags.len(), 5);
    }

    proptest! {
        /// Stable at any drag, wind and step; at rest in still air it stays at rest.
        #[test]
        fn swinging_is_stable(length in 0.01f32..5.0, drag in 0f32..1000.0, wind in -60f32..60.0, dt in 0.001f32..0.05) {
            let swing = SwingSpec { length, drag, damping: 0.5 };
            let line = LineSpec::new([0.0; 3], [3.0, 0.0, 0.0], 0.2);
            let mut flags = FixedInstances::new(&FixedSpec::hung([line], Some(swing)), 7, Span::from(0.1), 1).unwrap();
            let world = WorldSpec::default().wind([0.0, 0.0, wind]).gusts(1.0, 2.0).build().unwrap();
            flags.step(&world, dt, 200, &mut Meter::new());
            prop_assert!(flags.columns().tilt().iter().all(|tilt| tilt.abs() <= 2.6));
            let mut still = FixedInstances::new(&FixedSpec::hung([line], Some(swing)), 7, Span::from(0.1), 1).unwrap();
            still.step(&WorldSpec::default().build().unwrap(), dt, 50, &mut Meter::new());
            prop_assert!(still.columns().tilt().iter().all(|tilt| *tilt == 0.0));
        }
    }
}
