//! Camera and view: projection, and tests against the view frustum.

use derive_setters::Setters;
use frolic_core::{SpecError, vector_within, within};
use frolic_raster::camera::Camera;
pub use frolic_raster::camera::NEAR;
use glam::{Vec2, Vec3};
use serde::{Deserialize, Serialize};

use crate::bounds::Bounds;
use crate::image::ImageSize;
use crate::lamps::SunSpec;

/// A perspective camera.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct CameraSpec {
    /// Position in metres. Default: `[0, 1.6, 6]`.
    pub position: [f32; 3],
    /// Point that the camera looks at, in metres. Default: the origin.
    pub target: [f32; 3],
    /// Vertical field of view in degrees, 1 to 170. Default: 40.
    pub fov_degrees: f32,
    /// Factor on all light before the tone curve, 0.001 to 1000. Default: 1.
    pub exposure: f32,
    /// Share of light that bloom spreads around bright pixels, 0 to 1. Default: 0.06.
    pub bloom: f32,
}

impl Default for CameraSpec {
    fn default() -> Self {
        Self { position: [0.0, 1.6, 6.0], target: [0.0; 3], fov_degrees: 40.0, exposure: 1.0, bloom: 0.06 }
    }
}

impl CameraSpec {
    /// A camera at `position` that looks at `target`, both in metres, with a vertical field of view in degrees.
    pub fn new(position: [f32; 3], target: [f32; 3], fov_degrees: f32) -> Self {
        Self { position, target, fov_degrees, ..Self::default() }
    }

    /// Builds the view for an image size.
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
        // Straight up or down leaves the right axis undefined, so take x.
        let right = forward.cross(Vec3::Y).try_normalize().unwrap_or(Vec3::X);
        Ok(View {
            size,
            eye,
            right,
            up: right.cross(forward),
            forward,
            focal: size.height() as f32 * 0.5 / libm::tanf(self.fov_degrees.to_radians() * 0.5),
            level: false,
            exposure: self.exposure,
            bloom: self.bloom,
            halvings: 0,
        })
    }
}

/// A camera prepared for one image size.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct View {
    pub(crate) size: ImageSize,
    pub(crate) eye: Vec3,
    pub(crate) right: Vec3,
    pub(crate) up: Vec3,
    pub(crate) forward: Vec3,
    /// Focal length in pixels; in a level view, pixels a metre.
    pub(crate) focal: f32,
    /// Whether the projection is parallel, as the sun's is.
    pub(crate) level: bool,
    pub(crate) exposure: f32,
    pub(crate) bloom: f32,
    /// How often the picture was halved: places on the screen are given in pixels before that.
    pub(crate) halvings: u8,
}

/// Fields of a [`View`], for a backend.
#[derive(Debug, Clone, Copy, PartialEq)]
#[non_exhaustive]
pub struct ViewParts {
    /// Position in metres.
    pub eye: Vec3,
    /// Its axes, unit length.
    pub right: Vec3,
    /// Its axes, unit length.
    pub up: Vec3,
    /// Its axes, unit length.
    pub forward: Vec3,
    /// Focal length in pixels; in a level view, pixels a metre.
    pub focal: f32,
    /// Whether the projection is parallel, as the sun's is.
    pub level: bool,
    /// Factor on all light before the tone curve.
    pub exposure: f32,
    /// Share of light that bloom spreads.
    pub bloom: f32,
}

/// Distance outside the image, in pixels, at which an element may still touch its border pixels.
const EDGE: f32 = 1.5;

impl View {
    /// The view's fields.
    pub fn parts(&self) -> ViewParts {
        let Self { eye, right, up, forward, focal, level, exposure, bloom, .. } = *self;
        ViewParts { eye, right, up, forward, focal, level, exposure, bloom }
    }

    /// A view for a program's own camera: its position in metres, its right, up and forward axes, and its vertical field of view in
    /// radians.
    ///
    /// # Errors
    /// When the axes are not orthonormal, or the angle is outside 0.01 to 3.
    pub fn along(size: ImageSize, eye: [f32; 3], axes: [[f32; 3]; 3], fov: f32) -> Result<Self, SpecError> {
        vector_within("eye", eye, 1e6, "m")?;
        within("fov", fov, 0.01, 3.0, "radians")?;
        let [right, up, forward] = axes.map(Vec3::from);
        let square = |a: Vec3, b: Vec3| a.dot(b).abs() < 1e-3;
        let unit = |a: Vec3| (a.length() - 1.0).abs() < 1e-3;
        if !(axes.iter().all(|axis| unit(Vec3::from(*axis)))
            && square(right, up)
            && square(right, forward)
            && square(up, forward))
        {
            let problem = "are not unit vectors at right angles";
            return Err(SpecError::new("axes", problem, "write right, up and forward of the camera"));
        }
        let focal = size.height() as f32 * 0.5 / libm::tanf(fov * 0.5);
        Ok(Self {
            size,
            eye: eye.into(),
            right,
            up,
            forward,
            focal,
            level: false,
            exposure: 1.0,
            bloom: 0.0,
            halvings: 0,
        })
    }

    /// The view in the layout that kernels read.
    pub(crate) fn camera(&self) -> Camera {
        let Self { eye, right, up, forward, focal, level, .. } = *self;
        Camera { eye, right, up, forward, focal, middle: self.middle(), level, near: self.near() }
    }

    /// Image size.
    pub fn size(&self) -> ImageSize {
        self.size
    }

    /// The view of a picture with half as many columns and rows, rounded up.
    pub(crate) fn halved(&self) -> Self {
        let [width, height] = self.size.sides().map(|side| side.div_ceil(2) as u32);
        let size = ImageSize::new(width, height).unwrap_or(self.size);
        Self { size, focal: self.focal * 0.5, halvings: self.halvings + 1, ..*self }
    }

    /// Pixels of it for one that places on the screen are given in.
    pub(crate) fn per_pixel(&self) -> f32 {
        1.0 / (1u32 << self.halvings) as f32
    }

    /// Projects a point: pixels from the left and the top edge, and depth along the view in metres. `None` behind the camera.
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
        let scale = self.scale(depth);
        let [cx, cy] = self.middle();
        (depth > self.near()).then(|| [cx + d.dot(self.right) * scale, cy - d.dot(self.up) * scale, depth])
    }

    /// A parallel projection along `forward` with `focal` pixels a metre.
    pub(crate) fn side_by_side(size: ImageSize, eye: Vec3, forward: Vec3, focal: f32) -> Self {
        let right = forward.cross(Vec3::Y).try_normalize().unwrap_or(Vec3::X);
        let up = right.cross(forward);
        Self { size, eye, right, up, forward, focal, level: true, exposure: 1.0, bloom: 0.0, halvings: 0 }
    }

    /// Pixels a metre at a depth in metres.
    #[inline(always)]
    pub(crate) fn scale(&self, depth: f32) -> f32 {
        if self.level { self.focal } else { self.focal / depth }
    }

    /// Depth of the near plane in metres.
    pub(crate) fn near(&self) -> f32 {
        if self.level { f32::MIN } else { NEAR }
    }

    /// Transforms a point into view space: right, up, and depth along the view, in metres.
    #[inline(always)]
    pub(crate) fn local(&self, point: Vec3) -> Vec3 {
        let d = point - self.eye;
        Vec3::new(d.dot(self.right), d.dot(self.up), d.dot(self.forward))
    }

    /// Projects a point in view space to pixels from the left and the top edge. Its depth must be beyond [`View::near`].
    #[inline(always)]
    pub(crate) fn screen(&self, local: Vec3) -> Vec2 {
        let scale = self.scale(local.z);
        let [cx, cy] = self.middle();
        Vec2::new(cx + local.x * scale, cy - local.y * scale)
    }

    /// Whether a box may be in view. Conservative: tests the corner farthest along each plane's normal
    /// (Assarsson and Möller, "Optimized View Frustum Culling Algorithms", 2000).
    ///
    /// ```
    /// use frolic_draw::{Bounds, CameraSpec, ImageSize};
    /// let view = CameraSpec::new([0.0, 0.0, 5.0], [0.0; 3], 40.0).view(ImageSize::default())?;
    /// assert!(view.sees(&Bounds { low: [-1.0; 3], high: [1.0; 3] }));
    /// assert!(!view.sees(&Bounds { low: [0.0, 0.0, 6.0], high: [1.0, 1.0, 7.0] })); // behind the camera
    /// # Ok::<(), frolic_core::SpecError>(())
    /// ```
    pub fn sees(&self, bounds: &Bounds) -> bool {
        let (low, high) = (Vec3::from(bounds.low), Vec3::from(bounds.high));
        if !(low.is_finite() && high.is_finite()) {
            return true;
        }
        // Elements below a pixel are drawn a pixel wide with less opacity, so they may reach into the image from outside.
        let [cx, cy] = self.middle().map(|half| half + EDGE);
        let beyond = |normal: Vec3, least: f32| {
            let corner = Vec3::select(normal.cmpge(Vec3::ZERO), high, low) - self.eye;
            // Leave a hundred-thousandth for rounding.
            corner.dot(normal) < least - (corner.abs().dot(normal.abs())) * 1e-5
        };
        let side = |axis: Vec3, half: f32| {
            if self.level {
                beyond(axis * self.focal, -half)
            } else {
                beyond(axis * self.focal + self.forward * half, 0.0)
            }
        };
        let near = if self.level { f32::MIN } else { NEAR };
        !(beyond(self.forward, near)
            || side(self.right, cx)
            || side(-self.right, cx)
            || side(self.up, cy)
            || side(-self.up, cy))
    }

    /// Whether a sphere may be in view. Conservative.
    #[inline(always)]
    pub(crate) fn sees_ball(&self, middle: Vec3, radius: f32) -> bool {
        let local = self.local(middle);
        let [cx, cy] = self.middle().map(|half| half + EDGE);
        if self.level {
            let reach = radius * self.focal;
            return local.x.abs() * self.focal <= cx + reach && local.y.abs() * self.focal <= cy + reach;
        }
        // A side plane leans by half the image for each focal length, so its normal is at most as long as their sum.
        let inside = |aside: f32, half: f32| {
            aside.abs() * self.focal <= half * local.z + radius * (self.focal + half) * 1.000_01
        };
        local.z + radius > NEAR && inside(local.x, cx) && inside(local.y, cy)
    }

    /// Whether a box may be in view, or may cast a shadow into view.
    pub fn concerns(&self, bounds: &Bounds, sun: Option<&SunSpec>) -> bool {
        self.sees(bounds) || sun.and_then(SunSpec::fall).is_some_and(|fall| self.sees(&bounds.swept(fall)))
    }

    /// The point at a depth in metres behind a pixel position.
    #[inline(always)]
    pub fn point(&self, x: f32, y: f32, depth: f32) -> Vec3 {
        let [cx, cy] = self.middle();
        let scale = 1.0 / self.scale(depth);
        self.eye + self.forward * depth + self.right * ((x - cx) * scale) + self.up * ((cy - y) * scale)
    }

    /// Centre of the image in pixels.
    pub(crate) fn middle(&self) -> [f32; 2] {
        [self.size.width() as f32 * 0.5, self.size.height() as f32 * 0.5]
    }

    /// Direction of the ray through a pixel position, unit length.
    pub(crate) fn ray(&self, x: f32, y: f32) -> Vec3 {
        let [cx, cy] = self.middle();
        (self.forward * self.focal + self.right * (x - cx) - self.up * (y - cy)).normalize()
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// Spheres with a visible point are never culled; those far outside the image are.
        #[test]
        fn balls_in_sight_are_seen(
            from in prop::array::uniform3(-9f32..9.0), middle in prop::array::uniform3(-12f32..12.0), radius in 0.001f32..4.0,
            fov in 10f32..150.0, level in any::<bool>(), off in prop::array::uniform3(-1f32..1.0),
        ) {
            let size = ImageSize::new(160, 100).unwrap();
            let view = CameraSpec::new(from, [0.3, 0.2, 0.1], fov).view(size).unwrap();
            let view = View { level, ..view };
            let middle = Vec3::from(middle);
            let on = middle + Vec3::from(off).normalize_or(Vec3::X) * radius;
            let seen = view.project(on.to_array()).is_some_and(|[x, y, _]| {
                (0.0..160.0).contains(&x) && (0.0..100.0).contains(&y)
            });
            prop_assert!(!seen || view.sees_ball(middle, radius));
            if !level {
                let aside = view.eye + view.forward * 5.0 + view.right * (5.0 * 80.0 / view.focal + radius * 3.0 + 1.0);
                prop_assert!(!view.sees_ball(aside + view.right * (radius * 80.0 / view.focal), radius));
            }
        }
    }
}
