//! Places on the time grid, and half-open stretches of them.

use crate::time::{Timestamp, TradeDate};
use std::ops::Range;

/// One place on a series' time grid where a bar may stand, labelled by its open.
///
/// The unit is that of the series' interval: microseconds since the epoch for
/// intraday bars, days since the epoch (a trade date) for daily bars. The two
/// never meet, because a series has one interval; [`crate::Interval`] knows
/// which of them applies.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Slot(pub i64);

impl Slot {
    /// The place of an intraday bar that opens at `open`.
    #[must_use]
    pub fn at(open: Timestamp) -> Slot {
        Slot(open.0)
    }

    /// The place of the daily bar of `date`.
    #[must_use]
    pub fn on(date: TradeDate) -> Slot {
        Slot(i64::from(date.0))
    }

    /// The instant, for a slot of an intraday series.
    #[must_use]
    pub fn instant(self) -> Timestamp {
        Timestamp(self.0)
    }

    /// The trade date, for a slot of a daily series.
    #[must_use]
    pub fn date(self) -> TradeDate {
        TradeDate(self.0.clamp(i64::from(i32::MIN), i64::from(i32::MAX)) as i32)
    }
}

/// A half-open stretch of slots: `start` is in it, `end` is not.
pub type Span = Range<Slot>;
