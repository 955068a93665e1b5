//! Contacts of elements with obstacles.
//!
//! PERF (`cargo bench -p frolic --bench particles`): a filter over the columns of a block finds the elements that can have touched anything; the rest
//! of this file runs for those alone.

use glam::Vec3;

use super::body::{Body, HELD, SKIN};
use super::lanes::Moved;
use super::mask::find_cells;
use super::{Obstacle, Solid, Touch};
use crate::foundations::simd::{Level, Simd, kernel};

/// Number of elements in a block: their columns stay in the first-level cache.
pub(crate) const BLOCK: usize = 256;

/// Maximum number of contacts followed within a step; an element that is still caught then slows down.
pub const MOST_TOUCHES: usize = 6;

/// Contact of an element within a step.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub(crate) struct Collision {
    /// The first contact: index of the obstacle, normal, and speed towards it, in m/s.
    pub(crate) touch: Option<(u32, Vec3, f32)>,
    /// Whether its life ends.
    pub(crate) dies: bool,
}

/// Maximum number of posts that one element may touch in a step.
const MOST_NEAR: usize = 32;

/// Indices of the posts that an element may touch.
struct Near {
    list: [u32; MOST_NEAR],
    len: usize,
}

impl Near {
    const NONE: Self = Self { list: [0; MOST_NEAR], len: 0 };
}

impl Solid {
    /// Posts within a distance of a position, in metres.
    fn posts_near(&self, place: Vec3, way: f32) -> Near {
        let mut near = Near::NONE;
        if let Some(posts) = &self.posts {
            let way = Vec3::splat(way);
            posts.along(place - way, place + way, |post| {
                if near.len < MOST_NEAR {
                    near.list[near.len] = post;
                    near.len += 1;
                }
            });
        }
        near
    }

    /// All obstacles and the nearby posts, with their indices.
    fn each<'a>(&'a self, near: &'a Near) -> impl Iterator<Item = (usize, &'a Obstacle)> {
        let first = self.obstacles.len();
        let post = move |post: &u32| {
            let posts = self.posts.as_ref()?;
            Some((first + *post as usize, posts.all.get(*post as usize)?))
        };
        self.obstacles.iter().enumerate().chain(near.list[..near.len].iter().filter_map(post))
    }

    /// Whether an element at rest stays at rest: an obstacle with friction is within one cell of its grid.
    pub(crate) fn supports(&self, place: Vec3) -> bool {
        let bears = |obstacle: &Obstacle| obstacle.touch <= Touch::Slide && obstacle.friction > 0.0;
        self.obstacles.iter().any(|obstacle| bears(obstacle) && obstacle.body.supports(place))
    }

    /// Resolves the contacts of the elements of a list, one by one; `collisions` has one entry for each.
    pub(crate) fn collide_each(
        &self,
        list: &[u16],
        dt: f32,
        rest: f32,
        all: &mut Moved<'_>,
        collisions: &mut [Collision],
    ) {
        for (&i, hit) in list.iter().zip(collisions) {
            *hit = self.collide_alone(usize::from(i), dt, rest, all);
        }
    }

    /// Resolves the contacts of one element of a block.
    pub(crate) fn collide_alone(&self, i: usize, dt: f32, rest: f32, all: &mut Moved<'_>) -> Collision {
        let (mut place, mut velocity) = (all.place(i), all.velocity(i));
        let hit = self.collide(all.start(i), &mut place, &mut velocity, dt, rest);
        all.put(i, place, velocity);
        hit
    }

    /// Resolves the contacts of an element that moved in a straight line for `dt` seconds. It comes to rest if it is slower than `rest`, in m/s, and
    /// pressed against an obstacle with friction.
    fn collide(&self, start: Vec3, place: &mut Vec3, velocity: &mut Vec3, dt: f32, rest: f32) -> Collision {
        let mut hit = Collision::default();
        if self.pace(*velocity) * dt <= self.short_way {
            self.push_out(start, place, velocity, rest, &mut hit);
            return hit;
        }
        if self.short_way > 0.0 {
            self.march(start, place, velocity, dt, &mut hit);
            return hit;
        }
        let (mut from, speed) = (start, velocity.length());
        // The distances at the start decide most cases: at rest, inside, out of reach.
        let (mut clear, mut inside) = (f32::INFINITY, false);
        let near = self.posts_near(start, speed * dt + HELD);
        for (nth, obstacle) in self.each(&near) {
            let (distance, normal) = obstacle.body.sample(start);
            match obstacle.touch {
                Touch::Stick if distance.abs() <= HELD => {
                    hit.touch = Some((nth as u32, Vec3::ZERO, 0.0));
                    (*place, *velocity) = (start, Vec3::ZERO);
                    return hit;
                }
                Touch::Pass => {
                    if distance > 0.0
                        && distance <= speed * dt + SKIN
                        && let Some((_, normal)) = obstacle.body.first_touch(start, *velocity * dt)
                    {
                        hit.touch = Some((nth as u32, normal, -velocity.dot(normal)));
                    }
                    continue;
                }
                Touch::Bounce | Touch::Slide
                    if (0.0..=HELD).contains(&distance)
                        && obstacle.holds(speed, -velocity.dot(normal), rest) =>
                {
                    (*place, *velocity) = (start, Vec3::ZERO);
                    return hit;
                }
                _ => {}
            }
            inside |= distance < 0.0;
            clear = clear.min(distance - obstacle.body.short_way() * 0.5);
        }
        if !inside && clear > speed * dt + SKIN {
            // The end of the straight way stands, to the last digit.
            return hit;
        }
        if inside && (!self.bring_out(&near, &mut from, velocity, &mut hit) || hit.dies) {
            // There is no direction out, or its life ends there.
            (*place, *velocity) = (from, Vec3::ZERO);
            return hit;
        }
        let mut left = dt;
        for _ in 0..MOST_TOUCHES {
            let way = *velocity * left;
            let mut first: Option<(f32, usize, Vec3, &Obstacle)> = None;
            for (nth, obstacle) in self.each(&near) {
                if obstacle.touch != Touch::Pass
                    && let Some((share, normal)) = obstacle.body.first_touch(from, way)
                    && first.is_none_or(|(least, ..)| share < least)
                {
                    first = Some((share, nth, normal, obstacle));
                }
            }
            let Some((share, nth, normal, obstacle)) = first else {
                from += way;
                left = 0.0;
                break;
            };
            from += way * share;
            left *= 1.0 - share;
            let into = velocity.dot(normal);
            if hit.touch.is_none() {
                hit.touch = Some((nth as u32, normal, -into));
            }
            match obstacle.touch {
                Touch::Die => hit.dies = true,
                Touch::Stick => {
                    let (distance, normal) = obstacle.body.sample(from);
                    from -= normal * distance;
                    *velocity = Vec3::ZERO;
                }
                _ => *velocity = obstacle.respond(*velocity, normal, false),
            }
            if hit.dies || obstacle.touch == Touch::Stick {
                *place = from;
                return hit;
            }
        }
        if hit.touch.is_none() {
            return hit;
        }
        // Caught in a corner: the speed is reduced by the time that was left.
        if left > 0.0 {
            *velocity *= 1.0 - left / dt;
        }
        self.bring_out(&near, &mut from, velocity, &mut hit);
        *place = from;
        hit
    }

    /// Distance to the obstacle that is nearest to a position or contains it deepest, in metres, and its index. For grids only.
    fn nearest(&self, place: Vec3) -> (f32, usize) {
        let mut least = (f32::INFINITY, 0);
        for (nth, obstacle) in self.obstacles.iter().enumerate() {
            let distance = obstacle.body.distance(place);
            if distance < least.0 {
                least = (distance, nth);
            }
        }
        least
    }

    /// Sphere tracing along a way past grids: steps as long as the distance is clear, and at least the shortest way that cannot pass through anything.
    fn march(&self, start: Vec3, place: &mut Vec3, velocity: &mut Vec3, dt: f32, hit: &mut Collision) {
        let (mut from, mut left) = (start, dt);
        let (mut off, _) = self.nearest(from);
        if off < 0.0 {
            if !self.bring_out_alone(&mut from, velocity, hit) || hit.dies {
                // There is no direction out, or its life ends there.
                (*place, *velocity) = (from, Vec3::ZERO);
                return;
            }
            off = 0.0;
        }
        let (mut pace, mut touches) = (self.pace(*velocity), 0);
        // Ten cells a step are twenty of half a cell; the bound is for absurd ways.
        for _ in 0..4096 {
            let way = pace * left;
            // Distances between the points of a grid are exact to a quarter of a cell.
            let safe = off - self.short_way * 0.5;
            if way <= safe || way <= 0.0 {
                from += *velocity * left;
                left = 0.0;
                break;
            }
            let time = (safe.max(self.short_way) / pace).min(left);
            let next = from + *velocity * time;
            let (there, nth) = self.nearest(next);
            if there > 0.0 {
                (from, off) = (next, there);
                left -= time;
                continue;
            }
            // An element that slides along an edge goes on; otherwise interpolate between the two distances.
            let obstacle = &self.obstacles[nth];
            let along = (hit.touch.is_some() && off <= self.short_way * 0.5)
                .then(|| obstacle.body.sample(next))
                .filter(|(_, normal)| is_flat(velocity.dot(*normal), pace));
            let share = if along.is_some() || off <= there { 1.0 } else { off / (off - there) };
            from += *velocity * (time * share);
            left -= time * share;
            let (depth, normal) = along.unwrap_or_else(|| obstacle.body.sample(from));
            if hit.touch.is_none() {
                hit.touch = Some((nth as u32, normal, -velocity.dot(normal)));
            }
            if obstacle.touch == Touch::Die {
                hit.dies = true;
                *place = from;
                return;
            }
            // Half a skin off the surface, so that a sliding element does not touch it at every step.
            if depth < SKIN * 0.5 {
                from -= normal * (depth - SKIN * 0.5);
            }
            off = depth.max(0.0);
            let grazes = along.is_some() && time > 0.0;
            *velocity = obstacle.respond(*velocity, normal, grazes);
            pace = self.pace(*velocity);
            touches += usize::from(!grazes);
            if touches == MOST_TOUCHES {
                break;
            }
        }
        if hit.touch.is_none() {
            // The end of the straight way stands, to the last digit.
            return;
        }
        // Caught in a corner: the speed is reduced by the time that was left.
        *velocity *= 1.0 - left / dt;
        self.bring_out_alone(&mut from, velocity, hit);
        *place = from;
    }

    /// A way that is too short to pass through anything: its end decides.
    fn push_out(&self, start: Vec3, place: &mut Vec3, velocity: &mut Vec3, rest: f32, hit: &mut Collision) {
        let before = *velocity;
        if !self.bring_out_alone(place, velocity, hit) {
            // There is no direction out.
            (*place, *velocity) = (start, Vec3::ZERO);
        }
        let Some((nth, _, into)) = hit.touch else { return };
        if self.obstacles[nth as usize].holds(before.length(), into, rest) {
            *velocity = Vec3::ZERO;
        }
    }

    /// Pushes a position out of all obstacles except posts.
    pub(super) fn bring_out_alone(&self, place: &mut Vec3, velocity: &mut Vec3, hit: &mut Collision) -> bool {
        self.bring_out(&Near::NONE, place, velocity, hit)
    }

    /// Pushes a position out of all obstacles by its depth. Returns false if there is no direction out, deep inside a mask.
    fn bring_out(&self, near: &Near, from: &mut Vec3, velocity: &mut Vec3, hit: &mut Collision) -> bool {
        for round in 0..8 {
            let mut out = true;
            for (nth, obstacle) in self.each(near) {
                if obstacle.touch == Touch::Pass {
                    continue;
                }
                let (distance, mut normal) = obstacle.body.sample(*from);
                if distance >= 0.0 {
                    continue;
                }
                if normal == Vec3::ZERO {
                    match obstacle.body.way_out(*from) {
                        Some(way) => normal = way,
                        None => return false,
                    }
                }
                if hit.touch.is_none() {
                    hit.touch = Some((nth as u32, normal, -velocity.dot(normal)));
                }
                if obstacle.touch == Touch::Die {
                    hit.dies = true;
                    return true;
                }
                // A little further each time: a corner may need several rounds.
                *from -= normal * (distance - SKIN * (round + 1) as f32 * 0.5);
                *velocity = obstacle.respond(*velocity, normal, false);
                out = false;
            }
            if out {
                return true;
            }
        }
        // Caught between obstacles: it comes to rest where it is.
        *velocity = Vec3::ZERO;
        true
    }

    /// Lists the elements of a block that can have touched anything in a step, except those marked in `lies`: rising indices in `near`. Returns
    /// their number.
    pub(crate) fn nearby(
        &self,
        level: Level,
        p: [&[f32]; 3],
        v: [&[f32]; 3],
        dt: f32,
        lies: &[u32],
        near: &mut Nearby,
    ) -> usize {
        let n = p[0].len();
        near.flags[..n].fill(0);
        let ([px, py, pz], [vx, vy, vz]) = (p, v);
        for obstacle in &self.obstacles {
            let flags = &mut near.flags[..n];
            let look = match &obstacle.body {
                // An element that was and is in front of a plane has not touched it. Sticking elements are held at it.
                Body::Plane { normal, offset } if obstacle.touch == Touch::Stick => {
                    Look { middle: *normal * *offset, radius: HELD, normal: *normal, way: dt }
                }
                Body::Plane { normal, offset } => {
                    Look { middle: *normal * *offset, radius: SKIN, normal: *normal, way: 0.0 }
                }
                Body::Sphere { middle, radius } => Look::ball(*middle, *radius, dt),
                Body::Capsule { from, way, radius } => {
                    Look::ball(*from + *way * 0.5, way.length() * 0.5 + radius, dt)
                }
                Body::Box { middle, half, .. } => Look::ball(*middle, half.length(), dt),
                Body::Mask(mask) => {
                    find_cells(level, mask, px, py, pz, vx, vy, vz, dt, &mut near.cells, &mut near.ways);
                    mask.look(&near.cells[..n], &near.ways[..n], flags);
                    continue;
                }
                body => {
                    look_at_grid(body, p, v, dt, flags);
                    continue;
                }
            };
            find_near(level, look, px, py, pz, vx, vy, vz, flags);
        }
        if let Some(posts) = &self.posts {
            for i in 0..n {
                let place = Vec3::new(px[i], py[i], pz[i]);
                let way = (vx[i] * vx[i] + vy[i] * vy[i] + vz[i] * vz[i]).sqrt() * dt + HELD;
                // NaN is near nothing.
                if way.is_finite() && place.is_finite() {
                    let reach = Vec3::splat(way);
                    posts.along(place - reach, place + reach, |post| {
                        let touches = posts.all[post as usize].body.sample(place).0 <= way;
                        near.flags[i] |= u32::from(touches);
                    });
                }
            }
        }
        let mut found = 0;
        for (i, (&flag, &lies)) in near.flags[..n].iter().zip(lies).enumerate() {
            near.list[found] = i as u16;
            found += (flag & !lies) as usize;
        }
        found
    }
}

/// Scratch buffers for the list of a block.
#[derive(Debug)]
pub(crate) struct Nearby {
    /// 1 for each element that can have touched something.
    flags: [u32; BLOCK],
    /// Cell of a mask, and way of each element, in cells.
    cells: [u32; BLOCK],
    ways: [f32; BLOCK],
    pub(crate) list: [u16; BLOCK + 1],
}

impl Nearby {
    pub(crate) fn new() -> Self {
        Self { flags: [0; BLOCK], cells: [0; BLOCK], ways: [0.0; BLOCK], list: [0; BLOCK + 1] }
    }
}

/// A ball, or a plane if there is a normal, enlarged by the way of each element.
#[derive(Debug, Clone, Copy)]
struct Look {
    middle: Vec3,
    radius: f32,
    normal: Vec3,
    /// Time of the way, in seconds.
    way: f32,
}

kernel! {
    /// Flags elements that can have touched a ball or a plane.
    fn find_near(
        simd, look: Look, px: &[f32], py: &[f32], pz: &[f32], vx: &[f32], vy: &[f32], vz: &[f32], flags: &mut [u32],
    ) {
        look.over(simd, px, py, pz, vx, vy, vz, flags);
    }
}

impl Look {
    fn ball(middle: Vec3, radius: f32, dt: f32) -> Self {
        Self { middle, radius: radius + HELD, normal: Vec3::ZERO, way: dt }
    }

    #[expect(
        clippy::too_many_arguments,
        reason = "plain slices, so that the compiler knows that they do not overlap"
    )]
    #[inline(always)]
    fn over<S: Simd>(
        self,
        _simd: S,
        px: &[f32],
        py: &[f32],
        pz: &[f32],
        vx: &[f32],
        vy: &[f32],
        vz: &[f32],
        flags: &mut [u32],
    ) {
        let n = flags.len();
        let (px, py, pz) = (&px[..n], &py[..n], &pz[..n]);
        let (vx, vy, vz) = (&vx[..n], &vy[..n], &vz[..n]);
        let [mx, my, mz] = self.middle.to_array();
        let [nx, ny, nz] = self.normal.to_array();
        let is_plane = self.normal != Vec3::ZERO;
        for i in 0..n {
            let (dx, dy, dz) = (px[i] - mx, py[i] - my, pz[i] - mz);
            let far = (dx * dx + dy * dy + dz * dz).sqrt();
            let off = if is_plane { dx * nx + dy * ny + dz * nz } else { far };
            let way = (vx[i] * vx[i] + vy[i] * vy[i] + vz[i] * vz[i]).sqrt() * self.way;
            // NaN is near nothing.
            flags[i] |= u32::from(off <= self.radius + way);
        }
    }
}

/// Reads of a grid do not vectorise, so this loop is plain.
fn look_at_grid(body: &Body, p: [&[f32]; 3], v: [&[f32]; 3], dt: f32, flags: &mut [u32]) {
    let dt2 = dt * dt;
    for i in 0..flags.len() {
        let clear = body.sample(Vec3::new(p[0][i], p[1][i], p[2][i])).0;
        let way2 = (v[0][i] * v[0][i] + v[1][i] * v[1][i] + v[2][i] * v[2][i]) * dt2;
        let clear = clear - HELD;
        flags[i] |= u32::from(clear < 0.0 || clear * clear <= way2);
    }
}

/// True if the speed along the normal is small enough to count as sliding along the steps of a grid, and not as a collision.
pub(super) fn is_flat(square: f32, pace: f32) -> bool {
    square.abs() <= pace * 0.35
}

impl super::Obstacle {
    /// Whether an element with a speed, and a part of it towards the obstacle, in m/s, comes to rest: slow, pressed against it, held by friction.
    pub(super) fn holds(&self, speed: f32, into: f32, rest: f32) -> bool {
        speed <= rest && into >= 0.5 * speed && self.friction > 0.0
    }

    /// Velocity after a contact. A grazing contact of a slide loses nothing to friction.
    pub(super) fn respond(&self, velocity: Vec3, normal: Vec3, grazes: bool) -> Vec3 {
        let into = velocity.dot(normal);
        if into >= 0.0 {
            return velocity;
        }
        if grazes {
            return velocity - normal * into;
        }
        let back = if self.touch == Touch::Bounce { self.bounce } else { 0.0 };
        (velocity - normal * into) * (1.0 - self.friction) - normal * (into * back)
    }
}
