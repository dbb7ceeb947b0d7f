//! What is known of one series: what is expected of it, what is held, and what a person accepted as absent.

use crate::spans::{Spans, difference};

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
    ///
    /// ```
    /// use mizuno_core::{Slot, Spans, standing::Standing};
    /// let spans = |all: &[(i64, i64)]| all.iter().map(|(a, b)| Slot(*a)..Slot(*b)).collect::<Spans>();
    /// let standing = Standing { expected: spans(&[(0, 10)]), held: spans(&[(0, 6)]), excused: spans(&[(8, 10)]) };
    /// assert_eq!(standing.missing(), spans(&[(6, 8)]));
    /// ```
    #[must_use]
    pub fn missing(&self) -> Spans {
        difference(&difference(&self.expected, &self.held), &self.excused)
    }
}
