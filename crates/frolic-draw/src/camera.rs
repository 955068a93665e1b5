//! Where the picture is seen from.

use frolic_core::{SpecError, vector_within, within};
use glam::Vec3;
use serde::{Deserialize, Serialize};

use crate::image::ImageSize;

/// A perspective camera.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct CameraSpec {
    /// Where it stands, m. Default `[0, 1.6, 6]`.
    pub position: [f32; 3],
    /// What it looks at, m. Default the origin.
    pub target: [f32; 3],
    /// Angle of view from the lower to the upper edge, degrees, 1 to 170. Default 40.
    pub fov_degrees: f32,
    /// Factor on all light before the tone curve, 0.001 to 1000. Default 1.
    pub exposure: f32,
    /// Share of light that glare spreads around what is bright, 0 to 1. Default 0.06.
    pub bloom: f32,
}

impl Default for CameraSpec {
    fn default() -> Self {
        Self { position: [0.0, 1.6, 6.0], target: [0.0; 3], fov_degrees: 40.0, exposure: 1.0, bloom: 0.06 }
    }
}

impl CameraSpec {
    /// A camera that stands at `position`, looks at `target` (m) and sees `fov_degrees` from top to bottom.
    pub fn new(position: [f32; 3], target: [f32; 3], fov_degrees: f32) -> Self {
        Self { position, target, fov_degrees, ..Self::default() }
    }

    /// The view onto a picture of this size.
    ///
    /// # Errors
    /// Names the key that is out of range.
    pub fn view(&self, size: ImageSize) -> Result<View, SpecError> {
        vector_within("position", self.position, 1e6, "m")?;
        vector_within("target", self.target, 1e6, "m")?;
        within("fov_degrees", self.fov_degrees, 1.0, 170.0, "degrees")?;
        within("exposure", self.exposure, 0.001, 1000.0, "")?;
        within("bloom", self.bloom, 0.0, 1.0, "")?;
        let (eye, target) = (Vec3::from(self.position), Vec3::from(self.target));
        let Some(forward) = (target - eye).try_normalize() else {
            return Err(SpecError::new("target", "is where the camera stands", "look at another place"));
        };
        // Straight up or down has no side of its own: take x.
        let right = forward.cross(Vec3::Y).try_normalize().unwrap_or(Vec3::X);
        Ok(View {
            size,
            eye,
            right,
            up: right.cross(forward),
            forward,
            focal: size.height() as f32 * 0.5 / libm::tanf(self.fov_degrees.to_radians() * 0.5),
            exposure: self.exposure,
            bloom: self.bloom,
        })
    }
}

/// A camera made ready for one picture size.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct View {
    pub(crate) size: ImageSize,
    pub(crate) eye: Vec3,
    pub(crate) right: Vec3,
    pub(crate) up: Vec3,
    pub(crate) forward: Vec3,
    /// Pixels that one radian covers in the middle of the picture.
    pub(crate) focal: f32,
    pub(crate) exposure: f32,
    pub(crate) bloom: f32,
}

/// Nearest depth that is drawn, m.
pub(crate) const NEAR: f32 = 0.05;

impl View {
    /// Size of the picture.
    pub fn size(&self) -> ImageSize {
        self.size
    }

    /// Where a point is seen: pixels from the left and top edge, and depth along the view, m. `None` behind the camera.
    ///
    /// ```
    /// use frolic_draw::{CameraSpec, ImageSize};
    /// let view = CameraSpec::new([0.0, 0.0, 5.0], [0.0; 3], 40.0).view(ImageSize::default())?;
    /// assert_eq!(view.project([0.0; 3]), Some([640.0, 400.0, 5.0]));
    /// # Ok::<(), frolic_core::SpecError>(())
    /// ```
    pub fn project(&self, point: [f32; 3]) -> Option<[f32; 3]> {
        let d = Vec3::from(point) - self.eye;
        let depth = d.dot(self.forward);
        let scale = self.focal / depth;
        let [cx, cy] = self.middle();
        (depth > NEAR).then(|| [cx + d.dot(self.right) * scale, cy - d.dot(self.up) * scale, depth])
    }

    /// The middle of the picture, pixels.
    pub(crate) fn middle(&self) -> [f32; 2] {
        [self.size.width() as f32 * 0.5, self.size.height() as f32 * 0.5]
    }

    /// Direction, unit length, through a place of the picture in pixels.
    pub(crate) fn ray(&self, x: f32, y: f32) -> Vec3 {
        let [cx, cy] = self.middle();
        (self.forward * self.focal + self.right * (x - cx) - self.up * (y - cy)).normalize()
    }
}
