//! What changed when, since the database was opened: of each series, of the list of them, and of what is read whole beside them.
//!
//! There is one writer, so what it has changed is known without asking the database. A job notes it with the stamp of
//! its transaction, before the commit. Whoever keeps what he read as of an
//! instant may use it until the series is noted with a later stamp. A transaction that was undone
//! makes somebody read again for nothing.

use crate::{
    Result, Store,
    series::{SeriesList, SeriesRow},
};
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
    /// That of a list of a source, or of an entered action.
    told: Timestamp,
    /// That of the quarantine's rows, or of what a person accepted.
    judged: Timestamp,
    read: Option<Read>,
}

/// The list as of a commit.
#[derive(Clone)]
struct Read {
    known: Timestamp,
    list: Arc<SeriesList>,
}

impl Roster {
    pub(crate) fn new(opened: Timestamp) -> Roster {
        Roster(Mutex::new(State { opened, changed: HashMap::new(), listed: None, told: opened, judged: opened, read: None }))
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

    /// A transaction with this stamp changes a list of a source, or the entered actions.
    pub(crate) fn note_told(&self, stamp: Timestamp) {
        let mut state = self.lock();
        state.told = state.told.max(stamp);
    }

    /// A transaction with this stamp puts a row in quarantine, or changes what a person accepted.
    pub(crate) fn note_judged(&self, stamp: Timestamp) {
        let mut state = self.lock();
        state.judged = state.judged.max(stamp);
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

    /// Since when no list and no entered action has changed: as of any instant from here on they say the same.
    #[must_use]
    pub fn told_since(&self) -> Timestamp {
        self.roster.lock().told
    }

    /// Since when no row has come into quarantine and nobody has accepted anything, or taken that back.
    #[must_use]
    pub fn judged_since(&self) -> Timestamp {
        self.roster.lock().judged
    }

    /// All series as of the newest commit. They are read once, and later only the revisions of those that have changed.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn series(&self) -> Result<Arc<SeriesList>> {
        let known = self.newest();
        let (before, changed) = {
            let state = self.roster.lock();
            // What a transaction under way has noted does not count before its commit.
            if let Some(read) = state.read.as_ref().filter(|r| r.known >= known) {
                return Ok(read.list.clone());
            }
            let before = state.read.clone().filter(|r| state.listed.is_none_or(|at| at <= r.known));
            let since = before.as_ref().map_or(known, |r| r.known);
            let changed: Vec<i64> = state.changed.iter().filter(|(_, at)| **at > since).map(|(id, _)| *id).collect();
            (before, changed)
        };
        let list = match before {
            Some(Read { list, .. }) if changed.is_empty() => list,
            Some(Read { list, .. }) => Arc::new(list.revised(&self.revisions(&changed).await?)),
            None => Arc::new(SeriesList::of(self.select_series().await?)),
        };
        let mut state = self.roster.lock();
        if state.read.as_ref().is_none_or(|r| r.known <= known) {
            state.read = Some(Read { known, list: list.clone() });
        }
        Ok(list)
    }

    /// The series of a name.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn find_series(&self, key: &SeriesKey) -> Result<Option<SeriesRow>> {
        Ok(self.series().await?.find(key).cloned())
    }

    /// The series of an instrument, by interval, side and source.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn series_of(&self, symbol: &str) -> Result<Vec<SeriesRow>> {
        Ok(self.series().await?.of_symbol(symbol).cloned().collect())
    }

    /// The series of an instrument, interval and side, one a source, by source.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn sources_of(&self, symbol: &str, interval: Interval, side: Side) -> Result<Vec<SeriesRow>> {
        let list = self.series().await?;
        Ok(list.of_symbol(symbol).filter(|r| (r.key.interval, r.key.side) == (interval, side)).cloned().collect())
    }

    async fn revisions(&self, series: &[i64]) -> Result<HashMap<i64, i64>> {
        let ids = serde_json::to_string(series).unwrap_or_default();
        let rows = sqlx::query!("SELECT id, revision FROM series WHERE id IN (SELECT value FROM json_each(?))", ids);
        Ok(rows.fetch_all(&self.readers).await?.into_iter().map(|r| (r.id, r.revision)).collect())
    }
}
