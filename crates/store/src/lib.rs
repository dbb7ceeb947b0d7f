//! Everything Mizuno keeps, in one SQLite file.
//!
//! * `bars`, with [`blocks`] and [`reading`]: every version of every bar, sealed history as
//!   Parquet files in blobs, the newest in a small row table.
//! * `commit`: the one writer, and [`knowledge`], the stamps of commits, which answers are pinned to.
//! * `ledger`, with [`runs`], [`fetches`], [`answers`], [`payloads`]: what was asked, what came back, byte for byte;
//!   [`folded`]: old polls that brought nothing new.
//! * [`actions`]: corporate actions that people entered.
//! * [`configurations`]: what the service was told to be, and from when on.
//! * [`editions`]: sets of files that were made, and what each of their files was.
//! * [`questions`]: what researchers saved under a name.
//! * [`lists`]: what sources list, and calls counted by the day.
//! * [`quarantine`], [`excuses`]: what is not believed, and what a person accepted.
//! * [`rebasing`]: when the past of a series was collected again on another basis.
//!
//! All writing goes through one task (`commit::writer`); readers use a pool and see
//! a consistent snapshot. Nothing outside this crate contains SQL.
//!
//! What it is not: a cache. Nothing here can be thrown away and rebuilt.

pub mod actions;
mod bars;
mod commit;
pub mod configurations;
pub mod editions;
pub mod error;
pub mod instruments;
mod ledger;
pub mod lists;
pub mod questions;
mod upgrade;

pub use bars::{blocks, ranges, reading, series, table};
pub use commit::knowledge;
pub use error::StoreError;
pub use knowledge::Now;
pub use ledger::{answers, excuses, fetch, fetches, folded, payloads, quarantine, rebasing, runs};

use bars::{news, roster, spans};
use commit::{lock, writer};
use knowledge::Knowledge;
use mizuno_core::Timestamp;
use sqlx::{
    ConnectOptions, SqlitePool,
    sqlite::{SqliteConnectOptions, SqliteJournalMode, SqlitePoolOptions, SqliteSynchronous},
};
use std::{path::Path, str::FromStr, sync::Arc};

/// The one result type of this crate.
pub type Result<T> = std::result::Result<T, StoreError>;

/// An open data directory. Clones share it.
#[derive(Clone)]
pub struct Store {
    readers: SqlitePool,
    writer: writer::Writer,
    roster: Arc<roster::Roster>,
    _lock: Arc<lock::DirectoryLock>,
}

impl Store {
    /// Opens the data directory `dir`, creating it and its database when absent. `now` is the clock that commits are stamped by.
    ///
    /// # Errors
    /// When another process has it open, when the disk refuses, or when the
    /// database was written by a newer Mizuno.
    pub async fn open(dir: &Path, now: Now) -> Result<Store> {
        std::fs::create_dir_all(dir).map_err(|source| StoreError::Directory { path: dir.to_owned(), source })?;
        let lock = lock::DirectoryLock::take(dir)?;
        let path = dir.join("mizuno.db");
        let options = SqliteConnectOptions::from_str("sqlite:")?
            .filename(&path)
            .create_if_missing(true)
            // Readers never wait for the writer, nor it for them.
            .journal_mode(SqliteJournalMode::Wal)
            // A commit that was told of survives a loss of power.
            .synchronous(SqliteSynchronous::Full)
            .foreign_keys(true)
            // Read, not mapped: an error of the disk is then an error of one question, and not a signal that ends the service. It is as
            // fast, and what is resident does not grow with the database.
            .pragma("mmap_size", "0")
            // 32 MiB for the one connection that writes: the inner pages of all indices.
            .pragma("cache_size", "-32768")
            // 16 MiB of log before pages are copied back: fewer copies of pages that change often.
            .pragma("wal_autocheckpoint", "4000")
            // Only a checkpoint that resets the log ever holds anybody up, and that for milliseconds.
            .busy_timeout(std::time::Duration::from_secs(10));
        let mut connection = options.clone().connect().await?;
        sqlx::migrate!().run(&mut connection).await.map_err(|e| StoreError::from_migration(&path, e))?;
        upgrade::fill_in(&mut connection).await?;
        // Every read is short, so a few connections serve everybody; more would only keep more caches.
        let pool = SqlitePoolOptions::new().max_connections(4).test_before_acquire(false);
        // 8 MiB for each reader: inner pages, and the hot part of the log. Blocks are read once and pass through.
        let readers = pool.connect_with(options.clone().read_only(true).pragma("cache_size", "-8192")).await?;
        let newest = sqlx::query_scalar!("SELECT stamp FROM newest_commit").fetch_one(&mut connection).await?;
        let fetches = sqlx::query_scalar!("SELECT max(id) AS \"id: i64\" FROM fetch").fetch_one(&mut connection).await?;
        let knowledge = Knowledge::new(now, Timestamp(newest));
        let writer = writer::Writer::start(connection, options, knowledge, fetches.unwrap_or(0));
        let roster = Arc::new(roster::Roster::new(Timestamp(newest)));
        Ok(Store { readers, writer, roster, _lock: Arc::new(lock) })
    }

    /// Removes the database in `dir`, if there is one.
    ///
    /// # Errors
    /// When another process has it open, or the disk refuses.
    pub fn discard(dir: &Path) -> Result<()> {
        let failed = |source| StoreError::Directory { path: dir.to_owned(), source };
        std::fs::create_dir_all(dir).map_err(failed)?;
        let _lock = lock::DirectoryLock::take(dir)?;
        for name in ["mizuno.db", "mizuno.db-wal", "mizuno.db-shm"] {
            match std::fs::remove_file(dir.join(name)) {
                Err(e) if e.kind() != std::io::ErrorKind::NotFound => return Err(failed(e)),
                _ => {}
            }
        }
        Ok(())
    }

    /// The stamp of the newest commit.
    #[must_use]
    pub fn newest(&self) -> Timestamp {
        self.writer.knowledge.committed()
    }

    /// The instant that an answer stands for when it is asked as of `wanted`: asked again for that instant, it is the same.
    /// Without one, that of the newest commit.
    ///
    /// # Errors
    /// When the instant is still to come.
    pub async fn pin(&self, wanted: Option<Timestamp>) -> Result<Timestamp> {
        let pinned = self.writer.knowledge.pin(wanted).await;
        pinned.ok_or(StoreError::NotYet { wanted: wanted.unwrap_or(Timestamp::MAX) })
    }

    /// Why nothing can be written at this moment; `None` while all is well.
    #[must_use]
    pub fn stopped_writing(&self) -> Option<String> {
        self.writer.stopped().borrow().clone()
    }

    /// Waits until something can be written.
    pub async fn writable(&self) {
        let _ = self.writer.stopped().wait_for(Option::is_none).await;
    }

    /// Finishes what is being written and closes the database.
    pub async fn close(&self) {
        self.writer.stop().await;
        self.readers.close().await;
    }

    /// Bytes the database takes on disk, free pages included.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn size(&self) -> Result<u64> {
        let size = sqlx::query_scalar!("SELECT page_count * page_size AS \"size!: i64\" FROM pragma_page_count(), pragma_page_size()")
            .fetch_one(&self.readers)
            .await?;
        Ok(size as u64)
    }
}
