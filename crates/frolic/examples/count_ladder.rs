//! How does a frame's time grow with the count, and how much do draw calls cost? The shipped scene at a ladder of
//! counts, once with one draw call an element, once with one a batch.
//!
//! `cargo run --release -p frolic --example count_ladder [FOLDER] [FRAMES]` prints a table and, given FOLDER, writes
//! `profile.json`, `profile.csv`, `frames.svg` and `frames.png` into it. FRAMES are timed at each count, 15 if not given.

use frolic::prelude::*;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let scene = SceneSpec::find("beacon")?;
    let mut plan = Plan::default();
    plan.counts = "1k,4k,16k,64k".parse()?;
    plan.vary = vec!["draw.technique=each,instanced".parse()?];
    plan.frames = std::env::args().nth(2).map_or(Ok(15), |text| text.parse())?;

    let profile = sweep("beacon", &scene, &plan, None, |progress| {
        eprint!("\r{} of {} frames ", progress.done, progress.total);
        true // go on; `false` would end here with what is finished
    })?;
    eprintln!();
    println!("{}", profile.table());

    if let Some(folder) = std::env::args().nth(1) {
        for path in write_profile(&profile, folder)? {
            println!("wrote {}", path.display());
        }
    }
    Ok(())
}
