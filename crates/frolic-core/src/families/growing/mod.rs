//! Elements that grow in place, ten million and more: from seed to full size, harvested and sown again.
//!
//! **In:** a [`GrowSpec`], and the visible clusters. **Out:** [`ShownColumns`] of these clusters, filled for each picture.
//!
//! State is one integer for each element, so that skipped steps lose nothing: growth in units of 2⁻³² of full size. A step adds a whole
//! number of units. Visible clusters are stepped each step; hidden ones take turns and add the units of all missed steps, which is the same
//! sum. Position, turn, size, tint and time to full size follow from the cluster's layout and the element's key.
//!
//! ```text
//! 0                 nothing grows here
//! 1 ..= 2³² - 1     from seed to full size
//! ```

mod edit;
mod grow;
mod save;
mod shown;
mod spec;

use std::collections::HashMap;

use glam::{Quat, Vec3};
use rayon::prelude::*;

pub use shown::{ShownColumns, ShownRow};
pub use spec::{GrowSpec, HarvestSpec, StackSpec};

use grow::{START_SEED, Units, advance_one, grow};
use shown::Piece;

use crate::assets::Assets;
use crate::foundations::change::Change;
use crate::foundations::columns::fits;
use crate::foundations::error::SpecError;
use crate::foundations::meter::{Counter, Meter, Stage};
use crate::foundations::random::{hash3, unit};
use crate::foundations::simd::detect;
use crate::foundations::span::Span;
use crate::foundations::trace::part;
use crate::placement::{PlacedColumns, Placement, PlacementSpec};
use crate::world::events::Region;

/// Elements of all clusters of one layout, relative to the cluster's origin.
#[derive(Debug, Clone)]
struct Layout {
    placed: PlacedColumns,
    /// Radius of the bounding ball in metres, without the size of elements.
    radius: f32,
}

/// One cluster.
#[derive(Debug, Clone, PartialEq)]
#[non_exhaustive]
pub struct Cluster {
    /// Position of its origin, in metres.
    pub place: [f32; 3],
    /// Turn about y, in radians.
    pub turn: f32,
    /// Index of its first element.
    pub first: u32,
    /// Number of elements.
    pub len: u32,
    /// Index of its layout.
    pub layout: u32,
    /// Radius of its bounding ball, in metres.
    pub radius: f32,
    /// Whether it was visible at the last update.
    pub visible: bool,
    key: u32,
    /// Steps that its elements have taken.
    done: u64,
    /// Whether all elements are fully grown or gone.
    still: bool,
}

/// A population of growing elements.
///
/// ```
/// use frolic_core::{GrowSpec, Growing, Meter, PlacementSpec, Span};
///
/// let spec = GrowSpec::new(PlacementSpec::default(), 100, PlacementSpec::default()).seconds(1.0, 1.0);
/// let mut beds = Growing::new(&spec, 1_000, Span::from(0.1), 3)?;
/// beds.step(1.0 / 60.0, 30, &mut Meter::new());
/// assert!((beds.growth(17).unwrap() - 0.5).abs() < 1e-3);
/// # Ok::<(), frolic_core::SpecError>(())
/// ```
#[derive(Debug, Clone)]
pub struct Growing {
    spec: GrowSpec,
    layouts: Vec<Layout>,
    clusters: Vec<Cluster>,
    growth: Vec<u32>,
    size: Span,
    seed: u32,
    count: u32,
    assets: Assets,
    steps: u64,
    time: f64,
    /// Length of the last step; the units of a step depend on it.
    dt: f32,
    shown: ShownColumns,
    /// Visible clusters, and the index of the first shown element of each.
    visible: Vec<(u32, u32)>,
}

impl Growing {
    /// `count` elements with full sizes in this range, in metres. The last cluster may be incomplete.
    ///
    /// # Errors
    /// A value out of range, or more elements than memory allows.
    pub fn new(spec: &GrowSpec, count: u32, size: Span, seed: u32) -> Result<Self, SpecError> {
        Self::with_assets(spec, count, size, seed, &Assets::default())
    }

    /// As [`Growing::new`], with assets for placements.
    ///
    /// # Errors
    /// As [`Growing::new`]; and an asset that is missing or of another kind.
    pub fn with_assets(
        spec: &GrowSpec,
        count: u32,
        size: Span,
        seed: u32,
        assets: &Assets,
    ) -> Result<Self, SpecError> {
        spec.check()?;
        size.check("size", 0.0, 1e4, "m")?;
        fits(u64::from(count), size_of::<u32>() as u64)?;
        let layouts = (0..spec.layouts).map(|nth| {
            let key = hash3(seed, nth, GROW_SEED)[0];
            let placed =
                Placement::new(std::slice::from_ref(&spec.cluster), Some(spec.per_cluster), key, assets);
            let placed = placed.map_err(|error| error.under("cluster"))?.all();
            let far = |nth: usize| Vec3::from(placed.position().map(|column| column[nth])).length();
            let radius = (0..placed.len()).map(far).fold(0.0, f32::max);
            Ok(Layout { placed, radius })
        });
        let layouts = layouts.collect::<Result<Vec<_>, SpecError>>()?;
        let each = layouts.iter().map(|layout| layout.placed.len()).max().unwrap_or(0).max(1) as u32;
        let wanted = count.div_ceil(each);
        let stack = spec.stack.unwrap_or(StackSpec { count: 1, step: [0.0; 3] });
        let places = Placement::new(&spec.placement, Some(wanted.div_ceil(stack.count)), seed, assets);
        let places = places.map_err(|error| error.under("placement"))?.all();
        let mut growing = Self {
            spec: spec.clone(),
            layouts,
            clusters: Vec::new(),
            growth: Vec::new(),
            size,
            seed,
            count,
            assets: assets.clone(),
            steps: 0,
            time: 0.0,
            dt: 0.0,
            shown: ShownColumns::default(),
            visible: Vec::new(),
        };
        growing.put(&places, stack, count)?;
        Ok(growing)
    }

    fn put(&mut self, places: &PlacedColumns, stack: StackSpec, count: u32) -> Result<(), SpecError> {
        let refused = |_| {
            let problem = format!("the system has no room for {count} elements");
            SpecError::new("count", problem, "write a smaller count")
        };
        self.growth.try_reserve_exact(count as usize).map_err(refused)?;
        let mut left = count;
        for nth in 0..places.len() {
            let Some(row) = places.row(nth) else { break };
            for level in 0..stack.count {
                if left == 0 {
                    break;
                }
                let key = hash3(row.id, level, self.seed ^ GROW_SEED)[0];
                let layout = key % self.layouts.len() as u32;
                let of = &self.layouts[layout as usize];
                let len = (of.placed.len() as u32).min(left);
                let step = Vec3::from(stack.step) * level as f32;
                let place = Vec3::new(row.px, row.py, row.pz) + step;
                self.clusters.push(Cluster {
                    place: place.to_array(),
                    // Each cluster of a stack has another turn.
                    turn: row.turn + unit(hash3(key, 1, 2)[0]) * std::f32::consts::TAU,
                    first: count - left,
                    len,
                    layout,
                    radius: of.radius + self.size.max,
                    visible: true,
                    key,
                    done: 0,
                    still: false,
                });
                left -= len;
            }
        }
        self.growth.resize((count - left) as usize, 0);
        let (start, bare) = (self.spec.start, self.spec.bare);
        over(&mut self.clusters, &mut self.growth, 0, &|_, cluster, growth| {
            for (nth, growth) in growth.iter_mut().enumerate() {
                let [at, there, _] = hash3(cluster.key, nth as u32, START_SEED).map(unit);
                let grown = (f64::from(start.at(at)) * f64::from(u32::MAX)) as u32;
                *growth = if there < bare { 0 } else { grown.max(1) };
            }
            0
        });
        self.visible.reserve(self.clusters.len());
        Ok(())
    }

    /// Units that an element grows in a step, from its random share of the range of times.
    fn units(&self) -> Units {
        let steps = |seconds: f32| (f64::from(seconds) / f64::from(self.dt)).max(1.0);
        let per =
            |seconds: f32| (f64::from(u32::MAX) / steps(seconds)).clamp(1.0, f64::from(u32::MAX)) as u32;
        let (fast, slow) = (per(self.spec.seconds.min), per(self.spec.seconds.max));
        Units { slow, more: fast - slow }
    }

    /// Updates which clusters are visible. `is_visible` gets the centre and radius of a ball, in metres. A cluster that becomes visible takes its
    /// missed steps before it is shown.
    pub fn update_visibility(&mut self, is_visible: impl Fn([f32; 3], f32) -> bool + Sync) {
        self.clusters
            .par_iter_mut()
            .for_each(|cluster| cluster.visible = is_visible(cluster.place, cluster.radius));
    }

    /// Takes `steps` steps of `dt` seconds (finite and above 0; other steps are not taken). Before a step of another length all clusters take
    /// their missed steps. O(visible elements + others / rotation).
    pub fn step(&mut self, dt: f32, steps: u32, meter: &mut Meter) {
        if !(dt.is_finite() && dt > 0.0) {
            return;
        }
        let started = meter.start(Stage::Integrate);
        if dt != self.dt {
            self.catch_up(|_, _| true);
            self.dt = dt;
        }
        let (mut grown, mut cut) = (0, 0);
        for _ in 0..steps {
            let from = self.time;
            self.time += f64::from(dt);
            self.steps += 1;
            let (turn, rotation) = (self.steps, u64::from(self.spec.rotation));
            // Hidden clusters take turns.
            grown +=
                self.catch_up(|nth, cluster| cluster.visible || (nth as u64 + turn).is_multiple_of(rotation));
            for nth in 0..self.spec.harvest.len() {
                let harvest = self.spec.harvest[nth];
                if harvest.is_due(from, self.time) {
                    cut += self.harvest(&harvest.region, harvest.least, harvest.replant);
                }
            }
        }
        meter.moved(Stage::Integrate, grown * 8);
        meter.stop(started);
        meter.add(Counter::Grown, grown);
        meter.add(Counter::Harvested, cut);
        meter.add(Counter::Alive, self.growth.len() as u64);
        meter.add(Counter::ElementBytes, self.bytes() as u64);
    }

    /// Takes the missed steps of clusters. Returns the number of elements that were stepped.
    fn catch_up(&mut self, which: impl Fn(usize, &Cluster) -> bool + Sync) -> u64 {
        let (units, steps, level) = (self.units(), self.steps, detect());
        let catch_up = |nth: usize, cluster: &mut Cluster, growth: &mut [u32]| {
            let owed = steps - cluster.done;
            if owed == 0 || !which(nth, cluster) {
                return 0;
            }
            cluster.done = steps;
            if cluster.still {
                return 0;
            }
            let _part = part(Stage::Integrate);
            let key = cluster.key;
            cluster.still = grow(level, growth, key, units, owed);
            growth.len() as u64
        };
        over(&mut self.clusters, &mut self.growth, 0, &catch_up)
    }

    /// Returns whether a spec and a count differ from the present ones only in what [`Growing::retune`] can change: `seconds`, `rotation` and `harvest`; and
    /// the count, unless a pattern spreads its clusters over the ground by their number.
    pub fn can_retune(&self, spec: &GrowSpec, count: u32) -> bool {
        let live = |spec: &GrowSpec| GrowSpec {
            seconds: Span::from(1.0),
            rotation: 1,
            harvest: Vec::new(),
            ..spec.clone()
        };
        let stays = count == self.count || !spec.placement.iter().any(PlacementSpec::spreads);
        let fits = fits(u64::from(count), size_of::<u32>() as u64).is_ok();
        spec.check().is_ok() && live(spec) == live(&self.spec) && stays && fits
    }

    /// Changes how fast elements grow, when they are harvested, and their number. What has grown stays: hidden clusters take their missed steps at the
    /// former rate first. Elements that a larger count adds are as old as at the start.
    ///
    /// # Errors
    /// A value is out of range, memory is short, or something differs that cannot change while they grow: see [`Growing::can_retune`]. The elements then
    /// stay as they are.
    pub fn retune(&mut self, spec: &GrowSpec, count: u32) -> Result<Change, SpecError> {
        spec.check()?;
        if *spec == self.spec && count == self.count {
            return Ok(Change::Unchanged);
        }
        if !self.can_retune(spec, count) {
            let problem = "differs in what cannot change while they grow";
            return Err(SpecError::new("growing", problem, "build new ones"));
        }
        self.catch_up(|_, _| true);
        if count != self.count {
            let mut anew = Self::with_assets(spec, count, self.size, self.seed, &self.assets)?;
            anew.continue_from(self);
            *self = anew;
        }
        self.spec = spec.clone();
        Ok(Change::Live)
    }

    /// Takes over time, and the growth of clusters that are at the same places.
    fn continue_from(&mut self, before: &Self) {
        let key = |cluster: &Cluster| (cluster.key, cluster.place.map(f32::to_bits));
        let stood: HashMap<_, &Cluster> =
            before.clusters.iter().map(|cluster| (key(cluster), cluster)).collect();
        (self.steps, self.time, self.dt) = (before.steps, before.time, before.dt);
        for cluster in &mut self.clusters {
            cluster.done = self.steps;
            let Some(was) = stood.get(&key(cluster)) else { continue };
            let same = cluster.len.min(was.len) as usize;
            let (from, to) = (was.first as usize, cluster.first as usize);
            self.growth[to..to + same].copy_from_slice(&before.growth[from..from + same]);
            (cluster.visible, cluster.still) = (was.visible, was.still && cluster.len == was.len);
        }
    }

    /// Removes the elements in a region that have at least a growth of `least` (0 to 1), and sows them again if asked. Returns their number.
    pub fn harvest(&mut self, region: &Region, least: f32, replant: bool) -> u64 {
        let least = ((f64::from(least) * f64::from(u32::MAX)) as u32).max(1);
        self.change(region, |growth| {
            let taken = *growth >= least;
            if taken {
                *growth = u32::from(replant);
            }
            taken
        })
    }

    /// Sows empty places in a region. Returns their number.
    pub fn replant(&mut self, region: &Region) -> u64 {
        self.change(region, |growth| {
            let bare = *growth == 0;
            if bare {
                *growth = 1;
            }
            bare
        })
    }

    fn change(&mut self, region: &Region, change: impl Fn(&mut u32) -> bool + Sync) -> u64 {
        let meets = |cluster: &Cluster| region.reaches(cluster.place.into(), cluster.radius);
        // Elements sown now must not take earlier steps.
        self.catch_up(|_, cluster| meets(cluster));
        let layouts = &self.layouts;
        let each = |_: usize, cluster: &mut Cluster, growth: &mut [u32]| {
            if !meets(cluster) {
                return 0;
            }
            let layout = &layouts[cluster.layout as usize].placed;
            let put = Put::new(cluster);
            let mut changed = 0;
            for (nth, growth) in growth.iter_mut().enumerate() {
                let [x, y, z] = layout.position().map(|column| column[nth]);
                if region.holds(put.place(Vec3::new(x, y, z))) && change(growth) {
                    changed += 1;
                }
            }
            cluster.still &= changed == 0;
            changed
        };
        over(&mut self.clusters, &mut self.growth, 0, &each)
    }

    /// Fills and returns the columns of the visible clusters; [`Growing::visible`] has the first element of each.
    pub fn show(&mut self, meter: &mut Meter) -> &ShownColumns {
        let started = meter.start(Stage::Gather);
        self.catch_up(|_, cluster| cluster.visible);
        self.visible.clear();
        let mut end = 0;
        for (nth, cluster) in self.clusters.iter().enumerate().filter(|(_, cluster)| cluster.visible) {
            self.visible.push((nth as u32, end));
            end += cluster.len;
        }
        self.shown.resize(end as usize);
        let (clusters, layouts, growth, size) = (&self.clusters, &self.layouts, &self.growth, self.size);
        let fill = |nth: u32, mut piece: Piece<'_>| {
            let _part = part(Stage::Gather);
            let cluster = &clusters[nth as usize];
            let range = cluster.first as usize..(cluster.first + cluster.len) as usize;
            piece.fill(cluster, &layouts[cluster.layout as usize].placed, &growth[range], size);
        };
        self.shown.whole_piece().over(&self.visible, &fill);
        meter.moved(Stage::Gather, self.shown.len() as u64 * (ShownColumns::BYTES_PER_ELEMENT as u64 + 32));
        meter.stop(started);
        &self.shown
    }

    /// The columns that [`Growing::show`] filled last.
    pub fn shown(&self) -> &ShownColumns {
        &self.shown
    }

    /// Visible clusters by index, and the index of the first shown element of each.
    pub fn visible(&self) -> &[(u32, u32)] {
        &self.visible
    }

    /// Clusters, in order of their first element.
    pub fn clusters(&self) -> &[Cluster] {
        &self.clusters
    }

    /// Growth of an element, 0 to 1, visible or not; `None` for an empty place, or an index past the last.
    pub fn growth(&self, nth: usize) -> Option<f32> {
        let mut growth = *self.growth.get(nth)?;
        let at = self.clusters.partition_point(|cluster| cluster.first as usize <= nth) - 1;
        let cluster = &self.clusters[at];
        advance_one(
            &mut growth,
            cluster.key,
            nth as u32 - cluster.first,
            self.units(),
            self.steps - cluster.done,
        );
        (growth > 0).then(|| (f64::from(growth) / f64::from(u32::MAX)) as f32)
    }

    /// Number of places, empty ones included.
    pub fn len(&self) -> usize {
        self.growth.len()
    }

    /// Returns whether there are no places.
    pub fn is_empty(&self) -> bool {
        self.growth.is_empty()
    }

    /// Memory in bytes of growth, clusters and layouts, without the shown columns.
    pub fn bytes(&self) -> usize {
        self.growth.capacity() * size_of::<u32>()
            + self.clusters.capacity() * size_of::<Cluster>()
            + self.layouts.iter().map(|it| it.placed.len() * PlacedColumns::BYTES_PER_ELEMENT).sum::<usize>()
    }

    /// The spec it was built from.
    pub fn spec(&self) -> &GrowSpec {
        &self.spec
    }

    /// Simulated time in seconds.
    pub fn time(&self) -> f64 {
        self.time
    }
}

/// Sets draws apart.
const GROW_SEED: u32 = 0x6709_41b3;

/// Transform of a cluster.
struct Put {
    turn: Quat,
    place: Vec3,
}

impl Put {
    fn new(cluster: &Cluster) -> Self {
        Self { turn: Quat::from_rotation_y(cluster.turn), place: cluster.place.into() }
    }

    fn place(&self, local: Vec3) -> Vec3 {
        self.turn * local + self.place
    }
}

/// Visits clusters from the nth, each with its growth, in halves on all cores, and returns the sum. It builds no list.
fn over(
    clusters: &mut [Cluster],
    growth: &mut [u32],
    nth: usize,
    visit: &(impl Fn(usize, &mut Cluster, &mut [u32]) -> u64 + Sync),
) -> u64 {
    if clusters.len() > 4 {
        let middle = clusters.len() / 2;
        let (left, right) = clusters.split_at_mut(middle);
        let (before, after) = growth.split_at_mut((right[0].first - left[0].first) as usize);
        let (a, b) =
            rayon::join(|| over(left, before, nth, visit), || over(right, after, nth + middle, visit));
        return a + b;
    }
    let (mut rest, mut sum) = (growth, 0);
    for (off, cluster) in clusters.iter_mut().enumerate() {
        let (mine, after) = std::mem::take(&mut rest).split_at_mut(cluster.len as usize);
        sum += visit(nth + off, cluster, mine);
        rest = after;
    }
    sum
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::placement::PlacementSpec;

    #[test]
    fn an_element_is_four_bytes_and_a_share_of_its_cluster() {
        let spec = GrowSpec::new(PlacementSpec::default(), 2048, PlacementSpec::default());
        let growing = Growing::new(&spec, 1 << 20, Span::from(0.01), 1).unwrap();
        assert_eq!(growing.len(), 1 << 20);
        assert!(growing.bytes() <= (1 << 20) * 5, "{}", growing.bytes());
    }
}
