//! The kernels against plain models, pixel by pixel, at every instruction set of the machine.

mod discs;
mod finish;
mod grid;
mod quads;
mod sections;
mod solid;
mod sun;
mod surfaces;
mod textures;
