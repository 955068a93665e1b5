//! Times of passes on the device, by timestamps.

use std::time::Duration;

use frolic_core::{Meter, Stage};
use wgpu::BufferUsages;

use crate::device::counters::DeviceCounters;
use crate::device::gpu::Gpu;
use crate::device::readback::Readback;

/// Most passes of a frame that are timed.
const MOST: u32 = 64;

/// Times the passes of a frame; does nothing on a device without timestamps.
#[derive(Debug)]
pub(crate) struct Timing {
    parts: Option<Parts>,
    /// Stages of the passes of the current frame.
    stages: Vec<Stage>,
    /// Stages of submitted frames that were not read back yet.
    sent: Vec<(u64, Vec<Stage>)>,
    frame: u64,
}

#[derive(Debug)]
struct Parts {
    set: wgpu::QuerySet,
    resolved: wgpu::Buffer,
    readback: Readback,
    /// Nanoseconds a tick.
    period: f64,
}

impl Timing {
    pub(crate) fn new(gpu: &Gpu) -> Self {
        let parts = gpu.is_timed().then(|| Parts {
            set: gpu.device().create_query_set(&wgpu::QuerySetDescriptor {
                label: Some("passes"),
                ty: wgpu::QueryType::Timestamp,
                count: MOST * 2,
            }),
            resolved: gpu.buffer(
                "timestamps",
                u64::from(MOST) * 16,
                BufferUsages::QUERY_RESOLVE | BufferUsages::COPY_SRC,
            ),
            readback: Readback::new(gpu, "timestamps", MOST as usize * 4),
            period: f64::from(gpu.queue().get_timestamp_period()),
        });
        Self { parts, stages: Vec::new(), sent: Vec::new(), frame: 0 }
    }

    fn next(&mut self, stage: Stage) -> Option<(&wgpu::QuerySet, u32)> {
        let parts = self.parts.as_ref()?;
        let nth = self.stages.len() as u32;
        if nth == MOST {
            return None;
        }
        self.stages.push(stage);
        Some((&parts.set, nth * 2))
    }

    /// Timestamps for the next render pass.
    pub(crate) fn render(&mut self, stage: Stage) -> Option<wgpu::RenderPassTimestampWrites<'_>> {
        self.next(stage).map(|(query_set, at)| wgpu::RenderPassTimestampWrites {
            query_set,
            beginning_of_pass_write_index: Some(at),
            end_of_pass_write_index: Some(at + 1),
        })
    }

    /// Timestamps for the next compute pass.
    pub(crate) fn compute(&mut self, stage: Stage) -> Option<wgpu::ComputePassTimestampWrites<'_>> {
        self.next(stage).map(|(query_set, at)| wgpu::ComputePassTimestampWrites {
            query_set,
            beginning_of_pass_write_index: Some(at),
            end_of_pass_write_index: Some(at + 1),
        })
    }

    /// Encodes the readback. Call it at the end of a frame's commands.
    pub(crate) fn record(&mut self, encoder: &mut wgpu::CommandEncoder) {
        let Self { parts: Some(parts), stages, sent, frame } = self else { return };
        *frame += 1;
        if !stages.is_empty() {
            encoder.resolve_query_set(&parts.set, 0..stages.len() as u32 * 2, &parts.resolved, 0);
            if parts.readback.record(encoder, &parts.resolved, *frame) {
                sent.push((*frame, std::mem::take(stages)));
            }
        }
        stages.clear();
    }

    /// Requests the readback. Call it after the submission.
    pub(crate) fn request_readback(&mut self) {
        if let Some(parts) = &mut self.parts {
            parts.readback.request_readback();
        }
    }

    /// Adds the times that have arrived to a meter.
    pub(crate) fn read_back(&mut self, meter: &mut Meter, counters: &mut DeviceCounters) {
        let Self { parts: Some(parts), sent, .. } = self else { return };
        let period = parts.period;
        parts.readback.read_back(counters, |frame, words| {
            let Some(at) = sent.iter().position(|(sent, _)| *sent == frame) else { return };
            let (_, stages) = sent.swap_remove(at);
            let tick = |nth: usize| u64::from(words[nth * 2]) | u64::from(words[nth * 2 + 1]) << 32;
            for (nth, stage) in stages.into_iter().enumerate() {
                let ticks = tick(nth * 2 + 1).saturating_sub(tick(nth * 2));
                meter.add_time(stage, Duration::from_nanos((ticks as f64 * period) as u64));
            }
        });
    }
}
