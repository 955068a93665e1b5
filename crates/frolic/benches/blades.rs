//! The blades' step against the machine's memory, and growth of what is not seen against that of what is.
//!
//! `cargo bench -p frolic --bench blades [-- COUNT]`; a million blades by default, ten million growing elements.
//! The yardstick is an in-place multiply of as many columns in the same chunks on the same threads: it moves the same bytes.

mod support;

use std::cell::RefCell;

use frolic::blades::{BladeMotion, Blades};
use frolic::growing::Growing;
use frolic::prelude::*;
use rayon::prelude::*;
use support::{Contender, at_most, compare};

const DT: f32 = 1.0 / 60.0;

fn field(count: u32, motion: BladeMotion) -> Blades {
    let even =
        PlacementSpec::new(On::Ground(PatternSpec::Scattered)).area(AreaSpec::new([0.0; 2], [100.0; 2]));
    let spec = BladeSpec::new(even).motion(motion);
    Blades::new(&spec, count, Span::from(0.004), 7).unwrap()
}

fn main() {
    let count = std::env::args().skip(1).find_map(|word| word.parse().ok()).unwrap_or(1_000_000);
    let steady = WorldSpec::default().wind([4.0, 0.0, 1.0]);
    let gusty = steady.clone().gusts(1.2, 5.0).build().unwrap();
    let steady = steady.build().unwrap();
    let mut swing = field(count, BladeMotion::Swing);
    let mut calm = field(count, BladeMotion::Swing);
    let mut lean = field(count, BladeMotion::Lean);
    // Thirteen columns read, four of them written, as the step does.
    let n = count as usize;
    let mut written: Vec<Vec<f32>> = (0..4).map(|_| vec![1.5f32; n]).collect();
    let read: Vec<Vec<f32>> = (0..9).map(|_| vec![1.0f32; n]).collect();
    let meter = RefCell::new(Meter::new());
    let medians = compare(
        "blades' step",
        n,
        21,
        vec![
            Contender::new("in-place multiply, same bytes", || {
                let [a, b, c, d] = &mut written[..] else { unreachable!() };
                let all = (
                    a.par_chunks_mut(4096),
                    b.par_chunks_mut(4096),
                    c.par_chunks_mut(4096),
                    d.par_chunks_mut(4096),
                );
                all.into_par_iter().enumerate().for_each(|(nth, (a, b, c, d))| {
                    let from = nth * 4096;
                    let r: Vec<&[f32]> = read.iter().map(|column| &column[from..from + a.len()]).collect();
                    for i in 0..a.len() {
                        let other = r[4][i] * r[5][i] * r[6][i] * r[7][i] * r[8][i];
                        a[i] *= r[0][i] * other;
                        b[i] *= r[1][i];
                        c[i] *= r[2][i];
                        d[i] *= r[3][i];
                    }
                });
            }),
            Contender::new("swinging, steady wind", || calm.step(&steady, DT, 1, &mut meter.borrow_mut())),
            Contender::new("swinging, gusts", || swing.step(&gusty, DT, 1, &mut meter.borrow_mut())),
            Contender::new("leaning, gusts", || lean.step(&gusty, DT, 1, &mut meter.borrow_mut())),
        ],
    );
    at_most("times the multiply, swinging in gusts", medians[2].wall / medians[0].wall, 3.0);

    let growing = |count: u32, all: bool| {
        let patch = PlacementSpec::default().area(AreaSpec::new([0.0; 2], [2.0; 2]));
        let beds = PlacementSpec::new(On::Ground(PatternSpec::Grid {
            spacing: [0.0; 2],
            jitter: 0.2,
            turn_degrees: 0.0,
        }))
        .area(AreaSpec::new([0.0; 2], [400.0; 2]));
        let mut spec = GrowSpec::new(patch, 1_000, beds).seconds(600.0, 2400.0);
        spec.rotation = 32;
        let mut growing = Growing::new(&spec, count, Span::from(0.02), 9).unwrap();
        growing.update_visibility(|[x, _, z], _| all || (x.abs() < 44.7 && z.abs() < 44.7));
        growing
    };
    let (mut few, mut many) = (growing(500_000, true), growing(10_000_000, false));
    let frame = |growing: &mut Growing| {
        growing.step(DT, 1, &mut meter.borrow_mut());
        growing.show(&mut meter.borrow_mut());
    };
    let medians = compare(
        "growth, and gathering what is in view",
        500_000,
        21,
        vec![
            Contender::new("500 000, all in view", || frame(&mut few)),
            Contender::new("10 million, a twentieth in view", || frame(&mut many)),
        ],
    );
    at_most("times what is in view alone", medians[1].wall / medians[0].wall, 2.0);
}
