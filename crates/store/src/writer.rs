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
use tokio::{
    sync::{mpsc, oneshot},
    time::{Duration, Instant},
};

/// A future that borrows the write connection.
pub(crate) type Work<'c, T> = Pin<Box<dyn Future<Output = Result<T>> + Send + 'c>>;

/// Tells a job's caller how it went, once the commit's own fate is known.
type Reply = Box<dyn FnOnce(Option<StoreError>) + Send>;
type Job = Box<dyn for<'c> FnOnce(&'c mut SqliteConnection) -> Pin<Box<dyn Future<Output = Ended> + Send + 'c>> + Send>;

/// How a job's work went, before the commit.
struct Ended {
    reply: Reply,
    failed: bool,
    disk_full: bool,
}

/// Jobs taken into one transaction at most.
const GROUP: usize = 64;

/// A commit costs more than most jobs: transactions begin no closer together than this, so that several share one ...
const PACE: Duration = Duration::from_millis(40);
/// ... unless so many jobs wait already ...
const MANY: usize = 4;
/// ... or nobody else came the last time. Who writes alone, one job after another, then waits for nobody so many times.
const ALONE: u32 = 15;

enum Message {
    Job(Job),
    Stop(oneshot::Sender<()>),
}

#[derive(Clone)]
pub(crate) struct Writer {
    jobs: mpsc::Sender<Message>,
    last: Arc<AtomicI64>,
    fetches: Arc<AtomicI64>,
}

impl Writer {
    /// `last` is the latest instant recorded, `fetches` the highest number of a fetch.
    pub(crate) fn start(connection: SqliteConnection, last: Timestamp, fetches: i64) -> Writer {
        let (jobs, inbox) = mpsc::channel(256);
        tokio::spawn(run(connection, inbox));
        Writer { jobs, last: Arc::new(AtomicI64::new(last.0)), fetches: Arc::new(AtomicI64::new(fetches)) }
    }

    /// The number of the next fetch: its bars are written with it, and before its row.
    pub(crate) fn next_fetch(&self) -> i64 {
        self.fetches.fetch_add(1, Ordering::SeqCst) + 1
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
                let (failed, disk_full) = (done.is_err(), matches!(done, Err(StoreError::DiskFull)));
                let reply: Reply = Box::new(move |commit_failed| {
                    let _ = tx.send(commit_failed.map_or(done, Err));
                });
                Ended { reply, failed, disk_full }
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
    let (mut next, mut alone) = (Instant::now(), 0);
    while inbox.recv_many(&mut group, GROUP).await > 0 {
        alone = match alone {
            0 if group.len() < MANY && Instant::now() < next => {
                let came = group.len();
                while group.len() < MANY && tokio::time::timeout_at(next, inbox.recv_many(&mut group, GROUP)).await.is_ok_and(|n| n > 0) {}
                if group.len() == came { ALONE } else { 0 }
            }
            _ => alone.saturating_sub(1),
        };
        next = Instant::now() + PACE;
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

/// Runs jobs in one transaction and tells their callers. The end of one savepoint and the beginning of the next
/// are one message to the database: each message costs two changes of thread.
async fn transact(connection: &mut SqliteConnection, jobs: Vec<Job>) {
    let mut replies: Vec<Reply> = vec![];
    let mut broken: Option<StoreError> = None;
    let (mut begin, mut end) = ("BEGIN IMMEDIATE; SAVEPOINT job", "COMMIT");
    for job in jobs {
        if broken.is_none() {
            broken = say(connection, begin).await.err();
        }
        if broken.is_some() {
            // The transaction is gone: a job's reply still has to be made, so let it fail on a plain connection.
            replies.push(refuse(job, connection).await);
            continue;
        }
        let Ended { reply, failed, disk_full } = job(connection).await;
        if !failed {
            replies.push(reply);
            (begin, end) = ("RELEASE job; SAVEPOINT job", "RELEASE job; COMMIT");
            continue;
        }
        // What it did is undone, and it is told why, whatever becomes of the others.
        replies.push(Box::new(move |_| reply(None)));
        (begin, end) = ("SAVEPOINT job", "COMMIT");
        if let Err(error) = say(connection, "ROLLBACK TO job; RELEASE job").await {
            // A full disk takes the whole transaction with it.
            broken = Some(if disk_full { StoreError::DiskFull } else { error });
        }
    }
    if broken.is_none() {
        broken = say(connection, end).await.err();
    }
    if broken.is_some() {
        let _ = connection.execute("ROLLBACK").await;
    }
    for reply in replies {
        reply(broken.as_ref().map(|e| match e {
            StoreError::DiskFull => StoreError::DiskFull,
            other => StoreError::Database(sqlx::Error::Protocol(other.to_string())),
        }));
    }
}

async fn say(connection: &mut SqliteConnection, what: &'static str) -> Result<()> {
    connection.execute(what).await.map(drop).map_err(|e| StoreError::from(e).sharpen())
}

/// Runs a job whose work must not count, only to reach its reply.
async fn refuse(job: Job, connection: &mut SqliteConnection) -> Reply {
    let _ = connection.execute("BEGIN").await;
    let ended = job(connection).await;
    let _ = connection.execute("ROLLBACK").await;
    ended.reply
}
