//! Generates textures of tufts of blades, for billboards that replace many distant blades.

use derive_setters::Setters;
use frolic_core::random::{hash3, unit};
use frolic_core::{Span, SpecError, within};
use serde::{Deserialize, Serialize};

use crate::atlas::Picture;

/// A tuft seen from the side: white blades, some a little darker, on a transparent square. The blades stand along its lower edge.
///
/// ```
/// let picture = frolic_draw::TuftSpec::new(9).paint()?;
/// let covered = picture.pixels().iter().filter(|[.., opacity]| *opacity > 127).count();
/// assert!((0.1..0.6).contains(&(covered as f32 / picture.pixels().len() as f32)));
/// # Ok::<(), frolic_core::SpecError>(())
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct TuftSpec {
    /// Number of blades, 1 to 64. Default: 12.
    pub blades: u32,
    /// Range of a blade's length as a share of the height, 0.05 to 1. Default: 0.5 to 1.
    #[setters(into)]
    pub length: Span,
    /// Width at the root as a share of the tuft's width, 0.005 to 0.5. Default: 0.05.
    pub width: f32,
    /// Largest horizontal offset of a tip from its root, as a share of the length, 0 to 1. Default: 0.3.
    pub bend: f32,
    /// Seed of the random numbers. Default: 0.
    pub seed: u32,
}

impl Default for TuftSpec {
    fn default() -> Self {
        Self { blades: 12, length: Span::new(0.5, 1.0), width: 0.05, bend: 0.3, seed: 0 }
    }
}

/// Texels a side.
const SIDE: u32 = 128;

/// Samples of a texel each way.
const SAMPLES: u32 = 4;

/// A blade of the picture: root and tip across, height, half width of the root, brightness; shares of the picture's side.
struct Painted {
    root: f32,
    tip: f32,
    height: f32,
    half: f32,
    bright: f32,
}

impl TuftSpec {
    /// A tuft with a number of blades.
    pub fn new(blades: u32) -> Self {
        Self { blades, ..Self::default() }
    }

    /// Checks that all values are in range.
    ///
    /// # Errors
    /// Names the first key that is out of range.
    pub fn check(&self) -> Result<(), SpecError> {
        within("blades", self.blades as f32, 1.0, 64.0, "")?;
        self.length.check("length", 0.05, 1.0, "of the height")?;
        within("width", self.width, 0.005, 0.5, "of the width")?;
        within("bend", self.bend, 0.0, 1.0, "of the length")
    }

    /// Paints the tuft, 128 texels a side.
    ///
    /// # Errors
    /// As [`TuftSpec::check`].
    pub fn paint(&self) -> Result<Picture, SpecError> {
        self.check()?;
        let blades: Vec<Painted> = (0..self.blades).map(|nth| self.blade(nth)).collect();
        Picture::paint([SIDE, SIDE], |x, y| {
            let (mut met, mut bright) = (0, 0.0);
            for sample in 0..SAMPLES * SAMPLES {
                let at =
                    |texel: u32, nth: u32| (texel as f32 + (nth as f32 + 0.5) / SAMPLES as f32) / SIDE as f32;
                let (across, up) = (at(x, sample % SAMPLES), 1.0 - at(y, sample / SAMPLES));
                // The last stands before the others.
                if let Some(blade) = blades.iter().rev().find(|blade| blade.covers(across, up)) {
                    (met, bright) = (met + 1, bright + blade.bright);
                }
            }
            let grey = if met > 0 { bright / met as f32 * 255.0 } else { 255.0 } as u8;
            [grey, grey, grey, (met * 255 / (SAMPLES * SAMPLES)) as u8]
        })
    }

    fn blade(&self, nth: u32) -> Painted {
        let [place, long, lean] = hash3(nth, self.seed, 0x70f7_0000).map(unit);
        let [tone, ..] = hash3(nth, self.seed, 0x70f7_0001).map(unit);
        let Span { min, max } = self.length;
        let height = min + (max - min) * long;
        // Side by side, each anywhere within its share.
        let share = (nth as f32 + place) / self.blades as f32;
        let half = self.width * 0.5;
        let root = half + share * (1.0 - self.width);
        // Those at the sides lean outwards; none out of the picture.
        let lean = (lean - 0.5 + (share - 0.5)) * self.bend * height;
        let tip = (root + lean).clamp(0.0, 1.0);
        Painted { root, tip, height, half, bright: 0.72 + 0.28 * tone }
    }
}

impl Painted {
    fn covers(&self, across: f32, up: f32) -> bool {
        let t = up / self.height;
        let middle = self.root + (self.tip - self.root) * t * t;
        t <= 1.0 && (across - middle).abs() < self.half * (1.0 - t)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Dense below, sparse above; the same for a seed, another for another.
    #[test]
    fn a_tuft_is_dense_below() {
        let spec = TuftSpec::default();
        let picture = spec.paint().unwrap();
        let covered = |rows: std::ops::Range<usize>| {
            let side = SIDE as usize;
            let texels = &picture.pixels()[rows.start * side..rows.end * side];
            texels.iter().map(|[.., opacity]| u32::from(*opacity)).sum::<u32>() as f32 / texels.len() as f32
        };
        let thirds = [covered(0..40), covered(44..84), covered(88..128)];
        assert!(thirds[0] > 1.0 && thirds[0] < thirds[1] && thirds[1] < thirds[2], "{thirds:?}");
        assert_eq!(picture, spec.paint().unwrap());
        assert_ne!(picture, TuftSpec { seed: 1, ..spec }.paint().unwrap());
    }

    #[test]
    fn out_of_range_values_are_named() {
        let bad = [
            (TuftSpec::new(0), "blades"),
            (TuftSpec { length: Span::new(0.5, 1.5), ..TuftSpec::default() }, "length"),
            (TuftSpec { width: f32::NAN, ..TuftSpec::default() }, "width"),
            (TuftSpec { bend: -0.1, ..TuftSpec::default() }, "bend"),
        ];
        for (spec, key) in bad {
            assert_eq!(spec.paint().unwrap_err().key, key);
        }
    }
}
