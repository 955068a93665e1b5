//! One step of a device-resident flock: cells, rules, targets, space. Read by `shaders/cells.wgsl` and the `flock_*.wgsl` files.

use frolic_core::backend::{
    DeviceCells, FlockRanges, FlockSteering, LOYALTY, MOST_SEEN, MOST_TARGETS, SHAKE, flock_wrapping,
};
use frolic_core::neighbours::NeighbourTechnique;
use frolic_core::{FlockSpec, Space, TintSpec};

use crate::shared::cells::CellGrid;
use crate::shared::step::{POPULATION_WORDS, SHARD_WORDS};
use crate::shared::{constants, flag, listed, shared};

shared! {
    /// A target at the time of the step.
    struct FlockTarget {
        at: [f32; 3],
        kind: u32,
        /// Weight, negative for what is fled.
        weight: f32,
        radius: f32,
        keep: f32,
        orbit: f32,
        alarm: f32,
        /// Which of the populations that are seen it is.
        slot: u32,
    }

    /// What all elements of a flock share in one step.
    struct FlockStep {
        grid: CellGrid,
        /// Lengths after which space begins again, or 0; where it begins.
        lengths: [f32; 3],
        reach: f32,
        low: [f32; 3],
        alignment: f32,
        /// High corner of a box, or the length of a space that begins again.
        high: [f32; 3],
        cohesion_reach: f32,
        /// How far positions are shaken, along axes that count.
        shake: [f32; 3],
        per_separation: f32,
        view: f32,
        /// Most candidates that are looked at, or 0 for all.
        most: u32,
        separation: f32,
        separation_weight: f32,
        alignment_weight: f32,
        cohesion: f32,
        cohesion_weight: f32,
        per_cruise: f32,
        cruise: [f32; 2],
        limits: [f32; 2],
        /// Cosine and sine of the greatest turn.
        turn: [f32; 2],
        tint_range: [f32; 2],
        acceleration: f32,
        wander: f32,
        level: f32,
        bank: f32,
        bank_share: f32,
        spread: f32,
        calm: f32,
        space: u32,
        look_ahead: f32,
        avoid: f32,
        sight: f32,
        catch_reach: f32,
        isolation: f32,
        chase: f32,
        digest: f32,
        hunts: u32,
        tint_by: u32,
        /// Newcomers that are due in this step, and words of the rows that they start from.
        joining: f32,
        starts: u32,
        targets: u32,
        number: u32,
        goal: [FlockTarget; MOST_TARGETS],
    }

    /// Where the elements of a population that is seen are copied to, and the word of its counters with their number.
    struct SeenSlot {
        slot: u32,
        live: u32,
        spare: u32,
        spare_b: u32,
    }
}

constants! {
    /// Kinds of targets, spaces and tints; parts of buffers; words of the counters of a flock.
    flock_tags {
        TARGET_NONE: u32 = 0,
        TARGET_PLACE: u32 = 1,
        TARGET_POPULATION: u32 = 2,

        SPACE_OPEN: u32 = 0,
        SPACE_BOX: u32 = 1,
        SPACE_BALL: u32 = 2,
        SPACE_WRAPPING: u32 = 3,

        TINT_RANDOM: u32 = 0,
        TINT_SPEED: u32 = 1,
        TINT_DENSITY: u32 = 2,
        TINT_ALARM: u32 = 3,
        TINT_RULE: u32 = 4,
        TINT_STATE: u32 = 5,

        /// Most elements of a population that is seen: its number, then their places.
        SEEN: u32 = MOST_SEEN,
        SEEN_ROWS: u32 = SEEN + 1,
        /// Rows of the buffer of others: populations, where hunters head, what they found.
        CHASE_ROWS: u32 = SEEN_ROWS * MOST_TARGETS as u32,
        FOUND_ROWS: u32 = CHASE_ROWS + SEEN,
        OTHER_ROWS: u32 = FOUND_ROWS + 2 * SEEN,

        /// Rows of an element's bearing: velocity a step ago and bank; way, tint, alarm, others around; rest and quarry of a hunter, distance of
        /// the nearest, strongest rule.
        BEARING_ROWS: u32 = 3,
        /// Columns of the arranged state: place for the rules and alarm; velocity and number; place and size; bank, way, rest, quarry.
        ARRANGED_ROWS: u32 = 4,
        /// Rows of the sums of a group.
        SUM_ROWS: u32 = 4,

        /// No quarry, nothing found.
        NO_ELEMENT: u32 = u32::MAX,

        /// Pairs tested and near, each in two words, from the lower; elements in crowds.
        TESTED: u32 = POPULATION_WORDS + SHARD_WORDS,
        NEIGHBOURS: u32 = TESTED + 2,
        CROWDED: u32 = NEIGHBOURS + 2,
        FULLEST: u32 = CROWDED + 1,
        CELLS_USED: u32 = FULLEST + 1,
        CAUGHT: u32 = CELLS_USED + 1,
        NEXT_ID: u32 = CAUGHT + 1,
        /// A fraction of a newcomer.
        OWED: u32 = NEXT_ID + 1,
        /// Order, milling, nearest, speed; then the mean place.
        GAUGES: u32 = OWED + 1,
        MIDDLE: u32 = GAUGES + 4,
        FLOCK_WORDS: u32 = MIDDLE + 3,
    }
}

/// What a hunter's present quarry counts less, and how far positions are shaken, in WGSL.
pub(crate) fn flock_limits() -> String {
    listed!(LOYALTY, SHAKE)
}

/// A step of a flock, in numbers.
#[derive(Debug, Clone, Copy)]
pub(crate) struct FlockNumbers<'a> {
    pub(crate) spec: &'a FlockSpec,
    pub(crate) steering: &'a FlockSteering,
    pub(crate) cells: DeviceCells,
    pub(crate) capacity: u32,
    pub(crate) live: u32,
    pub(crate) starts: u32,
    pub(crate) targets: &'a [FlockTarget],
}

impl FlockStep {
    pub(crate) fn new(of: FlockNumbers<'_>) -> Self {
        let FlockNumbers { spec, steering, cells, capacity, live, starts, targets } = of;
        let (corner, lengths) = flock_wrapping(spec);
        let ranges = FlockRanges::new(spec, lengths);
        let (space, low, high) = match &spec.within {
            Some(space @ Space::Box { .. }) => {
                let [low, high] = space.corners().unwrap_or_default();
                (SPACE_BOX, low, high)
            }
            Some(Space::Ball { position, radius }) => (SPACE_BALL, *position, [*radius, 0.0, 0.0]),
            Some(Space::Wrapping { size, .. }) => (SPACE_WRAPPING, corner, *size),
            _ => (SPACE_OPEN, [0.0; 3], [0.0; 3]),
        };
        let (tint_by, tint_range) = match spec.tint_by {
            None => (TINT_RANDOM, [0.0; 2]),
            Some(TintSpec::Speed) => (TINT_SPEED, spec.speed_limits),
            Some(TintSpec::Density(range)) => (TINT_DENSITY, range),
            Some(TintSpec::Alarm) => (TINT_ALARM, [0.0; 2]),
            Some(TintSpec::Rule) => (TINT_RULE, [0.0; 2]),
            Some(_) => (TINT_STATE, [0.0; 2]),
        };
        let is_grid = spec.neighbours == NeighbourTechnique::Grid;
        let hunt = spec.hunt.as_ref();
        let none = FlockTarget {
            at: [0.0; 3],
            kind: TARGET_NONE,
            weight: 0.0,
            radius: 1.0,
            keep: 0.0,
            orbit: 0.0,
            alarm: 0.0,
            slot: 0,
        };
        Self {
            grid: CellGrid::new(cells, capacity, live),
            lengths,
            reach: ranges.reach,
            low,
            alignment: ranges.alignment,
            high,
            cohesion_reach: ranges.cohesion,
            shake: steering.free.map(|free| free * spec.reach() * SHAKE),
            per_separation: ranges.per_separation,
            view: ranges.view,
            most: if is_grid { spec.most } else { 0 },
            separation: steering.separation,
            separation_weight: steering.separation_weight,
            alignment_weight: steering.alignment_weight,
            cohesion: steering.cohesion,
            cohesion_weight: steering.cohesion_weight,
            per_cruise: steering.per_cruise,
            cruise: steering.cruise,
            limits: steering.limits,
            turn: steering.turn,
            tint_range,
            acceleration: steering.acceleration,
            wander: steering.wander,
            level: steering.level,
            bank: steering.bank,
            bank_share: steering.bank_share,
            spread: steering.spread,
            calm: steering.calm,
            space,
            look_ahead: spec.look_ahead,
            avoid: spec.avoid,
            sight: hunt.map_or(0.0, |hunt| hunt.sight),
            catch_reach: hunt.map_or(0.0, |hunt| hunt.reach),
            isolation: hunt.map_or(0.0, |hunt| hunt.isolation),
            chase: hunt.map_or(0.0, |hunt| hunt.weight),
            digest: hunt.map_or(0.0, |hunt| hunt.digest),
            hunts: flag(hunt.is_some()),
            tint_by,
            joining: spec.joining * steering.dt,
            starts,
            targets: targets.len() as u32,
            number: steering.step,
            goal: std::array::from_fn(|nth| targets.get(nth).copied().unwrap_or(none)),
        }
    }
}
