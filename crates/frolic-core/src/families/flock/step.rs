//! One step of a flock: sorted by cell, steered, moved as bodies of the world, kept in its space.

use glam::Vec3;
use rayon::prelude::*;

use super::gauges::Sums;
use super::rules::{Others, Ranges, Row};
use super::steer::Steering;
use super::targets::{Avoiding, OtherElements};
use super::task::{Next, TASK, Task};
use super::{Flock, FlockColumns, Room, SHAKE};
use crate::foundations::error::SpecError;
use crate::foundations::meter::{Counter, Meter, Stage};
use crate::foundations::random::{hash3, unit};
use crate::foundations::trace::part;
use crate::neighbours::{AxisSpec, Neighbours};
use crate::world::World;
use crate::world::bodies::{BodyColumns, KeepTo, note_birth};
use crate::world::events::{EventRecord, Moment};

impl Flock {
    /// Takes one step of `dt` seconds (finite and above 0; other steps are not taken). `others` are the populations that its spec names; those that are
    /// left out are not seen.
    ///
    /// # Errors
    /// A position is not finite, or columns of another population differ in length.
    pub fn step(
        &mut self,
        world: &World,
        others: &[OtherElements<'_>],
        dt: f32,
        meter: &mut Meter,
    ) -> Result<(), SpecError> {
        self.integrator.begin();
        if !(dt.is_finite() && dt > 0.0) {
            return Ok(());
        }
        self.take_out_caught(meter);
        self.sort(meter)?;
        self.targets.move_to(self.integrator.time, world, others, meter)?;
        if let Some(hunters) = &mut self.hunters {
            hunters.choose(&self.bodies, others, dt);
        }
        self.steer(world, dt, meter);
        self.move_on(world, dt, meter)?;
        // The integrator begins its list anew.
        self.integrator.happened.append(&mut self.room.records);
        self.join(dt, meter);
        (self.last, self.steps) = (dt, self.steps.wrapping_add(1));
        Ok(())
    }

    /// Puts all columns into the order of cells.
    fn sort(&mut self, meter: &mut Meter) -> Result<(), SpecError> {
        self.near.find(&[self.bodies.position()], meter)?;
        let started = meter.start(Stage::Neighbours);
        let Self { near, room, bodies, own, hunters, trail, differ, .. } = self;
        let Room { floats, numbers, rows, .. } = room;
        let BodyColumns { px, py, pz, vx, vy, vz, age, size, id, key, .. } = bodies;
        let FlockColumns { alarm, bank, way, .. } = own;
        for column in [px, py, pz, vx, vy, vz, size, way] {
            near.arrange(0, column, floats)?;
        }
        // Others are arranged only where they can differ from element to element.
        for (column, differs) in [(age, differ.age), (alarm, differ.alarm), (bank, differ.bank)] {
            if differs {
                near.arrange(0, column, floats)?;
            }
        }
        for column in [id, key] {
            near.arrange(0, column, numbers)?;
        }
        if let Some(hunters) = hunters {
            hunters.arrange(near, floats, numbers)?;
        }
        if let Some(trail) = trail {
            trail.try_each(|column| near.arrange(0, column, floats))?;
        }
        show(near, bodies, alarm, rows);
        near.arranged(0);
        meter.moved(Stage::Neighbours, bodies.len() as u64 * 14 * 8);
        meter.stop(started);
        Ok(())
    }

    /// Gives every element its next velocity.
    fn steer(&mut self, world: &World, dt: f32, meter: &mut Meter) {
        let started = meter.start(Stage::Steer);
        let count = self.bodies.len();
        let Self {
            spec, bodies, own, near, targets, walls, hunters, room, level, seed, steps, middle, ..
        } = self;
        for column in &mut room.next_velocity {
            column.resize(count, 0.0);
        }
        let FlockColumns { alarm, bank, way, around, nearest, rule } = &mut room.next;
        for column in [&mut *alarm, bank, way, around, nearest, rule] {
            column.resize(count, 0.0);
        }
        room.sums.resize(count.div_ceil(TASK), Sums::default());
        room.tasks.prepare();
        let task = Task {
            level: *level,
            ranges: Ranges::new(spec, near.lengths()),
            steering: Steering::new(spec, KeepTo::free(spec.keep_to), dt, *seed, *steps),
            spec,
            near,
            others: Others { at: near.sorted_positions(0), rows: &room.rows },
            bodies,
            own,
            targets,
            hunters: hunters.as_ref(),
            avoiding: Avoiding { walls: walls.as_ref(), world, seconds: spec.look_ahead, weight: spec.avoid },
            steps: *steps,
            middle: middle.map(|axis| axis as f32),
        };
        let (tasks, [vx, vy, vz]) = (&room.tasks, &mut room.next_velocity);
        (
            (vx.par_chunks_mut(TASK), vy.par_chunks_mut(TASK), vz.par_chunks_mut(TASK)).into_par_iter(),
            alarm.par_chunks_mut(TASK),
            bank.par_chunks_mut(TASK),
            way.par_chunks_mut(TASK),
            around.par_chunks_mut(TASK),
            nearest.par_chunks_mut(TASK),
            rule.par_chunks_mut(TASK),
            &mut room.sums,
        )
            .into_par_iter()
            .enumerate()
            .for_each(|(nth, ((vx, vy, vz), alarm, bank, way, around, nearest, rule, sums))| {
                let _part = part(Stage::Steer);
                let next = Next { velocity: [vx, vy, vz], alarm, bank, way, around, nearest, rule };
                *sums = task.run(nth * TASK, next, &mut tasks.own());
            });
        let BodyColumns { vx, vy, vz, .. } = bodies;
        for ((now, next), before) in
            [vx, vy, vz].into_iter().zip(&mut room.next_velocity).zip(&mut self.before)
        {
            // The former velocity stays, for drawing between steps.
            std::mem::swap(now, before);
            std::mem::swap(now, next);
        }
        std::mem::swap(own, &mut room.next);
        let mut all = Sums::default();
        room.sums.iter().for_each(|sums| all.add(sums));
        (self.gauges, self.middle) = (all.gauges(count), all.middle(count));
        meter.add(Counter::PairsTested, all.tested);
        meter.add(Counter::PairsNear, all.near);
        meter.add(Counter::Crowded, all.crowded);
        meter.moved(Stage::Steer, count as u64 * 20 * 4);
        meter.stop(started);
    }

    /// Moves all as bodies of the world, and keeps them in their space.
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
        if let Some(walls) = &self.walls {
            let started = meter.start(Stage::Integrate);
            let follows = self.trail.is_some() && self.wraps();
            if follows {
                for (column, at) in self.room.next_velocity.iter_mut().zip(self.bodies.position()) {
                    column.clear();
                    column.extend_from_slice(at);
                }
            }
            let BodyColumns { px, py, pz, vx, vy, vz, .. } = &mut self.bodies;
            let all = (px, py, pz, vx, vy, vz).into_par_iter().with_min_len(1024);
            all.for_each(|(px, py, pz, vx, vy, vz)| {
                let (mut place, mut velocity) = (Vec3::new(*px, *py, *pz), Vec3::new(*vx, *vy, *vz));
                walls.hold(&mut place, &mut velocity);
                [*px, *py, *pz] = place.to_array();
                [*vx, *vy, *vz] = velocity.to_array();
            });
            if let (Some(trail), true) = (&mut self.trail, follows) {
                let from = self.room.next_velocity.each_ref().map(|column| &column[..]);
                trail.follow_moves(from, self.bodies.position());
            }
            meter.stop(started);
        }
        if let Some(trail) = &mut self.trail
            && trail.is_due(dt)
        {
            let [x, y, z] = self.bodies.position();
            trail.keep(x.iter().zip(y).zip(z).map(|((x, y), z)| [*x, *y, *z]));
        }
        Ok(())
    }

    /// Adds newcomers that are due.
    fn join(&mut self, dt: f32, meter: &mut Meter) {
        let room = (self.count as usize).saturating_sub(self.bodies.len());
        self.owed = (self.owed + f64::from(self.spec.joining) * f64::from(dt)).min(room as f64);
        let due = self.owed as usize;
        self.owed -= due as f64;
        for _ in 0..due {
            self.push_next();
            if let Some(row) = self.bodies.row(self.bodies.len() - 1) {
                note_birth(&self.events, &row, &mut self.integrator.happened);
            }
        }
        meter.add(Counter::Emitted, due as u64);
    }

    fn take_out_caught(&mut self, meter: &mut Meter) {
        if self.caught.is_empty() {
            return;
        }
        let mut caught = std::mem::take(&mut self.caught);
        caught.sort_unstable();
        caught.retain(|nth| (*nth as usize) < self.bodies.len());
        let events = self.events.iter().enumerate().filter(|(_, event)| event.on == Moment::Caught);
        for (event, _) in events {
            let records = caught.iter().filter_map(|nth| {
                let element = self.bodies.row(*nth as usize)?;
                Some(EventRecord { event: event as u32, element, other: 0, normal: [0.0; 3] })
            });
            self.room.records.extend(records);
        }
        self.remove_sorted(&caught);
        meter.add(Counter::Caught, caught.len() as u64);
        caught.clear();
        self.caught = caught;
    }
}

/// Writes what the rules see of each element: its position within a space that wraps, shaken a little by its key.
fn show(near: &Neighbours, bodies: &BodyColumns, alarm: &[f32], rows: &mut Vec<Row>) {
    let (sorted, spec) = (near.sorted_positions(0), near.spec());
    let far = spec.reach * SHAKE;
    let counts = spec.axes.map(|axis| if axis == AxisSpec::Ignored { 0.0 } else { 1.0 });
    let BodyColumns { key, vx, vy, vz, .. } = bodies;
    rows.resize(key.len(), [0.0; 8]);
    rows.par_iter_mut().enumerate().with_min_len(4096).for_each(|(nth, row)| {
        let draws = hash3(key[nth], 0x7368, 0x616b).map(|bits| unit(bits) - 0.5);
        let shaken = |axis: usize| {
            let at = sorted[axis][nth];
            // Far from the origin at least as much as a float can tell.
            at + draws[axis] * counts[axis] * far.max(at.abs() * 2.4e-7)
        };
        *row = [shaken(0), shaken(1), shaken(2), alarm[nth], vx[nth], vy[nth], vz[nth], 0.0];
    });
}
