//! Directions and sizes of cached pictures, in steps.

use std::sync::OnceLock;

use crate::camera::View;
use glam::{Quat, Vec2, Vec3};

/// Directions of the pictures: steps in a full turn, and steps in a right angle from horizontal to straight down.
const TURNS: f32 = 36.0;

/// Steps in half a turn.
pub(super) const HALF_TURNS: i16 = TURNS as i16 / 2;

const HEIGHTS: f32 = 18.0;

/// Rolls of the picture, in a full turn.
const ROLLS: f32 = 60.0;

/// Sizes of the pictures: the ratio of one step to the one before.
pub(super) const SIZES: f32 = 1.12;

/// Step of a size.
pub(super) fn step(scale: f32) -> i16 {
    (libm::logf(scale) / libm::logf(SIZES)).round() as i16
}

/// Steps about one whose pictures can stand in for it, the most alike first: changes of turn, height, roll and size.
pub(super) fn nearby() -> &'static [[i16; 4]] {
    static NEARBY: OnceLock<Vec<[i16; 4]>> = OnceLock::new();
    NEARBY.get_or_init(|| {
        // How much a step of each changes a picture, against a step of turn.
        let unlike = |steps: &[i16; 4]| {
            let weights = [1.0, 0.6, 0.6, 0.5];
            steps.iter().zip(weights).map(|(steps, weight)| f32::from(steps.abs()) * weight).sum::<f32>()
        };
        let mut all = Vec::new();
        for turn in -2..=2 {
            for height in -1..=1 {
                for roll in -1..=1 {
                    all.extend((-2..=2).map(|size| [turn, height, roll, size]));
                }
            }
        }
        all.retain(|steps| (0.1..2.2).contains(&unlike(steps)));
        all.sort_by(|a, b| unlike(a).total_cmp(&unlike(b)));
        all
    })
}

/// Direction of view, in steps.
#[derive(Debug, Clone, Copy)]
pub(super) struct Side {
    pub(super) turn: i16,
    pub(super) height: i16,
    pub(super) roll: i16,
    pub(super) size: i16,
}

impl Side {
    /// `None` for points that are not in front of the camera.
    pub(super) fn of(camera: &View, middle: Vec3) -> Option<Self> {
        let local = camera.local(middle);
        // Groups beside the view can still cast a shadow into the picture.
        let depth = local.z.abs().max(local.length() * 0.25);
        let towards = (middle - camera.eye).try_normalize()?;
        let turn = libm::atan2f(towards.x, towards.z) * (TURNS / std::f32::consts::TAU);
        let height = libm::asinf(towards.y.clamp(-1.0, 1.0)) * (HEIGHTS / std::f32::consts::FRAC_PI_2);
        // Direction of vertical lines in the picture at that point.
        let up = Vec2::new(camera.right.y, camera.up.y)
            - Vec2::new(local.x, local.y) / depth * camera.forward.y * f32::from(u8::from(local.z > 0.0));
        let roll = libm::atan2f(up.x, up.y) * (ROLLS / std::f32::consts::TAU);
        Some(Self {
            turn: turn.round() as i16,
            height: height.round() as i16,
            roll: if up.length_squared() > 1e-3 { roll.round() as i16 } else { 0 },
            // Between its width and its height on the screen.
            size: step(camera.focal / depth * (local.x.hypot(depth) / depth).sqrt()),
        })
    }

    /// The size alone, in coarser steps.
    pub(super) fn thinned_only(self) -> Self {
        const COARSER: i16 = 4;
        Self { turn: 0, height: 0, roll: 0, size: self.size.div_euclid(COARSER) * COARSER }
    }

    /// A view like that of the camera, of the origin from this direction, without a picture size.
    pub(super) fn view(self, camera: &View) -> View {
        let turn = f32::from(self.turn) * (std::f32::consts::TAU / TURNS);
        let height = f32::from(self.height) * (std::f32::consts::FRAC_PI_2 / HEIGHTS);
        let (sin, cos) = libm::sincosf(turn);
        let (rise, level) = libm::sincosf(height);
        let forward = Vec3::new(sin * level, rise, cos * level);
        let right = Vec3::new(-cos, 0.0, sin);
        // Rolled about the ray, so that vertical lines have the same slant as there.
        let roll = Quat::from_axis_angle(-forward, f32::from(self.roll) * (std::f32::consts::TAU / ROLLS));
        let (right, up) = (roll * right, roll * right.cross(forward));
        let eye = forward * -(camera.focal / SIZES.powi(i32::from(self.size)));
        View { eye, right, up, forward, ..*camera }
    }
}
