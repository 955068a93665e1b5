//! `frolic diff`: did it become slower?

use std::path::Path;

use frolic::profile::{CompareSpec, Comparison, Profile, compare, profile_from_json};

use super::{CommandError, Outcome};
use crate::args;
use crate::output::{complain, say, say_json};

/// Beyond this difference in pace, the machine itself explains part of a change.
const PACE: f64 = 0.03;

pub(super) fn run(args: &args::Diff) -> Result<Outcome, CommandError> {
    let (base, new) = (read(&args.base)?, read(&args.new)?);
    let mut spec = CompareSpec::default();
    (spec.different, spec.undrift) = (args.different, args.undrift);
    let comparison = compare(&base, &new, &spec).map_err(|error| {
        let instead = if spec.different { "" } else { "; --different compares them anyway" };
        CommandError::Usage(format!("{} and {}: {error}{instead}", args.base.display(), args.new.display()))
    })?;
    Ok(print(&comparison, args.fail_over, args.json))
}

/// Prints a comparison in words or as JSON. It fails if frames became slower by more than a share.
pub(super) fn print(comparison: &Comparison, fail_over: f64, is_json: bool) -> Outcome {
    if is_json {
        say_json(comparison);
    } else {
        comparison.lines().iter().for_each(|line| say(line));
        if (comparison.pace - 1.0).abs() > PACE {
            let times = comparison.pace;
            complain(&format!("the machine itself took {times:.2} times as long; --undrift divides by that"));
        }
        comparison.differs.iter().for_each(|differs| complain(&format!("mind that {differs}")));
    }
    let slower = comparison.slower(fail_over).count();
    if slower == 0 {
        return Outcome::Done;
    }
    let frames = if slower == 1 { "frame became" } else { "frames became" };
    complain(&format!("{slower} {frames} slower by more than {:.1}%", fail_over * 100.0));
    Outcome::Failed
}

pub(super) fn read(path: &Path) -> Result<Profile, CommandError> {
    let wrong = |problem: String| CommandError::Usage(format!("{}: {problem}", path.display()));
    let text = std::fs::read_to_string(path).map_err(|error| wrong(format!("cannot be read: {error}")))?;
    profile_from_json(&text).map_err(|error| wrong(error.to_string()))
}
