//! Columns of placed elements.

use crate::foundations::columns::columns;
use crate::foundations::random::{hash3, pair};

columns! {
    /// One placed element.
    row PlacedRow;
    /// Placed elements; slices of one length.
    columns PlacedColumns;
    /// Position x, in metres.
    px: f32,
    /// Position y (up), in metres.
    py: f32,
    /// Position z, in metres.
    pz: f32,
    /// Turn about y, in radians.
    turn: f32,
    /// Tilt about the turned x axis, in radians.
    tilt: f32,
    /// Factor on the size of the population.
    size: f32,
    /// Tint, 0 to 1.
    tint: f32,
    /// Index of the kind.
    kind: u32,
    /// Slope of the ground along x.
    rise_x: f32,
    /// Slope of the ground along z.
    rise_z: f32,
    /// Bend in addition to that of the population, in radians.
    bend: f32,
    /// Factor on the stiffness.
    stiffness: f32,
    /// Key of the random numbers of the element.
    id: u32,
}

impl PlacedColumns {
    /// The three position columns, in metres.
    pub fn position(&self) -> [&[f32]; 3] {
        [&self.px, &self.py, &self.pz]
    }

    /// Places from elsewhere: position in metres, turn and tilt in radians, and size.
    ///
    /// ```
    /// let placed = frolic_core::PlacedColumns::of([([0.0, 1.0, 0.0], [0.5, 0.0], 2.0)]);
    /// assert_eq!(placed.turn(), [0.5]);
    /// ```
    pub fn of(places: impl IntoIterator<Item = ([f32; 3], [f32; 2], f32)>) -> Self {
        Self::from_rows((0..).zip(places).map(|(nth, ([px, py, pz], [turn, tilt], size))| {
            let id = hash3(nth, 0, FROM_PLACES)[0];
            let tint = pair(id)[1];
            PlacedRow { px, py, pz, turn, tilt, size, tint, id, ..PlacedRow::UPRIGHT }
        }))
    }

    /// Columns of whole rows.
    pub fn from_rows(rows: impl IntoIterator<Item = PlacedRow>) -> Self {
        let mut placed = Self::default();
        rows.into_iter().for_each(|row| placed.push(&row));
        placed
    }
}

/// Separates the keys of places from elsewhere.
const FROM_PLACES: u32 = 0x1f0c_ace5;

impl PlacedRow {
    /// At the origin, on level ground, upright, of size 1.
    pub const UPRIGHT: Self = Self {
        px: 0.0,
        py: 0.0,
        pz: 0.0,
        turn: 0.0,
        tilt: 0.0,
        size: 1.0,
        tint: 0.5,
        kind: 0,
        rise_x: 0.0,
        rise_z: 0.0,
        bend: 0.0,
        stiffness: 1.0,
        id: 0,
    };
}
