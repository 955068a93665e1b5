//! Commands and flags, each written once; help is made from this.

use std::path::PathBuf;
use std::str::FromStr;

use clap::{Args, Parser, Subcommand};
use frolic::prelude::{Backend, ImageSize, Ladder, Show, Variation};

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
  frolic bake bush.obj                          a distance grid to fill, or to bounce off
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
    /// Draw a scene: a picture, frames, a video, a flipbook, or what the frame did
    Draw(Draw),
    /// Measure frame time against element count
    Profile(ProfileArgs),
    /// Make a distance grid from a mesh, and a picture of it
    Bake(Bake),
    /// Check a scene and say what is in it
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
    /// Print what was done as JSON
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

/// Who draws.
#[derive(Debug, Args)]
pub(crate) struct Drawing {
    /// Who draws: cpu, gpu (a graphics device; an error where there is none) or auto (gpu where there is one)
    /// [default: the scene's, which is cpu if it says nothing]
    #[arg(long, value_name = "WHO")]
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
  frolic draw beacon --backend gpu --stats                      on the graphics device")]
pub(crate) struct Draw {
    #[command(flatten)]
    pub(crate) chosen: Chosen,
    #[command(flatten)]
    pub(crate) drawing: Drawing,
    /// What to write: a PNG; with --frames an animated one, numbered ones (a name with #### in it), raw video
    /// (a name ending in .y4m, or - for standard output) [default: SCENE.png]
    #[arg(short, long, value_name = "FILE")]
    pub(crate) output: Option<PathBuf>,
    /// Width and height in pixels; of a sheet, of one frame [default: the scene's]
    #[arg(long, value_name = "WxH")]
    pub(crate) size: Option<ImageSize>,
    /// Moment of the first picture, seconds after the start [default: the scene's]
    #[arg(long, value_name = "SECONDS", allow_negative_numbers = true)]
    pub(crate) at: Option<f32>,
    /// Paint what the frame did instead: picture, overdraw, depth, batches, detail or shadow
    #[arg(long, value_name = "WHAT", default_value = "picture", hide_default_value = true)]
    pub(crate) show: Show,
    /// Leave out sky, ground and water; what is see-through stays so
    #[arg(long)]
    pub(crate) transparent: bool,
    /// Draw so many pictures, one after the other
    #[arg(long, value_name = "N", conflicts_with = "sheet")]
    pub(crate) frames: Option<u32>,
    /// Pictures a second
    #[arg(long, value_name = "RATE", default_value_t = 25.0)]
    pub(crate) rate: f32,
    /// Lay pictures out on one sheet, so many across and down, with a timing file beside it
    #[arg(long, value_name = "AxD")]
    pub(crate) sheet: Option<SheetSize>,
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
            _ => Err(format!("'{text}' is no sheet; write AxD, 1 to 64 frames each way, such as 8x8")),
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

Variants take turns at each count, so that a disturbance of the machine meets all of them.
Ctrl-C ends the profile with what is finished; a second one ends the program.")]
pub(crate) struct ProfileArgs {
    #[command(flatten)]
    pub(crate) chosen: Chosen,
    #[command(flatten)]
    pub(crate) drawing: Drawing,
    /// Counts to climb: a range such as 1k..1m (1, 2 and 5 of each decade), or a list such as 1k,30k,1m
    #[arg(long, value_name = "COUNTS", default_value = "1k..1m", hide_default_value = false)]
    pub(crate) counts: Ladder,
    /// Try each of several values of a key; may be given again for every combination
    #[arg(long, value_name = "KEY=A,B,..")]
    pub(crate) vary: Vec<Variation>,
    /// Frames timed at each count
    #[arg(long, value_name = "N", default_value_t = 60)]
    pub(crate) frames: u32,
    /// A variant whose frames take longer stops climbing, seconds
    #[arg(long, value_name = "SECONDS", default_value_t = 2.0, allow_negative_numbers = true)]
    pub(crate) frame_limit: f64,
    /// Folder for profile.json, profile.csv, frames.svg and frames.png, made if missing
    #[arg(long, value_name = "DIR", default_value = "frolic-profile")]
    pub(crate) out: PathBuf,
    /// Print the profile as JSON instead of a table
    #[arg(long)]
    pub(crate) json: bool,
}

#[derive(Debug, Args)]
#[command(after_help = "\
Examples:
  frolic bake bush.obj
  frolic bake stone.glb --points 128 -o stone.dgrid
  frolic bake bush.obj --no-picture --json

A scene uses the grid as a form:
  [[form]]
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
    /// Where the grid goes; its picture goes beside it [default: the mesh's name and .dgrid, here]
    #[arg(short, long, value_name = "FILE")]
    pub(crate) output: Option<PathBuf>,
    /// Size of the picture, such as 640x400 [default: 1280x800]
    #[arg(long, value_name = "WxH")]
    pub(crate) size: Option<ImageSize>,
    /// Write no picture
    #[arg(long)]
    pub(crate) no_picture: bool,
    /// Print what was made as JSON
    #[arg(long)]
    pub(crate) json: bool,
}

#[derive(Debug, Args)]
#[command(after_help = "Example:\n  frolic check mine.toml")]
pub(crate) struct Check {
    #[command(flatten)]
    pub(crate) chosen: Chosen,
    /// Print what is in the scene as JSON
    #[arg(long)]
    pub(crate) json: bool,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:\n  frolic scenes\n  frolic scenes beacon > mine.toml")]
pub(crate) struct Scenes {
    /// Print this scene's file
    pub(crate) scene: Option<String>,
    /// Print the list as JSON
    #[arg(long, conflicts_with = "scene")]
    pub(crate) json: bool,
}
