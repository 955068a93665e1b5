//! Meshes from files: Wavefront OBJ and glTF 2.0 (`.gltf` with its buffers, or `.glb`), as triangles in the file's own place and scale.

use std::fs;
use std::io::{BufRead, BufReader, Cursor};
use std::path::Path;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use frolic_core::Surface;

use crate::error::SceneError;

/// Largest mesh file, and largest buffer beside it, bytes.
const LARGEST: u64 = 512 << 20;

/// Reads a mesh: `.obj`, `.gltf` or `.glb`. All objects of the file together, polygons cut into triangles, nodes of a glTF put where they
/// are; colours, textures and everything else is left.
///
/// # Errors
/// A file that cannot be read, is over 512 MiB, is no such mesh, is cut short, or has no triangle.
pub fn read_mesh(path: impl AsRef<Path>) -> Result<Surface, SceneError> {
    let path = path.as_ref();
    read(path).map_err(|problem| problem.of(path))
}

/// The same from bytes in memory, where a file must hold all that it needs; its `name` says what it is.
///
/// # Errors
/// As [`read_mesh`].
pub fn read_mesh_bytes(bytes: &[u8], name: &str) -> Result<Surface, SceneError> {
    let made = match ending(Path::new(name)).as_str() {
        "obj" => obj(&mut Cursor::new(bytes)),
        "gltf" | "glb" => gltf(bytes, None),
        other => Err(no_mesh(other)),
    };
    made.map_err(|problem| problem.of(Path::new(name)))
}

pub(crate) enum Problem {
    Io(std::io::Error),
    Said(String),
}

impl Problem {
    /// As an error about a file.
    pub(crate) fn of(self, path: &Path) -> SceneError {
        match self {
            Self::Io(source) => SceneError::Read { path: path.to_owned(), source },
            Self::Said(problem) => SceneError::File { path: path.to_owned(), problem },
        }
    }
}

impl From<std::io::Error> for Problem {
    fn from(error: std::io::Error) -> Self {
        Self::Io(error)
    }
}

impl From<String> for Problem {
    fn from(problem: String) -> Self {
        Self::Said(problem)
    }
}

fn no_mesh(ending: &str) -> Problem {
    Problem::Said(format!("'{ending}' is not a mesh format; give an .obj, a .gltf or a .glb"))
}

pub(crate) fn ending(path: &Path) -> String {
    path.extension().map(|ending| ending.to_string_lossy().to_lowercase()).unwrap_or_default()
}

fn read(path: &Path) -> Result<Surface, Problem> {
    match ending(path).as_str() {
        "obj" => {
            small(path)?;
            obj(&mut BufReader::new(fs::File::open(path)?))
        }
        "gltf" | "glb" => gltf(&bytes_of(path)?, path.parent()),
        other => Err(no_mesh(other)),
    }
}

fn small(path: &Path) -> Result<(), Problem> {
    let bytes = fs::metadata(path)?.len();
    if bytes > LARGEST {
        return Err(format!("is {} MiB large; keep to {}", bytes >> 20, LARGEST >> 20).into());
    }
    Ok(())
}

pub(crate) fn bytes_of(path: &Path) -> Result<Vec<u8>, Problem> {
    small(path)?;
    Ok(fs::read(path)?)
}

fn obj(read: &mut impl BufRead) -> Result<Surface, Problem> {
    let options = tobj::LoadOptions {
        triangulate: true,
        ignore_lines: true,
        ignore_points: true,
        ..Default::default()
    };
    // Materials are of no use here, so none is looked for.
    let (models, _) = tobj::load_obj_buf(read, &options, |_| Ok(Default::default()))
        .map_err(|error| format!("is not a readable OBJ file: {error}"))?;
    let (mut corners, mut triangles) = (Vec::new(), Vec::new());
    for model in models {
        let first = corners.len() as u32;
        corners.extend(model.mesh.positions.as_chunks::<3>().0.iter().copied());
        triangles.extend(
            model.mesh.indices.as_chunks::<3>().0.iter().map(|triangle| triangle.map(|index| index + first)),
        );
    }
    surface(corners, triangles)
}

fn surface(corners: Vec<[f32; 3]>, triangles: Vec<[u32; 3]>) -> Result<Surface, Problem> {
    if triangles.is_empty() {
        return Err("has no triangle; give a mesh with faces".to_owned().into());
    }
    Surface::new(corners, triangles).map_err(|error| format!("{}; {}", error.problem, error.instead).into())
}

/// Name of the extension that puts one mesh at many places.
pub(crate) const fn ext_instancing() -> &'static str {
    "EXT_mesh_gpu_instancing"
}

/// A glTF with all its buffers.
pub(crate) fn buffers_of(
    bytes: &[u8],
    folder: Option<&Path>,
) -> Result<(gltf::Document, Vec<Vec<u8>>), Problem> {
    let wrong = |error: gltf::Error| Problem::Said(format!("is not a readable glTF file: {error}"));
    let gltf::Gltf { document, blob } = gltf::Gltf::from_slice(bytes).map_err(wrong)?;
    let mut blob = blob;
    let mut buffers: Vec<Vec<u8>> = Vec::new();
    for buffer in document.buffers() {
        let data = match buffer.source() {
            gltf::buffer::Source::Bin => blob.take().ok_or_else(|| "has no binary chunk".to_owned())?,
            gltf::buffer::Source::Uri(uri) => match uri.strip_prefix("data:") {
                Some(inline) => {
                    let text = inline.split_once("base64,").map(|(_, text)| text);
                    let text = text.ok_or_else(|| "has inline data that is not base64".to_owned())?;
                    STANDARD
                        .decode(text)
                        .map_err(|error| format!("has inline data that cannot be read: {error}"))?
                }
                None => {
                    // Beside the file, and nowhere else.
                    let beside = Path::new(uri);
                    let plain =
                        beside.components().all(|part| matches!(part, std::path::Component::Normal(_)));
                    let folder = folder
                        .filter(|_| plain)
                        .ok_or_else(|| format!("names a buffer '{uri}' that is not in its folder"))?;
                    bytes_of(&folder.join(beside))?
                }
            },
        };
        if data.len() < buffer.length() {
            return Err(format!(
                "is cut short: buffer {} has {} of {} bytes",
                buffer.index(),
                data.len(),
                buffer.length()
            )
            .into());
        }
        buffers.push(data);
    }
    Ok((document, buffers))
}

/// Visits the nodes of the first scene, each with where it is put.
pub(crate) fn each_node(
    document: &gltf::Document,
    mut visit: impl FnMut(&gltf::Node<'_>, glam::Mat4) -> Result<(), Problem>,
) -> Result<(), Problem> {
    let scenes = document.default_scene().into_iter().chain(document.scenes()).take(1);
    let mut waiting: Vec<(gltf::Node<'_>, glam::Mat4)> = scenes
        .flat_map(|scene| scene.nodes().map(|node| (node, glam::Mat4::IDENTITY)).collect::<Vec<_>>())
        .collect();
    // In the order of the file.
    waiting.reverse();
    let mut visited = 0;
    while let Some((node, above)) = waiting.pop() {
        visited += 1;
        if visited > 100_000 {
            return Err("has over 100000 nodes, or nodes in a ring".to_owned().into());
        }
        let place = above * glam::Mat4::from_cols_array_2d(&node.transform().matrix());
        waiting.extend(node.children().map(|child| (child, place)));
        visit(&node, place)?;
    }
    Ok(())
}

fn gltf(bytes: &[u8], folder: Option<&Path>) -> Result<Surface, Problem> {
    let (document, buffers) = buffers_of(bytes, folder)?;
    let (mut corners, mut triangles) = (Vec::new(), Vec::new());
    each_node(&document, |node, place| {
        let Some(mesh) = node.mesh() else { return Ok(()) };
        for primitive in mesh.primitives().filter(|part| part.mode() == gltf::mesh::Mode::Triangles) {
            let reader = primitive.reader(|buffer| buffers.get(buffer.index()).map(Vec::as_slice));
            let Some(positions) = reader.read_positions() else { continue };
            let first = corners.len() as u32;
            corners.extend(positions.map(|at| place.transform_point3(at.into()).to_array()));
            let count = corners.len() as u32 - first;
            let indices: Vec<u32> = match reader.read_indices() {
                Some(indices) => indices.into_u32().collect(),
                None => (0..count).collect(),
            };
            triangles.extend(
                indices
                    .as_chunks::<3>()
                    .0
                    .iter()
                    .map(|triangle| triangle.map(|index| first.saturating_add(index))),
            );
        }
        Ok(())
    })?;
    surface(corners, triangles)
}
