//! `frolic report`: the page, charts and table of a profile that was measured before, here or elsewhere.

use std::path::Path;

use frolic::profile::write_profile;

use super::profile::print_written;
use super::{CommandError, Outcome, diff, usable};
use crate::args;
use crate::output::{columns, say};

pub(super) fn run(args: &args::ReportArgs) -> Result<Outcome, CommandError> {
    let profile = diff::read(&args.profile)?;
    let beside = args.profile.parent().filter(|folder| !folder.as_os_str().is_empty());
    let folder = args.out.as_deref().or(beside).unwrap_or(Path::new("."));
    usable(folder)?;
    let written = write_profile(&profile, folder)?;
    say(&profile.table_within(columns()));
    print_written(folder, &written);
    Ok(Outcome::Done)
}
