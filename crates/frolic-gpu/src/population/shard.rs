//! A shard of a population on the device: its buffers, bind groups, and the pipelines for its world.

use std::sync::Arc;

use frolic_core::backend::{ColliderKind, DeviceColliders, MOST_EVENTS, OwnFields, attractor};
use frolic_core::{ObstacleSpec, ParticleSpec, Touch, World};
use wgpu::{BindGroupLayout, BufferUsages, ShaderStages};

use crate::device::Gpu;
use crate::device::error::GpuError;
use crate::draw::keys::Bind;
use crate::draw::pipelines::{compute, group, layout, window};
use crate::population::grids::Grids;
use crate::population::newborn::Newborn;
use crate::shaders as shader;
use crate::shared::event::EVENT_WORDS;
use crate::shared::step::{
    CALL_WORDS, GROUP, HAS_ATTRACTOR, HAS_CONVEX, HAS_DISTANCES, HAS_FIELDS, HAS_GROUNDS, HAS_GUSTS,
    HAS_MASKS, HAS_OBSTACLES, HAS_POSTS, HAS_SHAPES, MARCHES, STEP_WORDS,
};

#[derive(Debug)]
pub(crate) struct Shard {
    pub(crate) most: u32,
    /// First word of its counters.
    pub(crate) counts: u32,
    pub(crate) columns: [[wgpu::Buffer; 3]; 2],
    /// Indirect calls of each copy.
    pub(crate) calls: [wgpu::Buffer; 2],
    /// Sums of groups of elements, and the records of events.
    pub(crate) blocks: wgpu::Buffer,
    /// For each copy: mark, scan, advance, birth.
    pub(crate) groups: [[wgpu::BindGroup; 4]; 2],
}

impl Shard {
    pub(crate) fn new(
        gpu: &Gpu,
        layouts: &PopulationLayouts,
        most: u32,
        counts: u32,
        buffers: Buffers<'_>,
    ) -> Self {
        let storage = BufferUsages::STORAGE | BufferUsages::COPY_SRC;
        let column = |label, bytes: u64| gpu.buffer(label, u64::from(most) * bytes, storage);
        let copy = || [column("places", 16), column("motions", 16), column("ages", 8)];
        let columns = [copy(), copy()];
        let blocks = gpu.buffer("blocks", u64::from(most.div_ceil(GROUP)) * 4, BufferUsages::STORAGE);
        let usage = BufferUsages::STORAGE | BufferUsages::INDIRECT | BufferUsages::COPY_DST;
        let calls = || gpu.buffer("calls", u64::from(CALL_WORDS) * 4, usage);
        let calls = [calls(), calls()];
        let groups = groups_of(gpu, layouts, &columns, &calls, &blocks, buffers);
        Self { most, counts, columns, calls, blocks, groups }
    }
}

/// Buffers that all shards share.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Buffers<'a> {
    pub(crate) counts: &'a wgpu::Buffer,
    pub(crate) steps: &'a wgpu::Buffer,
    pub(crate) births: &'a wgpu::Buffer,
    pub(crate) births_slot: u64,
    pub(crate) events: &'a wgpu::Buffer,
}

/// For each copy: mark, scan, advance, birth.
pub(crate) fn groups_of(
    gpu: &Gpu,
    layouts: &PopulationLayouts,
    columns: &[[wgpu::Buffer; 3]; 2],
    calls: &[wgpu::Buffer; 2],
    blocks: &wgpu::Buffer,
    buffers: Buffers<'_>,
) -> [[wgpu::BindGroup; 4]; 2] {
    let Buffers { counts, steps, births, births_slot, events } = buffers;
    [0, 1].map(|from| {
        let (old, new) = (&columns[from], &columns[1 - from]);
        let step = (0, window(steps, STEP_WORDS * 4));
        let counts = (1, counts.as_entire_binding());
        let blocks = (2, blocks.as_entire_binding());
        let old: [_; 3] = std::array::from_fn(|k| (3 + k as u32, old[k].as_entire_binding()));
        let new: [_; 3] = std::array::from_fn(|k| (6 + k as u32, new[k].as_entire_binding()));
        let calls = (9, calls[1 - from].as_entire_binding());
        let births = (10, window(births, births_slot * 4));
        let events = (11, events.as_entire_binding());
        let of = |nth: usize, extra: &[(u32, wgpu::BindingResource<'_>)]| {
            let mut all = vec![step.clone(), counts.clone()];
            all.extend_from_slice(extra);
            group(gpu, &layouts.groups[nth], &all)
        };
        let [places, motions, ages] = old;
        let [to_places, to_motions, to_ages] = new;
        [
            of(0, &[blocks.clone(), places.clone(), motions.clone(), ages.clone(), events.clone()]),
            of(1, &[blocks.clone(), calls, events.clone()]),
            of(
                2,
                &[
                    blocks,
                    places,
                    motions,
                    ages,
                    to_places.clone(),
                    to_motions.clone(),
                    to_ages.clone(),
                    events,
                ],
            ),
            of(3, &[to_places, to_motions, to_ages, births]),
        ]
    })
}

/// Features of a world. Pipelines are compiled for them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Fields {
    /// Of `feature_tags` in `shared/step.rs`.
    pub(crate) bits: u32,
    /// Whether elements can end before their lifetime.
    pub(crate) ends_lives: bool,
}

impl Fields {
    pub(crate) fn of(spec: &ParticleSpec, own: &OwnFields, world: &World, solids: &DeviceColliders) -> Self {
        let motion = &spec.motion;
        let obstacles = &solids.all[..solids.obstacles];
        let has = |kind: ColliderKind| obstacles.iter().any(|it| it.kind == kind);
        let bits = [
            (HAS_GUSTS, world.spec().gusts.is_some() && (motion.drag > 0.0 || motion.drag_square > 0.0)),
            (HAS_ATTRACTOR, attractor(world).is_some()),
            (HAS_OBSTACLES, !obstacles.is_empty()),
            (HAS_FIELDS, own.are_needed(spec, world)),
            (HAS_SHAPES, solids.all.len() > solids.obstacles),
            (HAS_CONVEX, obstacles.iter().any(|it| it.kind < ColliderKind::Ground)),
            (HAS_GROUNDS, has(ColliderKind::Ground)),
            (HAS_DISTANCES, has(ColliderKind::Distances)),
            (HAS_MASKS, has(ColliderKind::Mask)),
            (MARCHES, solids.short_way > 0.0 && !obstacles.is_empty()),
            (HAS_POSTS, has(ColliderKind::Posts)),
        ];
        let bits = bits.iter().filter_map(|(bit, on)| on.then_some(*bit)).sum();
        let dies = |it: &ObstacleSpec| it.touch == Touch::Die;
        let ends_lives = !world.spec().collector.is_empty() || world.spec().obstacle.iter().any(dies);
        Self { bits, ends_lives }
    }
}

/// Pipelines of stepping.
#[derive(Debug)]
pub(crate) struct Stepping {
    pub(crate) fields: Fields,
    pub(crate) mark: wgpu::ComputePipeline,
    pub(crate) scan: wgpu::ComputePipeline,
    pub(crate) advance: wgpu::ComputePipeline,
    pub(crate) birth: wgpu::ComputePipeline,
}

#[derive(Debug)]
pub(crate) struct PopulationLayouts {
    pub(crate) groups: [Arc<BindGroupLayout>; 4],
}

impl PopulationLayouts {
    pub(crate) fn new(gpu: &Gpu) -> Self {
        use Bind::{Read, Uniform, Write};
        let step = (0, Uniform(true, STEP_WORDS * 4));
        let of = |label, binds: &[(u32, Bind)]| {
            let mut all = vec![step, (1, Write)];
            all.extend_from_slice(binds);
            Arc::new(layout(gpu, label, ShaderStages::COMPUTE, &all))
        };
        let events = (11, Uniform(false, MOST_EVENTS as u64 * EVENT_WORDS * 4));
        let old = [(3, Read), (4, Read), (5, Read)];
        let new = [(6, Write), (7, Write), (8, Write)];
        let mark = [&[(2, Write), events][..], &old].concat();
        let advance = [&[(2, Write), events][..], &old, &new].concat();
        let birth = [&new[..], &[(10, Bind::Moving)]].concat();
        Self {
            groups: [
                of("mark", &mark),
                of("wait", &[(2, Write), (9, Write), events]),
                of("advance", &advance),
                of("birth", &birth),
            ],
        }
    }

    pub(crate) fn pipelines(
        &self,
        gpu: &Gpu,
        fields: Fields,
        extra: [(&str, f64); 2],
        grids: &Grids,
        newborn: &Newborn,
    ) -> Result<Stepping, GpuError> {
        let [events, trails] = extra;
        let constants = [
            ("ENDS_LIVES", f64::from(u8::from(fields.ends_lives))),
            ("FEATURES", f64::from(fields.bits)),
            events,
            trails,
        ];
        let of = |nth: usize, entry, more: &[&BindGroupLayout], constants: &[(&str, f64)]| {
            let mut layouts = vec![Some(&*self.groups[nth])];
            layouts.extend(more.iter().copied().map(Some));
            compute(gpu, shader::STEP, entry, &layouts, constants)
        };
        let (grids, newborn) = (&**grids.layout(), &**newborn.layout());
        Ok(Stepping {
            fields,
            mark: of(0, "mark", &[grids], &constants)?,
            scan: of(1, "scan", &[], &[events])?,
            advance: of(2, "advance", &[grids], &constants)?,
            birth: of(3, "give_birth", &[grids, newborn], &constants[..2])?,
        })
    }
}
