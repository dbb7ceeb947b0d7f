//! Rows that cannot be true or cannot be read, with the text they came as.

use crate::{Result, Store, StoreError, bars, series::SeriesRow};
use mizuno_core::{Bars, Slot, Timestamp};
use sqlx::SqliteConnection;

/// A row on its way into quarantine.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Suspect {
    /// The slot it claims; `None` when it could not be read.
    pub slot: Option<Slot>,
    /// The page of the answer, from 0.
    pub page: u32,
    /// Its line or element in that page, from 1.
    pub line: u64,
    /// What is wrong, one word.
    pub flaw: String,
    /// The row itself, or why it could not be read.
    pub text: String,
}

impl Suspect {
    pub(crate) async fn keep(&self, connection: &mut SqliteConnection, series: i64, fetch: i64) -> Result<()> {
        let (slot, line) = (self.slot.map(|s| s.0), self.line as i64);
        // A row without a slot is never equal to another under UNIQUE, so say here when it is.
        sqlx::query!(
            "INSERT INTO quarantine (series_id, fetch_id, slot, line, flaw, text, page)
             SELECT ?1, ?2, ?3, ?4, ?5, ?6, ?7 WHERE NOT EXISTS
                 (SELECT 1 FROM quarantine WHERE series_id = ?1 AND slot IS ?3 AND flaw = ?5 AND text = ?6)",
            series,
            fetch,
            slot,
            line,
            self.flaw,
            self.text,
            self.page
        )
        .execute(connection)
        .await?;
        Ok(())
    }
}

const TAKEN: &str = "taken";

/// A row in quarantine.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct QuarantineRow {
    /// Its number.
    pub id: i64,
    /// The series it came for.
    pub series: i64,
    /// The fetch that first brought it.
    pub fetch: i64,
    /// What it is.
    pub suspect: Suspect,
    /// What a person decided of it, where it was held back for one.
    pub decision: Option<Decision>,
}

/// What a person decided of a bar that was held back.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Decision {
    /// Whether the bar was taken; otherwise the one held before stays.
    pub taken: bool,
    /// Who decided.
    pub by: String,
    /// When.
    pub at: Timestamp,
}

impl Store {
    /// The newest `most` rows in quarantine, of one series or of all, newest first.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn quarantine(&self, series: Option<i64>, most: i64) -> Result<Vec<QuarantineRow>> {
        let rows = sqlx::query!("SELECT * FROM quarantine WHERE (?1 IS NULL OR series_id = ?1) ORDER BY id DESC LIMIT ?2", series, most)
            .fetch_all(&self.readers)
            .await?;
        let row = rows.into_iter().map(|r| QuarantineRow {
            id: r.id,
            series: r.series_id,
            fetch: r.fetch_id,
            suspect: Suspect { slot: r.slot.map(Slot), page: r.page as u32, line: r.line as u64, flaw: r.flaw, text: r.text },
            decision: r.decision.map(|word| Decision {
                taken: word == TAKEN,
                by: r.decided_by.unwrap_or_default(),
                at: Timestamp(r.decided_at.unwrap_or_default()),
            }),
        });
        Ok(row.collect())
    }

    /// The slots of rows with this flaw, by series.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn slots_with(&self, flaw: &str) -> Result<Vec<(i64, Slot)>> {
        let rows = sqlx::query!("SELECT series_id, slot AS \"slot!: i64\" FROM quarantine WHERE flaw = ? AND slot IS NOT NULL", flaw);
        Ok(rows.fetch_all(&self.readers).await?.into_iter().map(|r| (r.series_id, Slot(r.slot))).collect())
    }

    /// How many rows with this flaw nobody has decided on.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn undecided(&self, flaw: &str) -> Result<u64> {
        let count = sqlx::query_scalar!("SELECT count(*) FROM quarantine WHERE flaw = ? AND decision IS NULL", flaw);
        Ok(count.fetch_one(&self.readers).await? as u64)
    }

    /// Writes down what a person decided of a row, and keeps its bar where that was taken.
    ///
    /// # Errors
    /// When there is no such row or it is decided already, or the database cannot be written.
    pub async fn decide(&self, id: i64, decision: Decision, taken: Option<(SeriesRow, Bars)>) -> Result<()> {
        let recorded_at = self.writer.stamp(decision.at);
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    if let Some((series, bars)) = taken {
                        let fetch = sqlx::query_scalar!("SELECT fetch_id FROM quarantine WHERE id = ?", id).fetch_one(&mut *c).await?;
                        bars::learn(&mut *c, series.id, series.key.interval, fetch, recorded_at, &bars).await?;
                    }
                    let word = if decision.taken { TAKEN } else { "refused" };
                    let row = sqlx::query!(
                        "UPDATE quarantine SET decision = ?, decided_by = ?, decided_at = ? WHERE id = ? AND decision IS NULL",
                        word,
                        decision.by,
                        decision.at.0,
                        id
                    );
                    match row.execute(c).await?.rows_affected() {
                        0 => Err(StoreError::Unknown { kind: "undecided row in quarantine", id: id.to_string() }),
                        _ => Ok(()),
                    }
                })
            })
            .await
    }
}
