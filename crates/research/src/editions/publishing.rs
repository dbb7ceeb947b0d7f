//! Editions in object storage that speaks S3.
//!
//! An edition goes under `PREFIX/SPEC/WRITER/NUMBER/`, its file of sums last, and after that `PREFIX/SPEC/WRITER/latest.json` says which one
//! is the newest: a reader that begins there sees all of an edition or nothing of it. What the edition before has the same of is copied
//! there and not sent. Each file that is there stands in the ledger, so what was broken off goes on with the next.

use super::{Recipe, SUMS, file::failed};
use crate::Research;
use mizuno_config::edition::Publish;
use mizuno_desk::{DeskError, Event};
use mizuno_sources::Secrets;
use mizuno_store::editions::{EditionRow, FileRow, State};
use object_store::{
    ClientOptions, ObjectStoreExt, PutPayload, RetryConfig, WriteMultipart,
    aws::{AmazonS3, AmazonS3Builder, Checksum},
    path::Path as Key,
};
use std::{
    collections::HashMap,
    io::Read,
    sync::{Arc, PoisonError},
    time::{Duration, Instant},
};

/// Files larger than this are sent in parts of this size.
const PART: usize = 8 << 20;
/// Parts on their way at once.
const AT_ONCE: usize = 4;
/// A storage that does not answer is asked again for so long, before the attempt is given up until the next.
const PATIENCE: Duration = Duration::from_secs(30);
/// Attempts are so far apart.
const REST: Duration = Duration::from_secs(30);

/// The file that says which edition is the newest.
const LATEST: &str = "latest.json";

/// How the last attempt to publish ended.
#[derive(Clone, Debug)]
pub struct Attempt {
    /// Why it was given up.
    pub why: String,
    /// Not before this the next one begins.
    rest: Instant,
}

fn refused(what: &str, error: &object_store::Error) -> DeskError {
    // Addresses and answers of the storage; keys are never among them.
    DeskError::Invalid(format!("{what}: {error}"))
}

/// The storage of a spec.
fn storage(publish: &Publish, secrets: &Secrets) -> Result<AmazonS3, DeskError> {
    let (bucket, _) = publish.place().ok_or_else(|| DeskError::Invalid(format!("publish.to: `{}` is no place", publish.to)))?;
    let secret = |name: &str| {
        secrets
            .get(name)
            .ok_or_else(|| DeskError::Invalid(format!("{name} is not set; put it into the environment, or into .env of the configuration")))
    };
    let retry = RetryConfig { retry_timeout: PATIENCE, ..RetryConfig::default() };
    let mut builder = AmazonS3Builder::new()
        .with_bucket_name(bucket)
        .with_region(&publish.region)
        .with_access_key_id(secret("AWS_ACCESS_KEY_ID")?)
        .with_secret_access_key(secret("AWS_SECRET_ACCESS_KEY")?)
        // The storage works the sum of what came out itself, and refuses what came out otherwise.
        .with_checksum_algorithm(Checksum::SHA256)
        .with_retry(retry);
    if let Some(token) = secrets.get("AWS_SESSION_TOKEN") {
        builder = builder.with_token(token);
    }
    if let Some(endpoint) = &publish.endpoint {
        let plain = endpoint.starts_with("http://");
        builder = builder.with_endpoint(endpoint).with_client_options(ClientOptions::new().with_allow_http(plain));
    }
    builder.build().map_err(|e| refused("the object storage cannot be set up", &e))
}

impl Research {
    /// Why the newest edition of a spec is not published, where it should be.
    #[must_use]
    pub fn not_published(&self, spec: &str) -> Option<String> {
        self.at_work.attempts.lock().unwrap_or_else(PoisonError::into_inner).get(spec).map(|attempt| attempt.why.clone())
    }

    /// Publishes every edition that is to be and is not, oldest first.
    pub(super) async fn publish_what_is_made(self: &Arc<Self>) -> Result<(), DeskError> {
        let setup = self.desk.setup();
        for spec in setup.config.editions.values() {
            let Some(publish) = &spec.publish else { continue };
            let resting = |attempt: &Attempt| Instant::now() < attempt.rest;
            if self.at_work.attempts.lock().unwrap_or_else(PoisonError::into_inner).get(&spec.name).is_some_and(resting) {
                continue;
            }
            let rows = self.desk.store.editions(Some(&spec.name)).await?;
            for row in rows.iter().rev().filter(|row| row.is_served() && row.published.is_none()) {
                // Made before the spec said so, it stays where it is.
                if Recipe::read(row)?.edition()?.publish.is_none() {
                    continue;
                }
                let published = self.publish(row, &rows, publish).await;
                let mut attempts = self.at_work.attempts.lock().unwrap_or_else(PoisonError::into_inner);
                match published {
                    Ok(()) => drop(attempts.remove(&spec.name)),
                    Err(error) => {
                        tracing::warn!(edition = %format!("{}/{}", row.spec, row.number), %error, "an edition could not be published");
                        attempts.insert(spec.name.clone(), Attempt { why: error.to_string(), rest: Instant::now() + REST });
                        break;
                    }
                }
                drop(attempts);
                self.desk.events.tell(Event::Editions);
            }
        }
        Ok(())
    }

    async fn publish(&self, row: &EditionRow, rows: &[EditionRow], publish: &Publish) -> Result<(), DeskError> {
        let storage = storage(publish, &self.desk.secrets())?;
        let (place, of) = (publish.keys(&row.spec), |number: i64| publish.keys_of(&row.spec, number));
        let files = self.desk.store.edition_files(row.id).await?;
        let there = self.desk.store.published_files(row.id).await?;
        // Of the newest edition that is in the same place; others may have been taken away there.
        let before = rows.iter().find(|old| {
            old.number < row.number
                && old.state == State::Made
                && old.published.as_ref().is_some_and(|(to, _)| *to == publish.folder(&old.spec, old.number))
        });
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
        let latest = serde_json::json!({
            "spec": row.spec,
            "writer": publish.writer,
            "edition": row.number,
            "label": row.label,
            "as_of": row.instant.to_string(),
            "prefix": of(row.number),
            "sums": row.sums,
        });
        let text = serde_json::to_vec_pretty(&latest).map_err(|e| DeskError::fault("writing latest.json", e))?;
        storage.put(&Key::from(format!("{place}/{LATEST}")), text.into()).await.map_err(|e| refused(LATEST, &e))?;
        self.desk.store.publish_edition(row.id, publish.folder(&row.spec, row.number)).await?;
        Ok(())
    }

    /// Sends a file, in parts where it is large.
    async fn send(&self, storage: &AmazonS3, row: &EditionRow, file: &FileRow, to: &Key) -> Result<(), DeskError> {
        let path = self.edition_folder(row).join(&file.path);
        let mut open = std::fs::File::open(&path).map_err(|e| failed(&path, &e))?;
        let mut piece = vec![0; PART.min(file.bytes.unsigned_abs() as usize)];
        if file.bytes.unsigned_abs() as usize <= PART {
            open.read_exact(&mut piece).map_err(|e| failed(&path, &e))?;
            return storage.put(to, PutPayload::from(piece)).await.map(drop).map_err(|e| refused(&file.path, &e));
        }
        let upload = storage.put_multipart(to).await.map_err(|e| refused(&file.path, &e))?;
        let mut parts = WriteMultipart::new_with_chunk_size(upload, PART);
        loop {
            let n = open.read(&mut piece).map_err(|e| failed(&path, &e))?;
            if n == 0 {
                break;
            }
            parts.wait_for_capacity(AT_ONCE).await.map_err(|e| refused(&file.path, &e))?;
            parts.write(&piece[..n]);
        }
        parts.finish().await.map(drop).map_err(|e| refused(&file.path, &e))
    }
}
