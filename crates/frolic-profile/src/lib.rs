//! Frame time against element count, measured and written down.
//!
//! **In:** a [`SceneSpec`](frolic_scene::SceneSpec) and a [`Plan`]: which counts, which variants, how many frames. **Out:** a
//! [`Profile`], which becomes a table, `profile.json`, `profile.csv`, `frames.svg` and `frames.png`.
//!
//! | question | file |
//! | --- | --- |
//! | how are counts and variants written? | `plan.rs` |
//! | how is it measured, in which order? | `sweep.rs` |
//! | what is kept of the measurements? | `profile.rs`, `stats.rs` (and `docs/profile-format.md`) |
//! | how is it shown? | `table.rs`, `chart.rs`, `files.rs` |

#![warn(clippy::unwrap_used, clippy::print_stdout, clippy::print_stderr)]

mod chart;
mod files;
mod plan;
mod profile;
pub mod stats;
mod sweep;
mod table;

pub use chart::Chart;
pub use files::{profile_from_json, write_profile};
pub use plan::{Ladder, Plan, PlanError, Variation};
pub use profile::{FORMAT_VERSION, Machine, Point, Profile, StageTime, Stop, Times, VariantProfile};
pub use sweep::{ProfileError, Progress, check_plan, sweep};
