//! How many cores a loop may use.

use std::sync::Arc;

/// A team of worker threads; everything run inside it uses these and no others.
///
/// A loop that runs whole inside [`Threads::run`] allocates nothing for its parallel parts. Calling the parallel
/// parts from a thread outside the team works as well, at the price of one small allocation now and then inside `rayon`'s queue.
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
    /// A team of `count` threads; 0 stands for all cores. At most 1024. Where the system refuses
    /// to start the threads, the shared team is used.
    pub fn new(count: u32) -> Self {
        let count = count.min(1024) as usize;
        let pool = rayon::ThreadPoolBuilder::new()
            .num_threads(count)
            .thread_name(|index| format!("frolic-{index}"))
            .build();
        Self { pool: pool.ok().map(Arc::new) }
    }

    /// Runs `work` inside the team.
    pub fn run<R: Send>(&self, work: impl FnOnce() -> R + Send) -> R {
        match &self.pool {
            Some(pool) => pool.install(work),
            None => work(),
        }
    }

    /// Size of the team that the calling code runs in.
    pub fn current() -> usize {
        rayon::current_num_threads()
    }
}
