//! One step of a device-resident population: its motion, colliders, fields and births. Read by `shaders/step_state.wgsl` and `step.wgsl`.

use frolic_core::backend::{
    ColliderKind, Contact, DeviceCollector, DeviceColliders, DeviceField, DeviceFieldKind, Due, EmitterAxes,
    GRID_ROW, GUST_SEED, HELD, MOST_FIELDS, MOST_SOLID, MOST_TOUCHES, MOST_WAVES, Motion, ON_EDGE, SKIN,
    Wave,
};
use frolic_core::{EmitterSpec, Falloff, ParticleSpec, ShapeSpec};
use frolic_draw::backend::TRAIL_FADE;
use glam::Vec3;

use crate::shared::apart::TALLY_WORDS;
use crate::shared::{constant, constants, flag, listed, records, shared};

shared! {
    /// An obstacle, or the shape of a field: see [`ColliderKind`].
    struct Collider {
        place: [f32; 4],
        more: [f32; 4],
        kind: u32,
        bounce: f32,
        friction: f32,
        contact: u32,
        /// Points or cells of its grid along each axis, and the row of the texture where the grid starts.
        grid: [u32; 3],
        grid_row: u32,
    }

    /// A collector: its centre at the end of the step, and the way it has moved.
    struct Collector {
        at: [f32; 3],
        radius: f32,
        moved: [f32; 3],
    }

    /// A field: see [`DeviceFieldKind`].
    struct Field {
        middle: [f32; 3],
        /// 1 / reach².
        per_reach: f32,
        a: [f32; 4],
        b: [f32; 3],
        kind: u32,
    }

    /// A wave of curl noise: turns a metre, and turns at the origin; sixteen times what the crest adds to the air.
    struct CurlWave {
        turns: [f32; 3],
        phase: f32,
        push: [f32; 3],
    }

    /// What all elements of a shard share in one step.
    struct Step {
        dt: f32,
        keep: f32,
        reach: f32,
        drag: f32,
        /// Acceleration that is the same everywhere; slower elements may come to rest.
        push: [f32; 3],
        rest_speed: f32,
        gust_origin: [f32; 3],
        gusts_per_metre: f32,
        /// Share of the steady wind that a gust adds.
        gust_along: [f32; 3],
        gust_strength: f32,
        gust_base: [f32; 3],
        attractor_strength: f32,
        attractor: [f32; 3],
        attractor_radius: f32,
        life: [f32; 2],
        size: [f32; 2],
        seed: u32,
        /// Births of the population.
        due: u32,
        emitters: u32,
        capacity: u32,
        /// Where the counters of the shard start; which of the two copies of the state is read.
        counters: u32,
        parity: u32,
        is_first: u32,
        is_last: u32,
        /// Vertices of an instance.
        span: u32,
        obstacles: u32,
        collectors: u32,
        /// A path up to this length crosses no obstacle.
        short_way: f32,
        /// Number of the first birth; index of the first newborn that the CPU has written.
        first_id: u32,
        first_row: u32,
        /// 1 if all obstacles are upright masks, 2 if all are masks on the ground.
        flat_masks: u32,
        /// Events of a birth.
        birth_events: u32,
        /// Positions of a trail, which of them is the newest, and whether this step adds one.
        trail_places: u32,
        trail_newest: u32,
        trail_adds: u32,
        fields: u32,
        /// Obstacles, then shapes of fields.
        solid: [Collider; MOST_SOLID],
        collector: [Collector; MOST_SOLID],
        wind: [f32; 3],
        drag_square: f32,
        gravity: [f32; 3],
        has_speed_limits: u32,
        /// 1 for each axis along which elements move.
        free: [f32; 3],
        least_speed: f32,
        most_speed: f32,
        /// `Motion::start`: shares of the velocity and of the acceleration before a birth.
        start_velocity: f32,
        start_push: f32,
        field: [Field; MOST_FIELDS],
        wave: [CurlWave; MOST_WAVES],
    }

    /// Where newborns start and in which direction: axes of the aim and of the shape. For the fan of an emitter, x is the side and z the
    /// middle, and angles in turns take the place of cosines.
    struct Aim {
        x: [f32; 3],
        /// Cosine of the outer edge.
        rim: f32,
        y: [f32; 3],
        speed_min: f32,
        z: [f32; 3],
        speed_max: f32,
        face_x: [f32; 3],
        size_x: f32,
        face_y: [f32; 3],
        size_y: f32,
        face_z: [f32; 3],
        size_z: f32,
    }

    /// The births of one emitter in a step.
    struct Emitter {
        first_age: f32,
        /// Difference in age between one newborn and the next.
        age_step: f32,
        shape: u32,
        is_fan: u32,
        /// Position at the end of the step; cosine of the inner edge of the aim.
        position: [f32; 3],
        inner: f32,
        velocity: [f32; 3],
        keep_velocity: f32,
        aim: Aim,
        /// Births of the emitters before this one.
        begins: u32,
        /// Index of its first newborn among those that the CPU has written.
        row: u32,
    }

    /// A newborn that the CPU has written.
    struct Newborn {
        place: [f32; 3],
        size: f32,
        velocity: [f32; 3],
        id: u32,
        age: f32,
        life: f32,
    }
}

records! {
    /// The first words of a trail: the element that leaves it.
    struct TrailHead {
        at: [f32; 3],
        size: f32,
        velocity: [f32; 3],
        id: u32,
        /// Age over lifetime.
        age: f32,
    }
}

constants! {
    /// Kinds of colliders, contacts, fields and shapes, and limits.
    step_tags {
        PLANE: u32 = ColliderKind::Plane as u32,
        SPHERE: u32 = ColliderKind::Sphere as u32,
        POST: u32 = ColliderKind::Post as u32,
        CAPSULE: u32 = ColliderKind::Capsule as u32,
        BOX: u32 = ColliderKind::Box as u32,
        GROUND: u32 = ColliderKind::Ground as u32,
        DISTANCES: u32 = ColliderKind::Distances as u32,
        MASK: u32 = ColliderKind::Mask as u32,
        POSTS: u32 = ColliderKind::Posts as u32,

        BOUNCES: u32 = Contact::Bounces as u32,
        STICKS: u32 = Contact::Sticks as u32,
        DIES: u32 = Contact::Dies as u32,
        PASSES: u32 = Contact::Passes as u32,

        FIELD_PUSH: u32 = DeviceFieldKind::Push as u32,
        FIELD_WIND: u32 = DeviceFieldKind::Wind as u32,
        FIELD_ATTRACT: u32 = DeviceFieldKind::Attract as u32,
        FIELD_VORTEX: u32 = DeviceFieldKind::Vortex as u32,
        FIELD_CURL: u32 = DeviceFieldKind::Curl as u32,
        FIELD_SHAPE: u32 = DeviceFieldKind::Shape as u32,

        FALLOFF_SQUARE: u32 = Falloff::Square as u32,
        FALLOFF_LINEAR: u32 = Falloff::Linear as u32,
        FALLOFF_NONE: u32 = Falloff::None as u32,
        FALLOFF_SPRING: u32 = Falloff::Spring as u32,

        /// Words in a row of the texture of grids.
        GRID_WIDTH: u32 = GRID_ROW as u32,
    }
}

constants! {
    /// Shapes that elements start in.
    shape_tags {
        SHAPE_POINT: u32 = 0,
        SHAPE_DISC: u32 = 1,
        SHAPE_SPHERE: u32 = 2,
        SHAPE_SPHERE_SURFACE: u32 = 3,
        SHAPE_BOX: u32 = 4,
        SHAPE_LINE: u32 = 5,
        SHAPE_RING: u32 = 6,
        /// The CPU has written the newborns of the emitter.
        SHAPE_WRITTEN: u32 = 7,
    }
}

constants! {
    /// Bits of `FEATURES`: what there is in the world. Pipelines are compiled for them, so that what is missing costs nothing.
    feature_tags {
        HAS_GUSTS: u32 = 1,
        HAS_ATTRACTOR: u32 = 1 << 1,
        HAS_OBSTACLES: u32 = 1 << 2,
        /// Fields are evaluated one by one.
        HAS_FIELDS: u32 = 1 << 3,
        HAS_SHAPES: u32 = 1 << 4,
        HAS_CONVEX: u32 = 1 << 5,
        HAS_GROUNDS: u32 = 1 << 6,
        HAS_DISTANCES: u32 = 1 << 7,
        HAS_MASKS: u32 = 1 << 8,
        /// All obstacles are grids that nothing sticks to or passes, so paths are marched.
        MARCHES: u32 = 1 << 9,
        HAS_POSTS: u32 = 1 << 10,
    }
}

constants! {
    /// Words of the counters: the population's, then each shard's from `Step::counters` on.
    counter_tags {
        /// Births that are left for the next shard.
        LEFT: u32 = 0,
        EMITTED: u32 = 2,
        REFUSED: u32 = 3,
        RETIRED: u32 = 4,
        HITS: u32 = 5,
        COLLECTED: u32 = 6,
        STEPS: u32 = 7,
        EVENTS_COUNTED: u32 = 8,
        /// Elements that events have started; they use up numbers too.
        STARTED: u32 = 9,
        /// Pairs of elements that keep apart: `TALLY_WORDS` of `shared/apart.rs`.
        TESTED_APART: u32 = 10,
        /// The first of one word for each collector.
        COLLECTED_BY: u32 = 16,
        /// Words before those of the first shard.
        POPULATION_WORDS: u32 = COLLECTED_BY + MOST_SOLID as u32,

        /// Live elements, for each copy of the state.
        LIVE: u32 = 0,
        SURVIVORS: u32 = 2,
        BORN: u32 = 3,
        FIRST_BIRTH: u32 = 4,
        /// Newborns whose events of birth are being followed: the first, and the end.
        FOLLOW_FROM: u32 = 5,
        FOLLOW_TO: u32 = 6,
        SHARD_WORDS: u32 = 8,
    }
}

constants! {
    /// Words of the indirect calls that a step writes, and sizes of dispatches.
    call_tags {
        /// Dispatch over the live elements.
        CALL_STEP: u32 = 0,
        /// Draw of all live elements as rectangles.
        CALL_DRAW: u32 = 4,
        /// Dispatch over the segments of all trails.
        CALL_TRAILS: u32 = 8,
        CALL_WORDS: u32 = 16,
        /// Elements of a thread group.
        GROUP: u32 = 256,
        /// Most thread groups in a row.
        MOST_GROUPS: u32 = 32_768,
        /// Vertices of a rectangle.
        CORNERS: u32 = 4,
    }
}

const _: () = assert!(TESTED_APART + TALLY_WORDS <= COLLECTED_BY);

/// The seed of gusts, and the axes of their noise, in WGSL.
pub(crate) fn gust_limits() -> String {
    listed!(GUST_SEED, ON_EDGE)
}

/// Distances of contacts, and the most contacts of a step, in WGSL.
pub(crate) fn contact_limits() -> String {
    listed!(SKIN, HELD) + &constant("MOST_TOUCHES", &(MOST_TOUCHES as u32))
}

/// Words of a trail before its positions.
pub(crate) const TRAIL_HEAD: u32 = TrailHead::WORDS as u32;

/// The same in WGSL, and the share of a life after which a trail fades.
pub(crate) fn trail_limits() -> String {
    listed!(TRAIL_HEAD, TRAIL_FADE)
}

/// Most steps of one submission.
pub const MOST_STEPS: u32 = 64;

/// Words between the uniforms of two steps.
pub(crate) const STEP_SLOT: u64 = STEP_WORDS.next_multiple_of(64);

/// Words of a step; a uniform of its own with a dynamic offset.
pub(crate) const STEP_WORDS: u64 = <Step as crate::shared::Shared>::WORDS as u64;
/// Words of an emitter.
pub(crate) const EMITTER_WORDS: u64 = <Emitter as crate::shared::Shared>::WORDS as u64;

/// The births of a population in a step, and where they start.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct StepBirths {
    pub(crate) due: u32,
    pub(crate) emitters: u32,
    pub(crate) first_id: u32,
    pub(crate) first_row: u32,
    /// Events of a birth.
    pub(crate) events: u32,
}

/// A shard of the population in a step.
#[derive(Debug, Clone, Copy)]
pub(crate) struct StepShard {
    pub(crate) capacity: u32,
    pub(crate) counters: u32,
    pub(crate) parity: u32,
    pub(crate) is_first: bool,
    pub(crate) is_last: bool,
}

/// Where a grid is in the texture of grids: points or cells along each axis, and its first row.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct GridPlace {
    pub(crate) points: [usize; 3],
    pub(crate) row: u32,
}

/// What surrounds a population during a step.
#[derive(Debug, Clone, Copy)]
pub(crate) struct StepWorld<'a> {
    pub(crate) solids: &'a DeviceColliders,
    pub(crate) grids: &'a [GridPlace],
    pub(crate) collectors: &'a [DeviceCollector],
    pub(crate) fields: &'a [DeviceField],
    pub(crate) waves: &'a [Wave],
}

impl Step {
    /// A step of one shard. `trail` is the number of positions, the newest, and whether this step adds one.
    pub(crate) fn new(
        motion: &Motion,
        spec: &ParticleSpec,
        seed: u32,
        births: StepBirths,
        shard: StepShard,
        trail: [u32; 3],
        world: StepWorld<'_>,
    ) -> Self {
        let gusts = motion.gusts.as_ref();
        let attractor = motion.attractor.as_ref();
        let StepWorld { solids, grids, collectors, fields, waves } = world;
        let [least_speed, most_speed] = motion.speed_limits.unwrap_or([0.0, f32::MAX]);
        let [start_velocity, start_push] = motion.start;
        let [trail_places, trail_newest, trail_adds] = trail;
        Self {
            dt: motion.dt,
            keep: motion.keep,
            reach: motion.reach,
            drag: motion.drag,
            push: motion.push,
            rest_speed: motion.rest(),
            gust_origin: gusts.map_or([0.0; 3], |gusts| gusts.origin),
            gusts_per_metre: gusts.map_or(0.0, |gusts| gusts.per_metre),
            gust_along: gusts.map_or([0.0; 3], |gusts| gusts.along),
            gust_strength: gusts.map_or(0.0, |gusts| gusts.strength),
            gust_base: gusts.map_or([0.0; 3], |gusts| gusts.base),
            attractor_strength: attractor.map_or(0.0, |point| point.strength),
            attractor: attractor.map_or([0.0; 3], |point| point.position),
            attractor_radius: attractor.map_or(0.0, |point| point.radius),
            life: [spec.life.min, spec.life.max],
            size: [spec.size.min, spec.size.max],
            seed,
            due: births.due,
            emitters: births.emitters,
            capacity: shard.capacity,
            counters: shard.counters,
            parity: shard.parity,
            is_first: flag(shard.is_first),
            is_last: flag(shard.is_last),
            span: CORNERS,
            obstacles: solids.obstacles as u32,
            collectors: collectors.len() as u32,
            short_way: solids.short_way,
            first_id: births.first_id,
            first_row: births.first_row,
            flat_masks: solids.flat,
            birth_events: births.events,
            trail_places,
            trail_newest,
            trail_adds,
            fields: fields.len().min(MOST_FIELDS) as u32,
            solid: std::array::from_fn(|nth| Collider::of(solids, nth, grids)),
            collector: std::array::from_fn(|nth| {
                let [[x, y, z, radius], [a, b, c, _]] = collectors.get(nth).copied().unwrap_or_default();
                Collector { at: [x, y, z], radius, moved: [a, b, c] }
            }),
            wind: motion.wind,
            drag_square: motion.drag_square,
            gravity: motion.fall,
            has_speed_limits: flag(motion.speed_limits.is_some()),
            free: motion.free,
            least_speed,
            most_speed,
            start_velocity,
            start_push,
            field: std::array::from_fn(|nth| Field::of(fields.get(nth))),
            wave: std::array::from_fn(|nth| {
                let [[x, y, z, phase], [a, b, c, _]] = waves.get(nth).copied().unwrap_or_default();
                CurlWave { turns: [x, y, z], phase, push: [a, b, c] }
            }),
        }
    }
}

impl Collider {
    fn of(solids: &DeviceColliders, nth: usize, grids: &[GridPlace]) -> Self {
        let none = Self {
            place: [0.0; 4],
            more: [0.0; 4],
            kind: PLANE,
            bounce: 0.0,
            friction: 0.0,
            contact: PASSES,
            grid: [0; 3],
            grid_row: 0,
        };
        let Some(solid) = solids.all.get(nth) else { return none };
        let grid = solid.grid.and_then(|grid| grids.get(grid));
        Self {
            place: solid.place,
            more: solid.more,
            kind: solid.kind as u32,
            bounce: solid.bounce,
            friction: solid.friction,
            contact: solid.contact as u32,
            grid: grid.map_or([0; 3], |grid| grid.points.map(|points| points as u32)),
            grid_row: grid.map_or(0, |grid| grid.row),
        }
    }
}

impl Field {
    fn of(field: Option<&DeviceField>) -> Self {
        let Some(field) = field else {
            return Self { middle: [0.0; 3], per_reach: 0.0, a: [0.0; 4], b: [0.0; 3], kind: FIELD_PUSH };
        };
        let [x, y, z, per_reach] = field.middle;
        Self { middle: [x, y, z], per_reach, a: field.a, b: field.b, kind: field.kind as u32 }
    }
}

impl Emitter {
    /// The births of an emitter in a step; `before` counts those of the emitters before it. `row` is the index of the first, if the CPU has
    /// written them.
    pub(crate) fn of(
        emitter: &EmitterSpec,
        axes: &EmitterAxes,
        due: &Due,
        before: u64,
        row: Option<u32>,
    ) -> Self {
        let (shape, size) = shape_of(&emitter.shape);
        let (aim, inner, rim) = match axes.fan {
            None => (axes.aim, axes.cos_hollow, axes.cos_spread),
            Some(([middle, side], [least, most])) => ([side, axes.aim[1], middle], least, most),
        };
        let turned = |axis: Vec3| due.turn.map_or(axis, |turn| turn * axis);
        Self {
            first_age: due.first_age as f32,
            age_step: due.age_step as f32,
            shape: if row.is_some() { SHAPE_WRITTEN } else { shape },
            is_fan: flag(axes.fan.is_some()),
            position: due.position.to_array(),
            inner,
            velocity: due.velocity.to_array(),
            keep_velocity: emitter.keep_velocity,
            aim: Aim::new(
                aim.map(turned),
                rim,
                [emitter.speed.min, emitter.speed.max],
                axes.face.map(turned),
                size,
            ),
            begins: before as u32,
            row: row.unwrap_or(0),
        }
    }
}

impl Aim {
    pub(crate) fn new(aim: [Vec3; 3], rim: f32, speed: [f32; 2], face: [Vec3; 3], size: [f32; 3]) -> Self {
        let [x, y, z] = aim.map(|axis| axis.to_array());
        let [face_x, face_y, face_z] = face.map(|axis| axis.to_array());
        let [speed_min, speed_max] = speed;
        let [size_x, size_y, size_z] = size;
        Self { x, rim, y, speed_min, z, speed_max, face_x, size_x, face_y, size_y, face_z, size_z }
    }
}

/// Tag and size of a shape that shaders can draw positions from.
pub(crate) fn shape_of(shape: &ShapeSpec) -> (u32, [f32; 3]) {
    match *shape {
        ShapeSpec::Disc { radius, .. } => (SHAPE_DISC, [radius, 0.0, 0.0]),
        ShapeSpec::Sphere { radius } => (SHAPE_SPHERE, [radius, 0.0, 0.0]),
        ShapeSpec::SphereSurface { radius } => (SHAPE_SPHERE_SURFACE, [radius, 0.0, 0.0]),
        ShapeSpec::Box { size } => (SHAPE_BOX, size),
        ShapeSpec::Line { to } => (SHAPE_LINE, to),
        ShapeSpec::Ring { radius, .. } => (SHAPE_RING, [radius, 0.0, 0.0]),
        _ => (SHAPE_POINT, [0.0; 3]),
    }
}
