//! Threads for answers that take what a core has: apart from the one on which collecting goes on, where every change of thread would
//! cost, and from those that answer calls, where somebody would wait behind them.

use std::{future::Future, mem::ManuallyDrop};
use tokio::{
    runtime::{Builder, Runtime},
    task::JoinHandle,
};

/// As many threads as there are cores.
///
/// Whoever ends does not wait for answers that nobody reads any more. The threads go with the process: work in the middle of a step would
/// find its clock gone if they went before.
pub struct Hands(ManuallyDrop<Runtime>);

impl Hands {
    /// Starts them.
    ///
    /// # Errors
    /// When the system has no more threads.
    pub fn start() -> std::io::Result<Hands> {
        let threads = std::thread::available_parallelism().map_or(2, usize::from);
        let runtime = Builder::new_multi_thread().worker_threads(threads).thread_name("answers").enable_all().build()?;
        Ok(Hands(ManuallyDrop::new(runtime)))
    }

    /// Hands over some work.
    pub fn spawn<T: Send + 'static>(&self, work: impl Future<Output = T> + Send + 'static) -> JoinHandle<T> {
        self.0.spawn(work)
    }

    /// Hands over work that takes long and writes files, on a thread of its own: nobody waits behind it.
    pub fn long<T, F>(&self, work: impl FnOnce() -> F + Send + 'static) -> JoinHandle<T>
    where
        T: Send + 'static,
        F: Future<Output = T>,
    {
        let handle = self.0.handle().clone();
        self.0.spawn_blocking(move || handle.block_on(work()))
    }
}
