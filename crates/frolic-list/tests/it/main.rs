//! Draw lists: every element once, in batches that keep their promises, whatever the technique and order.

use frolic_core::{Counter, Frame, Meter};
use frolic_draw::backend::stride;
use frolic_draw::{
    BackdropSpec, Blend, Bounds, Break, CameraSpec, DepthOrder, DrawList, ImageSize, Instances, Look,
    LookSpec, Part, RibbonSpec, Shape, Technique, View,
};
use frolic_list::{ListScratch, ListSpec, Surroundings};
use proptest::prelude::*;

/// A population of a test: positions, and which of the looks it has.
#[derive(Debug, Clone)]
struct Population {
    columns: [Vec<f32>; 3],
    look: usize,
}

fn populations() -> impl Strategy<Value = Vec<Population>> {
    let places = prop::collection::vec(prop::array::uniform3(-4f32..4.0), 0..40);
    let one = (places, 0usize..5).prop_map(|(places, look)| Population {
        columns: [0, 1, 2].map(|axis| places.iter().map(|place| place[axis]).collect()),
        look,
    });
    prop::collection::vec(one, 0..6)
}

/// Additive, alpha, solid ribbons, and the same alpha look again and in another layer.
fn looks() -> Vec<Look> {
    let look = |blend, layer, shape: Shape| {
        let mut look = LookSpec::default().shape(shape).layer(layer);
        look.blend = blend;
        look.build().unwrap()
    };
    let ribbon = Shape::Ribbon(RibbonSpec::new(4.0, 0.2, 3));
    vec![
        look(Blend::Additive, 0, Shape::Disc),
        look(Blend::Alpha, 0, Shape::Disc),
        look(Blend::Opaque, 0, ribbon),
        look(Blend::Alpha, 0, Shape::Disc),
        look(Blend::Alpha, 3, Shape::Disc),
    ]
}

fn view() -> View {
    CameraSpec::new([0.0, 1.0, 14.0], [0.0; 3], 50.0).view(ImageSize::new(320, 200).unwrap()).unwrap()
}

fn spec(technique: Technique, order: DepthOrder, capacity: u32) -> ListSpec {
    ListSpec::new(technique).depth_order(order).capacity(capacity)
}

/// Builds a list and hands it over with the counters of its frame.
fn listed<R>(all: &[Population], spec: &ListSpec, then: impl FnOnce(&DrawList<'_>) -> R) -> (R, Frame) {
    let (looks, backdrop, mut meter) = (looks(), BackdropSpec::default(), Meter::new());
    let mut scratch = ListScratch::default();
    meter.begin_frame();
    let sources: Vec<_> = all
        .iter()
        .map(|population| {
            let [x, y, z] = &population.columns;
            (Instances::at([x, y, z]).unwrap(), &looks[population.look])
        })
        .collect();
    let around = Surroundings::new(&backdrop);
    let list = scratch.list(sources, spec, &view(), &around, &mut meter);
    let result = then(&list);
    (result, meter.end_frame())
}

fn techniques() -> impl Strategy<Value = Technique> {
    prop_oneof![
        Just(Technique::Each),
        Just(Technique::Batched),
        Just(Technique::Instanced),
        Just(Technique::Indirect)
    ]
}

fn orders() -> impl Strategy<Value = DepthOrder> {
    prop_oneof![
        Just(DepthOrder::None),
        Just(DepthOrder::Population),
        Just(DepthOrder::All),
        Just(DepthOrder::Weighted)
    ]
}

proptest! {
    /// Every element is drawn exactly once, in a batch of its own layer and kind, and no batch is larger than allowed.
    #[test]
    fn every_element_is_in_one_batch(
        all in populations(), technique in techniques(), order in orders(), capacity in 1u32..50,
    ) {
        let wanted: usize = all.iter().map(|population| population.columns[0].len()).sum();
        let (checked, frame) = listed(&all, &spec(technique, order, capacity), |list| {
            let mut seen = Vec::new();
            for batch in list.batches() {
                let entries: Vec<_> = list.entries(batch).collect();
                prop_assert_eq!(entries.len(), batch.count as usize);
                let most = if technique == Technique::Each { 1 } else { capacity };
                prop_assert!(batch.count >= 1 && batch.count <= most);
                for entry in &entries {
                    let (_, look) = list.source(entry.source).unwrap();
                    prop_assert_eq!(look.layer(), i32::from(batch.layer));
                    prop_assert_eq!(look.is_solid(), batch.solid);
                }
                seen.extend(entries.iter().map(|entry| (entry.source, entry.element)));
            }
            prop_assert_eq!(seen.len(), wanted);
            seen.sort_unstable();
            prop_assert!(seen.windows(2).all(|pair| pair[0] < pair[1]), "an element is listed twice");
            prop_assert_eq!(list.instances(), wanted);
            Ok(list.batches().len())
        });
        prop_assert_eq!(frame.count(Counter::DrawCalls) as usize, checked?);
        prop_assert_eq!(frame.count(Counter::Instances) as usize, wanted);
    }

    /// Layers rise, and within one solid things come before transparent ones.
    #[test]
    fn layers_rise_and_solid_comes_first(all in populations(), technique in techniques(), order in orders()) {
        let (checked, _) = listed(&all, &spec(technique, order, 1000), |list| {
            let keys: Vec<_> = list.batches().iter().map(|batch| (batch.layer, !batch.solid)).collect();
            prop_assert!(keys.windows(2).all(|pair| pair[0] <= pair[1]), "{:?}", keys);
            Ok(())
        });
        checked?;
    }

    /// What covers by its opacity comes far to near where an order is asked for: within a population, or among all of a layer. Where the backend
    /// sorts, the batch says so.
    #[test]
    fn transparent_elements_come_far_to_near(all in populations(), technique in techniques(), among_all in any::<bool>()) {
        let order = if among_all { DepthOrder::All } else { DepthOrder::Population };
        let view = view();
        let (checked, _) = listed(&all, &spec(technique, order, 1000), |list| {
            let mut before: Option<(u32, i16, f32)> = None;
            for batch in list.batches().iter().filter(|batch| !batch.solid && !batch.far_to_near) {
                for entry in list.entries(batch) {
                    let (instances, look) = list.source(entry.source).unwrap();
                    if !look.needs_depth_order() {
                        continue;
                    }
                    let place = instances.element(entry.element as usize).unwrap().position;
                    let depth = view.project(place).map_or(0.0, |seen| seen[2]);
                    let group = if among_all { 0 } else { entry.source };
                    if let Some((source, layer, far)) = before
                        && (source, layer) == (group, batch.layer)
                    {
                        prop_assert!(depth <= far + far.abs() * 1e-5, "{} behind {}", depth, far);
                    }
                    before = Some((group, batch.layer, depth));
                }
            }
            Ok(())
        });
        checked?;
    }

    /// Merged batches have the vertices of all their elements; others have none.
    #[test]
    fn vertices_are_those_of_merged_elements(all in populations(), technique in techniques()) {
        let (checked, _) = listed(&all, &spec(technique, DepthOrder::Population, 1000), |list| {
            let wanted: usize = match technique {
                Technique::Batched => list
                    .sources()
                    .map(|(instances, look)| instances.len() * stride(look))
                    .sum(),
                _ => 0,
            };
            prop_assert_eq!(list.vertices().len(), wanted);
            Ok(())
        });
        checked?;
    }
}

/// Populations of one look share a batch, and each break says what it was for.
#[test]
fn breaks_say_why() {
    let population = |look, count: usize| Population { columns: [(); 3].map(|()| vec![0.5; count]), look };
    let all = [population(1, 3), population(3, 3), population(0, 2), population(2, 2), population(4, 2)];
    let (breaks, _) = listed(&all, &spec(Technique::Instanced, DepthOrder::None, 1000), |list| {
        list.batches().iter().map(|batch| (batch.count, batch.why)).collect::<Vec<_>>()
    });
    let counts: Vec<u32> = breaks.iter().map(|(count, _)| *count).collect();
    // The solid ribbons first, then two populations of one look together.
    assert_eq!(counts, [2, 6, 2, 2]);
    let why: Vec<Break> = breaks[1..].iter().map(|(_, why)| *why).collect();
    assert_eq!(why, [Break::Layer, Break::Look, Break::Layer]);
    let (full, _) = listed(&all[..1], &spec(Technique::Instanced, DepthOrder::None, 2), |list| {
        list.batches().iter().map(|batch| (batch.count, batch.why)).collect::<Vec<_>>()
    });
    assert_eq!(full[1], (1, Break::Capacity));
}

/// Ranges of elements whose boxes are out of view are left out, and counted.
#[test]
fn hidden_parts_are_left_out() {
    let (looks, backdrop, mut meter) = (looks(), BackdropSpec::default(), Meter::new());
    let x: Vec<f32> = (0..100).map(|nth| if nth < 50 { 0.0 } else { 5000.0 }).collect();
    let zero = vec![0.0; 100];
    let bounds = |x: f32| Bounds { low: [x - 1.0, -1.0, -1.0], high: [x + 1.0, 1.0, 1.0] };
    let parts = [
        Part { first: 0, count: 50, bounds: bounds(0.0) },
        Part { first: 50, count: 50, bounds: bounds(5000.0) },
    ];
    let instances = Instances::at([&x, &zero, &zero]).unwrap().in_parts(&parts).unwrap();
    let mut scratch = ListScratch::default();
    meter.begin_frame();
    let around = Surroundings::new(&backdrop);
    let list = scratch.list([(instances, &looks[0])], &ListSpec::default(), &view(), &around, &mut meter);
    assert_eq!(list.instances(), 50);
    assert!(list.batches().iter().flat_map(|batch| list.entries(batch)).all(|entry| entry.element < 50));
    let frame = meter.end_frame();
    assert_eq!(frame.count(Counter::Instances), 50);
}

/// A capacity of nothing is refused.
#[test]
fn capacities_are_checked() {
    let refused = ListSpec::default().capacity(0).check().unwrap_err().to_string();
    assert!(refused.starts_with("capacity: 0"), "{refused}");
    assert!(ListSpec::default().check().is_ok());
}
