//! Paths that emitters and collectors follow: a smooth line through points, at an even speed.

use derive_setters::Setters;
use glam::Vec3;
use serde::{Deserialize, Serialize};

use crate::foundations::error::{SpecError, vector_within, within};

/// A smooth line through points, followed at an even speed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct PathSpec {
    /// Points of the path, in metres, 2 to 1024.
    #[setters(into)]
    pub points: Vec<[f32; 3]>,
    /// Time from the first point to the last, or once around, in seconds, 0.01 to 1e6.
    pub seconds: f32,
    /// Behaviour at the end. Default: stop.
    #[serde(default)]
    pub ends: PathEnds,
    /// Whether directions turn with the path: they are then forward, up, right. Default: false.
    #[serde(default)]
    pub turns: bool,
}

/// Behaviour at the end of a path.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum PathEnds {
    /// Stops there.
    #[default]
    Stay,
    /// Continues from the last point to the first.
    Loop,
    /// Returns the same way, back and forth.
    Return,
}

impl PathSpec {
    /// A path through points, in metres, that takes `seconds`.
    pub fn new(points: impl IntoIterator<Item = [f32; 3]>, seconds: f32) -> Self {
        Self { points: points.into_iter().collect(), seconds, ends: PathEnds::Stay, turns: false }
    }

    /// Checks that every value is in range.
    ///
    /// # Errors
    /// Names the first key that is out of range.
    pub fn check(&self) -> Result<(), SpecError> {
        if !(2..=1024).contains(&self.points.len()) {
            let problem = format!("{} points", self.points.len());
            return Err(SpecError::new("points", problem, "write 2 to 1024 points"));
        }
        self.points.iter().try_for_each(|point| vector_within("points", *point, 1e6, "m"))?;
        within("seconds", self.seconds, 0.01, 1e6, "s")
    }
}

/// A prepared path: positions at even steps of the way.
#[derive(Debug, Clone)]
pub struct Path {
    places: Vec<Vec3>,
    /// Way from the first position, in metres, rising.
    lengths: Vec<f32>,
    seconds: f64,
    ends: PathEnds,
    pub(crate) turns: bool,
}

/// Number of straight pieces between two points.
const PIECES: usize = 16;

impl Path {
    /// Prepares a checked path.
    pub fn new(spec: &PathSpec) -> Self {
        let points: Vec<Vec3> = spec.points.iter().copied().map(Vec3::from).collect();
        let n = points.len();
        let closed = spec.ends == PathEnds::Loop;
        let point = |at: isize| {
            let last = n as isize - 1;
            points[if closed { at.rem_euclid(n as isize) } else { at.clamp(0, last) } as usize]
        };
        let spans = if closed { n } else { n - 1 };
        let mut places = Vec::with_capacity(spans * PIECES + 1);
        for span in 0..spans as isize {
            let [a, b, c, d] = [point(span - 1), point(span), point(span + 1), point(span + 2)];
            places.extend((0..PIECES).map(|piece| through(a, b, c, d, piece as f32 / PIECES as f32)));
        }
        places.push(point(spans as isize));
        let mut length = 0.0;
        let mut lengths = vec![0.0];
        for pair in places.windows(2) {
            length += pair[0].distance(pair[1]);
            lengths.push(length);
        }
        Self { places, lengths, seconds: f64::from(spec.seconds), ends: spec.ends, turns: spec.turns }
    }

    /// Position at a time, in seconds after the start, and unit direction (0 if it does not move).
    pub fn at(&self, time: f64) -> (Vec3, Vec3) {
        let share = time.max(0.0) / self.seconds;
        let (share, back) = match self.ends {
            PathEnds::Stay => (share.min(1.0), false),
            PathEnds::Loop => (share.fract(), false),
            PathEnds::Return => {
                let leg = share.rem_euclid(2.0);
                if leg > 1.0 { (2.0 - leg, true) } else { (leg, false) }
            }
        };
        let all = self.lengths[self.lengths.len() - 1];
        let way = share as f32 * all;
        let next = self.lengths.partition_point(|&length| length <= way).clamp(1, self.places.len() - 1);
        let (from, to) = (self.places[next - 1], self.places[next]);
        let piece = self.lengths[next] - self.lengths[next - 1];
        let part = if piece > 0.0 { ((way - self.lengths[next - 1]) / piece).clamp(0.0, 1.0) } else { 0.0 };
        let ahead = (to - from).normalize_or_zero();
        (from.lerp(to, part), if back { -ahead } else { ahead })
    }
}

/// Between `b` and `c`: Catmull and Rom, "A Class of Local Interpolating Splines" (1974).
fn through(a: Vec3, b: Vec3, c: Vec3, d: Vec3, t: f32) -> Vec3 {
    let cubic = (d - a) + (b - c) * 3.0;
    let square = a * 2.0 - b * 5.0 + c * 4.0 - d;
    b + ((c - a) + (square + cubic * t) * t) * (0.5 * t)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_are_followed_at_an_even_speed() {
        let points = [[0.0, 0.0, 0.0], [4.0, 0.0, 0.0], [4.0, 3.0, 0.0], [0.0, 3.0, 1.0]];
        for ends in [PathEnds::Stay, PathEnds::Loop, PathEnds::Return] {
            let path = Path::new(&PathSpec::new(points, 10.0).ends(ends));
            assert_eq!(path.at(0.0).0, Vec3::ZERO);
            let nearest = |point: [f32; 3]| {
                (0..2000)
                    .map(|k| path.at(f64::from(k) * 0.005).0.distance(point.into()))
                    .fold(f32::MAX, f32::min)
            };
            assert!(points.into_iter().all(|point| nearest(point) < 0.03), "{ends:?}");
            let speeds: Vec<f32> = (0..990)
                .map(|k| path.at(f64::from(k) * 0.01).0.distance(path.at(f64::from(k + 1) * 0.01).0))
                .collect();
            let most = speeds.iter().copied().fold(0.0, f32::max);
            assert!(speeds.iter().all(|speed| *speed > most * 0.9), "{ends:?}");
        }
        let back = Path::new(&PathSpec::new(points, 10.0).ends(PathEnds::Return));
        assert!(back.at(13.0).0.distance(back.at(7.0).0) < 1e-4);
        assert!(back.at(13.0).1.dot(back.at(7.0).1) < -0.99);
        let stays = Path::new(&PathSpec::new(points, 10.0));
        assert_eq!(stays.at(1e9).0, Vec3::new(0.0, 3.0, 1.0));
        assert!(PathSpec::new([[0.0; 3]], 1.0).check().is_err());
        // All points coincide.
        let still = Path::new(&PathSpec::new([[1.0; 3], [1.0; 3]], 1.0));
        assert_eq!(still.at(0.4), (Vec3::ONE, Vec3::ZERO));
    }
}
