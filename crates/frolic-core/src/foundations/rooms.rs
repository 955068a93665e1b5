//! Memory of tasks that run in parallel: kept from step to step, so that steps allocate nothing.

use std::sync::{Mutex, MutexGuard, PoisonError};

/// Memory for each thread, and for one that is no worker.
#[derive(Debug)]
pub(crate) struct Rooms<T>(Vec<Mutex<T>>);

impl<T> Default for Rooms<T> {
    fn default() -> Self {
        Self(Vec::new())
    }
}

/// A copy has memory of its own.
impl<T> Clone for Rooms<T> {
    fn clone(&self) -> Self {
        Self::default()
    }
}

impl<T: Default> Rooms<T> {
    /// Makes sure that there is one for each thread.
    pub(crate) fn prepare(&mut self) {
        self.0.resize_with(rayon::current_num_threads() + 1, Mutex::default);
    }

    /// That of this thread. No other task of it runs meanwhile.
    pub(crate) fn own(&self) -> MutexGuard<'_, T> {
        let nth = rayon::current_thread_index().map_or(0, |nth| nth + 1);
        self.0[nth % self.0.len()].lock().unwrap_or_else(PoisonError::into_inner)
    }
}
