//! Bars read: tail and blocks as one series, as it was known at one instant.
//!
//! Versions are immutable, so a reading pins its instant and holds nothing
//! else: no connection and no transaction while whoever reads is slow. The tail
//! and the list of blocks are taken in one step; each block is read
//! when its turn comes. What is sealed meanwhile stands in the tail that was taken and in the
//! block, and is taken once; what is learned meanwhile has a later stamp and does not show.

use crate::{
    Result, Store, StoreError,
    blocks::{self, Needed},
    news::{StoredBlock, blocks_over, from_json, tail, tail_of},
    series::SeriesRow,
    spans,
};
use futures_util::{StreamExt, TryStreamExt, stream};
use mizuno_core::{Bars, Interval, Slot, Span, Spans, Timestamp, Versions, bar::Digits};
use parquet::errors::ParquetError;
use sqlx::SqliteConnection;
use std::collections::{HashMap, HashSet, VecDeque};

/// Blocks opened at once for what was held at an instant.
const OPENED_AT_ONCE: usize = 4;

/// A reading of one series, a span at a time.
pub struct Reading {
    store: Store,
    series: i64,
    blocks: VecDeque<Span>,
    tail: Versions,
    interval: Interval,
    span: Span,
    as_of: Timestamp,
    needed: Needed,
    /// The block of a span that lies in one, which came with the list.
    at_hand: Option<Box<StoredBlock>>,
    /// Room for every price there may be in it.
    pub price: Digits,
    /// Room for every volume there may be in it.
    pub volume: Digits,
}

/// A block without its body, as the list names it.
#[derive(serde::Deserialize)]
struct Listed {
    id: i64,
    span_start: i64,
    span_end: i64,
    price_scale: i64,
    volume_scale: i64,
    price_whole: Option<i64>,
    volume_whole: Option<i64>,
    versions: i64,
    bars: i64,
    last_recorded: Option<i64>,
}

impl Listed {
    fn with(&self, body: Vec<u8>) -> StoredBlock {
        let Listed { id, span_start, versions, bars, price_scale, volume_scale, last_recorded, .. } = *self;
        StoredBlock { id, span_start, versions, bars, price_scale, volume_scale, last_recorded, body }
    }
}

/// While its past is collected again on another basis, a series is read as it was before.
async fn on_one_basis(connection: &mut SqliteConnection, series: i64, as_of: Timestamp) -> Result<Timestamp> {
    let rebasing = sqlx::query_scalar!(
        "SELECT min(began_at) AS \"began_at: i64\" FROM rebasing
         WHERE series_id = ?1 AND coalesce(known_at, began_at) <= ?2 AND (ended_at IS NULL OR ended_at > ?2)",
        series,
        as_of.0
    );
    Ok(rebasing.fetch_one(connection).await?.map_or(as_of, |began| Timestamp(began - 1)))
}

impl Store {
    /// Begins to read the bars of a series in `span` as they were known at `as_of`, or at the newest commit where that is earlier.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn read(&self, series: &SeriesRow, span: Span, as_of: Timestamp) -> Result<Reading> {
        self.read_only(series, span, as_of, Needed::ALL).await
    }

    /// The same where only some numbers of each bar are needed.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn read_only(&self, series: &SeriesRow, span: Span, as_of: Timestamp, needed: Needed) -> Result<Reading> {
        let mut one = self.read_each(vec![(series, span)], as_of, needed).await?;
        one.pop().ok_or(StoreError::Closed)
    }

    /// The same of several series, each with its span, in one step: of thousands each step would take longer than what it reads.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn read_each(&self, wanted: Vec<(&SeriesRow, Span)>, as_of: Timestamp, needed: Needed) -> Result<Vec<Reading>> {
        let as_of = as_of.min(self.newest());
        // A wide file reads hundreds of daily series, each of them one block, and a month of minutes is one too: all that is asked for comes
        // at once, that block too.
        let in_one = |(series, span): &(&SeriesRow, Span)| {
            !series.key.interval.is_intraday() || blocks::span_of(series.key.interval, span.start).end >= span.end
        };
        let asked: Vec<(i64, i64, i64, bool)> = wanted.iter().map(|w| (w.0.id, w.1.start.0, w.1.end.0, in_one(w))).collect();
        let asked = serde_json::to_string(&asked).unwrap_or_default();
        // A row a series, and the lists in it as JSON: the database hands over each value of each row at a price.
        let found = sqlx::query!(
            r#"WITH wanted (place, series, first, until, in_one) AS MATERIALIZED
                 (SELECT key + 0, value ->> 0, value ->> 1, value ->> 2, value ->> 3 FROM json_each(?1))
               SELECT w.place AS "place!: i64",
                 (SELECT min(began_at) FROM rebasing
                  WHERE series_id = w.series AND coalesce(known_at, began_at) <= ?2 AND (ended_at IS NULL OR ended_at > ?2)) AS "began_at?: i64",
                 (SELECT json_group_array(json_array(slot, recorded_at, fetch_id, withdrawn, numbers))
                  FROM tail WHERE series_id = w.series AND slot >= w.first AND slot < w.until) AS "tail!: String",
                 (SELECT json_group_array(json_array(id, span_start, span_end, price_scale, volume_scale, price_whole, volume_whole,
                    versions, bars, last_recorded))
                  FROM block WHERE series_id = w.series AND last_slot >= w.first AND first_slot < w.until) AS "blocks!: String",
                 (SELECT body FROM block
                  WHERE w.in_one AND series_id = w.series AND last_slot >= w.first AND first_slot < w.until) AS "body?: Vec<u8>"
               FROM wanted AS w"#,
            asked,
            as_of.0
        );
        let mut found = found.fetch_all(&self.readers).await?;
        found.sort_unstable_by_key(|row| row.place);
        let mut out = Vec::with_capacity(wanted.len());
        for ((series, span), found) in wanted.into_iter().zip(found) {
            // While its past is collected again on another basis, a series is read as it was before.
            let as_of = found.began_at.map_or(as_of, |began| Timestamp(began - 1));
            let room = |whole: Option<i64>, scale: i64| Digits { whole: whole.unwrap_or(18 - scale) as u8, scale: scale as u8 };
            let tail = tail_of(&found.tail)?;
            let (mut price, mut volume) = blocks::digits(&tail);
            let listed: Vec<Listed> = from_json("a list of blocks", &found.blocks)?;
            for b in &listed {
                (price, volume) = (price.and(room(b.price_whole, b.price_scale)), volume.and(room(b.volume_whole, b.volume_scale)));
            }
            let at_hand = listed.first().zip(found.body).map(|(first, body)| Box::new(first.with(body)));
            let mut blocks: Vec<Span> = listed.iter().map(|b| Slot(b.span_start)..Slot(b.span_end)).collect();
            blocks.sort_unstable_by_key(|span| span.start);
            let (store, series, interval) = (self.clone(), series.id, series.key.interval);
            out.push(Reading { store, series, blocks: blocks.into(), tail, interval, span, as_of, needed, at_hand, price, volume });
        }
        Ok(out)
    }

    /// How many blocks a reading of a series would open, and their bytes.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn to_read(&self, series: &SeriesRow, span: &Span) -> Result<(u64, u64)> {
        let found = sqlx::query!(
            "SELECT count(*) AS \"blocks!: i64\", coalesce(sum(length(body)), 0) AS \"bytes!: i64\" FROM block
             WHERE series_id = ? AND last_slot >= ? AND first_slot < ?",
            series.id,
            span.start.0,
            span.end.0
        );
        let found = found.fetch_one(&self.readers).await?;
        Ok((found.blocks as u64, found.bytes as u64))
    }

    /// All the bars of [`Store::read`] at once.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn bars(&self, series: &SeriesRow, span: Span, as_of: Timestamp) -> Result<Bars> {
        self.bars_only(series, span, as_of, Needed::ALL).await
    }

    /// The same where only some numbers of each bar are needed.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn bars_only(&self, series: &SeriesRow, span: Span, as_of: Timestamp, needed: Needed) -> Result<Bars> {
        self.read_only(series, span, as_of, needed).await?.all().await
    }

    /// Every version of the bars in a span that was known at `as_of`, by slot and then by when each was learned.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn versions(&self, series: &SeriesRow, span: Span, as_of: Timestamp) -> Result<Versions> {
        let pinned = as_of.min(self.newest());
        let mut snapshot = self.readers.begin().await?;
        let as_of = on_one_basis(&mut snapshot, series.id, pinned).await?;
        let mut out = tail(&mut snapshot, series.id, &span).await?;
        let blocks = blocks_over(&mut snapshot, series.id, &span).await?;
        snapshot.commit().await?;
        for block in blocks {
            out.absorb(block.open()?);
        }
        out.rows.retain(|v| span.contains(&v.bar.slot) && v.recorded_at <= as_of);
        Ok(out)
    }

    /// The slots each of `series` had a bar in at `as_of`; a series without any is absent.
    /// Only blocks that have learned something later are opened.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn held(&self, series: &[SeriesRow], as_of: Timestamp) -> Result<HashMap<i64, Spans>> {
        let as_of = as_of.min(self.newest());
        let intervals: HashMap<i64, Interval> = series.iter().map(|s| (s.id, s.key.interval)).collect();
        let ids = serde_json::to_string(&series.iter().map(|s| s.id).collect::<Vec<_>>()).unwrap_or_default();
        let mut ranges: HashMap<i64, Vec<Span>> = HashMap::new();
        let mut snapshot = self.readers.begin().await?;
        let rebasing = sqlx::query!(
            "SELECT series_id AS \"series_id!: i64\", min(began_at) AS \"began_at!: i64\" FROM rebasing
             WHERE coalesce(known_at, began_at) <= ?1 AND (ended_at IS NULL OR ended_at > ?1) GROUP BY series_id",
            as_of.0
        );
        let rebasing: HashMap<i64, Timestamp> =
            rebasing.fetch_all(&mut *snapshot).await?.into_iter().map(|r| (r.series_id, Timestamp(r.began_at - 1))).collect();
        let known_at = |series: i64| rebasing.get(&series).copied().unwrap_or(as_of);
        let blocks = sqlx::query!(
            r#"SELECT b.id AS "id!: i64", b.series_id AS "series_id!: i64", b.last_recorded AS "last_recorded: i64", b.held AS "held!: Vec<u8>"
               FROM json_each(?) AS wanted CROSS JOIN block AS b ON b.series_id = wanted.value ORDER BY b.series_id, b.span_start"#,
            ids
        )
        .fetch_all(&mut *snapshot)
        .await?;
        let mut later = vec![];
        for block in blocks {
            let Some(&interval) = intervals.get(&block.series_id) else { continue };
            if block.last_recorded.is_none_or(|last| last > known_at(block.series_id).0) {
                later.push((block.series_id, interval, block.id));
                continue;
            }
            let held = spans::decode(&block.held, interval).ok_or_else(|| StoreError::Damaged {
                block: block.id,
                source: ParquetError::General("its list of slots is not one".to_owned()),
            })?;
            ranges.entry(block.series_id).or_default().extend(held);
        }
        let rows = sqlx::query!(
            r#"SELECT t.series_id AS "series_id!: i64", t.slot AS "slot!: i64", t.withdrawn AS "withdrawn!: i64", t.recorded_at AS "recorded_at!: i64"
               FROM json_each(?) AS wanted CROSS JOIN tail AS t ON t.series_id = wanted.value
               WHERE t.recorded_at <= ? ORDER BY t.series_id, t.slot, t.recorded_at, t.fetch_id"#,
            ids,
            as_of.0
        )
        .fetch_all(&mut *snapshot)
        .await?;
        snapshot.commit().await?;
        let known_at = &known_at;
        let open = |(series, interval, id): (i64, Interval, i64)| async move {
            let block = sqlx::query_as!(
                StoredBlock,
                "SELECT id, span_start, versions, bars, price_scale, volume_scale, last_recorded, body FROM block WHERE id = ?",
                id
            );
            let (block, at) = (block.fetch_one(&self.readers).await?, known_at(series));
            let slots = tokio::task::spawn_blocking(move || block.slots_at(at)).await.map_err(|_| StoreError::Closed)??;
            let mut held = Spans::new();
            held.extend(slots.into_iter().map(|slot| interval.span_of(slot)));
            Ok::<_, StoreError>((series, held))
        };
        let opened: Vec<(i64, Spans)> = stream::iter(later).map(open).buffered(OPENED_AT_ONCE).try_collect().await?;
        for (series, held) in opened {
            ranges.entry(series).or_default().extend(held);
        }
        let mut out: HashMap<i64, Spans> = ranges.into_iter().map(|(id, spans)| (id, spans.into_iter().collect())).collect();
        for row in rows.into_iter().filter(|r| r.recorded_at <= known_at(r.series_id).0) {
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
        for (id, interval) in self.series().await?.iter().map(|row| (row.id, row.key.interval)) {
            self.writer.run(move |c, _| Box::pin(async move { crate::news::seal(c, id, interval).await })).await?;
        }
        Ok(())
    }
}

/// Opens blocks on all cores, and gives their bars in `span` as of an instant in the order of the blocks. The first share has room for
/// all of them: a bar is copied once at most, since fresh memory costs as much time as decoding does.
async fn opened(blocks: Vec<StoredBlock>, as_of: Timestamp, needed: Needed, span: &Span) -> Result<Bars> {
    let hands = std::thread::available_parallelism().map_or(1, usize::from);
    let share = blocks.len().div_ceil(hands);
    let counted = |blocks: &[StoredBlock]| blocks.iter().map(|b| b.bars as usize).sum::<usize>();
    let all = counted(&blocks);
    let mut rest = blocks.into_iter().peekable();
    let mut tasks = vec![];
    while rest.peek().is_some() {
        let mine: Vec<StoredBlock> = rest.by_ref().take(share).collect();
        let room = if tasks.is_empty() { all } else { counted(&mine) };
        let span = span.clone();
        tasks.push(tokio::task::spawn_blocking(move || {
            let mut rows = Vec::with_capacity(room);
            mine.into_iter().try_for_each(|block| block.open_at(as_of, needed, &span, &mut rows)).map(|()| rows)
        }));
    }
    let mut out = Bars::default();
    for task in tasks {
        let mut rows = task.await.map_err(|_| StoreError::Closed)??;
        match out.rows.is_empty() {
            true => out.rows = rows,
            false => out.rows.append(&mut rows),
        }
    }
    Ok(out)
}

impl Reading {
    /// All its bars at once. Blocks are opened side by side, as many as there are cores.
    ///
    /// # Errors
    /// When a block cannot be read.
    pub async fn all(mut self) -> Result<Bars> {
        let blocks = match self.blocks.len() {
            0 | 1 => vec![],
            _ => {
                let mut connection = self.store.readers.acquire().await?;
                blocks_over(&mut connection, self.series, &self.span).await?
            }
        };
        let tail_spans: HashSet<Slot> = self.tail.rows.iter().map(|v| blocks::span_of(self.interval, v.bar.slot).start).collect();
        let apart = |b: &StoredBlock| !tail_spans.contains(&Slot(b.span_start));
        let mut out = Bars::default();
        // A block that came into being meanwhile holds what the tail held.
        let side_by_side = blocks.len() > 1 && blocks.len() == self.blocks.len() && blocks.iter().all(apart);
        if side_by_side {
            out = opened(blocks, self.as_of, self.needed, &self.span).await?;
            self.blocks.clear();
        }
        let before = out.rows.len();
        while let Some(bars) = self.next().await? {
            self.append(bars, &mut out);
        }
        // Spans with a tail and no block stand among the others.
        if side_by_side && before < out.rows.len() {
            out.rows.sort_by_key(|b| b.slot);
        }
        Ok(out)
    }

    /// Adds a batch to `out`, as far as it lies in the span asked for.
    fn append(&self, mut bars: Bars, out: &mut Bars) {
        if out.rows.is_empty() {
            self.cut(&mut bars);
            *out = bars;
            return;
        }
        let from = bars.rows.partition_point(|b| b.slot < self.span.start);
        let to = bars.rows.partition_point(|b| b.slot < self.span.end);
        out.rows.extend_from_slice(&bars.rows[from..to]);
    }

    /// Takes out what does not lie in the span asked for.
    fn cut(&self, bars: &mut Bars) {
        bars.rows.truncate(bars.rows.partition_point(|b| b.slot < self.span.end));
        bars.rows.drain(..bars.rows.partition_point(|b| b.slot < self.span.start));
    }

    /// The stretch in which there may be bars; `None` when there are none.
    #[must_use]
    pub fn extent(&self) -> Option<Span> {
        let tail = self.tail.rows.first().zip(self.tail.rows.last()).map(|(a, b)| a.bar.slot..self.interval.span_of(b.bar.slot).end);
        let blocks = self.blocks.front().zip(self.blocks.back()).map(|(a, b)| a.start..b.end);
        tail.into_iter().chain(blocks).reduce(|a, b| a.start.min(b.start)..a.end.max(b.end))
    }

    /// How many blocks are to be opened.
    #[must_use]
    pub fn blocks(&self) -> usize {
        self.blocks.len()
    }

    /// The next bars in time order; `None` when there are no more.
    ///
    /// # Errors
    /// When a block cannot be read.
    pub async fn next(&mut self) -> Result<Option<Bars>> {
        loop {
            let tail = self.tail.rows.first().map(|v| blocks::span_of(self.interval, v.bar.slot));
            let Some(span) = [self.blocks.front().cloned(), tail].into_iter().flatten().min_by_key(|s| s.start) else { return Ok(None) };
            let from_tail = self.take_tail(&span);
            let mut bars = match self.blocks.pop_front_if(|s| s.start == span.start) {
                None => from_tail.as_of(self.as_of),
                Some(_) => {
                    let stored = self.block(span.start).await?;
                    if from_tail.rows.is_empty() {
                        let mut bars = Bars::default();
                        stored.open_at(self.as_of, self.needed, &self.span, &mut bars.rows)?;
                        bars
                    } else {
                        let mut versions = stored.open()?;
                        versions.absorb(from_tail);
                        versions.as_of(self.as_of)
                    }
                }
            };
            if bars.rows.first().zip(bars.rows.last()).is_some_and(|(a, b)| a.slot < self.span.start || b.slot >= self.span.end) {
                bars.rows.retain(|b| self.span.contains(&b.slot));
            }
            if !bars.rows.is_empty() {
                return Ok(Some(bars));
            }
        }
    }

    async fn block(&mut self, start: Slot) -> Result<StoredBlock> {
        if let Some(stored) = self.at_hand.take_if(|b| b.span_start == start.0) {
            return Ok(*stored);
        }
        let block = sqlx::query_as!(
            StoredBlock,
            "SELECT id, span_start, versions, bars, price_scale, volume_scale, last_recorded, body FROM block WHERE series_id = ? AND span_start = ?",
            self.series,
            start.0
        );
        Ok(block.fetch_one(&self.store.readers).await?)
    }

    fn take_tail(&mut self, span: &Span) -> Versions {
        let end = self.tail.rows.partition_point(|v| v.bar.slot < span.end);
        Versions { rows: self.tail.rows.drain(..end).collect() }
    }
}
