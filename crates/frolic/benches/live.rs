//! What it costs to change things while they run: a key of a running scene, a count of blades, and a camera that moves.
//!
//! `cargo bench -p frolic --bench live [-- changes | count | transparent | camera [SCENE]]`. Changes and frames without one take turns, and so do a moving camera and a
//! still one, at 1280x800.

use std::time::Instant;

use frolic::blades::{BladeSpec, Blades};
use frolic::placement::{AreaSpec, ClumpSpec, On, PatternSpec, PlacementSpec};
use frolic::prelude::*;
use frolic::profile::stats::median;
use frolic::scene::SHIPPED;

type Failure = Box<dyn std::error::Error + Send + Sync>;

/// Turns of each contender.
const TURNS: usize = 25;

fn main() -> Result<(), Failure> {
    let words: Vec<String> = std::env::args().skip(1).filter(|word| !word.starts_with("--")).collect();
    let asked = |name: &str| words.is_empty() || words.iter().any(|word| word == name);
    if asked("changes") {
        changes("beacon", "embers", 1_000_000, "world.wind", ["[3, 0, 0]", "[3.1, 0, 0]"])?;
        changes("beacon", "embers", 1_000_000, "embers.motion.drag", ["0.9", "0.91"])?;
        changes("dunes", "marram", 240_000, "marram.blades.drag", ["3.5", "3.6"])?;
        changes("dunes", "marram", 240_000, "world.wind", ["[3, 0, 0]", "[3.1, 0, 0]"])?;
    }
    if asked("count") {
        count()?;
    }
    if asked("transparent") {
        transparent()?;
    }
    if asked("camera") {
        println!(
            "camera, moving against still, 1280x800: median frame, and the stages that differ by a millisecond"
        );
        for scene in
            SHIPPED.iter().filter(|scene| words.len() < 2 || words.iter().any(|word| word == scene.name))
        {
            camera(scene.name)?;
        }
    }
    Ok(())
}

/// A key moved back and forth in a running scene, against its frames.
fn changes(name: &str, population: &str, count: u32, path: &str, values: [&str; 2]) -> Result<(), Failure> {
    let mut spec = SceneSpec::find(name)?;
    spec.profile.population = Some(population.to_owned());
    let (mut scene, mut meter) = (Scene::new(&spec.scaled(count))?, Meter::new());
    let threads = scene.threads();
    threads.run(|| {
        scene.step(1.0 / 20.0, 60, &mut meter);
        scene.draw(&mut meter)?;
        let (mut change, mut frame) = (Vec::new(), Vec::new());
        for turn in 0..TURNS {
            let started = Instant::now();
            let done = scene.set(path, values[turn % 2])?;
            change.push(started.elapsed().as_secs_f64() * 1e3);
            if !done.is_live() {
                return Err(format!("{path} is not live").into());
            }
            meter.begin_frame();
            scene.tick(1.0 / 60.0, &mut meter);
            scene.draw(&mut meter)?;
            frame.push(meter.end_frame().total().as_secs_f64() * 1e3);
        }
        let (change, frame) = (median(&change[1..]), median(&frame[1..]));
        println!(
            "change of {path} at {count} {population}: {change:.3} ms, {:.2} % of a frame of {frame:.1} ms",
            change / frame * 100.0
        );
        Ok(())
    })
}

/// A fifth more blades in a meadow that stands, against a meadow of that fifth alone and against a new start; and the same by a key of a running scene.
fn count() -> Result<(), Failure> {
    let noise = On::Ground(PatternSpec::BlueNoise { distance: 0.0 });
    let ground = AreaSpec::new([0.0; 2], [40.0; 2]);
    let spec = BladeSpec::new(PlacementSpec::new(noise).area(ground).clumps(ClumpSpec::new(0.7)));
    let width = Span::from(0.004);
    let mut meadow = Blades::new(&spec, 100_000, width, 1)?;
    let world = WorldSpec::default().wind([3.0, 0.0, 1.0]).build()?;
    meadow.step(&world, 1.0 / 60.0, 30, &mut Meter::new());
    let mut scene = Scene::new(&SceneSpec::find("dunes")?.set("marram.count", "100000")?)?;
    scene.step(1.0 / 20.0, 20, &mut Meter::new());
    let ms = |started: Instant| started.elapsed().as_secs_f64() * 1e3;
    let mut times: [Vec<f64>; 4] = Default::default();
    for nth in 0..TURNS {
        let (mut copy, mut other) = (meadow.clone(), scene.try_clone()?);
        let started = Instant::now();
        copy.retune(&spec, 120_000, width)?;
        times[0].push(ms(started));
        let started = Instant::now();
        Blades::new(&spec, 20_000, width, nth as u32)?;
        times[1].push(ms(started));
        let started = Instant::now();
        Blades::new(&spec, 120_000, width, nth as u32)?;
        times[2].push(ms(started));
        let started = Instant::now();
        if !other.set("marram.count", "120000")?.is_live() {
            return Err("the count is not live".into());
        }
        times[3].push(ms(started));
    }
    let [more, alone, anew, key] = times.each_ref().map(|times| median(times));
    println!(
        "100000 blades to 120000: {more:.1} ms, {:.2} times 20000 alone ({alone:.1} ms), {:.2} times 120000 anew ({anew:.1} ms); marram.count of \
         dunes {key:.1} ms",
        more / alone,
        more / anew
    );
    Ok(())
}

/// Frames of a moving camera without a backdrop, in turn with pictures over the backdrop, and the time that stages account for.
fn transparent() -> Result<(), Failure> {
    let spec = SceneSpec::find("beacon")?;
    let (mut scene, mut meter) = (Scene::new(&spec)?, Meter::new());
    scene.step(1.0 / 20.0, 40, &mut meter);
    let mut times: [Vec<f64>; 3] = Default::default();
    for turn in 0..TURNS * 2 {
        scene.set_camera(turned(&spec.camera, turn as f32 * 0.01))?;
        meter.begin_frame();
        let started = Instant::now();
        if turn % 2 == 0 {
            scene.draw(&mut meter)?
        } else {
            scene.draw_transparent(&mut meter)?
        };
        times[turn % 2].push(started.elapsed().as_secs_f64() * 1e3);
        let frame = meter.end_frame();
        if turn % 2 == 1 {
            let stages: f64 = Stage::ALL.iter().map(|stage| frame.stage(*stage).as_secs_f64() * 1e3).sum();
            times[2].push(stages);
        }
    }
    let [over, alone, stages] = times.each_ref().map(|times| median(times));
    println!(
        "beacon, moving camera: {over:.1} ms over its backdrop, {alone:.1} ms transparent, {:.2} times; stages have {:.0} % of it",
        alone / over,
        stages / alone * 100.0
    );
    Ok(())
}

/// A camera that circles its target slowly, against one that stands.
fn camera(name: &str) -> Result<(), Failure> {
    let spec = SceneSpec::find(name)?;
    let (mut scene, mut meter) = (Scene::new(&spec)?, Meter::new());
    let threads = scene.threads();
    threads.run(|| {
        scene.step(1.0 / 20.0, 40, &mut meter);
        scene.draw(&mut meter)?;
        let mut frames: [Vec<Frame>; 2] = Default::default();
        for turn in 0..TURNS * 2 {
            let moves = turn % 2;
            // Three frames, so that a camera that has just stopped is not taken for a still one.
            for nth in 0..3 {
                if moves == 1 {
                    scene.set_camera(turned(&spec.camera, (turn * 3 + nth) as f32 * 0.007))?;
                }
                meter.begin_frame();
                scene.tick(1.0 / 60.0, &mut meter);
                scene.draw(&mut meter)?;
                let frame = meter.end_frame();
                if nth == 2 {
                    frames[moves].push(frame);
                }
            }
        }
        let of = |moves: usize, time: &dyn Fn(&Frame) -> std::time::Duration| {
            median(&frames[moves].iter().map(|frame| time(frame).as_secs_f64() * 1e3).collect::<Vec<_>>())
        };
        let [still, moving] = [0, 1].map(|moves| of(moves, &Frame::total));
        println!(
            "  {name:10} {still:7.1} ms still, {moving:7.1} moving: {:.2} times, {:+.1} ms",
            moving / still,
            moving - still
        );
        for stage in Stage::all() {
            let more = of(1, &|frame| frame.stage(stage)) - of(0, &|frame| frame.stage(stage));
            if more.abs() >= 1.0 {
                println!("    of which {:10} {more:+7.1} ms", stage.name());
            }
        }
        Ok(())
    })
}

/// The camera, turned about its target.
fn turned(camera: &CameraSpec, angle: f32) -> CameraSpec {
    let mut turned = *camera;
    let ([x, y, z], [tx, _, tz]) = (camera.position, camera.target);
    let (sin, cos) = angle.sin_cos();
    turned.position = [tx + (x - tx) * cos - (z - tz) * sin, y, tz + (x - tx) * sin + (z - tz) * cos];
    turned
}
