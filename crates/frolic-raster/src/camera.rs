//! The viewpoint of a picture, for kernels.

use glam::Vec3;

/// Depth from which on things are drawn, in metres.
pub const NEAR: f32 = 0.05;

/// A camera, or the sun as one.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Camera {
    /// Its position, in metres.
    pub eye: Vec3,
    /// Its axis to the right, unit length.
    pub right: Vec3,
    /// Its axis up, unit length.
    pub up: Vec3,
    /// The way it looks, unit length.
    pub forward: Vec3,
    /// Pixels that one radian covers in the middle of the picture; of a level view, pixels a metre.
    pub focal: f32,
    /// Middle of the picture, in pixels.
    pub middle: [f32; 2],
    /// Whether rays run side by side, as the sun's do, and size does not fall with depth.
    pub level: bool,
    /// Depth from which on things are drawn, in metres.
    pub near: f32,
}
