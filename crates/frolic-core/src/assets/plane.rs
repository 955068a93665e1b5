//! Rows of values: brightness of a picture, opacity of a mask, heights of a ground.

use crate::foundations::error::SpecError;

/// A grid of values 0..1, rows from the lower edge up, each from left to right.
#[derive(Debug, Clone, PartialEq)]
pub struct Plane {
    width: usize,
    height: usize,
    values: Vec<f32>,
}

/// Most values along a side.
const MOST_SIDE: usize = 16_384;

impl Plane {
    /// A grid with these numbers of values across and up. Values are clamped to 0..1; not a number becomes 0.
    ///
    /// # Errors
    /// A side is 0 or over 16384, or there are not `width * height` values.
    pub fn new(width: usize, height: usize, values: Vec<f32>) -> Result<Self, SpecError> {
        let sides = 1..=MOST_SIDE;
        if !sides.contains(&width) || !sides.contains(&height) || values.len() != width * height {
            let problem = format!("{} values for {width} x {height}", values.len());
            return Err(SpecError::new("plane", problem, format!("write sides of 1 to {MOST_SIDE}")));
        }
        let tame = |value: f32| if value.is_nan() { 0.0 } else { value.clamp(0.0, 1.0) };
        Ok(Self { width, height, values: values.into_iter().map(tame).collect() })
    }

    /// Number of values across.
    pub fn width(&self) -> usize {
        self.width
    }

    /// Number of values up.
    pub fn height(&self) -> usize {
        self.height
    }

    /// All values.
    pub fn values(&self) -> &[f32] {
        &self.values
    }

    /// The value at a share of the width and height, bilinear; clamped at the edges.
    pub fn at(&self, across: f32, up: f32) -> f32 {
        let (x, fx) = between(across, self.width);
        let (y, fy) = between(up, self.height);
        let value =
            |x: usize, y: usize| self.values[y.min(self.height - 1) * self.width + x.min(self.width - 1)];
        let low = value(x, y) + (value(x + 1, y) - value(x, y)) * fx;
        let high = value(x, y + 1) + (value(x + 1, y + 1) - value(x, y + 1)) * fx;
        low + (high - low) * fy
    }

    /// The value at a position, in shares, and its slope over the whole width and height.
    pub(crate) fn slope(&self, across: f32, up: f32) -> [f32; 3] {
        let (sx, sy) = (self.width as f32, self.height as f32);
        let (hx, hy) = (0.5 / sx, 0.5 / sy);
        let here = self.at(across, up);
        let gx = (self.at(across + hx, up) - self.at(across - hx, up)) * sx;
        let gy = (self.at(across, up + hy) - self.at(across, up - hy)) * sy;
        [here, gx, gy]
    }

    /// Steepest difference between neighbours, scaled to the whole width and height.
    pub(crate) fn steepest(&self) -> [f32; 2] {
        let mut most = [0.0f32; 2];
        for y in 0..self.height {
            for x in 0..self.width {
                let here = self.values[y * self.width + x];
                if x + 1 < self.width {
                    most[0] = most[0].max((self.values[y * self.width + x + 1] - here).abs());
                }
                if y + 1 < self.height {
                    most[1] = most[1].max((self.values[(y + 1) * self.width + x] - here).abs());
                }
            }
        }
        [most[0] * self.width as f32, most[1] * self.height as f32]
    }
}

/// Index of the value before a share of the side, and the share to the next. Values are at the centres of their cells.
fn between(share: f32, count: usize) -> (usize, f32) {
    let at = (share * count as f32 - 0.5).clamp(0.0, (count - 1) as f32);
    // A share that is not a number is taken as the first.
    let at = if at.is_nan() { 0.0 } else { at };
    (at as usize, at - at.floor())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ramps_hold_their_end_values() {
        let plane = Plane::new(3, 2, vec![0.0, 0.5, 1.0, 0.2, 0.4, 0.6]).unwrap();
        assert_eq!(plane.at(0.5, 0.25), 0.5);
        assert_eq!(plane.at(-4.0, 0.0), 0.0);
        assert!((plane.at(9.0, 9.0) - 0.6).abs() < 1e-6);
        assert_eq!(plane.at(f32::NAN, 0.0), 0.0);
        let [_, across, up] = plane.slope(0.5, 0.5);
        assert!((across - 1.05).abs() < 1e-5 && (up + 0.2).abs() < 1e-5, "{across} {up}");
        assert!(Plane::new(3, 2, vec![0.0; 5]).is_err() && Plane::new(0, 1, vec![]).is_err());
        assert_eq!(Plane::new(2, 1, vec![f32::NAN, 7.0]).unwrap().values(), [0.0, 1.0]);
    }
}
