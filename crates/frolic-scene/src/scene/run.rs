//! Stepping a scene: its clock, its frame budget, its world and populations.

use frolic_core::{Counter, Frame, FrameBudget, Meter, ParticleSet, QualityChange, QualitySetting, World};
use frolic_draw::Technique;

use crate::device::Device;
use crate::error::SceneError;
use crate::families::{Elements, OtherPopulations, StepContext};

use super::population::Population;
use super::{Scene, camera_at};

impl Scene {
    /// Advances time by `elapsed` seconds: takes the fixed steps that are due, up to the cap of the clock.
    pub fn tick(&mut self, elapsed: f64, meter: &mut Meter) {
        let tick = self.clock.advance(elapsed);
        let step = self.clock.step();
        self.step(step, tick.steps, meter);
        self.lag = (1.0 - tick.alpha) * step;
        meter.add(Counter::StepsDropped, u64::from(tick.dropped));
    }

    /// Reports the duration of a whole frame to the frame budget. Returns the quality setting that the frame budget changed, if any.
    pub fn keep_budget(&mut self, frame: &Frame) -> Option<QualityChange> {
        let budget = self.frame_budget.as_mut()?;
        let change = budget.after(frame.total());
        self.adopt_budget();
        change
    }

    /// Brings looks, emission and the clock to the present quality settings of the frame budget.
    pub(super) fn adopt_budget(&mut self) {
        let Some(budget) = &self.frame_budget else { return };
        let [detail, density, rate] = [QualitySetting::Detail, QualitySetting::Density, QualitySetting::Rate]
            .map(|setting| budget.share(setting));
        for population in &mut self.populations {
            population.look.ease(detail, density);
            population.kinds.iter_mut().for_each(|look| look.ease(detail, density));
            population.trail.iter_mut().for_each(|look| look.ease(detail, density));
        }
        self.set.members_mut().iter_mut().for_each(|member| member.thin(density));
        self.clock.set_rate((self.spec.clock.rate * rate).max(1.0));
    }

    /// Runs to a time, in seconds after the start, in fixed steps and without the cap. Of a time that has passed, up to a step ago, the
    /// picture is drawn between the last two states.
    pub fn run_to(&mut self, seconds: f64, meter: &mut Meter) {
        while self.run_some(seconds, 1024, meter) {}
    }

    /// Takes at most `most` steps towards a time, as [`Scene::run_to`]. Returns whether steps are left.
    pub fn run_some(&mut self, seconds: f64, most: u32, meter: &mut Meter) -> bool {
        let step = self.spec.clock.step();
        // The length of a step is rounded to a float: that error, summed over all steps, must not become another step.
        let rounding = 1e-6 + seconds / f64::from(step) * f64::from(f32::EPSILON);
        let left = ((seconds - self.time) / f64::from(step) - rounding).ceil().max(0.0);
        let steps = left.min(f64::from(most)) as u32;
        self.step(step, steps, meter);
        if f64::from(steps) == left {
            // A time between the last two states needs no step; before them there is nothing to show.
            let behind = self.time - seconds;
            self.lag = if behind <= f64::from(step) { behind.max(0.0) as f32 } else { 0.0 };
        }
        f64::from(steps) < left
    }

    /// Takes steps of any length, in seconds, for example to reach a steady state quickly.
    pub fn step(&mut self, dt: f32, steps: u32, meter: &mut Meter) {
        let left = self.step_eased(dt, steps, meter);
        if left > 0 || steps == 0 {
            self.take_steps(dt, left, meter);
        }
    }

    /// Takes steps with the present spec.
    pub(super) fn take_steps(&mut self, dt: f32, steps: u32, meter: &mut Meter) {
        let threads = self.threads.clone();
        threads.run(|| {
            let Self {
                populations,
                set,
                world,
                device,
                fault,
                ended,
                caught,
                prey,
                time,
                travel,
                spec,
                view,
                ..
            } = self;
            let camera = camera_at(&spec.camera, travel.as_ref(), *time + f64::from(dt) * f64::from(steps));
            let [x, _, z] = camera.target;
            let seen_from = camera.view(view.size()).unwrap_or(*view);
            recentre(populations, set, device.as_mut(), [x, z], ended);
            let in_turn = populations.iter().any(|population| population.elements.looks_at_others());
            let grouped = spec.draw.technique == Technique::Tiled && device.is_none();
            let mut advance = |world: &World, steps: u32, meter: &mut Meter| {
                set.step(world, dt, steps, meter);
                add_up(caught, set);
                for nth in 0..populations.len() {
                    let (before, rest) = populations.split_at_mut(nth);
                    let Some((population, after)) = rest.split_first_mut() else { break };
                    let mut context = StepContext {
                        world,
                        set,
                        source: population.source,
                        caught,
                        others: &Others([before, after]),
                        prey,
                        view: &seen_from,
                        sun: spec.sun.as_ref(),
                        lights: &spec.light,
                        grouped,
                        dt,
                        steps,
                        meter,
                    };
                    population.attempt(ended, |population| population.step(&mut context));
                    for (prey, element) in prey.drain(..) {
                        populations[prey].elements.catch(&[element]);
                    }
                }
                if let Some(device) = device.as_mut().filter(|_| fault.is_none()) {
                    *fault = device.step(world, dt, steps, meter).err();
                    device.take_caught(caught);
                }
            };
            let takes_turns = world.changes() || in_turn;
            if takes_turns {
                for nth in 0..steps {
                    let now = *time + f64::from(nth) * f64::from(dt);
                    let [x, _, z] = camera_at(&spec.camera, travel.as_ref(), now).target;
                    world.recentre([x, z]);
                    world.advance(now, dt);
                    if nth > 0 {
                        meter.forget(Counter::Alive);
                        meter.forget(Counter::ElementBytes);
                    }
                    advance(world, 1, meter);
                }
            }
            if steps == 0 || !takes_turns {
                advance(world, steps, meter);
            }
        });
        self.lag = 0.0;
        self.time += f64::from(dt) * f64::from(steps);
        self.decor.update_texts(self.time, &self.caught);
        self.decor.update_reliefs(&self.world);
        if self.travel.is_some()
            && let Ok(view) = self.view_of(&self.spec.camera, self.spec.draw.size)
        {
            self.view = view;
        }
        meter.add(Counter::Steps, u64::from(steps));
        self.frame_budget.iter().for_each(|budget| count_quality(budget, meter));
    }
}

/// Populations before the one that is stepped, and after it.
#[derive(Debug)]
struct Others<'a>([&'a [Population]; 2]);

impl OtherPopulations for Others<'_> {
    fn named(&self, name: &str) -> Option<(usize, &dyn Elements)> {
        let Self([before, after]) = self;
        let after = (before.len() + 1..).zip(*after);
        let mut all = before.iter().enumerate().chain(after);
        all.find(|(_, other)| other.name == name).map(|(nth, other)| (nth, &*other.elements))
    }
}

/// Moves the centre of all endless fields and endless ground to a place (x, z), in metres.
fn recentre(
    populations: &mut [Population],
    set: &mut ParticleSet,
    device: Option<&mut Device>,
    centre: [f32; 2],
    ended: &mut Vec<SceneError>,
) {
    for population in populations {
        population.attempt(ended, |population| {
            population.elements.recentre(centre);
            Ok(())
        });
    }
    set.members_mut().iter_mut().for_each(|member| {
        member.recentre(centre);
    });
    device.into_iter().for_each(|device| device.recentre(centre));
}

/// Adds the quality settings of the frame budget to the meter, in percent.
fn count_quality(budget: &FrameBudget, meter: &mut Meter) {
    for (counter, setting) in [
        (Counter::DetailPercent, QualitySetting::Detail),
        (Counter::DensityPercent, QualitySetting::Density),
        (Counter::RatePercent, QualitySetting::Rate),
        (Counter::PicturePercent, QualitySetting::Picture),
    ] {
        meter.forget(counter);
        meter.add(counter, (budget.share(setting) * 100.0).round() as u64);
    }
}

fn add_up(caught: &mut [u64], set: &ParticleSet) {
    for member in set.members() {
        caught.iter_mut().zip(member.caught()).for_each(|(sum, now)| *sum += now);
    }
}
