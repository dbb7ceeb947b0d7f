//! Everything Mizuno keeps, in one SQLite file.
//!
//! * [`blocks`] and [`bars`]: every version of every bar, sealed history as
//!   Parquet files in blobs, the newest in a small row table.
//! * [`runs`], [`fetches`], [`answers`], [`payloads`]: what was asked, what came back, byte for byte.
//! * [`lists`]: what sources list, and calls counted by the day.
//! * [`quarantine`], [`excuses`]: what is not believed, and what a person accepted.
//! * [`rebasing`]: when the past of a series was collected again on another basis.
//!
//! All writing goes through one task ([`writer`]); readers use a pool and see
//! a consistent snapshot. Nothing outside this crate contains SQL.
//!
//! What it is not: a cache. Nothing here can be thrown away and rebuilt.

pub mod answers;
pub mod bars;
pub mod blocks;
pub mod error;
pub mod excuses;
pub mod fetches;
pub mod instruments;
pub mod lists;
mod lock;
pub mod payloads;
pub mod quarantine;
pub mod rebasing;
pub mod runs;
pub mod series;
mod spans;
pub mod table;
mod writer;

pub use error::StoreError;

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
    _lock: Arc<lock::DirectoryLock>,
}

impl Store {
    /// Opens the data directory `dir`, creating it and its database when absent.
    ///
    /// # Errors
    /// When another process has it open, when the disk refuses, or when the
    /// database was written by a newer Mizuno.
    pub async fn open(dir: &Path) -> Result<Store> {
        std::fs::create_dir_all(dir).map_err(|source| StoreError::Directory { path: dir.to_owned(), source })?;
        let lock = lock::DirectoryLock::take(dir)?;
        let path = dir.join("mizuno.db");
        let options = SqliteConnectOptions::from_str("sqlite:")?
            .filename(&path)
            .create_if_missing(true)
            .journal_mode(SqliteJournalMode::Wal)
            .synchronous(SqliteSynchronous::Full)
            .foreign_keys(true)
            .pragma("mmap_size", "1073741824")
            .pragma("cache_size", "-32768")
            .pragma("wal_autocheckpoint", "4000")
            .busy_timeout(std::time::Duration::from_secs(10));
        let mut connection = options.clone().connect().await?;
        sqlx::migrate!().run(&mut connection).await.map_err(|e| StoreError::from_migration(&path, e))?;
        let readers = SqlitePoolOptions::new().max_connections(4).test_before_acquire(false).connect_with(options.read_only(true)).await?;
        let last = sqlx::query_scalar!(
            "SELECT max(at) AS \"at: i64\" FROM
                 (SELECT max(answered_at) AS at FROM fetch UNION ALL SELECT max(ended_at) FROM run UNION ALL SELECT max(recorded_at) FROM tail UNION ALL SELECT max(asked_at) FROM list_fetch UNION ALL SELECT max(ended_at) FROM rebasing)"
        )
            .fetch_one(&mut connection)
            .await?;
        let fetches = sqlx::query_scalar!("SELECT max(id) AS \"id: i64\" FROM fetch").fetch_one(&mut connection).await?;
        let writer = writer::Writer::start(connection, Timestamp(last.unwrap_or(i64::MIN)), fetches.unwrap_or(0));
        Ok(Store { readers, writer, _lock: Arc::new(lock) })
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

    /// The latest instant anything was recorded at; the service's clock must not run behind it.
    #[must_use]
    pub fn last_recorded(&self) -> Timestamp {
        self.writer.last_recorded()
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
