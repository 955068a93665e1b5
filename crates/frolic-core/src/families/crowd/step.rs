//! One step of a crowd: sorted by cell, steered, moved as bodies of the world.

use rayon::prelude::*;

use super::avoid::Row;
use super::gauges::Sums;
use super::goals::Wishing;
use super::task::{Next, TASK, Task};
use super::{Crowd, CrowdColumns, Room, SHAKE, priority};
use crate::foundations::error::SpecError;
use crate::foundations::meter::{Counter, Meter, Stage};
use crate::foundations::random::{hash3, unit};
use crate::foundations::trace::part;
use crate::world::World;
use crate::world::bodies::BodyColumns;

impl Crowd {
    /// Takes one step of `dt` seconds (finite and above 0; other steps are not taken).
    ///
    /// # Errors
    /// A position is not finite.
    pub fn step(&mut self, world: &World, dt: f32, meter: &mut Meter) -> Result<(), SpecError> {
        self.integrator.begin();
        if !(dt.is_finite() && dt > 0.0) {
            return Ok(());
        }
        self.sort(dt, meter)?;
        self.steer(world, dt, meter);
        self.move_on(world, dt, meter)?;
        (self.last, self.steps) = (dt, self.steps.wrapping_add(1));
        Ok(())
    }

    /// Puts all columns into the order of cells, and writes what others see of each unit.
    fn sort(&mut self, dt: f32, meter: &mut Meter) -> Result<(), SpecError> {
        self.near.find(&[self.bodies.position()], meter)?;
        let started = meter.start(Stage::Neighbours);
        let Self { near, room, bodies, own, .. } = self;
        let Room { floats, numbers, .. } = room;
        let BodyColumns { px, py, pz, vx, vy, vz, age, size, id, key, .. } = bodies;
        let CrowdColumns { gx, gz, leg, waited, arrived, way, origin, .. } = own;
        let kept = [gx, gz, waited, arrived, way, origin];
        for column in [px, py, pz, vx, vy, vz, age, size].into_iter().chain(kept) {
            near.arrange(0, column, floats)?;
        }
        for column in [id, key, leg] {
            near.arrange(0, column, numbers)?;
        }
        near.arranged(0);
        self.show(dt);
        meter.moved(Stage::Neighbours, self.bodies.len() as u64 * 17 * 8);
        meter.stop(started);
        Ok(())
    }

    /// Writes what others see of each unit; places are shaken a little, so that two on one spot have a way apart.
    fn show(&mut self, dt: f32) {
        let Self { near, room, bodies, own, spec, seed, .. } = self;
        let wishing = Wishing { spec, seed: *seed, step: self.steps, dt };
        let (sorted, far) = (near.sorted_positions(0), spec.sight * SHAKE);
        room.rows.resize(bodies.len(), Row::default());
        room.rows.par_iter_mut().enumerate().with_min_len(4096).for_each(|(nth, row)| {
            let key = bodies.key[nth];
            let [u, w, _] = hash3(key, 0x7368, 0x616b).map(|bits| unit(bits) - 0.5);
            let shaken = |at: f32, draw: f32| at + draw * far.max(at.abs() * 2.4e-7);
            // Others avoid the preferred velocity of a waiting unit instead of its own, with a priority that grows with the waiting time.
            let [vx, vz] = [bodies.vx[nth], bodies.vz[nth]];
            let waited = own.waited[nth] / spec.patience;
            let share = waited.min(1.0);
            let [wx, wz] =
                wishing.straight([bodies.px[nth], bodies.pz[nth]], [own.gx[nth], own.gz[nth]], key);
            // Units that wait for each other take turns.
            let turn = unit(hash3(key, wishing.turn(), 0x7475)[0]);
            *row = [
                shaken(sorted[0][nth], u),
                shaken(sorted[2][nth], w),
                vx + (wx - vx) * share,
                vz + (wz - vz) * share,
                bodies.size[nth],
                priority(spec, *seed, key) * (1.0 + waited * turn * 4.0),
                vx,
                vz,
            ];
        });
    }

    /// Gives every unit its next velocity.
    fn steer(&mut self, world: &World, dt: f32, meter: &mut Meter) {
        let started = meter.start(Stage::Steer);
        let count = self.bodies.len();
        let Self { spec, bodies, own, near, room, level, seed, steps, .. } = self;
        for column in &mut room.next_velocity {
            column.resize(count, 0.0);
        }
        let CrowdColumns { gx, gz, leg, waited, arrived, way, gap, .. } = &mut room.next;
        for column in [&mut *gx, gz, waited, arrived, way, gap] {
            column.resize(count, 0.0);
        }
        leg.resize(count, 0);
        room.sums.resize(count.div_ceil(TASK), Sums::default());
        room.tasks.prepare();
        let task = Task {
            level: *level,
            spec,
            wishing: Wishing { spec, seed: *seed, step: *steps, dt },
            near,
            rows: &room.rows,
            bodies,
            own,
            world,
        };
        let (tasks, [vx, vz]) = (&room.tasks, &mut room.next_velocity);
        (
            (vx.par_chunks_mut(TASK), vz.par_chunks_mut(TASK)).into_par_iter(),
            (gx.par_chunks_mut(TASK), gz.par_chunks_mut(TASK)).into_par_iter(),
            leg.par_chunks_mut(TASK),
            waited.par_chunks_mut(TASK),
            arrived.par_chunks_mut(TASK),
            way.par_chunks_mut(TASK),
            gap.par_chunks_mut(TASK),
            &mut room.sums,
        )
            .into_par_iter()
            .enumerate()
            .for_each(|(nth, ((vx, vz), (gx, gz), leg, waited, arrived, way, gap, sums))| {
                let _part = part(Stage::Steer);
                let next = Next { velocity: [vx, vz], gx, gz, leg, waited, arrived, way, gap };
                *sums = task.run(nth * TASK, next, &mut tasks.own());
            });
        let BodyColumns { vx, vz, .. } = bodies;
        for ((now, next), before) in [vx, vz].into_iter().zip(&mut room.next_velocity).zip(&mut self.before) {
            // The former velocity stays, for drawing between steps.
            std::mem::swap(now, before);
            std::mem::swap(now, next);
        }
        // What stays as it is.
        std::mem::swap(&mut own.origin, &mut room.next.origin);
        std::mem::swap(own, &mut room.next);
        let mut all = Sums::default();
        room.sums.iter().for_each(|sums| all.add(sums));
        self.gauges = all.gauges(count);
        meter.add(Counter::PairsTested, all.tested);
        meter.add(Counter::PairsNear, all.near);
        meter.add(Counter::Crowded, all.crowded);
        meter.moved(Stage::Steer, count as u64 * 20 * 4);
        meter.stop(started);
    }

    /// Moves all as bodies of the world.
    fn move_on(&mut self, world: &World, dt: f32, meter: &mut Meter) -> Result<(), SpecError> {
        let Room { dead, .. } = &mut self.room;
        dead.clear();
        dead.extend_from_slice(self.integrator.step(self.bodies.bodies(), world, dt, meter)?);
        if !self.room.dead.is_empty() {
            let started = meter.start(Stage::Retire);
            let dead = std::mem::take(&mut self.room.dead);
            self.remove_sorted(&dead);
            meter.add(Counter::Retired, dead.len() as u64);
            self.room.dead = dead;
            meter.stop(started);
        }
        if let Some(apart) = &mut self.apart {
            apart.step(&mut self.bodies.bodies(), world, dt, meter)?;
        }
        Ok(())
    }
}
