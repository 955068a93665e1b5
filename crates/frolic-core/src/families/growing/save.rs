//! Saving and restoring elements that grow.

use serde::{Deserialize, Serialize};

use super::Growing;
use crate::foundations::error::SpecError;
use crate::foundations::state::{SavedState, unfit};

/// State of a cluster.
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
struct ClusterState {
    done: u64,
    visible: bool,
    still: bool,
}

impl Growing {
    /// Returns the state of the elements: how far each has grown. [`Growing::restore`] gives the same bits from then on.
    pub fn save(&self) -> SavedState {
        let mut state = SavedState::default();
        let cluster = |cluster: &super::Cluster| ClusterState {
            done: cluster.done,
            visible: cluster.visible,
            still: cluster.still,
        };
        state.put_numbers("growth", &self.growth);
        state.put("clusters", &self.clusters.iter().map(cluster).collect::<Vec<_>>());
        state.put("steps", &self.steps);
        state.put("time", &self.time);
        state.put("dt", &self.dt);
        state
    }

    /// Takes over a state that elements of the same spec, count and seed saved.
    ///
    /// # Errors
    /// The state is of another spec, or damaged. The elements then stay as they are.
    pub fn restore(&mut self, state: &SavedState) -> Result<(), SpecError> {
        let growth = state.numbers("growth")?;
        if growth.len() != self.growth.len() {
            let problem = format!("has {} values for {} elements", growth.len(), self.growth.len());
            return Err(unfit("growth", &problem));
        }
        let clusters: Vec<ClusterState> = state.list("clusters", self.clusters.len())?;
        let (steps, time): (u64, f64) = (state.value("steps")?, state.value("time")?);
        let dt: f32 = state.value("dt")?;
        let ahead = clusters.iter().any(|cluster| cluster.done > steps);
        if ahead || steps > u64::MAX / 2 || !(dt.is_finite() && dt >= 0.0) {
            return Err(unfit("steps", "are less than a cluster has taken, or their length is negative"));
        }
        self.growth.copy_from_slice(growth);
        for (cluster, &ClusterState { done, visible, still }) in self.clusters.iter_mut().zip(&clusters) {
            (cluster.done, cluster.visible, cluster.still) = (done, visible, still);
        }
        (self.steps, self.time, self.dt) = (steps, time, dt);
        Ok(())
    }
}
