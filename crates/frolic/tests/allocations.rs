//! A frame allocates nothing after warm-up: every thread's allocations are counted. A test binary of its own, as anything that
//! ran beside it would be counted too.

use std::alloc::System;

use frolic::prelude::*;
use stats_alloc::{INSTRUMENTED_SYSTEM, Region, StatsAlloc};

#[global_allocator]
static COUNTED: &StatsAlloc<System> = &INSTRUMENTED_SYSTEM;

#[test]
fn frames_allocate_nothing_after_warm_up() {
    for technique in ["each", "batched", "instanced"] {
        let spec = SceneSpec::find("beacon").unwrap().set("draw.technique", technique).unwrap();
        let spec = spec.set("draw.size", "[320, 200]").unwrap().set("threads", "2").unwrap();
        let mut scene = Scene::new(&spec.scaled(20_000)).unwrap();
        let mut meter = Meter::new();
        let threads = scene.threads();
        let allocated = threads.run(|| {
            // Until the populations stand and the burst has come and gone.
            scene.step(1.0 / 20.0, 200, &mut meter);
            let mut frames = |count: u32| {
                for _ in 0..count {
                    meter.begin_frame();
                    scene.tick(1.0 / 60.0, &mut meter);
                    scene.draw(&mut meter);
                    meter.end_frame();
                }
            };
            frames(60);
            let region = Region::new(COUNTED);
            frames(120);
            region.change()
        });
        assert_eq!(allocated.allocations, 0, "{technique}: {allocated:?}");
        assert_eq!(allocated.reallocations, 0, "{technique}: {allocated:?}");
    }
}
