//! How elements stand: what drawing borrows of a family, whatever family it is.
//!
//! An element is at a point; it may be turned, curved, or bent along its length. Families hand out their columns as [`Poses`]; where many of
//! them look alike they may share [`Layouts`], which drawing caches as pictures.

use std::fmt::Debug;

use serde::{Deserialize, Serialize};

use crate::foundations::error::SpecError;

/// Borrowed columns of elements. Only positions must be there: what is left out has one value for all.
#[derive(Debug, Clone, Copy, Default)]
#[non_exhaustive]
pub struct Poses<'a> {
    /// Position: x, y, z, in metres.
    pub position: [&'a [f32]; 3],
    /// Velocity: x, y, z, in metres a second. Default: at rest.
    pub velocity: Option<[&'a [f32]; 3]>,
    /// Time since birth and age at death, in seconds. Default: just born.
    pub age: Option<[&'a [f32]; 2]>,
    /// Radius of discs and billboards, half the width of a ribbon's root, scale of a mesh, in metres. Default: 1.
    pub size: Option<&'a [f32]>,
    /// Turn about y, then tilt about the turned x axis, in radians. Default: as their random numbers say.
    pub turn: Option<[&'a [f32]; 2]>,
    /// Curve of a ribbon: offsets of the middle control point and of the tip from the root; x, y, z each, in metres. Default: straight.
    pub curve: Option<[&'a [f32]; 6]>,
    /// Bend along a length that stays: the length in metres, lean along x and z and turn about y in radians, rates of the lean along x and z in
    /// radians a second. Default: none.
    pub bend: Option<[&'a [f32]; 6]>,
    /// How elements stand along their heading; they then need a velocity. Default: turned as `turn` says.
    pub heading: Option<Heading<'a>>,
    /// Key of an element's random numbers. Default: its index.
    pub id: Option<&'a [u32]>,
    /// Tint, 0 to 1. Default: by its random numbers.
    pub tint: Option<&'a [f32]>,
}

/// How elements stand along their heading: the direction of their velocity, with the other axis up as far as it can be.
#[derive(Debug, Clone, Copy, Default)]
#[non_exhaustive]
pub struct Heading<'a> {
    /// Velocity one step before that of [`Poses::velocity`]: x, y, z, in metres a second. Between steps the heading turns from one to the other.
    pub before: [&'a [f32]; 3],
    /// Length of a step, in seconds.
    pub step: f32,
    /// Turn about the heading, in radians, positive to the right. Default: none.
    pub bank: Option<&'a [f32]>,
    /// Way gone so far, in metres, by which a body swings. Default: none.
    pub way: Option<&'a [f32]>,
}

impl Heading<'_> {
    /// Velocity at a time before the last step, in seconds, for the heading then.
    #[inline]
    pub fn velocity(&self, nth: usize, now: [f32; 3], lag: f32) -> [f32; 3] {
        if self.step <= 0.0 {
            return now;
        }
        let share = (lag / self.step).clamp(0.0, 1.0);
        [0, 1, 2].map(|axis| now[axis] + (self.before[axis][nth] - now[axis]) * share)
    }
}

impl<'a> Poses<'a> {
    /// Elements at these positions: x, y and z, in metres.
    pub fn at(position: [&'a [f32]; 3]) -> Self {
        Self { position, ..Self::default() }
    }

    /// Whether all columns that are there are of one length.
    ///
    /// # Errors
    /// Names the first that is not.
    pub fn check(&self) -> Result<(), SpecError> {
        let count = self.position[0].len();
        fn other<T, const N: usize>(columns: Option<[&[T]; N]>, count: usize) -> Option<usize> {
            columns?.into_iter().map(<[T]>::len).find(|len| *len != count)
        }
        let all = [
            ("position", other(Some(self.position), count)),
            ("velocity", other(self.velocity, count)),
            ("age", other(self.age, count)),
            ("size", other(self.size.map(|size| [size]), count)),
            ("turn", other(self.turn, count)),
            ("curve", other(self.curve, count)),
            ("bend", other(self.bend, count)),
            ("heading.before", other(self.heading.map(|it| it.before), count)),
            ("heading.bank", other(self.heading.and_then(|it| it.bank).map(|it| [it]), count)),
            ("heading.way", other(self.heading.and_then(|it| it.way).map(|it| [it]), count)),
            ("id", other(self.id.map(|id| [id]), count)),
            ("tint", other(self.tint.map(|tint| [tint]), count)),
        ];
        if self.heading.is_some() && self.velocity.is_none() {
            let problem = "is given for elements without a velocity";
            return Err(SpecError::new("heading", problem, "give their velocities too"));
        }
        match all.into_iter().find_map(|(key, len)| Some((key, len?))) {
            None => Ok(()),
            Some((key, len)) => {
                let problem = format!("a column of {len} for {count} elements");
                Err(SpecError::new(key, problem, "give columns of one length"))
            }
        }
    }
}

/// Columns of a family that ships, all of one length.
pub trait Posed: sealed::Sealed {
    /// How the elements stand.
    fn poses(&self) -> Poses<'_>;
}

pub(crate) mod sealed {
    /// Columns of families that ship.
    pub trait Sealed {}
}

/// What a square shows as a group.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[non_exhaustive]
pub struct Group {
    /// Which layout.
    pub layout: u32,
    /// Which state of it, as of the wind.
    pub state: u32,
}

impl Group {
    /// A layout in a state.
    pub fn new(layout: u32, state: u32) -> Self {
        Self { layout, state }
    }
}

/// Layouts of elements that squares of a population share, each in several states; drawing caches them as pictures.
pub trait Layouts: Debug + Sync {
    /// The elements of a layout in a state, about the middle of their square. `None` for a layout or state that is not there.
    fn poses(&self, group: Group) -> Option<Poses<'_>>;

    /// The elements of a layout that are of a kind: first and count.
    fn of_kind(&self, layout: u32, kind: usize) -> (u32, u32);

    /// Least and greatest x, y, z that any part of any element can reach, from the middle of its square, in metres.
    fn reach(&self) -> [[f32; 3]; 2];

    /// A number that changes whenever poses change: cached pictures are made anew.
    fn key(&self) -> u64;
}
