//! What changed when, since the database was opened: of each series, and of the list of them.
//!
//! There is one writer, so what it has changed is known without asking the database. A job notes it with the stamp of
//! its transaction, before the commit. Whoever keeps what he read as of an
//! instant may use it until the series is noted with a later stamp. A transaction that was undone
//! makes somebody read again for nothing.

use crate::{Result, Store, series::SeriesRow};
use mizuno_core::{Interval, SeriesKey, Side, Timestamp};
use std::{
    collections::HashMap,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
};

/// The newest changes, and the list of series as it was last read.
pub(crate) struct Roster(Mutex<State>);

struct State {
    /// The newest commit when the database was opened; what changed before is not known.
    opened: Timestamp,
    /// The stamp of the newest change of each series: its bars, its fetches, its excuses, its quarantine.
    changed: HashMap<i64, Timestamp>,
    /// The stamp of the newest change of series or instruments themselves.
    listed: Option<Timestamp>,
    read: Option<Read>,
}

#[derive(Clone)]
struct Read {
    known: Timestamp,
    rows: Arc<Vec<SeriesRow>>,
    places: Arc<HashMap<SeriesKey, usize>>,
}

impl Roster {
    pub(crate) fn new(opened: Timestamp) -> Roster {
        Roster(Mutex::new(State { opened, changed: HashMap::new(), listed: None, read: None }))
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A transaction with this stamp changes a series.
    pub(crate) fn note(&self, series: i64, stamp: Timestamp) {
        let mut state = self.lock();
        let newest = state.changed.entry(series).or_insert(stamp);
        *newest = stamp.max(*newest);
    }

    /// A transaction with this stamp changes which series or instruments there are.
    pub(crate) fn note_list(&self, stamp: Timestamp) {
        let mut state = self.lock();
        state.listed = state.listed.max(Some(stamp));
    }
}

impl Store {
    /// When each series last changed: its bars, fetches, excuses or quarantine. What was read as of that instant, or a later one, is still so.
    /// For one that has not changed since the database was opened, that is the newest commit there was then.
    #[must_use]
    pub fn changed(&self, series: impl Iterator<Item = i64>) -> Vec<Timestamp> {
        let state = self.roster.lock();
        series.map(|id| state.changed.get(&id).copied().unwrap_or(state.opened)).collect()
    }

    /// All series, by symbol, interval, side and source.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn series(&self) -> Result<Vec<SeriesRow>> {
        Ok(self.read_roster().await?.rows.to_vec())
    }

    /// The series of a name.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn find_series(&self, key: &SeriesKey) -> Result<Option<SeriesRow>> {
        let read = self.read_roster().await?;
        Ok(read.places.get(key).map(|place| read.rows[*place].clone()))
    }

    /// The series of an instrument, by interval, side and source.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn series_of(&self, symbol: &str) -> Result<Vec<SeriesRow>> {
        let read = self.read_roster().await?;
        let from = read.rows.partition_point(|r| *r.key.symbol < *symbol);
        Ok(read.rows[from..].iter().take_while(|r| r.key.symbol == symbol).cloned().collect())
    }

    /// The series of an instrument, interval and side, one a source, by source.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn sources_of(&self, symbol: &str, interval: Interval, side: Side) -> Result<Vec<SeriesRow>> {
        let mut rows = self.series_of(symbol).await?;
        rows.retain(|r| (r.key.interval, r.key.side) == (interval, side));
        Ok(rows)
    }

    /// The list of series as of the newest commit. It is read once, and later only the revisions of what has changed.
    async fn read_roster(&self) -> Result<Read> {
        let known = self.newest();
        let (before, changed) = {
            let state = self.roster.lock();
            let before = state.read.clone().filter(|r| state.listed.is_none_or(|at| at <= r.known));
            let since = before.as_ref().map_or(known, |r| r.known);
            let changed: Vec<i64> = state.changed.iter().filter(|(_, at)| **at > since).map(|(id, _)| *id).collect();
            (before, changed)
        };
        let read = match before {
            Some(before) if changed.is_empty() => Read { known: known.max(before.known), ..before },
            Some(mut before) => {
                let revisions = self.revisions(&changed).await?;
                for row in Arc::make_mut(&mut before.rows) {
                    row.revision = revisions.get(&row.id).copied().unwrap_or(row.revision);
                }
                Read { known: known.max(before.known), ..before }
            }
            None => {
                let rows = self.select_series().await?;
                let places = rows.iter().enumerate().map(|(place, row)| (row.key.clone(), place)).collect();
                Read { known, rows: Arc::new(rows), places: Arc::new(places) }
            }
        };
        let mut state = self.roster.lock();
        if state.read.as_ref().is_none_or(|r| r.known <= read.known) {
            state.read = Some(read.clone());
        }
        Ok(read)
    }

    async fn revisions(&self, series: &[i64]) -> Result<HashMap<i64, i64>> {
        let ids = serde_json::to_string(series).unwrap_or_default();
        let rows = sqlx::query!("SELECT id, revision FROM series WHERE id IN (SELECT value FROM json_each(?))", ids);
        Ok(rows.fetch_all(&self.readers).await?.into_iter().map(|r| (r.id, r.revision)).collect())
    }
}
