//! What is written of a crowd: plain data, checked before use.

use derive_setters::Setters;
use serde::{Deserialize, Serialize};

use crate::foundations::error::{SpecError, direction, vector_within, within};
use crate::foundations::span::Span;
use crate::placement::ShapeSpec;

/// Units that each go to a goal on the ground (x and z) and avoid each other and the obstacles of the world.
///
/// The size of an element is the radius of the disc that it keeps to itself.
///
/// ```
/// use frolic_core::{CrowdSpec, GoalSpec};
/// let crowd = CrowdSpec::default().goal(GoalSpec::Point([20.0, 0.0, 0.0]));
/// assert!(crowd.check(1_000).is_ok());
/// ```
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct CrowdSpec {
    /// Middle of where they start, in metres. Default: the origin.
    pub position: [f32; 3],
    /// Shape in which they start. Default: a box of 10 by 10 m. Those that would overlap part in the first steps.
    pub start: ShapeSpec,
    /// Where they go. Default: nowhere; they stand, and step aside.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub goal: Option<GoalSpec>,
    /// Distance at which a goal is reached, in metres, 0 to 1e4. Default: 0.5.
    pub close: f32,
    /// Speed of a unit alone, in m/s, 0 to 1000. Each takes its own from the range. Default: 1.1 to 1.5.
    #[setters(into)]
    pub cruise: Span,
    /// Greatest speed, in m/s, 0.001 to 1000. Default: 2.
    pub top_speed: f32,
    /// Greatest acceleration, in m/s², 0.001 to 1e6. Default: 8.
    pub acceleration: f32,
    /// Greatest turn, in degrees a second, 1 to 1e6. Default: 540.
    pub turn_degrees: f32,
    /// How they avoid each other. Default: `velocities`.
    pub avoidance: AvoidanceTechnique,
    /// Time ahead in which collisions with other units are avoided, in seconds, 0.05 to 100. Default: 2.5.
    pub look_ahead: f32,
    /// Time ahead in which collisions with obstacles are avoided, in seconds, 0.05 to 100. Default: 0.6.
    pub look_ahead_walls: f32,
    /// Greatest distance of units that are avoided, from middle to middle, in metres, 0.01 to 1e4. Default: 4.
    pub sight: f32,
    /// Number of nearest units in sight that are avoided, 1 to 16. Default: 10.
    pub heeds: u32,
    /// Priority: of two units, the one with the lower priority turns aside farther, 0.001 to 1000. Each takes its own from the range. Default: 1.
    #[setters(into)]
    pub priority: Span,
    /// Waiting time after which a unit has the full advantage of waiting, in seconds, 0.01 to 1e6. Its priority grows with the waiting time, so that at a door one goes first. Default: 4.
    pub patience: f32,
    /// What colours them: their tint runs over this. Default: their random numbers.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub tint_by: Option<CrowdTint>,
    /// Most candidates that are looked at for a group of eight units, 64 to 1e6: of more, evenly spaced ones are looked at. Default: 512.
    pub most: u32,
}

/// Where the units of a crowd go.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub enum GoalSpec {
    /// All to one point, in metres.
    Point([f32; 3]),
    /// Each to a place of its own in a box.
    Area {
        /// Middle of the box, in metres.
        position: [f32; 3],
        /// Full lengths of its sides, in metres, 0 to 1e6.
        size: [f32; 3],
    },
    /// From point to point.
    Path {
        /// The points, in metres, 1 to 1024.
        points: Vec<[f32; 3]>,
        /// Whether the first follows the last. Default: false; they end there.
        #[serde(default)]
        again: bool,
    },
    /// Each to the other side of this point, as far from it as it starts.
    Across([f32; 3]),
    /// On and on, in a direction of any length.
    Direction([f32; 3]),
}

/// How the units of a crowd avoid each other.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum AvoidanceTechnique {
    /// The velocity nearest to the preferred one that leads to no collision for some seconds, if all units choose alike: van den Berg, Guy, Lin and Manocha, "Reciprocal
    /// n-Body Collision Avoidance", 2011.
    #[default]
    Velocities,
    /// Forces away from near units: Helbing and Molnár, "Social Force Model for Pedestrian Dynamics", 1995. Cheaper, with some overlaps.
    Forces,
}

/// What the tint of units runs over, from 0 to 1.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum CrowdTint {
    /// Speed, up to the greatest.
    Speed,
    /// Waiting time, up to four times the patience.
    Waiting,
    /// Direction of their start from its middle: once around through all tints.
    Origin,
}

/// Most neighbours that a unit makes way for.
pub(super) const MOST_HEEDED: usize = 16;

impl Default for CrowdSpec {
    fn default() -> Self {
        Self {
            position: [0.0; 3],
            start: ShapeSpec::Box { size: [10.0, 0.0, 10.0] },
            goal: None,
            close: 0.5,
            cruise: Span::new(1.1, 1.5),
            top_speed: 2.0,
            acceleration: 8.0,
            turn_degrees: 540.0,
            avoidance: AvoidanceTechnique::default(),
            look_ahead: 2.5,
            look_ahead_walls: 0.6,
            sight: 4.0,
            heeds: 10,
            priority: Span::from(1.0),
            patience: 4.0,
            tint_by: None,
            most: 512,
        }
    }
}

impl CrowdSpec {
    /// Whether units start alike: what cannot change while they live.
    pub fn starts_as(&self, other: &Self) -> bool {
        (&self.position, &self.start) == (&other.position, &other.start)
    }

    /// Checks that all values are in range, for a number of units.
    ///
    /// # Errors
    /// Names the first key that cannot be used.
    pub fn check(&self, count: u32) -> Result<(), SpecError> {
        vector_within("position", self.position, 1e6, "m")?;
        self.start.check().map_err(|error| error.renamed("shape", "start"))?;
        self.goal.as_ref().map_or(Ok(()), |goal| goal.check().map_err(|error| error.under("goal")))?;
        within("close", self.close, 0.0, 1e4, "m")?;
        self.cruise.check("cruise", 0.0, 1e3, "m/s")?;
        within("top_speed", self.top_speed, 1e-3, 1e3, "m/s")?;
        within("acceleration", self.acceleration, 1e-3, 1e6, "m/s²")?;
        within("turn_degrees", self.turn_degrees, 1.0, 1e6, "degrees a second")?;
        within("look_ahead", self.look_ahead, 0.05, 100.0, "s")?;
        within("look_ahead_walls", self.look_ahead_walls, 0.05, 100.0, "s")?;
        within("sight", self.sight, 0.01, 1e4, "m")?;
        within("heeds", self.heeds as f32, 1.0, MOST_HEEDED as f32, "neighbours")?;
        self.priority.check("priority", 1e-3, 1e3, "")?;
        within("patience", self.patience, 0.01, 1e6, "s")?;
        within("most", self.most as f32, 64.0, 1e6, "")?;
        crate::foundations::columns::fits(u64::from(count), super::BYTES)
    }
}

impl GoalSpec {
    fn check(&self) -> Result<(), SpecError> {
        match self {
            Self::Point(at) => vector_within("point", *at, 1e6, "m"),
            Self::Across(at) => vector_within("across", *at, 1e6, "m"),
            Self::Area { position, size } => {
                vector_within("area.position", *position, 1e6, "m")?;
                size.iter().try_for_each(|side| within("area.size", *side, 0.0, 1e6, "m"))
            }
            Self::Path { points, .. } => {
                if !(1..=1024).contains(&points.len()) {
                    let problem = format!("{} points", points.len());
                    return Err(SpecError::new("path.points", problem, "write 1 to 1024 points"));
                }
                points.iter().try_for_each(|at| vector_within("path.points", *at, 1e6, "m"))
            }
            Self::Direction(way) => {
                direction("direction", *way)?;
                if way[0] == 0.0 && way[2] == 0.0 {
                    let problem = "points straight up or down";
                    return Err(SpecError::new("direction", problem, "write one along the ground"));
                }
                Ok(())
            }
        }
    }
}
