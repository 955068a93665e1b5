//! Obstacles of the world as half-planes: the velocities with which a unit stays in front of the nearest two walls.

use glam::Vec3;

use super::CrowdSpec;
use super::planes::{Planes, WALLS};
use crate::neighbours::blocks::{BLOCK, Lanes};
use crate::world::World;

/// Share of a surface's normal that must lie along the ground for it to be a wall.
const STEEP: f32 = 0.3;

/// Walls with normals as alike as this, by their cosine, count once.
const ALIKE: f32 = 0.95;

/// The nearest wall of each unit of a block.
#[derive(Debug, Clone, Copy)]
pub(super) struct Walls {
    /// Its distance, in metres; infinite without one.
    pub(super) gap: Lanes,
    /// The way out of it along x and z, of unit length.
    pub(super) out: [Lanes; 2],
}

impl Default for Walls {
    fn default() -> Self {
        Self { gap: [f32::INFINITY; BLOCK], out: [[0.0; BLOCK]; 2] }
    }
}

/// A wall as a plane: its distance from the unit, and the way out.
#[derive(Debug, Clone, Copy)]
struct Wall {
    gap: f32,
    out: [f32; 2],
}

/// Finds the walls around a unit at a place that wishes for a velocity, and adds them to those of its block.
#[expect(clippy::too_many_arguments, reason = "inputs and outputs of one loop")]
pub(super) fn walls(
    world: &World,
    spec: &CrowdSpec,
    dt: f32,
    place: Vec3,
    wish: [f32; 2],
    radius: f32,
    lane: usize,
    around: &mut Walls,
    planes: &mut Planes,
) {
    let seconds = spec.look_ahead_walls.max(dt);
    let ahead = Vec3::new(wish[0], 0.0, wish[1]) * seconds;
    let far = spec.top_speed * seconds + radius;
    let mut nearest: [Option<Wall>; WALLS] = [None; WALLS];
    world.each_surface(place, |distance, normal| {
        add(&mut nearest, wall(distance, normal, Vec3::ZERO), far);
    });
    // Around a bend, the wall ahead counts too.
    if nearest[0].is_some() && ahead != Vec3::ZERO {
        world.each_surface(place + ahead, |distance, normal| {
            add(&mut nearest, wall(distance, normal, ahead), far);
        });
    }
    for (nth, wall) in nearest.iter().enumerate() {
        let Some(Wall { gap, out }) = wall else { break };
        let room = gap - radius;
        // Out of a wall it comes at half its speed.
        let least = if room > 0.0 { -room / seconds } else { (-room / seconds).min(spec.top_speed * 0.5) };
        (planes.x[nth][lane], planes.z[nth][lane], planes.least[nth][lane]) = (out[0], out[1], least);
        if nth == 0 {
            around.gap[lane] = *gap;
            (around.out[0][lane], around.out[1][lane]) = (out[0], out[1]);
        }
    }
}

/// A surface met at an offset from the unit as a wall, if it is steep.
fn wall(distance: f32, normal: Vec3, offset: Vec3) -> Option<Wall> {
    let flat = normal.x.hypot(normal.z);
    if flat < STEEP || !distance.is_finite() {
        return None;
    }
    let out = [normal.x / flat, normal.z / flat];
    Some(Wall { gap: distance / flat - (out[0] * offset.x + out[1] * offset.z), out })
}

/// Puts a wall among the nearest, if it is one of them.
fn add(nearest: &mut [Option<Wall>; WALLS], wall: Option<Wall>, far: f32) {
    let Some(wall) = wall.filter(|wall| wall.gap < far) else { return };
    let alike = |other: &Wall| other.out[0] * wall.out[0] + other.out[1] * wall.out[1] > ALIKE;
    if let Some(same) = nearest.iter_mut().flatten().find(|other| alike(other)) {
        if wall.gap < same.gap {
            *same = wall;
        }
    } else if let Some(slot) = nearest.iter().position(|other| other.is_none_or(|other| wall.gap < other.gap))
    {
        nearest[slot..].rotate_right(1);
        nearest[slot] = Some(wall);
    }
    if let [Some(first), Some(second)] = nearest
        && second.gap < first.gap
    {
        nearest.swap(0, 1);
    }
}
