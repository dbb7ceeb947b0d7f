//! Polls that brought nothing new, packed.
//!
//! A desk that polls every few minutes has millions of answers a year without a new, restated or refused row. Some time after
//! they came, such fetches are *folded*: hundreds of one series become one row, in which each keeps its
//! number, run, window and times, as differences to the one before, in LEB128 varints. So gaps, causes and plans read as of any
//! instant as they did before. What is dropped is the request's text, and the payload where no other fetch has
//! the same. A fetch that any version of a bar came from is never folded, nor is one that failed.

use crate::{Result, Store, StoreError, fetch::FetchRow};
use integer_encoding::VarInt;
use mizuno_core::{Slot, Span, Timestamp, versions::Learned};
use sqlx::SqliteConnection;
use std::collections::BTreeMap;

/// Polls in one row at most, so that one is quick to read and to add to.
const FULL: usize = 1024;

/// A folded fetch.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Poll {
    pub fetch: i64,
    pub run: i64,
    pub window: Span,
    pub asked_at: Timestamp,
    pub answered_at: Timestamp,
    pub attempts: i64,
    pub rows: i64,
    pub same: i64,
    pub unfinished: i64,
    pub outside: i64,
    pub bytes: i64,
}

/// Numbers that a poll is written as.
const NUMBERS: usize = 12;

impl Poll {
    fn numbers(&self) -> [i64; NUMBERS] {
        let length = self.window.end.0.wrapping_sub(self.window.start.0);
        let took = self.answered_at.0.wrapping_sub(self.asked_at.0);
        let Poll { fetch, run, attempts, rows, same, unfinished, outside, bytes, .. } = *self;
        [fetch, run, self.window.start.0, length, self.asked_at.0, took, attempts, rows, same, unfinished, outside, bytes]
    }

    fn of(numbers: [i64; NUMBERS]) -> Poll {
        let [fetch, run, start, length, asked_at, took, attempts, rows, same, unfinished, outside, bytes] = numbers;
        let window = Slot(start)..Slot(start.wrapping_add(length));
        let answered_at = Timestamp(asked_at.wrapping_add(took));
        Poll { fetch, run, window, asked_at: Timestamp(asked_at), answered_at, attempts, rows, same, unfinished, outside, bytes }
    }

    /// The row of the ledger it was, but for its request and its payload.
    pub(crate) fn row(&self, series: i64) -> FetchRow {
        FetchRow {
            id: self.fetch,
            run: self.run,
            series,
            window: self.window.clone(),
            state: "stored".to_owned(),
            asked_at: self.asked_at,
            answered_at: self.answered_at,
            attempts: self.attempts,
            request: String::new(),
            part: None,
            status: None,
            media_type: None,
            payload: None,
            payload_size: self.bytes,
            rows: self.rows,
            learned: Learned { same: self.same as u64, ..Learned::default() },
            refused: 0,
            unfinished: self.unfinished,
            outside: self.outside,
            failure: None,
            folded: true,
        }
    }
}

/// Each number as the difference to that of the poll before.
fn encode(polls: &[Poll]) -> Vec<u8> {
    let (mut out, mut before) = (Vec::with_capacity(polls.len() * 24), [0; NUMBERS]);
    for poll in polls {
        let numbers = poll.numbers();
        for (number, before) in numbers.iter().zip(before) {
            out.extend(number.wrapping_sub(before).encode_var_vec());
        }
        before = numbers;
    }
    out
}

pub(crate) fn decode(id: i64, bytes: &[u8]) -> Result<Vec<Poll>> {
    let cut = || StoreError::Unreadable { kind: "row of folded polls", text: id.to_string() };
    let (mut rest, mut numbers, mut out) = (bytes, [0i64; NUMBERS], vec![]);
    while !rest.is_empty() {
        for number in &mut numbers {
            let (difference, read) = i64::decode_var(rest).ok_or_else(cut)?;
            *number = number.wrapping_add(difference);
            rest = &rest[read..];
        }
        out.push(Poll::of(numbers));
    }
    Ok(out)
}

impl Store {
    /// Folds up to `most` fetches that were answered before an instant and brought nothing new; returns how many there were.
    /// A fetch stays as it is while the same run has one of the same window that failed, so that the run's
    /// figures stay what they were.
    ///
    /// # Errors
    /// When the database cannot be written.
    pub async fn fold(&self, before: Timestamp, most: i64) -> Result<u64> {
        self.writer
            .drop_rows(move |c, _| {
                Box::pin(async move {
                    let polls = sqlx::query!(
                        "SELECT * FROM fetch AS f WHERE state = 'stored' AND bars_new = 0 AND restated = 0 AND refused = 0 AND answered_at < ?
                             AND NOT EXISTS (SELECT 1 FROM fetch AS other WHERE other.run_id = f.run_id AND other.series_id = f.series_id
                                 AND other.window_start = f.window_start AND other.state = 'failed')
                         ORDER BY answered_at LIMIT ?",
                        before.0,
                        most
                    )
                    .fetch_all(&mut *c)
                    .await?;
                    let mut by_series: BTreeMap<i64, Vec<Poll>> = BTreeMap::new();
                    for p in &polls {
                        let poll = Poll {
                            fetch: p.id,
                            run: p.run_id,
                            window: Slot(p.window_start)..Slot(p.window_end),
                            asked_at: Timestamp(p.asked_at),
                            answered_at: Timestamp(p.answered_at),
                            attempts: p.attempts,
                            rows: p.rows,
                            same: p.bars_same,
                            unfinished: p.unfinished,
                            outside: p.outside,
                            bytes: p.payload_size,
                        };
                        by_series.entry(p.series_id).or_default().push(poll);
                    }
                    let ids = serde_json::to_string(&polls.iter().map(|p| p.id).collect::<Vec<_>>()).unwrap_or_default();
                    for (series, polls) in by_series {
                        pack(&mut *c, series, polls).await?;
                    }
                    drop_payloads(&mut *c, &ids).await?;
                    sqlx::query!(
                        "UPDATE run SET folded = folded + f.polls, folded_same = folded_same + f.same, folded_bytes = folded_bytes + f.bytes,
                             folded_calls = folded_calls + f.calls
                         FROM (SELECT run_id, count(*) AS polls, sum(bars_same) AS same, sum(payload_size) AS bytes, sum(attempts) AS calls
                               FROM fetch WHERE id IN (SELECT value FROM json_each(?)) GROUP BY run_id) AS f
                         WHERE run.id = f.run_id",
                        ids
                    )
                    .execute(&mut *c)
                    .await?;
                    sqlx::query!("DELETE FROM further_page WHERE fetch_id IN (SELECT value FROM json_each(?))", ids).execute(&mut *c).await?;
                    sqlx::query!("DELETE FROM fetch WHERE id IN (SELECT value FROM json_each(?))", ids).execute(&mut *c).await?;
                    Ok(polls.len() as u64)
                })
            })
            .await
    }

    /// A fetch that was folded.
    pub(crate) async fn folded_fetch(&self, id: i64) -> Result<Option<FetchRow>> {
        let rows = sqlx::query!("SELECT id, series_id, polls FROM folded WHERE first_fetch <= ?1 AND last_fetch >= ?1", id);
        for row in rows.fetch_all(&self.readers).await? {
            if let Some(poll) = decode(row.id, &row.polls)?.into_iter().find(|p| p.fetch == id) {
                return Ok(Some(poll.row(row.series_id)));
            }
        }
        Ok(None)
    }
}

/// Adds polls of a series to its newest row, or begins another.
async fn pack(connection: &mut SqliteConnection, series: i64, mut polls: Vec<Poll>) -> Result<()> {
    let newest = sqlx::query!("SELECT id, count, polls FROM folded WHERE series_id = ? ORDER BY last_fetch DESC LIMIT 1", series);
    if let Some(newest) = newest.fetch_optional(&mut *connection).await?.filter(|n| n.count < FULL as i64) {
        polls.extend(decode(newest.id, &newest.polls)?);
        sqlx::query!("DELETE FROM folded WHERE id = ?", newest.id).execute(&mut *connection).await?;
    }
    polls.sort_by_key(|p| p.fetch);
    for polls in polls.chunks(FULL) {
        let (first, last) = (polls[0].fetch, polls[polls.len() - 1].fetch);
        let least = |of: fn(&Poll) -> i64| polls.iter().map(of).min();
        let most = |of: fn(&Poll) -> i64| polls.iter().map(of).max();
        let (start, end) = (least(|p| p.window.start.0), most(|p| p.window.end.0));
        let (first_at, last_at) = (least(|p| p.answered_at.0), most(|p| p.answered_at.0));
        let (count, body) = (polls.len() as i64, encode(polls));
        sqlx::query!(
            "INSERT INTO folded (series_id, window_start, window_end, first_fetch, last_fetch, first_at, last_at, count, polls)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
            series,
            start,
            end,
            first,
            last,
            first_at,
            last_at,
            count,
            body
        )
        .execute(&mut *connection)
        .await?;
    }
    Ok(())
}

/// Drops the payloads of fetches that nothing else has.
async fn drop_payloads(connection: &mut SqliteConnection, fetches: &str) -> Result<()> {
    let uses = sqlx::query!(
        r#"SELECT payload AS "digest!: String", count(*) AS "times!: i64" FROM
               (SELECT payload FROM fetch WHERE id IN (SELECT value FROM json_each(?1))
                UNION ALL SELECT payload FROM further_page WHERE fetch_id IN (SELECT value FROM json_each(?1)))
           WHERE payload IS NOT NULL GROUP BY payload"#,
        fetches
    );
    let uses: Vec<(String, i64)> = uses.fetch_all(&mut *connection).await?.into_iter().map(|u| (u.digest, u.times)).collect();
    let uses = serde_json::to_string(&uses).unwrap_or_default();
    sqlx::query!(
        "DELETE FROM payload WHERE digest IN (SELECT u.value ->> 0 FROM json_each(?) AS u LEFT JOIN payload_again AS a ON a.digest = u.value ->> 0
             WHERE u.value ->> 1 > coalesce(a.times, 0))",
        uses
    )
    .execute(&mut *connection)
    .await?;
    sqlx::query!(
        "UPDATE payload_again SET times = payload_again.times - u.times FROM (SELECT value ->> 0 AS digest, value ->> 1 AS times FROM json_each(?)) AS u
         WHERE payload_again.digest = u.digest",
        uses
    )
    .execute(&mut *connection)
    .await?;
    sqlx::query!("DELETE FROM payload_again WHERE times <= 0 AND digest IN (SELECT value ->> 0 FROM json_each(?))", uses)
        .execute(connection)
        .await?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn what_is_packed_reads_back(numbers in prop::collection::vec(prop::array::uniform12(any::<i64>()), 0..40), cut in 1usize..8) {
            let polls: Vec<Poll> = numbers.into_iter().map(Poll::of).collect();
            let bytes = encode(&polls);
            prop_assert_eq!(&decode(1, &bytes).unwrap(), &polls);
            let short = decode(1, &bytes[..bytes.len().saturating_sub(cut)]);
            prop_assert!(polls.is_empty() || short.is_err() || short.unwrap() != polls, "what is cut off is told");
        }
    }
}
