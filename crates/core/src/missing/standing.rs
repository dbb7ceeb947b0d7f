//! What is known of one series: what is expected of it, what is held, and what a person accepted as absent.

use crate::spans::{Spans, only};

/// What is known of one series when a plan is made. All sets are half-open.
#[derive(Clone, Debug, Default)]
pub struct Standing {
    /// Slots the calendar expects, within the instrument's life and the dates asked about.
    pub expected: Spans,
    /// Slots that have a bar.
    pub held: Spans,
    /// Slots a person accepted as absent.
    pub excused: Spans,
}

impl Standing {
    /// `expected − held − excused`.
    #[must_use]
    pub fn missing(&self) -> Spans {
        let absent = only(self.expected.iter().cloned(), self.held.iter().cloned());
        only(absent, self.excused.iter().cloned()).collect()
    }
}
