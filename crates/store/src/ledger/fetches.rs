//! The ledger of fetches, as it is read.

use crate::{
    Result, Store, StoreError,
    fetch::{AnsweredPage, Failed, FetchRow, PageRow},
    folded::{Poll, decode},
};
use mizuno_core::{
    Overlap, Slot, Span, Timestamp,
    gap::{Asked, Outcome},
    versions::Learned,
};
use std::collections::HashMap;

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
    outside: i64,
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
            outside: r.outside,
            failure: r.failure.map(|class| Failed { class, message: r.message.unwrap_or_default() }),
            folded: false,
        }
    }
}

impl FetchRow {
    /// The same fetch, failed.
    pub(crate) fn failed(self, failure: Failed) -> FetchRow {
        FetchRow { state: "failed".to_owned(), failure: Some(failure), ..self }
    }
}

impl Store {
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
        match found {
            Some(found) => Ok(found),
            None => self.folded_fetch(id).await?.ok_or_else(|| StoreError::Unknown { kind: "fetch", id: id.to_string() }),
        }
    }

    async fn select_fetches(&self, filter: Filter<'_>, most: i64) -> Result<Vec<FetchRow>> {
        let Filter { run, series, source, state, span, restated } = filter;
        let (from, to) = span.map(|s| (s.start.0, s.end.0)).unzip();
        // Each filter has an index of its own, and a ledger of years has tens of millions of rows: the narrowest one leads.
        macro_rules! led_by {
            ($first:tt, $order:tt) => {
                sqlx::query_as!(
                    Record,
                    "SELECT * FROM fetch WHERE "
                        + $first
                        + " AND (?1 IS NULL OR run_id = ?1) AND (?2 IS NULL OR series_id = ?2)
                     AND (?3 IS NULL OR state = ?3) AND (?4 IS NULL OR window_end > ?4) AND (?5 IS NULL OR window_start < ?5)
                     AND (NOT ?7 OR restated > 0) AND (?8 IS NULL OR series_id IN (SELECT id FROM series WHERE source = ?8))
                     ORDER BY "
                        + $order
                        + " DESC LIMIT ?6",
                    run,
                    series,
                    state,
                    from,
                    to,
                    most,
                    restated,
                    source
                )
                .fetch_all(&self.readers)
                .await?
            };
        }
        let rows = match (run, series, state) {
            (Some(_), ..) => led_by!("run_id = ?1", "id"),
            (_, Some(_), _) => led_by!("series_id = ?2", "id"),
            (_, _, Some("answered")) => led_by!("state = 'answered'", "id"),
            (_, _, Some("failed")) => led_by!("state = 'failed'", "answered_at"),
            _ if restated => led_by!("restated > 0", "answered_at"),
            _ => led_by!("TRUE", "id"),
        };
        Ok(rows.into_iter().map(FetchRow::from).collect())
    }

    /// When each source was last asked, among the newest fetches and collections of lists.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn newest_calls(&self) -> Result<Vec<(String, Timestamp)>> {
        let rows = sqlx::query!(
            r#"SELECT source AS "source!: String", max(at) AS "at!: i64" FROM
                   (SELECT s.source AS source, f.answered_at AS at FROM (SELECT series_id, answered_at FROM fetch ORDER BY id DESC LIMIT 1000) AS f
                        JOIN series AS s ON s.id = f.series_id
                    UNION ALL SELECT source, asked_at FROM (SELECT source, asked_at FROM list_fetch ORDER BY id DESC LIMIT 50))
               GROUP BY source"#
        );
        Ok(rows.fetch_all(&self.readers).await?.into_iter().map(|r| (r.source, Timestamp(r.at))).collect())
    }

    /// How many windows failed since an instant, however often each was asked for.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn failed_since(&self, since: Timestamp) -> Result<u64> {
        let count = sqlx::query_scalar!(
            "SELECT count(*) FROM (SELECT DISTINCT series_id, window_start, window_end FROM fetch WHERE state = 'failed' AND answered_at > ?)",
            since.0
        );
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

    /// What had been asked for by `as_of` in the given spans of each series, oldest first, as gaps and plans need it.
    /// A fetch that was answered and is still to be replayed counts as answered.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn asked(&self, spans: &[(i64, Span)], as_of: Timestamp) -> Result<HashMap<i64, Vec<Asked>>> {
        let json: Vec<String> = spans.iter().map(|(series, span)| format!("[{series},{},{}]", span.start.0, span.end.0)).collect();
        let json = format!("[{}]", json.join(","));
        // Where windows end says where to look only together with how long they are at most.
        let rows = sqlx::query!(
            r#"SELECT DISTINCT f.id AS "id!: i64", f.series_id, f.window_start, f.window_end, f.asked_at, f.answered_at, f.state, f.rows
               FROM json_each(?) AS span
               CROSS JOIN (SELECT 0 AS length, 40 AS most UNION ALL SELECT 1, 86400000000 UNION ALL SELECT 2, 3456000000000
                           UNION ALL SELECT 3, 4000000000000000000) AS of
               CROSS JOIN fetch AS f
               ON f.series_id = span.value ->> 0
                   AND (f.window_end - f.window_start > 40) + (f.window_end - f.window_start > 86400000000)
                       + (f.window_end - f.window_start > 3456000000000) = of.length
                   AND f.window_end > span.value ->> 1 AND f.window_end < (span.value ->> 2) + of.most AND f.window_start < span.value ->> 2
               WHERE f.answered_at <= ?
               ORDER BY f.id"#,
            json,
            as_of.0
        )
        .fetch_all(&self.readers)
        .await?;
        let mut out: HashMap<i64, Vec<Asked>> = HashMap::new();
        for r in rows {
            let asked = Asked {
                fetch: r.id,
                window: Slot(r.window_start)..Slot(r.window_end),
                sent: Timestamp(r.asked_at),
                at: Timestamp(r.answered_at),
                outcome: outcome(&r.state, r.rows),
            };
            out.entry(r.series_id).or_default().push(asked);
        }
        self.add_folded(spans, &json, as_of, &mut out).await?;
        Ok(out)
    }

    /// Adds the folded fetches that touch one of the spans of their series.
    async fn add_folded(&self, spans: &[(i64, Span)], json: &str, as_of: Timestamp, out: &mut HashMap<i64, Vec<Asked>>) -> Result<()> {
        let rows = sqlx::query!(
            r#"SELECT DISTINCT f.id AS "id!: i64", f.series_id AS "series_id!: i64", f.polls AS "polls!: Vec<u8>"
               FROM json_each(?) AS span CROSS JOIN folded AS f
               ON f.series_id = span.value ->> 0 AND f.window_end > span.value ->> 1 AND f.window_start < span.value ->> 2
               WHERE f.first_at <= ?"#,
            json,
            as_of.0
        )
        .fetch_all(&self.readers)
        .await?;
        let mut wanted: HashMap<i64, Vec<&Span>> = HashMap::new();
        if !rows.is_empty() {
            spans.iter().for_each(|(series, span)| wanted.entry(*series).or_default().push(span));
        }
        for r in rows {
            let Some(wanted) = wanted.get(&r.series_id) else { continue };
            let mine = |p: &Poll| wanted.iter().any(|span| p.window.overlaps(span));
            let polls: Vec<Poll> = decode(r.id, &r.polls)?.into_iter().filter(|p| p.answered_at <= as_of && mine(p)).collect();
            if polls.is_empty() {
                continue;
            }
            let asked = out.entry(r.series_id).or_default();
            asked.extend(polls.into_iter().map(|p| Asked {
                fetch: p.fetch,
                outcome: outcome("stored", p.rows),
                window: p.window,
                sent: p.asked_at,
                at: p.answered_at,
            }));
            asked.sort_by_key(|a| a.fetch);
        }
        Ok(())
    }
}

/// What a fetch means for gaps.
fn outcome(state: &str, rows: i64) -> Outcome {
    match (state, rows) {
        ("failed", _) => Outcome::Failed,
        ("stored", 0) => Outcome::Nothing,
        _ => Outcome::Bars,
    }
}

/// Which fetches to list; everything left out lets all through.
#[derive(Clone, Debug, Default)]
pub struct Filter<'a> {
    /// Of this run.
    pub run: Option<i64>,
    /// Of this series.
    pub series: Option<i64>,
    /// Of this source.
    pub source: Option<&'a str>,
    /// In this state.
    pub state: Option<&'a str>,
    /// With a window that touches this span.
    pub span: Option<Span>,
    /// That brought another version of a bar.
    pub restated: bool,
}
