//! Changing elements that grow.

use super::Growing;
use crate::foundations::edit::ColumnsEdit;
use crate::foundations::error::SpecError;

/// Growth of an empty place, as an edit shows it.
const EMPTY: f32 = -1.0;

fn shown(growth: u32) -> f32 {
    if growth == 0 { EMPTY } else { (f64::from(growth) / f64::from(u32::MAX)) as f32 }
}

fn kept(shown: f32) -> u32 {
    if shown < 0.0 { 0 } else { ((f64::from(shown) * f64::from(u32::MAX)) as u32).max(1) }
}

impl Growing {
    /// Changes elements, visible or not, by the column `growth`: 0 to 1, and -1 for an empty place. A value from 0 on in an empty place sows it; a killed
    /// element leaves its place empty. Where elements are is decided by their clusters. Costs 8 bytes an element for the time of the call.
    ///
    /// ```
    /// use frolic_core::{GrowSpec, Growing, PlacementSpec, Span};
    /// let spec = GrowSpec::new(PlacementSpec::default(), 100, PlacementSpec::default());
    /// let mut beds = Growing::new(&spec, 1_000, Span::from(0.1), 3)?;
    /// beds.edit(|edit| {
    ///     edit.floats(["growth"])?[0].fill(0.5);
    ///     edit.kill(7);
    ///     Ok(())
    /// })?;
    /// assert!((beds.growth(6).unwrap() - 0.5).abs() < 1e-6);
    /// assert_eq!(beds.growth(7), None);
    /// # Ok::<(), frolic_core::SpecError>(())
    /// ```
    ///
    /// # Errors
    /// As the closure, or a value is out of range. The elements then stay as they are.
    pub fn edit<R>(
        &mut self,
        change: impl FnOnce(&mut ColumnsEdit<'_>) -> Result<R, SpecError>,
    ) -> Result<R, SpecError> {
        // Hidden clusters take the steps that they have missed.
        self.catch_up(|_, _| true);
        let before: Vec<f32> = self.growth.iter().map(|&growth| shown(growth)).collect();
        let mut growth = before.clone();
        let floats: Vec<(&'static str, &mut [f32])> = vec![("growth", &mut growth)];
        let (result, killed) = ColumnsEdit::make(floats, Vec::new(), |_| [EMPTY, 1.0], change)?;
        for nth in killed {
            growth[nth as usize] = EMPTY;
        }
        for cluster in &mut self.clusters {
            for nth in cluster.first as usize..(cluster.first + cluster.len) as usize {
                // What was not changed keeps its bits.
                if growth[nth] != before[nth] {
                    self.growth[nth] = kept(growth[nth]);
                    cluster.still = false;
                }
            }
        }
        Ok(result)
    }
}
