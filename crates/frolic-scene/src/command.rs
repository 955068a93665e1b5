//! Commands: what a running scene does once.

use frolic_core::Region;
use serde::{Deserialize, Serialize};

/// Something that a running scene does once.
///
/// ```
/// use frolic_core::Meter;
/// use frolic_scene::{Command, Scene, SceneSpec};
/// let mut scene = Scene::new(&SceneSpec::find("beacon")?)?;
/// assert_eq!(scene.command(&Command::burst("embers", 0, 50))?, 50);
/// scene.step(1.0 / 60.0, 1, &mut Meter::new());
/// assert!(scene.particles("embers").unwrap().len() >= 50);
/// assert!(scene.command(&Command::burst("ember", 0, 50)).unwrap_err().to_string().contains("did you mean 'embers'"));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub enum Command {
    /// An emitter emits elements at once, in the next step.
    Burst {
        /// Name of a population of particles.
        population: String,
        /// Index of the emitter.
        emitter: usize,
        /// Number of elements.
        count: u32,
    },
    /// Growing elements in a region are harvested.
    Harvest {
        /// Name of a population of growing elements.
        population: String,
        /// Where.
        region: Region,
        /// Least growth of harvested elements, 0 to 1.
        least: f32,
        /// Whether they are sown anew.
        replant: bool,
    },
    /// Blades rooted in a region are torn off.
    Tear {
        /// Name of a population of blades.
        population: String,
        /// Where.
        region: Region,
    },
    /// A mask is dug.
    Dig {
        /// Name of the obstacle.
        obstacle: String,
        /// Middle, in metres.
        position: [f32; 3],
        /// Radius, in metres.
        radius: f32,
    },
    /// A mask is filled.
    Fill {
        /// Name of the obstacle.
        obstacle: String,
        /// Middle, in metres.
        position: [f32; 3],
        /// Radius, in metres.
        radius: f32,
    },
}

impl Command {
    /// A burst of an emitter, counted from 0.
    pub fn burst(population: &str, emitter: usize, count: u32) -> Self {
        Self::Burst { population: population.to_owned(), emitter, count }
    }

    /// A harvest of all that has at least a growth of `least`, sown anew.
    pub fn harvest(population: &str, region: Region, least: f32) -> Self {
        Self::Harvest { population: population.to_owned(), region, least, replant: true }
    }

    /// Blades torn off.
    pub fn tear(population: &str, region: Region) -> Self {
        Self::Tear { population: population.to_owned(), region }
    }

    /// A mask dug around a position, in metres.
    pub fn dig(obstacle: &str, position: [f32; 3], radius: f32) -> Self {
        Self::Dig { obstacle: obstacle.to_owned(), position, radius }
    }

    /// A mask filled around a position, in metres.
    pub fn fill(obstacle: &str, position: [f32; 3], radius: f32) -> Self {
        Self::Fill { obstacle: obstacle.to_owned(), position, radius }
    }

    /// The population that it is for, and the name of the command.
    pub(crate) fn population(&self) -> Option<(&str, &'static str)> {
        match self {
            Self::Burst { population, .. } => Some((population, "burst")),
            Self::Harvest { population, .. } => Some((population, "harvest")),
            Self::Tear { population, .. } => Some((population, "tear")),
            Self::Dig { .. } | Self::Fill { .. } => None,
        }
    }
}
