//! Sprites: images, boards and letters, each with its own position.

use glam::Vec3;

use crate::atlas::{RegionId, TileMapId};
use crate::camera::View;

/// Fill of a sprite, multiplied by its tint.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
#[non_exhaustive]
pub enum Fill {
    /// Tint only.
    #[default]
    Plain,
    /// An image of the look's atlas.
    Picture(RegionId),
    /// A tile map of the look's atlas. The tile is looked up per pixel.
    Tiles(TileMapId),
}

/// Orientation of a sprite in the world. On the screen, sprites always face the viewer.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
#[non_exhaustive]
pub enum Orientation {
    /// Faces the camera.
    #[default]
    Camera,
    /// Upright, facing a bearing in radians from -z towards x.
    Upright(f32),
    /// Flat, face up, with its upper edge towards a bearing in radians from -z towards x.
    Flat(f32),
}

/// One sprite.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Sprite {
    /// Position of the pivot: pixels from the left and the top of the image (the third value is unused), or metres in the world.
    pub position: [f32; 3],
    /// Width and height in pixels or metres.
    pub size: [f32; 2],
    /// Pivot as a share of the size from the upper left. Default: the centre.
    pub pivot: [f32; 2],
    /// Anticlockwise turn about the pivot in radians.
    pub turn: f32,
    /// Orientation in the world.
    pub orientation: Orientation,
    /// Colour in linear light, and opacity 0..1. Default: white.
    pub tint: [f32; 4],
    /// Fill.
    pub fill: Fill,
    /// Corner radius, in the unit of the size.
    pub corner: f32,
    /// Width of the border inside the edge, in the unit of the size.
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
            orientation: Orientation::Camera,
            tint: [1.0; 4],
            fill: Fill::Plain,
            corner: 0.0,
            border: 0.0,
            border_tint: [1.0; 4],
        }
    }
}

impl Sprite {
    /// Upper left corner, and the edges across and down, in the unit of the size: on the screen (y down) or in the world.
    pub fn frame(&self, view: &View, on_screen: bool) -> [Vec3; 3] {
        let (sin, cos) = libm::sincosf(self.turn);
        let (x, y) = if on_screen {
            (Vec3::X, Vec3::Y)
        } else {
            match self.orientation {
                Orientation::Camera => (view.right, -view.up),
                Orientation::Upright(bearing) => {
                    let (sin, cos) = libm::sincosf(bearing);
                    // Seen from where it faces, its right hand is the world's left of the bearing.
                    (Vec3::new(-cos, 0.0, -sin), Vec3::NEG_Y)
                }
                Orientation::Flat(bearing) => {
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
