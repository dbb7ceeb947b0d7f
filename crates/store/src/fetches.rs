//! The ledger of fetches, and the two steps in which an answer is kept.
//!
//! First the payload and a row in state `answered`; then, in a second
//! transaction, its bars and the row's figures. A process killed between the
//! two finds the row again ([`Store::to_replay`]) and needs no network.

use crate::{Result, Store, StoreError, bars, payloads::Packed, quarantine::Suspect};
use mizuno_core::{
    Bars, Interval, Slot, Span, Timestamp,
    bar::Learned,
    gap::{Asked, Outcome},
};
use std::collections::{BTreeMap, HashMap};

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
    /// When its answer, or failure, was complete.
    pub answered_at: Timestamp,
    /// Requests sent for it.
    pub attempts: u32,
    /// The pages that came, in order; at least one.
    pub pages: Vec<AnsweredPage>,
}

/// One page of an answer.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct AnsweredPage {
    /// Which part it brings, where an answer has several.
    pub part: Option<String>,
    /// Method and address, without secrets.
    pub request: String,
    /// HTTP status.
    pub status: Option<u16>,
    /// Media type.
    pub media_type: Option<String>,
    /// Its bytes.
    pub body: Option<Vec<u8>>,
}

/// One page in the ledger.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PageRow {
    /// Which part it brings.
    pub part: Option<String>,
    /// Method and address, without secrets.
    pub request: String,
    /// HTTP status.
    pub status: Option<i64>,
    /// Media type.
    pub media_type: Option<String>,
    /// Digest of the kept bytes.
    pub payload: Option<String>,
    /// Bytes of it.
    pub size: i64,
}

/// Why a fetch brought nothing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Failure {
    /// The class of failure, one word.
    pub class: String,
    /// What a person reads.
    pub message: String,
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
}

/// A fetch in the ledger.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FetchRow {
    /// Its number.
    pub id: i64,
    /// The run it belongs to.
    pub run: i64,
    /// The series asked for.
    pub series: i64,
    /// The window asked for.
    pub window: Span,
    /// `answered`, `stored` or `failed`.
    pub state: String,
    /// When the last attempt was sent.
    pub asked_at: Timestamp,
    /// When its answer, or failure, was complete.
    pub answered_at: Timestamp,
    /// How often it was tried.
    pub attempts: i64,
    /// Method and address, without secrets.
    pub request: String,
    /// Which part the first page brings.
    pub part: Option<String>,
    /// HTTP status of the first page.
    pub status: Option<i64>,
    /// Media type of the first page.
    pub media_type: Option<String>,
    /// Digest of the first page's bytes.
    pub payload: Option<String>,
    /// Bytes of all pages.
    pub payload_size: i64,
    /// Rows in it.
    pub rows: i64,
    /// How its bars compared with what was known.
    pub learned: Learned,
    /// Rows put in quarantine.
    pub refused: i64,
    /// Bars dropped because they were not finished.
    pub unfinished: i64,
    /// Why it failed.
    pub failure: Option<Failure>,
}

/// A row of the table.
struct Record {
    id: i64,
    run_id: i64,
    series_id: i64,
    window_start: i64,
    window_end: i64,
    state: String,
    asked_at: i64,
    answered_at: i64,
    attempts: i64,
    request: String,
    http_status: Option<i64>,
    payload: Option<String>,
    payload_size: i64,
    rows: i64,
    bars_new: i64,
    bars_same: i64,
    restated: i64,
    refused: i64,
    unfinished: i64,
    failure: Option<String>,
    message: Option<String>,
    media_type: Option<String>,
    part: Option<String>,
}

impl From<Record> for FetchRow {
    fn from(r: Record) -> FetchRow {
        FetchRow {
            id: r.id,
            run: r.run_id,
            series: r.series_id,
            window: Slot(r.window_start)..Slot(r.window_end),
            state: r.state,
            asked_at: Timestamp(r.asked_at),
            answered_at: Timestamp(r.answered_at),
            attempts: r.attempts,
            request: r.request,
            part: r.part,
            status: r.http_status,
            media_type: r.media_type,
            payload: r.payload,
            payload_size: r.payload_size,
            rows: r.rows,
            learned: Learned { new: r.bars_new as u64, same: r.bars_same as u64, restated: r.restated as u64 },
            refused: r.refused,
            unfinished: r.unfinished,
            failure: r.failure.map(|class| Failure { class, message: r.message.unwrap_or_default() }),
        }
    }
}

impl Store {
    /// Keeps an answer's bytes and the fetch's row, before any of its bars. Returns the row.
    ///
    /// # Errors
    /// When the database cannot be written; nothing is then kept.
    pub async fn keep_answer(&self, answer: Answer) -> Result<FetchRow> {
        self.write_fetch(answer, "answered", None).await
    }

    /// Keeps the row of a fetch that brought no usable answer, and the bytes of its last one, if any.
    ///
    /// # Errors
    /// When the database cannot be written; nothing is then kept.
    pub async fn keep_failure(&self, answer: Answer, failure: Failure) -> Result<FetchRow> {
        self.write_fetch(answer, "failed", Some(failure)).await
    }

    async fn write_fetch(&self, answer: Answer, state: &'static str, failure: Option<Failure>) -> Result<FetchRow> {
        let Answer { run, series, window, asked_at, answered_at, attempts, pages } = answer;
        let packed = |page: &AnsweredPage| page.body.as_deref().map(Packed::new).transpose();
        let packed = pages.iter().map(packed).collect::<Result<Vec<_>>>()?;
        let answered_at = self.writer.stamp(answered_at);
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let sizes: Vec<i64> = pages.iter().map(|p| p.body.as_ref().map_or(0, |b| b.len() as i64)).collect();
                    let mut digests = vec![];
                    for one in packed {
                        digests.push(match one {
                            Some(packed) => Some(packed.keep(&mut *c).await?),
                            None => None,
                        });
                    }
                    let all: i64 = sizes.iter().sum();
                    let (class, message) = failure.clone().map(|f| (f.class, f.message)).unzip();
                    let mut pages = pages.into_iter().zip(digests).zip(sizes);
                    let ((first, digest), _) = pages.next().unwrap_or_default();
                    let row =
                        sqlx::query!(
                        "INSERT INTO fetch (run_id, series_id, window_start, window_end, state, asked_at, answered_at, attempts, request,
                             http_status, payload, payload_size, failure, message, media_type, part)
                         VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                        run, series, window.start.0, window.end.0, state, asked_at.0, answered_at.0, attempts, first.request,
                        first.status, digest, all, class, message, first.media_type, first.part
                    );
                    let id = row.execute(&mut *c).await?.last_insert_rowid();
                    for (at, ((page, digest), size)) in pages.enumerate() {
                        let ordinal = at as i64 + 1;
                        sqlx::query!(
                            "INSERT INTO further_page (fetch_id, ordinal, part, request, http_status, media_type, payload, size)
                             VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
                            id,
                            ordinal,
                            page.part,
                            page.request,
                            page.status,
                            page.media_type,
                            digest,
                            size
                        )
                        .execute(&mut *c)
                        .await?;
                    }
                    Ok(FetchRow {
                        id,
                        run,
                        series,
                        window,
                        state: state.to_owned(),
                        asked_at,
                        answered_at,
                        attempts: i64::from(attempts),
                        request: first.request,
                        part: first.part,
                        status: first.status.map(i64::from),
                        media_type: first.media_type,
                        payload: digest,
                        payload_size: all,
                        rows: 0,
                        learned: Learned::default(),
                        refused: 0,
                        unfinished: 0,
                        failure,
                    })
                })
            })
            .await
    }

    /// The pages of a fetch's answer, in order.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn pages(&self, fetch: &FetchRow) -> Result<Vec<PageRow>> {
        let further =
            sqlx::query!("SELECT * FROM further_page WHERE fetch_id = ? ORDER BY ordinal", fetch.id).fetch_all(&self.readers).await?;
        let size = fetch.payload_size - further.iter().map(|p| p.size).sum::<i64>();
        let mut out = vec![PageRow {
            part: fetch.part.clone(),
            request: fetch.request.clone(),
            status: fetch.status,
            media_type: fetch.media_type.clone(),
            payload: fetch.payload.clone(),
            size,
        }];
        out.extend(further.into_iter().map(|p| PageRow {
            part: p.part,
            request: p.request,
            status: p.http_status,
            media_type: p.media_type,
            payload: p.payload,
            size: p.size,
        }));
        Ok(out)
    }

    /// The pages of a fetch's answer with their bytes, as they came.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn answered_pages(&self, fetch: &FetchRow) -> Result<Vec<AnsweredPage>> {
        let mut out = vec![];
        for page in self.pages(fetch).await? {
            let body = match &page.payload {
                Some(digest) => Some(self.payload(digest).await?),
                None => None,
            };
            let status = page.status.map(|s| s as u16);
            out.push(AnsweredPage { part: page.part, request: page.request, status, media_type: page.media_type, body });
        }
        Ok(out)
    }

    /// Keeps what an answer said: bars, quarantine and the fetch's figures, in one transaction.
    ///
    /// # Errors
    /// When the database cannot be written; the fetch then stays to be replayed.
    pub async fn keep_bars(&self, fetch: i64, series: i64, interval: Interval, understood: Understood, now: Timestamp) -> Result<Learned> {
        let recorded_at = self.writer.stamp(now);
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    let Understood { rows, bars, suspects, unfinished } = understood;
                    let batch = bars::Batch { series, interval, fetch, recorded_at, bars };
                    let learned = bars::learn(&mut *c, &batch).await?;
                    for suspect in &suspects {
                        suspect.keep(&mut *c, series, fetch).await?;
                    }
                    let (rows, unfinished, refused) = (rows as i64, unfinished as i64, suspects.len() as i64);
                    let (new, same, restated) = (learned.new as i64, learned.same as i64, learned.restated as i64);
                    sqlx::query!(
                        "UPDATE fetch SET state = 'stored', rows = ?, bars_new = ?, bars_same = ?, restated = ?, refused = ?, unfinished = ? WHERE id = ?",
                        rows, new, same, restated, refused, unfinished, fetch
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
    pub async fn mark_failed(&self, fetch: i64, failure: Failure) -> Result<()> {
        self.writer
            .run(move |c| {
                Box::pin(async move {
                    sqlx::query!(
                        "UPDATE fetch SET state = 'failed', failure = ?, message = ? WHERE id = ?",
                        failure.class,
                        failure.message,
                        fetch
                    )
                    .execute(c)
                    .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Fetches whose payload is kept and whose bars are not yet.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn to_replay(&self) -> Result<Vec<FetchRow>> {
        self.select_fetches(Filter { state: Some("answered"), ..Filter::default() }, i64::MAX).await
    }

    /// The newest `most` fetches that the filter lets through, newest first.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn fetches(&self, filter: Filter<'_>, most: i64) -> Result<Vec<FetchRow>> {
        self.select_fetches(filter, most).await
    }

    /// One fetch.
    ///
    /// # Errors
    /// When there is none, or the database cannot be read.
    pub async fn fetch(&self, id: i64) -> Result<FetchRow> {
        let found =
            sqlx::query_as!(Record, "SELECT * FROM fetch WHERE id = ?", id).fetch_optional(&self.readers).await?.map(FetchRow::from);
        found.ok_or_else(|| StoreError::Unknown { kind: "fetch", id: id.to_string() })
    }

    async fn select_fetches(&self, filter: Filter<'_>, most: i64) -> Result<Vec<FetchRow>> {
        let Filter { run, series, state, span, restated } = filter;
        let (from, to) = span.map(|s| (s.start.0, s.end.0)).unzip();
        let rows = sqlx::query_as!(
            Record,
            "SELECT * FROM fetch WHERE (?1 IS NULL OR run_id = ?1) AND (?2 IS NULL OR series_id = ?2)
                 AND (?3 IS NULL OR state = ?3) AND (?4 IS NULL OR window_end > ?4) AND (?5 IS NULL OR window_start < ?5)
                 AND (NOT ?7 OR restated > 0)
             ORDER BY id DESC LIMIT ?6",
            run,
            series,
            state,
            from,
            to,
            most,
            restated
        )
        .fetch_all(&self.readers)
        .await?;
        Ok(rows.into_iter().map(FetchRow::from).collect())
    }

    /// How many fetches of a run failed, by class of failure.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn failures_of(&self, run: i64) -> Result<BTreeMap<String, u64>> {
        let rows = sqlx::query!(
            "SELECT coalesce(failure, '') AS \"class!: String\", count(*) AS \"count!: i64\" FROM fetch
             WHERE run_id = ? AND state = 'failed' GROUP BY failure",
            run
        );
        Ok(rows.fetch_all(&self.readers).await?.into_iter().map(|r| (r.class, r.count as u64)).collect())
    }

    /// How many fetches failed since an instant.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn failed_since(&self, since: Timestamp) -> Result<u64> {
        let count = sqlx::query_scalar!("SELECT count(*) FROM fetch WHERE state = 'failed' AND answered_at > ?", since.0);
        Ok(count.fetch_one(&self.readers).await? as u64)
    }

    /// How many bars were restated since an instant, and by how many fetches.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn restated_since(&self, since: Timestamp) -> Result<(u64, u64)> {
        let sum = sqlx::query!(
            "SELECT coalesce(sum(restated), 0) AS \"bars!: i64\", count(*) AS \"fetches!: i64\" FROM fetch WHERE restated > 0 AND answered_at > ?",
            since.0
        );
        let sum = sum.fetch_one(&self.readers).await?;
        Ok((sum.bars as u64, sum.fetches as u64))
    }

    /// What was asked for in the given spans of each series, oldest first, as gaps and plans need it.
    /// A fetch that was answered and is still to be replayed counts as answered.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn asked(&self, spans: &[(i64, Span)]) -> Result<HashMap<i64, Vec<Asked>>> {
        let spans: Vec<String> = spans.iter().map(|(series, span)| format!("[{series},{},{}]", span.start.0, span.end.0)).collect();
        let spans = format!("[{}]", spans.join(","));
        let rows = sqlx::query!(
            r#"SELECT DISTINCT f.id AS "id!: i64", f.series_id, f.window_start, f.window_end, f.asked_at, f.answered_at, f.state, f.rows
               FROM json_each(?) AS span CROSS JOIN fetch AS f
               ON f.series_id = span.value ->> 0 AND f.window_end > span.value ->> 1 AND f.window_start < span.value ->> 2
               ORDER BY f.id"#,
            spans
        )
        .fetch_all(&self.readers)
        .await?;
        let mut out: HashMap<i64, Vec<Asked>> = HashMap::new();
        for r in rows {
            let outcome = match (r.state.as_str(), r.rows) {
                ("failed", _) => Outcome::Failed,
                ("stored", 0) => Outcome::Nothing,
                _ => Outcome::Bars,
            };
            let asked = Asked {
                fetch: r.id,
                window: Slot(r.window_start)..Slot(r.window_end),
                sent: Timestamp(r.asked_at),
                at: Timestamp(r.answered_at),
                outcome,
            };
            out.entry(r.series_id).or_default().push(asked);
        }
        Ok(out)
    }
}

/// Which fetches to list; everything left out lets all through.
#[derive(Clone, Debug, Default)]
pub struct Filter<'a> {
    /// Of this run.
    pub run: Option<i64>,
    /// Of this series.
    pub series: Option<i64>,
    /// In this state.
    pub state: Option<&'a str>,
    /// With a window that touches this span.
    pub span: Option<Span>,
    /// That brought another version of a bar.
    pub restated: bool,
}
