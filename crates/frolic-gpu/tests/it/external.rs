//! A population in a pass of somebody else's: its device, its depth buffer, its camera.

use crate::common::plain_device;
use frolic_core::{Counter, EmitterSpec, Meter, ParticleSpec, ShapeSpec, WorldSpec};
use frolic_draw::{Blend, ImageSize, Look, LookSpec, Shape};
use frolic_gpu::{ExternalPopulation, ExternalTarget, ExternalView, wgpu};
use glam::{Mat4, Vec3, camera::rh};

const SIDE: u32 = 64;

/// What a program keeps: a device, a colour and a depth texture.
struct Host {
    device: wgpu::Device,
    queue: wgpu::Queue,
    colour: wgpu::Texture,
    depth: wgpu::Texture,
}

impl Host {
    fn new() -> Self {
        let (device, queue) = plain_device();
        let texture = |format| {
            device.create_texture(&wgpu::TextureDescriptor {
                label: None,
                size: wgpu::Extent3d { width: SIDE, height: SIDE, depth_or_array_layers: 1 },
                mip_level_count: 1,
                sample_count: 1,
                dimension: wgpu::TextureDimension::D2,
                format,
                usage: wgpu::TextureUsages::RENDER_ATTACHMENT | wgpu::TextureUsages::COPY_SRC,
                view_formats: &[],
            })
        };
        let (colour, depth) =
            (texture(wgpu::TextureFormat::Rgba8Unorm), texture(wgpu::TextureFormat::Depth32Float));
        Self { device, queue, colour, depth }
    }

    /// A frame whose depth buffer the program has filled with `near`; returns the sum of light in the picture.
    fn frame(
        &self,
        external: &mut ExternalPopulation,
        view: &ExternalView,
        near: f32,
        steps: u32,
        meter: &mut Meter,
    ) -> u64 {
        let mut world = WorldSpec::default();
        world.gravity = [0.0; 3];
        let world = world.build().unwrap();
        let mut encoder = self.device.create_command_encoder(&Default::default());
        external.step(&mut encoder, &world, 1.0 / 60.0, steps, view, meter).unwrap();
        let (colour, depth) =
            (self.colour.create_view(&Default::default()), self.depth.create_view(&Default::default()));
        {
            let mut pass = encoder.begin_render_pass(&wgpu::RenderPassDescriptor {
                color_attachments: &[Some(wgpu::RenderPassColorAttachment {
                    view: &colour,
                    depth_slice: None,
                    resolve_target: None,
                    ops: wgpu::Operations {
                        load: wgpu::LoadOp::Clear(wgpu::Color::BLACK),
                        store: wgpu::StoreOp::Store,
                    },
                })],
                depth_stencil_attachment: Some(wgpu::RenderPassDepthStencilAttachment {
                    view: &depth,
                    depth_ops: Some(wgpu::Operations {
                        load: wgpu::LoadOp::Clear(near),
                        store: wgpu::StoreOp::Store,
                    }),
                    stencil_ops: None,
                }),
                ..Default::default()
            });
            external.draw(&mut pass).unwrap();
        }
        let row = SIDE * 4;
        let buffer = self.device.create_buffer(&wgpu::BufferDescriptor {
            label: None,
            size: u64::from(row * SIDE),
            usage: wgpu::BufferUsages::MAP_READ | wgpu::BufferUsages::COPY_DST,
            mapped_at_creation: false,
        });
        let layout =
            wgpu::TexelCopyBufferLayout { offset: 0, bytes_per_row: Some(row), rows_per_image: None };
        encoder.copy_texture_to_buffer(
            self.colour.as_image_copy(),
            wgpu::TexelCopyBufferInfo { buffer: &buffer, layout },
            self.colour.size(),
        );
        self.queue.submit([encoder.finish()]);
        buffer.map_async(wgpu::MapMode::Read, .., |_| {});
        self.device.poll(wgpu::PollType::wait_indefinitely()).unwrap();
        let bytes = buffer.get_mapped_range(..).unwrap();
        bytes.chunks(4).map(|pixel| u64::from(pixel[0]) + u64::from(pixel[1]) + u64::from(pixel[2])).sum()
    }
}

fn spec() -> ParticleSpec {
    let emitter = EmitterSpec::burst(300, 0.0).shape(ShapeSpec::Sphere { radius: 0.8 }).speed(0.0, 0.0);
    ParticleSpec::new(300).life(50.0, 60.0).size(0.1, 0.2).motion(0.0, 0.0).emitter(emitter)
}

fn looks() -> [Look; 2] {
    let ball = Shape::mesh("ball");
    let mut glow = LookSpec::default().opacity_over_age([(0.0, 0.3)]);
    glow.blend = Blend::Additive;
    [glow.build().unwrap(), LookSpec::solid(ball, "#c0a080").unwrap().build().unwrap()]
}

/// The program's depth buffer hides what is behind it, whatever its convention: half of a ball of elements lies behind its middle.
#[test]
fn the_hosts_depth_hides_what_is_behind() {
    let host = Host::new();
    let view = rh::view::look_at_mat4(Vec3::new(0.0, 0.0, 4.0), Vec3::ZERO, Vec3::Y);
    let projections = [
        (rh::proj::directx::perspective(0.6, 1.0, 0.5, 50.0), false, 1.0f32),
        (rh::proj::directx::perspective_infinite_reverse(0.6, 1.0, 0.5), true, 0.0),
    ];
    for look in looks() {
        let mut whole = Vec::new();
        for (projection, reversed, far) in projections {
            let seen = ExternalView::new(
                ImageSize::new(SIDE, SIDE).unwrap(),
                view.to_cols_array_2d(),
                projection.to_cols_array_2d(),
            )
            .unwrap();
            let target = ExternalTarget::new(wgpu::TextureFormat::Rgba8Unorm)
                .depth(wgpu::TextureFormat::Depth32Float, reversed);
            let mut external =
                ExternalPopulation::new(&host.device, &host.queue, &spec(), &look, target, 3).unwrap();
            let mut meter = Meter::new();
            let all = host.frame(&mut external, &seen, far, 1, &mut meter);
            // A wall through the middle, as the program's own projection has it.
            let wall = projection * Vec3::new(0.0, 0.0, -4.0).extend(1.0);
            let half = host.frame(&mut external, &seen, wall.z / wall.w, 0, &mut meter);
            let none = host.frame(&mut external, &seen, if reversed { 1.0 } else { 0.0 }, 0, &mut meter);
            assert!(all > 20_000 && none == 0, "{all} and {none}");
            assert!(half * 10 > all * 3 && half < all, "{half} of {all}");
            whole.push(all);
        }
        let [a, b] = whole[..] else { panic!("two conventions") };
        assert!(a.abs_diff(b) * 500 <= a, "{a} and {b}: the picture is the same in either convention");
    }
}

#[test]
fn readback_does_not_wait_and_uploads_stay_small() {
    let host = Host::new();
    let view = rh::view::look_at_mat4(Vec3::new(0.0, 0.0, 4.0), Vec3::ZERO, Vec3::Y);
    let projection = rh::proj::directx::perspective(0.6, 1.0, 0.5, 50.0);
    let seen = ExternalView::new(
        ImageSize::new(SIDE, SIDE).unwrap(),
        view.to_cols_array_2d(),
        projection.to_cols_array_2d(),
    )
    .unwrap()
    .exposure(0.5);
    let target =
        ExternalTarget::new(wgpu::TextureFormat::Rgba8Unorm).depth(wgpu::TextureFormat::Depth32Float, false);
    let [look, _] = looks();
    let mut external = ExternalPopulation::new(&host.device, &host.queue, &spec(), &look, target, 3).unwrap();
    let mut meter = Meter::new();
    for nth in 0..5 {
        meter.begin_frame();
        host.frame(&mut external, &seen, 1.0, 2, &mut meter);
        let frame = meter.end_frame();
        assert_eq!(frame.count(Counter::UploadedElementBytes), 0);
        assert_eq!(frame.count(Counter::Submits), 0, "the host submits");
        assert!(nth == 0 || frame.count(Counter::UploadedBytes) < 8_000);
    }
    assert_eq!(external.statistics().alive, 300);
    assert!(external.statistics().steps >= 6);
    let mut encoder = host.device.create_command_encoder(&Default::default());
    let world = WorldSpec::default().build().unwrap();
    let told = external.step(&mut encoder, &world, 0.1, 65, &seen, &mut meter).unwrap_err();
    assert!(told.to_string().contains("take at most 64"), "{told}");
}

#[test]
fn bad_cameras_are_refused() {
    let size = ImageSize::new(128, 64).unwrap();
    let (view, fit) = (Mat4::IDENTITY, rh::proj::directx::perspective(0.6, 2.0, 0.5, 50.0));
    let told = |view: Mat4, projection: Mat4| {
        let made = ExternalView::new(size, view.to_cols_array_2d(), projection.to_cols_array_2d());
        made.map_or_else(|error| error.to_string(), |_| "taken".to_owned())
    };
    assert_eq!(told(view, fit), "taken");
    assert!(
        told(view, rh::proj::directx::orthographic(-1.0, 1.0, -1.0, 1.0, 0.0, 9.0))
            .contains("has no perspective")
    );
    assert!(
        told(view, rh::proj::directx::perspective(0.6, 1.0, 0.5, 50.0))
            .contains("pixels that are not square")
    );
    assert!(told(Mat4::from_scale(Vec3::splat(2.0)), fit).contains("not unit vectors"));
}
