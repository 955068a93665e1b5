//! Filters: each keeps a share of the elements, by their position.

use derive_setters::Setters;
use std::sync::Arc;

use glam::Vec2;
use serde::{Deserialize, Serialize};

use super::ground::Footing;
use crate::assets::{Assets, Plane};
use crate::foundations::error::{SpecError, at_most, within};
use crate::foundations::noise::gust_noise;
use crate::foundations::span::Span;

/// A filter keeps a share of the elements, by their position. Shares of several filters multiply.
///
/// ```
/// use frolic_core::{FilterBy, FilterSpec};
/// let path = FilterSpec::new(FilterBy::Path { points: vec![[0.0, -9.0], [0.0, 9.0]], closed: false, width: 1.0, soft: 0.5 });
/// let filter = path.inverted().build(&Default::default())?;
/// assert_eq!(filter.share(0.0, 0.0, None), 0.0);   // nothing on the path
/// assert_eq!(filter.share(3.0, 0.0, None), 1.0);
/// # Ok::<(), frolic_core::SpecError>(())
/// ```
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct FilterSpec {
    /// Criterion.
    pub by: FilterBy,
    /// Whether the share is inverted. Default: no.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub invert: bool,
    /// Least share, 0 to 1. Default: 0.
    #[serde(default)]
    #[setters(skip)]
    pub least: f32,
}

/// Criterion of a filter.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub enum FilterBy {
    /// A picture on the ground, seen from above: the share is its brightness, and 0 beside it.
    Picture {
        /// Name of the asset.
        asset: String,
        /// Its centre, x and z, in metres. Default: the origin.
        #[serde(default)]
        centre: [f32; 2],
        /// Extent along x and z in metres, 0.01 to 1e6.
        size: [f32; 2],
    },
    /// Smooth noise, -1 to 1: none below the first value of the range, all above the second.
    Noise {
        /// Size of its features in metres, 0.001 to 1e6.
        size: f32,
        /// Range from none to all. Default: -0.3 to 0.3.
        #[serde(default = "half_and_half")]
        range: Span,
        /// Seed. Default: 1.
        #[serde(default = "first")]
        seed: u32,
    },
    /// A line: all within half its width, none beyond the soft edge. A closed line includes its inside, by the even-odd
    /// rule.
    Path {
        /// Corners, x and z, in metres, 2 to 1024.
        points: Vec<[f32; 2]>,
        /// Whether it is a polygon. Default: a line.
        #[serde(default)]
        closed: bool,
        /// Width in metres, 0 to 1e6. Default: 0.
        #[serde(default)]
        width: f32,
        /// Width of the soft edge in metres, 0 to 1e6. Default: 0, sharp.
        #[serde(default)]
        soft: f32,
    },
    /// Slope of the ground: all within the range, none beyond the soft edge.
    Slope {
        /// Range in degrees, 0 to 90.
        degrees: Span,
        /// Width of the soft edge in degrees, 0 to 90. Default: 0, sharp.
        #[serde(default)]
        soft: f32,
    },
    /// Height of the ground: all within the range, none beyond the soft edge.
    Height {
        /// Range in metres.
        range: Span,
        /// Width of the soft edge in metres, 0 to 1e6. Default: 0, sharp.
        #[serde(default)]
        soft: f32,
    },
}

fn half_and_half() -> Span {
    Span::new(-0.3, 0.3)
}

fn first() -> u32 {
    1
}

/// Most corners of a path.
const MOST_POINTS: usize = 1024;

impl FilterSpec {
    /// A filter by a criterion.
    pub fn new(by: FilterBy) -> Self {
        Self { by, invert: false, least: 0.0 }
    }

    /// Inverts the filter.
    pub fn inverted(self) -> Self {
        Self { invert: !self.invert, ..self }
    }

    /// Sets the least share.
    pub fn least(self, least: f32) -> Self {
        Self { least, ..self }
    }

    /// Checks that the values are in range.
    ///
    /// # Errors
    /// Names the key that is out of range.
    pub fn check(&self) -> Result<(), SpecError> {
        within("least", self.least, 0.0, 1.0, "")?;
        match &self.by {
            FilterBy::Picture { centre, size, .. } => {
                centre.iter().try_for_each(|&at| within("by.picture.centre", at, -1e6, 1e6, "m"))?;
                size.iter().try_for_each(|&side| within("by.picture.size", side, 0.01, 1e6, "m"))
            }
            FilterBy::Noise { size, range, .. } => {
                within("by.noise.size", *size, 0.001, 1e6, "m")?;
                range.check("by.noise.range", -2.0, 2.0, "")
            }
            FilterBy::Path { points, width, soft, .. } => {
                at_most("by.path.points", points.len(), MOST_POINTS)?;
                if points.len() < 2 {
                    let problem = format!("{} points do not make a line", points.len());
                    return Err(SpecError::new("by.path.points", problem, "write two or more"));
                }
                points.iter().flatten().try_for_each(|&at| within("by.path.points", at, -1e6, 1e6, "m"))?;
                within("by.path.width", *width, 0.0, 1e6, "m")?;
                within("by.path.soft", *soft, 0.0, 1e6, "m")
            }
            FilterBy::Slope { degrees, soft } => {
                degrees.check("by.slope.degrees", 0.0, 90.0, "degrees")?;
                within("by.slope.soft", *soft, 0.0, 90.0, "degrees")
            }
            FilterBy::Height { range, soft } => {
                range.check("by.height.range", -1e6, 1e6, "m")?;
                within("by.height.soft", *soft, 0.0, 1e6, "m")
            }
        }
    }

    /// Looks up the picture that it names.
    ///
    /// # Errors
    /// A value out of range, or no picture of the name.
    pub fn build(&self, assets: &Assets) -> Result<Filter, SpecError> {
        self.check()?;
        let picture = match &self.by {
            FilterBy::Picture { asset, .. } => Some(Arc::clone(assets.plane("by.picture.asset", asset)?)),
            _ => None,
        };
        Ok(Filter { spec: self.clone(), picture })
    }
}

/// A built filter.
#[derive(Debug, Clone)]
pub struct Filter {
    spec: FilterSpec,
    picture: Option<Arc<Plane>>,
}

impl Filter {
    /// The share at x and z, in metres, on ground with this slope and height (level at 0 without ground). 0 to 1.
    pub fn share(&self, x: f32, z: f32, footing: Option<Footing>) -> f32 {
        let footing = footing.unwrap_or(Footing { y: 0.0, rise: [0.0; 2] });
        let share = match &self.spec.by {
            FilterBy::Picture { centre, size, .. } => {
                let [across, up] = [(x - centre[0]) / size[0] + 0.5, 0.5 - (z - centre[1]) / size[1]];
                let inside = (0.0..=1.0).contains(&across) && (0.0..=1.0).contains(&up);
                self.picture.as_ref().filter(|_| inside).map_or(0.0, |picture| picture.at(across, up))
            }
            FilterBy::Noise { size, range, seed } => {
                // The second octave is turned, so that no edges follow the axes.
                let (u, v) = (x / size, z / size);
                let [broad, ..] = gust_noise([u * 0.8 - v * 0.6, 0.37, u * 0.6 + v * 0.8], *seed);
                let [fine, ..] = gust_noise([u * 1.9 + v * 1.1, 4.37, v * 1.9 - u * 1.1], *seed);
                let value = broad + fine * 0.45;
                let width = (range.max - range.min).max(1e-6);
                smooth((value - range.min) / width)
            }
            FilterBy::Path { points, closed, width, soft } => {
                let off = off_path(points, *closed, Vec2::new(x, z));
                falling(off - width * 0.5, *soft)
            }
            FilterBy::Slope { degrees, soft } => {
                let [rx, rz] = footing.rise;
                let slope = libm::atanf(libm::sqrtf(rx * rx + rz * rz)).to_degrees();
                beyond(*degrees, slope, *soft)
            }
            FilterBy::Height { range, soft } => beyond(*range, footing.y, *soft),
        };
        let share = if self.spec.invert { 1.0 - share } else { share };
        self.spec.least + (1.0 - self.spec.least) * share
    }
}

/// 1 within a range, falling to 0 beyond it.
fn beyond(range: Span, value: f32, soft: f32) -> f32 {
    falling((range.min - value).max(value - range.max), soft)
}

/// 1 up to 0, falling to 0 over the soft edge.
fn falling(over: f32, soft: f32) -> f32 {
    if over <= 0.0 {
        1.0
    } else if soft > 0.0 {
        smooth(1.0 - over / soft)
    } else {
        0.0
    }
}

fn smooth(t: f32) -> f32 {
    let t = t.clamp(0.0, 1.0);
    t * t * (3.0 - 2.0 * t)
}

/// Distance from a line, in metres; negative within a closed one.
fn off_path(points: &[[f32; 2]], closed: bool, at: Vec2) -> f32 {
    let mut nearest = f32::INFINITY;
    let mut inside = false;
    let ends = points.iter().skip(1).chain(closed.then(|| points.first()).flatten());
    for (from, to) in points.iter().zip(ends) {
        let (a, b) = (Vec2::from(*from), Vec2::from(*to));
        let way = b - a;
        let share = ((at - a).dot(way) / way.length_squared().max(1e-12)).clamp(0.0, 1.0);
        nearest = nearest.min((at - a - way * share).length_squared());
        if (a.y > at.y) != (b.y > at.y) && at.x < a.x + way.x * (at.y - a.y) / way.y {
            inside = !inside;
        }
    }
    let off = nearest.sqrt();
    if closed && inside { -off } else { off }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn share(by: FilterBy, x: f32, z: f32) -> f32 {
        FilterSpec::new(by).build(&Assets::default()).unwrap().share(x, z, None)
    }

    #[test]
    fn a_polygon_that_crosses_itself_goes_by_odd_and_even() {
        // A star of five strokes: its middle is met twice, so it is outside.
        let star: Vec<[f32; 2]> = (0..5)
            .map(|k| {
                let (sin, cos) = libm::sincosf(k as f32 * 2.0 * std::f32::consts::TAU / 5.0);
                [sin * 10.0, cos * 10.0]
            })
            .collect();
        let by = |points: Vec<[f32; 2]>| FilterBy::Path { points, closed: true, width: 0.0, soft: 0.0 };
        assert_eq!(share(by(star.clone()), 0.0, 0.0), 0.0);
        assert_eq!(share(by(star.clone()), 0.0, 8.0), 1.0);
        assert_eq!(share(by(star), 0.0, 12.0), 0.0);
        // All corners in one place: a line of no length, and no inside.
        assert_eq!(share(by(vec![[1.0, 1.0]; 3]), 1.5, 1.0), 0.0);
    }

    #[test]
    fn edges_are_as_soft_as_asked() {
        let path =
            |soft| FilterBy::Path { points: vec![[0.0, -5.0], [0.0, 5.0]], closed: false, width: 2.0, soft };
        assert_eq!(share(path(1.0), 0.9, 0.0), 1.0);
        assert!((share(path(1.0), 1.5, 0.0) - 0.5).abs() < 1e-5);
        assert_eq!(share(path(1.0), 2.1, 0.0), 0.0);
        assert_eq!(share(path(0.0), 1.01, 0.0), 0.0);
        let steep = |rise: f32, soft: f32| {
            let by = FilterBy::Slope { degrees: Span::new(0.0, 45.0), soft };
            let footing = Footing { y: 3.0, rise: [rise, 0.0] };
            FilterSpec::new(by).build(&Assets::default()).unwrap().share(0.0, 0.0, Some(footing))
        };
        assert_eq!([steep(0.9, 0.0), steep(1.1, 0.0)], [1.0, 0.0]);
        assert!((0.1..0.9).contains(&steep(1.2, 10.0)));
    }

    #[test]
    fn impossible_values_are_refused() {
        let wrong = |by| FilterSpec::new(by).check().unwrap_err().key;
        let path = |points| FilterBy::Path { points, closed: false, width: 1.0, soft: 0.0 };
        assert_eq!(wrong(path(vec![[0.0; 2]])), "by.path.points");
        assert_eq!(wrong(path(vec![[f32::NAN; 2]; 2])), "by.path.points");
        assert_eq!(wrong(FilterBy::Noise { size: 0.0, range: half_and_half(), seed: 1 }), "by.noise.size");
        let missing = FilterBy::Picture { asset: "none".into(), centre: [0.0; 2], size: [1.0; 2] };
        assert_eq!(FilterSpec::new(missing).build(&Assets::default()).unwrap_err().key, "by.picture.asset");
    }
}
