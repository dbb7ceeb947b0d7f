//! The series there are.

use crate::{Result, Store, StoreError};
use mizuno_core::{SeriesKey, Timestamp};
use std::{collections::HashMap, sync::Arc};

/// A series as the store knows it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SeriesRow {
    /// Its number in the database.
    pub id: i64,
    /// Its name.
    pub key: SeriesKey,
    /// How often its bars have changed; the base of validators.
    pub revision: i64,
    /// When it came to be.
    pub begun_at: Timestamp,
}

/// The series there are, by symbol, interval, side and source.
pub struct SeriesList {
    rows: Vec<Arc<SeriesRow>>,
    /// Where each stands.
    by_key: Arc<HashMap<SeriesKey, usize>>,
    by_id: Arc<HashMap<i64, usize>>,
}

impl SeriesList {
    /// Of rows in their order.
    pub(crate) fn of(rows: Vec<SeriesRow>) -> SeriesList {
        let by_key = rows.iter().enumerate().map(|(place, row)| (row.key.clone(), place)).collect();
        let by_id = rows.iter().enumerate().map(|(place, row)| (row.id, place)).collect();
        SeriesList { rows: rows.into_iter().map(Arc::new).collect(), by_key: Arc::new(by_key), by_id: Arc::new(by_id) }
    }

    /// The same with other revisions of some. Those that have not changed are shared: a collector changes one at a time, of thousands.
    pub(crate) fn revised(&self, revisions: &HashMap<i64, i64>) -> SeriesList {
        let mut rows = self.rows.clone();
        for (id, revision) in revisions {
            if let Some(row) = self.by_id.get(id).and_then(|place| rows.get_mut(*place)) {
                *row = Arc::new(SeriesRow { revision: *revision, ..SeriesRow::clone(row) });
            }
        }
        SeriesList { rows, by_key: self.by_key.clone(), by_id: self.by_id.clone() }
    }

    /// All of them.
    pub fn iter(&self) -> impl Iterator<Item = &SeriesRow> {
        self.rows.iter().map(|row| &**row)
    }

    /// Those of an instrument.
    pub fn of_symbol<'s>(&'s self, symbol: &'s str) -> impl Iterator<Item = &'s SeriesRow> {
        let from = self.rows.partition_point(|row| *row.key.symbol < *symbol);
        self.rows[from..].iter().map(|row| &**row).take_while(move |row| row.key.symbol == symbol)
    }

    /// The one of a name.
    #[must_use]
    pub fn find(&self, key: &SeriesKey) -> Option<&SeriesRow> {
        self.rows.get(*self.by_key.get(key)?).map(|row| &**row)
    }

    /// The one with a number.
    #[must_use]
    pub fn get(&self, id: i64) -> Option<&SeriesRow> {
        self.rows.get(*self.by_id.get(&id)?).map(|row| &**row)
    }
}

/// Those that were there at an instant; all where none was, so that an answer of before the first is an empty one.
#[must_use]
pub fn known_by(mut rows: Vec<SeriesRow>, instant: Timestamp) -> Vec<SeriesRow> {
    if rows.iter().any(|row| row.begun_at <= instant) {
        rows.retain(|row| row.begun_at <= instant);
    }
    rows
}

impl Store {
    /// The series with these names, made where there is none yet. The order is that of `keys`.
    ///
    /// # Errors
    /// When an instrument is unknown, or the database cannot be written.
    pub async fn ensure_series(&self, keys: Vec<SeriesKey>) -> Result<Vec<SeriesRow>> {
        let find = |all: &SeriesList| -> Option<Vec<SeriesRow>> { keys.iter().map(|key| all.find(key).cloned()).collect() };
        if let Some(all) = find(&*self.series().await?) {
            return Ok(all);
        }
        let (wanted, roster) = (keys.clone(), self.roster.clone());
        self.writer
            .run(move |c, stamp| {
                Box::pin(async move {
                    roster.note_list(stamp);
                    for key in wanted {
                        let (interval, side) = (key.interval.to_string(), key.side.to_string());
                        let made = sqlx::query!(
                            "INSERT INTO series (instrument_id, interval, side, source, begun_at)
                             SELECT id, ?, ?, ?, ? FROM instrument WHERE symbol = ? ON CONFLICT DO NOTHING",
                            interval,
                            side,
                            key.source,
                            stamp.0,
                            key.symbol
                        )
                        .execute(&mut *c)
                        .await?;
                        if made.rows_affected() == 0 {
                            let known = sqlx::query_scalar!("SELECT count(*) FROM instrument WHERE symbol = ?", key.symbol);
                            if known.fetch_one(&mut *c).await? == 0 {
                                return Err(StoreError::Unknown { kind: "instrument", id: key.symbol });
                            }
                        }
                    }
                    Ok(())
                })
            })
            .await?;
        find(&*self.series().await?).ok_or(StoreError::Closed)
    }

    pub(crate) async fn select_series(&self) -> Result<Vec<SeriesRow>> {
        let rows = sqlx::query!(
            "SELECT s.id, i.symbol, s.interval, s.side, s.source, s.revision, s.begun_at
             FROM series s JOIN instrument i ON i.id = s.instrument_id ORDER BY i.symbol, s.interval, s.side, s.source"
        )
        .fetch_all(&self.readers)
        .await?;
        rows.into_iter()
            .map(|r| {
                let unreadable = |kind, text: &str| StoreError::Unreadable { kind, text: text.to_owned() };
                Ok(SeriesRow {
                    id: r.id,
                    revision: r.revision,
                    begun_at: Timestamp(r.begun_at),
                    key: SeriesKey {
                        interval: r.interval.parse().map_err(|_| unreadable("interval", &r.interval))?,
                        side: r.side.parse().map_err(|_| unreadable("side", &r.side))?,
                        symbol: r.symbol,
                        source: r.source,
                    },
                })
            })
            .collect()
    }
}
