//! Packing rectangles into a square without overlap.

use derive_setters::Setters;
use frolic_core::SpecError;

/// Every cell starts at a multiple of this many texels and is as large, so that each texel of the three smaller copies
/// of a page belongs to one cell alone.
pub const CELL: u32 = 8;

/// How pictures are packed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Setters)]
#[non_exhaustive]
pub struct PackSpec {
    /// Largest side of a page, texels, 64 to 16384. Default: 2048.
    pub max_side: u32,
    /// Texels around each picture at least, filled with its edge, 1 to 64. Default: 4.
    pub padding: u32,
}

impl Default for PackSpec {
    fn default() -> Self {
        Self { max_side: 2048, padding: 4 }
    }
}

impl PackSpec {
    /// Pages of at most this side, with that many texels around each picture.
    ///
    /// # Errors
    /// When one is out of range.
    pub fn new(max_side: u32, padding: u32) -> Result<Self, SpecError> {
        frolic_core::within("max_side", max_side as f32, 64.0, 16_384.0, "texels")?;
        frolic_core::within("padding", padding as f32, 1.0, 64.0, "texels")?;
        Ok(Self { max_side, padding })
    }

    /// The cell that a picture of this size takes, its padding included.
    pub fn cell(&self, [width, height]: [u32; 2]) -> [u32; 2] {
        [width, height].map(|side| (side + 2 * self.padding).next_multiple_of(CELL))
    }
}

/// Where a picture went: page, and left and upper end of its cell, texels.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Place {
    /// Which page.
    pub page: usize,
    /// Left end.
    pub x: u32,
    /// Upper end.
    pub y: u32,
}

/// Packs pictures of these sizes, tallest first, onto as few pages as the heuristic finds. Returns the side of each page (a
/// power of two) and the place of each picture, in the order given.
///
/// Skyline, bottom left (Jylänki, "A Thousand Ways to Pack the Bin", 2010). O(n²) at worst.
///
/// # Errors
/// When one picture alone is larger than a page.
pub fn pack(sizes: &[[u32; 2]], spec: &PackSpec) -> Result<(Vec<u32>, Vec<Place>), SpecError> {
    let cells: Vec<[u32; 2]> = sizes.iter().map(|&size| spec.cell(size)).collect();
    if let Some(nth) = cells.iter().position(|cell| cell[0] > spec.max_side || cell[1] > spec.max_side) {
        let [w, h] = sizes[nth];
        return Err(SpecError::new(
            "picture",
            format!("{w}x{h} does not fit a page of {0}x{0}", spec.max_side),
            "make it smaller, or cut it up",
        ));
    }
    let mut tallest: Vec<usize> = (0..cells.len()).collect();
    tallest.sort_by_key(|&nth| (std::cmp::Reverse(cells[nth][1]), std::cmp::Reverse(cells[nth][0]), nth));
    let mut places = vec![Place::default(); cells.len()];
    let mut sides = Vec::new();
    let mut left = tallest;
    while !left.is_empty() {
        // The smallest page that takes all that is left, or a full one that takes what it can.
        let area: u64 = left.iter().map(|&nth| u64::from(cells[nth][0]) * u64::from(cells[nth][1])).sum();
        let mut side = 64u32.max((area as f64).sqrt() as u32).next_power_of_two().min(spec.max_side);
        let over = loop {
            let mut skyline = Skyline::new(side);
            let mut over = Vec::new();
            for &nth in &left {
                match skyline.put(cells[nth]) {
                    Some([x, y]) => places[nth] = Place { page: sides.len(), x, y },
                    None => over.push(nth),
                }
            }
            if over.is_empty() || side >= spec.max_side {
                break over;
            }
            side = (side * 2).min(spec.max_side);
        };
        sides.push(side);
        left = over;
    }
    Ok((sides, places))
}

/// The upper outline of what is packed: spans of [x, width, height], left to right.
struct Skyline {
    side: u32,
    spans: Vec<[u32; 3]>,
}

impl Skyline {
    fn new(side: u32) -> Self {
        Self { side, spans: vec![[0, side, 0]] }
    }

    /// Puts a cell as low as it goes, then as far left.
    fn put(&mut self, [w, h]: [u32; 2]) -> Option<[u32; 2]> {
        let mut best: Option<(u32, usize)> = None;
        for first in 0..self.spans.len() {
            let x = self.spans[first][0];
            if x + w > self.side {
                break;
            }
            let mut y = 0;
            for &[from, width, height] in &self.spans[first..] {
                if from >= x + w {
                    break;
                }
                y = y.max(height);
                debug_assert!(width > 0);
            }
            if y + h <= self.side && best.is_none_or(|(lowest, _)| y < lowest) {
                best = Some((y, first));
            }
        }
        let (y, first) = best?;
        let x = self.spans[first][0];
        let mut kept = self.spans[..first].to_vec();
        kept.push([x, w, y + h]);
        for &[from, width, height] in &self.spans[first..] {
            let (start, end) = (from.max(x + w), from + width);
            if end > start {
                kept.push([start, end - start, height]);
            }
        }
        self.spans = kept;
        Some([x, y])
    }
}
