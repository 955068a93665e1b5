//! A flock in space, about 30 in view of each: the whole step against a hash map of cells, a kd-tree that is built anew, and all pairs.
//!
//! `cargo bench -p frolic --bench flock [-- rules | growth | crowd | apart]`. Contenders take turns, and all of them move their elements on every core. `apart`
//! pushes a million discs apart in a plane.

mod support;

use std::collections::HashMap;

use frolic::core::neighbours::NeighbourTechnique;
use frolic::core::random::{hash3, unit};
use frolic::core::{ApartSpec, BodyColumns, BodyRow, Flock, FlockSpec, KeepTo, PushApart, RuleSpec, Space};
use frolic::prelude::*;
use kd_tree::KdIndexTree;
use rayon::prelude::*;
use support::{Contender, Median, at_least, at_most, compare};

type Failure = Box<dyn std::error::Error + Send + Sync>;

/// Radius of the rules, in metres.
const REACH: f32 = 1.0;

/// Others within the radius, on average.
const AROUND: f32 = 30.0;

/// Turns of each contender.
const TURNS: usize = 9;

/// Length of a step, in seconds.
const STEP: f32 = 1.0 / 60.0;

fn main() -> Result<(), Failure> {
    let words: Vec<String> = std::env::args().skip(1).filter(|word| !word.starts_with("--")).collect();
    let asked = |name: &str| words.is_empty() || words.iter().any(|word| word == name);
    if asked("rules") {
        for count in [10_000, 100_000] {
            rules(count)?;
        }
    }
    if asked("growth") {
        growth()?;
    }
    if asked("crowd") {
        crowd()?;
    }
    if asked("apart") {
        apart()?;
    }
    Ok(())
}

/// Side of a cube in which elements are as dense as is wanted.
fn side(count: usize) -> f32 {
    let sphere = 4.0 / 3.0 * std::f32::consts::PI * REACH.powi(3);
    (count as f32 * sphere / AROUND).cbrt()
}

/// A flock that stays as dense as it is: its rules weigh nothing, but are worked out.
fn spec(side: f32) -> FlockSpec {
    let size = [side; 3];
    let mut spec = FlockSpec::default();
    spec.start = ShapeSpec::Box { size };
    spec.separation = RuleSpec::new(REACH * 0.5, 1e-3);
    spec.alignment = RuleSpec::new(REACH, 1e-3);
    spec.cohesion = RuleSpec::new(REACH, 1e-3);
    spec.within = Some(Space::Box { position: [0.0; 3], size });
    spec.avoid = 0.0;
    spec
}

fn flock(count: usize, technique: NeighbourTechnique) -> Result<Flock, SpecError> {
    Flock::new(&spec(side(count)).neighbours(technique), count as u32, Span::from(0.1), 1)
}

/// The same rules as they are usually written first, over a way to visit those around.
#[derive(Clone)]
struct Plain {
    at: Vec<[f32; 3]>,
    velocity: Vec<[f32; 3]>,
    next: Vec<[f32; 3]>,
    half: f32,
}

impl Plain {
    fn new(count: usize) -> Self {
        let half = side(count) * 0.5;
        let place = |nth: u32| hash3(nth, 5, 1).map(|bits| (unit(bits) * 2.0 - 1.0) * half);
        let velocity = |nth: u32| hash3(nth, 6, 1).map(|bits| unit(bits) - 0.5);
        Self {
            at: (0..count as u32).map(place).collect(),
            velocity: (0..count as u32).map(velocity).collect(),
            next: vec![[0.0; 3]; count],
            half,
        }
    }

    /// One step: `visit` shows the numbers of candidates of an element.
    fn step(&mut self, visit: impl Fn(usize, &mut dyn FnMut(usize)) + Sync) {
        let Self { at, velocity, next, half } = self;
        next.par_iter_mut().enumerate().for_each(|(own, next)| {
            let speed = length(velocity[own]).max(1e-12);
            let heading = velocity[own].map(|axis| axis / speed);
            let (mut away, mut with, mut middle, mut count) = ([0.0f32; 3], [0.0f32; 3], [0.0f32; 3], 0.0f32);
            visit(own, &mut |other| {
                let way = [0, 1, 2].map(|axis| at[other][axis] - at[own][axis]);
                let square = way.iter().map(|axis| axis * axis).sum::<f32>();
                if other == own || square > REACH * REACH {
                    return;
                }
                let ahead: f32 = way.iter().zip(heading).map(|(a, b)| a * b).sum();
                // 300 degrees.
                if ahead * ahead.abs() < -0.75 * square {
                    return;
                }
                let share = (1.0 - square * 4.0).max(0.0).powi(4);
                count += 1.0;
                for axis in 0..3 {
                    away[axis] -= way[axis] * share;
                    with[axis] += velocity[other][axis];
                    middle[axis] += way[axis];
                }
            });
            let per = 1.0 / count.max(1.0);
            let wish = [0, 1, 2].map(|axis| {
                let rules = away[axis] + (with[axis] * per - velocity[own][axis]) + middle[axis] * per;
                velocity[own][axis] + rules * 1e-3 * STEP
            });
            let scale = length(wish).clamp(0.3, 2.0) / length(wish).max(1e-12);
            *next = wish.map(|axis| axis * scale);
        });
        std::mem::swap(velocity, next);
        let half = *half;
        at.par_iter_mut().zip(velocity).for_each(|(at, velocity)| {
            for axis in 0..3 {
                at[axis] = (at[axis] + velocity[axis] * STEP).clamp(-half, half);
            }
        });
    }

    /// A list of elements for each cell.
    fn step_by_map(&mut self) {
        let cell = |at: [f32; 3]| at.map(|axis| (axis / REACH).floor() as i32);
        let mut cells: HashMap<[i32; 3], Vec<u32>> = HashMap::new();
        for (nth, at) in self.at.iter().enumerate() {
            cells.entry(cell(*at)).or_default().push(nth as u32);
        }
        let at = self.at.clone();
        self.step(|own, see| {
            let [x, y, z] = cell(at[own]);
            for place in (0..27).map(|nth| [x + nth % 3 - 1, y + nth / 3 % 3 - 1, z + nth / 9 - 1]) {
                cells.get(&place).map_or(&[][..], |list| list).iter().for_each(|other| see(*other as usize));
            }
        });
    }

    fn step_by_tree(&mut self) {
        let at = self.at.clone();
        let tree = KdIndexTree::par_build_by_ordered_float(&at);
        self.step(|own, see| tree.within_radius(&at[own], REACH).into_iter().for_each(|other| see(*other)));
    }
}

fn length(vector: [f32; 3]) -> f32 {
    vector.iter().map(|axis| axis * axis).sum::<f32>().sqrt()
}

fn rules(count: usize) -> Result<(), Failure> {
    let world = WorldSpec::default().build()?;
    let (mut grid, mut pairs) =
        (flock(count, NeighbourTechnique::Grid)?, flock(count, NeighbourTechnique::AllPairs)?);
    let (mut meter, mut other) = (Meter::new(), Meter::new());
    let (mut map, mut tree, mut plain) = (Plain::new(count), Plain::new(count), Plain::new(count));
    let mut contenders = vec![
        Contender::new("flock", || grid.step(&world, &[], STEP, &mut meter).expect("a flock steps")),
        Contender::new("a hash map of cells", || map.step_by_map()),
        Contender::new("a kd-tree, built anew", || tree.step_by_tree()),
    ];
    if count <= 10_000 {
        contenders
            .push(Contender::new("all pairs, one by one", || plain.step(|_, see| (0..count).for_each(see))));
        contenders.push(Contender::new("all pairs, as a technique", || {
            pairs.step(&world, &[], STEP, &mut other).expect("a flock steps");
        }));
    }
    let times = compare("a flock, whole steps", count, TURNS, contenders);
    at_least("a hash map against the flock", times[1].cpu / times[0].cpu, 8.0);
    at_least("a kd-tree against the flock", times[2].cpu / times[0].cpu, 20.0);
    if let Some(all) = times.get(3) {
        at_least("all pairs, one by one, against the flock", all.cpu / times[0].cpu, 200.0);
        assert_eq!(grid.gauges(), pairs.gauges(), "both techniques move alike");
    }
    Ok(())
}

/// From 10k to 1M elements.
fn growth() -> Result<(), Failure> {
    let world = WorldSpec::default().build()?;
    let counts = [10_000usize, 100_000, 1_000_000];
    let mut whole = Vec::new();
    for count in counts {
        let (mut flock, mut meter) = (flock(count, NeighbourTechnique::Grid)?, Meter::new());
        let (mut sorting, mut all) = (0.0, 0.0);
        let times = compare(
            "growth",
            count,
            TURNS,
            vec![Contender::new("flock", || {
                meter.begin_frame();
                flock.step(&world, &[], STEP, &mut meter).expect("a flock steps");
                let frame = meter.end_frame();
                sorting += frame.stage(Stage::Neighbours).as_secs_f64();
                all += frame.total().as_secs_f64();
            })],
        );
        at_most("share of sorting", sorting / all, 0.2);
        whole.push(times[0].cpu);
    }
    let exponent = (whole[2] / whole[0]).ln() / (counts[2] as f64 / counts[0] as f64).ln();
    at_most("time grows as the count to the power of", exponent, 1.06);
    Ok(())
}

/// All in one cell against all spread out.
fn crowd() -> Result<(), Failure> {
    let count = 1_000_000;
    let world = WorldSpec::default().build()?;
    let (mut meter, mut other) = (Meter::new(), Meter::new());
    let mut spread = flock(count, NeighbourTechnique::Grid)?;
    let mut heap = Flock::new(&spec(REACH), count as u32, Span::from(0.1), 1)?;
    let times: Vec<Median> = compare(
        "a crowd",
        count,
        3,
        vec![
            Contender::new("spread out", || {
                spread.step(&world, &[], STEP, &mut meter).expect("a flock steps");
            }),
            Contender::new("all in one cell", || {
                heap.step(&world, &[], STEP, &mut other).expect("a flock steps");
            }),
        ],
    );
    at_most("all in one cell against spread out", times[1].cpu / times[0].cpu, 3.0);
    Ok(())
}

/// A million discs that jam in a plane: what a step costs, and what a round adds to it.
fn apart() -> Result<(), Failure> {
    let count = 1_000_000u32;
    let side = count.isqrt();
    let world = WorldSpec::default().build()?;
    let mut discs = BodyColumns::default();
    for id in 0..side * side {
        // On a lattice, a little out of place: most touch two or three others.
        let [dx, dz, _] = hash3(id, 3, 1).map(|bits| (unit(bits) - 0.5) * 0.3);
        let (x, z) = ((id % side) as f32, (id / side) as f32);
        let place = BodyRow { px: x + dx, pz: z + dz, size: 0.5, ..BodyRow::default() };
        discs.push(&BodyRow { life: f32::INFINITY, id, key: id, ..place });
    }
    // No disc ever sleeps.
    let spec = ApartSpec::default().rest(0.0).mass_power(2.0);
    let run = |rounds: u32| -> Result<Contender<'_>, Failure> {
        let mut apart = PushApart::new(&spec.rounds(rounds), Some(KeepTo::Flat))?;
        let (mut discs, world, mut meter) = (discs.clone(), world.clone(), Meter::new());
        let name = if rounds == 1 { "one round" } else { "five rounds" };
        let step =
            move || apart.step(&mut discs.bodies(), &world, 0.1, &mut meter).expect("discs are pushed");
        Ok(Contender::new(name, step))
    };
    let contenders = vec![run(1)?, run(5)?];
    let times = compare("discs in a plane", count as usize, 5, contenders);
    let per = |seconds: f64| seconds * 1e9 / f64::from(count);
    let round = per(times[1].cpu - times[0].cpu) / 4.0;
    at_most("nanoseconds of a core for a disc and round", round, 40.0);
    // What a step costs beside its rounds: sorting, touching, meeting.
    println!("  a step beside its rounds: {:.0} ns a disc", per(times[0].cpu) - round);
    at_most("share of two cores, ten steps a second of one round", times[0].cpu * 10.0 / 2.0, 0.2);
    Ok(())
}
