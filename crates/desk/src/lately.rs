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
