//! Particles: a member of the scene's set, in which events of one population start elements of another.

use frolic_core::{Meter, Particles, SpecError};
use frolic_draw::{Instances, SunSpec, Trails, View};

use super::{DrawContext, Drawables, Elements};

/// A member of the set, and the trails of its elements as they were last drawn.
#[derive(Debug)]
pub(crate) struct Member {
    nth: usize,
    trails: Trails,
}

impl Member {
    pub(crate) fn new(nth: usize) -> Self {
        Self { nth, trails: Trails::default() }
    }

    fn particles<'a>(&self, context: DrawContext<'a>) -> &'a Particles {
        &context.set.members()[self.nth]
    }
}

impl Elements for Member {
    fn len(&self, context: DrawContext<'_>) -> usize {
        self.particles(context).len()
    }

    fn bytes(&self, context: DrawContext<'_>) -> u64 {
        self.particles(context).bytes()
    }

    fn prepare(
        &mut self,
        context: DrawContext<'_>,
        _view: &View,
        _sun: Option<&SunSpec>,
        taper: Option<f32>,
        _meter: &mut Meter,
    ) {
        let particles = self.particles(context);
        if let (Some(trail), Some(taper)) = (particles.trail(), taper) {
            self.trails.take(particles.columns(), trail, context.lag, taper);
        }
    }

    fn instances<'a>(&'a self, context: DrawContext<'a>) -> Result<Drawables<'a>, SpecError> {
        Ok(Drawables::one(Instances::of(self.particles(context).columns(), context.lag)))
    }

    fn trails(&self, _context: DrawContext<'_>) -> Option<Instances<'_>> {
        self.trails.instances().ok()
    }
}
