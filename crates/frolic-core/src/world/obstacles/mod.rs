//! Obstacles: elements bounce off them, slide along them, stick to them or end at them.
//!
//! Elements collide as points. The straight path of a step is swept to its first contact, so that fast elements do not tunnel. Elements
//! inside are pushed out by their depth. A test over columns finds the few elements that are near an obstacle.
//!
//! | question | file |
//! | --- | --- |
//! | how is an obstacle described? | here |
//! | how far is one, and where does a path touch it? | `body.rs` |
//! | a solid picture that can be dug | `mask.rs` |
//! | endless round posts, in cells around a moving centre | `posts.rs` |
//! | how are contacts resolved? | `collide.rs` |
//! | the same for many elements and one mask | `lanes.rs` |

mod body;
mod collide;
mod lanes;
mod mask;
mod posts;

use derive_setters::Setters;
use glam::Vec3;
use serde::{Deserialize, Serialize};

pub(crate) use body::Body;
pub use body::{HELD, SKIN};
pub use collide::MOST_TOUCHES;
pub(crate) use collide::{BLOCK, Collision, Nearby};
pub(crate) use lanes::{Moved, collide_lone_mask};
pub use mask::{Mask, MaskOrientation};
pub(crate) use posts::Posts;

use crate::assets::Assets;
use crate::foundations::error::{SpecError, direction, each, vector_within, within};
use crate::world::endless::EndlessSpec;

/// Maximum number of obstacles of a world.
const MOST_OBSTACLES: usize = 64;

/// An obstacle.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct ObstacleSpec {
    /// Name, for brushes and reliefs. Default: none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(skip)]
    pub name: Option<String>,
    /// Its shape and place.
    pub shape: ObstacleShape,
    /// Effect of a contact on an element. Default: bounce.
    #[serde(default)]
    pub touch: Touch,
    /// Restitution: share of the speed towards it that is returned, 0 to 1. Default: 0.4.
    #[serde(default = "default_bounce")]
    #[setters(skip)]
    pub bounce: f32,
    /// Friction: share of the speed along it that is lost at each contact, 0 to 1. Default: 0.1.
    #[serde(default = "default_friction")]
    pub friction: f32,
}

fn default_bounce() -> f32 {
    0.4
}

fn default_friction() -> f32 {
    0.1
}

/// Effect of a contact on an element.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Touch {
    /// It bounces.
    #[default]
    Bounce,
    /// It continues along the surface.
    Slide,
    /// It stays at the contact while the obstacle is there.
    Stick,
    /// Its life ends.
    Die,
    /// Nothing. The contact is counted as a hit.
    Pass,
}

/// Shape and place of an obstacle.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub enum ObstacleShape {
    /// The half-space behind a plane.
    Plane {
        /// A point of it, in metres.
        position: [f32; 3],
        /// Normal, of any length but 0. Default: up.
        #[serde(default = "up")]
        normal: [f32; 3],
    },
    /// The inside of a sphere.
    Sphere {
        /// Centre, in metres.
        position: [f32; 3],
        /// Radius in metres, 0.001 to 1e6.
        radius: f32,
    },
    /// An upright cylinder without ends.
    Post {
        /// A point of its axis, in metres.
        position: [f32; 3],
        /// Radius in metres, 0.001 to 1e6.
        radius: f32,
    },
    /// All points within a distance of a line segment.
    Capsule {
        /// One end of the segment, in metres.
        from: [f32; 3],
        /// The other end, in metres.
        to: [f32; 3],
        /// Radius in metres, 0.001 to 1e6.
        radius: f32,
    },
    /// An upright box.
    Box {
        /// Centre, in metres.
        position: [f32; 3],
        /// Side lengths in metres, 0.001 to 1e6.
        size: [f32; 3],
        /// Turn about y, in degrees, anticlockwise from above. Default: 0.
        #[serde(default)]
        turn_degrees: f32,
    },
    /// The ground below a height map.
    Heights {
        /// Name of a picture; black is low.
        asset: String,
        /// Centre of the ground at its lowest height, in metres.
        position: [f32; 3],
        /// Extent along x and z in metres, 0.001 to 1e6. The upper edge of the picture is away (-z).
        size: [f32; 2],
        /// Height of white above black in metres, 0 to 1e5.
        height: f32,
    },
    /// The inside of a distance grid.
    Distance {
        /// Name of the grid.
        asset: String,
    },
    /// The opaque parts of a picture, without end along the third axis.
    Mask {
        /// Name of the picture.
        asset: String,
        /// Centre of the picture, in metres.
        position: [f32; 3],
        /// Width of the picture in metres, 0.001 to 1e6; the height follows.
        width: f32,
        /// Orientation. Default: upright.
        #[serde(default)]
        orientation: MaskOrientation,
        /// Least opacity of solid parts, 0.001 to 1. Default: 0.5.
        #[serde(default = "half")]
        threshold: f32,
    },
}

fn up() -> [f32; 3] {
    [0.0, 1.0, 0.0]
}

fn half() -> f32 {
    0.5
}

impl ObstacleSpec {
    /// A plane through a point, in metres, with a normal.
    pub fn plane(position: [f32; 3], normal: [f32; 3]) -> Self {
        Self::new(ObstacleShape::Plane { position, normal })
    }

    /// A sphere with a centre and radius, in metres.
    pub fn sphere(position: [f32; 3], radius: f32) -> Self {
        Self::new(ObstacleShape::Sphere { position, radius })
    }

    /// A mask from a picture, by name, with its centre and width in metres.
    pub fn mask(asset: &str, position: [f32; 3], width: f32) -> Self {
        let orientation = MaskOrientation::default();
        Self::new(ObstacleShape::Mask {
            asset: asset.to_owned(),
            position,
            width,
            orientation,
            threshold: half(),
        })
    }

    /// The inside of a distance grid, by name.
    pub fn distance(asset: &str) -> Self {
        Self::new(ObstacleShape::Distance { asset: asset.to_owned() })
    }

    /// An obstacle of a shape.
    pub fn new(shape: ObstacleShape) -> Self {
        let (bounce, friction) = (default_bounce(), default_friction());
        Self { name: None, shape, touch: Touch::Bounce, bounce, friction }
    }

    /// Sets its name, for brushes and reliefs.
    pub fn name(mut self, name: &str) -> Self {
        self.name = Some(name.to_owned());
        self
    }

    /// Sets restitution and friction.
    pub fn bounce(mut self, bounce: f32, friction: f32) -> Self {
        (self.bounce, self.friction) = (bounce, friction);
        self
    }

    fn check(&self) -> Result<(), SpecError> {
        within("bounce", self.bounce, 0.0, 1.0, "")?;
        within("friction", self.friction, 0.0, 1.0, "")?;
        match &self.shape {
            ObstacleShape::Plane { position, normal } => {
                vector_within("shape.plane.position", *position, 1e6, "m")?;
                direction("shape.plane.normal", *normal)
            }
            ObstacleShape::Sphere { position, radius } => {
                vector_within("shape.sphere.position", *position, 1e6, "m")?;
                within("shape.sphere.radius", *radius, 0.001, 1e6, "m")
            }
            ObstacleShape::Post { position, radius } => {
                vector_within("shape.post.position", *position, 1e6, "m")?;
                within("shape.post.radius", *radius, 0.001, 1e6, "m")
            }
            ObstacleShape::Capsule { from, to, radius } => {
                vector_within("shape.capsule.from", *from, 1e6, "m")?;
                vector_within("shape.capsule.to", *to, 1e6, "m")?;
                within("shape.capsule.radius", *radius, 0.001, 1e6, "m")
            }
            ObstacleShape::Box { position, size, turn_degrees } => {
                vector_within("shape.box.position", *position, 1e6, "m")?;
                size.iter().try_for_each(|&side| within("shape.box.size", side, 0.001, 1e6, "m"))?;
                within("shape.box.turn_degrees", *turn_degrees, -1e6, 1e6, "degrees")
            }
            ObstacleShape::Heights { position, size, height, .. } => {
                vector_within("shape.heights.position", *position, 1e6, "m")?;
                size.iter().try_for_each(|&side| within("shape.heights.size", side, 0.001, 1e6, "m"))?;
                within("shape.heights.height", *height, 0.0, 1e5, "m")
            }
            ObstacleShape::Distance { .. } => Ok(()),
            ObstacleShape::Mask { position, width, threshold, .. } => {
                vector_within("shape.mask.position", *position, 1e6, "m")?;
                within("shape.mask.width", *width, 0.001, 1e6, "m")?;
                within("shape.mask.threshold", *threshold, 0.001, 1.0, "")
            }
        }
    }
}

/// Checks each obstacle of a list. Assets are looked up when the obstacles are built.
pub(crate) fn check(specs: &[ObstacleSpec]) -> Result<(), SpecError> {
    each("obstacle", specs, MOST_OBSTACLES, ObstacleSpec::check)
}

/// The obstacles of a world.
#[derive(Debug, Clone, Default)]
pub struct Solid {
    pub(crate) obstacles: Vec<Obstacle>,
    /// A path up to this length, in metres, crosses no obstacle.
    short_way: f32,
    /// Common orientation, if all obstacles are masks of one: then only the part of a path in their plane counts.
    orientation: Option<MaskOrientation>,
    /// Posts of an endless world. Their index follows those of the others.
    pub(crate) posts: Option<Posts>,
}

/// A built obstacle.
#[derive(Debug, Clone)]
pub(crate) struct Obstacle {
    pub(crate) body: Body,
    pub(crate) touch: Touch,
    pub(crate) bounce: f32,
    pub(crate) friction: f32,
}

impl Solid {
    /// Builds checked obstacles.
    pub(crate) fn new(
        obstacles: &[ObstacleSpec],
        endless: Option<&EndlessSpec>,
        assets: &Assets,
    ) -> Result<Self, SpecError> {
        let ready = |(nth, spec): (usize, &ObstacleSpec)| {
            let ObstacleSpec { touch, bounce, friction, .. } = *spec;
            let body = Body::new(spec, assets).map_err(|error| error.under(&format!("obstacle.{nth}")))?;
            Ok(Obstacle { body, touch, bounce, friction })
        };
        let obstacles: Vec<Obstacle> =
            obstacles.iter().enumerate().map(ready).collect::<Result<_, SpecError>>()?;
        // Contacts that stick or pass have to be found along the path.
        let short_way = |obstacle: &Obstacle| match obstacle.touch {
            Touch::Stick | Touch::Pass => 0.0,
            _ => obstacle.body.short_way(),
        };
        let orientation = |obstacle: &Obstacle| match &obstacle.body {
            Body::Mask(mask) => Some(mask.orientation()),
            _ => None,
        };
        let first = obstacles.first().and_then(orientation);
        let orientation = first
            .filter(|_| endless.is_none() && obstacles.iter().all(|obstacle| orientation(obstacle) == first));
        let least = if endless.is_some() { 0.0 } else { f32::INFINITY };
        let short_way = obstacles.iter().map(short_way).fold(least, f32::min);
        let posts = endless.map(Posts::new).transpose().map_err(|error| error.under("endless"))?;
        Ok(Self { obstacles, short_way, orientation, posts })
    }

    /// A path up to this length, in metres, crosses no obstacle.
    pub(crate) fn short_way(&self) -> f32 {
        self.short_way
    }

    /// Common orientation, if all obstacles are masks of one.
    pub(crate) fn orientation(&self) -> Option<MaskOrientation> {
        self.orientation
    }

    /// Part of a velocity that can cross an obstacle, in m/s.
    fn pace(&self, velocity: Vec3) -> f32 {
        self.orientation.map_or(velocity.length(), |orientation| orientation.flat(velocity).length())
    }

    /// Returns whether there are no obstacles.
    pub fn is_empty(&self) -> bool {
        self.obstacles.is_empty() && self.posts.is_none()
    }
}
