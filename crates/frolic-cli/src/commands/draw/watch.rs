//! `frolic draw --watch`: draws a scene again whenever its files are saved.

use std::path::{Path, PathBuf};
use std::time::{Duration, Instant, SystemTime};

use frolic::prelude::*;

use super::{Shot, asked, drawn, run_and_draw, shoot, told};
use crate::args;
use crate::commands::{CommandError, Outcome, interrupted, remark_on, short_name, usable};
use crate::output::{complain, ms, say};

/// Time between two looks at the files.
const PAUSE: Duration = Duration::from_millis(100);

pub(super) fn run(
    args: &args::Draw,
    spec: SceneSpec,
    shot: Shot,
    path: &Path,
) -> Result<Outcome, CommandError> {
    let file = PathBuf::from(&args.chosen.scene);
    if !file.is_file() {
        let name = &args.chosen.scene;
        return Err(CommandError::Usage(format!(
            "--watch {name}: it is part of the program; save it with 'frolic scenes {name} > {name}.toml', and watch that"
        )));
    }
    usable(path.parent().unwrap_or(Path::new("")))?;
    let name = short_name(&args.chosen.scene);
    let mut scene = None;
    // Stamps are from before a file is read, so that no change is missed.
    let mut files = Files(Vec::new());
    files.follow(&file, &spec);
    let mut next = Some(Ok((spec, false)));
    while !interrupted() {
        if let Some(asked) = next.take() {
            let started = Instant::now();
            let wait = if scene.is_none() { "; waiting for changes, Ctrl-C ends it" } else { "" };
            let done = asked.and_then(|(spec, fresh)| {
                files.follow(&file, &spec);
                let Some(change) = renew(&mut scene, &spec, fresh)? else { return Ok(None) };
                let Some(scene) = &mut scene else { return Ok(None) };
                let (image, frame) = shoot(scene, shot, &mut Meter::new())?;
                write_png(path, &image)?;
                let spec = scene.spec();
                told(args, spec, &drawn(&name, spec, path.display().to_string(), 1, &frame), &frame);
                Ok(Some(change))
            });
            match done {
                Ok(Some(change)) if !args.json => {
                    say(&format!("  {change} in {}{wait}", ms(started.elapsed())));
                }
                Ok(_) => {}
                Err(error) => complain(&format!("{error}; the last picture stays")),
            }
        }
        std::thread::sleep(PAUSE);
        next = files.changed().map(|others| asked(args).map(|spec| (spec, others)));
    }
    Ok(Outcome::Done)
}

/// Brings the scene to the spec and its time: by a change that holds at once if it is one of the picture alone, else from the start. `fresh`
/// says that a file which the scene names was saved. Returns what it did in words; none if it was interrupted.
fn renew(scene: &mut Option<Scene>, spec: &SceneSpec, fresh: bool) -> Result<Option<String>, CommandError> {
    let before = scene.as_ref().map(|scene| scene.spec().clone());
    let keys = before.as_ref().map_or(Vec::new(), |before| before.changed_keys(spec));
    if let Some(running) = scene.as_mut().filter(|_| !fresh && keys.iter().all(|key| is_of_picture(key))) {
        running.apply(spec)?;
        return Ok(Some(match &keys[..] {
            [] => "nothing changed; drawn again".to_owned(),
            keys => format!("{} changed; drawn again", keys.join(", ")),
        }));
    }
    let mut new = Scene::new(spec)?;
    if before.is_none() {
        remark_on(&new);
    }
    if !run_and_draw(&mut new, f64::from(spec.draw.at), &mut Meter::new())? {
        return Ok(None);
    }
    *scene = Some(new);
    Ok(Some(match &keys[..] {
        _ if before.is_none() => "drawn".to_owned(),
        [] => "a file changed; run again from the start".to_owned(),
        keys => format!("{} changed; run again from the start", keys.join(", ")),
    }))
}

/// Whether a key changes nothing but the picture of a moment.
fn is_of_picture(key: &str) -> bool {
    const WHOLE: [&str; 9] =
        ["title", "camera", "sky", "ground", "water", "light", "sprite", "tiles", "text"];
    let mut parts = key.split('.');
    let (first, second) = (parts.next().unwrap_or(""), parts.next());
    WHOLE.contains(&first)
        || matches!(second, Some("look" | "kind"))
        || matches!(key, "draw.size" | "draw.depth_order" | "draw.capacity")
}

/// When files were saved last.
struct Files(Vec<(PathBuf, Stamp)>);

/// Time of the last change, and length; none while there is no file, as when an editor replaces it.
type Stamp = Option<(SystemTime, u64)>;

impl Files {
    /// Follows the scene file, and all files that it names.
    fn follow(&mut self, file: &Path, spec: &SceneSpec) {
        let folder = file.parent().unwrap_or(Path::new(""));
        let named = spec.files().into_iter().map(|name| folder.join(name));
        let all = [file.to_owned()].into_iter().chain(named);
        let known = |path: &PathBuf| self.0.iter().find(|(own, _)| own == path).map(|(_, stamp)| *stamp);
        self.0 = all.map(|path| (path.clone(), known(&path).unwrap_or_else(|| stamp(&path)))).collect();
    }

    /// Whether files were saved since the last look; if so, whether one besides the scene file is among them.
    fn changed(&mut self) -> Option<bool> {
        let mut changed = None;
        for (nth, (path, before)) in self.0.iter_mut().enumerate() {
            let now = stamp(path);
            if now.is_some() && now != *before {
                *before = now;
                changed = Some(changed.unwrap_or(false) || nth > 0);
            }
        }
        changed
    }
}

fn stamp(path: &Path) -> Stamp {
    let about = path.metadata().ok()?;
    Some((about.modified().ok()?, about.len()))
}
