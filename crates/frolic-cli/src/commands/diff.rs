//! `frolic diff`: did it become slower?

use std::path::Path;

use frolic::profile::{CompareSpec, Profile, compare, profile_from_json};

use super::{CommandError, Outcome};
use crate::args;
use crate::output::{complain, say, say_json};

pub(super) fn run(args: &args::Diff) -> Result<Outcome, CommandError> {
    let (base, new) = (read(&args.base)?, read(&args.new)?);
    let mut spec = CompareSpec::default();
    (spec.different, spec.undrift) = (args.different, args.undrift);
    let comparison = compare(&base, &new, &spec).map_err(|error| {
        let instead = if spec.different { "" } else { "; --different compares them all the same" };
        CommandError::Usage(format!("{} and {}: {error}{instead}", args.base.display(), args.new.display()))
    })?;
    if args.json {
        say_json(&comparison);
    } else {
        comparison.lines().iter().for_each(|line| say(line));
        comparison.differs.iter().for_each(|differs| complain(&format!("mind that {differs}")));
    }
    let slower = comparison.slower(args.fail_over).count();
    if slower > 0 {
        complain(&format!(
            "{slower} {} slower by more than {:.1}%",
            if slower == 1 { "frame became" } else { "frames became" },
            args.fail_over * 100.0
        ));
        return Ok(Outcome::Failed);
    }
    Ok(Outcome::Done)
}

fn read(path: &Path) -> Result<Profile, CommandError> {
    let wrong = |problem: String| CommandError::Usage(format!("{}: {problem}", path.display()));
    let text = std::fs::read_to_string(path).map_err(|error| wrong(format!("cannot be read: {error}")))?;
    profile_from_json(&text).map_err(|error| wrong(error.to_string()))
}
