//! Tiles of a picture, and the order of pixels within one.

use crate::LANES;

/// Most pixels across a tile.
pub const TILE_WIDTH: usize = 64;

/// Floats of one channel of a row.
pub const STRIDE: usize = TILE_WIDTH + LANES;

/// Red, green and blue of one row of a tile.
pub type Row = [[f32; STRIDE]; 3];

/// Tiles of a picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Grid {
    /// Columns of the picture.
    pub width: usize,
    /// Rows of the picture.
    pub height: usize,
    /// Logarithms of a tile's width and height.
    pub tile_log2: [u32; 2],
    /// Tiles across.
    pub across: usize,
    /// Tiles down.
    pub down: usize,
}

/// A tile's part of the picture, in pixels.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Rect {
    /// First column.
    pub x: usize,
    /// First row.
    pub y: usize,
    /// Columns.
    pub w: usize,
    /// Rows.
    pub h: usize,
}

/// First and last tile, across and down, that something touches.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Tiles {
    x0: u16,
    y0: u16,
    x1: u16,
    y1: u16,
}

impl Tiles {
    #[inline(always)]
    /// From the first to the last column and row of tiles.
    pub fn new(x0: i32, x1: i32, y0: i32, y1: i32) -> Self {
        Self { x0: x0 as u16, y0: y0 as u16, x1: x1 as u16, y1: y1 as u16 }
    }

    #[inline(always)]
    /// Number of tiles.
    pub fn count(self) -> u32 {
        (u32::from(self.x1 - self.x0) + 1) * (u32::from(self.y1 - self.y0) + 1)
    }

    /// Number of the first tile.
    #[inline(always)]
    pub fn first(self, grid: &Grid) -> usize {
        usize::from(self.y0) * grid.across + usize::from(self.x0)
    }

    /// Calls `visit` with the number of each tile.
    #[inline(always)]
    pub fn each(self, grid: &Grid, mut visit: impl FnMut(usize)) {
        let (x0, x1) = (usize::from(self.x0), usize::from(self.x1) + 1);
        for y in usize::from(self.y0)..usize::from(self.y1) + 1 {
            for tile in y * grid.across + x0..y * grid.across + x1 {
                visit(tile);
            }
        }
    }

    #[inline(always)]
    /// Whether a tile, counted across and down, is among them.
    pub fn contains(self, across: u16, down: u16) -> bool {
        self.x0 <= across && across <= self.x1 && self.y0 <= down && down <= self.y1
    }
}

impl Grid {
    /// Cuts a picture, `[width, height]` in pixels, into tiles of 2^`tile_log2` pixels across (3 to 6) and down (3 and up).
    pub fn new([width, height]: [usize; 2], tile_log2: [u32; 2]) -> Self {
        let (across, down) = (width.div_ceil(1 << tile_log2[0]), height.div_ceil(1 << tile_log2[1]));
        Self { width, height, tile_log2, across, down }
    }

    /// Number of tiles.
    pub fn tiles(&self) -> usize {
        self.across * self.down
    }

    /// Rows of a tile.
    pub fn rows(&self) -> usize {
        1 << self.tile_log2[1]
    }

    /// Columns of a tile.
    pub fn tile_width(&self) -> usize {
        1 << self.tile_log2[0]
    }

    /// Where a tile is, counted across and down.
    pub fn place(&self, nth: usize) -> [u16; 2] {
        [(nth % self.across) as u16, (nth / self.across) as u16]
    }

    /// Returns the row of a pixel among the rows of all tiles, and its column in it.
    pub fn row_of(&self, x: usize, y: usize) -> (usize, usize) {
        let [w, h] = self.tile_log2;
        let tile = (y >> h) * self.across + (x >> w);
        ((tile << h) + (y & (self.rows() - 1)), x & (self.tile_width() - 1))
    }

    /// Index of a pixel among those of all tiles, each column by column.
    pub fn texel(&self, x: usize, y: usize) -> usize {
        let [w, h] = self.tile_log2;
        let tile = (y >> h) * self.across + (x >> w);
        (((tile << w) + (x & (self.tile_width() - 1))) << h) + (y & (self.rows() - 1))
    }

    /// A tile's part of the picture.
    pub fn rect(&self, nth: usize) -> Rect {
        let (x, y) = (nth % self.across * self.tile_width(), nth / self.across * self.rows());
        Rect { x, y, w: (self.width - x).min(self.tile_width()), h: (self.height - y).min(self.rows()) }
    }

    /// Returns first column and row, last column and row of the pixels of the picture whose centre is within bounds, if there are any.
    #[inline(always)]
    pub fn pixels(&self, [x0, y0, x1, y1]: [f32; 4]) -> Option<[i32; 4]> {
        let (i0, i1) = (first_pixel(x0, 0), last_pixel(x1, self.width as i32 - 1));
        let (j0, j1) = (first_pixel(y0, 0), last_pixel(y1, self.height as i32 - 1));
        (i0 <= i1 && j0 <= j1).then_some([i0, j0, i1, j1])
    }

    /// Returns the tiles of those pixels.
    #[inline(always)]
    pub fn cover(&self, bounds: [f32; 4]) -> Option<Tiles> {
        self.pixels(bounds).map(|pixels| self.tiles_of(pixels))
    }

    /// Returns the tiles of pixels from a first column and row to a last column and row.
    #[inline(always)]
    pub fn tiles_of(&self, [i0, j0, i1, j1]: [i32; 4]) -> Tiles {
        let [w, h] = self.tile_log2;
        Tiles::new(i0 >> w, i1 >> w, j0 >> h, j1 >> h)
    }
}

/// First pixel from `least` (0 or more) whose centre is at or right of `x`.
#[inline(always)]
pub fn first_pixel(x: f32, least: i32) -> i32 {
    let from = if x - 0.5 > 0.0 { x - 0.5 } else { 0.0 };
    let whole = from as i32;
    (whole + i32::from(whole as f32 != from)).max(least)
}

/// Last pixel up to `most` whose centre is at or left of `x`; negative when there is none.
#[inline(always)]
pub fn last_pixel(x: f32, most: i32) -> i32 {
    let to = x - 0.5;
    if to >= 0.0 { (to as i32).min(most) } else { -1 }
}
