//! Points as glTF: instances of a mesh.

use crate::models::{Problem, buffers_of, ext_instancing};
use frolic_draw::Mesh;
use glam::{Mat4, Quat, Vec3};
use std::io::{self, Write};
use std::path::Path;

use super::rows::{Number, Places, Row, rotation, row_of, turned};

pub(super) fn glb(file: &mut dyn Write, places: &Places, mesh: &Mesh) -> io::Result<()> {
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

pub(super) fn from_gltf(bytes: &[u8], folder: Option<&Path>) -> Result<Vec<Row>, Problem> {
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
                .map_err(|problem| Problem::Said(format!("{name}: {problem}")))
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
