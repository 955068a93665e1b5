//! Pictures, sheets of frames, tiles and glyphs, packed onto pages that batches share.
//!
//! A page keeps linear light, times opacity, in 16 bits a channel, at full size and at a half, a quarter and an eighth. Every
//! picture's cell starts at a multiple of eight texels and is filled up with the picture's own edge, and lookups are held to
//! the picture's own texels, so no neighbour bleeds in at any scale.

mod font;
mod pack;

use std::collections::HashMap;

use frolic_core::SpecError;
use frolic_raster::texture::{LEVELS, Page, Textures};
pub use frolic_raster::texture::{Region, RegionId};

use crate::colour::linear;
use crate::image::Image;
pub use font::{Align, Font, TextStyle};
pub use pack::{CELL, PackSpec, Place, pack};

const _: () = assert!(LEVELS == CELL.ilog2() as usize + 1, "cells are whole texels at every size");

/// Straight RGBA in sRGB, 8 bits a channel, rows from the top: what a PNG holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Picture {
    size: [u32; 2],
    pixels: Vec<[u8; 4]>,
}

/// A finished image, as a texture for others.
impl From<&Image> for Picture {
    fn from(image: &Image) -> Self {
        let size = [image.size().width() as u32, image.size().height() as u32];
        Self { size, pixels: image.pixels().to_vec() }
    }
}

impl Picture {
    /// A picture.
    ///
    /// # Errors
    /// No pixel, or another number of pixels than the size says.
    pub fn new(size: [u32; 2], pixels: Vec<[u8; 4]>) -> Result<Self, SpecError> {
        let [w, h] = size;
        if w == 0 || h == 0 || pixels.len() as u64 != u64::from(w) * u64::from(h) {
            let problem = format!("{} pixels for {w}x{h}", pixels.len());
            return Err(SpecError::new("picture", problem, "give one pixel a place, at least one"));
        }
        Ok(Self { size, pixels })
    }

    /// A picture from a function of the place.
    ///
    /// # Errors
    /// As [`Picture::new`].
    pub fn paint(size: [u32; 2], mut pixel: impl FnMut(u32, u32) -> [u8; 4]) -> Result<Self, SpecError> {
        let [w, h] = size;
        let pixels = (0..h).flat_map(|y| (0..w).map(move |x| (x, y))).map(|(x, y)| pixel(x, y)).collect();
        Self::new(size, pixels)
    }

    /// Width and height.
    pub fn size(&self) -> [u32; 2] {
        self.size
    }

    /// All pixels, row after row.
    pub fn pixels(&self) -> &[[u8; 4]] {
        &self.pixels
    }

    fn at(&self, x: u32, y: u32) -> [u8; 4] {
        self.pixels[y as usize * self.size[0] as usize + x as usize]
    }

    /// A part of it.
    fn part(&self, x: u32, y: u32, size: [u32; 2]) -> Self {
        let rows = (y..y + size[1]).flat_map(|j| (x..x + size[0]).map(move |i| (i, j)));
        Self { size, pixels: rows.map(|(i, j)| self.at(i, j)).collect() }
    }
}

/// Frames, tiles or a single picture: regions that follow one another.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Sheet {
    first: u32,
    count: u32,
}

impl Sheet {
    /// The region of a frame; past the last one it starts again.
    pub fn frame(self, nth: u32) -> RegionId {
        RegionId(self.first + nth % self.count)
    }

    /// How many frames.
    #[allow(clippy::len_without_is_empty)] // never empty
    pub fn len(self) -> u32 {
        self.count
    }
}

/// Any number of tiles on one quad: an index image names the tile at each place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TileMap {
    pub(crate) sheet: Sheet,
    pub(crate) size: [u32; 2],
    /// Frame of the sheet at each place, row after row from the top; [`TileMap::EMPTY`] shows nothing.
    pub(crate) tiles: Vec<u16>,
}

impl TileMap {
    /// No tile.
    pub const EMPTY: u16 = u16::MAX;

    /// The sheet that the tiles are of.
    pub fn sheet(&self) -> Sheet {
        self.sheet
    }

    /// Places across and down.
    pub fn size(&self) -> [u32; 2] {
        self.size
    }

    /// Frame of the sheet at each place, row after row from the top.
    pub fn tiles(&self) -> &[u16] {
        &self.tiles
    }

    /// Tiles of `sheet`, `size` places across and down, row after row from the top.
    ///
    /// # Errors
    /// No place, another number of tiles than the size says, or a tile that the sheet does not have.
    pub fn new(sheet: Sheet, size: [u32; 2], tiles: Vec<u16>) -> Result<Self, SpecError> {
        let [w, h] = size;
        if w == 0 || h == 0 || tiles.len() as u64 != u64::from(w) * u64::from(h) {
            let problem = format!("{} tiles for {w}x{h} places", tiles.len());
            return Err(SpecError::new("tiles", problem, "give one tile a place, at least one"));
        }
        let missing = |&&tile: &&u16| tile != Self::EMPTY && u32::from(tile) >= sheet.len();
        if let Some(tile) = tiles.iter().find(missing) {
            let problem = format!("tile {tile} of a sheet of {}", sheet.len());
            return Err(SpecError::new("tiles", problem, "count tiles from 0"));
        }
        Ok(Self { sheet, size, tiles })
    }
}

/// A tile map's place in an atlas.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct TileMapId(pub(crate) u32);

impl TileMapId {
    /// Its number: a place in [`Atlas::tile_maps`].
    pub fn number(self) -> u32 {
        self.0
    }
}

/// Collects pictures, then packs them.
///
/// ```
/// use frolic_draw::{AtlasBuilder, Picture};
/// let mut builder = AtlasBuilder::default();
/// let red = builder.picture("red", Picture::new([1, 1], vec![[255, 0, 0, 255]])?);
/// let atlas = builder.build()?;
/// assert_eq!(atlas.sheet("red"), Some(red));
/// assert_eq!(atlas.pages(), 1);
/// # Ok::<(), frolic_core::SpecError>(())
/// ```
#[derive(Debug, Default)]
pub struct AtlasBuilder {
    spec: PackSpec,
    pictures: Vec<Picture>,
    names: HashMap<String, Sheet>,
    tile_maps: Vec<TileMap>,
}

impl AtlasBuilder {
    /// Packs by this spec.
    pub fn new(spec: PackSpec) -> Self {
        Self { spec, ..Self::default() }
    }

    /// Adds one picture under a name.
    pub fn picture(&mut self, name: &str, picture: Picture) -> Sheet {
        self.add(name, vec![picture])
    }

    /// Adds a picture cut into frames of equal size, `across` by `down`, numbered row after row. Each frame gets padding of
    /// its own.
    ///
    /// # Errors
    /// When the picture's sides are no multiples of the numbers of frames.
    pub fn frames(
        &mut self,
        name: &str,
        picture: &Picture,
        across: u32,
        down: u32,
    ) -> Result<Sheet, SpecError> {
        let [w, h] = picture.size();
        if across == 0 || down == 0 || w % across != 0 || h % down != 0 {
            let problem = format!("{w}x{h} is not {across} by {down} frames of one size");
            return Err(SpecError::new("frames", problem, "write numbers that divide the picture's sides"));
        }
        let size = [w / across, h / down];
        let places = (0..down).flat_map(|j| (0..across).map(move |i| (i, j)));
        let frames = places.map(|(i, j)| picture.part(i * size[0], j * size[1], size)).collect();
        Ok(self.add(name, frames))
    }

    /// Adds a tile map of a sheet that was added before.
    pub fn tile_map(&mut self, map: TileMap) -> TileMapId {
        self.tile_maps.push(map);
        TileMapId(self.tile_maps.len() as u32 - 1)
    }

    pub(crate) fn add(&mut self, name: &str, pictures: Vec<Picture>) -> Sheet {
        let sheet = Sheet { first: self.pictures.len() as u32, count: pictures.len() as u32 };
        self.pictures.extend(pictures);
        self.names.insert(name.to_owned(), sheet);
        sheet
    }

    /// Packs everything.
    ///
    /// # Errors
    /// When a picture is larger than a page.
    pub fn build(self) -> Result<Atlas, SpecError> {
        let sizes: Vec<[u32; 2]> = self.pictures.iter().map(Picture::size).collect();
        let (sides, places) = pack(&sizes, &self.spec)?;
        let mut pages: Vec<Page> = sides.iter().map(|&side| Page::blank(side as usize)).collect();
        let mut regions = Vec::with_capacity(places.len());
        for (picture, place) in self.pictures.iter().zip(&places) {
            let [w, h] = picture.size();
            // The picture itself starts at a multiple of eight too: its left padding is that of its cell's neighbour.
            let region = Region { page: place.page as u16, x: place.x, y: place.y, w, h };
            pages[place.page].put(picture, &region, self.spec.cell([w, h]));
            regions.push(region);
        }
        pages.iter_mut().for_each(Fill::shrink);
        Ok(Atlas { textures: Textures { pages, regions }, names: self.names, tile_maps: self.tile_maps })
    }
}

/// Packed pictures.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Atlas {
    textures: Textures,
    names: HashMap<String, Sheet>,
    tile_maps: Vec<TileMap>,
}

impl Atlas {
    /// The sheet of a name.
    pub fn sheet(&self, name: &str) -> Option<Sheet> {
        self.names.get(name).copied()
    }

    /// All names, in no order.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.names.keys().map(String::as_str)
    }

    /// How many pages there are.
    pub fn pages(&self) -> usize {
        self.textures.pages.len()
    }

    /// Bytes of all pages.
    pub fn bytes(&self) -> usize {
        self.textures.pages.iter().flat_map(|page| &page.levels).map(|level| size_of_val(&level[..])).sum()
    }

    /// Where every picture lies, by its number.
    pub fn regions(&self) -> &[Region] {
        &self.textures.regions
    }

    /// Tile maps, by number.
    pub fn tile_maps(&self) -> &[TileMap] {
        &self.tile_maps
    }

    /// Side of a page, texels, and its copies, each half the size of the one before: linear light times opacity, where 65535 is 1. Row
    /// after row from the top.
    pub fn page(&self, nth: usize) -> Option<(usize, &[Vec<[u16; 4]>])> {
        self.textures.pages.get(nth).map(|page| (page.side, &page.levels[..]))
    }

    /// Paints over a part of a picture, from a place on, texels from its upper left; what does not fit is left. Costs the texels that
    /// change.
    pub fn repaint(&mut self, region: RegionId, [x, y]: [u32; 2], part: &Picture) {
        let Some(&region) = self.region(region) else { return };
        let Some(page) = self.textures.pages.get_mut(usize::from(region.page)) else { return };
        let [w, h] = part.size();
        let (w, h) = (w.min(region.w.saturating_sub(x)), h.min(region.h.saturating_sub(y)));
        page.paint_over(part, [region.x + x, region.y + y], [w, h]);
    }

    /// Width and height of a picture, texels.
    pub fn size(&self, region: RegionId) -> Option<[u32; 2]> {
        self.region(region).map(|region| [region.w, region.h])
    }

    /// The page that a picture lies on.
    pub fn page_of(&self, region: RegionId) -> u16 {
        self.region(region).map_or(0, |region| region.page)
    }

    pub(crate) fn map(&self, id: TileMapId) -> Option<&TileMap> {
        self.tile_maps.get(id.0 as usize)
    }

    /// Colour times opacity, and opacity, in linear light, at a place of a region: 0..1 from its upper left. `texels` says how many of
    /// the picture's texels a pixel of the screen covers. Bilinear, on the copy of the nearest size.
    #[inline]
    pub fn sample(&self, region: RegionId, u: f32, v: f32, texels: f32) -> [f32; 4] {
        let Some(region) = self.region(region) else { return [0.0; 4] };
        self.textures.look_up(region, u, v, texels).to_array()
    }

    pub(crate) fn region(&self, id: RegionId) -> Option<&Region> {
        self.textures.region(id)
    }

    /// The pages and regions, as kernels read them.
    pub fn textures(&self) -> &Textures {
        &self.textures
    }
}

/// How pages are filled.
trait Fill {
    /// A page without a texel.
    fn blank(side: usize) -> Self;
    /// Puts a picture into its cell and fills the rest of the cell with its edge.
    fn put(&mut self, picture: &Picture, region: &Region, cell: [u32; 2]);
    /// Paints over a rectangle and makes its smaller copies anew.
    fn paint_over(&mut self, picture: &Picture, place: [u32; 2], size: [u32; 2]);
    /// Makes the smaller copies: means of two by two.
    fn shrink(&mut self);
}

impl Fill for Page {
    fn blank(side: usize) -> Self {
        Self { side, levels: vec![vec![[0; 4]; side * side]] }
    }

    fn put(&mut self, picture: &Picture, region: &Region, cell: [u32; 2]) {
        for j in 0..cell[1] {
            for i in 0..cell[0] {
                let at = (region.y + j) as usize * self.side + (region.x + i) as usize;
                self.levels[0][at] = texel(picture.at(i.min(region.w - 1), j.min(region.h - 1)));
            }
        }
    }

    fn paint_over(&mut self, picture: &Picture, [x, y]: [u32; 2], [w, h]: [u32; 2]) {
        let side = self.side;
        for j in 0..h {
            for i in 0..w {
                self.levels[0][(y + j) as usize * side + (x + i) as usize] = texel(picture.at(i, j));
            }
        }
        for level in 1..LEVELS {
            let (x0, x1) = ((x >> level) as usize, ((x + w) as usize).div_ceil(1 << level));
            let (y0, y1) = ((y >> level) as usize, ((y + h) as usize).div_ceil(1 << level));
            let side = side >> level;
            let [.., from, into] = &mut self.levels[..=level] else { return };
            for j in y0..y1.min(side) {
                for i in x0..x1.min(side) {
                    into[j * side + i] = mean(from, side * 2, i * 2, j * 2);
                }
            }
        }
    }

    fn shrink(&mut self) {
        for level in 1..LEVELS {
            let (from, side) = (&self.levels[level - 1], self.side >> level);
            let mut into = vec![[0u16; 4]; side * side];
            for (at, texel) in into.iter_mut().enumerate() {
                *texel = mean(from, side * 2, at % side * 2, at / side * 2);
            }
            self.levels.push(into);
        }
    }
}

/// Linear light times opacity in 16 bits, of straight sRGB in 8.
fn texel([r, g, b, a]: [u8; 4]) -> [u16; 4] {
    let opacity = f32::from(a) / 255.0;
    let channel = |byte: u8| (linear(byte) * opacity * 65_535.0 + 0.5) as u16;
    [channel(r), channel(g), channel(b), (opacity * 65_535.0 + 0.5) as u16]
}

/// Mean of two by two texels.
fn mean(from: &[[u16; 4]], side: usize, x: usize, y: usize) -> [u16; 4] {
    let four = [(x, y), (x + 1, y), (x, y + 1), (x + 1, y + 1)].map(|(i, j)| from[j * side + i]);
    std::array::from_fn(|channel| {
        let sum: u32 = four.iter().map(|texel| u32::from(texel[channel])).sum();
        ((sum + 2) / 4) as u16
    })
}
