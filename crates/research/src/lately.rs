//! What was worked out lately, by what it follows from.

use std::{
    collections::{HashMap, VecDeque},
    sync::{Arc, Mutex, MutexGuard, PoisonError},
};

/// The newest so many of what was worked out.
pub(crate) struct Lately<K, V> {
    most: usize,
    kept: Mutex<VecDeque<(K, Arc<V>)>>,
}

impl<K: PartialEq, V> Lately<K, V> {
    pub(crate) fn of(most: usize) -> Lately<K, V> {
        Lately { most, kept: Mutex::default() }
    }

    /// What follows from `key`, where it was worked out lately.
    pub(crate) fn recall(&self, key: &K) -> Option<Arc<V>> {
        self.lock().iter().find(|(known, _)| known == key).map(|(_, value)| value.clone())
    }

    /// Keeps what was worked out; the oldest goes.
    pub(crate) fn keep(&self, key: K, value: V) -> Arc<V> {
        let value = Arc::new(value);
        let mut kept = self.lock();
        kept.push_front((key, value.clone()));
        kept.truncate(self.most);
        value
    }

    fn lock(&self) -> MutexGuard<'_, VecDeque<(K, Arc<V>)>> {
        self.kept.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// What was last worked out of each series, with what it follows from.
pub(crate) struct OfSeries<F, V>(Mutex<HashMap<i64, (F, Arc<V>)>>);

impl<F, V> Default for OfSeries<F, V> {
    fn default() -> Self {
        OfSeries(Mutex::default())
    }
}

impl<F: PartialEq, V> OfSeries<F, V> {
    /// What follows from `from`, where that was the last that was worked out of a series.
    pub(crate) fn recall(&self, series: i64, from: &F) -> Option<Arc<V>> {
        self.lock().get(&series).filter(|(known, _)| known == from).map(|(_, value)| value.clone())
    }

    /// Keeps what was worked out of a series; what was kept of it before goes.
    pub(crate) fn keep(&self, series: i64, from: F, value: Arc<V>) {
        self.lock().insert(series, (from, value));
    }

    /// What was last worked out of a series, whatever it followed from.
    pub(crate) fn last(&self, series: i64) -> Option<Arc<V>> {
        self.lock().get(&series).map(|(_, value)| value.clone())
    }

    fn lock(&self) -> MutexGuard<'_, HashMap<i64, (F, Arc<V>)>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}
