//! Commands and flags, each written once; help is made from this.

use std::path::PathBuf;
use std::str::FromStr;
use std::time::Duration;

use clap::{Args, Parser, Subcommand};
use frolic::prelude::{ImageSize, Quality, Show};
use frolic::profile::{Ladder, Variation};
use frolic::scene::Backend;

/// Moves, draws and measures huge numbers of small elements.
#[derive(Debug, Parser)]
#[command(
    name = "frolic",
    version,
    about,
    max_term_width = 100,
    after_help = "\
Examples:
  frolic demo                                   pictures and a profile of the shipped scenes
  frolic draw beacon -o fire.png --at 4         one picture
  frolic draw pennants --show batches --stats   which draw calls, and why so many
  frolic profile beacon --vary draw.technique=each,instanced
  frolic report theirs.json                     a page and charts of a profile
  frolic ceiling beacon --budget 16.7ms         how many fit into a frame
  frolic diff before.json after.json            did it become slower?
  frolic bake bush.obj                          a distance grid to fill, or to bounce off
  frolic export dunes -o field.glb              every blade, for other programs
  frolic scenes beacon > mine.toml              a scene to start from

SCENE is the name of a shipped scene or the path of a scene file."
)]
pub(crate) struct Arguments {
    #[command(subcommand)]
    pub(crate) command: Command,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Draw every shipped scene and profile one; under a minute on two cores
    Demo(Demo),
    /// Draw a scene: a picture, frames, a video, a flipbook, or a diagnostic view of a frame
    Draw(Draw),
    /// Measure frame time against element count
    Profile(ProfileArgs),
    /// Make the report and charts of a profile anew
    Report(ReportArgs),
    /// Find the largest count whose frames fit a budget
    Ceiling(CeilingArgs),
    /// Take frames on request of another program, line by line
    #[command(hide = true)]
    Frames(FramesArgs),
    /// Compare two profiles: faster, slower, or no difference found
    Diff(Diff),
    /// Make a distance grid from a mesh, and a picture of it
    Bake(Bake),
    /// Write where a population's elements are: glTF instances, PLY or CSV
    Export(Export),
    /// Check a scene and list its contents
    Check(Check),
    /// List the shipped scenes, or print one
    Scenes(Scenes),
}

#[derive(Debug, Args)]
#[command(after_help = "Example:\n  frolic demo --out /tmp/frolic")]
pub(crate) struct Demo {
    /// Folder for the pictures and the profile, made if missing
    #[arg(long, value_name = "DIR", default_value = "frolic-demo")]
    pub(crate) out: PathBuf,
    #[command(flatten)]
    pub(crate) drawing: Drawing,
    /// Seconds for the profile; each point still takes four turns. 0 is as long as it takes
    #[arg(long, value_name = "SECONDS", default_value_t = 40.0, allow_negative_numbers = true)]
    pub(crate) time: f64,
    /// Print the result as JSON
    #[arg(long)]
    pub(crate) json: bool,
}

/// The scene and changes to it.
#[derive(Debug, Args)]
pub(crate) struct Chosen {
    /// Name of a shipped scene, or path of a scene file
    pub(crate) scene: String,
    /// Change a key of the scene; may be given again. A path starts at the top or with a population's name
    #[arg(long = "set", value_name = "KEY=VALUE")]
    pub(crate) settings: Vec<String>,
}

/// Rendering backend.
#[derive(Debug, Args)]
pub(crate) struct Drawing {
    /// Rendering backend: cpu, gpu (a graphics device; an error without one) or auto (gpu if there is one)
    /// [default: the scene's, which is cpu if it says nothing]
    #[arg(long, value_name = "BACKEND")]
    pub(crate) backend: Option<Backend>,
}

#[derive(Debug, Args)]
#[command(after_help = "\
Examples:
  frolic draw beacon
  frolic draw beacon -o small.png --size 320x200 --at 3.5
  frolic draw beacon --set embers.count=200000 --set embers.emitter.0.rate=60000
  frolic draw pennants --show batches --stats
  frolic draw pennants --frames 60 -o pennants.png              an animated PNG
  frolic draw pennants --frames 60 -o 'frames/####.png'         numbered frames
  frolic draw pennants --frames 250 -o - | your-video-encoder   raw video (YUV4MPEG2)
  frolic draw beacon --sheet 8x8 --size 128x128 --transparent   a flipbook and its timing
  frolic draw mine.toml --watch                                 again, whenever the file is saved
  frolic draw beacon --readout                                  with the last frames' times in a corner
  frolic draw dunes --quality draft --stats                     sooner, and what that saves
  frolic draw beacon --backend gpu --stats                      on the graphics device")]
pub(crate) struct Draw {
    #[command(flatten)]
    pub(crate) chosen: Chosen,
    #[command(flatten)]
    pub(crate) drawing: Drawing,
    /// File to write: a PNG; with --frames an animated one, numbered ones (a name with #### in it), raw video
    /// (a name ending in .y4m, or - for standard output) [default: SCENE.png]
    #[arg(short, long, value_name = "FILE")]
    pub(crate) output: Option<PathBuf>,
    /// Width and height in pixels; of a sheet, of one frame [default: the scene's]
    #[arg(long, value_name = "WxH")]
    pub(crate) size: Option<ImageSize>,
    /// Quality of the picture on the CPU: full, or draft: half the pixels each way, enlarged, and smaller shadow maps. With
    /// --stats a draft is held against a full picture [default: the scene's, which is full if it says nothing]
    #[arg(long, value_name = "QUALITY")]
    pub(crate) quality: Option<Quality>,
    /// Moment of the first picture, seconds after the start [default: the scene's]
    #[arg(long, value_name = "SECONDS", allow_negative_numbers = true)]
    pub(crate) at: Option<f32>,
    /// Draw a diagnostic view instead: picture, overdraw, depth, batches, detail, shadow, neighbours-in-view (of a flock); or from above: placement (of
    /// placed elements), wind, neighbours (of a flock)
    #[arg(long, value_name = "VIEW", default_value = "picture", hide_default_value = true)]
    pub(crate) show: Show,
    /// Paint a read-out of the last frames over it: time, stages, draw calls, elements, memory
    #[arg(long, conflicts_with_all = ["transparent", "sheet"])]
    pub(crate) readout: bool,
    /// Draw without sky, ground and water; transparent parts stay transparent
    #[arg(long)]
    pub(crate) transparent: bool,
    /// Draw this number of pictures in sequence
    #[arg(long, value_name = "N", conflicts_with = "sheet")]
    pub(crate) frames: Option<u32>,
    /// Pictures a second
    #[arg(long, value_name = "RATE", default_value_t = 25.0)]
    pub(crate) rate: f32,
    /// Put the pictures on one sheet, across by down, with a timing file beside it
    #[arg(long, value_name = "AxD")]
    pub(crate) sheet: Option<SheetSize>,
    /// Draw again whenever the scene file, or a file that it names, is saved, until Ctrl-C. A broken file shows its error
    /// and keeps the last picture
    #[arg(long, conflicts_with_all = ["frames", "sheet", "readout"])]
    pub(crate) watch: bool,
    /// Print the counters of the (last) frame as a table
    #[arg(long)]
    pub(crate) stats: bool,
    /// Print times and counters of the (last) frame as JSON; with --stats the counters alone
    #[arg(long)]
    pub(crate) json: bool,
}

/// Frames of a sheet, across and down.
#[derive(Debug, Clone, Copy)]
pub(crate) struct SheetSize(pub(crate) [u32; 2]);

impl FromStr for SheetSize {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let sides = text.split_once('x').and_then(|(a, d)| Some([a.parse().ok()?, d.parse().ok()?]));
        match sides {
            Some(sides) if sides.iter().all(|side| (1..=64).contains(side)) => Ok(Self(sides)),
            _ => Err(format!("'{text}' is not a sheet; write AxD, 1 to 64 frames each way, such as 8x8")),
        }
    }
}

#[derive(Debug, Args)]
#[command(after_help = "\
Examples:
  frolic profile beacon
  frolic profile beacon --counts 1k..200k --vary draw.technique=each,batched,instanced
  frolic profile beacon --counts 10k,100k,1m --vary storage=objects,columns --frames 20
  frolic profile beacon --counts 1m --vary threads=1,2 --json
  frolic profile beacon --counts 1k..20k --vary backend=cpu,gpu
  frolic profile beacon --counts 10k..1m/6 --within 1% --time 300
  frolic profile beacon --resume
  frolic profile beacon --counts 10k,100k --against ../before/target/release/frolic

Variants take turns at each count, in an order that is drawn anew every round, so that a
disturbance of the machine meets all of them. A point is done when its median is known to
--within, or when its share of --time is spent.
Ctrl-C ends the profile with what is finished; a second one ends the program. Either way, and
after a kill, --resume goes on with the same scene and variants in the same folder.")]
pub(crate) struct ProfileArgs {
    #[command(flatten)]
    pub(crate) chosen: Chosen,
    #[command(flatten)]
    pub(crate) drawing: Drawing,
    /// Counts to climb: a range such as 1k..1m (1, 2 and 5 of each decade) or 1k..1m/6 (six a decade), or a list
    /// such as 1k,30k,1m
    #[arg(long, value_name = "COUNTS", default_value = "1k..1m", hide_default_value = false)]
    pub(crate) counts: Ladder,
    /// Try each of several values of a key; may be given again for every combination
    #[arg(long, value_name = "KEY=A,B,..")]
    pub(crate) vary: Vec<Variation>,
    /// Most frames timed at each count
    #[arg(long, value_name = "N", default_value_t = 400)]
    pub(crate) frames: u32,
    /// Half width of a median's interval at which a point is precise enough
    #[arg(long, value_name = "SHARE", default_value = "3%", value_parser = share)]
    pub(crate) within: f64,
    /// Seconds for all of it; each point still takes four turns. 0 is as long as it takes
    #[arg(long, value_name = "SECONDS", default_value_t = 40.0, allow_negative_numbers = true)]
    pub(crate) time: f64,
    /// Frames a second to keep to: frames that take longer are counted as missed
    #[arg(long, value_name = "RATE", default_value_t = 60.0, allow_negative_numbers = true)]
    pub(crate) target_rate: f64,
    /// Go on with a profile that was cut short, in the same folder
    #[arg(long)]
    pub(crate) resume: bool,
    /// A variant whose frames take longer stops climbing, seconds
    #[arg(long, value_name = "SECONDS", default_value_t = 2.0, allow_negative_numbers = true)]
    pub(crate) frame_limit: f64,
    /// Measure another build of this program too, in turns, and report what became faster or slower
    #[arg(long, value_name = "PROGRAM", conflicts_with = "resume")]
    pub(crate) against: Option<PathBuf>,
    /// With --against: slower by more than this fails
    #[arg(long, value_name = "SHARE", default_value = "0%", value_parser = share, requires = "against")]
    pub(crate) fail_over: f64,
    /// Folder for profile.json, profile.csv, report.html, trace.json and the charts, made if missing
    #[arg(long, value_name = "DIR", default_value = "frolic-profile")]
    pub(crate) out: PathBuf,
    /// Print the profile as JSON instead of a table
    #[arg(long)]
    pub(crate) json: bool,
}

/// A share, as `3%` or `0.03`.
fn share(text: &str) -> Result<f64, String> {
    let (number, unit) = text.trim().strip_suffix('%').map_or((text, 1.0), |number| (number, 0.01));
    match number.trim().parse::<f64>() {
        Ok(value) if value.is_finite() && value >= 0.0 => Ok(value * unit),
        _ => Err(format!("'{text}' is not a fraction; write a number such as 3% or 0.03")),
    }
}

/// A time, as `16.7ms`, `0.5s` or `120us`.
fn time(text: &str) -> Result<Duration, String> {
    let text = text.trim();
    let units = [("us", 1e-6), ("µs", 1e-6), ("ms", 1e-3), ("s", 1.0)];
    let parsed = units.iter().find_map(|(unit, seconds)| {
        let number = text.strip_suffix(unit)?.trim().parse::<f64>().ok()?;
        Duration::try_from_secs_f64(number * seconds).ok()
    });
    parsed.ok_or_else(|| {
        format!("'{text}' is not a time; write a number with its unit, such as 16.7ms or 0.5s")
    })
}

#[derive(Debug, Args)]
#[command(after_help = "\
Examples:
  frolic ceiling beacon
  frolic ceiling beacon --budget 33ms --vary draw.technique=each,batched,instanced
  frolic ceiling beacon --budget 8ms --within 2% --time 60 --json
  frolic ceiling beacon --vary threads=1,2 --chart ceilings.png

The answer is the largest count of which 95 of 100 frames fit, with the interval that it lies in.")]
pub(crate) struct CeilingArgs {
    #[command(flatten)]
    pub(crate) chosen: Chosen,
    #[command(flatten)]
    pub(crate) drawing: Drawing,
    /// Longest that 95 of 100 frames may take
    #[arg(long, value_name = "TIME", default_value = "16.7ms", value_parser = time)]
    pub(crate) budget: Duration,
    /// Try each of several values of a key; may be given again for every combination
    #[arg(long, value_name = "KEY=A,B,..")]
    pub(crate) vary: Vec<Variation>,
    /// Half width of the answer's interval
    #[arg(long, value_name = "SHARE", default_value = "5%", value_parser = share)]
    pub(crate) within: f64,
    /// Seconds for each variant
    #[arg(long, value_name = "SECONDS", default_value_t = 40.0, allow_negative_numbers = true)]
    pub(crate) time: f64,
    /// Write a chart of the ceilings: a .png or .svg
    #[arg(long, value_name = "FILE")]
    pub(crate) chart: Option<PathBuf>,
    /// Print the ceilings and all runs as JSON
    #[arg(long)]
    pub(crate) json: bool,
}

#[derive(Debug, Args)]
#[command(after_help = "\
Examples:
  frolic report frolic-profile/profile.json
  frolic report theirs.json --out theirs")]
pub(crate) struct ReportArgs {
    /// A profile.json
    pub(crate) profile: PathBuf,
    /// Folder for the files that are written [default: that of the profile]
    #[arg(long, value_name = "DIR")]
    pub(crate) out: Option<PathBuf>,
}

#[derive(Debug, Args)]
pub(crate) struct FramesArgs {
    #[command(flatten)]
    pub(crate) chosen: Chosen,
    #[command(flatten)]
    pub(crate) drawing: Drawing,
}

#[derive(Debug, Args)]
#[command(after_help = "\
Examples:
  frolic diff before/profile.json after/profile.json
  frolic diff before.json after.json --fail-over 5%
  frolic diff laptop.json desk.json --different

A change is called where the 98.5 % interval of the ratio of medians leaves 1 out. The exit code
is 1 where a frame became slower by more than --fail-over.")]
pub(crate) struct Diff {
    /// The older profile.json
    pub(crate) base: PathBuf,
    /// The newer one
    pub(crate) new: PathBuf,
    /// Slower by more than this fails
    #[arg(long, value_name = "SHARE", default_value = "0%", value_parser = share)]
    pub(crate) fail_over: f64,
    /// Compare although scenes, settings or machines differ
    #[arg(long)]
    pub(crate) different: bool,
    /// Divide each round by the pace of the machine meanwhile
    #[arg(long)]
    pub(crate) undrift: bool,
    /// Print the comparison as JSON
    #[arg(long)]
    pub(crate) json: bool,
}

#[derive(Debug, Args)]
#[command(after_help = "\
Examples:
  frolic bake bush.obj
  frolic bake stone.glb --points 128 -o stone.dgrid
  frolic bake bush.obj --no-picture --json

A scene uses the grid as an asset:
  [[asset]]
  name = \"bush\"
  from = { grid = \"bush.dgrid\" }")]
pub(crate) struct Bake {
    /// The mesh: an .obj, .gltf or .glb file
    pub(crate) mesh: PathBuf,
    /// Points along its longest side, 4 to 1024
    #[arg(long, value_name = "N", default_value_t = 64)]
    pub(crate) points: u32,
    /// Room around the mesh, as a share of its longest side, 0.01 to 2
    #[arg(long, value_name = "SHARE", default_value_t = 0.1, allow_negative_numbers = true)]
    pub(crate) margin: f32,
    /// Path of the grid; its picture is written beside it [default: the mesh's name and .dgrid, here]
    #[arg(short, long, value_name = "FILE")]
    pub(crate) output: Option<PathBuf>,
    /// Size of the picture, such as 640x400 [default: 1280x800]
    #[arg(long, value_name = "WxH")]
    pub(crate) size: Option<ImageSize>,
    /// Write no picture
    #[arg(long)]
    pub(crate) no_picture: bool,
    /// Print the result as JSON
    #[arg(long)]
    pub(crate) json: bool,
}

#[derive(Debug, Args)]
#[command(after_help = "\
Examples:
  frolic export dunes -o field.glb               every blade as an instance of one mesh
  frolic export beacon --population smoke -o smoke.csv --at 3

A scene takes such a file back as an asset: from = { places = \"field.glb\" }.")]
pub(crate) struct Export {
    #[command(flatten)]
    pub(crate) chosen: Chosen,
    /// Which population [default: the one that the scene's profile lets climb]
    #[arg(long, value_name = "NAME")]
    pub(crate) population: Option<String>,
    /// Moment, seconds after the start [default: the scene's]
    #[arg(long, value_name = "SECONDS", allow_negative_numbers = true)]
    pub(crate) at: Option<f32>,
    /// Path of the output: .glb (glTF 2.0 with EXT_mesh_gpu_instancing), .ply or .csv [default: SCENE.glb]
    #[arg(short, long, value_name = "FILE")]
    pub(crate) output: Option<PathBuf>,
    /// Print the written files as JSON
    #[arg(long)]
    pub(crate) json: bool,
}

#[derive(Debug, Args)]
#[command(after_help = "Example:\n  frolic check mine.toml")]
pub(crate) struct Check {
    #[command(flatten)]
    pub(crate) chosen: Chosen,
    /// Print the contents of the scene as JSON
    #[arg(long)]
    pub(crate) json: bool,
}

#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  frolic scenes\n  frolic scenes beacon > mine.toml\n  frolic scenes --schema > scene.schema.json"
)]
pub(crate) struct Scenes {
    /// Print this scene's file
    pub(crate) scene: Option<String>,
    /// Print the list as JSON
    #[arg(long, conflicts_with = "scene")]
    pub(crate) json: bool,
    /// Print the JSON Schema of scene files, by which editors complete and check them
    #[arg(long, conflicts_with_all = ["scene", "json"])]
    pub(crate) schema: bool,
}
