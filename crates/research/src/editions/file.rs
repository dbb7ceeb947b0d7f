//! One file on its way to the disk: written through a buffer, with its sum taken as it goes.

use super::Progress;
use mizuno_desk::DeskError;
use ring::digest::{Context, SHA256};
use std::{
    fs::File,
    io::{Read, Write},
    path::{Path, PathBuf},
};

/// Bytes written at once.
const PIECE: usize = 256 << 10;

/// A file being written. It has its name when it is whole.
pub(super) struct Written {
    path: PathBuf,
    file: File,
    sum: Context,
    waiting: Vec<u8>,
    bytes: u64,
}

impl Written {
    /// Begins a file in a folder.
    pub fn begin(folder: &Path, name: &str) -> Result<Written, DeskError> {
        let path = folder.join(name);
        let parent = path.parent().unwrap_or(folder);
        std::fs::create_dir_all(parent).map_err(|e| DeskError::file(parent, e))?;
        // One that was left behind may be closed to writers already.
        let _ = std::fs::remove_file(unfinished(&path));
        let file = File::create(unfinished(&path)).map_err(|e| DeskError::file(&path, e))?;
        Ok(Written { path, file, sum: Context::new(&SHA256), waiting: Vec::with_capacity(PIECE * 2), bytes: 0 })
    }

    /// Where to put what is to be written next; [`Written::flush`] writes it when there is enough.
    pub fn buffer(&mut self) -> &mut Vec<u8> {
        &mut self.waiting
    }

    /// Writes what waits, where that is enough to be worth it.
    pub fn flush(&mut self, progress: &Progress, all: bool) -> Result<(), DeskError> {
        if self.waiting.len() >= PIECE || all {
            self.file.write_all(&self.waiting).map_err(|e| DeskError::file(&self.path, e))?;
            self.sum.update(&self.waiting);
            self.bytes += self.waiting.len() as u64;
            Progress::add(&progress.bytes, self.waiting.len() as u64);
            self.waiting.clear();
        }
        Ok(())
    }

    /// Puts the file on the disk and in its place: its sum and its size.
    pub fn finish(mut self, progress: &Progress) -> Result<(String, u64), DeskError> {
        self.flush(progress, true)?;
        let done = || {
            // Nobody is to change it by mistake: other editions may be this very file.
            let mut rights = self.file.metadata()?.permissions();
            rights.set_readonly(true);
            self.file.set_permissions(rights)?;
            self.file.sync_all()?;
            std::fs::rename(unfinished(&self.path), &self.path)
        };
        // It waits for the disk: other files go on in the meantime.
        tokio::task::block_in_place(done).map_err(|e| DeskError::file(&self.path, e))?;
        Ok((hex(self.sum.finish().as_ref()), self.bytes))
    }
}

/// What a file is called until it is whole.
fn unfinished(path: &Path) -> PathBuf {
    let mut name = path.as_os_str().to_owned();
    name.push(".unfinished");
    name.into()
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|b| format!("{b:02x}")).collect()
}

/// The sum of a file that is there, and its size.
pub(super) fn sum_of(path: &Path) -> std::io::Result<(String, u64)> {
    let (mut file, mut sum, mut bytes) = (File::open(path)?, Context::new(&SHA256), 0);
    let mut piece = vec![0; PIECE];
    loop {
        let n = file.read(&mut piece)?;
        if n == 0 {
            return Ok((hex(sum.finish().as_ref()), bytes));
        }
        sum.update(&piece[..n]);
        bytes += n as u64;
    }
}

/// Makes sure that the names in a folder, and in the folders in it, are on the disk.
pub(super) fn sync_names(folder: &Path) -> std::io::Result<()> {
    for entry in std::fs::read_dir(folder)? {
        let entry = entry?;
        if entry.file_type()?.is_dir() {
            sync_names(&entry.path())?;
        }
    }
    File::open(folder)?.sync_all()
}
