//! The columns of static instances, and how they are posed.

use crate::foundations::columns::columns;
use crate::poses::sealed::Sealed;
use crate::poses::{Posed, Poses};

columns! {
    /// All attributes of one instance.
    row FixedRow;
    /// The attributes of all instances; slices of one length.
    columns FixedColumns;
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
    /// Rate of the tilt, radians a second.
    rate: f32,
    /// Size, in metres.
    size: f32,
    /// Key of the element's random numbers.
    id: u32,
}

impl FixedColumns {
    /// The three position columns, in metres.
    pub fn position(&self) -> [&[f32]; 3] {
        [&self.px, &self.py, &self.pz]
    }
}
impl Sealed for FixedColumns {}

impl Posed for FixedColumns {
    fn poses(&self) -> Poses<'_> {
        Poses {
            size: Some(self.size()),
            turn: Some([self.turn(), self.tilt()]),
            id: Some(self.id()),
            ..Poses::at(self.position())
        }
    }
}
