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
    ///
    /// ```
    /// use mizuno_core::{Slot, Timestamp};
    /// let open: Timestamp = "2025-04-09T22:00:00Z".parse()?;
    /// assert_eq!(Slot::at(open).instant(), open);
    /// # Ok::<(), mizuno_core::time::TimeError>(())
    /// ```
    #[must_use]
    pub fn at(open: Timestamp) -> Slot {
        Slot(open.0)
    }

    /// The place of the daily bar of `date`.
    ///
    /// ```
    /// use mizuno_core::{Slot, TradeDate};
    /// let date: TradeDate = "2025-04-10".parse()?;
    /// assert_eq!((Slot::on(date).0, Slot::on(date).date()), (20_188, date));
    /// # Ok::<(), mizuno_core::time::TimeError>(())
    /// ```
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

/// What spans have to do with each other.
///
/// ```
/// use mizuno_core::{Overlap, Slot};
///
/// let (morning, noon) = (Slot(0)..Slot(6), Slot(4)..Slot(8));
/// assert!(morning.overlaps(&noon));
/// assert_eq!(morning.clip(&noon), Slot(4)..Slot(6));
/// assert_eq!(morning.hull(&noon), Slot(0)..Slot(8));
/// // Spans that only touch share nothing, and what is left of one in the other is empty.
/// let evening = Slot(8)..Slot(9);
/// assert!(!noon.overlaps(&evening) && noon.clip(&evening).is_empty());
/// ```
pub trait Overlap {
    /// Whether they share a slot.
    #[must_use]
    fn overlaps(&self, other: &Self) -> bool;
    /// The part that lies in `other`; an empty span where there is none.
    #[must_use]
    fn clip(&self, other: &Self) -> Self;
    /// The smallest span that both lie in.
    #[must_use]
    fn hull(&self, other: &Self) -> Self;
}

impl Overlap for Span {
    fn overlaps(&self, other: &Span) -> bool {
        self.start.max(other.start) < self.end.min(other.end)
    }

    fn clip(&self, other: &Span) -> Span {
        let start = self.start.max(other.start);
        start..self.end.min(other.end).max(start)
    }

    fn hull(&self, other: &Span) -> Span {
        self.start.min(other.start)..self.end.max(other.end)
    }
}
