//! What changes while a crowd runs: its spec and count, single units, and all of its state at once.

use glam::Vec3;

use super::{Crowd, CrowdSpec, CrowdTint, goals, space};
use crate::foundations::change::Change;
use crate::foundations::columns::remove_sorted;
use crate::foundations::edit::ColumnsEdit;
use crate::foundations::error::SpecError;
use crate::foundations::span::Span;
use crate::foundations::state::{SavedState, unfit};
use crate::neighbours::Neighbours;

impl Crowd {
    /// Returns whether a spec differs from the present one only in what [`Crowd::retune`] can change: all but where units start.
    pub fn can_retune(&self, spec: &CrowdSpec) -> bool {
        self.spec.starts_as(spec)
    }

    /// Changes the spec and the count while units live. With another goal all set out anew, from where they are. Of a smaller count those that came last leave;
    /// those that a larger count adds begin at the start.
    ///
    /// # Errors
    /// A value is out of range, memory is short, or something differs that cannot change: see [`Crowd::can_retune`]. The crowd then stays as it is.
    pub fn retune(&mut self, spec: &CrowdSpec, count: u32) -> Result<Change, SpecError> {
        if *spec == self.spec && count == self.count {
            return Ok(Change::Unchanged);
        }
        spec.check(count)?;
        if !self.can_retune(spec) {
            let problem = "differs in what cannot change while they live";
            return Err(SpecError::new("crowd", problem, "build a new one"));
        }
        let near = Neighbours::new(&space(spec))?.tuned(self.level);
        if count > self.count {
            self.reserve(count)?;
        }
        self.near = near;
        let sets_out = spec.goal != self.spec.goal;
        self.spec = spec.clone();
        if sets_out {
            for nth in 0..self.bodies.len() {
                let place = Vec3::new(self.bodies.px[nth], self.bodies.py[nth], self.bodies.pz[nth]);
                let id = self.bodies.id[nth];
                [self.own.gx[nth], self.own.gz[nth]] = goals::first(spec, self.seed, id, place);
                (self.own.leg[nth], self.own.arrived[nth]) = (0, 0.0);
            }
        }
        let (before, there) = (self.count as usize, self.bodies.len());
        self.count = count;
        if count as usize > before {
            (0..count as usize - before).for_each(|_| self.push_next());
        } else if there > count as usize {
            let leave = self.bodies.newest(there - count as usize);
            self.remove_sorted(&leave);
        }
        Ok(Change::Live)
    }

    /// Changes the range of radii, in metres: each unit keeps its part of the range. Radii that were edited are lost.
    pub fn resize(&mut self, size: Span) {
        self.size = size;
        self.bodies.resize_by(size, self.seed);
    }

    /// Takes out units (rising indices), whatever column they are in.
    pub(super) fn remove_sorted(&mut self, dead: &[u32]) {
        self.bodies.remove_sorted(dead);
        self.own.remove_sorted(dead);
        self.before.iter_mut().for_each(|column| remove_sorted(column, dead));
    }

    /// Changes single units: positions, velocities, radii, goals and waiting; it can take some out. Returns what the closure returns.
    ///
    /// # Errors
    /// The closure fails, or a value is out of range. The crowd then stays as it is.
    pub fn edit<R>(
        &mut self,
        change: impl FnOnce(&mut ColumnsEdit<'_>) -> Result<R, SpecError>,
    ) -> Result<R, SpecError> {
        let (mut bodies, mut own) = (self.bodies.clone(), self.own.clone());
        let floats: Vec<(&'static str, &mut [f32])> = vec![
            ("px", &mut bodies.px[..]),
            ("py", &mut bodies.py),
            ("pz", &mut bodies.pz),
            ("vx", &mut bodies.vx),
            ("vz", &mut bodies.vz),
            ("size", &mut bodies.size),
            ("gx", &mut own.gx),
            ("gz", &mut own.gz),
            ("waited", &mut own.waited),
        ];
        let range = |name: &str| match name {
            "size" | "waited" => [0.0, 1e6],
            "vx" | "vz" => [-1e6, 1e6],
            _ => [-1e9, 1e9],
        };
        let (result, mut killed) = ColumnsEdit::make(floats, Vec::new(), range, change)?;
        (self.bodies, self.own) = (bodies, own);
        killed.sort_unstable();
        killed.dedup();
        self.remove_sorted(&killed);
        Ok(result)
    }

    /// Returns its state: all columns, and what it carries from step to step.
    pub fn save(&self) -> SavedState {
        let mut state = SavedState::default();
        state.put_part("bodies", self.bodies.save());
        state.put_part("own", self.own.save());
        state.put_part("integrator", self.integrator.save());
        for (axis, column) in ["bx", "bz"].iter().zip(&self.before) {
            state.put_floats(axis, column);
        }
        if let Some(apart) = &self.apart {
            state.put_part("apart", apart.save());
        }
        state.put("next", &self.next);
        state.put("steps", &self.steps);
        state.put("last", &self.last);
        state
    }

    /// Takes over the state that a crowd of the same spec saved.
    ///
    /// # Errors
    /// The state does not fit the spec. The crowd then stays as it is.
    pub fn restore(&mut self, state: &SavedState) -> Result<(), SpecError> {
        let mut crowd = self.clone();
        state.restore("bodies", |part| crowd.bodies.restore(part))?;
        state.restore("own", |part| crowd.own.restore(part))?;
        state.restore("integrator", |part| crowd.integrator.restore(part))?;
        let len = crowd.bodies.len();
        let fits = |key: &str, is: usize| {
            if is == len { Ok(()) } else { Err(unfit(key, &format!("has {is} values for {len} units"))) }
        };
        fits("own", crowd.own.len())?;
        if len > self.count as usize {
            return Err(unfit("bodies", &format!("are {len} where the spec has {}", self.count)));
        }
        for (axis, column) in ["bx", "bz"].iter().zip(&mut crowd.before) {
            *column = state.floats(axis)?.to_vec();
            fits(axis, column.len())?;
        }
        if let Some(apart) = &mut crowd.apart {
            state.restore("apart", |part| apart.restore(part))?;
        }
        (crowd.next, crowd.steps) = (state.value("next")?, state.value("steps")?);
        crowd.last = state.value("last")?;
        if !crowd.last.is_finite() {
            return Err(unfit("last", "is no number"));
        }
        *self = crowd;
        Ok(())
    }

    /// Writes the tint of every unit, 0 to 1, if its spec has one.
    pub fn tint(&self, into: &mut Vec<f32>) -> bool {
        into.clear();
        let Some(by) = self.spec.tint_by else { return false };
        match by {
            CrowdTint::Speed => {
                let [vx, _, vz] = self.bodies.velocity();
                let top = self.spec.top_speed;
                into.extend(vx.iter().zip(vz).map(|(x, z)| (x.hypot(*z) / top).min(1.0)));
            }
            CrowdTint::Waiting => {
                let long = self.spec.patience * 4.0;
                into.extend(self.own.waited.iter().map(|waited| (waited / long).min(1.0)));
            }
            CrowdTint::Origin => into.extend_from_slice(&self.own.origin),
        }
        true
    }
}
