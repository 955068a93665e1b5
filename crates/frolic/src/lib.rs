//! x
pub use frolic_core as core;
pub use frolic_draw as draw;
pub use frolic_scene as scene;
pub mod prelude { pub use frolic_core::*; pub use frolic_draw::*; pub use frolic_scene::*; }
