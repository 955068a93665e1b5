//! The columns of blades, and how they are posed.

use crate::foundations::columns::columns;
use crate::poses::sealed::Sealed;
use crate::poses::{Posed, Poses};

columns! {
    /// All attributes of one blade.
    row BladeRow;
    /// The attributes of all blades; slices of one length.
    columns BladeColumns;
    /// Root x, in metres.
    px: f32,
    /// Root y (up), in metres.
    py: f32,
    /// Root z, in metres.
    pz: f32,
    /// Length, in metres; 0 without a blade.
    length: f32,
    /// Half the width at the root, in metres.
    size: f32,
    /// Turn about y, in radians.
    turn: f32,
    /// Lean along x in still air, in radians.
    rest_x: f32,
    /// Lean along z in still air, in radians.
    rest_z: f32,
    /// Lean along x, in radians.
    lean_x: f32,
    /// Lean along z, in radians.
    lean_z: f32,
    /// Rate of the lean along x, radians a second.
    rate_x: f32,
    /// Rate of the lean along z, radians a second.
    rate_z: f32,
    /// Acceleration for each radian from rest, in 1/s².
    stiffness: f32,
    /// Slope of the ground along x.
    rise_x: f32,
    /// Slope of the ground along z.
    rise_z: f32,
    /// Press along x; 1 is flat.
    press_x: f32,
    /// Press along z; 1 is flat.
    press_z: f32,
    /// Tint, 0 to 1.
    tint: f32,
    /// Index of the kind, plus [`TORN`](BladeColumns::TORN) once it was torn off.
    kind: u32,
    /// Key of the element's random numbers.
    id: u32,
}

impl BladeColumns {
    /// Marks the kind of a blade that was torn off.
    pub const TORN: u32 = 1 << 31;

    /// The three columns of roots, in metres.
    pub fn position(&self) -> [&[f32]; 3] {
        [&self.px, &self.py, &self.pz]
    }

    /// Lean along x and z, in radians.
    pub fn lean(&self) -> [&[f32]; 2] {
        [&self.lean_x, &self.lean_z]
    }
}

impl BladeRow {
    /// An empty square.
    pub(super) const NONE: Self = Self {
        px: 0.0,
        py: 0.0,
        pz: 0.0,
        length: 0.0,
        size: 0.0,
        turn: 0.0,
        rest_x: 0.0,
        rest_z: 0.0,
        lean_x: 0.0,
        lean_z: 0.0,
        rate_x: 0.0,
        rate_z: 0.0,
        stiffness: 1.0,
        rise_x: 0.0,
        rise_z: 0.0,
        press_x: 0.0,
        press_z: 0.0,
        tint: 0.0,
        kind: 0,
        id: 0,
    };
}

impl Sealed for BladeColumns {}

impl Posed for BladeColumns {
    fn poses(&self) -> Poses<'_> {
        let [lean_x, lean_z] = self.lean();
        Poses {
            size: Some(self.size()),
            bend: Some([self.length(), lean_x, lean_z, self.turn(), self.rate_x(), self.rate_z()]),
            tint: Some(self.tint()),
            id: Some(self.id()),
            ..Poses::at(self.position())
        }
    }
}
