//! Threads for answers that take what a core has: apart from the one on which collecting goes on, where every change of thread would
//! cost, and from those that answer calls, where somebody would wait behind them.

use crate::error::DeskError;
use futures_util::{Stream, StreamExt, stream};
use std::{future::Future, mem::ManuallyDrop, pin::pin, sync::Arc};
use tokio::{
    runtime::{Builder, Runtime},
    sync::mpsc::{Receiver, channel},
    task::JoinHandle,
};

/// Pieces of one answer that are worked on at once: twice as many as a small machine has cores, so that none stands idle while another reads.
const AT_ONCE: usize = 4;
/// Pieces that a thread takes at a time at most.
const MOST_AT_A_TIME: usize = 32;

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

    /// Works on each of many, several side by side: what comes of it, in their order. One alone is worked on by whoever waits for it, and of
    /// thousands each thread takes several at a time, since every change of thread costs. `doing` says in an error what was being done.
    pub fn side_by_side<'h, I, T, F>(
        &'h self,
        doing: &'static str,
        many: impl IntoIterator<Item = I>,
        work: impl Fn(I) -> F + Send + Sync + 'static,
    ) -> impl Stream<Item = Result<T, DeskError>> + Send + Unpin + 'h
    where
        I: Send + 'static,
        T: Send + 'static,
        F: Future<Output = Result<T, DeskError>> + Send,
    {
        let many: Vec<I> = many.into_iter().collect();
        let at_a_time = (many.len() / (16 * AT_ONCE)).clamp(1, MOST_AT_A_TIME);
        let alone = many.len() < 2;
        let work = Arc::new(work);
        let done = move |few: Vec<I>| {
            let work = work.clone();
            // Work takes some thousand bytes while it goes on: whoever waits makes none of it.
            let one_by_one = Box::pin(async move {
                let mut done = Vec::with_capacity(few.len());
                for one in few {
                    done.push(work(one).await);
                }
                done
            });
            async move {
                match alone {
                    true => one_by_one.await,
                    false => self.spawn(one_by_one).await.unwrap_or_else(|e| vec![Err(DeskError::fault(doing, e))]),
                }
            }
        };
        Box::pin(stream::iter(many).chunks(at_a_time).map(done).buffered(AT_ONCE).flat_map(stream::iter))
    }

    /// Works ahead of whoever takes what comes of it, by so many and one or two, until the last or the first that fails, or until nobody takes
    /// them. `doing` says in an error what was being done.
    pub fn ahead<T: Send + 'static>(
        &self,
        by: usize,
        doing: &'static str,
        work: impl Stream<Item = Result<T, DeskError>> + Send + 'static,
    ) -> Ahead<T> {
        let (send, done) = channel(by.max(1));
        let work = self.spawn(async move {
            let mut work = pin!(work);
            while let Some(next) = work.next().await {
                let failed = next.is_err();
                if send.send(next).await.is_err() || failed {
                    return;
                }
            }
        });
        Ahead { doing, done, work: Some(work) }
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

/// What comes of work that goes ahead of whoever takes it.
pub struct Ahead<T> {
    doing: &'static str,
    done: Receiver<Result<T, DeskError>>,
    work: Option<JoinHandle<()>>,
}

impl<T> Ahead<T> {
    /// The next; `None` after the last.
    ///
    /// # Errors
    /// When the work failed, or broke down: what breaks down must not look as if it had come to its end.
    pub async fn next(&mut self) -> Result<Option<T>, DeskError> {
        if let Some(next) = self.done.recv().await {
            return next.map(Some);
        }
        match self.work.take() {
            Some(work) => work.await.map(|()| None).map_err(|e| DeskError::fault(self.doing, e)),
            None => Ok(None),
        }
    }
}
