//! How an answer is kept: its bytes, its row in the ledger and its bars.
//!
//! All in one transaction ([`Store::keep`]); or, where it would be a pity to
//! fetch the bytes again, these and a row in state `answered` first, and what they say in a
//! second one. A process killed between the two finds the row again ([`Store::to_replay`])
//! and needs no network. Bytes whose bars cannot be stored are kept all the same, as a failure.

use crate::{
    Result, Store,
    fetch::{AnsweredPage, Failed, FetchRow},
    news,
    payloads::Packed,
    quarantine::Suspect,
    roster::Roster,
    writer::Writer,
};
use mizuno_core::{Bars, Interval, Span, Timestamp, versions::Learned};
use sqlx::SqliteConnection;
use std::sync::Arc;

/// What is known of a fetch once an answer, or the last failure, is there.
#[derive(Clone, Debug)]
pub struct Answer {
    /// The run it belongs to.
    pub run: i64,
    /// The series asked for.
    pub series: i64,
    /// The window asked for.
    pub window: Span,
    /// When the last attempt was sent.
    pub asked_at: Timestamp,
    /// When its answer, or failure, was complete; the ledger keeps the stamp of its commit.
    pub answered_at: Timestamp,
    /// Requests sent for it.
    pub attempts: u32,
    /// The pages that came, in order; at least one.
    pub pages: Vec<AnsweredPage>,
}

/// An answer as understood: what to keep and what not to believe.
#[derive(Clone, Debug, Default)]
pub struct Understood {
    /// Rows in the answer.
    pub rows: u64,
    /// Sound bars, in slot order.
    pub bars: Bars,
    /// Rows for quarantine.
    pub suspects: Vec<Suspect>,
    /// Bars dropped because they were not finished.
    pub unfinished: u64,
    /// Sound bars that were not asked for and not held either; not stored.
    pub outside: u64,
}

/// An answer ready to be written: what costs time is done before the writer takes it.
struct Parcel {
    row: FetchRow,
    pages: Vec<AnsweredPage>,
    packed: Vec<Option<Packed>>,
}

impl Parcel {
    fn new(answer: Answer, writer: &Writer) -> Result<Parcel> {
        let Answer { run, series, window, asked_at, answered_at, attempts, mut pages } = answer;
        let packed: Vec<_> = pages.iter().map(|p| p.body.as_deref().map(Packed::new).transpose()).collect::<Result<_>>()?;
        pages.iter_mut().for_each(|p| p.body = None);
        let first = pages.first().cloned().unwrap_or_default();
        let row = FetchRow {
            id: writer.next_fetch(),
            run,
            series,
            window,
            state: "answered".to_owned(),
            asked_at,
            answered_at,
            attempts: i64::from(attempts),
            request: first.request,
            part: first.part,
            status: first.status.map(i64::from),
            media_type: first.media_type,
            payload: packed.first().and_then(Option::as_ref).map(|p| p.digest.clone()),
            payload_size: packed.iter().flatten().map(|p| p.size).sum(),
            rows: 0,
            learned: Learned::default(),
            refused: 0,
            unfinished: 0,
            outside: 0,
            failure: None,
            folded: false,
        };
        Ok(Parcel { row, pages, packed })
    }

    /// Writes the bytes of every page, and `row` for this parcel. The first page is one message to the database.
    async fn write(&self, connection: &mut SqliteConnection, row: &FetchRow) -> Result<()> {
        let (digest, size, body) = match self.packed.first() {
            Some(Some(Packed { digest, size, body })) => (Some(digest), Some(size), Some(body)),
            _ => (None, None, None),
        };
        let (class, message) = row.failure.as_ref().map(|f| (&f.class, &f.message)).unzip();
        let (new, same, restated) = (row.learned.new as i64, row.learned.same as i64, row.learned.restated as i64);
        sqlx::query!(
            "INSERT INTO payload_again (digest, times) SELECT digest, 1 FROM payload WHERE digest = ? ON CONFLICT DO UPDATE SET times = times + 1;
             INSERT INTO payload (digest, size, body) SELECT ?, ?, ? WHERE ? IS NOT NULL ON CONFLICT DO NOTHING;
             INSERT INTO fetch (id, run_id, series_id, window_start, window_end, state, asked_at, answered_at, attempts, request, part,
                 http_status, media_type, payload, payload_size, rows, bars_new, bars_same, restated, refused, unfinished, outside, failure, message)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            digest,
            digest,
            size,
            body,
            digest,
            row.id,
            row.run,
            row.series,
            row.window.start.0,
            row.window.end.0,
            row.state,
            row.asked_at.0,
            row.answered_at.0,
            row.attempts,
            row.request,
            row.part,
            row.status,
            row.media_type,
            digest,
            row.payload_size,
            row.rows,
            new,
            same,
            restated,
            row.refused,
            row.unfinished,
            row.outside,
            class,
            message
        )
        .execute(&mut *connection)
        .await?;
        for (ordinal, (page, packed)) in (0i64..).zip(self.pages.iter().zip(&self.packed)).skip(1) {
            if let Some(packed) = packed {
                packed.keep(&mut *connection).await?;
            }
            let (digest, size) = packed.as_ref().map(|p| (&p.digest, p.size)).unzip();
            let size = size.unwrap_or(0);
            sqlx::query!(
                "INSERT INTO further_page (fetch_id, ordinal, part, request, http_status, media_type, payload, size)
                 VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
                row.id,
                ordinal,
                page.part,
                page.request,
                page.status,
                page.media_type,
                digest,
                size
            )
            .execute(&mut *connection)
            .await?;
        }
        Ok(())
    }
}

impl Understood {
    /// The row of a fetch that this has been learnt from.
    fn figures(&self, learned: Learned, row: &FetchRow) -> FetchRow {
        FetchRow {
            state: "stored".to_owned(),
            rows: self.rows as i64,
            learned,
            refused: self.suspects.iter().map(|s| s.count as i64).sum(),
            unfinished: self.unfinished as i64,
            outside: self.outside as i64,
            ..row.clone()
        }
    }

    async fn quarantine(&self, c: &mut SqliteConnection, roster: &Roster, (series, fetch): (i64, i64), stamp: Timestamp) -> Result<()> {
        for suspect in &self.suspects {
            if suspect.keep(&mut *c, series, fetch, stamp).await? {
                roster.note_judged(stamp);
            }
        }
        Ok(())
    }
}

impl Store {
    /// Keeps an answer and what it says: bytes, bars, quarantine and the fetch's row, in one transaction.
    /// Where the series cannot take its bars, the row says so.
    ///
    /// # Errors
    /// When the database cannot be written; nothing is then kept.
    pub async fn keep(&self, answer: Answer, interval: Interval, understood: Understood) -> Result<FetchRow> {
        let parcel = Arc::new(Parcel::new(answer, &self.writer)?);
        let (whole, roster) = (parcel.clone(), self.roster.clone());
        let kept = self.writer.run(move |c, stamp| {
            Box::pin(async move {
                let FetchRow { id: fetch, series, .. } = whole.row;
                roster.note(series, stamp);
                let learned = news::learn(&mut *c, series, interval, fetch, stamp, &understood.bars).await?;
                let row = FetchRow { answered_at: stamp, ..understood.figures(learned, &whole.row) };
                whole.write(&mut *c, &row).await?;
                understood.quarantine(c, &roster, (series, fetch), stamp).await?;
                Ok(row)
            })
        });
        match kept.await {
            Err(error) if error.is_of_the_series() => {
                let row = parcel.row.clone().failed(Failed::not_stored(&error));
                self.keep_parcel(parcel, row).await
            }
            done => done,
        }
    }

    /// Keeps an answer's bytes and the fetch's row, and leaves its bars to a second step. Returns the row.
    ///
    /// # Errors
    /// When the database cannot be written; nothing is then kept.
    pub async fn keep_answer(&self, answer: Answer) -> Result<FetchRow> {
        let parcel = Parcel::new(answer, &self.writer)?;
        let row = parcel.row.clone();
        self.keep_parcel(Arc::new(parcel), row).await
    }

    /// Keeps the row of a fetch that brought no usable answer, and the bytes of its last one, if any.
    ///
    /// # Errors
    /// When the database cannot be written; nothing is then kept.
    pub async fn keep_failure(&self, answer: Answer, failure: Failed) -> Result<FetchRow> {
        let parcel = Parcel::new(answer, &self.writer)?;
        let row = parcel.row.clone().failed(failure);
        self.keep_parcel(Arc::new(parcel), row).await
    }

    async fn keep_parcel(&self, parcel: Arc<Parcel>, row: FetchRow) -> Result<FetchRow> {
        let roster = self.roster.clone();
        let keep = self.writer.run(move |c, stamp| {
            Box::pin(async move {
                roster.note(row.series, stamp);
                let row = FetchRow { answered_at: stamp, ..row };
                parcel.write(c, &row).await.map(|()| row)
            })
        });
        keep.await
    }

    /// The second step of [`Store::keep_answer`]. Where the series cannot take the bars, the row says so.
    ///
    /// # Errors
    /// When the database cannot be written; the fetch then stays to be replayed.
    pub async fn keep_understood(&self, row: FetchRow, interval: Interval, understood: Understood) -> Result<FetchRow> {
        let figures = understood.figures(Learned::default(), &row);
        match self.keep_bars(row.id, row.series, interval, understood).await {
            Ok(learned) => Ok(FetchRow { learned, ..figures }),
            Err(error) if error.is_of_the_series() => {
                let failure = Failed::not_stored(&error);
                self.mark_failed(row.id, failure.clone()).await?;
                Ok(row.failed(failure))
            }
            Err(error) => Err(error),
        }
    }

    /// Keeps what a kept answer says: bars, quarantine and the fetch's figures, in one transaction.
    ///
    /// # Errors
    /// When the database cannot be written; the fetch then stays to be replayed.
    pub async fn keep_bars(&self, fetch: i64, series: i64, interval: Interval, understood: Understood) -> Result<Learned> {
        let roster = self.roster.clone();
        self.writer
            .run(move |c, stamp| {
                Box::pin(async move {
                    roster.note(series, stamp);
                    let learned = news::learn(&mut *c, series, interval, fetch, stamp, &understood.bars).await?;
                    understood.quarantine(&mut *c, &roster, (series, fetch), stamp).await?;
                    let (rows, unfinished, outside) = (understood.rows as i64, understood.unfinished as i64, understood.outside as i64);
                    let refused = understood.suspects.iter().map(|s| s.count as i64).sum::<i64>();
                    let (new, same, restated) = (learned.new as i64, learned.same as i64, learned.restated as i64);
                    sqlx::query!(
                        "UPDATE fetch SET state = 'stored', rows = ?, bars_new = ?, bars_same = ?, restated = ?, refused = ?, unfinished = ?, outside = ? WHERE id = ?",
                        rows, new, same, restated, refused, unfinished, outside, fetch
                    )
                    .execute(c)
                    .await?;
                    Ok(learned)
                })
            })
            .await
    }

    /// Turns an answer that was kept, and then could not be understood, into a failure.
    ///
    /// # Errors
    /// When the database cannot be written.
    pub async fn mark_failed(&self, fetch: i64, failure: Failed) -> Result<()> {
        let roster = self.roster.clone();
        self.writer
            .run(move |c, stamp| {
                Box::pin(async move {
                    let series = sqlx::query_scalar!(
                        "UPDATE fetch SET state = 'failed', failure = ?, message = ? WHERE id = ? RETURNING series_id",
                        failure.class,
                        failure.message,
                        fetch
                    );
                    if let Some(series) = series.fetch_optional(c).await? {
                        roster.note(series, stamp);
                    }
                    Ok(())
                })
            })
            .await
    }
}
