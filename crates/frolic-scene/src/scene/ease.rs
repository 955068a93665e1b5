//! Changing keys gradually, while a scene runs.

use frolic_core::{Counter, Meter, SpecError};
use serde::{Deserialize, Serialize};
use toml::Value;

use crate::error::SceneError;
use crate::families::RetuneContext;
use crate::spec::SceneSpec;

use super::Scene;
use super::apply::Versions;

/// A key on its way to another value.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(super) struct Ease {
    /// Path of the key, as [`SceneSpec::set`] takes it.
    path: String,
    from: Value,
    to: Value,
    /// Simulated time of its start, and its duration, in seconds.
    start: f64,
    seconds: f64,
}

impl Ease {
    /// Returns whether times are those of a running scene.
    pub(super) fn is_sound(&self) -> bool {
        self.start.is_finite() && self.seconds.is_finite() && self.seconds > 0.0
    }

    /// Returns the value at a time, and whether that is the last.
    fn at(&self, time: f64) -> (Value, bool) {
        let share = ((time - self.start) / self.seconds).clamp(0.0, 1.0);
        // Without a jump of speed at either end.
        let smooth = share * share * (3.0 - 2.0 * share);
        let value = if share < 1.0 { blend(&self.from, &self.to, smooth) } else { None };
        (value.unwrap_or_else(|| self.to.clone()), share >= 1.0)
    }
}

impl Scene {
    /// Changes one key of the running scene gradually, over a duration in simulated seconds: a number, a range, a vector, a colour or a ramp. Paths and
    /// values are those of [`SceneSpec::set`]. It starts and ends smoothly, and moves with each step. [`Scene::spec`] has the present value. A later
    /// change of the same key takes its place; [`Scene::apply`] ends all, and a saved scene keeps them.
    ///
    /// ```
    /// use frolic_core::Meter;
    /// use frolic_scene::{Scene, SceneSpec};
    /// let mut scene = Scene::new(&SceneSpec::find("beacon")?)?;
    /// let mut meter = Meter::new();
    /// scene.set("world.wind", "[2, 0, 0]")?;
    /// scene.ease("world.wind", "[6, 0, 0]", 1.0)?;
    /// scene.run_to(0.5, &mut meter);
    /// assert!((scene.spec().world.wind[0] - 4.0).abs() < 0.1);
    /// scene.run_to(1.5, &mut meter);
    /// assert_eq!(scene.spec().world.wind[0], 6.0);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    ///
    /// # Errors
    /// As [`SceneSpec::set`]; or there is nothing between the two values, a population would be built again for them, or the duration is not above 0
    /// and at most an hour. The scene then stays as it is.
    pub fn ease(&mut self, path: &str, value: &str, seconds: f64) -> Result<(), SceneError> {
        if !(seconds > 0.0 && seconds <= 3600.0) {
            let problem = format!("{seconds} is out of range");
            return Err(SpecError::new("seconds", problem, "write a duration above 0, to 3600 s").into());
        }
        let target = self.spec.set(path, value)?;
        let under = |problem: &str, instead: &str| SceneError::from(SpecError::new(path, problem, instead));
        let (from, to) = (self.spec.value_at(path), target.value_at(path));
        let between = from.zip(to).filter(|(from, to)| blend(from, to, 0.5).is_some());
        let Some((from, to)) = between else {
            let instead = "ease numbers, ranges, vectors, colours and ramps; set other keys";
            return Err(under("has nothing between its present value and that", instead));
        };
        if !self.takes(&target) {
            return Err(under(
                "is not live: a population would be built again in each step",
                "set it at once",
            ));
        }
        self.eases.retain(|ease| ease.path != path);
        self.eases.push(Ease { path: path.to_owned(), from, to, start: self.time, seconds });
        Ok(())
    }

    /// Returns whether any key is on its way to another value.
    pub fn is_easing(&self) -> bool {
        !self.eases.is_empty()
    }

    /// Ends the easing of a key where it is.
    pub(super) fn stop_easing(&mut self, path: &str) {
        self.eases.retain(|ease| ease.path != path);
    }

    /// Takes steps one by one as long as keys are on their way. Returns the number of steps that are left.
    pub(super) fn step_eased(&mut self, dt: f32, steps: u32, meter: &mut Meter) -> u32 {
        let mut left = steps;
        while left > 0 && !self.eases.is_empty() {
            self.move_eases(self.time + f64::from(dt));
            self.take_steps(dt, 1, meter);
            left -= 1;
            if left > 0 {
                meter.forget(Counter::Alive);
                meter.forget(Counter::ElementBytes);
            }
        }
        left
    }

    /// Moves all keys to their values at a time, in seconds.
    fn move_eases(&mut self, time: f64) {
        let mut eases = std::mem::take(&mut self.eases);
        let mut spec = self.spec.clone();
        eases.retain(|ease| {
            let (value, is_last) = ease.at(time);
            // Between two values that can be used; if not, with another change in between, the key stays where it is.
            match spec.with_value(&ease.path, value) {
                Ok(moved) => spec = moved,
                Err(_) => return false,
            }
            !is_last
        });
        // As above.
        let _ = self.apply_checked(&spec, |_| Vec::new());
        self.eases = eases;
    }

    /// Returns whether all populations can take another spec without being built again.
    fn takes(&self, spec: &SceneSpec) -> bool {
        let versions = Versions::new(&self.spec, spec);
        let mut populations = self.populations.iter().enumerate();
        self.fits(spec)
            && populations.all(|(nth, population)| {
                let change: RetuneContext<'_> = versions.change(nth, &population.look, &population.kinds);
                let resident =
                    self.device.as_ref().is_some_and(|device| device.has_particles(&population.name));
                let is_particles = self.set.get(&population.name).is_some() || resident;
                versions.is_same(nth) || is_particles || population.elements.can_retune(&change)
            })
    }
}

/// The value at a share of the way between two; none if they are of different kinds.
fn blend(from: &Value, to: &Value, share: f64) -> Option<Value> {
    if let (Some(a), Some(b)) = (number(from), number(to)) {
        let value = a + (b - a) * share;
        let whole = from.is_integer() && to.is_integer();
        return Some(if whole { Value::Integer(value.round() as i64) } else { Value::Float(value) });
    }
    match (from, to) {
        (Value::Array(a), Value::Array(b)) if a.len() == b.len() && !a.is_empty() => {
            let values = a.iter().zip(b).map(|(a, b)| blend(a, b, share));
            values.collect::<Option<Vec<_>>>().map(Value::Array)
        }
        (Value::Array(a), Value::Array(b)) => blend_ramps(&stops(a)?, &stops(b)?, share),
        _ => None,
    }
}

fn number(value: &Value) -> Option<f64> {
    value.as_float().or_else(|| value.as_integer().map(|whole| whole as f64))
}

/// Stops of a ramp: position, and value.
type Stops<'a> = Vec<(f64, &'a Value)>;

/// Reads an array as a ramp: pairs whose first numbers rise from 0 to 1.
fn stops(array: &[Value]) -> Option<Stops<'_>> {
    let stop = |value: &'_ Value| -> Option<f64> {
        let pair = value.as_array().filter(|pair| pair.len() == 2)?;
        number(&pair[0]).filter(|at| (0.0..=1.0).contains(at))
    };
    let all: Option<Stops<'_>> =
        array.iter().map(|value| Some((stop(value)?, &value.as_array()?[1]))).collect();
    all.filter(|stops| !stops.is_empty() && stops.is_sorted_by(|a, b| a.0 <= b.0))
}

/// A ramp with the stops of both.
fn blend_ramps(from: &Stops<'_>, to: &Stops<'_>, share: f64) -> Option<Value> {
    let mut places: Vec<f64> = from.iter().chain(to).map(|(at, _)| *at).collect();
    places.sort_by(f64::total_cmp);
    places.dedup();
    let stop = |at: f64| {
        let value = blend(&value_of(from, at)?, &value_of(to, at)?, share)?;
        Some(Value::Array(vec![Value::Float(at), value]))
    };
    places.into_iter().map(stop).collect::<Option<Vec<_>>>().map(Value::Array)
}

/// The value of a ramp at a position.
fn value_of(stops: &Stops<'_>, at: f64) -> Option<Value> {
    let after = stops.partition_point(|(place, _)| *place < at);
    let (Some((high, above)), Some((low, below))) =
        (stops.get(after), after.checked_sub(1).map(|nth| stops[nth]))
    else {
        return stops.get(after).or(stops.last()).map(|(_, value)| (*value).clone());
    };
    blend(below, above, (at - low) / (high - low))
}
