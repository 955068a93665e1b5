//! Saving running scenes, copying them, and restoring them.

use std::sync::LazyLock;

use frolic_core::{EmitterSpec, Meter, ParticleSpec, SavedState, Storage};
use frolic_draw::LookSpec;
use frolic_scene::{Command, SHIPPED, SavedScene, Scene, SceneError, SceneSpec};
use proptest::prelude::*;

use crate::live::small;

fn run(scene: &mut Scene, steps: u32) {
    scene.step(1.0 / 60.0, steps, &mut Meter::new());
}

fn started(spec: &SceneSpec) -> Scene {
    let mut scene = Scene::new(spec).unwrap();
    run(&mut scene, 50);
    scene
}

/// All pixels of a picture.
fn picture(scene: &mut Scene) -> Vec<u8> {
    scene.draw(&mut Meter::new()).unwrap().pixels().as_flattened().to_vec()
}

#[test]
fn every_shipped_scene_continues_with_the_same_bits() {
    for shipped in SHIPPED {
        let mut scene = started(&small(shipped.name));
        // A change, so that phases of gusts and of noise count.
        scene.set("world.wind", "[2.5, 0, 1]").unwrap();
        run(&mut scene, 7);
        let saved = scene.save().unwrap();
        let bytes = saved.to_bytes().unwrap();
        let read = SavedScene::from_bytes(&bytes).unwrap();
        assert_eq!(read, saved, "{}", shipped.name);
        let (mut copy, mut opened) = (scene.try_clone().unwrap(), read.open().unwrap());
        // Restored over other changes and a later state.
        let mut restored = scene.try_clone().unwrap();
        restored.set("world.wind", "[0, 0, 7]").unwrap();
        restored.set("world.gravity", "[0, -4, 0]").unwrap();
        run(&mut restored, 21);
        restored.restore(&saved).unwrap();
        let now = picture(&mut scene);
        run(&mut scene, 33);
        let (then, drawn) = (scene.save().unwrap(), picture(&mut scene));
        for (how, other) in [("copy", &mut copy), ("opened", &mut opened), ("restored", &mut restored)] {
            assert_eq!(other.time(), saved.open().unwrap().time(), "{} {how}", shipped.name);
            assert!(picture(other) == now, "{} {how}: another picture at once", shipped.name);
            run(other, 33);
            assert!(other.save().unwrap() == then, "{} {how}: another state", shipped.name);
            assert!(picture(other) == drawn, "{} {how}: another picture", shipped.name);
        }
    }
}

#[test]
fn records_and_edits_are_saved_too() {
    let mut spec = small("beacon");
    spec.storage = Storage::Objects;
    let mut scene = started(&spec);
    scene.command(&Command::burst("embers", 0, 5)).unwrap();
    scene
        .edit("embers", |edit| {
            edit.floats(["vx"])?[0].fill(3.0);
            Ok(())
        })
        .unwrap();
    let saved = scene.save().unwrap();
    run(&mut scene, 1);
    let after = scene.save().unwrap();
    for _ in 0..2 {
        scene.restore(&saved).unwrap();
        run(&mut scene, 1);
        assert!(scene.save().unwrap() == after);
    }
}

#[test]
fn undo_brings_back_spec_masks_and_counts() {
    let spec = small("blowhole");
    let mut scene = started(&spec);
    let mask = spec.world.obstacle.iter().find_map(|obstacle| obstacle.name.clone()).unwrap();
    let saved = scene.save().unwrap();
    let before = picture(&mut scene);
    let dug = scene.command(&Command::dig(&mask, [0.0, 1.0, 0.0], 0.6)).unwrap();
    assert!(dug > 0);
    scene.set("world.gravity", "[0, -3, 0]").unwrap();
    run(&mut scene, 20);
    assert!(scene.save().unwrap() != saved);
    scene.restore(&saved).unwrap();
    assert_eq!(scene.spec(), &spec);
    assert!(scene.save().unwrap() == saved);
    assert!(picture(&mut scene) == before);
}

#[test]
fn files_of_other_versions_and_other_scenes_are_refused() {
    let mut scene = started(&small("beacon"));
    let saved = scene.save().unwrap();
    let mut file = SavedState::from_bytes(&saved.to_bytes().unwrap()).unwrap();
    file.put("frolic_state", &7u32);
    let error = SavedScene::from_bytes(&file.to_bytes().unwrap()).unwrap_err();
    assert!(matches!(error, SceneError::StateVersion { found: 7, supported: 1 }), "{error}");
    assert!(error.to_string().contains("save it again"), "{error}");
    file.put("frolic_state", &1u32);
    // The state of one scene with the spec of another.
    file.put("scene", &small("dunes").to_toml());
    file.put("shipped", "dunes");
    let mixed = SavedScene::from_bytes(&file.to_bytes().unwrap()).unwrap();
    let error = scene.restore(&mixed).unwrap_err();
    assert!(error.to_string().contains("restore a state of the same scene"), "{error}");
    assert!(scene.save().unwrap() == saved, "the running scene changed");
    assert!(SavedScene::from_bytes(b"frolic").is_err());
    assert!(SavedScene::from_bytes(&[]).is_err());
    let folder = tempfile::tempdir().unwrap();
    let missing = SavedScene::read(folder.path().join("none.state")).unwrap_err();
    assert!(matches!(missing, SceneError::Read { .. }));
    let path = folder.path().join("one.state");
    saved.write(&path).unwrap();
    assert_eq!(SavedScene::read(&path).unwrap(), saved);
}

#[test]
fn what_cannot_be_written_stays_in_memory() {
    let particles = ParticleSpec::new(50).emitter(EmitterSpec::rate(20.0));
    let spec = SceneSpec::new("memory").with("dust", particles, LookSpec::default());
    let spec = spec.with_file("font.ttf", vec![1u8, 2, 3]);
    let mut scene = started(&spec);
    let saved = scene.save().unwrap();
    assert!(saved.to_bytes().unwrap_err().to_string().contains("in memory"));
    run(&mut scene, 5);
    scene.restore(&saved).unwrap();
    assert!(scene.save().unwrap() == saved);
}

/// Saved scenes of all families.
static FILES: LazyLock<[Vec<u8>; 5]> = LazyLock::new(|| {
    ["dunes", "mussels", "foghorn", "blowhole", "beacon"]
        .map(|name| started(&small(name)).save().unwrap().to_bytes().unwrap())
});

proptest! {
    #![proptest_config(ProptestConfig::with_cases(16))]

    /// A damaged file is refused, or opens as a scene that steps and draws; it never panics.
    #[test]
    fn damaged_states_never_panic(
        scene in 0..FILES.len(),
        places in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 1..6),
        cut in prop::option::weighted(0.2, any::<prop::sample::Index>()),
    ) {
        let mut bytes = FILES[scene].clone();
        for (place, value) in places {
            let at = place.index(bytes.len());
            bytes[at] = value;
        }
        if let Some(cut) = cut {
            bytes.truncate(cut.index(bytes.len()));
        }
        if let Ok(mut scene) = SavedScene::from_bytes(&bytes).and_then(|saved| saved.open()) {
            run(&mut scene, 2);
            // A population whose state cannot be stepped ends; the rest goes on.
            let _ = scene.draw(&mut Meter::new());
        }
    }
}
