//! Replaces `device.rs` without the feature `gpu`: no device can be opened.

use frolic_core::{Assets, Meter, ParticleSpec, SpecError, World};
use frolic_draw::{BackdropSpec, DeviceKey, DrawList, Image, View};
use smallvec::SmallVec;

use crate::error::DeviceError;
use crate::resident::{FlockOnDevice, Retuned};

/// A population on the device, as draw lists name it.
#[derive(Debug)]
pub(crate) struct OnDevice {
    pub(crate) shards: SmallVec<[DeviceKey; 1]>,
    pub(crate) trails: Option<DeviceKey>,
    pub(crate) bytes: u64,
}

#[derive(Debug)]
pub(crate) enum Device {}

impl Device {
    pub(crate) fn open() -> Result<Self, DeviceError> {
        Err(DeviceError::NotBuilt)
    }

    pub(crate) fn name(&self) -> String {
        match *self {}
    }

    pub(crate) fn particles(
        &mut self,
        _name: &str,
        _spec: &ParticleSpec,
        _seed: u32,
        _assets: &Assets,
    ) -> Result<OnDevice, SpecError> {
        match *self {}
    }

    pub(crate) fn flock(
        &mut self,
        _name: &str,
        _of: FlockOnDevice<'_>,
        _assets: &Assets,
        _retuned: &Retuned,
    ) -> Result<OnDevice, SpecError> {
        match *self {}
    }

    pub(crate) fn link(&mut self) -> Result<(), SpecError> {
        match *self {}
    }

    pub(crate) fn alive(&self) -> usize {
        match *self {}
    }

    pub(crate) fn take_caught(&mut self, _caught: &mut [u64]) {
        match *self {}
    }

    pub(crate) fn check(&self) -> Result<(), DeviceError> {
        match *self {}
    }

    pub(crate) fn can_retune(&self, _specs: &[(&str, &ParticleSpec)]) -> bool {
        match *self {}
    }

    pub(crate) fn retune(
        &mut self,
        _specs: &[(&str, &ParticleSpec)],
        _assets: &Assets,
    ) -> Result<(), SpecError> {
        match *self {}
    }

    pub(crate) fn has(&self, _name: &str) -> bool {
        match *self {}
    }

    pub(crate) fn has_particles(&self, _name: &str) -> bool {
        match *self {}
    }

    pub(crate) fn recentre(&mut self, _middle: [f32; 2]) {
        match *self {}
    }

    pub(crate) fn step(
        &mut self,
        _world: &World,
        _dt: f32,
        _steps: u32,
        _meter: &mut Meter,
    ) -> Result<(), DeviceError> {
        match *self {}
    }

    pub(crate) fn record(&mut self, _meter: &mut Meter) {
        match *self {}
    }

    pub(crate) fn request_readback(&mut self) {
        match *self {}
    }

    pub(crate) fn readback_age(&self) -> u64 {
        match *self {}
    }

    pub(crate) fn wait(&mut self, _meter: &mut Meter) -> Result<(), DeviceError> {
        match *self {}
    }

    pub(crate) fn draw(
        &mut self,
        _list: &DrawList<'_>,
        _view: &View,
        _backdrop: Option<&BackdropSpec>,
        _image: Option<&mut Image>,
        _meter: &mut Meter,
    ) -> Result<(), DeviceError> {
        match *self {}
    }
}
