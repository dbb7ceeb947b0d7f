//! Rows that cannot be true or cannot be read, with the text they came as.

use crate::{Result, Store, StoreError, news, series::SeriesRow};
use mizuno_core::{Bars, Slot, Spans, Timestamp};
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
    /// The row itself, or why it could not be read; of several rows, some examples.
    pub text: String,
    /// How many rows of one answer with this flaw it stands for.
    pub count: u64,
    /// The slots of all of them, where they are several.
    pub slots: Option<Spans>,
}

impl Suspect {
    /// One row.
    #[must_use]
    pub fn one(slot: Option<Slot>, page: u32, line: u64, flaw: &str, text: String) -> Suspect {
        Suspect { slot, page, line, flaw: flaw.to_owned(), text, count: 1, slots: None }
    }
}

fn written(spans: &Spans) -> String {
    let ends: Vec<[i64; 2]> = spans.iter().map(|s| [s.start.0, s.end.0]).collect();
    serde_json::to_string(&ends).unwrap_or_default()
}

fn read(text: &str) -> Result<Spans> {
    let ends: Vec<[i64; 2]> =
        serde_json::from_str(text).map_err(|_| StoreError::Unreadable { kind: "a set of slots", text: text.to_owned() })?;
    Ok(ends.into_iter().map(|[start, end]| Slot(start)..Slot(end)).collect())
}

/// Slots in quarantine: one row's, or those of several.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Slots {
    /// Of one row.
    One(Slot),
    /// Of several.
    Several(Spans),
}

impl Suspect {
    /// Keeps it, and says whether it was not there yet.
    pub(crate) async fn keep(&self, connection: &mut SqliteConnection, series: i64, fetch: i64, stamp: Timestamp) -> Result<bool> {
        let (slot, line, count) = (self.slot.map(|s| s.0), self.line as i64, self.count as i64);
        let slots = self.slots.as_ref().map(written);
        // A row without a slot is never equal to another under UNIQUE, so say here when it is.
        let kept = sqlx::query!(
            "INSERT INTO quarantine (series_id, fetch_id, slot, line, flaw, text, page, recorded_at, count, slots)
             SELECT ?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10 WHERE NOT EXISTS
                 (SELECT 1 FROM quarantine WHERE series_id = ?1 AND slot IS ?3 AND flaw = ?5 AND text = ?6)",
            series,
            fetch,
            slot,
            line,
            self.flaw,
            self.text,
            self.page,
            stamp.0,
            count,
            slots
        )
        .execute(connection)
        .await?;
        Ok(kept.rows_affected() > 0)
    }
}

const TAKEN: &str = "taken";

/// A row of the table.
#[allow(dead_code, reason = "as the table has it")]
struct Record {
    id: i64,
    series_id: i64,
    fetch_id: i64,
    slot: Option<i64>,
    line: i64,
    flaw: String,
    text: String,
    page: i64,
    decision: Option<String>,
    decided_by: Option<String>,
    decided_at: Option<i64>,
    recorded_at: i64,
    count: i64,
    slots: Option<String>,
}

fn slots_of(slot: Option<i64>, slots: Option<String>) -> Result<Option<Slots>> {
    match (slot, slots) {
        (_, Some(text)) => Ok(Some(Slots::Several(read(&text)?))),
        (Some(slot), None) => Ok(Some(Slots::One(Slot(slot)))),
        (None, None) => Ok(None),
    }
}

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
        let rows = sqlx::query_as!(
            Record,
            "SELECT * FROM quarantine WHERE (?1 IS NULL OR series_id = ?1) ORDER BY id DESC LIMIT ?2",
            series,
            most
        )
        .fetch_all(&self.readers)
        .await?;
        let row = |r: Record| {
            Ok(QuarantineRow {
                id: r.id,
                series: r.series_id,
                fetch: r.fetch_id,
                suspect: Suspect {
                    slot: r.slot.map(Slot),
                    page: r.page as u32,
                    line: r.line as u64,
                    flaw: r.flaw,
                    text: r.text,
                    count: r.count as u64,
                    slots: r.slots.as_deref().map(read).transpose()?,
                },
                decision: r.decision.map(|word| Decision {
                    taken: word == TAKEN,
                    by: r.decided_by.unwrap_or_default(),
                    at: Timestamp(r.decided_at.unwrap_or_default()),
                }),
            })
        };
        rows.into_iter().map(row).collect()
    }

    /// The slots of all rows there were at `as_of`, of one series or of all, by series.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn quarantined_slots(&self, series: Option<i64>, as_of: Timestamp) -> Result<Vec<(i64, Slots)>> {
        let rows = sqlx::query!(
            "SELECT series_id, slot, slots FROM quarantine
             WHERE (?1 IS NULL OR series_id = ?1) AND recorded_at <= ?2 AND slot IS NOT NULL",
            series,
            as_of.0
        );
        let slots = |r: (i64, Option<i64>, Option<String>)| Ok(slots_of(r.1, r.2)?.map(|slots| (r.0, slots)));
        rows.fetch_all(&self.readers).await?.into_iter().filter_map(|r| slots((r.series_id, r.slot, r.slots)).transpose()).collect()
    }

    /// The slots of rows with this flaw that there were at `as_of`, by series.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn slots_with(&self, flaw: &str, as_of: Timestamp) -> Result<Vec<(i64, Slots)>> {
        let rows = sqlx::query!(
            "SELECT series_id, slot, slots FROM quarantine WHERE flaw = ? AND recorded_at <= ? AND slot IS NOT NULL",
            flaw,
            as_of.0
        );
        let slots = |r: (i64, Option<i64>, Option<String>)| Ok(slots_of(r.1, r.2)?.map(|slots| (r.0, slots)));
        rows.fetch_all(&self.readers).await?.into_iter().filter_map(|r| slots((r.series_id, r.slot, r.slots)).transpose()).collect()
    }

    /// One row of the quarantine.
    ///
    /// # Errors
    /// When there is none, or the database cannot be read.
    pub async fn quarantined(&self, id: i64) -> Result<QuarantineRow> {
        let unknown = || StoreError::Unknown { kind: "row in quarantine", id: id.to_string() };
        let series = sqlx::query_scalar!("SELECT series_id FROM quarantine WHERE id = ?", id).fetch_optional(&self.readers).await?;
        let rows = self.quarantine(Some(series.ok_or_else(unknown)?), i64::MAX).await?;
        rows.into_iter().find(|r| r.id == id).ok_or_else(unknown)
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
        let roster = self.roster.clone();
        self.writer
            .run(move |c, stamp| {
                Box::pin(async move {
                    if let Some((series, bars)) = taken {
                        roster.note(series.id, stamp);
                        let fetch = sqlx::query_scalar!("SELECT fetch_id FROM quarantine WHERE id = ?", id).fetch_one(&mut *c).await?;
                        news::learn(&mut *c, series.id, series.key.interval, fetch, stamp, &bars).await?;
                    }
                    let word = if decision.taken { TAKEN } else { "refused" };
                    let row = sqlx::query!(
                        "UPDATE quarantine SET decision = ?, decided_by = ?, decided_at = ? WHERE id = ? AND decision IS NULL",
                        word,
                        decision.by,
                        stamp.0,
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
