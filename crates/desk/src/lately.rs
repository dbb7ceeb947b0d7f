//! What was worked out lately, by what it follows from. Whoever wants the same while it is being worked out waits for that.

use std::{
    collections::{HashMap, VecDeque},
    sync::{Arc, Mutex, MutexGuard, PoisonError},
};
use tokio::sync::OnceCell;

/// A place for what one works out, and the others wait for. Where that fails, the next who wants it tries.
type Place<V> = Arc<OnceCell<Arc<V>>>;

async fn found_or<V, E>(place: &OnceCell<Arc<V>>, work: impl Future<Output = Result<V, E>>) -> Result<Arc<V>, E> {
    place.get_or_try_init(async || work.await.map(Arc::new)).await.cloned()
}

/// What is kept under a key; it stands in front from now on.
fn found<K: PartialEq, V>(kept: &mut VecDeque<(K, Place<V>)>, key: &K) -> Option<Place<V>> {
    let at = kept.iter().position(|(known, _)| known == key)?;
    let entry = kept.remove(at)?;
    let place = entry.1.clone();
    kept.push_front(entry);
    Some(place)
}

/// What was worked out, so many at most: those that were wanted last.
pub struct Lately<K, V> {
    most: usize,
    kept: Mutex<VecDeque<(K, Place<V>)>>,
}

impl<K: PartialEq, V> Lately<K, V> {
    /// None yet, and so many at most.
    #[must_use]
    pub fn of(most: usize) -> Lately<K, V> {
        Lately { most, kept: Mutex::default() }
    }

    /// What follows from `key`, where it was worked out lately.
    pub fn recall(&self, key: &K) -> Option<Arc<V>> {
        found(&mut self.lock(), key)?.get().cloned()
    }

    /// The same, worked out where it is not at hand: by one, however many want it at once. What nobody wanted for longest goes.
    ///
    /// # Errors
    /// When it cannot be worked out.
    pub async fn recall_or<E>(&self, key: K, work: impl Future<Output = Result<V, E>>) -> Result<Arc<V>, E> {
        let place = self.place(key);
        found_or(&place, work).await
    }

    /// Keeps what was worked out, in place of what was known of the same.
    pub fn keep(&self, key: K, value: V) {
        let mut kept = self.lock();
        kept.retain(|(known, _)| *known != key);
        kept.push_front((key, Arc::new(OnceCell::new_with(Some(Arc::new(value))))));
        kept.truncate(self.most);
    }

    fn place(&self, key: K) -> Place<V> {
        let mut kept = self.lock();
        if let Some(place) = found(&mut kept, &key) {
            return place;
        }
        let place = Place::default();
        kept.push_front((key, place.clone()));
        kept.truncate(self.most);
        place
    }

    fn lock(&self) -> MutexGuard<'_, VecDeque<(K, Place<V>)>> {
        self.kept.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// What was last worked out of each series, with what it follows from.
pub struct OfSeries<F, V>(Mutex<HashMap<i64, Last<F, V>>>);

struct Last<F, V> {
    from: F,
    place: Place<V>,
    /// What was known before, until that is worked out.
    before: Option<Arc<V>>,
}

impl<F, V> Default for OfSeries<F, V> {
    fn default() -> Self {
        OfSeries(Mutex::default())
    }
}

impl<F: PartialEq + Clone, V> OfSeries<F, V> {
    /// What follows from `from`, where that was the last that was worked out of a series.
    pub fn recall(&self, series: i64, from: &F) -> Option<Arc<V>> {
        self.lock().get(&series).filter(|last| last.from == *from)?.place.get().cloned()
    }

    /// The same, worked out where it is not at hand: by one, however many want it at once. What was kept of the series before goes.
    ///
    /// # Errors
    /// When it cannot be worked out.
    pub async fn recall_or<E>(&self, series: i64, from: &F, work: impl Future<Output = Result<V, E>>) -> Result<Arc<V>, E> {
        let place = self.place(series, from);
        found_or(&place, work).await
    }

    /// What was last worked out of a series, whatever it followed from.
    pub fn last(&self, series: i64) -> Option<Arc<V>> {
        self.lock().get(&series).and_then(Last::known)
    }

    fn place(&self, series: i64, from: &F) -> Place<V> {
        let mut all = self.lock();
        match all.get(&series) {
            Some(last) if last.from == *from => last.place.clone(),
            last => {
                let before = last.and_then(Last::known);
                let place = Place::default();
                all.insert(series, Last { from: from.clone(), place: place.clone(), before });
                place
            }
        }
    }

    fn lock(&self) -> MutexGuard<'_, HashMap<i64, Last<F, V>>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl<F, V> Last<F, V> {
    fn known(&self) -> Option<Arc<V>> {
        self.place.get().or(self.before.as_ref()).cloned()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use futures_util::future::join_all;
    use std::sync::atomic::{AtomicU32, Ordering};

    const WANTED: &str = "as the test wants it";

    /// Ten times `of`, after others had their turn; counts how often it is worked out.
    async fn slow(times: &AtomicU32, of: u32, fails: bool) -> Result<u32, &'static str> {
        tokio::task::yield_now().await;
        times.fetch_add(1, Ordering::SeqCst);
        if fails { Err(WANTED) } else { Ok(of * 10) }
    }

    #[tokio::test]
    async fn what_many_want_at_once_of_a_series_is_worked_out_once() {
        let (kept, times) = (OfSeries::<u32, u32>::default(), AtomicU32::new(0));
        let want = async |series: i64, from: u32, fails| kept.recall_or(series, &from, slow(&times, from, fails)).await.map(|found| *found);
        let all = join_all((0..64).map(|_| want(1, 7, false))).await;
        assert!(all.iter().all(|found| *found == Ok(70)));
        assert_eq!(times.load(Ordering::SeqCst), 1);
        // Other series, and another state of the same one, are worked out by themselves.
        assert_eq!((want(2, 7, false).await, want(1, 8, false).await), (Ok(70), Ok(80)));
        assert_eq!((times.load(Ordering::SeqCst), kept.recall(1, &7), kept.last(1).as_deref()), (3, None, Some(&80)));
        // Who fails keeps nobody from trying, and what was known before is still told of.
        assert_eq!((want(3, 1, true).await, want(3, 1, false).await), (Err(WANTED), Ok(10)));
        assert_eq!((want(1, 9, true).await, kept.last(1).as_deref()), (Err(WANTED), Some(&80)));
    }

    #[tokio::test]
    async fn what_many_want_at_once_by_a_key_is_worked_out_once_and_the_oldest_goes() {
        let (kept, times) = (Lately::<u32, u32>::of(2), AtomicU32::new(0));
        let want = async |key: u32, fails| kept.recall_or(key, slow(&times, key, fails)).await.map(|found| *found);
        // Some give up waiting, the first among them, who works it out.
        let mut gone: Vec<_> = (0..3).map(|_| Box::pin(want(7, false))).collect();
        for one in &mut gone {
            assert!(futures_util::poll!(one).is_pending());
        }
        drop(gone);
        let all = join_all((0..64).map(|_| want(7, false))).await;
        assert!(all.iter().all(|found| *found == Ok(70)));
        assert_eq!(times.load(Ordering::SeqCst), 1);
        assert_eq!((want(8, true).await, want(8, false).await, want(9, false).await), (Err(WANTED), Ok(80), Ok(90)));
        assert_eq!((kept.recall(&7), kept.recall(&8).as_deref(), kept.recall(&9).as_deref()), (None, Some(&80), Some(&90)));
        kept.keep(8, 88);
        assert_eq!((want(8, false).await, times.load(Ordering::SeqCst)), (Ok(88), 4));
    }
}
