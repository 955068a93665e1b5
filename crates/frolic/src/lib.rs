//! x
pub use frolic_core as core;
pub mod prelude { pub use frolic_core::*; }
