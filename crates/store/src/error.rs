//! What can go wrong with what is kept.

use std::path::{Path, PathBuf};

/// A failure of the store, in words an operator can act on.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// The data directory cannot be made or opened.
    #[error("cannot use the data directory {path}: {source}", path = path.display())]
    Directory {
        /// The directory.
        path: PathBuf,
        /// What the system said.
        source: std::io::Error,
    },
    /// Another process holds the data directory.
    #[error("the data directory {path} is in use by another mizuno (process {holder}); stop that one, or give --data another directory", path = path.display())]
    InUse {
        /// The directory.
        path: PathBuf,
        /// What the lock file says of its holder.
        holder: String,
    },
    /// The database has a migration this build does not know.
    #[error("{path} was written by a newer mizuno (its schema has version {version}, which this one does not know); run that one, or restore an older copy", path = path.display())]
    Newer {
        /// The database file.
        path: PathBuf,
        /// The unknown schema version.
        version: i64,
    },
    /// Another failure while bringing the schema up to date.
    #[error("cannot bring the schema of {path} up to date: {source}", path = path.display())]
    Migration {
        /// The database file.
        path: PathBuf,
        /// What went wrong.
        source: sqlx::migrate::MigrateError,
    },
    /// SQLite refused.
    #[error("the database refused: {0}")]
    Database(#[from] sqlx::Error),
    /// The writer has stopped, so nothing can be promised any more.
    #[error("the store is closed")]
    Closed,
    /// The disk is full.
    #[error("the disk that holds the database is full; nothing of this was stored, free some space and ask again")]
    DiskFull,
    /// An earlier commit failed, and nothing is written until one succeeds.
    #[error("nothing can be written at the moment: {reason}; reading goes on, and writing is tried again every few seconds")]
    NotWriting {
        /// What the commit met.
        reason: String,
    },
    /// A question as of an instant that is still to come.
    #[error("{wanted} is still to come; what will be known then is not known yet")]
    NotYet {
        /// The instant.
        wanted: mizuno_core::Timestamp,
    },
    /// A block is not what it should be.
    #[error("block {block} cannot be read: {source}; check the database with PRAGMA integrity_check")]
    Damaged {
        /// The block's number.
        block: i64,
        /// What is wrong with it.
        source: parquet::errors::ParquetError,
    },
    /// A kept answer is not what it should be.
    #[error("the payload {digest} cannot be read: {source}; check the database with PRAGMA integrity_check")]
    DamagedPayload {
        /// Its digest.
        digest: String,
        /// What is wrong with it.
        source: std::io::Error,
    },
    /// Something could not be packed, which is a fault of ours.
    #[error("{what} cannot be packed: {source}; nothing of this was stored; please report it")]
    Unpackable {
        /// A block, or a payload.
        what: &'static str,
        /// Why.
        source: Box<dyn std::error::Error + Send + Sync>,
    },
    /// We made a mistake.
    #[error("a fault in mizuno itself: {problem}; nothing of this was stored; please report it, with the log")]
    Fault {
        /// What was said of it.
        problem: String,
    },
    /// No such thing.
    #[error("there is no {kind} {id}")]
    Unknown {
        /// `series`, `run`, `fetch`, `excuse`, `payload`.
        kind: &'static str,
        /// What was asked for.
        id: String,
    },
    /// Text in the database that its type cannot read.
    #[error("the database holds {kind} `{text}`, which cannot be read")]
    Unreadable {
        /// What it should be.
        kind: &'static str,
        /// What it is.
        text: String,
    },
}

impl StoreError {
    /// Whether only the series at hand is concerned, so that others can go on.
    #[must_use]
    pub fn is_of_the_series(&self) -> bool {
        matches!(self, StoreError::Damaged { .. } | StoreError::Unpackable { .. } | StoreError::Fault { .. })
    }

    pub(crate) fn from_migration(path: &Path, source: sqlx::migrate::MigrateError) -> StoreError {
        let path = path.to_owned();
        match source {
            sqlx::migrate::MigrateError::VersionMissing(version) => StoreError::Newer { path, version },
            source => StoreError::Migration { path, source },
        }
    }

    /// Names a full disk as such: SQLite's result code 13.
    pub(crate) fn sharpen(self) -> StoreError {
        match self {
            StoreError::Database(sqlx::Error::Database(e)) if result_code(&*e) == Some(13) => StoreError::DiskFull,
            other => other,
        }
    }

    /// Whether nothing more can be written until whatever is wrong with the disk has passed: SQLite's result codes
    /// for a read-only database (8), an I/O error (10), a full disk (13) and a file that cannot be opened (14).
    pub(crate) fn stops_writing(&self) -> bool {
        match self {
            StoreError::DiskFull => true,
            StoreError::Database(sqlx::Error::Database(e)) => matches!(result_code(&**e), Some(8 | 10 | 13 | 14)),
            _ => false,
        }
    }

    /// Whether the same may be written a little later.
    #[must_use]
    pub fn may_pass(&self) -> bool {
        matches!(self, StoreError::DiskFull | StoreError::NotWriting { .. }) || self.stops_writing()
    }
}

/// SQLite's primary result code: the lowest byte of the extended one.
fn result_code(error: &dyn sqlx::error::DatabaseError) -> Option<u32> {
    error.code()?.parse::<u32>().ok().map(|code| code & 0xff)
}
