//! Encoding steps of a population: uniforms, births and dispatches.

use crate::device::error::GpuError;
use crate::device::{DeviceCounters, Recorder, upload};
use crate::draw::order::groups;
use crate::population::shard::Fields;
use crate::population::steps::{Ready, encode_together};
use crate::population::trails::Trailing;
use crate::shared::SharedStruct;
use crate::shared::step::{
    Emitter, MOST_STEPS, STEP_SLOT, SURVIVORS, Step, StepBirths, StepShard, StepWorld,
};
use frolic_core::backend::{
    DeviceCollector, DeviceColliders, MOST_SOLID, Motion, device_collectors, device_colliders, is_simple,
};
use frolic_core::{Moment, World};

use super::GpuParticles;

impl GpuParticles {
    /// Number of encoded steps that were not submitted yet.
    pub(crate) fn pending_in(&mut self, recorder: &Recorder) -> u32 {
        if self.generation != recorder.generation {
            (self.generation, self.pending) = (recorder.generation, 0);
        }
        self.pending
    }

    /// Encodes steps into the given encoder, at most [`MOST_STEPS`] for one submission.
    pub(crate) fn encode(
        &mut self,
        encoder: &mut wgpu::CommandEncoder,
        counters: &mut DeviceCounters,
        world: &World,
        dt: f32,
        steps: u32,
    ) -> Result<(), GpuError> {
        encode_together(
            std::slice::from_mut(self),
            |_, _, _, _| {},
            encoder,
            counters,
            world,
            dt,
            steps,
            None,
        )
    }

    /// Uploads the uniforms of steps, at most [`MOST_STEPS`] for one submission.
    pub(crate) fn ready(
        &mut self,
        encoder: &mut wgpu::CommandEncoder,
        counters: &mut DeviceCounters,
        world: &World,
        dt: f32,
        steps: u32,
    ) -> Result<Vec<Ready>, GpuError> {
        self.own.settle(world, self.time);
        let solids = device_colliders(world, &self.own);
        let fields = Fields::of(&self.spec, &self.own, world, &solids);
        if self.stepping.as_ref().is_none_or(|stepping| stepping.fields != fields) {
            let extra = [
                ("EVENTS", self.spec.event.len() as f64),
                ("TRAILS", f64::from(u8::from(self.trailing.is_some()))),
            ];
            self.stepping =
                Some(self.layouts.pipelines(&self.gpu, fields, extra, &self.grids, &self.newborn)?);
        }
        if let Some(apart) = &mut self.apart {
            apart.ready(&self.gpu, fields, self.grids.layout())?;
        }
        self.grids.follow(&self.gpu, encoder, counters, world, &self.own);
        let first = self.pending;
        let ready = (first..MOST_STEPS.min(first + steps))
            .map(|step| self.prepare(counters, world, &solids, dt, step));
        Ok(ready.collect())
    }

    /// Encodes the update of trails after a step and its events.
    pub(crate) fn carry(
        &self,
        pass: &mut wgpu::ComputePass<'_>,
        counters: &mut DeviceCounters,
        ready: &Ready,
    ) {
        if let (Some(trailing), Some(calls)) = (&self.trailing, self.calls()) {
            trailing.carry(pass, counters, self.now, ready.slot(1, 0), calls);
        }
    }

    /// Encodes a prepared step.
    pub(crate) fn take(
        &mut self,
        pass: &mut wgpu::ComputePass<'_>,
        counters: &mut DeviceCounters,
        ready: &Ready,
    ) {
        let Some(stepping) = &self.stepping else { return };
        for (at, shard) in self.shards.iter().enumerate() {
            let slot = ready.slot(self.shards.len(), at);
            let births = ready.step * self.births_slot as u32 * 4;
            let groups_of = &shard.groups[self.now];
            let calls = &shard.calls[self.now];
            pass.set_pipeline(&stepping.mark);
            pass.set_bind_group(0, &groups_of[0], &[slot]);
            pass.set_bind_group(1, self.grids.group(), &[]);
            pass.dispatch_workgroups_indirect(calls, 0);
            pass.set_pipeline(&stepping.scan);
            pass.set_bind_group(0, &groups_of[1], &[slot]);
            pass.dispatch_workgroups(1, 1, 1);
            pass.set_pipeline(&stepping.advance);
            pass.set_bind_group(0, &groups_of[2], &[slot]);
            pass.set_bind_group(1, self.grids.group(), &[]);
            pass.dispatch_workgroups_indirect(calls, 0);
            counters.dispatches += 3;
            counters.pipelines += 3;
            counters.binds += 5;
            if ready.due > 0 {
                let [across, down] = groups(ready.due.min(u64::from(shard.most)) as u32);
                pass.set_pipeline(&stepping.birth);
                pass.set_bind_group(0, &groups_of[3], &[slot, births]);
                pass.set_bind_group(1, self.grids.group(), &[]);
                pass.set_bind_group(2, &ready.newborn, &[]);
                pass.dispatch_workgroups(across, down, 1);
                counters.dispatches += 1;
                counters.pipelines += 1;
                counters.binds += 3;
            }
        }
        self.now = 1 - self.now;
        // Newborns of this step are pushed from the next one on.
        if let (Some(apart), Some(shard)) = (&self.apart, self.shards.first()) {
            let (slot, calls) = (ready.slot(1, 0), &shard.calls[self.now]);
            apart.encode(pass, counters, self.now, slot, ready.step, calls, self.grids.group());
        }
    }

    /// Uploads the uniforms of one step.
    fn prepare(
        &mut self,
        counters: &mut DeviceCounters,
        world: &World,
        solids: &DeviceColliders,
        dt: f32,
        step: u32,
    ) -> Ready {
        let motion = Motion::new(&self.spec.motion, world, self.time, dt);
        let mut births = Vec::new();
        let mut due = 0u64;
        let Self { axes, spec, newborn, seed, next_id, gpu, pending, .. } = self;
        let mut count = 0u32;
        if *pending == 0 {
            newborn.clear();
        }
        self.emitters.due(&spec.emitter, self.time, dt, |now, born| {
            let emitter = &spec.emitter[now.emitter];
            let row = (!is_simple(emitter)).then(|| {
                let room = u64::from(spec.count).saturating_sub(due).min(now.count);
                newborn.add(born.rows(spec, *seed, &now, next_id.wrapping_add(due as u32), room))
            });
            Emitter::of(emitter, &axes[now.emitter], &now, due, row).append(&mut births);
            // Beyond this number there is no room in any case.
            due = (due + now.count).min(u64::from(u32::MAX));
            count += 1;
        });
        let first_row = newborn.flush(gpu, counters);
        let first_id = *next_id;
        *next_id = first_id.wrapping_add(due as u32);
        upload(&self.gpu, &self.births, u64::from(step) * self.births_slot, &births, counters);
        // The steps of a frame read the two copies in turn.
        let parity = (self.taken % 2) as u32;
        let collectors: Vec<DeviceCollector> =
            device_collectors(world, self.time, dt).take(MOST_SOLID).collect();
        let (fields, waves) = &mut self.fields;
        self.own.device_fields(world, self.time, fields, waves);
        let last = self.shards.len() - 1;
        let trail = self.trailing.as_mut().map_or([0; 3], |Trailing { clock, .. }| {
            let due = clock.advance(dt);
            [clock.places() as u32, clock.newest() as u32, u32::from(due)]
        });
        let on_birth = self.spec.event.iter().filter(|event| event.on == Moment::Birth).count();
        let births =
            StepBirths { due: due as u32, emitters: count, first_id, first_row, events: on_birth as u32 };
        let grids = self.grids.places();
        let around = StepWorld { solids, grids, collectors: &collectors, fields, waves };
        for (nth, shard) in self.shards.iter().enumerate() {
            let on = StepShard {
                capacity: shard.most,
                counters: shard.counts,
                parity,
                is_first: nth == 0,
                is_last: nth == last,
            };
            let now = Step::new(&motion, &self.spec, self.seed, births, on, trail, around);
            let slot = u64::from(step) * self.shards.len() as u64 + nth as u64;
            upload(&self.gpu, &self.steps, slot * STEP_SLOT, &now.words(), counters);
        }
        if let (Some(apart), Some(shard)) = (&self.apart, self.shards.first()) {
            apart.upload(&self.gpu, counters, step, dt, shard.counts + SURVIVORS);
        }
        self.pending += 1;
        self.taken += 1;
        self.time += f64::from(dt);
        Ready { step, due, newborn: self.newborn.group().clone() }
    }

    pub(crate) fn start_over(&mut self) {
        self.pending = 0;
    }
}
