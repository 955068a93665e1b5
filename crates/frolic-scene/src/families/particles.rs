//! Particles: a member of the scene's set, in which events of one population start elements of another.

use frolic_core::{Meter, ParticleSet, PlacedColumns, PlacedRow, random};
use frolic_draw::{Instances, SunSpec, Trails, View};
use smallvec::smallvec;

use super::{DrawContext, Elements, InstancesOfKinds};

/// A member of the set, and the trails of its elements as they were last drawn.
#[derive(Debug)]
pub(super) struct Member {
    nth: usize,
    trails: Trails,
}

impl Member {
    pub(super) fn new(nth: usize) -> Self {
        Self { nth, trails: Trails::default() }
    }
}

impl Elements for Member {
    fn len(&self, set: &ParticleSet) -> usize {
        set.members()[self.nth].len()
    }

    fn bytes(&self, set: &ParticleSet) -> u64 {
        set.members()[self.nth].bytes()
    }

    fn prepare(
        &mut self,
        DrawContext { set, lag }: DrawContext<'_>,
        _view: &View,
        _sun: Option<&SunSpec>,
        taper: Option<f32>,
        _meter: &mut Meter,
    ) {
        let particles = &set.members()[self.nth];
        if let (Some(trail), Some(taper)) = (particles.trail(), taper) {
            self.trails.take(particles.columns(), trail, lag, taper);
        }
    }

    fn instances<'a>(&'a self, DrawContext { set, lag }: DrawContext<'a>) -> InstancesOfKinds<'a> {
        smallvec![(Instances::of(set.members()[self.nth].columns(), lag), 0)]
    }

    fn trails(&self, _context: DrawContext<'_>) -> Option<Instances<'_>> {
        self.trails.instances().ok()
    }

    /// As they are drawn: between two steps, back along their velocity.
    fn placed(&mut self, DrawContext { set, lag }: DrawContext<'_>) -> Option<PlacedColumns> {
        let columns = set.members()[self.nth].columns();
        let ([x, y, z], [vx, vy, vz]) = (columns.position(), columns.velocity());
        let row = |n: usize| {
            let id = columns.key()[n];
            let (tint, size) = (random::lot(id)[1], columns.size()[n]);
            let [px, py, pz] = [x[n] - vx[n] * lag, y[n] - vy[n] * lag, z[n] - vz[n] * lag];
            PlacedRow { px, py, pz, size, tint, id, ..PlacedRow::UPRIGHT }
        };
        Some(PlacedColumns::from_rows((0..columns.len()).map(row)))
    }
}
