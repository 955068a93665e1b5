//! A device, its queue, and how both are chosen.

use std::sync::{Arc, Mutex, OnceLock, PoisonError};

use crate::device::compiled::Compiled;
use crate::device::counters::DeviceCounters;
use crate::device::error::GpuError;

/// How a device is opened and used.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub struct GpuSpec {
    /// Most bytes of one binding, 64 KiB to 2 GiB; larger populations are split. Default: the limit of the device,
    /// at most 128 MiB.
    pub binding: u64,
    /// Whether passes are timed, if the device can. Default: yes.
    pub timed: bool,
}

impl Default for GpuSpec {
    fn default() -> Self {
        Self { binding: 128 << 20, timed: true }
    }
}

impl GpuSpec {
    /// Limits bindings to this number of bytes.
    pub fn binding(mut self, bytes: u64) -> Self {
        self.binding = bytes.clamp(64 << 10, 2 << 30);
        self
    }

    /// Turns the timing of passes on or off.
    pub fn timed(mut self, timed: bool) -> Self {
        self.timed = timed;
        self
    }
}

/// An open device. Clones refer to the same device.
#[derive(Debug, Clone)]
pub struct Gpu {
    inner: Arc<Inner>,
}

#[derive(Debug)]
struct Inner {
    device: wgpu::Device,
    queue: wgpu::Queue,
    name: String,
    binding: u64,
    timed: bool,
    fault: Arc<OnceLock<GpuError>>,
    made: Compiled,
}

/// Largest side of a picture.
const LARGEST_SIDE: u32 = 16_384;

impl Gpu {
    /// Opens the fastest device of the machine.
    ///
    /// # Errors
    /// There is no device, or it has less than the default limits of WebGPU.
    pub fn open(spec: GpuSpec) -> Result<Self, GpuError> {
        let mut descriptor = wgpu::InstanceDescriptor::new_without_display_handle();
        // Our own shaders bound what they write into indirect calls.
        descriptor.flags.remove(wgpu::InstanceFlags::VALIDATION_INDIRECT_CALL);
        let instance = wgpu::Instance::new(descriptor);
        let wanted = wgpu::RequestAdapterOptions {
            power_preference: wgpu::PowerPreference::HighPerformance,
            ..Default::default()
        };
        let adapter = pollster::block_on(instance.request_adapter(&wanted))
            .map_err(|error| GpuError::NoDevice(error.to_string()))?;
        let name = adapter.get_info().name;
        let has = adapter.limits();
        // The default limits of WebGPU, and larger textures where the device has them.
        let limits = wgpu::Limits {
            max_texture_dimension_2d: has.max_texture_dimension_2d.min(LARGEST_SIDE),
            max_buffer_size: has.max_buffer_size.min(2 << 30),
            ..wgpu::Limits::default()
        };
        let timing = adapter.features() & wgpu::Features::TIMESTAMP_QUERY;
        let descriptor = wgpu::DeviceDescriptor {
            label: Some("frolic"),
            required_features: if spec.timed { timing } else { wgpu::Features::empty() },
            required_limits: limits,
            ..Default::default()
        };
        let (device, queue) = pollster::block_on(adapter.request_device(&descriptor))
            .map_err(|error| GpuError::Unfit { name: name.clone(), problem: error.to_string() })?;
        let fault = Arc::new(OnceLock::new());
        let lost = Arc::clone(&fault);
        device.set_device_lost_callback(move |_, why| {
            // The first reason counts.
            let _ = lost.set(GpuError::Lost(if why.is_empty() { "no reason given".to_owned() } else { why }));
        });
        let refused = Arc::clone(&fault);
        device.on_uncaptured_error(Arc::new(move |error: wgpu::Error| {
            let _ = refused.set(GpuError::Refused(error.to_string()));
        }));
        Ok(Self::with(device, queue, name, spec, fault))
    }

    /// Uses a device of the program. Its own handlers of errors and loss stay in place and receive all errors.
    ///
    /// # Errors
    /// The device has less than the default limits of WebGPU.
    pub fn from_parts(device: &wgpu::Device, queue: &wgpu::Queue, spec: GpuSpec) -> Result<Self, GpuError> {
        let (has, need) = (device.limits(), wgpu::Limits::default());
        let checks = [
            (
                "max_storage_buffers_per_shader_stage",
                has.max_storage_buffers_per_shader_stage,
                need.max_storage_buffers_per_shader_stage,
            ),
            (
                "max_compute_invocations_per_workgroup",
                has.max_compute_invocations_per_workgroup,
                need.max_compute_invocations_per_workgroup,
            ),
            (
                "max_compute_workgroup_storage_size",
                has.max_compute_workgroup_storage_size,
                need.max_compute_workgroup_storage_size,
            ),
            ("max_bind_groups", has.max_bind_groups, need.max_bind_groups),
        ];
        if let Some((limit, has, need)) = checks.into_iter().find(|(_, has, need)| has < need) {
            let name = device.adapter_info().name;
            return Err(GpuError::Unfit {
                name,
                problem: format!("{limit} is {has}, and {need} are needed"),
            });
        }
        let name = device.adapter_info().name;
        Ok(Self::with(device.clone(), queue.clone(), name, spec, Arc::default()))
    }

    /// The machine's device, opened once for a program, and again after a loss.
    ///
    /// # Errors
    /// As [`Gpu::open`].
    pub fn shared() -> Result<Self, GpuError> {
        static SHARED: Mutex<Option<Gpu>> = Mutex::new(None);
        // A panic under the lock leaves the value intact.
        let mut shared = SHARED.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(gpu) = shared.as_ref() {
            // Polling reports a loss.
            gpu.poll();
            if gpu.check().is_ok() {
                return Ok(gpu.clone());
            }
        }
        let gpu = Self::open(GpuSpec::default())?;
        *shared = Some(gpu.clone());
        Ok(gpu)
    }

    fn with(
        device: wgpu::Device,
        queue: wgpu::Queue,
        name: String,
        spec: GpuSpec,
        fault: Arc<OnceLock<GpuError>>,
    ) -> Self {
        let binding = spec.binding.min(device.limits().max_storage_buffer_binding_size);
        let timed = spec.timed && device.features().contains(wgpu::Features::TIMESTAMP_QUERY);
        Self {
            inner: Arc::new(Inner { device, queue, name, binding, timed, fault, made: Compiled::default() }),
        }
    }

    /// The device.
    pub fn device(&self) -> &wgpu::Device {
        &self.inner.device
    }

    /// The queue.
    pub fn queue(&self) -> &wgpu::Queue {
        &self.inner.queue
    }

    /// The name of the adapter.
    pub fn name(&self) -> &str {
        &self.inner.name
    }

    /// Layouts, modules and pipelines of the device.
    pub(crate) fn made(&self) -> &Compiled {
        &self.inner.made
    }

    /// Number of pipelines compiled so far; each may have cost a stall. All renderers and populations of a device share them,
    /// so a second one of a kind compiles none.
    pub fn pipelines_compiled(&self) -> usize {
        self.made().pipelines()
    }

    /// Whether passes are timed on the device.
    pub fn is_timed(&self) -> bool {
        self.inner.timed
    }

    /// Most bytes of one binding.
    pub fn binding(&self) -> u64 {
        self.inner.binding
    }

    /// The first error of the device: a loss, or a rejected command.
    ///
    /// # Errors
    /// That error.
    pub fn check(&self) -> Result<(), GpuError> {
        self.inner.fault.get().map_or(Ok(()), |fault| Err(fault.clone()))
    }

    /// Waits until all submitted work is done.
    ///
    /// # Errors
    /// The device was lost, or does not answer.
    pub fn wait(&self) -> Result<(), GpuError> {
        self.inner
            .device
            .poll(wgpu::PollType::wait_indefinitely())
            .map_err(|error| self.check().err().unwrap_or_else(|| GpuError::Lost(error.to_string())))?;
        self.check()
    }

    /// Runs callbacks of finished work, without waiting.
    pub(crate) fn poll(&self) {
        // The next check reports a failure.
        let _ = self.inner.device.poll(wgpu::PollType::Poll);
    }

    pub(crate) fn buffer(&self, label: &str, bytes: u64, usage: wgpu::BufferUsages) -> wgpu::Buffer {
        self.inner.device.create_buffer(&wgpu::BufferDescriptor {
            label: Some(label),
            // Bindings must not be empty.
            size: bytes.max(256).next_multiple_of(16),
            usage,
            mapped_at_creation: false,
        })
    }
}

/// Uploads words into a buffer.
pub(crate) fn upload(
    gpu: &Gpu,
    buffer: &wgpu::Buffer,
    word: u64,
    words: &[u32],
    counters: &mut DeviceCounters,
) {
    if !words.is_empty() {
        gpu.queue().write_buffer(buffer, word * 4, bytemuck::cast_slice(words));
        counters.uploaded += size_of_val(words) as u64;
    }
}

/// Words between uniforms: the alignment of dynamic offsets in WebGPU.
pub(crate) const SLOT: u64 = 256 / 4;
