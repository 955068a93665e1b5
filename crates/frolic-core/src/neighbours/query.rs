//! Queries of sorted elements. Candidates come in the order of their cells, whatever the technique, so that sums are the same to the bit.

use fearless_simd::f32x8;
use fearless_simd::prelude::*;
use rayon::prelude::*;

use super::Neighbours;
use super::grid::{Run, Runs};
use super::spec::{AxisSpec, NeighbourTechnique};
use crate::foundations::error::{SpecError, within};
use crate::foundations::meter::{Counter, Meter, Stage};
use crate::foundations::random::{hash3, unit};
use crate::foundations::simd::kernel;

/// An element near another, or near a point.
#[derive(Debug, Clone, Copy, PartialEq)]
#[non_exhaustive]
pub struct Near {
    /// Its population, in the order of [`Neighbours::find`].
    pub population: usize,
    /// Its number in its population.
    pub index: usize,
    /// Way there in metres, the shortest in a space that wraps; 0 along an axis that does not count.
    pub offset: [f32; 3],
    /// Square of its distance, in square metres.
    pub square: f32,
    /// Elements that it stands for: 1, or more in a crowd.
    pub weight: f32,
}

impl Near {
    /// Its distance in metres.
    pub fn distance(&self) -> f32 {
        self.square.sqrt()
    }
}

/// Iterator over the elements near a point or an element.
#[derive(Debug)]
pub struct Others<'a> {
    of: &'a Neighbours,
    population: usize,
    after: usize,
    at: [f32; 3],
    radius: f32,
    /// Population and place of the element itself, which is left out; of pairs also all before it.
    own: Option<(usize, u32)>,
    is_pairs: bool,
    runs: Runs,
    /// Number of runs begun; next place in the last of them, and its end; step between candidates.
    run: usize,
    place: u32,
    end: u32,
    step: u32,
    tested: u64,
    near: u64,
    sampled: bool,
    desk: Option<&'a mut Tested>,
}

impl Iterator for Others<'_> {
    type Item = Near;

    #[inline]
    fn next(&mut self) -> Option<Near> {
        let most = self.radius * self.radius;
        loop {
            let sorted = self.of.populations.get(self.population)?;
            while self.place < self.end {
                let place = self.place;
                self.place += self.step;
                if let Some(own) = self.own
                    && (own == (self.population, place) || (self.is_pairs && (self.population, place) < own))
                {
                    continue;
                }
                self.tested += 1;
                let other = [0, 1, 2].map(|axis| sorted.at[axis][place as usize]);
                let offset = self.of.grid.offset(self.at, other);
                let [x, y, z] = offset;
                let square = x * x + y * y + z * z;
                if square <= most {
                    self.near += 1;
                    return Some(Near {
                        population: self.population,
                        index: sorted.order[place as usize] as usize,
                        offset,
                        square,
                        weight: self.step as f32,
                    });
                }
            }
            if !self.next_run() {
                self.population += 1;
                if self.population >= self.after {
                    return None;
                }
                self.enter();
            }
        }
    }
}

impl Others<'_> {
    /// Starts the present population.
    fn enter(&mut self) {
        (self.run, self.place, self.end, self.step) = (0, 0, 0, 1);
        self.runs.clear();
        let Neighbours { spec, grid, populations, turn, .. } = self.of;
        let Some(sorted) = populations.get(self.population) else { return };
        match spec.technique {
            NeighbourTechnique::Grid => {
                grid.around([self.at; 2], self.radius, &mut self.runs);
                for run in &mut self.runs {
                    *run = run.map(|cell| sorted.starts[cell as usize]);
                }
            }
            NeighbourTechnique::AllPairs => self.runs.push([0, sorted.order.len() as u32]),
        }
        let candidates: u32 = self.runs.iter().map(|[from, to]| to - from).sum();
        if spec.technique == NeighbourTechnique::Grid && candidates > spec.most {
            self.step = candidates.div_ceil(spec.most);
            self.sampled = true;
            let (population, place) = self.own.unwrap_or((0, 0));
            // Another share of the crowd in each turn.
            self.place = hash3(*turn, place, population as u32)[0] % self.step;
        }
    }

    /// Goes on to the next run; `false` after the last.
    fn next_run(&mut self) -> bool {
        let Some(&[from, to]) = self.runs.get(self.run) else { return false };
        // What the step leaves over goes on in the next run.
        let over = if self.run == 0 { self.place } else { self.place - self.end };
        (self.run, self.place, self.end) = (self.run + 1, from + over, to);
        true
    }

    /// Shows all that are left, in the same order as the iterator, several times as fast.
    pub fn visit(&mut self, see: impl FnMut(Near)) {
        match self.desk.take() {
            Some(desk) => self.visit_at(desk, see),
            None => self.visit_at(&mut Tested::default(), see),
        }
    }

    /// The same in memory that is there.
    fn visit_at(&mut self, desk: &mut Tested, mut see: impl FnMut(Near)) {
        while let Some(sorted) = self.of.populations.get(self.population) {
            if self.step > 1 {
                self.by_ref().for_each(see);
                return;
            }
            let query = Query {
                at: self.at,
                lengths: self.of.grid.lengths(),
                square: self.radius * self.radius,
                // Those before are done, or left out.
                from: self.first_of_pairs(),
                own: self.own.filter(|own| own.0 == self.population).map_or(u32::MAX, |own| own.1),
            };
            loop {
                let left = [self.place, self.end];
                let runs = &self.runs[self.run..];
                let columns = sorted.at.each_ref().map(|column| &column[..]);
                let Progress { place, end, run, tested } =
                    test(self.of.level, &query, columns, left, runs, desk);
                (self.place, self.end, self.run) = (place, end, self.run + run);
                self.tested += tested;
                for (word, near) in desk.near.iter().enumerate() {
                    self.near += u64::from(near.count_ones());
                    let mut near = *near;
                    while near != 0 {
                        let nth = 64 * word + near.trailing_zeros() as usize;
                        near &= near - 1;
                        let place = desk.place[nth / 8] as usize + nth % 8;
                        see(Near {
                            population: self.population,
                            index: sorted.order[place] as usize,
                            offset: [desk.offset[0][nth], desk.offset[1][nth], desk.offset[2][nth]],
                            square: desk.square[nth],
                            weight: 1.0,
                        });
                    }
                }
                if self.place >= self.end && self.run == self.runs.len() {
                    break;
                }
            }
            self.population += 1;
            if self.population >= self.after {
                return;
            }
            self.enter();
        }
    }

    /// First place whose pairs are wanted in the present population.
    fn first_of_pairs(&self) -> u32 {
        let own = self.own.filter(|own| self.is_pairs && own.0 == self.population);
        own.map_or(0, |own| own.1 + 1)
    }

    /// Candidates tested so far.
    pub fn tested(&self) -> u64 {
        self.tested
    }

    /// Whether there are so many candidates that evenly spaced ones stand for the rest.
    pub fn is_sampled(&self) -> bool {
        self.sampled
    }
}

/// Groups of eight candidates that are tested before any are shown.
const GROUPS: usize = 16;

/// Candidates in groups of eight: the place of each group's first, a bit for each that is near, ways there, and squares of their distances. Kept whole, as
/// picking out those near costs more than the memory.
#[derive(Debug, Clone)]
struct Tested {
    groups: usize,
    place: [u32; GROUPS],
    near: [u64; GROUPS / 8],
    offset: [[f32; 8 * GROUPS]; 3],
    square: [f32; 8 * GROUPS],
}

impl Default for Tested {
    fn default() -> Self {
        let none = [0.0; 8 * GROUPS];
        Self { groups: 0, place: [0; GROUPS], near: [0; GROUPS / 8], offset: [none; 3], square: none }
    }
}

/// What is looked for.
#[derive(Debug, Clone, Copy)]
struct Query {
    at: [f32; 3],
    /// Where space wraps, its length; else 0.
    lengths: [f32; 3],
    square: f32,
    /// First place that counts, and one that does not.
    from: u32,
    own: u32,
}

/// How far a search came: the next place, the end of its run, runs that were begun, and candidates tested.
#[derive(Debug, Clone, Copy)]
struct Progress {
    place: u32,
    end: u32,
    run: usize,
    tested: u64,
}

kernel! {
    /// Tests candidates of what is left of a run and of further ones, until there is no room for more.
    fn test(simd, query: &Query, columns: [&[f32]; 3], left: [u32; 2], runs: &[Run], into: &mut Tested) -> Progress {
        let mut so_far = Progress { place: left[0], end: left[1], run: 0, tested: 0 };
        let wraps = query.lengths[0] > 0.0 || query.lengths[1] > 0.0 || query.lengths[2] > 0.0;
        let square = f32x8::splat(simd, query.square);
        into.near = [0; GROUPS / 8];
        into.groups = 0;
        loop {
            if so_far.place >= so_far.end {
                let Some(&[from, to]) = runs.get(so_far.run) else { return so_far };
                (so_far.place, so_far.end, so_far.run) = (from.max(query.from), to, so_far.run + 1);
                continue;
            }
            if into.groups == GROUPS {
                return so_far;
            }
            let (group, place) = (into.groups % GROUPS, so_far.place as usize);
            let count = (so_far.end - so_far.place).min(8);
            so_far.place += count;
            // Columns go on for eight values after the last element.
            let mut sum = square * 0.0;
            for axis in 0..3 {
                let mut way = f32x8::from_slice(simd, &columns[axis][place..place + 8]) - query.at[axis];
                if wraps && query.lengths[axis] > 0.0 {
                    let (length, half) = (query.lengths[axis], f32x8::splat(simd, query.lengths[axis] * 0.5));
                    let (low, high) = (way.simd_lt(half * -1.0), way.simd_gt(half));
                    way = high.select(way - length, low.select(way + length, way));
                }
                sum += way * way;
                into.offset[axis][8 * group..8 * group + 8].copy_from_slice(&way.to_array());
            }
            into.square[8 * group..8 * group + 8].copy_from_slice(&sum.to_array());
            // All but the element itself.
            let own = query.own.wrapping_sub(place as u32);
            let not_own = if own < count { !(1 << own) } else { u64::MAX };
            let wanted = ((1 << count) - 1) & not_own;
            let near = sum.simd_le(square).to_bitmask() & wanted;
            into.near[group / 8] |= near << (8 * (group % 8));
            into.place[group] = place as u32;
            into.groups += 1;
            so_far.tested += u64::from(wanted.count_ones());
        }
    }
}

/// What queries of a task counted.
#[derive(Debug, Clone, Copy, Default)]
struct Tally {
    tested: u64,
    near: u64,
    sampled: u64,
}

impl Tally {
    fn sum(self, other: Self) -> Self {
        Self {
            tested: self.tested + other.tested,
            near: self.near + other.near,
            sampled: self.sampled + other.sampled,
        }
    }

    fn count(self, meter: &mut Meter) {
        meter.add(Counter::PairsTested, self.tested);
        meter.add(Counter::PairsNear, self.near);
        meter.add(Counter::Crowded, self.sampled);
    }
}

/// Elements of a task.
const TASK: usize = 512;

impl Neighbours {
    /// All elements within a radius of a point, in metres, at most the reach of the spec. In the order of populations and cells.
    pub fn within(&self, at: [f32; 3], radius: f32) -> Others<'_> {
        self.others(at, radius, [0, self.populations.len()], None)
    }

    /// Those of one population.
    pub fn within_population(&self, population: usize, at: [f32; 3], radius: f32) -> Others<'_> {
        self.others(at, radius, [population, population + 1], None)
    }

    /// The `count` elements nearest to a point within a radius, nearest first; those as near by population and number.
    pub fn nearest(&self, at: [f32; 3], radius: f32, count: usize, into: &mut Vec<Near>) {
        into.clear();
        let before = |a: &Near, b: &Near| {
            a.square.total_cmp(&b.square).then((a.population, a.index).cmp(&(b.population, b.index)))
        };
        for near in self.within(at, radius) {
            if into.len() < count || into.last().is_some_and(|last| before(&near, last).is_lt()) {
                let place = into.partition_point(|other| before(other, &near).is_lt());
                into.insert(place, near);
                into.truncate(count);
            }
        }
    }

    /// Direction from an element to another near it, of unit length, along the axes that count. Two on one spot get opposite directions, by their numbers.
    pub fn direction(&self, own: usize, other: &Near) -> [f32; 3] {
        if other.square > 1e-24 {
            let per = 1.0 / other.distance();
            return other.offset.map(|way| way * per);
        }
        let (low, high) = (own.min(other.index), own.max(other.index));
        let mut way = hash3(low as u32, high as u32, 0x6e65).map(|bits| unit(bits) - 0.5);
        for (way, axis) in way.iter_mut().zip(self.spec.axes) {
            if axis == AxisSpec::Ignored {
                *way = 0.0;
            }
        }
        let length = way.iter().map(|way| way * way).sum::<f32>().sqrt();
        let sign = if own < other.index { 1.0 } else { -1.0 };
        if length > 0.0 { way.map(|way| way / length * sign) } else { way }
    }

    /// A value for each element of a population from those within a radius of it: its own number, its position and all others but itself. On all cores;
    /// values are in the order of elements.
    ///
    /// # Errors
    /// The radius is not finite, not above 0 or over the reach of the spec; there is no such population.
    pub fn each<T: Copy + Default + Send + Sync>(
        &self,
        population: usize,
        radius: f32,
        rule: impl Fn(usize, [f32; 3], &mut Others<'_>) -> T + Sync,
        into: &mut Vec<T>,
        scratch: &mut Vec<T>,
        meter: &mut Meter,
    ) -> Result<(), SpecError> {
        within("radius", radius, f32::MIN_POSITIVE, self.spec.reach, "m")?;
        let Some(sorted) = self.populations.get(population) else {
            let problem = format!("there is no population {population}");
            return Err(SpecError::new(
                "population",
                problem,
                format!("write one below {}", self.populations.len()),
            ));
        };
        let started = meter.start(Stage::Neighbours);
        let all = [0, self.populations.len()];
        scratch.resize(sorted.order.len(), T::default());
        let tally = scratch
            .par_chunks_mut(TASK)
            .enumerate()
            .map(|(task, values)| {
                let (mut tally, mut desk) = (Tally::default(), Tested::default());
                for (nth, value) in values.iter_mut().enumerate() {
                    let place = task * TASK + nth;
                    let at = [0, 1, 2].map(|axis| sorted.at[axis][place]);
                    let mut others = self.others(at, radius, all, Some((population, place as u32)));
                    others.desk = Some(&mut desk);
                    *value = rule(sorted.order[place] as usize, at, &mut others);
                    // What the rule did not look at counts neither.
                    tally.tested += others.tested;
                    tally.near += others.near;
                    tally.sampled += u64::from(others.sampled);
                }
                tally
            })
            .reduce(Tally::default, Tally::sum);
        tally.count(meter);
        into.resize(sorted.order.len(), T::default());
        for (value, place) in scratch.iter().zip(&sorted.order) {
            into[*place as usize] = *value;
        }
        meter.stop(started);
        Ok(())
    }

    /// Every pair of elements within a radius of each other once, in the order of populations and cells.
    pub fn pairs(&self, radius: f32) -> impl Iterator<Item = Pair> + '_ {
        let elements = self.populations.iter().enumerate().flat_map(|(population, sorted)| {
            (0..sorted.order.len()).map(move |place| (population, sorted, place))
        });
        elements.flat_map(move |(population, sorted, place)| {
            let at = [0, 1, 2].map(|axis| sorted.at[axis][place]);
            let own = Some((population, place as u32));
            let mut others = self.others(at, radius, [population, self.populations.len()], own);
            others.is_pairs = true;
            let index = sorted.order[place] as usize;
            others.map(move |other| Pair { population, index, other })
        })
    }

    fn others(
        &self,
        at: [f32; 3],
        radius: f32,
        [from, after]: [usize; 2],
        own: Option<(usize, u32)>,
    ) -> Others<'_> {
        let radius = if radius.is_finite() { radius.clamp(0.0, self.spec.reach) } else { 0.0 };
        let mut others = Others {
            of: self,
            population: from,
            after,
            at: self.grid.reduced(at),
            radius,
            own,
            runs: Runs::new(),
            run: 0,
            place: 0,
            end: 0,
            step: 1,
            tested: 0,
            near: 0,
            sampled: false,
            is_pairs: false,
            desk: None,
        };
        others.enter();
        others
    }
}

/// Two elements near each other.
#[derive(Debug, Clone, Copy, PartialEq)]
#[non_exhaustive]
pub struct Pair {
    /// Population and number of one of them.
    pub population: usize,
    /// Its number in its population.
    pub index: usize,
    /// The other, as seen from it.
    pub other: Near,
}
