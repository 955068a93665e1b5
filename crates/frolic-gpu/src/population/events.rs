//! Events on the device: what they record, and the elements that they start (`shaders/event_records.wgsl`, `events.wgsl`).

use std::sync::Arc;

use frolic_core::{EventSpec, Moment};
use wgpu::{BindGroup, BindGroupLayout, ComputePipeline, ShaderStages};

use crate::device::error::GpuError;
use crate::device::{DeviceCounters, Gpu};
use crate::draw::keys::Bind;
use crate::draw::order::groups;
use crate::draw::pipelines::{compute, group, layout, set_dispatch, window};
use crate::shaders as shader;
use crate::shared::event::{EVENT_WORDS, RECORD_WORDS, Range, SUM_WORDS, Started};
use crate::shared::step::STEP_WORDS;

/// Ranges of a population's events, after the sums of its groups and `more` further words; and the number of words in all.
pub(crate) fn ranges(
    events: &[EventSpec],
    started: &[Option<Started>],
    groups: u32,
    more: u32,
) -> (Vec<Range>, u64) {
    let mut words = u64::from(groups) + u64::from(more);
    let of = |(event, started): (&EventSpec, &Option<Started>)| {
        // Each record starts at least one element, so more records would find no room.
        let room = started.map_or(0, |started| started.room.min(event.most));
        let range = Range { first: words as u32, groups, room };
        words += 2 * u64::from(groups) + u64::from(SUM_WORDS) + u64::from(RECORD_WORDS) * u64::from(room);
        range
    };
    let all = events.iter().zip(started).map(of).collect();
    (all, words)
}

/// Bind groups for an event that starts elements, one set for each copy of the state.
#[derive(Debug)]
pub(crate) struct Link {
    /// Indices of members of the set.
    pub(crate) parent: usize,
    pub(crate) target: usize,
    pub(crate) is_birth: bool,
    /// Most elements that it starts in a step.
    most: u32,
    groups: [LinkGroups; 2],
}

#[derive(Debug)]
struct LinkGroups {
    births: BindGroup,
    grant: BindGroup,
    start: BindGroup,
}

/// Buffers of a population that events bind, with both copies of its state.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Ends<'a> {
    pub(crate) steps: &'a wgpu::Buffer,
    pub(crate) counts: &'a wgpu::Buffer,
    pub(crate) blocks: &'a wgpu::Buffer,
    pub(crate) events: &'a wgpu::Buffer,
    pub(crate) columns: &'a [[wgpu::Buffer; 3]; 2],
    pub(crate) calls: &'a [wgpu::Buffer; 2],
    pub(crate) most: u32,
}

/// Pipelines and layouts of events.
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

    /// Creates the bind groups of an event of `parent`, by its number.
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
                    (1, of.counts.as_entire_binding()),
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

    /// Starts a round of births; `slot` is the offset of the parent's step.
    pub(crate) fn turn(
        &self,
        pass: &mut wgpu::ComputePass<'_>,
        counters: &mut DeviceCounters,
        link: &Link,
        now: usize,
        slot: u32,
    ) {
        set_dispatch(pass, counters, &self.turn, &link.groups[now].births, &[slot]);
        pass.dispatch_workgroups(1, 1, 1);
    }

    /// Records the births of a round; `calls` are those of the parent's next step.
    pub(crate) fn note_births(
        &self,
        pass: &mut wgpu::ComputePass<'_>,
        counters: &mut DeviceCounters,
        link: &Link,
        now: usize,
        slot: u32,
        calls: &wgpu::Buffer,
    ) {
        let [mark, add, report] = &self.births;
        let mut set = |pass: &mut wgpu::ComputePass<'_>, pipeline| {
            set_dispatch(pass, counters, pipeline, &link.groups[now].births, &[slot]);
        };
        set(pass, mark);
        pass.dispatch_workgroups_indirect(calls, 0);
        set(pass, add);
        pass.dispatch_workgroups(1, 1, 1);
        set(pass, report);
        pass.dispatch_workgroups_indirect(calls, 0);
    }

    /// Starts elements for all records; `slot` is the offset of the step of the started population.
    pub(crate) fn start(
        &self,
        pass: &mut wgpu::ComputePass<'_>,
        counters: &mut DeviceCounters,
        link: &Link,
        now: usize,
        slot: u32,
    ) {
        set_dispatch(pass, counters, &self.grant, &link.groups[now].grant, &[slot]);
        pass.dispatch_workgroups(1, 1, 1);
        let [across, down] = groups(link.most);
        set_dispatch(pass, counters, &self.start, &link.groups[now].start, &[slot]);
        pass.dispatch_workgroups(across, down, 1);
    }
}
