//! `frolic draw`: a picture of a scene, or many.

mod watch;

use std::collections::BTreeMap;
use std::io::{self, BufWriter, IsTerminal, Write};
use std::path::{Path, PathBuf};

use frolic::diagnostics::{Corner, Readout};
use frolic::prelude::*;
use frolic::scene::{VideoWriter, write_animated_png, write_sheet};
use serde::Serialize;

use super::{
    CommandError, Outcome, choose, drawn_by, has_ending, heed_interrupts, interrupted, remark_on, run_to,
    short_name, usable,
};
use crate::args;
use crate::output::{bytes, ms, progress, say, say_json, stats};

/// Output of `--json`.
#[derive(Debug, Serialize)]
pub(super) struct Drawn {
    scene: String,
    picture: String,
    frames: usize,
    size: [u32; 2],
    at: f32,
    frame_ms: f64,
    stages_ms: BTreeMap<&'static str, f64>,
    counters: BTreeMap<&'static str, u64>,
    /// Of a draft with `--stats`: stages of the same picture at full quality.
    #[serde(skip_serializing_if = "Option::is_none")]
    full_stages_ms: Option<BTreeMap<&'static str, f64>>,
}

/// Subject of a picture.
#[derive(Debug, Clone, Copy)]
pub(super) struct Shot {
    show: Show,
    transparent: bool,
    readout: bool,
    /// Whether a draft is held against a full picture.
    weigh: bool,
}

/// The picture itself.
pub(super) const PLAIN: Shot = Shot { show: Show::Picture, transparent: false, readout: false, weigh: false };

/// Frames that a read-out records before a single picture.
const READOUT_FRAMES: u32 = 60;

pub(super) fn run(args: &args::Draw) -> Result<Outcome, CommandError> {
    heed_interrupts();
    let spec = asked(args)?;
    if args.transparent && args.show != Show::Picture {
        let problem =
            format!("--transparent and --show {}: only the picture can be transparent", args.show.name());
        return Err(CommandError::Usage(problem));
    }
    if !(args.rate >= 0.02 && args.rate <= 1000.0) {
        return Err(CommandError::Usage(format!(
            "--rate {}: write 0.02 to 1000 pictures a second",
            args.rate
        )));
    }
    let name = short_name(&args.chosen.scene);
    let path = args.output.clone().unwrap_or_else(|| format!("{name}.png").into());
    let (show, transparent, readout) = (args.show, args.transparent, args.readout);
    let weigh = args.stats && spec.draw.quality == Quality::Draft;
    let shot = Shot { show, transparent, readout, weigh };
    let piped = path.as_os_str() == "-";
    let many = args.frames.is_some() || args.sheet.is_some() || is_video(&path);
    if args.watch {
        if many {
            return Err(CommandError::Usage(format!("--watch {}: name a .png", path.display())));
        }
        return watch::run(args, spec, shot, &path);
    }
    let (drawn, frame) = if many {
        let count = args.sheet.map_or(args.frames.unwrap_or(1), |sheet| sheet.0[0] * sheet.0[1]);
        let into = Into::of(args, &path, spec.draw.size, count)?;
        let Some(drawn) = film(&name, &spec, shot, &path, into, count, args.rate)? else {
            return Ok(Outcome::Interrupted);
        };
        drawn
    } else {
        let Some(drawn) = draw(&name, &spec, shot, &path)? else { return Ok(Outcome::Interrupted) };
        drawn
    };
    let cut = interrupted();
    // On a pipe the pictures are the output.
    if !piped {
        told(args, &spec, &drawn, &frame);
    }
    Ok(if cut { Outcome::Interrupted } else { Outcome::Done })
}

/// The scene that the arguments ask for.
fn asked(args: &args::Draw) -> Result<SceneSpec, CommandError> {
    let mut spec = choose(&args.chosen)?;
    drawn_by(&mut spec, &args.drawing);
    if let Some(size) = args.size {
        spec.draw.size = size;
    }
    if let Some(at) = args.at {
        spec.draw.at = at;
    }
    if let Some(quality) = args.quality {
        spec.draw.quality = quality;
    }
    spec.check()?;
    Ok(spec)
}

/// Prints what was drawn.
fn told(args: &args::Draw, spec: &SceneSpec, drawn: &Drawn, frame: &Frame) {
    if args.json && args.stats {
        say_json(&drawn.counters);
    } else if args.json {
        say_json(drawn);
    } else {
        let frames = if drawn.frames > 1 { format!(", {} frames", drawn.frames) } else { String::new() };
        say(&format!("{}: {}{frames} at {} s", drawn.picture, spec.draw.size, spec.draw.at));
        say(&summary(frame));
        if args.stats {
            say(&stats(frame, spec.draw.size));
            if let Some(full) = &drawn.full_stages_ms {
                say(&savings(spec, &drawn.stages_ms, full));
            }
        }
    }
}

/// What a draft saves: each of its parts, with the stages that do less.
fn savings(
    spec: &SceneSpec,
    draft: &BTreeMap<&'static str, f64>,
    full: &BTreeMap<&'static str, f64>,
) -> String {
    let times = |stages: &[Stage]| {
        let sum = |of: &BTreeMap<&'static str, f64>| {
            stages.iter().filter_map(|stage| of.get(stage.name())).sum::<f64>()
        };
        format!("{:.1} of {:.1} ms", sum(draft), sum(full))
    };
    let size = spec.draw.size;
    let mut lines = vec![format!(
        "draft     {}x{} of {size} pixels, a sample for each of these: raster {}, resolve {}",
        size.width().div_ceil(2),
        size.height().div_ceil(2),
        times(&[Stage::Raster, Stage::Backdrop]),
        times(&[Stage::Resolve]),
    )];
    if let Some(side) = spec.sun.map(|sun| sun.shadow_map).filter(|side| *side > 0) {
        lines.push(format!(
            "          a shadow map of {} of {side} texels a side: {}",
            side / 2,
            times(&[Stage::Shadow])
        ));
    }
    lines.push(format!("          in all {}", times(&Stage::all().collect::<Vec<_>>())));
    lines.join("\n")
}

fn is_video(path: &Path) -> bool {
    path.as_os_str() == "-" || has_ending(path, "y4m")
}

/// Takes a picture, and the frame's meter.
fn shoot(scene: &mut Scene, shot: Shot, meter: &mut Meter) -> Result<(Image, Frame), SceneError> {
    meter.begin_frame();
    meter.add(Counter::Alive, scene.alive() as u64);
    let image = if shot.transparent { scene.draw_transparent(meter) } else { scene.show(shot.show, meter) };
    let image = image?.clone();
    Ok((image, meter.end_frame()))
}

/// Time of each stage, in milliseconds.
fn stages_ms(frame: &Frame) -> BTreeMap<&'static str, f64> {
    Stage::all().map(|stage| (stage.name(), frame.stage(stage).as_secs_f64() * 1e3)).collect()
}

fn drawn(name: &str, spec: &SceneSpec, path: String, frames: usize, frame: &Frame) -> Drawn {
    Drawn {
        scene: name.to_owned(),
        picture: path,
        frames,
        size: spec.draw.size.into(),
        at: spec.draw.at,
        frame_ms: frame.total().as_secs_f64() * 1e3,
        stages_ms: stages_ms(frame),
        counters: Counter::all().map(|counter| (counter.name(), frame.count(counter))).collect(),
        full_stages_ms: None,
    }
}

/// Runs a scene, draws it twice (the second is timed, with sky and ground kept) and writes the picture; `None` when
/// interrupted, which writes nothing.
pub(super) fn draw(
    name: &str,
    spec: &SceneSpec,
    shot: Shot,
    path: &Path,
) -> Result<Option<(Drawn, Frame)>, CommandError> {
    let mut scene = Scene::new(spec)?;
    remark_on(&scene);
    usable(path.parent().unwrap_or(Path::new("")))?;
    let mut meter = Meter::new();
    let step = f64::from(spec.clock.step());
    let warm_up = if shot.readout { f64::from(READOUT_FRAMES) * step } else { 0.0 };
    if !run_and_draw(&mut scene, (f64::from(spec.draw.at) - warm_up).max(0.0), &mut meter)? {
        return Ok(None);
    }
    let (image, frame) = if shot.readout {
        let mut readout = readout(spec);
        for _ in 1..READOUT_FRAMES {
            shoot_live(&mut scene, shot, step, &mut readout, &mut meter)?;
            if interrupted() {
                return Ok(None);
            }
        }
        shoot_live(&mut scene, shot, step, &mut readout, &mut meter)?
    } else {
        shoot(&mut scene, shot, &mut meter)?
    };
    write_png(path, &image)?;
    let mut drawn = drawn(name, spec, path.display().to_string(), 1, &frame);
    if shot.weigh && !scene.is_on_device() {
        scene.set("draw.quality", "\"full\"")?;
        scene.draw(&mut meter)?;
        let (_, full) = shoot(&mut scene, shot, &mut meter)?;
        drawn.full_stages_ms = Some(stages_ms(&full));
    }
    Ok(Some((drawn, frame)))
}

/// Runs a scene to a time, and draws it once, so that the next picture has sky and ground kept; `false` when interrupted.
fn run_and_draw(scene: &mut Scene, seconds: f64, meter: &mut Meter) -> Result<bool, CommandError> {
    if !run_to(scene, seconds, meter) {
        return Ok(false);
    }
    scene.draw(meter)?;
    scene.wait(meter)?;
    Ok(true)
}

/// A read-out of a scene's frames, held against its budget's time if it has one.
fn readout(spec: &SceneSpec) -> Readout {
    Readout::new(spec.frame_budget.as_ref().map_or(1.0 / 60.0, |budget| budget.seconds))
}

/// Takes a frame as a program that runs does, `elapsed` s after the one before: steps and picture together, timed by a readout that is drawn
/// over it, and by the scene's frame budget.
fn shoot_live(
    scene: &mut Scene,
    shot: Shot,
    elapsed: f64,
    readout: &mut Readout,
    meter: &mut Meter,
) -> Result<(Image, Frame), SceneError> {
    meter.begin_frame();
    scene.tick(elapsed, meter);
    let mut image = scene.show(shot.show, meter)?.clone();
    let frame = meter.end_frame();
    scene.keep_budget(&frame);
    readout.add(&frame);
    readout.paint(&mut image, Corner::TopLeft);
    Ok((image, frame))
}

/// Where pictures go.
enum Into {
    /// One file each: the name before and after the number, and how many digits it has.
    Numbered(String, String, usize),
    /// Kept, and written together at the end.
    Animated(Vec<Image>),
    Sheet(Vec<Image>, [u32; 2]),
    Video(Box<VideoWriter<Box<dyn Write>>>),
}

/// Pictures that are kept until the end may take so much memory, bytes.
const KEPT: u64 = 1 << 30;

impl Into {
    fn of(args: &args::Draw, path: &Path, size: ImageSize, count: u32) -> Result<Self, CommandError> {
        let usage = |text: String| Err(CommandError::Usage(text));
        if count == 0 {
            return usage("--frames 0: write at least 1".to_owned());
        }
        let bytes = u64::from(count) * size.width() as u64 * size.height() as u64 * 4;
        let name = path.to_string_lossy().into_owned();
        if is_video(path) {
            if args.sheet.is_some() || args.transparent {
                return usage(format!("{name}: video has no sheets and is never transparent; name a .png"));
            }
            let out: Box<dyn Write> = if name == "-" {
                if io::stdout().is_terminal() {
                    return usage(
                        "-o -: raw video cannot be shown in a terminal; pipe it to another program"
                            .to_owned(),
                    );
                }
                Box::new(io::stdout())
            } else {
                usable(path.parent().unwrap_or(Path::new("")))?;
                let write = |source| SceneError::Write { path: path.to_owned(), source };
                Box::new(BufWriter::new(std::fs::File::create(path).map_err(write)?))
            };
            let write = |source| SceneError::Write { path: path.to_owned(), source };
            let video = VideoWriter::new(out, size, args.rate).map_err(write)?;
            return Ok(Self::Video(Box::new(video)));
        }
        usable(path.parent().unwrap_or(Path::new("")))?;
        if let (Some(start), None) = (name.find('#'), args.sheet) {
            let digits = name[start..].chars().take_while(|c| *c == '#').count();
            return Ok(Self::Numbered(name[..start].to_owned(), name[start + digits..].to_owned(), digits));
        }
        if bytes > KEPT {
            let most = KEPT / (bytes / u64::from(count)).max(1);
            return usage(format!(
                "{count} frames of {size} are over 1 GiB; write at most {most}, or numbered frames such as 'frames/####.png'"
            ));
        }
        Ok(match args.sheet {
            Some(sheet) => Self::Sheet(Vec::new(), sheet.0),
            None => Self::Animated(Vec::new()),
        })
    }
}

/// Draws `count` pictures, `rate` a second. After Ctrl-C the finished pictures are written; `None` if there are none.
fn film(
    name: &str,
    spec: &SceneSpec,
    shot: Shot,
    path: &Path,
    mut into: Into,
    count: u32,
    rate: f32,
) -> Result<Option<(Drawn, Frame)>, CommandError> {
    let mut scene = Scene::new(spec)?;
    remark_on(&scene);
    let mut meter = Meter::new();
    if !run_and_draw(&mut scene, f64::from(spec.draw.at), &mut meter)? {
        return Ok(None);
    }
    let mut readout = shot.readout.then(|| readout(spec));
    let bar = progress(u64::from(count), "drawing");
    let mut trouble = None;
    let mut last = None;
    let mut written = PathBuf::from(path);
    let mut done = 0;
    for nth in 0..count {
        if interrupted() {
            break;
        }
        let taken = match &mut readout {
            Some(readout) => shoot_live(&mut scene, shot, 1.0 / f64::from(rate), readout, &mut meter),
            None => {
                scene.run_to(f64::from(spec.draw.at) + f64::from(nth) / f64::from(rate), &mut meter);
                shoot(&mut scene, shot, &mut meter)
            }
        };
        let (image, frame) = match taken {
            Ok(shot) => shot,
            Err(error) => {
                trouble = Some(error);
                break;
            }
        };
        last = Some(frame);
        match &mut into {
            Into::Numbered(before, after, digits) => {
                written = format!("{before}{nth:0digits$}{after}", digits = *digits).into();
                write_png(&written, &image)?;
            }
            Into::Animated(frames) | Into::Sheet(frames, _) => frames.push(image),
            Into::Video(video) => {
                if let Err(source) = video.write(&image) {
                    // The reader has closed the pipe.
                    if source.kind() == io::ErrorKind::BrokenPipe {
                        break;
                    }
                    return Err(SceneError::Write { path: path.to_owned(), source }.into());
                }
            }
        }
        done += 1;
        bar.set_position(done);
    }
    bar.finish_and_clear();
    match &into {
        Into::Animated(frames) if !frames.is_empty() => write_animated_png(path, frames, rate)?,
        Into::Sheet(frames, sheet) if !frames.is_empty() => {
            write_sheet(path, frames, *sheet, rate, spec.draw.at)?;
        }
        _ => {}
    }
    if let Some(error) = trouble {
        // Finished pictures are written.
        return Err(error.into());
    }
    let shown = if matches!(into, Into::Numbered(..)) { written } else { path.to_owned() };
    Ok(last.map(|frame| (drawn(name, spec, shown.display().to_string(), done as usize, &frame), frame)))
}

/// The frame in a few lines.
pub(super) fn summary(frame: &Frame) -> String {
    let count = |counter| frame.count(counter);
    let stages: Vec<String> = Stage::all()
        .filter(|&stage| !frame.stage(stage).is_zero())
        .map(|stage| format!("{} {}", stage.name(), ms(frame.stage(stage))))
        .collect();
    if count(Counter::Submits) > 0 {
        return format!(
            "  {} alive, {} draw calls on the device, {} dispatches, {} passes, {} submits\n  {} up, {} back, {} held there\n  drawn in {}: {}",
            count(Counter::Alive),
            count(Counter::DrawCalls),
            count(Counter::Dispatches),
            count(Counter::Passes),
            count(Counter::Submits),
            bytes(count(Counter::UploadedBytes)),
            bytes(count(Counter::DownloadedBytes)),
            bytes(count(Counter::DeviceBytes)),
            ms(frame.total()),
            stages.join(", "),
        );
    }
    format!(
        "  {} alive, {} drawn in {} draw calls, {} culled, {} pixels touched\n  drawn in {}: {}",
        count(Counter::Alive),
        count(Counter::Instances) - count(Counter::Culled),
        count(Counter::DrawCalls),
        count(Counter::Culled),
        count(Counter::PixelsTouched),
        ms(frame.total()),
        stages.join(", "),
    )
}
