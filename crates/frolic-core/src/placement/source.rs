//! Sampling positions on shapes, with their outward direction.

use std::f32::consts::TAU;
use std::sync::Arc;

use glam::{Vec2, Vec3};

use super::placed::PlacedColumns;
use super::shapes::{MeshPart, ShapeSpec, VolumePart};
use crate::assets::{Assets, DistanceGrid, Plane, Surface, pick, sums};
use crate::foundations::error::SpecError;
use crate::foundations::random::Draws;
use crate::world::obstacles::MaskOrientation;

/// A shape made ready.
#[derive(Debug, Clone)]
pub(crate) enum Source {
    Plain(ShapeSpec, Basis),
    Heights(Arc<Plane>, [f32; 2], f32),
    Mesh(Arc<Surface>, MeshPart),
    Volume(Arc<DistanceGrid>, VolumePart),
    Places(Arc<PlacedColumns>),
    /// A picture with rising sums of its brightness, and the size of a pixel, in metres.
    Picture(Arc<Plane>, Vec<f32>, f32, MaskOrientation),
}

impl Source {
    /// A single point.
    pub(crate) const POINT: Self =
        Self::Plain(ShapeSpec::Point, Basis { x: Vec3::Z, y: Vec3::X, z: Vec3::Y });

    pub(crate) fn new(shape: &ShapeSpec, assets: &Assets) -> Result<Self, SpecError> {
        Ok(match shape {
            ShapeSpec::Heights { asset, size, height } => {
                Self::Heights(Arc::clone(assets.plane("shape.heights.asset", asset)?), *size, *height)
            }
            ShapeSpec::Mesh { asset, part } => {
                Self::Mesh(Arc::clone(assets.surface("shape.mesh.asset", asset)?), *part)
            }
            ShapeSpec::Volume { asset, part } => {
                let grid = assets.distance("shape.volume.asset", asset)?;
                if grid.volume() <= 0.0 {
                    let problem = format!("'{asset}' has no inside");
                    return Err(SpecError::new(
                        "shape.volume.asset",
                        problem,
                        "bake a closed mesh, or finer",
                    ));
                }
                Self::Volume(Arc::clone(grid), *part)
            }
            ShapeSpec::Places { asset } => {
                let places = assets.places("shape.places.asset", asset)?;
                if places.is_empty() {
                    let problem = format!("'{asset}' holds no places");
                    return Err(SpecError::new("shape.places.asset", problem, "give one with some"));
                }
                Self::Places(Arc::clone(places))
            }
            ShapeSpec::Picture { asset, width, orientation } => {
                let picture = assets.plane("shape.picture.asset", asset)?;
                let sums = sums(picture.values().iter().copied());
                if sums.last().is_none_or(|sum| *sum <= 0.0) {
                    let problem = format!("'{asset}' is all black");
                    return Err(SpecError::new(
                        "shape.picture.asset",
                        problem,
                        "give one with bright pixels",
                    ));
                }
                Self::Picture(Arc::clone(picture), sums, width / picture.width() as f32, *orientation)
            }
            ShapeSpec::Disc { normal, .. } | ShapeSpec::Ring { normal, .. } => {
                Self::Plain(shape.clone(), Basis::around(*normal))
            }
            _ => Self::Plain(shape.clone(), Basis::around([0.0, 1.0, 0.0])),
        })
    }

    /// A place of the shape, evenly over its length, area or volume, and the direction outwards, if it has one there.
    pub(crate) fn place(&self, draws: Draws) -> (Vec3, Option<Vec3>) {
        let [u, v, w] = draws.draw(0);
        match self {
            Self::Plain(shape, face) => plain(shape, face, [u, v, w]),
            Self::Heights(plane, [width, depth], height) => {
                let [value, across, up] = plane.slope(u, 1.0 - v);
                let place = Vec3::new((u - 0.5) * width, value * height, (v - 0.5) * depth);
                let normal = Vec3::new(-across * height / width, 1.0, up * height / depth);
                (place, Some(normal.normalize()))
            }
            Self::Mesh(surface, MeshPart::Corners) => (surface.corner(u), None),
            Self::Mesh(surface, MeshPart::Edges) => (surface.along(u), None),
            Self::Mesh(surface, MeshPart::Surface) => {
                let (place, normal) = surface.on([u, v, w]);
                (place, Some(normal))
            }
            Self::Volume(grid, part) => {
                let [more, ..] = draws.draw(3);
                self::volume(grid, *part, [u, v, w], more)
            }
            Self::Places(places) => {
                // One after the other, so that none is left out.
                let nth = draws.id as usize % places.len();
                let [x, y, z] = places.position().map(|column| column[nth]);
                (Vec3::new(x, y, z), None)
            }
            Self::Picture(picture, sums, pixel, orientation) => {
                let (nth, share) = pick(sums, u);
                let (x, y) = (nth % picture.width(), nth / picture.width());
                let half = [picture.width(), picture.height()].map(|side| side as f32 * 0.5);
                let (across, up) = ((x as f32 + share - half[0]) * pixel, (y as f32 + v - half[1]) * pixel);
                let place = orientation.raise(Vec2::new(across, up));
                (place, None)
            }
        }
    }
}

fn volume(grid: &DistanceGrid, part: VolumePart, draws: [f32; 3], more: f32) -> (Vec3, Option<Vec3>) {
    // A grid that is used has an inside, so there is always a place.
    let surface = || grid.on_surface(draws, more).unwrap_or((Vec3::ZERO, Vec3::Y));
    match part {
        VolumePart::Inside => (grid.within(draws, more).unwrap_or(Vec3::ZERO), None),
        VolumePart::Surface => {
            let (place, normal) = surface();
            (place, Some(normal))
        }
        VolumePart::Shell(depth) => {
            let (place, normal) = surface();
            // The square root of none of the draws, as a shell is thin.
            (place - normal * (depth * more), Some(normal))
        }
    }
}

fn plain(shape: &ShapeSpec, face: &Basis, [u, v, w]: [f32; 3]) -> (Vec3, Option<Vec3>) {
    let around = |share: f32| {
        let (sin, cos) = libm::sincosf(TAU * share);
        face.x * cos + face.y * sin
    };
    match shape {
        ShapeSpec::Line { to } => (Vec3::from(*to) * u, None),
        ShapeSpec::Disc { radius, .. } => (around(v) * (radius * u.sqrt()), Some(face.z)),
        ShapeSpec::Ring { radius, .. } => {
            let outwards = around(v);
            (outwards * *radius, Some(outwards))
        }
        ShapeSpec::Sphere { radius } => {
            let outwards = face.cap(u, v, 1.0, -1.0);
            (outwards * (radius * libm::cbrtf(w)), Some(outwards))
        }
        ShapeSpec::SphereSurface { radius } => {
            let outwards = face.cap(u, v, 1.0, -1.0);
            (outwards * *radius, Some(outwards))
        }
        ShapeSpec::Box { size } => ((Vec3::new(u, v, w) - 0.5) * Vec3::from(*size), None),
        _ => (Vec3::ZERO, None),
    }
}

/// Three directions at right angles, z along the one asked for.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Basis {
    pub(crate) x: Vec3,
    pub(crate) y: Vec3,
    pub(crate) z: Vec3,
}

impl Basis {
    /// Duff et al., "Building an Orthonormal Basis, Revisited" (2017).
    pub(crate) fn around(direction: [f32; 3]) -> Self {
        let z = Vec3::from(direction).normalize_or(Vec3::Y);
        let sign = 1.0f32.copysign(z.z);
        let a = -1.0 / (sign + z.z);
        let b = z.x * z.y * a;
        Self {
            x: Vec3::new(1.0 + sign * z.x * z.x * a, sign * b, -sign * z.x),
            y: Vec3::new(b, sign + z.y * z.y * a, -z.y),
            z,
        }
    }

    /// A direction evenly over the part of the sphere around z between two cosines, the inner (larger) one first.
    pub(crate) fn cap(&self, u: f32, v: f32, cos_inner: f32, cos_rim: f32) -> Vec3 {
        let cos = cos_inner - u * (cos_inner - cos_rim);
        let sin = (1.0 - cos * cos).max(0.0).sqrt();
        let (sin_turn, cos_turn) = libm::sincosf(TAU * v);
        self.x * (sin * cos_turn) + self.y * (sin * sin_turn) + self.z * cos
    }
}
