//! The seam between populations on the device and drawing: buffers of elements, and how many there are. Drawing knows no family.

use std::fmt::Debug;

use frolic_core::backend::TrailClock;

use crate::shared::step::{CALL_DRAW, CALL_TRAILS};

/// A population on the device, as a draw list names it.
pub trait DevicePopulation: Debug {
    /// Buffers of the elements that a key of a draw list names; `None` for a key of another population.
    fn elements(&self, key: u64) -> Option<DeviceElements<'_>>;
}

/// Buffers of elements on the device, in the layout that `shaders/device_elements.wgsl`, or of a flock `flock_elements.wgsl`, reads.
#[derive(Debug, Clone, Copy)]
#[non_exhaustive]
pub struct DeviceElements<'a> {
    /// Positions with sizes, velocities with ids, and ages with lifetimes; of a flock, bearings in place of ages; of trails, three times the buffer
    /// of trails.
    pub columns: [&'a wgpu::Buffer; 3],
    /// Length of the last step, in seconds, if the elements are a flock: they stand along their heading.
    pub heading_step: Option<f32>,
    /// Clock of the trails, if the elements are segments of trails.
    pub trail: Option<TrailClock>,
    /// Indirect calls: a dispatch over all live elements, a draw of them as rectangles, and a dispatch over segments of trails.
    pub calls: &'a wgpu::Buffer,
    /// Counters of the population.
    pub counters: &'a wgpu::Buffer,
    /// Word of the counters with the number of live elements.
    pub live: u32,
    /// Most elements, or segments of trails.
    pub most: u32,
    /// Which of two copies of the columns these are.
    pub copy: usize,
}

impl DeviceElements<'_> {
    /// Offset in bytes of the draw in the indirect calls.
    pub(crate) const DRAW: u64 = CALL_DRAW as u64 * 4;
    /// Offset in bytes of the dispatch over segments of trails.
    pub(crate) const TRAILS: u64 = CALL_TRAILS as u64 * 4;
}
