//! Contacts and events of a step, while the block is in cache: obstacles, collectors, ages, regions.

use glam::Vec3;

use super::BodyRow;
use super::step::{Acts, Chunk, Notes, Room};
use crate::world::collectors::{FREE, find_caught};
use crate::world::events::{EventRecord, EventSpec, Moment};
use crate::world::obstacles::{BLOCK, Collision, Moved, Solid, collide_lone_mask};

impl Chunk<'_> {
    /// Resolves contacts with obstacles and collectors, then records ages and regions. Newborns have moved for a time equal to their age.
    pub(crate) fn collide(&mut self, acts: &Acts<'_>, newborn: bool, room: &mut Room, notes: &mut Notes) {
        let (solid, dt) = (acts.world.solid(), acts.motion.dt);
        let rest = acts.motion.rest();
        let mut touched = 0;
        if !solid.is_empty() {
            if !newborn {
                self.lie_on(solid, rest, room);
            }
            let (p, v) = ([&*self.px, &*self.py, &*self.pz], [&*self.vx, &*self.vy, &*self.vz]);
            let near = solid.nearby(acts.level, p, v, dt, &room.lies, &mut room.near);
            // A body whose life ends in this step touches nothing any more.
            let mut count = 0;
            for k in 0..near {
                let i = room.near.list[k];
                room.near.list[count] = i;
                let (age, life) = (self.age[usize::from(i)], self.life[usize::from(i)]);
                count += usize::from(age < life && age > 0.0);
            }
            let (list, collisions) = (&room.near.list[..count], &mut room.collisions[..count]);
            let mut moved = Moved {
                start: &room.start,
                place: [&mut *self.px, &mut *self.py, &mut *self.pz],
                velocity: [&mut *self.vx, &mut *self.vy, &mut *self.vz],
            };
            collisions.fill(Collision::default());
            match solid.lone_mask() {
                _ if newborn => {
                    for (&i, hit) in list.iter().zip(&mut *collisions) {
                        let i = usize::from(i);
                        *hit = solid.collide_alone(i, self.age[i], rest, &mut moved);
                    }
                }
                Some(lone) => {
                    collide_lone_mask(acts.level, lone, list, dt, rest, &mut moved, collisions);
                }
                None => solid.collide_each(list, dt, rest, &mut moved, collisions),
            }
            for (&i, hit) in list.iter().zip(&*collisions) {
                let Some((other, normal, speed)) = hit.touch else { continue };
                let i = usize::from(i);
                let counts = speed > 0.0 || hit.dies;
                notes.hits += u64::from(counts);
                if counts && !acts.events.is_empty() {
                    note(
                        acts.events,
                        notes,
                        (self.first + i as u32, self.row(i)),
                        other,
                        normal,
                        |on| matches!(on, Moment::Hit { speed: least } if speed >= least),
                    );
                }
                room.touched[touched] = i as u16;
                touched += 1;
                if hit.dies {
                    self.age[i] = f32::INFINITY;
                }
            }
        }
        if !acts.catching.is_empty() {
            self.be_caught(acts, newborn, touched, room, notes);
        }
        if acts.watches_ways() {
            self.watch_ways(acts, newborn.then_some(&room.start), notes);
        }
    }

    /// Lets collectors pick up bodies. The first `touched` of the list in `room` changed direction on their way.
    pub(crate) fn be_caught(
        &mut self,
        acts: &Acts<'_>,
        newborn: bool,
        touched: usize,
        room: &mut Room,
        notes: &mut Notes,
    ) {
        let n = self.px.len();
        let caught = &mut room.caught[..n];
        let (px, py, pz, vx, vy, vz) = (&*self.px, &*self.py, &*self.pz, &*self.vx, &*self.vy, &*self.vz);
        if newborn {
            for i in 0..n {
                let way = self.velocity(i) * (self.age[i] / acts.motion.dt);
                caught[i] = acts.catching.by(self.place(i), way);
            }
        } else {
            find_caught(acts.level, acts.catching, px, py, pz, vx, vy, vz, caught);
        }
        // A body that changed direction did not come straight along its velocity: its end point decides.
        for &i in &room.touched[..touched] {
            caught[usize::from(i)] = acts.catching.by(self.place(usize::from(i)), Vec3::ZERO);
        }
        if caught.iter().fold(FREE, |all, by| all & by) == FREE {
            return;
        }
        for i in 0..n {
            if room.caught[i] != FREE && self.age[i] < self.life[i] {
                notes.caught.push(room.caught[i]);
                let who = (self.first + i as u32, self.row(i));
                note(acts.events, notes, who, room.caught[i], Vec3::ZERO, |on| on == Moment::Caught);
                self.age[i] = f32::INFINITY;
            }
        }
    }

    /// Keeps bodies at rest that were at rest, as long as something supports them and no force moves them.
    fn lie_on(&mut self, solid: &Solid, rest: f32, room: &mut Room) {
        let n = self.px.len();
        let [x, y, z] = &room.start;
        for i in (0..n).filter(|&i| room.rests[i] == 1) {
            let start = Vec3::new(x[i], y[i], z[i]);
            if self.velocity(i).length_squared() <= rest * rest && solid.supports(start) {
                [self.px[i], self.py[i], self.pz[i]] = start.to_array();
                (self.vx[i], self.vy[i], self.vz[i]) = (0.0, 0.0, 0.0);
                room.lies[i] = 1;
            }
        }
    }

    /// Records ages and regions reached on the way from `starts`, or else from one step back along the velocity.
    fn watch_ways(&self, acts: &Acts<'_>, starts: Option<&[[f32; BLOCK]; 3]>, notes: &mut Notes) {
        let dt = acts.motion.dt;
        for i in 0..self.px.len() {
            if self.age[i] >= self.life[i] {
                continue;
            }
            let (age, place) = (self.age[i], self.place(i));
            let before = match starts {
                Some([x, y, z]) => Vec3::new(x[i], y[i], z[i]),
                None => place - self.velocity(i) * dt,
            };
            note(acts.events, notes, (self.first + i as u32, self.row(i)), 0, Vec3::ZERO, |on| match on {
                Moment::Age(at) => age >= at && age - dt < at,
                Moment::Enter(region) => region.holds(place) && !region.holds(before),
                _ => false,
            });
        }
    }

    /// Records deaths by age. Bodies that were caught, or ended by an obstacle, do not count.
    pub(crate) fn note_deaths(&self, acts: &Acts<'_>, dead: &[u32], notes: &mut Notes) {
        if acts.events.iter().all(|event| event.on != Moment::Death) {
            return;
        }
        for &index in dead {
            let i = (index - self.first) as usize;
            if self.age[i] < f32::INFINITY {
                note(acts.events, notes, (index, self.row(i)), 0, Vec3::ZERO, |on| on == Moment::Death);
            }
        }
    }
}

/// Records a body for every event whose moment this is.
fn note(
    events: &[EventSpec],
    notes: &mut Notes,
    (place, element): (u32, BodyRow),
    other: u32,
    normal: Vec3,
    is_now: impl Fn(Moment) -> bool,
) {
    for (event, spec) in events.iter().enumerate() {
        if is_now(spec.on) {
            let (event, normal) = (event as u32, normal.to_array());
            notes.happenings.push((place, EventRecord { event, element, other, normal }));
        }
    }
}
