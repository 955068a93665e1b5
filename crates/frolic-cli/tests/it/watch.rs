//! `frolic draw --watch`: a picture that follows its scene file.

use std::fs;
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{Receiver, channel};
use std::time::Duration;

/// A running watch, and the lines that it prints.
struct Watch {
    child: Child,
    lines: Receiver<String>,
}

impl Watch {
    fn start(folder: &Path) -> Self {
        let mut child = Command::new(assert_cmd::cargo::cargo_bin("frolic"))
            .current_dir(folder)
            .args(["draw", "mine.toml", "--watch", "-o", "mine.png"])
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let (send, lines) = channel();
        for stream in [
            Box::new(child.stdout.take().unwrap()) as Box<dyn std::io::Read + Send>,
            Box::new(child.stderr.take().unwrap()),
        ] {
            let send = send.clone();
            std::thread::spawn(move || {
                for line in BufReader::new(stream).lines().map_while(Result::ok) {
                    let _ = send.send(line);
                }
            });
        }
        Self { child, lines }
    }

    /// The next line that says such a thing.
    fn says(&self, what: &str) -> String {
        loop {
            let line = self
                .lines
                .recv_timeout(Duration::from_secs(60))
                .unwrap_or_else(|_| panic!("waited for {what}"));
            if line.contains(what) {
                return line;
            }
        }
    }
}

impl Drop for Watch {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Saves a file as editors do: written beside it, then renamed.
fn save(path: &Path, text: &str) {
    let beside = path.with_extension("swap");
    fs::write(&beside, text).unwrap();
    fs::rename(beside, path).unwrap();
}

#[test]
fn a_watched_file_is_drawn_again() {
    let folder = tempfile::tempdir().unwrap();
    let (file, picture) = (folder.path().join("mine.toml"), folder.path().join("mine.png"));
    let text = |colour: &str, rate: f32| {
        format!(
            "frolic = 1\ndraw.size = [96, 60]\ndraw.at = 0.5\n[[texture]]\nname = \"leaf\"\nfile = \"leaf.png\"\n[[population]]\nname = \"sparks\"\n\
             count = 200\nlook.colour_over_age = [[0.0, \"{colour}\"]]\n[[population.emitter]]\nrate = {rate}\n"
        )
    };
    let leaf = |level: u8| {
        let mut encoder = png::Encoder::new(fs::File::create(folder.path().join("leaf.png")).unwrap(), 2, 2);
        encoder.set_color(png::ColorType::Grayscale);
        encoder.write_header().unwrap().write_image_data(&[level; 4]).unwrap();
    };
    leaf(10);
    fs::write(&file, text("#ff0000", 100.0)).unwrap();
    let watch = Watch::start(folder.path());
    watch.says("waiting for changes, Ctrl-C ends it");
    let first = fs::read(&picture).unwrap();

    // A look is drawn at once; a rate is run again, and gives the picture that a new draw gives.
    save(&file, &text("#00ff00", 100.0));
    watch.says("sparks.look.colour_over_age changed; drawn again in ");
    let second = fs::read(&picture).unwrap();
    assert_ne!(first, second);
    save(&file, &text("#00ff00", 300.0));
    watch.says("sparks.emitter.0.rate changed; run again from the start in ");
    let third = fs::read(&picture).unwrap();
    assert_ne!(second, third);
    let args = ["draw", "mine.toml", "-o", "once.png"];
    let once =
        Command::new(assert_cmd::cargo::cargo_bin("frolic")).current_dir(folder.path()).args(args).output();
    assert!(once.unwrap().status.success());
    assert_eq!(fs::read(folder.path().join("once.png")).unwrap(), third);

    // Broken text and a value out of range are reported with their place; the picture stays, and the next good file is drawn.
    for (broken, told) in [
        (
            text("#00ff00", 300.0).replace("rate", "rat"),
            "mine.toml:12: unknown key 'rat'; did you mean 'rate'",
        ),
        (text("#00ff00", -1.0), "mine.toml:12"),
    ] {
        save(&file, &broken);
        let line = watch.says(told);
        assert!(line.starts_with("frolic: ") && line.ends_with("; the last picture stays"), "{line}");
        assert_eq!(fs::read(&picture).unwrap(), third);
    }
    save(&file, &text("#0000ff", 300.0));
    watch.says("sparks.look.colour_over_age changed; drawn again");
    assert_ne!(fs::read(&picture).unwrap(), third);
    // A file that the scene names.
    leaf(200);
    watch.says("a file changed; run again from the start");
}

#[cfg(unix)]
#[test]
fn a_watch_ends_well_by_ctrl_c() {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("mine.toml"), "frolic = 1\ndraw.size = [32, 20]\n").unwrap();
    let mut watch = Watch::start(folder.path());
    watch.says("waiting for changes");
    assert!(Command::new("kill").args(["-INT", &watch.child.id().to_string()]).status().unwrap().success());
    assert_eq!(watch.child.wait().unwrap().code(), Some(0));
    assert!(folder.path().join("mine.png").exists());
}

#[test]
fn what_cannot_be_watched_is_refused() {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("mine.toml"), "frolic = 1\n").unwrap();
    for (args, told) in [
        (&["draw", "beacon", "--watch"][..], "save it with 'frolic scenes beacon > beacon.toml'"),
        (&["draw", "mine.toml", "--watch", "-o", "mine.y4m"], "name a .png"),
        (&["draw", "mine.toml", "--watch", "--frames", "3"], "cannot be used with"),
        (&["draw", "nowhere.toml", "--watch"], "nowhere.toml"),
    ] {
        let output = Command::new(assert_cmd::cargo::cargo_bin("frolic"))
            .current_dir(folder.path())
            .args(args)
            .output()
            .unwrap();
        let text = String::from_utf8(output.stderr).unwrap();
        assert!(output.status.code() == Some(2) && text.contains(told), "{args:?}: {text}");
    }
}
