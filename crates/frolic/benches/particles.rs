//! What a full step costs: fields, a dug mask, pick-ups and events, against the base step; objects against columns; growth from 100k to
//! 10M; baking a distance grid.
//!
//! `cargo bench -p frolic --bench particles [-- step | storage | growth | bake]`; without a word all of them.

mod support;

use std::cell::RefCell;

use frolic::assets::{Assets, BakeSpec, Surface};
use frolic::prelude::*;
use support::{Contender, at_least, at_most, compare};

const DT: f32 = 1.0 / 60.0;

/// Gravity, drag, curl noise, a mask to bounce off and buckets, as in the shipped scene `blowhole`.
fn full_world() -> World {
    let spec = SceneSpec::find("blowhole").unwrap();
    let mut assets = Assets::default();
    let rock = spec.asset.iter().find(|asset| asset.name == "rock").unwrap();
    assets.insert("rock", rock.load(&spec.folder, &Assets::default()).unwrap());
    spec.world.build_with(&assets).unwrap()
}

/// A cloud that fills the picture, half at rest, half in flight.
fn cloud(count: u32, storage: Storage) -> Particles {
    let emitter = EmitterSpec::burst(count, 0.0)
        .shape(ShapeSpec::Box { size: [14.0, 8.0, 0.4] })
        .position([0.0, 4.0, 0.0])
        .cone([0.0, 1.0, 0.0], 60.0)
        .speed(0.5, 9.0);
    let spec = ParticleSpec::new(count).life(1e5, 1e6).motion(0.5, 1.0).emitter(emitter);
    let mut cloud = Particles::with_storage(&spec, 7, storage).unwrap();
    cloud.step(&WorldSpec::default().build().unwrap(), 1e-6, 1, &mut Meter::new());
    assert_eq!(cloud.len(), count as usize);
    cloud
}

fn step() {
    // The shipped scene itself at 2M drops, run until all of them are about.
    let spec = SceneSpec::find("blowhole").unwrap().scaled(2_000_000);
    let mut scene = Scene::new(&spec).unwrap();
    scene.run_to(9.0, &mut Meter::new());
    let alive = scene.particles("spray").unwrap().len();
    let mut base = cloud(alive as u32, Storage::Columns);
    let mut windy = cloud(alive as u32, Storage::Columns);
    let free = WorldSpec::default().build().unwrap();
    let mut blown = spec.world.clone();
    (blown.obstacle, blown.collector, blown.brush) = Default::default();
    let blown = blown.build().unwrap();
    let meter = RefCell::new(Meter::new());
    let contenders = vec![
        Contender::new("base step (gravity, drag, age)", || base.step(&free, DT, 1, &mut meter.borrow_mut())),
        Contender::new("with gusts and curl noise", || windy.step(&blown, DT, 1, &mut meter.borrow_mut())),
        Contender::new("full step of blowhole", || scene.step(DT, 1, &mut meter.borrow_mut())),
    ];
    let medians = compare("full step", alive, 41, contenders);
    at_most("full step over the base step", medians[2].wall / medians[0].wall, 4.0);
}

fn storage() {
    let count = 1_000_000;
    let world = full_world();
    let forms: Vec<RefCell<Particles>> =
        [Storage::Columns, Storage::Objects].map(|storage| RefCell::new(cloud(count, storage))).into();
    let meter = RefCell::new(Meter::new());
    let run = |nth: usize| forms[nth].borrow_mut().step(&world, DT, 1, &mut meter.borrow_mut());
    let contenders = vec![
        Contender::new("columns, all threads", || run(0)),
        Contender::new("objects, one thread, copied out for drawing", || run(1)),
    ];
    let medians = compare("the same spec of blowhole", count as usize, 15, contenders);
    at_least("times faster than objects", medians[1].wall / medians[0].wall, 8.0);
}

fn growth() {
    let world = full_world();
    let counts = [100_000u32, 1_000_000, 10_000_000];
    let clouds: Vec<RefCell<Particles>> =
        counts.map(|count| RefCell::new(cloud(count, Storage::Columns))).into();
    let meter = RefCell::new(Meter::new());
    // Steps so short that all of them together hardly move anything: every count is measured in the same state.
    let run = |nth: usize, times: u32| {
        clouds[nth].borrow_mut().step(&world, 1e-6, times, &mut meter.borrow_mut());
    };
    for cloud in &clouds {
        cloud.borrow_mut().step(&world, DT, 12, &mut meter.borrow_mut());
    }
    // As many elements in all for each.
    let contenders = vec![
        Contender::new("100 times 100k", || run(0, 100)),
        Contender::new("10 times 1M", || run(1, 10)),
        Contender::new("once 10M", || run(2, 1)),
    ];
    let medians = compare("growth of the full step", 10_000_000, 9, contenders);
    let each = medians.iter().map(|median| median.cpu);
    let (least, most) = each.fold((f64::MAX, 0.0f64), |(a, b), x| (a.min(x), b.max(x)));
    at_most("dearest over cheapest element", most / least, 1.1);
}

fn bake() {
    // 12 detail² triangles: a little over 50 000.
    let ball = Surface::ball(65);
    let spec = BakeSpec::new(128);
    let contenders = vec![Contender::new("bake at 128 points a side", || {
        assert!(spec.bake(&ball).unwrap().volume() > 4.0);
    })];
    let medians = compare("distance grid", ball.triangles().len(), 5, contenders);
    at_most("seconds for a bake", medians[0].wall, 2.0);
}

fn main() {
    let wanted: Vec<String> = std::env::args().skip(1).filter(|word| !word.starts_with('-')).collect();
    let parts: [(&str, fn()); 4] = [("step", step), ("storage", storage), ("growth", growth), ("bake", bake)];
    for (name, run) in parts {
        if wanted.is_empty() || wanted.iter().any(|word| word == name) {
            run();
        }
    }
}
