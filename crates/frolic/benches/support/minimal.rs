//! A program of one purpose, by hand: particles stepped and drawn on a device in as few lines as will do. It makes the same passes as the
//! library for the same population, and knows nothing else.

use frolic::gpu::wgpu::{self, BufferUsages, TextureFormat, TextureUsages};

/// Elements of a thread group.
const GROUP: u32 = 256;
const LIGHT: TextureFormat = TextureFormat::Rgba16Float;
const PICTURE: TextureFormat = TextureFormat::Rgba8Unorm;

/// The program.
pub(crate) struct Minimal {
    device: wgpu::Device,
    queue: wgpu::Queue,
    count: u32,
    uniform: wgpu::Buffer,
    calls: [wgpu::Buffer; 2],
    compute: [wgpu::ComputePipeline; 4],
    /// Of each state that is read: the four of stepping, and drawing.
    groups: [[wgpu::BindGroup; 5]; 2],
    draw: wgpu::RenderPipeline,
    finish: wgpu::RenderPipeline,
    finish_group: wgpu::BindGroup,
    light: wgpu::TextureView,
    picture: wgpu::TextureView,
    now: usize,
}

impl Minimal {
    /// Room for so many, drawn at 1280x800.
    pub(crate) fn new(device: &wgpu::Device, queue: &wgpu::Queue, count: u32) -> Self {
        let module = device.create_shader_module(wgpu::ShaderModuleDescriptor {
            label: None,
            source: wgpu::ShaderSource::Wgsl(include_str!("minimal.wgsl").into()),
        });
        let buffer = |bytes: u64, usage| {
            device.create_buffer(&wgpu::BufferDescriptor {
                label: None,
                size: bytes.max(256),
                usage,
                mapped_at_creation: false,
            })
        };
        let n = u64::from(count);
        let columns = [0, 1].map(|_| [16, 16, 8].map(|bytes| buffer(n * bytes, BufferUsages::STORAGE)));
        let book = buffer(64, BufferUsages::STORAGE);
        let blocks = buffer(n.div_ceil(u64::from(GROUP)) * 4, BufferUsages::STORAGE);
        let uniform = buffer(32, BufferUsages::UNIFORM | BufferUsages::COPY_DST);
        let calls = [0, 1].map(|_| buffer(64, BufferUsages::STORAGE | BufferUsages::INDIRECT));
        let compute = ["mark", "settle", "advance", "birth"].map(|entry| {
            device.create_compute_pipeline(&wgpu::ComputePipelineDescriptor {
                label: None,
                layout: None,
                module: &module,
                entry_point: Some(entry),
                compilation_options: Default::default(),
                cache: None,
            })
        });
        let add = wgpu::BlendComponent {
            src_factor: wgpu::BlendFactor::One,
            dst_factor: wgpu::BlendFactor::OneMinusSrcAlpha,
            operation: wgpu::BlendOperation::Add,
        };
        let render = |vertex, fragment, format, blend, topology| {
            device.create_render_pipeline(&wgpu::RenderPipelineDescriptor {
                label: None,
                layout: None,
                vertex: wgpu::VertexState {
                    module: &module,
                    entry_point: Some(vertex),
                    compilation_options: Default::default(),
                    buffers: &[],
                },
                primitive: wgpu::PrimitiveState { topology, ..Default::default() },
                depth_stencil: None,
                multisample: Default::default(),
                fragment: Some(wgpu::FragmentState {
                    module: &module,
                    entry_point: Some(fragment),
                    compilation_options: Default::default(),
                    targets: &[Some(wgpu::ColorTargetState {
                        format,
                        blend,
                        write_mask: wgpu::ColorWrites::ALL,
                    })],
                }),
                multiview_mask: None,
                cache: None,
            })
        };
        let over = Some(wgpu::BlendState { color: add, alpha: add });
        let draw = render("vertex", "fragment", LIGHT, over, wgpu::PrimitiveTopology::TriangleStrip);
        let finish = render("wide", "finish", PICTURE, None, wgpu::PrimitiveTopology::TriangleList);
        let texture = |format| {
            let texture = device.create_texture(&wgpu::TextureDescriptor {
                label: None,
                size: wgpu::Extent3d { width: 1280, height: 800, depth_or_array_layers: 1 },
                mip_level_count: 1,
                sample_count: 1,
                dimension: wgpu::TextureDimension::D2,
                format,
                usage: TextureUsages::RENDER_ATTACHMENT | TextureUsages::TEXTURE_BINDING,
                view_formats: &[],
            });
            texture.create_view(&Default::default())
        };
        let (light, picture) = (texture(LIGHT), texture(PICTURE));
        let group = |layout: &wgpu::BindGroupLayout, all: &[(u32, wgpu::BindingResource<'_>)]| {
            let entries: Vec<_> = all
                .iter()
                .map(|(binding, resource)| wgpu::BindGroupEntry {
                    binding: *binding,
                    resource: resource.clone(),
                })
                .collect();
            device.create_bind_group(&wgpu::BindGroupDescriptor { label: None, layout, entries: &entries })
        };
        let groups = [0, 1].map(|from| {
            let (old, new) = (&columns[from], &columns[1 - from]);
            let all = [
                (0, uniform.as_entire_binding()),
                (1, book.as_entire_binding()),
                (2, blocks.as_entire_binding()),
                (3, old[0].as_entire_binding()),
                (4, old[1].as_entire_binding()),
                (5, old[2].as_entire_binding()),
                (6, new[0].as_entire_binding()),
                (7, new[1].as_entire_binding()),
                (8, new[2].as_entire_binding()),
                (9, calls[1 - from].as_entire_binding()),
            ];
            let of = |used: &[usize]| used.iter().map(|&nth| all[nth].clone()).collect::<Vec<_>>();
            let layout = |nth: usize| compute[nth].get_bind_group_layout(0);
            [
                group(&layout(0), &of(&[0, 1, 2, 5])),
                group(&layout(1), &of(&[0, 1, 2, 9])),
                group(&layout(2), &of(&[0, 1, 2, 3, 4, 5, 6, 7, 8])),
                group(&layout(3), &of(&[1, 6, 7, 8])),
                group(&draw.get_bind_group_layout(0), &of(&[0, 3, 5])),
            ]
        });
        let finish_group =
            group(&finish.get_bind_group_layout(0), &[(10, wgpu::BindingResource::TextureView(&light))]);
        let (device, queue) = (device.clone(), queue.clone());
        Self {
            device,
            queue,
            count,
            uniform,
            calls,
            compute,
            groups,
            draw,
            finish,
            finish_group,
            light,
            picture,
            now: 0,
        }
    }

    /// A frame: one step, `due` births, one picture if wanted; then a wait.
    pub(crate) fn frame(&mut self, dt: f32, due: u32, draws: bool) {
        let (drag, parity) = (0.1f32, self.now as u32);
        let keep = (-drag * dt).exp();
        let words = [
            dt.to_bits(),
            keep.to_bits(),
            ((1.0 - keep) / drag).to_bits(),
            due,
            self.count,
            parity,
            (2.0f32 / 12.8).to_bits(),
            (2.0f32 / 8.0).to_bits(),
        ];
        let bytes: Vec<u8> = words.iter().flat_map(|word| word.to_ne_bytes()).collect();
        self.queue.write_buffer(&self.uniform, 0, &bytes);
        let mut encoder = self.device.create_command_encoder(&Default::default());
        {
            let groups = &self.groups[self.now];
            let mut pass = encoder.begin_compute_pass(&Default::default());
            for nth in 0..4 {
                pass.set_pipeline(&self.compute[nth]);
                pass.set_bind_group(0, &groups[nth], &[]);
                match nth {
                    1 => pass.dispatch_workgroups(1, 1, 1),
                    3 => pass.dispatch_workgroups(due.min(self.count).div_ceil(GROUP), 1, 1),
                    _ => pass.dispatch_workgroups_indirect(&self.calls[self.now], 0),
                }
            }
        }
        self.now = 1 - self.now;
        for (nth, view) in [&self.light, &self.picture].into_iter().enumerate().filter(|_| draws) {
            let mut pass = encoder.begin_render_pass(&wgpu::RenderPassDescriptor {
                color_attachments: &[Some(wgpu::RenderPassColorAttachment {
                    view,
                    depth_slice: None,
                    resolve_target: None,
                    ops: wgpu::Operations {
                        load: wgpu::LoadOp::Clear(wgpu::Color::BLACK),
                        store: wgpu::StoreOp::Store,
                    },
                })],
                ..Default::default()
            });
            if nth == 0 {
                pass.set_pipeline(&self.draw);
                pass.set_bind_group(0, &self.groups[self.now][4], &[]);
                pass.draw_indirect(&self.calls[self.now], 16);
            } else {
                pass.set_pipeline(&self.finish);
                pass.set_bind_group(0, &self.finish_group, &[]);
                pass.draw(0..3, 0..1);
            }
        }
        self.queue.submit([encoder.finish()]);
        self.device.poll(wgpu::PollType::wait_indefinitely()).unwrap();
    }
}
