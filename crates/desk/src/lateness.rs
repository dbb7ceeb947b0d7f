//! How much later than their profiles say sources were found to publish.

use std::{
    collections::HashMap,
    sync::{Mutex, PoisonError},
};

/// What was last found, by collector, in microseconds beyond the publishing delay.
#[derive(Default)]
pub struct Lateness(Mutex<HashMap<String, i64>>);

/// A collector whose source publishes later than its profile says.
#[derive(Clone, Debug)]
pub struct Late {
    /// The collector.
    pub collector: String,
    /// Its source.
    pub source: String,
    /// The delay that the profile says, in microseconds.
    pub said: i64,
    /// The delay that would have covered what was seen, in microseconds.
    pub seen: i64,
}

impl Lateness {
    /// How much later than its profile says the source of a collector publishes, as far as is known.
    pub fn of(&self, collector: &str) -> i64 {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).get(collector).copied().unwrap_or(0)
    }

    /// Takes in what was found, in the place of all that was found before.
    pub fn learn(&self, found: &[Late]) {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        *all = found.iter().map(|l| (l.collector.clone(), l.seen - l.said)).collect();
    }
}
