//! Comparison of the pictures of variants: a variant that draws less is not faster.

use frolic_core::Meter;
use frolic_draw::Image;
use frolic_scene::{Scene, SceneSpec};
use serde::{Deserialize, Serialize};

/// Tolerance of a channel, in steps of 8 bits.
const STEPS: i32 = 4;

/// Fraction of pixels that may exceed the tolerance in two equal pictures.
pub(crate) const SAME: f64 = 0.012;

/// Most elements of the measured population in the pictures.
const MOST: u32 = 10_000;

/// Difference of a variant's picture to the first variant's.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[non_exhaustive]
pub struct PictureDifference {
    /// Name of the variant.
    pub variant: String,
    /// Number of elements of the measured population in both.
    pub count: u32,
    /// Fraction of pixels with a channel off by more than 4 of 255; 1 if their sizes differ.
    pub share: f64,
    /// Largest difference of a channel, out of 255.
    pub largest: u32,
    /// Mean difference of a channel over the picture, out of 255; 0 in older profiles.
    #[serde(default)]
    pub mean: f64,
    /// True if at most 1.2 % of pixels are off.
    pub same: bool,
}

/// Differences of all other variants to the first, at one time of the scene; none if a variant cannot draw. `counts` are those
/// of the plan.
pub(crate) fn differences(variants: &[(String, SceneSpec)], counts: &[u32]) -> Vec<PictureDifference> {
    let count = counts.iter().copied().filter(|count| *count <= MOST).max().or(counts.first().copied());
    let (Some(count), [_, _, ..]) = (count, variants) else { return Vec::new() };
    let picture = |spec: &SceneSpec| -> Option<Image> {
        let spec = spec.scaled(count);
        let mut scene = Scene::new(&spec).ok()?;
        let mut meter = Meter::new();
        scene.run_to(f64::from(spec.draw.at), &mut meter);
        scene.draw(&mut meter).ok().cloned()
    };
    let Some(first) = picture(&variants[0].1) else { return Vec::new() };
    let others = variants[1..].iter().map(|(name, spec)| {
        let (share, largest, mean) = difference(&first, &picture(spec)?);
        Some(PictureDifference { variant: name.clone(), count, share, largest, mean, same: share <= SAME })
    });
    others.collect::<Option<Vec<_>>>().unwrap_or_default()
}

/// Fraction of pixels that are off, and largest and mean difference of a channel.
fn difference(a: &Image, b: &Image) -> (f64, u32, f64) {
    if a.size() != b.size() {
        return (1.0, 255, 255.0);
    }
    let (mut many, mut largest, mut sum) = (0u64, 0, 0u64);
    for (a, b) in a.pixels().iter().zip(b.pixels()) {
        let off = a.iter().zip(b).map(|(a, b)| (i32::from(*a) - i32::from(*b)).abs());
        sum += off.clone().take(3).map(|off| off.unsigned_abs() as u64).sum::<u64>();
        let off = off.max().unwrap_or(0);
        many += u64::from(off > STEPS);
        largest = largest.max(off);
    }
    let pixels = a.pixels().len().max(1) as f64;
    (many as f64 / pixels, largest as u32, sum as f64 / (3.0 * pixels))
}
