//! The one task that writes.
//!
//! Jobs that arrive together share a transaction, so a flood of small writes
//! pays for few syncs; each stands in a savepoint of its own, so one that
//! fails undoes only itself. A job's caller hears of success after the commit.

use crate::{Result, StoreError};
use mizuno_core::Timestamp;
use sqlx::{Connection, Executor, SqliteConnection};
use std::{
    future::Future,
    pin::Pin,
    sync::{
        Arc,
        atomic::{AtomicI64, Ordering},
    },
};
use tokio::sync::{mpsc, oneshot};

/// A future that borrows the write connection.
pub(crate) type Work<'c, T> = Pin<Box<dyn Future<Output = Result<T>> + Send + 'c>>;

/// Tells a job's caller how it went, once the commit's own fate is known.
type Reply = Box<dyn FnOnce(Option<StoreError>) + Send>;
type Job = Box<dyn for<'c> FnOnce(&'c mut SqliteConnection) -> Work<'c, std::result::Result<Reply, Reply>> + Send>;

/// Jobs taken into one transaction at most.
const GROUP: usize = 64;

enum Message {
    Job(Job),
    Stop(oneshot::Sender<()>),
}

#[derive(Clone)]
pub(crate) struct Writer {
    jobs: mpsc::Sender<Message>,
    last: Arc<AtomicI64>,
}

impl Writer {
    pub(crate) fn start(connection: SqliteConnection, last: Timestamp) -> Writer {
        let (jobs, inbox) = mpsc::channel(256);
        tokio::spawn(run(connection, inbox));
        Writer { jobs, last: Arc::new(AtomicI64::new(last.0)) }
    }

    /// The next instant to record something at: `now`, or just after the last one when the clock stood still.
    pub(crate) fn stamp(&self, now: Timestamp) -> Timestamp {
        let before = self.last.fetch_update(Ordering::SeqCst, Ordering::SeqCst, |last| Some(now.0.max(last.saturating_add(1))));
        Timestamp(now.0.max(before.unwrap_or(now.0).saturating_add(1)))
    }

    pub(crate) fn last_recorded(&self) -> Timestamp {
        Timestamp(self.last.load(Ordering::SeqCst))
    }

    /// Runs `work` on the write connection and returns when it is committed.
    pub(crate) async fn run<T, F>(&self, work: F) -> Result<T>
    where
        T: Send + 'static,
        F: for<'c> FnOnce(&'c mut SqliteConnection) -> Work<'c, T> + Send + 'static,
    {
        let (tx, rx) = oneshot::channel();
        let job: Job = Box::new(move |connection| {
            Box::pin(async move {
                let done = work(connection).await.map_err(StoreError::sharpen);
                let failed = done.is_err();
                let reply: Reply = Box::new(move |commit_failed| {
                    let _ = tx.send(commit_failed.map_or(done, Err));
                });
                Ok(if failed { Err(reply) } else { Ok(reply) })
            })
        });
        self.jobs.send(Message::Job(job)).await.map_err(|_| StoreError::Closed)?;
        rx.await.map_err(|_| StoreError::Closed)?
    }

    pub(crate) async fn stop(&self) {
        let (tx, rx) = oneshot::channel();
        if self.jobs.send(Message::Stop(tx)).await.is_ok() {
            let _ = rx.await;
        }
    }
}

async fn run(mut connection: SqliteConnection, mut inbox: mpsc::Receiver<Message>) {
    let mut group = Vec::with_capacity(GROUP);
    while inbox.recv_many(&mut group, GROUP).await > 0 {
        let mut stop = None;
        let mut jobs = vec![];
        for message in group.drain(..) {
            match message {
                Message::Job(job) => jobs.push(job),
                Message::Stop(done) => stop = Some(done),
            }
        }
        transact(&mut connection, jobs).await;
        if let Some(done) = stop {
            let _ = connection.close().await;
            let _ = done.send(());
            return;
        }
    }
}

async fn transact(connection: &mut SqliteConnection, jobs: Vec<Job>) {
    let mut replies: Vec<Reply> = vec![];
    let mut broken = connection.execute("BEGIN IMMEDIATE").await.err();
    // One job needs no savepoint: when it fails, there is nothing else to keep.
    let alone = jobs.len() == 1;
    let mut keep = true;
    for job in jobs {
        if broken.is_some() {
            // The transaction is gone: a job's reply still has to be made, so let it fail on a plain connection.
            let reply = refuse(job, connection).await;
            replies.push(reply);
            continue;
        }
        if alone {
            match job(connection).await {
                Ok(Ok(reply)) => replies.push(reply),
                Ok(Err(reply)) => {
                    keep = false;
                    replies.push(reply);
                }
                Err(_) => {}
            }
            continue;
        }
        match in_savepoint(connection, job).await {
            Ok(reply) => replies.push(reply),
            Err((reply, error)) => {
                replies.extend(reply);
                broken = Some(error);
            }
        }
    }
    if broken.is_none() && keep {
        broken = connection.execute("COMMIT").await.err();
    }
    if broken.is_some() || !keep {
        let _ = connection.execute("ROLLBACK").await;
    }
    let said = broken.map(|e| StoreError::from(e).sharpen());
    for reply in replies {
        reply(said.as_ref().map(|e| match e {
            StoreError::DiskFull => StoreError::DiskFull,
            other => StoreError::Database(sqlx::Error::Protocol(other.to_string())),
        }));
    }
}

/// Runs a job whose work must not count, only to reach its reply.
async fn refuse(job: Job, connection: &mut SqliteConnection) -> Reply {
    let _ = connection.execute("BEGIN").await;
    let reply = match job(connection).await {
        Ok(Ok(reply) | Err(reply)) => reply,
        Err(_) => Box::new(|_| {}),
    };
    let _ = connection.execute("ROLLBACK").await;
    reply
}

/// A job that fails rolls back to its savepoint and replies at the end like the others.
/// An error here means the whole transaction is lost.
async fn in_savepoint(connection: &mut SqliteConnection, job: Job) -> std::result::Result<Reply, (Option<Reply>, sqlx::Error)> {
    connection.execute("SAVEPOINT job").await.map_err(|e| (None, e))?;
    match job(connection).await {
        Ok(Ok(reply)) => match connection.execute("RELEASE job").await {
            Ok(_) => Ok(reply),
            Err(e) => Err((Some(reply), e)),
        },
        Ok(Err(reply)) => match connection.execute("ROLLBACK TO job; RELEASE job").await {
            Ok(_) => Ok(Box::new(move |_| reply(None))),
            Err(e) => Err((Some(reply), e)),
        },
        Err(_) => Ok(Box::new(|_| {})),
    }
}
