//! Scratch memory of parallel tasks, kept from step to step, so that steps allocate nothing.

use std::sync::{Mutex, MutexGuard, PoisonError};

/// Scratch memory of each worker thread, and of one other thread.
#[derive(Debug)]
pub(crate) struct ThreadScratch<T>(Vec<Mutex<T>>);

impl<T> Default for ThreadScratch<T> {
    fn default() -> Self {
        Self(Vec::new())
    }
}

/// A copy starts with none.
impl<T> Clone for ThreadScratch<T> {
    fn clone(&self) -> Self {
        Self::default()
    }
}

impl<T: Default> ThreadScratch<T> {
    /// Adds scratch memory for threads that have none yet.
    pub(crate) fn prepare(&mut self) {
        self.0.resize_with(rayon::current_num_threads() + 1, Mutex::default);
    }

    /// Scratch memory of the current thread. A thread runs one task at a time, so this never waits.
    pub(crate) fn own(&self) -> MutexGuard<'_, T> {
        let nth = rayon::current_thread_index().map_or(0, |nth| nth + 1);
        self.0[nth % self.0.len()].lock().unwrap_or_else(PoisonError::into_inner)
    }
}
