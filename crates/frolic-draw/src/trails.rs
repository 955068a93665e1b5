//! Trails: each segment between two recorded positions is a curved ribbon.
//!
//! Ramps over age run from the element (0) to the end of its trail (1). Near the end of an element's life its whole trail moves
//! towards the end of the ramps, so that it does not pop.

use frolic_core::{BodyColumns, SpecError, Trail};

use crate::instances::Instances;

/// Share of a life after which its trail fades.
pub const TRAIL_FADE: f32 = 0.85;

/// Columns of the segments; kept from frame to frame.
#[derive(Debug, Clone, Default)]
pub struct Trails {
    position: [Vec<f32>; 3],
    curve: [Vec<f32>; 6],
    size: Vec<f32>,
    age: [Vec<f32>; 2],
    key: Vec<u32>,
}

impl Trails {
    /// Rebuilds the segments, `lag` seconds before the population's last step. Each is `taper` times as wide as the previous one, so the
    /// look's ribbon should have the same taper. O(elements times positions).
    pub fn take(&mut self, columns: &BodyColumns, trail: &Trail, lag: f32, taper: f32) {
        let Self { position, curve, size, age, key } = self;
        position.iter_mut().chain(curve.iter_mut()).chain(age.iter_mut()).for_each(Vec::clear);
        size.clear();
        key.clear();
        let places: smallvec::SmallVec<[[&[f32]; 3]; 32]> =
            (0..trail.places()).filter_map(|nth| trail.place(nth)).collect();
        let ([px, py, pz], [vx, vy, vz]) = (columns.position(), columns.velocity());
        // The last stretch grows shorter as the next place nears, so that the end does not jump.
        let end = 1.0 - trail.share();
        for i in 0..columns.len() {
            let now = glam::Vec3::new(px[i] - vx[i] * lag, py[i] - vy[i] * lag, pz[i] - vz[i] * lag);
            let point = |nth: usize| {
                if nth == 0 {
                    return now;
                }
                let [x, y, z] = places[(nth - 1).min(places.len() - 1)];
                glam::Vec3::new(x[i], y[i], z[i])
            };
            let fade =
                ((columns.age()[i] / columns.life()[i] - TRAIL_FADE) / (1.0 - TRAIL_FADE)).clamp(0.0, 1.0);
            let mut width = columns.size()[i];
            for nth in 0..places.len() {
                let (from, mut to) = (point(nth), point(nth + 1));
                let before = if nth == 0 { from } else { point(nth - 1) };
                let after = if nth + 2 <= places.len() { point(nth + 2) } else { to };
                if nth + 1 == places.len() {
                    to = from.lerp(to, end);
                }
                // A newborn has not gone anywhere yet.
                if from.distance_squared(to) > 1e-12 {
                    // Between the tangents of a smooth line through all places.
                    let ahead = from + (to - before) * if nth == 0 { 0.5 } else { 0.25 };
                    let back = to - (after - from) * 0.25;
                    let middle = (ahead + back) * 0.5 - from;
                    let tip = to - from;
                    for (column, value) in position.iter_mut().zip(from.to_array()) {
                        column.push(value);
                    }
                    let offsets = [middle.x, middle.y, middle.z, tip.x, tip.y, tip.z];
                    for (column, value) in curve.iter_mut().zip(offsets) {
                        column.push(value);
                    }
                    let share = nth as f32 / places.len() as f32;
                    age[0].push(share + (1.0 - share) * fade);
                    age[1].push(1.0);
                    size.push(width);
                    key.push(columns.key()[i]);
                }
                width *= taper;
            }
        }
    }

    /// The segments as instances.
    ///
    /// # Errors
    /// When there are more segments than a draw list can count.
    pub fn instances(&self) -> Result<Instances<'_>, SpecError> {
        let [x, y, z] = &self.position;
        let [a, b, c, d, e, f] = &self.curve;
        Instances::at([x, y, z])?
            .sized(&self.size)?
            .ageing(&self.age[0], &self.age[1])?
            .curved([a, b, c], [d, e, f])?
            .keyed(&self.key)
    }
}
