//! Times in which a source's past was collected again on another basis.
//!
//! A source that adjusts rewrites its whole past at every split. From the
//! moment that shows until all of it is here, a reader sees what was held
//! before: never a step between two bases.

use crate::{Result, Store};
use mizuno_core::Timestamp;

/// One such time.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RebasingRow {
    /// Its number.
    pub id: i64,
    /// The series.
    pub series: i64,
    /// How many times as high prices became, as it was first seen.
    pub factor: String,
    /// From when on what came was on the other basis.
    pub began_at: Timestamp,
    /// When the whole past was here, or it was ended as it was; `None` while it lasts.
    pub ended_at: Option<Timestamp>,
    /// Why it lasts, or why it was ended before all was here.
    pub reason: Option<String>,
    /// Whether it was ended before all was here.
    pub in_part: bool,
}

const WHOLE: &str = "collected";
const IN_PART: &str = "ended-as-it-is";

impl Store {
    /// Writes down that what was learned of a series from `began_at` on is on another basis, unless that is known already.
    ///
    /// # Errors
    /// When the database cannot be written.
    pub async fn begin_rebasing(&self, series: i64, factor: String, began_at: Timestamp) -> Result<()> {
        let roster = self.roster.clone();
        self.writer
            .run(move |c, known_at| {
                Box::pin(async move {
                    roster.note(series, known_at);
                    sqlx::query!(
                        "INSERT INTO rebasing (series_id, factor, began_at, known_at)
                         SELECT ?1, ?2, ?3, ?4 WHERE NOT EXISTS (SELECT 1 FROM rebasing WHERE series_id = ?1 AND ended_at IS NULL)",
                        series,
                        factor,
                        began_at.0,
                        known_at.0
                    )
                    .execute(c)
                    .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Writes down why the past of a series is not all here yet.
    ///
    /// # Errors
    /// When the database cannot be written.
    pub async fn explain_rebasing(&self, series: i64, reason: String) -> Result<()> {
        self.writer
            .run(move |c, _| {
                Box::pin(async move {
                    sqlx::query!("UPDATE rebasing SET reason = ? WHERE series_id = ? AND ended_at IS NULL", reason, series)
                        .execute(c)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Writes down that the past of a series is here on its new basis, or that what of it cannot be had stays as it
    /// is, and why: from now on readers see what there is. Whether there was a rebasing to end.
    ///
    /// # Errors
    /// When the database cannot be written.
    pub async fn end_rebasing(&self, series: i64, in_part: Option<String>) -> Result<bool> {
        let outcome = if in_part.is_some() { IN_PART } else { WHOLE };
        let roster = self.roster.clone();
        self.writer
            .run(move |c, ended_at| {
                Box::pin(async move {
                    roster.note(series, ended_at);
                    let ended = sqlx::query!(
                        "UPDATE rebasing SET ended_at = ?, outcome = ?, reason = ? WHERE series_id = ? AND ended_at IS NULL",
                        ended_at.0,
                        outcome,
                        in_part,
                        series
                    );
                    if ended.execute(&mut *c).await?.rows_affected() == 0 {
                        return Ok(false);
                    }
                    sqlx::query!("UPDATE series SET revision = ? WHERE id = ?", ended_at.0, series).execute(c).await?;
                    Ok(true)
                })
            })
            .await
    }

    /// Every such time of a series, or of all, newest first.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn rebasings(&self, series: Option<i64>) -> Result<Vec<RebasingRow>> {
        let rows = sqlx::query!("SELECT * FROM rebasing WHERE (?1 IS NULL OR series_id = ?1) ORDER BY id DESC", series)
            .fetch_all(&self.readers)
            .await?;
        let row = rows.into_iter().map(|r| RebasingRow {
            id: r.id,
            series: r.series_id,
            factor: r.factor,
            began_at: Timestamp(r.began_at),
            ended_at: r.ended_at.map(Timestamp),
            reason: r.reason,
            in_part: r.outcome.as_deref() == Some(IN_PART),
        });
        Ok(row.collect())
    }
}
