//! Looks in the form that the kernels of solid records read.

use frolic_raster::solid::Style;

use crate::look::{Blend, Look};

/// Style of the records of a look; `sun` says whether the light of the sun is kept separate.
pub(super) fn drawing(look: &Look, sun: bool) -> Style<'_> {
    Style {
        test: look.depth.test,
        write: look.depth.write,
        holes: look.blend == Blend::CutOut,
        sun,
        textures: look.atlas.textures(),
    }
}

/// Style of the records of a look in the shadow map.
pub(super) fn casting(look: &Look) -> Style<'_> {
    Style { test: true, write: true, ..drawing(look, false) }
}
