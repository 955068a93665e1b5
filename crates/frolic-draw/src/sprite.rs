//! Sprites: pictures, boards and letters, each placed on its own.

use glam::Vec3;

use crate::atlas::{RegionId, TileMapId};
use crate::camera::View;

/// What a sprite is filled with; its tint is multiplied in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
#[non_exhaustive]
pub enum Fill {
    /// Nothing but the tint.
    #[default]
    Plain,
    /// A picture of the look's atlas.
    Picture(RegionId),
    /// A tile map of the look's atlas: the tile is looked up per pixel.
    Tiles(TileMapId),
}

/// How a sprite in the world stands. On the screen it always faces you.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
#[non_exhaustive]
pub enum Stand {
    /// Faces the camera.
    #[default]
    Camera,
    /// Upright, facing a bearing in radians from -z towards x.
    Upright(f32),
    /// Lies face up, its upper edge towards a bearing in radians from -z towards x.
    Flat(f32),
}

/// One sprite.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Sprite {
    /// Where its pivot is: pixels from the left and top of the picture (the third is not used), or metres in the world.
    pub position: [f32; 3],
    /// Width and height, pixels or metres.
    pub size: [f32; 2],
    /// The point that is placed and turned about, as a share of the size from the upper left. Default the middle.
    pub pivot: [f32; 2],
    /// Turn about the pivot, radians anticlockwise as seen.
    pub turn: f32,
    /// How it stands in the world.
    pub stand: Stand,
    /// Colour in linear light, and opacity 0..1. Default white.
    pub tint: [f32; 4],
    /// What it is filled with.
    pub fill: Fill,
    /// Radius of its corners, in the unit of its size.
    pub corner: f32,
    /// Width of its border, inside its edge, in the unit of its size.
    pub border: f32,
    /// Colour of the border in linear light, and opacity.
    pub border_tint: [f32; 4],
}

impl Default for Sprite {
    fn default() -> Self {
        Self {
            position: [0.0; 3],
            size: [1.0, 1.0],
            pivot: [0.5, 0.5],
            turn: 0.0,
            stand: Stand::Camera,
            tint: [1.0; 4],
            fill: Fill::Plain,
            corner: 0.0,
            border: 0.0,
            border_tint: [1.0; 4],
        }
    }
}

impl Sprite {
    /// Its upper left corner, and the edges across and down, in the unit of its size: screen places (y down), or world places.
    pub fn frame(&self, view: &View, on_screen: bool) -> [Vec3; 3] {
        let (sin, cos) = libm::sincosf(self.turn);
        let (x, y) = if on_screen {
            (Vec3::X, Vec3::Y)
        } else {
            match self.stand {
                Stand::Camera => (view.right, -view.up),
                Stand::Upright(bearing) => {
                    let (sin, cos) = libm::sincosf(bearing);
                    // Seen from where it faces, its right hand is the world's left of the bearing.
                    (Vec3::new(-cos, 0.0, -sin), Vec3::NEG_Y)
                }
                Stand::Flat(bearing) => {
                    let (sin, cos) = libm::sincosf(bearing);
                    (Vec3::new(cos, 0.0, sin), Vec3::new(-sin, 0.0, cos))
                }
            }
        };
        let across = (x * cos - y * sin) * self.size[0];
        let down = (x * sin + y * cos) * self.size[1];
        [Vec3::from(self.position) - across * self.pivot[0] - down * self.pivot[1], across, down]
    }
}
