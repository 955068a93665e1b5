//! Instances of one population: borrowed columns.

use frolic_core::{Group, Layouts, Posed, Poses, SpecError, blade_curve};

use glam::Vec3;

use crate::bounds::Bounds;
use crate::sprite::Sprite;

/// A range of elements with a bounding box.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Part {
    /// First element.
    pub first: u32,
    /// Number of elements.
    pub count: u32,
    /// Bounding box of everything that they draw.
    pub bounds: Bounds,
}

/// Elements in each part of [`chunk_parts`]. Their columns fit the first-level cache.
pub const CHUNK: usize = 1024;

/// Divides positions into parts of [`CHUNK`] elements, for [`Instances::in_parts`]. Boxes are enlarged by `margin` metres on all sides. The
/// columns have one length.
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

/// A square of ground whose elements are drawn as one group.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct PlacedGroup {
    /// Centre of the square on the ground, in metres.
    pub middle: [f32; 3],
    /// Layout and variant that the square shows.
    pub group: Group,
}

/// Groups of elements of one kind.
#[derive(Debug, Clone, Copy)]
pub struct Groups<'a> {
    /// Layouts that the groups show.
    pub layouts: &'a dyn Layouts,
    /// Index of the kind.
    pub kind: usize,
    /// Their squares.
    pub placed: &'a [PlacedGroup],
    /// Distance by which drawn elements reach beyond their positions, in metres.
    pub margin: f32,
}

/// A device-resident population. Its columns and its live count are on the device.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct DeviceKey {
    /// Key that the device's backend gave it.
    pub key: u64,
    /// Capacity: most elements alive at once.
    pub most: u32,
}

/// Instances of one population: borrowed columns of one length.
///
/// [`Poses`] holds the columns: elements are points, turned, curved, or bent along their length. Only positions are required.
#[derive(Debug, Clone, Copy)]
pub struct Instances<'a> {
    pub(crate) count: usize,
    /// Their columns.
    pub(crate) poses: Poses<'a>,
    pub(crate) sprites: &'a [Sprite],
    /// Ranges that are drawn if their box is in view; elements in no range are not drawn. Without parts, all elements are candidates.
    pub(crate) parts: Option<&'a [Part]>,
    /// Squares that are drawn as groups, in addition to the elements.
    pub(crate) groups: Option<Groups<'a>>,
    /// Interpolation lag: time between the frame and the columns' state, in seconds.
    pub(crate) lag: f32,
    /// The device-resident population, if the columns are on a device.
    pub(crate) device: Option<DeviceKey>,
}

/// Attributes of one element, for a backend that packs them.
#[derive(Debug, Clone, Copy, PartialEq)]
#[non_exhaustive]
pub struct ElementNow {
    /// Position at the frame's time, in metres.
    pub position: [f32; 3],
    /// Velocity in metres a second; of elements along their heading that at the frame's time.
    pub velocity: [f32; 3],
    /// Bank in radians, of elements along their heading. `None` of others.
    pub bank: Option<f32>,
    /// Way gone in metres. `None` where it is not told.
    pub way: Option<f32>,
    /// Radius, half width or scale, in metres.
    pub size: f32,
    /// Age over life. Elements outside 0..1 are not drawn.
    pub age: f32,
    /// Key of the element's random numbers.
    pub id: u32,
    /// Turn about y, then tilt, in radians. `None`: from its random numbers.
    pub turn: Option<[f32; 2]>,
    /// Offsets of a ribbon's middle control point and tip from its root, in metres. `None`: straight, by its turn.
    pub curve: Option<[[f32; 3]; 2]>,
    /// Tint, 0 to 1. `None`: from its random numbers.
    pub tint: Option<f32>,
    /// Length of a bent blade in metres. `None` of other elements.
    pub length: Option<f32>,
}

impl<'a> Instances<'a> {
    /// All elements of a family, drawn `lag` seconds before their last step: `(1 - alpha) * dt` for a
    /// [`Tick::alpha`](frolic_core::Tick).
    pub fn of(columns: &'a impl Posed, lag: f32) -> Self {
        Self { lag, ..Self::raw(columns.poses()) }
    }

    /// Elements with these columns, drawn `lag` seconds before their last step.
    ///
    /// # Errors
    /// When columns differ in length, or are longer than a draw list can count (2^32 - 1).
    pub fn posed(poses: Poses<'a>, lag: f32) -> Result<Self, SpecError> {
        let instances = Self { lag, ..Self::raw(poses) };
        poses.check()?;
        if u32::try_from(instances.count).is_err() {
            let problem = format!("{} elements", instances.count);
            return Err(SpecError::new("position", problem, "split them into several populations"));
        }
        Ok(instances)
    }

    /// Instances at these positions in metres: x, y and z columns of one length.
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
            lag: 0.0,
            device: None,
        }
    }

    /// A device-resident population, drawn `lag` seconds before its last step. Other backends than that device's draw nothing.
    pub fn on_device(device: DeviceKey, lag: f32) -> Self {
        Self { device: Some(device), lag, ..Self::raw(Poses::default()) }
    }

    /// The columns.
    pub fn poses(&self) -> &Poses<'a> {
        &self.poses
    }

    /// Ranges with bounds, if there are any.
    pub fn parts(&self) -> Option<&'a [Part]> {
        self.parts
    }

    /// The device-resident population, if the columns are on a device.
    #[inline]
    pub fn device_key(&self) -> Option<DeviceKey> {
        self.device
    }

    /// Interpolation lag: time between the frame and the columns' state, in seconds.
    pub fn lag(&self) -> f32 {
        self.lag
    }

    /// The sprites; empty for elements in columns.
    pub fn as_sprites(&self) -> &'a [Sprite] {
        self.sprites
    }

    /// Attributes of one element, for a backend that packs them. `None` beyond the last, and for sprites.
    #[inline]
    pub fn element(&self, nth: usize) -> Option<ElementNow> {
        let poses = &self.poses;
        if nth >= poses.position[0].len() {
            return None;
        }
        Some(ElementNow {
            position: self.place(nth),
            velocity: self.velocity(nth),
            bank: poses.heading.map(|heading| heading.bank.map_or(0.0, |bank| bank[nth])),
            way: poses.heading.and_then(|heading| heading.way).map(|_| self.way(nth)),
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

    /// Sprites, in drawing order where depths do not decide.
    pub fn sprites(sprites: &'a [Sprite]) -> Self {
        Self { count: sprites.len(), sprites, ..Self::raw(Poses::default()) }
    }

    /// Adds columns.
    fn with(mut self, change: impl FnOnce(&mut Poses<'a>)) -> Result<Self, SpecError> {
        change(&mut self.poses);
        self.poses.check()?;
        Ok(self)
    }

    /// Adds velocities in metres a second.
    ///
    /// # Errors
    /// When a column has another length.
    pub fn moving(self, velocity: [&'a [f32]; 3]) -> Result<Self, SpecError> {
        self.with(|poses| poses.velocity = Some(velocity))
    }

    /// Adds ages and ages at death in seconds.
    ///
    /// # Errors
    /// When a column has another length.
    pub fn ageing(self, age: &'a [f32], life: &'a [f32]) -> Result<Self, SpecError> {
        self.with(|poses| poses.age = Some([age, life]))
    }

    /// Adds sizes in metres: radius of discs and billboards, half width of a ribbon's root, scale of a mesh.
    ///
    /// # Errors
    /// When the column has another length.
    pub fn sized(self, size: &'a [f32]) -> Result<Self, SpecError> {
        self.with(|poses| poses.size = Some(size))
    }

    /// Adds a turn about y, then a tilt about the turned x axis, in radians.
    ///
    /// # Errors
    /// When a column has another length.
    pub fn turned(self, turn: &'a [f32], tilt: &'a [f32]) -> Result<Self, SpecError> {
        self.with(|poses| poses.turn = Some([turn, tilt]))
    }

    /// Adds curves for ribbons: offsets of the middle control point and of the tip from the root, in metres. The ribbon follows the quadratic
    /// Bézier curve of the three points.
    ///
    /// # Errors
    /// When a column has another length.
    pub fn curved(self, middle: [&'a [f32]; 3], tip: [&'a [f32]; 3]) -> Result<Self, SpecError> {
        let ([a, b, c], [d, e, f]) = (middle, tip);
        self.with(|poses| poses.curve = Some([a, b, c, d, e, f]))
    }

    /// Adds keys of random numbers. Without them the index is the key.
    ///
    /// # Errors
    /// When the column has another length.
    pub fn keyed(self, id: &'a [u32]) -> Result<Self, SpecError> {
        self.with(|poses| poses.id = Some(id))
    }

    /// Divides the elements into parts with bounds, so that parts out of view are skipped whole. Elements in no part are not drawn.
    ///
    /// # Errors
    /// When parts overlap, do not come in order or reach beyond the last element.
    pub fn in_parts(self, parts: &'a [Part]) -> Result<Self, SpecError> {
        let mut end = 0;
        for part in parts {
            let (first, after) = (u64::from(part.first), u64::from(part.first) + u64::from(part.count));
            if first < end || after > self.count as u64 {
                let problem = format!("one of {first} to {after} after {end}, of {} elements", self.count);
                return Err(SpecError::new("parts", problem, "give parts in order and without gaps"));
            }
            end = after;
        }
        Ok(Self { parts: Some(parts), ..self })
    }

    /// Adds tints, 0 to 1 along the look's list of tints.
    ///
    /// # Errors
    /// When the column has another length.
    pub fn tinted(self, tint: &'a [f32]) -> Result<Self, SpecError> {
        self.with(|poses| poses.tint = Some(tint))
    }

    /// Adds squares that are drawn as groups, from images of their layouts. Transparent looks draw no groups.
    pub fn grouped(self, groups: Groups<'a>) -> Self {
        Self { groups: Some(groups), ..self }
    }

    /// Number of elements.
    pub fn len(&self) -> usize {
        self.count
    }

    /// Whether there are no elements.
    pub fn is_empty(&self) -> bool {
        self.count == 0
    }

    /// Position of an element at the frame's time, in metres.
    #[inline(always)]
    pub(crate) fn place(&self, element: usize) -> [f32; 3] {
        if !self.sprites.is_empty() {
            return self.sprites[element].position;
        }
        let [x, y, z] = self.poses.position;
        let mut at = [x[element], y[element], z[element]];
        if let Some([vx, vy, vz]) = self.poses.velocity {
            at[0] -= vx[element] * self.lag;
            at[1] -= vy[element] * self.lag;
            at[2] -= vz[element] * self.lag;
        }
        at
    }

    /// Velocity of an element in metres a second; of those along their heading that at the frame's time.
    #[inline(always)]
    pub(crate) fn velocity(&self, nth: usize) -> [f32; 3] {
        let Some([x, y, z]) = self.poses.velocity else { return [0.0; 3] };
        let now = [x[nth], y[nth], z[nth]];
        self.poses.heading.map_or(now, |heading| heading.velocity(nth, now, self.lag))
    }

    /// Way that an element had gone at the frame's time, in metres.
    #[inline(always)]
    pub(crate) fn way(&self, nth: usize) -> f32 {
        let Some(way) = self.poses.heading.and_then(|heading| heading.way) else { return 0.0 };
        let [x, y, z] = self.poses.velocity.map_or([0.0; 3], |[x, y, z]| [x[nth], y[nth], z[nth]]);
        way[nth] - (x * x + y * y + z * z).sqrt() * self.lag
    }

    /// Offsets of a curved ribbon's control point and tip, in metres; of a bent blade, with this share of its length.
    #[inline(always)]
    pub(crate) fn curve_of(&self, nth: usize, share: f32) -> Option<[Vec3; 2]> {
        if let Some([length, lean_x, lean_z, _, rate_x, rate_z]) = self.poses.bend {
            let lean = [lean_x[nth] - rate_x[nth] * self.lag, lean_z[nth] - rate_z[nth] * self.lag];
            return Some(blade_curve(length[nth] * share, lean));
        }
        let [a, b, c, d, e, f] = self.poses.curve?;
        Some([Vec3::new(a[nth], b[nth], c[nth]), Vec3::new(d[nth], e[nth], f[nth])])
    }

    /// Age over life at the frame's time. Elements outside 0..1 are not drawn.
    #[inline(always)]
    pub(crate) fn age(&self, element: usize) -> f32 {
        self.poses.age.map_or(0.0, |[age, life]| (age[element] - self.lag) / life[element])
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
