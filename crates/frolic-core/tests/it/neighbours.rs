//! Neighbours against all pairs, on kind and hostile places.

use std::collections::BTreeSet;

use frolic_core::neighbours::{
    AxisSpec, Near, NeighbourSpec, NeighbourTechnique, Neighbours, Others, groups,
};
use frolic_core::random::{hash3, unit};
use frolic_core::{Counter, Meter, Stage, Threads};
use proptest::prelude::*;

/// Positions as columns.
#[derive(Debug, Clone, PartialEq)]
struct Places([Vec<f32>; 3]);

impl Places {
    fn new(all: &[[f32; 3]]) -> Self {
        Self([0, 1, 2].map(|axis| all.iter().map(|at| at[axis]).collect()))
    }

    fn columns(&self) -> [&[f32]; 3] {
        self.0.each_ref().map(|column| &column[..])
    }

    fn at(&self, nth: usize) -> [f32; 3] {
        self.0.each_ref().map(|column| column[nth])
    }

    fn len(&self) -> usize {
        self.0[0].len()
    }
}

/// Random places in a cube of this side about the origin.
fn cloud(count: u32, side: f32, seed: u32) -> Places {
    let at = |nth| hash3(nth, seed, 77).map(|bits| (unit(bits) - 0.5) * side);
    Places::new(&(0..count).map(at).collect::<Vec<_>>())
}

fn found(spec: &NeighbourSpec, populations: &[&Places]) -> Neighbours {
    let mut near = Neighbours::new(spec).unwrap();
    let columns: Vec<_> = populations.iter().map(|places| places.columns()).collect();
    near.find(&columns, &mut Meter::new()).unwrap();
    near
}

/// The way from one point to another, worked out plainly.
fn way(spec: &NeighbourSpec, from: [f32; 3], to: [f32; 3]) -> [f64; 3] {
    [0, 1, 2].map(|axis| {
        let plain = f64::from(to[axis]) - f64::from(from[axis]);
        match spec.axes[axis] {
            AxisSpec::Ignored => 0.0,
            AxisSpec::Wrapping(low, high) => {
                let length = f64::from(high) - f64::from(low);
                plain - (plain / length).round() * length
            }
            _ => plain,
        }
    })
}

fn square(way: [f64; 3]) -> f64 {
    way.iter().map(|it| it * it).sum()
}

prop_compose! {
    /// Places as kind and as hostile as they come.
    fn any_places()(
        kind in 0u32..7, count in 0u32..160, seed in any::<u32>(), scale in prop::sample::select(&[1e-4f32, 0.1, 1.0, 30.0, 5e5][..]), shift in -1e3f32..1e3,
    ) -> (Places, f32) {
        let random = |nth: u32, axis: usize| unit(hash3(nth, seed, 3)[axis]) - 0.5;
        let at = |nth: u32| -> [f32; 3] {
            match kind {
                // Spread out; all in one cell; on one spot; on borders of cells; on a line; in two heaps far apart; on whole numbers.
                0 => [0, 1, 2].map(|axis| random(nth, axis) * 8.0),
                1 => [0, 1, 2].map(|axis| random(nth, axis) * 0.3),
                2 => [0.25; 3],
                3 => [0, 1, 2].map(|axis| (random(nth, axis) * 6.0).round()),
                4 => [random(nth, 0) * 40.0, 0.0, 0.0],
                5 => [if nth.is_multiple_of(2) { -900.0 } else { 900.0 } + random(nth, 0), random(nth, 1), random(nth, 2)],
                _ => [0, 1, 2].map(|axis| shift + (random(nth, axis) * 4.0).round()),
            }
        };
        (Places::new(&(0..count).map(|nth| at(nth).map(|it| it * scale)).collect::<Vec<_>>()), scale)
    }
}

fn any_space(kind: u32, spec: NeighbourSpec, scale: f32) -> NeighbourSpec {
    match kind {
        0 => spec,
        1 => spec.flat(),
        2 => spec.bounded([-3.0 * scale; 3], [3.0 * scale; 3]),
        3 => spec.wrapping([-4.0 * scale; 3], [4.0 * scale; 3]),
        4 => spec.upright().wrapping([-2.5 * scale; 3], [5.0 * scale; 3]),
        _ => spec.axes([AxisSpec::Wrapping(-2.0 * scale, 2.0 * scale), AxisSpec::Open, AxisSpec::Ignored]),
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(96))]

    /// Both techniques find exactly those within the radius, in the same order, with the same bits.
    #[test]
    fn queries_are_plain_distances((places, scale) in any_places(), others in any_places(), space in 0u32..6, share in 0.05f32..1.0, query in 0usize..200) {
        let others = others.0;
        let spec = any_space(space, NeighbourSpec::new(scale * 1.3), scale);
        let slow = spec.technique(NeighbourTechnique::AllPairs);
        let [fast, slow] = [spec, slow].map(|spec| found(&spec, &[&places, &others]));
        let radius = spec.reach * share;
        let point = if places.len() == 0 { [0.1; 3] } else { places.at(query % places.len()).map(|it| it + scale * 0.01) };
        let by_grid: Vec<Near> = fast.within(point, radius).collect();
        let by_pairs: Vec<Near> = slow.within(point, radius).collect();
        prop_assert_eq!(&by_grid, &by_pairs);
        for level in frolic_core::simd::levels() {
            let tuned = fast.clone().tuned(level);
            let (mut others, mut visited) = (tuned.within(point, radius), Vec::new());
            others.visit(|near| visited.push(near));
            prop_assert_eq!(&visited, &by_grid);
            let mut tested = fast.within(point, radius);
            prop_assert_eq!(tested.by_ref().count(), visited.len());
            prop_assert_eq!(tested.tested(), others.tested());
        }
        let got: BTreeSet<[usize; 2]> = by_grid.iter().map(|near| [near.population, near.index]).collect();
        prop_assert_eq!(got.len(), by_grid.len(), "each once");
        for (population, places) in [&places, &others].into_iter().enumerate() {
            for nth in 0..places.len() {
                let way = way(&spec, point, places.at(nth));
                // Rounding decides at the rim.
                let largest = places.at(nth).into_iter().chain(point).fold(0.0f32, |most, it| most.max(it.abs()));
                let slack = f64::from(largest) * 1e-6 + f64::from(radius) * 1e-5;
                let far = square(way).sqrt();
                let is_in = got.contains(&[population, nth]);
                prop_assert!(if far < f64::from(radius) - slack { is_in } else { !is_in || far < f64::from(radius) + slack }, "{far} of {radius}: {is_in}");
            }
        }
        for near in &by_grid {
            prop_assert!(near.square <= radius * radius && near.weight == 1.0);
        }
        // The nearest are the first of all, sorted.
        let mut sorted = by_grid.clone();
        sorted.sort_by(|a, b| a.square.total_cmp(&b.square).then((a.population, a.index).cmp(&(b.population, b.index))));
        let mut nearest = Vec::new();
        fast.nearest(point, radius, 7, &mut nearest);
        prop_assert_eq!(&nearest[..], &sorted[..sorted.len().min(7)]);
        // Only one population.
        let alone: Vec<Near> = fast.within_population(1, point, radius).collect();
        prop_assert!(alone.iter().eq(by_grid.iter().filter(|near| near.population == 1)));
    }

    /// Each pair comes once, from both techniques in the same order, and each element has those of its pairs as neighbours.
    #[test]
    fn pairs_come_once((places, scale) in any_places(), (more, _) in any_places(), space in 0u32..6) {
        let spec = any_space(space, NeighbourSpec::new(scale), scale);
        let slow = spec.technique(NeighbourTechnique::AllPairs);
        let [fast, slow] = [spec, slow].map(|spec| found(&spec, &[&places, &more]));
        let pairs: Vec<_> = fast.pairs(scale).collect();
        prop_assert!(pairs.iter().copied().eq(slow.pairs(scale)));
        let ends = |pair: &frolic_core::neighbours::Pair| {
            let (a, b) = ((pair.population, pair.index), (pair.other.population, pair.other.index));
            (a.min(b), a.max(b))
        };
        let all: BTreeSet<_> = pairs.iter().map(ends).collect();
        prop_assert_eq!(all.len(), pairs.len());
        let (mut counts, mut scratch, mut meter) = (Vec::new(), Vec::new(), Meter::new());
        meter.begin_frame();
        let count = |own: usize, _: [f32; 3], others: &mut Others<'_>| {
            // One half of the elements by each way to look.
            let mut count = 0;
            if own.is_multiple_of(2) {
                others.visit(|_| count += 1);
                return count;
            }
            others.count() as u32
        };
        let mut sum = 0;
        for population in 0..2 {
            fast.each(population, scale, count, &mut counts, &mut scratch, &mut meter).unwrap();
            sum += counts.iter().map(|count| *count as usize).sum::<usize>();
            for (nth, count) in counts.iter().enumerate() {
                let own = (population, nth);
                prop_assert_eq!(all.iter().filter(|(a, b)| *a == own || *b == own).count(), *count as usize);
            }
        }
        prop_assert_eq!(sum, pairs.len() * 2);
        let frame = meter.end_frame();
        prop_assert_eq!(frame.count(Counter::PairsNear), sum as u64);
        prop_assert!(frame.count(Counter::PairsTested) >= sum as u64 && frame.count(Counter::Crowded) == 0);
    }

    /// Columns in the order of cells hold the same elements; equal cells keep their order; queries follow.
    #[test]
    fn arranging_loses_nothing((places, scale) in any_places(), space in 0u32..6) {
        let spec = any_space(space, NeighbourSpec::new(scale), scale);
        let mut near = found(&spec, &[&places]);
        let mut order = near.order(0).to_vec();
        let (mut numbers, mut scratch) = ((0..places.len() as u32).collect::<Vec<_>>(), Vec::new());
        near.arrange(0, &mut numbers, &mut scratch).unwrap();
        prop_assert_eq!(&numbers, &order);
        order.sort_unstable();
        prop_assert!(order.iter().copied().eq(0..places.len() as u32));
        let before: Vec<Near> = near.within([0.0; 3], scale).collect();
        near.arranged(0);
        for (before, after) in before.iter().zip(near.within([0.0; 3], scale)) {
            prop_assert_eq!(numbers[after.index] as usize, before.index);
            prop_assert_eq!(before.offset, after.offset);
        }
        prop_assert!(near.arrange(0, &mut vec![0u8; places.len() + 1], &mut Vec::new()).is_err());
        prop_assert!(near.arrange(3, &mut vec![0u8; 2], &mut Vec::new()).is_err());
        // All on one spot keep their order.
        let spot = found(&spec, &[&Places::new(&vec![[0.25 * scale; 3]; places.len()])]);
        prop_assert!(spot.order(0).iter().copied().eq(0..places.len() as u32));
    }
}

/// Sums over many neighbours have the same bits on any number of threads, and however elements are spread over parts.
#[test]
fn results_do_not_depend_on_threads() {
    let places = cloud(150_000, 30.0, 9);
    let run = |threads: u32| {
        Threads::new(threads).run(|| {
            let mut near = found(&NeighbourSpec::new(0.7), &[&places]);
            let (mut sums, mut scratch, mut meter) = (Vec::new(), Vec::new(), Meter::new());
            let pull = |_: usize, _: [f32; 3], others: &mut Others<'_>| {
                others.fold([0.0f32; 3], |sum, near| {
                    [0, 1, 2].map(|axis| sum[axis] + near.offset[axis] / (near.square + 0.1))
                })
            };
            near.each(0, 0.7, pull, &mut sums, &mut scratch, &mut meter).unwrap();
            let order = near.order(0).to_vec();
            near.arranged(0);
            (order, sums)
        })
    };
    let first = run(1);
    assert!(first.1.iter().any(|sum| sum[0] != 0.0));
    for threads in [2, 7] {
        assert!(run(threads) == first, "{threads} threads");
    }
}

/// In a crowd a bounded number of candidates is looked at, and they stand for all.
#[test]
fn crowds_are_sampled() {
    let places = cloud(20_000, 0.5, 4);
    let spec = NeighbourSpec::new(1.0).most(200);
    let mut near = Neighbours::new(&spec).unwrap();
    let mut meter = Meter::new();
    let (mut counts, mut scratch) = (Vec::new(), Vec::new());
    let mut turns = Vec::new();
    for _ in 0..2 {
        meter.begin_frame();
        near.find(&[places.columns()], &mut meter).unwrap();
        let weigh = |_: usize, _: [f32; 3], others: &mut Others<'_>| {
            let weight: f32 = others.by_ref().map(|near| near.weight).sum();
            assert!(others.is_sampled() && others.tested() <= 200);
            weight
        };
        near.each(0, 1.0, weigh, &mut counts, &mut scratch, &mut meter).unwrap();
        let frame = meter.end_frame();
        assert_eq!(frame.count(Counter::Crowded), 20_000);
        assert!(frame.count(Counter::PairsTested) <= 200 * 20_000);
        assert!(frame.count(Counter::FullestCell) >= 20_000 / 8 && frame.count(Counter::CellsUsed) <= 8);
        assert!(
            frame.count(Counter::NeighbourBytes) >= 20_000 * 16
                && frame.stage(Stage::Neighbours) > std::time::Duration::ZERO
        );
        // All are within the radius of all.
        assert!(counts.iter().all(|weight| (weight - 20_000.0).abs() < 250.0), "{:?}", &counts[..4]);
        turns.push(near.within([0.0; 3], 1.0).map(|near| near.index).collect::<Vec<_>>());
    }
    assert!(turns[0] != turns[1], "each turn looks at others");
}

#[test]
fn what_cannot_be_is_refused() {
    let told = |spec: NeighbourSpec| spec.check().map_err(|error| error.to_string());
    assert!(told(NeighbourSpec::new(0.5).flat().wrapping([0.0; 3], [1.0; 3])).is_ok());
    for (part, spec) in [
        ("reach", NeighbourSpec::new(0.0)),
        ("reach", NeighbourSpec::new(f32::NAN)),
        ("reach", NeighbourSpec::new(f32::INFINITY)),
        ("most", NeighbourSpec::new(1.0).most(0)),
        ("axes.x", NeighbourSpec::new(1.0).bounded([1.0; 3], [0.0; 3])),
        (
            "0.6 m is over half of axes.x, which wraps after 1 m",
            NeighbourSpec::new(0.6).wrapping([0.0; 3], [1.0; 3]),
        ),
        ("no axis counts", NeighbourSpec::new(1.0).axes([AxisSpec::Ignored; 3])),
    ] {
        let told = told(spec).unwrap_err();
        assert!(told.contains(part), "{part}: {told}");
        assert!(Neighbours::new(&spec).is_err());
    }
    let mut near = Neighbours::new(&NeighbourSpec::new(1.0)).unwrap();
    let mut meter = Meter::new();
    let mut told =
        |columns: [&[f32]; 3]| near.find(&[[&[0.0]; 3], columns], &mut meter).unwrap_err().to_string();
    let lost = told([&[0.0, 1.0], &[2.0, f32::NAN], &[0.0; 2]]);
    assert!(lost.contains("element 1 of population 1 is at NaN"), "{lost}");
    assert!(told([&[0.0], &[f32::INFINITY], &[0.0]]).contains("inf"));
    assert!(told([&[0.0], &[], &[0.0]]).contains("differ in length"));
    // A radius beyond the reach finds what is within it, and a rule with one is refused.
    near.find(&[[&[0.0, 1.5, 9.0], &[0.0; 3], &[0.0; 3]]], &mut meter).unwrap();
    assert_eq!(near.within([0.0; 3], 100.0).count(), 1);
    assert_eq!(near.within([f32::NAN; 3], 1.0).count(), 0);
    assert_eq!((near.within([0.0; 3], f32::NAN).count(), near.populations()), (1, 1));
    let rule = |_: usize, _: [f32; 3], _: &mut Others<'_>| 0u8;
    for (population, radius) in [(0, 1.5), (0, f32::NAN), (0, 0.0), (1, 0.5)] {
        assert!(near.each(population, radius, rule, &mut Vec::new(), &mut Vec::new(), &mut meter).is_err());
    }
}

/// Those on one spot move apart, in opposite directions, in the plane that counts.
#[test]
fn elements_on_one_spot_have_opposite_directions() {
    let places = Places::new(&[[2.0; 3]; 5]);
    let near = found(&NeighbourSpec::new(1.0).flat(), &[&places]);
    let pairs: Vec<_> = near.pairs(1.0).collect();
    assert_eq!(pairs.len(), 10);
    for pair in pairs {
        let there = near.direction(pair.index, &pair.other);
        let mut back = pair.other;
        back.index = pair.index;
        assert_eq!(near.direction(pair.other.index, &back), there.map(|it| -it));
        assert!((there.iter().map(|it| it * it).sum::<f32>() - 1.0).abs() < 1e-5 && there[1] == 0.0);
    }
    let far = found(&NeighbourSpec::new(1.0), &[&Places::new(&[[0.0; 3], [0.6, 0.0, 0.8]])]);
    let pair = far.pairs(1.0).next().unwrap();
    assert_eq!(pair.other.distance(), 1.0);
    assert_eq!(far.direction(pair.index, &pair.other), pair.other.offset);
}

/// Groups by looking at every pair.
fn groups_of(spec: &NeighbourSpec, columns: &[Vec<f32>; 3]) -> usize {
    let count = columns[0].len();
    let mut group: Vec<usize> = (0..count).collect();
    for a in 0..count {
        for b in 0..a {
            let square: f32 = (0..3)
                .map(|axis| {
                    let way = columns[axis][a] - columns[axis][b];
                    match spec.axes[axis] {
                        AxisSpec::Ignored => 0.0,
                        AxisSpec::Wrapping(low, high) => way - (way / (high - low)).round() * (high - low),
                        _ => way,
                    }
                })
                .map(|way| way * way)
                .sum();
            if square <= spec.reach * spec.reach && group[a] != group[b] {
                let (from, to) = (group[a], group[b]);
                group.iter_mut().filter(|it| **it == from).for_each(|it| *it = to);
            }
        }
    }
    group.sort_unstable();
    group.dedup();
    group.len()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    /// Groups are those that a look at every pair finds, in open space, in planes, and where space begins again.
    #[test]
    fn groups_are_those_of_all_pairs(
        places in prop::collection::vec(prop::array::uniform3(-2f32..2.0), 0..160),
        reach in 0.05f32..0.9, space in 0u32..4,
    ) {
        let spec = NeighbourSpec::new(reach);
        let spec = match space {
            0 => spec,
            1 => spec.flat(),
            2 => spec.upright().wrapping([-2.0; 3], [2.0; 3]),
            _ => spec.wrapping([-2.0, -2.5, -2.0], [2.0, 2.0, 3.0]),
        };
        let columns = [0, 1, 2].map(|axis| places.iter().map(|place| place[axis]).collect::<Vec<f32>>());
        let found = groups(&spec, columns.each_ref().map(|column| &column[..])).unwrap();
        prop_assert_eq!(found, groups_of(&spec, &columns));
    }
}

#[test]
fn groups_refuse_what_they_cannot_count() {
    let spec = NeighbourSpec::new(0.5);
    assert_eq!(groups(&spec, [&[], &[], &[]]).unwrap(), 0);
    // All on one spot, and far from each other.
    assert_eq!(groups(&spec, [&[1.0; 5000], &[2.0; 5000], &[0.0; 5000]]).unwrap(), 1);
    assert_eq!(groups(&spec, [&[-1e9, 1e9, 0.0], &[0.0; 3], &[0.0; 3]]).unwrap(), 3);
    let (two, one) = ([0.0; 2], [0.0; 1]);
    assert!(groups(&spec, [&two, &one, &two]).is_err());
    assert!(groups(&spec, [&[f32::NAN], &[0.0], &[0.0]]).is_err());
    assert!(groups(&NeighbourSpec::new(f32::NAN), [&[0.0], &[0.0], &[0.0]]).is_err());
}
