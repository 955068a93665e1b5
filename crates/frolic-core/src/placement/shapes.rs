//! Shapes and directions of births: plain data, checked before use.

use derive_setters::Setters;
use serde::{Deserialize, Serialize};

use crate::foundations::error::{SpecError, direction, vector_within, within};
use crate::world::obstacles::MaskOrientation;

/// Shape in which elements appear; all its points are equally likely.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub enum ShapeSpec {
    /// One point.
    #[default]
    Point,
    /// A straight line from the centre.
    Line {
        /// Its end, in metres from the centre.
        to: [f32; 3],
    },
    /// A flat disc.
    Disc {
        /// Radius, in metres, 0 to 1e6.
        radius: f32,
        /// Normal. Default: up.
        #[serde(default = "up")]
        normal: [f32; 3],
    },
    /// A circle.
    Ring {
        /// Radius, in metres, 0 to 1e6.
        radius: f32,
        /// Normal. Default: up.
        #[serde(default = "up")]
        normal: [f32; 3],
    },
    /// The inside of a sphere.
    Sphere {
        /// Radius, in metres, 0 to 1e6.
        radius: f32,
    },
    /// The surface of a sphere.
    SphereSurface {
        /// Radius, in metres, 0 to 1e6.
        radius: f32,
    },
    /// The inside of a box with sides along the axes.
    Box {
        /// Full lengths of the sides, in metres, 0 to 1e6.
        size: [f32; 3],
    },
    /// Terrain from a picture, uniform as seen from above.
    Heights {
        /// Name of a picture: black is low.
        asset: String,
        /// Extent along x and z, in metres, 0.001 to 1e6; the upper edge of the picture is at -z.
        size: [f32; 2],
        /// Height of white above black, in metres, 0 to 1e5.
        height: f32,
    },
    /// A mesh at its place.
    Mesh {
        /// Name of the mesh.
        asset: String,
        /// Part of the mesh. Default: its surface.
        #[serde(default)]
        part: MeshPart,
    },
    /// A distance grid at its place.
    Volume {
        /// Name of the grid.
        asset: String,
        /// Part of the grid. Default: its inside.
        #[serde(default)]
        part: VolumePart,
    },
    /// Places of an asset, in turn.
    Places {
        /// Name of the places.
        asset: String,
    },
    /// A picture, each pixel in proportion to its brightness.
    Picture {
        /// Name of the picture.
        asset: String,
        /// Width, in metres, 0.001 to 1e6; the height follows.
        width: f32,
        /// Orientation: upright or flat. Default: upright.
        #[serde(default)]
        orientation: MaskOrientation,
    },
}

/// Part of a mesh.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum MeshPart {
    /// Its corners.
    Corners,
    /// Its edges, uniform by length.
    Edges,
    /// Its surface, uniform by area.
    #[default]
    Surface,
}

/// Part of a distance grid.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub enum VolumePart {
    /// Its inside.
    #[default]
    Inside,
    /// Its surface.
    Surface,
    /// The inside to a depth under the surface, in metres, 0 to 1e6.
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

/// A direction and the spread around it.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct AimSpec {
    /// Middle direction, of any length but 0. Default: up.
    pub direction: [f32; 3],
    /// Largest angle from the middle, in degrees, 0 (a ray) to 180 (all directions), uniform over the cap. Default: 0.
    pub spread_degrees: f32,
    /// Smallest angle from the middle, in degrees, for a hollow cone. Default: 0.
    pub hollow_degrees: f32,
    /// Normal of a flat fan: all directions are perpendicular to it. Default: none, a cone.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(skip)]
    pub fan: Option<[f32; 3]>,
    /// Whether directions are evenly spaced instead of random. Default: false.
    pub even: bool,
    /// Whether the middle direction is the normal of the shape at the place of birth, if it has one. Default: false.
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
    /// A cone around a direction, with a largest angle, in degrees.
    pub fn cone(direction: [f32; 3], spread_degrees: f32) -> Self {
        Self { direction, spread_degrees, ..Self::default() }
    }

    /// A flat fan around a direction, perpendicular to `normal`, with a largest angle to both sides, in degrees; evenly spaced.
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
