//! The statistics of samples: quantiles, random draws, intervals that hold what they should, and warm-up.

use frolic_statistics::{
    Dice, bootstrap, bootstrap_pairs, bootstrap_ratio, median, quantile, quantile_of, resample, warm_up,
};
use proptest::prelude::*;

/// A sum of uniform numbers: close to a normal distribution about `mean`.
fn noisy(dice: &mut Dice, mean: f64, spread: f64) -> f64 {
    let sum: f64 = (0..12).map(|_| dice.unit()).sum();
    mean + (sum - 6.0) * spread
}

proptest! {
    /// Quantiles lie within the samples, rise with their share, and do not depend on the order.
    #[test]
    fn quantiles_rise_from_the_least_to_the_greatest(
        mut samples in prop::collection::vec(-1e6f64..1e6, 1..60), shares in prop::array::uniform2(0.0f64..=1.0), seed in any::<u64>(),
    ) {
        let [low, high] = if shares[0] <= shares[1] { shares } else { [shares[1], shares[0]] };
        prop_assert!(quantile_of(&samples, low) <= quantile_of(&samples, high));
        let before = quantile_of(&samples, low);
        Dice::new(seed).shuffle(&mut samples);
        prop_assert_eq!(quantile_of(&samples, low), before);
        samples.sort_by(f64::total_cmp);
        prop_assert_eq!(quantile(&samples, 0.0), samples[0]);
        prop_assert_eq!(quantile(&samples, 1.0), samples[samples.len() - 1]);
        prop_assert_eq!(median(&samples), quantile(&samples, 0.5));
    }

    /// A seed gives one stream; draws below a number are, and every number comes up.
    #[test]
    fn draws_are_even_and_repeatable(seed in any::<u64>(), most in 1usize..20) {
        let (mut one, mut two) = (Dice::new(seed), Dice::new(seed));
        let mut counts = vec![0u32; most];
        for _ in 0..most * 400 {
            let drawn = one.below(most);
            prop_assert_eq!(drawn, two.below(most));
            counts[drawn] += 1;
        }
        prop_assert!(counts.iter().all(|count| (280..520).contains(count)), "{:?}", counts);
        prop_assert!((0.0..1.0).contains(&one.unit()));
    }

    /// Shuffling moves things and loses none.
    #[test]
    fn a_shuffle_keeps_everything(seed in any::<u64>(), count in 0usize..200) {
        let mut things: Vec<usize> = (0..count).collect();
        Dice::new(seed).shuffle(&mut things);
        let moved = things.iter().enumerate().filter(|(nth, thing)| nth != *thing).count();
        prop_assert!(count < 20 || moved > count / 2);
        things.sort_unstable();
        prop_assert!(things.iter().enumerate().all(|(nth, thing)| nth == *thing));
    }

    /// Each round drawn comes from its own phase, whole.
    #[test]
    fn rounds_are_drawn_from_their_own_phase(seed in any::<u64>(), phases in 1usize..5, turns in 2usize..8) {
        let rounds: Vec<[f64; 2]> =
            (0..phases * turns).map(|nth| [(nth % phases) as f64, nth as f64]).collect();
        let borrowed: Vec<&[f64]> = rounds.iter().map(|round| &round[..]).collect();
        let mut drawn = Vec::new();
        resample(&borrowed, phases, &mut Dice::new(seed), &mut drawn);
        prop_assert_eq!(drawn.len(), rounds.len() * 2);
        for (nth, pair) in drawn.chunks_exact(2).enumerate() {
            prop_assert_eq!(pair[0], (nth % phases) as f64);
            prop_assert_eq!(pair[1] as usize % phases, nth % phases);
        }
    }
}

/// Of two hundred sets of samples, the interval of 95 % holds the true median of at least 180.
#[test]
fn intervals_hold_the_truth_as_often_as_they_say() {
    let mut dice = Dice::new(11);
    let held = (0..200)
        .filter(|_| {
            let rounds: Vec<[f64; 5]> = (0..15)
                .map(|_| {
                    let own = noisy(&mut dice, 10.0, 0.3);
                    [0; 5].map(|_| noisy(&mut dice, own, 0.2))
                })
                .collect();
            bootstrap(&rounds, 1, median).holds(10.0)
        })
        .count();
    assert!((180..=200).contains(&held), "{held} of 200");
}

/// More rounds make an interval narrower; one round gives its range.
#[test]
fn intervals_narrow_with_more_rounds() {
    let mut dice = Dice::new(5);
    let mut rounds = |count: usize| -> Vec<[f64; 3]> {
        (0..count).map(|_| [0; 3].map(|_| noisy(&mut dice, 4.0, 0.5))).collect()
    };
    let [few, many] = [8, 200].map(|count| bootstrap(&rounds(count), 1, median).half_width_of(4.0));
    assert!(many < few * 0.5, "{many} of {few}");
    let alone = bootstrap(&[[3.0, 1.0, 2.0]], 1, median);
    assert_eq!((alone.low, alone.high), (1.0, 3.0));
    assert_eq!(alone.half_width_of(0.0), f64::INFINITY);
}

/// A difference of 5 % is found where rounds are compared in pairs, though the machine drifts by more; and none is found where there is none.
#[test]
fn pairs_see_through_drift() {
    let mut dice = Dice::new(3);
    let drift: Vec<f64> = (0..24).map(|turn| 1.0 + f64::from(turn) * 0.02).collect();
    let mut turns = |factor: f64| -> Vec<[f64; 3]> {
        drift.iter().map(|slow| [0; 3].map(|_| noisy(&mut dice, slow * factor, 0.005))).collect()
    };
    let (base, same, slower) = (turns(1.0), turns(1.0), turns(1.05));
    let found = bootstrap_pairs(&base, &slower, 1, 0.95, median);
    assert!(found.low > 1.03 && found.high < 1.07, "{found:?}");
    assert!(bootstrap_pairs(&base, &same, 1, 0.95, median).holds(1.0));
    // Drawn apart, the drift hides it.
    let apart = bootstrap_ratio(&base, &slower, 1, 0.95, median);
    assert!(apart.high - apart.low > (found.high - found.low) * 2.0);
}

/// Slow samples at the start are left out; level ones are kept; never more than half.
#[test]
fn warm_up_ends_where_samples_level() {
    let mut dice = Dice::new(8);
    let samples: Vec<f64> = (0..200)
        .map(|nth| {
            let cold = if nth < 40 { f64::from(40 - nth) * 0.2 } else { 0.0 };
            noisy(&mut dice, 5.0 + cold, 0.05)
        })
        .collect();
    let skipped = warm_up(&samples);
    assert!((25..=60).contains(&skipped), "{skipped}");
    let level: Vec<f64> = (0..200).map(|_| noisy(&mut dice, 5.0, 0.05)).collect();
    assert!(warm_up(&level) <= 50, "{}", warm_up(&level));
    let rising: Vec<f64> = (0..100).map(f64::from).collect();
    assert!(warm_up(&rising) <= 50);
    assert_eq!(warm_up(&[]), 0);
}
