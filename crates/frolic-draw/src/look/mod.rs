//! Looks: shape, blending, colour, lighting and detail of instances.
//!
//! | question | file |
//! | --- | --- |
//! | what can be written of a look? | `spec.rs`, its shapes in `shape.rs` |
//! | what is it when it is drawn? | `built.rs` |

pub(crate) mod built;
pub(crate) mod shape;
pub(crate) mod spec;

pub(crate) use built::LAST_ROW;
pub use built::{Form, Look, LookAtAge, LookParts};
pub use shape::{BillboardSpec, Facing, Play, RibbonSpec, Shape, WaveSpec};
pub use spec::{Blend, DepthSpec, Library, LookSpec, Resolution};
