//! The commands of a frame.

use std::time::Duration;

use frolic_core::Meter;

use crate::device::counters::DeviceCounters;
use crate::device::gpu::Gpu;
use crate::device::timing::Timing;

/// Commands that were encoded and not submitted yet. Populations and renderers share it, so that a frame is one
/// submission.
#[derive(Debug)]
pub struct Recorder {
    gpu: Gpu,
    encoder: Option<wgpu::CommandEncoder>,
    /// Times the passes of a frame.
    pub(crate) timing: Timing,
    pub(crate) counters: DeviceCounters,
    /// Number of submissions.
    pub(crate) generation: u64,
}

impl Recorder {
    /// An empty recorder.
    pub fn new(gpu: &Gpu) -> Self {
        let timing = Timing::new(gpu);
        Self { gpu: gpu.clone(), encoder: None, timing, counters: DeviceCounters::default(), generation: 0 }
    }

    /// The device.
    pub fn gpu(&self) -> &Gpu {
        &self.gpu
    }

    /// The open encoder, and the counters.
    pub fn parts(&mut self) -> (&mut wgpu::CommandEncoder, &mut DeviceCounters) {
        let (encoder, counters, _) = self.split();
        (encoder, counters)
    }

    /// The same, with the timing of passes.
    pub(crate) fn split(&mut self) -> (&mut wgpu::CommandEncoder, &mut DeviceCounters, &mut Timing) {
        let device = self.gpu.device();
        let encoder = self.encoder.get_or_insert_with(|| {
            device.create_command_encoder(&wgpu::CommandEncoderDescriptor { label: Some("frolic frame") })
        });
        (encoder, &mut self.counters, &mut self.timing)
    }

    /// Adds the times of passes that were read back to a meter, without waiting.
    pub(crate) fn read_times(&mut self, meter: &mut Meter) {
        self.timing.read_back(meter, &mut self.counters);
    }

    /// Submits the commands, if there are any. Returns the time this took.
    pub fn submit(&mut self) -> Duration {
        let started = std::time::Instant::now();
        if let Some(encoder) = self.encoder.take() {
            self.gpu.queue().submit([encoder.finish()]);
            self.counters.submits += 1;
            self.generation += 1;
        }
        started.elapsed()
    }
}
