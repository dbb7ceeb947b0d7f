//! Object storage that speaks S3: how it is reached, which edition is the newest there, and how one is taken away again.

use super::SUMS;
use crate::Research;
use futures_util::{StreamExt, stream};
use mizuno_config::edition::Publish;
use mizuno_desk::DeskError;
use mizuno_sources::Secrets;
use mizuno_store::editions::EditionRow;
use object_store::{
    ClientOptions, Error, ObjectStore, ObjectStoreExt, RetryConfig,
    aws::{AmazonS3, AmazonS3Builder, Checksum},
    path::Path as Key,
};
use std::time::Duration;

/// A storage that does not answer is asked again for so long, before the attempt is given up until the next.
const PATIENCE: Duration = Duration::from_secs(30);
/// The file that says which edition is the newest.
const LATEST: &str = "latest.json";
/// The file that is left of an edition that was withdrawn.
const WITHDRAWN: &str = "withdrawn.json";

pub(super) fn refused(what: &str, error: &Error) -> DeskError {
    // Addresses and answers of the storage; keys are never among them.
    DeskError::Invalid(format!("{what}: {error}"))
}

/// The storage of a spec.
pub(super) fn storage(publish: &Publish, secrets: &Secrets) -> Result<AmazonS3, DeskError> {
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

/// Writes a small file.
async fn put(storage: &AmazonS3, to: String, content: &serde_json::Value) -> Result<(), DeskError> {
    let text = serde_json::to_vec_pretty(content).map_err(|e| DeskError::fault("writing a file for the object storage", e))?;
    storage.put(&Key::from(to.as_str()), text.into()).await.map(drop).map_err(|e| refused(&to, &e))
}

/// Takes away files, many with a call; one that is not there is gone.
async fn take_away(storage: &AmazonS3, paths: Vec<String>) -> Result<(), DeskError> {
    let all = stream::iter(paths.into_iter().map(|path| Ok(Key::from(path)))).boxed();
    let failed = |one: Result<Key, Error>| std::future::ready(one.err().filter(|e| !matches!(e, Error::NotFound { .. })));
    match storage.delete_stream(all).filter_map(failed).boxed().next().await {
        None => Ok(()),
        Some(e) => Err(refused("it cannot be taken away", &e)),
    }
}

/// Says which edition is the newest there; that there is none by taking the file away.
pub(super) async fn name_newest(storage: &AmazonS3, publish: &Publish, spec: &str, newest: Option<&EditionRow>) -> Result<(), DeskError> {
    let path = format!("{}/{LATEST}", publish.keys(spec));
    let Some(row) = newest else { return take_away(storage, vec![path]).await };
    let latest = serde_json::json!({
        "spec": row.spec,
        "writer": publish.writer,
        "edition": row.number,
        "label": row.label,
        "as_of": row.instant.to_string(),
        "prefix": publish.keys_of(&row.spec, row.number),
        "sums": row.sums,
    });
    put(storage, path, &latest).await
}

/// Whether an edition is in this place and may be read there.
pub(super) fn is_read_there(row: &EditionRow, publish: &Publish) -> bool {
    row.withdrawn.is_none() && lies_in(row, publish)
}

/// Whether all of an edition was published to this place.
pub(super) fn lies_in(row: &EditionRow, publish: &Publish) -> bool {
    row.published.as_ref().is_some_and(|(to, _)| *to == publish.folder(&row.spec, row.number))
}

impl Research {
    /// Takes an edition out of the storage. First nobody is sent to it any more, then it is no longer whole, then it is gone. In the place
    /// of one that was withdrawn a file says by whom and why.
    pub(super) async fn take_out_of_storage(&self, row: &EditionRow, rows: &[EditionRow], publish: &Publish) -> Result<(), DeskError> {
        let storage = storage(publish, &self.desk.secrets())?;
        let files = self.desk.store.published_files(row.id).await?;
        let folder = publish.keys_of(&row.spec, row.number);
        let newest = rows.iter().find(|other| other.id != row.id && is_read_there(other, publish));
        name_newest(&storage, publish, &row.spec, newest).await?;
        if let Some((by, why, at)) = &row.withdrawn {
            let told = serde_json::json!({
                "spec": row.spec,
                "edition": row.number,
                "label": row.label,
                "withdrawn_by": by,
                "withdrawn_at": at.to_string(),
                "why": why,
            });
            put(&storage, format!("{folder}/{WITHDRAWN}"), &told).await?;
        }
        take_away(&storage, vec![format!("{folder}/{SUMS}")]).await?;
        take_away(&storage, files.iter().filter(|path| *path != SUMS).map(|path| format!("{folder}/{path}")).collect()).await?;
        self.desk.store.unpublish_edition(row.id).await?;
        Ok(())
    }
}
