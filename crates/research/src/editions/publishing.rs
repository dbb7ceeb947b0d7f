//! Editions in object storage that speaks S3.
//!
//! An edition goes under `PREFIX/SPEC/WRITER/NUMBER/`, its file of sums last, and after that `PREFIX/SPEC/WRITER/latest.json` says which one
//! is the newest: a reader that begins there sees all of an edition or nothing of it. What the edition before has the same of is copied
//! there and not sent. Each file that is there stands in the ledger, so what was broken off goes on with the next.

use super::{
    Recipe, SUMS,
    storage::{is_read_there, lies_in, name_newest, refused, storage},
};
use crate::Research;
use mizuno_config::edition::Publish;
use mizuno_desk::{DeskError, Event, Setup};
use mizuno_store::editions::{EditionRow, FileRow, State};
use object_store::{ObjectStoreExt, PutPayload, WriteMultipart, aws::AmazonS3, path::Path as Key};
use std::{
    collections::{HashMap, HashSet},
    io::Read,
    sync::{Arc, PoisonError},
    time::{Duration, Instant},
};

/// Files larger than this are sent in parts of this size.
const PART: usize = 8 << 20;
/// Parts on their way at once.
const AT_ONCE: usize = 4;
/// Attempts are so far apart.
const REST: Duration = Duration::from_secs(30);

/// How the last attempt to bring a storage up to date ended.
#[derive(Clone, Debug)]
pub struct Attempt {
    /// Why it was given up.
    pub why: String,
    /// Not before this the next one begins, unless the configuration is another.
    rest: Instant,
    setup: u64,
}

impl Research {
    /// Why the object storage does not have the editions of a spec as it should.
    #[must_use]
    pub fn storage_behind(&self, spec: &str) -> Option<String> {
        self.at_work.attempts.lock().unwrap_or_else(PoisonError::into_inner).get(spec).map(|attempt| attempt.why.clone())
    }

    /// Brings the object storage of every spec up to date, each beside the others: one that is slow, or does not answer, holds up no other.
    pub(super) fn bring_storages_up_to_date(self: &Arc<Self>) {
        let setup = self.desk.setup();
        let mut sending = self.at_work.sending.lock().unwrap_or_else(PoisonError::into_inner);
        for spec in setup.config.editions.values().filter(|spec| spec.publish.is_some()) {
            let resting = |attempt: &Attempt| attempt.setup == setup.serial && Instant::now() < attempt.rest;
            let rests = self.at_work.attempts.lock().unwrap_or_else(PoisonError::into_inner).get(&spec.name).is_some_and(resting);
            if rests || sending.get(&spec.name).is_some_and(|work| !work.is_finished()) {
                continue;
            }
            let (research, setup, name) = (self.clone(), setup.clone(), spec.name.clone());
            sending.insert(spec.name.clone(), self.desk.hands.long(move || async move { research.attempt(&setup, &name).await }));
        }
    }

    async fn attempt(&self, setup: &Setup, name: &str) {
        let Some(publish) = setup.config.editions.get(name).and_then(|spec| spec.publish.as_ref()) else { return };
        let ended = match self.desk.store.editions(Some(name)).await {
            Ok(rows) => self.bring_up_to_date(&rows, publish).await,
            Err(error) => Err(error.into()),
        };
        let mut attempts = self.at_work.attempts.lock().unwrap_or_else(PoisonError::into_inner);
        match ended {
            Ok(()) => drop(attempts.remove(name)),
            Err(error) => {
                tracing::warn!(edition = name, %error, "the object storage of an edition is behind");
                let rest = Instant::now() + REST;
                attempts.insert(name.to_owned(), Attempt { why: error.to_string(), rest, setup: setup.serial });
            }
        }
    }

    /// Takes away what is to be there no longer, and publishes every edition that is to be there and is not, oldest first.
    async fn bring_up_to_date(&self, rows: &[EditionRow], publish: &Publish) -> Result<(), DeskError> {
        let stay = to_be_there(rows, publish.keep);
        let there = self.desk.store.editions_in_storage().await?;
        let is_here = |row: &EditionRow| row.published.is_none() || lies_in(row, publish);
        for row in rows.iter().rev().filter(|row| there.contains(&row.id) && !stay.contains(&row.id) && is_here(row)) {
            self.take_out_of_storage(row, rows, publish).await.map_err(|e| told(row, "is still there", &e))?;
            self.desk.events.tell(Event::Editions);
        }
        for row in rows.iter().rev().filter(|row| row.is_served() && row.published.is_none() && stay.contains(&row.id)) {
            // Made before the spec said so, it stays where it is.
            if Recipe::read(row)?.edition()?.publish.is_none() {
                continue;
            }
            self.publish(row, rows, publish).await.map_err(|e| told(row, "is not there", &e))?;
            self.desk.events.tell(Event::Editions);
        }
        Ok(())
    }

    async fn publish(&self, row: &EditionRow, rows: &[EditionRow], publish: &Publish) -> Result<(), DeskError> {
        let storage = storage(publish, &self.desk.secrets())?;
        let of = |number: i64| publish.keys_of(&row.spec, number);
        let files = self.desk.store.edition_files(row.id).await?;
        let there = self.desk.store.published_files(row.id).await?;
        // Of the newest edition that is in the same place; others may have been taken away there.
        let before = rows.iter().find(|old| old.number < row.number && is_read_there(old, publish));
        let known: HashMap<String, FileRow> = match before {
            None => HashMap::new(),
            Some(old) => self.desk.store.edition_files(old.id).await?.into_iter().map(|file| (file.path.clone(), file)).collect(),
        };
        let (sums, others): (Vec<&FileRow>, Vec<&FileRow>) = files.iter().partition(|file| file.path == SUMS);
        for file in others.into_iter().chain(sums) {
            if there.contains(&file.path) && file.path != SUMS {
                continue;
            }
            let to = Key::from(format!("{}/{}", of(row.number), file.path));
            let same = before.filter(|_| known.get(&file.path).is_some_and(|old| old.digest == file.digest));
            let copied = match same {
                Some(old) => storage.copy(&Key::from(format!("{}/{}", of(old.number), file.path)), &to).await.is_ok(),
                None => false,
            };
            if !copied {
                self.send(&storage, row, file, &to).await?;
            }
            let head = storage.head(&to).await.map_err(|e| refused(&file.path, &e))?;
            if head.size != file.bytes.unsigned_abs() {
                return Err(DeskError::Invalid(format!("{}: {} bytes are there instead of {}", file.path, head.size, file.bytes)));
            }
            self.desk.store.keep_published_file(row.id, file.path.clone()).await?;
        }
        // An older one is published again where somebody keeps it, or more are kept.
        let newest = rows.iter().find(|other| other.id == row.id || is_read_there(other, publish));
        name_newest(&storage, publish, &row.spec, newest).await?;
        self.desk.store.publish_edition(row.id, publish.folder(&row.spec, row.number)).await?;
        Ok(())
    }

    /// Sends a file, in parts where it is large.
    async fn send(&self, storage: &AmazonS3, row: &EditionRow, file: &FileRow, to: &Key) -> Result<(), DeskError> {
        let path = self.edition_folder(row).join(&file.path);
        let mut open = std::fs::File::open(&path).map_err(|e| DeskError::file(&path, e))?;
        let mut piece = vec![0; PART.min(file.bytes.unsigned_abs() as usize)];
        if file.bytes.unsigned_abs() as usize <= PART {
            open.read_exact(&mut piece).map_err(|e| DeskError::file(&path, e))?;
            return storage.put(to, PutPayload::from(piece)).await.map(drop).map_err(|e| refused(&file.path, &e));
        }
        let upload = storage.put_multipart(to).await.map_err(|e| refused(&file.path, &e))?;
        let mut parts = WriteMultipart::new_with_chunk_size(upload, PART);
        loop {
            let read = open.read(&mut piece).map_err(|e| DeskError::file(&path, e));
            let room = parts.wait_for_capacity(AT_ONCE).await.map_err(|e| refused(&file.path, &e));
            match room.and(read) {
                Ok(0) => return parts.finish().await.map(drop).map_err(|e| refused(&file.path, &e)),
                Ok(n) => parts.write(&piece[..n]),
                Err(error) => {
                    // Parts of an upload that nobody ends are kept, unseen.
                    let _ = parts.abort().await;
                    return Err(error);
                }
            }
        }
    }
}

/// The ids of the editions that are to be in the storage: those that were not withdrawn; with `keep` the newest so many, and those that a
/// person keeps.
fn to_be_there(rows: &[EditionRow], keep: Option<u32>) -> HashSet<i64> {
    let whole = rows.iter().filter(|row| matches!(row.state, State::Made | State::Expired) && row.withdrawn.is_none());
    let newest = keep.map_or(usize::MAX, |keep| keep as usize);
    whole.enumerate().filter(|(at, row)| *at < newest || row.pinned.is_some()).map(|(_, row)| row.id).collect()
}

fn told(row: &EditionRow, how: &str, error: &DeskError) -> DeskError {
    DeskError::Invalid(format!("{}/{} {how}: {error}", row.spec, row.number))
}
