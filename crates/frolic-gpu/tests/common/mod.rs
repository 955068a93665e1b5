//! What the tests of the device path share: one device, and ways to compare.
#![allow(missing_docs)]

use std::sync::OnceLock;

use frolic_gpu::{Gpu, GpuSpec};

/// The machine's device, opened once. Where there is none a test fails: `scripts/setup` installs software Vulkan.
pub fn gpu() -> Gpu {
    static OPEN: OnceLock<Gpu> = OnceLock::new();
    OPEN.get_or_init(|| Gpu::open(GpuSpec::default()).unwrap_or_else(|error| panic!("{error}"))).clone()
}

/// A device with WebGPU's default limits and no feature, as a program of somebody else's may have it.
pub fn plain_device() -> (wgpu::Device, wgpu::Queue) {
    let instance = wgpu::Instance::new(wgpu::InstanceDescriptor::new_without_display_handle());
    let adapter =
        pollster::block_on(instance.request_adapter(&wgpu::RequestAdapterOptions::default())).unwrap();
    pollster::block_on(adapter.request_device(&wgpu::DeviceDescriptor::default())).unwrap()
}

pub mod stepped;

pub use frolic_draw_tests as drawing;

use frolic_draw::Image;

/// Share of pixels that differ by more than four 8-bit steps in a channel: the measure of parity between backends.
pub fn differ(a: &Image, b: &Image) -> f64 {
    assert_eq!(a.size(), b.size());
    let differs = |(a, b): &(&[u8; 4], &[u8; 4])| {
        a.iter().zip(b.iter()).any(|(a, b)| (i32::from(*a) - i32::from(*b)).abs() > 4)
    };
    a.pixels().iter().zip(b.pixels()).filter(differs).count() as f64 / a.pixels().len() as f64
}

/// Keeps two pictures side by side for whoever looks into a difference.
pub fn keep(name: &str, [a, b]: &[Image; 2]) {
    let (w, h) = (a.size().width() as u32, a.size().height() as u32);
    let path = std::env::temp_dir().join(format!("frolic-{}.png", name.replace([' ', ','], "-")));
    let file = std::fs::File::create(path).unwrap();
    let mut encoder = png::Encoder::new(file, w * 2, h);
    encoder.set_color(png::ColorType::Rgba);
    let mut bytes = Vec::new();
    for y in 0..h as usize {
        for image in [a, b] {
            bytes.extend_from_slice(image.pixels()[y * w as usize..][..w as usize].as_flattened());
        }
    }
    encoder.write_header().unwrap().write_image_data(&bytes).unwrap();
}
