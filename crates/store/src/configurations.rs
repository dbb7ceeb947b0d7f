//! Each configuration that the service accepted, and from when on it counts.
//!
//! A configuration is the texts of its files. They are kept in the archive of payloads, once each, so that a reload that
//! changes one file costs one text.

use crate::{
    Result, Store,
    payloads::{Packed, digest},
};
use mizuno_core::Timestamp;
use std::collections::BTreeMap;

/// A configuration that was accepted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KeptConfiguration {
    /// Its number.
    pub id: i64,
    /// When it was accepted; it counts from then on.
    pub accepted_at: Timestamp,
    /// The digest of each file's text, by path.
    pub files: BTreeMap<String, String>,
}

impl KeptConfiguration {
    /// One that nobody keeps: a profile is tried with it.
    pub const NONE: KeptConfiguration = KeptConfiguration { id: 0, accepted_at: Timestamp::MIN, files: BTreeMap::new() };
}

impl Store {
    /// Keeps a configuration, by path and text of its files, unless the newest one is the same. Its number, and since when it counts.
    ///
    /// # Errors
    /// When the database cannot be written.
    pub async fn keep_configuration(&self, texts: &BTreeMap<String, String>) -> Result<KeptConfiguration> {
        let files: BTreeMap<String, String> = texts.iter().map(|(path, text)| (path.clone(), digest(text.as_bytes()))).collect();
        if let Some(newest) = self.configuration_at(Timestamp::MAX).await?
            && newest.files == files
        {
            return Ok(newest);
        }
        let packed = texts.values().map(|text| Packed::new(text.as_bytes())).collect::<Result<Vec<_>>>()?;
        self.writer
            .run(move |c, now| {
                Box::pin(async move {
                    let id = sqlx::query!("INSERT INTO configuration (accepted_at) VALUES (?)", now.0).execute(&mut *c).await?;
                    let id = id.last_insert_rowid();
                    for text in packed {
                        text.keep(&mut *c).await?;
                    }
                    for (path, payload) in &files {
                        sqlx::query!("INSERT INTO configuration_file VALUES (?, ?, ?)", id, path, payload).execute(&mut *c).await?;
                    }
                    Ok(KeptConfiguration { id, accepted_at: now, files })
                })
            })
            .await
    }

    /// The configuration that counts at an instant: the newest that was accepted by then, or else the oldest there is.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn configuration_at(&self, at: Timestamp) -> Result<Option<KeptConfiguration>> {
        let row = sqlx::query!(
            "SELECT id, accepted_at FROM configuration ORDER BY accepted_at <= ?1 DESC, CASE WHEN accepted_at <= ?1 THEN -id ELSE id END LIMIT 1",
            at.0
        );
        let Some(row) = row.fetch_optional(&self.readers).await? else { return Ok(None) };
        let files = self.files_of(row.id).await?;
        Ok(Some(KeptConfiguration { id: row.id, accepted_at: Timestamp(row.accepted_at), files }))
    }

    /// All that were accepted, the oldest first.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn configurations(&self) -> Result<Vec<KeptConfiguration>> {
        let mut out = vec![];
        for row in sqlx::query!("SELECT id, accepted_at FROM configuration ORDER BY id").fetch_all(&self.readers).await? {
            let files = self.files_of(row.id).await?;
            out.push(KeptConfiguration { id: row.id, accepted_at: Timestamp(row.accepted_at), files });
        }
        Ok(out)
    }

    async fn files_of(&self, id: i64) -> Result<BTreeMap<String, String>> {
        let rows = sqlx::query!("SELECT path, payload FROM configuration_file WHERE configuration_id = ?", id);
        Ok(rows.fetch_all(&self.readers).await?.into_iter().map(|r| (r.path, r.payload)).collect())
    }

    /// The texts of a configuration's files, by path.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn configuration_texts(&self, kept: &KeptConfiguration) -> Result<BTreeMap<String, String>> {
        let mut out = BTreeMap::new();
        for (path, payload) in &kept.files {
            out.insert(path.clone(), String::from_utf8_lossy(&self.payload(payload).await?).into_owned());
        }
        Ok(out)
    }
}
