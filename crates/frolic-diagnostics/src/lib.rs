//! Diagnostic views of a frame, and the plain rasteriser that tests compare with.
//!
//! | question | file |
//! | --- | --- |
//! | where are overdraw, depth, batches, detail and shadows of a frame? | `show.rs` |
//! | where do elements stand, and how does the air move, seen from above? | `plan.rs` |
//! | what did the last frames cost, drawn over a picture? | `readout.rs` |
//! | what does a distance grid look like? | `preview.rs` |
//! | what is the correct picture? | `reference.rs`: a plain rasteriser that the CPU backend is tested against |
//!
//! None of it is needed to draw a picture, and release builds hardly optimise it.

#![warn(clippy::unwrap_used, clippy::print_stdout, clippy::print_stderr)]

mod plan;
mod preview;
mod readout;
pub mod reference;
mod show;
mod sight;

pub use plan::{Mark, PlanView};
pub use preview::preview;
pub use readout::{Corner, Readout};
pub use show::Show;
pub use sight::neighbours_in_view;
