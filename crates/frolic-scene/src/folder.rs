//! Where the files of a scene are.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use frolic_core::{DistanceGrid, PlacedColumns, Surface};
use frolic_draw::Picture;

use crate::error::SceneError;
use crate::shipped;

/// Folder of the files that a scene refers to.
#[derive(Debug, Clone, PartialEq, Default)]
#[non_exhaustive]
pub enum Folder {
    /// The working directory.
    #[default]
    Here,
    /// This folder, usually that of the scene file.
    At(PathBuf),
    /// The files compiled into the program for the shipped scene of this name.
    Shipped(&'static str),
    /// Memory: see [`SceneSpec::with_file`](crate::SceneSpec::with_file).
    Memory(MemoryFolder),
}

/// Files in memory, by name, and where all others are.
#[derive(Debug, Clone, PartialEq)]
pub struct MemoryFolder {
    files: BTreeMap<String, MemoryFile>,
    others: Box<Folder>,
}

/// A file of a scene that a program holds in memory. Copies of a spec share it.
#[derive(Debug, Clone)]
#[non_exhaustive]
pub enum MemoryFile {
    /// A mesh, as of an `.obj`, `.gltf` or `.glb` file.
    Mesh(Arc<Surface>),
    /// A distance grid, as of a `.dgrid` file.
    Grid(Arc<DistanceGrid>),
    /// A picture, as of a PNG.
    Picture(Arc<Picture>),
    /// Places, as of a `.ply` or `.csv` file.
    Places(Arc<PlacedColumns>),
    /// The bytes of a TrueType or OpenType font.
    Font(Arc<[u8]>),
}

/// Two are the same if they share their content.
impl PartialEq for MemoryFile {
    fn eq(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Mesh(a), Self::Mesh(b)) => Arc::ptr_eq(a, b),
            (Self::Grid(a), Self::Grid(b)) => Arc::ptr_eq(a, b),
            (Self::Picture(a), Self::Picture(b)) => Arc::ptr_eq(a, b),
            (Self::Places(a), Self::Places(b)) => Arc::ptr_eq(a, b),
            (Self::Font(a), Self::Font(b)) => Arc::ptr_eq(a, b),
            _ => false,
        }
    }
}

macro_rules! from {
    ($($Content:ty => $variant:ident),*) => {$(
        impl From<$Content> for MemoryFile {
            fn from(content: $Content) -> Self {
                Self::$variant(content.into())
            }
        }
    )*};
}

from! { Surface => Mesh, DistanceGrid => Grid, Picture => Picture, PlacedColumns => Places, Vec<u8> => Font }

impl MemoryFile {
    /// What it is, in words.
    fn kind(&self) -> &'static str {
        match self {
            Self::Mesh(_) => "a mesh",
            Self::Grid(_) => "a distance grid",
            Self::Picture(_) => "a picture",
            Self::Places(_) => "places",
            Self::Font(_) => "a font",
        }
    }
}

impl Folder {
    /// Adds a file in memory, or replaces the one of this name.
    pub(crate) fn with(self, name: &str, file: MemoryFile) -> Self {
        let mut memory = match self {
            Self::Memory(memory) => memory,
            others => MemoryFolder { files: BTreeMap::new(), others: Box::new(others) },
        };
        memory.files.insert(name.to_owned(), file);
        Self::Memory(memory)
    }

    /// Reads a file: from memory, from the program, or from a folder.
    ///
    /// # Errors
    /// There is none, or it is of another kind; else as the readers.
    pub(crate) fn read<T>(
        &self,
        name: &str,
        memory: impl FnOnce(&MemoryFile) -> Option<T>,
        bytes: impl FnOnce(&[u8]) -> Result<T, SceneError>,
        path: impl FnOnce(&Path) -> Result<T, SceneError>,
    ) -> Result<T, SceneError> {
        match self {
            Self::Memory(MemoryFolder { files, others }) => match files.get(name) {
                None => others.read(name, memory, bytes, path),
                Some(file) => memory(file).ok_or_else(|| {
                    let problem = format!("is {} in memory", file.kind());
                    SceneError::Text { place: format!("'{name}'"), problem }
                }),
            },
            Self::Shipped(scene) => match shipped::file(scene, name) {
                Some(shipped) => bytes(shipped),
                // A shipped scene with a file of one's own, by `--set`.
                None => path(name.as_ref()),
            },
            Self::At(folder) => path(&folder.join(name)),
            Self::Here => path(name.as_ref()),
        }
    }
}
