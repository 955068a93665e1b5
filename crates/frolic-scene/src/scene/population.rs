//! One population of a running scene.

use std::panic::{AssertUnwindSafe, catch_unwind};

use frolic_core::{Meter, SpecError};
use frolic_draw::{Look, SunSpec, View};

use crate::error::SceneError;
use crate::families::{DrawContext, Elements, Ended, StepContext};

#[derive(Debug)]
pub(super) struct Population {
    pub(super) name: String,
    /// Maximum number of elements, of a program's own family. Shipped families keep to theirs; endless ground has none.
    pub(super) most: usize,
    pub(super) elements: Box<dyn Elements>,
    /// Number of its events in the set, for populations of other families than particles.
    pub(super) source: usize,
    pub(super) look: Look,
    /// Looks of kinds 1 and up.
    pub(super) kinds: Vec<Look>,
    /// Look of the trails.
    pub(super) trail: Option<Look>,
}

impl Population {
    /// Lets its elements do something. If they cannot, or panic, the population ends, and the rest of the scene is left as it is.
    pub(super) fn attempt(
        &mut self,
        ended: &mut Vec<SceneError>,
        act: impl FnOnce(&mut Self) -> Result<(), SpecError>,
    ) {
        let done = catch_unwind(AssertUnwindSafe(|| act(self)));
        let problem = match done {
            Ok(Ok(())) => return,
            Ok(Err(error)) => error.to_string(),
            Err(panic) => {
                let text = panic.downcast_ref::<String>().map(String::as_str);
                let text = text.or_else(|| panic.downcast_ref::<&str>().copied()).unwrap_or("no message");
                format!("its code panicked: {text}")
            }
        };
        self.elements = Box::new(Ended);
        ended.push(SceneError::Population { population: self.name.clone(), problem });
    }

    /// The same population with other elements.
    pub(super) fn with(&self, elements: Box<dyn Elements>) -> Self {
        let Self { name, look, kinds, trail, .. } = self;
        Self {
            name: name.clone(),
            most: self.most,
            elements,
            source: self.source,
            look: look.clone(),
            kinds: kinds.clone(),
            trail: trail.clone(),
        }
    }

    pub(super) fn step(&mut self, context: &mut StepContext<'_>) -> Result<(), SpecError> {
        self.elements.step(context)?;
        let len = self.elements.len(DrawContext { set: context.set, lag: 0.0 });
        if len <= self.most {
            return Ok(());
        }
        let problem = format!("it has {len} elements");
        Err(SpecError::new("count", problem, format!("keep to {} elements, its count", self.most)))
    }

    /// Prepares drawing: updates trails, and gathers the visible elements of populations that need it.
    pub(super) fn prepare(
        &mut self,
        context: DrawContext<'_>,
        view: &View,
        sun: Option<&SunSpec>,
        meter: &mut Meter,
    ) {
        let taper = self.trail.as_ref().and_then(Look::taper);
        self.elements.prepare(context, view, sun, taper, meter);
    }
}
