//! What a frame did, painted so that it can be read.
//!
//! | question | file |
//! | --- | --- |
//! | overdraw, depth, batches, detail, shadows of a frame | `show.rs` |
//! | what stands on a piece of ground, or blows over it? | `plan.rs` |
//! | a meter's last frames, over a picture | `readout.rs` |
//! | a look at a distance grid | `preview.rs` |
//! | what should the picture be, drawn the plain way? | `reference.rs`, which tests hold the CPU backend to |
//!
//! None of it is needed for a picture, and it is not optimised as the rest is.

#![warn(clippy::unwrap_used, clippy::print_stdout, clippy::print_stderr)]

mod plan;
mod preview;
mod readout;
pub mod reference;
mod show;

pub use plan::{Mark, Plan};
pub use preview::preview;
pub use readout::{Corner, Readout};
pub use show::Show;
