//! One process per data directory.

use crate::{Result, StoreError};
use std::{
    fs::{File, OpenOptions, TryLockError},
    io::{Read, Write},
    path::Path,
};

/// Held for as long as the store is open; the system releases it when the process ends, however it ends.
pub(crate) struct DirectoryLock(#[allow(dead_code, reason = "held, not read")] File);

impl DirectoryLock {
    pub(crate) fn take(dir: &Path) -> Result<DirectoryLock> {
        let failed = |source| StoreError::Directory { path: dir.to_owned(), source };
        let mut file = OpenOptions::new().create(true).truncate(false).read(true).write(true).open(dir.join("lock")).map_err(failed)?;
        match file.try_lock() {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => {
                let mut holder = String::new();
                let _ = file.read_to_string(&mut holder);
                return Err(StoreError::InUse { path: dir.to_owned(), holder: holder.trim().to_owned() });
            }
            Err(TryLockError::Error(source)) => return Err(failed(source)),
        }
        file.set_len(0).map_err(failed)?;
        writeln!(file, "{}", std::process::id()).map_err(failed)?;
        Ok(DirectoryLock(file))
    }
}
