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
pub(crate) struct OfSeries<F, V>(Mutex<HashMap<i64, Last<F, V>>>);

struct Last<F, V> {
    found: Option<(F, Arc<V>)>,
    /// Held by whoever works it out: the others who want the same wait for that.
    turn: Arc<tokio::sync::Mutex<()>>,
}

impl<F, V> Default for OfSeries<F, V> {
    fn default() -> Self {
        OfSeries(Mutex::default())
    }
}

impl<F: PartialEq, V> OfSeries<F, V> {
    /// What follows from `from`, where that was the last that was worked out of a series.
    pub(crate) fn recall(&self, series: i64, from: &F) -> Option<Arc<V>> {
        self.lock().get(&series)?.found.as_ref().filter(|(known, _)| known == from).map(|(_, value)| value.clone())
    }

    /// The same, worked out where it is not at hand: by one, however many want it at once. What was kept of the series before goes.
    pub(crate) async fn recall_or<E>(&self, series: i64, from: F, work: impl Future<Output = Result<V, E>>) -> Result<Arc<V>, E> {
        if let Some(found) = self.recall(series, &from) {
            return Ok(found);
        }
        let new = || Last { found: None, turn: Arc::default() };
        let turn = self.lock().entry(series).or_insert_with(new).turn.clone();
        let _turn = turn.lock().await;
        if let Some(found) = self.recall(series, &from) {
            return Ok(found);
        }
        let value = Arc::new(work.await?);
        self.lock().entry(series).or_insert_with(new).found = Some((from, value.clone()));
        Ok(value)
    }

    /// What was last worked out of a series, whatever it followed from.
    pub(crate) fn last(&self, series: i64) -> Option<Arc<V>> {
        self.lock().get(&series)?.found.as_ref().map(|(_, value)| value.clone())
    }

    fn lock(&self) -> MutexGuard<'_, HashMap<i64, Last<F, V>>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::{AtomicU32, Ordering};

    #[tokio::test]
    async fn what_many_want_at_once_is_worked_out_once() {
        let (kept, times) = (OfSeries::<u32, u32>::default(), AtomicU32::new(0));
        let want = async |series: i64, from: u32, fails: bool| {
            let work = async {
                tokio::task::yield_now().await;
                times.fetch_add(1, Ordering::SeqCst);
                if fails { Err("as the test wants it") } else { Ok(from * 10) }
            };
            kept.recall_or(series, from, work).await.map(|found| *found)
        };
        let all = futures_util::future::join_all((0..64).map(|_| want(1, 7, false))).await;
        assert!(all.iter().all(|found| *found == Ok(70)));
        assert_eq!(times.load(Ordering::SeqCst), 1);
        // Other series, and another state of the same one, are worked out by themselves.
        assert_eq!((want(2, 7, false).await, want(1, 8, false).await), (Ok(70), Ok(80)));
        assert_eq!((times.load(Ordering::SeqCst), kept.recall(1, &7), kept.last(1).as_deref()), (3, None, Some(&80)));
        // Who fails keeps nobody from trying.
        assert_eq!((want(3, 1, true).await, want(3, 1, false).await), (Err("as the test wants it"), Ok(10)));
    }
}
