//! Pipelines and bind group layouts, created when first needed.

use std::collections::HashMap;
use std::sync::Arc;

use frolic_draw::Look;
use wgpu::{
    BindGroupLayout, BlendComponent, BlendFactor, BlendOperation, RenderPipeline, ShaderModule, ShaderStages,
    TextureFormat,
};

use crate::device::compiled::RenderKey;
use crate::device::error::GpuError;
use crate::device::{DeviceCounters, Gpu};
use crate::draw::keys::{Bind, DrawnShape, Pass, PipelineKey, Source};
use crate::draw::looks::{Slot, closed, flags};
use crate::shaders::{self as shader, Program};
use crate::shared::Shared;
use crate::shared::finish::{BloomSize, Finish, SortPass};
use crate::shared::frame::FRAME_BYTES;
use crate::shared::look::{DRAW_BYTES, MERGED};

/// Linear light, which may exceed 1.
pub(crate) const LIGHT: TextureFormat = TextureFormat::Rgba16Float;
pub(crate) const DEPTH: TextureFormat = TextureFormat::Depth32Float;
pub(crate) const NEAREST: TextureFormat = TextureFormat::R32Float;
/// Format of the picture for a readback.
pub(crate) const PICTURE: TextureFormat = TextureFormat::Rgba8Unorm;

/// Samples of a pixel in passes that draw solid surfaces.
pub(crate) const SAMPLES: u32 = 4;

/// Bind group layouts. Binding numbers are those of the shaders.
#[derive(Debug)]
pub(crate) struct BindLayouts {
    pub(crate) frame: BindGroupLayout,
    pub(crate) look: BindGroupLayout,
    pub(crate) look_compute: BindGroupLayout,
    pub(crate) packed: BindGroupLayout,
    pub(crate) device: BindGroupLayout,
    pub(crate) packed_compute: BindGroupLayout,
    pub(crate) device_compute: BindGroupLayout,
    pub(crate) list: BindGroupLayout,
    pub(crate) list_sum: BindGroupLayout,
    pub(crate) digits: BindGroupLayout,
    pub(crate) backdrop: BindGroupLayout,
    pub(crate) compose: BindGroupLayout,
    pub(crate) bloom: BindGroupLayout,
    pub(crate) resolve: BindGroupLayout,
}

pub(crate) fn layout(gpu: &Gpu, label: &str, who: ShaderStages, binds: &[(u32, Bind)]) -> BindGroupLayout {
    let make = || {
        let entries: Vec<_> = binds
            .iter()
            .map(|&(binding, bind)| {
                let buffer = |ty, has_dynamic_offset, size| wgpu::BindingType::Buffer {
                    ty,
                    has_dynamic_offset,
                    min_binding_size: std::num::NonZeroU64::new(size),
                };
                let texture = |sample_type, multisampled| wgpu::BindingType::Texture {
                    sample_type,
                    view_dimension: wgpu::TextureViewDimension::D2,
                    multisampled,
                };
                let ty = match bind {
                    Bind::Uniform(moves, size) => buffer(wgpu::BufferBindingType::Uniform, moves, size),
                    Bind::Read => buffer(wgpu::BufferBindingType::Storage { read_only: true }, false, 0),
                    Bind::Moving => buffer(wgpu::BufferBindingType::Storage { read_only: true }, true, 0),
                    Bind::Write => buffer(wgpu::BufferBindingType::Storage { read_only: false }, false, 0),
                    Bind::Texture => texture(wgpu::TextureSampleType::Float { filterable: false }, false),
                    Bind::Numbers => texture(wgpu::TextureSampleType::Uint, false),
                    Bind::Depth => texture(wgpu::TextureSampleType::Depth, false),
                    Bind::Samples => texture(wgpu::TextureSampleType::Depth, true),
                };
                // Only compute shaders write buffers.
                let visibility = if matches!(bind, Bind::Write) { ShaderStages::COMPUTE } else { who };
                wgpu::BindGroupLayoutEntry { binding, visibility, ty, count: None }
            })
            .collect();
        gpu.device().create_bind_group_layout(&wgpu::BindGroupLayoutDescriptor {
            label: Some(label),
            entries: &entries,
        })
    };
    gpu.made().layout(who, binds, make)
}

/// Bytes of a uniform.
const fn bytes<T: Shared>() -> u64 {
    T::WORDS as u64 * 4
}

/// Bindings of a sort (`shaders/sort.wgsl`).
pub(crate) fn digits_layout(gpu: &Gpu) -> BindGroupLayout {
    use Bind::{Read, Uniform, Write};
    let digit = (0, Uniform(true, bytes::<SortPass>()));
    let binds = [digit, (1, Read), (2, Write), (3, Read), (4, Read), (5, Write), (6, Write)];
    layout(gpu, "digits", ShaderStages::COMPUTE, &binds)
}

impl BindLayouts {
    fn new(gpu: &Gpu) -> Self {
        use Bind::{Depth, Read, Samples, Texture, Uniform, Write};
        let drawn = ShaderStages::VERTEX_FRAGMENT;
        let all = drawn | ShaderStages::COMPUTE;
        let compute = ShaderStages::COMPUTE;
        let of = |label, who, binds: &[(u32, Bind)]| layout(gpu, label, who, binds);
        Self {
            frame: of("frame", all, &[(0, Uniform(true, FRAME_BYTES)), (1, Depth), (2, Texture)]),
            look: of("look", drawn, &[(0, Uniform(true, DRAW_BYTES)), (1, Read), (2, Read), (3, Texture)]),
            look_compute: of("look", compute, &[(0, Uniform(true, DRAW_BYTES)), (1, Read)]),
            packed: of("packed", drawn, &[(0, Read), (1, Read), (2, Read)]),
            device: of("resident", drawn, &[(0, Read), (1, Read), (2, Read), (3, Read), (4, Read)]),
            packed_compute: of("packed", compute, &[(2, Read)]),
            device_compute: of("resident", compute, &[(2, Read), (3, Read), (4, Read)]),
            list: of("list", compute, &[(0, Write), (1, Write), (2, Write), (3, Read)]),
            list_sum: of("list sum", compute, &[(0, Write), (3, Read), (4, Write)]),
            digits: digits_layout(gpu),
            backdrop: of("backdrop", drawn, &[(0, Texture), (1, Texture)]),
            compose: of("compose", drawn, &[(0, Texture), (1, Samples)]),
            bloom: of(
                "bloom",
                compute,
                &[
                    (0, Uniform(false, bytes::<BloomSize>())),
                    (1, Texture),
                    (2, Write),
                    (3, Write),
                    (4, Write),
                ],
            ),
            resolve: of(
                "resolve",
                drawn,
                &[(0, Uniform(false, bytes::<Finish>())), (1, Texture), (2, Read), (3, Texture)],
            ),
        }
    }
}

impl PipelineKey {
    pub(crate) fn new(look: &Look, source: Source, pass: Pass, slot: &Slot) -> Self {
        let depth = look.parts().depth;
        Self {
            shape: DrawnShape::of(look),
            source,
            pass,
            solid: look.is_solid(),
            test: depth.test,
            write: depth.write,
            closed: closed(look),
            flags: flags(look, slot),
        }
    }

    fn topology(&self) -> wgpu::PrimitiveTopology {
        if self.flags & MERGED != 0 || self.shape == DrawnShape::Facet {
            wgpu::PrimitiveTopology::TriangleList
        } else {
            wgpu::PrimitiveTopology::TriangleStrip
        }
    }
}

/// The pipelines of a device that a renderer has needed so far.
#[derive(Debug)]
pub(crate) struct Pipelines {
    pub(crate) gpu: Gpu,
    pub(crate) layouts: Arc<BindLayouts>,
    drawn: HashMap<PipelineKey, wgpu::RenderPipeline>,
}

/// Blending by opacity, with premultiplied colours. Additive colours have opacity 0.
const OVER: wgpu::BlendState = wgpu::BlendState {
    color: BlendComponent {
        src_factor: BlendFactor::One,
        dst_factor: BlendFactor::OneMinusSrcAlpha,
        operation: BlendOperation::Add,
    },
    alpha: BlendComponent {
        src_factor: BlendFactor::One,
        dst_factor: BlendFactor::OneMinusSrcAlpha,
        operation: BlendOperation::Add,
    },
};

impl Pipelines {
    pub(crate) fn new(gpu: &Gpu) -> Self {
        Self { gpu: gpu.clone(), layouts: Arc::new(BindLayouts::new(gpu)), drawn: HashMap::new() }
    }

    /// Creates a pipeline if it does not exist.
    pub(crate) fn make(&mut self, key: PipelineKey) -> Result<(), GpuError> {
        if self.drawn.contains_key(&key) {
            return Ok(());
        }
        let program = key.shape.program(key.source);
        let elements = match key.source {
            Source::Packed => &self.layouts.packed,
            Source::Device | Source::Flock | Source::Trail => &self.layouts.device,
        };
        let groups = [Some(&self.layouts.frame), Some(&self.layouts.look), Some(elements)];
        // If only one of the two meshes is closed, the shader decides for each fragment.
        let faces = key.closed == 1 || key.closed == 2;
        let one = |on: bool| if on { 1.0 } else { 0.0 };
        let constants = [
            ("FLAGS", f64::from(key.flags)),
            ("SOLID", one(key.solid)),
            ("FACES", one(faces)),
            ("SOFT", one(key.pass == Pass::Soft)),
        ];
        let greater = |write: bool, test: bool| wgpu::DepthStencilState {
            format: DEPTH,
            depth_write_enabled: Some(write),
            depth_compare: Some(if test {
                wgpu::CompareFunction::Greater
            } else {
                wgpu::CompareFunction::Always
            }),
            stencil: wgpu::StencilState::default(),
            bias: wgpu::DepthBiasState::default(),
        };
        let (colour, blend, depth, samples, entry) = match key.pass {
            Pass::Soft => (Some(LIGHT), Some(OVER), None, 1, "fragment"),
            Pass::Solid => (Some(LIGHT), None, Some(greater(key.write, key.test)), SAMPLES, "fragment"),
            Pass::Pieces => (Some(LIGHT), Some(OVER), Some(greater(false, key.test)), SAMPLES, "fragment"),
            Pass::Shadow => (None, None, Some(greater(true, true)), 1, "fragment_shadow"),
            Pass::External(target) => {
                let nearer = if target.reversed {
                    wgpu::CompareFunction::Greater
                } else {
                    wgpu::CompareFunction::Less
                };
                // In an external pass only solid surfaces write depth.
                let depth = target.depth.map(|format| wgpu::DepthStencilState {
                    format,
                    depth_write_enabled: Some(key.write && key.solid),
                    depth_compare: Some(if key.test { nearer } else { wgpu::CompareFunction::Always }),
                    stencil: wgpu::StencilState::default(),
                    bias: wgpu::DepthBiasState::default(),
                });
                (Some(target.colour), Some(OVER), depth, target.samples, "fragment_external")
            }
        };
        let gpu = &self.gpu;
        let options = wgpu::PipelineCompilationOptions { constants: &constants, ..Default::default() };
        let make = |module: &wgpu::ShaderModule| {
            gpu.device().create_render_pipeline(&wgpu::RenderPipelineDescriptor {
                label: Some(program.name),
                layout: Some(&pipeline_layout(gpu, &groups)),
                vertex: wgpu::VertexState {
                    module,
                    entry_point: Some("vertex"),
                    compilation_options: options.clone(),
                    buffers: &[],
                },
                primitive: wgpu::PrimitiveState {
                    topology: key.topology(),
                    cull_mode: (key.closed == 3).then_some(wgpu::Face::Back),
                    ..Default::default()
                },
                depth_stencil: depth,
                multisample: wgpu::MultisampleState { count: samples, ..Default::default() },
                fragment: Some(wgpu::FragmentState {
                    module,
                    entry_point: Some(entry),
                    compilation_options: options,
                    targets: &colour.map_or_else(Vec::new, |format| {
                        vec![Some(wgpu::ColorTargetState {
                            format,
                            blend,
                            write_mask: wgpu::ColorWrites::ALL,
                        })]
                    }),
                }),
                multiview_mask: None,
                cache: None,
            })
        };
        let pipeline = render(gpu, RenderKey::Elements(key), program, make)?;
        self.drawn.insert(key, pipeline);
        Ok(())
    }

    /// An existing pipeline.
    pub(crate) fn get(&self, key: &PipelineKey) -> Option<&wgpu::RenderPipeline> {
        self.drawn.get(key)
    }

    /// Returns the pipeline of a pass over the whole picture.
    pub(crate) fn wide(&self, entry: &'static str) -> Result<wgpu::RenderPipeline, GpuError> {
        let gpu = &self.gpu;
        let (program, layouts): (Program, Vec<Option<&BindGroupLayout>>) = match entry {
            "start" | "start_depth" => {
                (shader::BACKDROP, vec![Some(&self.layouts.frame), Some(&self.layouts.backdrop)])
            }
            "compose" | "compose_solid" => {
                (shader::COMPOSE, vec![Some(&self.layouts.frame), Some(&self.layouts.compose)])
            }
            _ => (shader::RESOLVE, vec![Some(&self.layouts.resolve)]),
        };
        let target = |format, blend, write_mask| Some(wgpu::ColorTargetState { format, blend, write_mask });
        let all = wgpu::ColorWrites::ALL;
        let samples = entry == "start_depth";
        let targets = match entry {
            "start" => vec![target(LIGHT, None, all)],
            "start_depth" => vec![target(LIGHT, None, wgpu::ColorWrites::empty())],
            "compose" => vec![target(LIGHT, Some(OVER), all)],
            "compose_solid" => vec![target(LIGHT, Some(OVER), all), target(NEAREST, None, all)],
            _ => vec![target(PICTURE, None, all)],
        };
        let make = |module: &wgpu::ShaderModule| {
            gpu.device().create_render_pipeline(&wgpu::RenderPipelineDescriptor {
                label: Some(entry),
                layout: Some(&pipeline_layout(gpu, &layouts)),
                vertex: wgpu::VertexState {
                    module,
                    entry_point: Some("wide"),
                    compilation_options: Default::default(),
                    buffers: &[],
                },
                primitive: wgpu::PrimitiveState::default(),
                depth_stencil: samples.then(|| wgpu::DepthStencilState {
                    format: DEPTH,
                    depth_write_enabled: Some(true),
                    depth_compare: Some(wgpu::CompareFunction::Always),
                    stencil: wgpu::StencilState::default(),
                    bias: wgpu::DepthBiasState::default(),
                }),
                multisample: wgpu::MultisampleState {
                    count: if samples { SAMPLES } else { 1 },
                    ..Default::default()
                },
                fragment: Some(wgpu::FragmentState {
                    module,
                    entry_point: Some(entry),
                    compilation_options: Default::default(),
                    targets: &targets,
                }),
                multiview_mask: None,
                cache: None,
            })
        };
        render(gpu, RenderKey::Wide(entry), program, make)
    }
}

pub(crate) fn pipeline_layout(gpu: &Gpu, groups: &[Option<&BindGroupLayout>]) -> wgpu::PipelineLayout {
    gpu.device().create_pipeline_layout(&wgpu::PipelineLayoutDescriptor {
        label: None,
        bind_group_layouts: groups,
        immediate_size: 0,
    })
}

/// Returns the compiled module of a program.
fn module(gpu: &Gpu, program: Program) -> Result<ShaderModule, GpuError> {
    gpu.made().modules.get(program.name, || program.compile(gpu))
}

/// Returns a render pipeline, compiled on first use.
fn render(
    gpu: &Gpu,
    key: RenderKey,
    program: Program,
    make: impl FnOnce(&ShaderModule) -> RenderPipeline,
) -> Result<RenderPipeline, GpuError> {
    gpu.made().render.get(key, || {
        let pipeline = make(&module(gpu, program)?);
        gpu.check().map(|()| pipeline)
    })
}

/// Returns a compute pipeline, compiled on first use.
pub(crate) fn compute(
    gpu: &Gpu,
    program: Program,
    entry: &'static str,
    layouts: &[Option<&BindGroupLayout>],
    constants: &[(&str, f64)],
) -> Result<wgpu::ComputePipeline, GpuError> {
    let key = (
        program.name,
        entry,
        layouts.iter().map(|layout| layout.cloned()).collect(),
        constants.iter().map(|(name, value)| ((*name).to_owned(), value.to_bits())).collect(),
    );
    gpu.made().compute.get(key, || {
        let pipeline = gpu.device().create_compute_pipeline(&wgpu::ComputePipelineDescriptor {
            label: Some(entry),
            layout: Some(&pipeline_layout(gpu, layouts)),
            module: &module(gpu, program)?,
            entry_point: Some(entry),
            compilation_options: wgpu::PipelineCompilationOptions { constants, ..Default::default() },
            cache: None,
        });
        gpu.check().map(|()| pipeline)
    })
}

/// A bind group of these resources, by binding number.
pub(crate) fn group(
    gpu: &Gpu,
    layout: &BindGroupLayout,
    resources: &[(u32, wgpu::BindingResource<'_>)],
) -> wgpu::BindGroup {
    let entries: Vec<_> = resources
        .iter()
        .map(|(binding, resource)| wgpu::BindGroupEntry { binding: *binding, resource: resource.clone() })
        .collect();
    gpu.device().create_bind_group(&wgpu::BindGroupDescriptor { label: None, layout, entries: &entries })
}

/// Sets the pipeline and bind group of the next dispatch, and counts both.
pub(crate) fn set_dispatch(
    pass: &mut wgpu::ComputePass<'_>,
    counters: &mut DeviceCounters,
    pipeline: &wgpu::ComputePipeline,
    bound: &wgpu::BindGroup,
    offsets: &[u32],
) {
    pass.set_pipeline(pipeline);
    pass.set_bind_group(0, bound, offsets);
    counters.pipelines += 1;
    counters.binds += 1;
    counters.dispatches += 1;
}

/// The window of a buffer that a uniform with a dynamic offset reads.
pub(crate) fn window(buffer: &wgpu::Buffer, bytes: u64) -> wgpu::BindingResource<'_> {
    wgpu::BindingResource::Buffer(wgpu::BufferBinding {
        buffer,
        offset: 0,
        size: std::num::NonZeroU64::new(bytes),
    })
}

impl DrawnShape {
    fn program(self, source: Source) -> Program {
        match (self, source) {
            (Self::Disc, Source::Packed) => shader::DISC,
            (Self::Disc, Source::Flock) => shader::DISC_OF_FLOCK,
            (Self::Disc, _) => shader::DISC_ON_DEVICE,
            (Self::Quad, Source::Packed) => shader::RECTANGLE,
            (Self::Quad, Source::Flock) => shader::RECTANGLE_OF_FLOCK,
            (Self::Quad, _) => shader::RECTANGLE_ON_DEVICE,
            (Self::Facet | Self::Billboard, Source::Packed) => shader::MESH,
            (Self::Facet | Self::Billboard, Source::Flock) => shader::MESH_OF_FLOCK,
            (Self::Facet | Self::Billboard, _) => shader::MESH_ON_DEVICE,
            (Self::Ribbon, Source::Packed) => shader::RIBBON,
            (Self::Ribbon, Source::Device) => shader::RIBBON_ON_DEVICE,
            (Self::Ribbon, Source::Flock) => shader::RIBBON_OF_FLOCK,
            (Self::Ribbon, Source::Trail) => shader::RIBBON_TRAIL,
        }
    }
}
