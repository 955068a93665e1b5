//! Steps populations together. All take one step, then events start elements, for as many steps as one submission holds.

use frolic_core::{Stage, World};

use crate::device::error::GpuError;
use crate::device::{DeviceCounters, Gpu, Recorder};
use crate::population::GpuParticles;
use crate::shared::step::{MOST_STEPS, STEP_SLOT};

/// A prepared step: its index in the submission, its births, and the newborns that the CPU has written.
#[derive(Debug)]
pub(crate) struct Ready {
    pub(crate) step: u32,
    pub(crate) due: u64,
    pub(crate) newborn: wgpu::BindGroup,
}

impl Ready {
    /// Dynamic offset of a shard's uniform.
    pub(crate) fn slot(&self, shards: usize, shard: usize) -> u32 {
        (self.step * shards as u32 + shard as u32) * STEP_SLOT as u32 * 4
    }
}

/// Encodes steps of populations, and after each step what `follow` encodes. If one submission cannot hold them, earlier steps are
/// submitted.
pub(crate) fn step_together(
    gpu: &Gpu,
    members: &mut [GpuParticles],
    follow: impl Fn(&[GpuParticles], &mut wgpu::ComputePass<'_>, &mut DeviceCounters, &[&Ready]),
    recorder: &mut Recorder,
    world: &World,
    dt: f32,
    steps: u32,
) -> Result<(), GpuError> {
    if !(dt.is_finite() && dt > 0.0) || members.is_empty() {
        return Ok(());
    }
    let mut left = steps;
    while left > 0 {
        let pending = members.iter_mut().map(|member| member.pending_in(recorder)).max().unwrap_or(0);
        let now = left.min(MOST_STEPS - pending);
        if now == 0 {
            recorder.submit();
            gpu.check()?;
            continue;
        }
        let (encoder, counters, timing) = recorder.split();
        let times = timing.compute(Stage::DeviceStep);
        encode_together(members, &follow, encoder, counters, world, dt, now, times)?;
        left -= now;
    }
    Ok(())
}

/// Encodes steps into the given encoder, at most [`MOST_STEPS`] for one submission.
#[expect(clippy::too_many_arguments, reason = "inputs of one pass")]
pub(crate) fn encode_together(
    members: &mut [GpuParticles],
    follow: impl Fn(&[GpuParticles], &mut wgpu::ComputePass<'_>, &mut DeviceCounters, &[&Ready]),
    encoder: &mut wgpu::CommandEncoder,
    counters: &mut DeviceCounters,
    world: &World,
    dt: f32,
    steps: u32,
    timing: Option<wgpu::ComputePassTimestampWrites<'_>>,
) -> Result<(), GpuError> {
    if frolic_core::backend::has_own_fields(world) {
        let problem =
            "shaders cannot run a custom field; keep the population on the CPU (residence = \"cpu\")";
        return Err(GpuError::Unsupported(problem.to_owned()));
    }
    let ready = members.iter_mut().map(|member| member.ready(encoder, counters, world, dt, steps));
    let ready = ready.collect::<Result<Vec<_>, _>>()?;
    let mut pass = encoder
        .begin_compute_pass(&wgpu::ComputePassDescriptor { label: Some("step"), timestamp_writes: timing });
    counters.passes += 1;
    // The step of every member at this index.
    for nth in 0..ready.first().map_or(0, Vec::len) {
        let step: Vec<&Ready> = ready.iter().filter_map(|ready| ready.get(nth)).collect();
        for (member, ready) in members.iter_mut().zip(&step) {
            member.take(&mut pass, counters, ready);
        }
        follow(members, &mut pass, counters, &step);
        for (member, ready) in members.iter().zip(&step) {
            member.carry(&mut pass, counters, ready);
        }
    }
    Ok(())
}
