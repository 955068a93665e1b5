//! Rows of the backdrop, many pixels at once where that is possible.

use frolic_raster::tile::{Row, STRIDE};
use frolic_simd::Level;

use super::BackdropSpec;
use super::lanes::{Lanes, ROW, Sunny};
use super::painter::Painter;
use super::stars::SeenStars;
use crate::camera::View;
use crate::lamps::{LightSpec, SunSpec};

/// The first `count` pixels of a row, one bit each.
pub(crate) fn first_pixels(count: usize) -> u64 {
    if count >= ROW { u64::MAX } else { (1 << count) - 1 }
}

/// What paints rows of pixels: many at once, or one by one where the horizon crosses them.
#[derive(Debug)]
pub(crate) struct Brush<'a> {
    painter: Painter<'a>,
    lanes: Lanes<'a>,
    level: Level,
}

impl<'a> Brush<'a> {
    pub(super) fn new(
        view: &'a View,
        spec: &'a BackdropSpec,
        lights: &'a [LightSpec],
        sun: Option<&'a SunSpec>,
        stars: &'a SeenStars,
        level: Level,
    ) -> Self {
        let painter = Painter::new(view, spec, lights, sun);
        Self { lanes: Lanes::new(&painter, stars), painter, level }
    }

    /// Paints the pixels `open` of the row that begins at `x`, `y`. Where there is sunlight on the ground, `sun` holds what would fall there without shadows.
    pub(super) fn light(&self, x: usize, y: usize, open: u64, light: &mut Row, sun: &mut Row) -> Sunny {
        if open == 0 {
            return Sunny::No;
        }
        let off = x % ROW;
        if off != 0 {
            // Rows begin where those of the widest tiles do, so that the picture does not depend on tiles.
            let dark = [[0.0; STRIDE]; 3];
            let (mut wide, mut wide_sun) = (dark, dark);
            let sunny = self.light(x - off, y, open << off, &mut wide, &mut wide_sun);
            for channel in 0..3 {
                light[channel][..ROW - off].copy_from_slice(&wide[channel][off..ROW]);
                sun[channel][..ROW - off].copy_from_slice(&wide_sun[channel][off..ROW]);
            }
            return sunny;
        }
        if let Some(sunny) = self.lanes.light(self.level, [x, y], open, light, sun) {
            return sunny;
        }
        let mut rest = open;
        while rest != 0 {
            let i = rest.trailing_zeros() as usize;
            rest &= rest - 1;
            let (own, own_sun) = self.painter.light(x + i, y);
            for channel in 0..3 {
                (light[channel][i], sun[channel][i]) = (own[channel], own_sun[channel]);
            }
        }
        if self.painter.sun.is_some() { Sunny::Yes } else { Sunny::No }
    }

    /// Depths of the first `count` pixels of a row, and the least of them.
    pub(super) fn depths(&self, x: usize, y: usize, count: usize, into: &mut [f32; STRIDE]) -> f32 {
        let off = x % ROW;
        if off != 0 {
            let mut wide = [0.0; STRIDE];
            self.depths(x - off, y, off + count, &mut wide);
            into[..count].copy_from_slice(&wide[off..off + count]);
            return into[..count].iter().fold(f32::INFINITY, |least, depth| least.min(*depth));
        }
        match self.lanes.depths(self.level, [x, y], into) {
            // Beyond the picture nothing counts.
            Some(_) if count < ROW => {}
            Some(least) => return least,
            None => (0..count).for_each(|i| into[i] = self.painter.depth(x + i, y)),
        }
        into[..count].iter().fold(f32::INFINITY, |least, depth| least.min(*depth))
    }
}
