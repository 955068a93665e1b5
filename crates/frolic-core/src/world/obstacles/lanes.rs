//! Elements past one mask, eight at a time: what most populations that meet a mask meet, and nothing else.
//!
//! As [`Solid::meet`] does for one element and any obstacles: as far at a time as nothing can be; where a way leads inside, back to the
//! edge and on from there. Each lane takes the next element of the list when it is through, so that none waits for another.
//!
//! PERF (`cargo bench -p frolic --bench particles -- step`): reads of cells overlap across lanes, and arithmetic is done for all at once.

use glam::{Vec2, Vec3};

use super::body::SKIN;
use super::meet::{BLOCK, MOST_TOUCHES, Met, is_flat};
use super::{Body, Mask, MaskOrientation, Obstacle, Solid, Touch};
use crate::foundations::simd::{Simd, kernel};

/// Elements that are followed at a time.
const LANES: usize = 8;

/// The shortest way that leads through nothing, and how well distances are known between the middles of cells, in cells.
const SHORT: f32 = 0.5;
const KNOWN: f32 = 0.25;

/// Steps that a lane takes for one element; who needs more goes alone.
const MOST_STEPS: u32 = 64;

/// One mask that elements bounce off, slide along or end at, and nothing else.
#[derive(Debug, Clone, Copy)]
pub(crate) struct LoneMask<'a> {
    solid: &'a Solid,
    mask: &'a Mask,
    rules: &'a Obstacle,
}

/// Elements of a block: places before and after the move, in metres, and velocities, in m/s.
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

/// Elements on their way through the mask's plane, one a lane: in cells, and cells a second.
struct Ways {
    x: [f32; LANES],
    y: [f32; LANES],
    vx: [f32; LANES],
    vy: [f32; LANES],
    speed: [f32; LANES],
    /// Distance where they are; negative where it has not been looked at.
    off: [f32; LANES],
    /// Time left, in seconds.
    left: [f32; LANES],
    /// Steps so far, and 1 where there is anyone.
    steps: [u32; LANES],
    busy: [u32; LANES],
    of: [Way; LANES],
}

/// What of a way no formula over all lanes needs.
#[derive(Debug, Clone, Copy, Default)]
struct Way {
    /// Its place in the list.
    nth: usize,
    i: usize,
    /// Place, in metres, and velocity, in m/s, square to the plane, as of when so much time was left.
    aside: f32,
    aside_speed: f32,
    aside_left: f32,
    /// Whether it is too short to lead through anything: where it ends decides.
    is_short: bool,
    touches: usize,
    met: Met,
}

/// What becomes of a way after a step.
enum Next {
    GoesOn,
    IsThrough,
    /// No lane can tell: it goes alone.
    GoesAlone,
}

impl Solid {
    /// The only obstacle, if it is a mask that nothing sticks to or passes.
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
    /// Lets elements of a block, by their places in `list`, collide with a mask that is the only obstacle.
    pub(crate) fn meet_lone_mask(
        simd, lone: LoneMask<'_>, list: &[u16], dt: f32, rest: f32, all: &mut Moved<'_>, mets: &mut [Met],
    ) {
        lone.meet(simd, list, dt, rest, all, mets);
    }
}

impl LoneMask<'_> {
    /// Lets those of `list` meet the mask in a step of `dt` seconds; slower than `rest`, in m/s, and pressed against it, they lie still.
    /// `mets` is as long as the list.
    #[inline(always)]
    fn meet<S: Simd>(self, simd: S, list: &[u16], dt: f32, rest: f32, all: &mut Moved<'_>, mets: &mut [Met]) {
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
                // The first look is at the start.
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
                    Next::IsThrough => self.leave(rest, all, lane, &ways, mets),
                    Next::GoesAlone => {
                        let Way { nth, i, .. } = ways.of[lane];
                        mets[nth] = self.solid.meet_alone(i, dt, rest, all);
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

    /// A vector of the world by its parts along the mask's plane and square to it.
    fn parts(self, vector: Vec3) -> (Vec2, f32) {
        let orientation = self.mask.orientation();
        (orientation.flat(vector), if orientation == MaskOrientation::Upright { vector.z } else { vector.y })
    }

    fn whole(self, flat: Vec2, aside: f32) -> Vec3 {
        let orientation = self.mask.orientation();
        orientation.raise(flat)
            + if orientation == MaskOrientation::Upright { Vec3::Z } else { Vec3::Y } * aside
    }

    /// Starts a lane on the way of the `nth` of the list.
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
        let met = Met::default();
        ways.of[lane] = Way { nth, i, aside, aside_speed, aside_left: dt, is_short, touches: 0, met };
        (ways.steps[lane], ways.busy[lane]) = (0, 1);
    }

    /// A step of a lane has led inside: to `next`, so deep.
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
        // Whoever goes along an edge goes on; else straight between the two distances.
        let along = (way.met.touch.is_some() && off <= KNOWN)
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
        if way.met.touch.is_none() {
            way.met.touch = Some((0, self.whole(normal, 0.0), -velocity.dot(normal) * cell));
        }
        if self.rules.touch == Touch::Die {
            way.met.dies = true;
            *left = 0.0;
        } else {
            // Off it by half a skin, so that what slides along does not touch at every step.
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
                // Caught in a corner: the less it has come through, the less is left of its speed.
                let share = 1.0 - *left / dt;
                velocity *= share;
                way.aside_speed *= share;
                *left = 0.0;
            }
        }
        (ways.x[lane], ways.y[lane]) = at.into();
        (ways.vx[lane], ways.vy[lane]) = velocity.into();
        (ways.speed[lane], ways.off[lane]) = (velocity.length(), depth.max(0.0));
        if way.met.dies || way.touches == MOST_TOUCHES { Next::IsThrough } else { Next::GoesOn }
    }

    /// Writes down where a way has led, if it has touched anything; else it has led where the move has.
    #[inline(always)]
    fn leave(self, rest: f32, all: &mut Moved<'_>, lane: usize, ways: &Ways, mets: &mut [Met]) {
        let Some((_, _, into)) = ways.of[lane].met.touch else { return };
        let mut way = ways.of[lane];
        let (left, cell) = (ways.left[lane], self.mask.cell());
        let flat = Vec2::new(ways.vx[lane], ways.vy[lane]);
        let at = self.mask.at_cells(Vec2::new(ways.x[lane], ways.y[lane]) + flat * left);
        let mut place = self.whole(at, way.aside + way.aside_speed * way.aside_left);
        let mut velocity = self.whole(flat * cell, way.aside_speed);
        if way.touches == MOST_TOUCHES {
            self.solid.bring_out_alone(&mut place, &mut velocity, &mut way.met);
        }
        if way.is_short && self.rules.holds(all.velocity(way.i).length(), into, rest) {
            velocity = Vec3::ZERO;
        }
        all.put(way.i, place, velocity);
        mets[way.nth] = way.met;
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

    /// Eight at a time end where each by itself does; but for one in fifty, of whom the last bit decides whether they are out
    /// at once or at the second push.
    #[test]
    fn lanes_are_as_one_by_one() {
        let (dt, rest) = (1.0f32 / 60.0, 0.2);
        for touch in [Touch::Bounce, Touch::Slide, Touch::Die] {
            let solid = solid(touch);
            let lone = solid.lone_mask().unwrap();
            let (mut met, mut apart) = (0, 0);
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
                    let mut mets = vec![Met::default(); BLOCK];
                    let mut all = Moved {
                        start: &start,
                        place: place.each_mut().map(|axis| &mut axis[..]),
                        velocity: velocity.each_mut().map(|axis| &mut axis[..]),
                    };
                    if by_lanes {
                        meet_lone_mask(Level::baseline(), lone, &list, dt, rest, &mut all, &mut mets);
                    } else {
                        solid.meet_each(&list, dt, rest, &mut all, &mut mets);
                    }
                    (place, velocity, mets)
                };
                let (a, b) = (run(true), run(false));
                for i in 0..BLOCK {
                    assert_eq!(a.2[i].dies, b.2[i].dies);
                    assert_eq!(a.2[i].touch.is_some(), b.2[i].touch.is_some());
                    met += u32::from(a.2[i].touch.is_some());
                    let differs = |axis: usize| {
                        let place = (a.0[axis][i] - b.0[axis][i]).abs() > 1e-3;
                        place || (a.1[axis][i] - b.1[axis][i]).abs() > 1e-2
                    };
                    apart += u32::from(!a.2[i].dies && (0..3).any(differs));
                }
            }
            assert!(met > 1_000 && apart * 50 < met, "{apart} of {met} differ, {touch:?}");
        }
    }
}
