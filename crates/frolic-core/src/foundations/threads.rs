//! Thread pools: the number of cores that a loop uses.

use std::sync::Arc;

/// A pool of worker threads. Work inside [`Threads::run`] uses these threads only.
///
/// A loop that runs whole inside [`Threads::run`] allocates nothing for its parallel parts. Parallel calls from a thread outside the pool work
/// too, at the cost of an occasional small allocation in the queue of `rayon`.
///
/// ```
/// use frolic_core::Threads;
/// let team = Threads::new(2);
/// assert_eq!(team.run(|| Threads::current()), 2);
/// ```
#[derive(Debug, Clone)]
pub struct Threads {
    pool: Option<Arc<rayon::ThreadPool>>,
}

impl Threads {
    /// A pool of `count` threads, at most 1024; 0 means all cores. Falls back to the shared pool if the system refuses to start threads.
    pub fn new(count: u32) -> Self {
        let count = count.min(1024) as usize;
        let pool = rayon::ThreadPoolBuilder::new()
            .num_threads(count)
            .thread_name(|index| format!("frolic-{index}"))
            .build();
        Self { pool: pool.ok().map(Arc::new) }
    }

    /// Runs `work` in the pool.
    pub fn run<R: Send>(&self, work: impl FnOnce() -> R + Send) -> R {
        match &self.pool {
            Some(pool) => pool.install(work),
            None => work(),
        }
    }

    /// Number of threads of the pool that the calling code runs in.
    pub fn current() -> usize {
        rayon::current_num_threads()
    }
}
