//! What was worked out lately, by what it follows from.

use std::{
    collections::VecDeque,
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
