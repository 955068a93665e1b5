//! Placements against plain, slow ways to find the same, and against what they promise.

use crate::common::with;
use frolic_core::{
    AreaSpec, Asset, Assets, ClumpSpec, EachSpec, FilterBy, FilterSpec, On, PatternSpec, PlacedColumns,
    Placement, PlacementSpec, Plane, Span, Surface, TerrainSpec,
};
use proptest::prelude::*;

fn ground(pattern: PatternSpec) -> PlacementSpec {
    PlacementSpec::new(On::Ground(pattern))
}

fn place(spec: PlacementSpec, count: Option<u32>, assets: &Assets) -> PlacedColumns {
    Placement::new(&[spec], count, 3, assets).unwrap().all()
}

fn spots(placed: &PlacedColumns) -> Vec<[f32; 2]> {
    placed.px().iter().zip(placed.pz()).map(|(x, z)| [*x, *z]).collect()
}

fn least_distance(spots: &[[f32; 2]]) -> f32 {
    let mut sorted = spots.to_vec();
    sorted.sort_by(|a, b| a[0].total_cmp(&b[0]));
    let mut least = f32::INFINITY;
    for (nth, a) in sorted.iter().enumerate() {
        for b in &sorted[nth + 1..] {
            if b[0] - a[0] >= least {
                break;
            }
            least = least.min((b[0] - a[0]).hypot(b[1] - a[1]));
        }
    }
    least
}

/// Crossings found by walking around every ring of each centre in small steps and halving where the distance to the other centre's ring
/// changes sign.
fn crossings_by_walking(
    centres: &[[f32; 2]],
    radius: impl Fn(u32) -> f64,
    rings: u32,
    half: f64,
) -> Vec<[f64; 2]> {
    let mut found: Vec<[f64; 2]> = Vec::new();
    for a in 0..centres.len() {
        for b in a + 1..centres.len() {
            for m in 1..=rings {
                let at = |turn: f64| {
                    let (sin, cos) = turn.sin_cos();
                    [f64::from(centres[a][0]) + radius(m) * cos, f64::from(centres[a][1]) + radius(m) * sin]
                };
                let to_b = |turn: f64| {
                    let [x, z] = at(turn);
                    (x - f64::from(centres[b][0])).hypot(z - f64::from(centres[b][1]))
                };
                const STEPS: u32 = 2000;
                let turn = |k: u32| std::f64::consts::TAU * (f64::from(k) + 0.137) / f64::from(STEPS);
                for k in 0..STEPS {
                    let (d0, d1) = (to_b(turn(k)), to_b(turn(k + 1)));
                    for n in 1..=rings {
                        let r = radius(n);
                        if (d0 - r) * (d1 - r) < 0.0 {
                            let (mut low, mut high) = (turn(k), turn(k + 1));
                            for _ in 0..40 {
                                let middle = (low + high) * 0.5;
                                if (to_b(low) - r) * (to_b(middle) - r) <= 0.0 {
                                    high = middle;
                                } else {
                                    low = middle;
                                }
                            }
                            let spot = at(low);
                            if spot.iter().all(|v| v.abs() < half) {
                                found.push(spot);
                            }
                        }
                    }
                }
            }
        }
    }
    found
}

#[test]
fn rings_cross_where_walking_finds_them() {
    let centres = vec![[-1.3, 0.4], [2.1, -0.2], [0.3, 3.3]];
    let (spacing, swell, period) = (0.61f32, 0.11f32, 4.5f32);
    let rings = PatternSpec::Rings { centres: centres.clone(), spacing, swell, period };
    let half = 3.0;
    let placed =
        place(ground(rings).area(AreaSpec::new([0.0; 2], [half * 2.0; 2])), None, &Assets::default());
    let radius = |n: u32| {
        f64::from(n) * f64::from(spacing)
            + f64::from(swell) * (f64::from(n) / f64::from(period) * std::f64::consts::TAU).sin()
    };
    let expected = crossings_by_walking(&centres, radius, 18, f64::from(half));
    let found = spots(&placed);
    assert!(found.len() > 200);
    assert_eq!(found.len(), expected.len());
    for [x, z] in expected {
        let off = found
            .iter()
            .map(|at| (f64::from(at[0]) - x).hypot(f64::from(at[1]) - z))
            .fold(f64::MAX, f64::min);
        assert!(off < 1e-3, "none at {x} {z}, the nearest is {off} m off");
    }
}

#[test]
fn blue_noise_holds_its_distance() {
    for distance in [0.05f32, 0.4] {
        let spec = ground(PatternSpec::BlueNoise { distance })
            .area(AreaSpec::new([1.0, -2.0], [distance * 60.0; 2]));
        let found = spots(&place(spec, None, &Assets::default()));
        assert!(least_distance(&found) >= distance * 0.9999);
        // And leaves no gaps: as many as so many candidates give.
        let packed = found.len() as f32 / 3600.0;
        assert!((0.53..0.6).contains(&packed), "{packed}");
    }
    // A count that leaves the distance open is met, and evenly so.
    let spec = ground(PatternSpec::BlueNoise { distance: 0.0 });
    let found = spots(&place(spec, Some(2000), &Assets::default()));
    assert_eq!(found.len(), 2000);
    let scattered = spots(&place(ground(PatternSpec::Scattered), Some(2000), &Assets::default()));
    assert!(least_distance(&found) > 0.15 && least_distance(&scattered) < 0.05);
}

/// Chi-square over the squares of a picture: as many in each as it is bright there.
#[test]
fn density_follows_its_picture() {
    let side = 8usize;
    let values: Vec<f32> = (0..side * side).map(|n| 0.1 + 0.9 * ((n * 37 % 64) as f32 / 63.0)).collect();
    // Each value four times across and up, so that between the middles of its square it is level.
    let fine: Vec<f32> = (0..64 * 64).map(|n| values[(n / 64 / 8) * side + (n % 64) / 8]).collect();
    let mut assets = Assets::default();
    assets.insert("cover", Asset::Plane(Plane::new(64, 64, fine).unwrap().into()));
    let picture = FilterBy::Picture { asset: "cover".into(), centre: [0.0; 2], size: [16.0; 2] };
    let area = AreaSpec::new([0.0; 2], [16.0; 2]);
    let spec = ground(PatternSpec::Scattered).area(area).filter(FilterSpec::new(picture));
    let count = 60_000;
    let found = spots(&place(spec, Some(count), &assets));
    assert_eq!(found.len(), count as usize);
    let mut bins = vec![0u32; 64];
    let mut inner = 0;
    for [x, z] in found {
        // Within a square, away from its edge, where the picture is level.
        let (u, v) = ((x + 8.0) / 2.0, (8.0 - z) / 2.0);
        if (0.125..0.875).contains(&u.fract()) && (0.125..0.875).contains(&v.fract()) {
            bins[v as usize * side + u as usize] += 1;
            inner += 1;
        }
    }
    let total: f32 = values.iter().sum();
    let chi: f64 = (0..64)
        .map(|n| {
            let expected = f64::from(values[n] / total) * f64::from(inner);
            (f64::from(bins[n]) - expected).powi(2) / expected
        })
        .sum();
    assert!((chi - 63.0).abs() < 5.0 * (2.0f64 * 63.0).sqrt(), "chi-square {chi}");
}

#[test]
fn counts_hold_under_filters() {
    let path = FilterBy::Path {
        points: vec![[-5.0, -4.0], [1.0, 0.0], [5.0, 4.0]],
        closed: false,
        width: 0.6,
        soft: 0.4,
    };
    for pattern in [
        PatternSpec::Scattered,
        PatternSpec::BlueNoise { distance: 0.0 },
        PatternSpec::Grid { spacing: [0.0; 2], jitter: 0.5, turn_degrees: 10.0 },
    ] {
        for count in [0, 1, 7, 3000] {
            let along = ground(pattern.clone()).filter(FilterSpec::new(path.clone()));
            let placed = place(along, Some(count), &Assets::default());
            assert_eq!(placed.len(), count as usize, "{pattern:?}");
            let filter = FilterSpec::new(path.clone()).build(&Assets::default()).unwrap();
            assert!(spots(&placed).iter().all(|at| filter.share(at[0], at[1], None) > 0.0));
        }
        let away = ground(pattern).filter(FilterSpec::new(path.clone()).inverted());
        let filter = FilterSpec::new(path.clone()).build(&Assets::default()).unwrap();
        let placed = place(away, Some(3000), &Assets::default());
        assert!(spots(&placed).iter().all(|at| filter.share(at[0], at[1], None) < 1.0));
    }
    // Nothing at all is let through: few or none, and no endless search.
    let mut assets = Assets::default();
    assets.insert("black", Asset::Plane(Plane::new(2, 2, vec![0.0; 4]).unwrap().into()));
    let black = FilterBy::Picture { asset: "black".into(), centre: [0.0; 2], size: [10.0; 2] };
    let none = ground(PatternSpec::Scattered).filter(FilterSpec::new(black));
    assert_eq!(place(none, Some(1000), &assets).len(), 0);
}

#[test]
fn elements_stand_on_their_ground_and_in_no_hole() {
    let n = 32;
    let heights: Vec<f32> = (0..n * n)
        .map(|k| {
            let (x, y) = (k % n, k / n);
            if (8..12).contains(&x) && (8..12).contains(&y) {
                f32::NAN
            } else {
                0.2 + 0.5 * (x as f32 / n as f32)
            }
        })
        .collect();
    let mut assets = Assets::default();
    assets.insert("hill", Asset::Plane(Plane::new(n, n, heights).unwrap().into()));
    let terrain = with(TerrainSpec::new("hill", [20.0, 20.0], 4.0), |it| {
        it.hole = 0.1;
    });
    let spec = ground(PatternSpec::Scattered)
        .area(AreaSpec::new([0.0; 2], [30.0; 2]))
        .terrain(terrain.clone())
        .each(with(EachSpec::default(), |it| {
            it.square = Some(1.0);
        }));
    let placed = place(spec, Some(5000), &assets);
    let terrain = terrain.build(&assets).unwrap();
    for nth in 0..placed.len() {
        let row = placed.row(nth).unwrap();
        let footing = terrain.at(row.px, row.pz).expect("beside the map or in a hole");
        assert!(row.py.is_finite() && (row.py - footing.y).abs() < 1e-5);
    }
    // Level with the ground, which rises along x: the top leans against x.
    let middle: Vec<f32> = (0..placed.len())
        .filter(|&n| (2.0..9.0).contains(&placed.px()[n]))
        .map(|n| placed.tilt()[n])
        .collect();
    assert!(middle.iter().all(|tilt| (tilt - 0.1f32.atan()).abs() < 0.05), "{:?}", &middle[..3]);
    // The whole map is one hole.
    assets.insert("pit", Asset::Plane(Plane::new(2, 2, vec![f32::NAN; 4]).unwrap().into()));
    let pit = with(TerrainSpec::new("pit", [20.0, 20.0], 4.0), |it| {
        it.hole = 0.0;
    });
    assert_eq!(place(ground(PatternSpec::Scattered).terrain(pit), Some(100), &assets).len(), 0);
}

#[test]
fn assets_are_covered_by_area() {
    let mut assets = Assets::default();
    assets.insert("ball", Asset::Surface(Surface::ball(16).into()));
    let spec = PlacementSpec::new(On::Mesh { asset: "ball".into() });
    let placed = place(spec.clone(), Some(8000), &assets);
    let upper = placed.py().iter().filter(|y| **y > 0.5).count() as f32 / 8000.0;
    // Archimedes: a quarter of a ball's skin is above half its radius.
    assert!((upper - 0.25).abs() < 0.02, "{upper}");
    // Square to the skin: at the top they stand, at the side they point out.
    for nth in 0..placed.len() {
        let row = placed.row(nth).unwrap();
        let out = [row.turn.sin() * row.tilt.sin(), row.tilt.cos(), row.turn.cos() * row.tilt.sin()];
        let dot = out[0] * row.px + out[1] * row.py + out[2] * row.pz;
        assert!(dot > 0.97, "{row:?}");
    }
    // A density is so many a square metre of skin.
    let dense = place(spec.density(100.0), None, &assets).len() as f32;
    assert!((dense / (400.0 * std::f32::consts::PI) - 1.0).abs() < 0.02, "{dense}");
    assert_eq!(
        place(PlacementSpec::new(On::Places { asset: "read".into() }), None, &{
            let mut assets = Assets::default();
            assets.insert("read", Asset::Places(placed.into()));
            assets
        })
        .len(),
        8000
    );
}

#[test]
fn layers_share_the_count_and_kinds_come_by_weight() {
    let each = with(EachSpec::default(), |it| {
        it.kinds = vec![3.0, 0.0, 1.0];
    });
    let mut few = ground(PatternSpec::BlueNoise { distance: 0.0 });
    few.share = Some(0.25);
    let layers = [ground(PatternSpec::Scattered).each(each), few];
    let placed = Placement::new(&layers, Some(10_000), 1, &Assets::default()).unwrap().all();
    assert_eq!(placed.len(), 10_000);
    let of = |kind: u32| placed.kind()[..8000].iter().filter(|&&it| it == kind).count();
    assert!((of(0) as f32 / 8000.0 - 0.75).abs() < 0.03 && of(1) == 0 && of(2) > 1500);
    assert!(placed.kind()[8000..].iter().all(|&kind| kind == 0));
}

#[test]
fn clumps_gather_and_turn_their_elements() {
    let clumps = with(ClumpSpec::new(2.0), |it| {
        it.thin = 1.0;
        it.facing = 1.0;
        it.outwards = 0.0;
        it.blend = 0.0;
    });
    let spec = ground(PatternSpec::Scattered).area(AreaSpec::new([0.0; 2], [40.0; 2]));
    let (even, bunched) = (
        spots(&place(spec.clone(), Some(4000), &Assets::default())),
        spots(&place(spec.clone().clumps(clumps), Some(4000), &Assets::default())),
    );
    // Variance of the numbers in squares of a metre.
    let variance = |found: &[[f32; 2]]| {
        let mut bins = vec![0.0f32; 1600];
        found.iter().for_each(|[x, z]| {
            bins[((z + 20.0) as usize).min(39) * 40 + ((x + 20.0) as usize).min(39)] += 1.0;
        });
        bins.iter().map(|n| (n - 2.5).powi(2)).sum::<f32>() / 1600.0
    };
    assert!(variance(&bunched) > variance(&even) * 1.6, "{} {}", variance(&bunched), variance(&even));
    let placed = place(spec.clumps(clumps), Some(4000), &Assets::default());
    let mut alike = 0;
    let mut pairs = 0;
    for a in 0..placed.len() {
        for b in a + 1..placed.len() {
            let off = (placed.px()[a] - placed.px()[b]).hypot(placed.pz()[a] - placed.pz()[b]);
            if off < 0.15 {
                pairs += 1;
                alike += u32::from((placed.turn()[a] - placed.turn()[b]).cos() > 0.9);
            }
        }
    }
    assert!(pairs > 200 && alike * 10 > pairs * 8, "{alike} of {pairs}");
}

#[test]
fn impossible_values_are_refused() {
    let wrong =
        |spec: PlacementSpec, count| Placement::new(&[spec], count, 1, &Assets::default()).unwrap_err().key;
    assert_eq!(wrong(ground(PatternSpec::Scattered), None), "density");
    assert_eq!(wrong(ground(PatternSpec::Scattered).density(1e7), None), "density");
    let dense = ground(PatternSpec::Scattered).density(1e6).area(AreaSpec::new([0.0; 2], [1e4; 2]));
    assert_eq!(wrong(dense, None), "density");
    let one = PatternSpec::Rings { centres: vec![[0.0; 2]], spacing: 1.0, swell: 0.0, period: 8.0 };
    assert_eq!(wrong(ground(one), None), "on.ground.rings.centres");
    let twice = PatternSpec::Rings { centres: vec![[0.0; 2]; 2], spacing: 1.0, swell: 0.0, period: 8.0 };
    assert_eq!(wrong(ground(twice), None), "on.ground.rings.centres");
    assert_eq!(wrong(PlacementSpec::new(On::Mesh { asset: "no".into() }), Some(1)), "on.mesh.asset");
    let each = with(EachSpec::default(), |it| {
        it.kinds = vec![0.0; 2];
    });
    assert_eq!(wrong(ground(PatternSpec::Scattered).each(each), Some(1)), "each.kinds");
    let bad = with(EachSpec::default(), |it| {
        it.size = Span::new(2.0, 1.0);
    });
    assert_eq!(wrong(ground(PatternSpec::Scattered).each(bad), Some(1)), "each.size");
}

/// Every search of an area is bounded: rings that cannot cross are not paired, and what would take minutes is refused.
#[test]
fn a_search_without_a_bound_is_refused() {
    let centres = vec![[-3.0, 1.0], [4.0, 0.0]];
    let rings = PatternSpec::Rings { centres, spacing: 1.0, swell: 0.2, period: 8.0 };
    let strip = ground(rings.clone()).area(AreaSpec::new([0.0; 2], [1e6, 8.0]));
    assert!((1..=4_000).contains(&place(strip, Some(4_000), &Assets::default()).len()));

    let vast = AreaSpec::new([0.0; 2], [1e6; 2]);
    let fine = PatternSpec::Grid { spacing: [0.001; 2], jitter: 0.0, turn_degrees: 30.0 };
    let far =
        PatternSpec::Rings { centres: vec![[-9e5, 0.0], [9e5, 0.0]], spacing: 1.0, swell: 0.0, period: 8.0 };
    for (pattern, density) in [
        (fine, 0.0),
        (PatternSpec::BlueNoise { distance: 0.01 }, 0.0),
        (PatternSpec::Scattered, 1e3),
        (far, 0.0),
    ] {
        let spec = ground(pattern).density(density).area(vast);
        let error = Placement::new(&[spec], Some(4_000), 1, &Assets::default()).unwrap_err();
        assert_eq!(error.key, "area");
        assert!(error.to_string().contains("write a smaller area"), "{error}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(8))]

    /// The same whatever pieces the ground is cut into, with filters, clumps and a count too.
    #[test]
    fn clipped_pieces_equal_the_whole(side in 1.6f32..6.0, count in 1u32..800, kind in 0usize..3) {
        let pattern = [
            PatternSpec::Scattered,
            PatternSpec::BlueNoise { distance: 0.0 },
            PatternSpec::Grid { spacing: [0.0; 2], jitter: 1.0, turn_degrees: 33.0 },
        ][kind].clone();
        let noise = FilterBy::Noise { size: 2.0, range: Span::new(-0.5, 0.4), seed: 4 };
        let spec = ground(pattern).filter(FilterSpec::new(noise)).clumps(with(ClumpSpec::new(0.8), |it| {it.thin = 0.5; }));
        let placement = Placement::new(&[spec], Some(count), 9, &Assets::default()).unwrap();
        let whole = placement.all();
        let mut pieces = PlacedColumns::default();
        let many = (10.0 / side).ceil() as i32 + 1;
        for i in -many..many {
            for j in -many..many {
                let at = |k: i32| (k as f32 * side).clamp(-5.0, 5.0);
                placement.within([at(i), at(j)], [at(i + 1), at(j + 1)], &mut pieces);
            }
        }
        let rows = |placed: &PlacedColumns| {
            let mut rows: Vec<String> = (0..placed.len()).map(|n| format!("{:?}", placed.row(n))).collect();
            rows.sort();
            rows
        };
        prop_assert_eq!(rows(&whole), rows(&pieces));
    }
}
