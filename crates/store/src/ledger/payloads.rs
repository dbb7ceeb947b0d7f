//! The archive of answers: the exact bytes, once each, under their SHA-256.

use crate::{Result, Store, StoreError};
use ring::digest::SHA256;
use sqlx::SqliteConnection;
use std::cell::RefCell;

/// The name of some bytes: their SHA-256 in hexadecimal.
#[must_use]
pub fn digest(body: &[u8]) -> String {
    let digits = |byte: &u8| [byte >> 4, byte & 15].map(|digit| char::from(b"0123456789abcdef"[usize::from(digit)]));
    ring::digest::digest(&SHA256, body).as_ref().iter().flat_map(digits).collect()
}

thread_local! {
    static COMPRESSOR: RefCell<Option<zstd::bulk::Compressor<'static>>> = const { RefCell::new(None) };
}

/// An answer, compressed off the writer's time.
pub(crate) struct Packed {
    pub(crate) digest: String,
    pub(crate) size: i64,
    pub(crate) body: Vec<u8>,
}

impl Packed {
    pub(crate) fn new(body: &[u8]) -> Result<Packed> {
        // A compressor's tables are larger than most answers, so each thread keeps its own.
        let packed = COMPRESSOR.with_borrow_mut(|compressor| {
            let compressor = match compressor {
                Some(compressor) => compressor,
                None => compressor.insert(zstd::bulk::Compressor::new(1)?),
            };
            compressor.compress(body)
        });
        let packed = packed.map_err(|e: std::io::Error| StoreError::Unpackable { what: "a payload", source: e.into() })?;
        Ok(Packed { digest: digest(body), size: body.len() as i64, body: packed })
    }

    /// Keeps it; where the same bytes are kept already, it is counted that they came again.
    pub(crate) async fn keep(&self, connection: &mut SqliteConnection) -> Result<()> {
        sqlx::query!(
            "INSERT INTO payload_again (digest, times) SELECT digest, 1 FROM payload WHERE digest = ? ON CONFLICT DO UPDATE SET times = times + 1;
             INSERT INTO payload (digest, size, body) VALUES (?, ?, ?) ON CONFLICT DO NOTHING",
            self.digest,
            self.digest,
            self.size,
            self.body
        )
        .execute(connection)
        .await?;
        Ok(())
    }
}

impl Store {
    /// The bytes kept under a digest.
    ///
    /// # Errors
    /// When there are none, or they cannot be read.
    pub async fn payload(&self, digest: &str) -> Result<Vec<u8>> {
        let row = sqlx::query!("SELECT size, body FROM payload WHERE digest = ?", digest).fetch_optional(&self.readers).await?;
        let row = row.ok_or_else(|| StoreError::Unknown { kind: "payload", id: digest.to_owned() })?;
        let body = zstd::bulk::decompress(&row.body, row.size as usize);
        body.map_err(|source| StoreError::DamagedPayload { digest: digest.to_owned(), source })
    }
}
