//! Specs of growing populations.

use derive_setters::Setters;
use serde::{Deserialize, Serialize};

use crate::foundations::error::{SpecError, each, vector_within, within};
use crate::foundations::span::Span;
use crate::placement::{PlacementSpec, check_layers};
use crate::world::events::Region;

/// Elements that grow in place, in clusters: a few layouts, each used at many places. An element is its growth alone, four bytes; its
/// position follows from its cluster and layout.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct GrowSpec {
    /// Placement of elements within a cluster, around its origin. Default: scattered over 10 m by 10 m.
    pub cluster: PlacementSpec,
    /// Elements of a cluster, 1 to 65536. Default: 1024.
    pub per_cluster: u32,
    /// Number of different layouts, 1 to 64. Default: 4.
    pub layouts: u32,
    /// Placement of clusters, in at most 16 layers. Default: one, scattered over 10 m by 10 m.
    #[setters(into)]
    pub placement: Vec<PlacementSpec>,
    /// Several clusters at each place, in a row. Default: one cluster.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(skip)]
    pub stack: Option<StackSpec>,
    /// Time from seed to full size in seconds, 0.01 to 1e7, random for each element. Default: 20 to 60.
    #[setters(skip)]
    pub seconds: Span,
    /// Growth at the start, 0 (seed) to 1 (full size). Default: 0.
    #[setters(skip)]
    pub start: Span,
    /// Share of places that are empty at the start, 0 to 1. Default: 0.
    pub bare: f32,
    /// Number of steps in which each hidden cluster is stepped once, 1 to 4096; it then takes its missed steps. Default: 16.
    pub rotation: u32,
    /// Harvests, at most 64. Default: none.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[setters(skip)]
    pub harvest: Vec<HarvestSpec>,
}

/// Several clusters at one place, in a row.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct StackSpec {
    /// Number of clusters, 1 to 4096.
    pub count: u32,
    /// Offset from one to the next, in metres.
    pub step: [f32; 3],
}

/// A harvest: it removes the elements of a region.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct HarvestSpec {
    /// Region.
    pub region: Region,
    /// Time in seconds after the start, 0 to 1e9.
    pub at: f32,
    /// Time between harvests in seconds, 0.01 to 1e9. Default: one harvest only.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(skip)]
    pub every: Option<f32>,
    /// Least growth of harvested elements, 0 to 1. Default: 0, all.
    #[serde(default)]
    pub least: f32,
    /// Whether the places are sown again at once. Default: yes.
    #[serde(default = "yes")]
    pub replant: bool,
}

fn yes() -> bool {
    true
}

impl StackSpec {
    /// A number of clusters, with the offset between them in metres.
    pub fn new(count: u32, step: [f32; 3]) -> Self {
        Self { count, step }
    }
}

impl HarvestSpec {
    /// All elements of a region at a time, in seconds, sown again at once.
    pub fn new(region: Region, at: f32) -> Self {
        Self { region, at, every: None, least: 0.0, replant: true }
    }

    /// Repeats it with this period, in seconds.
    pub fn every(self, every: f32) -> Self {
        Self { every: Some(every), ..self }
    }

    fn check(&self) -> Result<(), SpecError> {
        self.region.check()?;
        within("at", self.at, 0.0, 1e9, "s")?;
        self.every.map_or(Ok(()), |every| within("every", every, 0.01, 1e9, "s"))?;
        within("least", self.least, 0.0, 1.0, "")
    }

    /// Returns whether it is due in a step between two times, in seconds.
    pub(super) fn is_due(&self, from: f64, to: f64) -> bool {
        let at = f64::from(self.at);
        match self.every {
            None => (from..to).contains(&at),
            Some(every) => {
                let count = |time: f64| ((time - at) / f64::from(every)).ceil().max(0.0);
                count(to) > count(from)
            }
        }
    }
}

impl Default for GrowSpec {
    fn default() -> Self {
        Self {
            cluster: PlacementSpec::default(),
            per_cluster: 1024,
            layouts: 4,
            placement: vec![PlacementSpec::default()],
            stack: None,
            seconds: Span::new(20.0, 60.0),
            start: Span::from(0.0),
            bare: 0.0,
            rotation: 16,
            harvest: Vec::new(),
        }
    }
}

/// Most elements of a cluster.
const MOST_PER_CLUSTER: f32 = 65_536.0;

impl GrowSpec {
    /// Clusters with this placement and number of elements, placed by `clusters`.
    pub fn new(cluster: PlacementSpec, per_cluster: u32, placement: PlacementSpec) -> Self {
        Self { cluster, per_cluster, placement: vec![placement], ..Self::default() }
    }

    /// Sets the range of the time from seed to full size, in seconds.
    pub fn seconds(self, least: f32, most: f32) -> Self {
        Self { seconds: Span::new(least, most), ..self }
    }

    /// Sets the range of growth at the start.
    pub fn start(self, least: f32, most: f32) -> Self {
        Self { start: Span::new(least, most), ..self }
    }

    /// Sets the stacks.
    pub fn stack(self, stack: StackSpec) -> Self {
        Self { stack: Some(stack), ..self }
    }

    /// Adds a harvest.
    pub fn harvest(mut self, harvest: HarvestSpec) -> Self {
        self.harvest.push(harvest);
        self
    }

    /// Checks that every value is in range.
    ///
    /// # Errors
    /// Names the first key that is out of range.
    pub fn check(&self) -> Result<(), SpecError> {
        self.cluster.check().map_err(|error| error.under("cluster"))?;
        within("per_cluster", self.per_cluster as f32, 1.0, MOST_PER_CLUSTER, "elements")?;
        within("layouts", self.layouts as f32, 1.0, 64.0, "")?;
        check_layers("placement", &self.placement)?;
        if let Some(stack) = &self.stack {
            within("stack.count", stack.count as f32, 1.0, 4096.0, "")?;
            vector_within("stack.step", stack.step, 1e5, "m")?;
        }
        self.seconds.check("seconds", 0.01, 1e7, "s")?;
        self.start.check("start", 0.0, 1.0, "")?;
        within("bare", self.bare, 0.0, 1.0, "")?;
        within("rotation", self.rotation as f32, 1.0, 4096.0, "steps")?;
        each("harvest", &self.harvest, 64, HarvestSpec::check)
    }
}
