//! What a person accepted: absences, and what a check found.

use crate::{Result, Store, StoreError};
use mizuno_core::{Slot, Span, Spans, Timestamp};
use std::collections::HashMap;

/// Something accepted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ExcuseRow {
    /// Its number.
    pub id: i64,
    /// The series it is about.
    pub series: i64,
    /// The slots that need no bar, or whose bars are fine.
    pub span: Span,
    /// The check whose finding is accepted; `None` for an absence.
    pub finding: Option<String>,
    /// Who accepted it.
    pub by: String,
    /// Why.
    pub note: String,
    /// When.
    pub given_at: Timestamp,
    /// When it was taken back, if it was.
    pub revoked_at: Option<Timestamp>,
}

impl ExcuseRow {
    /// Whether it was given, and not taken back, at an instant.
    #[must_use]
    pub fn is_in_force(&self, as_of: Timestamp) -> bool {
        self.given_at <= as_of && self.revoked_at.is_none_or(|at| at > as_of)
    }
}

impl Store {
    /// Writes down that a person accepts some absences or findings, each a series, a span and the check; returns their numbers.
    ///
    /// # Errors
    /// When the database cannot be written; none is then written.
    pub async fn excuse(&self, accepted: Vec<(i64, Span, Option<String>)>, by: String, note: String) -> Result<Vec<i64>> {
        let roster = self.roster.clone();
        self.writer
            .run(move |c, now| {
                Box::pin(async move {
                    let mut ids = vec![];
                    for (series, span, finding) in accepted {
                        roster.note(series, now);
                        roster.note_judged(now);
                        let row = sqlx::query!(
                            "INSERT INTO excuse (series_id, span_start, span_end, by_whom, note, given_at, finding) VALUES (?, ?, ?, ?, ?, ?, ?)",
                            series,
                            span.start.0,
                            span.end.0,
                            by,
                            note,
                            now.0,
                            finding
                        );
                        ids.push(row.execute(&mut *c).await?.last_insert_rowid());
                    }
                    Ok(ids)
                })
            })
            .await
    }

    /// Takes an excuse back; its row stays, with the time of that.
    ///
    /// # Errors
    /// When there is no such excuse in force, or the database cannot be written.
    pub async fn revoke_excuse(&self, id: i64) -> Result<()> {
        let roster = self.roster.clone();
        self.writer
            .run(move |c, now| {
                Box::pin(async move {
                    let revoked = sqlx::query_scalar!(
                        "UPDATE excuse SET revoked_at = ? WHERE id = ? AND revoked_at IS NULL RETURNING series_id",
                        now.0,
                        id
                    );
                    let series = revoked.fetch_optional(c).await?.ok_or(StoreError::Unknown { kind: "excuse", id: id.to_string() })?;
                    roster.note(series, now);
                    roster.note_judged(now);
                    Ok(())
                })
            })
            .await
    }

    /// All excuses ever given, newest first.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn excuses(&self) -> Result<Vec<ExcuseRow>> {
        let rows = sqlx::query!("SELECT * FROM excuse ORDER BY id DESC").fetch_all(&self.readers).await?;
        let row = rows.into_iter().map(|r| ExcuseRow {
            id: r.id,
            series: r.series_id,
            span: Slot(r.span_start)..Slot(r.span_end),
            finding: r.finding,
            by: r.by_whom,
            note: r.note,
            given_at: Timestamp(r.given_at),
            revoked_at: r.revoked_at.map(Timestamp),
        });
        Ok(row.collect())
    }

    /// The slots whose absence was excused at `as_of`, by series.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn excused(&self, as_of: Timestamp) -> Result<HashMap<i64, Spans>> {
        let mut out: HashMap<i64, Spans> = HashMap::new();
        for excuse in self.excuses().await?.into_iter().filter(|e| e.is_in_force(as_of) && e.finding.is_none()) {
            out.entry(excuse.series).or_default().insert(excuse.span);
        }
        Ok(out)
    }

    /// What of each series' findings was accepted at `as_of`: the check and the span.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn accepted(&self, as_of: Timestamp) -> Result<HashMap<i64, Vec<(String, Span)>>> {
        let mut out: HashMap<i64, Vec<(String, Span)>> = HashMap::new();
        for excuse in self.excuses().await?.into_iter().filter(|e| e.is_in_force(as_of)) {
            if let Some(finding) = excuse.finding {
                out.entry(excuse.series).or_default().push((finding, excuse.span));
            }
        }
        Ok(out)
    }
}
