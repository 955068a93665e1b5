//! The tests of this crate, one binary.

use frolic_core_tests as common;

mod apart;
mod assets;
mod backend;
mod births;
mod blades;
mod counts;
mod crowd;
mod edits;
mod emission;
mod endless;
mod events;
mod fields;
mod flock;
mod groups;
mod growing;
mod instances;
mod meters;
mod motion;
mod neighbours;
mod obstacles;
mod placement;
mod retune;
mod same_results;
mod saved;
mod specs;
mod trails;
mod walkers;
