//! Instances of one population: columns that drawing borrows.

use frolic_core::{Group, Layouts, Posed, Poses, SpecError, blade_curve};

use glam::Vec3;

use crate::bounds::Bounds;
use crate::sprite::Sprite;

/// A stretch of elements with the box around all that they draw.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Part {
    /// First element.
    pub first: u32,
    /// How many.
    pub count: u32,
    /// The box around them.
    pub bounds: Bounds,
}

/// Elements of a part by [`chunk_parts`]; their columns stay in the first-level cache.
pub const CHUNK: usize = 1024;

/// Parts of [`CHUNK`] positions each, with `margin` m to all sides; for [`Instances::in_parts`]. Columns of one length.
pub fn chunk_parts(position: [&[f32]; 3], margin: f32) -> impl Iterator<Item = Part> {
    let chunks = position[0].len().div_ceil(CHUNK);
    let of = move |chunk: usize| {
        let mut bounds = Bounds { low: [f32::INFINITY; 3], high: [f32::NEG_INFINITY; 3] };
        let count = (position[0].len() - chunk * CHUNK).min(CHUNK);
        for axis in 0..3 {
            for &value in &position[axis][chunk * CHUNK..][..count] {
                bounds.low[axis] = bounds.low[axis].min(value - margin);
                bounds.high[axis] = bounds.high[axis].max(value + margin);
            }
        }
        Part { first: (chunk * CHUNK) as u32, count: count as u32, bounds }
    };
    (0..chunks).map(of)
}

/// A square whose elements are drawn as a group.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct PlacedGroup {
    /// The middle of its ground, m.
    pub middle: [f32; 3],
    /// What it shows.
    pub group: Group,
}

/// Groups of one kind of elements.
#[derive(Debug, Clone, Copy)]
pub struct Groups<'a> {
    /// What they show.
    pub layouts: &'a dyn Layouts,
    /// Which of the kinds.
    pub kind: usize,
    /// Where they are.
    pub placed: &'a [PlacedGroup],
    /// How far what is drawn reaches beyond the elements themselves, m.
    pub margin: f32,
}

/// A population that lives on a device: the columns are there, and only the device knows how many are alive.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Resident {
    /// The name that the device's backend gave it.
    pub key: u64,
    /// Most that can be alive.
    pub most: u32,
}

/// Instances of one population: borrowed columns of one length.
///
/// How they stand is a matter of [`Poses`]: at a point, turned, curved, or bent along a length. Only positions must be there.
#[derive(Debug, Clone, Copy)]
pub struct Instances<'a> {
    pub(crate) count: usize,
    /// How they stand.
    pub(crate) poses: Poses<'a>,
    pub(crate) sprites: &'a [Sprite],
    /// Stretches that are drawn if their box is in view, and the only ones that are there; empty: all are, wherever.
    pub(crate) parts: Option<&'a [Part]>,
    /// Squares that are drawn as groups, beside the elements.
    pub(crate) groups: Option<Groups<'a>>,
    /// How long before the columns' state the picture is taken, s.
    pub(crate) behind: f32,
    /// Where it lives instead, if it has no columns here.
    pub(crate) resident: Option<Resident>,
}

/// One element as a backend packs it.
#[derive(Debug, Clone, Copy, PartialEq)]
#[non_exhaustive]
pub struct ElementNow {
    /// Where it is at the picture's moment, m.
    pub position: [f32; 3],
    /// m/s.
    pub velocity: [f32; 3],
    /// Radius, half width or scale, m.
    pub size: f32,
    /// Age over life; outside 0..1 it is not there.
    pub age: f32,
    /// Key of its random numbers.
    pub id: u32,
    /// Turn about y, then tilt, radians; none where its random numbers say.
    pub turn: Option<[f32; 2]>,
    /// Offsets of a ribbon's middle control point and tip, m; none where it stands by its turn.
    pub curve: Option<[[f32; 3]; 2]>,
    /// Tint, 0 to 1; none where its random numbers say.
    pub tint: Option<f32>,
    /// Length along which it is bent, m; none where it is not.
    pub length: Option<f32>,
}

impl<'a> Instances<'a> {
    /// All elements of a family's columns, `behind` seconds before their last step: `(1 - alpha) * dt` for a
    /// [`Tick::alpha`](frolic_core::Tick).
    pub fn of(columns: &'a impl Posed, behind: f32) -> Self {
        Self { behind, ..Self::raw(columns.poses()) }
    }

    /// Elements that stand like this, `behind` seconds before their last step.
    ///
    /// # Errors
    /// When columns differ in length, or are longer than a draw list can count (2^32 - 1).
    pub fn posed(poses: Poses<'a>, behind: f32) -> Result<Self, SpecError> {
        let instances = Self { behind, ..Self::raw(poses) };
        poses.check()?;
        if u32::try_from(instances.count).is_err() {
            let problem = format!("{} elements", instances.count);
            return Err(SpecError::new("position", problem, "split them into several populations"));
        }
        Ok(instances)
    }

    /// Instances at these positions, m: x, y and z columns of one length.
    ///
    /// # Errors
    /// When the columns differ in length, or are longer than a draw list can count (2^32 - 1).
    pub fn at(position: [&'a [f32]; 3]) -> Result<Self, SpecError> {
        Self::posed(Poses::at(position), 0.0)
    }

    fn raw(poses: Poses<'a>) -> Self {
        Self {
            count: poses.position[0].len(),
            poses,
            sprites: &[],
            parts: None,
            groups: None,
            behind: 0.0,
            resident: None,
        }
    }

    /// A population that lives on a device, drawn `behind` seconds before its last step. Only that device's backend can draw it; for
    /// others it is empty.
    pub fn on_device(resident: Resident, behind: f32) -> Self {
        Self { resident: Some(resident), behind, ..Self::raw(Poses::default()) }
    }

    /// How they stand.
    pub fn poses(&self) -> &Poses<'a> {
        &self.poses
    }

    /// Its stretches with bounds, if it is in parts.
    pub fn parts(&self) -> Option<&'a [Part]> {
        self.parts
    }

    /// Where it lives, if on a device.
    #[inline]
    pub fn resident(&self) -> Option<Resident> {
        self.resident
    }

    /// How long before the columns' state the picture is taken, s.
    pub fn behind(&self) -> f32 {
        self.behind
    }

    /// The sprites, where it is made of such.
    pub fn as_sprites(&self) -> &'a [Sprite] {
        self.sprites
    }

    /// One element, for a backend that packs it. `None` beyond the last, and of sprites.
    #[inline]
    pub fn element(&self, nth: usize) -> Option<ElementNow> {
        let poses = &self.poses;
        if nth >= poses.position[0].len() {
            return None;
        }
        Some(ElementNow {
            position: self.place(nth),
            velocity: poses.velocity.map_or([0.0; 3], |[x, y, z]| [x[nth], y[nth], z[nth]]),
            size: self.size(nth),
            age: self.age(nth),
            id: self.id(nth),
            turn: poses.turn.map(|[turn, tilt]| [turn[nth], tilt[nth]]).or_else(|| {
                let [_, _, _, turn, ..] = poses.bend?;
                Some([turn[nth], 0.0])
            }),
            curve: self.curve_of(nth, 1.0).map(|curve| curve.map(Into::into)),
            tint: poses.tint.map(|tint| tint[nth]),
            length: poses.bend.map(|[length, ..]| length[nth]),
        })
    }

    /// Sprites, in drawing order where depth does not decide.
    pub fn sprites(sprites: &'a [Sprite]) -> Self {
        Self { count: sprites.len(), sprites, ..Self::raw(Poses::default()) }
    }

    /// The same with a column more.
    fn with(mut self, change: impl FnOnce(&mut Poses<'a>)) -> Result<Self, SpecError> {
        change(&mut self.poses);
        self.poses.check()?;
        Ok(self)
    }

    /// The same with velocities, m/s.
    ///
    /// # Errors
    /// When a column has another length, as all that follow.
    pub fn moving(self, velocity: [&'a [f32]; 3]) -> Result<Self, SpecError> {
        self.with(|poses| poses.velocity = Some(velocity))
    }

    /// The same with ages and ages at death, s.
    ///
    /// # Errors
    /// When a column has another length.
    pub fn ageing(self, age: &'a [f32], life: &'a [f32]) -> Result<Self, SpecError> {
        self.with(|poses| poses.age = Some([age, life]))
    }

    /// The same with sizes, m: radius of discs and cards, half width of a ribbon's root, scale of a mesh.
    ///
    /// # Errors
    /// When the column has another length.
    pub fn sized(self, size: &'a [f32]) -> Result<Self, SpecError> {
        self.with(|poses| poses.size = Some(size))
    }

    /// The same with a turn about y, then a tilt about the turned x axis, radians.
    ///
    /// # Errors
    /// When a column has another length.
    pub fn turned(self, turn: &'a [f32], tilt: &'a [f32]) -> Result<Self, SpecError> {
        self.with(|poses| poses.turn = Some([turn, tilt]))
    }

    /// The same with ribbons bent: offsets of the middle control point and of the tip from the root, m. The ribbon is the quadratic curve
    /// of the three.
    ///
    /// # Errors
    /// When a column has another length.
    pub fn curved(self, middle: [&'a [f32]; 3], tip: [&'a [f32]; 3]) -> Result<Self, SpecError> {
        let ([a, b, c], [d, e, f]) = (middle, tip);
        self.with(|poses| poses.curve = Some([a, b, c, d, e, f]))
    }

    /// The same with keys of random numbers; else the index is the key.
    ///
    /// # Errors
    /// When the column has another length.
    pub fn keyed(self, id: &'a [u32]) -> Result<Self, SpecError> {
        self.with(|poses| poses.id = Some(id))
    }

    /// The same in parts with a box around each, so that those out of view are skipped together. What is in none of them is not drawn.
    ///
    /// # Errors
    /// When parts overlap, do not come in order or reach beyond the last element.
    pub fn in_parts(self, parts: &'a [Part]) -> Result<Self, SpecError> {
        let mut end = 0;
        for part in parts {
            let (first, after) = (u64::from(part.first), u64::from(part.first) + u64::from(part.count));
            if first < end || after > self.count as u64 {
                let problem = format!("one of {first} to {after} after {end}, of {} elements", self.count);
                return Err(SpecError::new("parts", problem, "give parts in order, side by side"));
            }
            end = after;
        }
        Ok(Self { parts: Some(parts), ..self })
    }

    /// The same with tints 0 to 1, along the look's list of them.
    ///
    /// # Errors
    /// When the column has another length.
    pub fn tinted(self, tint: &'a [f32]) -> Result<Self, SpecError> {
        self.with(|poses| poses.tint = Some(tint))
    }

    /// The same with squares that are drawn as groups, from pictures of their layouts; looks that let through what is behind draw none.
    pub fn grouped(self, groups: Groups<'a>) -> Self {
        Self { groups: Some(groups), ..self }
    }

    /// How many.
    pub fn len(&self) -> usize {
        self.count
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.count == 0
    }

    /// Where an element is at the picture's moment, m.
    #[inline(always)]
    pub(crate) fn place(&self, element: usize) -> [f32; 3] {
        if !self.sprites.is_empty() {
            return self.sprites[element].position;
        }
        let [x, y, z] = self.poses.position;
        let mut at = [x[element], y[element], z[element]];
        if let Some([vx, vy, vz]) = self.poses.velocity {
            at[0] -= vx[element] * self.behind;
            at[1] -= vy[element] * self.behind;
            at[2] -= vz[element] * self.behind;
        }
        at
    }

    /// Offsets of a curved ribbon's control point and tip, m; of a blade this share of its length.
    #[inline(always)]
    pub(crate) fn curve_of(&self, nth: usize, share: f32) -> Option<[Vec3; 2]> {
        if let Some([length, lean_x, lean_z, _, rate_x, rate_z]) = self.poses.bend {
            let lean = [lean_x[nth] - rate_x[nth] * self.behind, lean_z[nth] - rate_z[nth] * self.behind];
            return Some(blade_curve(length[nth] * share, lean));
        }
        let [a, b, c, d, e, f] = self.poses.curve?;
        Some([Vec3::new(a[nth], b[nth], c[nth]), Vec3::new(d[nth], e[nth], f[nth])])
    }

    /// Age over life at the picture's moment; outside 0..1 it is not there.
    #[inline(always)]
    pub(crate) fn age(&self, element: usize) -> f32 {
        self.poses.age.map_or(0.0, |[age, life]| (age[element] - self.behind) / life[element])
    }

    #[inline(always)]
    pub(crate) fn size(&self, element: usize) -> f32 {
        self.poses.size.map_or(1.0, |size| size[element])
    }

    #[inline(always)]
    pub(crate) fn id(&self, element: usize) -> u32 {
        self.poses.id.map_or(element as u32, |id| id[element])
    }
}
