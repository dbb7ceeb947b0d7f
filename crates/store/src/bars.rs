//! Bars kept and bars read: blocks and tail as one series.

use crate::{Result, Store, StoreError, blocks, series::SeriesRow, spans};
use mizuno_core::{Bar, Bars, Interval, Price, Slot, Span, Spans, Timestamp, Versions, Volume, bar::Learned, bar::Version};
use sqlx::{Sqlite, SqliteConnection, Transaction};
use std::collections::{HashMap, HashSet, VecDeque};

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
        known.absorb(block.open()?)?;
    }
    let blocks = if many { known.clone() } else { Versions::default() };
    known.absorb(tail)?;
    let (news, learned) = known.news(bars, recorded_at, fetch)?;
    if news.rows.is_empty() {
        return Ok(learned);
    }
    if news.rows.len() >= BULK {
        merge(connection, series, interval, blocks, news).await?;
    } else {
        append_to_tail(connection, series, &news).await?;
        let waiting = sqlx::query_scalar!("SELECT count(*) FROM tail WHERE series_id = ?", series).fetch_one(&mut *connection).await?;
        if waiting > SEAL {
            seal(&mut *connection, series, interval).await?;
        }
        sqlx::query!("UPDATE series SET revision = revision + 1 WHERE id = ?", series).execute(connection).await?;
    }
    Ok(learned)
}

/// Adds rows to the tail, all of them in one message to the database.
async fn append_to_tail(connection: &mut SqliteConnection, series: i64, news: &Versions) -> Result<()> {
    let row = |v: &Version| {
        let Bar { slot, open, high, low, close, volume } = v.bar;
        let volume = volume.map_or("null".to_owned(), |v| v.0.to_string());
        let withdrawn = u8::from(v.withdrawn);
        format!("[{},{},{},{withdrawn},{},{},{},{},{volume}]", slot.0, v.recorded_at.0, v.fetch, open.0, high.0, low.0, close.0)
    };
    let rows = format!("[{}]", news.rows.iter().map(row).collect::<Vec<_>>().join(","));
    sqlx::query!(
        "INSERT INTO tail (series_id, price_scale, volume_scale, slot, recorded_at, fetch_id, withdrawn, open, high, low, close, volume)
         SELECT ?, ?, ?, value ->> 0, value ->> 1, value ->> 2, value ->> 3, value ->> 4, value ->> 5, value ->> 6, value ->> 7, value ->> 8
         FROM json_each(?)",
        series,
        news.price_scale,
        news.volume_scale,
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
        known.absorb(block.open()?)?;
    }
    sqlx::query!("DELETE FROM tail WHERE series_id = ?", series).execute(&mut *connection).await?;
    merge(connection, series, interval, known, rows).await
}

/// Writes the blocks that news falls into, with what they have already, and counts their series' revision on.
async fn merge(connection: &mut SqliteConnection, series: i64, interval: Interval, mut known: Versions, news: Versions) -> Result<()> {
    let mut spans: Vec<Span> = vec![];
    let mut rest = &news.rows[..];
    while let Some(first) = rest.first() {
        let span = blocks::span_of(interval, first.bar.slot);
        rest = &rest[before(rest, span.end)..];
        spans.push(span);
    }
    known.absorb(news)?;
    // From the back, so that the rows of each block are parted from the others without being copied.
    for span in spans.into_iter().rev() {
        let mut rows = known.rows.split_off(before(&known.rows, span.start));
        rows.truncate(before(&rows, span.end));
        put(connection, series, interval, &span, &Versions { rows, ..known.without_rows() }).await?;
    }
    Ok(())
}

/// How many of some sorted versions stand before a slot.
fn before(rows: &[Version], slot: Slot) -> usize {
    rows.partition_point(|v| v.bar.slot < slot)
}

async fn put(connection: &mut SqliteConnection, series: i64, interval: Interval, span: &Span, versions: &Versions) -> Result<()> {
    let (Some(first), Some(last)) = (versions.rows.first(), versions.rows.last()) else { return Ok(()) };
    let held = versions.held(interval);
    let (count, bars) = (versions.rows.len() as i64, interval.count(&held) as i64);
    let (held, body) = (spans::encode(&held, interval), blocks::encode(interval, versions)?);
    sqlx::query!(
        "INSERT INTO block (series_id, span_start, span_end, versions, bars, first_slot, last_slot, price_scale, volume_scale, held, body)
         VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
         ON CONFLICT (series_id, span_start) DO UPDATE SET
             versions = excluded.versions, bars = excluded.bars, first_slot = excluded.first_slot, last_slot = excluded.last_slot,
             price_scale = excluded.price_scale, volume_scale = excluded.volume_scale, held = excluded.held, body = excluded.body;
         UPDATE series SET revision = revision + 1 WHERE id = ?",
        series,
        span.start.0,
        span.end.0,
        count,
        bars,
        first.bar.slot.0,
        last.bar.slot.0,
        versions.price_scale,
        versions.volume_scale,
        held,
        body,
        series
    )
    .execute(connection)
    .await?;
    Ok(())
}

struct StoredBlock {
    id: i64,
    span_start: i64,
    versions: i64,
    bars: i64,
    price_scale: i64,
    volume_scale: i64,
    body: Vec<u8>,
}

impl StoredBlock {
    /// Whether each of its slots stands once and none is withdrawn.
    fn is_plain(&self) -> bool {
        self.versions == self.bars
    }

    fn open(self) -> Result<Versions> {
        let damaged = |e: parquet::errors::ParquetError| StoreError::Damaged { block: self.id, problem: e.to_string() };
        blocks::decode(self.body, self.price_scale as u8, self.volume_scale as u8).map_err(damaged)
    }

    fn open_plain(self) -> Result<Bars> {
        let damaged = |e: parquet::errors::ParquetError| StoreError::Damaged { block: self.id, problem: e.to_string() };
        blocks::decode_plain(self.body, self.price_scale as u8, self.volume_scale as u8).map_err(damaged)
    }
}

async fn blocks_over(connection: &mut SqliteConnection, series: i64, span: &Span) -> Result<Vec<StoredBlock>> {
    Ok(sqlx::query_as!(
        StoredBlock,
        "SELECT id, span_start, versions, bars, price_scale, volume_scale, body FROM block
         WHERE series_id = ? AND last_slot >= ? AND first_slot < ? ORDER BY span_start",
        series,
        span.start.0,
        span.end.0
    )
    .fetch_all(connection)
    .await?)
}

/// The tail's versions in `span`, sorted.
async fn tail(connection: &mut SqliteConnection, series: i64, span: &Span) -> Result<Versions> {
    let rows = sqlx::query!(
        "SELECT slot, recorded_at, fetch_id, withdrawn, price_scale, volume_scale, open, high, low, close, volume
         FROM tail WHERE series_id = ? AND slot >= ? AND slot < ? ORDER BY slot, recorded_at, fetch_id",
        series,
        span.start.0,
        span.end.0
    )
    .fetch_all(connection)
    .await?;
    let mut out = Versions::default();
    for row in rows {
        let bar = Bar {
            slot: Slot(row.slot),
            open: Price(row.open),
            high: Price(row.high),
            low: Price(row.low),
            close: Price(row.close),
            volume: row.volume.map(Volume),
        };
        let version = Version { recorded_at: Timestamp(row.recorded_at), fetch: row.fetch_id, bar, withdrawn: row.withdrawn != 0 };
        out.absorb(Versions { price_scale: row.price_scale as u8, volume_scale: row.volume_scale as u8, rows: vec![version] })?;
    }
    Ok(out)
}

/// A reading of one series, a span at a time, from one snapshot of the database.
pub struct Reading {
    snapshot: Transaction<'static, Sqlite>,
    blocks: VecDeque<(i64, Span)>,
    tail: Versions,
    interval: Interval,
    span: Span,
    as_of: Timestamp,
    /// Digits after the point that every batch's prices are written with.
    pub price_scale: u8,
    /// Digits after the point that every batch's volumes are written with.
    pub volume_scale: u8,
}

impl Store {
    /// Begins to read the bars of a series in `span` as they were known at `as_of`.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn read(&self, series: &SeriesRow, span: Span, as_of: Timestamp) -> Result<Reading> {
        let mut snapshot = self.readers.begin().await?;
        // While its past is collected again on another basis, a series is read as it was before.
        let rebasing = sqlx::query_scalar!(
            "SELECT began_at FROM rebasing WHERE series_id = ?1 AND began_at <= ?2 AND (ended_at IS NULL OR ended_at > ?2)",
            series.id,
            as_of.0
        );
        let as_of = rebasing.fetch_optional(&mut *snapshot).await?.map_or(as_of, |began| Timestamp(began - 1));
        let tail = tail(&mut snapshot, series.id, &span).await?;
        let rows = sqlx::query!(
            "SELECT id, span_start, span_end, price_scale, volume_scale FROM block
             WHERE series_id = ? AND last_slot >= ? AND first_slot < ? ORDER BY span_start",
            series.id,
            span.start.0,
            span.end.0
        )
        .fetch_all(&mut *snapshot)
        .await?;
        let price_scale = rows.iter().map(|r| r.price_scale as u8).fold(tail.price_scale, u8::max);
        let volume_scale = rows.iter().map(|r| r.volume_scale as u8).fold(tail.volume_scale, u8::max);
        let blocks = rows.into_iter().map(|r| (r.id, Slot(r.span_start)..Slot(r.span_end))).collect();
        let interval = series.key.interval;
        Ok(Reading { snapshot, blocks, tail, interval, span, as_of, price_scale, volume_scale })
    }

    /// All the bars of [`Store::read`] at once. Blocks are opened side by side, as many as there are cores.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn bars(&self, series: &SeriesRow, span: Span, as_of: Timestamp) -> Result<Bars> {
        let mut reading = self.read(series, span, as_of).await?;
        let blocks = blocks_over(&mut reading.snapshot, series.id, &reading.span).await?;
        let tail_spans: HashSet<Slot> = reading.tail.rows.iter().map(|v| blocks::span_of(reading.interval, v.bar.slot).start).collect();
        let apart = |b: &StoredBlock| b.is_plain() && !tail_spans.contains(&Slot(b.span_start));
        if reading.as_of == Timestamp::MAX && blocks.iter().all(apart) && blocks.len() > 1 {
            let counted: i64 = blocks.iter().map(|b| b.bars).sum();
            let mut out = Bars { rows: Vec::with_capacity(counted as usize), ..reading.empty() };
            let opened = side_by_side(blocks).await?;
            reading.blocks.clear();
            for bars in opened {
                reading.append(bars, &mut out)?;
            }
            if let Some(tail) = reading.next().await? {
                // Spans with a tail and no block stand among the others.
                reading.append(tail, &mut out)?;
                while let Some(bars) = reading.next().await? {
                    reading.append(bars, &mut out)?;
                }
                out.rows.sort_by_key(|b| b.slot);
            }
            return Ok(out);
        }
        let mut out = reading.empty();
        while let Some(bars) = reading.next().await? {
            reading.append(bars, &mut out)?;
        }
        Ok(out)
    }

    /// Every version of the bars in a span, by slot and then by when each was learned.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn versions(&self, series: &SeriesRow, span: Span) -> Result<Versions> {
        let mut snapshot = self.readers.begin().await?;
        let mut out = tail(&mut snapshot, series.id, &span).await?;
        for block in blocks_over(&mut snapshot, series.id, &span).await? {
            out.absorb(block.open()?)?;
        }
        out.rows.retain(|v| span.contains(&v.bar.slot));
        Ok(out)
    }

    /// The slots each of `series` has a bar in; a series without any is absent. No block is opened.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn held(&self, series: &[SeriesRow]) -> Result<HashMap<i64, Spans>> {
        let intervals: HashMap<i64, Interval> = series.iter().map(|s| (s.id, s.key.interval)).collect();
        let only = if let [one] = series { Some(one.id) } else { None };
        let mut ranges: HashMap<i64, Vec<Span>> = HashMap::new();
        let blocks =
            sqlx::query!("SELECT id, series_id, held FROM block WHERE (?1 IS NULL OR series_id = ?1) ORDER BY series_id, span_start", only)
                .fetch_all(&self.readers)
                .await?;
        for block in blocks {
            let Some(&interval) = intervals.get(&block.series_id) else { continue };
            let held = spans::decode(&block.held, interval)
                .ok_or(StoreError::Damaged { block: block.id, problem: "its list of slots cannot be read".to_owned() })?;
            ranges.entry(block.series_id).or_default().extend(held);
        }
        let mut out: HashMap<i64, Spans> = ranges.into_iter().map(|(id, spans)| (id, spans.into_iter().collect())).collect();
        let rows = sqlx::query!(
            "SELECT series_id, slot, withdrawn FROM tail WHERE (?1 IS NULL OR series_id = ?1) ORDER BY series_id, slot, recorded_at, fetch_id",
            only
        )
        .fetch_all(&self.readers)
        .await?;
        for row in rows {
            let Some(interval) = intervals.get(&row.series_id) else { continue };
            let slot = interval.span_of(Slot(row.slot));
            let spans = out.entry(row.series_id).or_default();
            if row.withdrawn == 0 { spans.insert(slot) } else { spans.remove(slot) }
        }
        Ok(out)
    }

    /// Moves the tails of all series into blocks, however short; for maintenance and measurements.
    ///
    /// # Errors
    /// When the database cannot be written.
    pub async fn seal_all(&self) -> Result<()> {
        for series in self.series().await? {
            self.writer.run(move |c| Box::pin(async move { seal(c, series.id, series.key.interval).await })).await?;
        }
        Ok(())
    }
}

/// Opens blocks of one version a slot on all cores, and gives their bars in the order of the blocks.
async fn side_by_side(blocks: Vec<StoredBlock>) -> Result<Vec<Bars>> {
    let hands = std::thread::available_parallelism().map_or(1, usize::from);
    let share = blocks.len().div_ceil(hands);
    let mut rest = blocks.into_iter().peekable();
    let mut tasks = vec![];
    while rest.peek().is_some() {
        let mine: Vec<StoredBlock> = rest.by_ref().take(share).collect();
        tasks.push(tokio::task::spawn_blocking(move || mine.into_iter().map(StoredBlock::open_plain).collect::<Result<Vec<_>>>()));
    }
    let mut out = vec![];
    for task in tasks {
        out.append(&mut task.await.map_err(|_| StoreError::Closed)??);
    }
    Ok(out)
}

impl Reading {
    /// No bars, at the scales every batch is written with.
    fn empty(&self) -> Bars {
        Bars { price_scale: self.price_scale, volume_scale: self.volume_scale, rows: vec![] }
    }

    /// Adds a batch to `out`, as far as it lies in the span asked for.
    fn append(&self, mut bars: Bars, out: &mut Bars) -> Result<()> {
        bars.rescale(self.price_scale, self.volume_scale)?;
        let from = bars.rows.partition_point(|b| b.slot < self.span.start);
        let to = bars.rows.partition_point(|b| b.slot < self.span.end);
        out.rows.extend_from_slice(&bars.rows[from..to]);
        Ok(())
    }

    /// The stretch in which there may be bars; `None` when there are none.
    #[must_use]
    pub fn extent(&self) -> Option<Span> {
        let tail = self.tail.rows.first().zip(self.tail.rows.last()).map(|(a, b)| a.bar.slot..self.interval.span_of(b.bar.slot).end);
        let blocks = self.blocks.front().zip(self.blocks.back()).map(|((_, a), (_, b))| a.start..b.end);
        tail.into_iter().chain(blocks).reduce(|a, b| a.start.min(b.start)..a.end.max(b.end))
    }

    /// The next bars in time order; `None` when there are no more.
    ///
    /// # Errors
    /// When a block cannot be read.
    pub async fn next(&mut self) -> Result<Option<Bars>> {
        loop {
            let block = self.blocks.front().map(|(_, span)| span.clone());
            let tail = self.tail.rows.first().map(|v| blocks::span_of(self.interval, v.bar.slot));
            let Some(span) = [block, tail].into_iter().flatten().min_by_key(|s| s.start) else { return Ok(None) };
            let from_tail = self.take_tail(&span);
            let mut bars = match self.blocks.pop_front_if(|(_, s)| s.start == span.start) {
                None => from_tail.as_of(self.as_of),
                Some((id, _)) => {
                    let stored = self.block(id).await?;
                    if stored.is_plain() && from_tail.rows.is_empty() && self.as_of == Timestamp::MAX {
                        stored.open_plain()?
                    } else {
                        let mut versions = stored.open()?;
                        versions.absorb(from_tail)?;
                        versions.as_of(self.as_of)
                    }
                }
            };
            if bars.rows.first().zip(bars.rows.last()).is_some_and(|(a, b)| a.slot < self.span.start || b.slot >= self.span.end) {
                bars.rows.retain(|b| self.span.contains(&b.slot));
            }
            if !bars.rows.is_empty() {
                bars.rescale(self.price_scale, self.volume_scale)?;
                return Ok(Some(bars));
            }
        }
    }

    async fn block(&mut self, id: i64) -> Result<StoredBlock> {
        let block = sqlx::query_as!(
            StoredBlock,
            "SELECT id, span_start, versions, bars, price_scale, volume_scale, body FROM block WHERE id = ?",
            id
        );
        Ok(block.fetch_one(&mut *self.snapshot).await?)
    }

    fn take_tail(&mut self, span: &Span) -> Versions {
        let end = self.tail.rows.partition_point(|v| v.bar.slot < span.end);
        let rows = self.tail.rows.drain(..end).collect();
        Versions { rows, ..self.tail.without_rows() }
    }
}
