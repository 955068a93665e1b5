//! A scene whose frame budget holds frames under a time: what it lowers, what that does, that nothing is seen of births that are left out.

use std::time::Duration;

use frolic_core::{Counter, EmitterSpec, Frame, FrameBudgetSpec, Meter, ParticleSpec, QualitySetting};
use frolic_draw::{ImageSize, LookSpec, Quality};
use frolic_scene::{Scene, SceneSpec};

const SLOW: Duration = Duration::from_millis(50);
const QUICK: Duration = Duration::from_millis(2);

/// A fountain of elements that live for a second, and are kept to 10 ms.
fn spec(order: &[QualitySetting]) -> SceneSpec {
    let drops = ParticleSpec::new(4_000)
        .life(0.8, 1.0)
        .size(0.05, 0.1)
        .motion(0.2, 1.0)
        .emitter(EmitterSpec::rate(3_000.0).cone([0.0, 1.0, 0.0], 20.0).speed(3.0, 5.0));
    let look = LookSpec::glowing(4.0, [(0.0, "#ffd9a0"), (1.0, "#3a0602")]).unwrap();
    let mut spec = SceneSpec::new("fountain").with("drops", drops, look);
    spec.draw.size = ImageSize::new(320, 200).unwrap();
    spec.frame_budget = (!order.is_empty()).then(|| FrameBudgetSpec::new(0.010).order(order));
    spec
}

/// Takes frames that are said to have taken so long; the last one.
fn frames(scene: &mut Scene, many: usize, took: Duration) -> Frame {
    let mut meter = Meter::new();
    for _ in 0..many {
        meter.begin_frame();
        scene.tick(1.0 / 60.0, &mut meter);
        meter.end_frame();
        scene.keep_budget(&Frame::new(took));
    }
    *meter.last()
}

#[test]
fn density_is_lowered_and_comes_back() {
    let mut scene = Scene::new(&spec(&[QualitySetting::Density])).unwrap();
    let before = frames(&mut scene, 90, QUICK);
    let full = before.count(Counter::Alive);
    assert_eq!(before.count(Counter::DensityPercent), 100);
    let lowered = frames(&mut scene, 300, SLOW);
    assert_eq!(lowered.count(Counter::DensityPercent), 20);
    assert_eq!(lowered.count(Counter::RatePercent), 100);
    let share = lowered.count(Counter::Alive) as f64 / full as f64;
    assert!((0.2..0.26).contains(&share), "{share} are left, a few more than are drawn");
    assert!(scene.frame_budget().unwrap().is_spent());
    let again = frames(&mut scene, 6_000, QUICK);
    assert_eq!(again.count(Counter::DensityPercent), 100);
    let share = again.count(Counter::Alive) as f64 / full as f64;
    assert!((0.97..1.03).contains(&share), "{share}");
}

#[test]
fn the_rate_falls_and_time_goes_on() {
    let mut scene = Scene::new(&spec(&[QualitySetting::Rate])).unwrap();
    frames(&mut scene, 200, SLOW);
    let (from, mut steps, mut meter) = (scene.time(), 0, Meter::new());
    for _ in 0..120 {
        meter.begin_frame();
        scene.tick(1.0 / 60.0, &mut meter);
        steps += meter.end_frame().count(Counter::Steps);
        scene.keep_budget(&Frame::new(SLOW));
    }
    assert!((59..=61).contains(&steps), "{steps}: half as many as frames");
    assert!((scene.time() - from - 2.0).abs() < 0.05, "two seconds have passed all the same");
}

/// Who is not born as nobody would see it leaves no trace: the picture is that of all born, drawn as thinly, to the bit.
#[test]
fn unborn_elements_are_counted() {
    let picture = |is_thinned: bool| {
        let mut scene = Scene::new(&spec(&[QualitySetting::Density])).unwrap();
        // A frame budget that has lowered all it may, before anything was born.
        (0..300).for_each(|_| _ = scene.keep_budget(&Frame::new(SLOW)));
        if !is_thinned {
            scene.particles_mut("drops").unwrap().thin(1.0);
        }
        let mut meter = Meter::new();
        scene.run_to(2.0, &mut meter);
        (scene.alive(), scene.draw(&mut meter).unwrap().clone())
    };
    let (thinned, all) = (picture(true), picture(false));
    assert!(thinned.0 * 3 < all.0, "{} of {}", thinned.0, all.0);
    assert!(thinned.1 == all.1);
}

#[test]
fn without_a_frame_budget_nothing_changes() {
    let mut kept = Scene::new(&spec(&[QualitySetting::Detail, QualitySetting::Density])).unwrap();
    let mut plain = Scene::new(&spec(&[])).unwrap();
    // Frames within the time are no reason.
    let [one, other] = [&mut kept, &mut plain].map(|scene| frames(scene, 60, QUICK));
    assert_eq!(one.count(Counter::DetailPercent), 100);
    assert_eq!(other.count(Counter::DetailPercent), 0);
    assert!(plain.frame_budget().is_none() && plain.keep_budget(&Frame::new(SLOW)).is_none());
    let mut meter = Meter::new();
    assert!(kept.draw(&mut meter).unwrap().clone() == *plain.draw(&mut meter).unwrap());
}

#[test]
fn a_frame_budget_is_read_and_checked() {
    let scene = SceneSpec::find("beacon").unwrap();
    let kept = scene.set("frame_budget", "{ seconds = 0.02, order = [\"rate\"] }").unwrap();
    assert_eq!(kept.frame_budget.as_ref().unwrap().order, [QualitySetting::Rate]);
    let read = SceneSpec::parse(&kept.to_toml(), "kept").unwrap();
    assert_eq!(read.frame_budget, kept.frame_budget);
    for (value, says) in [
        ("{ seconds = 0 }", "frame_budget.seconds"),
        ("{ seconds = -1.0 }", "frame_budget.seconds"),
        ("{ order = [] }", "frame_budget.order"),
        ("{ order = [\"speed\"] }", "detail"),
        ("{ order = [\"rate\", \"rate\"] }", "frame_budget.order"),
    ] {
        let told = match scene.set("frame_budget", value) {
            Ok(spec) => spec.check().unwrap_err().to_string(),
            Err(refused) => refused.to_string(),
        };
        assert!(told.contains(says), "{value}: {told}");
    }
}

/// A picture that takes too long becomes a draft, and is drawn at full quality again, to the bit, when there is time.
#[test]
fn the_picture_becomes_a_draft_and_full_again() {
    let mut scene = Scene::new(&spec(&[QualitySetting::Picture])).unwrap();
    assert_eq!(frames(&mut scene, 60, QUICK).count(Counter::PicturePercent), 100);
    assert_eq!(scene.quality(), Quality::Full);
    let mut meter = Meter::new();
    let full = scene.draw(&mut meter).unwrap().clone();
    for _ in 0..120 {
        scene.keep_budget(&Frame::new(SLOW));
    }
    assert_eq!(scene.quality(), Quality::Draft);
    let draft = scene.draw(&mut meter).unwrap().clone();
    assert!(draft.size() == full.size() && draft != full);
    for _ in 0..2000 {
        scene.keep_budget(&Frame::new(QUICK));
    }
    assert_eq!(scene.quality(), Quality::Full);
    assert!(*scene.draw(&mut meter).unwrap() == full);
    // A spec that asks for a draft gets one without a frame budget.
    assert!(scene.set("draw.quality", "draft").unwrap().is_live());
    assert!(*scene.draw(&mut meter).unwrap() == draft);
}
