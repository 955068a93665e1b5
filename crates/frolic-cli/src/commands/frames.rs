//! `frolic frames`: takes frames on request of another program; `frolic profile --against` runs it.

use std::io;

use frolic::profile::answer_frames;
use frolic::scene::SceneError;

use super::{CommandError, Outcome, choose, drawn_by};
use crate::args;

pub(super) fn run(args: &args::FramesArgs) -> Result<Outcome, CommandError> {
    let mut spec = choose(&args.chosen)?;
    drawn_by(&mut spec, &args.drawing);
    // A closed pipe is how it ends early.
    let done = answer_frames(&spec, io::stdin().lock(), io::stdout().lock());
    match done {
        Err(source) if source.kind() != io::ErrorKind::BrokenPipe => {
            Err(SceneError::Write { path: "-".into(), source }.into())
        }
        _ => Ok(Outcome::Done),
    }
}
