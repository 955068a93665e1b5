//! Obstacles and collectors of a world as plain numbers, and the grids that they read.

use crate::assets::{DistanceGrid, Plane};
use crate::world::World;
use crate::world::endless::EndlessSpec;
use crate::world::fields::Acting;
use crate::world::obstacles::{Body, Mask, MaskOrientation, Obstacle, Posts, Touch};

use super::fields::OwnFields;
use glam::Vec3;

/// Kind of a [`DeviceCollider`], and what its numbers mean.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd)]
#[repr(u32)]
pub enum ColliderKind {
    /// `place` is the normal, and the offset along the normal.
    Plane,
    /// `place` is the centre and the radius.
    Sphere,
    /// An upright cylinder: `place` is a point of the axis and the radius.
    Post,
    /// `place` is one end and the radius; `more` is the vector to the other end.
    Capsule,
    /// `place` is the centre and the sine of the turn; `more` is half the size and the cosine of the turn.
    Box,
    /// A height map: `place` is the corner and the height of the value 1; `more` is the size in x and z, the cosine of the steepest slope, and
    /// the cell size. Reads a grid, as do all kinds below.
    Ground,
    /// A distance grid: `place` is the first point and the cell size.
    Distances,
    /// `place` is the corner, the cell size, and 1 for a mask that lies on the ground.
    Mask,
    /// The posts of an endless world: `place` is the cell size, and the lowest cell along x and z.
    Posts,
}

/// What happens to an element that touches a [`DeviceCollider`].
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u32)]
pub enum Contact {
    /// It bounces or slides.
    Bounces,
    /// It stays where it is.
    Sticks,
    /// Its life ends.
    Dies,
    /// Nothing.
    Passes,
}

/// An obstacle, or the shape of a field, as plain numbers. Lengths are in metres.
#[derive(Debug, Clone, Copy, PartialEq)]
#[non_exhaustive]
pub struct DeviceCollider {
    /// Says what `place` and `more` mean.
    pub kind: ColliderKind,
    /// See [`ColliderKind`].
    pub place: [f32; 4],
    /// See [`ColliderKind`].
    pub more: [f32; 4],
    /// Index into [`grids`], for kinds from [`ColliderKind::Ground`] on.
    pub grid: Option<usize>,
    /// Share of the speed along the normal that is sent back.
    pub bounce: f32,
    /// Share of the speed along the surface that is lost at each contact.
    pub friction: f32,
    /// What a contact does.
    pub contact: Contact,
}

/// A grid of a collider or field, as words. Heights, distances, and the x, z and radius of posts (three words a cell) are the bits of 32-bit
/// floats, in metres. A cell of a mask is a distance in thousandths of a cell (16 bits) and a direction (8 bits an axis).
#[derive(Debug, Clone, Copy)]
pub struct Grid<'a> {
    of: GridOf<'a>,
    /// Identifies the world or population it belongs to.
    origin: u64,
}

#[derive(Debug, Clone, Copy)]
enum GridOf<'a> {
    Heights(&'a Plane),
    Distance(&'a DistanceGrid),
    Mask(&'a Mask),
    Posts(&'a Posts),
}

impl Grid<'_> {
    /// Points or cells along each axis.
    pub fn points(&self) -> [usize; 3] {
        match self.of {
            GridOf::Heights(plane) => [plane.width(), plane.height(), 1],
            GridOf::Distance(grid) => grid.points(),
            GridOf::Mask(mask) => [mask.width(), mask.height(), 1],
            GridOf::Posts(posts) => {
                let [x, z] = posts.wide();
                [3, x, z]
            }
        }
    }

    /// Words in all.
    pub fn len(&self) -> usize {
        self.points().iter().product()
    }

    /// Returns whether it has no words; no grid is empty.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The `nth` word, along x, then y, then z.
    pub fn word(&self, nth: usize) -> u32 {
        match self.of {
            GridOf::Heights(plane) => plane.values()[nth].to_bits(),
            GridOf::Distance(grid) => grid.values()[nth].to_bits(),
            GridOf::Mask(mask) => mask.word(nth),
            GridOf::Posts(posts) => posts.post(nth / 3)[nth % 3].to_bits(),
        }
    }

    /// Changes whenever a word changes.
    pub fn stamp(&self) -> u64 {
        match self.of {
            GridOf::Mask(mask) => mask.stamp(),
            GridOf::Posts(posts) => posts.stamp(),
            _ => self.origin,
        }
    }

    /// Range of words that may have changed since the stamp had this value.
    pub fn changed_since(&self, stamp: u64) -> std::ops::Range<usize> {
        match self.of {
            GridOf::Mask(mask) => {
                let rows = mask.changed_since(stamp).map_or(0..0, |[_, low, _, high]| low..high);
                rows.start * mask.width()..rows.end * mask.width()
            }
            _ if stamp == self.stamp() => 0..0,
            _ => 0..self.len(),
        }
    }
}

/// Words in a row of all grids of a population. Each grid starts a new row.
pub const GRID_ROW: usize = 2048;

/// Most rows of the grids of a population.
pub const GRID_ROWS: usize = 8192;

/// The grids of a world's obstacles and fields and of a population's own fields, in this order.
pub fn grids<'a>(world: &'a World, own: &'a OwnFields) -> impl Iterator<Item = Grid<'a>> {
    let solid = world.solid().obstacles.iter().filter_map(|obstacle| match &obstacle.body {
        Body::Heights(heights) => Some(GridOf::Heights(heights.plane())),
        Body::Distance(grid) => Some(GridOf::Distance(grid)),
        Body::Mask(mask) => Some(GridOf::Mask(mask)),
        _ => None,
    });
    let shapes = |fields: &'a [Acting]| {
        fields.iter().filter_map(Acting::shape).map(|(_, grid)| GridOf::Distance(grid))
    };
    let posts = world.solid().posts.iter().map(GridOf::Posts);
    let of_world =
        solid.chain(posts).chain(shapes(world.fields())).map(|of| Grid { of, origin: world.origin() });
    of_world.chain(shapes(&own.fields).map(|of| Grid { of, origin: own.stamp }))
}

/// A collector during one step: its centre at the end of the step and its radius; the way it has moved. In metres.
pub type DeviceCollector = [[f32; 4]; 2];

/// Colliders of a population, and the shapes of its fields.
#[derive(Debug, Clone, PartialEq)]
#[non_exhaustive]
pub struct DeviceColliders {
    /// Obstacles, then shapes as distance grids.
    pub all: Vec<DeviceCollider>,
    /// How many are obstacles.
    pub obstacles: usize,
    /// A path up to this length, in metres, cannot cross any of them.
    pub short_way: f32,
    /// 1 if all obstacles are upright masks, 2 if all are masks on the ground: the length of a path is then measured in their plane. Otherwise 0.
    pub flat: u32,
}

/// Number of obstacles; the posts of an endless world count as one.
pub(super) fn obstacles(world: &World) -> usize {
    world.solid().obstacles.len() + usize::from(world.solid().posts.is_some())
}

/// The obstacles of a world, and the shapes of its fields and of a population's own.
pub fn device_colliders(world: &World, own: &OwnFields) -> DeviceColliders {
    let solid = world.solid();
    let mut all: Vec<DeviceCollider> = solid
        .obstacles
        .iter()
        .map(|Obstacle { body, touch, bounce, friction }| collider(body, *touch, *bounce, *friction))
        .collect();
    all.extend(solid.posts.iter().map(|posts| {
        let (EndlessSpec { cells, bounce, friction, .. }, [x, z]) = (posts.spec(), posts.low());
        let place = [cells.side, x as f32, z as f32, 0.0];
        numbers(ColliderKind::Posts, place, [0.0; 4], Touch::Bounce, *bounce, *friction)
    }));
    let shapes = world.fields().iter().chain(&own.fields).filter_map(Acting::shape);
    all.extend(
        shapes.map(|(_, grid)| {
            numbers(ColliderKind::Distances, place_of(grid), [0.0; 4], Touch::Pass, 0.0, 0.0)
        }),
    );
    // In the order of `grids`.
    for (nth, read) in all.iter_mut().filter(|it| it.kind >= ColliderKind::Ground).enumerate() {
        read.grid = Some(nth);
    }
    let flat =
        solid.orientation().map_or(0, |orientation| if orientation == MaskOrientation::Flat { 2 } else { 1 });
    DeviceColliders { all, obstacles: obstacles(world), short_way: solid.short_way(), flat }
}

fn collider(body: &Body, touch: Touch, bounce: f32, friction: f32) -> DeviceCollider {
    let with = |at: Vec3, w: f32| at.extend(w).to_array();
    let (kind, place, more) = match body {
        Body::Plane { normal, offset } => (ColliderKind::Plane, with(*normal, *offset), [0.0; 4]),
        Body::Sphere { middle, radius } => (ColliderKind::Sphere, with(*middle, *radius), [0.0; 4]),
        Body::Post(post) => (ColliderKind::Post, [post.x, 0.0, post.z, post.radius], [0.0; 4]),
        Body::Capsule { from, way, radius } => (ColliderKind::Capsule, with(*from, *radius), with(*way, 0.0)),
        Body::Box { middle, half, turn: [sin, cos] } => {
            (ColliderKind::Box, with(*middle, *sin), with(*half, *cos))
        }
        Body::Heights(heights) => {
            let [place, more] = heights.numbers();
            (ColliderKind::Ground, place, more)
        }
        Body::Distance(grid) => (ColliderKind::Distances, place_of(grid), [0.0; 4]),
        Body::Mask(mask) => {
            let lies = f32::from(u8::from(mask.orientation() == MaskOrientation::Flat));
            (ColliderKind::Mask, [mask.corner().x, mask.corner().y, mask.cell(), lies], [0.0; 4])
        }
    };
    numbers(kind, place, more, touch, bounce, friction)
}

/// Where a distance grid is: its first point and its cell.
fn place_of(grid: &DistanceGrid) -> [f32; 4] {
    let [x, y, z] = grid.origin();
    [x, y, z, grid.cell()]
}

fn numbers(
    kind: ColliderKind,
    place: [f32; 4],
    more: [f32; 4],
    touch: Touch,
    bounce: f32,
    friction: f32,
) -> DeviceCollider {
    let (bounce, contact) = match touch {
        Touch::Bounce => (bounce, Contact::Bounces),
        Touch::Slide => (0.0, Contact::Bounces),
        Touch::Stick => (0.0, Contact::Sticks),
        Touch::Die => (0.0, Contact::Dies),
        Touch::Pass => (0.0, Contact::Passes),
    };
    DeviceCollider { kind, place, more, grid: None, bounce, friction, contact }
}

/// The collectors of a world during the step of `dt` seconds that starts at `time`, in seconds.
pub fn device_collectors(world: &World, time: f64, dt: f32) -> impl Iterator<Item = DeviceCollector> {
    world.collectors().iter().map(move |collector| {
        let (from, to) = (collector.at(time), collector.at(time + f64::from(dt)));
        [to.extend(collector.radius).to_array(), (to - from).extend(0.0).to_array()]
    })
}
