//! Shapes that elements appear in, and directions that they start in: plain data, checked before use.

use serde::{Deserialize, Serialize};

use crate::foundations::error::{SpecError, direction, vector_within, within};
use crate::world::obstacles::MaskLie;

/// The set of places where elements appear, each equally likely.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub enum ShapeSpec {
    /// One point.
    #[default]
    Point,
    /// A straight line from the middle.
    Line {
        /// Where it ends, m from the middle.
        to: [f32; 3],
    },
    /// A flat disc.
    Disc {
        /// Radius, m, 0 to 1e6.
        radius: f32,
        /// Direction it faces. Default up.
        #[serde(default = "up")]
        normal: [f32; 3],
    },
    /// A circle.
    Ring {
        /// Radius, m, 0 to 1e6.
        radius: f32,
        /// Direction it faces. Default up.
        #[serde(default = "up")]
        normal: [f32; 3],
    },
    /// The inside of a sphere.
    Sphere {
        /// Radius, m, 0 to 1e6.
        radius: f32,
    },
    /// The skin of a sphere.
    SphereSurface {
        /// Radius, m, 0 to 1e6.
        radius: f32,
    },
    /// The inside of a box with sides along the axes.
    Box {
        /// Full side lengths, m, 0 to 1e6.
        size: [f32; 3],
    },
    /// A ground whose heights are those of a picture, evenly as seen from above.
    Heights {
        /// Name of a picture: black is low.
        form: String,
        /// Extent along x and z, m, 0.001 to 1e6; the picture's upper edge is away (-z).
        size: [f32; 2],
        /// Height of white above black, m, 0 to 1e5.
        height: f32,
    },
    /// A mesh, where it is.
    Mesh {
        /// Name of the mesh.
        form: String,
        /// What of it. Default its surface.
        #[serde(default)]
        part: MeshPart,
    },
    /// A distance grid, where it is.
    Volume {
        /// Name of the grid.
        form: String,
        /// What of it. Default its inside.
        #[serde(default)]
        part: VolumePart,
    },
    /// Places of a form, each as often as the others.
    Places {
        /// Name of the places.
        form: String,
    },
    /// A picture, each pixel as often as it is bright.
    Picture {
        /// Name of the picture.
        form: String,
        /// Width, m, 0.001 to 1e6; its height follows.
        width: f32,
        /// Whether it stands or lies. Default stands.
        #[serde(default)]
        lie: MaskLie,
    },
}

/// What of a mesh elements start from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum MeshPart {
    /// Its corners.
    Corners,
    /// Its edges, evenly by length.
    Edges,
    /// Its surface, evenly by area.
    #[default]
    Surface,
}

/// What of a distance grid elements start from.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub enum VolumePart {
    /// All of its inside.
    #[default]
    Inside,
    /// Its surface.
    Surface,
    /// The inside up to so deep under the surface, m, 0 to 1e6.
    Shell(f32),
}

fn up() -> [f32; 3] {
    [0.0, 1.0, 0.0]
}

impl ShapeSpec {
    pub(crate) fn check(&self) -> Result<(), SpecError> {
        let radius_of =
            |name: &str, radius: f32| within(&format!("shape.{name}.radius"), radius, 0.0, 1e6, "m");
        match self {
            Self::Point | Self::Mesh { .. } => Ok(()),
            Self::Line { to } => vector_within("shape.line.to", *to, 1e6, "m"),
            Self::Disc { radius, normal } => {
                radius_of("disc", *radius)?;
                direction("shape.disc.normal", *normal)
            }
            Self::Ring { radius, normal } => {
                radius_of("ring", *radius)?;
                direction("shape.ring.normal", *normal)
            }
            Self::Sphere { radius } => radius_of("sphere", *radius),
            Self::SphereSurface { radius } => radius_of("sphere-surface", *radius),
            Self::Box { size } => {
                size.iter().try_for_each(|&side| within("shape.box.size", side, 0.0, 1e6, "m"))
            }
            Self::Heights { size, height, .. } => {
                size.iter().try_for_each(|&side| within("shape.heights.size", side, 0.001, 1e6, "m"))?;
                within("shape.heights.height", *height, 0.0, 1e5, "m")
            }
            Self::Volume { part: VolumePart::Shell(depth), .. } => {
                within("shape.volume.part.shell", *depth, 0.0, 1e6, "m")
            }
            Self::Volume { .. } | Self::Places { .. } => Ok(()),
            Self::Picture { width, .. } => within("shape.picture.width", *width, 0.001, 1e6, "m"),
        }
    }
}

/// A direction and how far elements stray from it.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct AimSpec {
    /// Middle direction; any length but 0. Default up.
    pub direction: [f32; 3],
    /// Largest angle from the middle, degrees, 0 (a ray) to 180 (every way). Even over the cap. Default 0.
    pub spread_degrees: f32,
    /// Least angle from the middle, degrees, 0 to the largest: a hollow cone. Default 0.
    pub hollow_degrees: f32,
    /// Direction that a flat fan faces: all go square to it. Default none: a cone.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub fan: Option<[f32; 3]>,
    /// Whether directions are evenly spaced and not drawn at random. Default no.
    pub even: bool,
    /// Whether the middle direction is that of the shape's surface where each appears, where it has one. Default no.
    pub from_surface: bool,
}

impl Default for AimSpec {
    fn default() -> Self {
        Self {
            direction: up(),
            spread_degrees: 0.0,
            hollow_degrees: 0.0,
            fan: None,
            even: false,
            from_surface: false,
        }
    }
}

impl AimSpec {
    /// A cone about a direction, of a largest angle, degrees.
    pub fn cone(direction: [f32; 3], spread_degrees: f32) -> Self {
        Self { direction, spread_degrees, ..Self::default() }
    }

    /// A flat fan about a direction, of a largest angle to both sides, degrees, square to `normal`; evenly spaced.
    pub fn fan(direction: [f32; 3], spread_degrees: f32, normal: [f32; 3]) -> Self {
        Self { fan: Some(normal), even: true, ..Self::cone(direction, spread_degrees) }
    }

    pub(crate) fn check(&self) -> Result<(), SpecError> {
        direction("aim.direction", self.direction)?;
        within("aim.spread_degrees", self.spread_degrees, 0.0, 180.0, "degrees")?;
        within("aim.hollow_degrees", self.hollow_degrees, 0.0, self.spread_degrees, "degrees")?;
        let Some(normal) = self.fan else { return Ok(()) };
        direction("aim.fan", normal)?;
        let (along, square) = (glam::Vec3::from(self.direction), glam::Vec3::from(normal));
        if along.normalize().cross(square.normalize()).length() < 1e-3 {
            return Err(SpecError::new(
                "aim.fan",
                "runs along the direction",
                "write a direction square to it",
            ));
        }
        Ok(())
    }
}
