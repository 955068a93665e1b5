//! Boxes around elements.

use glam::Vec3;

/// The box around some elements.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Bounds {
    /// Least x, y, z, m.
    pub low: [f32; 3],
    /// Greatest x, y, z, m.
    pub high: [f32; 3],
}

impl Bounds {
    /// How far it is from a place, m; 0 inside.
    pub fn distance(&self, place: Vec3) -> f32 {
        let (low, high) = (Vec3::from(self.low), Vec3::from(self.high));
        if low.cmple(high).all() { place.clamp(low, high).distance(place) } else { 0.0 }
    }

    /// How far its farthest corner is from a place, m; endless if it is empty.
    pub fn farthest(&self, place: Vec3) -> f32 {
        let (low, high) = (Vec3::from(self.low), Vec3::from(self.high));
        let far = (place - low).abs().max((place - high).abs());
        if low.cmple(high).all() { far.length() } else { f32::INFINITY }
    }

    /// The box around it and the shadow that it throws down to its lower side: `fall` is the way of the shadow for each metre of height.
    pub(crate) fn swept(&self, fall: Vec3) -> Self {
        let way = fall * (self.high[1] - self.low[1]);
        let mut swept = *self;
        for (axis, way) in [(0, way.x), (2, way.z)] {
            swept.low[axis] += way.min(0.0);
            swept.high[axis] += way.max(0.0);
        }
        swept
    }
}
