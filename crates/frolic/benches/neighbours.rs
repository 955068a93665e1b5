//! Neighbours in space, about 30 within the radius: sorting by cell and a rule over all of them, against a hash map of cells and against all pairs.
//!
//! `cargo bench -p frolic --bench neighbours [-- rule | growth | crowd]`. Contenders take turns.

mod support;

use std::collections::HashMap;

use frolic::core::neighbours::{NeighbourSpec, NeighbourTechnique, Neighbours, Others};
use frolic::core::random::{hash3, unit};
use frolic::prelude::*;
use rayon::prelude::*;
use support::{Contender, Median, at_least, at_most, compare};

type Failure = Box<dyn std::error::Error + Send + Sync>;

/// Radius of the rule, in metres.
const REACH: f32 = 1.0;

/// Neighbours of an element, on average.
const AROUND: f32 = 30.0;

/// Turns of each contender.
const TURNS: usize = 9;

fn main() -> Result<(), Failure> {
    let words: Vec<String> = std::env::args().skip(1).filter(|word| !word.starts_with("--")).collect();
    let asked = |name: &str| words.is_empty() || words.iter().any(|word| word == name);
    if asked("rule") {
        for count in [10_000, 100_000] {
            rule(count)?;
        }
    }
    if asked("growth") {
        growth()?;
    }
    if asked("crowd") {
        crowd()?;
    }
    Ok(())
}

/// Random places in a cube, as dense as the rule wants.
fn places(count: usize) -> [Vec<f32>; 3] {
    let sphere = 4.0 / 3.0 * std::f32::consts::PI * REACH.powi(3);
    let side = (count as f32 * sphere / AROUND).cbrt();
    [0, 1, 2].map(|axis| (0..count).map(|nth| unit(hash3(nth as u32, 5, 1)[axis]) * side).collect())
}

fn pull(sum: [f32; 3], offset: [f32; 3], square: f32) -> [f32; 3] {
    let share = 1.0 / (square + 0.1);
    [sum[0] + offset[0] * share, sum[1] + offset[1] * share, sum[2] + offset[2] * share]
}

/// Memory of a contender.
#[derive(Default)]
struct Desk {
    sums: Vec<[f32; 3]>,
    scratch: Vec<[f32; 3]>,
}

fn by_frolic(near: &mut Neighbours, at: &[Vec<f32>; 3], desk: &mut Desk, meter: &mut Meter) {
    near.find(&[[&at[0], &at[1], &at[2]]], meter).expect("finite places");
    let rule = |_: usize, _: [f32; 3], others: &mut Others<'_>| {
        let mut sum = [0.0; 3];
        others.visit(|other| sum = pull(sum, other.offset, other.square));
        sum
    };
    near.each(0, REACH, rule, &mut desk.sums, &mut desk.scratch, meter).expect("there is one population");
}

/// As it is usually written first: a list of elements for each cell.
fn by_map(at: &[Vec<f32>; 3], desk: &mut Desk) {
    let cell = |nth: usize| at.each_ref().map(|column| (column[nth] / REACH).floor() as i32);
    let mut cells: HashMap<[i32; 3], Vec<u32>> = HashMap::new();
    for nth in 0..at[0].len() {
        cells.entry(cell(nth)).or_default().push(nth as u32);
    }
    desk.sums.resize(at[0].len(), [0.0; 3]);
    desk.sums.par_iter_mut().enumerate().for_each(|(own, into)| {
        let (mut sum, [x, y, z]) = ([0.0; 3], cell(own));
        for place in (0..27).map(|nth| [x + nth % 3 - 1, y + nth / 3 % 3 - 1, z + nth / 9 - 1]) {
            for &other in cells.get(&place).map_or(&[][..], |list| list) {
                let offset = at.each_ref().map(|column| column[other as usize] - column[own]);
                let square = offset.iter().map(|way| way * way).sum::<f32>();
                if other as usize != own && square <= REACH * REACH {
                    sum = pull(sum, offset, square);
                }
            }
        }
        *into = sum;
    });
}

fn rule(count: usize) -> Result<(), Failure> {
    let at = places(count);
    let spec = NeighbourSpec::new(REACH);
    let (mut grid, mut pairs) =
        (Neighbours::new(&spec)?, Neighbours::new(&spec.technique(NeighbourTechnique::AllPairs))?);
    let (mut ours, mut map, mut all) = (Desk::default(), Desk::default(), Desk::default());
    let (mut meter, mut other) = (Meter::new(), Meter::new());
    let mut contenders = vec![
        Contender::new("grid", || by_frolic(&mut grid, &at, &mut ours, &mut meter)),
        Contender::new("a hash map of cells", || by_map(&at, &mut map)),
    ];
    if count <= 10_000 {
        contenders.push(Contender::new("all pairs", || by_frolic(&mut pairs, &at, &mut all, &mut other)));
    }
    let times = compare("a rule over about 30 neighbours, sorting included", count, TURNS, contenders);
    at_least("a hash map against the grid", times[1].cpu / times[0].cpu, 8.0);
    if let Some(all) = times.get(2) {
        at_least("all pairs against the grid", all.cpu / times[0].cpu, 200.0);
    }
    assert!(all.sums.is_empty() || ours.sums == all.sums, "both techniques give the same bits");
    Ok(())
}

/// From 10k to 1M elements.
fn growth() -> Result<(), Failure> {
    let counts = [10_000usize, 100_000, 1_000_000];
    let mut whole = Vec::new();
    for count in counts {
        let at = places(count);
        let (mut sorter, mut near) =
            (Neighbours::new(&NeighbourSpec::new(REACH))?, Neighbours::new(&NeighbourSpec::new(REACH))?);
        let (mut desk, mut meter, mut other) = (Desk::default(), Meter::new(), Meter::new());
        let times = compare(
            "growth",
            count,
            TURNS,
            vec![
                Contender::new("sorting", || {
                    sorter.find(&[[&at[0], &at[1], &at[2]]], &mut meter).expect("finite places");
                }),
                Contender::new("sorting and the rule", || by_frolic(&mut near, &at, &mut desk, &mut other)),
            ],
        );
        at_most("share of sorting", times[0].cpu / times[1].cpu, 0.2);
        whole.push(times[1].cpu);
    }
    let exponent = (whole[2] / whole[0]).ln() / (counts[2] as f64 / counts[0] as f64).ln();
    at_most("time grows as the count to the power of", exponent, 1.06);
    Ok(())
}

/// All in one cell against all spread out.
fn crowd() -> Result<(), Failure> {
    let count = 1_000_000;
    let spread = places(count);
    let heap = spread.each_ref().map(|column| column.iter().map(|it| it * 1e-3).collect::<Vec<f32>>());
    let spec = NeighbourSpec::new(REACH).most(128);
    let (mut one, mut two, mut meter) = (Neighbours::new(&spec)?, Neighbours::new(&spec)?, Meter::new());
    let (mut desk, mut other, mut own) = (Desk::default(), Desk::default(), Meter::new());
    let times: Vec<Median> = compare(
        "a crowd",
        count,
        3,
        vec![
            Contender::new("spread out", || by_frolic(&mut one, &spread, &mut desk, &mut meter)),
            Contender::new("all in one cell", || by_frolic(&mut two, &heap, &mut other, &mut own)),
        ],
    );
    at_most("all in one cell against spread out", times[1].cpu / times[0].cpu, 3.0);
    Ok(())
}
