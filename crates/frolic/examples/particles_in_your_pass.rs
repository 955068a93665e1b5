//! A population in a pass of your own: your device, your cube, your depth buffer, and sparks among them by three calls.
//!
//! Run it with `cargo run --release --features gpu --example particles_in_your_pass -- FOLDER`; it writes `particles_in_your_pass.png`. Without a
//! graphics device install software Vulkan (Debian: `apt-get install mesa-vulkan-drivers`).

use std::error::Error;

use frolic::gpu::wgpu;
use frolic::gpu::{ExternalPopulation, ExternalTarget, ExternalView};
use frolic::prelude::*;
use glam::{Mat4, Vec3, camera};

const SIZE: [u32; 2] = [1280, 800];
const COLOUR: wgpu::TextureFormat = wgpu::TextureFormat::Rgba8UnormSrgb;
const DEPTH: wgpu::TextureFormat = wgpu::TextureFormat::Depth32Float;
const SAMPLES: u32 = 4;

/// The program's own things: a beacon stone and the ground, lit from the upper left.
const CUBE: &str = "
struct Thing { clip: mat4x4<f32>, shade: vec4<f32> }
@group(0) @binding(0) var<uniform> thing: Thing;
struct Out { @builtin(position) at: vec4<f32>, @location(0) normal: vec3<f32>, @location(1) place: vec3<f32> }
@vertex fn vertex(@builtin(vertex_index) nth: u32) -> Out {
    let side = nth / 6u;
    let k = array(0u, 1u, 2u, 2u, 1u, 3u)[nth % 6u];
    let uv = vec2(f32(k & 1u), f32(k >> 1u)) * 2.0 - 1.0;
    let way = select(-1.0, 1.0, side % 2u == 0u);
    var normal = vec3(way, 0.0, 0.0);
    var place = vec3(way, uv.x * way, uv.y);
    if side / 2u == 1u { normal = normal.yxz; place = vec3(uv.y, way, uv.x * way); }
    if side / 2u == 2u { normal = normal.zyx; place = vec3(uv.x * way, uv.y, way); }
    return Out(thing.clip * vec4(place, 1.0), normal, place);
}
@fragment fn fragment(in: Out) -> @location(0) vec4<f32> {
    let shade = thing.shade;
    let light = 0.08 + max(dot(in.normal, normalize(vec3(-0.5, 0.8, 0.5))), 0.0) * 0.5;
    let glow = vec3(1.0, 0.42, 0.12) * max(in.normal.y, 0.0) / (0.25 + dot(in.place.xz, in.place.xz)) * 0.16;
    let far = smoothstep(0.3, 1.0, length(in.place.xz) * shade.y);
    return vec4(mix((vec3(0.20, 0.24, 0.30) * light + glow) * shade.x, vec3(0.008, 0.012, 0.028), far), 1.0);
}";

fn main() -> Result<(), Box<dyn Error>> {
    // What your program has already: a device with WebGPU's default limits, and textures to draw to.
    let instance = wgpu::Instance::new(wgpu::InstanceDescriptor::new_without_display_handle());
    let adapter = pollster::block_on(instance.request_adapter(&wgpu::RequestAdapterOptions::default()))?;
    let (device, queue) = pollster::block_on(adapter.request_device(&wgpu::DeviceDescriptor::default()))?;
    let (picture, samples, depth) =
        (texture(&device, COLOUR, 1), texture(&device, COLOUR, SAMPLES), texture(&device, DEPTH, SAMPLES));
    let [shown, samples, depth] =
        [&picture, &samples, &depth].map(|texture| texture.create_view(&Default::default()));
    let view = camera::rh::view::look_at_mat4(Vec3::new(3.9, 2.3, 7.2), Vec3::new(0.0, 0.75, 0.0), Vec3::Y);
    let projection =
        camera::rh::proj::directx::perspective(0.75, SIZE[0] as f32 / SIZE[1] as f32, 0.1, 100.0);
    let clip = projection * view;
    let stone = Cube::new(&device, &queue, clip, [1.0, 0.0]);
    let ground =
        Mat4::from_translation(Vec3::new(0.0, -1.02, 0.0)) * Mat4::from_scale(Vec3::new(9.0, 0.02, 9.0));
    let ground = Cube::new(&device, &queue, clip * ground, [0.2, 1.0]);

    // Call one: the sparks.
    let spec = ParticleSpec::new(60_000).life(1.2, 3.2).size(0.005, 0.015).motion(0.35, 0.5).emitter(
        EmitterSpec::rate(14_000.0)
            .position([0.0, 1.02, 0.0])
            .shape(ShapeSpec::Disc { radius: 0.12, normal: [0.0, 1.0, 0.0] })
            .cone([0.0, 1.0, 0.0], 24.0)
            .speed(2.5, 6.2),
    );
    let look = LookSpec::glowing(1.5, [(0.0, "#ffd9a0"), (0.4, "#ff7a20"), (1.0, "#5a0c04")])?
        .opacity_over_age([(0.0, 0.0), (0.05, 0.9), (1.0, 0.0)])
        .build()?;
    let target = ExternalTarget::new(COLOUR).depth(DEPTH, false).samples(SAMPLES);
    let mut sparks = ExternalPopulation::new(&device, &queue, &spec, &look, target, 7)?;

    let seen = ExternalView::new(
        ImageSize::new(SIZE[0], SIZE[1])?,
        view.to_cols_array_2d(),
        projection.to_cols_array_2d(),
    )?;
    // They bounce off the ground that your program draws.
    let floor = ObstacleSpec::plane([0.0, -1.0, 0.0], [0.0, 1.0, 0.0]).bounce(0.45, 0.2);
    let world = WorldSpec::default().wind([1.6, 0.0, 0.3]).gusts(1.2, 1.1).obstacle(floor).build()?;
    let mut meter = Meter::new();
    let mut frame = Frame::default();
    for _ in 0..100 {
        meter.begin_frame();
        let mut encoder = device.create_command_encoder(&Default::default());
        // Call two: two steps and all that drawing needs, into your encoder.
        sparks.step(&mut encoder, &world, 1.0 / 60.0, 2, &seen, &mut meter)?;
        {
            let mut pass = encoder.begin_render_pass(&wgpu::RenderPassDescriptor {
                label: Some("yours"),
                color_attachments: &[Some(wgpu::RenderPassColorAttachment {
                    view: &samples,
                    depth_slice: None,
                    resolve_target: Some(&shown),
                    ops: wgpu::Operations {
                        load: wgpu::LoadOp::Clear(wgpu::Color { r: 0.008, g: 0.012, b: 0.028, a: 1.0 }),
                        store: wgpu::StoreOp::Store,
                    },
                })],
                depth_stencil_attachment: Some(wgpu::RenderPassDepthStencilAttachment {
                    view: &depth,
                    depth_ops: Some(wgpu::Operations {
                        load: wgpu::LoadOp::Clear(1.0),
                        store: wgpu::StoreOp::Store,
                    }),
                    stencil_ops: None,
                }),
                ..Default::default()
            });
            ground.draw(&mut pass);
            stone.draw(&mut pass);
            // Call three: into your pass, behind and before your cube.
            sparks.draw(&mut pass)?;
        }
        queue.submit([encoder.finish()]);
        frame = meter.end_frame();
    }

    let folder = std::env::args().nth(1).unwrap_or_else(|| ".".to_owned());
    let path = std::path::Path::new(&folder).join("particles_in_your_pass.png");
    write_png(&path, &read_back(&device, &queue, &picture)?)?;
    let news = sparks.statistics();
    println!(
        "{}: {} alive, {} bounces off the ground, {} bytes of elements uploaded, heard without waiting",
        path.display(),
        news.alive,
        news.hits,
        frame.count(Counter::UploadedElementBytes),
    );
    Ok(())
}

fn texture(device: &wgpu::Device, format: wgpu::TextureFormat, sample_count: u32) -> wgpu::Texture {
    device.create_texture(&wgpu::TextureDescriptor {
        label: None,
        size: wgpu::Extent3d { width: SIZE[0], height: SIZE[1], depth_or_array_layers: 1 },
        mip_level_count: 1,
        sample_count,
        dimension: wgpu::TextureDimension::D2,
        format,
        usage: if sample_count > 1 {
            wgpu::TextureUsages::RENDER_ATTACHMENT
        } else {
            wgpu::TextureUsages::RENDER_ATTACHMENT | wgpu::TextureUsages::COPY_SRC
        },
        view_formats: &[],
    })
}

/// What stands for all else that your program draws.
struct Cube {
    pipeline: wgpu::RenderPipeline,
    group: wgpu::BindGroup,
}

impl Cube {
    fn new(device: &wgpu::Device, queue: &wgpu::Queue, clip: Mat4, [tone, far]: [f32; 2]) -> Self {
        let module = device.create_shader_module(wgpu::ShaderModuleDescriptor {
            label: None,
            source: wgpu::ShaderSource::Wgsl(CUBE.into()),
        });
        let pipeline = device.create_render_pipeline(&wgpu::RenderPipelineDescriptor {
            label: None,
            layout: None,
            vertex: wgpu::VertexState {
                module: &module,
                entry_point: None,
                compilation_options: Default::default(),
                buffers: &[],
            },
            primitive: wgpu::PrimitiveState::default(),
            depth_stencil: Some(wgpu::DepthStencilState {
                format: DEPTH,
                depth_write_enabled: Some(true),
                depth_compare: Some(wgpu::CompareFunction::Less),
                stencil: Default::default(),
                bias: Default::default(),
            }),
            multisample: wgpu::MultisampleState { count: SAMPLES, ..Default::default() },
            fragment: Some(wgpu::FragmentState {
                module: &module,
                entry_point: None,
                compilation_options: Default::default(),
                targets: &[Some(COLOUR.into())],
            }),
            multiview_mask: None,
            cache: None,
        });
        let matrix = device.create_buffer(&wgpu::BufferDescriptor {
            label: None,
            size: 80,
            usage: wgpu::BufferUsages::UNIFORM | wgpu::BufferUsages::COPY_DST,
            mapped_at_creation: false,
        });
        let numbers = clip.to_cols_array().into_iter().chain([tone, far, 0.0, 0.0]);
        let bytes: Vec<u8> = numbers.flat_map(|v| v.to_ne_bytes()).collect();
        queue.write_buffer(&matrix, 0, &bytes);
        let group = device.create_bind_group(&wgpu::BindGroupDescriptor {
            label: None,
            layout: &pipeline.get_bind_group_layout(0),
            entries: &[wgpu::BindGroupEntry { binding: 0, resource: matrix.as_entire_binding() }],
        });
        Self { pipeline, group }
    }

    fn draw(&self, pass: &mut wgpu::RenderPass<'_>) {
        pass.set_pipeline(&self.pipeline);
        pass.set_bind_group(0, &self.group, &[]);
        pass.draw(0..36, 0..1);
    }
}

/// Your own way to a file: a copy to a buffer that is read when it is there.
fn read_back(
    device: &wgpu::Device,
    queue: &wgpu::Queue,
    texture: &wgpu::Texture,
) -> Result<Image, Box<dyn Error>> {
    let row = SIZE[0] * 4;
    let buffer = device.create_buffer(&wgpu::BufferDescriptor {
        label: None,
        size: u64::from(row * SIZE[1]),
        usage: wgpu::BufferUsages::MAP_READ | wgpu::BufferUsages::COPY_DST,
        mapped_at_creation: false,
    });
    let mut encoder = device.create_command_encoder(&Default::default());
    encoder.copy_texture_to_buffer(
        texture.as_image_copy(),
        wgpu::TexelCopyBufferInfo {
            buffer: &buffer,
            layout: wgpu::TexelCopyBufferLayout { offset: 0, bytes_per_row: Some(row), rows_per_image: None },
        },
        texture.size(),
    );
    queue.submit([encoder.finish()]);
    buffer.map_async(wgpu::MapMode::Read, .., |_| {});
    device.poll(wgpu::PollType::wait_indefinitely())?;
    let bytes = buffer.get_mapped_range(..)?;
    let mut image = Image::new(ImageSize::new(SIZE[0], SIZE[1])?);
    image.paint(|x, y| std::array::from_fn(|k| bytes[(y * row + x * 4) as usize + k]));
    Ok(image)
}
