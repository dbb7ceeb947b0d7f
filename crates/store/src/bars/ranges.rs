//! The lowest and highest numbers of each block, and which blocks may have a bar that somebody looks for.

use crate::{Result, Store, blocks, series::SeriesRow};
use mizuno_core::{Decimal, Slot, Span, Spans, Versions, bar::Extremes};
use sqlx::SqliteConnection;

/// What a bar must have to be of interest; all bars are where nothing is said.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Sieve {
    /// A price of at least this.
    pub price_from: Option<Decimal>,
    /// A price of at most this.
    pub price_to: Option<Decimal>,
    /// A volume of at least this.
    pub volume_from: Option<Decimal>,
    /// A volume of at most this.
    pub volume_to: Option<Decimal>,
}

impl Sieve {
    /// Whether a bar between these numbers may pass.
    fn passes(from: Option<Decimal>, to: Option<Decimal>, low: Decimal, high: Decimal) -> bool {
        from.is_none_or(|from| from <= high) && to.is_none_or(|to| low <= to)
    }
}

/// The lowest and highest of some numbers, with one scale; `None` of none.
fn extremes(numbers: impl Iterator<Item = Decimal>) -> Option<(u8, i64, i64)> {
    let mut all = Extremes::default();
    numbers.for_each(|number| all.take(number));
    let (low, high) = all.ends()?;
    let scale = low.scale.max(high.scale);
    Some((scale, low.at_scale(scale)?.mantissa, high.at_scale(scale)?.mantissa))
}

/// Keeps the lowest and highest numbers of a block, every version counted; where they do not fit into 18 digits, nothing is known of it.
pub(crate) async fn put(connection: &mut SqliteConnection, series: i64, span: &Span, versions: &Versions) -> Result<()> {
    let bars = || versions.rows.iter().filter(|v| !v.withdrawn).map(|v| v.bar);
    let prices = extremes(bars().flat_map(|b| b.prices()));
    let all_have = bars().all(|b| b.volume().is_some());
    let volumes = extremes(bars().filter_map(|b| b.volume())).filter(|_| all_have);
    let Some((price_scale, price_low, price_high)) = prices else {
        sqlx::query!("DELETE FROM block_range WHERE series_id = ? AND span_start = ?", series, span.start.0).execute(connection).await?;
        return Ok(());
    };
    let (volume_scale, volume_low, volume_high) = (volumes.map(|v| v.0), volumes.map(|v| v.1), volumes.map(|v| v.2));
    sqlx::query!(
        "INSERT OR REPLACE INTO block_range (series_id, span_start, price_scale, price_low, price_high, volume_scale, volume_low, volume_high)
         VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
        series,
        span.start.0,
        price_scale,
        price_low,
        price_high,
        volume_scale,
        volume_low,
        volume_high
    )
    .execute(connection)
    .await?;
    Ok(())
}

impl Store {
    /// The stretches of `span` in which a series may have a bar that passes: those of blocks whose numbers may, or are not known, and those of
    /// bars that stand in no block yet.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn may_pass(&self, series: &SeriesRow, span: &Span, sieve: &Sieve) -> Result<Spans> {
        let mut snapshot = self.readers.begin().await?;
        let rows = sqlx::query!(
            r#"SELECT b.span_start AS "start!: i64", b.span_end AS "end!: i64", r.price_scale AS "price_scale?: i64",
                 r.price_low AS "price_low?: i64", r.price_high AS "price_high?: i64", r.volume_scale AS "volume_scale?: i64",
                 r.volume_low AS "volume_low?: i64", r.volume_high AS "volume_high?: i64"
               FROM block AS b LEFT JOIN block_range AS r ON r.series_id = b.series_id AND r.span_start = b.span_start
               WHERE b.series_id = ?1 AND b.last_slot >= ?2 AND b.first_slot < ?3"#,
            series.id,
            span.start.0,
            span.end.0
        )
        .fetch_all(&mut *snapshot)
        .await?;
        let slots = sqlx::query_scalar!(
            "SELECT slot AS \"slot!: i64\" FROM tail WHERE series_id = ? AND slot >= ? AND slot < ?",
            series.id,
            span.start.0,
            span.end.0
        );
        let slots = slots.fetch_all(&mut *snapshot).await?;
        snapshot.commit().await?;
        let number = |mantissa: Option<i64>, scale: Option<i64>| Some(Decimal { mantissa: mantissa?, scale: scale? as u8 });
        let mut out = Spans::new();
        for r in rows {
            let price = number(r.price_low, r.price_scale).zip(number(r.price_high, r.price_scale));
            let volume = number(r.volume_low, r.volume_scale).zip(number(r.volume_high, r.volume_scale));
            let by_price = price.is_none_or(|(low, high)| Sieve::passes(sieve.price_from, sieve.price_to, low, high));
            let by_volume = volume.is_none_or(|(low, high)| Sieve::passes(sieve.volume_from, sieve.volume_to, low, high));
            if by_price && by_volume {
                out.insert(Slot(r.start)..Slot(r.end));
            }
        }
        slots.into_iter().for_each(|slot| out.insert(blocks::span_of(series.key.interval, Slot(slot))));
        Ok(mizuno_core::spans::within(&out, span))
    }
}
