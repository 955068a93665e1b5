//! What a backend outside of this crate needs beside the public items: the insides of looks, views and lists as plain data, and the
//! numbers that all backends share, so that their pictures agree.

pub use crate::atlas::Region;
pub use crate::backdrop::{BackdropKey, BackdropPlanes};
pub use crate::camera::{NEAR, ViewParts};
pub use crate::colour::{srgb, srgb_byte, tone};
pub use crate::cpu::{AS_DEEP, LEAST_RISE, MOST_LEAN, NEAR_FADE, PLACES, THINNEST, WHITE};
pub use crate::detail::{Detail, FADE, Kept, Level};
pub use crate::instances::ElementNow;
pub use crate::light::{Lighting, Surface, shadow_view};
pub use crate::list::{BYTES_SEEN, BatchKey, Source, Sources};
pub use crate::look::{Form, LookAtAge, LookParts};
pub use crate::sort::DepthSorter;
pub use crate::trails::TRAIL_FADE;
pub use crate::vertices::{flipbook_at, stride, wave};
pub use frolic_raster::light::Lamp;
