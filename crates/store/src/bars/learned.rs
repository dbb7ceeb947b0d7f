//! When something was last learned of some stretches of a series: what a file follows from, without reading its bars.

use crate::{
    Result, Store, blocks,
    news::{blocks_over, tail},
    reading::on_one_basis,
    series::SeriesRow,
};
use mizuno_core::{Overlap, Slot, Span, Timestamp};
use std::collections::BTreeMap;

impl Store {
    /// For each of some spans, the stamp of the newest version in it that was known at `as_of`. Versions are never changed, so two instants
    /// that give the same stamp have the same bars. Of intraday series whole blocks are looked at: a stamp may be that of a bar beside
    /// the span, in the same block. A block is opened only where it has learned something later, or is the one of a daily series.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn learned(&self, series: &SeriesRow, spans: &[Span], as_of: Timestamp) -> Result<Vec<Option<Timestamp>>> {
        let Some(whole) = spans.iter().cloned().reduce(|a, b| a.hull(&b)) else { return Ok(vec![]) };
        let interval = series.key.interval;
        let mut snapshot = self.readers.begin().await?;
        let as_of = on_one_basis(&mut snapshot, series.id, as_of.min(self.newest())).await?;
        let mut stamps: BTreeMap<Slot, i64> = BTreeMap::new();
        // Bars of a day stand for themselves, others for their block.
        let place = |slot: Slot| if interval.is_intraday() { blocks::span_of(interval, slot).start } else { slot };
        let mut put = |slot: Slot, recorded_at: i64| {
            if recorded_at <= as_of.0 {
                let stamp = stamps.entry(place(slot)).or_insert(recorded_at);
                *stamp = (*stamp).max(recorded_at);
            }
        };
        let around = match interval.is_intraday() {
            true => blocks::span_of(interval, whole.start).start..blocks::span_of(interval, Slot(whole.end.0 - 1)).end,
            false => whole,
        };
        tail(&mut snapshot, series.id, &around).await?.rows.iter().for_each(|v| put(v.bar.slot, v.recorded_at.0));
        let mut to_open = vec![];
        if interval.is_intraday() {
            let rows = sqlx::query!(
                "SELECT span_start, first_slot, last_slot, last_recorded FROM block
                 WHERE series_id = ? AND last_slot >= ? AND first_slot < ?",
                series.id,
                around.start.0,
                around.end.0
            );
            for row in rows.fetch_all(&mut *snapshot).await? {
                match row.last_recorded {
                    Some(last) if last <= as_of.0 => put(Slot(row.span_start), last),
                    _ => to_open.push(Slot(row.first_slot)..Slot(row.last_slot + 1)),
                }
            }
        } else {
            to_open.push(around);
        }
        for span in to_open {
            for block in blocks_over(&mut snapshot, series.id, &span).await? {
                block.open()?.rows.iter().for_each(|v| put(v.bar.slot, v.recorded_at.0));
            }
        }
        snapshot.commit().await?;
        let newest = |span: &Span| {
            let from = if span.start < span.end { place(span.start) } else { span.start };
            stamps.range(from..span.end.max(from)).map(|(_, stamp)| *stamp).max().map(Timestamp)
        };
        Ok(spans.iter().map(newest).collect())
    }
}
