//! Depth order and batches: every visible element drawn once and in order, whatever the mix, and every break told.

use crate::common::{cloud, draw, plain, renderer, view};
use frolic_core::{Counter, EmitterSpec, Frame, Meter, ParticleSpec, Particles, WorldSpec};
use frolic_draw::{
    Blend, Break, DepthOrder, DrawList, Entry, Fill, Image, Instances, Look, LookSpec, Renderer, Resolution,
    RibbonSpec, Shape, Sprite, Technique, View,
};
use frolic_list::{ListScratch, ListSpec, Surroundings};
use proptest::prelude::*;

/// Depth of an element 0.01 s before its state, as the common view sees it.
fn depth(particles: &Particles, entry: Entry) -> f32 {
    let i = entry.element as usize;
    let columns = particles.columns();
    // The view looks from [0.3, 0.2, 6] at the origin.
    let forward = glam::Vec3::new(-0.3, -0.2, -6.0).normalize();
    let at = glam::Vec3::from_array(columns.position().map(|c| c[i]))
        - glam::Vec3::from_array(columns.velocity().map(|c| c[i])) * 0.01;
    (at - glam::Vec3::new(0.3, 0.2, 6.0)).dot(forward).max(0.0)
}

fn listed<R>(
    populations: &[(&Particles, &Look)],
    spec: &ListSpec,
    view: &View,
    check: impl FnOnce(&DrawList<'_>) -> R,
) -> (R, Frame) {
    let (mut scratch, mut meter, backdrop) = (ListScratch::default(), Meter::new(), plain());
    let sources = populations.iter().map(|(p, look)| (Instances::of(p.columns(), 0.01), *look));
    meter.begin_frame();
    let list = scratch.list(sources, spec, view, &Surroundings::new(&backdrop), &mut meter);
    (check(&list), meter.end_frame())
}

fn any_look() -> impl Strategy<Value = LookSpec> {
    let blend = prop_oneof![Just(Blend::Alpha), Just(Blend::Additive)];
    let shape = prop_oneof![
        Just(Shape::Disc),
        Just(Shape::Ribbon(RibbonSpec::default())),
        Just(Shape::mesh("pennant")),
    ];
    (blend, shape, any::<bool>(), -2i32..3, 0u8..3).prop_map(|(blend, shape, solid, layer, tone)| {
        let mut look = LookSpec::glowing(f32::from(tone) + 0.5, [(0.0, "#ffffff")]).unwrap();
        look.blend = if solid && shape != Shape::Disc { Blend::Opaque } else { blend };
        (look.shape, look.layer) = (shape, layer);
        look
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(96))]

    /// Any populations, looks, layers, order, technique and capacity.
    #[test]
    fn every_element_is_drawn_once_and_in_order(
        looks in prop::collection::vec((any_look(), 0u32..60), 1..7),
        technique in prop_oneof![Just(Technique::Each), Just(Technique::Batched), Just(Technique::Instanced)],
        order in prop_oneof![Just(DepthOrder::None), Just(DepthOrder::Population), Just(DepthOrder::All)],
        capacity in prop_oneof![1u32..40, Just(1 << 20)],
        seed in any::<u32>(),
    ) {
        let view = view(64, 64);
        let particles: Vec<Particles> =
            looks.iter().enumerate().map(|(n, (_, count))| cloud(*count, [0.01, 0.05], [2.0; 3], seed ^ n as u32)).collect();
        let built: Vec<Look> = looks.iter().map(|(look, _)| look.build().unwrap()).collect();
        let populations: Vec<(&Particles, &Look)> = particles.iter().zip(&built).collect();
        let spec = ListSpec::new(technique).depth_order(order).capacity(capacity);
        let (checked, frame) = listed(&populations, &spec, &view, |list| {
            let mut drawn: Vec<Entry> = list.batches().iter().flat_map(|batch| list.entries(batch)).collect();
            // Once each.
            let mut sorted: Vec<(u32, u32)> = drawn.iter().map(|e| (e.source, e.element)).collect();
            sorted.sort_unstable();
            let want: Vec<(u32, u32)> = particles.iter().enumerate()
                .flat_map(|(n, p)| (0..p.len() as u32).map(move |i| (n as u32, i))).collect();
            prop_assert_eq!(sorted, want);
            // Layers rise; in a layer solid things come first.
            let keys: Vec<(i32, bool)> = drawn.iter()
                .map(|e| (built[e.source as usize].layer(), !built[e.source as usize].is_solid())).collect();
            prop_assert!(keys.windows(2).all(|pair| pair[0] <= pair[1]));
            // What covers is far to near, within its population or the whole layer; what the backend sorts is left out.
            let by_backend: u32 = list.batches().iter().filter(|b| b.far_to_near).map(|b| b.count).sum();
            if by_backend == 0 && order != DepthOrder::None {
                drawn.retain(|e| !built[e.source as usize].is_solid()
                    && (order == DepthOrder::All || built[e.source as usize].needs_depth_order()));
                for pair in drawn.windows(2) {
                    let (a, b) = (pair[0], pair[1]);
                    let [la, lb] = [a, b].map(|e| &built[e.source as usize]);
                    let mixed = order == DepthOrder::All && looks.iter().enumerate()
                        .filter(|(n, _)| built[*n].layer() == la.layer() && !built[*n].is_solid()).count() > 1;
                    let together = la.layer() == lb.layer() && (a.source == b.source || order == DepthOrder::All);
                    if together && (la.needs_depth_order() || mixed) {
                        let (da, db) = (depth(&particles[a.source as usize], a), depth(&particles[b.source as usize], b));
                        prop_assert!(da >= db - 1e-5, "{da} before {db}");
                    }
                }
            }
            // A batch breaks only for a reason, and the reason is true.
            for pair in list.batches().windows(2) {
                let of = |batch: &frolic_draw::Batch| {
                    let first = list.entries(batch).next().unwrap();
                    (&looks[first.source as usize].0, &built[first.source as usize])
                };
                let ((spec_a, a), (spec_b, b)) = (of(&pair[0]), of(&pair[1]));
                let same_place = (a.layer(), a.is_solid()) == (b.layer(), b.is_solid());
                match pair[1].why {
                    Break::Layer => prop_assert!(!same_place),
                    Break::Mesh => prop_assert!(same_place && spec_a.shape != spec_b.shape),
                    Break::Look => prop_assert!(same_place && spec_a.shape == spec_b.shape && spec_a != spec_b),
                    Break::Capacity => prop_assert!(
                        spec_a == spec_b && (technique == Technique::Each || pair[0].count == capacity
                            || pair[0].far_to_near || pair[1].far_to_near)
                    ),
                    why => prop_assert!(false, "{why:?}"),
                }
            }
            Ok(())
        });
        checked?;
        let total: usize = particles.iter().map(Particles::len).sum();
        prop_assert_eq!(frame.count(Counter::Instances), total as u64);
        let broken: u64 = [Counter::BreaksMesh, Counter::BreaksLook, Counter::BreaksAtlas, Counter::BreaksLayer, Counter::BreaksCapacity]
            .iter().map(|c| frame.count(*c)).sum();
        prop_assert_eq!(broken + u64::from(total > 0), frame.count(Counter::DrawCalls));
    }

    /// The explicit order is that of a plain stable sort.
    #[test]
    fn sorts_like_a_stable_sort(count in 0u32..300, seed in any::<u32>()) {
        is_sorted_like_a_stable_sort(count, seed);
    }
}

/// The same above a part of the radix sort, and above several.
#[test]
fn many_sort_like_a_stable_sort() {
    for (count, seed) in [(17_000, 1), (17_000, 2), (70_001, 3), (70_001, 4)] {
        is_sorted_like_a_stable_sort(count, seed);
    }
}

fn is_sorted_like_a_stable_sort(count: u32, seed: u32) {
    let particles = cloud(count, [0.01, 0.02], [2.0, 2.0, 6.0], seed);
    let look = LookSpec::default().build().unwrap();
    let spec = ListSpec::new(Technique::Each);
    let (order, frame) = listed(&[(&particles, &look)], &spec, &view(64, 64), |list| {
        list.batches().iter().flat_map(|batch| list.entries(batch)).map(|e| e.element).collect::<Vec<u32>>()
    });
    let depth_of = |element: u32| depth(&particles, Entry { source: 0, element });
    let mut want: Vec<u32> = (0..particles.len() as u32).collect();
    want.sort_by(|a, b| depth_of(*b).total_cmp(&depth_of(*a)));
    // Depths are worked out in another order of operations here: neighbours of nearly equal depth may change places.
    let misplaced =
        order.iter().zip(&want).filter(|(a, b)| (depth_of(**a) - depth_of(**b)).abs() > 1e-4).count();
    assert_eq!(misplaced, 0, "{count} elements of seed {seed}");
    assert_eq!(frame.count(Counter::Sorted), particles.len() as u64);
}

/// Two discs that hide, one before the other: the nearer one is on top, whichever was born first, and whichever way the order is made.
#[test]
fn the_nearer_covers_the_farther() {
    let at = |z: f32| EmitterSpec::burst(1, 0.0).position([0.0, 0.0, z]).speed(0.0, 0.0);
    let one = |z: f32| {
        let spec = ParticleSpec::new(1).life(10.0, 10.0).size(0.6, 0.6).motion(0.0, 0.0);
        let mut particles = Particles::new(&spec.emitter(at(z)), 1).unwrap();
        particles.step(&WorldSpec::default().build().unwrap(), 0.1, 1, &mut Meter::new());
        particles
    };
    let look = |colour: &str| {
        LookSpec::covering([(0.0, colour)])
            .map(|mut look| {
                look.lit = 0.0;
                look.build().unwrap()
            })
            .unwrap()
    };
    let (red, blue) = (look("#ff0000"), look("#0000ff"));
    let (near, far) = (one(1.0), one(-1.0));
    for populations in [[(&near, &red), (&far, &blue)], [(&far, &blue), (&near, &red)]] {
        let middle = |order: DepthOrder, technique: Technique| {
            let mut renderer = renderer();
            let (mut scratch, mut meter, backdrop) = (ListScratch::default(), Meter::new(), plain());
            let view = view(65, 65);
            let sources = populations.map(|(p, look)| (Instances::of(p.columns(), 0.0), look));
            let spec = ListSpec::new(technique).depth_order(order);
            let list = scratch.list(sources, &spec, &view, &Surroundings::new(&backdrop), &mut meter);
            let mut image = Image::new(view.size());
            renderer.render(&list, &view, &backdrop, &mut image, &mut meter);
            image.pixels()[32 * 65 + 32]
        };
        for technique in [Technique::Each, Technique::Batched, Technique::Instanced] {
            let [r, _, b, _] = middle(DepthOrder::All, technique);
            assert!(r > 150 && b < 60, "{technique:?}: {r} {b}");
        }
    }
}

/// Mixed by weights, elements of all populations give one picture in any order, on any way to draw; one alone is as it is when sorted.
#[test]
fn weighted_elements_need_no_order() {
    let (view, backdrop) = (view(120, 80), plain());
    let (near, far) = (cloud(60, [0.2, 0.5], [3.0, 2.0, 2.0], 1), cloud(60, [0.2, 0.5], [3.0, 2.0, 2.0], 2));
    let look = |colour: &str, resolution| {
        let mut spec = LookSpec::covering([(0.0, colour)]).unwrap().resolution(resolution);
        (spec.lit, spec.opacity_over_age) = (0.0, frolic_core::Ramp::constant(0.3));
        spec.build().unwrap()
    };
    let drawn = |populations: &[(&Particles, &Look)], order, technique, renderer: &mut Renderer| {
        let (mut scratch, mut meter) = (ListScratch::default(), Meter::new());
        meter.begin_frame();
        let sources = populations.iter().map(|(p, look)| (Instances::of(p.columns(), 0.0), *look));
        let spec = ListSpec::new(technique).depth_order(order);
        let list = scratch.list(sources, &spec, &view, &Surroundings::new(&backdrop), &mut meter);
        let mut image = Image::new(view.size());
        renderer.render(&list, &view, &backdrop, &mut image, &mut meter);
        (image, meter.end_frame())
    };
    let off = |a: &Image, b: &Image| {
        let off = |(a, b): (&[u8; 4], &[u8; 4])| (0..4).map(|c| a[c].abs_diff(b[c])).max().unwrap_or(0);
        a.pixels().iter().zip(b.pixels()).map(off).max().unwrap_or(0)
    };
    for resolution in [Resolution::Full, Resolution::Half, Resolution::Quarter] {
        let (red, blue) = (look("#ff0000", resolution), look("#0000ff", resolution));
        let (one, two) = ([(&near, &red), (&far, &blue)], [(&far, &blue), (&near, &red)]);
        let mut renderer = renderer();
        let (first, frame) = drawn(&one, DepthOrder::Weighted, Technique::Instanced, &mut renderer);
        assert_eq!(frame.count(Counter::Sorted), 0);
        let (other, _) = drawn(&two, DepthOrder::Weighted, Technique::Instanced, &mut renderer);
        assert!(off(&first, &other) <= 1, "{resolution:?}: {}", off(&first, &other));
        let sorted =
            [&one, &two].map(|all| drawn(all, DepthOrder::Population, Technique::Instanced, &mut renderer).0);
        assert!(off(&sorted[0], &sorted[1]) > 20, "in turn, the order of populations shows");
        let (right, _) = drawn(&one, DepthOrder::All, Technique::Instanced, &mut renderer);
        let mean = |a: &Image, b: &Image| {
            let off =
                |(a, b): (&[u8; 4], &[u8; 4])| (0..3).map(|c| f64::from(a[c].abs_diff(b[c]))).sum::<f64>();
            a.pixels().iter().zip(b.pixels()).map(off).sum::<f64>() / (3 * a.pixels().len()) as f64
        };
        assert!(mean(&first, &right) < mean(&sorted[0], &right).max(mean(&sorted[1], &right)));
        for technique in [Technique::Each, Technique::Batched, Technique::Indirect] {
            assert_eq!(drawn(&one, DepthOrder::Weighted, technique, &mut renderer).0, first, "{technique:?}");
        }
        for (tile, round) in [([3, 3], 1), ([5, 6], 2)] {
            let mut tuned = Renderer::tuned(tile, round, frolic_core::simd::detect());
            assert_eq!(
                drawn(&one, DepthOrder::Weighted, Technique::Instanced, &mut tuned).0,
                first,
                "{tile:?}"
            );
        }
        let alone = cloud(1, [0.5, 0.6], [0.1; 3], 1);
        let [weighted, sorted] = [DepthOrder::Weighted, DepthOrder::Population]
            .map(|order| drawn(&[(&alone, &red)], order, Technique::Instanced, &mut renderer).0);
        assert!(off(&weighted, &sorted) <= 1, "{resolution:?}: {}", off(&weighted, &sorted));
    }
}

#[test]
fn additive_elements_are_not_sorted() {
    let particles = cloud(50, [0.01, 0.02], [2.0; 3], 1);
    let look = LookSpec::glowing(1.0, [(0.0, "#ffffff")]).unwrap().build().unwrap();
    let (_, frame) = draw(&[(&particles, &look)], Technique::Each, &view(64, 64), &plain(), &mut renderer());
    assert_eq!(frame.count(Counter::Sorted), 0);
}

/// A look written twice is one look: its populations share a draw call.
#[test]
fn equal_looks_share_a_batch() {
    let (a, b) = (cloud(5, [0.01, 0.02], [2.0; 3], 1), cloud(7, [0.01, 0.02], [2.0; 3], 2));
    let look = || LookSpec::glowing(1.0, [(0.0, "#ffffff")]).unwrap().build().unwrap();
    let (one, other) = (look(), look());
    let (runs, frame) = listed(&[(&a, &one), (&b, &other)], &ListSpec::default(), &view(64, 64), |list| {
        list.runs(&list.batches()[0]).len()
    });
    assert_eq!((runs, frame.count(Counter::DrawCalls)), (2, 1));
}

/// Pages of an atlas break batches; a plain board goes with any page.
#[test]
fn pages_break_batches() {
    let mut builder = frolic_draw::AtlasBuilder::new(frolic_draw::PackSpec::new(64, 1).unwrap());
    let picture = |v: u8| frolic_draw::Picture::new([40, 40], vec![[v; 4]; 1600]).unwrap();
    let (one, other) = (builder.picture("one", picture(1)), builder.picture("other", picture(2)));
    let atlas = builder.build().unwrap();
    assert_eq!(atlas.pages(), 2);
    let library = frolic_draw::Library { atlas: atlas.into(), ..Default::default() };
    let look = LookSpec::sprites(true, 0).build_with(&library).unwrap();
    let of = |fill| Sprite { fill, size: [9.0, 9.0], position: [20.0, 20.0, 0.0], ..Sprite::default() };
    let [a, b] = [one, other].map(|sheet| of(Fill::Picture(sheet.frame(0))));
    let plain_board = of(Fill::Plain);
    for (sprites, calls) in [
        (vec![a, a, plain_board, a], 1),
        (vec![a, b, a], 3),
        (vec![plain_board, b, plain_board, plain_board, a], 2),
        (vec![plain_board; 4], 1),
    ] {
        let (mut scratch, mut meter, backdrop, view) =
            (ListScratch::default(), Meter::new(), plain(), view(64, 64));
        meter.begin_frame();
        let sources = [(Instances::sprites(&sprites), &look)];
        let list =
            scratch.list(sources, &ListSpec::default(), &view, &Surroundings::new(&backdrop), &mut meter);
        assert_eq!(list.instances(), sprites.len());
        let frame = meter.end_frame();
        assert_eq!(frame.count(Counter::DrawCalls), calls);
        assert_eq!(frame.count(Counter::BreaksAtlas), calls - 1);
    }
}
