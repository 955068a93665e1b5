//! Where the files of a scene are.

use std::path::PathBuf;

/// Folder of the files that a scene refers to.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
#[non_exhaustive]
pub enum Folder {
    /// The working directory.
    #[default]
    Here,
    /// This folder, usually that of the scene file.
    At(PathBuf),
    /// The files compiled into the program for the shipped scene of this name.
    Shipped(&'static str),
}
