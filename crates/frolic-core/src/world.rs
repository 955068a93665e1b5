//! What acts on every population: gravity, wind and its gusts, an attractor point.

use serde::{Deserialize, Serialize};

use crate::error::{SpecError, vector_within, within};
use crate::noise::gust_noise;
use crate::obstacles::{CollectorSpec, ObstacleSpec, Solid};

/// Fields that all populations feel, each through its own motion settings.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct WorldSpec {
    /// Acceleration of free fall, m/s². Default `[0, -9.81, 0]`.
    pub gravity: [f32; 3],
    /// Steady velocity of the air, m/s. Felt through linear drag. Default still.
    pub wind: [f32; 3],
    /// Gusts on top of the steady wind. Default none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub gusts: Option<GustSpec>,
    /// A point that pulls. Default none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub attractor: Option<AttractorSpec>,
    /// What elements bounce off, at most 16. Default none.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub obstacle: Vec<ObstacleSpec>,
    /// Balls that pick elements up, at most 16. Default none.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub collector: Vec<CollectorSpec>,
}

/// Gusts: smooth noise that the wind carries along.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct GustSpec {
    /// Most speed added in each direction, m/s, 0 to 1000. Default 1.
    pub strength: f32,
    /// Distance over which gusts differ, m, 0.001 to 100000. Default 3.
    pub size: f32,
    /// How fast gusts change where the air stands still, m/s of drift through the noise, 0 to 1000. Default 0.5.
    pub drift: f32,
}

impl Default for GustSpec {
    fn default() -> Self {
        Self { strength: 1.0, size: 3.0, drift: 0.5 }
    }
}

/// A point that pulls with `strength / (distance² + radius²)`, falling to nothing at the point itself.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct AttractorSpec {
    /// Where, m.
    pub position: [f32; 3],
    /// Pull at a distance of 1 m with radius 0, m/s² (negative pushes), -1e6 to 1e6. Default 1.
    pub strength: f32,
    /// Softening radius, m, 0.001 to 1e6: inside it the pull weakens. Default 1.
    pub radius: f32,
}

impl Default for AttractorSpec {
    fn default() -> Self {
        Self { position: [0.0; 3], strength: 1.0, radius: 1.0 }
    }
}

impl AttractorSpec {
    /// An attractor at a point, m, with a strength, m/s² at 1 m, and a softening radius, m.
    pub fn new(position: [f32; 3], strength: f32, radius: f32) -> Self {
        Self { position, strength, radius }
    }
}

impl Default for WorldSpec {
    fn default() -> Self {
        Self {
            gravity: [0.0, -9.81, 0.0],
            wind: [0.0; 3],
            gusts: None,
            attractor: None,
            obstacle: Vec::new(),
            collector: Vec::new(),
        }
    }
}

impl WorldSpec {
    /// The same world with this steady wind, m/s.
    pub fn wind(mut self, wind: [f32; 3]) -> Self {
        self.wind = wind;
        self
    }

    /// The same world with gusts: most added speed, m/s, and their size, m.
    pub fn gusts(mut self, strength: f32, size: f32) -> Self {
        self.gusts = Some(GustSpec { strength, size, ..GustSpec::default() });
        self
    }

    /// The same world with an attractor.
    pub fn attractor(mut self, attractor: AttractorSpec) -> Self {
        self.attractor = Some(attractor);
        self
    }

    /// The same world with one more obstacle.
    pub fn obstacle(mut self, obstacle: ObstacleSpec) -> Self {
        self.obstacle.push(obstacle);
        self
    }

    /// The same world with one more collector.
    pub fn collector(mut self, collector: CollectorSpec) -> Self {
        self.collector.push(collector);
        self
    }

    /// Checks the values and makes them ready for stepping.
    ///
    /// # Errors
    /// Names the key that is out of range.
    pub fn build(&self) -> Result<World, SpecError> {
        vector_within("gravity", self.gravity, 1e4, "m/s²")?;
        vector_within("wind", self.wind, 1e4, "m/s")?;
        if let Some(gusts) = &self.gusts {
            within("gusts.strength", gusts.strength, 0.0, 1000.0, "m/s")?;
            within("gusts.size", gusts.size, 0.001, 1e5, "m")?;
            within("gusts.drift", gusts.drift, 0.0, 1000.0, "m/s")?;
        }
        if let Some(attractor) = &self.attractor {
            vector_within("attractor.position", attractor.position, 1e6, "m")?;
            within("attractor.strength", attractor.strength, -1e6, 1e6, "m/s² at 1 m")?;
            within("attractor.radius", attractor.radius, 0.001, 1e6, "m")?;
        }
        let solid = Solid::new(&self.obstacle, &self.collector)?;
        Ok(World { spec: self.clone(), solid })
    }
}

/// A checked [`WorldSpec`].
#[derive(Debug, Clone)]
pub struct World {
    spec: WorldSpec,
    solid: Solid,
}

impl World {
    /// What it was built from.
    pub fn spec(&self) -> &WorldSpec {
        &self.spec
    }

    /// Obstacles and collectors, made ready.
    pub fn solid(&self) -> &Solid {
        &self.solid
    }

    /// The gust field at a time, s.
    pub(crate) fn gusts_at(&self, time: f64) -> Option<Gusts> {
        let gusts = self.spec.gusts?;
        let per_metre = 1.0 / gusts.size;
        // Air that moves carries its gusts; drift keeps them alive in still air. Wrapped, so that hours of
        // run time lose no precision: the jump is met once in days.
        let shift = |wind: f32, drift: f32| {
            let cells = f64::from(wind + drift) * time * f64::from(per_metre);
            (cells % 1_048_576.0) as f32
        };
        let [x, y, z] = self.spec.wind;
        let origin = [shift(x, 0.0), shift(y, gusts.drift), shift(z, 0.0)];
        Some(Gusts { origin, per_metre, strength: gusts.strength })
    }
}

/// Gusts frozen at one moment.
#[derive(Debug, Clone, Copy)]
#[non_exhaustive]
pub struct Gusts {
    /// Where the noise has moved to, in its own cells.
    pub origin: [f32; 3],
    /// Cells a metre.
    pub per_metre: f32,
    /// m/s.
    pub strength: f32,
}

/// Sets the gust noise apart from every other use of the hash.
pub const GUST_SEED: u32 = 0x5715_7a11;

impl Gusts {
    /// Speed added to the steady wind at a point, m/s.
    #[inline(always)]
    pub(crate) fn at(&self, [x, y, z]: [f32; 3]) -> [f32; 3] {
        let [ox, oy, oz] = self.origin;
        let point = [x * self.per_metre - ox, y * self.per_metre - oy, z * self.per_metre - oz];
        let [a, b, c] = gust_noise(point, GUST_SEED);
        [a * self.strength, b * self.strength, c * self.strength]
    }
}
