//! Depth order: the sorter against a plain stable sort, and what it does to a picture.

mod common;

use common::{cloud, draw, plain, renderer, view};
use frolic_core::{EmitterSpec, Meter, ParticleSpec, Particles, WorldSpec};
use frolic_draw::{CameraSpec, DepthSorter, ImageSize, Instances, LookSpec, Technique, View};
use proptest::prelude::*;

fn depth(particles: &Particles, view_from: [f32; 3], forward: [f32; 3], i: usize) -> f32 {
    let [x, y, z] = particles.columns().position();
    let d = [x[i] - view_from[0], y[i] - view_from[1], z[i] - view_from[2]];
    (d[0] * forward[0] + d[1] * forward[1] + d[2] * forward[2]).max(0.0)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Far to near, equal depths in their old order, everyone once; at sizes below and above a part.
    #[test]
    fn sorts_like_a_stable_sort(count in prop_oneof![0u32..300, Just(70_000u32), Just(140_001)], seed in any::<u32>(), z in -3f32..8.0) {
        let particles = cloud(count, [0.01, 0.02], [2.0, 2.0, 6.0], seed);
        let size = ImageSize::new(64, 64).unwrap();
        let view: View = CameraSpec::new([0.0, 0.0, z], [0.0, 0.0, z - 1.0], 40.0).view(size).unwrap();
        let mut order = vec![u32::MAX; 2];
        DepthSorter::default().sort(&Instances::of(particles.columns(), 0.0), &view, &mut order);
        prop_assert_eq!(&order[..2], &[u32::MAX; 2], "appends");
        let mut want: Vec<u32> = (0..particles.len() as u32).collect();
        let far = |&i: &u32| depth(&particles, [0.0, 0.0, z], [0.0, 0.0, -1.0], i as usize);
        want.sort_by(|a, b| far(b).total_cmp(&far(a)));
        prop_assert_eq!(&order[2..], &want[..]);
    }
}

/// Two opaque-ish discs, one before the other: the nearer one covers, whichever was born first.
#[test]
fn the_nearer_covers_the_farther() {
    let at = |z: f32| EmitterSpec::burst(1, 0.0).at([0.0, 0.0, z]).speed(0.0, 0.0);
    for (first, second) in [(1.0, -1.0), (-1.0, 1.0)] {
        let spec = ParticleSpec::new(2).life(10.0, 10.0).size(0.6, 0.6).motion(0.0, 0.0);
        let mut particles = Particles::new(&spec.emitter(at(first)).emitter(at(second)), 1).unwrap();
        particles.step(&WorldSpec::default().build().unwrap(), 0.1, 1, &mut Meter::new());
        let (view, look) = (view(64, 64), LookSpec::default().build().unwrap());
        let mut scratch = frolic_draw::ListScratch::default();
        let backdrop = plain();
        let sources = [(Instances::of(particles.columns(), 0.0), &look)];
        let list = scratch.list(sources, Technique::Instanced, &view, &backdrop, &[], &mut Meter::new());
        let batch = list.batches()[0];
        let nearest = if first > second { 0 } else { 1 };
        assert_eq!(list.element(&batch, 1), nearest, "drawn last");
        assert_eq!(list.instances(), 2);
    }
}

#[test]
fn what_adds_light_is_not_sorted() {
    let particles = cloud(50, [0.01, 0.02], [2.0; 3], 1);
    let look = LookSpec::glowing(1.0, [(0.0, "#ffffff")]).unwrap().build().unwrap();
    let (_, frame) =
        draw(&[(&particles, &look)], Technique::Instanced, &view(64, 64), &plain(), &mut renderer());
    assert_eq!(frame.count(frolic_core::Counter::Sorted), 0);
}
