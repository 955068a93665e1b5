//! Changing static instances.

use super::FixedInstances;
use crate::foundations::edit::ColumnsEdit;
use crate::foundations::error::SpecError;

impl FixedInstances {
    /// Changes elements by columns: `px`, `py`, `pz`, `turn`, `tilt`, `rate`, `size`, and `tint` where places were read from a file. A swaying element that
    /// is moved sways about its new place; one that follows a pusher returns to it in the next step. A killed element has size 0. Costs a copy of all
    /// columns.
    ///
    /// ```
    /// use frolic_core::{FixedInstances, FixedSpec, LineSpec, Span};
    /// let line = LineSpec::new([0.0, 2.0, 0.0], [10.0, 2.0, 0.0], 0.0);
    /// let mut flags = FixedInstances::new(&FixedSpec::hung([line], None), 20, Span::from(0.1), 1)?;
    /// flags.edit(|edit| {
    ///     edit.floats(["py"])?[0].iter_mut().for_each(|y| *y += 1.0);
    ///     edit.kill(3);
    ///     Ok(())
    /// })?;
    /// assert_eq!(flags.columns().py()[0], 3.0);
    /// assert_eq!(flags.columns().size()[3], 0.0);
    /// # Ok::<(), frolic_core::SpecError>(())
    /// ```
    ///
    /// # Errors
    /// As the closure; or a value is out of range: positions to ±1e9, `turn`, `tilt` and `rate` to ±1e4, `size` 0 to 1e4, `tint` 0 to 1. The elements
    /// then stay as they are.
    pub fn edit<R>(
        &mut self,
        change: impl FnOnce(&mut ColumnsEdit<'_>) -> Result<R, SpecError>,
    ) -> Result<R, SpecError> {
        let (before, tint) = (self.columns.clone(), self.tint.clone());
        let columns = &mut self.columns;
        let mut floats: Vec<(&'static str, &mut [f32])> = vec![
            ("px", &mut columns.px),
            ("py", &mut columns.py),
            ("pz", &mut columns.pz),
            ("turn", &mut columns.turn),
            ("tilt", &mut columns.tilt),
            ("rate", &mut columns.rate),
            ("size", &mut columns.size),
        ];
        if !self.tint.is_empty() {
            floats.push(("tint", &mut self.tint));
        }
        let range = |name: &str| match name {
            "px" | "py" | "pz" => [-1e9, 1e9],
            "size" => [0.0, 1e4],
            "tint" => [0.0, 1.0],
            _ => [-1e4, 1e4],
        };
        let (result, killed) = match ColumnsEdit::make(floats, Vec::new(), range, change) {
            Ok(done) => done,
            Err(error) => {
                (self.columns, self.tint) = (before, tint);
                return Err(error);
            }
        };
        for nth in killed {
            self.columns.size[nth as usize] = 0.0;
        }
        for (rest, (now, was)) in
            self.rest.iter_mut().zip(self.columns.position().iter().zip(before.position()))
        {
            for (rest, (now, was)) in
                rest.iter_mut().zip(now.iter().zip(was)).filter(|(_, (now, was))| now != was)
            {
                *rest += now - was;
            }
        }
        Ok(result)
    }
}
