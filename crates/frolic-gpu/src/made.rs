//! What was compiled and laid out on a device: all that draw or step there share it, so that a second renderer, scene or population compiles
//! nothing that the first one has.

use std::collections::HashMap;
use std::convert::Infallible;
use std::fmt;
use std::hash::Hash;
use std::sync::{Arc, Mutex, PoisonError};

use wgpu::{BindGroupLayout, ComputePipeline, RenderPipeline, ShaderModule, ShaderStages};

use crate::device::Gpu;
use crate::error::GpuError;
use crate::pipelines::{Bind, Key, pipeline_layout};
use crate::shader::Program;

/// A render pipeline: one that draws elements, or the entry of a pass over the whole picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum RenderKey {
    Elements(Key),
    Wide(&'static str),
}

/// A compute pipeline: program, entry, layouts and constants.
type ComputeKey = (&'static str, &'static str, Vec<Option<BindGroupLayout>>, Vec<(String, u64)>);

/// Things by key, each made once; while one is made, others can be.
struct Shelf<K, V>(Mutex<HashMap<K, Arc<Mutex<Option<V>>>>>);

impl<K: Eq + Hash, V: Clone> Shelf<K, V> {
    fn get<E>(&self, key: K, make: impl FnOnce() -> Result<V, E>) -> Result<V, E> {
        // Whoever panicked while holding a lock left what it guards whole.
        let place = self.0.lock().unwrap_or_else(PoisonError::into_inner).entry(key).or_default().clone();
        let mut place = place.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(there) = &*place {
            return Ok(there.clone());
        }
        let made = make()?;
        *place = Some(made.clone());
        Ok(made)
    }

    fn len(&self) -> usize {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).len()
    }
}

impl<K, V> Default for Shelf<K, V> {
    fn default() -> Self {
        Self(Mutex::default())
    }
}

impl<K, V> fmt::Debug for Shelf<K, V> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Shelf")
    }
}

/// Bounded by the kinds of looks, layouts and constants that were asked for, whatever the number of renderers and populations.
#[derive(Debug, Default)]
pub(crate) struct Made {
    layouts: Shelf<(ShaderStages, Vec<(u32, Bind)>), BindGroupLayout>,
    modules: Shelf<&'static str, ShaderModule>,
    render: Shelf<RenderKey, RenderPipeline>,
    compute: Shelf<ComputeKey, ComputePipeline>,
}

impl Made {
    pub(crate) fn pipelines(&self) -> usize {
        self.render.len() + self.compute.len()
    }

    pub(crate) fn layout(
        &self,
        who: ShaderStages,
        binds: &[(u32, Bind)],
        make: impl FnOnce() -> BindGroupLayout,
    ) -> BindGroupLayout {
        self.layouts
            .get((who, binds.to_vec()), || Ok::<_, Infallible>(make()))
            .unwrap_or_else(|never| match never {})
    }

    fn module(&self, gpu: &Gpu, program: Program) -> Result<ShaderModule, GpuError> {
        self.modules.get(program.name, || program.compile(gpu))
    }

    /// A render pipeline.
    pub(crate) fn render(
        &self,
        gpu: &Gpu,
        key: RenderKey,
        program: Program,
        make: impl FnOnce(&ShaderModule) -> RenderPipeline,
    ) -> Result<RenderPipeline, GpuError> {
        self.render.get(key, || {
            let pipeline = make(&self.module(gpu, program)?);
            gpu.check().map(|()| pipeline)
        })
    }

    pub(crate) fn compute(
        &self,
        gpu: &Gpu,
        program: Program,
        entry: &'static str,
        layouts: &[Option<&BindGroupLayout>],
        constants: &[(&str, f64)],
    ) -> Result<ComputePipeline, GpuError> {
        let key = (
            program.name,
            entry,
            layouts.iter().map(|layout| layout.cloned()).collect(),
            constants.iter().map(|(name, value)| ((*name).to_owned(), value.to_bits())).collect(),
        );
        self.compute.get(key, || {
            let pipeline = gpu.device().create_compute_pipeline(&wgpu::ComputePipelineDescriptor {
                label: Some(entry),
                layout: Some(&pipeline_layout(gpu, layouts)),
                module: &self.module(gpu, program)?,
                entry_point: Some(entry),
                compilation_options: wgpu::PipelineCompilationOptions { constants, ..Default::default() },
                cache: None,
            });
            gpu.check().map(|()| pipeline)
        })
    }
}
