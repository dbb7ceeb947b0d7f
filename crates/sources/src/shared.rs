//! Answers that serve more than one question: a whole venue's file, a page that lists files.

use crate::transport::Attempt;
use mizuno_core::Timestamp;
use std::{
    collections::HashMap,
    sync::{Arc, Mutex as Plain, PoisonError},
};
use tokio::sync::{Mutex, OwnedMutexGuard};

/// An answer is used again for so long, in microseconds.
const FRESH: i64 = 600_000_000;
/// A failure is not repeated for so long, in microseconds.
const FAILED: i64 = 60_000_000;

/// What was answered, when, and the names it lists.
#[derive(Clone)]
pub(crate) struct Kept {
    pub attempt: Attempt,
    pub names: Arc<Vec<String>>,
    pub at: Timestamp,
}

type Slot = Arc<Mutex<Option<Kept>>>;

/// Answers by address.
#[derive(Default)]
pub(crate) struct Shared(Plain<HashMap<String, Slot>>);

impl Shared {
    /// The answer for an address if it is fresh, or else the right to fetch it: whoever asks meanwhile waits.
    pub(crate) async fn get(&self, address: &str, now: Timestamp) -> Result<Kept, OwnedMutexGuard<Option<Kept>>> {
        let slot = {
            let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
            all.retain(|_, slot| slot.try_lock().map_or(true, |kept| kept.as_ref().is_none_or(|k| is_fresh(k, now))));
            all.entry(address.to_owned()).or_default().clone()
        };
        let kept = slot.lock_owned().await;
        match &*kept {
            Some(answer) if is_fresh(answer, now) => Ok(answer.clone()),
            _ => Err(kept),
        }
    }
}

impl Shared {
    /// Forgets an answer that turned out to be of no use, so that whoever needs it asks again.
    pub(crate) async fn forget(&self, address: &str, at: Timestamp) {
        let slot = self.0.lock().unwrap_or_else(PoisonError::into_inner).get(address).cloned();
        if let Some(slot) = slot {
            let mut kept = slot.lock().await;
            if kept.as_ref().is_some_and(|k| k.at == at) {
                *kept = None;
            }
        }
    }
}

fn is_fresh(kept: &Kept, now: Timestamp) -> bool {
    now < kept.at.plus(if kept.attempt.failure.is_some() { FAILED } else { FRESH })
}
