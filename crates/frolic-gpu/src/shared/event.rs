//! Events on the device: what starts elements, how many, and the records of the elements that events happened to. Read by
//! `shaders/event_records.wgsl` and `events.wgsl`.

use frolic_core::backend::{EmitterAxes, event_seed};
use frolic_core::{AimBy, EventSpec, Moment, Region, Span};
use glam::Vec3;

use crate::shared::step::{Aim, shape_of};
use crate::shared::{Shared, constants, flag, records, shared};

shared! {
    /// An event of a population.
    struct Event {
        kind: u32,
        number: u32,
        seed: u32,
        /// Most elements that it starts in a step.
        most: u32,
        /// Elements it starts each time, and the chance that it does.
        count_min: f32,
        count_max: f32,
        chance: f32,
        /// Least speed of a hit, or the age.
        level: f32,
        /// Centre and radius of a region, or half the size of its box.
        region: [f32; 3],
        region_radius: f32,
        region_half: [f32; 3],
        starts: u32,
        aim_by: u32,
        shape: u32,
        is_fan: u32,
        is_sized: u32,
        aim: Aim,
        /// Cosine of the inner edge of the aim.
        inner: f32,
        keep_velocity: f32,
        size_min: f32,
        size_max: f32,
        /// Axis of a fan, and its angles in turns.
        fan: [f32; 3],
        fan_min: f32,
        fan_max: f32,
        /// Where its range of `blocks` starts; groups of elements; most elements that are recorded.
        range: u32,
        groups: u32,
        room: u32,
        /// Fills the alignment of a uniform.
        spare: [f32; 4],
        spare_too: [f32; 4],
    }
}

records! {
    /// An element that an event happened to.
    struct Record {
        place: [f32; 3],
        size: f32,
        velocity: [f32; 3],
        id: u32,
        normal: [f32; 3],
        /// Elements started by the records before this one.
        before: u32,
    }
}

constants! {
    /// When an event happens, what its aim is relative to, and the words of its sums.
    event_tags {
        ON_BIRTH: u32 = 0,
        ON_DEATH: u32 = 1,
        ON_HIT: u32 = 2,
        ON_COLLECTED: u32 = 3,
        ON_AGE: u32 = 4,
        ON_ENTER_BALL: u32 = 5,
        ON_ENTER_BOX: u32 = 6,
        ON_NOTHING: u32 = 7,

        AIM_WORLD: u32 = 0,
        AIM_VELOCITY: u32 = 1,
        AIM_NORMAL: u32 = 2,

        /// Elements that the event would start.
        WANTED: u32 = 0,
        /// Records.
        RECORDED: u32 = 1,
        /// Elements for which there is room.
        GIVEN: u32 = 2,
        /// Index and number of the first of these.
        FIRST_PLACE: u32 = 3,
        FIRST_ID: u32 = 4,
        SUM_WORDS: u32 = 8,
        RECORD_WORDS: u32 = Record::WORDS as u32,
    }
}

/// The population that an event starts elements of: its room and its seed.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Started {
    pub(crate) room: u32,
    pub(crate) seed: u32,
}

/// Where an event records what happens: its first word in `blocks`, groups of elements, and the most records.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Range {
    pub(crate) first: u32,
    pub(crate) groups: u32,
    pub(crate) room: u32,
}

/// Words of an event.
pub(crate) const EVENT_WORDS: u64 = Event::WORDS as u64;

impl Event {
    pub(crate) fn of(event: &EventSpec, number: u32, started: Option<Started>, range: Range) -> Self {
        let axes = EmitterAxes::of_event(event);
        let nowhere = ([0.0; 3], 0.0, [0.0; 3]);
        let (kind, level, (region, region_radius, region_half)) = match event.on {
            Moment::Birth => (ON_BIRTH, 0.0, nowhere),
            Moment::Death => (ON_DEATH, 0.0, nowhere),
            Moment::Hit { speed } => (ON_HIT, speed, nowhere),
            Moment::Caught => (ON_COLLECTED, 0.0, nowhere),
            Moment::Age(at) => (ON_AGE, at, nowhere),
            Moment::Enter(Region::Sphere { position, radius }) => {
                (ON_ENTER_BALL, 0.0, (position, radius, [0.0; 3]))
            }
            Moment::Enter(Region::Box { position, size }) => {
                (ON_ENTER_BOX, 0.0, (position, 0.0, size.map(|side| side * 0.5)))
            }
            _ => (ON_NOTHING, 0.0, nowhere),
        };
        let aim_by = match event.aim_by {
            AimBy::Velocity => AIM_VELOCITY,
            AimBy::Normal => AIM_NORMAL,
            _ => AIM_WORLD,
        };
        let (shape, size) = shape_of(&event.shape);
        let share = event.size.unwrap_or(Span::from(1.0));
        let [fan_min, fan_max] = axes.fan.map_or([0.0; 2], |(_, turns)| turns);
        Self {
            kind,
            number,
            seed: started.map_or(0, |started| event_seed(started.seed)),
            most: event.most,
            count_min: event.count.min,
            count_max: event.count.max,
            chance: event.chance,
            level,
            region,
            region_radius,
            region_half,
            starts: flag(started.is_some()),
            aim_by,
            shape,
            is_fan: flag(axes.fan.is_some()),
            is_sized: flag(event.size.is_some()),
            aim: Aim::new(axes.aim, axes.cos_spread, [event.speed.min, event.speed.max], axes.face, size),
            inner: axes.cos_hollow,
            keep_velocity: event.keep_velocity,
            size_min: share.min,
            size_max: share.max,
            fan: Vec3::from(event.aim.fan.unwrap_or([0.0; 3])).normalize_or(Vec3::Y).to_array(),
            fan_min,
            fan_max,
            range: range.first,
            groups: range.groups,
            room: range.room,
            spare: [0.0; 4],
            spare_too: [0.0; 4],
        }
    }
}
