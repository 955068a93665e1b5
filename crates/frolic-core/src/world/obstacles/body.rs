//! Built obstacles: signed distances, and the first contact of a straight path.

use std::sync::Arc;

use glam::{Vec2, Vec3};

use super::mask::Mask;
use super::posts::Post;
use super::{ObstacleShape, ObstacleSpec};
use crate::assets::{Assets, DistanceGrid, Plane};
use crate::foundations::error::SpecError;

/// Distance of a contact, in metres.
pub const SKIN: f32 = 1e-4;

/// Greatest distance of an element that rests on or sticks to an obstacle, in metres.
pub const HELD: f32 = 1e-3;

/// The shape of a built obstacle.
#[derive(Debug, Clone)]
pub(crate) enum Body {
    Plane {
        normal: Vec3,
        offset: f32,
    },
    Sphere {
        middle: Vec3,
        radius: f32,
    },
    Post(Post),
    Capsule {
        from: Vec3,
        way: Vec3,
        radius: f32,
    },
    /// Sines of the turn about y beside the half extents.
    Box {
        middle: Vec3,
        half: Vec3,
        turn: [f32; 2],
    },
    Heights(Heights),
    Distance(Arc<DistanceGrid>),
    Mask(Mask),
}

#[derive(Debug, Clone)]
pub(crate) struct Heights {
    plane: Arc<Plane>,
    /// Lowest x and z, and lowest height, in metres.
    corner: Vec3,
    size: Vec2,
    /// Height of the value 1 above the value 0, in metres.
    height: f32,
    /// Factor from height differences to distances: the cosine of the steepest slope.
    steep: f32,
    cell: f32,
}

impl Heights {
    fn new(plane: &Arc<Plane>, position: [f32; 3], [width, depth]: [f32; 2], height: f32) -> Self {
        let [sx, sz] = plane.steepest();
        let slope = Vec2::new(sx * height / width, sz * height / depth).length();
        Self {
            plane: Arc::clone(plane),
            corner: Vec3::from(position) - Vec3::new(width * 0.5, 0.0, depth * 0.5),
            size: Vec2::new(width, depth),
            height,
            steep: 1.0 / (1.0 + slope * slope).sqrt(),
            cell: (width / plane.width() as f32).min(depth / plane.height() as f32),
        }
    }

    pub(crate) fn plane(&self) -> &Plane {
        &self.plane
    }

    /// Its corner and the height of the value 1; its size, the steepest cosine and its cell.
    pub(crate) fn numbers(&self) -> [[f32; 4]; 2] {
        [self.corner.extend(self.height).to_array(), [self.size.x, self.size.y, self.steep, self.cell]]
    }

    /// Height above the ground times the steepest cosine, and the normal of the ground. Beyond the edges, the distance to the ground.
    fn sample(&self, place: Vec3) -> (f32, Vec3) {
        let flat = Vec2::new(place.x - self.corner.x, place.z - self.corner.z);
        let off = flat - flat.clamp(Vec2::ZERO, self.size);
        let away = off.length();
        if away > 0.0 {
            return (away, Vec3::new(off.x, 0.0, off.y) / away);
        }
        let share = flat / self.size;
        // The upper edge of the picture is away (-z).
        let [value, across, up] = self.plane.slope(share.x, 1.0 - share.y);
        let normal =
            Vec3::new(-across * self.height / self.size.x, 1.0, up * self.height / self.size.y).normalize();
        let over = place.y - self.corner.y - value * self.height;
        // Above the ground at most the true distance; below it the depth by the local slope.
        (over * if over > 0.0 { self.steep } else { normal.y }, normal)
    }
}

impl Body {
    pub(crate) fn new(spec: &ObstacleSpec, assets: &Assets) -> Result<Self, SpecError> {
        Ok(match &spec.shape {
            ObstacleShape::Plane { position, normal } => {
                let normal = Vec3::from(*normal).normalize_or(Vec3::Y);
                Self::Plane { normal, offset: normal.dot((*position).into()) }
            }
            ObstacleShape::Sphere { position, radius } => {
                Self::Sphere { middle: (*position).into(), radius: *radius }
            }
            ObstacleShape::Post { position: [x, _, z], radius } => {
                Self::Post(Post { x: *x, z: *z, radius: *radius })
            }
            ObstacleShape::Capsule { from, to, radius } => Self::Capsule {
                from: (*from).into(),
                way: Vec3::from(*to) - Vec3::from(*from),
                radius: *radius,
            },
            ObstacleShape::Box { position, size, turn_degrees } => {
                let (sin, cos) = libm::sincosf(turn_degrees.to_radians());
                Self::Box { middle: (*position).into(), half: Vec3::from(*size) * 0.5, turn: [sin, cos] }
            }
            ObstacleShape::Heights { asset, position, size, height } => Self::Heights(Heights::new(
                assets.plane("shape.heights.asset", asset)?,
                *position,
                *size,
                *height,
            )),
            ObstacleShape::Distance { asset } => {
                Self::Distance(Arc::clone(assets.distance("shape.distance.asset", asset)?))
            }
            ObstacleShape::Mask { asset, position, width, orientation, threshold } => {
                let picture = assets.plane("shape.mask.asset", asset)?;
                let cell = width / picture.width() as f32;
                Self::Mask(Mask::new(picture, *threshold, (*position).into(), cell, *orientation))
            }
        })
    }

    /// Signed distance at a position, in metres (at most the true one), and the normal, which is zero deep inside of a mask.
    pub(crate) fn sample(&self, place: Vec3) -> (f32, Vec3) {
        match self {
            Self::Plane { normal, offset } => (place.dot(*normal) - offset, *normal),
            Self::Sphere { middle, radius } => round(place - *middle, *radius),
            Self::Post(post) => post.sample(place),
            Self::Capsule { from, way, radius } => {
                let share = ((place - *from).dot(*way) / way.length_squared().max(1e-12)).clamp(0.0, 1.0);
                round(place - *from - *way * share, *radius)
            }
            Self::Box { middle, half, turn: [sin, cos] } => {
                let off = place - *middle;
                let own = Vec3::new(off.x * cos - off.z * sin, off.y, off.x * sin + off.z * cos);
                let over = own.abs() - *half;
                let (distance, normal) = if over.max_element() > 0.0 {
                    let out = over.max(Vec3::ZERO);
                    (out.length(), out.normalize_or(Vec3::Y) * own.signum())
                } else {
                    // Inside: out through the nearest face.
                    let axis = over.max_position();
                    (over[axis], Vec3::AXES[axis] * own.signum()[axis])
                };
                (
                    distance,
                    Vec3::new(normal.x * cos + normal.z * sin, normal.y, normal.z * cos - normal.x * sin),
                )
            }
            Self::Heights(heights) => heights.sample(place),
            Self::Distance(grid) => {
                let (distance, gradient) = grid.sample(place);
                (distance, gradient.normalize_or_zero())
            }
            Self::Mask(mask) => mask.sample(place),
        }
    }

    /// Returns whether a position at rest is still at the surface.
    pub(crate) fn supports(&self, place: Vec3) -> bool {
        match self {
            Self::Mask(mask) => mask.supports(place),
            _ => (0.0..=HELD).contains(&self.sample(place).0),
        }
    }

    /// A path up to this length, in metres, crosses no part of the body.
    pub(crate) fn short_way(&self) -> f32 {
        match self {
            Self::Heights(heights) => heights.cell * 0.5,
            Self::Distance(grid) => grid.cell() * 0.5,
            Self::Mask(mask) => mask.cell() * 0.5,
            _ => 0.0,
        }
    }

    /// The distance alone.
    pub(crate) fn distance(&self, place: Vec3) -> f32 {
        match self {
            Self::Mask(mask) => mask.distance(place),
            _ => self.sample(place).0,
        }
    }

    /// The way out from a position inside where the gradient vanishes, as in the middle of a wall, searched in growing
    /// neighbourhoods. `None` if the grid has none.
    pub(crate) fn way_out(&self, place: Vec3) -> Option<Vec3> {
        let cell = match self {
            Self::Mask(mask) => mask.cell(),
            Self::Distance(grid) => grid.cell(),
            _ => return None,
        };
        let here = self.distance(place);
        (0..6).map(|k| cell * (1 << k) as f32).find_map(|far| {
            let mut best = (here + cell * 0.1, None);
            for nth in (0..27).filter(|nth| *nth != 13) {
                let way = Vec3::new((nth % 3) as f32, (nth / 3 % 3) as f32, (nth / 9) as f32) - 1.0;
                let way = way.normalize();
                let there = self.distance(place + way * far);
                if there > best.0 {
                    best = (there, Some(way));
                }
            }
            best.1
        })
    }

    /// First contact of a straight path that starts outside: a share of the path, 0 to 1, and the normal there.
    pub(crate) fn first_touch(&self, from: Vec3, way: Vec3) -> Option<(f32, Vec3)> {
        match self {
            Self::Heights(heights) => self.walk(from, way, heights.cell * heights.steep),
            Self::Distance(grid) => self.walk(from, way, grid.cell()),
            Self::Mask(mask) => self.walk(from, way, mask.cell()),
            _ => self.fall(from, way),
        }
    }

    /// Of a convex body: the distance along a path is convex, so Newton's steps from outside converge and never overshoot.
    fn fall(&self, from: Vec3, way: Vec3) -> Option<(f32, Vec3)> {
        let mut at = 0.0f32;
        let along = way.length() * 1e-5;
        for _ in 0..16 {
            let (distance, normal) = self.sample(from + way * at);
            let nearing = -way.dot(normal);
            // A path along the surface does not touch it, whatever the last digit rounds to.
            if nearing <= along {
                return None;
            }
            if distance <= SKIN {
                return Some((at, normal));
            }
            at += (distance - 0.5 * SKIN) / nearing;
            if at > 1.0 {
                return None;
            }
        }
        // Grazing so flat that it has not come near in sixteen steps.
        None
    }

    /// Of any other: as far at a time as nothing can be, and at least half a cell, in metres; once inside, back to the edge.
    fn walk(&self, from: Vec3, way: Vec3, cell: f32) -> Option<(f32, Vec3)> {
        let length = way.length();
        if length <= 0.0 {
            return None;
        }
        let (mut outside, mut distance_outside) = (0.0f32, self.distance(from));
        if distance_outside - cell * 0.25 > length {
            return None;
        }
        // Ten cells a step are twenty of half a cell; the bound is for ways that are absurd.
        for _ in 0..4096 {
            if outside >= 1.0 {
                return None;
            }
            // What lies between the points of a grid is known to a quarter of a cell.
            let at = (outside + (distance_outside - cell * 0.25).max(cell * 0.5) / length).min(1.0);
            let distance = self.distance(from + way * at);
            if distance > 0.0 {
                (outside, distance_outside) = (at, distance);
                continue;
            }
            let (mut inside, mut distance_inside) = (at, distance);
            for _ in 0..8 {
                // Near enough; what slides along is so from the start.
                if distance_outside <= SKIN.max(cell * 0.01) * 4.0 {
                    break;
                }
                let gap = distance_outside - distance_inside;
                let share = if gap > 0.0 { (distance_outside / gap).clamp(0.02, 0.98) } else { 0.5 };
                let middle = outside + (inside - outside) * share;
                let distance = self.distance(from + way * middle);
                if distance > 0.0 {
                    (outside, distance_outside) = (middle, distance);
                } else {
                    (inside, distance_inside) = (middle, distance);
                }
            }
            let (_, normal) = self.sample(from + way * outside);
            return Some((outside, normal));
        }
        Some((outside, self.sample(from + way * outside).1))
    }
}

/// Of a ball about the origin.
fn round(off: Vec3, radius: f32) -> (f32, Vec3) {
    let far = off.length();
    (far - radius, if far > 1e-9 { off / far } else { Vec3::Y })
}
