//! What a schema change leaves to be worked out from the contents, once.

use crate::{Result, blocks, news::StoredBlock};
use sqlx::SqliteConnection;

/// Blocks looked at in one transaction.
const AT_ONCE: i64 = 200;

/// Fills in what blocks of an older database do not say of themselves. One that cannot be
/// read keeps what is always true of it, so that it concerns its own series only.
pub(crate) async fn fill_in(connection: &mut SqliteConnection) -> Result<()> {
    loop {
        let old = sqlx::query_as!(
            StoredBlock,
            "SELECT id, span_start, versions, bars, price_scale, volume_scale, last_recorded, body FROM block
             WHERE price_whole IS NULL LIMIT ?",
            AT_ONCE
        )
        .fetch_all(&mut *connection)
        .await?;
        if old.is_empty() {
            return Ok(());
        }
        sqlx::query!("BEGIN IMMEDIATE").execute(&mut *connection).await?;
        for block in old {
            let (id, most_price, most_volume) = (block.id, 18 - block.price_scale, 18 - block.volume_scale);
            let (price, volume, last) = match block.open() {
                Ok(versions) => {
                    let (price, volume) = blocks::digits(&versions);
                    let last = versions.rows.iter().map(|v| v.recorded_at.0).max();
                    (i64::from(price.whole), i64::from(volume.whole), last)
                }
                Err(_) => (most_price, most_volume, None),
            };
            sqlx::query!("UPDATE block SET price_whole = ?, volume_whole = ?, last_recorded = ? WHERE id = ?", price, volume, last, id)
                .execute(&mut *connection)
                .await?;
        }
        sqlx::query!("COMMIT").execute(&mut *connection).await?;
    }
}
