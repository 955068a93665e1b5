//! How does a program take changes back? It saves the running scene before each, restores the last of them, and keeps one as a file.
//!
//! `cargo run --release -p frolic --example snapshot_and_undo [SCENE] [FILE.state]` changes a scene (the shipped blowhole if none is given) three times,
//! undoes all three, and prints what saving and restoring cost. With FILE it writes the last state and reads it back.

use std::time::{Duration, Instant};

use frolic::prelude::*;
use frolic::scene::SavedScene;

/// What one `act` took, and its result.
fn timed<T>(act: impl FnOnce() -> T) -> (Duration, T) {
    let started = Instant::now();
    let result = act();
    (started.elapsed(), result)
}

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let name = std::env::args().nth(1).unwrap_or_else(|| "blowhole".to_owned());
    let mut scene = Scene::new(&SceneSpec::find(&name)?)?;
    let mut meter = Meter::new();
    scene.run_to(2.0, &mut meter);

    // Each change is undone by what was saved before it.
    let mut undo: Vec<(&str, SavedScene)> = Vec::new();
    for (path, value) in
        [("world.wind", "[9, 0, 2]"), ("world.gravity", "[0, -3, 0]"), ("camera.exposure", "0.4")]
    {
        let (took, saved) = timed(|| scene.save());
        println!("saved {:>6} elements in {took:>9.2?}, then {path} = {value}", scene.alive());
        undo.push((path, saved?));
        scene.set(path, value)?;
        scene.run_to(scene.time() + 0.5, &mut meter);
    }

    while let Some((path, saved)) = undo.pop() {
        let (took, restored) = timed(|| scene.restore(&saved));
        restored?;
        let same = scene.save()? == saved;
        println!("undid {path} in {took:.2?}: {:.2} s, the same bits: {same}", scene.time());
    }

    // A copy goes its own way; both start from the same bits.
    let (took, copy) = timed(|| scene.try_clone());
    let mut copy = copy?;
    copy.run_to(3.0, &mut meter);
    scene.run_to(3.0, &mut meter);
    println!("copied in {took:.2?}; a second later the same bits: {}", copy.save()? == scene.save()?);

    if let Some(path) = std::env::args().nth(2) {
        let saved = scene.save()?;
        let (wrote, done) = timed(|| saved.write(&path));
        done?;
        let (read, again) = timed(|| SavedScene::read(&path));
        let megabytes = std::fs::metadata(&path)?.len() as f64 / 1e6;
        let same = again?.open()?.save()? == saved;
        println!(
            "{path}: {megabytes:.1} MB, written in {wrote:.2?}, read in {read:.2?}, the same bits: {same}"
        );
    }
    Ok(())
}
