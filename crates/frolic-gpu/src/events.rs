//! What events note on the device, and what follows from it: `shaders/happen.wgsl` and `events.wgsl`.

use std::sync::Arc;

use frolic_core::backend::{EmitterAxes, event_seed};
use frolic_core::{AimBy, EventSpec, Moment, Region, Span};
use wgpu::{BindGroup, BindGroupLayout, ComputePipeline, ShaderStages};

use crate::device::{Gpu, Tally, Words};
use crate::error::GpuError;
use crate::keys::Bind;
use crate::order::groups;
use crate::pipelines::{compute, group, layout, set_dispatch, window};
use crate::shader;
use crate::told::{STEP_WORDS, aim_words, shape_words};

/// Words of an event.
pub(crate) const EVENT_WORDS: u64 = 64;

/// Words of sums before the elements that are noted, and of one of these.
const SUM_WORDS: u64 = 8;
const NOTED_WORDS: u64 = 12;

/// The population that an event starts elements of: its room and its seed.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Started {
    pub(crate) room: u32,
    pub(crate) seed: u32,
}

/// Where an event notes what happens: the first of its words, groups of elements, and the most that it notes.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Stretch {
    first: u32,
    groups: u32,
    room: u32,
}

/// The stretches of a population's events, behind the sums of its groups and as many words again as `more`; and how many words that are in
/// all.
pub(crate) fn stretches(
    events: &[EventSpec],
    started: &[Option<Started>],
    groups: u32,
    more: u32,
) -> (Vec<Stretch>, u64) {
    let mut words = u64::from(groups) + u64::from(more);
    let of = |(event, started): (&EventSpec, &Option<Started>)| {
        // Each that is noted starts one at least, so that more would find no room.
        let room = started.map_or(0, |started| started.room.min(event.most));
        let stretch = Stretch { first: words as u32, groups, room };
        words += 2 * u64::from(groups) + SUM_WORDS + NOTED_WORDS * u64::from(room);
        stretch
    };
    let all = events.iter().zip(started).map(of).collect();
    (all, words)
}

/// An event, as `shaders/happen.wgsl` lays it out.
pub(crate) fn event_words(
    words: &mut Words,
    event: &EventSpec,
    number: u32,
    started: Option<Started>,
    stretch: &Stretch,
) {
    let axes = EmitterAxes::of_event(event);
    let (kind, level, region, half) = match event.on {
        Moment::Birth => (0, 0.0, [0.0; 4], [0.0; 3]),
        Moment::Death => (1, 0.0, [0.0; 4], [0.0; 3]),
        Moment::Hit { speed } => (2, speed, [0.0; 4], [0.0; 3]),
        Moment::Caught => (3, 0.0, [0.0; 4], [0.0; 3]),
        Moment::Age(at) => (4, at, [0.0; 4], [0.0; 3]),
        Moment::Enter(Region::Sphere { position: [x, y, z], radius }) => {
            (5, 0.0, [x, y, z, radius], [0.0; 3])
        }
        Moment::Enter(Region::Box { position: [x, y, z], size }) => {
            (6, 0.0, [x, y, z, 0.0], size.map(|side| side * 0.5))
        }
        // Told by none of them.
        _ => (u32::MAX, 0.0, [0.0; 4], [0.0; 3]),
    };
    let seed = started.map_or(0, |started| event_seed(started.seed));
    words.uint(&[kind, number, seed, event.most]);
    words.float(&[event.count.min, event.count.max, event.chance, level]);
    words.float(&region).float(&half).uint(&[u32::from(started.is_some())]);
    let aim_by = match event.aim_by {
        AimBy::Velocity => 1,
        AimBy::Normal => 2,
        _ => 0,
    };
    let (shape, size) = shape_words(&event.shape);
    words.uint(&[aim_by, shape, u32::from(axes.fan.is_some()), u32::from(event.size.is_some())]);
    aim_words(words, axes.aim, [axes.cos_spread, event.speed.min, event.speed.max], axes.face, size);
    let share = event.size.unwrap_or(Span::from(1.0));
    words.float(&[axes.cos_hollow, event.keep_velocity, share.min, share.max]);
    let upright = glam::Vec3::from(event.aim.fan.unwrap_or([0.0; 3])).normalize_or(glam::Vec3::Y);
    words.float(&upright.to_array()).uint(&[stretch.first, stretch.groups, stretch.room]);
    let [least, most] = axes.fan.map_or([0.0; 2], |(_, turns)| turns);
    words.float(&[least, most]).align(EVENT_WORDS as usize);
}

/// What following one event binds, for each copy of the state that a step has written.
#[derive(Debug)]
pub(crate) struct Link {
    /// Members of the set.
    pub(crate) parent: usize,
    pub(crate) target: usize,
    pub(crate) is_birth: bool,
    /// Most that it can start in a step.
    most: u32,
    groups: [LinkGroups; 2],
}

#[derive(Debug)]
struct LinkGroups {
    births: BindGroup,
    grant: BindGroup,
    start: BindGroup,
}

/// Buffers of a population, as following binds them; both copies of what there are two of.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Ends<'a> {
    pub(crate) steps: &'a wgpu::Buffer,
    pub(crate) book: &'a wgpu::Buffer,
    pub(crate) blocks: &'a wgpu::Buffer,
    pub(crate) events: &'a wgpu::Buffer,
    pub(crate) columns: &'a [[wgpu::Buffer; 3]; 2],
    pub(crate) calls: &'a [wgpu::Buffer; 2],
    pub(crate) most: u32,
}

/// Pipelines that follow events, and how their buffers are bound.
#[derive(Debug)]
pub(crate) struct Following {
    layouts: [Arc<BindGroupLayout>; 3],
    turn: ComputePipeline,
    births: [ComputePipeline; 3],
    grant: ComputePipeline,
    start: ComputePipeline,
}

impl Following {
    pub(crate) fn new(gpu: &Gpu) -> Result<Self, GpuError> {
        use Bind::{Uniform, Write};
        let of = |label, binds: &[u32]| {
            let mut all = vec![(0, Uniform(true, STEP_WORDS * 4)), (1, Write), (2, Write)];
            all.extend(binds.iter().map(|&binding| (binding, Write)));
            all.push((12, Uniform(false, EVENT_WORDS * 4)));
            Arc::new(layout(gpu, label, ShaderStages::COMPUTE, &all))
        };
        let layouts = [of("births", &[6, 7]), of("grant", &[9]), of("start", &[6, 7, 8])];
        let pipeline = |nth: usize, entry| {
            let layouts: &[Arc<BindGroupLayout>; 3] = &layouts;
            compute(gpu, shader::EVENTS, entry, &[Some(&*layouts[nth])], &[])
        };
        Ok(Self {
            turn: pipeline(0, "turn")?,
            births: [pipeline(0, "mark_births")?, pipeline(0, "add_births")?, pipeline(0, "tell_births")?],
            grant: pipeline(1, "grant")?,
            start: pipeline(2, "start")?,
            layouts,
        })
    }

    /// Binds what following an event of `parent`, by its number, needs.
    pub(crate) fn link(
        &self,
        gpu: &Gpu,
        [parent, target]: [usize; 2],
        ends: [Ends<'_>; 2],
        number: usize,
        event: &EventSpec,
    ) -> Link {
        let [from, to] = ends;
        let told = wgpu::BindingResource::Buffer(wgpu::BufferBinding {
            buffer: from.events,
            offset: number as u64 * EVENT_WORDS * 4,
            size: std::num::NonZeroU64::new(EVENT_WORDS * 4),
        });
        let groups = [0, 1].map(|now| {
            let of = |nth: usize, of: Ends<'_>, more: &[(u32, &wgpu::Buffer)]| {
                let mut all = vec![
                    (0, window(of.steps, STEP_WORDS * 4)),
                    (1, of.book.as_entire_binding()),
                    (2, from.blocks.as_entire_binding()),
                    (12, told.clone()),
                ];
                all.extend(more.iter().map(|(binding, buffer)| (*binding, buffer.as_entire_binding())));
                group(gpu, &self.layouts[nth], &all)
            };
            let [own_places, own_motions, _] = &from.columns[now];
            let [places, motions, ages] = &to.columns[now];
            LinkGroups {
                births: of(0, from, &[(6, own_places), (7, own_motions)]),
                grant: of(1, to, &[(9, &to.calls[now])]),
                start: of(2, to, &[(6, places), (7, motions), (8, ages)]),
            }
        });
        let is_birth = event.on == Moment::Birth;
        Link { parent, target, is_birth, most: event.most.min(to.most), groups }
    }

    /// Starts a round of births of an event's parent; `slot` is where its step is.
    pub(crate) fn turn(
        &self,
        pass: &mut wgpu::ComputePass<'_>,
        tally: &mut Tally,
        link: &Link,
        now: usize,
        slot: u32,
    ) {
        set_dispatch(pass, tally, &self.turn, &link.groups[now].births, &[slot]);
        pass.dispatch_workgroups(1, 1, 1);
    }

    /// Notes the births of a round; `calls` are those of the parent's next step.
    pub(crate) fn note_births(
        &self,
        pass: &mut wgpu::ComputePass<'_>,
        tally: &mut Tally,
        link: &Link,
        now: usize,
        slot: u32,
        calls: &wgpu::Buffer,
    ) {
        let [mark, add, tell] = &self.births;
        let mut set = |pass: &mut wgpu::ComputePass<'_>, pipeline| {
            set_dispatch(pass, tally, pipeline, &link.groups[now].births, &[slot]);
        };
        set(pass, mark);
        pass.dispatch_workgroups_indirect(calls, 0);
        set(pass, add);
        pass.dispatch_workgroups(1, 1, 1);
        set(pass, tell);
        pass.dispatch_workgroups_indirect(calls, 0);
    }

    /// Starts what was noted; `slot` is where the step of the population that is started is.
    pub(crate) fn start(
        &self,
        pass: &mut wgpu::ComputePass<'_>,
        tally: &mut Tally,
        link: &Link,
        now: usize,
        slot: u32,
    ) {
        set_dispatch(pass, tally, &self.grant, &link.groups[now].grant, &[slot]);
        pass.dispatch_workgroups(1, 1, 1);
        let [across, down] = groups(link.most);
        set_dispatch(pass, tally, &self.start, &link.groups[now].start, &[slot]);
        pass.dispatch_workgroups(across, down, 1);
    }
}
