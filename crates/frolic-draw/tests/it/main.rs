//! The tests of this crate, one binary.

use frolic_draw_tests as common;

mod atlas;
mod backdrop;
mod backends;
mod billboards;
mod blades;
mod covered;
mod hostile;
mod instances;
mod kept;
mod light;
mod order;
mod place;
mod quality;
mod reduced;
mod relief;
mod shapes;
mod solids;
mod techniques;
mod tiled;
mod tiny;
mod visibility;
