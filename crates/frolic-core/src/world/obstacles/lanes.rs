//! Contacts with a single mask, eight elements at a time: the usual case of populations that collide with a mask.
//!
//! The same steps as [`Solid::collide`], which handles one element and any obstacles: steps as long as the distance is clear; where a way leads inside, back to the
//! edge and on from there. A lane that has finished its element takes the next of the list, so that no lane waits for another.
//!
//! PERF (`cargo bench -p frolic --bench particles -- step`): reads of cells overlap across lanes, and arithmetic is vectorised.

use glam::{Vec2, Vec3};

use super::body::SKIN;
use super::collide::{BLOCK, Collision, MOST_TOUCHES, is_flat};
use super::{Body, Mask, MaskOrientation, Obstacle, Solid, Touch};
use crate::foundations::simd::{Simd, kernel};

/// Number of elements followed at a time.
const LANES: usize = 8;

/// Shortest way that cannot pass through anything, and precision of distances between the centres of cells, in cells.
const SHORT: f32 = 0.5;
const KNOWN: f32 = 0.25;

/// Maximum number of steps of a lane for one element; elements that need more are resolved one by one.
const MOST_STEPS: u32 = 64;

/// A single mask that elements bounce off, slide along or end at.
#[derive(Debug, Clone, Copy)]
pub(crate) struct LoneMask<'a> {
    solid: &'a Solid,
    mask: &'a Mask,
    rules: &'a Obstacle,
}

/// Elements of a block: positions before and after the move, in metres, and velocities, in m/s.
pub(crate) struct Moved<'a> {
    pub(crate) start: &'a [[f32; BLOCK]; 3],
    pub(crate) place: [&'a mut [f32]; 3],
    pub(crate) velocity: [&'a mut [f32]; 3],
}

impl Moved<'_> {
    pub(super) fn start(&self, i: usize) -> Vec3 {
        Vec3::new(self.start[0][i], self.start[1][i], self.start[2][i])
    }

    pub(super) fn place(&self, i: usize) -> Vec3 {
        Vec3::new(self.place[0][i], self.place[1][i], self.place[2][i])
    }

    pub(super) fn velocity(&self, i: usize) -> Vec3 {
        Vec3::new(self.velocity[0][i], self.velocity[1][i], self.velocity[2][i])
    }

    pub(super) fn put(&mut self, i: usize, place: Vec3, velocity: Vec3) {
        for axis in 0..3 {
            (self.place[axis][i], self.velocity[axis][i]) = (place[axis], velocity[axis]);
        }
    }
}

/// Elements on their way through the plane of the mask, one in each lane: positions in cells, velocities in cells a second.
struct Ways {
    x: [f32; LANES],
    y: [f32; LANES],
    vx: [f32; LANES],
    vy: [f32; LANES],
    speed: [f32; LANES],
    /// Distance at the position; negative if it was not looked up.
    off: [f32; LANES],
    /// Remaining time, in seconds.
    left: [f32; LANES],
    /// Steps so far, and 1 for each lane in use.
    steps: [u32; LANES],
    busy: [u32; LANES],
    of: [Way; LANES],
}

/// Values of a way that no vectorised formula needs.
#[derive(Debug, Clone, Copy, Default)]
struct Way {
    /// Index in the list.
    nth: usize,
    i: usize,
    /// Position, in metres, and velocity, in m/s, perpendicular to the plane, at a remaining time.
    aside: f32,
    aside_speed: f32,
    aside_left: f32,
    /// Whether it is too short to pass through anything: its end decides.
    is_short: bool,
    touches: usize,
    hit: Collision,
}

/// Result of a step of a lane.
enum Next {
    GoesOn,
    IsThrough,
    /// The element has to be resolved alone.
    GoesAlone,
}

impl Solid {
    /// The mask, if it is the only obstacle and nothing sticks to it or passes through it.
    pub(crate) fn lone_mask(&self) -> Option<LoneMask<'_>> {
        let [rules] = &self.obstacles[..] else { return None };
        match (&rules.body, rules.touch) {
            (Body::Mask(mask), Touch::Bounce | Touch::Slide | Touch::Die) if self.posts.is_none() => {
                Some(LoneMask { solid: self, mask, rules })
            }
            _ => None,
        }
    }
}

kernel! {
    /// Resolves the contacts of the elements in `list` with a mask that is the only obstacle.
    pub(crate) fn collide_lone_mask(
        simd, lone: LoneMask<'_>, list: &[u16], dt: f32, rest: f32, all: &mut Moved<'_>, collisions: &mut [Collision],
    ) {
        lone.collide(simd, list, dt, rest, all, collisions);
    }
}

impl LoneMask<'_> {
    /// Resolves the contacts of the elements in `list` over `dt` seconds; elements slower than `rest`, in m/s, and pressed against the mask come to rest.
    /// `collisions` is as long as the list.
    #[inline(always)]
    fn collide<S: Simd>(
        self,
        simd: S,
        list: &[u16],
        dt: f32,
        rest: f32,
        all: &mut Moved<'_>,
        collisions: &mut [Collision],
    ) {
        let mut ways = Ways {
            x: [0.0; LANES],
            y: [0.0; LANES],
            vx: [0.0; LANES],
            vy: [0.0; LANES],
            speed: [0.0; LANES],
            off: [0.0; LANES],
            left: [0.0; LANES],
            steps: [0; LANES],
            busy: [0; LANES],
            of: [Way::default(); LANES],
        };
        let mut taken = 0;
        for lane in 0..LANES.min(list.len()) {
            self.take(list, taken, dt, all, lane, &mut ways);
            taken += 1;
        }
        let mut busy = taken;
        while busy > 0 {
            let (mut time, mut x, mut y) = ([0.0f32; LANES], [0.0f32; LANES], [0.0f32; LANES]);
            for i in 0..LANES {
                let safe = (ways.off[i] - KNOWN).max(SHORT);
                let step = (safe / ways.speed[i].max(1e-12)).min(ways.left[i]);
                // The first lookup is at the start.
                time[i] = if ways.off[i] < 0.0 { 0.0 } else { step };
                x[i] = ways.x[i] + ways.vx[i] * time[i];
                y[i] = ways.y[i] + ways.vy[i] * time[i];
            }
            let there = self.mask.distances(simd, &x, &y);
            let mut stops = [0u32; LANES];
            for i in 0..LANES {
                let free = there[i] > 0.0;
                let left = ways.left[i] - time[i];
                let through = ways.speed[i] * left <= (there[i] - KNOWN).max(0.0);
                ways.x[i] = if free { x[i] } else { ways.x[i] };
                ways.y[i] = if free { y[i] } else { ways.y[i] };
                ways.off[i] = if free { there[i] } else { ways.off[i] };
                ways.left[i] = if free { left } else { ways.left[i] };
                ways.steps[i] += 1;
                stops[i] = u32::from(!free | through | (ways.steps[i] > MOST_STEPS));
            }
            let mut stopped =
                (0..LANES).fold(0u32, |all, lane| all | (stops[lane] & ways.busy[lane]) << lane);
            while stopped != 0 {
                let lane = stopped.trailing_zeros() as usize;
                stopped &= stopped - 1;
                let next = if there[lane] > 0.0 {
                    if ways.steps[lane] > MOST_STEPS { Next::GoesAlone } else { Next::IsThrough }
                } else {
                    self.touch(Vec2::new(x[lane], y[lane]), time[lane], there[lane], dt, lane, &mut ways)
                };
                match next {
                    Next::GoesOn => continue,
                    Next::IsThrough => self.leave(rest, all, lane, &ways, collisions),
                    Next::GoesAlone => {
                        let Way { nth, i, .. } = ways.of[lane];
                        collisions[nth] = self.solid.collide_alone(i, dt, rest, all);
                    }
                }
                if taken < list.len() {
                    self.take(list, taken, dt, all, lane, &mut ways);
                    taken += 1;
                } else {
                    ways.busy[lane] = 0;
                    busy -= 1;
                }
            }
        }
    }

    /// A vector of the world from its parts along the plane of the mask and perpendicular to it.
    fn parts(self, vector: Vec3) -> (Vec2, f32) {
        let orientation = self.mask.orientation();
        (orientation.flat(vector), if orientation == MaskOrientation::Upright { vector.z } else { vector.y })
    }

    fn whole(self, flat: Vec2, aside: f32) -> Vec3 {
        let orientation = self.mask.orientation();
        orientation.raise(flat)
            + if orientation == MaskOrientation::Upright { Vec3::Z } else { Vec3::Y } * aside
    }

    /// Starts a lane on the way of element `nth` of the list.
    #[inline(always)]
    fn take(self, list: &[u16], nth: usize, dt: f32, all: &Moved<'_>, lane: usize, ways: &mut Ways) {
        let i = usize::from(list[nth]);
        let (start, aside) = self.parts(all.start(i));
        let (velocity, aside_speed) = self.parts(all.velocity(i));
        let (at, velocity) = (self.mask.to_cells(start), velocity * self.mask.per_metre());
        let speed = velocity.length();
        let is_short = speed * dt <= SHORT;
        (ways.x[lane], ways.y[lane]) = at.into();
        (ways.vx[lane], ways.vy[lane]) = velocity.into();
        (ways.speed[lane], ways.left[lane]) = (speed, dt);
        ways.off[lane] = if is_short { 0.0 } else { -1.0 };
        let hit = Collision::default();
        ways.of[lane] = Way { nth, i, aside, aside_speed, aside_left: dt, is_short, touches: 0, hit };
        (ways.steps[lane], ways.busy[lane]) = (0, 1);
    }

    /// Handles a step that ended inside, at `next`, at this depth.
    fn touch(self, next: Vec2, time: f32, depth: f32, dt: f32, lane: usize, ways: &mut Ways) -> Next {
        let off = ways.off[lane];
        let mut at = Vec2::new(ways.x[lane], ways.y[lane]);
        let mut velocity = Vec2::new(ways.vx[lane], ways.vy[lane]);
        let left = &mut ways.left[lane];
        let way = &mut ways.of[lane];
        if off < 0.0 {
            // It starts inside.
            return Next::GoesAlone;
        }
        // An element that slides along an edge goes on; otherwise interpolate between the two distances.
        let along = (way.hit.touch.is_some() && off <= KNOWN)
            .then(|| self.mask.look_at(next))
            .filter(|(_, normal)| is_flat(velocity.dot(*normal), ways.speed[lane]));
        if way.is_short && way.touches == 0 {
            (at, *left) = (next, 0.0);
        } else {
            let share = if along.is_some() || off <= depth { 1.0 } else { off / (off - depth) };
            at += velocity * (time * share);
            *left -= time * share;
        }
        let (depth, normal) = along.unwrap_or_else(|| self.mask.look_at(at));
        if normal == Vec2::ZERO {
            return Next::GoesAlone;
        }
        way.aside += way.aside_speed * (way.aside_left - *left);
        way.aside_left = *left;
        let cell = self.mask.cell();
        if way.hit.touch.is_none() {
            way.hit.touch = Some((0, self.whole(normal, 0.0), -velocity.dot(normal) * cell));
        }
        if self.rules.touch == Touch::Die {
            way.hit.dies = true;
            *left = 0.0;
        } else {
            // Half a skin off the surface, so that a sliding element does not touch it at every step.
            let off = SKIN * 0.5 / cell;
            if depth < off {
                at -= normal * (depth - off);
            }
            let grazes = along.is_some() && time > 0.0;
            let whole = self.whole(velocity, way.aside_speed / cell);
            let (flat, aside) = self.parts(self.rules.respond(whole, self.whole(normal, 0.0), grazes));
            (velocity, way.aside_speed) = (flat, aside * cell);
            way.touches += usize::from(!grazes);
            if way.touches == MOST_TOUCHES {
                // Caught in a corner: the speed is reduced by the time that was left.
                let share = 1.0 - *left / dt;
                velocity *= share;
                way.aside_speed *= share;
                *left = 0.0;
            }
        }
        (ways.x[lane], ways.y[lane]) = at.into();
        (ways.vx[lane], ways.vy[lane]) = velocity.into();
        (ways.speed[lane], ways.off[lane]) = (velocity.length(), depth.max(0.0));
        if way.hit.dies || way.touches == MOST_TOUCHES { Next::IsThrough } else { Next::GoesOn }
    }

    /// Stores the end of a way that touched anything; otherwise the end of the move stands.
    #[inline(always)]
    fn leave(self, rest: f32, all: &mut Moved<'_>, lane: usize, ways: &Ways, collisions: &mut [Collision]) {
        let Some((_, _, into)) = ways.of[lane].hit.touch else { return };
        let mut way = ways.of[lane];
        let (left, cell) = (ways.left[lane], self.mask.cell());
        let flat = Vec2::new(ways.vx[lane], ways.vy[lane]);
        let at = self.mask.at_cells(Vec2::new(ways.x[lane], ways.y[lane]) + flat * left);
        let mut place = self.whole(at, way.aside + way.aside_speed * way.aside_left);
        let mut velocity = self.whole(flat * cell, way.aside_speed);
        if way.touches == MOST_TOUCHES {
            self.solid.bring_out_alone(&mut place, &mut velocity, &mut way.hit);
        }
        if way.is_short && self.rules.holds(all.velocity(way.i).length(), into, rest) {
            velocity = Vec3::ZERO;
        }
        all.put(way.i, place, velocity);
        collisions[way.nth] = way.hit;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::assets::{Asset, Assets, Plane};
    use crate::foundations::simd::Level;
    use crate::world::obstacles::ObstacleSpec;

    /// Discs and a wall.
    fn solid(touch: Touch) -> Solid {
        let rock = |nth: usize| {
            let at = Vec2::new((nth % 60) as f32, (nth / 60) as f32);
            let in_disc = |x: f32, y: f32, radius: f32| at.distance(Vec2::new(x, y)) < radius;
            f32::from(u8::from(
                in_disc(15.0, 20.0, 8.0) || in_disc(40.0, 12.0, 5.0) || at.y > 33.0 + at.x * 0.05,
            ))
        };
        let plane = Plane::new(60, 40, (0..2400).map(rock).collect()).unwrap();
        let mut assets = Assets::default();
        assets.insert("rock", Asset::Plane(plane.into()));
        let spec = ObstacleSpec::mask("rock", [3.0, 2.0, 0.0], 6.0).bounce(0.4, 0.15).touch(touch);
        Solid::new(&[spec], None, &assets).unwrap()
    }

    /// Eight at a time give the same ends as one by one; except for one in fifty, where the last bit decides whether an element is out
    /// at once or at the second push.
    #[test]
    fn lanes_are_as_one_by_one() {
        let (dt, rest) = (1.0f32 / 60.0, 0.2);
        for touch in [Touch::Bounce, Touch::Slide, Touch::Die] {
            let solid = solid(touch);
            let lone = solid.lone_mask().unwrap();
            let (mut hit, mut apart) = (0, 0);
            for block in 0..60 {
                let mut start = [[0.0f32; BLOCK]; 3];
                let mut moved = [[[0.0f32; BLOCK]; 3]; 2];
                for i in 0..BLOCK {
                    let draws = crate::foundations::random::Draws { seed: block, id: i as u32 };
                    let (at, way, [slow, ..]) = (draws.draw(0), draws.draw(1), draws.draw(2));
                    for axis in 0..3 {
                        start[axis][i] = at[axis] * [6.0, 4.0, 1.0][axis];
                        moved[1][axis][i] = (way[axis] - 0.5) * [16.0, 1.6, 0.16][(slow * 3.0) as usize];
                        moved[0][axis][i] = start[axis][i] + moved[1][axis][i] * dt;
                    }
                }
                let list: Vec<u16> = (0..BLOCK as u16).collect();
                let run = |by_lanes: bool| {
                    let [mut place, mut velocity] = moved;
                    let mut collisions = vec![Collision::default(); BLOCK];
                    let mut all = Moved {
                        start: &start,
                        place: place.each_mut().map(|axis| &mut axis[..]),
                        velocity: velocity.each_mut().map(|axis| &mut axis[..]),
                    };
                    if by_lanes {
                        collide_lone_mask(
                            Level::baseline(),
                            lone,
                            &list,
                            dt,
                            rest,
                            &mut all,
                            &mut collisions,
                        );
                    } else {
                        solid.collide_each(&list, dt, rest, &mut all, &mut collisions);
                    }
                    (place, velocity, collisions)
                };
                let (a, b) = (run(true), run(false));
                for i in 0..BLOCK {
                    assert_eq!(a.2[i].dies, b.2[i].dies);
                    assert_eq!(a.2[i].touch.is_some(), b.2[i].touch.is_some());
                    hit += u32::from(a.2[i].touch.is_some());
                    let differs = |axis: usize| {
                        let place = (a.0[axis][i] - b.0[axis][i]).abs() > 1e-3;
                        place || (a.1[axis][i] - b.1[axis][i]).abs() > 1e-2
                    };
                    apart += u32::from(!a.2[i].dies && (0..3).any(differs));
                }
            }
            assert!(hit > 1_000 && apart * 50 < hit, "{apart} of {hit} differ, {touch:?}");
        }
    }
}
