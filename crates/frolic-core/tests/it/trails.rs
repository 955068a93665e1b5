//! Trails: the places that elements were at, whatever was born and died in between.

use crate::common::still;
use frolic_core::{EmitterSpec, Meter, Order, ParticleSpec, Particles, Storage, TrailSpec};
use proptest::prelude::*;

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    /// Elements in straight flight: the nth place behind is where each was then, or where it was born; columns and objects alike.
    #[test]
    fn places_are_where_elements_were(
        seed in any::<u32>(), places in 1u32..12, apart in 1u32..5, steps in 1u32..80, order in prop_oneof![Just(Order::Birth), Just(Order::Any)],
    ) {
        let dt = 1.0 / 64.0;
        let spec = ParticleSpec::new(600)
            .life(0.1, 0.9)
            .order(order)
            .motion(0.0, 0.0)
            .trail(TrailSpec::new(places, apart as f32 * dt))
            .emitter(EmitterSpec::rate(500.0).cone([0.0, 1.0, 0.0], 180.0).speed(0.5, 3.0));
        let mut both = [Storage::Columns, Storage::Objects].map(|storage| {
            let mut particles = Particles::with_storage(&spec, seed, storage).unwrap();
            particles.step(&still(), dt, steps, &mut Meter::new());
            particles
        });
        prop_assert_eq!(both[0].columns(), both[1].columns());
        let columns = both[0].columns();
        for nth in 0..places as usize {
            let at = both[0].trail().unwrap().place(nth).unwrap();
            prop_assert_eq!(at, both[1].trail().unwrap().place(nth).unwrap());
            // The last time places were kept, then one every `apart` steps before.
            let ago = (steps % apart + nth as u32 * apart) as f32 * dt;
            for i in 0..columns.len() {
                let back = ago.min(columns.age()[i]);
                let was = columns.px()[i] - columns.vx()[i] * back;
                // Born between two steps it starts from where it was at the end of its first.
                let slack = 3.0 * dt + 1e-4;
                prop_assert!((at[0][i] - was).abs() <= if ago > columns.age()[i] - dt { slack } else { 1e-4 }, "{} for {}", at[0][i], was);
            }
            prop_assert_eq!(at[1].len(), columns.len());
        }
        prop_assert!(both[0].trail().unwrap().place(places as usize).is_none());
        // And none is lost in an empty population.
        both[0].step(&still(), 2.0, 1, &mut Meter::new());
        prop_assert_eq!(both[0].trail().unwrap().place(0).unwrap()[2].len(), both[0].len());
    }
}

#[test]
fn bad_trails_are_refused() {
    let key = |trail| Particles::new(&ParticleSpec::new(1).trail(trail), 1).unwrap_err().key;
    assert_eq!(key(TrailSpec::new(0, 0.1)), "trail.places");
    assert_eq!(key(TrailSpec::new(33, 0.1)), "trail.places");
    assert_eq!(key(TrailSpec::new(4, f32::NAN)), "trail.every");
}
