//! A graphics device that goes away in the middle of a profile. Alone in its file, as the tests of a file share the device.

use std::time::Duration;

use frolic::gpu::Gpu;
use frolic::prelude::*;

#[test]
fn a_lost_device_keeps_what_was_finished() {
    let scene = SceneSpec::find("beacon").unwrap();
    let scene = scene.set("draw.size", "[64, 40]").unwrap();
    let mut plan = Plan::default();
    plan.counts = "100,200,500".parse().unwrap();
    plan.vary = vec!["backend=cpu,gpu".parse().unwrap()];
    (plan.frames, plan.frame_limit) = (10, Duration::from_secs(20));
    let mut asked = 0;
    let profile = sweep("beacon", &scene, &plan, None, |now| {
        asked += u32::from(now.count == 200 && now.variant == "gpu");
        // Once to settle, then before each turn of frames.
        if asked == 2 {
            Gpu::shared().unwrap().device().destroy();
        }
        true
    })
    .unwrap();
    let fault = profile.fault.as_ref().unwrap();
    assert!(fault.contains("lost") || fault.contains("refused"), "{fault}");
    assert!(profile.machine.device.as_ref().unwrap().starts_with("drawn by "));
    let [cpu, gpu] = &profile.variants[..] else { panic!("two variants") };
    // The processor went on to the end; of the device, the first count is whole.
    assert_eq!((cpu.points.len(), cpu.stopped.is_none()), (3, true));
    assert_eq!(gpu.points[0].count, 100);
    assert!(gpu.stopped.as_ref().is_some_and(|stop| stop.count == 200));

    // A running scene refuses changes while its device is lost, and takes the one that lets the CPU draw.
    let mut scene = Scene::new(&scene.set("backend", "gpu").unwrap()).unwrap();
    let mut meter = Meter::new();
    scene.run_to(0.5, &mut meter);
    scene.draw(&mut meter).unwrap();
    Gpu::shared().unwrap().device().destroy();
    scene.run_to(0.6, &mut meter);
    scene.draw(&mut meter).unwrap_err();
    let spec = scene.spec().clone();
    for (path, value) in [("world.wind", "[5, 0, 0]"), ("camera.exposure", "2"), ("seed", "9")] {
        let problem = scene.set(path, value).unwrap_err().to_string();
        assert!(problem.contains("backend") && problem.contains("write backend = \"cpu\""), "{problem}");
        assert!(problem.contains("lost") || problem.contains("refused"), "{problem}");
        assert_eq!(scene.spec(), &spec);
    }
    assert!(!scene.set("backend", "cpu").unwrap().is_live());
    assert!(scene.set("world.wind", "[5, 0, 0]").unwrap().is_live());
    scene.run_to(1.0, &mut meter);
    scene.draw(&mut meter).unwrap();
}
