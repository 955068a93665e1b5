//! Layouts, modules and pipelines of a device. All renderers, scenes and populations share them, so that a second one compiles
//! nothing that exists.

use std::collections::HashMap;
use std::convert::Infallible;
use std::fmt;
use std::hash::Hash;
use std::sync::{Arc, Mutex, PoisonError};

use wgpu::{BindGroupLayout, ComputePipeline, RenderPipeline, ShaderModule, ShaderStages};

use crate::draw::keys::{Bind, PipelineKey};

/// Key of a render pipeline: for elements, or the entry point of a pass over the whole picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) enum RenderKey {
    Elements(PipelineKey),
    Wide(&'static str),
}

/// Key of a compute pipeline: program, entry point, layouts and constants.
pub(crate) type ComputeKey = (&'static str, &'static str, Vec<Option<BindGroupLayout>>, Vec<(String, u64)>);

/// Objects by key, each created once. Others can be created meanwhile.
pub(crate) struct Cache<K, V>(Mutex<HashMap<K, Arc<Mutex<Option<V>>>>>);

impl<K: Eq + Hash, V: Clone> Cache<K, V> {
    pub(crate) fn get<E>(&self, key: K, make: impl FnOnce() -> Result<V, E>) -> Result<V, E> {
        // A panic under a lock leaves the value intact.
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

impl<K, V> Default for Cache<K, V> {
    fn default() -> Self {
        Self(Mutex::default())
    }
}

impl<K, V> fmt::Debug for Cache<K, V> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Cache")
    }
}

/// Its size depends on the kinds of looks, layouts and constants, not on the number of renderers and populations.
#[derive(Debug, Default)]
pub(crate) struct Compiled {
    layouts: Cache<(ShaderStages, Vec<(u32, Bind)>), BindGroupLayout>,
    pub(crate) modules: Cache<&'static str, ShaderModule>,
    pub(crate) render: Cache<RenderKey, RenderPipeline>,
    pub(crate) compute: Cache<ComputeKey, ComputePipeline>,
}

impl Compiled {
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
}
