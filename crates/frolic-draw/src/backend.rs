//! What a backend outside of this crate needs beside the public items: the insides of looks, views and lists as plain data, and the
//! numbers that all backends share, so that their pictures agree.

pub use crate::atlas::Region;
pub use crate::backdrop::BackdropPlanes;
pub use crate::camera::{NEAR, ViewParts};
pub use crate::cpu::{AS_DEEP, LEAST_RISE, MOST_LEAN, NEAR_FADE, PLACES, THINNEST, WHITE};
pub use crate::detail::{Detail, FADE};
pub use crate::instances::ElementNow;
pub use crate::light::{Lighting, Surface, shadow_view};
pub use crate::look::{Form, LookAtAge, LookParts};
pub use crate::vertices::stride;
