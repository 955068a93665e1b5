//! Births: when they are due within a step, and the attributes of newborns. [`Emitters::due`] and [`EmitterAxes`] serve device-resident populations
//! too.

use glam::{Mat3, Vec3};
use serde::{Deserialize, Serialize};

use super::spec::{EmitterSpec, ParticleSpec};
use crate::assets::Assets;
use crate::foundations::error::SpecError;
use crate::foundations::paths::Path;
use crate::foundations::random::Draws;
use crate::foundations::span::Span;
use crate::foundations::state::SavedState;
use crate::placement::{AimSpec, Basis, ShapeSpec, Source};
use crate::world::bodies::BodyRow;
use crate::world::endless::Spots;
use crate::world::events::{AimBy, EventRecord, EventSpec};

/// What emitters carry from step to step.
#[derive(Debug, Clone)]
pub struct Emitters {
    states: Vec<State>,
    newborn: Vec<Newborn>,
    /// Centre of scattered places: x and z, in metres.
    middle: [f32; 2],
}

#[derive(Debug, Clone)]
struct State {
    /// Fraction of an element that the stream carries over to the next step.
    owed: f64,
    /// Number of elements requested for the next step.
    asked: u64,
    path: Option<Path>,
    /// Places that each emit as the emitter does.
    spots: Option<Spots>,
    /// Position that it was moved to: before and now.
    put: Option<[Vec3; 2]>,
    heading: Option<Vec3>,
}

/// Saved state of an emitter.
#[derive(Debug, Serialize, Deserialize)]
struct EmitterState {
    owed: f64,
    asked: u64,
    put: Option<[[f32; 3]; 2]>,
    heading: Option<[f32; 3]>,
    /// Cells of its scattered places.
    cells: Option<Vec<[i32; 2]>>,
}

/// Maximum number of bursts of one emitter in a step; further ones join the last.
pub const MOST_BURSTS: u32 = 4;

/// Births of one emitter that are due in a step.
#[derive(Debug, Clone, Copy, PartialEq)]
#[non_exhaustive]
pub struct Due {
    /// Index of the emitter.
    pub emitter: usize,
    /// Number of births.
    pub count: u64,
    /// Age of the first newborn at the end of the step, in seconds.
    pub first_age: f64,
    /// Difference of age from each newborn to the next, in seconds.
    pub age_step: f64,
    /// Position of the emitter at the end of the step, in metres.
    pub position: Vec3,
    /// Velocity of the emitter within the step, in m/s.
    pub velocity: Vec3,
    /// Orientation of the emitter: columns forward, up, right.
    pub turn: Option<Mat3>,
    before: f64,
    rate: f64,
    dt: f64,
}

impl Due {
    /// Age of the `nth` newborn at the end of the step, in seconds.
    pub fn age(&self, nth: u64) -> f64 {
        if self.age_step == 0.0 {
            return self.first_age;
        }
        (self.dt - ((nth + 1) as f64 - self.before) / self.rate).clamp(0.0, self.dt)
    }
}

impl Emitters {
    /// Emitters before their first step.
    ///
    /// # Errors
    /// An asset that an emitter names is missing or of another kind.
    pub fn new(specs: &[EmitterSpec], assets: &Assets) -> Result<Self, SpecError> {
        let (mut states, mut newborn) = (Vec::new(), Vec::new());
        for (nth, spec) in specs.iter().enumerate() {
            let under = |error: SpecError| error.under(&format!("emitter.{nth}"));
            let path = spec.path.as_ref().map(Path::new);
            let spots = spec.scatter.as_ref().map(Spots::new).transpose();
            let spots = spots.map_err(|error| under(error.under("scatter")))?;
            states.push(State { owed: 0.0, asked: 0, path, spots, put: None, heading: None });
            let made = Newborn::new(&spec.shape, &spec.aim, spec.speed, spec.keep_velocity, assets);
            newborn.push(made.map_err(under)?);
        }
        Ok(Self { states, newborn, middle: [0.0; 2] })
    }

    /// Takes over changed emitters. Each one continues the emitter at its index: the fraction that it owes, requested bursts, and a position that it
    /// was moved to.
    pub fn adopt(&mut self, new: Self, before: &[EmitterSpec], now: &[EmitterSpec], seed: u32) {
        let old = std::mem::replace(self, new);
        for (nth, (state, was)) in self.states.iter_mut().zip(old.states).enumerate() {
            (state.owed, state.asked) = (was.owed, was.asked);
            // A changed path or position is where it goes on from.
            if before[nth].path == now[nth].path && before[nth].position == now[nth].position {
                (state.put, state.heading) = (was.put, was.heading);
            }
            if before[nth].scatter == now[nth].scatter {
                state.spots = was.spots;
            }
        }
        self.recentre(old.middle, seed);
    }

    /// What they carry from step to step.
    pub(super) fn save(&self) -> SavedState {
        let each = |state: &State| EmitterState {
            owed: state.owed,
            asked: state.asked,
            put: state.put.map(|places| places.map(<[f32; 3]>::from)),
            heading: state.heading.map(<[f32; 3]>::from),
            cells: state.spots.as_ref().map(|spots| spots.cells().to_vec()),
        };
        let mut state = SavedState::default();
        state.put("each", &self.states.iter().map(each).collect::<Vec<_>>());
        state.put("middle", &self.middle);
        state
    }

    /// Takes over what emitters of the same spec saved.
    pub(super) fn restore(&mut self, state: &SavedState, seed: u32) -> Result<(), SpecError> {
        let each: Vec<EmitterState> = state.list("each", self.states.len())?;
        self.middle = state.value("middle")?;
        for (nth, (emitter, state)) in (0u32..).zip(self.states.iter_mut().zip(each)) {
            // A stream owes less than one element.
            emitter.owed = if (0.0..=1.0).contains(&state.owed) { state.owed } else { 0.0 };
            emitter.asked = state.asked;
            emitter.put = state.put.map(|places| places.map(Vec3::from));
            emitter.heading = state.heading.map(Vec3::from);
            if let (Some(spots), Some(cells)) = (&mut emitter.spots, state.cells) {
                spots.restore(cells, spot_seed(seed, nth))?;
            }
        }
        Ok(())
    }

    /// Requests elements of an emitter in the next step. Returns false if there is no such emitter.
    pub fn ask(&mut self, nth: usize, count: u32) -> bool {
        let Some(emitter) = self.states.get_mut(nth) else { return false };
        emitter.asked = emitter.asked.saturating_add(u64::from(count));
        true
    }

    /// Moves an emitter to a position, in metres, by the end of the next step, with `heading` as its forward direction. It leaves its path.
    pub fn put(&mut self, nth: usize, position: Vec3, heading: Option<Vec3>) -> bool {
        let Some(emitter) = self.states.get_mut(nth) else { return false };
        if !position.is_finite() {
            return true;
        }
        let before = emitter.put.map_or(position, |[before, _]| before);
        emitter.put = Some([before, position]);
        emitter.heading = heading.and_then(Vec3::try_normalize);
        true
    }

    /// Moves the centre of scattered places: x and z, in metres. Returns whether any appeared or disappeared.
    pub fn recentre(&mut self, middle: [f32; 2], seed: u32) -> bool {
        let mut changed = false;
        self.middle = middle;
        for (nth, emitter) in (0u32..).zip(&mut self.states) {
            if let Some(spots) = &mut emitter.spots {
                changed |= spots.follow(middle, spot_seed(seed, nth));
            }
        }
        changed
    }

    /// Calls `each` for the births that are due in the step from `time` to `time + dt`, in seconds: streams and bursts, emitter by emitter.
    pub fn due(&mut self, specs: &[EmitterSpec], time: f64, dt: f32, mut each: impl FnMut(Due, Births<'_>)) {
        let Self { states, newborn, .. } = self;
        due_of(states, specs, time, dt, |due, spots| {
            let newborn = &newborn[due.emitter];
            each(due, Births { newborn, spots });
        });
    }

    /// Calls `born` for each newborn of the step from `time` to `time + dt`, for at most `room` of them, numbered from `first_id`. Returns the
    /// number that was due.
    #[expect(
        clippy::too_many_arguments,
        reason = "plain slices, so that the compiler knows that they do not overlap"
    )]
    pub(super) fn emit(
        &mut self,
        spec: &ParticleSpec,
        seed: u32,
        time: f64,
        dt: f32,
        first_id: u32,
        room: usize,
        mut born: impl FnMut(&BodyRow),
    ) -> u64 {
        let mut due = 0u64;
        self.due(&spec.emitter, time, dt, |now, births| {
            let fits = (room as u64).saturating_sub(due).min(now.count);
            births.rows(spec, seed, &now, first_id.wrapping_add(due as u32), fits).for_each(|row| born(&row));
            due += now.count;
        });
        due
    }
}

/// Makes the newborns of births that are due.
#[derive(Debug, Clone, Copy)]
pub struct Births<'a> {
    newborn: &'a Newborn,
    /// Places that the emitter is scattered over.
    spots: &'a [[f32; 3]],
}

impl<'a> Births<'a> {
    /// The first `count` newborns that are due, numbered from `first_id`.
    ///
    /// Each row is a newborn at its moment of birth. Its age is the rest of the step, for which it has yet to move, so that a stream is even at any
    /// step rate.
    pub fn rows(
        self,
        spec: &'a ParticleSpec,
        seed: u32,
        due: &Due,
        first_id: u32,
        count: u64,
    ) -> impl Iterator<Item = BodyRow> + 'a {
        let due = *due;
        (0..count.min(due.count)).map(move |nth| {
            let id = first_id.wrapping_add(nth as u32);
            let age = due.age(nth) as f32;
            // Rounding must not decide in which step a newborn starts to move: CPU and device would differ.
            let age = if f64::from(age) < 1e-4 * due.dt { 0.0 } else { age };
            let order = (due.age_step == 0.0).then_some((nth, due.count));
            // Places take turns.
            let spot =
                if self.spots.is_empty() { [0.0; 3] } else { self.spots[id as usize % self.spots.len()] };
            let parent = Parent {
                position: due.position + Vec3::from(spot) - due.velocity * age,
                velocity: due.velocity,
                turn: due.turn,
            };
            self.newborn.row(spec, Draws { seed, id }, age, order, &parent)
        })
    }
}

impl State {
    /// Position at the end of a step, way within the step, and orientation.
    fn advance(&mut self, spec: &EmitterSpec, time: f64, dt: f64) -> (Vec3, Vec3, Option<Mat3>) {
        if let Some([before, now]) = &mut self.put {
            let moved = *now - *before;
            *before = *now;
            return (*now, moved, self.heading.map(turned));
        }
        let base = Vec3::from(spec.position);
        let Some(path) = &self.path else { return (base, Vec3::ZERO, None) };
        let ((from, _), (to, ahead)) = (path.at(time), path.at(time + dt));
        (base + to, to - from, path.turns.then(|| turned(ahead)))
    }
}

/// Rotation with the columns forward, up and right; up is as close to the vertical as possible.
fn turned(forward: Vec3) -> Mat3 {
    let forward = forward.normalize_or(Vec3::X);
    let right = forward.cross(Vec3::Y).normalize_or(Vec3::Z);
    Mat3::from_cols(forward, right.cross(forward), right)
}

/// Separates the draws of emitter places from all others.
const SPOT_SEED: u32 = 0x51a7_7e3d;

/// Seed of the places of an emitter.
fn spot_seed(seed: u32, nth: u32) -> u32 {
    seed ^ SPOT_SEED.wrapping_mul(nth + 1)
}

fn due_of(
    states: &mut [State],
    specs: &[EmitterSpec],
    time: f64,
    dt: f32,
    mut each: impl FnMut(Due, &[[f32; 3]]),
) {
    let dt = f64::from(dt);
    for (nth, (spec, emitter)) in specs.iter().zip(states).enumerate() {
        let (position, moved, turn) = emitter.advance(spec, time, dt);
        let mean = spec
            .rate_over_time
            .as_ref()
            .map_or(1.0, |course| (course.sum_to(time + dt) - course.sum_to(time)).max(0.0) / dt);
        let way = f64::from(moved.length());
        let asked = std::mem::take(&mut emitter.asked);
        let spots = emitter.spots.as_ref().map(Spots::all);
        let places = spots.map_or(1, |spots| spots.len() as u64);
        let spots = spots.unwrap_or_default();
        let rate = (f64::from(spec.rate) * mean + f64::from(spec.per_metre) * way / dt) * places as f64;
        let before = emitter.owed;
        let total = before + rate * dt;
        let count = total.floor();
        emitter.owed = total - count;
        let velocity = moved / dt as f32;
        let mut due = |count: u64, first_age: f64, age_step: f64| {
            if count > 0 {
                let emitter = nth;
                let due =
                    Due { emitter, count, first_age, age_step, position, velocity, turn, before, rate, dt };
                each(due, spots);
            }
        };
        due(count as u64, dt - (1.0 - before) / rate, 1.0 / rate);
        due(if places > 0 { asked } else { 0 }, 0.0, 0.0);
        if let Some(burst) = &spec.burst {
            let (at, every) = (f64::from(burst.at), burst.every.map(f64::from));
            let times = every.map_or(1.0, |_| burst.times.map_or(f64::INFINITY, f64::from));
            // The first burst within the step, and the number before its end.
            let index = |moment: f64| every.map_or(0.0, |every| ((moment - at) / every).ceil()).max(0.0);
            let first = index(time);
            let moment = |k: f64| at + k * every.unwrap_or(0.0);
            let mut k = first;
            let mut given = 0;
            while k < times && (time..time + dt).contains(&moment(k)) {
                given += 1;
                let rest =
                    if given == MOST_BURSTS { (index(time + dt).min(times) - k).max(1.0) } else { 1.0 };
                due(u64::from(burst.count) * places * rest as u64, time + dt - moment(k), 0.0);
                if given == MOST_BURSTS || every.is_none() {
                    break;
                }
                k += 1.0;
            }
        }
    }
}

/// Axes of the shape and aim of an emitter: three perpendicular directions each, the third the specified one.
#[derive(Debug, Clone, Copy, PartialEq)]
#[non_exhaustive]
pub struct EmitterAxes {
    /// Of its aim.
    pub aim: [Vec3; 3],
    /// Of its shape.
    pub face: [Vec3; 3],
    /// Cosine of the largest angle from the aim.
    pub cos_spread: f32,
    /// Cosine of the least angle from the aim.
    pub cos_hollow: f32,
    /// Of a flat fan: its middle and one side, and the least and the greatest angle, in turns.
    pub fan: Option<([Vec3; 2], [f32; 2])>,
}

impl EmitterAxes {
    /// Axes of an emitter whose shape needs no asset.
    pub fn of(emitter: &EmitterSpec) -> Self {
        Self::new(&emitter.shape, &emitter.aim)
    }

    /// Axes of an event that aims relative to the world.
    pub fn of_event(event: &EventSpec) -> Self {
        Self::new(&event.shape, &event.aim)
    }

    fn new(shape: &ShapeSpec, aims: &AimSpec) -> Self {
        let aim = Basis::around(aims.direction);
        let face = match *shape {
            ShapeSpec::Disc { normal, .. } | ShapeSpec::Ring { normal, .. } => Basis::around(normal),
            // As they are described, in the world.
            ShapeSpec::Box { .. } | ShapeSpec::Line { .. } => Basis { x: Vec3::X, y: Vec3::Y, z: Vec3::Z },
            _ => Basis::around([0.0, 1.0, 0.0]),
        };
        let fan = aims.fan.map(|normal| {
            let (middle, side) = fan_of(aim.z, normal.into());
            let [least, most] = [aims.hollow_degrees, aims.spread_degrees];
            ([middle, side], [least / 360.0, most / 360.0])
        });
        Self {
            aim: [aim.x, aim.y, aim.z],
            face: [face.x, face.y, face.z],
            fan,
            cos_spread: libm::cosf(aims.spread_degrees.to_radians()),
            cos_hollow: libm::cosf(aims.hollow_degrees.to_radians()),
        }
    }
}

/// The origin of a newborn: an emitter at that moment, or another element.
struct Parent {
    position: Vec3,
    velocity: Vec3,
    turn: Option<Mat3>,
}

/// Recipe for the newborns of an emitter or an event, with its directions prepared.
#[derive(Debug, Clone)]
pub(super) struct Newborn {
    source: Source,
    aim: AimSpec,
    axes: Basis,
    cos_spread: f32,
    cos_hollow: f32,
    speed: Span,
    keep_velocity: f32,
}

impl Newborn {
    fn new(
        shape: &ShapeSpec,
        aim: &AimSpec,
        speed: Span,
        keep_velocity: f32,
        assets: &Assets,
    ) -> Result<Self, SpecError> {
        Ok(Self {
            source: Source::new(shape, assets)?,
            aim: *aim,
            axes: Basis::around(aim.direction),
            cos_spread: libm::cosf(aim.spread_degrees.to_radians()),
            cos_hollow: libm::cosf(aim.hollow_degrees.to_radians()),
            speed,
            keep_velocity,
        })
    }

    /// Recipe for what an event starts.
    pub(super) fn of_event(event: &EventSpec, assets: &Assets) -> Result<Self, SpecError> {
        Self::new(&event.shape, &event.aim, event.speed, event.keep_velocity, assets)
    }

    /// The `nth` of `count` elements that an event starts.
    pub(super) fn child(
        &self,
        spec: &ParticleSpec,
        event: &EventSpec,
        happening: &EventRecord,
        draws: Draws,
        nth: u64,
        count: u64,
    ) -> BodyRow {
        let element = &happening.element;
        let velocity = Vec3::new(element.vx, element.vy, element.vz);
        let parent = Parent { position: Vec3::new(element.px, element.py, element.pz), velocity, turn: None };
        let axis = match event.aim_by {
            AimBy::World => None,
            AimBy::Velocity => Some(velocity.normalize_or(Vec3::Y)),
            AimBy::Normal => Some(Vec3::from(happening.normal).normalize_or(Vec3::Y)),
        };
        let mut row = match axis {
            None => self.row(spec, draws, 0.0, Some((nth, count)), &parent),
            Some(axis) => {
                let aim = AimSpec { direction: axis.to_array(), ..self.aim };
                let turned = Self { aim, axes: Basis::around(aim.direction), source: Source::POINT, ..*self };
                let (off, _) = self.source.place(draws);
                let parent = Parent { position: parent.position + off, ..parent };
                turned.row(spec, draws, 0.0, Some((nth, count)), &parent)
            }
        };
        if let Some(share) = event.size {
            let [_, size, _] = draws.draw(2);
            row.size = element.size * share.at(size);
        }
        if event.keep_look {
            row.key = element.key;
        }
        row
    }

    fn row(
        &self,
        spec: &ParticleSpec,
        draws: Draws,
        age: f32,
        order: Option<(u64, u64)>,
        parent: &Parent,
    ) -> BodyRow {
        let [u, v, speed] = draws.draw(1);
        let [life, size, _] = draws.draw(2);
        let (off, outwards) = self.source.place(draws);
        let axes = match outwards.filter(|_| self.aim.from_surface) {
            Some(outwards) => Basis::around(outwards.to_array()),
            None => self.axes,
        };
        let (u, v) = if self.aim.even { even(order, draws.id) } else { (u, v) };
        let way = match self.aim.fan {
            None => axes.cap(u, v, self.cos_hollow, self.cos_spread),
            Some(normal) => self.fan(axes.z, normal.into(), u),
        };
        let (off, way) = parent.turn.map_or((off, way), |turn| (turn * off, turn * way));
        let velocity = way * self.speed.at(speed) + parent.velocity * self.keep_velocity;
        let position = parent.position + off;
        BodyRow {
            px: position.x,
            py: position.y,
            pz: position.z,
            vx: velocity.x,
            vy: velocity.y,
            vz: velocity.z,
            age,
            life: spec.life.at(life),
            size: spec.size.at(size),
            id: draws.id,
            key: draws.id,
        }
    }

    /// Direction within a flat fan, at a share of its width.
    fn fan(&self, middle: Vec3, normal: Vec3, share: f32) -> Vec3 {
        let (middle, across) = fan_of(middle, normal);
        let side = share * 2.0 - 1.0;
        let (least, most) = (self.aim.hollow_degrees, self.aim.spread_degrees);
        let angle = (least + (most - least) * side.abs()).to_radians().copysign(side);
        let (sin, cos) = libm::sincosf(angle);
        middle * cos + across * sin
    }
}

/// Middle direction of a flat fan, and the direction towards which angles grow.
fn fan_of(middle: Vec3, normal: Vec3) -> (Vec3, Vec3) {
    let normal = normal.normalize_or(Vec3::Y);
    let middle = (middle - normal * middle.dot(normal)).normalize_or(middle);
    (middle, normal.cross(middle))
}

/// Two evenly spread shares: of a burst by its order, of a stream by the additive sequence of Roberts, "The Unreasonable Effectiveness of
/// Quasirandom Sequences" (2018).
fn even(order: Option<(u64, u64)>, id: u32) -> (f32, f32) {
    let golden = |nth: f64, step: f64| (nth * step).fract() as f32;
    match order {
        Some((nth, count)) => {
            (((nth as f64 + 0.5) / count.max(1) as f64) as f32, golden(nth as f64, 0.618_033_988_749_894_9))
        }
        None => {
            (golden(f64::from(id), 0.754_877_666_246_692_8), golden(f64::from(id), 0.569_840_290_998_053_3))
        }
    }
}
