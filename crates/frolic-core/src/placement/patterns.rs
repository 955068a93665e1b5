//! Patterns of positions on the ground: rows, scattered, blue noise, rings.
//!
//! A pattern is endless and depends only on its numbers and the seed: [`Pattern::within`] returns the positions of any rectangle,
//! always the same ones. Pieces of an endless field can be built alone, and adjacent rectangles share none and miss none.

use serde::{Deserialize, Serialize};

use crate::foundations::error::{SpecError, at_most, within};
use crate::foundations::random::{Draws, hash3, unit};

/// Pattern of positions.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub enum PatternSpec {
    /// Independent random positions, with bunches and gaps.
    #[default]
    Scattered,
    /// In rows.
    Grid {
        /// Spacing along x and z in metres, 0.001 to 1e5. Default: 0, from the density.
        #[serde(default)]
        spacing: [f32; 2],
        /// Random offset, as a share of the spacing, 0 to 1. Default: 0.
        #[serde(default)]
        jitter: f32,
        /// Turn of the rows in degrees, anticlockwise from above. Default: 0.
        #[serde(default)]
        turn_degrees: f32,
    },
    /// Random positions with a least distance: even, without rows.
    BlueNoise {
        /// Least distance in metres, 0.001 to 1e5. Default: 0, as large as the density allows.
        #[serde(default)]
        distance: f32,
    },
    /// Crossings of rings around two or more centres: bent rows.
    Rings {
        /// Centres, x and z, in metres, 2 to 16.
        centres: Vec<[f32; 2]>,
        /// Distance between rings in metres, 0.001 to 1e5.
        spacing: f32,
        /// Variation of the distance between rings, counted outwards, in metres, 0 to half the spacing. Default: 0.
        #[serde(default)]
        swell: f32,
        /// Period of the variation in rings, 1 to 1e6. Default: 8.
        #[serde(default = "eight")]
        period: f32,
    },
}

fn eight() -> f32 {
    8.0
}

/// Most centres of rings.
const MOST_CENTRES: usize = 16;

/// Most rings around a centre.
const MOST_RINGS: f32 = 1e6;

impl PatternSpec {
    pub(crate) fn check(&self) -> Result<(), SpecError> {
        match self {
            Self::Scattered => Ok(()),
            Self::Grid { spacing, jitter, turn_degrees } => {
                for &side in spacing.iter().filter(|&&side| side != 0.0) {
                    within("grid.spacing", side, 0.001, 1e5, "m, or 0 for as the density says")?;
                }
                within("grid.jitter", *jitter, 0.0, 1.0, "")?;
                within("grid.turn_degrees", *turn_degrees, -1e6, 1e6, "degrees")
            }
            Self::BlueNoise { distance } if *distance == 0.0 => Ok(()),
            Self::BlueNoise { distance } => {
                within("blue-noise.distance", *distance, 0.001, 1e5, "m, or 0 for as the density says")
            }
            Self::Rings { centres, spacing, swell, period } => {
                at_most("rings.centres", centres.len(), MOST_CENTRES)?;
                if centres.len() < 2 {
                    let problem = "rings around one centre never cross";
                    return Err(SpecError::new("rings.centres", problem, "write two or more"));
                }
                for (nth, centre) in centres.iter().enumerate() {
                    centre.iter().try_for_each(|&at| within("rings.centres", at, -1e6, 1e6, "m"))?;
                    if centres[..nth].contains(centre) {
                        let problem = format!("[{}, {}] is given twice", centre[0], centre[1]);
                        return Err(SpecError::new("rings.centres", problem, "write different ones"));
                    }
                }
                within("rings.spacing", *spacing, 0.001, 1e5, "m")?;
                within("rings.swell", *swell, 0.0, spacing * 0.5, "m")?;
                within("rings.period", *period, 1.0, 1e6, "rings")
            }
        }
    }

    /// The pattern at a density, in elements a square metre, if its own numbers leave it open.
    pub(crate) fn build(&self, density: f32, seed: u32) -> Pattern {
        let density = density.clamp(1e-9, MOST_DENSITY);
        let even = 1.0 / density.sqrt();
        match self {
            Self::Scattered => Pattern { seed, way: Way::Scattered { side: (SCATTERED / density).sqrt() } },
            Self::Grid { spacing, jitter, turn_degrees } => {
                let [x, z] = match *spacing {
                    [0.0, 0.0] => [even; 2],
                    [x, 0.0] => [x, even * even / x],
                    [0.0, z] => [even * even / z, z],
                    both => both,
                };
                let (sin, cos) = libm::sincosf(turn_degrees.to_radians());
                Pattern { seed, way: Way::Grid { spacing: [x, z], jitter: *jitter, sin, cos } }
            }
            Self::BlueNoise { distance } => {
                let distance = if *distance > 0.0 { *distance } else { (PACKED / density).sqrt() };
                Pattern { seed, way: Way::BlueNoise { distance } }
            }
            Self::Rings { centres, spacing, swell, period } => {
                let rings = Rings { spacing: *spacing, swell: *swell, period: *period };
                Pattern { seed, way: Way::Rings { centres: centres.clone(), rings } }
            }
        }
    }

    /// Returns whether its density is fixed by its own numbers.
    pub(crate) fn is_set(&self) -> bool {
        match self {
            Self::Scattered => false,
            Self::Grid { spacing, .. } => spacing.iter().all(|&side| side > 0.0),
            Self::BlueNoise { distance } => *distance > 0.0,
            Self::Rings { .. } => true,
        }
    }
}

/// Most elements a square metre.
pub(crate) const MOST_DENSITY: f32 = 1e6;

/// Elements of blue noise in a square of its distance that [`blue_noise`] reaches (a test measures it).
const PACKED: f32 = 0.56;

/// Mean number of scattered elements in a cell.
const SCATTERED: f32 = 4.0;

/// A built pattern.
#[derive(Debug, Clone)]
pub(crate) struct Pattern {
    seed: u32,
    way: Way,
}

#[derive(Debug, Clone)]
enum Way {
    Scattered { side: f32 },
    Grid { spacing: [f32; 2], jitter: f32, sin: f32, cos: f32 },
    BlueNoise { distance: f32 },
    Rings { centres: Vec<[f32; 2]>, rings: Rings },
}

/// A position of a pattern, x and z in metres, with a unique number.
pub(crate) type Spot = ([f32; 2], u32);

impl Pattern {
    /// Passes on the positions in a rectangle, in metres; the least corner is included, the greatest is not.
    pub(crate) fn within(&self, low: [f32; 2], high: [f32; 2], mut put: impl FnMut(Spot)) {
        let inside = |[x, z]: [f32; 2]| x >= low[0] && x < high[0] && z >= low[1] && z < high[1];
        let mut put = |spot: Spot| {
            if inside(spot.0) {
                put(spot);
            }
        };
        match &self.way {
            Way::Scattered { side } => {
                for (i, j) in cells(low, high, [*side; 2]) {
                    let [key, many, _] = hash3(i as u32, j as u32, self.seed);
                    for nth in 0..poisson(unit(many)) {
                        let draws = Draws { seed: key, id: nth };
                        let [u, v, _] = draws.draw(0);
                        put(([(i as f32 + u) * side, (j as f32 + v) * side], key.wrapping_add(nth)));
                    }
                }
            }
            Way::Grid { spacing, jitter, sin, cos } => {
                // Corners of the rectangle in the axes of the rows.
                let turned = |[x, z]: [f32; 2]| [x * cos - z * sin, x * sin + z * cos];
                let corners = [low, [high[0], low[1]], [low[0], high[1]], high].map(turned);
                let fold = |axis: usize, start: f32, pick: fn(f32, f32) -> f32| {
                    corners.iter().fold(start, |most, corner| pick(most, corner[axis]))
                };
                let from = [fold(0, f32::INFINITY, f32::min), fold(1, f32::INFINITY, f32::min)];
                let to = [fold(0, f32::NEG_INFINITY, f32::max), fold(1, f32::NEG_INFINITY, f32::max)];
                for (i, j) in cells(from, to, *spacing) {
                    let [key, ..] = hash3(i as u32, j as u32, self.seed);
                    let [u, v, _] = Draws { seed: key, id: 0 }.draw(0);
                    let along =
                        |at: i32, draw: f32, side: f32| (at as f32 + 0.5 + (draw - 0.5) * jitter) * side;
                    let (x, z) = (along(i, u, spacing[0]), along(j, v, spacing[1]));
                    put(([x * cos + z * sin, z * cos - x * sin], key));
                }
            }
            Way::BlueNoise { distance } => blue_noise(*distance, self.seed, low, high, put),
            Way::Rings { centres, rings } => {
                for a in 0..centres.len() {
                    for b in a + 1..centres.len() {
                        rings.crossings(centres[a], centres[b], low, high, |at, m, n| {
                            let [key, ..] = hash3(m ^ ((a as u32) << 28), n ^ ((b as u32) << 28), self.seed);
                            put((at, key));
                        });
                    }
                }
            }
        }
    }

    /// Approximate number of candidates of [`Pattern::within`] in a rectangle.
    pub(crate) fn candidates(&self, low: [f32; 2], high: [f32; 2]) -> f64 {
        let [wide, deep] = [0, 1].map(|axis| f64::from(high[axis]) - f64::from(low[axis]));
        let lattice = |[x, z]: [f32; 2]| (wide / f64::from(x) + 1.0) * (deep / f64::from(z) + 1.0);
        match &self.way {
            Way::Scattered { side } => lattice([*side; 2]) * f64::from(SCATTERED),
            // A turned rectangle fits in one of at most twice its area.
            Way::Grid { spacing, .. } => lattice(*spacing) * 2.0,
            Way::BlueNoise { distance } => lattice([*distance * CANDIDATE; 2]),
            Way::Rings { centres, rings } => {
                let pairs = centres
                    .iter()
                    .enumerate()
                    .flat_map(|(nth, a)| centres[nth + 1..].iter().map(move |b| (a, b)));
                pairs.map(|(a, b)| rings.candidates(*a, *b, low, high)).sum()
            }
        }
    }
}

/// Cells of a lattice that a rectangle touches.
fn cells(low: [f32; 2], high: [f32; 2], side: [f32; 2]) -> impl Iterator<Item = (i32, i32)> {
    let span = |axis: usize| {
        let cell = |at: f32| (at / side[axis]).floor().clamp(-2e9, 2e9) as i32;
        cell(low[axis])..=cell(high[axis])
    };
    let across = span(0);
    span(1).flat_map(move |j| across.clone().map(move |i| (i, j)))
}

/// A number with a mean of [`SCATTERED`], for a draw 0..1: Poisson's, by its rising sums; at most 24.
fn poisson(draw: f32) -> u32 {
    let mut term = (-f64::from(SCATTERED)).exp();
    let mut sum = term;
    let mut many = 0;
    while f64::from(draw) >= sum && many < 24 {
        many += 1;
        term *= f64::from(SCATTERED) / f64::from(many);
        sum += term;
    }
    many
}

/// Side of the lattice of blue noise over the distance: candidates three cells apart are never too near.
const CANDIDATE: f32 = 0.5;

/// Rounds in which candidates are chosen; each looks twice the distance further.
const ROUNDS: usize = 5;

/// Blue noise: each cell of a lattice has a jittered candidate with a random rank. In each round, candidates that outrank all others within
/// the distance stay, and candidates too near to them are removed. The result equals dart throwing in order of rank (Cook, "Stochastic
/// Sampling in Computer Graphics", 1986), computed everywhere at once (Luby, "A Simple Parallel Algorithm for the Maximal
/// Independent Set Problem", 1986) and from the neighbourhood alone: the rectangle is enlarged by the reach of the rounds.
/// O(candidates).
fn blue_noise(distance: f32, seed: u32, low: [f32; 2], high: [f32; 2], mut put: impl FnMut(Spot)) {
    #[derive(Clone, Copy, PartialEq)]
    enum State {
        Open,
        Stays,
        Gone,
    }
    let side = distance * CANDIDATE;
    let margin = distance * (2 * ROUNDS) as f32;
    let first = [0, 1].map(|axis| ((low[axis] - margin) / side).floor() as i64);
    let last = [0, 1].map(|axis| ((high[axis] + margin) / side).floor() as i64);
    let [w, h] = [0, 1].map(|axis| (last[axis] - first[axis] + 1).max(0) as usize);
    let mut places = Vec::with_capacity(w * h);
    for j in 0..h {
        for i in 0..w {
            let (x, z) = (first[0] + i as i64, first[1] + j as i64);
            let [u, v, rank] = hash3(x as u32, z as u32, seed);
            places.push(([(x as f32 + unit(u)) * side, (z as f32 + unit(v)) * side], rank));
        }
    }
    let mut state = vec![State::Open; w * h];
    let mut open: Vec<u32> = (0..(w * h) as u32).collect();
    let square = distance * distance;
    let near = |a: [f32; 2], b: [f32; 2]| (a[0] - b[0]).powi(2) + (a[1] - b[1]).powi(2) < square;
    // Cells up to two away and their corners' neighbours: as far as the distance reaches.
    let around = |at: u32| {
        let (i, j) = (at as usize % w, at as usize / w);
        let rows = j.saturating_sub(AROUND)..(j + AROUND + 1).min(h);
        let columns = i.saturating_sub(AROUND)..(i + AROUND + 1).min(w);
        rows.flat_map(move |row| columns.clone().map(move |column| row * w + column))
    };
    let mut stayed = Vec::new();
    for _ in 0..ROUNDS {
        stayed.clear();
        for &at in &open {
            let (place, rank) = places[at as usize];
            let beaten = around(at).any(|other| {
                other != at as usize
                    && state[other] == State::Open
                    && (places[other].1, other) > (rank, at as usize)
                    && near(place, places[other].0)
            });
            if !beaten {
                stayed.push(at);
            }
        }
        for &at in &stayed {
            state[at as usize] = State::Stays;
            for other in around(at) {
                if state[other] == State::Open && near(places[at as usize].0, places[other].0) {
                    state[other] = State::Gone;
                }
            }
        }
        open.retain(|&at| state[at as usize] == State::Open);
    }
    for (at, (place, rank)) in places.iter().enumerate() {
        if state[at] == State::Stays {
            put((*place, rank ^ hash3(at_key(place[0]), at_key(place[1]), seed)[0]));
        }
    }
}

/// Cells to each side in which candidates can be too near.
const AROUND: usize = (1.0 / CANDIDATE) as usize;

fn at_key(v: f32) -> u32 {
    v.to_bits()
}

/// Rings about a centre: the nth, counted from 1, has radius `n spacing + swell sin(turn n / period)`.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Rings {
    pub(crate) spacing: f32,
    pub(crate) swell: f32,
    pub(crate) period: f32,
}

impl Rings {
    pub(crate) fn radius(&self, nth: u32) -> f32 {
        let turn = (f64::from(nth) / f64::from(self.period)).fract() * std::f64::consts::TAU;
        nth as f32 * self.spacing + self.swell * turn.sin() as f32
    }

    /// Which rings about a centre can meet a rectangle.
    fn through(&self, centre: [f32; 2], low: [f32; 2], high: [f32; 2]) -> std::ops::RangeInclusive<u32> {
        let (mut near, mut far) = (0.0f32, 0.0f32);
        for axis in 0..2 {
            let (a, b) = (low[axis] - centre[axis], high[axis] - centre[axis]);
            near += a.max(-b).max(0.0).powi(2);
            far += a.abs().max(b.abs()).powi(2);
        }
        let from = ((near.sqrt() - self.swell) / self.spacing).floor().clamp(1.0, MOST_RINGS);
        let to = ((far.sqrt() + self.swell) / self.spacing).ceil().clamp(0.0, MOST_RINGS);
        from as u32..=to as u32
    }

    /// Those of the rings `of_b` about a centre that can cross a ring of radius `ra` about another one, `apart` away.
    fn near(
        &self,
        ra: f64,
        apart: f64,
        of_b: &std::ops::RangeInclusive<u32>,
    ) -> std::ops::RangeInclusive<u32> {
        let (spacing, swell) = (f64::from(self.spacing), f64::from(self.swell));
        // Radii are floats: a ring to either side is within their error.
        let from = ((((ra - apart).abs() - swell) / spacing).floor() - 1.0).max(0.0);
        let to = ((ra + apart + swell) / spacing).ceil() + 1.0;
        (*of_b.start()).max(from as u32)..=(*of_b.end()).min(to as u32)
    }

    /// Estimates the number of pairs of rings that [`Rings::crossings`] visits.
    fn candidates(&self, a: [f32; 2], b: [f32; 2], low: [f32; 2], high: [f32; 2]) -> f64 {
        let many = |rings: std::ops::RangeInclusive<u32>| {
            (f64::from(*rings.end()) - f64::from(*rings.start()) + 1.0).max(0.0)
        };
        let apart = (f64::from(b[0]) - f64::from(a[0])).hypot(f64::from(b[1]) - f64::from(a[1]));
        let near = 2.0 * (apart + f64::from(self.swell)) / f64::from(self.spacing) + 4.0;
        many(self.through(a, low, high)) * many(self.through(b, low, high)).min(near)
    }

    /// Hands out where rings about `a` and `b` cross within a rectangle, and which ring of each it is. Each crossing of two rings is two
    /// points, one to each side of the line through the centres, or one where they touch.
    pub(crate) fn crossings(
        &self,
        a: [f32; 2],
        b: [f32; 2],
        low: [f32; 2],
        high: [f32; 2],
        mut put: impl FnMut([f32; 2], u32, u32),
    ) {
        let [dx, dz] = [f64::from(b[0]) - f64::from(a[0]), f64::from(b[1]) - f64::from(a[1])];
        let apart = dx.hypot(dz);
        let (ux, uz) = (dx / apart, dz / apart);
        let of_b = self.through(b, low, high);
        for m in self.through(a, low, high) {
            let ra = f64::from(self.radius(m));
            for n in self.near(ra, apart, &of_b) {
                let rb = f64::from(self.radius(n));
                if ra <= 0.0 || rb <= 0.0 || ra + rb < apart || (ra - rb).abs() > apart {
                    continue;
                }
                let along = (ra * ra - rb * rb + apart * apart) / (2.0 * apart);
                let aside = (ra * ra - along * along).max(0.0).sqrt();
                let sides: &[f64] = if aside > 0.0 { &[1.0, -1.0] } else { &[1.0] };
                for side in sides {
                    let x = f64::from(a[0]) + ux * along - uz * aside * side;
                    let z = f64::from(a[1]) + uz * along + ux * aside * side;
                    put([x as f32, z as f32], m, if *side > 0.0 { n } else { n | 1 << 27 });
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn all(spec: &PatternSpec, density: f32, low: [f32; 2], high: [f32; 2]) -> Vec<Spot> {
        let mut spots = Vec::new();
        spec.build(density, 5).within(low, high, |spot| spots.push(spot));
        spots
    }

    fn patterns() -> Vec<PatternSpec> {
        vec![
            PatternSpec::Scattered,
            PatternSpec::Grid { spacing: [0.0; 2], jitter: 0.8, turn_degrees: 20.0 },
            PatternSpec::BlueNoise { distance: 0.0 },
            PatternSpec::Rings {
                centres: vec![[-3.0, 1.0], [4.0, 0.0], [0.0, 9.0]],
                spacing: 0.4,
                swell: 0.1,
                period: 5.0,
            },
        ]
    }

    /// A piece made alone is the same as the whole's piece, and pieces side by side share none and miss none.
    #[test]
    fn pieces_make_up_the_whole() {
        for spec in patterns() {
            let mut whole = all(&spec, 9.0, [-8.0, -8.0], [8.0, 8.0]);
            let mut pieces = Vec::new();
            for i in -2..2 {
                for j in -4..4 {
                    let low = [i as f32 * 4.0, j as f32 * 2.0];
                    pieces.extend(all(&spec, 9.0, low, [low[0] + 4.0, low[1] + 2.0]));
                }
            }
            let key = |spot: &Spot| (spot.0[0].to_bits(), spot.0[1].to_bits(), spot.1);
            whole.sort_by_key(key);
            pieces.sort_by_key(key);
            assert_eq!(whole, pieces, "{spec:?}");
            assert!(!whole.is_empty());
        }
    }

    /// Those that leave it open come as densely as asked.
    #[test]
    fn density_is_as_asked() {
        for spec in &patterns()[..3] {
            for density in [0.3f32, 4.0, 60.0] {
                let side = (4000.0 / density).sqrt();
                let count = all(spec, density, [0.0; 2], [side; 2]).len() as f32;
                assert!((count / 4000.0 - 1.0).abs() < 0.06, "{spec:?} at {density}: {count}");
            }
        }
    }

    /// Keys differ, as random numbers are drawn by them.
    #[test]
    fn keys_are_different() {
        for spec in patterns() {
            let mut keys: Vec<u32> =
                all(&spec, 4.0, [-20.0; 2], [20.0; 2]).iter().map(|spot| spot.1).collect();
            let count = keys.len();
            keys.sort_unstable();
            keys.dedup();
            assert!(keys.len() + 3 >= count, "{spec:?}: {} of {count}", keys.len());
        }
    }
}
