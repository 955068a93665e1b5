//! New specs for running populations, worlds and clocks.

use frolic_core::{
    Assets, BladeSpec, Blades, Change, Clock, ClockSpec, ClumpSpec, CollectorSpec, CurlSpec, EmitterSpec,
    EventSpec, FieldKind, FieldSpec, GrowSpec, Growing, Meter, Moment, On, Order, ParticleSet, ParticleSpec,
    Particles, PatternSpec, PlacementSpec, ShapeSpec, Span, Storage, TrailSpec, World, WorldSpec, random,
};
use proptest::prelude::*;

const DT: f32 = 1.0 / 60.0;

fn world() -> World {
    WorldSpec::default().build().unwrap()
}

fn stream(rate: f32) -> ParticleSpec {
    ParticleSpec::new(4000).life(0.4, 1.2).emitter(EmitterSpec::rate(rate).speed(1.0, 4.0))
}

prop_compose! {
    /// A spec that differs in everything that can change while elements live.
    fn tuned()(
        rate in 1f32..2000.0, drag in 0f32..4.0, life in 0.1f32..2.0, count in 10u32..6000, any_order in any::<bool>(),
        trail in prop::option::of(1u32..6), event in any::<bool>(),
    ) -> ParticleSpec {
        let mut spec = stream(rate);
        (spec.motion.drag, spec.life, spec.count) = (drag, Span::new(life, life * 1.5), count);
        spec.order = if any_order { Order::Any } else { Order::Birth };
        spec.trail = trail.map(|places| TrailSpec::new(places, 0.05));
        if event {
            spec.event.push(EventSpec::note(Moment::Death));
        }
        spec
    }
}

/// Dust that the air carries, born at once.
fn still(count: u32) -> ParticleSpec {
    let burst = EmitterSpec::burst(count, 0.0).shape(ShapeSpec::Sphere { radius: 2.0 }).speed(0.0, 0.0);
    ParticleSpec::new(count).life(1e4, 1e4).motion(3.0, 0.0).emitter(burst)
}

fn ids(particles: &Particles) -> Vec<u32> {
    let mut ids = particles.columns().id().to_vec();
    ids.sort_unstable();
    ids
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    /// A change keeps all elements to the bit. Taken back before a step, it leaves no trace, in either kind of storage.
    #[test]
    fn a_change_keeps_all_elements(other in tuned(), objects in any::<bool>(), steps in 0u32..40) {
        let storage = if objects { Storage::Objects } else { Storage::Columns };
        let (spec, world, mut meter) = (stream(900.0), world(), Meter::new());
        let mut changed = Particles::with_storage(&spec, 3, storage).unwrap();
        let mut still = Particles::with_storage(&spec, 3, storage).unwrap();
        changed.step(&world, DT, steps, &mut meter);
        still.step(&world, DT, steps, &mut meter);
        prop_assert_eq!(changed.retune(&other).unwrap(), Change::Live);
        prop_assert_eq!(changed.columns(), still.columns());
        prop_assert_eq!(changed.spec(), &other);
        prop_assert_eq!(changed.retune(&other).unwrap(), Change::Unchanged);
        if let Some(trail) = changed.trail() {
            let [x, ..] = trail.place(0).unwrap();
            prop_assert_eq!(x, still.columns().px());
        }
        prop_assert_eq!(changed.retune(&spec).unwrap(), Change::Live);
        prop_assert!(changed.trail().is_none());
        changed.step(&world, DT, 20, &mut meter);
        still.step(&world, DT, 20, &mut meter);
        prop_assert_eq!(changed.columns(), still.columns());
    }

    /// After any change the population steps on within its bounds, and the two kinds of storage agree.
    #[test]
    fn any_changes_are_followed_by_both_storages(specs in prop::collection::vec(tuned(), 1..5)) {
        let (world, mut meter) = (world(), Meter::new());
        let mut all: Vec<Particles> = [Storage::Columns, Storage::Objects]
            .map(|storage| Particles::with_storage(&stream(500.0), 5, storage).unwrap())
            .into();
        let mut most = 4000;
        for spec in specs {
            most = most.max(spec.count as usize);
            for particles in &mut all {
                particles.retune(&spec).unwrap();
                particles.step(&world, DT, 12, &mut meter);
                prop_assert!(particles.len() <= most);
                prop_assert!(particles.columns().py().iter().all(|y| y.is_finite()));
            }
            prop_assert_eq!(ids(&all[0]), ids(&all[1]));
        }
    }

    /// A stream whose rate changes emits the sum of what both rates ask for: nothing is skipped, and nothing comes twice.
    #[test]
    fn rates_change_without_a_gap(a in 1f32..300.0, b in 1f32..300.0, first in 1u32..60, second in 1u32..60) {
        let (world, mut meter) = (world(), Meter::new());
        let mut spec = ParticleSpec::new(100_000).life(1e6, 1e6).emitter(EmitterSpec::rate(a));
        let mut particles = Particles::new(&spec, 1).unwrap();
        particles.step(&world, DT, first, &mut meter);
        spec.emitter[0].rate = b;
        particles.retune(&spec).unwrap();
        particles.step(&world, DT, second, &mut meter);
        let wanted = f64::from(a) * f64::from(first) / 60.0 + f64::from(b) * f64::from(second) / 60.0;
        prop_assert!((particles.len() as f64 - wanted).abs() <= 1.01, "{} of {wanted}", particles.len());
        let ids = ids(&particles);
        prop_assert!(ids.windows(2).all(|pair| pair[0] + 1 == pair[1]));
    }

    /// More positions keep those that were there, newest first; fewer keep the newest.
    #[test]
    fn trails_keep_their_positions(before in 1u32..9, after in 1u32..9) {
        let (world, mut meter) = (world(), Meter::new());
        let mut spec = ParticleSpec::new(50).life(50.0, 50.0).emitter(EmitterSpec::burst(50, 0.0));
        spec.trail = Some(TrailSpec::new(before, 0.05));
        let mut particles = Particles::new(&spec, 1).unwrap();
        particles.step(&world, DT, 60, &mut meter);
        let old: Vec<Vec<f32>> =
            (0..before).map(|nth| particles.trail().unwrap().place(nth as usize).unwrap()[1].to_vec()).collect();
        spec.trail = Some(TrailSpec::new(after, 0.05));
        particles.retune(&spec).unwrap();
        let trail = particles.trail().unwrap();
        prop_assert_eq!(trail.places(), after as usize);
        for nth in 0..after as usize {
            prop_assert_eq!(trail.place(nth).unwrap()[1], &old[nth.min(old.len() - 1)][..]);
        }
    }
}

/// A smaller count lets elements live out; a larger one has room at once.
#[test]
fn counts_change_while_elements_live() {
    let (world, mut meter) = (world(), Meter::new());
    let mut spec = stream(4000.0);
    spec.count = 600;
    let mut particles = Particles::new(&spec, 1).unwrap();
    particles.step(&world, DT, 60, &mut meter);
    assert_eq!(particles.len(), 600);
    spec.count = 200;
    particles.retune(&spec).unwrap();
    let mut before = particles.len();
    assert_eq!(before, 600);
    for _ in 0..120 {
        particles.step(&world, DT, 1, &mut meter);
        assert!(particles.len() <= before.max(200), "no births above the count");
        before = particles.len();
    }
    assert_eq!(particles.len(), 200);
    spec.count = 900;
    particles.retune(&spec).unwrap();
    particles.step(&world, DT, 30, &mut meter);
    assert_eq!(particles.len(), 900);
    let held = particles.columns().clone();
    spec.count = u32::MAX;
    assert!(particles.retune(&spec).unwrap_err().to_string().starts_with("count: "));
    assert_eq!((particles.columns(), particles.spec().count), (&held, 900));
}

/// Events of running populations change together: links are made anew, and a ring that would run away changes nothing.
#[test]
fn events_of_a_set_change_together() {
    let (world, mut meter, assets) = (world(), Meter::new(), Assets::default());
    let rockets = ParticleSpec::new(10).life(0.3, 0.3).emitter(EmitterSpec::rate(10.0));
    let sparks = ParticleSpec::new(1000).life(0.2, 0.2);
    let mut set = ParticleSet::default();
    set.add("rockets", &rockets, 1).unwrap();
    set.add("sparks", &sparks, 2).unwrap();
    set.link().unwrap();
    set.step(&world, DT, 60, &mut meter);
    assert!(set.get("sparks").unwrap().is_empty());
    let bursting = rockets.clone().event(EventSpec::start(Moment::Death, "sparks", 20.0));
    assert_eq!(
        set.retune(&[("rockets", &bursting), ("sparks", &sparks)], &assets).unwrap(),
        [Change::Live, Change::Unchanged,]
    );
    set.step(&world, DT, 30, &mut meter);
    assert!(set.get("sparks").unwrap().len() >= 20);

    let back = sparks.clone().event(EventSpec::start(Moment::Death, "rockets", 5.0));
    let refused = set.retune(&[("sparks", &back)], &assets).unwrap_err().to_string();
    assert!(refused.contains("ring of events"), "{refused}");
    assert_eq!(set.get("sparks").unwrap().spec(), &sparks);
    let unknown = set.retune(&[("smoke", &sparks)], &assets).unwrap_err().to_string();
    assert!(unknown.contains("'smoke'") && unknown.contains("rockets"), "{unknown}");
    set.retune(&[("rockets", &rockets)], &assets).unwrap();
    set.step(&world, DT, 60, &mut meter);
    assert!(set.get("sparks").unwrap().is_empty(), "its events are gone");
}

/// The response of blades changes while they stand; their placement does not.
#[test]
fn blades_take_another_response() {
    let spec = BladeSpec::default();
    let windy = WorldSpec::default().wind([6.0, 0.0, 0.0]).build().unwrap();
    let width = Span::from(0.004);
    let (mut blades, mut meter) = (Blades::new(&spec, 2000, width, 1).unwrap(), Meter::new());
    blades.update_visibility([0.0; 3], |_, _| true);
    blades.step(&windy, DT, 200, &mut meter);
    let lean = |blades: &Blades| {
        let all = blades.columns().lean_x();
        all.iter().sum::<f32>() / all.len() as f32
    };
    let (leant, roots) = (lean(&blades), blades.columns().px().to_vec());
    let stiff = spec.clone().drag(0.2);
    assert_eq!(blades.retune(&stiff, 2_000, width).unwrap(), Change::Live);
    assert_eq!(
        (lean(&blades), blades.columns().px()),
        (leant, &roots[..]),
        "nothing moves before the next step"
    );
    blades.step(&windy, DT, 600, &mut meter);
    assert!(lean(&blades) < leant * 0.6, "{} of {leant}", lean(&blades));
    assert_eq!(blades.retune(&stiff, 2_000, width).unwrap(), Change::Unchanged);
    let coarser = stiff.clone().chunk(2.0);
    assert!(!blades.can_retune(&coarser, 2_000));
    assert!(blades.retune(&coarser, 2_000, width).unwrap_err().to_string().contains("build new blades"));
    assert!(blades.retune(&stiff.clone().drag(-1.0), 2_000, width).is_err());
    assert_eq!(blades.spec(), &stiff);
}

/// Longer, wider, stiffer or more bent: each blade is then what it had been if it had grown so, and goes on moving from where it is.
#[test]
fn blades_take_another_shape() {
    let placement = PlacementSpec::new(On::Ground(PatternSpec::Scattered)).clumps(ClumpSpec::new(0.7));
    let spec = BladeSpec::new(placement).length(0.3, 0.9);
    let other =
        spec.clone().length(0.5, 0.6).sway_hz(Span::new(2.0, 3.0)).bend_degrees(Span::new(10.0, 40.0));
    let (thin, wide) = (Span::new(0.002, 0.004), Span::new(0.003, 0.009));
    let (mut blades, mut meter) = (Blades::new(&spec, 1_500, thin, 1).unwrap(), Meter::new());
    let fresh = Blades::new(&other, 1_500, wide, 1).unwrap();
    let windy = WorldSpec::default().wind([3.0, 0.0, 1.0]).build().unwrap();
    blades.step(&windy, DT, 100, &mut meter);
    let off = |blades: &Blades| -> Vec<f32> {
        let columns = blades.columns();
        columns.lean_x().iter().zip(columns.rest_x()).map(|(lean, rest)| lean - rest).collect()
    };
    let (roots, moving) = (blades.columns().px().to_vec(), off(&blades));
    assert_eq!(blades.retune(&other, 1_500, wide).unwrap(), Change::Live);
    let (now, grown) = (blades.columns(), fresh.columns());
    assert_eq!(now.px(), &roots[..]);
    assert_eq!(now.id(), grown.id());
    let near = |a: &[f32], b: &[f32]| a.iter().zip(b).all(|(a, b)| (a - b).abs() <= 1e-4 + b.abs() * 1e-4);
    assert!(near(now.length(), grown.length()) && near(now.size(), grown.size()));
    assert!(near(now.stiffness(), grown.stiffness()));
    assert!(near(now.rest_x(), grown.rest_x()) && near(now.rest_z(), grown.rest_z()));
    assert!(near(&off(&blades), &moving), "each leans as far from its rest as before");
    for (own, fresh) in blades.chunks().iter().zip(fresh.chunks()) {
        assert!(near(&own.low, &fresh.low) && near(&own.high, &fresh.high));
    }
    assert_eq!(blades.retune(&other, 1_500, wide).unwrap(), Change::Unchanged);
    assert!(blades.retune(&other, 1_500, Span::from(-1.0)).is_err());
}

/// What has grown stays, and grows on at the new rate; hidden clusters too, which have not taken their steps yet.
#[test]
fn growth_takes_another_rate() {
    let spec = GrowSpec::new(PlacementSpec::default(), 50, PlacementSpec::default()).seconds(4.0, 4.0);
    let mut beds = Growing::new(&spec, 1_000, Span::from(0.1), 3).unwrap();
    // Half of the clusters are hidden.
    beds.update_visibility(|[x, ..], _| x > 0.0);
    let mut meter = Meter::new();
    beds.step(DT, 60, &mut meter);
    let faster = spec.clone().seconds(1.0, 1.0);
    assert_eq!(beds.retune(&faster, 1_000).unwrap(), Change::Live);
    let growth = |beds: &Growing| (0..1_000).filter_map(|nth| beds.growth(nth)).collect::<Vec<f32>>();
    assert!(growth(&beds).iter().all(|growth| (growth - 0.25).abs() < 0.01), "all as before");
    beds.step(DT, 30, &mut meter);
    beds.update_visibility(|_, _| true);
    assert!(growth(&beds).iter().all(|growth| (growth - 0.75).abs() < 0.01), "{:?}", &growth(&beds)[..5]);
    assert_eq!(beds.retune(&faster, 1_000).unwrap(), Change::Unchanged);
    let other = faster.clone().bare(0.5);
    assert!(
        !beds.can_retune(&other, 1_000)
            && beds.retune(&other, 1_000).unwrap_err().to_string().contains("build new ones")
    );
    assert!(beds.retune(&faster.clone().seconds(-1.0, 1.0), 1_000).is_err());
}

/// More and fewer elements in a pattern with a spacing of its own: those that are there go on growing.
#[test]
fn growing_elements_stay_when_their_count_changes() {
    let grid = On::Ground(PatternSpec::Grid { spacing: [0.5, 0.5], jitter: 0.0, turn_degrees: 0.0 });
    let spec = GrowSpec::new(PlacementSpec::default(), 50, PlacementSpec::new(grid)).seconds(4.0, 4.0);
    let build = |count| Growing::new(&spec, count, Span::from(0.1), 3).unwrap();
    let (mut beds, mut meter) = (build(4_000), Meter::new());
    beds.update_visibility(|[x, ..], _| x > 0.0);
    beds.step(DT, 60, &mut meter);
    let places =
        |beds: &Growing| beds.clusters().iter().map(|it| it.place.map(f32::to_bits)).collect::<Vec<_>>();
    let (before, fresh) = (places(&beds), places(&build(6_000)));
    assert_eq!(beds.retune(&spec, 6_000).unwrap(), Change::Live);
    assert_eq!((beds.len(), places(&beds)), (6_000, fresh));
    beds.step(DT, 60, &mut meter);
    let mut grown = [0, 0];
    for cluster in beds.clusters() {
        let stood = before.contains(&cluster.place.map(f32::to_bits));
        for nth in cluster.first..cluster.first + cluster.len {
            let growth = beds.growth(nth as usize).unwrap();
            // A second each, from the seed on, and one more for those that stood.
            assert!((growth - if stood { 0.5 } else { 0.25 }).abs() < 0.01, "{growth}");
            grown[usize::from(stood)] += 1;
        }
    }
    assert!(grown[0] >= 1_900 && grown[1] >= 3_900, "{grown:?}");
    assert_eq!(beds.retune(&spec, 4_000).unwrap(), Change::Live);
    assert_eq!(places(&beds), before);
    assert!((0..4_000).all(|nth| (beds.growth(nth).unwrap() - 0.5).abs() < 0.01));
    // A pattern that spreads by the count would put all elsewhere.
    let spread = GrowSpec::new(PlacementSpec::default(), 50, PlacementSpec::default());
    let mut beds = Growing::new(&spread, 1_000, Span::from(0.1), 3).unwrap();
    assert!(!beds.can_retune(&spread, 1_200) && beds.retune(&spread, 1_200).is_err());
    assert!(!beds.can_retune(&spread, u32::MAX));
}

/// A collector that was moved stays there while its own keys stay, and a refused world changes nothing.
#[test]
fn worlds_keep_what_was_moved() {
    let spec = WorldSpec::default()
        .collector(CollectorSpec::new([0.0; 3], 1.0))
        .collector(CollectorSpec::new([5.0, 0.0, 0.0], 1.0));
    let mut world = spec.build().unwrap();
    assert!(world.put_collector(0, [1.0, 2.0, 3.0]) && world.put_collector(1, [4.0, 4.0, 4.0]));
    let mut changed = spec.clone().wind([3.0, 0.0, 0.0]);
    changed.collector[1].radius = 2.0;
    assert_eq!(world.retune(&changed, 0.5).unwrap(), Change::Live);
    assert_eq!(world.collector_at(0, 0.0), Some([1.0, 2.0, 3.0]));
    assert_eq!(world.collector_at(1, 0.0), Some([5.0, 0.0, 0.0]), "a changed one is where its spec says");
    assert!(world.retune(&changed.clone().wind([f32::NAN, 0.0, 0.0]), 0.5).is_err());
    assert_eq!(world.spec(), &changed);
    assert_eq!(world.retune(&changed, 0.5).unwrap(), Change::Unchanged);
}

/// Greatest difference of the air of two worlds at a time, over places within 20 m.
fn air_differs(a: &World, b: &World, time: f64) -> f32 {
    let at = |axis: u32| -> Vec<f32> {
        (0..300).map(|nth: u32| random::pair(nth * 3 + axis)[0] * 40.0 - 20.0).collect()
    };
    let place = [at(0), at(1), at(2)];
    let air = |world: &World| {
        let mut air = [vec![0.0; 300], vec![0.0; 300], vec![0.0; 300]];
        let [x, y, z] = &mut air;
        world.air(time, place.each_ref().map(|axis| &axis[..]), [x, y, z]);
        air
    };
    let (a, b) = (air(a), air(b));
    let off = |nth: usize| (0..3).map(|axis| (a[axis][nth] - b[axis][nth]).powi(2)).sum::<f32>().sqrt();
    (0..300).map(off).fold(0.0, f32::max)
}

/// A fault once: after a minute, a wind of 4.04 m/s in the place of 4 changed the air by 2.5 m/s. Now gusts and noise go on from where they are:
/// the air differs by what the sliders moved.
#[test]
fn a_wind_slider_bends_the_wind() {
    let windy = |x: f32| {
        let curl = curl(1.0, 2.0, 0.4);
        WorldSpec::default().wind([x, 0.0, 1.0]).gusts(1.5, 3.0).field(curl)
    };
    let before = windy(4.0).build().unwrap();
    let time = 60.0;
    let apart = air_differs(&before, &windy(4.04).build().unwrap(), time);
    assert!(apart > 1.5, "a fresh world has other gusts by now: {apart}");
    let mut world = before.clone();
    world.retune(&windy(4.04), time).unwrap();
    let bent = air_differs(&before, &world, time);
    assert!(bent > 0.03 && bent < 0.06, "{bent}");
    // A second on, gusts have moved 4 cm further.
    let later = air_differs(&before, &world, time + 1.0);
    assert!(later < 0.25, "{later}");
    // Drift, strength and size of noise: none of them replaces it.
    for (change, most) in [
        ((|spec: &mut WorldSpec| spec.gusts.as_mut().unwrap().drift = 2.0) as fn(&mut WorldSpec), 0.07),
        (|spec| spec.gusts.as_mut().unwrap().strength = 1.6, 0.4),
        (|spec| curl_of(spec).drift = 3.0, 0.07),
        (|spec| curl_of(spec).strength = 1.1, 0.4),
        // Turns are about the origin, so far places move further.
        (|spec| curl_of(spec).size = 2.01, 0.9),
    ] {
        let mut spec = windy(4.04);
        change(&mut spec);
        let mut changed = world.clone();
        changed.retune(&spec, time + 1.0).unwrap();
        let apart = air_differs(&world, &changed, time + 1.0);
        assert!(apart < most, "{apart} of {most}");
        // Back again it is as before.
        changed.retune(&windy(4.04), time + 1.0).unwrap();
        assert!(air_differs(&world, &changed, time + 1.0) < 1e-3);
    }
}

fn curl(strength: f32, size: f32, drift: f32) -> FieldSpec {
    let mut spec = CurlSpec::default();
    (spec.strength, spec.size, spec.drift) = (strength, size, drift);
    FieldSpec::new(FieldKind::Curl(spec))
}

fn curl_of(spec: &mut WorldSpec) -> &mut CurlSpec {
    match &mut spec.field[0].kind {
        FieldKind::Curl(curl) => curl,
        _ => unreachable!("the field is curl noise"),
    }
}

/// The same for a field of one population, and for a population in a world whose wind was changed.
#[test]
fn noise_of_a_population_goes_on() {
    let spec = |drift: f32| {
        let curl = curl(2.0, 0.5, drift);
        still(40).field(curl)
    };
    let paths = |drift: f32, wind: f32| {
        let mut world = WorldSpec::default().wind([3.0, 0.0, 0.0]).build().unwrap();
        let mut dust = Particles::new(&spec(0.3), 3).unwrap();
        let mut meter = Meter::new();
        dust.step(&world, DT, 600, &mut meter);
        dust.retune(&spec(drift)).unwrap();
        dust.retune(&spec(drift)).unwrap();
        world.retune(&WorldSpec::default().wind([wind, 0.0, 0.0]), dust.time()).unwrap();
        dust.step(&world, DT, 6, &mut meter);
        dust.columns().position().map(<[f32]>::to_vec)
    };
    let apart = |a: &[Vec<f32>; 3], b: &[Vec<f32>; 3]| {
        let all = (0..3).flat_map(|axis| a[axis].iter().zip(&b[axis]));
        all.map(|(a, b)| (a - b).abs()).fold(0.0, f32::max)
    };
    let before = paths(0.3, 3.0);
    assert_eq!(before[0].len(), 40);
    for (drift, wind) in [(0.32, 3.0), (0.3, 3.03), (0.32, 3.03)] {
        let after = paths(drift, wind);
        let apart = apart(&before, &after);
        assert!(apart > 0.0 && apart < 0.01, "{apart} for {drift}, {wind}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    /// Any wind to any other, any number of times: at the moment of a change the noise is where it was.
    #[test]
    fn gusts_never_jump(winds in prop::collection::vec((prop::array::uniform3(-8f32..8.0), 0f32..2.0, 0.01f64..40.0), 1..6)) {
        let spec = |wind: [f32; 3], drift: f32| {
            let mut spec = WorldSpec::default().wind(wind).gusts(1.0, 2.0);
            let gusts = spec.gusts.as_mut().unwrap();
            (gusts.drift, gusts.swell) = (drift, Span::from(1.0));
            spec
        };
        let (mut world, mut time) = (spec([1.0, 0.0, 0.0], 0.5).build().unwrap(), 0.0);
        for (wind, drift, after) in winds {
            time += after;
            let before = world.clone();
            world.retune(&spec(wind, drift), time).unwrap();
            // What is left without the steady wind is the same noise.
            let steady = (0..3).map(|axis| (wind[axis] - before.spec().wind[axis]).powi(2)).sum::<f32>().sqrt();
            let apart = air_differs(&before, &world, time);
            prop_assert!((apart - steady).abs() < 2e-3, "{apart} of {steady} at {time}");
        }
    }
}

#[test]
fn clocks_keep_the_time_they_owe() {
    let mut clock = Clock::new(ClockSpec::default().rate(10.0));
    assert_eq!(clock.advance(0.05).steps, 0);
    clock.retune(ClockSpec::default().rate(20.0));
    assert_eq!(clock.advance(0.0).steps, 1);
}
