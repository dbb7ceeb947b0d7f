//! The one task that writes.
//!
//! Jobs that arrive together share a transaction, so a flood of small writes
//! pays for few syncs; each stands in a savepoint of its own, so one that
//! fails undoes only itself. A job's caller hears of success after the commit.
//! A transaction has one stamp ([`crate::knowledge`]), which its jobs are given.
//!
//! When a commit fails, on a full disk or an I/O error, nothing of it is there
//! and the writer stops in that state: every job is refused with the reason,
//! reading goes on, and every few seconds a new connection tries whether
//! writing is possible again.

use crate::{Result, StoreError, knowledge::Knowledge};
use futures_util::FutureExt;
use mizuno_core::Timestamp;
use sqlx::{ConnectOptions, Connection, Executor, SqliteConnection, sqlite::SqliteConnectOptions};
use std::{
    any::Any,
    future::Future,
    panic::AssertUnwindSafe,
    pin::Pin,
    sync::{
        Arc, Mutex, PoisonError,
        atomic::{AtomicI64, Ordering},
    },
};
use tokio::{
    sync::{mpsc, oneshot, watch},
    time::{Duration, Instant},
};

/// A future that borrows the write connection.
pub(crate) type Work<'c, T> = Pin<Box<dyn Future<Output = Result<T>> + Send + 'c>>;

/// Tells a job's caller how it went, once the commit's own fate is known.
type Reply = Box<dyn FnOnce(Option<StoreError>) + Send>;
type Labour = Box<dyn for<'c> FnOnce(&'c mut SqliteConnection, Timestamp) -> Pin<Box<dyn Future<Output = Ended> + Send + 'c>> + Send>;

/// Something to write, and how to tell its caller that it was not even tried.
struct Job {
    labour: Labour,
    refuse: Box<dyn FnOnce(StoreError) + Send>,
    /// Whether it drops rows that others could point to. Checking that of each would go through the whole ledger; the job sees to it itself.
    drops: bool,
}

/// How a job's work went, before the commit.
struct Ended {
    reply: Reply,
    failed: bool,
    /// Why nothing more can be written, when that is why it failed.
    broken: Option<String>,
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

/// While nothing can be written, this often it is tried again.
const TRY_AGAIN: Duration = Duration::from_secs(2);
/// A write-ahead log larger than this many bytes is emptied as soon as no reader is in it.
const LONG_LOG: u64 = 32 << 20;
/// The log's size is looked at after so many transactions.
const LOOK_AT_LOG: u32 = 32;

#[derive(Clone)]
pub(crate) struct Writer {
    jobs: mpsc::Sender<Message>,
    pub(crate) knowledge: Knowledge,
    fetches: Arc<AtomicI64>,
    stopped: watch::Sender<Option<String>>,
}

impl Writer {
    /// `fetches` is the highest number of a fetch; `again` opens another connection when this one has failed.
    pub(crate) fn start(connection: SqliteConnection, again: SqliteConnectOptions, knowledge: Knowledge, fetches: i64) -> Writer {
        let (jobs, inbox) = mpsc::channel(256);
        let stopped = watch::channel(None).0;
        let hand = Hand { connection, again, knowledge: knowledge.clone(), stopped: stopped.clone(), until_look: LOOK_AT_LOG };
        tokio::spawn(run(hand, inbox));
        Writer { jobs, knowledge, fetches: Arc::new(AtomicI64::new(fetches)), stopped }
    }

    /// Why nothing can be written at this moment, when nothing can.
    pub(crate) fn stopped(&self) -> watch::Receiver<Option<String>> {
        self.stopped.subscribe()
    }

    /// The number of the next fetch: its bars are written with it, and before its row.
    pub(crate) fn next_fetch(&self) -> i64 {
        self.fetches.fetch_add(1, Ordering::SeqCst) + 1
    }

    /// Runs `work` on the write connection, with the stamp of its transaction, and returns when it is committed.
    pub(crate) async fn run<T, F>(&self, work: F) -> Result<T>
    where
        T: Send + 'static,
        F: for<'c> FnOnce(&'c mut SqliteConnection, Timestamp) -> Work<'c, T> + Send + 'static,
    {
        self.hand_in(work, false).await
    }

    /// The same for work that drops rows, in a transaction without foreign keys.
    pub(crate) async fn drop_rows<T, F>(&self, work: F) -> Result<T>
    where
        T: Send + 'static,
        F: for<'c> FnOnce(&'c mut SqliteConnection, Timestamp) -> Work<'c, T> + Send + 'static,
    {
        self.hand_in(work, true).await
    }

    async fn hand_in<T, F>(&self, work: F, drops: bool) -> Result<T>
    where
        T: Send + 'static,
        F: for<'c> FnOnce(&'c mut SqliteConnection, Timestamp) -> Work<'c, T> + Send + 'static,
    {
        let (tx, rx) = oneshot::channel();
        let caller = Arc::new(Mutex::new(Some(tx)));
        let told = caller.clone();
        let tell = move |result| {
            if let Some(caller) = told.lock().unwrap_or_else(PoisonError::into_inner).take() {
                let _ = caller.send(result);
            }
        };
        let refuse = tell.clone();
        let refuse = Box::new(move |error| refuse(Err(error)));
        let labour: Labour = Box::new(move |connection, stamp| {
            Box::pin(async move {
                // A fault in one job must not end the one task that writes.
                let done = match AssertUnwindSafe(work(connection, stamp)).catch_unwind().await {
                    Ok(done) => done.map_err(StoreError::sharpen),
                    Err(panic) => Err(StoreError::Fault { problem: said(&*panic).to_owned() }),
                };
                let (failed, broken) = (done.is_err(), done.as_ref().err().filter(|e| e.stops_writing()).map(ToString::to_string));
                let reply: Reply = Box::new(move |commit_failed| tell(commit_failed.map_or(done, Err)));
                Ended { reply, failed, broken }
            })
        });
        self.jobs.send(Message::Job(Job { labour, refuse, drops })).await.map_err(|_| StoreError::Closed)?;
        rx.await.map_err(|_| StoreError::Closed)?
    }

    pub(crate) async fn stop(&self) {
        let (tx, rx) = oneshot::channel();
        if self.jobs.send(Message::Stop(tx)).await.is_ok() {
            let _ = rx.await;
        }
    }
}

/// What the writing task holds.
struct Hand {
    connection: SqliteConnection,
    again: SqliteConnectOptions,
    knowledge: Knowledge,
    stopped: watch::Sender<Option<String>>,
    until_look: u32,
}

async fn run(mut hand: Hand, mut inbox: mpsc::Receiver<Message>) {
    let mut group = Vec::with_capacity(GROUP);
    let (mut next, mut alone) = (Instant::now(), 0);
    loop {
        let stopped = hand.stopped.borrow().is_some();
        let came = match stopped {
            false => inbox.recv_many(&mut group, GROUP).await,
            // Nobody may be asking, and it is to go on by itself all the same.
            true => tokio::time::timeout(TRY_AGAIN, inbox.recv_many(&mut group, GROUP)).await.unwrap_or(usize::MAX),
        };
        if came == 0 {
            return;
        }
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
        if hand.can_write().await {
            let (dropping, jobs): (Vec<Job>, Vec<Job>) = jobs.into_iter().partition(|job| job.drops);
            hand.transact(jobs).await;
            if !dropping.is_empty() {
                // SQLite takes this between transactions only.
                let off = say(&mut hand.connection, "PRAGMA foreign_keys = OFF").await;
                hand.transact(dropping).await;
                let on = say(&mut hand.connection, "PRAGMA foreign_keys = ON").await;
                if let Some(error) = off.and(on).err() {
                    hand.stop(&error.to_string());
                }
            }
            hand.empty_a_long_log().await;
        } else {
            hand.refuse(jobs.into_iter());
        }
        if let Some(done) = stop {
            let _ = hand.connection.close().await;
            let _ = done.send(());
            return;
        }
    }
}

impl Hand {
    /// Whether jobs can be done; after a failed commit, whether a new connection can write.
    async fn can_write(&mut self) -> bool {
        if self.stopped.borrow().is_none() {
            return true;
        }
        let probe = async {
            let mut fresh = self.again.connect().await?;
            // Something has to be written to see whether there is room.
            fresh.execute("BEGIN IMMEDIATE; CREATE TABLE probe (room BLOB); INSERT INTO probe VALUES (zeroblob(65536)); COMMIT").await?;
            fresh.execute("DROP TABLE probe").await?;
            Ok::<_, sqlx::Error>(fresh)
        };
        match probe.await {
            Ok(fresh) => {
                self.connection = fresh;
                self.stopped.send_replace(None);
                tracing::info!("writing is possible again");
                true
            }
            Err(_) => false,
        }
    }

    fn stop(&self, reason: &str) {
        if self.stopped.borrow().is_none() {
            tracing::error!(reason, "nothing can be written; reading goes on, and writing is tried again every few seconds");
            self.stopped.send_replace(Some(reason.to_owned()));
        }
    }

    /// Runs jobs in one transaction and tells their callers. The end of one savepoint and the beginning of the next
    /// are one message to the database: each message costs two changes of thread.
    async fn transact(&mut self, jobs: Vec<Job>) {
        if jobs.is_empty() {
            return;
        }
        let stamp = self.knowledge.begin();
        let connection = &mut self.connection;
        let mut replies: Vec<Reply> = vec![];
        let mut broken: Option<StoreError> = None;
        let mut jobs = jobs.into_iter();
        let commit = format!("UPDATE newest_commit SET stamp = {}; COMMIT", stamp.0);
        let (mut begin, mut open) = ("BEGIN IMMEDIATE; SAVEPOINT job", false);
        for job in jobs.by_ref() {
            broken = say(connection, begin).await.err();
            if let Some(error) = &broken {
                (job.refuse)(StoreError::NotWriting { reason: error.to_string() });
                break;
            }
            let Ended { reply, failed, broken: why } = (job.labour)(connection, stamp).await;
            if !failed {
                replies.push(reply);
                (begin, open) = ("RELEASE job; SAVEPOINT job", true);
                continue;
            }
            // What it did is undone, and it is told why, whatever becomes of the others.
            replies.push(Box::new(move |_| reply(None)));
            (begin, open) = ("SAVEPOINT job", false);
            let undone = say(connection, "ROLLBACK TO job; RELEASE job").await;
            // A full disk takes the whole transaction with it.
            broken = why.map(|reason| StoreError::NotWriting { reason }).or(undone.err());
            if broken.is_some() {
                break;
            }
        }
        if broken.is_none() {
            broken = say(connection, &if open { format!("RELEASE job; {commit}") } else { commit }).await.err();
        }
        if let Some(error) = &broken {
            let _ = connection.execute("ROLLBACK").await;
            let reason = match error {
                StoreError::NotWriting { reason } => reason.clone(),
                other => other.to_string(),
            };
            self.stop(&reason);
        }
        self.knowledge.end(stamp, broken.is_none());
        let reason = self.stopped.borrow().clone();
        for reply in replies {
            reply(reason.clone().map(|reason| StoreError::NotWriting { reason }));
        }
        self.refuse(jobs);
    }

    /// Tells the callers of jobs that nothing can be written.
    fn refuse(&self, jobs: impl Iterator<Item = Job>) {
        for job in jobs {
            let reason = self.stopped.borrow().clone().unwrap_or_default();
            (job.refuse)(StoreError::NotWriting { reason });
        }
    }

    /// Short readers come and go without end, so a log is not emptied by itself under load: those in it are waited for a moment.
    async fn empty_a_long_log(&mut self) {
        self.until_look -= 1;
        if self.until_look > 0 {
            return;
        }
        self.until_look = LOOK_AT_LOG;
        let mut log = self.again.get_filename().as_os_str().to_owned();
        log.push("-wal");
        if std::fs::metadata(log).is_ok_and(|log| log.len() > LONG_LOG) {
            let _ =
                self.connection.execute("PRAGMA busy_timeout = 500; PRAGMA wal_checkpoint(TRUNCATE); PRAGMA busy_timeout = 10000").await;
        }
    }
}

/// What a panic said.
fn said(panic: &(dyn Any + Send)) -> &str {
    panic.downcast_ref::<String>().map(String::as_str).or_else(|| panic.downcast_ref::<&str>().copied()).unwrap_or("no words")
}

async fn say(connection: &mut SqliteConnection, what: &str) -> Result<()> {
    connection.execute(sqlx::AssertSqlSafe(what)).await.map(drop).map_err(|e| StoreError::from(e).sharpen())
}

#[cfg(test)]
mod tests {
    use super::*;
    use futures_util::future::join_all;

    async fn writer() -> Writer {
        let options: SqliteConnectOptions = "sqlite::memory:".parse().unwrap();
        let mut connection = options.connect().await.unwrap();
        connection
            .execute("CREATE TABLE kept (n INTEGER PRIMARY KEY NOT NULL); CREATE TABLE newest_commit AS SELECT 7 AS stamp")
            .await
            .unwrap();
        Writer::start(connection, options, Knowledge::new(Arc::new(|| Timestamp(1)), Timestamp(7)), 41)
    }

    /// Keeps `n`, and then fails or breaks where that is asked for.
    async fn keep(writer: &Writer, n: i64) -> Result<i64> {
        writer
            .run(move |c, _| {
                Box::pin(async move {
                    sqlx::query("INSERT INTO kept (n) VALUES (?)").bind(n).execute(&mut *c).await?;
                    assert!(n % 10 != 3, "{n} is not to be");
                    if n % 10 == 7 { Err(StoreError::Unknown { kind: "number", id: n.to_string() }) } else { Ok(n) }
                })
            })
            .await
    }

    async fn kept(writer: &Writer) -> Vec<i64> {
        let all = writer.run(|c, _| Box::pin(async move { Ok(sqlx::query_scalar("SELECT n FROM kept ORDER BY n").fetch_all(c).await?) }));
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
    async fn no_two_commits_get_one_stamp_and_no_two_fetches_one_number() {
        let writer = writer().await;
        let stamp = || writer.run(|_, stamp| Box::pin(async move { Ok(stamp) }));
        let together: Vec<Timestamp> = join_all((0..200).map(|_| stamp())).await.into_iter().map(Result::unwrap).collect();
        assert_eq!(together.iter().min(), Some(&Timestamp(8)), "just after the newest, though the clock stands still");
        assert_eq!(together.iter().max(), Some(&writer.knowledge.committed()));
        for _ in 0..5 {
            let before = writer.knowledge.committed();
            assert!(stamp().await.unwrap() > before, "each commit has a later one");
        }
        assert_eq!([writer.next_fetch(), writer.clone().next_fetch(), writer.next_fetch()], [42, 43, 44]);
    }
}
