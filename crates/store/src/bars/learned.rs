//! When something was last learned of some stretches of a series: what a file follows from, without reading its bars.

use crate::{Result, Store, blocks, news::from_json, series::SeriesRow};
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
        let (interval, pinned) = (series.key.interval, as_of.min(self.newest()));
        let mut stamps: BTreeMap<Slot, i64> = BTreeMap::new();
        // Bars of a day stand for themselves, others for their block.
        let place = |slot: Slot| if interval.is_intraday() { blocks::span_of(interval, slot).start } else { slot };
        let mut put = |slot: Slot, recorded_at: i64| {
            let stamp = stamps.entry(place(slot)).or_insert(recorded_at);
            *stamp = (*stamp).max(recorded_at);
        };
        let around = match interval.is_intraday() {
            true => blocks::span_of(interval, whole.start).start..blocks::span_of(interval, Slot(whole.end.0 - 1)).end,
            false => whole,
        };
        let mut to_open = vec![];
        if interval.is_intraday() {
            let found = sqlx::query!(
                r#"SELECT
                     (SELECT min(began_at) FROM rebasing
                      WHERE series_id = ?1 AND coalesce(known_at, began_at) <= ?4 AND (ended_at IS NULL OR ended_at > ?4)) AS "began_at?: i64",
                     (SELECT json_group_array(json_array(slot, recorded_at))
                      FROM tail WHERE series_id = ?1 AND slot >= ?2 AND slot < ?3) AS "tail!: String",
                     (SELECT json_group_array(json_array(span_start, first_slot, last_slot, last_recorded))
                      FROM block WHERE series_id = ?1 AND last_slot >= ?2 AND first_slot < ?3) AS "blocks!: String""#,
                series.id,
                around.start.0,
                around.end.0,
                pinned.0
            );
            let found = found.fetch_one(&self.readers).await?;
            let as_of = found.began_at.map_or(pinned.0, |began| began - 1);
            let tail: Vec<(i64, i64)> = from_json("a tail", &found.tail)?;
            tail.into_iter().filter(|(_, at)| *at <= as_of).for_each(|(slot, at)| put(Slot(slot), at));
            let blocks: Vec<(i64, i64, i64, Option<i64>)> = from_json("a list of blocks", &found.blocks)?;
            for (span_start, first, last, last_recorded) in blocks {
                match last_recorded {
                    Some(at) if at <= as_of => put(Slot(span_start), at),
                    _ => to_open.push(Slot(first)..Slot(last + 1)),
                }
            }
        } else {
            to_open.push(around);
        }
        for span in to_open {
            self.versions(series, span, pinned).await?.rows.iter().for_each(|v| put(v.bar.slot, v.recorded_at.0));
        }
        let newest = |span: &Span| {
            let from = if span.start < span.end { place(span.start) } else { span.start };
            stamps.range(from..span.end.max(from)).map(|(_, stamp)| *stamp).max().map(Timestamp)
        };
        Ok(spans.iter().map(newest).collect())
    }
}
