//! What passes between a flock of a scene and the device that runs it.

use std::sync::{Arc, Mutex, PoisonError};

use frolic_core::{ApartSpec, FieldSpec, FlockSpec, Span};

/// A flock that the device is to run.
#[derive(Debug, Clone, Copy)]
#[cfg_attr(not(feature = "gpu"), expect(dead_code, reason = "a device reads it"))]
pub(crate) struct FlockOnDevice<'a> {
    pub(crate) spec: &'a FlockSpec,
    pub(crate) count: u32,
    pub(crate) size: Span,
    pub(crate) seed: u32,
    pub(crate) fields: &'a [FieldSpec],
    pub(crate) apart: Option<ApartSpec>,
}

/// Where a flock on the device finds its changed spec.
#[derive(Debug, Clone, Default)]
pub(crate) struct Retuned(Arc<Mutex<Option<FlockSpec>>>);

impl Retuned {
    pub(crate) fn set(&self, spec: FlockSpec) {
        *self.0.lock().unwrap_or_else(PoisonError::into_inner) = Some(spec);
    }

    #[cfg(feature = "gpu")]
    pub(crate) fn take(&self) -> Option<FlockSpec> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).take()
    }
}
