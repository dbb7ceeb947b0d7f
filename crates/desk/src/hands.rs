//! Threads for answers that take what a core has: apart from the one on which collecting goes on, where every change of thread would
//! cost, and from those that answer calls, where somebody would wait behind them.

use std::future::Future;
use tokio::{
    runtime::{Builder, Handle, Runtime},
    task::JoinHandle,
};

/// As many threads as there are cores.
pub struct Hands {
    handle: Handle,
    /// Taken only when this is dropped.
    runtime: Option<Runtime>,
}

impl Hands {
    /// Starts them.
    ///
    /// # Errors
    /// When the system has no more threads.
    pub fn start() -> std::io::Result<Hands> {
        let threads = std::thread::available_parallelism().map_or(2, usize::from);
        let runtime = Builder::new_multi_thread().worker_threads(threads).thread_name("answers").enable_all().build()?;
        Ok(Hands { handle: runtime.handle().clone(), runtime: Some(runtime) })
    }

    /// Hands over some work.
    pub fn spawn<T: Send + 'static>(&self, work: impl Future<Output = T> + Send + 'static) -> JoinHandle<T> {
        self.handle.spawn(work)
    }

    /// Hands over work that takes long and writes files, on a thread of its own: nobody waits behind it.
    pub fn long<T, F>(&self, work: impl FnOnce() -> F + Send + 'static) -> JoinHandle<T>
    where
        T: Send + 'static,
        F: Future<Output = T>,
    {
        let handle = self.handle.clone();
        self.handle.spawn_blocking(move || handle.block_on(work()))
    }
}

impl Drop for Hands {
    /// Whoever ends does not wait for answers that nobody reads any more. The threads go with the process: work in the middle of a step would
    /// find its clock gone if they went before.
    fn drop(&mut self) {
        if let Some(runtime) = self.runtime.take() {
            std::mem::forget(runtime);
        }
    }
}
