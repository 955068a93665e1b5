//! Looks as the kernels of solid things read them.

use frolic_raster::solid::Style;

use crate::look::{Blend, Look};

/// How records of a look are drawn; `sun` says whether the sun's part is kept apart.
pub(super) fn drawing(look: &Look, sun: bool) -> Style<'_> {
    Style {
        test: look.depth.test,
        write: look.depth.write,
        holes: look.blend == Blend::CutOut,
        sun,
        textures: look.atlas.textures(),
    }
}

/// How records of a look throw their shadow.
pub(super) fn casting(look: &Look) -> Style<'_> {
    Style { test: true, write: true, ..drawing(look, false) }
}
