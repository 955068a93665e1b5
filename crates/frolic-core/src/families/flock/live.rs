//! What changes while a flock runs: its spec and count, single elements, and all of its state at once.

use super::hunt::Hunters;
use super::targets::{Targets, Walls};
use super::{Differ, Flock, FlockSpec, Space, TintSpec, motion, space};
use crate::assets::Assets;
use crate::foundations::change::Change;
use crate::foundations::columns::remove_sorted;
use crate::foundations::edit::ColumnsEdit;
use crate::foundations::error::SpecError;
use crate::foundations::span::Span;
use crate::foundations::state::{SavedState, unfit};
use crate::neighbours::Neighbours;

impl Flock {
    /// Returns whether a spec differs from the present one only in what [`Flock::retune`] can change: all but where elements start, and the plane that
    /// they stay in.
    pub fn can_retune(&self, spec: &FlockSpec) -> bool {
        self.spec.starts_as(spec)
    }

    /// Changes the spec and the count while elements live. Of a smaller count those that came last leave; those that a larger count adds begin at the start.
    ///
    /// # Errors
    /// A value is out of range, an asset is missing, memory is short, or something differs that cannot change: see [`Flock::can_retune`]. The flock then
    /// stays as it is.
    pub fn retune(&mut self, spec: &FlockSpec, count: u32, assets: &Assets) -> Result<Change, SpecError> {
        if *spec == self.spec && count == self.count {
            return Ok(Change::Unchanged);
        }
        spec.check(count)?;
        if !self.can_retune(spec) {
            let problem = "differs in what cannot change while they live";
            return Err(SpecError::new("flock", problem, "build a new one"));
        }
        let targets = Targets::new(spec, assets)?;
        let walls = spec.within.as_ref().map(|within| Walls::new(within, assets)).transpose()?;
        let near = Neighbours::new(&space(spec))?.tuned(self.level);
        if count != self.count {
            self.reserve(count)?;
        }
        self.integrator.retune(&motion(spec))?;
        (self.targets, self.walls, self.near) = (targets, walls, near);
        self.hunters = match (self.hunters.take(), &spec.hunt) {
            (Some(mut hunters), Some(hunt)) => {
                hunters.retune(hunt);
                Some(hunters)
            }
            (None, Some(hunt)) => {
                let mut hunters = Hunters::new(hunt);
                (0..self.bodies.len()).for_each(|_| hunters.push());
                Some(hunters)
            }
            (_, None) => None,
        };
        self.differ = self.differ.or(Differ::of(spec));
        self.spec = spec.clone();
        if count != self.count {
            let (before, there) = (self.count as usize, self.bodies.len());
            self.count = count;
            if count as usize > before {
                (0..count as usize - before).for_each(|_| self.push_next());
            } else if there > count as usize {
                let leave = self.bodies.newest(there - count as usize);
                self.remove_sorted(&leave);
            }
        }
        Ok(Change::Live)
    }

    /// Changes the range of sizes, in metres: each element keeps its part of the range. Sizes that were edited are lost.
    pub fn resize(&mut self, size: Span) {
        self.size = size;
        self.bodies.resize_by(size, self.seed);
    }

    /// Takes out elements (rising indices), whatever column they are in.
    pub(super) fn remove_sorted(&mut self, dead: &[u32]) {
        self.bodies.remove_sorted(dead);
        self.own.remove_sorted(dead);
        self.before.iter_mut().for_each(|column| remove_sorted(column, dead));
        if let Some(hunters) = &mut self.hunters {
            hunters.remove_sorted(dead);
        }
        if let Some(trail) = &mut self.trail {
            trail.remove(dead);
        }
    }

    /// Lets a closure change positions, velocities, sizes, alarm and bank, and take out elements. Returns what the closure returns.
    ///
    /// # Errors
    /// The closure fails, or a value is out of range. The flock then stays as it is.
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
            ("vy", &mut bodies.vy),
            ("vz", &mut bodies.vz),
            ("size", &mut bodies.size),
            ("alarm", &mut own.alarm),
            ("bank", &mut own.bank),
        ];
        let range = |name: &str| match name {
            "size" => [0.0, 1e6],
            "alarm" => [0.0, 1.0],
            "bank" => [-1.6, 1.6],
            "px" | "py" | "pz" => [-1e9, 1e9],
            _ => [-1e6, 1e6],
        };
        let (result, mut killed) = ColumnsEdit::make(floats, Vec::new(), range, change)?;
        (self.bodies, self.own) = (bodies, own);
        self.differ = Differ::ALL;
        killed.sort_unstable();
        killed.dedup();
        self.caught.clear();
        self.remove_sorted(&killed);
        Ok(result)
    }

    /// Returns its state: all columns, and what it carries from step to step.
    pub fn save(&self) -> SavedState {
        let mut state = SavedState::default();
        state.put_part("bodies", self.bodies.save());
        state.put_part("own", self.own.save());
        state.put_part("integrator", self.integrator.save());
        for (axis, column) in ["bx", "by", "bz"].iter().zip(&self.before) {
            state.put_floats(axis, column);
        }
        if let Some(hunters) = &self.hunters {
            state.put_floats("rest", &hunters.rest);
            state.put_numbers("quarry", &hunters.quarry);
        }
        if let Some(trail) = &self.trail {
            state.put_part("trail", trail.save());
        }
        if let Some(apart) = &self.apart {
            state.put_part("apart", apart.save());
        }
        state.put_numbers("caught", &self.caught);
        state.put("owed", &self.owed);
        state.put("next", &self.next);
        state.put("steps", &self.steps);
        state.put("last", &self.last);
        state.put("middle", &self.middle);
        state
    }

    /// Takes over the state that a flock of the same spec saved.
    ///
    /// # Errors
    /// The state does not fit the spec. The flock then stays as it is.
    pub fn restore(&mut self, state: &SavedState) -> Result<(), SpecError> {
        let mut flock = self.clone();
        state.restore("bodies", |part| flock.bodies.restore(part))?;
        state.restore("own", |part| flock.own.restore(part))?;
        state.restore("integrator", |part| flock.integrator.restore(part))?;
        let len = flock.bodies.len();
        let fits = |key: &str, is: usize| {
            if is == len { Ok(()) } else { Err(unfit(key, &format!("has {is} values for {len} elements"))) }
        };
        fits("own", flock.own.len())?;
        if len > self.count as usize {
            return Err(unfit("bodies", &format!("are {len} where the spec has {}", self.count)));
        }
        for (axis, column) in ["bx", "by", "bz"].iter().zip(&mut flock.before) {
            *column = state.floats(axis)?.to_vec();
            fits(axis, column.len())?;
        }
        if let Some(hunters) = &mut flock.hunters {
            (hunters.rest, hunters.quarry) =
                (state.floats("rest")?.to_vec(), state.numbers("quarry")?.to_vec());
            fits("rest", hunters.rest.len())?;
            fits("quarry", hunters.quarry.len())?;
        }
        if let Some(trail) = &mut flock.trail {
            state.restore("trail", |part| trail.restore(part, len))?;
        }
        if let Some(apart) = &mut flock.apart {
            state.restore("apart", |part| apart.restore(part))?;
        }
        flock.caught = state.numbers("caught")?.to_vec();
        (flock.owed, flock.next) = (state.value("owed")?, state.value("next")?);
        (flock.steps, flock.last) = (state.value("steps")?, state.value("last")?);
        flock.middle = state.value("middle")?;
        if !flock.owed.is_finite() || !flock.last.is_finite() {
            return Err(unfit("owed", "is no number"));
        }
        flock.differ = Differ::ALL;
        *self = flock;
        Ok(())
    }

    /// Writes the tint of every element, 0 to 1, if its spec has one.
    pub fn tint(&self, into: &mut Vec<f32>) -> bool {
        into.clear();
        let Some(by) = self.spec.tint_by else { return false };
        let share = |value: f32, [least, most]: [f32; 2]| {
            ((value - least) / (most - least).max(1e-9)).clamp(0.0, 1.0)
        };
        match by {
            TintSpec::Speed => {
                let [vx, vy, vz] = self.bodies.velocity();
                let all = vx.iter().zip(vy).zip(vz);
                let speed = all.map(|((x, y), z)| (x * x + y * y + z * z).sqrt());
                into.extend(speed.map(|speed| share(speed, self.spec.speed_limits)));
            }
            TintSpec::Density(range) => {
                into.extend(self.own.around.iter().map(|around| share(*around, range)));
            }
            TintSpec::Alarm => into.extend_from_slice(&self.own.alarm),
            TintSpec::Rule => into.extend_from_slice(&self.own.rule),
            TintSpec::State => {
                let state = |nth| self.hunters.as_ref().map_or(0.0, |hunters| hunters.state(nth));
                into.extend((0..self.bodies.len()).map(state));
            }
        }
        true
    }

    /// Whether its space begins again at its sides.
    pub(super) fn wraps(&self) -> bool {
        matches!(self.spec.within, Some(Space::Wrapping { .. }))
    }
}
