//! The one task that writes.
//!
//! Jobs that arrive together share a transaction, so a flood of small writes
//! pays for few syncs; each stands in a savepoint of its own, so one that
//! fails undoes only itself. A job's caller hears of success after the commit.

use crate::{Result, StoreError};
use futures_util::FutureExt;
use mizuno_core::Timestamp;
use sqlx::{Connection, Executor, SqliteConnection};
use std::{
    any::Any,
    future::Future,
    panic::AssertUnwindSafe,
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
                // A fault in one job must not end the one task that writes.
                let done = match AssertUnwindSafe(work(connection)).catch_unwind().await {
                    Ok(done) => done.map_err(StoreError::sharpen),
                    Err(panic) => Err(StoreError::Fault { problem: said(&*panic).to_owned() }),
                };
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

/// What a panic said.
fn said(panic: &(dyn Any + Send)) -> &str {
    panic.downcast_ref::<String>().map(String::as_str).or_else(|| panic.downcast_ref::<&str>().copied()).unwrap_or("no words")
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

#[cfg(test)]
mod tests {
    use super::*;
    use futures_util::future::join_all;

    async fn writer() -> Writer {
        let mut connection = SqliteConnection::connect("sqlite::memory:").await.unwrap();
        connection.execute("CREATE TABLE kept (n INTEGER PRIMARY KEY NOT NULL)").await.unwrap();
        Writer::start(connection, Timestamp(7), 41)
    }

    /// Keeps `n`, and then fails or breaks where that is asked for.
    async fn keep(writer: &Writer, n: i64) -> Result<i64> {
        writer
            .run(move |c| {
                Box::pin(async move {
                    sqlx::query("INSERT INTO kept (n) VALUES (?)").bind(n).execute(&mut *c).await?;
                    assert!(n % 10 != 3, "{n} is not to be");
                    if n % 10 == 7 { Err(StoreError::Unknown { kind: "number", id: n.to_string() }) } else { Ok(n) }
                })
            })
            .await
    }

    async fn kept(writer: &Writer) -> Vec<i64> {
        let all = writer.run(|c| Box::pin(async move { Ok(sqlx::query_scalar("SELECT n FROM kept ORDER BY n").fetch_all(c).await?) }));
        all.await.unwrap()
    }

    #[tokio::test]
    async fn a_job_that_breaks_or_fails_undoes_only_itself() {
        let writer = writer().await;
        let results = join_all((0..100).map(|n| keep(&writer, n))).await;
        for (n, result) in (0..100).zip(&results) {
            match (n % 10, result) {
                (3, Err(StoreError::Fault { problem })) => assert_eq!(*problem, format!("{n} is not to be")),
                (7, Err(StoreError::Unknown { .. })) => {}
                (_, Ok(same)) => assert_eq!(*same, n),
                (_, other) => panic!("{n}: {other:?}"),
            }
        }
        let sound: Vec<i64> = (0..100).filter(|n| ![3, 7].contains(&(n % 10))).collect();
        assert_eq!(kept(&writer).await, sound);
        assert!(matches!(keep(&writer, 3).await, Err(StoreError::Fault { .. })), "alone, too");
        assert_eq!(keep(&writer, 1_000).await.unwrap(), 1_000, "and it goes on");
        writer.stop().await;
        assert!(matches!(keep(&writer, 1_001).await, Err(StoreError::Closed)));
    }

    #[tokio::test]
    async fn no_two_things_get_one_instant_or_one_number() {
        let writer = writer().await;
        assert_eq!(writer.last_recorded(), Timestamp(7));
        let stamps = [5, 5, 100, 50, 101].map(|now| writer.stamp(Timestamp(now)).0);
        assert_eq!(stamps, [8, 9, 100, 101, 102], "never back, whatever the clock does");
        assert_eq!(writer.last_recorded(), Timestamp(102));
        assert_eq!([writer.next_fetch(), writer.clone().next_fetch(), writer.next_fetch()], [42, 43, 44]);
    }
}
