//! Changing the elements of a running population.

use super::{Particles, Storage};
use crate::foundations::edit::ColumnsEdit;
use crate::foundations::error::SpecError;

impl Particles {
    /// Changes elements: moves, wraps, slows, recolours or ends them, by columns. The columns `px`, `py`, `pz`, `vx`, `vy`, `vz`, `age`, `life` and `size`
    /// can be changed, and `key`, by which tints and textures are drawn. Elements keep their places in the columns. A trail goes with an element
    /// that is moved, so that one that is wrapped draws no line across the picture. Costs a copy of all columns.
    ///
    /// ```
    /// use frolic_core::{EmitterSpec, Meter, ParticleSpec, Particles, WorldSpec};
    /// let spec = ParticleSpec::new(100).emitter(EmitterSpec::burst(100, 0.0).speed(5.0, 9.0));
    /// let mut dust = Particles::new(&spec, 1)?;
    /// dust.step(&WorldSpec::default().build()?, 0.1, 5, &mut Meter::new());
    /// // Whatever leaves a box of 4 m comes in again at the other side.
    /// dust.edit(|edit| {
    ///     for axis in edit.floats(["px", "py", "pz"])? {
    ///         axis.iter_mut().for_each(|at| *at = (*at + 2.0).rem_euclid(4.0) - 2.0);
    ///     }
    ///     Ok(())
    /// })?;
    /// assert!(dust.columns().px().iter().all(|x| x.abs() <= 2.0));
    /// # Ok::<(), frolic_core::SpecError>(())
    /// ```
    ///
    /// # Errors
    /// As the closure; or a value is out of range: positions and velocities to ±1e9, `age`, `life` and `size` from 0. The population then stays as it
    /// is.
    pub fn edit<R>(
        &mut self,
        change: impl FnOnce(&mut ColumnsEdit<'_>) -> Result<R, SpecError>,
    ) -> Result<R, SpecError> {
        let held = &mut self.held;
        if held.storage == Storage::Objects {
            held.records.gather(&mut held.columns);
        }
        let before = held.columns.clone();
        let columns = &mut held.columns;
        let floats: Vec<(&'static str, &mut [f32])> = vec![
            ("px", &mut columns.px),
            ("py", &mut columns.py),
            ("pz", &mut columns.pz),
            ("vx", &mut columns.vx),
            ("vy", &mut columns.vy),
            ("vz", &mut columns.vz),
            ("age", &mut columns.age),
            ("life", &mut columns.life),
            ("size", &mut columns.size),
        ];
        let numbers: Vec<(&'static str, &mut [u32])> = vec![("key", &mut columns.key)];
        let range = |name: &str| match name {
            "age" => [0.0, 1e9],
            // Some never die of age.
            "life" => [0.0, f32::INFINITY],
            "size" => [0.0, 1e4],
            _ => [-1e9, 1e9],
        };
        let (result, killed) = match ColumnsEdit::make(floats, numbers, range, change) {
            Ok(done) => done,
            Err(error) => {
                held.columns = before;
                return Err(error);
            }
        };
        for nth in killed {
            // The next step finds it to be of age, and lets its events happen.
            let nth = nth as usize;
            held.columns.life[nth] = held.columns.age[nth];
        }
        if let Some(trail) = &mut held.trail {
            trail.follow_moves(before.position(), held.columns.position());
        }
        if held.storage == Storage::Objects {
            for nth in 0..held.columns.len() {
                if let Some(row) = held.columns.row(nth) {
                    *held.records.row_mut(nth) = row;
                }
            }
        }
        // The next step finds elements at rest again.
        held.aside.count = 0;
        Ok(result)
    }
}
