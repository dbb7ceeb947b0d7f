//! Bars kept: news goes into the tail or straight into blocks.

use crate::{
    Result, StoreError,
    blocks::{self, Needed},
    ranges, spans,
};
use mizuno_core::{Bar, Bars, Decimal, Interval, Slot, Span, Timestamp, Version, Versions, versions::Learned};
use serde::de::DeserializeOwned;
use sqlx::SqliteConnection;

/// News of at least this many bars goes straight into blocks; less goes into the tail.
const BULK: usize = 128;
/// A tail longer than this is sealed into blocks.
const SEAL: i64 = 1024;

/// Keeps what is new in the sound bars of a fetch, within the caller's transaction.
pub(crate) async fn learn(
    connection: &mut SqliteConnection,
    series: i64,
    interval: Interval,
    fetch: i64,
    recorded_at: Timestamp,
    bars: &Bars,
) -> Result<Learned> {
    let (Some(first), Some(last)) = (bars.rows.first(), bars.rows.last()) else {
        return Ok(Learned::default());
    };
    let span = first.slot..Slot(last.slot.0 + 1);
    let tail = tail(connection, series, &span).await?;
    // Many bars will go into blocks, so the whole of these is read at once; few are only compared.
    let many = bars.rows.len() >= BULK;
    let whole = blocks::span_of(interval, first.slot).start..blocks::span_of(interval, last.slot).end;
    let mut known = Versions::default();
    for block in blocks_over(connection, series, if many { &whole } else { &span }).await? {
        known.absorb(block.open()?);
    }
    let blocks = if many { known.clone() } else { Versions::default() };
    known.absorb(tail);
    let (news, learned) = known.news(bars, recorded_at, fetch);
    if news.rows.is_empty() {
        return Ok(learned);
    }
    if news.rows.len() >= BULK {
        merge(&mut *connection, series, interval, blocks, news).await?;
    } else {
        append_to_tail(connection, series, &news).await?;
        let waiting = sqlx::query_scalar!("SELECT count(*) FROM tail WHERE series_id = ?", series).fetch_one(&mut *connection).await?;
        if waiting > SEAL {
            seal(&mut *connection, series, interval).await?;
        }
    }
    sqlx::query!("UPDATE series SET revision = ? WHERE id = ?", recorded_at.0, series).execute(connection).await?;
    Ok(learned)
}

/// The numbers of a version as text: open, high, low, close and volume, a hyphen for none, and the open interest where there is one.
fn numbers(version: &Version) -> String {
    if version.withdrawn {
        return "- - - - -".to_owned();
    }
    let [open, high, low, close] = version.bar.prices();
    let volume = version.bar.volume().map_or("-".to_owned(), |v| v.to_string());
    let interest = version.bar.open_interest().map_or(String::new(), |n| format!(" {n}"));
    format!("{open} {high} {low} {close} {volume}{interest}")
}

/// A bar from its numbers as text; further numbers are those of a later mizuno.
fn bar_of(slot: Slot, numbers: &str) -> Option<Bar> {
    let mut all = numbers.split(' ');
    let mut next = || all.next().map(|text| text.parse::<Decimal>().ok());
    let prices = [next()??, next()??, next()??, next()??];
    let (volume, interest) = (next()?, next().flatten());
    Some(Bar::new(slot, prices, volume).with_open_interest(interest))
}

/// Adds rows to the tail, all of them in one message to the database.
async fn append_to_tail(connection: &mut SqliteConnection, series: i64, news: &Versions) -> Result<()> {
    let row = |v: &Version| {
        let withdrawn = u8::from(v.withdrawn);
        format!("[{},{},{},{withdrawn},\"{}\"]", v.bar.slot.0, v.recorded_at.0, v.fetch, numbers(v))
    };
    let rows = format!("[{}]", news.rows.iter().map(row).collect::<Vec<_>>().join(","));
    sqlx::query!(
        "INSERT INTO tail (series_id, slot, recorded_at, fetch_id, withdrawn, numbers)
         SELECT ?, value ->> 0, value ->> 1, value ->> 2, value ->> 3, value ->> 4 FROM json_each(?)",
        series,
        rows
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Moves the whole tail of a series into its blocks.
pub(crate) async fn seal(connection: &mut SqliteConnection, series: i64, interval: Interval) -> Result<()> {
    let rows = tail(connection, series, &(Slot(i64::MIN)..Slot(i64::MAX))).await?;
    let (Some(first), Some(last)) = (rows.rows.first(), rows.rows.last()) else { return Ok(()) };
    let whole = blocks::span_of(interval, first.bar.slot).start..blocks::span_of(interval, last.bar.slot).end;
    let mut known = Versions::default();
    for block in blocks_over(connection, series, &whole).await? {
        known.absorb(block.open()?);
    }
    sqlx::query!("DELETE FROM tail WHERE series_id = ?", series).execute(&mut *connection).await?;
    merge(connection, series, interval, known, rows).await
}

/// Writes the blocks that news falls into, with what they have already.
async fn merge(connection: &mut SqliteConnection, series: i64, interval: Interval, mut known: Versions, news: Versions) -> Result<()> {
    let mut spans: Vec<Span> = vec![];
    let mut rest = &news.rows[..];
    while let Some(first) = rest.first() {
        let span = blocks::span_of(interval, first.bar.slot);
        rest = &rest[before(rest, span.end)..];
        spans.push(span);
    }
    known.absorb(news);
    // From the back, so that the rows of each block are parted from the others without being copied.
    for span in spans.into_iter().rev() {
        let mut rows = known.rows.split_off(before(&known.rows, span.start));
        rows.truncate(before(&rows, span.end));
        put(connection, series, interval, &span, &Versions { rows }).await?;
    }
    Ok(())
}

/// How many of some sorted versions stand before a slot.
fn before(rows: &[Version], slot: Slot) -> usize {
    rows.partition_point(|v| v.bar.slot < slot)
}

async fn put(connection: &mut SqliteConnection, series: i64, interval: Interval, span: &Span, versions: &Versions) -> Result<()> {
    let (Some(first), Some(last)) = (versions.rows.first(), versions.rows.last()) else { return Ok(()) };
    let held = versions.held(interval, Timestamp::MAX);
    let (count, bars) = (versions.rows.len() as i64, interval.count(&held) as i64);
    let (price, volume) = blocks::digits(versions);
    let last_recorded = versions.rows.iter().map(|v| v.recorded_at.0).max();
    let (held, body) = (spans::encode(&held, interval), blocks::encode(interval, versions)?);
    sqlx::query!(
        "INSERT INTO block (series_id, span_start, span_end, versions, bars, first_slot, last_slot, price_scale, volume_scale,
             price_whole, volume_whole, last_recorded, held, body)
         VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
         ON CONFLICT (series_id, span_start) DO UPDATE SET
             versions = excluded.versions, bars = excluded.bars, first_slot = excluded.first_slot, last_slot = excluded.last_slot,
             price_scale = excluded.price_scale, volume_scale = excluded.volume_scale, price_whole = excluded.price_whole,
             volume_whole = excluded.volume_whole, last_recorded = excluded.last_recorded, held = excluded.held, body = excluded.body",
        series,
        span.start.0,
        span.end.0,
        count,
        bars,
        first.bar.slot.0,
        last.bar.slot.0,
        price.scale,
        volume.scale,
        price.whole,
        volume.whole,
        last_recorded,
        held,
        body
    )
    .execute(&mut *connection)
    .await?;
    ranges::put(connection, series, span, versions).await
}

/// A block as it is kept.
pub(crate) struct StoredBlock {
    pub(crate) id: i64,
    pub(crate) span_start: i64,
    pub(crate) versions: i64,
    pub(crate) bars: i64,
    pub(crate) price_scale: i64,
    pub(crate) volume_scale: i64,
    pub(crate) last_recorded: Option<i64>,
    pub(crate) body: Vec<u8>,
}

impl StoredBlock {
    /// Whether each of its slots stands once, is not withdrawn and was known at an instant.
    fn is_plain(&self, as_of: Timestamp) -> bool {
        self.versions == self.bars && self.last_recorded.is_some_and(|last| last <= as_of.0)
    }

    pub(crate) fn open(self) -> Result<Versions> {
        let damaged = |source| StoreError::Damaged { block: self.id, source };
        blocks::decode(self.body, self.price_scale as u8, self.volume_scale as u8).map_err(damaged)
    }

    /// Puts the bars of a block as they were known at an instant, those that lie in `span`, behind those in `out`.
    pub(crate) fn open_at(self, as_of: Timestamp, needed: Needed, span: &Span, out: &mut Vec<Bar>) -> Result<()> {
        let (damaged, scales) =
            (|source| StoreError::Damaged { block: self.id, source }, (self.price_scale as u8, self.volume_scale as u8));
        match self.is_plain(as_of) {
            true => blocks::decode_plain(self.body, scales, needed, span, out),
            false => blocks::decode_as_of(self.body, scales, as_of, needed, span, out),
        }
        .map_err(damaged)
    }

    /// The slots of the bars that a block had at an instant.
    pub(crate) fn slots_at(self, as_of: Timestamp) -> Result<Vec<Slot>> {
        blocks::decode_slots(self.body, as_of).map_err(|source| StoreError::Damaged { block: self.id, source })
    }
}

pub(crate) async fn blocks_over(connection: &mut SqliteConnection, series: i64, span: &Span) -> Result<Vec<StoredBlock>> {
    Ok(sqlx::query_as!(
        StoredBlock,
        "SELECT id, span_start, versions, bars, price_scale, volume_scale, last_recorded, body FROM block
         WHERE series_id = ? AND last_slot >= ? AND first_slot < ? ORDER BY span_start",
        series,
        span.start.0,
        span.end.0
    )
    .fetch_all(connection)
    .await?)
}

/// The tail's versions in `span`, sorted.
pub(crate) async fn tail(connection: &mut SqliteConnection, series: i64, span: &Span) -> Result<Versions> {
    let rows = sqlx::query!(
        "SELECT slot, recorded_at, fetch_id, withdrawn, numbers
         FROM tail WHERE series_id = ? AND slot >= ? AND slot < ? ORDER BY slot, recorded_at, fetch_id",
        series,
        span.start.0,
        span.end.0
    )
    .fetch_all(connection)
    .await?;
    let rows: Result<Vec<Version>> =
        rows.into_iter().map(|r| version(r.slot, r.recorded_at, r.fetch_id, r.withdrawn != 0, r.numbers)).collect();
    Ok(Versions { rows: rows? })
}

/// A list that a query gave as JSON.
pub(crate) fn from_json<T: DeserializeOwned>(kind: &'static str, text: &str) -> Result<T> {
    serde_json::from_str(text).map_err(|_| StoreError::Unreadable { kind, text: text.chars().take(80).collect() })
}

/// The same from an array of arrays, in JSON, each with the numbers that make a version.
pub(crate) fn tail_of(text: &str) -> Result<Versions> {
    let rows: Vec<(i64, i64, i64, i64, String)> = from_json("a tail", text)?;
    let rows: Result<Vec<Version>> = rows.into_iter().map(|(slot, at, fetch, gone, n)| version(slot, at, fetch, gone != 0, n)).collect();
    let mut rows = rows?;
    rows.sort_by_key(|v| (v.bar.slot, v.recorded_at, v.fetch));
    Ok(Versions { rows })
}

fn version(slot: i64, recorded_at: i64, fetch: i64, withdrawn: bool, numbers: String) -> Result<Version> {
    let slot = Slot(slot);
    let bar = if withdrawn { Some(Bar::nothing(slot)) } else { bar_of(slot, &numbers) };
    let bar = bar.ok_or(StoreError::Unreadable { kind: "the numbers of a bar", text: numbers })?;
    Ok(Version { recorded_at: Timestamp(recorded_at), fetch, bar, withdrawn })
}
