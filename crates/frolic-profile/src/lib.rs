//! Profiles: frame time against element count.
//!
//! **In:** a [`SceneSpec`](frolic_scene::SceneSpec) and a [`Plan`]: which counts, which variants, how many frames. **Out:** a
//! [`Profile`], which becomes a table, `profile.json`, `profile.csv`, `frames.svg` and `frames.png`.
//!
//! ![Frame time against element count, stage by stage](../../../docs/screenshots/profile.png)
//!
//! | question | file |
//! | --- | --- |
//! | how are counts and variants written? | `plan.rs` |
//! | which subjects can be measured? | `subject.rs`: a scene, or a loop of your own |
//! | and another build, beside this one? | `other.rs` |
//! | how is it measured, and in which order? | `sweep.rs`; resumed after a kill: `journal.rs` |
//! | did other work disturb the machine? | `noise.rs` |
//! | which results are kept? | `profile.rs` (and `docs/profile-format.md`) |
//! | how precise is it, and how does it grow? | `growth.rs`, and the crate `frolic-statistics` |
//! | do they draw the same? | `pictures.rs` |
//! | how many elements fit a budget? | `ceiling.rs` |
//! | did it become slower? | `compare.rs` |
//! | what does each thread do? | `trace.rs` |
//! | how is it shown? | `table.rs`, `chart/`, `report.rs`, `files.rs` |

#![warn(clippy::unwrap_used, clippy::print_stdout, clippy::print_stderr)]

mod ceiling;
mod chart;
mod compare;
mod error;
mod files;
mod growth;
mod journal;
pub mod noise;
mod numbers;
mod other;
mod pictures;
mod plan;
mod profile;

mod report;
mod subject;
mod sweep;
mod table;
mod trace;

pub use ceiling::{Ceiling, CeilingPlan, Tried, ceiling, ceilings};
pub use chart::Chart;
pub use compare::{Change, CompareSpec, Comparison, Verdict, compare, compare_builds, compare_variants};
pub use error::{PlanError, ProfileError};
#[cfg(feature = "schema")]
pub use files::schema;
pub use files::{profile_from_json, write_profile};
pub use frolic_statistics as stats;
pub use growth::{Growth, Knee};
pub use journal::{Journal, JournalOf};
pub use other::{OtherProgram, answer_frames};
pub use pictures::PictureDifference;
pub use plan::{Ladder, Plan, Variation};
pub use profile::{
    FORMAT_VERSION, Machine, Point, Profile, Round, StageGrowth, StageTime, Stop, Times, VariantGrowth,
    VariantProfile,
};
pub use subject::{Elsewhere, Run, Subject};

pub use report::report;
pub use sweep::{Progress, Variant, check_plan, sweep, sweep_builds, sweep_subjects};
pub use trace::FrameTrace;
