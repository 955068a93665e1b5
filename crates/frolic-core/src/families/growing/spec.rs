//! How a population that grows is described.

use derive_setters::Setters;
use serde::{Deserialize, Serialize};

use crate::foundations::error::{SpecError, each, vector_within, within};
use crate::foundations::span::Span;
use crate::placement::{PlacementSpec, check_layers};
use crate::world::events::Region;

/// Elements that grow where they stand, in clusters: a few layouts, each put at many places. An element is its growth alone, four bytes; where it
/// stands follows from its cluster and layout.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct GrowSpec {
    /// What stands in a cluster, around its own origin. Default scattered over 10 m by 10 m.
    pub cluster: PlacementSpec,
    /// Elements of a cluster, 1 to 65536. Default 1024.
    pub per_cluster: u32,
    /// Different clusters, 1 to 64. Default 4.
    pub layouts: u32,
    /// Where clusters are put: layers, at most 16. Default one, scattered over 10 m by 10 m.
    #[setters(into)]
    pub placement: Vec<PlacementSpec>,
    /// Several clusters at each place, one after the other. Default one.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(skip)]
    pub stack: Option<StackSpec>,
    /// Time from seed to full size, s, 0.01 to 1e7, each its own. Default 20 to 60.
    #[setters(skip)]
    pub seconds: Span,
    /// How grown they are at the start, 0 (seed) to 1 (full size). Default 0.
    #[setters(skip)]
    pub start: Span,
    /// Share of those places that are empty at the start, 0 to 1. Default 0.
    pub bare: f32,
    /// Clusters out of view are stepped once in so many steps, 1 to 4096, with the time made up. Default 16.
    pub rotation: u32,
    /// What is taken out, and when, at most 64. Default nothing.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[setters(skip)]
    pub harvest: Vec<HarvestSpec>,
}

/// Clusters at one place, one after the other.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct StackSpec {
    /// How many, 1 to 4096.
    pub count: u32,
    /// From one to the next, m.
    pub step: [f32; 3],
}

/// Something that is taken out of a region.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct HarvestSpec {
    /// Where.
    pub region: Region,
    /// When, s after the start, 0 to 1e9.
    pub at: f32,
    /// Time from one harvest to the next, s, 0.01 to 1e9. Default once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(skip)]
    pub every: Option<f32>,
    /// Least growth that is taken, 0 to 1: what is smaller is left. Default 0: all.
    #[serde(default)]
    pub least: f32,
    /// Whether it is sown anew at once. Default yes.
    #[serde(default = "yes")]
    pub replant: bool,
}

fn yes() -> bool {
    true
}

impl StackSpec {
    /// So many, a step apart, m.
    pub fn new(count: u32, step: [f32; 3]) -> Self {
        Self { count, step }
    }
}

impl HarvestSpec {
    /// All of a region at a time, s, sown anew at once.
    pub fn new(region: Region, at: f32) -> Self {
        Self { region, at, every: None, least: 0.0, replant: true }
    }

    /// The same again and again, so many s apart.
    pub fn every(self, every: f32) -> Self {
        Self { every: Some(every), ..self }
    }

    fn check(&self) -> Result<(), SpecError> {
        self.region.check()?;
        within("at", self.at, 0.0, 1e9, "s")?;
        self.every.map_or(Ok(()), |every| within("every", every, 0.01, 1e9, "s"))?;
        within("least", self.least, 0.0, 1.0, "")
    }

    /// Whether it is due in a step from one time to another, s.
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
    /// Clusters of so many that stand like this, put like that.
    pub fn new(cluster: PlacementSpec, per_cluster: u32, placement: PlacementSpec) -> Self {
        Self { cluster, per_cluster, placement: vec![placement], ..Self::default() }
    }

    /// The same that take so long from seed to full size, s.
    pub fn seconds(self, least: f32, most: f32) -> Self {
        Self { seconds: Span::new(least, most), ..self }
    }

    /// The same that are so far grown at the start.
    pub fn start(self, least: f32, most: f32) -> Self {
        Self { start: Span::new(least, most), ..self }
    }

    /// The same in stacks.
    pub fn stack(self, stack: StackSpec) -> Self {
        Self { stack: Some(stack), ..self }
    }

    /// The same of which something is taken.
    pub fn harvest(mut self, harvest: HarvestSpec) -> Self {
        self.harvest.push(harvest);
        self
    }

    /// Whether every value is in range.
    ///
    /// # Errors
    /// Names the first key that is not.
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
