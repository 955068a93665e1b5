//! Loads whose frames take a known time: nothing is waited for.

use std::time::Duration;

use frolic_core::{Counter, Frame, Stage};
use frolic_profile::stats::Dice;
use frolic_profile::{Plan, Profile, Run, Subject, Variant, sweep_subjects};

/// ms for a count.
pub(crate) type Cost = fn(f64) -> f64;

/// A load whose frames take a known time, but for noise of a known spread; nothing is waited for.
pub(crate) struct Load {
    /// ms for a count.
    cost: Cost,
    /// Spread of the logarithm.
    noise: f64,
    dice: Dice,
}

impl Load {
    pub(crate) fn new(cost: Cost, noise: f64, seed: u64) -> Self {
        Self { cost, noise, dice: Dice::new(seed) }
    }
}

/// Near enough to a normal draw.
pub(crate) fn normal(dice: &mut Dice) -> f64 {
    (0..12).map(|_| dice.unit()).sum::<f64>() - 6.0
}

pub(crate) fn frame(ms: f64) -> Frame {
    let time = Duration::from_secs_f64(ms * 1e-3);
    Frame::new(time).with_stage(Stage::Raster, time / 2).with_count(Counter::Alive, 5)
}

impl Subject for Load {
    fn begin(&mut self, count: u32) -> Result<Box<dyn Run + '_>, String> {
        let ms = (self.cost)(f64::from(count));
        Ok(Box::new(move || Ok(frame(ms * (normal(&mut self.dice) * self.noise).exp()))))
    }
}

pub(crate) fn plan(counts: &str, frames: u32) -> Plan {
    let mut plan = Plan::default();
    (plan.counts, plan.frames) = (counts.parse().unwrap(), frames);
    plan
}

pub(crate) fn measured(load: Load, plan: &Plan) -> Profile {
    sweep_subjects("load", vec![Variant::new("load", load)], plan, None, |_| true).unwrap()
}
