//! Encoding the steps of a flock.

use frolic_core::backend::{DeviceColliders, FlockSteering, Motion, TargetAt, device_colliders};
use frolic_core::{Target, World};

use crate::device::error::GpuError;
use crate::device::{DeviceCounters, upload};
use crate::draw::order::groups;
use crate::draw::pipelines::set_dispatch;
use crate::population::shard::Fields;
use crate::shared::SharedStruct;
use crate::shared::flock::{
    FlockNumbers, FlockStep, FlockTarget, TARGET_NONE, TARGET_PLACE, TARGET_POPULATION,
};
use crate::shared::step::{MOST_STEPS, POPULATION_WORDS, STEP_SLOT, Step, StepBirths, StepShard, StepWorld};

use super::layouts::{FLOCK_SLOT, FlockPipelines};
use super::{GpuFlock, LIVE_WORD, Seen};

impl GpuFlock {
    /// Starts a submission.
    pub(super) fn start_over(&mut self) {
        self.pending = 0;
    }

    /// How many more steps this submission can hold.
    pub(super) fn room(&self) -> u32 {
        MOST_STEPS - self.pending
    }

    /// Brings pipelines and grids to a world, before the steps of a pass. Returns its obstacles and shapes.
    pub(super) fn ready(
        &mut self,
        encoder: &mut wgpu::CommandEncoder,
        counters: &mut DeviceCounters,
        world: &World,
    ) -> Result<DeviceColliders, GpuError> {
        self.own.settle(world, self.time);
        let solids = device_colliders(world, &self.own);
        let fields = Fields::of(&self.bodies, &self.own, world, &solids);
        if self.steering.as_ref().is_none_or(|(there, _)| *there != fields) {
            let pipeline = self.layouts.steering(&self.gpu, fields, self.grids.layout())?;
            self.steering = Some((fields, pipeline));
        }
        if let Some(apart) = &mut self.apart {
            apart.ready(&self.gpu, fields, self.grids.layout())?;
        }
        self.grids.follow(&self.gpu, encoder, counters, world, &self.own);
        Ok(solids)
    }

    /// Uploads the uniforms of a step. Returns its index in the submission.
    fn upload_step(
        &mut self,
        counters: &mut DeviceCounters,
        world: &World,
        solids: &DeviceColliders,
        dt: f32,
    ) -> u32 {
        let step = self.pending;
        let motion = Motion::new(&self.bodies.motion, world, self.time, dt);
        let (fields, waves) = &mut self.fields;
        self.own.device_fields(world, self.time, fields, waves);
        let on = StepShard {
            capacity: self.bodies.count,
            counters: POPULATION_WORDS,
            parity: 0,
            is_first: true,
            is_last: true,
        };
        let around = StepWorld { solids, grids: self.grids.places(), collectors: &[], fields, waves };
        let body = Step::new(&motion, &self.bodies, self.seed, StepBirths::default(), on, [0; 3], around);
        upload(&self.gpu, &self.buffers.steps, u64::from(step) * STEP_SLOT, &body.words(), counters);
        let seen = &self.seen;
        let target = |target: TargetAt<'_>| {
            let slot = match &target.spec.target {
                Target::Population(name) => seen.iter().position(|seen: &Seen| seen.name == *name),
                _ => None,
            };
            let kind = match (target.at, slot) {
                (Some(_), _) => TARGET_PLACE,
                (None, Some(slot)) if seen[slot].group.is_some() => TARGET_POPULATION,
                _ => TARGET_NONE,
            };
            FlockTarget {
                at: target.at.unwrap_or_default(),
                kind,
                weight: target.spec.weight * target.sign,
                radius: target.spec.radius,
                keep: target.spec.keep,
                orbit: target.spec.orbit,
                alarm: target.spec.alarm,
                slot: slot.unwrap_or(0) as u32,
            }
        };
        let targets: Vec<FlockTarget> = self.targets.at(self.time, world).map(target).collect();
        let steering = FlockSteering::new(&self.spec, motion.free, dt, self.seed, self.taken as u32);
        let flock = FlockStep::new(FlockNumbers {
            spec: &self.spec,
            steering: &steering,
            cells: self.cells,
            capacity: self.bodies.count,
            live: LIVE_WORD,
            starts: self.bodies.count.max(1),
            targets: &targets,
        });
        let at = u64::from(step) * FLOCK_SLOT;
        upload(&self.gpu, &self.buffers.flock_steps, at, &flock.words(), counters);
        if let Some(apart) = &self.apart {
            apart.upload(&self.gpu, counters, step, dt, LIVE_WORD);
        }
        self.pending += 1;
        self.taken += 1;
        self.time += f64::from(dt);
        self.last = dt;
        step
    }

    /// Encodes one step.
    pub(super) fn take(
        &mut self,
        pass: &mut wgpu::ComputePass<'_>,
        counters: &mut DeviceCounters,
        world: &World,
        solids: &DeviceColliders,
        dt: f32,
    ) {
        let step = self.upload_step(counters, world, solids, dt);
        let flock_slot = step * FLOCK_SLOT as u32 * 4;
        let slots = [step * STEP_SLOT as u32 * 4, flock_slot];
        let Self { layouts, groups: bound, buffers, grid, grids, seen, hunt, .. } = self;
        let Some((_, steer)) = &self.steering else { return };
        let FlockPipelines {
            arrange,
            settle,
            let_in,
            newcomers,
            note_seen,
            choose,
            catch_prey,
            sum_up,
            keep_within,
        } = &layouts.pipelines;
        let calls = &buffers.calls;
        for group in seen.iter().filter_map(|seen| seen.group.as_ref()) {
            set_dispatch(pass, counters, note_seen, group, &[]);
            pass.dispatch_workgroups(1, 1, 1);
        }
        grid.encode(pass, &self.cells, flock_slot, 0, calls, counters);
        set_dispatch(pass, counters, arrange, &bound.arrange, &slots);
        pass.dispatch_workgroups_indirect(calls, 0);
        set_dispatch(pass, counters, settle, &bound.settle, &slots);
        pass.dispatch_workgroups(1, 1, 1);
        if let Some(hunt) = hunt {
            set_dispatch(pass, counters, choose, hunt, &slots);
            pass.dispatch_workgroups(self.bodies.count, 1, 1);
            set_dispatch(pass, counters, catch_prey, hunt, &slots);
            pass.dispatch_workgroups(1, 1, 1);
        }
        pass.set_bind_group(1, grids.group(), &[]);
        set_dispatch(pass, counters, steer, &bound.steer, &slots);
        pass.dispatch_workgroups_indirect(calls, 0);
        counters.binds += 1;
        set_dispatch(pass, counters, sum_up, &bound.sum, &slots);
        pass.dispatch_workgroups(1, 1, 1);
        if let Some(apart) = &self.apart {
            apart.encode(pass, counters, 0, slots[0], step, calls, grids.group());
            set_dispatch(pass, counters, keep_within, &bound.within, &slots);
            pass.dispatch_workgroups_indirect(calls, 0);
        }
        if self.spec.joining > 0.0 {
            set_dispatch(pass, counters, let_in, &bound.settle, &slots);
            pass.dispatch_workgroups(1, 1, 1);
            set_dispatch(pass, counters, newcomers, &bound.newcomers, &slots);
            let most = (f64::from(self.spec.joining) * f64::from(dt)) as u32 + 2;
            let [across, down] = groups(most.min(self.bodies.count));
            pass.dispatch_workgroups(across, down, 1);
        }
    }
}
