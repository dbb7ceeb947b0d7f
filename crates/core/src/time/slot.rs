//! Places on the time grid, and half-open stretches of them.

use crate::time::{Timestamp, TradeDate};
use std::ops::Range;

/// One place on a series' time grid where a bar may stand, labelled by its open.
///
/// The unit is that of the series' interval: microseconds since the epoch for
/// intraday bars, days since the epoch (a trade date) for daily bars. The two
/// never meet, because a series has one interval; [`crate::Interval`] knows
/// which of them applies. Whoever reads a day as an instant by mistake, or an
/// instant as a day, is stopped: the numbers of the two lie far apart.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Slot(pub i64);

/// Days since the epoch are fewer than this for thousands of years to come, and no bar opened in the first two seconds of 1970.
const DAYS: u64 = 1 << 21;
/// Numbers further out than this are the ends of stretches without an end.
const ENDLESS: u64 = 1 << 62;

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
    ///
    /// # Panics
    /// When it is that of a daily one.
    #[must_use]
    pub fn instant(self) -> Timestamp {
        assert!(self.0 == 0 || self.0.unsigned_abs() >= DAYS, "the day {} was read as an instant", self.0);
        Timestamp(self.0)
    }

    /// The trade date, for a slot of a daily series.
    ///
    /// # Panics
    /// When it is that of an intraday one.
    #[must_use]
    pub fn date(self) -> TradeDate {
        let is_a_day = i32::try_from(self.0).is_ok() || self.0.unsigned_abs() >= ENDLESS;
        assert!(is_a_day, "the instant {} was read as a day", self.0);
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    #[should_panic(expected = "the day 20188 was read as an instant")]
    fn a_day_is_no_instant() {
        let _ = Slot::on("2025-04-10".parse().unwrap()).instant();
    }

    #[test]
    #[should_panic(expected = "was read as a day")]
    fn an_instant_is_no_day() {
        let _ = Slot::at("2025-04-10T00:00:00Z".parse().unwrap()).date();
    }

    #[test]
    fn the_ends_of_all_time_are_both() {
        assert_eq!((Slot(i64::MIN).date(), Slot(i64::MAX).date()), (TradeDate(i32::MIN), TradeDate(i32::MAX)));
        assert_eq!((Slot(i64::MIN).instant(), Slot(i64::MAX).instant()), (Timestamp(i64::MIN), Timestamp(i64::MAX)));
    }
}
