//! A stage and counters of your own, beside those that ship: rain falls on a pond whose ripples the program computes by itself.
//!
//! `cargo run --release -p frolic --example own_stage [FOLDER] [SECONDS]` measures the loop at several counts of drops and prints the table, where
//! `ripples`, `splashes` and `highest_mm` stand among the rest. Given FOLDER, it writes the profile with its charts and trace into it. It takes SECONDS, 6
//! if not given.

use frolic::prelude::*;
use frolic::profile::{Run, Subject, Variant, sweep_subjects};
use frolic::world::Touch;

/// Cells of the pond along a side of 4 m.
const SIDE: usize = 512;

/// What the program meters itself. Asked for once: the same name is the same stage.
#[derive(Clone, Copy)]
struct Own {
    ripples: Stage,
    splashes: Counter,
    highest_mm: Counter,
}

impl Own {
    fn new() -> Result<Self, SpecError> {
        Ok(Self {
            ripples: Stage::custom("ripples")?,
            splashes: Counter::custom("splashes")?,
            highest_mm: Counter::custom("highest_mm")?,
        })
    }
}

/// Heights of water, in metres: now, and a step before.
struct Pond {
    now: Vec<f32>,
    before: Vec<f32>,
}

impl Pond {
    fn new() -> Self {
        Self { now: vec![0.0; SIDE * SIDE], before: vec![0.0; SIDE * SIDE] }
    }

    /// Presses the water down where a drop hits it.
    fn splash(&mut self, x: f32, z: f32) {
        let cell = |v: f32| ((v + 2.0) * SIDE as f32 / 4.0).clamp(2.0, SIDE as f32 - 3.0) as usize;
        let (i, j) = (cell(x), cell(z));
        for row in self.now[(j - 1) * SIDE..(j + 2) * SIDE].chunks_exact_mut(SIDE) {
            row[i - 1..i + 2].iter_mut().for_each(|height| *height -= 0.004);
        }
    }

    /// A step of the wave equation in two dimensions, with a little damping.
    fn step(&mut self) {
        for j in 1..SIDE - 1 {
            let row = j * SIDE..(j + 1) * SIDE;
            let (up, here, down) = (
                &self.now[row.start - SIDE..row.start],
                &self.now[row.clone()],
                &self.now[row.end..row.end + SIDE],
            );
            let next = &mut self.before[row];
            for i in 1..SIDE - 1 {
                let around = up[i] + down[i] + here[i - 1] + here[i + 1] - 4.0 * here[i];
                next[i] = (2.0 * here[i] - next[i] + around * 0.2) * 0.995;
            }
        }
        std::mem::swap(&mut self.now, &mut self.before);
    }

    fn highest(&self) -> f32 {
        self.now.iter().copied().fold(0.0, f32::max)
    }
}

struct Rain(Own);

impl Subject for Rain {
    fn begin(&mut self, count: u32) -> Result<Box<dyn Run + '_>, String> {
        let told = |error: SpecError| error.to_string();
        let own = self.0;
        let cloud = EmitterSpec::rate(count as f32).position([0.0, 3.0, 0.0]);
        let cloud = cloud.shape(ShapeSpec::Box { size: [3.9, 2.0, 3.9] }).speed(0.0, 0.0);
        // Whatever hits the water is gone, and noted.
        let rain = ParticleSpec::new(count).life(3.0, 3.0).motion(0.4, 1.0).emitter(cloud);
        let rain = rain.event(EventSpec::note(Moment::Hit { speed: 0.1 }));
        let water = ObstacleSpec::plane([0.0; 3], [0.0, 1.0, 0.0]).touch(Touch::Die);
        let world = WorldSpec::default().obstacle(water).build().map_err(told)?;
        let mut drops = Particles::new(&rain, 4).map_err(told)?;
        let (mut pond, mut meter) = (Pond::new(), Meter::new());
        // Until it rains down to the water.
        drops.step(&world, 1.0 / 30.0, 60, &mut meter);
        Ok(Box::new(move || {
            meter.begin_frame();
            drops.step(&world, 1.0 / 60.0, 1, &mut meter);

            // A stage of one's own is timed, counted and traced as the others are.
            let started = meter.start(own.ripples);
            for hit in drops.happened() {
                pond.splash(hit.element.px, hit.element.pz);
            }
            pond.step();
            meter.moved(own.ripples, (SIDE * SIDE * 3 * size_of::<f32>()) as u64);
            meter.stop(started);
            meter.add(own.splashes, drops.happened().len() as u64);
            // A level, not a sum.
            meter.set(own.highest_mm, (pond.highest() * 1e3) as u64);
            Ok(meter.end_frame())
        }))
    }
}

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut plan = Plan::default();
    plan.counts = "2k,10k,50k,200k".parse()?;
    let seconds = std::env::args().nth(2).map_or(Ok(6), |text| text.parse())?;
    plan.time = Some(std::time::Duration::from_secs(seconds));
    let rain = vec![Variant::new("rain", Rain(Own::new()?))];
    let profile = sweep_subjects("rain on a pond", rain, &plan, None, |_| true)?;
    println!("{}", profile.table());
    for point in &profile.variants[0].points {
        let splashes = point.counter("splashes").unwrap_or(0);
        let ripples = point.stage("ripples").map_or(0.0, |time| time.ms);
        println!("{:>7} drops: {splashes} splashes a frame, ripples take {ripples:.2} ms", point.count);
    }
    if let Some(folder) = std::env::args().nth(1) {
        for path in write_profile(&profile, folder)? {
            println!("wrote {}", path.display());
        }
    }
    Ok(())
}
