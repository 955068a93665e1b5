//! Drawing lists on the device.
//!
//! | question | file |
//! | --- | --- |
//! | how is a list drawn? | its batches become items in `items.rs`, passes in `renderer.rs` |
//! | what does a look, mesh or atlas become? | `looks.rs` |
//! | how do elements of the CPU get there? | `records.rs` |
//! | which instances are visible, in which order? | `order.rs` |
//! | what is drawn to? | `targets.rs`, `finish.rs` |
//! | which pipelines are there? | `pipelines.rs`, told apart by `keys.rs` |
//! | what does drawing know of populations on the device? | `population.rs` |
//! | how does a population go into a pass of the program's own? | `external.rs` |

pub(crate) mod external;
pub(crate) mod finish;
pub(crate) mod items;
pub(crate) mod keys;
pub(crate) mod looks;
pub(crate) mod order;
pub(crate) mod pipelines;
pub(crate) mod population;
pub(crate) mod records;
pub(crate) mod renderer;
pub(crate) mod targets;
