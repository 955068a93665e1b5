//! The particle step against the machine's memory, and against one heap record an element.
//!
//! `cargo bench -p frolic --bench step [-- COUNT..]`; counts default to 1M and 10M, objects run at 1M.
//! The yardstick is an in-place multiply of the same columns in the same chunks on the same threads: it moves the same bytes.

mod support;

use std::cell::RefCell;

use frolic::prelude::*;
use rayon::prelude::*;
use support::{Contender, at_least, compare};

const DT: f32 = 1.0 / 60.0;

fn population(count: u32, storage: Storage) -> Particles {
    let spec = ParticleSpec::new(count)
        .life(1e5, 1e6)
        .motion(0.8, 1.0)
        .emitter(EmitterSpec::burst(count, 0.0).shape(ShapeSpec::Sphere { radius: 5.0 }).speed(0.0, 4.0));
    let mut particles = Particles::with_storage(&spec, 7, storage).unwrap();
    particles.step(&world(), DT, 1, &mut Meter::new());
    assert_eq!(particles.len(), count as usize);
    particles
}

fn world() -> World {
    WorldSpec::default().field(FieldSpec::attractor([0.0, 3.0, 0.0], 4.0, 1.0)).build().unwrap()
}

fn main() {
    let counts: Vec<u32> = std::env::args().skip(1).filter_map(|word| word.parse().ok()).collect();
    let counts = if counts.is_empty() { vec![1_000_000, 10_000_000] } else { counts };
    let world = world();
    println!(
        "instruction set {}, {} threads",
        frolic::core::simd::name(frolic::core::simd::detect()),
        Threads::current()
    );
    for count in counts {
        let n = count as usize;
        let mut columns = population(count, Storage::Columns);
        // Seven columns read and written (position, velocity, age) and one read (life), as the step does.
        let mut written: Vec<Vec<f32>> = (0..7).map(|_| vec![1.5f32; n]).collect();
        let read = vec![1.0f32; n];
        let mut objects = (count <= 1_000_000).then(|| population(count, Storage::Objects));
        let meter = RefCell::new(Meter::new());
        let mut contenders = vec![
            Contender::new("in-place multiply, same bytes", || {
                let [a, b, c, d, e, f, g] = &mut written[..] else { unreachable!() };
                (
                    a.par_chunks_mut(8192),
                    b.par_chunks_mut(8192),
                    c.par_chunks_mut(8192),
                    d.par_chunks_mut(8192),
                    e.par_chunks_mut(8192),
                    f.par_chunks_mut(8192),
                    g.par_chunks_mut(8192),
                    read.par_chunks(8192),
                )
                    .into_par_iter()
                    .for_each(|(a, b, c, d, e, f, g, r)| {
                        for column in [a, b, c, d, e, f, g] {
                            column.iter_mut().zip(r).for_each(|(x, r)| *x *= *r);
                        }
                    });
            }),
            Contender::new("columns (gravity, drag, attractor, age)", || {
                columns.step(&world, DT, 1, &mut meter.borrow_mut());
            }),
        ];
        if let Some(objects) = &mut objects {
            let (world, meter) = (&world, &meter);
            contenders.push(Contender::new("objects, one thread, copied out for drawing", move || {
                objects.step(world, DT, 1, &mut meter.borrow_mut());
            }));
        }
        let medians = compare("particle step", n, 21, contenders);
        at_least("share of the multiply's bandwidth", medians[0].wall / medians[1].wall, 0.75);
        if let Some(objects) = medians.get(2) {
            at_least("times faster than objects", objects.wall / medians[1].wall, 10.0);
        }
    }
    stages(&world);
}

/// Both forms in a stream that has run for a while: elements are born and die, so the heap is no longer in order.
fn stages(world: &World) {
    let n = 1_000_000;
    let spec = ParticleSpec::new(n)
        .life(1.0, 3.0)
        .motion(0.8, 1.0)
        .emitter(EmitterSpec::rate(n as f32 * 0.55).shape(ShapeSpec::Sphere { radius: 5.0 }).speed(0.0, 4.0));
    let mut forms = [Storage::Columns, Storage::Objects].map(|storage| {
        let mut particles = Particles::with_storage(&spec, 7, storage).unwrap();
        particles.step(world, 1.0 / 20.0, 160, &mut Meter::new());
        particles
    });
    let mut times = [(); 2].map(|()| [const { Vec::new() }; 4]);
    let mut meter = Meter::new();
    for _ in 0..21 {
        for (particles, times) in forms.iter_mut().zip(&mut times) {
            meter.begin_frame();
            particles.step(world, DT, 1, &mut meter);
            let frame = meter.end_frame();
            for (stage, times) in
                [Stage::Integrate, Stage::Retire, Stage::Emit, Stage::Gather].into_iter().zip(times)
            {
                times.push(frame.stage(stage).as_secs_f64());
            }
        }
    }
    let medians = times.map(|stages| {
        stages.map(|mut times| {
            times.sort_by(f64::total_cmp);
            times[times.len() / 2] * 1e9 / f64::from(n)
        })
    });
    println!("\nstages of a running stream, {n} elements, ns/element");
    for (name, [integrate, retire, emit, gather]) in
        ["columns, all threads", "objects, one thread"].iter().zip(&medians)
    {
        println!(
            "  {name:24} integrate {integrate:6.2}  retire {retire:6.2}  emit {emit:6.2}  copy out {gather:6.2}"
        );
    }
    let step = |form: &[f64; 4]| form[0] + form[1] + form[2];
    at_least(
        "times faster than objects, copying out left aside",
        step(&medians[1]) / step(&medians[0]),
        10.0,
    );
}
