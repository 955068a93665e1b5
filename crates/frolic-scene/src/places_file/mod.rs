//! Places in files: glTF 2.0 binary with `EXT_mesh_gpu_instancing`, PLY (binary, little-endian), CSV. What one writes, the other two read too.
//!
//! | file | an element is |
//! | --- | --- |
//! | `.glb` | an instance: `TRANSLATION`, `ROTATION`, `SCALE`, and our own `_TINT`, `_KIND`, `_ID` (lower and upper half), `_VELOCITY`, `_AGE`; drawn as one mesh |
//! | `.ply` | a vertex: `x y z turn tilt size tint` as float, `kind id` as uint, `vx vy vz age` as float |
//! | `.csv` | a row: the same, with a header |
//!
//! Velocity and age are there where elements have any. Metres, seconds and radians; a turn is about y, a tilt about the x axis that this gives, so that its top leans towards (sin turn, 0, cos turn).

use std::io::{self, BufRead, Write};
use std::path::Path;

use frolic_core::{PlacedColumns, PlacedRow};
use frolic_draw::Mesh;
use glam::{EulerRot, Mat4, Quat, Vec3};

use crate::error::SceneError;
use crate::models::{Problem, buffers_of, bytes_of, ending, ext_instancing};
use crate::output::write_beside;

/// Where elements are and how they stand; of those that move or age, how.
#[derive(Debug, Clone, PartialEq, Default)]
#[non_exhaustive]
pub struct Places {
    /// Place, turn, size, tint, kind and id of each.
    pub elements: PlacedColumns,
    /// Velocity: x, y and z columns as long, in metres a second; none where nothing moves.
    pub velocity: Option<[Vec<f32>; 3]>,
    /// Time since birth, in seconds; none where nothing ages.
    pub age: Option<Vec<f32>>,
}

impl From<PlacedColumns> for Places {
    fn from(elements: PlacedColumns) -> Self {
        Self { elements, ..Self::default() }
    }
}

impl Places {
    /// Velocity and age of an element, as far as there are any.
    fn motion(&self, nth: usize) -> impl Iterator<Item = f32> {
        self.velocity.iter().flatten().chain(&self.age).filter_map(move |column| column.get(nth).copied())
    }

    fn from_rows(rows: &[Row]) -> Self {
        let all = |value: fn(&Row) -> Option<f32>| rows.iter().map(value).collect::<Option<Vec<f32>>>();
        let axis =
            |axis: usize| rows.iter().map(|row| Some(row.velocity?[axis])).collect::<Option<Vec<f32>>>();
        let some = !rows.is_empty();
        Self {
            elements: PlacedColumns::from_rows(rows.iter().map(|row| row.place)),
            velocity: axis(0).zip(axis(1)).zip(axis(2)).map(|((x, y), z)| [x, y, z]).filter(|_| some),
            age: all(|row| row.age).filter(|_| some),
        }
    }
}

/// An element as it is read.
#[derive(Debug)]
struct Row {
    place: PlacedRow,
    velocity: Option<[f32; 3]>,
    age: Option<f32>,
}

/// Writes places to a `.glb`, `.ply` or `.csv`; a `.glb` draws each as this mesh, m at size 1.
///
/// # Errors
/// Another ending; a file that cannot be written.
pub fn write_places(path: impl AsRef<Path>, places: &Places, mesh: &Mesh) -> Result<(), SceneError> {
    let path = path.as_ref();
    match ending(path).as_str() {
        "glb" => write_beside(path, |file| glb(file, places, mesh)),
        "ply" => write_beside(path, |file| ply(file, places)),
        "csv" => write_beside(path, |file| csv_rows(file, places)),
        other => Err(no_places(other).of(path)),
    }
}

/// Reads places: `.glb` or `.gltf` (all instances of `EXT_mesh_gpu_instancing`, where their nodes put them; of a file without, every node with a
/// mesh), `.ply` (binary or text; vertices) or `.csv` (with a header; `x`, `y` and `z` have to be there).
///
/// # Errors
/// A file that cannot be read, is over 512 MiB, is none of these, or is cut short.
pub fn read_places(path: impl AsRef<Path>) -> Result<Places, SceneError> {
    let path = path.as_ref();
    let bytes = bytes_of(path).map_err(|problem| problem.of(path))?;
    read(&bytes, path, path.parent())
}

/// The same from bytes in memory, where a file must hold all that it needs; its `name` says what it is.
///
/// # Errors
/// As [`read_places`].
pub fn read_places_bytes(bytes: &[u8], name: &str) -> Result<Places, SceneError> {
    read(bytes, Path::new(name), None)
}

fn read(bytes: &[u8], path: &Path, folder: Option<&Path>) -> Result<Places, SceneError> {
    let rows = match ending(path).as_str() {
        "glb" | "gltf" => from_gltf(bytes, folder),
        "ply" => from_ply(bytes),
        "csv" => from_csv(bytes),
        other => Err(no_places(other)),
    };
    let rows = rows.map_err(|problem| problem.of(path))?;
    let sound = |Row { place, velocity, age }: &Row| {
        let [vx, vy, vz] = velocity.unwrap_or_default();
        let motion = [vx, vy, vz, age.unwrap_or_default()];
        floats_of(place).iter().chain(&motion).all(|v| v.is_finite() && v.abs() <= 1e7) && place.size >= 0.0
    };
    if let Some(bad) = rows.iter().position(|row| !sound(row)) {
        let problem = format!("element {bad} is no place: {:?}; give finite numbers", rows[bad]);
        return Err(SceneError::File { path: path.to_owned(), problem });
    }
    Ok(Places::from_rows(&rows))
}

fn no_places(ending: &str) -> Problem {
    Problem::Said(format!("'{ending}' is no ending of places; give a .glb, a .ply or a .csv"))
}

/// How an element is turned.
fn rotation(turn: f32, tilt: f32) -> Quat {
    Quat::from_euler(EulerRot::YXZ, turn, tilt, 0.0)
}

/// Turn and tilt of a rotation; a roll about its own top is lost.
fn turned(rotation: Quat) -> [f32; 2] {
    let (side, top) = (rotation * Vec3::X, rotation * Vec3::Y);
    let turn = libm::atan2f(-side.z, side.x);
    let (sin, cos) = libm::sincosf(turn);
    [turn, libm::atan2f(top.x * sin + top.z * cos, top.y)]
}

fn glb(file: &mut dyn Write, places: &Places, mesh: &Mesh) -> io::Result<()> {
    let placed = &places.elements;
    let count = placed.len();
    let mut binary: Vec<u8> = Vec::with_capacity(count * 48);
    let mut views = Vec::new();
    let mut accessors = Vec::new();
    let mut push = |values: &mut dyn Iterator<Item = f32>,
                    kind: &str,
                    each: usize,
                    bounds: Option<[Vec3; 2]>| {
        let start = binary.len();
        values.for_each(|value| binary.extend(value.to_le_bytes()));
        let bytes = binary.len() - start;
        views.push(serde_json::json!({ "buffer": 0, "byteOffset": start, "byteLength": bytes }));
        let mut accessor = serde_json::json!({
            "bufferView": views.len() - 1, "componentType": 5126, "count": bytes / (each * 4), "type": kind,
        });
        if let Some([low, high]) = bounds {
            accessor["min"] = serde_json::json!(low.to_array());
            accessor["max"] = serde_json::json!(high.to_array());
        }
        accessors.push(accessor);
        accessors.len() - 1
    };
    let vertices = mesh.vertices();
    let low = vertices.iter().fold(Vec3::INFINITY, |low, vertex| low.min(vertex.position));
    let high = vertices.iter().fold(Vec3::NEG_INFINITY, |high, vertex| high.max(vertex.position));
    let positions = push(
        &mut vertices.iter().flat_map(|vertex| vertex.position.to_array()),
        "VEC3",
        3,
        Some([low, high]),
    );
    let normals = push(&mut vertices.iter().flat_map(|vertex| vertex.normal.to_array()), "VEC3", 3, None);
    let rows = || (0..count).filter_map(|nth| placed.row(nth));
    // None at all is no instancing: an accessor holds one or more.
    let instancing = (count > 0).then(|| {
        let place = push(&mut rows().flat_map(|row| [row.px, row.py, row.pz]), "VEC3", 3, None);
        let turn = push(&mut rows().flat_map(|row| rotation(row.turn, row.tilt).to_array()), "VEC4", 4, None);
        let size = push(&mut rows().flat_map(|row| [row.size; 3]), "VEC3", 3, None);
        let tint = push(&mut rows().map(|row| row.tint), "SCALAR", 1, None);
        let kind = push(&mut rows().map(|row| row.kind as f32), "SCALAR", 1, None);
        let mut attributes = serde_json::json!({
            "TRANSLATION": place, "ROTATION": turn, "SCALE": size, "_TINT": tint, "_KIND": kind,
        });
        if let Some([x, y, z]) = &places.velocity {
            let all = x.iter().zip(y).zip(z);
            attributes["_VELOCITY"] =
                push(&mut all.flat_map(|((x, y), z)| [*x, *y, *z]), "VEC3", 3, None).into();
        }
        if let Some(age) = &places.age {
            attributes["_AGE"] = push(&mut age.iter().copied(), "SCALAR", 1, None).into();
        }
        attributes
    });
    let instancing = instancing.map(|mut attributes| {
        // Attributes of one's own may not be of 32 whole bits.
        let start = binary.len();
        rows().for_each(|row| binary.extend(row.id.to_le_bytes()));
        views.push(
            serde_json::json!({ "buffer": 0, "byteOffset": start, "byteLength": binary.len() - start }),
        );
        accessors.push(serde_json::json!({
            "bufferView": views.len() - 1, "componentType": 5123, "count": count, "type": "VEC2",
        }));
        attributes["_ID"] = (accessors.len() - 1).into();
        serde_json::json!({ ext_instancing(): { "attributes": attributes } })
    });
    // Indices last, as they are of another type.
    let start = binary.len();
    mesh.triangles().iter().flatten().for_each(|index| binary.extend(u32::from(*index).to_le_bytes()));
    views.push(serde_json::json!({ "buffer": 0, "byteOffset": start, "byteLength": binary.len() - start }));
    accessors.push(serde_json::json!({
        "bufferView": views.len() - 1, "componentType": 5125, "count": mesh.triangles().len() * 3, "type": "SCALAR",
    }));
    let mut document = serde_json::json!({
        "asset": { "version": "2.0", "generator": "frolic" },
        "scene": 0, "scenes": [{ "nodes": [0] }], "nodes": [{ "name": "elements" }],
        "meshes": [{ "primitives": [{
            "attributes": { "POSITION": positions, "NORMAL": normals }, "indices": accessors.len() - 1, "material": 0,
        }] }],
        "materials": [{ "doubleSided": true, "pbrMetallicRoughness": { "metallicFactor": 0.0, "roughnessFactor": 0.9 } }],
        "accessors": accessors, "bufferViews": views, "buffers": [{ "byteLength": binary.len() }],
    });
    if let Some(instancing) = instancing {
        document["nodes"] = serde_json::json!([{ "mesh": 0, "name": "elements", "extensions": instancing }]);
        document["extensionsUsed"] = serde_json::json!([ext_instancing()]);
    }
    let mut text = serde_json::to_vec(&document)?;
    text.resize(text.len().next_multiple_of(4), b' ');
    binary.resize(binary.len().next_multiple_of(4), 0);
    let whole = u32::try_from(12 + 8 + text.len() + 8 + binary.len())
        .map_err(|_| io::Error::new(io::ErrorKind::FileTooLarge, "is over 4 GiB; export fewer"))?;
    for word in [0x4654_6c67, 2, whole, text.len() as u32, 0x4e4f_534a] {
        file.write_all(&u32::to_le_bytes(word))?;
    }
    file.write_all(&text)?;
    for word in [binary.len() as u32, 0x004e_4942] {
        file.write_all(&u32::to_le_bytes(word))?;
    }
    file.write_all(&binary)
}

/// Names of the numbers of an element, in order; kind and id are whole, and the last four only there where elements have any.
const NAMES: [&str; 13] =
    ["x", "y", "z", "turn", "tilt", "size", "tint", "kind", "id", "vx", "vy", "vz", "age"];

/// Those of an element before kind and id.
fn floats_of(row: &PlacedRow) -> [f32; 7] {
    [row.px, row.py, row.pz, row.turn, row.tilt, row.size, row.tint]
}

/// Which of them a file has.
fn names(places: &Places) -> impl Iterator<Item = &'static str> {
    let (moves, ages) = (places.velocity.is_some(), places.age.is_some());
    NAMES.into_iter().enumerate().filter_map(move |(nth, name)| {
        let there = match nth {
            0..9 => true,
            9..12 => moves,
            _ => ages,
        };
        there.then_some(name)
    })
}

fn ply(file: &mut dyn Write, places: &Places) -> io::Result<()> {
    let placed = &places.elements;
    writeln!(
        file,
        "ply\nformat binary_little_endian 1.0\ncomment places: metres, seconds, radians\nelement vertex {}",
        placed.len()
    )?;
    for name in names(places) {
        writeln!(file, "property {} {name}", if ["kind", "id"].contains(&name) { "uint" } else { "float" })?;
    }
    writeln!(file, "end_header")?;
    for (nth, row) in (0..placed.len()).filter_map(|nth| Some((nth, placed.row(nth)?))) {
        for value in floats_of(&row) {
            file.write_all(&value.to_le_bytes())?;
        }
        file.write_all(&row.kind.to_le_bytes())?;
        file.write_all(&row.id.to_le_bytes())?;
        for value in places.motion(nth) {
            file.write_all(&value.to_le_bytes())?;
        }
    }
    Ok(())
}

fn csv_rows(file: &mut dyn Write, places: &Places) -> io::Result<()> {
    let placed = &places.elements;
    let mut writer = csv::Writer::from_writer(file);
    writer.write_record(names(places))?;
    for (nth, row) in (0..placed.len()).filter_map(|nth| Some((nth, placed.row(nth)?))) {
        let whole = [row.kind.to_string(), row.id.to_string()];
        let motion = places.motion(nth).map(|value| value.to_string());
        writer.write_record(floats_of(&row).iter().map(f32::to_string).chain(whole).chain(motion))?;
    }
    writer.flush()
}

/// A row from what of its numbers is there.
fn row_of(nth: usize, value: impl Fn(usize) -> Option<f64>) -> Row {
    let float = |at: usize, otherwise: f32| value(at).map_or(otherwise, |value| value as f32);
    let whole = |at: usize| value(at).map(|value| value as u32);
    let velocity = [value(9), value(10), value(11)].map(|value| value.map(|value| value as f32));
    let [x, y, z] = velocity;
    let velocity = x.zip(y).zip(z).map(|((x, y), z)| [x, y, z]);
    let place = PlacedRow {
        px: float(0, 0.0),
        py: float(1, 0.0),
        pz: float(2, 0.0),
        turn: float(3, 0.0),
        tilt: float(4, 0.0),
        size: float(5, 1.0),
        tint: float(6, 0.5),
        kind: whole(7).unwrap_or(0),
        id: whole(8).unwrap_or_else(|| frolic_core::random::hash3(nth as u32, 0, 1)[0]),
        ..PlacedRow::UPRIGHT
    };
    Row { place, velocity, age: value(12).map(|value| value as f32) }
}

/// Which of our numbers each column is.
fn columns<'a>(names: impl Iterator<Item = &'a str>) -> Result<Vec<Option<usize>>, Problem> {
    let known = |name: &str| NAMES.iter().position(|known| *known == name.trim().to_lowercase());
    let columns: Vec<Option<usize>> = names.map(known).collect();
    for (nth, name) in NAMES[..3].iter().enumerate() {
        if !columns.contains(&Some(nth)) {
            return Err(Problem::Said(format!("has no column '{name}'; name one x, one y and one z")));
        }
    }
    Ok(columns)
}

fn from_csv(bytes: &[u8]) -> Result<Vec<Row>, Problem> {
    let mut reader = csv::Reader::from_reader(bytes);
    let wrong = |error: csv::Error| Problem::Said(format!("is no CSV that can be read: {error}"));
    let columns = columns(reader.headers().map_err(wrong)?.iter())?;
    let mut rows = Vec::new();
    for (nth, record) in reader.records().enumerate() {
        let record = record.map_err(wrong)?;
        let mut values = [None; NAMES.len()];
        for (column, text) in columns.iter().zip(record.iter()) {
            if let Some(column) = *column {
                let value: f64 = text
                    .trim()
                    .parse()
                    .map_err(|_| Problem::Said(format!("row {}: '{text}' is no number", nth + 1)))?;
                values[column] = Some(value);
            }
        }
        rows.push(row_of(nth, |at| values[at]));
    }
    Ok(rows)
}

/// A type of a PLY's numbers.
#[derive(Debug, Clone, Copy)]
enum Number {
    Whole(usize, bool),
    Float(usize),
}

impl Number {
    fn named(name: &str) -> Option<Self> {
        Some(match name {
            "char" | "int8" => Self::Whole(1, true),
            "uchar" | "uint8" => Self::Whole(1, false),
            "short" | "int16" => Self::Whole(2, true),
            "ushort" | "uint16" => Self::Whole(2, false),
            "int" | "int32" => Self::Whole(4, true),
            "uint" | "uint32" => Self::Whole(4, false),
            "float" | "float32" => Self::Float(4),
            "double" | "float64" => Self::Float(8),
            _ => return None,
        })
    }

    fn bytes(self) -> usize {
        match self {
            Self::Whole(bytes, _) | Self::Float(bytes) => bytes,
        }
    }

    fn read(self, bytes: &[u8], little: bool) -> f64 {
        let mut word = [0u8; 8];
        for (nth, byte) in bytes.iter().enumerate() {
            word[if little { nth } else { bytes.len() - 1 - nth }] = *byte;
        }
        let bits = u64::from_le_bytes(word);
        match self {
            Self::Float(4) => f64::from(f32::from_bits(bits as u32)),
            Self::Float(_) => f64::from_bits(bits),
            Self::Whole(bytes, true) => {
                let shift = 64 - 8 * bytes as u32;
                ((bits << shift) as i64 >> shift) as f64
            }
            Self::Whole(_, false) => bits as f64,
        }
    }
}

fn from_ply(bytes: &[u8]) -> Result<Vec<Row>, Problem> {
    let said = |text: &str| Problem::Said(text.to_owned());
    let mut at = 0;
    let mut line = || -> Option<String> {
        let mut line = Vec::new();
        let read = (&bytes[at..]).read_until(b'\n', &mut line).ok().filter(|read| *read > 0)?;
        at += read;
        Some(String::from_utf8_lossy(&line).trim().to_owned())
    };
    if line().as_deref() != Some("ply") {
        return Err(said("is no PLY"));
    }
    let (mut format, mut count, mut properties) = (String::new(), None, Vec::new());
    loop {
        let Some(line) = line() else { return Err(said("is cut short in its header")) };
        let words: Vec<&str> = line.split_whitespace().collect();
        match words[..] {
            ["end_header"] => break,
            ["format", name, _] => name.clone_into(&mut format),
            ["element", "vertex", many] if count.is_none() => {
                count = Some(many.parse::<usize>().map_err(|_| said("tells no number of vertices"))?);
            }
            ["element", _, many] if count.is_none() && many != "0" => {
                return Err(said("has other elements before its vertices; write these first"));
            }
            // What comes after the vertices is left.
            ["element", ..] => format.push(' '),
            ["property", kind, name] if count.is_some() && !format.ends_with(' ') => {
                let number = Number::named(kind);
                let told = || format!("has a property '{name}' of an unknown type '{kind}'");
                properties.push((number.ok_or_else(|| Problem::Said(told()))?, name.to_owned()));
            }
            ["property", "list", ..] if !format.ends_with(' ') => {
                return Err(said("has lists in its vertices"));
            }
            _ => {}
        }
    }
    let count = count.ok_or_else(|| said("has no vertices"))?;
    let columns = columns(properties.iter().map(|(_, name)| name.as_str()))?;
    let body = &bytes[at..];
    let each: usize = properties.iter().map(|(number, _)| number.bytes()).sum();
    let mut rows = Vec::new();
    let mut push = |numbers: &[f64]| {
        let of = |at: usize| columns.iter().position(|column| *column == Some(at)).map(|nth| numbers[nth]);
        rows.push(row_of(rows.len(), of));
    };
    match format.trim() {
        "ascii" => {
            let text = String::from_utf8_lossy(body);
            let mut lines = text.lines().filter(|line| !line.trim().is_empty());
            for nth in 0..count {
                let line = lines.next().ok_or_else(|| said("is cut short"))?;
                let numbers: Option<Vec<f64>> =
                    line.split_whitespace().map(|word| word.parse().ok()).collect();
                let numbers = numbers.filter(|numbers| numbers.len() >= properties.len());
                push(&numbers.ok_or_else(|| Problem::Said(format!("vertex {nth} is not of numbers")))?);
            }
        }
        format @ ("binary_little_endian" | "binary_big_endian") => {
            if body.len() / each.max(1) < count {
                return Err(said("is cut short"));
            }
            let mut numbers = vec![0.0; properties.len()];
            for vertex in body.chunks_exact(each).take(count) {
                let mut from = 0;
                for (value, (number, _)) in numbers.iter_mut().zip(&properties) {
                    *value = number.read(&vertex[from..from + number.bytes()], format.contains("little"));
                    from += number.bytes();
                }
                push(&numbers);
            }
        }
        other => return Err(Problem::Said(format!("is of an unknown format '{other}'"))),
    }
    Ok(rows)
}

fn from_gltf(bytes: &[u8], folder: Option<&Path>) -> Result<Vec<Row>, Problem> {
    let (document, buffers) = buffers_of(bytes, folder)?;
    let mut rows: Vec<Row> = Vec::new();
    // `own`: what of tint, kind, id, velocity and age there is, in the order of our numbers.
    let mut add = |place: Mat4, own: [Option<f64>; 7]| {
        let (scale, rotation, at) = place.to_scale_rotation_translation();
        let [turn, tilt] = turned(rotation);
        let given = [at.x, at.y, at.z, turn, tilt, (scale.x + scale.y + scale.z) / 3.0];
        let nth = rows.len();
        rows.push(row_of(nth, |at| match at.checked_sub(6) {
            Some(at) => own[at],
            None => Some(f64::from(given[at])),
        }));
    };
    crate::models::each_node(&document, |node, place| {
        if node.mesh().is_none() {
            return Ok(());
        }
        let Some(extension) = node.extension_value(ext_instancing()) else {
            add(place, [None; 7]);
            return Ok(());
        };
        let accessor = |name: &str| -> Result<Option<gltf::Accessor<'_>>, Problem> {
            let Some(nth) = extension["attributes"][name].as_u64() else { return Ok(None) };
            let found = document.accessors().nth(nth as usize);
            found.map(Some).ok_or_else(|| Problem::Said(format!("has no accessor {nth} for {name}")))
        };
        let numbers = |name: &str, each: usize| -> Result<Option<Vec<f32>>, Problem> {
            let Some(accessor) = accessor(name)? else { return Ok(None) };
            floats(&accessor, each, &buffers)
                .map(Some)
                .map_err(|told| Problem::Said(format!("{name}: {told}")))
        };
        let (places, turns, sizes) =
            (numbers("TRANSLATION", 3)?, numbers("ROTATION", 4)?, numbers("SCALE", 3)?);
        let (tints, kinds, ids) = (numbers("_TINT", 1)?, numbers("_KIND", 1)?, numbers("_ID", 2)?);
        let (velocities, ages) = (numbers("_VELOCITY", 3)?, numbers("_AGE", 1)?);
        let lens = [
            places.as_ref().map(|it| it.len() / 3),
            turns.as_ref().map(|it| it.len() / 4),
            sizes.as_ref().map(|it| it.len() / 3),
        ];
        let count = lens.iter().flatten().copied().min().unwrap_or(0);
        for nth in 0..count {
            let three = |of: &Option<Vec<f32>>, otherwise: Vec3| {
                of.as_ref().map_or(otherwise, |of| Vec3::from_slice(&of[nth * 3..]))
            };
            let rotation = turns.as_ref().map_or(Quat::IDENTITY, |of| Quat::from_slice(&of[nth * 4..]));
            let own = Mat4::from_scale_rotation_translation(
                three(&sizes, Vec3::ONE),
                rotation.normalize(),
                three(&places, Vec3::ZERO),
            );
            let value = |of: &Option<Vec<f32>>, each: usize, part: usize| {
                of.as_ref().and_then(|of| of.get(nth * each + part)).map(|value| f64::from(*value))
            };
            let id = value(&ids, 2, 0).zip(value(&ids, 2, 1)).map(|(low, high)| low + high * 65_536.0);
            // Velocities turn with the node that the instances are of.
            let velocity = velocities
                .as_ref()
                .and_then(|of| of.get(nth * 3..nth * 3 + 3))
                .map(|of| place.transform_vector3(Vec3::from_slice(of)).to_array().map(f64::from));
            let [x, y, z] = velocity.map_or([None; 3], |velocity| velocity.map(Some));
            let (tint, kind, age) = (value(&tints, 1, 0), value(&kinds, 1, 0), value(&ages, 1, 0));
            add(place * own, [tint, kind, id, x, y, z, age]);
        }
        Ok(())
    })?;
    Ok(rows)
}

/// Numbers of an accessor; rotations may be whole numbers that stand for -1 to 1.
fn floats(accessor: &gltf::Accessor<'_>, each: usize, buffers: &[Vec<u8>]) -> Result<Vec<f32>, String> {
    use gltf::accessor::DataType;
    if accessor.dimensions().multiplicity() != each {
        return Err(format!("has {} numbers each, not {each}", accessor.dimensions().multiplicity()));
    }
    let Some(view) = accessor.view() else { return Ok(vec![0.0; accessor.count() * each]) };
    let size = accessor.data_type().size();
    let stride = view.stride().unwrap_or(size * each);
    let start = view.offset() + accessor.offset();
    let buffer = buffers.get(view.buffer().index()).ok_or("names no buffer")?;
    let end = start + stride * accessor.count().saturating_sub(1) + size * each;
    if accessor.count() > 0 && end > buffer.len() {
        return Err("is cut short".to_owned());
    }
    let number = match accessor.data_type() {
        DataType::I8 => Number::Whole(1, true),
        DataType::U8 => Number::Whole(1, false),
        DataType::I16 => Number::Whole(2, true),
        DataType::U16 => Number::Whole(2, false),
        DataType::U32 => Number::Whole(4, false),
        DataType::F32 => Number::Float(4),
    };
    let per = match (accessor.normalized(), accessor.data_type()) {
        (true, DataType::I8) => 127.0,
        (true, DataType::U8) => 255.0,
        (true, DataType::I16) => 32_767.0,
        (true, DataType::U16) => 65_535.0,
        _ => 1.0,
    };
    let mut values = Vec::with_capacity(accessor.count() * each);
    for nth in 0..accessor.count() {
        for part in 0..each {
            let from = start + nth * stride + part * size;
            values.push((number.read(&buffer[from..from + size], true) / per) as f32);
        }
    }
    Ok(values)
}
