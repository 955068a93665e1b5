//! Exact counts of the commands of a frame.

use frolic_core::{Counter, Meter};

/// Commands of a frame, counted exactly.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct DeviceCounters {
    /// Bytes uploaded.
    pub uploaded: u64,
    /// Bytes of elements among them.
    pub uploaded_elements: u64,
    /// Bytes read back.
    pub downloaded: u64,
    /// Draw calls.
    pub draws: u64,
    /// Compute dispatches.
    pub dispatches: u64,
    /// Render and compute passes.
    pub passes: u64,
    /// Changes of pipeline.
    pub pipelines: u64,
    /// Changes of bind group.
    pub binds: u64,
    /// Submissions.
    pub submits: u64,
}

impl DeviceCounters {
    /// Adds all counts to a meter and resets them.
    pub fn report(&mut self, meter: &mut Meter) {
        let Self {
            uploaded,
            uploaded_elements,
            downloaded,
            draws,
            dispatches,
            passes,
            pipelines,
            binds,
            submits,
        } = std::mem::take(self);
        meter.add(Counter::UploadedBytes, uploaded);
        meter.add(Counter::UploadedElementBytes, uploaded_elements);
        meter.add(Counter::DownloadedBytes, downloaded);
        meter.add(Counter::DeviceDraws, draws);
        meter.add(Counter::Dispatches, dispatches);
        meter.add(Counter::Passes, passes);
        meter.add(Counter::PipelineChanges, pipelines);
        meter.add(Counter::BindChanges, binds);
        meter.add(Counter::Submits, submits);
    }
}
