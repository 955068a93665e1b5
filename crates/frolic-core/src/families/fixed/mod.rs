//! Static instances: posts, boats, flags on a line. Hanging elements swing in the wind.

mod columns;
mod edit;
mod put;
mod save;
mod spec;
mod sway;

use glam::Vec3;

pub use columns::FixedColumns;
pub use spec::{FillSpec, FixedSpec, LineSpec, PlaceSpec, SwaySpec, SwingSpec};

use crate::assets::Assets;
use crate::families::walkers::{Figure, Walk};
use crate::foundations::columns::fits;
use crate::foundations::error::SpecError;
use crate::foundations::meter::{Counter, Meter, Stage};
use crate::foundations::span::Span;
use crate::world::World;
use crate::world::endless::Cells;
use columns::FixedRow;
use put::Placed;

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
#[derive(Debug, Clone)]
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
        spec.check(count)?;
        size.check("size", 0.0, 1e4, "m")?;
        let bytes = u64::from(count) * Self::bytes_per_element();
        let refused = |_| {
            let problem = format!("the system has no {bytes} bytes left");
            SpecError::new("count", problem, "write a smaller count")
        };
        fits(u64::from(count), Self::bytes_per_element())?;
        let mut columns = FixedColumns::default();
        columns.reserve(count as usize).map_err(refused)?;
        let cells = spec.scatter.as_ref().map(|scatter| Cells::new(scatter.cells)).transpose()?;
        let walk = spec.walk.as_ref().map(|walk| walk.build(assets)).transpose();
        let walk = walk.map_err(|error| error.under("walk"))?;
        let Placed { columns, tint, curve, .. } = Placed::new(spec, count, columns, size, seed, assets)?;
        let (spec, rest) = (spec.clone(), Default::default());
        let mut instances =
            Self { spec, columns, rest, tint, cells, walk, size, seed, count, curve, time: 0.0 };
        if !instances.recentre([0.0, 0.0]) {
            instances.keep_rest();
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
        self.keep_rest();
        true
    }

    /// Keeps the places of swaying elements, from which they are displaced.
    fn keep_rest(&mut self) {
        if self.spec.sway.is_some() {
            self.rest = self.columns.position().map(<[f32]>::to_vec);
        }
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
            let pushing = first.and_then(|first| world.pusher_at(first + nth, *time));
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
        if let (Some(spec), true) = (self.spec.swing, dt.is_finite() && dt > 0.0) {
            let started = meter.start(Stage::Integrate);
            for _ in 0..steps {
                sway::swing(spec, world, self.time, dt, &mut self.columns);
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
        if let (Some(spec), true) = (self.spec.sway, dt.is_finite() && dt > 0.0 && steps > 0) {
            let started = meter.start(Stage::Integrate);
            if self.spec.swing.is_none() {
                self.time += f64::from(dt) * f64::from(steps);
            }
            sway::sway(spec, world, self.time, &self.rest, &mut self.columns);
            // Positions at rest are read, positions are written.
            meter.moved(Stage::Integrate, self.len() as u64 * 6 * size_of::<f32>() as u64);
            meter.stop(started);
        }
        meter.add(Counter::Alive, self.len() as u64);
        meter.add(Counter::ElementBytes, self.bytes());
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

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::world::endless::{CellsSpec, ScatterSpec};
    use crate::world::spec::WorldSpec;

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
        let strung =
            FixedSpec::default().strung(true).scatter(ScatterSpec::new(CellsSpec::new(4.0, 16.0), 1));
        assert_eq!(strung.check(1).unwrap_err().key, "strung");
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
