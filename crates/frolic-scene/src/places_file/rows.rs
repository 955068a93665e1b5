//! Elements as rows of named numbers, which all formats share.

use crate::models::Problem;
use frolic_core::{PlacedColumns, PlacedRow};
use glam::{EulerRot, Quat, Vec3};

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
    pub(super) fn motion(&self, nth: usize) -> impl Iterator<Item = f32> {
        self.velocity.iter().flatten().chain(&self.age).filter_map(move |column| column.get(nth).copied())
    }

    pub(super) fn from_rows(rows: &[Row]) -> Self {
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
pub(super) struct Row {
    pub(super) place: PlacedRow,
    pub(super) velocity: Option<[f32; 3]>,
    pub(super) age: Option<f32>,
}

/// How an element is turned.
pub(super) fn rotation(turn: f32, tilt: f32) -> Quat {
    Quat::from_euler(EulerRot::YXZ, turn, tilt, 0.0)
}

/// Turn and tilt of a rotation; a roll about its own top is lost.
pub(super) fn turned(rotation: Quat) -> [f32; 2] {
    let (side, top) = (rotation * Vec3::X, rotation * Vec3::Y);
    let turn = libm::atan2f(-side.z, side.x);
    let (sin, cos) = libm::sincosf(turn);
    [turn, libm::atan2f(top.x * sin + top.z * cos, top.y)]
}

/// Names of the numbers of an element, in order; kind and id are whole, and the last four only there where elements have any.
pub(super) const NAMES: [&str; 13] =
    ["x", "y", "z", "turn", "tilt", "size", "tint", "kind", "id", "vx", "vy", "vz", "age"];

/// Those of an element before kind and id.
pub(super) fn floats_of(row: &PlacedRow) -> [f32; 7] {
    [row.px, row.py, row.pz, row.turn, row.tilt, row.size, row.tint]
}

/// Which of them a file has.
pub(super) fn names(places: &Places) -> impl Iterator<Item = &'static str> {
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

/// A row from what of its numbers is there.
pub(super) fn row_of(nth: usize, value: impl Fn(usize) -> Option<f64>) -> Row {
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
pub(super) fn columns<'a>(names: impl Iterator<Item = &'a str>) -> Result<Vec<Option<usize>>, Problem> {
    let known = |name: &str| NAMES.iter().position(|known| *known == name.trim().to_lowercase());
    let columns: Vec<Option<usize>> = names.map(known).collect();
    for (nth, name) in NAMES[..3].iter().enumerate() {
        if !columns.contains(&Some(nth)) {
            return Err(Problem::Said(format!("has no column '{name}'; name one x, one y and one z")));
        }
    }
    Ok(columns)
}

/// Type of a number in a binary file.
#[derive(Debug, Clone, Copy)]
pub(super) enum Number {
    Whole(usize, bool),
    Float(usize),
}

impl Number {
    pub(super) fn named(name: &str) -> Option<Self> {
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

    pub(super) fn bytes(self) -> usize {
        match self {
            Self::Whole(bytes, _) | Self::Float(bytes) => bytes,
        }
    }

    pub(super) fn read(self, bytes: &[u8], little: bool) -> f64 {
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
