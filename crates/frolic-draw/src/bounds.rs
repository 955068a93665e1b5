//! Axis-aligned bounding boxes.

use glam::Vec3;

/// An axis-aligned bounding box. Lengths are in metres.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Bounds {
    /// Least x, y and z.
    pub low: [f32; 3],
    /// Greatest x, y and z.
    pub high: [f32; 3],
}

impl Bounds {
    /// Distance to a point, in metres; 0 inside.
    pub fn distance(&self, place: Vec3) -> f32 {
        let (low, high) = (Vec3::from(self.low), Vec3::from(self.high));
        if low.cmple(high).all() { place.clamp(low, high).distance(place) } else { 0.0 }
    }

    /// Distance from a point to the farthest corner, in metres; infinite if the box is empty.
    pub fn farthest(&self, place: Vec3) -> f32 {
        let (low, high) = (Vec3::from(self.low), Vec3::from(self.high));
        let far = (place - low).abs().max((place - high).abs());
        if low.cmple(high).all() { far.length() } else { f32::INFINITY }
    }

    /// Encloses the box and its shadow at the height of its lower side. `fall` is the shadow's offset for each metre of height.
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
